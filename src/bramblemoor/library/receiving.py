"""The door: what comes into the library, by whichever way, is looked for here, mends what is hurt here, and is put in its place.

What is here is looked at, not only remembered: a content of which the ledger knows a frame may be missing or damaged on the
disk, and then what comes takes its place. A path that is free has room for its sidecar, too; nothing is put over another file.
"""

import errno
import hashlib
import os
import shutil
import sqlite3
import stat
from collections.abc import Callable, Hashable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass
from io import RawIOBase
from pathlib import Path
from typing import TypeVar

from bramblemoor.disk.durable import (
    beside,
    digest_of,
    flush_file,
    flush_folder,
    is_taken,
    replacing,
    set_time,
    status_of,
)
from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.disk.told import Outside, inside, is_plain_file
from bramblemoor.frames.kinds import sidecar_of
from bramblemoor.frames.moments import now_seconds
from bramblemoor.library.copies import LIBRARY, good, is_here_again
from bramblemoor.library.home import PICTURES, SET_ASIDE, Library
from bramblemoor.library.stocktake.walk import LATEST
from bramblemoor.running import PIECE

Key = TypeVar("Key", bound=Hashable)


def free_paths(
    library: Library,
    folder: str,
    wanted: Mapping[Key, str],
    digests: Mapping[Key, str],
    is_planned: Callable[[str], bool],
) -> dict[Key, str]:
    """A path for each file of a frame in a folder, by its wanted name, the original's first: one number tells all from others.

    `is_planned` says of a collision key whether something else is to lie there. A file with the same content may lie there
    already: an earlier run put it in place and was killed.
    """
    safe = {key: safe_name(name) for key, name in wanted.items()}
    names = list(safe.values())
    base = _frame_base(names[0], names)

    def numbered(name: str, number_of_base: str) -> str:
        return number_of_base + name[len(base) :]

    def taken(candidate: str) -> bool:
        return any(
            _is_taken(library, f"{folder}/{numbered(name, candidate)}", digests[key], is_planned)
            for key, name in safe.items()
        )

    seen: set[str] = set()
    for key, name in safe.items():  # two files of a frame may come under one name, from two parts
        safe[key] = free_name(name, lambda other: collision_key(other) in seen)
        seen.add(collision_key(safe[key]))
    chosen = free_name(base, taken)
    return {key: f"{folder}/{numbered(name, chosen)}" for key, name in safe.items()}


def _frame_base(original: str, names: list[str]) -> str:
    """What all names of a frame begin with: a number that tells it from another frame goes behind this, in all of them."""
    stem = original.rpartition(".")[0] or original
    return stem if all(name.startswith(stem) for name in names) else ""


def _is_taken(library: Library, path: str, digest: str, is_planned: Callable[[str], bool]) -> bool:
    """Whether a path would collide with another file, in the plan, in the ledger, or on disk."""
    if _is_listed(library, path, is_planned):
        return True
    target = f"{library.root}/{path}"
    if os.path.lexists(target):
        return not is_plain_file(target) or digest_of(Path(target)) != digest
    sidecar = sidecar_of(path)
    return _is_listed(library, sidecar, is_planned) or os.path.lexists(f"{library.root}/{sidecar}")


def _is_listed(library: Library, path: str, is_planned: Callable[[str], bool]) -> bool:
    key = collision_key(path)
    return is_planned(key) or bool(library.db.execute("SELECT 1 FROM files WHERE collision = ?", (key,)).fetchone())


@dataclass(frozen=True)
class Here:
    """A content that the ledger has in a frame: their numbers, where the file is to lie, its bytes and time.

    `hurt` says how it lies there: "" as it should, else why it is no copy now. `away` says that it left the working drive on
    purpose, and a depot is known to hold it.
    """

    frame: int
    file: int
    path: str
    bytes: int
    mtime_ns: int
    hurt: str = ""
    away: bool = False


