"""Unpacking what is damaged, hostile or odd."""

import json
import shutil
import sqlite3
import struct
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from bramblemoor.standins.drawing import draw, jpeg
from conftest import Shell, check, leave_at, pictures

PICTURE = jpeg(draw("reeds", "dawn", 1, (96, 64)))


def parcel(folder: Path, entries: dict[str, bytes], edit: Callable[[zipfile.ZipFile], None] | None = None) -> Path:
    """A parcel of one part, as Thrushfield names it."""
    folder.mkdir()
    path = folder / "thrushfield-TFX-1of1.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in entries.items():
            archive.writestr(name, content)
        if edit is not None:
            edit(archive)
    return path


def refused(shell: Shell, *words: str) -> None:
    """Unpacking the parcel fails with these words, and the library and what lies around it stay as they were."""
    shell("new", "library")
    before = sorted(path.name for path in shell.folder.rglob("*") if "incoming" not in path.parts)
    error = shell("unpack", "--from", "parcel", "--library", "library", code=3).err
    assert all(word in error for word in words), error
    assert "Nothing was unpacked" in error
    after = [path for path in shell.folder.rglob("*") if "incoming" not in path.parts and path.name != "in-use.lock"]
    assert sorted(path.name for path in after) == before and not pictures(shell.folder / "library")


@pytest.mark.parametrize(
    "name", ["../outside.jpg", "/etc/outside.jpg", "C:\\outside.jpg", "stream/..\\..\\outside.jpg", "c:outside.jpg"]
)
def test_names_that_leave_their_folder(shell: Shell, tmp_path: Path, name: str) -> None:
    parcel(tmp_path / "parcel", {"stream/good.jpg": PICTURE, name: PICTURE})
    refused(shell, "thrushfield-TFX-1of1.zip", "outside.jpg")
    assert not list(tmp_path.rglob("*outside*"))


@pytest.mark.parametrize(
    ("mode", "word"), [(0o120777, "is a link"), (0o060644, "is a device"), (0o010644, "is a device or pipe")]
)
def test_links_and_devices(shell: Shell, tmp_path: Path, mode: int, word: str) -> None:
    def add(archive: zipfile.ZipFile) -> None:
        info = zipfile.ZipInfo("stream/odd.jpg")
        info.create_system, info.external_attr = 3, mode << 16
        archive.writestr(info, "/etc/passwd")

    parcel(tmp_path / "parcel", {"stream/good.jpg": PICTURE}, add)
    refused(shell, "stream/odd.jpg", word)


def test_archives_that_lie_about_sizes(shell: Shell, tmp_path: Path) -> None:
    def bomb(archive: zipfile.ZipFile) -> None:
        archive.writestr("stream/bomb.jpg", bytes(8 << 20), zipfile.ZIP_DEFLATED)

    path = parcel(tmp_path / "parcel", {}, bomb)
    content = bytearray(path.read_bytes())
    for signature, at in ((b"PK\1\2", 24), (b"PK\3\4", 22)):  # claim a hundredth of what it holds, then far too much
        struct.pack_into("<I", content, content.index(signature) + at, 80 << 10)
    path.write_bytes(content)
    refused(shell, "stream/bomb.jpg", "holds more than the 81920 bytes it claims")
    shutil.rmtree(tmp_path / "library")
    struct.pack_into("<I", content, content.index(b"PK\1\2") + 24, 4_000_000_000)
    path.write_bytes(content)
    refused(shell, "stream/bomb.jpg", "claims to grow")


def test_overlapping_entries_and_unknown_methods(shell: Shell, tmp_path: Path) -> None:
    path = parcel(tmp_path / "parcel", {"stream/a.jpg": PICTURE, "stream/b.jpg": PICTURE})
    content = bytearray(path.read_bytes())
    second = content.index(b"PK\1\2", content.index(b"PK\1\2") + 4)
    struct.pack_into("<I", content, second + 42, 0)
    path.write_bytes(content)
    refused(shell, "its entries overlap")
    shutil.rmtree(tmp_path / "library")
    shutil.rmtree(tmp_path / "parcel")
    parcel(tmp_path / "parcel", {}, lambda archive: archive.writestr("stream/a.jpg", PICTURE, zipfile.ZIP_LZMA))
    refused(shell, "stream/a.jpg", "LZMA")


