"""The whole journey, as the demo shows it, checked against the truth of the made-up world."""

import json
import re
import shlex
from pathlib import Path

from bramblemoor.cli.trying.demo import TRY
from conftest import Shell, check, others_read


def test_demo_goes_all_the_way_and_back(shell: Shell, tmp_path: Path) -> None:
    root = tmp_path / "made-up"
    (root / "library").mkdir(parents=True)
    (root / "made-by-demo.txt").write_text(
        "The made-up world of the Bramblemoor demo. Everything here may be deleted.\n"
    )
    (root / "library/left over").write_text("from a demo that was interrupted")
    done = shell("demo", "--into", "made-up", "--whole")
    assert "What was shown, in" in done.out and not (root / "library/left over").exists()
    assert (
        "resumed at" in done.out and re.search(r"2 of 1,\d+ files amiss", done.out) and "every file matches" in done.out
    )
    assert done.out.count("Everything is safe: all 136 frames") == 1
    assert done.out.count("Everything is safe: all 167 frames") == 1
    assert done.out.count("Everything is safe: all 217 frames") == 1
    assert "pictures: identical" in done.out and "The made-up world lies in made-up" in done.out
    depots = [root / "depots" / name for name in ("heron", "otter", "dipper")]
    for words in (
        "it is the path of the picture",
        "a reduced copy of an original that is here",
        "9 with edits",
        "title: Bundles, at last",
        "63 files moved or renamed",
        "If studio were lost",
        "2024 is bound",
        "are put away: fetch the drive of heron (studio), otter (studio)",
        "Nothing outside that folder was opened",
        "Every year lies whole on 2 drives",
        "Archive Withymere-2025: all of its 3 volumes",
        "black (its lightest part is",
        "20260509-reed-cutting-0013.jpg to 20260509-reed-cutting-0021.jpg",
        "moved there as in the library                     12",
        "No: 9 of 9 frames of ../second-card",
        "move-1 was asked to stop",
        "Nothing to do: 49 frames arrived before.",
        "Yes. Each of 49 frames of the account stonewharf is held by 2 or more other copies",
        "Of 28 frames of ../card 22 are held by 2 or more other copies",
    ):
        assert words in done.out, words
    assert re.search(r"arrived, and proven +49", done.out)
    held: list[str | Path] = [part for depot in depots for part in ("--depot", depot)]
    beside: list[str | Path] = ["--beside", root / "pipit-lane", "--beside", root / "emberlow"]
    beside += ["--beside", root / "stonewharf", "--card", root / "card", "--card", root / "second-card"]
    changed = [
        "--renamed",
        "2026/2026-05=2026/2026-05 Lantern fair",
        "--retitled",
        "ALD_0669.jpg=Lanterns, from the weir",
    ]
    check(root / "thrushfield", "--library", root / "library", *beside, *held, *changed)
    for sidecar in (root / "library/pictures").rglob("*.xmp"):
        others_read(sidecar, "rdf:RDF")
    assert (root / "years-on-drives.png").read_bytes().startswith(b"\x89PNG")

    token = (root / "thrushfield/token.txt").read_text().strip()
    for path in (
        path for folder in (root / "library", root / "depots") for path in folder.rglob("*") if path.is_file()
    ):
        assert token.encode() not in path.read_bytes(), f"{path} holds the token"
    assert token not in done.out + done.err
    assert (root / "tokens.json").stat().st_mode & 0o077 == 0

    damage = shell("demo", "--into", "made-up", "--chapter", "damage").out
    assert "files amiss" in damage and "good again" in damage and "Out of the cloud" not in damage
    for command, _ in TRY:
        shell(*shlex.split(command)[1:], cwd=root / "library", code=1 if "--if-lost" in command else 0)

    (root / "library/companions/note.txt").write_text("mine")
    again = shell("demo", "--into", "made-up")
    assert (root / "library/companions/note.txt").exists()
    assert "it was left as it is" in again.out and "--afresh" in again.out
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/letter.txt").write_text("dear")
    refused = shell("demo", "--into", "mine", code=2)
    assert "other things" in refused.err and (tmp_path / "mine/letter.txt").read_text() == "dear"


def test_reports_answer_in_json(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    backup = shell("backup", "--json", cwd=library).json
    assert backup["balanced"] and backup["came_in"]["frames"] == 3 * 96
    weighed = shell("standing", "--json", cwd=library).json
    assert weighed["safe"] and weighed["states"] == {"sound": 96}
    assert [one["year"] for one in weighed["years"]] == [2024, 2025, 2026]
    found = shell("find", "lantern", "--json", cwd=library).json
    assert found["found"] == 23 and found["hits"][0]["path"] == "pictures/2026/2026-05/KW0901.mp4"
    frame = shell("show", "ALD_0669.jpg", "--json", cwd=library).json
    assert frame["believed"]["title"] == "水面の灯り 2" and {file["role"] for file in frame["made_of"]} == {
        "original",
        "clip",
        "sidecar",
    }
    assert {copy["depot"] for copy in frame["copies"]} == {"heron", "otter", "dipper"}
    assert [one["run"] for one in shell("receipt", "list", "--json", cwd=library).json["receipts"]] == [
        "unpack",
        "backup",
    ]
    assert shell("receipt", "1", "--json", cwd=library).json["left_out"][0]["name"] == "KW0777.jpg"
    assert len(shell("depot", "list", "--json", cwd=library).json["depots"]) == 3
    assert shell("service", "list", "--json", cwd=library).json["services"][0]["orders"][0]["state"] == "unpacked"
    assert shell("verify", "--json", cwd=library).json["left_out"] == []
    json.loads(shell("mend", "--json", cwd=library).out)


def test_find_filters_and_opens_a_depot_by_itself(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "heron", cwd=library)
    library.rename(library.with_name("gone"))
    data = depots["heron"] / "data"

    def paths(*arguments: str) -> int:
        return int(shell("find", *arguments, "--library", data, "--json").json["found"])

    assert paths() == 96
    assert paths("lantern") == paths("LANT") == 23
    assert paths("--since", "2025", "--until", "2025-04") == 19
    assert paths("--since", "2026-05-02", "--until", "2026-05-02", "--favourite") == 5
    assert paths("--album", "owls & water") == 9
    assert paths("--person", "Omar", "--location", "Upper Tarn") == 6
    assert paths("--keyword", "nest boxes") == 18
    assert paths("Łąka") == 4 and paths("nothing", "such") == 0
    assert "opens read-only" in shell("backup", "--library", data, code=3).err
    assert shell("find", "owl", cwd=depots["heron"]).out.count("2025-11") >= 18
    assert "no date" in shell("find", "--since", "May", "--library", data, code=2).err
