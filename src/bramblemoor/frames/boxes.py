"""ISO base media files (ISO/IEC 14496-12): the creation time and size of a movie."""

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from bramblemoor.frames.moments import Moment
from bramblemoor.frames.source import ByteSource

_EPOCH = datetime(1904, 1, 1)  # ISO/IEC 14496-12, 8.2.2.3
_MOST_BOXES = 1000


@dataclass(frozen=True)
class Movie:
    """What the movie header says. `created` is UTC, None where the file says 0; `seconds` the duration."""

    created: Moment | None = None
    seconds: float = 0.0
    width: int = 0
    height: int = 0


def _boxes(source: ByteSource, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
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
    """Read `moov/mvhd` and the largest track's size. Anything missing stays at its default."""
    created, seconds, width, height = None, 0.0, 0, 0
    for kind, start, end in _boxes(source, 0, source.size):
        if kind != b"moov":
            continue
        for inner, begin, stop in _boxes(source, start, end):
            if inner == b"mvhd":
                created, seconds = _movie_header(source.read(begin, min(stop - begin, 120)))
            elif inner == b"trak":
                for leaf, at, until in _boxes(source, begin, stop):
                    if leaf == b"tkhd" and until - at >= 8:
                        across, down = struct.unpack(">II", source.read(until - 8, 8))  # 16.16 fixed point, 8.3.2
                        width, height = max(width, across >> 16), max(height, down >> 16)
    return Movie(created, seconds, width, height)


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
