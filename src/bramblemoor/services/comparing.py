"""Two trees side by side: what lies only in one, what differs, and what is the same, by digest where one is told.

Both lists stand in a table outside memory, however long they are.
"""

import os
import sqlite3
import tempfile
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, closing, contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Literal

from bramblemoor.disk.told import Inside
from bramblemoor.errors import WrongUse
from bramblemoor.frames.kinds import is_sidecar
from bramblemoor.library.home import Library
from bramblemoor.running import PIECE, Progress, Stage, portions
from bramblemoor.services.interface import Entry, PartStream, Tree
from bramblemoor.services.tree_survey import digest_there, once

State = Literal["same", "same size", "differs", "only first", "only second"]
"""`same size` are files of one size of which no digest is known on one side: they were not read."""
_AT_ONCE = 8
_ENTERED = 2000
_PICTURES = "pictures/"
_PAIRS = """
    SELECT path, one, other, CASE WHEN other IS NULL THEN 'only first' WHEN one IS NULL THEN 'only second'
        WHEN one != other THEN 'differs' WHEN told != 2 THEN 'same size' WHEN digests = 1 THEN 'same' ELSE 'differs' END AS state
    FROM (SELECT path, max(iif(side = 0, bytes, NULL)) AS one, max(iif(side = 1, bytes, NULL)) AS other,
        sum(sha256 != '') AS told, count(DISTINCT sha256) AS digests FROM lying GROUP BY path)
"""
OpenFile = Callable[[Inside], AbstractContextManager[PartStream]]


@dataclass(frozen=True)
class Side:
    """One of the two: what it is called, what lies there, and how a file of it is read."""

    name: str
    entries: Callable[[], Iterable[Entry]]
    open: OpenFile


@dataclass(frozen=True)
class FolderPair:
    """A folder in both trees: files and bytes in it (not below) on each side, and how many are in which state."""

    path: str
    files: tuple[int, int]
    bytes: tuple[int, int]
    states: dict[State, int]


@dataclass(frozen=True)
class Pair:
    """A file by its path: its size on each side, None where it is not there."""

    path: str
    bytes: tuple[int | None, int | None]
    state: State


def side_of_service(library: Library, name: str, tree: Tree, below: str, lists: str) -> Side:
    """A service. Digests that were found when files were brought home count as long as their ETags are the same."""

    def entries() -> Iterator[Entry]:
        known = {
            row["path"]: (row["etag"], row["bytes"], row["sha256"])
            for row in library.db.execute("SELECT path, etag, bytes, sha256 FROM brought WHERE service = ?", (name,))
        }
        for one in once(tree.entries(below), lists)[0]:
            etag, size, sha256 = known.get(one.path, ("", -1, ""))
            told = one.sha256 or (sha256 if etag and etag == one.etag and size == one.bytes else "")
            yield Entry(_within(one.path, below), False, one.bytes, one.etag, told)

    def read(path: Inside) -> AbstractContextManager[PartStream]:
        return tree.open(Inside(f"{below}/{path}" if below else path), 0, "")

    return Side(name + (f"/{below}" if below else ""), entries, read)


def side_of_library(library: Library, below: str) -> Side:
    """The pictures of a library and their sidecars, as the ledger knows them."""
    top = f"{_PICTURES}{below}/" if below else _PICTURES

    def entries() -> Iterator[Entry]:
        for row in library.db.execute(
            "SELECT path, bytes, sha256 FROM files f WHERE substr(path, 1, ?) = ? AND NOT EXISTS (SELECT 1 FROM copies c"
            " WHERE c.file = f.id AND depot = 0 AND state IN ('missing', 'freed', 'unbrought'))",
            (len(top), top),
        ):
            yield Entry(Inside(row["path"][len(top) :]), False, row["bytes"], "", row["sha256"])

    return Side(f"library/{below}" if below else "library", entries, lambda path: _opened(library.root / (top + path)))


def side_of_folder(folder: Path) -> Side:
    """A folder on this machine. Raises WrongUse where there is none."""
    if not folder.is_dir():
        raise WrongUse(f"There is no folder {folder}.", "Name a service, library, or a folder that is there.")

    def entries() -> Iterator[Entry]:
        for where, _, names in os.walk(folder):
            for name in names:
                path = Path(where, name)
                if path.is_file() and not path.is_symlink():
                    yield Entry(Inside(path.relative_to(folder).as_posix()), False, path.stat().st_size)

    return Side(str(folder), entries, lambda path: _opened(folder / path))


def _within(path: str, below: str) -> Inside:
    return Inside(path[len(below) + 1 :] if below else path)


