"""Putting bytes on disk so that they are either wholly there, under their final name, or not at all."""

import ctypes
import errno
import hashlib
import mmap
import os
import stat
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

CHUNK = 1 << 20
TEMPORARY = ".bm-new"
"""Suffix of files being written; whatever carries it may be removed by the next run."""

_LONGEST = 255
"""Bytes that a name may have; letters, on some file systems, but no fewer."""

_libc = ctypes.CDLL(None, use_errno=True) if sys.platform.startswith("linux") else None

NAME_REFUSED = (errno.ENOENT, errno.EINVAL, errno.ENAMETOOLONG, getattr(errno, "EILSEQ", errno.EINVAL))
"""What file systems answer to a name that they do not take; some as if its folder were missing."""
NOTHING_THERE = (*NAME_REFUSED, errno.ENOTDIR, errno.ELOOP)
"""What they answer where nothing lies, or where nothing can be called so."""


def beside(path: Path, again: str = "") -> Path:
    """Where a file is written before it takes the place of `path`: a temporary name beside it; another one with `again`."""
    return path.with_name(temporary_name(path.name, again))


def temporary_name(name: str, again: str = "") -> str:
    """The name of a file while it is written, where it is to be called `name`; another one with `again`."""
    suffix = again + TEMPORARY
    whole = os.fsencode(name)
    if len(whole) + len(suffix) > _LONGEST:
        # As much of it as there is room for: a drive that refuses the name must refuse this one, too.
        suffix = hashlib.sha256(whole).hexdigest()[:16] + suffix
        return whole[: _LONGEST - len(suffix)].decode("utf-8", "ignore") + suffix
    return name + suffix


def flush_file(path: Path | str) -> None:
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


def flush_many(paths: Iterable[Path | str], root: Path, *, whole_system: bool) -> None:
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


@contextmanager
def replacing(path: Path, mtime_ns: int | None = None) -> Iterator[BinaryIO]:
    """A file to be written that takes the place of `path`, durably, once all of it is; until then what was there stays."""
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh, file = _open_beside(path)
    try:
        with file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        if mtime_ns is not None:
            set_time(fresh, mtime_ns)
        _put(fresh, path)
    except BaseException:
        with suppress(OSError):
            fresh.unlink()
        raise
    flush_folder(path.parent)


# After a loss of power some file systems (NTFS) list a file that is not there. What bears its name can neither be opened,
# removed nor renamed; what bears another can.
_GHOST = (errno.ENOENT, errno.EIO)


def _open_beside(path: Path) -> tuple[Path, BinaryIO]:
    """A new file under a temporary name beside `path`."""
    fresh, other = beside(path), beside(path, ".again")
    try:
        return fresh, fresh.open("wb")
    except OSError as error:
        if error.errno not in _GHOST:
            raise
    return other, other.open("wb")


def _put(fresh: Path, path: Path) -> None:
    """Put a flushed file in the place of `path`; where the system does not find it under its name, a copy of it."""
    try:
        fresh.replace(path)
        return
    except OSError as error:
        if error.errno not in _GHOST:
            raise
    other = beside(path, ".copy")
    other.write_bytes(fresh.read_bytes())
    set_time(other, fresh.stat().st_mtime_ns)
    flush_file(other)
    other.replace(path)
    with suppress(OSError):
        fresh.unlink()


def write_atomically(path: Path, content: bytes, mtime_ns: int | None = None) -> None:
    """Write a whole small file under its final name, durably. An existing file is replaced."""
    with replacing(path, mtime_ns) as file:
        file.write(content)


def clear_unfinished(*folders: Path) -> None:
    """Remove what killed runs have left half written in some folders. The caller holds what they belong to."""
    for folder in folders:
        for left in folder.glob(f"*{TEMPORARY}") if folder.is_dir() else ():
            with suppress(OSError):  # a drive whose index is broken lists what is not there
                left.unlink()


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


def status_of(path: Path | str) -> os.stat_result | None:
    """What lies there, a link itself; None where nothing does, or can. Raises OSError where the drive does not tell."""
    try:
        return os.lstat(path)
    except ValueError:  # the name holds a NUL
        return None
    except OSError as error:
        if error.errno in NOTHING_THERE:
            return None
        raise


def is_taken(path: Path | str) -> bool:
    """Whether anything lies there, or something that cannot be looked at: neither is to be replaced unseen."""
    try:
        return status_of(path) is not None
    except OSError:
        return True


def in_the_way(top: str, path: str) -> str:
    """What keeps a file from lying at `path` below `top`: a file in place of one of its folders, or a folder in its own place.

    Returns its path below `top`, "" where nothing is in the way.
    """
    level = path
    while level:
        with suppress(OSError):  # it is not there, or its name is refused: then what is above it tells
            is_folder = stat.S_ISDIR(os.lstat(f"{top}/{level}").st_mode)
            return level if is_folder == (level == path) else ""
        level = level.rpartition("/")[0]
    return ""


def remove_empty(folders: Iterable[Path], top: Path) -> None:
    """Remove folders in which nothing is left, durably, and those above them that get empty by it; `top` stays."""
    for folder in sorted(folders, key=lambda one: len(one.parts), reverse=True):
        level = folder
        while level != top and level.is_dir():
            try:
                level.rmdir()
            except OSError:  # something lies in it
                break
            level = level.parent
        if level.is_dir():
            flush_folder(level)
