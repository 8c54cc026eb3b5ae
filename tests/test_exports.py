"""Reading exports: dialects and their forms, sidecars that come along, names of frames' files, second orders."""

import json
import struct
import subprocess
import zipfile
import zlib
from pathlib import Path
from typing import Any

import pytest

from bramblemoor.exports.containers.zip import ZipPart
from bramblemoor.exports.dialect import load_dialect, read_dialect
from bramblemoor.exports.documents import BrokenDocument
from bramblemoor.exports.records import read_albums, read_sidecar
from bramblemoor.standins.drawing import draw, jpeg
from conftest import Shell, check, pictures, serving

PICTURE = jpeg(draw("owls", "dusk", 3, (96, 64)))
THRUSHFIELD = load_dialect("thrushfield")
FOREIGN = b"""<x:xmpmeta xmlns:x="urn:any:wrapper"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:ed="urn:editor:" ed:exposure="+0.3"><ed:mask>9 7</ed:mask></rdf:Description>
</rdf:RDF></x:xmpmeta>"""


def slip(ref: str, name: str, **more: Any) -> bytes:
    return json.dumps({"item": {"ref": ref, "filename": name}, "words": {"heading": f"Title of {ref}"}} | more).encode()


def pack(folder: Path, entries: dict[str, bytes], order: str = "TFA", part: str = "1of1") -> Path:
    folder.mkdir(exist_ok=True)
    path = folder / f"thrushfield-{order}-{part}.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in entries.items():
            archive.writestr(name, content)
    return path


def test_what_thrushfields_entries_are() -> None:
    kinds = {
        "contents.json": "index", "labels/Owls _ water/label.json": "album", "slips/A_jpg.slip": "sidecar",
        "stream/A.jpg": "picture", "labels/Owls _ water/A.jpg": "picture", "read-me.txt": "other",
        "stream/deep/A.jpg": "other", "stream/A.jpg.xmp": "sidecar", "labels/a/b/c.jpg": "other", "x/contents.json": "other",
    }  # fmt: skip
    assert {name: THRUSHFIELD.kind_of(name) for name in kinds} == kinds
    assert THRUSHFIELD.is_copy("labels/A/B.jpg") and not THRUSHFIELD.is_copy("stream/B.jpg")
    assert THRUSHFIELD.sidecar_names("stream/a.b.jpg") == ["slips/a_b_jpg.slip"]
    touched = THRUSHFIELD.readings("stream/A{2}-touched.jpg")[0]
    assert (touched.stem, touched.number, touched.suffix, touched.ending) == ("A", "2", "-touched", ".jpg")
    assert THRUSHFIELD.readings("stream/-touched.jpg")[0].suffix == ""
    match = THRUSHFIELD.part_pattern.fullmatch("thrushfield-TF7Q2-03of12.zip")
    assert match and (match["order"], int(match["number"]), int(match["total"])) == ("TF7Q2", 3, 12)


