"""What a newcomer meets: the words that are typed, narrow terminals, pictures that lie on a disk, documents, a wheel."""

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import sysconfig
import zipfile
from pathlib import Path

import pytest

from conftest import ROOT, Result, Shell, pictures

sys.path.insert(0, str(ROOT / "docs"))
import commands

LEADS = {
    "import": "new FOLDER --around", "copy": "bramblemoor backup", "sync": "bramblemoor backup", "ls": "bramblemoor find",
    "status": "bramblemoor standing", "check": "bramblemoor verify", "delete": "stocktake --let-go",
    "remove": "stocktake --let-go", "shelve": "bramblemoor allot", "reopen": "bramblemoor unbind", "orders": "order list",
}  # fmt: skip


def test_without_a_command_the_help_is_read_as_a_page(shell: Shell) -> None:
    for words in ((), ("depot",), ("lend",)):
        told = shell(*words, code=2)
        assert len(told.out.splitlines()) > 8 and "\\n" not in told.out and not told.err


def test_words_that_people_type_lead_to_a_command(shell: Shell) -> None:
    for word, way in LEADS.items():
        told = shell(word, code=2).err
        assert way in told and "Did you mean" not in told, told
    assert "Did you mean" not in shell("zzzz", code=2).err
    assert shell("help").out == shell("--help").out and shell("help", "show").out == shell("show", "--help").out
    for missing in (("show",), ("find", "--limit", "3"), ("depot", "ad"), ("find", "--most", "many"), ("--nonsense",)):
        assert len(shell(*missing, code=2).err.strip().splitlines()) == 2, "one sentence what happened, one what to do"


def test_every_failure_is_one_document(shell: Shell, library: Path) -> None:
    failures: list[tuple[tuple[str, ...], int]] = [
        *(((word, "--json"), 2) for word in LEADS),
        (("find", "--library", "nowhere", "--json"), 3), (("show", "--json"), 2), (("find", "--most", "many", "--json"), 2),
        (("receipt", "99", "--library", "library", "--json"), 2), (("backup", "--library", "library", "--json"), 2),
        (("new", "library", "--json"), 2), (("restore", "back", "--from", "library", "--json"), 3),
        (("unpack", "--from", "nowhere", "--library", "library", "--json"), 2),
        (("free", "2024", "--library", "library", "--json"), 2),
    ]  # fmt: skip
    for arguments, code in failures:
        done = shell(*arguments, code=code)
        told = done.json  # the schema was looked at by the shell
        assert told["exit"] == code and told["error"] and told["remedy"] and not done.err, arguments
    assert shell("unpack", "--library", "library", "--json").json["nothing_to_do"] is True


@pytest.mark.parametrize("columns", ["20", "40", "50", "80", "120"])
def test_tables_are_never_cut(shell: Shell, library: Path, depots: dict[str, Path], columns: str) -> None:
    shell("backup", cwd=library)
    whole = json.loads(shell("standing", "--json", cwd=library).out)
    for command in (
        ("standing",), ("find", "owl"),
        ("receipt", "1"), ("receipt", "list"), ("show", "ALD_0669.jpg"), ("dialect", "list"), ("backup", "--dry-run"),
    ):  # fmt: skip
        wide = shell(*command, cwd=library, COLUMNS="1000").out
        told = shell(*command, cwd=library, COLUMNS=columns, TERM="dumb").out
        lacking = set(re.findall(r"\d[\d,.]*", wide)) - set(re.findall(r"\d[\d,.]*", told.replace("\n", "") + told))
        assert not {one for one in lacking if len(one) > 1 and one not in told.replace("\n  ", "")}, (command, lacking)
        assert "\x1b" not in told
        unbroken = [line for line in told.splitlines() if len(line) > int(columns) and " " in line.strip()]
        assert all("bramblemoor" in line or line.startswith("  ") for line in unbroken), (command, unbroken)
    assert whole["frames"] == 96
    packed = shell("pack", shell.folder / "away", "--size", "2MB", cwd=library, COLUMNS=columns).out
    counts = re.findall(r"^ +\d+ +(\d+) .*pictures|^volume \d+\n +frames: (\d+)", packed, re.MULTILINE)
    assert sum(int(next(filter(None, one))) for one in counts) == 96, packed


