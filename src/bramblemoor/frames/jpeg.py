"""The marker segments of a JPEG file (ITU-T T.81, appendix B): just enough to reach its metadata and size."""

from collections.abc import Iterator
from dataclasses import dataclass

from bramblemoor.frames.source import ByteSource

_EXIF = b"Exif\0\0"
_XMP = b"http://ns.adobe.com/xap/1.0/\0"
_STANDALONE = {0x01, *range(0xD0, 0xD9)}
_FRAME_HEADERS = {*range(0xC0, 0xD0)} - {0xC4, 0xC8, 0xCC}


@dataclass(frozen=True)
class JpegParts:
    """What the header of a JPEG holds: a TIFF block, an XMP packet, and the size in pixels (0 where not found)."""

    exif: bytes | None
    xmp: bytes | None
    width: int
    height: int


def _segments(source: ByteSource) -> Iterator[tuple[int, bytes]]:
    """Yield (marker, payload) up to the start of the image data; stops quietly where the file breaks off."""
    offset = 2
    while True:
        head = source.read(offset, 4)
        if len(head) < 4 or head[0] != 0xFF:
            return
        marker = head[1]
        if marker == 0xFF or marker in _STANDALONE:  # fill bytes and markers without a length
            offset += 1 if marker == 0xFF else 2
            continue
        length = int.from_bytes(head[2:4], "big")
        if marker == 0xDA or length < 2:
            return
        yield marker, source.read(offset + 4, length - 2)
        offset += 2 + length


def read_jpeg(source: ByteSource) -> JpegParts:
    """Collect Exif, XMP and pixel size from the segments before the image data."""
    exif = xmp = None
    width = height = 0
    for marker, payload in _segments(source):
        if marker == 0xE1 and exif is None and payload.startswith(_EXIF):
            exif = payload[len(_EXIF) :]
        elif marker == 0xE1 and xmp is None and payload.startswith(_XMP):
            xmp = payload[len(_XMP) :]
        elif marker in _FRAME_HEADERS and len(payload) >= 5:
            height, width = int.from_bytes(payload[1:3], "big"), int.from_bytes(payload[3:5], "big")
    return JpegParts(exif, xmp, width, height)