def test_forms_of_fields() -> None:
    dialect = read_dialect(
        """
        [dialect]
        name = "made-up"
        [entries]
        pictures = ["*"]
        [sidecar]
        reference = "/id"
        [sidecar.fields]
        title = { at = "/a~1b/0", form = "html" }
        taken = { at = ["/when", "/made"], form = "epoch-seconds" }
        keyword = { at = "/tags", separator = "," }
        person = { at = "/who", each = "/name/full" }
        favourite = { at = "/liked", form = "flag" }
        caption = { at = "/note", unknown = ["n/a"] }
        quality = { at = "/whole", means = { false = "reduced" } }
        [sidecar.position]
        latitude = "/at/0"
        longitude = "/at/1"
        """,
        "made-up",
    )

    def said(document: object) -> tuple[dict[str, list[str]], tuple[str, ...]]:
        (read,) = read_sidecar(json.dumps(document).encode(), "x.json", dialect)
        values: dict[str, list[str]] = {}
        for claim in read.claims:
            assert claim.source == "service"
            values.setdefault(claim.field, []).append(claim.value)
        return values, read.troubles

    whole, troubles = said(
        {
            "a/b": ["Rope &amp; <i>"], "when": -86400, "tags": "reeds, , water ", "liked": True, "at": ["52.5", -1.25],
            "who": [{"name": {"full": "Ada"}}, {"name": {}}, {}], "note": "n/a", "id": "R1", "whole": False,
        }
    )  # fmt: skip
    assert troubles == () and whole == {
        "title": ["Rope & <i>"], "taken": ["1969-12-31T00:00:00Z"], "keyword": ["reeds", "water"], "person": ["Ada"],
        "favourite": ["yes"], "position": ["52.500000,-1.250000"], "quality": ["reduced"],
    }  # fmt: skip
    sentinels: tuple[Any, ...] = (
        {"when": 0},
        {"at": [0, 0]},
        {"at": [None, 1]},
        {"liked": 0},
        {"note": None},
        {"tags": []},
        [],
        "text",
        7,
        None,
    )
    for sentinel in sentinels:
        assert said(sentinel) == ({}, ())
    for odd, field in (
        ({"when": "soon"}, "taken"),
        ({"when": 10**30}, "taken"), ({"at": [{}, 1]}, "position"), ({"liked": "often"}, "favourite"),
        ({"who": "Ada"}, "person"), ({"note": {"a": 1}}, "caption"), ({"at": [95, 1]}, "position"),
    ):  # fmt: skip
        values, troubles = said(odd)
        assert values == {} and (field in troubles[0] if field else True), (odd, troubles)


def test_documents_in_odd_encodings() -> None:
    for content, title in (
        (b'\xef\xbb\xbf{"words": {"heading": "BOM"}}', "BOM"),
        ('{"words": {"heading": "Größe"}}'.encode("latin-1"), "Größe"),
        (b'{"words": {"heading": "\\ud83e\\udeb5 log"}}', "🪵 log"),
        (b'{"words": {"heading": "lone \\ud83e half"}}', "lone ? half"),
    ):
        (read,) = read_sidecar(content, "a.slip", THRUSHFIELD)
        assert [claim.value for claim in read.claims] == [title] and not read.troubles
    with pytest.raises(BrokenDocument):
        list(read_albums(b'{"about": "no title"}', THRUSHFIELD))
    (album,) = read_albums(b'{"heading": "A", "label": "L", "order": ["x", 7]}', THRUSHFIELD)
    assert (album.title, album.reference, album.order) == ("A", "L", ("x", "7"))


def test_names_of_old_and_odd_archives(tmp_path: Path) -> None:
    path = pack(tmp_path / "p", {"stream/a.jpg": b"1"})
    content = path.read_bytes()
    latin = content.replace(b"stream/a.jpg", b"stream/\x84.jpg")  # CP437 has ä there
    path.write_bytes(latin)
    assert [entry.name for entry in ZipPart(path).entries()] == ["stream/ä.jpg"]
    name = "stream/🪵.jpg".encode()
    extra = struct.pack("<HHBI", 0x7075, 5 + len(name), 1, zlib.crc32(b"stream/b.jpg")) + name
    with zipfile.ZipFile(path, "w") as archive:
        info = zipfile.ZipInfo("stream/b.jpg")
        info.extra = extra
        archive.writestr(info, b"2")
        info = zipfile.ZipInfo("stream/c.jpg")
        info.extra = extra  # of another name: its CRC does not fit, so it does not count
        archive.writestr(info, b"3")
    assert [entry.name for entry in ZipPart(path).entries()] == ["stream/🪵.jpg", "stream/c.jpg"]


