"""One door in: whatever comes is kept, known for what it is, mended by, and written only where it may be."""

import csv
import hashlib
import io
import random
import shutil
import sqlite3
import unicodedata
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from PIL import Image, ImageEnhance

from bramblemoor.frames.fields import FIELDS, TOLD
from bramblemoor.frames.kinds import KINDS
from bramblemoor.standins import cards
from bramblemoor.standins.drawing import draw, jpeg
from conftest import Shell, others_read, pictures

BEGINNINGS = {
    "psd": b"8BPS\0\1", "jxl": b"\xff\x0a", "mkv": b"\x1a\x45\xdf\xa3....matroska", "webm": b"\x1a\x45\xdf\xa3....webm",
    "wmv": bytes.fromhex("3026b2758e66cf11"), "x3f": b"FOVb", "jp2": b"\0\0\0\x0cjP  \r\n\x87\n", "exr": b"v/1\x01",
    "mxf": bytes.fromhex("060e2b34020501010d0102"), "r3d": b"\0\0\0\x20RED2", "crw": b"II\x1a\0\0\0HEAPCCDR", "mrw": b"\0MRM",
    "flac": b"fLaC", "wav": b"RIFF....WAVEfmt ", "avi": b"RIFF....AVI LIST", "insv": b"\0\0\0\x18ftypmp42",
}  # fmt: skip
EDITOR = "http://ns.editor.example/1.0/"


def packet(version: str, title: str = "") -> str:
    said = f'<dc:title><rdf:Alt><rdf:li xml:lang="x-default">{title}</rdf:li></rdf:Alt></dc:title>' if title else ""
    return (
        '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        f'<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:ed="{EDITOR}" ed:Exposure="{version}">'
        f"{said}</rdf:Description></rdf:RDF></x:xmpmeta>"
    )


def picture(seed: int, taken: str = "2026:05:09 10:00:00", camera: str = "Alderholt M7") -> bytes:
    exif = Image.Exif()
    exif[0x0110] = camera
    exif.get_ifd(0x8769)[0x9003] = taken
    return jpeg(draw("reeds", "day", seed), exif=exif)


def digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


@pytest.fixture
def library(shell: Shell, tmp_path: Path) -> Path:
    shell("new", "library")
    return tmp_path / "library"


def everything_in(library: Path) -> set[str]:
    """Digests of all that a library holds: its pictures, and what lies as it came in delivered/."""
    found = {digest(content) for content in pictures(library).values()}
    for packed in (library / "delivered").rglob("*.zip"):
        with zipfile.ZipFile(packed) as archive:
            found |= {digest(archive.read(name)) for name in archive.namelist()}
    return found


def of_many_kinds(folder: Path) -> dict[str, str]:
    """Ninety-odd files as they lie on cards and disks, of kinds that are known and not; by digest, their names."""
    chance, found = random.Random(36), {}
    folder.mkdir(parents=True)

    def put(name: str, content: bytes) -> None:
        (folder / name).write_bytes(content)
        found[digest(content)] = name

    endings = [ending for kind in KINDS for ending in kind.endings if kind.family != "sidecar"]
    for number, ending in enumerate(endings):
        put(f"F{number:03}.{ending.upper()}", BEGINNINGS.get(ending, b"garbage") + chance.randbytes(200 + number))
    for name in (
        "index.dat",
        "CLIP1.XML",
        "no ending",
        "notes.txt",
        "edit.pp3",
        "A.JPG.json",
        "~strange~.x!z",
        "é.bin",
        "A.WAV",
    ):
        put(name, chance.randbytes(300))
    for number, name in enumerate(("A.JPG", "B.jpg", "v.jpg")):
        put(name, picture(number))
    put("v.avi", b"not known")
    put("v.mp4", b"\0\0\0\x18ftypmp42" + chance.randbytes(90))
    put("ALONE.XMP", packet("+1").encode())
    put("B.jpg.xmp", packet("+2", "Bees").encode())
    assert len(found) >= 90
    return found


