"""The chunks of PNG (ISO/IEC 15948) and WebP (RFC 9649) files that hold metadata and size."""

import zlib
from collections.abc import Iterator

from bramblemoor.frames.embedded import Embedded
from bramblemoor.frames.moments import Moment, moment_in_words
from bramblemoor.frames.source import ByteSource

PNG_XMP = b"XML:com.\x61dobe.xmp"
_MADE = b"Creation Time"  # ISO/IEC 15948, 11.3.4.2
_MOST_TEXT = 1024
_MOST_CHUNKS = 100_000
_MOST_BYTES = 16 << 20


def _png_chunks(source: ByteSource) -> Iterator[tuple[bytes, int, int]]:
    offset = 8
    for _ in range(_MOST_CHUNKS):
        head = source.read(offset, 8)
        if len(head) < 8:
            return
        length = int.from_bytes(head[:4], "big")
        yield head[4:], offset + 8, length
        offset += 12 + length


def read_png(source: ByteSource) -> Embedded:
    """IHDR, eXIf, the XMP packet of an iTXt chunk, and when it was made."""
    exif: bytes | None = None
    packets: list[bytes] = []
    told: Moment | None = None
    width = height = 0
    kind = b""
    for kind, start, length in _png_chunks(source):
        if kind == b"IHDR":
            head = source.read(start, 8)
            width, height = int.from_bytes(head[:4], "big"), int.from_bytes(head[4:], "big")
        elif kind == b"eXIf" and length <= _MOST_BYTES:
            exif = source.read(start, length).removeprefix(b"Exif\0\0")
        elif kind == b"iTXt" and length <= _MOST_BYTES:
            keyword, text = _international(source.read(start, length))
            packets += [text] if keyword == PNG_XMP and not packets else []
            told = told or (moment_in_words(text.decode("utf-8", "replace")) if keyword == _MADE else None)
        elif kind == b"tEXt" and length <= _MOST_TEXT:
            keyword, _, text = source.read(start, length).partition(b"\0")
            told = told or (moment_in_words(text.decode("latin-1")) if keyword == _MADE else None)
        elif kind == b"IEND":
            break
    trouble = () if kind == b"IEND" and width else ("it breaks off before its end",)
    return Embedded(exif, tuple(packets), width=width, height=height, troubles=trouble, told=told)


def _international(content: bytes) -> tuple[bytes, bytes]:
    """Keyword and text of an iTXt chunk: keyword, compression flag and method, language, translated keyword, text."""
    keyword, _, rest = content.partition(b"\0")
    parts = rest[2:].split(b"\0", 2)
    if keyword not in (PNG_XMP, _MADE) or len(parts) < 3:
        return b"", b""
    if not rest[0]:
        return keyword, parts[2]
    try:
        inflater = zlib.decompressobj()
        return keyword, inflater.decompress(parts[2], _MOST_BYTES)
    except zlib.error:
        return b"", b""


def read_webp(source: ByteSource) -> Embedded:
    """The EXIF and XMP chunks, and the size from VP8X, VP8L or VP8."""
    exif: bytes | None = None
    packets: list[bytes] = []
    width = height = 0
    offset, end = 12, min(source.size, 8 + int.from_bytes(source.read(4, 4), "little"))
    trouble = () if end == 8 + int.from_bytes(source.read(4, 4), "little") else ("it breaks off before its end",)
    for _ in range(_MOST_CHUNKS):
        head = source.read(offset, 8)
        if len(head) < 8 or offset >= end:
            break
        kind, length = head[:4], int.from_bytes(head[4:], "little")
        if kind == b"EXIF" and length <= _MOST_BYTES:
            exif = source.read(offset + 8, length).removeprefix(b"Exif\0\0")
        elif kind == b"XMP " and length <= _MOST_BYTES:
            packets.append(source.read(offset + 8, length))
        elif kind in (b"VP8X", b"VP8 ", b"VP8L") and not width:
            width, height = _webp_size(kind, source.read(offset + 8, 10))
        offset += 8 + length + length % 2
    return Embedded(exif, tuple(packets[:1]), width=width, height=height, troubles=trouble)


def _webp_size(kind: bytes, data: bytes) -> tuple[int, int]:
    if len(data) < 10:
        return 0, 0
    if kind == b"VP8X":
        return 1 + int.from_bytes(data[4:7], "little"), 1 + int.from_bytes(data[7:10], "little")
    if kind == b"VP8L":
        bits = int.from_bytes(data[1:5], "little")
        return 1 + (bits & 0x3FFF), 1 + (bits >> 14 & 0x3FFF)
    return int.from_bytes(data[6:8], "little") & 0x3FFF, int.from_bytes(data[8:10], "little") & 0x3FFF
