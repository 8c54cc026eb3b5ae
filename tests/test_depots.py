"""Depots over the years: what is chosen for them, mirrors, and drives that are cloned, swapped, retired and replaced."""

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from conftest import Shell, check, data_of, pictures, run_changed, valid


def test_a_depot_gets_what_is_chosen_for_it(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    (tmp_path / "small").mkdir()
    shell(
        "depot", "add", "small", tmp_path / "small", "--site", "boathouse", "--medium", "usb", "--stand-in", "small",
        "--year", "2025", "--without", "delivered/", cwd=library,
    )  # fmt: skip
    (library / "companions/previews").mkdir()
    (library / "companions/previews/a.jpg").write_bytes(b"preview")
    (library / "companions/.hidden").write_bytes(b"hidden")
    shell("backup", cwd=library)
    data = tmp_path / "small/data"
    whole = pictures(library)
    assert pictures(data) == {name: content for name, content in whole.items() if name.startswith("pictures/2025/")}
    assert (
        not (data / "delivered").exists()
        and (data / "companions/.hidden").exists()
        and list((data / "albums").iterdir())
    )
    assert shell("--library", tmp_path / "small", "find", "--since", "2025", "--until", "2025", "--json").json["found"]
    changed = shell(
        "depot", "change", "small", "--year", "2024", "--without", ".*", "--without", "companions/previews/", cwd=library
    )  # fmt: skip
    assert "gets" not in changed.out and "frames of 2024 that do not fit" in changed.out
    receipt = shell("backup", "--yes", "--json", cwd=library).json
    assert receipt["balanced"]
    assert {name.split("/")[1] for name in pictures(data)} == {"2024"} and (data / "delivered").exists()
    assert (
        not (data / "companions/.hidden").exists() and (data / "companions/previews").glob("*.jpg").__next__ is not None
    )
    valid(tmp_path / "small")
    assert shell("standing", "--json", cwd=library).json["safe"]
    assert "Nothing to do" in shell("backup", cwd=library).out
    for wrong, told in (
        ("--year", "no year"),
        ("--kind", "no kind"),
        ("--since", "no date"),
        ("--keep-for", "no time to keep"),
    ):
        assert told in shell("depot", "change", "small", wrong, "x-y", cwd=library, code=2).err


def test_mirrors_and_purging(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    shell("depot", "change", "heron", "--keep-for", "none", cwd=library)
    shell("tell", "ALD_0669.jpg", "--title", "Second", cwd=library)
    shell("backup", cwd=library)
    assert not list(depots["heron"].glob("earlier/*")) and list(depots["otter"].glob("earlier/*"))
    purges = [one for one in shell("receipt", "list", "--json", cwd=library).json["receipts"] if one["run"] == "purge"]
    assert len(purges) == 1
    listed = shell("earlier", "otter", "--json", cwd=library).json["earlier"]
    assert any(one["path"].endswith("ALD_0669.jpg.xmp") for one in listed)
    assert "no earlier versions" in shell("purge", "otter", "--older-than", "30", cwd=library).err
    assert "Delete" in shell("purge", "otter", "--before", "2100", cwd=library, code=1).err  # nobody there to say yes
    assert list(depots["otter"].glob("earlier/*"))
    purged = shell("purge", "otter", "--before", "2100", "--yes", "--json", cwd=library).json
    assert len(purged["left_out"]) == len(listed)
    assert not list(depots["otter"].glob("earlier/*"))
    for root in depots.values():
        valid(root)
    assert shell("verify", "--json", cwd=library).json["findings"] == []


def test_a_cloned_drive_and_a_revived_library_are_refused(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    shutil.copytree(depots["heron"], tmp_path / "clone", copy_function=shutil.copy2)
    shutil.copytree(library, tmp_path / "old", copy_function=shutil.copy2)
    shell("tell", "ALD_0669.jpg", "--title", "Later", cwd=library)
    shell("backup", cwd=library)
    # The clone stands where the drive was.
    depots["heron"].rename(tmp_path / "true")
    (tmp_path / "clone").rename(depots["heron"])
    refused = shell("backup", "heron", cwd=library, code=3).err
    assert "a clone, or a drive that was put back" in refused and "depot adopt heron" in refused
    before = data_of(depots["heron"])
    shell("depot", "adopt", depots["heron"], "--as", "spare", cwd=library)
    shell("depot", "add", "heron", tmp_path / "true", cwd=library)
    shell("backup", cwd=library)
    assert data_of(depots["heron"]) != before and data_of(depots["heron"]) == data_of(tmp_path / "true")
    assert "Nothing to do" in shell("backup", "spare", "heron", cwd=library).out
    # A library that was revived from an old copy has another future than the drives.
    refused = shell("backup", "otter", cwd=tmp_path / "old", code=3).err
    assert "has never had" in refused and "revived" in refused
    shell("tell", "ALD_0669.jpg", "--title", "Another future", cwd=tmp_path / "old")
    assert "has never had" in shell("backup", "otter", cwd=tmp_path / "old", code=3).err
    shell("depot", "adopt", "otter", cwd=tmp_path / "old")
    shell("backup", "otter", cwd=tmp_path / "old", code=None)
    valid(depots["otter"])
    assert "Another future" in "".join(
        path.read_text() for path in (depots["otter"] / "data").rglob("ALD_0669.jpg.xmp")
    )
    assert "Later" in "".join(path.read_text() for path in (depots["otter"] / "earlier").rglob("ALD_0669.jpg.xmp"))
    assert "has never had" in shell("backup", "otter", cwd=library, code=3).err


def test_drives_are_retired_replaced_repaired(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    shell("depot", "retire", "dipper", cwd=library)
    weighed = shell("standing", "--json", cwd=library, code=1).json
    assert weighed["states"] == {"short": 96} and "dipper" not in {one["depot"] for one in weighed["copies"]}
    assert "was retired" in shell("backup", "dipper", cwd=library, code=3).err
    shell("depot", "retire", "dipper", "--undo", cwd=library)
    assert shell("standing", "--json", cwd=library).json["safe"]
    (tmp_path / "newer").mkdir()
    replace = ("depot", "replace", "otter", tmp_path / "newer", "--stand-in", "newer")
    assert "holds other things" in shell("depot", "replace", "otter", depots["heron"], cwd=library, code=3).err
    killed = (
        "import os, bramblemoor.depots.register.enroll as e; e.enter_depot = lambda *_, **__: os.kill(os.getpid(), 9)"
    )
    assert run_changed(shell, library, killed, {}, *replace).returncode == -9
    assert "otter until" not in shell("depot", "list", cwd=library).out
    shell(*replace, cwd=library)
    # The former drive is a depot again under a name of its own, and only under one that tells it apart.
    assert "depot adopt" in shell("depot", "add", "former", depots["otter"], cwd=library, code=2).err
    for name in ("library", "heron", "a/b"):
        refused = shell("depot", "adopt", depots["otter"], "--as", name, cwd=library, code=2).err
        assert "cannot be called" in refused or "already" in refused
    shell("depot", "adopt", depots["otter"], "--as", "[former] drive", cwd=library)
    assert "[former] drive" in shell("standing", cwd=library).out
    shell("depot", "retire", "[former] drive", cwd=library)
    shell("depot", "level", depots["heron"], tmp_path / "newer")
    assert data_of(tmp_path / "newer") == data_of(depots["heron"])
    valid(tmp_path / "newer")
    shell("backup", cwd=library)
    shell("verify", "otter", cwd=library)
    assert shell("standing", "--json", cwd=library).json["safe"]
    listed = shell("depot", "list", cwd=library).out
    assert "otter until" in listed and "retired" in listed
    (depots["heron"] / "depot.toml").write_bytes(b"\x00garbage")
    assert "depot repair" in shell("backup", "heron", cwd=library, code=3).err
    # It hides none of the others.
    listed = shell("depot", "list", cwd=library, COLUMNS="300").out
    assert "damaged depot.toml" in listed and "../newer" in listed
    passed = shell("backup", cwd=library, code=1)
    assert "depot repair" in passed.err and passed.out.startswith("Nothing to do: dipper, otter are level")
    shell("depot", "repair", "heron", depots["heron"], cwd=library)
    shell("verify", "heron", cwd=library)
    valid(depots["heron"])
    line = depots["heron"] / "line.json"
    for rotten in (b"\xff{", line.read_bytes().replace(b'"digest": "', b'"digest": "0', 1), None):
        line.unlink() if rotten is None else line.write_bytes(rotten)
        assert "depot repair heron" in shell("backup", "heron", cwd=library, code=3).err
        assert "is damaged or missing" in shell("mend", cwd=library, code=None).err
        shell("depot", "repair", "heron", depots["heron"], cwd=library)
        assert "nothing to repair" in shell("depot", "repair", "heron", depots["heron"], cwd=library, code=2).err
        shell("verify", "heron", cwd=library)
        valid(depots["heron"])
    # By name the whole library comes back too, and so does a ledger that nobody can read, from a folder.
    shell("restore", tmp_path / "again", "--from", "heron", cwd=library)
    assert pictures(tmp_path / "again") == pictures(library)
    (library / "ledger/ledger.sqlite").write_bytes(b"garbage")
    assert "depot add" in shell("restore", ".", "--ledger-only", "--from", depots["heron"], cwd=library).out
    assert shell("standing", "--json", cwd=library, code=1).json["frames"] == 96


def test_two_depots_are_brought_level_without_the_library(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    (library / "pictures/2026").rename(library / "pictures/moved")
    shell("tell", "ALD_0457.jpg", "--title", "Level", cwd=library)
    shell("backup", "heron", cwd=library)
    library.rename(tmp_path / "away")
    assert "is newer than" in shell("depot", "level", depots["otter"], depots["heron"], code=3).err
    receipt = shell("depot", "level", depots["heron"], depots["otter"], "--json").json
    assert receipt["balanced"] and any(line["what"] == "moved there" for line in receipt["kept"])
    assert data_of(depots["otter"]) == data_of(depots["heron"])
    valid(depots["otter"])
    assert not any(
        "copied" in line["what"]
        for line in shell("depot", "level", depots["heron"], depots["otter"], "--json").json["kept"]
    )
    (tmp_path / "away").rename(library)
    assert shell("backup", cwd=library).out
    assert data_of(depots["dipper"]) == data_of(depots["otter"]) == pictures(library)
    # What is listed at the second and is not there, or not as long, is lacking as well.
    shutil.rmtree(depots["otter"] / "data/pictures/2025/2025-11")
    longer = next((depots["otter"] / "data/pictures/2024").rglob("*.jpg"))
    longer.write_bytes(longer.read_bytes() + b"longer")
    shell("depot", "level", "heron", "otter", cwd=library)
    assert data_of(depots["otter"]) == data_of(depots["heron"])
    valid(depots["otter"])
    # A depot that gets less takes nothing away from one that gets more.
    (tmp_path / "few").mkdir()
    shell("depot", "add", "few", tmp_path / "few", "--site", "attic", "--medium", "ssd", "--year", "2025", cwd=library)
    shell("backup", "few", cwd=library)
    shell("depot", "level", tmp_path / "few", depots["otter"])
    assert data_of(depots["otter"]) == pictures(library)
    looked = shell("depot", "look", depots["otter"])
    assert "pictures/" in looked.out and "runs changed it" in looked.out
    assert "ALD_" in shell("depot", "look", depots["otter"], "--below", "pictures/2025/2025-11").out


@pytest.mark.skipif(os.geteuid() != 0, reason="only the owner of the machine can mount file systems")
def test_a_depot_is_found_by_its_id_on_any_mount(shell: Shell, world: Path, library: Path, tmp_path: Path) -> None:
    image, first, second = tmp_path / "drive.img", tmp_path / "sdb", tmp_path / "sdc"
    with image.open("wb") as file:
        file.truncate(40 << 20)
    make = [shutil.which("mkfs.ext4") or "false", "-q", "-m0", str(image)]
    made = subprocess.run(make, check=False, capture_output=True).returncode == 0
    for folder in (first, second):
        folder.mkdir()
    if not made or subprocess.run(["mount", "-o", "loop", image, first], check=False, capture_output=True).returncode:
        pytest.skip("this machine lets nobody mount a small file system")
    try:
        (first / "copies").mkdir()
        shell("depot", "add", "usb", first / "copies", "--site", "cottage", "--medium", "hdd", cwd=library)
        shell("backup", cwd=library)
        subprocess.run(["umount", first], check=True)
        assert "no attached drive carries it" in shell("backup", "usb", cwd=library, code=3).err
        subprocess.run(["mount", "-o", "loop", image, second], check=True)
        assert str(second) in shell("depot", "list", "--attached", cwd=library).out
        assert "Nothing to do" in shell("backup", "usb", cwd=library).out
        assert shell("depot", "list", "--json", cwd=library).json["depots"][0]["folder"] == str(second / "copies")
        subprocess.run(["mount", "-o", "remount,ro", second], check=True)
        assert "cannot be written" in shell("backup", "usb", cwd=library, code=3).err
        shell("verify", "usb", cwd=library)  # reading is another matter
        check(world, "--library", library, "--depot", second / "copies")
    finally:
        for mount in (first, second):
            subprocess.run(["umount", mount], check=False, capture_output=True)


# From the third file on, nothing can be put in its place at one depot.
STUCK = """
import errno, os
real, left = os.replace, [1]
def replace(old, new):
    if "/otter/data/" in str(new) and "/incoming/" in str(old):
        left[0] -= 1
        if left[0] < 0:
            raise OSError(errno.EIO, "Input/output error", str(new))
    real(old, new)
os.replace = replace
"""


def test_a_drive_that_cannot_rename_leaves_its_run_open(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    for number, path in enumerate(sorted((library / "pictures/2025").rglob("*.xmp"))[:4]):
        path.write_bytes(path.read_bytes().replace(b"<rdf:RDF", b"<rdf:RDF" + b" " * (number + 1)))
    (library / "companions/notes.db").write_bytes(b"notes")
    done = run_changed(shell, library, STUCK, {}, "backup", "--yes")
    assert done.returncode == 3 and "otter could not be closed" in done.stderr and "Traceback" not in done.stderr
    assert list((depots["otter"] / "incoming").glob("*/journal.jsonl"))
    valid(depots["heron"])  # the others are level, and closed
    assert data_of(depots["heron"]) == pictures(library)
    shell("backup", cwd=library)
    valid(depots["otter"])
    assert data_of(depots["otter"]) == pictures(library)
    shell("verify", cwd=library)


# For a moment the system does not tell what lies at some places of one depot.
BLIND = """
import errno, os
real = os.lstat
def lstat(path, **more):
    if str(path).startswith(os.environ["UNTOLD_BELOW"]) and str(path).endswith(os.environ["UNTOLD"]):
        raise OSError(errno.EIO, "Input/output error", str(path))
    return real(path, **more)
os.lstat = lstat
"""


@pytest.mark.parametrize("untold", ["journal.jsonl", "manifest-sha256.txt", ".xmp"])
def test_what_a_drive_does_not_tell_is_not_taken_for_missing(
    shell: Shell, library: Path, depots: dict[str, Path], untold: str
) -> None:
    otter = depots["otter"]
    shell("backup", cwd=library)
    sidecars = sorted((library / "pictures/2025").rglob("*.xmp"))[:4]
    former = [path.read_bytes() for path in sidecars]
    for number, path in enumerate(sidecars):
        path.write_bytes(former[number].replace(b"<rdf:RDF", b"<rdf:RDF" + b" " * (number + 1)))
    (library / "companions/notes.db").write_bytes(b"notes")
    run_changed(shell, library, STUCK, {}, "backup", "--yes")
    (run,) = (otter / "incoming").iterdir()
    listed = (otter / "manifest-sha256.txt").read_bytes()

    blind = {"UNTOLD_BELOW": str(otter), "UNTOLD": untold}
    done = run_changed(shell, library, BLIND, blind, "backup", "--yes")
    assert done.returncode in (1, 3) and "Input/output error (" in " ".join((done.stdout + done.stderr).split())
    assert (run / "journal.jsonl").is_file() and (otter / "manifest-sha256.txt").read_bytes() == listed
    shell("backup", "--yes", cwd=library)
    shell("verify", "otter", cwd=library)
    assert not (otter / "incoming").exists()
    assert {path.read_bytes() for path in (otter / "earlier").rglob("*.xmp")} >= set(former)