def test_a_width_that_is_none(shell: Shell, library: Path) -> None:
    for columns in ("abc", "-1", "0", ""):
        assert "96 frames" in shell("find", "--most", "1", cwd=library, COLUMNS=columns).out
    reader = subprocess.Popen(
        [*shell.command("find"), "--library", str(library)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=shell.environment
    )  # fmt: skip
    assert reader.stdout is not None and reader.stderr is not None
    reader.stdout.readline()
    reader.stdout.close()
    assert reader.stderr.read() == b"" and reader.wait() == 0


def _folder(shell: Shell, library: Path, name: str) -> Path:
    """Folders of somebody's own, with a picture in each, a text, and a link."""
    folder = shell.folder / name
    photos = [path for path in sorted(pictures(library)) if path.endswith(".jpg")]
    for place, picture in zip(("2019/Fen", "2020", "2020/pictures"), photos[::31], strict=False):
        (folder / place).mkdir(parents=True)
        shutil.copy(library / picture, folder / place / "A.jpg")
    (folder / "2020/notes.txt").write_text("dear")
    (folder / "2020/link.jpg").symlink_to("A.jpg")
    (folder / ".DS_Store").write_text("litter")
    return folder


def test_a_library_is_made_around_pictures(shell: Shell, library: Path) -> None:
    folder = _folder(shell, library, "Photos of mine")
    before = {path.relative_to(folder): path.stat().st_ino for path in folder.rglob("*.jpg")}
    refused = shell("new", folder, code=2).err
    assert "holds 4 pictures in 3 folders" in refused and "--around" in refused
    assert {path.relative_to(folder): path.stat().st_ino for path in folder.rglob("*.jpg")} == before
    asked = shell("new", folder, "--around", code=2)
    assert "2019 -> pictures/2019" in asked.out and "Say --yes" in asked.err and (folder / "2019").is_dir()
    told = shell("new", folder, "--around", "--yes", "--json", code=1).json
    assert (
        told["balanced"]
        and told["came_in"]["frames"] == 4
        and [one["name"] for one in told["left_out"]] == ["pictures/2020/link.jpg"]
    )
    inside = folder / "pictures"
    assert {path.relative_to(inside): path.stat().st_ino for path in inside.rglob("*.jpg")} == before
    assert shell("find", "--json", cwd=folder).json["found"] == 4 and shell("receipt", "1", cwd=folder).out
    inside_it = folder / "pictures/2020"
    for arguments, said in (
        (("new", folder), "is a library already"), (("new", folder, "--around"), "is a library already"),
        (("new", inside_it), "lies inside the library"), (("new", inside_it, "--around"), "lies inside the library"),
        (("new", shell.folder / "nowhere", "--around"), "No pictures lie in"),
    ):  # fmt: skip
        assert said in shell(*arguments, code=2).err
    kept = shell.folder / "kept"
    (kept / "pictures").mkdir(parents=True)
    shutil.copy(folder / "pictures/2020/A.jpg", kept / "pictures")
    assert "stay where they are" in shell("new", kept, code=2).err
    shell("new", kept, "--around")  # they lie in pictures/: nothing moves, and nothing is asked
    assert (kept / "pictures/A.jpg").is_file() and not (kept / "pictures/pictures").exists()


def test_making_a_library_around_pictures_may_be_killed(shell: Shell, library: Path) -> None:
    """At each rename: the same command finishes it."""
    for rename in range(1, 9):
        folder = _folder(shell, library, f"killed {rename}")
        count = len(list(folder.rglob("A.jpg")))
        calls = "rename,renameat,renameat2"
        trace = ["strace", "-f", "-qq", "-e", f"trace={calls}", "-e", f"inject={calls}:signal=KILL:when={rename}"]
        if shutil.which("strace") is None:
            pytest.skip("strace is not here")
        done = subprocess.run(
            [*trace, *shell.command("new", folder, "--around", "--yes")], env=shell.environment, capture_output=True
        )
        shell("new", folder, "--around", "--yes", code=None if done.returncode == 1 else 1)
        assert len(list((folder / "pictures").rglob("A.jpg"))) == count and not (folder / "2019").exists()
        assert shell("receipt", "--json", cwd=folder).json["balanced"]


def test_own_folders_are_taken_in_as_they_lie(shell: Shell, library: Path) -> None:
    folder = _folder(shell, library, "mine")
    (folder / "2020/link.jpg").unlink()
    made = shell("new", "other")
    assert "In mine lie 3 pictures" in made.out and "--dialect folders" in made.out
    other = shell.folder / "other"
    assert "--dialect folders" in shell("unpack", "--from", folder, cwd=other, code=2).err
    told = shell("unpack", "--from", folder, "--dialect", "folders", "--json", cwd=other, code=0).json
    assert told["balanced"] and told["came_in"]["frames"] == 4
    there = [f"pictures/{one}" for one in ("2019/Fen/A.jpg", "2020/A.jpg", "2020/notes.txt", "2020/pictures/A.jpg")]
    assert sorted(pictures(other)) == there
    shell("dialect", "draft", folder, "--out", "mine.toml")
    drafted = Path(shell.folder / "mine.toml").read_text()
    assert 'tree = ["**"]' in drafted and ".jpg" in drafted
    tried = shell("dialect", "try", folder, "--dialect", "mine.toml", "--json").json
    assert tried["frames"] == 3


def test_locations_of_ones_own(shell: Shell, library: Path) -> None:
    own = library / "pictures/here"
    own.mkdir()
    shutil.copy(next(library.rglob("ALD_0669.jpg")), own / "B.jpg")
    with (own / "B.jpg").open("ab") as picture:
        picture.write(b"another")
    names = library / "companions/locations.toml"
    names.write_text(
        '[[location]]\nname = "Otter Holm"\nposition = [54.7, 2.2]\nradius = 100\n'
        '[[location]]\nname = "The whole sea"\nposition = [54.0, 2.0]\nradius = 200000\n'
    )
    shell("stocktake", cwd=library)

    def believed() -> str | None:
        told: str | None = shell("show", "B.jpg", "--json", cwd=library).json["believed"]["location"]
        return told

    assert believed() == "The whole sea" and "The whole sea" in (own / "B.jpg.xmp").read_text()
    shell("tell", "B.jpg", "--position", "54.7,2.2", cwd=library)
    assert believed() == "Otter Holm", "the smallest one that it lies in"
    service = shell("show", "ALD_0669.jpg", "--json", cwd=library).json["believed"]["location"]
    assert service == "Withymere", "what somebody tells is believed before a map"
    names.write_text("[[location]\n")
    assert "locations.toml cannot be read" in shell("stocktake", cwd=library).err and believed() == "Otter Holm"
    names.unlink()
    shell("stocktake", cwd=library)
    assert believed() is None and "Otter Holm" not in (own / "B.jpg.xmp").read_text()


def test_the_reference_of_commands_is_current(shell: Shell) -> None:
    told = commands.page(lambda *command: shell(*command, "--help", COLUMNS="100").out)
    assert (ROOT / "docs/commands.md").read_text(encoding="utf-8") == told, "write it anew: make commands"


def test_completion(shell: Shell) -> None:
    def completed(*words: str) -> list[str]:
        asked = {
            "_BRAMBLEMOOR_COMPLETE": "complete_bash",
            "COMP_WORDS": " ".join(words),
            "COMP_CWORD": str(len(words) - 1),
        }
        return subprocess.run(
            shell.command(), env=shell.environment | asked, capture_output=True, text=True, check=True
        ).stdout.split()

    assert completed("bramblemoor", "ver") == ["verify"] and "list" in completed("bramblemoor", "depot", "")
    assert "bramblemoor" in shell("--show-completion", "bash", code=None).out


def test_the_nightly_recipe_is_silent_when_all_is_well(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    recipe = re.search(r"```sh\n(.*?)```", (ROOT / "docs/json.md").read_text(encoding="utf-8"), re.DOTALL)
    assert recipe is not None
    (library / "nightly.sh").write_text(recipe[1])
    shell("backup", cwd=library)
    environment = shell.environment | {"PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"}

    def night() -> Result:
        done = subprocess.run(["sh", library / "nightly.sh"], env=environment, capture_output=True, text=True)
        return Result(done.returncode, done.stdout, done.stderr)

    quiet = night()
    assert (quiet.code, quiet.out) == (0, "")
    depots["otter"].rename(depots["otter"].with_name("away"))
    told = night()
    assert told.code == 1 and "otter is not there" in told.out


def test_a_wheel_has_all_that_the_program_needs(shell: Shell, tmp_path: Path) -> None:
    """Built, laid out in a folder that cannot be written, and used by somebody else there."""
    built = tmp_path / "built"
    source = tmp_path / "source"
    besides = shutil.ignore_patterns(".git", ".venv", "demo-world", "*.egg-info", "build", ".*_cache", "tests", "proof")
    shutil.copytree(ROOT, source, ignore=besides)
    subprocess.run(
        [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--no-build-isolation", "--wheel-dir", built, source],
        check=True, capture_output=True,
    )  # fmt: skip
    wheel = next(built.glob("bramblemoor-*.whl"))
    place = tmp_path / "installed"
    zipfile.ZipFile(wheel).extractall(place)
    for path in (place, *place.rglob("*")):
        path.chmod(0o555 if path.is_dir() else 0o444)
    before = sorted(path.name for path in place.rglob("*"))
    home = tmp_path / "home"
    home.mkdir()
    # To whom it is read-only, though it be root.
    humbled = ["setpriv", "--bounding-set", "-dac_override", "--inh-caps", "-dac_override"]
    as_reader = humbled if os.geteuid() == 0 and shutil.which("setpriv") else []
    environment = {
        "PATH": os.environ["PATH"], "HOME": str(home), "COLUMNS": "100",
        "PYTHONPATH": f"{place}{os.pathsep}{sysconfig.get_path('purelib')}",
    }  # fmt: skip

    def used(*arguments: str) -> str:
        done = subprocess.run(
            [*as_reader, sys.executable, "-m", "bramblemoor", *arguments], cwd=home, env=environment, capture_output=True,
            text=True,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert "pipit-lane" in used("dialect", "list") and "folders" in used("dialect", "list")
    assert "Made the library" in used("new", "mine")
    where = "import bramblemoor, sys; sys.stdout.write(bramblemoor.__file__)"
    told = subprocess.run(
        [*as_reader, sys.executable, "-c", where], cwd=home, env=environment, capture_output=True, text=True, check=True
    )
    assert told.stdout.startswith(str(place))
    assert "holds 97 frames" in used("demo", "--chapter", "cloud", "--into", str(home / "world"))
    assert sorted(path.name for path in place.rglob("*")) == before


def test_the_demo_by_chapters(shell: Shell, tmp_path: Path) -> None:
    listed = shell("demo", "--list").out
    assert "what-if" in listed and len(shell("demo", "--chapter", "damige", code=2).err.splitlines()) == 2
    world = tmp_path / "made-up"
    process = subprocess.Popen(
        shell.command("demo", "--into", world, "--chapter", "cloud"),
        env=shell.environment,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    while "Its rule" not in process.stdout.readline():
        pass
    process.send_signal(signal.SIGKILL)
    process.wait()
    # As if it had been killed while that was drawn.
    (world / "thrushfield.bm-new/items").mkdir(parents=True, exist_ok=True)
    told = shell("demo", "--into", world, "--chapter", "cloud").out
    assert "1. Out of the cloud" in told and "resumed at" in told and "... " in told and "2. " not in told
    assert (world / "made-by-demo.txt").read_text().splitlines()[1].startswith("1 ")
    assert "left as it is" not in told and "holds other things" in shell("demo", "--into", shell.folder, code=2).err