def test_a_delivered_sidecar_grows_beside_the_picture_only(shell: Shell, tmp_path: Path) -> None:
    pack(
        tmp_path / "parcel",
        {"stream/A.jpg": PICTURE, "stream/A.jpg.xmp": FOREIGN, "slips/A_jpg.slip": slip("R1", "A.jpg")},
    )
    shell("new", "library")
    assert shell("unpack", "--from", "parcel", "--library", "library", "--json").json["balanced"]
    beside = next((tmp_path / "library/pictures").rglob("A.jpg.xmp"))
    first = beside.read_bytes()
    assert b'ed:exposure="+0.3"' in first and b"<ed:mask>9 7</ed:mask>" in first and b"Title of R1" in first
    with zipfile.ZipFile(next((tmp_path / "library/delivered").rglob("*.zip"))) as archive:
        assert archive.read("stream/A.jpg.xmp") == FOREIGN
    shell("unpack", "--from", "parcel", "--library", "library")
    assert beside.read_bytes() == first


def test_an_edited_sidecar_survives_a_second_order(shell: Shell, tmp_path: Path) -> None:
    pack(tmp_path / "one", {"stream/A.jpg": PICTURE, "slips/A_jpg.slip": slip("R1", "A.jpg")})
    shell("new", "library")
    shell("unpack", "--from", "one", "--library", "library")
    beside = next((tmp_path / "library/pictures").rglob("A.jpg.xmp"))
    edited = beside.read_bytes().replace(
        b"</rdf:RDF>", b'<rdf:Description xmlns:ed="urn:editor:" ed:crop="1"/></rdf:RDF>'
    )
    beside.write_bytes(edited)
    label = json.dumps({"label": "L1", "heading": "New album", "order": ["R1"]}).encode()
    entries = {"stream/A.jpg": PICTURE, "slips/A_jpg.slip": slip("R1", "A.jpg"), "labels/New/label.json": label}
    pack(tmp_path / "two", entries, "TFB")
    shell("unpack", "--from", "two", "--library", "library")
    grown = beside.read_bytes()
    assert b'ed:crop="1"' in grown and b"New album" in grown and b"Title of R1" in grown
    assert "New album" in (tmp_path / "library/albums/New album.csv").name
    assert shell("find", "--album", "new album", "--library", "library", "--json").json["found"] == 1


def test_a_frames_files_keep_one_name(shell: Shell, tmp_path: Path) -> None:
    """Two frames that came under one name: the second, its rendition and its clip all get the same number."""
    clip = b"\0\0\0\x18ftypisom\0\0\2\0isommp41"
    entries = {
        "stream/A.jpg": PICTURE, "stream/A-touched.jpg": PICTURE + b"1", "stream/A.mp4": clip,
        "slips/A_jpg.slip": slip("R1", "A.jpg"),
        "stream/A{2}.jpg": PICTURE + b"2", "stream/A{2}-touched.jpg": PICTURE + b"3", "stream/A{2}.mp4": clip + b"\0",
        "slips/A{2}_jpg.slip": slip("R2", "A.jpg"),
    }  # fmt: skip
    pack(tmp_path / "parcel", entries)
    shell("new", "library")
    shell("unpack", "--from", "parcel", "--library", "library")
    names = sorted(path.rpartition("/")[2] for path in pictures(tmp_path / "library"))
    assert names == [
        "A-2-touched.jpg",
        "A-2.jpg",
        "A-2.jpg.xmp",
        "A-2.mp4",
        "A-touched.jpg",
        "A.jpg",
        "A.jpg.xmp",
        "A.mp4",
    ]
    files = shell("show", "A-2.jpg", "--library", "library", "--json").json["made_of"]
    assert {(file["role"], file["former_name"]) for file in files} == {
        ("original", "A.jpg"), ("rendition", "A-touched.jpg"), ("clip", "A.mp4"), ("sidecar", None),
    }  # fmt: skip
    assert b"<xmpMM:PreservedFileName>A.jpg<" in next((tmp_path / "library").rglob("A-2.jpg.xmp")).read_bytes()


