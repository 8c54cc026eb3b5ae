"""Raw files of the made-up world (DNG 1.4 over TIFF 6.0)."""

import struct
from datetime import datetime

import numpy as np
from PIL import Image


def dng(picture: Image.Image, local: datetime, maker: str, model: str, preview: bytes = b"") -> bytes:
    """A DNG (1.4): a small RGB picture first, the sensor's mosaic behind it, dates in an Exif directory. `preview` is a JPEG."""
    small = picture.resize((120, 80)).tobytes()
    rgb = np.asarray(picture.resize((240, 160)))
    mosaic = np.empty((160, 240), dtype="<u2")
    for row, column, channel in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        mosaic[row::2, column::2] = rgb[row::2, column::2, channel].astype("<u2") * 256
    raw = mosaic.tobytes()
    writer = _Tiff()
    at_small, at_raw = writer.block(small), writer.block(raw)
    shot = writer.directory([(0x9003, 2, local.strftime("%Y:%m:%d %H:%M:%S").encode() + b"\0")])
    sensor = writer.directory(
        [
            (0x00FE, 4, [0]), (0x0100, 4, [240]), (0x0101, 4, [160]), (0x0102, 3, [16]), (0x0103, 3, [1]),
            (0x0106, 3, [32803]), (0x0111, 4, [at_raw]), (0x0115, 3, [1]), (0x0116, 4, [160]), (0x0117, 4, [len(raw)]),
            (0x828D, 3, [2, 2]), (0x828E, 1, b"\0\1\1\2"),
        ]
    )  # fmt: skip
    pictures = [sensor]
    if preview:
        place = writer.block(preview)
        pictures.append(writer.directory(
            [(0x00FE, 4, [1]), (0x0103, 3, [7]), (0x0106, 3, [6]), (0x0111, 4, [place]), (0x0117, 4, [len(preview)])]
        ))  # fmt: skip
    first = writer.directory(
        [
            (0x00FE, 4, [1]), (0x0100, 4, [120]), (0x0101, 4, [80]), (0x0102, 3, [8, 8, 8]), (0x0103, 3, [1]),
            (0x0106, 3, [2]), (0x010F, 2, maker.encode() + b"\0"), (0x0110, 2, model.encode() + b"\0"),
            (0x0111, 4, [at_small]), (0x0115, 3, [3]), (0x0116, 4, [80]), (0x0117, 4, [len(small)]),
            (0x014A, 4, pictures), (0x8769, 4, [shot]), (0xC612, 1, b"\1\4\0\0"), (0xC613, 1, b"\1\1\0\0"),
            (0xC614, 2, f"{maker} {model}".encode() + b"\0"),
        ]
    )  # fmt: skip
    return writer.finish(first)


class _Tiff:
    """A little-endian TIFF file (6.0), built from its end: blocks and directories get places as they come."""

    def __init__(self) -> None:
        self._data = bytearray(b"II*\0\0\0\0\0")

    def block(self, content: bytes) -> int:
        place = len(self._data)
        self._data += content + b"\0" * (len(content) % 2)
        return place

    def directory(self, tags: list[tuple[int, int, bytes | list[int]]]) -> int:
        entries = b""
        for tag, kind, value in tags:
            raw = (
                value if isinstance(value, bytes) else struct.pack(f"<{len(value)}{'H' if kind == 3 else 'I'}", *value)
            )
            count = len(value)
            where = raw.ljust(4, b"\0") if len(raw) <= 4 else struct.pack("<I", self.block(raw))
            entries += struct.pack("<HHI", tag, kind, count) + where
        return self.block(struct.pack("<H", len(tags)) + entries + b"\0\0\0\0")

    def finish(self, first: int) -> bytes:
        self._data[4:8] = struct.pack("<I", first)
        return bytes(self._data)