def by_unpacking(shell: Shell, library: Path, source: Path) -> str:
    return shell("unpack", "--from", source, "--dialect", "folders", "--json", cwd=library, code=1).out


def by_intake(shell: Shell, library: Path, source: Path) -> str:
    return shell(
        "intake", source, "--subject", "All", "--date", "2026-05-09", "--yes", "--json", cwd=library, code=None
    ).out


def by_stocktake(shell: Shell, library: Path, source: Path) -> str:
    shutil.copytree(source, library / "pictures/all")
    return shell("stocktake", cwd=library, code=None).out


def by_merging(shell: Shell, library: Path, source: Path) -> str:
    shell("new", library.parent / "road")
    by_stocktake(shell, library.parent / "road", source)
    return shell("merge", library.parent / "road", "--yes", "--json", cwd=library, code=None).out


@pytest.mark.parametrize("way", [by_unpacking, by_intake, by_stocktake, by_merging])
def test_whatever_comes_is_kept(
    shell: Shell, library: Path, tmp_path: Path, way: Callable[[Shell, Path, Path], str]
) -> None:
    """Of each file the very bytes are in the library afterwards, whichever way it came, and no content is there twice."""
    source = tmp_path / "source/DCIM"
    names = of_many_kinds(source)
    before = {path: path.read_bytes() for path in source.iterdir()}
    said = way(shell, library, source.parent)
    here = everything_in(library)
    # Of a sidecar whose picture came the library keeps a copy that has grown; from a library only that.
    grown = {"B.jpg.xmp", "ALONE.XMP"} if way is by_merging else {"B.jpg.xmp"} if way is by_stocktake else set()
    lost = [name for content, name in names.items() if content not in here and name not in grown]
    assert not [name for name in lost if name not in said], lost
    assert not lost or way is by_merging
    assert {path: path.read_bytes() for path in source.iterdir()} == before
    by_picture = [path for path in pictures(library) if path.endswith(".jpg.xmp")]
    assert any("ed:Exposure" in (library / path).read_text() for path in by_picture), "the editor's words stand beside"


def test_what_is_hurt_here_is_mended_by_what_comes(shell: Shell, library: Path, tmp_path: Path) -> None:
    """By a card, a library from the road, a folder, and a copy that comes back: never "here already" of what is not here."""
    content = {name: picture(number) for number, name in enumerate("abcd", 10)}
    for name, one in content.items():
        (library / f"pictures/{name}.jpg").write_bytes(one)
    shell("stocktake", cwd=library)
    shell("new", "road")
    (tmp_path / "road/pictures/x.jpg").write_bytes(content["a"])
    (tmp_path / "road/pictures/y.jpg").write_bytes(content["b"])
    shell("stocktake", cwd=tmp_path / "road")
    card = tmp_path / "card/DCIM"
    card.mkdir(parents=True)
    (card / "C.JPG").write_bytes(content["c"])
    (card / "D.JPG").write_bytes(content["d"])

    def hurt(gone: str, rotten: str) -> None:
        (library / f"pictures/{gone}.jpg").unlink()
        with (library / f"pictures/{rotten}.jpg").open("r+b") as file:
            file.seek(900)
            file.write(b"rot")

    hurt("a", "b")
    plan = shell("merge", tmp_path / "road", "--dry-run", "--json", cwd=library).json
    assert {(one["path"], one["state"]) for one in plan["mends"]} == {
        ("pictures/a.jpg", "missing"), ("pictures/b.jpg", "damaged"),
    }  # fmt: skip
    told = shell("merge", tmp_path / "road", "--yes", cwd=library).out
    assert "it was missing here, and is mended by" in told
    hurt("c", "d")
    shell("intake", card.parent, "--yes", cwd=library)
    assert {name: (library / f"pictures/{name}.jpg").read_bytes() for name in content} == content
    aside = [path.read_bytes() for path in (library / "set-aside").rglob("*.jpg")]
    assert len(aside) == 2 and all(b"rot" in one for one in aside), "what lay there is set aside, not destroyed"
    assert "nothing new" in shell("intake", card.parent, "--yes", cwd=library).out
    # A picture that was changed on the road since that library looked is not the one that it was.
    (tmp_path / "road/pictures/x.jpg").write_bytes(new := picture(99))
    shell("merge", tmp_path / "road", "--yes", cwd=library)
    assert new in pictures(library).values()