def test_folders_of_parts(shell: Shell, tmp_path: Path) -> None:
    shell("new", "library")
    pack(tmp_path / "mixed", {"stream/A.jpg": PICTURE}, "TFA")
    pack(tmp_path / "mixed", {"stream/B.jpg": PICTURE}, "TFB")
    assert "parts of several orders: TFA, TFB" in shell("unpack", "--from", "mixed", "--library", "library", code=2).err
    (tmp_path / "none").mkdir()
    assert "none is empty" in shell("unpack", "--from", "none", "--library", "library", code=2).err
    (tmp_path / "none/stroam.txt").touch()
    named = shell("unpack", "--from", "none", "--dialect", "thrushfield", "--library", "library", code=2).err
    assert "is named like a part" in named and "stroam.txt" in named
    # A slip in one part, its picture in another; the same file again under a second name; somebody's own file in the way.
    pack(tmp_path / "two", {"slips/A_jpg.slip": slip("R1", "A.jpg"), "labels/X/A.jpg": PICTURE}, "TFC", "1of2")
    pack(tmp_path / "two", {"stream/A.jpg": PICTURE}, "TFC", "2of2")
    one = tmp_path / "two/thrushfield-TFC-1of2.zip"
    assert "is part 1 of 2" in shell("unpack", "--from", one, "--library", "library", code=2).err
    own = tmp_path / "library/pictures/undated/A.jpg"
    own.parent.mkdir(parents=True)
    own.write_bytes(b"somebody's own")
    receipt = shell("unpack", "--from", "two", "--library", "library", "--json").json
    assert receipt["balanced"] and own.read_bytes() == b"somebody's own"
    assert (own.parent / "A-2.jpg").read_bytes() == PICTURE
    assert [left["name"] for left in receipt["left_out"]] == ["labels/X/A.jpg (as stream/A.jpg)"]
    assert shell("show", "A-2.jpg", "--library", "library", "--json").json["believed"]["title"] == "Title of R1"


def test_parts_can_be_removed_once_the_books_balance(shell: Shell, world: Path, collected: Path) -> None:
    done = shell("unpack", "--remove-parts", cwd=collected)
    assert "The books balance" in done.out and not list((collected / "incoming").rglob("*.zip"))
    listed = shell("receipt", "list", cwd=collected).out
    assert "unpack" in listed and "49 left out" in listed
    every = shell("receipt", "1", "--all", cwd=collected).out
    assert every.count("(as stream/") == 48 and "... and" not in every
    assert "There is no receipt 7" in shell("receipt", "7", cwd=collected, code=2).err
    check(world, "--library", collected)


def test_two_runs_at_once(shell: Shell, world: Path, collected: Path) -> None:
    command, pipe = shell.command("unpack"), subprocess.PIPE
    both = [subprocess.Popen(command, cwd=collected, env=shell.environment, stderr=pipe, stdout=pipe) for _ in range(2)]
    codes = sorted(process.wait(timeout=120) for process in both)
    said = b"".join(process.stderr.read() for process in both if process.stderr)
    assert codes in ([1, 3], [0, 1]) and (codes == [0, 1] or b"Another run is working" in said)
    check(world, "--library", collected)


def test_orders_by_date_and_kind(shell: Shell, world: Path, tmp_path: Path) -> None:
    with serving(world) as address:
        shell("new", "library")
        token = world.parent / "token.txt"
        shell(
            "service",
            "add",
            "cloud",
            address,
            "--dialect",
            "thrushfield",
            "--token-file",
            token,
            "--library",
            "library",
        )
        for options, frames in (
            (["--kind", "video"], 1),
            (["--since", "2026-01-01", "--until", "2026-05-31"], 23),
            ([], 97),
        ):
            placed = shell("order", *options, "--library", "library", "--json").json
            assert placed["frames"] == frames
        refused = shell("order", "--since", "2031-01-01", "--library", "library", code=3)
        assert "nothing in the account matches" in refused.err
        listed = shell("service", "list", "--library", "library").out
        assert listed.count("preparing") == 3 and "cloud" in listed
        assert "Did you mean cloud?" in shell("service", "survey", "clod", "--library", "library", code=2).err
        elsewhere = str(tmp_path / "x")
        refused = shell("service", "survey", "--library", "library", code=3, BRAMBLEMOOR_SECRETS=elsewhere)
        assert "No token for cloud" in refused.err
