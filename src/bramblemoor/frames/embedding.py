"""Putting an XMP packet into a copy of a picture: into JPEG and PNG files; of other kinds a sidecar goes along."""

import struct
import zlib

from bramblemoor.frames.chunks import PNG_XMP
from bramblemoor.frames.jpeg import JPEG_XMP, JPEG_XMP_MORE

_MOST_IN_SEGMENT = 65_502  # bytes of a packet (XMP part 3, 1.1.3)
_PNG_HEAD = b"\x89PNG\r\n\x1a\n"


def with_packet(content: bytes, packet: bytes) -> bytes | None:
    """The picture with the packet as its own; None where it cannot hold one. The image data stays as it is.

    A packet that it has is replaced: whoever calls has what that said in the new one.
    """
    if content.startswith(b"\xff\xd8\xff") and len(packet) <= _MOST_IN_SEGMENT:
        return _in_jpeg(content, packet)
    if content.startswith(_PNG_HEAD):
        return _in_png(content, packet)
    return None


def _in_jpeg(content: bytes, packet: bytes) -> bytes | None:
    """An APP1 segment behind JFIF and Exif (XMP part 3, 1.1.3)."""
    parts = _parts(content)
    if parts is None:
        return None
    segments, data = parts
    head, rest = [content[:2]], list[bytes]()
    for segment in segments:
        if segment[1] == 0xE1 and segment[4:].startswith((JPEG_XMP, JPEG_XMP_MORE)):
            continue
        is_first = segment[1] == 0xE0 or (segment[1] == 0xE1 and segment[4:10] == b"Exif\0\0")
        (head if is_first else rest).append(segment)
    payload = JPEG_XMP + packet
    segment = b"\xff\xe1" + struct.pack(">H", len(payload) + 2) + payload
    return b"".join([*head, segment, *rest, data])


def image_data(content: bytes) -> bytes:
    """A JPEG less what is said of it (APP1 to APP15 and comments): it stays the same whatever is embedded. Others as they are."""
    parts = _parts(content) if content.startswith(b"\xff\xd8\xff") else None
    if parts is None:
        return content
    segments, data = parts
    return b"".join([*(one for one in segments if not (0xE1 <= one[1] <= 0xEF or one[1] == 0xFE)), data])


def _parts(content: bytes) -> tuple[list[bytes], bytes] | None:
    """The segments of a JPEG before its image data, and that; None where it is broken there."""
    at, segments = 2, list[bytes]()
    while at + 4 <= len(content) and content[at] == 0xFF and content[at + 1] not in (0xDA, 0xD9):
        if content[at + 1] == 0xFF:
            at += 1
            continue
        length = struct.unpack(">H", content[at + 2 : at + 4])[0]
        if length < 2 or at + 2 + length > len(content):
            return None
        segments.append(content[at : at + 2 + length])
        at += 2 + length
    return segments, content[at:]


def _in_png(content: bytes, packet: bytes) -> bytes | None:
    """An iTXt chunk behind the head (XMP part 3, 1.1.5)."""
    at, chunks = len(_PNG_HEAD), []
    while at + 12 <= len(content):
        length = struct.unpack(">I", content[at : at + 4])[0]
        chunk = content[at : at + 12 + length]
        if len(chunk) < 12 + length:
            return None
        at += 12 + length
        if chunk[4:8] == b"iTXt" and chunk[8:].startswith(PNG_XMP + b"\0"):
            continue
        chunks.append(chunk)
        if chunk[4:8] == b"IHDR":
            body = b"iTXt" + PNG_XMP + b"\0\0\0\0\0" + packet
            chunks.append(struct.pack(">I", len(body) - 4) + body + struct.pack(">I", zlib.crc32(body)))
    return _PNG_HEAD + b"".join(chunks) + content[at:]
