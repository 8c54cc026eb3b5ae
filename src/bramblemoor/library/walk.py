"""Looking over the library's folders: every file, in the order in which the ledger sorts paths."""

import os
from collections.abc import Iterator
from dataclasses import dataclass
from operator import itemgetter
from pathlib import Path

from bramblemoor.library.durable import TEMPORARY
from bramblemoor.library.receipts import Finding, listing
from bramblemoor.library.settings import FILE as SETTINGS_FILE

LITTER = frozenset((".DS_Store", "Thumbs.db", "desktop.ini", ".Spotlight-V100", ".Trashes", ".fseventsd"))
"""What operating systems leave in folders: nobody's work, and nothing to be alarmed at."""
# Receipts about depots lie at the depots; each backup would else need another backup for its own receipt.
_ABOUT_DEPOTS = ("-backup-", "-verify-", "-mend-", "-level-", "-purge-", "-drill-")


@dataclass(frozen=True, slots=True)
class Seen:
    """A file as the drive tells of it. `path` is relative to the library."""

    path: str
    bytes: int
    mtime_ns: int
    inode: int
    ctime_ns: int


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


def _seen(path: str, status: os.stat_result) -> Seen:
    return Seen(path, status.st_size, status.st_mtime_ns, status.st_ino, status.st_ctime_ns)


def _below(folder: str, prefix: str, passed_over: list[Finding]) -> Iterator[Seen]:
    try:
        with os.scandir(folder) as entries:
            # A folder sorts as its name with the slash that follows it in every path below.
            found = sorted(((_key(entry), entry) for entry in entries), key=itemgetter(0))
    except FileNotFoundError:
        return
    for key, entry in found:
        if entry.name in LITTER or entry.name.endswith(TEMPORARY):
            continue
        if not entry.name.isascii() and _shown(entry.name) != entry.name:
            trouble = "its name is not valid UTF-8, so it is not copied; rename it"
        elif entry.is_symlink():
            trouble = "it is a link, and links are not copied"
        elif key.endswith(b"/"):
            yield from _below(entry.path, f"{prefix}{entry.name}/", passed_over)
            continue
        elif not entry.is_file():
            trouble = "it is no file, and is not copied"
        else:
            yield _seen(prefix + entry.name, entry.stat(follow_symlinks=False))
            continue
        passed_over.append(Finding(prefix + _shown(entry.name), trouble))


def _key(entry: "os.DirEntry[str]") -> bytes:
    name = os.fsencode(entry.name)
    return name + b"/" if entry.is_dir(follow_symlinks=False) else name


def _shown(name: str) -> str:
    return name.encode("utf-8", "replace").decode()
