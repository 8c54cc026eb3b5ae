"""A stand-in for places that are no folders: a chest holds whole objects under keys, in one SQLite database in its folder.

Nothing in it can be added to or opened in place, and it has no folders: what a depot needs of them is made of its keys. By it is
proven that no work on depots knows of folders.
"""

import hashlib
import io
import os
import shutil
import sqlite3
import tempfile
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from bramblemoor.depots.kinds.interface import (
    Grade,
    Log,
    Moves,
    Reading,
    Stager,
    Staging,
    Store,
    Stored,
    Traits,
)
from bramblemoor.running import PIECE
from bramblemoor.standins import CHEST

_FILE = "chest.sqlite"
_TABLES = """
    CREATE TABLE IF NOT EXISTS objects (id INTEGER PRIMARY KEY, key TEXT UNIQUE, bytes INTEGER, mtime_ns INTEGER);
    CREATE TABLE IF NOT EXISTS pieces (object INTEGER, number INTEGER, content BLOB, PRIMARY KEY (object, number)) WITHOUT ROWID;
"""
_WAIT = 60.0  # seconds for another process's turn to write
_LAST = "\U0010ffff"


class Chest(Store):
    """Options: `device`, the name of the physical device that it passes for. Its readings pass for readings from the medium."""

    kind = CHEST

    def __init__(self, where: str, options: dict[str, str], seen: Sequence[int] = ()) -> None:
        super().__init__(where, options, seen)
        self._own = threading.local()
        if not seen and self.is_there:
            self.seen = (Path(where).stat().st_ino,)

    @classmethod
    def lies_at(cls, where: str) -> bool:
        return Path(where, _FILE).is_file()

    @property
    def db(self) -> sqlite3.Connection:
        """This thread's connection. Raises OSError where the chest cannot be opened."""
        if not hasattr(self._own, "db"):
            try:
                self._own.db = sqlite3.connect(Path(self.where, _FILE), timeout=_WAIT, isolation_level=None)
                self._own.db.executescript(_TABLES)
            except sqlite3.Error as error:
                raise OSError(0, f"the chest cannot be opened: {error}", self.where) from error
        db: sqlite3.Connection = self._own.db
        return db

    @cached_property
    def traits(self) -> Traits:
        return Traits(proves=True)

    @property
    def device(self) -> str:
        return f"pretend {self.options.get('device', 'chest')}"

    @property
    def seat(self) -> str:
        return f"chest {Path(self.where, _FILE).stat().st_ino}" if self.lies_at(self.where) else "chest"

    @property
    def writable(self) -> bool:
        return os.access(self.where, os.W_OK)

    @property
    def is_there(self) -> bool:
        return Path(self.where).is_dir()

    def require_there(self) -> None:
        if not self.is_there or Path(self.where).stat().st_ino != self.seen[0]:
            raise OSError(0, "it is not there any more", self.where)

    def require_plain(self, folders: Iterable[str]) -> None:
        """Keys are all plain."""

    def room(self) -> int:
        return shutil.disk_usage(self.where).free

    def _found(self, path: str) -> tuple[int, int, int] | None:
        """(number, bytes, time) of an object."""
        row: tuple[int, int, int] | None = self.db.execute(
            "SELECT id, bytes, mtime_ns FROM objects WHERE key = ?", (path,)
        ).fetchone()
        return row

    def stat(self, path: str) -> Stored | None:
        found = self._found(path)
        return Stored(path, found[1], found[2]) if found is not None else None

    def is_taken(self, path: str) -> bool:
        return self._found(path) is not None or next(self.listed(path), None) is not None

    def names(self, folder: str) -> list[str]:
        prefix = f"{folder}/" if folder else ""
        return sorted({key[len(prefix) :].partition("/")[0] for key in self._keys(prefix)})

    def folders(self, folder: str) -> list[str]:
        prefix = f"{folder}/"
        return sorted({key[len(prefix) :].partition("/")[0] for key in self._keys(prefix) if "/" in key[len(prefix) :]})

    def listed(self, folder: str) -> Iterator[str]:
        yield from self._keys(f"{folder}/")

    def _keys(self, prefix: str) -> Iterator[str]:
        for (key,) in self.db.cursor().execute(
            "SELECT key FROM objects WHERE key >= ? AND key < ? ORDER BY key", (prefix, prefix + _LAST)
        ):
            yield key

    def is_one(self, path: str, other: str) -> bool:
        return path == other

    def _pieces(self, path: str) -> Iterator[bytes]:
        found = self._found(path)
        if found is None:
            raise FileNotFoundError(0, "there is no such object", path)
        for (content,) in self.db.cursor().execute(
            "SELECT content FROM pieces WHERE object = ? ORDER BY number", (found[0],)
        ):
            yield content

    def open(self, path: str) -> io.RawIOBase:
        if self._found(path) is None:
            raise FileNotFoundError(0, "there is no such object", path)
        return _Raw(self._pieces(path))

    @contextmanager
    def read(self, path: str, size: int = PIECE) -> Iterator[Reading]:
        with io.BufferedReader(self.open(path), size) as file:
            yield Reading("medium", iter(lambda: file.read(size), b""))

    @cached_property
    def _copies(self) -> tempfile.TemporaryDirectory[str]:
        return tempfile.TemporaryDirectory(prefix="bramblemoor-chest-")

    def at_hand(self, path: str) -> Path:
        copy = Path(self._copies.name, hashlib.sha256(path.encode()).hexdigest())
        with copy.open("wb") as file:
            for piece in self._pieces(path):
                file.write(piece)
        return copy

    def make_folder(self, folder: str) -> None:
        """Keys need no folders."""

    def put(self, path: str, pieces: Iterable[bytes], mtime_ns: int) -> None:
        """Put one whole object; what was there is replaced."""
        db, size = self.db, 0
        db.execute("BEGIN IMMEDIATE")
        try:
            self._drop(path)
            number = db.execute(
                "INSERT INTO objects (key, bytes, mtime_ns) VALUES (?, 0, ?)", (path, mtime_ns)
            ).lastrowid
            for place, piece in enumerate(pieces):
                size += len(piece)
                db.execute("INSERT INTO pieces VALUES (?, ?, ?)", (number, place, piece))
            db.execute("UPDATE objects SET bytes = ? WHERE id = ?", (size, number))
        except BaseException:
            db.execute("ROLLBACK")
            raise
        db.execute("COMMIT")

    def _drop(self, path: str) -> None:
        found = self._found(path)
        if found is not None:
            self.db.execute("DELETE FROM pieces WHERE object = ?", (found[0],))
            self.db.execute("DELETE FROM objects WHERE id = ?", (found[0],))

    @contextmanager
    def replacing(self, path: str) -> Iterator[BinaryIO]:
        with tempfile.TemporaryFile() as whole:
            yield whole
            whole.seek(0)
            self.put(path, iter(lambda: whole.read(PIECE), b""), time.time_ns())

    def log(self, path: str) -> Log:
        return _ChestLog(self, path)

    @contextmanager
    def moving(self) -> Iterator[Moves]:
        yield _ChestMoves(self)

    def remove(self, paths: Iterable[str]) -> None:
        for path in list(paths):
            self._drop(path)

    def clear(self, folder: str) -> None:
        self.remove(self.listed(folder))

    def clear_unfinished(self, folders: Iterable[str]) -> None:
        """Nothing is ever there by half."""

    @contextmanager
    def hold(self, path: str, patience: float = 0) -> Iterator[None]:
        from filelock import FileLock, Timeout

        self.require_there()
        lock = FileLock(Path(self.where, f"{_FILE}.{path.replace('/', '-')}"))
        try:
            lock.acquire(timeout=patience)
        except Timeout as error:
            raise BlockingIOError(0, "another run holds it", self.where) from error
        try:
            yield
        finally:
            lock.release()

    def stager(self, run: str) -> Stager:
        return _ChestStager(self, run)