HOSTILE = (
    ("frames", "folder", "'../autostart'"), ("frames", "folder", "'/tmp/canary'"), ("frames", "folder", "'ledger'"),
    ("frames", "folder", "'pictures/../../x'"), ("frames", "folder", "x'ff00'"),
    ("files", "path", "'../../canary.jpg'"), ("files", "path", "'/etc/passwd'"), ("files", "bytes", "'many'"),
    ("files", "bytes", "-5"), ("files", "bytes", "9223372036854775807"), ("files", "mtime_ns", "'now'"),
    ("files", "width", "1.5"), ("files", "sha256", "'../..'"), ("files", "role", "'ledger'"), ("files", "media", "x'00ff'"),
    ("files", "former_name", "'../../x'"), ("claims", "field", "'nonsense'"), ("claims", "source", "'nobody'"),
    ("claims", "value", "'nan,nan'"), ("claims", "value", "x'ffff'"), ("albums", "path", "'../x.csv'"),
    ("albums", "title", "'../../x'"), ("album_frames", "frame", "77777"), ("culled", "bytes", "'x'"), ("frames", "shown", "5"),
)  # fmt: skip


@pytest.mark.parametrize("table, column, value", HOSTILE)
def test_a_hostile_library_is_no_way_out(shell: Shell, tmp_path: Path, table: str, column: str, value: str) -> None:
    """Each told field, in bad spellings and wrong types: refused or tamed in a sentence, and nothing outside is touched."""
    world = tmp_path / "world"
    (world / "deep").mkdir(parents=True)
    for name in ("home", "road"):
        shell("new", world / "deep" / name)
    home, road = world / "deep/home", world / "deep/road"
    (road / "pictures/o.jpg").write_bytes(picture(3))
    shell("stocktake", cwd=road)
    shell("tell", "o.jpg", "--title", "Road", "--position", "52.5,-1.25", cwd=road)
    shell("album", "make", "Road", "--number", "1", cwd=road, code=None)
    with closing(sqlite3.connect(road / "ledger/ledger.sqlite", isolation_level=None)) as db:
        for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
            db.execute(f"DROP TRIGGER {name}")
        if table == "culled":
            db.execute("INSERT INTO culled VALUES ('ab', 'x', 'pictures/x', '2026')")
        db.execute(f"UPDATE OR IGNORE {table} SET {column} = {value}")
    before = {path for path in world.rglob("*") if home not in path.parents}
    done = shell("merge", road, "--yes", cwd=home, code=None)
    assert done.code in (0, 1, 3) and "Traceback" not in done.err
    assert {path for path in world.rglob("*") if home not in path.parents} == before
    lies = {path.relative_to(home).parts[0] for path in home.rglob("*.jpg")}
    assert lies <= {"pictures"}
    shell("stocktake", cwd=home, code=None)
    assert shell("find", "--json", cwd=home).code == 0


