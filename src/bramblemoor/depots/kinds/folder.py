"""A folder on a mounted file system: an external or internal drive, or a network drive."""

import errno
import mmap
import os
import threading
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from bramblemoor.depots.kinds.interface import Drive, Grade, Reading
from bramblemoor.library.durable import flush_file, flush_many, set_time
from bramblemoor.library.volumes import Volume, volume_of

_MOST = 5 << 20
"""The largest piece that is read at once."""
_BLOCK = 4096
_BINARY = getattr(os, "O_BINARY", 0)  # Windows
_WRITE = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | _BINARY
_READ = os.O_RDONLY | _BINARY


class FolderDrive(Drive):
    kind = "folder"

    @cached_property
    def volume(self) -> Volume:
        return volume_of(self.root)

    @property
    def device(self) -> str:
        return self.volume.device

    def open_to_write(self, path: Path) -> BinaryIO:
        return path.open("wb", buffering=0)

    def write(self, path: str, content: bytes, mtime_ns: int) -> None:
        descriptor = os.open(path, _WRITE, 0o666)
        try:
            rest = memoryview(content)
            while rest:
                rest = rest[os.write(descriptor, rest) :]
        finally:
            os.close(descriptor)
        set_time(path, mtime_ns)

    def compare(self, path: str, content: bytes) -> tuple[bool, Grade]:
        descriptor, grade = self._open(path)
        try:
            if grade == "medium":
                # One block more than there should be, and no more: a large buffer takes long to make ready.
                buffer, room = _buffer(), (len(content) // _BLOCK + 1) * _BLOCK
                count = os.preadv(descriptor, [memoryview(buffer)[:room]], 0)
                return buffer[:count] == content, grade
            pieces = iter(lambda: os.read(descriptor, len(content) + 1), b"")
            return b"".join(pieces) == content, grade
        finally:
            os.close(descriptor)

    def flush(self, paths: Iterable[Path]) -> None:
        flush_many(paths, self.root, whole_system=self.volume.flushes_whole)

    def flush_one(self, path: Path) -> None:
        flush_file(path)

    @contextmanager
    def read_from_medium(self, path: Path, size: int) -> Iterator[Reading]:
        descriptor, grade = self._open(str(path))
        try:
            yield Reading(grade, self._pieces(descriptor, size, direct=grade == "medium"))
        finally:
            os.close(descriptor)

    def _open(self, path: str) -> tuple[int, Grade]:
        """Open a file to read past the system's cache (O_DIRECT); where that is refused, drop what is cached of it."""
        if self._can_prove:
            try:
                return os.open(path, _READ | os.O_DIRECT), "medium"
            except OSError as error:
                if error.errno != errno.EINVAL:
                    raise
        descriptor = os.open(path, _READ)
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        return descriptor, "maybe-cache"

    def _pieces(self, descriptor: int, size: int, *, direct: bool) -> Iterator[bytes]:
        """The content in pieces of just `size` bytes, but for the last: they must line up with those that were written."""
        if not direct:
            yield from iter(lambda: _read_full(descriptor, size), b"")
            return
        buffer = _buffer()
        offset = 0
        size = min(size, (os.fstat(descriptor).st_size // _BLOCK + 1) * _BLOCK)
        while count := os.preadv(descriptor, [memoryview(buffer)[:size]], offset):
            yield buffer[:count]
            offset += count
            if count % _BLOCK:
                return  # only the end of a file is no whole block

    @cached_property
    def _can_prove(self) -> bool:
        return self.volume.can_prove_reading and hasattr(os, "O_DIRECT") and hasattr(os, "preadv")


_buffers = threading.local()


def _buffer() -> mmap.mmap:
    """A buffer of this thread's, aligned as reading past the cache needs it."""
    if not hasattr(_buffers, "own"):
        _buffers.own = mmap.mmap(-1, _MOST)
    own: mmap.mmap = _buffers.own
    return own


def _read_full(descriptor: int, size: int) -> bytes:
    """Exactly `size` bytes unless the file ends."""
    piece = os.read(descriptor, size)
    while piece and len(piece) < size and (more := os.read(descriptor, size - len(piece))):
        piece += more
    return piece
