"""Tiny valid pictures with known Exif, each with content of its own; made byte by byte, without any library."""

import struct
import zlib
from datetime import datetime

# A grey JPEG of 8 x 8 pixels: tables and scan data as a baseline encoder writes them.
_TABLES = bytes.fromhex(
    "ffdb004300" + "10" * 64 + "ffc0000b080008000801011100"
    "ffc4001f0000010501010101010100000000000000000102030405060708090a0b"
    "ffc400b5100002010303020403050504040000017d"
    "01020300041105122131410613516107227114328191a1082342b1c11552d1f02433627282090a161718191a25262728292a3435363738393a"
    "434445464748494a535455565758595a636465666768696a737475767778797a838485868788898a92939495969798999aa2a3a4a5a6a7a8a9"
    "aab2b3b4b5b6b7b8b9bac2c3c4c5c6c7c8c9cad2d3d4d5d6d7d8d9dae1e2e3e4e5e6e7e8e9eaf1f2f3f4f5f6f7f8f9fa"
)
_SCAN = bytes.fromhex("ffda0008010100003f00") + b"\x2a" + b"\xff\xd9"


def exif_block(local: datetime | None, offset: int | None, order: str = "<") -> bytes:
    """A TIFF block with DateTimeOriginal and OffsetTimeOriginal; `offset` in minutes."""
    tags = []
    if local is not None:
        year = f"{local.year:04}"
        tags.append((0x9003, (year + local.strftime(":%m:%d %H:%M:%S")).encode() + b"\0"))
    if local is not None and offset is not None:
        sign = "-" if offset < 0 else "+"
        tags.append((0x9011, f"{sign}{abs(offset) // 60:02}:{abs(offset) % 60:02}".encode() + b"\0"))
    at = 8 + 2 + 12 + 4
    head = (b"II*\0" if order == "<" else b"MM\0*") + struct.pack(order + "I", 8)
    main = struct.pack(order + "HHHII", 1, 0x8769, 4, 1, at) + b"\0" * 4
    data_at = at + 2 + 12 * len(tags) + 4
    entries, data = b"", b""
    for tag, value in tags:
        entries += struct.pack(order + "HHII", tag, 2, len(value), data_at + len(data))
        data += value + b"\0" * (len(value) % 2)
    return head + main + struct.pack(order + "H", len(tags)) + entries + b"\0" * 4 + data


def jpeg(number: int, local: datetime | None = None, offset: int | None = None, order: str = "<") -> bytes:
    """A JPEG that differs from all others by the number in its comment."""
    block = b"Exif\0\0" + exif_block(local, offset, order)
    exif = b"\xff\xe1" + struct.pack(">H", len(block) + 2) + block if local is not None else b""
    note = f"made-up picture {number}".encode() + b"." * (number * 37 % 1009)  # hardly two are of one size
    return b"\xff\xd8" + exif + b"\xff\xfe" + struct.pack(">H", len(note) + 2) + note + _TABLES + _SCAN


def png(number: int, local: datetime | None = None, offset: int | None = None) -> bytes:
    def chunk(kind: bytes, content: bytes) -> bytes:
        return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))

    exif = chunk(b"eXIf", exif_block(local, offset, ">")) if local is not None else b""
    note = b"Comment\0" + str(number).encode() + b"." * (number * 37 % 1009)
    pixels = zlib.compress(b"\0" + bytes([number % 256]) * 8 + b"".join(b"\0" + b"\x80" * 8 for _ in range(7)))
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", 8, 8, 8, 0, 0, 0, 0)) + exif
        + chunk(b"tEXt", note) + chunk(b"IDAT", pixels) + chunk(b"IEND", b"")
    )  # fmt: skip


def mp4(number: int, utc: datetime | None = None) -> bytes:
    """A movie of no frames; its header tells `utc`, or 0 for unknown."""

    def box(kind: bytes, content: bytes) -> bytes:
        return struct.pack(">I", len(content) + 8) + kind + content

    stamp = int((utc - datetime(1904, 1, 1)).total_seconds()) if utc is not None else 0
    wide = stamp >= 1 << 32
    head = struct.pack(">B3xQQIQ", 1, stamp, stamp, 1000, 0) if wide else struct.pack(">4xIIII", stamp, stamp, 1000, 0)
    header = box(b"mvhd", head + b"\0" * 80)
    return (
        box(b"ftyp", b"isom\0\0\2\0isommp41") + box(b"free", f"made-up film {number}".encode()) + box(b"moov", header)
    )
