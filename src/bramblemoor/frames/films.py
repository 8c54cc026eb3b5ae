"""What films say of themselves that are no ISO base media: RIFF AVI, Matroska and WebM, MPEG transport streams, and ASF.

Only what stands near the beginning is read: a film may be very large. Anything missing stays at its default.
"""

import struct
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import datetime, timedelta

from bramblemoor.frames.boxes import Movie, read_movie
from bramblemoor.frames.moments import Moment, moment_in_words
from bramblemoor.frames.source import ByteSource

_MOST_BYTES = 8 << 20
_MOST_ELEMENTS = 4000


def read_film(media: str, source: ByteSource) -> Movie:
    """What a film of some media type tells; nothing of one of a kind that is not read here."""
    if media in ("video/mp4", "video/quicktime", "video/3gpp"):
        return read_movie(source)
    reader = _READERS.get(media)
    return reader(source) if reader is not None else Movie()


def _chunks(source: ByteSource, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """The chunks of a RIFF file (a word's boundary ends each): what each is, where its content begins, and its length."""
    for _ in range(_MOST_ELEMENTS):
        head = source.read(start, 8)
        if len(head) < 8 or start >= end:
            return
        length = int.from_bytes(head[4:], "little")
        yield head[:4], start + 8, length
        start += 8 + length + length % 2


def _read_avi(source: ByteSource) -> Movie:
    """Size in `avih`; the date in `IDIT`, as cameras write it, else in the list INFO: `ICRD` (RIFF MCI, 1991)."""
    movie = Movie()
    for kind, at, length in _chunks(source, 12, source.size):
        if kind == b"IDIT":
            movie = replace(movie, told=movie.told or _date_in_words(source.read(at, min(length, 64))))
        if kind != b"LIST" or source.read(at, 4) not in (b"hdrl", b"INFO"):
            continue
        for inner, place, size in _chunks(source, at + 4, at + length):
            content = source.read(place, min(size, 256))
            if inner == b"avih" and len(content) >= 40:
                width, height = struct.unpack_from("<II", content, 32)
                movie = replace(movie, width=width, height=height)
            elif inner in (b"IDIT", b"ICRD"):
                movie = replace(movie, told=movie.told or _date_in_words(content))
    return movie


def _date_in_words(content: bytes) -> Moment | None:
    return moment_in_words(content.split(b"\0")[0].decode("latin-1"))


_SEGMENT, _INFO, _TRACKS, _ENTRY, _VIDEO = 0x18538067, 0x1549A966, 0x1654AE6B, 0xAE, 0xE0
_DATE, _TITLE, _WIDTH, _HEIGHT, _CLUSTER = 0x4461, 0x7BA9, 0xB0, 0xBA, 0x1F43B675
_MATROSKA_EPOCH = datetime(2001, 1, 1)  # RFC 8794, 7.6


def _elements(source: ByteSource, start: int, end: int) -> Iterator[tuple[int, int, int]]:
    """The elements of an EBML document (RFC 8794, 4): identifier, where the content begins, and where it ends."""
    for _ in range(_MOST_ELEMENTS):
        head = source.read(start, 12)
        if start >= end or len(head) < 2 or not head[0]:
            return
        width = 9 - head[0].bit_length()
        if width > 4 or len(head) <= width or not head[width]:
            return
        kind = int.from_bytes(head[:width], "big")
        wide = 9 - head[width].bit_length()
        size = int.from_bytes(head[width : width + wide], "big") & ((1 << 7 * wide) - 1)
        begin = start + width + wide
        unknown = size == (1 << 7 * wide) - 1  # of a live stream: it goes on to the end of what it is in
        yield kind, begin, end if unknown else min(end, begin + size)
        if unknown:
            return
        start = begin + size


def _read_matroska(source: ByteSource) -> Movie:
    """DateUTC and Title of Info, and the size of the first picture track (RFC 9559, 5.1.2 and 5.1.4)."""
    movie = Movie()
    for kind, begin, end in _elements(source, 0, source.size):
        if kind != _SEGMENT:
            continue
        for inner, at, until in _elements(source, begin, end):
            if inner == _CLUSTER:
                break
            if inner == _INFO:
                movie = _matroska_info(source, at, until, movie)
            elif inner == _TRACKS:
                movie = _matroska_size(source, at, until, movie)
    return movie


def _matroska_info(source: ByteSource, at: int, until: int, movie: Movie) -> Movie:
    for kind, begin, end in _elements(source, at, until):
        content = source.read(begin, min(end - begin, 4096))
        if kind == _DATE and len(content) == 8:
            since = timedelta(microseconds=int.from_bytes(content, "big", signed=True) // 1000)
            try:
                moment = _MATROSKA_EPOCH + since
            except OverflowError:
                continue
            movie = replace(movie, created=Moment(utc=moment.replace(microsecond=0)))
        elif kind == _TITLE:
            movie = replace(movie, title=content.decode("utf-8", "replace"))
    return movie


def _matroska_size(source: ByteSource, at: int, until: int, movie: Movie) -> Movie:
    for kind, begin, end in _elements(source, at, until):
        for inner, start, stop in _elements(source, begin, end) if kind == _ENTRY else ():
            if inner == _VIDEO and not movie.width:
                sizes = {
                    leaf: int.from_bytes(source.read(first, min(last - first, 8)), "big")
                    for leaf, first, last in _elements(source, start, stop)
                }
                movie = replace(movie, width=sizes.get(_WIDTH, 0), height=sizes.get(_HEIGHT, 0))
    return movie


_PACKET = 188
_CAMCORDER = bytes.fromhex("17ee8c60f84d11d98cd60800200c9a66") + b"MDPM"
"""What camcorders put into the user data of an H.264 stream (ITU-T H.264, D.1.6): behind it lie their own records."""
_MOST_STREAM = 4 << 20


def _read_stream(source: ByteSource) -> Movie:
    """The clock of a camcorder, which lies in the stream itself: of local time, with its zone where that is set."""
    head = source.read(0, 5)
    skip = 4 if head[:1] != b"G" else 0
    data = source.read(0, _MOST_STREAM)
    payload = bytearray()
    for start in range(skip, len(data) - _PACKET + 1, _PACKET + skip):
        packet = data[start : start + _PACKET]
        if packet[:1] != b"G" or not packet[3] & 0x10:
            continue
        begin = 5 + packet[4] if packet[3] & 0x20 else 4  # behind the adaptation field (ISO/IEC 13818-1, 2.4.3.4)
        payload += packet[begin:]
    found = bytes(payload).find(_CAMCORDER)
    if found < 0:
        return Movie()
    record = bytes(payload[found + len(_CAMCORDER) : found + len(_CAMCORDER) + 256]).replace(b"\0\0\x03", b"\0\0")
    told = {record[at]: record[at + 1 : at + 5] for at in range(1, min(len(record) - 4, 1 + 5 * record[0]), 5)}
    return Movie(told=_camcorder_clock(told.get(0x18, b""), told.get(0x19, b"")))


def _camcorder_clock(day: bytes, clock: bytes) -> Moment | None:
    """Zone, century, year and month; day, hour, minute and second: two decimal digits to a byte."""
    if len(day) != 4 or len(clock) != 4:
        return None
    try:
        century, year, month, date, hour, minute, second = (int(f"{part:02x}") for part in (*day[1:], *clock))
        local = datetime(century * 100 + year, month, date, hour, minute, second)
    except ValueError:
        return None
    zone = day[0]
    if zone & 0x80:  # not set
        return Moment(local=local)
    offset = (zone >> 1 & 0x0F) * 60 + (30 if zone & 1 else 0)
    return Moment(local=local, offset=-offset if zone & 0x20 else offset)


_FILE_PROPERTIES = bytes.fromhex("a1dcab8c47a9cf118ee400c00c205365")
_FILETIME_EPOCH = datetime(1601, 1, 1)


def _read_asf(source: ByteSource) -> Movie:
    """The creation date of the file properties, in UTC, as 100 ns since 1601."""
    end = min(int.from_bytes(source.read(16, 8), "little"), _MOST_BYTES)
    at = 30
    for _ in range(_MOST_ELEMENTS):
        head = source.read(at, 24)
        size = int.from_bytes(head[16:24], "little")
        if len(head) < 24 or size < 24 or at >= end:
            break
        if head[:16] == _FILE_PROPERTIES:
            ticks = int.from_bytes(source.read(at + 48, 8), "little")
            try:
                created = _FILETIME_EPOCH + timedelta(microseconds=ticks // 10)
            except OverflowError:
                break
            return Movie(created=Moment(utc=created.replace(microsecond=0))) if ticks else Movie()
        at += size
    return Movie()


_READERS: dict[str, Callable[[ByteSource], Movie]] = {
    "video/x-msvideo": _read_avi, "video/x-matroska": _read_matroska, "video/webm": _read_matroska, "video/mp2t": _read_stream,
    "video/x-ms-asf": _read_asf,
}  # fmt: skip
