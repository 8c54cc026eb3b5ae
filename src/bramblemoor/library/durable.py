"""Putting bytes on disk so that they are either wholly there, under their final name, or not at all."""

import ctypes
import errno
import hashlib
import mmap
import os
import sys
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path

CHUNK = 1 << 20
TEMPORARY = ".bm-new"
"""Suffix of files being written; whatever carries it may be removed by the next run."""

_libc = ctypes.CDLL(None, use_errno=True) if sys.platform.startswith("linux") else None


def flush_file(path: Path) -> None:
    """fsync one file."""
    # Windows flushes only through a handle that may write.
    descriptor = os.open(path, os.O_RDWR if sys.platform == "win32" else os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def flush_folder(folder: Path) -> None:
    """Make names in a folder durable; where the system has no such call (Windows), renames are durable by themselves."""
    if sys.platform == "win32":
        return
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    except OSError as error:
        if error.errno in (errno.EIO, errno.ENOSPC):
            raise
        # some FUSE drives refuse fsync on folders
    finally:
        os.close(descriptor)


def flush_many(paths: Iterable[Path], root: Path, *, whole_system: bool) -> None:
    """Make many written files durable: one syncfs where the file system honours it, else fsync of each.

    `whole_system` says that syncfs can be trusted there: FUSE drives return 0 from it without flushing the device.
    """
    if whole_system and _libc is not None and hasattr(_libc, "syncfs"):
        descriptor = os.open(root, os.O_RDONLY)
        try:
            if _libc.syncfs(descriptor) == 0:
                return
            if ctypes.get_errno() in (errno.EIO, errno.ENOSPC, errno.EDQUOT):
                raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()), str(root))
        finally:
            os.close(descriptor)
    for path in paths:
        flush_file(path)


def write_atomically(path: Path, content: bytes, mtime_ns: int | None = None) -> None:
    """Write a whole small file under its final name, durably. An existing file is replaced."""
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(path.name + TEMPORARY)
    with fresh.open("wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    if mtime_ns is not None:
        set_time(fresh, mtime_ns)
    fresh.replace(path)
    flush_folder(path.parent)


def clear_unfinished(*folders: Path) -> None:
    """Remove what killed runs have left half written in some folders. The caller holds what they belong to."""
    for folder in folders:
        for left in folder.glob(f"*{TEMPORARY}") if folder.is_dir() else ():
            left.unlink(missing_ok=True)  # a drive whose index is broken lists what is not there


def set_time(path: Path | str, mtime_ns: int) -> None:
    """Set a file's modification time; a file system that cannot hold the date keeps its own (the ledger knows it)."""
    with suppress(OSError, OverflowError):
        os.utime(path, ns=(mtime_ns, mtime_ns))


def same_bytes(buffer: mmap.mmap, part: memoryview) -> bool:
    """Whether a buffer begins with just these bytes, compared where they lie: copies of them would take longer to make."""
    if _libc is None or part.readonly:
        return buffer[: len(part)] == bytes(part)
    ours, theirs = ctypes.c_char.from_buffer(buffer), ctypes.c_char.from_buffer(part) if part else None
    if theirs is None:
        return True
    different: int = _libc.memcmp(ctypes.byref(ours), ctypes.byref(theirs), ctypes.c_size_t(len(part)))
    return different == 0


def chunks(path: Path) -> Iterator[bytes]:
    """A file's content in pieces."""
    with path.open("rb", buffering=0) as file:
        while piece := file.read(CHUNK):
            yield piece


def digest_of(path: Path) -> str:
    """SHA-256 of a file, in hex."""
    with path.open("rb", buffering=0) as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def free_bytes(folder: Path) -> int:
    """Bytes that may still be written where `folder` lies."""
    import shutil

    return shutil.disk_usage(folder).free
