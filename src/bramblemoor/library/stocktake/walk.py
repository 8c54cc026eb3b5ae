"""Looking over the library's folders: every file, in the order in which the ledger sorts paths."""

import os
from collections.abc import Iterator
from operator import itemgetter
from pathlib import Path
from typing import NamedTuple

from bramblemoor.disk.durable import TEMPORARY
from bramblemoor.disk.names import LITTER
from bramblemoor.library.receipts import Finding, listing
from bramblemoor.library.settings import FILE as SETTINGS_FILE

# Receipts about depots lie at the depots; each backup would else need another backup for its own receipt.
_ABOUT_DEPOTS = ("-backup-", "-verify-", "-mend-", "-level-", "-purge-", "-drill-")

LATEST = (1 << 63) - 1
"""The latest time in ns that a ledger can keep, in 2262; some file systems keep later ones."""

Seen = tuple[str, int, int, int, int]
"""A file as the drive tells of it: its path in the library, bytes, mtime in ns, inode, ctime in ns."""


class Span(NamedTuple):
    """Paths from `first` up to, but not with, `end`. Folders are written with the slash behind them."""

    first: str
    end: str

    def has(self, path: str) -> bool:
        return self.first <= path < self.end

    def meets(self, folder: str) -> bool:
        """Whether anything below a folder may be in the span."""
        return folder < self.end and (folder >= self.first or self.first.startswith(folder))

    def cuts(self, folder: str) -> bool:
        """Whether the span may begin or end below a folder."""
        return self.first.startswith(folder) or self.end.startswith(folder)


EVERYTHING = Span("", "\U0010ffff")


def walk(root: Path, passed_over: list[Finding], span: Span = EVERYTHING) -> Iterator[Seen]:
    """Every file of the library that depots get, in order of path as UTF-8 bytes; what cannot be taken is `passed_over`."""
    for folder in ("albums/", "companions/", "delivered/", "ledger/receipts/", "looking/page/", "pictures/"):
        if (
            folder == "companions/" and span.has(SETTINGS_FILE) and (root / SETTINGS_FILE).is_file()
        ):  # where its name sorts
            yield _seen(SETTINGS_FILE, (root / SETTINGS_FILE).stat())
        if not span.meets(folder):
            continue
        if folder == "ledger/receipts/":
            receipts = root / folder
            for name in listing(receipts):
                if span.has(folder + name) and not any(word in name for word in _ABOUT_DEPOTS):
                    yield _seen(folder + name, (receipts / name).stat())
        else:
            yield from _below(f"{root}/{folder}", folder, passed_over, span)


def _seen(path: str, status: os.stat_result) -> Seen:
    return path, status.st_size, min(status.st_mtime_ns, LATEST), status.st_ino, status.st_ctime_ns


def _below(folder: str, prefix: str, passed_over: list[Finding], span: Span) -> Iterator[Seen]:
    # No generator for each level: where there are many files, passing them on would take longer than finding them.
    top = folder[: -len(prefix)]
    device = Path(top).stat().st_dev
    levels = [_Level(prefix, *_listed(top, prefix, span))]
    try:
        while levels:
            prefix, _, entries = levels[-1]
            for key, entry in entries:
                name = entry.name
                if name in LITTER or name.endswith(TEMPORARY):
                    continue
                if not name.isascii() and shown(name) != name:
                    trouble = "its name is not valid UTF-8, so it is not copied; rename it"
                elif entry.is_file(follow_symlinks=False):
                    told = entry.stat(follow_symlinks=False)
                    # As _seen does; a call for each of very many files takes its time.
                    mtime = told.st_mtime_ns
                    yield (
                        prefix + name,
                        told.st_size,
                        mtime if mtime < LATEST else LATEST,
                        told.st_ino,
                        told.st_ctime_ns,
                    )
                    continue
                elif key[-1] == "/" and os.name != "nt" and entry.stat(follow_symlinks=False).st_dev != device:
                    trouble = "another drive is mounted there, and is not looked at: a library lies on one"
                elif key[-1] == "/":
                    prefix += key
                    levels.append(_Level(prefix, *_listed(top, prefix, span)))
                    break
                elif entry.is_symlink():
                    trouble = "it is a link, and links are not copied"
                else:
                    trouble = "it is no file, and is not copied"
                passed_over.append(Finding(prefix + shown(name), trouble))
            else:
                _close(levels.pop().descriptor)
    finally:
        for level in levels:
            _close(level.descriptor)


class _Level(NamedTuple):
    """A folder that is gone through: its path with the slash, what it is open as, what is still to come."""

    prefix: str
    descriptor: int | None
    entries: Iterator[tuple[str, "os.DirEntry[str]"]]


def _close(descriptor: int | None) -> None:
    if descriptor is not None:
        os.close(descriptor)


def _listed(top: str, prefix: str, span: Span) -> tuple[int | None, Iterator[tuple[str, "os.DirEntry[str]"]]]:
    """What is in a folder, in order: text sorts as its UTF-8 does, a folder as its name with the slash that follows it.

    Where the system can ask for a file by its open folder, which is faster than by its path, that is returned too.
    """
    descriptor = None
    try:
        if os.scandir in os.supports_fd:
            descriptor = os.open(top + prefix, os.O_RDONLY | os.O_DIRECTORY)
        with os.scandir(top + prefix if descriptor is None else descriptor) as entries:
            found = [
                (entry.name + "/" if entry.is_dir(follow_symlinks=False) else entry.name, entry) for entry in entries
            ]
    except FileNotFoundError:
        return descriptor, iter(())
    if span.cuts(prefix):
        found = [(key, entry) for key, entry in found if (span.meets if key[-1] == "/" else span.has)(prefix + key)]
    found.sort(key=itemgetter(0))
    return descriptor, iter(found)


def shown(name: str) -> str:
    """A name that can be printed, whatever bytes it is of."""
    return name.encode("utf-8", "replace").decode()
