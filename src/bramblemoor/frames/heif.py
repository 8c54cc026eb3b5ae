"""Reading HEIF and AVIF files (ISO/IEC 23008-12): items that hold Exif and XMP, and the size of the picture."""

from dataclasses import dataclass, field

from bramblemoor.frames.boxes import boxes
from bramblemoor.frames.embedded import Embedded
from bramblemoor.frames.source import ByteSource

_MOST_ITEMS = 10_000
_MOST_BYTES = 16 << 20


class _Reader:
    """Numbers one after another from a few bytes; 0 beyond their end."""

    def __init__(self, data: bytes, at: int = 0) -> None:
        self.data, self.at = data, at

    def number(self, size: int) -> int:
        value = int.from_bytes(self.data[self.at : self.at + size], "big")
        self.at += size
        return value

    def text(self) -> bytes:
        end = self.data.find(b"\0", self.at)
        end = len(self.data) if end < 0 else end
        found = self.data[self.at : end]
        self.at = end + 1
        return found

    @property
    def done(self) -> bool:
        return self.at >= len(self.data)


@dataclass
class _Meta:
    kinds: dict[int, bytes] = field(default_factory=dict)
    places: dict[int, tuple[int, list[tuple[int, int]]]] = field(default_factory=dict)  # method, (offset, length)
    data: tuple[int, int] = (0, 0)  # of the idat box
    width: int = 0
    height: int = 0


def read_heif(source: ByteSource) -> Embedded:
    """Never raises: what cannot be followed is left out."""
    meta = _Meta()
    whole = 0
    for kind, start, end in boxes(source, 0, source.size):
        whole = end
        if kind == b"meta":
            _read_meta(source, start + 4, end, meta)
    exif: bytes | None = None
    packets = []
    for item, kind in meta.kinds.items():
        if kind in (b"Exif", b"XMP"):
            content = _content(source, meta, item)
            if kind == b"XMP":
                packets.append(content)
            elif exif is None and len(content) > 4:
                exif = content[4 + int.from_bytes(content[:4], "big") :]  # 23008-12, A.2.1: offset of the TIFF header
    troubles = () if whole == source.size and meta.width else ("it breaks off before its end",)
    return Embedded(exif, tuple(packets[:1]), width=meta.width, height=meta.height, troubles=troubles)


def read_jxl(source: ByteSource) -> Embedded:
    """The boxes of a JPEG XL file (ISO/IEC 18181-2, 9): Exif, and XMP. A bare codestream holds neither; compressed boxes are not
    read.
    """
    if source.read(0, 2) == b"\xff\x0a":
        return Embedded()
    exif: bytes | None = None
    packets: list[bytes] = []
    whole = 0
    for kind, start, end in boxes(source, 0, source.size):
        whole = end
        if kind == b"Exif" and exif is None and 4 < end - start <= _MOST_BYTES:
            content = source.read(start, end - start)
            exif = content[4 + int.from_bytes(content[:4], "big") :]
        elif kind == b"xml " and end - start <= _MOST_BYTES:
            packets.append(source.read(start, end - start))
    return Embedded(
        exif, tuple(packets[:1]), troubles=() if whole == source.size else ("it breaks off before its end",)
    )


def _read_meta(source: ByteSource, start: int, end: int, meta: _Meta) -> None:
    for kind, begin, stop in boxes(source, start, end):
        if kind == b"idat":
            meta.data = (begin, stop - begin)
        elif kind == b"iinf" and stop - begin <= _MOST_BYTES:
            skip = 6 if source.read(begin, 1) == b"\0" else 8
            for inner, at, until in boxes(source, begin + skip, stop):
                if inner == b"infe":
                    _item(source.read(at, min(until - at, 4096)), meta)
        elif kind == b"iloc" and stop - begin <= _MOST_BYTES:
            _locations(source.read(begin, stop - begin), meta)
        elif kind == b"iprp":
            for inner, at, until in boxes(source, begin, stop):
                if inner == b"ipco":
                    _sizes(source, at, until, meta)


def _item(content: bytes, meta: _Meta) -> None:
    """An item's kind (14496-12, 8.11.6): Exif, or XMP where it is a document of that media type."""
    read = _Reader(content)
    version = read.number(1)
    read.at = 4
    if version < 2 or len(meta.kinds) >= _MOST_ITEMS:
        return
    item = read.number(2 if version == 2 else 4)
    read.number(2)
    kind = content[read.at : read.at + 4]
    read.at += 4
    read.text()
    if kind == b"mime":
        kind = b"XMP" if read.text() == b"application/rdf+xml" else kind
    meta.kinds[item] = kind


def _locations(content: bytes, meta: _Meta) -> None:
    """Where items lie (14496-12, 8.11.3)."""
    read = _Reader(content)
    version = read.number(1)
    read.at = 4
    sizes = read.number(2)
    offset_size, length_size, base_size, index_size = sizes >> 12, sizes >> 8 & 15, sizes >> 4 & 15, sizes & 15
    for _ in range(min(read.number(2 if version < 2 else 4), _MOST_ITEMS)):
        if read.done:
            return
        item = read.number(2 if version < 2 else 4)
        method = read.number(2) & 15 if version in (1, 2) else 0
        read.number(2)
        base = read.number(base_size)
        extents = []
        for _ in range(min(read.number(2), 64)):
            if version in (1, 2):
                read.number(index_size)
            offset = read.number(offset_size)
            extents.append((base + offset, read.number(length_size)))
        meta.places[item] = method, extents


def _sizes(source: ByteSource, start: int, end: int, meta: _Meta) -> None:
    for kind, at, until in boxes(source, start, end):
        if kind == b"ispe" and until - at >= 12:
            data = source.read(at + 4, 8)
            width, height = int.from_bytes(data[:4], "big"), int.from_bytes(data[4:], "big")
            if (
                width * height > meta.width * meta.height
            ):  # the picture is the largest; others are its tiles and thumbnail
                meta.width, meta.height = width, height


def _content(source: ByteSource, meta: _Meta, item: int) -> bytes:
    method, extents = meta.places.get(item, (0, []))
    start = meta.data[0] if method == 1 else 0
    found = b""
    for offset, length in extents:
        if length <= _MOST_BYTES - len(found) and method < 2:
            found += source.read(start + offset, length)
    return found
