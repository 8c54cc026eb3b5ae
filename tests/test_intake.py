"""Taking in cards and phones: planned, named, numbered, copied in one reading, and finished when it was interrupted."""

import random
import shutil
import sqlite3
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

from bramblemoor.frames.pixels import misfire, misfire_in
from bramblemoor.standins import cards
from bramblemoor.standins.drawing import SCENES, draw, jpeg
from conftest import LEAVE, Result, Shell, leave_at, pictures, valid

FEN = ("--subject", "Reed cutting", "--location", "Saltby Fen")
SHOOT = "pictures/2026/2026-05-09 Reed cutting (Saltby Fen)"


@pytest.fixture(scope="session")
def drawn(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The stand-in cards and the phone, drawn once."""
    folder = tmp_path_factory.mktemp("drawn")
    for name, write in cards.CARDS.items():
        write(folder / name)
    return folder


@pytest.fixture
def card(drawn: Path, tmp_path: Path) -> Iterator[Path]:
    """A card of one's own; nothing on it may be changed by anything."""
    place = tmp_path / "card"
    shutil.copytree(drawn / "card", place)
    before = everything(place)
    yield place
    assert everything(place) == before


def everything(folder: Path) -> dict[str, tuple[bytes, int]]:
    return {
        str(path.relative_to(folder)): (path.read_bytes(), path.stat().st_mtime_ns)
        for path in folder.rglob("*")
        if path.is_file()
    }


def names(library: Path, folder: str = SHOOT) -> list[str]:
    return sorted(path.name for path in (library / folder).iterdir())


def take_in(shell: Shell, library: Path, *arguments: str | Path, code: int | None = 0) -> Result:
    return shell("intake", *arguments, "--yes", cwd=library, code=code)


@pytest.fixture
def library(shell: Shell, tmp_path: Path) -> Path:
    """An empty one."""
    shell("new", "library")
    return tmp_path / "library"


@pytest.fixture
def depots(shell: Shell, library: Path) -> list[Path]:
    found = []
    for name, site, medium in (("heron", "studio", "ssd"), ("otter", "cottage", "hdd")):
        place = library.parent / name
        place.mkdir()
        shell(
            "depot", "add", name, place, "--site", site, "--medium", medium, "--stand-in", f"{name}-{medium}", cwd=library
        )  # fmt: skip
        found.append(place)
    return found


def test_a_card_becomes_shoots_with_a_copy_at_each_depot(
    shell: Shell, library: Path, depots: list[Path], card: Path
) -> None:
    """One reading: the library and both depots get the card; pairs, clip, note and sidecar stay under one number."""
    wanted: list[str | Path] = [
        "intake", card, "--subject", "Reed cutting", "--subject", "Lantern walk", "--location", "Saltby Fen",
        "--location", "Withymere", "--split", "6h",
    ]  # fmt: skip
    plan = shell(*wanted, "--dry-run", "--json", cwd=library).json
    assert plan["came_in"]["frames"] == 28 and plan["to_come"]["frames"] == 27
    assert {one["name"].rpartition("/")[2] for one in plan["misfires"]} == set(cards.CARD_MISFIRES)
    wanted += LEAVE[:-2]  # the misfires, which a person has seen in that list; not the camera's own list
    plan = shell(*wanted, "--dry-run", "--json", cwd=library).json
    left = {one["name"].rpartition("/")[2]: one["state"] for one in plan["left_out"]}
    assert left == dict.fromkeys(cards.CARD_MISFIRES, "told to leave") | {"COPY0003.JPG": "twice"}
    assert not plan["misfires"] and "kind that is not known" in plan["findings"][-1]["what"]
    assert not list((library / "pictures").iterdir())
    assert "Say --yes" in shell(*wanted, cwd=library, code=2).err
    done = take_in(shell, library, *wanted[1:], "--second-copy", "heron", "--second-copy", "otter")
    assert "The books balance" in done.out
    assert len([name for name in names(library) if not name.endswith(".xmp")]) == 12 + 3 + 1
    assert (
        next((library / "pictures").rglob(cards.CARD_INDEX)).read_bytes()
        == (card / "MISC" / cards.CARD_INDEX).read_bytes()
    )
    assert {f"20260509-reed-cutting-0006{ending}" for ending in (".dng", ".jpg", ".wav", ".dng.xmp")} < set(
        names(library)
    )
    lanterns = names(library, "pictures/2026/2026-05-09 Lantern walk (Withymere)")
    assert {"20260509-lantern-walk-0005.jpg", "20260509-lantern-walk-0005.mp4"} < set(lanterns)
    for depot in depots:
        valid(depot)
        assert pictures(depot / "data") == pictures(library)
    standing = shell("standing", "--json", cwd=library, code=None).json
    assert standing["states"]["sound"] == standing["frames"] == 24
    known = shell("show", "20260509-reed-cutting-0009.dng", "--json", cwd=library).json
    assert known["believed"]["title"] == "Last swathe of the morning" and known["believed"]["location"] == "Saltby Fen"
    assert (
        known["believed"]["taken"] == "2026-05-09T07:24:56+01:00"
    )  # the raw's clock, with the zone that its JPEG tells
    delivered = next((library / "delivered/intake").rglob("sidecars.zip"))
    with zipfile.ZipFile(delivered) as packed:
        assert packed.read("DCIM/100ALDER/ALD_9998.XMP") == (card / "DCIM/100ALDER/ALD_9998.XMP").read_bytes()
    sidecar = (library / SHOOT / "20260509-reed-cutting-0009.dng.xmp").read_text()
    assert "em:Exposure" in sidecar and "ALD_9998.DNG" in sidecar  # the editor's work, and the former name
    again = shell(*wanted, "--yes", cwd=library)
    assert "nothing new" in again.out and "in the library already" in again.out


def test_a_second_card_goes_on_with_the_numbers_by_its_own_corrected_clock(
    shell: Shell, library: Path, card: Path, drawn: Path
) -> None:
    """Two cards with the same names; the second camera's clock is an hour behind, and its last picture is cut short."""
    take_in(shell, library, card, *FEN, *LEAVE)
    second = drawn / "second-card"
    assert (
        "cameras here: Kestrelway Pocket 4"
        in shell("intake", second, *FEN, "--clock", "M7=+1h", cwd=library, code=2).err
    )
    done = take_in(shell, library, second, *FEN, "--clock", "pocket=+1h", code=1)
    assert "breaks off before its end" in done.out
    new = [name for name in names(library) if name.endswith(".jpg")][-9:]
    assert new[0] == "20260509-reed-cutting-0024.jpg" and new[-1] == "20260509-reed-cutting-0032.jpg"
    believed = shell("show", new[0], "--json", cwd=library).json["believed"]
    assert believed["taken"] == "2026-05-09T06:20:00" and believed["camera"] == "Kestrelway Pocket 4"


def test_a_phone_by_month_and_only_what_is_new(shell: Shell, library: Path, drawn: Path, tmp_path: Path) -> None:
    phone = tmp_path / "phone"
    shutil.copytree(drawn / "phone", phone)
    by_month = ("--by-month", "--albums", "--device", "Merrow")
    take_in(shell, library, phone, *by_month, "--folder", "DCIM/*")
    assert names(library, "pictures/2026/2026-03")[0] == "20260321_110400.jpg"
    rows = (library / "albums/Camera.csv").read_text().splitlines()
    assert len(rows) == 1 + 9 and not (library / "albums/From Tilde.csv").exists()
    (phone / "DCIM/Camera/20260510_080000.jpg").write_bytes(jpeg(draw("owls", "day", 77)))
    plan = shell("intake", phone, *by_month, "--only-new", "--dry-run", "--json", cwd=library).json
    assert plan["to_come"]["frames"] == 1 + 3 and len(plan["already"]) == 9
    take_in(shell, library, phone, *by_month, "--only-new")
    assert "nothing new" in shell("intake", phone, *by_month, "--only-new", cwd=library).out
    assert shell("find", "--album", "camera", "--json", cwd=library).json["found"] == 10


def test_templates_are_settable_and_strange_subjects_are_told(shell: Shell, library: Path, drawn: Path) -> None:
    settings = library / "bramblemoor.toml"
    told = settings.read_text()
    settings.write_text(
        told.replace('frame = "{stamp}-{slug}-{number}"', 'frame = "{name} {number}"').replace(
            'shoot = "{year}/{date} {subject}[ ({location})]"', 'shoot = "{year}/{month}/[{location} - ]{subject}"'
        )
    )
    plan = shell("intake", drawn / "second-card", "--subject", "Fen: AC/DC?", "--dry-run", cwd=library)
    assert "'Fen: AC/DC?' becomes 'Fen_ AC_DC_'" in plan.out and "ALD_9991 0001.jpg" in plan.out
    assert "2026/05/Fen_ AC_DC_" in plan.out
    settings.write_text(told.replace("{stamp}-{slug}", "{stmp}-{slug}"))
    failed = shell("intake", drawn / "second-card", "--subject", "Reeds", "--dry-run", cwd=library, code=3)
    assert "has {stmp}, which means nothing" in failed.err and "[naming] frame" in failed.err


@pytest.mark.parametrize(
    "arguments, said",
    [
        (("--by-month", "--subject", "Reeds"), "no shoot"),
        (("--subject", "a", "--subject", "b"), "one shoot there"),
        (("--subject", "a", "--subject", "b", "--subject", "c", "--split", "6h"), "2026-05-09 21:20"),
        (("--subject", "a", "--split", "noon"), "parts no shoots"),
        (("--subject", "a", "--date", "2026-5"), "no day"),
        (("--subject", "a", "--leave", "ALD_1111*"), "No frame there fits"),
        (("--subject", "a", "--clock", "M7=an hour"), "how far it is off"),
        (("--subject", "a", "--folder", "Nowhere"), "DCIM/100ALDER"),
        (("--subject", "a", "--second-copy", "heron"), "no depot"),
    ],
)
def test_what_cannot_be_is_refused_with_the_way_on(
    shell: Shell, library: Path, drawn: Path, arguments: tuple[str, ...], said: str
) -> None:
    failed = shell("intake", drawn / "card", *arguments, "--yes", cwd=library, code=None)
    assert failed.code in (2, 3) and said in failed.err
    assert not list((library / "pictures").iterdir()) and not (library / "incoming/intake").exists()


def test_sources_that_are_none(shell: Shell, library: Path, drawn: Path) -> None:
    assert "no folder" in shell("intake", library.parent / "nothing", *FEN, cwd=library, code=2).err
    assert "in the library itself" in shell("intake", library / "pictures", *FEN, cwd=library, code=2).err
    assert "The library lies in" in shell("intake", library.parent, *FEN, cwd=library, code=2).err


def test_counters_that_begin_again_and_a_clock_that_was_reset(shell: Shell, library: Path, tmp_path: Path) -> None:
    """Frames of one second stay in the order of the counter, over 9999; a reset clock is told, and put right by one word."""
    folder = tmp_path / "card/DCIM/100ALDER"
    folder.mkdir(parents=True)
    shots = [(9998, "2026:05:09 10:00:00"), (9999, "2026:05:09 10:00:01"), (1, "2026:05:09 10:00:01")]
    shots += [(2, "2000:01:01 00:00:10"), (3, "2000:01:01 00:05:10")]
    for number, taken in shots:
        exif = Image.Exif()
        exif[0x0110] = "Alderholt M7"
        exif.get_ifd(0x8769)[0x9003] = taken
        (folder / f"ALD_{number:04}.JPG").write_bytes(jpeg(draw("reeds", "day", number), exif=exif))
    plan = shell("intake", tmp_path / "card", *FEN, "--dry-run", "--json", cwd=library).json
    assert [one["was"][-8:-4] for one in plan["takes"]] == ["9998", "9999", "0001", "0002", "0003"]
    assert "its clock had been reset: 2 of its frames" in plan["findings"][0]["what"]
    again = shell(
        "intake", tmp_path / "card", *FEN, "--clock", "M7=2026-05-09T09:00", "--dry-run", "--json", cwd=library
    ).json  # fmt: skip
    assert [one["was"][-8:-4] for one in again["takes"]][:2] == ["0002", "0003"]
    assert not again["findings"] and again["shoots"][0]["begins"] == "2026-05-09 09:00"


def test_one_subject_in_another_case_is_the_same_shoot(shell: Shell, library: Path, card: Path, drawn: Path) -> None:
    take_in(shell, library, card, *FEN, *LEAVE, "--split", "6h")
    take_in(shell, library, drawn / "second-card", "--subject", "REED cutting", "--location", "saltby fen", code=1)
    assert len(list((library / "pictures/2026").iterdir())) == 1


def test_killed_anywhere_the_same_command_finishes(
    shell: Shell, library: Path, depots: list[Path], card: Path, tmp_path: Path
) -> None:
    """Killed at some of the calls that change files, then given once more: as if nothing had been."""
    wanted: tuple[str | Path, ...] = ("intake", card, *FEN, *LEAVE, "--second-copy", "heron", "--yes")
    shell(*wanted, cwd=library)
    names_there = {path for path in pictures(library) if not path.endswith(".xmp")}
    truth = {path: content for path, content in pictures(library).items() if path in names_there}
    for number, moment in enumerate((20, 75, 130)):
        place = tmp_path / f"again-{number}"
        place.mkdir()
        shell("new", "lib", cwd=place)
        (place / "heron").mkdir()
        shell(
            "depot", "add", "heron", place / "heron", "--site", "studio", "--medium", "ssd", "--stand-in", "h-ssd",
            cwd=place / "lib",
        )  # fmt: skip
        assert leave_at(shell, moment, place / "lib", *wanted)
        shell(*wanted, cwd=place / "lib")
        there = pictures(place / "lib")
        assert {path: content for path, content in there.items() if not path.endswith(".xmp")} == truth
        assert not (place / "lib/incoming/intake").exists()
        with sqlite3.connect(place / "lib/ledger/ledger.sqlite") as db:
            assert db.execute(
                "SELECT count(*), count(DISTINCT path) FROM files WHERE role = 'original'"
            ).fetchone() == (23, 23)
        valid(place / "heron")
        assert pictures(place / "heron/data") == there
        assert "nothing new" in shell(*wanted, cwd=place / "lib").out


def test_what_got_a_name_behind_a_killed_intake_keeps_it(shell: Shell, library: Path, card: Path) -> None:
    """Whether it is known to the ledger or not: the frame that was to have the name is told, and taken in by the next intake."""
    wanted: tuple[str | Path, ...] = ("intake", card, *FEN, *LEAVE, "--yes")
    assert leave_at(shell, 20, library, *wanted)
    folder = library / SHOOT
    folder.mkdir(parents=True, exist_ok=True)
    strangers = [folder / f"20260509-reed-cutting-00{number}.jpg" for number in (20, 21)]
    strangers[0].write_bytes(b"somebody's")
    shell("stocktake", cwd=library, code=None)
    strangers[1].write_bytes(b"somebody's, too")
    told = shell(*wanted, "--json", cwd=library, code=1).json
    assert sum("is another file now" in one["reason"] for one in told["left_out"]) == 2
    assert [path.read_bytes() for path in strangers] == [b"somebody's", b"somebody's, too"]
    shell("intake", card, *FEN, *LEAVE, "--yes", "--json", cwd=library)
    there = set(pictures(library).values())
    shots = [path for path in card.rglob("*.JPG") if path.read_bytes() not in there]
    assert len(shots) == 3  # the misfires; what is twice there has its content here


def test_what_is_new_beside_a_known_picture_joins_it(shell: Shell, library: Path, drawn: Path, tmp_path: Path) -> None:
    card = tmp_path / "card"
    shutil.copytree(drawn / "card", card)
    take_in(shell, library, card, *FEN, *LEAVE)
    picture = next(path for path in sorted(card.rglob("*.JPG")) if path.read_bytes() in pictures(library).values())
    picture.with_suffix(".WAV").write_bytes(b"RIFF\x24\0\0\0WAVEfmt ")
    picture.with_suffix(".XMP").write_text(
        "<x:xmpmeta xmlns:x='adobe:ns:meta/'><rdf:RDF xmlns:rdf='http://www.w3.org/1999/02/22-rdf-syntax-ns#'>"
        "<rdf:Description xmlns:ed='http://ns.editor.example/1.0/' ed:Exposure='+1'/></rdf:RDF></x:xmpmeta>"
    )
    told = take_in(shell, library, card, *FEN, *LEAVE, "--json").json
    assert told["balanced"] and told["kept"][0]["amount"]["files"] == 2
    here = next(path for path, content in pictures(library).items() if content == picture.read_bytes())
    roles = {one["path"]: one["role"] for one in shell("show", here, "--json", cwd=library).json["made_of"]}
    assert roles[here.rpartition(".")[0] + ".wav"] == "voice note"
    assert "ed:Exposure" in (library / f"{here}.xmp").read_text()
    picture.with_suffix(".XMP").unlink()
    copies = [picture.with_name(name) for name in ("COPY0001.JPG", "COPY0002.JPG")]
    for number, copy in enumerate(copies):
        shutil.copy2(picture, copy)
        copy.with_suffix(".MP3").write_bytes(b"ID3" + bytes([number]) * 40)
    take_in(shell, library, card, *FEN, *LEAVE)
    notes = [path for path in pictures(library) if path.endswith(".mp3")]
    assert len({pictures(library)[path] for path in notes}) == 2, "two notes that want one name are both kept"
    assert "There is nothing new" in take_in(shell, library, card, *FEN, *LEAVE).out


@pytest.mark.parametrize("first", ["one", "two"])
def test_what_the_other_slot_holds_comes_to_its_frame(
    shell: Shell, library: Path, drawn: Path, tmp_path: Path, first: str
) -> None:
    second = "two" if first == "one" else "one"
    for ending, slot in ((".DNG", "one"), (".JPG", "two")):
        for path in sorted((drawn / "card/DCIM").rglob(f"*{ending}")):
            if path.with_suffix(".DNG").exists() or "ALD_9989" in path.name:
                (tmp_path / slot / "DCIM/100ALDER").mkdir(parents=True, exist_ok=True)
                shutil.copy2(path, tmp_path / slot / "DCIM/100ALDER" / path.name)
    take_in(shell, library, tmp_path / first, *FEN)
    assert leave_at(shell, 9, library, "intake", tmp_path / second, *FEN, "--yes")
    told = take_in(shell, library, tmp_path / second, *FEN, "--json", code=None).json
    assert told["balanced"]
    frames = shell("find", "--json", cwd=library).json["hits"]
    assert len(frames) == 4  # three raws, and the JPEG that has none
    for one in frames:
        files = shell("show", one["path"], "--json", cwd=library).json["made_of"]
        kinds = {Path(file["path"]).suffix for file in files if file["role"] in ("original", "rendition")}
        assert kinds == ({".jpg"} if "9989" in files[0].get("former_name", "") else {".jpg", ".dng"})
        assert len({Path(file["path"]).name.partition(".")[0] for file in files}) == 1, "all under one number"
    for slot in (first, second):
        assert "There is nothing new" in take_in(shell, library, tmp_path / slot, *FEN).out


def test_misfires_and_what_is_none(tmp_path: Path) -> None:
    """Of 120 misfires all are found, and of 240 pictures of lanterns in the night and barges in fog none is taken for one."""
    chance = random.Random(20260509)
    wrong: list[Any] = []
    for number in range(120):
        kind = ("black", "blown out", "blank")[number % 3]
        found = misfire(cards.shown(kind, "", number, chance.choice(((300, 200), (360, 240)))))
        wrong += [] if found is not None and found.kind in (kind, "black") else [(kind, number, found)]
    for number in range(240):
        kind = ("one lantern", "fog", "lanterns", "barge")[number % 4]
        image = cards.shown(
            kind, "night" if kind == "lanterns" else "grey", number, chance.choice(((300, 200), (360, 240)))
        )
        if kind in ("lanterns", "barge"):  # very dark, or in fog
            image = (
                image.point(lambda tone: tone // 5)
                if kind == "lanterns"
                else _fogged(image, chance.uniform(0.85, 0.95))
            )
        found = misfire(image)
        wrong += [] if found is None else [(kind, number, found)]
    for number in range(100):  # nights, fog and high key, in which all that there is drowns in noise or light
        pixels = np.asarray(
            draw(("reeds", "lanterns", "barge", "owls")[number % 4], ("day", "night")[number % 2], number), float
        )
        noise = np.random.default_rng(number).normal(0, 3, pixels.shape)
        for what, tones in (
            ("dark", pixels * 0.1), ("night", pixels * 0.05 + noise), ("fog", pixels * 0.08 + 215),
            ("pale", 255 - (255 - pixels) * 0.12),
        ):  # fmt: skip
            found = misfire(Image.fromarray(np.clip(tones, 0, 255).astype(np.uint8)))
            wrong += [] if found is None else [(what, number, found)]
    assert not wrong
    scene = next(iter(SCENES))
    (tmp_path / "whole.jpg").write_bytes(jpeg(draw(scene, "day", 1)))
    assert misfire_in(tmp_path / "whole.jpg") is None


def _fogged(image: Image.Image, share: float) -> Image.Image:
    return Image.blend(image, Image.new("RGB", image.size, (222, 224, 226)), share)
