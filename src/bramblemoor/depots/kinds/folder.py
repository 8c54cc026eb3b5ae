"""A folder on a mounted file system: an external or internal drive, or a network drive."""

import errno
import io
import mmap
import os
import threading
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO, cast

from bramblemoor.depots.kinds.interface import Drive, Grade, Reading
from bramblemoor.depots.register.known import PAYLOAD
from bramblemoor.disk.durable import flush_file, flush_many, same_bytes, set_time
from bramblemoor.disk.file_systems import FileSystem, file_system_of, seat_of
from bramblemoor.disk.told import Inside, Root

try:
    import fcntl
except ImportError:  # Windows
    fcntl = None  # type: ignore[assignment]

_MOST = 5 << 20
"""The largest piece that is read at once."""
_BLOCK = 4096
_WINDOW = 1 << 20
_BINARY = getattr(os, "O_BINARY", 0)  # Windows
_WRITE = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | _BINARY
_READ = os.O_RDONLY | _BINARY | getattr(os, "O_NOFOLLOW", 0)  # a link to a good file is no copy of it


class MediumFile(io.RawIOBase):
    """A file that can be read anywhere, from the medium as far as can be had; `grade` says whether it was."""

    def __init__(self, path: Path) -> None:
        drive = FolderDrive(path.parent, {})
        self._descriptor, self.grade = drive.open_descriptor(str(path))
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


class _PastCache(io.FileIO):
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


class FolderDrive(Drive):
    kind = "folder"

    @cached_property
    def _prefix(self) -> str:
        return f"{self.root}/"

    @cached_property
    def _ways(self) -> Root:
        return Root(self.root)

    @cached_property
    def volume(self) -> FileSystem:
        return file_system_of(self.root)

    @property
    def device(self) -> str:
        return self.volume.device

    @property
    def seat(self) -> str:
        return seat_of(self.root, PAYLOAD)

    @property
    def spins(self) -> bool:
        return self.volume.spins

    @cached_property
    def folds_case(self) -> bool:
        # Of what lies there in any case, as it is asked for before anything is written.
        names = {entry.name for entry in os.scandir(self.root) if entry.name.isascii()} if self.root.is_dir() else set()
        small = next((name for name in names if name.upper() not in names), None)
        return small is not None and os.path.lexists(self.root / small.upper())

    def is_one(self, path: Path, other: Path) -> bool:
        try:
            return path.samefile(other) if self.volume.keeps_folders else self.folds_case
        except OSError:
            return False

    def open_to_write(self, path: Path) -> BinaryIO:
        if self.proves and fcntl is not None:
            try:
                return cast(BinaryIO, _PastCache(str(path)))
            except OSError as error:
                if error.errno != errno.EINVAL:  # the file system writes past its cache for nobody
                    raise
        return path.open("wb", buffering=0)

    def write(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        descriptor = os.open(path, _WRITE, 0o666)
        try:
            rest = memoryview(content)
            while rest:
                rest = rest[os.write(descriptor, rest) :]
        finally:
            os.close(descriptor)
        set_time(path, mtime_ns)

    def compare(self, path: str, parts: Sequence[memoryview]) -> tuple[bool, Grade]:
        descriptor, grade = self.open_descriptor(path)
        buffer = _buffer()
        try:
            for number, part in enumerate(parts):
                # Of the last one block more than there should be, and no more: a large buffer takes long to make ready.
                room = len(part) if number < len(parts) - 1 else (len(part) // _BLOCK + 1) * _BLOCK
                count = _read_into(descriptor, memoryview(buffer)[:room], grade)
                if count != len(part) or not same_bytes(buffer, part):
                    return False, grade
        finally:
            os.close(descriptor)
        return True, grade

    def flush(self, paths: Iterable[Path]) -> None:
        flush_many(paths, self.root, whole_system=self.volume.flushes_whole)

    def flush_one(self, path: Path) -> None:
        flush_file(path)

    @contextmanager
    def read_from_medium(self, path: Path, size: int) -> Iterator[Reading]:
        descriptor, grade = self.open_descriptor(str(path))
        try:
            yield Reading(grade, self._pieces(descriptor, size, grade))
        finally:
            os.close(descriptor)

    def open_descriptor(self, path: str) -> tuple[int, Grade]:
        """Open a file to read past the system's cache (O_DIRECT); where that is refused, drop what is cached of it."""
        if path.startswith(self._prefix):
            self._ways.path(Inside(path[len(self._prefix) :]))
        if self.proves:
            try:
                return os.open(path, _READ | os.O_DIRECT), "medium"
            except OSError as error:
                if error.errno != errno.EINVAL:
                    raise
        descriptor = os.open(path, _READ)
        if hasattr(os, "posix_fadvise"):
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        return descriptor, "maybe-cache"

    def _pieces(self, descriptor: int, size: int, grade: Grade) -> Iterator[memoryview]:
        """The content in pieces of just `size` bytes, but for the last: they must line up with those that were written."""
        buffer = _buffer()
        size = min(size, (os.fstat(descriptor).st_size // _BLOCK + 1) * _BLOCK)
        while count := _read_into(descriptor, memoryview(buffer)[:size], grade):
            yield memoryview(buffer)[:count]
            if count < size:
                return

    @cached_property
    def proves(self) -> bool:
        return self.volume.can_prove_reading and hasattr(os, "O_DIRECT") and hasattr(os, "preadv")


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