def test_nothing_is_written_over_somebody_elses_sidecar_or_outside(shell: Shell, library: Path, tmp_path: Path) -> None:
    theirs = library / "pictures/Reed/o.jpg.xmp"
    theirs.parent.mkdir()
    theirs.write_text(packet("+9", "PRECIOUS"))
    shell("new", "road")
    (tmp_path / "road/pictures/Reed").mkdir()
    (tmp_path / "road/pictures/Reed/o.jpg").write_bytes(picture(4))
    shell("stocktake", cwd=tmp_path / "road")
    shell("tell", "o.jpg", "--title", "Road", cwd=tmp_path / "road")
    shell("merge", tmp_path / "road", "--yes", cwd=library)
    assert theirs.read_text() == packet("+9", "PRECIOUS") and (library / "pictures/Reed/o-2.jpg").is_file()
    # A list of what was lent is called by its file's name, whatever it says itself; damaged locations stop nothing.
    shell("lend", "out", "ada", tmp_path / "ada", "o-2.jpg", cwd=library)
    listed = library / "companions/lent/ada.json"
    listed.write_text(listed.read_text().replace('"ada"', '"../../../OUTSIDE"', 1))
    shell("lend", "back", "ada", tmp_path / "ada", "--yes", cwd=library, code=None)
    assert not list(tmp_path.rglob("OUTSIDE*"))
    (library / "companions/locations.toml").write_text("[[location")
    assert "locations.toml cannot be read" in shell("tell", "o-2.jpg", "--caption", "still told", cwd=library).err
    assert shell("show", "o-2.jpg", "--json", cwd=library).json["believed"]["caption"] == "still told"


def test_an_editors_packet_is_a_fact_in_itself(shell: Shell, library: Path, tmp_path: Path) -> None:
    """Placed though it says nothing else; a later one that differs only there takes its place, or is told where somebody has
    changed ours; and names are compared letter by letter first, however they are composed.
    """
    first, later = tmp_path / "first/p", tmp_path / "later/p"
    for folder, version in ((first, "+1"), (later, "+2")):
        folder.mkdir(parents=True)
        for number, name in enumerate(("a", "b", "c")):
            (folder / f"{name}.jpg").write_bytes(picture(number))
            (folder / f"{name}.jpg.xmp").write_text(packet(version))
    dialect = tmp_path / "d.toml"
    dialect.write_text(
        '[dialect]\nname = "mini"\n[entries]\npictures = ["p/*.jpg"]\n[names]\nsidecar = ["{folder}{name}.xmp"]\n'
    )
    shell("unpack", "--from", first.parent, "--dialect", dialect, cwd=library)
    place = next((library / "pictures").rglob("a.jpg")).parent
    others_read(place / "a.jpg.xmp", "Exposure")
    edited = place / "b.jpg.xmp"
    edited.write_text(edited.read_text().replace('ed:Exposure="+1"', 'ed:Exposure="+1" ed:ByHand="yes"'))
    shell("stocktake", cwd=library)
    shell("tell", "c.jpg", "--title", "Mine", cwd=library)
    told = shell("unpack", "--from", later.parent, "--dialect", dialect, cwd=library, code=1).out
    assert "it was changed here, and the service has sent another one" in told
    assert (
        'Exposure="+2"' in (place / "a.jpg.xmp").read_text()
        and "+1" in edited.read_text()
        and "ByHand" in edited.read_text()
    )
    assert "+2" in (place / "c.jpg.xmp").read_text() and "Mine" in (place / "c.jpg.xmp").read_text()
    shell("new", "other")
    spelled = tmp_path / "spelled/p"
    spelled.mkdir(parents=True)
    loose, tight = unicodedata.normalize("NFD", "é"), "é"
    (spelled / f"{loose}.JPG").write_bytes(picture(20))
    Image.open(io.BytesIO(picture(21))).save(spelled / f"{loose}.png")
    (spelled / f"{tight}.JPG.xmp").write_text(packet("+1", "Of the JPG"))
    for name, seed in (("I.JPG", 22), ("I.jpg", 23), ("I~touched.jpg", 24)):
        (spelled / name).write_bytes(picture(seed))
    edits = tmp_path / "e.toml"
    edits.write_text('[dialect]\nname = "mini"\n[entries]\npictures = ["p/**"]\n[names]\nrenditions = ["~touched"]\n')
    shell("unpack", "--from", spelled.parent, "--dialect", edits, cwd=tmp_path / "other", code=None)
    titles = {
        hit["path"].rpartition(".")[2]: hit["title"] or None
        for hit in shell("find", "é", "--json", cwd=tmp_path / "other").json["hits"]
    }
    assert titles == {"JPG": "Of the JPG", "png": None}
    home = next(hit["path"] for hit in shell("find", "--json", cwd=tmp_path / "other").json["hits"]
                if digest((tmp_path / "other" / hit["path"]).read_bytes()) == digest(picture(23)))  # fmt: skip
    roles = [one["role"] for one in shell("show", home, "--json", cwd=tmp_path / "other").json["made_of"]]
    assert roles.count("rendition") == 1


