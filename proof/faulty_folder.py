"""A folder behind FUSE that fails on order: EIO at the Nth read, write, fsync or look at a file whose path holds a word, or at
the Nth listing of such a folder.

usage: faulty_folder.py FOLDER MOUNTPOINT ORDERS

ORDERS is a file with a line such as "write 7 incoming/": read at every call, so that faults can be ordered while it runs. The
count begins anew whenever the line changes. Runs until MOUNTPOINT is unmounted.
"""

import errno
import os
import sys
from pathlib import Path


def serve(folder: str, point: str, orders: Path) -> None:
    from fuse import FUSE, FuseOSError, Operations

    class Faulty(Operations):  # type: ignore[misc]
        def __init__(self) -> None:
            self._line = ""
            self._count = 0
            self._bad = ""

        def _fail(self, kind: str, path: str) -> None:
            line = orders.read_text().strip() if orders.exists() else ""
            if line != self._line:
                self._line, self._count, self._bad = line, 0, ""
            wanted, number, word = [*line.split(" ", 2), "", "", ""][:3]
            if wanted == kind and word in path:
                self._count += 1
                if self._count == int(number):
                    self._bad = path  # and it stays bad: systems ask twice
                if path == self._bad:
                    orders.with_suffix(".hit").write_text(path)
                    raise FuseOSError(errno.EIO)

        def _real(self, path: str) -> str:
            return folder + path

        def getattr(self, path: str, fh: object = None) -> dict[str, object]:
            self._fail("look", path)
            try:
                found = os.lstat(self._real(path))
            except OSError as error:
                raise FuseOSError(error.errno or errno.EIO) from error
            names = ("st_atime", "st_ctime", "st_gid", "st_mode", "st_mtime", "st_nlink", "st_size", "st_uid")
            return {name: getattr(found, name) for name in names}

        def readdir(self, path: str, fh: object) -> list[str]:
            self._fail("list", path)
            return [".", "..", *os.listdir(self._real(path))]

        def statfs(self, path: str) -> dict[str, int]:
            found = os.statvfs(self._real(path))
            names = ("f_bavail", "f_bfree", "f_blocks", "f_bsize", "f_files", "f_ffree", "f_frsize", "f_namemax")
            return {name: getattr(found, name) for name in names}

        def mkdir(self, path: str, mode: int) -> None:
            os.mkdir(self._real(path), mode)

        def rmdir(self, path: str) -> None:
            try:
                os.rmdir(self._real(path))
            except OSError as error:
                raise FuseOSError(error.errno or errno.EIO) from error

        def unlink(self, path: str) -> None:
            os.unlink(self._real(path))

        def rename(self, old: str, new: str) -> None:
            os.rename(self._real(old), self._real(new))

        def truncate(self, path: str, length: int, fh: int | None = None) -> None:
            os.truncate(self._real(path), length)

        def utimens(self, path: str, times: tuple[float, float] | None = None) -> None:
            os.utime(self._real(path), times)

        def chmod(self, path: str, mode: int) -> int:
            os.chmod(self._real(path), mode)
            return 0

        def open(self, path: str, flags: int) -> int:
            return os.open(self._real(path), flags & ~os.O_DIRECT)

        def create(self, path: str, mode: int, fi: object = None) -> int:
            return os.open(self._real(path), os.O_RDWR | os.O_CREAT | os.O_TRUNC, mode)

        def read(self, path: str, size: int, offset: int, fh: int) -> bytes:
            self._fail("read", path)
            return os.pread(fh, size, offset)

        def write(self, path: str, data: bytes, offset: int, fh: int) -> int:
            self._fail("write", path)
            return os.pwrite(fh, data, offset)

        def fsync(self, path: str, datasync: int, fh: int) -> int:
            self._fail("fsync", path)
            os.fsync(fh)
            return 0

        def release(self, path: str, fh: int) -> int:
            os.close(fh)
            return 0

    FUSE(Faulty(), point, foreground=True, nothreads=True, big_writes=True)


if __name__ == "__main__":
    serve(sys.argv[1], sys.argv[2], Path(sys.argv[3]))