def test_parts_missing_truncated_or_flipped_are_named(shell: Shell, collected: Path) -> None:
    parts = sorted((collected / "incoming").rglob("*.zip"))
    whole = {part: part.read_bytes() for part in parts}
    flipped = bytearray(whole[parts[1]])
    flipped[len(flipped) // 2] ^= 1
    for part, content in ((parts[0], None), (parts[3], whole[parts[3]][:-1000]), (parts[1], bytes(flipped))):
        part.unlink()
        if content is not None:
            part.write_bytes(content)
        error = shell("unpack", cwd=collected, code=3).err
        assert f"1 of 5 parts missing or damaged: {part.name}" in error and "bramblemoor collect" in error
        assert not pictures(collected) and not list((collected / "albums").iterdir())
        part.write_bytes(whole[part])
    # The same for parts that somebody fetched by hand: their names say how many there are.
    folder = parts[0].parent
    parts[2].unlink()
    assert "Of 5 parts, 3 is not in" in shell("unpack", "--from", folder, cwd=collected, code=3).err
    parts[2].write_bytes(whole[parts[2]])
    parts[1].write_bytes(flipped)
    assert "does not match its checksum" in shell("unpack", "--from", folder, cwd=collected, code=3).err
    assert not pictures(collected)
    parts[1].write_bytes(whole[parts[1]])
    assert "The books balance" in shell("unpack", "--from", folder, cwd=collected).out


def test_broken_sidecars_cost_only_themselves(shell: Shell, tmp_path: Path) -> None:
    bomb = b'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><x>&b;</x>'
    wrong = {
        "item": {"ref": "R6", "filename": "F6.jpg"},
        "words": {"heading": ["a", 1], "text": 7},
        "faces": "me",
        "heart": "x",
    }
    wrong |= {"shutter": {"utc_ms": "NaN"}, "spot": {"lat_e6": {}, "lon_e6": 1}, "subjects": "reeds; water"}
    slips = {
        1: b"{not json", 2: b"[" * 200_000, 3: b"\xff\xfe\x00", 4: b"null", 5: b'{"words": {"heading": "\\ud83d kept \\u0007"}}',
        6: json.dumps(wrong).encode(), 7: b'{"shutter": {"utc_ms": 1e400}, "words": {"heading": "far"}}',
    }  # fmt: skip
    entries = {f"stream/F{number}.jpg": PICTURE + bytes([number]) for number in range(1, 10)}
    entries |= {f"slips/F{number}_jpg.slip": content for number, content in slips.items()}
    entries |= {"stream/F8.jpg.xmp": bomb, "stream/F9.xmp": b"<x:xmpmeta"}
    packed = parcel(tmp_path / "parcel", entries)
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--library", "library", "--json").json
    library = tmp_path / "library"
    kept = {name: content for name, content in pictures(library).items() if name.endswith(".jpg")}
    assert len(kept) == 9 and receipt["balanced"]
    findings = "\n".join(f"{finding['name']}: {finding['what']}" for finding in receipt["findings"])
    for name in ("F1_jpg.slip", "F2_jpg.slip", "F3_jpg.slip", "F6_jpg.slip", "F8.jpg.xmp", "F9.xmp"):
        assert name in findings, findings
    assert "nested too deeply" in findings and "declares a document type" in findings
    frame = shell("show", "F6.jpg", "--json", "--library", "library").json
    assert frame["believed"]["keywords"] == ["reeds", "water"] and frame["believed"]["title"] == "a"
    assert shell("show", "F5.jpg", "--json", "--library", "library").json["believed"]["title"].endswith("kept \x07")
    with zipfile.ZipFile(packed) as came, zipfile.ZipFile(next((library / "delivered").rglob("*.zip"))) as archive:
        for name in archive.namelist():
            assert archive.read(name) == came.read(name), name
        assert len(archive.namelist()) == 9


def test_odd_pictures_and_names(shell: Shell, tmp_path: Path) -> None:
    long = "ü" * 140 + "🪵" * 20
    names = [
        "CON.jpg",
        "trailing. .jpg",
        "q?<>|.jpg",
        "A.JPG",
        "a.jpg",
        "e\u0301.jpg",
        "é.jpg",
        f"{long}.jpg",
        "100% #1.jpg",
        "60%0A.jpg",
    ]
    entries = {f"stream/{name}": PICTURE + bytes([number]) for number, name in enumerate(names)}
    entries |= {"stream/empty.jpg": b"", "stream/text.jpg": b"no picture"}
    parcel(tmp_path / "parcel", entries)
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--library", "library", "--json").json
    assert receipt["balanced"] and receipt["came_in"]["frames"] == len(entries)
    found = [path.rpartition("/")[2] for path in pictures(tmp_path / "library") if not path.endswith(".xmp")]
    assert len(found) == len({name.casefold() for name in found}) == len(entries)
    assert not any(character in name for name in found for character in '<>:"/\\|?*')
    assert {"100% #1.jpg", "60_0A.jpg"} < set(
        found
    )  # a percent sign is changed where lists of checksums would misread it
    assert all(len(name.encode()) <= 255 for name in found) and "_CON.jpg" in found
    findings = "\n".join(finding["name"] + finding["what"] for finding in receipt["findings"])
    assert (
        "came as CON.jpg" in findings
        and "it is empty" in findings
        and "no picture that Bramblemoor can recognise" in findings
    )


def test_unpacking_twice_and_by_hand_doubles_nothing(shell: Shell, world: Path, library: Path) -> None:
    before = pictures(library)
    order = shell("service", "list", "--json", cwd=library).json["services"][0]["orders"][0]["order"]
    assert "was unpacked already" in shell("unpack", order, cwd=library).out
    again = shell("unpack", "--from", next((library / "incoming").rglob("*.zip")).parent, "--json", cwd=library).json
    assert again["balanced"] and pictures(library) == before
    check(world, "--library", library)


def test_a_frame_silently_dropped_shows_on_the_receipt_and_to_the_checker(
    shell: Shell, world: Path, collected: Path
) -> None:
    """Somebody takes a frame out of the worksheet of an interrupted run."""
    step = 60
    sheet = next((collected / "incoming").iterdir())
    while not (sheets := list(sheet.rglob("worksheet.sqlite"))) or not _planned(sheets[0]):
        assert leave_at(shell, step, collected, "unpack"), "the run ended before its plan was seen"
        step += 10
    with closing(sqlite3.connect(sheets[0], isolation_level=None)) as db:
        db.execute("DELETE FROM units WHERE frame = (SELECT max(frame) FROM units)")
    assert "THE BOOKS DO NOT BALANCE" in shell("unpack", cwd=collected, code=1).out
    assert "is there once" in check(world, "--library", collected, wrong=True)
    # The order does not count as unpacked: once the fault is gone, the same command brings the frame in.
    assert "new in the library" in shell("unpack", cwd=collected).out
    check(world, "--library", collected)


def _planned(sheet: Path) -> bool:
    with closing(sqlite3.connect(sheet)) as db:
        return db.execute("SELECT 1 FROM meta WHERE key = 'planned'").fetchone() is not None