def test_reset_clocks_are_found_before_clocks_are_corrected(shell: Shell, library: Path, tmp_path: Path) -> None:
    card = tmp_path / "card/DCIM/100ALDER"
    card.mkdir(parents=True)
    for number in range(6):
        (card / f"ALD_{number + 1:04}.JPG").write_bytes(picture(number, f"2026:05:09 10:0{number}:00"))
    for number in range(6, 12):
        (card / f"ALD_{number + 1:04}.JPG").write_bytes(picture(number, f"1980:01:01 00:0{number - 6}:10"))
    plan = shell("intake", card.parents[1], "--clock", "M7=-1h", "--dry-run", "--json", cwd=library).json
    assert {one["begins"] for one in plan["shoots"]} == {"2026-05-09 09:00"} and "had been reset: 6" in str(
        plan["findings"]
    )
    assert "1979" not in str(plan)
    both = ("--clock", "M7=-1h", "--clock", "M7=2026-05-09T12:00")
    plan = shell("intake", card.parents[1], *both, "--dry-run", "--json", cwd=library).json
    assert not any("reset" in one["what"] for one in plan["findings"])
    assert (plan["shoots"][0]["begins"], plan["shoots"][0]["ends"]) == ("2026-05-09 09:00", "2026-05-09 12:05")
    # A second body of one model, in use around New Year, has a counter of its own.
    second = tmp_path / "party/DCIM/100ALDER"
    second.mkdir(parents=True)
    for number, taken in enumerate(("2026:03:09 10:00:00", "2026:03:09 10:01:00")):
        (second / f"ALD_{number + 200:04}.JPG").write_bytes(picture(number + 30, taken))
    for number, taken in enumerate(("2026:01:01 00:10:00", "2026:01:01 00:20:00")):
        (second / f"ALD_{number + 4000:04}.JPG").write_bytes(picture(number + 40, taken))
    plan = shell("intake", second.parents[1], "--split", "day", "--dry-run", "--json", cwd=library).json
    assert not any("reset" in one["what"] for one in plan["findings"]) and len(plan["shoots"]) == 2


def test_what_the_program_doubts_is_no_decision(shell: Shell, library: Path, tmp_path: Path) -> None:
    """A black frame comes in, marked; only what somebody said to leave lets a card be erased without it."""
    card = tmp_path / "card/DCIM"
    card.mkdir(parents=True)
    (card / "A.JPG").write_bytes(picture(1))
    (card / "BLACK.JPG").write_bytes(jpeg(cards.shown("black", "", 5)))
    (card / "FILM1.R3X").write_bytes(random.Random(1).randbytes(5000))
    (card / "link.jpg").symlink_to("A.JPG")
    shell("intake", card.parent, "--yes", cwd=library, code=1)
    assert shell("find", "--marked", "--json", cwd=library).json["found"] == 1
    assert {digest(path.read_bytes()) for path in card.iterdir()} <= everything_in(library)
    for name, site, medium in (("heron", "studio", "ssd"), ("otter", "cottage", "hdd")):
        (tmp_path / name).mkdir()
        shell(
            "depot", "add", name, tmp_path / name, "--site", site, "--medium", medium, "--stand-in", name, cwd=library
        )
    shell("backup", cwd=library)
    assert "could not be looked at" in shell("erasable", card.parent, cwd=library, code=1).out, "a link is never a yes"
    (card / "link.jpg").unlink()
    assert shell("erasable", card.parent, "--json", cwd=library).json["erasable"]
    (card / "NEW.R3X").write_bytes(b"not here")
    assert not shell("erasable", card.parent, "--json", cwd=library, code=1).json["erasable"]
    shell("intake", card.parent, "--leave", "NEW.R3X", "--yes", cwd=library)