class _ChestLog(Log):
    """A row of small numbered objects, as nothing can be added to one."""

    def __init__(self, chest: Chest, path: str) -> None:
        self._chest, self._path = chest, path

    @property
    def exists(self) -> bool:
        return next(self._chest.listed(self._path), None) is not None

    def begin(self, head: bytes) -> None:
        self.append([head])

    def append(self, lines: Iterable[bytes]) -> None:
        number = sum(1 for _ in self._chest.listed(self._path))
        self._chest.put(f"{self._path}/{number:08}", lines, time.time_ns())

    def lines(self) -> Iterator[bytes]:
        for key in list(self._chest.listed(self._path)):
            yield from self._chest.content(key).splitlines(keepends=True)


class _ChestMoves(Moves):
    def __init__(self, chest: Chest) -> None:
        self._chest = chest

    def move(self, old: str, new: str) -> None:
        moved = self._chest.db.execute("UPDATE objects SET key = ? WHERE key = ?", (new, old)).rowcount
        if not moved:
            raise FileNotFoundError(0, "there is no such object", old)


class _ChestStager(Stager):
    def __init__(self, chest: Chest, run: str) -> None:
        self.run = run
        self._chest = chest

    def hindrance(self, path: str, *, suspect: bool = False) -> str:
        return ""

    def write_small(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        self._chest.put(self.staged(path), [bytes(content)], mtime_ns)

    def begin(self, path: str, mtime_ns: int) -> Staging:
        return _ChestStaging(self._chest, self.staged(path), mtime_ns)

    def flush(self, paths: Sequence[str]) -> None:
        """What was put is there."""

    def flush_one(self, path: str) -> None:
        """What was put is there."""

    def prove(self, path: str, sha256: str, parts: Sequence[memoryview] | None) -> tuple[bool, Grade]:
        return self._chest.digest(self.staged(path)) == sha256, "medium"

    def discard(self, path: str) -> None:
        self._chest.remove([self.staged(path)])

    def still_writes(self) -> bool:
        return True

    @property
    def is_there(self) -> bool:
        return self._chest.is_there


class _ChestStaging(Staging):
    """The pieces of an object, put once it is whole."""

    def __init__(self, chest: Chest, key: str, mtime_ns: int) -> None:
        self._chest, self._key, self._mtime_ns = chest, key, mtime_ns
        self._whole = tempfile.TemporaryFile()  # noqa: SIM115 - closed by end and abandon

    def write(self, piece: memoryview) -> None:
        self._whole.write(piece)

    def end(self) -> None:
        self._whole.seek(0)
        self._chest.put(self._key, iter(lambda: self._whole.read(PIECE), b""), self._mtime_ns)
        self._whole.close()

    def abandon(self) -> None:
        self._whole.close()


class _Raw(io.RawIOBase):
    """Pieces, as a file that is read from its beginning."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces = pieces
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, room: object) -> int:
        view = memoryview(room).cast("B")  # type: ignore[arg-type]
        while not self._rest:
            piece = next(self._pieces, None)
            if piece is None:
                return 0
            self._rest = piece
        count = min(len(view), len(self._rest))
        view[:count], self._rest = self._rest[:count], self._rest[count:]
        return count