_HERE = f"""
    SELECT f.id, f.frame, f.path, f.bytes, f.mtime_ns, f.seen_ns, f.inode, f.ctime_ns, c.state,
    EXISTS (SELECT 1 FROM copies d WHERE d.file = f.id AND d.depot > {LIBRARY} AND {good("d")}) AS elsewhere
    FROM files f LEFT JOIN copies c ON c.file = f.id AND c.depot = {LIBRARY}
    WHERE f.sha256 = ? AND f.frame NOT NULL AND f.role != 'sidecar' ORDER BY f.id
"""
_AS_SEEN = ("bytes", "mtime_ns", "seen_ns", "inode", "ctime_ns")
_COARSE = 2_000_000_000  # ns: some file systems keep every second second


def find_here(library: Library, sha256: str) -> Here | None:
    """Where a content is in the library, by looking: where it lies as it should, if it does anywhere."""
    found: Here | None = None
    for here in each_here(library, sha256):
        if not here.hurt:
            return here
        found = found or here
    return found


def each_here(library: Library, sha256: str, *, read: bool = False) -> Iterator[Here]:
    """Every file of the library that is to have a content. With `read` each is read; else those that are as they were are not."""
    for row in library.db.execute(_HERE, (sha256,)).fetchall():
        away = row["state"] == "freed" and bool(row["elsewhere"])
        hurt = "" if away else _hurt(library, row, sha256, read=read)
        yield Here(row["frame"], row["id"], row["path"], row["bytes"], row["mtime_ns"], hurt, away)


def _hurt(library: Library, row: sqlite3.Row, sha256: str, *, read: bool) -> str:
    """Why a file is no copy of its content now."""
    place = f"{library.root}/{row['path']}"
    try:
        status = status_of(place)
        if status is None:
            return "missing"
        if not stat.S_ISREG(status.st_mode):
            return "damaged"
        if not read and row["state"] is None and is_as_seen(row, status, inodes=library.keeps_inodes):
            return ""
        return "" if digest_of(Path(place)) == sha256 else "damaged"
    except OSError:
        return "damaged"  # it does not read: what comes is the better copy, and what lies there is set aside


def is_as_seen(row: sqlite3.Row, status: os.stat_result, *, inodes: bool) -> bool:
    """Whether a file lies as it did when it was last looked at; `row` has its bytes, mtime_ns, seen_ns, inode and ctime_ns.

    `inodes` says that the file system keeps those.
    """
    size, time, seen_ns, inode, ctime_ns = (int(row[name]) for name in _AS_SEEN)
    if status.st_size != size:
        return False
    if not seen_ns:  # it was put there, and not looked at since
        return abs(status.st_mtime_ns - time) <= _COARSE
    now = (min(status.st_mtime_ns, LATEST), status.st_ino, status.st_ctime_ns)
    known = (seen_ns, inode, ctime_ns)
    return now == known if inodes else now[0] == known[0]


def mend_here(
    library: Library, here: Here, sha256: str, opened: Callable[[], RawIOBase], by: str,
    prove: Callable[[Path], None] | None = None,
) -> bool:  # fmt: skip
    """Put a content that has come in the place of one that is hurt here; what lies there is set aside, under the name `by`.

    False where the source is not what it should be. `prove` reads back what was written, and raises OSError where that differs,
    as this does where it cannot be written; then what was there still is. `is_right` is to be entered then.
    """

    def read_back(fresh: Path) -> None:
        if digest_of(fresh) != sha256:
            raise OSError(errno.EIO, "read back, it was not what was written; the drive cannot be trusted")

    aside = library.root / SET_ASIDE / safe_name(by) / here.path
    return put_back(opened, library.root / here.path, sha256, here.mtime_ns, aside, prove or read_back)


def is_right(db: sqlite3.Connection, file: int) -> None:
    """Enter that the library's own copy of a file was just put right and read back; inside a transaction."""
    was_read(db, file)
    db.execute("UPDATE files SET seen_ns = 0 WHERE id = ?", (file,))


def was_read(db: sqlite3.Connection, file: int) -> None:
    """Enter that the library's own copy of a file was just read, and is as it should be; inside a transaction."""
    is_here_again(db, file)
    db.execute("UPDATE files SET read_at = ? WHERE id = ?", (now_seconds(), file))


