"""A drive image that writes down everything that is written to it: a file behind FUSE, to lie under a loop device.

usage: recording_image.py IMAGE LOG MOUNTPOINT

Serves IMAGE as MOUNTPOINT/image. LOG gets, in order, one record a write (its offset and bytes) and one a flush, so that a loss
of power after any flush, with any of the later writes, can be replayed. Runs until MOUNTPOINT is unmounted.
"""

import errno
import os
import stat
import struct
import sys
from collections.abc import Iterator
from pathlib import Path

WRITE, FLUSH = 0, 1
_RECORD = struct.Struct("<BQI")


def read_log(path: Path) -> Iterator[tuple[int, int, bytes]]:
    """(kind, offset, bytes) of each record."""
    with path.open("rb") as file:
        while head := file.read(_RECORD.size):
            kind, offset, length = _RECORD.unpack(head)
            yield kind, offset, file.read(length)


def serve(image: Path, log: Path, point: Path) -> None:
    from fuse import FUSE, FuseOSError, Operations

    class Recording(Operations):  # type: ignore[misc]
        """One file, `image`."""

        def __init__(self) -> None:
            self._file = os.open(image, os.O_RDWR)
            self._log = log.open("ab", buffering=1 << 20)

        def getattr(self, path: str, fh: object = None) -> dict[str, int]:
            if path == "/":
                return {"st_mode": stat.S_IFDIR | 0o755, "st_nlink": 2}
            if path != "/image":
                raise FuseOSError(errno.ENOENT)
            return {"st_mode": stat.S_IFREG | 0o600, "st_nlink": 1, "st_size": image.stat().st_size}

        def readdir(self, path: str, fh: object) -> list[str]:
            return [".", "..", "image"]

        def read(self, path: str, size: int, offset: int, fh: object) -> bytes:
            return os.pread(self._file, size, offset)

        def write(self, path: str, data: bytes, offset: int, fh: object) -> int:
            self._log.write(_RECORD.pack(WRITE, offset, len(data)) + data)
            return os.pwrite(self._file, data, offset)

        def fsync(self, path: str, datasync: int, fh: object) -> int:
            self._log.write(_RECORD.pack(FLUSH, 0, 0))
            return 0

        def destroy(self, path: str) -> None:
            self._log.close()

    FUSE(Recording(), str(point), foreground=True, nothreads=True, big_writes=True, max_write=131072, allow_root=False)


if __name__ == "__main__":
    serve(*(Path(argument) for argument in sys.argv[1:4]))
