"""Short valid MP4 clips (ISO/IEC 14496-12 and -14): JPEG pictures in a movie file, one after another."""

import struct
from collections.abc import Sequence
from datetime import datetime

_IDENTITY = struct.pack(">9I", 0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000)


def _box(kind: bytes, *content: bytes) -> bytes:
    body = b"".join(content)
    return struct.pack(">I", 8 + len(body)) + kind + body


def _full(kind: bytes, *content: bytes, version: int = 0, flags: int = 0) -> bytes:
    return _box(kind, struct.pack(">I", version << 24 | flags), *content)


def _descriptor(tag: int, *content: bytes) -> bytes:
    body = b"".join(content)
    return bytes((tag, len(body))) + body


def movie(pictures: Sequence[bytes], size: tuple[int, int], created_utc: datetime, rate: int = 8) -> bytes:
    """An MP4 of JPEG `pictures`, each shown for 1/`rate` seconds; `created_utc` is naive UTC."""
    stamp = int((created_utc - datetime(1904, 1, 1)).total_seconds())
    width, height = size
    count = len(pictures)
    # Object type 0x6C is JPEG; stream type 4 is visual (14496-1, 7.2.6.6).
    configuration = _descriptor(4, struct.pack(">BB3sII", 0x6C, 4 << 2 | 1, b"\0\0\0", 0, 0))
    codec = _full(b"esds", _descriptor(3, struct.pack(">HB", 1, 0), configuration, _descriptor(6, b"\2")))
    entry = _box(
        b"mp4v",
        struct.pack(">6xH16xHHIIIH", 1, width, height, 0x480000, 0x480000, 0, 1),
        b"\0" * 32,
        struct.pack(">Hh", 24, -1),
        codec,
    )
    start = _box(b"ftyp", b"isom", struct.pack(">I", 0x200), b"isommp41")
    table = _box(
        b"stbl",
        _full(b"stsd", struct.pack(">I", 1), entry),
        _full(b"stts", struct.pack(">III", 1, count, 1)),
        _full(b"stsc", struct.pack(">IIII", 1, 1, count, 1)),
        _full(b"stsz", struct.pack(f">II{count}I", 0, count, *(len(picture) for picture in pictures))),
        _full(b"stco", struct.pack(">II", 1, len(start) + 8)),  # the pictures follow the file type at once
    )
    reference = _box(b"dinf", _full(b"dref", struct.pack(">I", 1), _full(b"url ", flags=1)))
    media = _box(
        b"mdia",
        _full(b"mdhd", struct.pack(">IIIIHH", stamp, stamp, rate, count, 0x55C4, 0)),
        _full(b"hdlr", struct.pack(">I4s12x", 0, b"vide"), b"Withymere\0"),
        _box(b"minf", _full(b"vmhd", b"\0" * 8, flags=1), reference, table),
    )
    track = _box(
        b"trak",
        _full(
            b"tkhd",
            struct.pack(">IIIII8xhhhH", stamp, stamp, 1, 0, count, 0, 0, 0, 0),
            _IDENTITY,
            struct.pack(">II", width << 16, height << 16),
            flags=7,
        ),
        media,
    )
    header = _full(
        b"mvhd",
        struct.pack(">IIIIIH10x", stamp, stamp, rate, count, 0x10000, 0x100),
        _IDENTITY,
        b"\0" * 24,
        struct.pack(">I", 2),
    )
    return start + _box(b"mdat", *pictures) + _box(b"moov", header, track)
