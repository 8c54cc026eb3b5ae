"""The day after the card: culling, shoots, albums, telling, finding, erasing, and looking through it all."""

import csv
import io
import json
import re
import subprocess
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from bramblemoor.standins import cards
from bramblemoor.standins.drawing import jpeg
from conftest import LEAVE, Shell, as_if_made, leave_at, others_read, pictures, valid

REEDS = "2026-05-09 Reed cutting (Saltby Fen)"


@pytest.fixture(scope="session")
def card_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("daily") / "card"
    cards.card(folder)
    return folder


@pytest.fixture(scope="session")
def taken_once(card_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A library with the stand-in card's two shoots, taken in once."""
    shell = Shell(tmp_path_factory.mktemp("taken"))
    shell("new", "library")
    shell(
        "intake", card_once, "--subject", "Reed cutting", "--subject", "Lantern walk", "--location", "Saltby Fen",
        "--location", "Withymere", "--split", "6h", *LEAVE, "--yes", cwd=shell.folder / "library",
    )  # fmt: skip
    return shell.folder / "library"


@pytest.fixture
def library(taken_once: Path, tmp_path: Path) -> Path:
    return as_if_made(tmp_path / "library", taken_once)


@pytest.fixture
def depots(shell: Shell, library: Path) -> list[Path]:
    found = []
    for name, site, medium in (("heron", "studio", "ssd"), ("otter", "cottage", "hdd")):
        place = library.parent / name
        place.mkdir()
        shell("depot", "add", name, place, "--site", site, "--medium", medium, "--stand-in", name, cwd=library)
        found.append(place)
    shell("backup", cwd=library)
    return found


def names(shell: Shell, library: Path, *conditions: str) -> list[str]:
    return shell("find", *conditions, "--paths", cwd=library).out.split()


def everything_told(shell: Shell, library: Path) -> Any:
    """All that is known of every frame, but for the ledger's own numbers."""
    paths = shell("find", "--paths0", cwd=library).out.split("\0")[:-1]
    told = {}
    for path in paths[::4]:
        document = shell("show", path, "--json", cwd=library).json
        told[path] = {key: document[key] for key in ("believed", "claims", "albums", "made_of")}
    return paths, told


def test_marked_frames_leave_come_back_as_they_were_and_are_purged(
    shell: Shell, library: Path, depots: list[Path]
) -> None:
    shell("album", "make", "Best", "--shoot", "*Reed*", "--number", "1-5", cwd=library)
    before, told = pictures(library), everything_told(shell, library)
    shell("cull", "mark", "--shoot", "*Reed*", "--number", "2-3", cwd=library)
    sidecar = next((library / "pictures").rglob("*cutting-0003.dng.xmp"))
    others_read(sidecar, "<xmp:Rating>-1</xmp:Rating>")
    assert "nothing was done" in shell("cull", "remove", "--marked", cwd=library, code=2).err
    gone = shell("cull", "remove", "--marked", "--yes", "--json", cwd=library).json
    assert gone["kept"][0]["amount"]["frames"] == 2 and gone["kept"][0]["amount"]["files"] == 5
    assert not [path for path in pictures(library) if re.search("cutting-000[23]", path)]
    assert len((library / "albums/Best.csv").read_text().splitlines()) == 1 + 3
    shell("backup", cwd=library)
    valid(depots[0])
    assert not [path for path in pictures(depots[0] / "data") if re.search("cutting-000[23]", path)]
    assert "cutting-0003.dng" in shell("earlier", "heron", "--json", cwd=library).out
    shell("cull", "undo", cwd=library)
    shell("cull", "unmark", "--marked", cwd=library)
    after = {path: content for path, content in pictures(library).items() if not path.endswith(".xmp")}
    assert after == {path: content for path, content in before.items() if not path.endswith(".xmp")}
    paths, again = everything_told(shell, library)
    assert paths == told[0] and all(again[path]["albums"] == told[1][path]["albums"] for path in again)
    assert "Nothing that was culled" in shell("cull", "undo", cwd=library, code=2).err
    shell("cull", "remove", "20260509-reed-cutting-0004.jpg", "--yes", cwd=library)
    assert shell("cull", "list", "--json", cwd=library).json["culled"][0]["frames_alone"] == 0
    shell("cull", "purge", "--yes", cwd=library)
    assert not list((library / "set-aside").rglob("*.jpg"))
    shell("backup", cwd=library)
    assert shell("standing", "--json", cwd=library, code=None).json["states"].get("sound") == 22


def test_a_frame_of_which_there_is_no_other_copy_is_said_to_be_so(shell: Shell, library: Path) -> None:
    assert (
        "Of 2 frames no depot has a good copy"
        in shell("cull", "remove", "--number", "2-3", "--shoot", "*Reed*", "--dry-run", cwd=library).out
    )
    shell("cull", "remove", "--number", "2-3", "--shoot", "*Reed*", "--yes", cwd=library)
    assert "this is the last" in shell("cull", "purge", cwd=library, code=2).out
    assert "every frame of the library" in shell("cull", "mark", "*", cwd=library, code=2).err
    assert "There are no frames" in shell("cull", "mark", "--keyword", "no such", cwd=library, code=2).err


@pytest.mark.parametrize("step", [4, 12, 24])
def test_a_culling_that_was_killed_is_finished(shell: Shell, library: Path, step: int) -> None:
    before = pictures(library)
    assert leave_at(shell, step, library, "cull", "remove", "--shoot", "*Reed*", "--yes")
    shell("stocktake", cwd=library, code=None)
    shell("cull", "remove", "--shoot", "*Reed*", "--yes", cwd=library, code=None)
    assert not (library / "pictures/2026" / REEDS).exists() and len(names(shell, library)) > 0
    shell("cull", "undo", cwd=library)
    assert pictures(library) == before


def test_marks_of_other_programs_and_marks_files(shell: Shell, library: Path) -> None:
    sidecar = next((library / "pictures").rglob("*cutting-0009.dng.xmp"))
    sidecar.write_text(re.sub('xmp:Rating="4"', 'xmp:Rating="-1"', sidecar.read_text()))
    shell("stocktake", cwd=library)
    assert len(names(shell, library, "--marked")) == 1 or "cutting-0009" in shell("find", "--marked", cwd=library).out
    shell("cull", "unmark", "--marked", cwd=library)
    assert shell("show", "20260509-reed-cutting-0009.dng", "--json", cwd=library).json["believed"]["rating"] == 4
    folder = f"pictures/2026/{REEDS}"
    marks = [
        {"path": f"{folder}/20260509-reed-cutting-0001.jpg", "marked": True, "caption": "Mist"},
        {"path": f"{folder}/20260509-reed-cutting-0002.jpg", "rating": 5},
        {"path": "pictures/nowhere.jpg", "marked": True},
    ]  # fmt: skip
    file = library.parent / "marks.json"
    file.write_text(json.dumps({"marks": marks}))
    assert "not here any more" in shell("cull", "marks", file, cwd=library, code=1).err
    assert shell("find", "--marked", "--json", cwd=library).json["found"] == 1
    assert shell("find", "--rating", "5", "--json", cwd=library).json["found"] == 1
    shell("takeback", cwd=library)
    assert shell("find", "--marked", "--json", cwd=library).json["found"] == 0
    file.write_text(json.dumps({"library": "another", "marks": marks}))
    assert "of another library" in shell("cull", "marks", file, cwd=library, code=2).err
    file.write_text("{")
    assert "cannot be read as marks" in shell("cull", "marks", file, cwd=library, code=3).err


def test_shoots_are_renamed_split_and_merged_and_depots_follow_by_moving(
    shell: Shell, library: Path, depots: list[Path]
) -> None:
    shell("album", "make", "Best", "--number", "1", cwd=library)
    contents = sorted(pictures(library).values())
    shell("shoot", "rename", "reed cut", "--subject", "Reed harvest", "--location", "", "--yes", cwd=library)
    new = "2026-05-09 Reed harvest"
    assert (library / "pictures/2026" / new / "20260509-reed-harvest-0006.wav").is_file()
    assert not (library / "pictures/2026" / REEDS).exists() and new in (library / "albums/Best.csv").read_text()
    done = shell("backup", "--json", cwd=library).json
    moved = [one for one in done["kept"] if "moved there" in one["what"]]
    copied = [one for one in done["kept"] if "copied and" in one["what"]]
    assert [one["amount"]["frames"] for one in moved] == [12, 12] and all(not one["amount"]["frames"] for one in copied)
    shell("shoot", "split", "--shoot", "*harvest*", "--number", "3-4", "--subject", "Otters", "--yes", cwd=library)
    otters = library / "pictures/2026/2026-05-09 Otters"
    assert sorted(path.suffix for path in otters.iterdir()) == [".dng", ".jpg", ".jpg", ".xmp", ".xmp"]
    taken = shell("shoot", "rename", "otters", "--subject", "Reed harvest", cwd=library, code=2)
    assert "There is a shoot 2026/2026-05-09 Reed harvest already" in taken.err and "shoot merge" in taken.err
    shell("shoot", "merge", "lantern", "otters", "--yes", cwd=library)
    listed = {one["path"]: one["frames"] for one in shell("shoot", "list", "--json", cwd=library).json["shoots"]}
    assert sorted(listed.values()) == [10, 13] and not otters.exists()
    shell("backup", cwd=library)
    assert pictures(depots[1] / "data") == pictures(library) and sorted(pictures(library).values()) == contents
    valid(depots[1])


@pytest.mark.parametrize("step", [3, 20, 45])
def test_a_renaming_that_was_killed_is_finished(shell: Shell, library: Path, step: int) -> None:
    wanted = ("shoot", "rename", "reed cut", "--subject", "Reed harvest", "--yes")
    contents = sorted(pictures(library).values())
    assert leave_at(shell, step, library, *wanted)
    shell("stocktake", cwd=library, code=None)
    shell(*wanted, cwd=library, code=None)
    assert sorted(pictures(library).values()) == contents and not (library / "incoming/rearranging").exists()
    assert len([one for one in pictures(library) if "reed-harvest" in one]) == 12 * 2 + 3 + 1
    assert shell("find", "--shoot", "*harvest*", "--json", cwd=library).json["found"] == 12


def test_what_got_a_name_behind_a_killed_renaming_keeps_it(shell: Shell, library: Path) -> None:
    contents = sorted(pictures(library).values())
    wanted = ("shoot", "rename", "reed cut", "--subject", "Reed harvest", "--yes")
    assert leave_at(shell, 20, library, *wanted)
    new = library / "pictures/2026/2026-05-09 Reed harvest (Saltby Fen)"
    new.mkdir(exist_ok=True)
    strangers = [new / f"20260509-reed-harvest-00{number:02}.jpg" for number in range(1, 13)]
    strangers = [path for path in strangers if not path.exists()]
    for path in strangers:
        path.write_bytes(b"somebody's")
    shell("stocktake", cwd=library, code=None)
    there = sorted(pictures(library).values())
    assert strangers and there.count(b"somebody's") == len(strangers)
    assert [content for content in there if content != b"somebody's"] == contents


def test_what_was_culled_stays_where_its_picture_was_taken_in_again(
    shell: Shell, library: Path, tmp_path: Path
) -> None:
    raw = next((library / "pictures").rglob("*cutting-0009.dng"))
    content, jpeg = raw.read_bytes(), raw.with_suffix(".jpg").read_bytes()
    shell("cull", "remove", raw.name, "--yes", cwd=library)
    raw.write_bytes(content)
    shell("stocktake", cwd=library, code=None)
    told = shell("cull", "undo", "--json", cwd=library, code=1).json
    assert told["left_out"][0]["reason"] == "something lies in its place now" and raw.read_bytes() == content
    aside = [path.read_bytes() for path in (library / "set-aside/culled").rglob("*") if path.is_file()]
    assert jpeg in [*aside, *pictures(library).values()] and content in aside
    assert "still set aside" not in shell("cull", "list", cwd=library).err
    shell("cull", "purge", "--yes", cwd=library)
    assert not list((library / "set-aside/culled").iterdir())


def test_albums_of_ones_own(shell: Shell, library: Path) -> None:
    shell("album", "make", "Best of May", "--shoot", "*Lantern*", "--number", "3-6", cwd=library)
    shell("album", "add", "best", "20260509-reed-cutting-0001.jpg", cwd=library)
    shell("album", "order", "best", "20260509-reed-cutting-0001.jpg", cwd=library)
    rows = list(csv.DictReader((library / "albums/Best of May.csv").open()))
    assert len(rows) == 5 and rows[0]["path"].endswith("cutting-0001.jpg") and rows[0]["position"] == "1"
    sidecar = next((library / "pictures").rglob("*cutting-0001.jpg.xmp"))
    assert "Best of May" in sidecar.read_text()
    shell("album", "rename", "best", "Finest", cwd=library)
    assert "Finest" in sidecar.read_text() and "Best of May" not in sidecar.read_text()
    shell("album", "take", "finest", "20260509-reed-cutting-0001.jpg", cwd=library)
    shell("album", "order", "finest", "--by", "path", cwd=library)
    shell("tell", "--where", "album=finest", "--creator", "Ada Fenwright", "--yes", cwd=library)
    out = library.parent / "out"
    shell("album", "export", "finest", out, cwd=library)
    first = sorted(out.iterdir())[0]
    others_read(first, "Ada Fenwright", lacks=("bramblemoor",))
    assert first.name.startswith("0001 ")
    with Image.open(first) as image:
        image.load()
    assert "holds something already" in shell("album", "export", "finest", out, cwd=library, code=2).err
    shell("album", "delete", "finest", cwd=library)
    assert not (library / "albums/Best of May.csv").exists() and "Finest" not in sidecar.read_text()
    assert "no album" in shell("album", "add", "finest", "*", cwd=library, code=2).err


def test_templates_clocks_and_fields_are_told_and_taken_back(shell: Shell, library: Path, card_once: Path) -> None:
    look = card_once / "DCIM/100ALDER/ALD_9998.XMP"
    shell(
        "template", "set", "studio", "--creator", "Ada Fenwright", "--rights", "(c) {year} Ada Fenwright", "--email",
        "ada@fenwright.example", "--keyword", "valley", "--field", "photoshop:Credit=Fenwright", "--look", look, cwd=library,
    )  # fmt: skip
    frame, sidecar = "20260509-reed-cutting-0001.jpg", next((library / "pictures").rglob("*cutting-0001.jpg.xmp"))
    before = sidecar.read_bytes()
    shell("tell", frame, "--template", "studio", cwd=library)
    told = ("(c) 2026 Ada Fenwright", "ada@fenwright.example", "<photoshop:Credit>Fenwright<", "em:Exposure")
    # The look brings an editor's instructions, not another picture's title.
    others_read(sidecar, *told, lacks=("Last swathe",))
    assert shell("find", "--creator", "ada", "--json", cwd=library).json["found"] == 1
    shell("takeback", cwd=library)
    after = sidecar.read_text()
    assert ("Ada" not in after and "Credit" in after) or sidecar.read_bytes() == before
    assert "is no property of XMP" in shell("template", "set", "x", "--field", "no=1", cwd=library, code=2).err
    shell("tell", "--where", "camera=M7", "--clock", "+1h", "--yes", cwd=library)
    shell("tell", "--where", "camera=M7", "--clock", "+1h", "--yes", cwd=library)  # said again it is the same hour
    assert shell("show", frame, "--json", cwd=library).json["believed"]["taken"] == "2026-05-09T07:12:00+01:00"
    shell("tell", frame, "--time-zone", "+02:00", "--rating", "3", "--position", "54.66,2.11", cwd=library)
    believed = shell("show", frame, "--json", cwd=library).json["believed"]
    assert believed["taken"] == "2026-05-09T07:12:00+02:00" and believed["position"] == [54.66, 2.11]
    shell("tell", frame, "--position", "", "--rating", "", "--taken", "", cwd=library)
    believed = shell("show", frame, "--json", cwd=library).json["believed"]
    assert believed["position"] is None and believed["rating"] is None
    assert believed["taken"] == "2026-05-09T06:12:00+01:00"


def test_finding_by_everything(shell: Shell, library: Path, depots: list[Path]) -> None:
    shell(
        "tell",
        "20260509-reed-cutting-0001.jpg",
        "--title",
        "First light on the fen",
        "--position",
        "54.66,2.11",
        cwd=library,
    )
    shell(
        "tell", "--where", "shoot=*Lantern*", "--keyword", "lanterns", "--person", "Ada Fenwright", "--yes", cwd=library
    )

    def found(*conditions: str) -> int:
        count: int = shell("find", *conditions, "--json", cwd=library).json["found"]
        return count

    assert found('"first light"') == found("light first") == 1 and found('"light first"') == 0
    assert found("--number", "3-5", "--shoot", "*Reed*") == 3 and found("--near", "54.661,2.111,1") == 1
    assert (
        found("--near", "54.9,2.11,1") == 0
        and found("--added-since", "2026") == 23
        and found("--added-until", "2025") == 0
    )
    assert found("--standing", "sound") == 11 and found("--not", "standing=sound") == 12
    counted = shell("find", "--count-by", "keyword", "--json", cwd=library).json["counted"]
    assert counted == [{"value": "lanterns", "frames": 11}]
    shell("unsay", "20260509-lantern-walk-0001.jpg", "--keyword", "lanterns", cwd=library)
    assert shell("find", "--count-by", "keyword", "--json", cwd=library).json["counted"][0]["frames"] == 10
    assert shell("find", "--count-by", "year", "--json", cwd=library).json["counted"] == [
        {"value": "2026", "frames": 23}
    ]
    rows = list(csv.DictReader(io.StringIO(shell("find", "--person", "ada", "--csv", cwd=library).out)))
    assert len(rows) == 11 and rows[0]["people"] == "Ada Fenwright" and rows[0]["camera"] == "Alderholt M7"
    largest = shell("find", "--sort", "size", "--last-first", "--most", "1", "--json", cwd=library).json["hits"][0][
        "path"
    ]
    assert largest.endswith(".dng")
    piped = shell("find", "--person", "ada", "--paths0", cwd=library).out
    list_file = library.parent / "list"
    list_file.write_text(piped)
    assert shell("find", "--frames-from", list_file, "--json", cwd=library).json["found"] == 11
    for wrong in (
        ("--near", "here"),
        ("--number", "x"),
        ("--standing", "safe"),
        ("--sort", "luck"),
        ("--count-by", "luck"),
    ):
        assert shell("find", *wrong, cwd=library, code=2).err


def test_when_a_card_may_be_erased(shell: Shell, library: Path, card_once: Path, tmp_path: Path) -> None:
    def ask(*arguments: str | Path) -> Any:
        return shell("erasable", *arguments, "--json", cwd=library, code=None).json

    alone = ask(card_once)
    assert not alone["erasable"] and alone["frames_short"] == 24 and alone["frames_culled"] == 4
    for name, site, medium in (("heron", "studio", "ssd"), ("otter", "cottage", "hdd")):
        (tmp_path / name).mkdir()
        shell(
            "depot", "add", name, tmp_path / name, "--site", site, "--medium", medium, "--stand-in", name, cwd=library
        )  # fmt: skip
    shell("backup", cwd=library)
    assert ask(card_once)["erasable"] and ask("--shoot", "*Reed*")["erasable"]
    shell("cull", "remove", "20260509-reed-cutting-0001.jpg", "--yes", cwd=library)
    shell("depot", "change", "heron", "--keep-for", "none", cwd=library, code=None)
    said = shell("erasable", card_once, cwd=library, code=None).out
    assert "Nothing was erased" in said and "Yes" in said
    other = tmp_path / "other"
    cards.phone(other)
    answer = ask(other)
    assert not answer["erasable"] and {one["why"] for one in answer["items"]} == {"it is in no library"}
    rotten = tmp_path / "rotten"
    cards.card(rotten)
    one = rotten / "DCIM/100ALDER/ALD_9988.JPG"
    content = bytearray(one.read_bytes())
    content[len(content) // 2] ^= 1
    one.write_bytes(content)
    changed = ask(rotten)
    assert not changed["erasable"] and [item["was"] for item in changed["items"] if item["why"]] == [
        "DCIM/100ALDER/ALD_9988.JPG"
    ]
    assert "not said what" in shell("erasable", cwd=library, code=2).err
    unnamed = (
        tmp_path / "unnamed"
    )  # a picture is one whatever it is called, and a note without its picture is somebody's
    unnamed.mkdir()
    (unnamed / "FILE0001.TMP").write_bytes(jpeg(cards.shown("reeds", "dawn", 77)))
    (unnamed / "ALONE.WAV").write_bytes(b"RIFF\x24\0\0\0WAVEfmt ")
    (unnamed / "CAMERA.CTG").write_bytes(b"list")
    asked = ask(unnamed)
    assert not asked["erasable"] and {one["was"] for one in asked["items"]} == {
        "FILE0001.TMP",
        "ALONE.WAV",
        "CAMERA.CTG",
    }


def test_sheets_and_pages(shell: Shell, library: Path, depots: list[Path]) -> None:
    out = library.parent / "look"
    out.mkdir()
    shell("sheet", out / "all.pdf", "--columns", "4", cwd=library)
    assert (out / "all.pdf").read_bytes().startswith(b"%PDF-")
    made = shell("sheet", out / "all.jpg", "--side-by-side", "--json", cwd=library).json
    assert made["pages"] == len(made["named"]) == 2 and made["without_picture"] == 0
    with Image.open(made["named"][1]) as image:
        assert image.size == (1240, 1754)
    assert "there already" in shell("sheet", out / "all.pdf", cwd=library, code=2).err
    assert "neither PDF nor JPEG" in shell("sheet", out / "all.png", cwd=library, code=2).err
    told = shell("page", "--json", cwd=library).json
    assert told["frames"] == 23 and told["bytes"] < 25_000 * 23 + 40_000
    shell("tell", "20260509-reed-cutting-0002.jpg", "--title", "</script><b>", cwd=library)
    shell("backup", cwd=library)
    assert shell("backup", "--json", cwd=library).json["nothing_to_do"]
    page = depots[0] / "data/looking/page"
    html, data = (page / "index.html").read_text(), (page / "data/frames-0.js").read_text()
    assert "http://" not in html.replace("http://www.w3.org/2000/svg", "") and "https://" not in html
    assert "</script><b>" not in data
    records = json.loads(data[len("look.frames(0,") : -1].replace("<\\/", "</"))
    index = json.loads((page / "data/index.js").read_text()[len("look.index(") : -1])
    assert len(records) == index["count"] == 23 and [one[0] for one in index["holders"]] == [
        "library",
        "heron",
        "otter",
    ]
    assert all(record[18] == 0b111 for record in records)
    assert all((page / index["originals"] / record[19]).is_file() for record in records)
    thumbs = json.loads((page / "thumbs/0.js").read_text()[len("look.thumbs(0,") : -1])
    assert len(thumbs) == 23  # three raws have a JPEG of their camera, which shows the same
    shell("page", out / "client.zip", "--shoot", "*Lantern*", "--originals", "--previews", cwd=library)
    listed = subprocess.run(["unzip", "-l", out / "client.zip"], capture_output=True, text=True, check=True).stdout
    assert "lantern-walk-0001.jpg" in listed and ".xmp" not in listed and "previews/" in listed
    shell("cull", "page", out / "cull", "--shoot", "*Reed*", cwd=library)
    assert len(list((out / "cull/previews").iterdir())) == 12
    assert "No frame was named" in shell("cull", "page", out / "cull2", cwd=library, code=2).err


def test_positions_come_from_a_track_and_become_names_of_places(shell: Shell, library: Path) -> None:
    """The track runs from 05:00 to 06:00 UTC with a gap of 20 minutes; the camera tells its zone, +01:00."""
    points = [
        (f"2026-05-09T05:{minute:02}:00Z", 54.48 + minute / 1000, -0.61)
        for minute in [*range(0, 25, 2), *range(45, 60, 2)]
    ]
    track = library.parent / "walk.gpx"
    track.write_text(
        '<?xml version="1.0"?><gpx version="1.1" creator="receiver" xmlns="http://www.topografix.com/GPX/1/1"><trk><trkseg>'
        + "".join(f'<trkpt lat="{lat}" lon="{lon}"><time>{time}</time></trkpt>' for time, lat, lon in points)
        + "</trkseg></trk></gpx>"
    )
    done = shell("tell", "--where", "shoot=*Reed*", "--track", track, "--yes", "--json", cwd=library).json
    assert done["balanced"]
    first = shell("show", "20260509-reed-cutting-0001.jpg", "--json", cwd=library).json["believed"]
    assert first["position"] == [54.492, -0.61]  # 06:12:00 there
    assert shell("show", "20260509-reed-cutting-0002.jpg", "--json", cwd=library).json["believed"]["position"] == [
        54.501617,
        -0.61,
    ]
    assert shell("find", "--shoot", "*Reed*", "--lacking", "position", "--json", cwd=library).json["found"] == 12 - 4
    frame = "20260509-lantern-walk-0001.jpg"
    shell("tell", frame, "--position", "54.48,-0.61", "--location", "", cwd=library)
    shell("tell", frame, "--place-names", cwd=library)
    assert shell("show", frame, "--json", cwd=library).json["believed"]["location"]
    shell("takeback", cwd=library)
    assert not shell("show", frame, "--json", cwd=library).json["believed"]["location"]
    track.write_text("<gpx/>")
    assert "no point with a time" in shell("tell", frame, "--track", track, cwd=library, code=3).err


def test_versions_of_a_picture_are_found_and_a_burst_is_not_one(shell: Shell, library: Path, tmp_path: Path) -> None:
    """Made from one picture: smaller, compressed, cropped, turned, in other formats; and three that only look like it."""
    from PIL import ImageDraw
    from pillow_heif import register_heif_opener

    from bramblemoor.standins.drawing import draw

    register_heif_opener()
    image = draw("reeds", "dawn", 5)
    folder = tmp_path / "versions"
    folder.mkdir()
    image.save(folder / "best.png")
    image.resize((240, 160), Image.Resampling.LANCZOS).save(folder / "small.jpg", quality=88)
    image.save(folder / "coarse.jpg", quality=40)
    image.crop((30, 12, 942, 620)).save(folder / "cropped.jpg", quality=90)
    image.transpose(Image.Transpose.ROTATE_90).save(folder / "turned.jpg", quality=88)
    image.save(folder / "web.webp", quality=70)
    image.save(folder / "phone.heic", quality=60)
    for number in range(3):
        other = image.crop((8 * number, 0, 960 - 4 * number, 640 - 3 * number)).resize((960, 640))
        pen = ImageDraw.Draw(other)
        pen.ellipse((200 + 150 * number, 300, 250 + 150 * number, 380), fill=(40, 60 + 40 * number, 150))
        other.save(folder / f"burst-{number}.jpg", quality=88)
    shell("intake", folder, "--by-month", "--yes", cwd=library)
    groups = shell("alike", "--json", cwd=library).json["groups"]
    found = [{one["path"].rpartition("/")[2] for one in group["items"]} for group in groups]
    assert found == [{"best.png", "small.jpg", "coarse.jpg", "cropped.jpg", "turned.jpg", "web.webp", "phone.heic"}]
    reasons = {one["path"].rpartition("/")[2]: one["why"] for one in groups[0]["items"]}
    assert reasons["best.png"] is None and "turned by" in reasons["turned.jpg"] and "cropped" in reasons["cropped.jpg"]
    shell("alike", "--mark", "--yes", cwd=library)
    assert shell("find", "--marked", "--json", cwd=library).json["found"] == 6