@contextmanager
def _opened(path: Path) -> Iterator[PartStream]:
    with path.open("rb", buffering=0) as file:
        yield PartStream(0, "", iter(lambda: file.read(PIECE), b""))


class Comparison:
    """Both sides, listed. To be closed."""

    def __init__(self, first: Side, second: Side, progress: Progress, *, sidecars: bool = True) -> None:
        self.sides = (first, second)
        self._scratch = tempfile.TemporaryDirectory(prefix="bramblemoor-")
        self._db = sqlite3.connect(Path(self._scratch.name, "trees.sqlite"), isolation_level=None)
        self._db.executescript(
            "PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF;"
            "CREATE TABLE lying (side INTEGER, path TEXT, bytes INTEGER, sha256 TEXT, PRIMARY KEY (path, side)) WITHOUT ROWID;"
        )
        for number, side in enumerate(self.sides):
            listed = 0
            for some in portions((one for one in side.entries() if not one.is_folder), _ENTERED):
                rows = [
                    (number, one.path, one.bytes, one.sha256) for one in some if sidecars or not is_sidecar(one.path)
                ]
                with self._db:
                    self._db.execute("BEGIN")
                    self._db.executemany("INSERT OR REPLACE INTO lying VALUES (?, ?, ?, ?)", rows)
                listed += len(rows)
                progress(Stage(f"listing {side.name}", "files"), listed, 0)

    def close(self) -> None:
        self._db.close()
        self._scratch.cleanup()

    def read_undecided(self, progress: Progress) -> list[tuple[str, str]]:
        """Read the files of which only the size is known to be the same, on each side where no digest is known.

        Returns those that could not be read, each with why.
        """
        wanted = self._db.execute(
            "SELECT side, path, bytes FROM lying l WHERE sha256 = '' AND EXISTS (SELECT 1 FROM lying o WHERE o.side = 1 - l.side"
            " AND o.path = l.path AND o.bytes = l.bytes) ORDER BY path"
        ).fetchall()
        whole, done = sum(size for _, _, size in wanted), 0
        left: list[tuple[str, str]] = []
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            for (side, path, size), sha256 in zip(wanted, pool.map(self._digest, wanted), strict=True):
                done += size
                progress(Stage("reading"), done, whole)
                if sha256:
                    self._db.execute("UPDATE lying SET sha256 = ? WHERE side = ? AND path = ?", (sha256, side, path))
                else:
                    left.append((path, f"{self.sides[side].name} ended in the middle of it"))
        return left

    def _digest(self, wanted: tuple[int, str, int]) -> str:
        side, path, size = wanted
        return digest_there(partial(self.sides[side].open, Inside(path)), size) or ""

    def counts(self) -> dict[State, tuple[int, int]]:
        """How many files, and bytes, there are in which state."""
        rows = self._db.execute(
            f"SELECT state, count(*), sum(max(coalesce(one, 0), coalesce(other, 0))) FROM ({_PAIRS}) GROUP BY 1"
        )
        return {state: (count, size) for state, count, size in rows}

    def totals(self) -> tuple[tuple[int, int], tuple[int, int]]:
        """Files and bytes on each side."""
        rows = {
            side: (count, size)
            for side, count, size in self._db.execute("SELECT side, count(*), sum(bytes) FROM lying GROUP BY side")
        }
        return rows.get(0, (0, 0)), rows.get(1, (0, 0))

    def folders(self) -> Iterator[FolderPair]:
        """Folder by folder, in order of their paths."""
        with closing(self._db.execute(f"SELECT path, one, other, state FROM ({_PAIRS}) ORDER BY path")) as rows:
            found: dict[str, tuple[list[int], list[int], dict[State, int]]] = {}
            for path, one, other, state in rows:
                folder = path.rpartition("/")[0]
                files, sizes, states = found.setdefault(folder, ([0, 0], [0, 0], {}))
                for side, size in enumerate((one, other)):
                    if size is not None:
                        files[side] += 1
                        sizes[side] += size
                states[state] = states.get(state, 0) + 1
        for folder, (files, sizes, states) in sorted(found.items()):
            yield FolderPair(folder, (files[0], files[1]), (sizes[0], sizes[1]), states)

    def pairs(self, state: State, most: int = -1) -> Iterator[Pair]:
        """Files in a state, in order of their paths."""
        rows = self._db.execute(
            f"SELECT path, one, other FROM ({_PAIRS}) WHERE state = ? ORDER BY path LIMIT ?", (state, most)
        )
        return (Pair(path, (one, other), state) for path, one, other in rows)
