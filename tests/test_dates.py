"""When a picture or film was taken, from wherever it says so: films of every container, large TIFFs, texts, names, satellites."""

import io
import struct
from typing import Any

import av
import numpy as np
import pytest
from PIL import Image, PngImagePlugin

from bramblemoor.frames.claims import believed_moment
from bramblemoor.frames.iptc import read_iptc
from bramblemoor.frames.moments import moment_in_name
from bramblemoor.frames.reading import PictureReading, read_picture
from bramblemoor.frames.source import MemorySource

UTC = "2020-03-15T10:15:00Z"


def read(content: bytes) -> PictureReading:
    return read_picture(MemorySource(content))


def taken(content: bytes) -> str:
    return str(believed_moment(read(content).claims)[0])


def film(container: str, codec: str) -> bytes:
    """A film that another program has written."""
    written = io.BytesIO()
    with av.open(written, "w", format=container) as output:
        output.metadata["creation_time"] = "2020-03-15T10:15:00.000000Z"
        stream: Any = output.add_stream(codec, rate=5)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuvj420p" if codec == "mjpeg" else "yuv420p"
        frame = av.VideoFrame.from_ndarray(np.zeros((48, 64, 3), dtype=np.uint8), format="rgb24")
        for packet in (*stream.encode(frame), *stream.encode()):
            output.mux(packet)
    return written.getvalue()


@pytest.mark.parametrize(
    "container, codec, sized",
    [
        ("matroska", "mjpeg", True),
        ("webm", "libvpx", True),
        ("asf", "mjpeg", False),
        ("mov", "mjpeg", True),
        ("mp4", "mpeg4", True),
    ],
)
def test_films_of_another_program(container: str, codec: str, sized: bool) -> None:
    content = film(container, codec)
    assert taken(content) == UTC and not read(content).troubles
    assert not sized or (read(content).width, read(content).height) == (64, 48)
    read(content[:200])  # whatever breaks off is read as far as it goes


def chunk(kind: bytes, content: bytes) -> bytes:
    return kind + struct.pack("<I", len(content)) + content + b"\0" * (len(content) % 2)


@pytest.mark.parametrize("written", [b"SUN MAR 15 10:15:00 2020\n\0", b"2020:03:15 10:15:00\0", b"2020-03-15 10:15:00"])
def test_a_film_in_chunks(written: bytes) -> None:
    header = chunk(b"avih", struct.pack("<14I", 0, 0, 0, 0, 3, 0, 1, 0, 64, 48, 0, 0, 0, 0))
    listed = chunk(b"LIST", b"hdrl" + header + chunk(b"IDIT", written))
    assert taken(b"RIFF" + struct.pack("<I", 4 + len(listed)) + b"AVI " + listed) == "2020-03-15T10:15:00"


@pytest.mark.parametrize("stamp", [b"", b"\0\0\0\0"])
@pytest.mark.parametrize("zone, said", [(0x02, "+01:00"), (0x27, "-03:30"), (0xFF, "")])
def test_a_camcorders_stream(stamp: bytes, zone: int, said: str) -> None:
    record = bytes([2, 0x18, zone, 0x20, 0x20, 0x03, 0x19, 0x15, 0x10, 0x15, 0x00])
    told = b"\0\0\1\x06\x05\x30" + bytes.fromhex("17ee8c60f84d11d98cd60800200c9a66") + b"MDPM" + record

    def packet(content: bytes) -> bytes:
        return stamp + b"G\x41\x00\x10" + content.ljust(184, b"\xff")

    stream = packet(b"x" * 184) + packet(b"y" * 170 + told[:14]) + packet(told[14:]) + packet(b"")
    assert taken(stream) == f"2020-03-15T10:15:00{said}"


def exif_block(*, large: bool) -> bytes:
    """A TIFF block, or a large one, with nothing but its Exif directory and the date there."""
    date = b"2020:03:15 10:15:00\0"
    if large:
        first, second, place = 16, 16 + 8 + 20 + 8, 16 + 8 + 20 + 8 + 8 + 20 + 8
        main = struct.pack("<QHHQQQ", 1, 0x8769, 13, 1, second, 0)
        inner = struct.pack("<QHHQQQ", 1, 0x9003, 2, len(date), place, 0)
        return b"II+\0" + struct.pack("<HHQ", 8, 0, first) + main + inner + date
    first, second, place = 8, 8 + 18, 8 + 36
    main, inner = (
        struct.pack("<HHHIII", 1, 0x8769, 4, 1, second, 0),
        struct.pack("<HHHIII", 1, 0x9003, 2, len(date), place, 0),
    )
    return b"II*\0" + struct.pack("<I", first) + main + inner + date


def test_large_tiffs_and_the_boxes_of_jpeg_xl() -> None:
    assert taken(exif_block(large=True)) == taken(exif_block(large=False)) == "2020-03-15T10:15:00"
    block = exif_block(large=False)
    boxes = (
        b"\0\0\0\x0cJXL \r\n\x87\n"
        + b"\0\0\0\x14ftypjxl \0\0\0\0jxl "
        + struct.pack(">I", 12 + len(block))
        + b"Exif\0\0\0\0"
    )
    assert taken(boxes + block) == "2020-03-15T10:15:00"


def test_the_clock_of_satellites_tells_the_zone() -> None:
    exif = Image.Exif()
    exif.get_ifd(0x8769)[0x9003] = "2020:03:15 10:15:00"
    place = exif.get_ifd(0x8825)
    place[0x1D], place[7] = "2020:03:15", (9.0, 15.0, 3.0)
    content = io.BytesIO()
    Image.new("RGB", (4, 4)).save(content, "JPEG", exif=exif)
    assert taken(content.getvalue()) == "2020-03-15T10:15:00+01:00"


@pytest.mark.parametrize(
    "text, said",
    [
        ("Sun, 15 Mar 2020 10:15:00 +0100", "2020-03-15T10:15:00+01:00"),
        ("2020:03:15 10:15:00", "2020-03-15T10:15:00"),
        ("once", "None"),
    ],
)
@pytest.mark.parametrize("international", [False, True])
def test_when_a_drawing_was_made(text: str, said: str, international: bool) -> None:
    info, content = PngImagePlugin.PngInfo(), io.BytesIO()
    (info.add_itxt if international else info.add_text)("Creation Time", text)
    Image.new("RGB", (4, 4)).save(content, "PNG", pnginfo=info)
    assert taken(content.getvalue()) == said


@pytest.mark.parametrize(
    "name, said",
    [
        ("IMG-20260509-WA0001.jpg", "2026-05-09T00:00:00"), ("20200315_101500.jpg", "2020-03-15T10:15:00"),
        ("2015-07-04 12.30.05.jpg", "2015-07-04T12:30:05"), ("IMG_1234.jpg", "None"), ("99920260509.jpg", "None"),
        ("scan 2001-13-45.jpg", "None"), ("2019.06.30 fen.png", "2019-06-30T00:00:00"),
    ],
)  # fmt: skip
def test_dates_in_names(name: str, said: str) -> None:
    assert str(moment_in_name(name)) == said


@pytest.mark.parametrize("encoding", ["cp1252", "mac-roman", "utf-8", "latin-1"])
def test_texts_from_before_unicode(encoding: str) -> None:
    text = "Größe près de Café à Zürich"

    def dataset(number: int, content: str) -> bytes:
        raw = content.encode(encoding)
        return b"\x1c\x02" + bytes([number]) + struct.pack(">H", len(raw)) + raw

    assert [claim.value for claim in read_iptc(dataset(120, text) + dataset(25, "Höhle"))] == ["Höhle", text]
