"""Away from the desk: a library made on the road is merged, and copies that were lent come back to their frames."""

import json
from pathlib import Path

import pytest
from PIL import Image, ImageOps

from bramblemoor.standins import cards
from conftest import LEAVE, Shell, as_if_made, leave_at, others_read, pictures

ROAD = "2026-05-09 Reed cutting"
EDITOR = "http://ns.editor.example/1.0/"
RETURNED = f"""<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/"
 xmlns:ed="{EDITOR}" xmp:Rating="5" ed:Exposure="+0.5"><dc:subject><rdf:Bag><rdf:li>mist</rdf:li></rdf:Bag></dc:subject>
<dc:title><rdf:Alt><rdf:li xml:lang="x-default">Theirs</rdf:li></rdf:Alt></dc:title>
<dc:description><rdf:Alt><rdf:li xml:lang="x-default">Bundles on the bank</rdf:li></rdf:Alt></dc:description>
</rdf:Description></rdf:RDF></x:xmpmeta>"""


@pytest.fixture(scope="session")
def made_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A library from the road, and one at home that has two of its frames already."""
    shell = Shell(tmp_path_factory.mktemp("road"))
    cards.card(shell.folder / "card")
    for name in ("road", "home"):
        shell("new", name)
    road, home = shell.folder / "road", shell.folder / "home"
    shoots = ("--subject", "Reed cutting", "--subject", "Lantern walk", "--split", "6h")
    shell("intake", shell.folder / "card", *shoots, *LEAVE, "--yes", cwd=road)
    two = shell.folder / "two"
    two.mkdir()
    for number in (1, 2):
        found = next((road / "pictures").rglob(f"*cutting-000{number}.jpg"))
        (two / found.name).write_bytes(found.read_bytes())
    shell("intake", two, "--by-month", "--yes", cwd=home)
    shell(
        "tell", "*cutting-0001.jpg", "*cutting-0003.dng", "--title", "Theirs", "--keyword", "reeds", "--yes", cwd=road
    )
    shell("tell", "*cutting-0001.jpg", "--title", "Mine", cwd=home)
    shell("cull", "mark", "*cutting-0002.jpg", "*cutting-0004.jpg", cwd=road)
    shell("album", "make", "On the road", "--number", "1-5", "--shoot", "*Reed*", cwd=road)
    for dng in (road / "pictures").rglob("*cutting-0006.dng"):
        sidecar = dng.with_name(dng.name + ".xmp")
        text = sidecar.read_text().replace(
            "<rdf:Description ", f'<rdf:Description xmlns:ed="{EDITOR}" ed:Warmth="7" ', 1
        )
        sidecar.write_text(text)
    return shell.folder


@pytest.fixture
def road(made_once: Path, tmp_path: Path) -> Path:
    return as_if_made(tmp_path / "road", made_once / "road")


@pytest.fixture
def home(made_once: Path, tmp_path: Path) -> Path:
    return as_if_made(tmp_path / "home", made_once / "home")


def merged_well(shell: Shell, home: Path, road: Path) -> None:
    """All of both is there, once."""
    assert shell("find", "--json", cwd=home).json["found"] == 23
    here = {path.rpartition("/")[2]: content for path, content in pictures(home).items() if not path.endswith(".xmp")}
    assert here == {
        path.rpartition("/")[2]: content for path, content in pictures(road).items() if not path.endswith(".xmp")
    }
    mine = shell("show", "20260509-reed-cutting-0001.jpg", "--json", cwd=home).json
    assert mine["believed"]["title"] == "Mine" and mine["believed"]["keywords"] == ["reeds"]
    assert mine["albums"] == [{"title": "On the road"}]
    assert shell("show", "20260509-reed-cutting-0003.dng", "--json", cwd=home).json["believed"]["title"] == "Theirs"
    assert shell("find", "--marked", "--json", cwd=home).json["found"] == 2
    album = shell("find", "--album", "On the road", "--paths", cwd=home).out
    assert album.count("cutting-000") == 5
    others_read(next((home / "pictures").rglob("*cutting-0006.dng.xmp")), "<ed:Warmth>7")
    assert shell("verify", "library", "--json", cwd=home).json["balanced"]


def is_colourful(image: Image.Image) -> bool:
    red, _, blue = image.convert("RGB").resize((16, 16)).split()
    return any(abs(one - other) > 12 for one, other in zip(red.tobytes(), blue.tobytes(), strict=True))


def test_a_library_from_the_road_is_merged_and_again_changes_nothing(shell: Shell, home: Path, road: Path) -> None:
    before, on_the_road = pictures(home), pictures(road)
    ledger = (road / "ledger/ledger.sqlite").read_bytes()
    plan = shell("merge", road, "--dry-run", cwd=home)
    assert pictures(home) == before and "21" in plan.out and "title: 'Mine' here, 'Theirs' there" in plan.out
    assert "nothing was merged" in shell("merge", road, cwd=home, code=2).err.lower() or pictures(home) == before
    receipt = shell("merge", road, "--yes", "--json", cwd=home).json
    assert receipt["balanced"] and receipt["came_in"]["frames"] == 23 and receipt["kept"][0]["amount"]["frames"] == 21
    merged_well(shell, home, road)
    after = pictures(home)
    again = shell("merge", road, "--yes", cwd=home)
    assert "There is nothing new to merge." in again.out and pictures(home) == after and pictures(road) == on_the_road
    assert (road / "ledger/ledger.sqlite").read_bytes() == ledger
    shell("tell", "*cutting-0002.jpg", "--caption", "Found later", cwd=road)
    late = shell("merge", road, "--yes", cwd=home)
    assert "1 frame that is here" in late.out
    assert (
        shell("show", "20260509-reed-cutting-0002.jpg", "--json", cwd=home).json["believed"]["caption"] == "Found later"
    )
    shell("tell", "*cutting-0002.jpg", "--title", "Told at home", cwd=home)
    assert "Told at home" in (home / "albums/On the road.csv").read_text()
    shell("cull", "remove", "*cutting-0005.jpg", "--yes", cwd=home)
    assert "left: you culled them" in shell("merge", road, "--yes", cwd=home).out


@pytest.mark.parametrize("step", [6, 25, 60, 110])
def test_a_merge_that_was_killed_is_finished_by_the_same_command(
    shell: Shell, home: Path, road: Path, step: int
) -> None:
    assert leave_at(shell, step, home, "merge", road, "--yes")
    shell("merge", road, "--yes", cwd=home, code=None)
    merged_well(shell, home, road)
    assert "nothing new to merge" in shell("merge", road, cwd=home).out


def test_companions_that_will_not_open_elsewhere_are_named(shell: Shell, home: Path) -> None:
    (home / "companions/tied.catalogue").write_bytes(b"\0root=" + f"{home}/pictures".encode("utf-16-le"))
    (home / "companions/free.catalogue").write_bytes(b"\0root=../pictures")
    found = shell("stocktake", "--json", cwd=home, code=1).json["findings"]
    assert [one["name"] for one in found if str(home) in one["what"]] == ["companions/tied.catalogue"]
    (home / "companions/tied.catalogue").write_bytes(b"written anew, root=" + f"{home}/pictures".encode())
    assert not shell("stocktake", "--json", cwd=home).json["findings"]


def test_what_is_no_other_library_is_refused(shell: Shell, home: Path, tmp_path: Path) -> None:
    assert "this library itself" in shell("merge", home, cwd=home, code=2).err
    assert "There is no library" in shell("merge", tmp_path / "nowhere", cwd=home, code=3).err
    depot = tmp_path / "heron"
    depot.mkdir()
    shell("depot", "add", "heron", depot, "--site", "studio", "--medium", "ssd", "--stand-in", "heron", cwd=home)
    shell("backup", cwd=home)
    assert "a copy at a depot" in shell("merge", depot, cwd=home, code=2).err


def test_what_was_lent_comes_back_to_its_frames(shell: Shell, road: Path, tmp_path: Path) -> None:
    out, back = tmp_path / "for ada", tmp_path / "from ada"
    assert "nothing was done" in shell("lend", "out", "ada", out, cwd=road, code=2).err.lower() or not out.exists()
    lent = shell("lend", "out", "ada", out, "--shoot", "*Reed*", "--longest", "400", "--json", cwd=road).json
    assert lent["frames"] == 12 and len(list(out.iterdir())) == 12
    with Image.open(out / "20260509-reed-cutting-0003.jpg") as small:
        assert max(small.size) <= 400
    others_read(out / "20260509-reed-cutting-0003.jpg", "Theirs", lacks=("bm:",))
    others_read(out / "20260509-reed-cutting-0006.jpg", lacks=("Warmth",))
    assert "was lent as 'ada'" in shell("lend", "out", "ada", tmp_path / "more", "*0001.jpg", cwd=road, code=2).err
    out.rename(tmp_path / "posted")
    assert "was lent as 'ada'" in shell("lend", "out", "ada", out, "*0001.jpg", cwd=road, code=2).err
    (tmp_path / "posted").rename(out)
    before = pictures(road)
    back.mkdir()
    (back / "20260509-reed-cutting-0001.XMP").write_text(RETURNED)
    (back / "20260509-reed-cutting-0004.jpg").write_bytes((out / "20260509-reed-cutting-0004.jpg").read_bytes())
    for number, name in ((5, "0005-bw.tif"), (6, "0006.jpg")):
        with Image.open(out / f"20260509-reed-cutting-000{number}.jpg") as image:
            ImageOps.grayscale(image).save(back / f"20260509-reed-cutting-{name}")
    (back / "holiday.jpg").write_bytes((out / "20260509-reed-cutting-0004.jpg").read_bytes())
    shell("tell", "*cutting-0001.jpg", "--caption", "Told meanwhile", cwd=road)
    looked = shell("lend", "back", "ada", back, "--dry-run", "--json", cwd=road).json
    assert (looked["with_words"], looked["with_instructions"], len(looked["renditions"]), len(looked["still_out"])) == (
        1,
        1,
        2,
        8,
    )
    receipt = shell("lend", "back", "ada", back, "--yes", "--json", cwd=road, code=1).json
    assert receipt["balanced"] and receipt["not_joined"] == [
        {"name": "holiday.jpg", "reason": "no copy that was lent is called so"}
    ]
    assert any("'Told meanwhile', and that stays" in one["what"] for one in receipt["findings"])
    frame = shell("show", "20260509-reed-cutting-0001.jpg", "--json", cwd=road).json
    assert (frame["believed"]["rating"], frame["believed"]["caption"]) == (5, "Told meanwhile")
    assert sorted(frame["believed"]["keywords"]) == ["mist", "reeds"]
    others_read(next((road / "pictures").rglob("*cutting-0001.jpg.xmp")), "<ed:Exposure>+0.5", "<xmp:Rating>5")
    after = pictures(road)
    new = {path.rpartition("/")[2] for path in after.keys() - before.keys()}
    assert {"20260509-reed-cutting-0005-bw.tif", "20260509-reed-cutting-0006-ada.jpg"} <= new
    roles = shell("show", "20260509-reed-cutting-0006.dng", "--json", cwd=road).json["made_of"]
    assert [one["role"] for one in roles if one["path"].endswith("0006-ada.jpg")] == ["rendition"]
    assert all(after[path] == content for path, content in before.items() if not path.endswith(".xmp"))
    again = shell("lend", "back", "ada", back, "--yes", cwd=road)
    assert "nothing new" in again.out and pictures(road) == after
    assert shell("lend", "list", "--json", cwd=road).json["lent"][0]["still_out"] == looked["still_out"]
    shell("page", tmp_path / "page", "--number", "6", "--shoot", "*Reed*", "--previews", cwd=road)
    (beside,) = (tmp_path / "page/previews").glob("*b.jpg")
    with Image.open(beside) as made, Image.open(beside.with_name(beside.name.replace("b.", "."))) as original:
        assert not is_colourful(made) and is_colourful(original)
    shell("takeback", str(receipt["words_receipt"]), cwd=road)
    assert shell("show", "20260509-reed-cutting-0001.jpg", "--json", cwd=road).json["believed"]["rating"] is None


@pytest.mark.parametrize(("first", "step"), [(1, 3), (2, 14), (3, 30)])
def test_lending_and_its_way_back_may_be_killed(
    shell: Shell, road: Path, tmp_path: Path, first: int, step: int
) -> None:
    out = tmp_path / "out"
    assert leave_at(shell, first, road, "lend", "out", "ada", out, "--shoot", "*Reed*")
    if not out.exists():
        shell("lend", "out", "ada", out, "--shoot", "*Reed*", cwd=road)
    assert len(json.loads((road / "companions/lent/ada.json").read_text())["frames"]) == 12
    for path in out.iterdir():
        with Image.open(path) as image:
            ImageOps.mirror(image).save(path.with_name("made.jpg"))
        path.with_name("made.jpg").replace(path)
    assert leave_at(shell, step, road, "lend", "back", "ada", out, "--yes")
    shell("lend", "back", "ada", out, "--yes", cwd=road, code=None)
    assert len(list((road / "pictures").rglob("*-ada.jpg"))) == 12
    assert shell("lend", "list", "--json", cwd=road).json["lent"][0]["still_out"] == []
    assert shell("verify", "library", "--json", cwd=road).json["balanced"]
