"""Looking over the library's folders: every file, in the order in which the ledger sorts paths."""

import errno
import marshal
import os
import signal
import sys
from collections.abc import Iterator
from itertools import islice
from operator import itemgetter
from pathlib import Path

import msgspec

from bramblemoor.library.durable import TEMPORARY
from bramblemoor.library.receipts import Finding, listing
from bramblemoor.library.settings import FILE as SETTINGS_FILE

LITTER = frozenset((".DS_Store", "Thumbs.db", "desktop.ini", ".Spotlight-V100", ".Trashes", ".fseventsd"))
"""What operating systems leave in folders: nobody's work, and nothing to be alarmed at."""
# Receipts about depots lie at the depots; each backup would else need another backup for its own receipt.
_ABOUT_DEPOTS = ("-backup-", "-verify-", "-mend-", "-level-", "-purge-", "-drill-")

_TOLD_AT_ONCE = 500


class Seen(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """A file as the drive tells of it. `path` is relative to the library."""

    path: str
    bytes: int
    mtime_ns: int
    inode: int
    ctime_ns: int


class _Told(msgspec.Struct, array_like=True):
    """What the process that walks tells at a time; in the `last` of these, what it passed over, and what ended it."""

    seen: list[Seen]
    passed_over: list[Finding] = []
    trouble: tuple[int, str, str] | None = None
    last: bool = False


_encode, _decode = msgspec.msgpack.encode, msgspec.msgpack.Decoder(_Told).decode


def walk(root: Path, passed_over: list[Finding]) -> Iterator[Seen]:
    """Every file of the library that depots get, in order of path as UTF-8 bytes; what cannot be taken is `passed_over`."""
    for folder in ("albums", "companions", "delivered", "ledger/receipts", "pictures"):
        if folder == "ledger/receipts":
            receipts = root / folder
            for name in listing(receipts):
                if not any(word in name for word in _ABOUT_DEPOTS):
                    yield _seen(f"{folder}/{name}", (receipts / name).stat())
        else:
            if folder == "companions" and (root / SETTINGS_FILE).is_file():  # where its name sorts
                yield _seen(SETTINGS_FILE, (root / SETTINGS_FILE).stat())
            yield from _below(str(root / folder), folder + "/", passed_over)


def walk_aside(root: Path, passed_over: list[Finding]) -> Iterator[Seen]:
    """The same as walk, but asked of the drive by a process of its own: meanwhile this one compares.

    Raises the OSError that ended that process. Where the system cannot fork, there is one process.
    """
    if not hasattr(os, "fork") or sys.platform == "darwin":
        # On the latter, a forked process may not use what the system's own libraries hold.
        yield from walk(root, passed_over)
        return
    coming, going = os.pipe()
    child = os.fork()
    if not child:
        os.close(coming)
        _tell_what_is_seen(root, going)
    os.close(going)
    try:
        with os.fdopen(coming, "rb") as pipe:
            while True:
                told = _decode(marshal.load(pipe))
                yield from told.seen
                if told.last:
                    break
    except EOFError:
        raise OSError(errno.EIO, "the process that looks over the library was ended", str(root)) from None
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
    passed_over += told.passed_over
    if told.trouble:
        raise OSError(*told.trouble)


def _tell_what_is_seen(root: Path, going: int) -> None:
    """In a process of its own: write what walk finds to a pipe; never returns."""
    try:
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the run; it then reads no more
        end = _Told([], [], last=True)
        with os.fdopen(going, "wb") as pipe:
            found = walk(root, end.passed_over)
            try:
                while batch := list(islice(found, _TOLD_AT_ONCE)):
                    marshal.dump(_encode(_Told(batch)), pipe)
            except OSError as error:
                end.trouble = (error.errno or 0, error.strerror or "", _shown(str(error.filename or root)))
            marshal.dump(_encode(end), pipe)
    finally:
        os._exit(0)


def _seen(path: str, status: os.stat_result) -> Seen:
    return Seen(path, status.st_size, status.st_mtime_ns, status.st_ino, status.st_ctime_ns)


def _below(folder: str, prefix: str, passed_over: list[Finding]) -> Iterator[Seen]:
    # No generator for each level: where there are many files, passing them on would take longer than finding them.
    levels = [(prefix, iter(_listed(folder)))]
    while levels:
        prefix, entries = levels[-1]
        for key, entry in entries:
            name = entry.name
            if name in LITTER or name.endswith(TEMPORARY):
                continue
            if not name.isascii() and _shown(name) != name:
                trouble = "its name is not valid UTF-8, so it is not copied; rename it"
            elif entry.is_file(follow_symlinks=False):
                yield _seen(prefix + name, entry.stat(follow_symlinks=False))
                continue
            elif key[-1] == "/":
                levels.append((f"{prefix}{name}/", iter(_listed(entry.path))))
                break
            elif entry.is_symlink():
                trouble = "it is a link, and links are not copied"
            else:
                trouble = "it is no file, and is not copied"
            passed_over.append(Finding(prefix + _shown(name), trouble))
        else:
            levels.pop()


def _listed(folder: str) -> list[tuple[str, "os.DirEntry[str]"]]:
    """What is in a folder, in order: text sorts as its UTF-8 does, a folder as its name with the slash that follows it."""
    try:
        with os.scandir(folder) as entries:
            found = [
                (entry.name + "/" if entry.is_dir(follow_symlinks=False) else entry.name, entry) for entry in entries
            ]
    except FileNotFoundError:
        return []
    found.sort(key=itemgetter(0))
    return found


def _shown(name: str) -> str:
    return name.encode("utf-8", "replace").decode()
