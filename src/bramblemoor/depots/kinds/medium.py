"""Reading from the medium and writing past the system's cache, as far as the system lets one (O_DIRECT)."""

import errno
import io
import mmap
import os
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from bramblemoor.depots.kinds.interface import Grade
from bramblemoor.disk.durable import same_bytes
from bramblemoor.disk.file_systems import FileSystem, file_system_of

try:
    import fcntl
except ImportError:  # Windows
    fcntl = None  # type: ignore[assignment]

_MOST = 5 << 20
"""The largest piece that is read at once."""
LARGE = 1 << 20
"""Bytes from which on it is worth while to write a file past the cache, and to handle two at once."""
_BLOCK = 4096
_WINDOW = 1 << 20
READ = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)  # a link to a good file is no copy of it


def can_prove(system: FileSystem) -> bool:
    """Whether a reading there can be proven to come from the medium."""
    return system.can_prove_reading and hasattr(os, "O_DIRECT") and hasattr(os, "preadv")


def open_on_medium(path: str, *, proves: bool) -> tuple[int, Grade]:
    """Open a file to read past the system's cache; where that is refused, drop what is cached of it."""
    if proves:
        try:
            return os.open(path, READ | os.O_DIRECT), "medium"
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
    descriptor = os.open(path, READ)
    if hasattr(os, "posix_fadvise"):
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
    return descriptor, "maybe-cache"


def pieces_of(descriptor: int, size: int, grade: Grade) -> Iterator[memoryview]:
    """The content in pieces of just `size` bytes, but for the last: they must line up with those that were written."""
    buffer = _buffer()
    size = min(size, (os.fstat(descriptor).st_size // _BLOCK + 1) * _BLOCK)
    while count := _read_into(descriptor, memoryview(buffer)[:size], grade):
        yield memoryview(buffer)[:count]
        if count < size:
            return


def is_just(descriptor: int, parts: Sequence[memoryview], grade: Grade) -> bool:
    """Whether a file is just this. All parts but the last are of whole blocks."""
    buffer = _buffer()
    for number, part in enumerate(parts):
        # Of the last one block more than there should be, and no more: a large buffer takes long to make ready.
        room = len(part) if number < len(parts) - 1 else (len(part) // _BLOCK + 1) * _BLOCK
        count = _read_into(descriptor, memoryview(buffer)[:room], grade)
        if count != len(part) or not same_bytes(buffer, part):
            return False
    return True


def open_past_cache(path: str, *, proves: bool) -> io.RawIOBase:
    """A new or emptied file, written past the cache where that can be."""
    if proves and fcntl is not None:
        try:
            return PastCache(path)
        except OSError as error:
            if error.errno != errno.EINVAL:  # the file system writes past its cache for nobody
                raise
    return io.FileIO(path, "wb")


class MediumFile(io.RawIOBase):
    """A file that can be read anywhere, from the medium as far as can be had; `grade` says whether it was."""

    def __init__(self, path: Path) -> None:
        self._descriptor, self.grade = open_on_medium(str(path), proves=can_prove(file_system_of(path.parent)))
        self._size = os.fstat(self._descriptor).st_size
        self._at = 0
        self._window, self._start, self._filled = mmap.mmap(-1, _WINDOW), 0, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self._at = max(0, offset + {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence])
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, room: Any) -> int:
        view = memoryview(room).cast("B")
        if self._at >= self._size:
            return 0
        if not self._start <= self._at < self._start + self._filled:
            self._start = self._at - self._at % _BLOCK
            os.lseek(self._descriptor, self._start, os.SEEK_SET)
            self._filled = _read_into(self._descriptor, memoryview(self._window), self.grade)
        begin = self._at - self._start
        count = max(0, min(len(view), self._filled - begin))
        view[:count] = memoryview(self._window)[begin : begin + count]
        self._at += count
        return count

    def close(self) -> None:
        if not self.closed:
            os.close(self._descriptor)
        super().close()


class PastCache(io.FileIO):
    """A new file that is written past the system's cache (O_DIRECT): filling the cache takes longer than the drive does.

    Whole blocks are; from the first piece on that is none, or that the system refuses, the cache is used.
    """

    def __init__(self, path: str) -> None:
        super().__init__(path, "wb", opener=_open_past_cache)
        self._past_cache = True

    def write(self, content: Any) -> int:
        whole = len(content) - len(content) % _BLOCK if self._past_cache else 0
        if whole:
            try:
                return super().write(content[:whole])
            except OSError as error:
                if error.errno != errno.EINVAL:
                    raise
        if self._past_cache:
            self._past_cache = False
            flags = fcntl.fcntl(self, fcntl.F_GETFL)
            fcntl.fcntl(self, fcntl.F_SETFL, flags & ~os.O_DIRECT)
        return super().write(content)


def _open_past_cache(path: str, flags: int) -> int:
    return os.open(path, flags | os.O_DIRECT, 0o666)


_buffers = threading.local()


def _buffer() -> mmap.mmap:
    """A buffer of this thread's, aligned as reading past the cache needs it."""
    if not hasattr(_buffers, "own"):
        _buffers.own = mmap.mmap(-1, _MOST)
    own: mmap.mmap = _buffers.own
    return own


def _read_into(descriptor: int, room: memoryview, grade: Grade) -> int:
    """Fill `room` unless the file ends; returns how much came."""
    if hasattr(os, "readv"):
        filled = os.readv(descriptor, [room])
        # Past the cache only the end of a file is no whole block, and nothing may be read behind it.
        while 0 < filled < len(room) and (grade == "maybe-cache" or filled % _BLOCK == 0):
            more = os.readv(descriptor, [room[filled:]])
            if not more:
                break
            filled += more
        return filled
    content = _read_full(descriptor, len(room))
    room[: len(content)] = content
    return len(content)


def _read_full(descriptor: int, size: int) -> bytes:
    """Exactly `size` bytes unless the file ends."""
    piece = os.read(descriptor, size)
    while piece and len(piece) < size and (more := os.read(descriptor, size - len(piece))):
        piece += more
    return piece
