"""ISO base media files (ISO/IEC 14496-12): the creation time, location and size of a movie."""

import re
import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from bramblemoor.frames.moments import Moment, moment_in_words, moment_told
from bramblemoor.frames.source import ByteSource

_EPOCH = datetime(1904, 1, 1)  # ISO/IEC 14496-12, 8.2.2.3
_MOST_BOXES = 1000
_MOST_BYTES = 16 << 20
_XMP_UUID = bytes.fromhex("be7acfcb97a942e89c71999491e3afac")  # XMP part 3, 1.2.7
_POINT = re.compile(r"([+-]\d{2,6}(?:\.\d+)?)([+-]\d{3,7}(?:\.\d+)?)(?:[+-]\d+(?:\.\d+)?)?(?:CRS[^/]*)?/?")


@dataclass(frozen=True)
class Movie:
    """What a movie says of itself. `created` is UTC from its header, None where it says 0; `told` comes with an offset.

    `seconds` is the duration, `position` degrees, `troubles` sentences. `content_id` is what a still has, too, whose clip it is.
    """

    created: Moment | None = None
    told: Moment | None = None
    position: tuple[float, float] | None = None
    camera: str = ""
    title: str = ""
    content_id: str = ""
    xmp: bytes | None = None
    seconds: float = 0.0
    width: int = 0
    height: int = 0
    troubles: tuple[str, ...] = ()


def boxes(source: ByteSource, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """Yield (type, start of content, end of content); stops where a length makes no sense (8.2: size 0 runs to the end)."""
    for _ in range(_MOST_BOXES):
        head = source.read(start, 16)
        if len(head) < 8 or start >= end:
            return
        size, kind, skip = int.from_bytes(head[:4], "big"), head[4:8], 8
        if size == 1:
            size, skip = int.from_bytes(head[8:16], "big"), 16
        elif size == 0:
            size = end - start
        if size < skip or start + size > end:
            return
        yield kind, start + skip, start + size
        start += size


def read_movie(source: ByteSource) -> Movie:
    """Read what `moov` tells. Anything missing stays at its default."""
    movie = Movie()
    whole = 0
    found = False
    for kind, start, end in boxes(source, 0, source.size):
        whole = end
        if kind == b"moov":
            found = True
            movie = _read_moov(source, start, end, movie)
        elif kind == b"uuid" and source.read(start, 16) == _XMP_UUID and end - start <= _MOST_BYTES:
            movie = replace(movie, xmp=source.read(start + 16, end - start - 16))
    if not found or whole != source.size:
        movie = replace(
            movie, troubles=("it breaks off before its end" if whole != source.size else "it holds no movie",)
        )
    return movie


def _read_moov(source: ByteSource, start: int, end: int, movie: Movie) -> Movie:
    width = height = 0
    for kind, begin, stop in boxes(source, start, end):
        if kind == b"mvhd":
            created, seconds = _movie_header(source.read(begin, min(stop - begin, 120)))
            movie = replace(movie, created=created, seconds=seconds)
        elif kind == b"trak":
            for leaf, at, until in boxes(source, begin, stop):
                if leaf == b"tkhd" and until - at >= 8:
                    across, down = struct.unpack(">II", source.read(until - 8, 8))  # 16.16 fixed point, 8.3.2
                    width, height = max(width, across >> 16), max(height, down >> 16)
        elif kind == b"udta":
            for leaf, at, until in boxes(source, begin, stop):
                content = source.read(at, min(until - at, _MOST_BYTES))
                if leaf == b"\xa9xyz":  # QuickTime: length, language, text in ISO 6709
                    movie = replace(movie, position=movie.position or point(content[4:].decode("ascii", "ignore")))
                elif leaf == b"loci":
                    movie = replace(movie, position=movie.position or _location_box(content))
                elif leaf == b"XMP_":
                    movie = replace(movie, xmp=content)
                elif leaf == b"\xa9day":
                    movie = replace(movie, told=movie.told or moment_in_words(content[4:].decode("utf-8", "replace")))
                elif leaf == b"meta":
                    movie = _told_by_keys(_key_values(source, at, until), movie)
        elif kind == b"meta":
            movie = _told_by_keys(_key_values(source, begin, stop), movie)
    return replace(movie, width=width, height=height)


def _movie_header(content: bytes) -> tuple[Moment | None, float]:
    layout = ">QQIQ" if content[:1] == b"\1" else ">IIII"
    if len(content) < 4 + struct.calcsize(layout):
        return None, 0.0
    created, _, scale, duration = struct.unpack_from(layout, content, 4)
    moment = None
    if created:
        try:
            moment = Moment(utc=_EPOCH + timedelta(seconds=created))
        except OverflowError:
            moment = None
    return moment, duration / scale if scale else 0.0


def _key_values(source: ByteSource, start: int, end: int) -> dict[str, str]:
    """The texts of a QuickTime metadata atom: names in `keys`, values in `ilst` by their place in it."""
    if source.read(start + 4, 4) not in (b"hdlr", b"keys"):
        start += 4  # a full box, as MP4 has it
    names: list[str] = []
    values: dict[int, str] = {}
    for kind, begin, stop in boxes(source, start, end):
        if kind == b"keys":
            for _, at, until in boxes(source, begin + 8, stop):
                names.append(source.read(at, min(until - at, 256)).decode("utf-8", "replace"))
        elif kind == b"ilst":
            for number, at, until in boxes(source, begin, stop):
                for leaf, inner, last in boxes(source, at, until):
                    if leaf == b"data" and source.read(inner, 4) == b"\0\0\0\1":  # UTF-8
                        text = source.read(inner + 8, min(last - inner - 8, 4096)).decode("utf-8", "replace")
                        values[int.from_bytes(number, "big")] = text
    return {name.rpartition("quicktime.")[2]: values[n] for n, name in enumerate(names, 1) if n in values}


def _told_by_keys(told: dict[str, str], movie: Movie) -> Movie:
    model, maker = told.get("model", ""), told.get("make", "")
    return replace(
        movie,
        told=moment_told(told.get("creationdate", "")) or movie.told,
        position=point(told.get("location.ISO6709", "")) or movie.position,
        camera=(model if model.startswith(maker) else f"{maker} {model}").strip() or movie.camera,
        title=told.get("title", "") or movie.title,
        content_id=told.get("content.identifier", "").strip().upper() or movie.content_id,
    )


def point(written: str) -> tuple[float, float] | None:
    """Latitude and longitude in degrees from ISO 6709:2008, H.2: degrees, degrees and minutes, or with seconds too."""
    match = _POINT.match(written.strip("\0 "))
    if match is None:
        return None
    found = []
    for text, digits in ((match[1], 2), (match[2], 3)):
        whole, _, fraction = text[1:].partition(".")
        steps = [whole[:digits], *(whole[at : at + 2] for at in range(digits, len(whole), 2))]
        steps[-1] += "." + (fraction or "0")
        value = sum(float(step) / 60**power for power, step in enumerate(steps))
        found.append(-value if text[0] == "-" else value)
    latitude, longitude = found
    return (latitude, longitude) if abs(latitude) <= 90 and abs(longitude) <= 180 else None


def _location_box(content: bytes) -> tuple[float, float] | None:
    """3GPP TS 26.244, 8.2.1: language, name, role, longitude and latitude as 16.16 fixed point."""
    end = content.find(b"\0", 6)
    if end < 0 or len(content) < end + 10:
        return None
    longitude, latitude = struct.unpack_from(">ii", content, end + 2)
    return latitude / 65536, longitude / 65536
