"""The marker segments of a JPEG file (ITU-T T.81, appendix B): just enough to reach its metadata and size."""

from collections.abc import Iterator

from bramblemoor.frames.embedded import Embedded
from bramblemoor.frames.iptc import resources
from bramblemoor.frames.source import ByteSource

_EXIF = b"Exif\0\0"
JPEG_XMP = b"http://ns.adobe.com/xap/1.0/\0"
JPEG_XMP_MORE = b"http://ns.adobe.com/xmp/extension/\0"
_RESOURCES = b"Photoshop 3.0\0"
_STANDALONE = {0x01, *range(0xD0, 0xD9)}
_FRAME_HEADERS = {*range(0xC0, 0xD0)} - {0xC4, 0xC8, 0xCC}
_MOST_SEGMENTS = 2000
_RESYNC = 1 << 16
_TAIL = 1 << 20


def _segments(source: ByteSource) -> Iterator[tuple[int, bytes, int]]:
    """Yield (marker, payload, where it begins) up to the start of the image data; stops quietly where the file breaks off."""
    offset = 2
    for _ in range(_MOST_SEGMENTS):
        head = source.read(offset, 4)
        if len(head) < 4:
            return
        if head[0] != 0xFF:  # a segment's length was wrong: go on at the next marker
            skipped = source.read(offset, _RESYNC).find(b"\xff")
            if skipped < 0:
                return
            offset += skipped
            continue
        marker = head[1]
        if marker == 0xFF or marker in _STANDALONE:  # fill bytes and markers without a length
            offset += 1 if marker == 0xFF else 2
            continue
        length = int.from_bytes(head[2:4], "big")
        if length < 2:
            offset += 2
            continue
        yield marker, source.read(offset + 4, length - 2), offset
        if marker == 0xDA:
            return
        offset += 2 + length


def read_jpeg(source: ByteSource) -> Embedded:
    """Collect Exif, XMP, IPTC and pixel size from the segments before the image data."""
    exif: bytes | None = None
    packets: list[bytes] = []
    more: dict[bytes, list[tuple[int, bytes]]] = {}
    photoshop = b""
    width = height = 0
    begins = 0
    for marker, payload, offset in _segments(source):
        if marker == 0xE1 and exif is None and payload.startswith(_EXIF):
            exif = payload[len(_EXIF) :]
        elif marker == 0xE1 and not packets and payload.startswith(JPEG_XMP):
            packets.append(payload[len(JPEG_XMP) :])
        elif marker == 0xE1 and payload.startswith(JPEG_XMP_MORE):
            rest = payload[len(JPEG_XMP_MORE) :]  # digest in hex (32), whole length (4), offset (4), and a piece
            more.setdefault(rest[:32], []).append((int.from_bytes(rest[36:40], "big"), rest[40:]))
        elif marker == 0xED and payload.startswith(_RESOURCES):
            photoshop += payload[len(_RESOURCES) :]
        elif marker in _FRAME_HEADERS and len(payload) >= 5:
            height, width = int.from_bytes(payload[1:3], "big"), int.from_bytes(payload[3:5], "big")
        begins = offset if marker == 0xDA else 0
    # A large packet goes on in an extension that the first part names by its digest (XMP part 3, 1.1.3.1).
    for digest, pieces in more.items():
        if packets and digest in packets[0]:
            packets.append(b"".join(piece for _, piece in sorted(pieces)))
    found = resources(photoshop)
    trouble = "" if begins and width else "it holds no picture that could be decoded"
    if not trouble and not _ends(source, begins):
        trouble = "it breaks off before its end"
    return Embedded(
        exif, tuple(packets), found.get(0x0404), found.get(0x0425), width, height, (trouble,) if trouble else ()
    )


def _ends(source: ByteSource, begins: int) -> bool:
    """Whether the marker of a picture's end stands in the last part of the file; some programs put more behind it.

    Before its image data, which `begins` there, a preview may have ended.
    """
    start = max(begins, source.size - _TAIL)
    return b"\xff\xd9" in source.read(start, source.size - start)