def test_edited_versions_and_late_dates_find_their_place(shell: Shell, library: Path) -> None:
    place = library / "pictures/Fen"
    place.mkdir()
    (place / "x.jpg").write_bytes(picture(50))
    with Image.open(place / "x.jpg") as image:
        ImageEnhance.Brightness(image).enhance(1.15).save(place / "x-Edit.tif")
        ImageEnhance.Color(image).enhance(1.4).save(place / "x_retouched.jpg", quality=85)
    (place / "x_other.jpg").write_bytes(jpeg(draw("lanterns", "night", 9)))
    told = shell("stocktake", cwd=library, code=1).out
    assert "it is an edited version of x.jpg" in told
    roles = {
        Path(one["path"]).name: one["role"] for one in shell("show", "x.jpg", "--json", cwd=library).json["made_of"]
    }
    assert roles == {"x.jpg": "original", "x-Edit.tif": "rendition", "x_retouched.jpg": "rendition"}
    undated = library / "pictures/undated"
    undated.mkdir()
    (undated / "late.png").write_bytes(b"")
    Image.new("RGB", (60, 40), "teal").save(undated / "late.png")
    shell("stocktake", cwd=library)
    assert "No frame in pictures/undated" in shell("shoot", "by-date", cwd=library).out
    shell("tell", "late.png", "--taken", "2020-05-01T10:00", cwd=library)
    assert "2020/2020-05/late.png" in shell("shoot", "by-date", "--dry-run", cwd=library).out
    shell("shoot", "by-date", "--yes", cwd=library)
    assert (library / "pictures/2020/2020-05/late.png").is_file()
    shell("takeback", cwd=library)
    assert (undated / "late.png").is_file()


def test_each_field_of_the_table_is_in_all_that_is_told(shell: Shell, library: Path) -> None:
    """What can be told of a frame stands in its sidecar, the table for a spreadsheet, its document, and what would travel."""
    (library / "pictures/a.jpg").write_bytes(picture(60))
    shell("stocktake", cwd=library)
    shell(
        "tell", "a.jpg", "--title", "Swathe", "--caption", "Bundles", "--keyword", "reeds", "--person", "Ada",
        "--location", "Fen",
        "--position", "52.5,-1.25", "--creator", "Ada B", "--rights", "(c) Ada", "--terms", "No print", "--label", "Green",
        "--rating", "4", "--favourite", cwd=library,
    )  # fmt: skip
    told = {
        "title": "Swathe", "caption": "Bundles", "keywords": "reeds", "people": "Ada", "location": "Fen", "position": "52.5",
        "creator": "Ada B", "rights": "(c) Ada", "terms": "No print", "label": "Green", "rating": "4", "favourite": "yes",
        "taken": "2026-05-09", "camera": "Alderholt M7",
    }  # fmt: skip
    row = next(csv.DictReader(io.StringIO(shell("find", "--csv", cwd=library).out)))
    believed = shell("show", "a.jpg", "--json", cwd=library).json["believed"]
    text = (library / "pictures/a.jpg.xmp").read_text()
    for field in FIELDS:
        if field.name not in told:
            continue
        assert told[field.name] in row[field.headings[0]], field.name
        assert field.name in believed and believed[field.name] not in ("", None, [], False), field.name
        assert all(f"{one.name}" in text for one in field.properties), field.name
    assert {field.name for field in TOLD} - set(told) == {"faces"}