def folder_inside(told: str) -> str:
    """A folder for pictures that somebody else told, as every file system takes it. Raises Outside where it is no such folder."""
    steps = inside(told).split("/")
    if steps[0] != PICTURES:
        raise Outside(told, "it is no folder for pictures")
    return "/".join((PICTURES, *map(safe_name, steps[1:])))


class Filing:
    """Files that are put in place one by one; `flush` makes their names durable."""

    def __init__(self, library: Library) -> None:
        self._root = library.root
        self._made: set[str] = set()
        self.folders: dict[Path, None] = {}

    def put(self, staged: str, path: str, mtime_ns: int | None) -> None:
        """Move a staged file to its path, with its time; where it is not staged, an earlier run has put it there.

        Raises FileExistsError where something else has come to lie there: it stays.
        """
        folder = path.rpartition("/")[0]
        if folder not in self._made:
            place = self._root / folder
            place.mkdir(parents=True, exist_ok=True)
            self._made.add(folder)
            self.folders[place] = None
        if os.path.isfile(staged):
            target = f"{self._root}/{path}"
            if os.path.lexists(target) and not _is_same(target, staged):
                raise FileExistsError(errno.EEXIST, "something else has come to lie there", target)
            if mtime_ns is not None:
                set_time(staged, mtime_ns)
            os.replace(staged, target)

    def flush(self) -> None:
        for folder in self.folders:
            flush_folder(folder)
            flush_folder(folder.parent)


def copy_in(library: Library, source: Path, path: str, mtime_ns: int) -> str:
    """Copy a file from elsewhere to a path of the library, whole or not at all; returns its digest, as it was read back.

    One that lies there already, by a run that was killed, is not copied again. Raises OSError (FileExistsError where something
    else lies there) with nothing changed.
    """
    target, sha256 = library.root / path, digest_of(source)
    if not os.path.lexists(target):
        with source.open("rb") as file, replacing(target, mtime_ns) as copy:
            shutil.copyfileobj(file, copy, PIECE)
    if not is_plain_file(target) or digest_of(target) != sha256:
        raise FileExistsError(
            errno.EEXIST, "something else lies there, or it does not read back as it was written", str(target)
        )
    return sha256


def _is_same(one: str, other: str) -> bool:
    """Whether two files are the same: an earlier run may have put it there, and been killed before it was noted."""
    return (
        is_plain_file(one)
        and os.path.getsize(one) == os.path.getsize(other)
        and digest_of(Path(one)) == digest_of(Path(other))
    )


def put_back(
    opened: Callable[[], RawIOBase],
    target: Path,
    sha256: str,
    mtime_ns: int,
    aside: Path,
    prove: Callable[[Path], None],
) -> bool:
    """Put a good file in the place of one that is amiss; what lies there moves to `aside`, to a name that is free beside it.

    False where the source is not what it should be. `prove` looks at what was written, and raises OSError where it is not what
    it should be; so does this where the target cannot be written. What was there then still is.
    """
    fresh, digest = beside(target), hashlib.sha256()
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        with fresh.open("wb") as copy:
            for piece in pieces_of(opened):
                digest.update(piece)
                copy.write(piece)
        if digest.hexdigest() != sha256:
            return False
        flush_file(fresh)
        prove(fresh)
        set_time(fresh, mtime_ns)
        if is_taken(target):
            _set_aside(target, aside)
        fresh.replace(target)
        flush_folder(target.parent)
        return True
    finally:
        fresh.unlink(missing_ok=True)


def pieces_of(opened: Callable[[], RawIOBase]) -> Iterator[bytes]:
    """A source's content; as much as can be read of it, so that one that cannot is not whole."""
    with suppress(OSError), opened() as file:
        while piece := file.read(PIECE):
            yield piece


def _set_aside(target: Path, aside: Path) -> None:
    """Move a file aside; where that is another drive, copy what can be read of it, as it will be replaced."""
    aside.parent.mkdir(parents=True, exist_ok=True)
    aside = aside.with_name(free_name(aside.name, lambda name: os.path.lexists(aside.with_name(name))))
    try:
        target.replace(aside)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        with suppress(OSError):
            shutil.copyfile(target, aside)
