"""What can be had from a depot or an archive, by path and by content; and bringing a file from the nearest good one."""

import errno
import hashlib
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from io import RawIOBase
from pathlib import Path

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.earlier import StateThen, versions
from bramblemoor.depots.bag.journal import open_run
from bramblemoor.depots.kinds import Reading
from bramblemoor.disk.durable import NAME_REFUSED, TEMPORARY, beside, digest_of, set_time
from bramblemoor.disk.told import Inside, Root, inside, inside_or_none, is_plain_file
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import PIECE

NOW = "9999"


class Contents(ABC):
    """Files that can be brought, by path and by digest; the list of them is kept outside memory."""

    def __init__(self, name: str, depot: Depot | None = None) -> None:
        self.name = name
        self.depot = depot
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE files (path TEXT PRIMARY KEY, sha256 TEXT) WITHOUT ROWID;"
            "CREATE INDEX stands ON files (sha256);"
            "CREATE TABLE contents (sha256 TEXT, lies TEXT, PRIMARY KEY (sha256, lies)) WITHOUT ROWID; BEGIN;"
        )

    def _put(self, path: Inside, sha256: str) -> None:
        """What stands at a path."""
        self._db.execute("INSERT OR REPLACE INTO files VALUES (?, ?)", (path, sha256))

    def _put_content(self, sha256: str, lies: str) -> None:
        """Where a content lies; it may lie in several places."""
        self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (sha256, lies))

    def digest(self, path: str) -> str:
        """The digest of what stands at a path; "" where nothing does."""
        row = self._db.execute("SELECT sha256 FROM files WHERE path = ?", (path,)).fetchone()
        return row[0] if row else ""

    def path_of(self, sha256: str) -> Inside | None:
        """A path where a content stands; None where it stands nowhere."""
        row = self._db.execute("SELECT min(path) FROM files WHERE sha256 = ?", (sha256,)).fetchone()
        return Inside(row[0]) if row[0] else None

    def paths(self, after: str, most: int) -> list[tuple[Inside, str]]:
        """(path, digest) of the next files behind a path, in order of path."""
        return self._db.execute(
            "SELECT path, sha256 FROM files WHERE path > ? ORDER BY path LIMIT ?", (after, most)
        ).fetchall()

    def _lies(self, sha256: str, path: str) -> list[str]:
        """Where a content lies, best under that very path."""
        rows = self._db.execute(
            "SELECT lies FROM contents WHERE sha256 = ? ORDER BY substr(lies, -length(?)) != ?, lies",
            (sha256, f"data/{path}", f"data/{path}"),
        )
        return [row[0] for row in rows]

    @abstractmethod
    def size(self, sha256: str, path: str) -> int:
        """Bytes of a content; 0 where it is not there."""

    @abstractmethod
    def read(self, sha256: str, path: str) -> AbstractContextManager[Reading] | None:
        """Open a content, from the medium; None where it is not listed. Within, raises OSError where it cannot be read."""

    @abstractmethod
    def ledger(self) -> tuple[Ledger, bool] | None:
        """The ledger that lies there, read-only, and whether it is of just the state that they are of, or of a later one."""


class DepotContents(Contents):
    """What can be had from a depot, now or as of a date. What an open run has put in place is there too."""

    depot: Depot

    def __init__(self, depot: Depot, moment: str = NOW) -> None:
        super().__init__(depot.name, depot)
        self._moment = moment
        self._root = Root(depot.root)
        then = StateThen(depot.root, moment)
        for path, sha256 in then.files():
            self._put(path, sha256)
        for sha256, lies in then.contents():
            self._put_content(sha256, lies)
        run = open_run(depot) if moment == NOW else None
        for intent in run.placed() if run is not None else ():
            if intent.what != "remove":
                self._put(Inside(intent.path), intent.sha256)
                self._put_content(intent.sha256, f"data/{intent.path}")

    def find(self, sha256: str, path: str) -> Path | None:
        """Where a content lies, best under that very path; where it is listed and nowhere to be found, the first of its places.

        What was set aside in earlier/ is found, too.
        """
        places = [self._root.path(inside(lies)) for lies in self._lies(sha256, path) if inside_or_none(lies)]
        return next((Path(place) for place in places if is_plain_file(place)), Path(places[0]) if places else None)

    def size(self, sha256: str, path: str) -> int:
        found = self.find(sha256, path)
        return found.stat().st_size if found is not None and is_plain_file(found) else 0

    def read(self, sha256: str, path: str) -> AbstractContextManager[Reading] | None:
        found = self.find(sha256, path)
        return self.depot.drive.read_from_medium(found, PIECE) if found is not None else None

    def ledger(self) -> tuple[Ledger, bool] | None:
        digest = self.digest(LEDGER)
        if not digest:
            return None
        found = self.find(digest, LEDGER)
        if found is not None:
            return Ledger(found, read_only=True), True
        later = (one.file for one in versions(self.depot.root) if one.path == LEDGER and one.when > self._moment)
        return Ledger(next(later, self.depot.data / LEDGER), read_only=True), False


@dataclass(frozen=True)
class Brought:
    """One file's way: `contents` is None where it was at the target already, and `troubles` tell why it is not there."""

    path: str
    bytes: int = 0
    contents: Contents | None = None
    grade: str = ""
    troubles: tuple[Trouble, ...] = ()

    @property
    def trouble(self) -> str:
        """The troubles in words; "" where it is there."""
        return "; ".join(trouble.said() for trouble in self.troubles)


def size_on(holdings: Sequence[Contents], path: str, sha256: str) -> int:
    """Bytes of a content, as the first that has it tells; 0 where none does."""
    return next(filter(None, (contents.size(sha256, path) for contents in holdings)), 0)


def bring(holdings: Sequence[Contents], path: str, sha256: str, place: Path, mtime_ns: int | None) -> Brought:
    """Bring one file to the temporary name beside `place`, unless it is there already. A different file stays as it is.

    Tries one depot after the other; each is read from its medium and compared.
    """
    if _is_there(place):
        if digest_of(place) == sha256:
            return Brought(path, place.stat().st_size)
        if not place.name.endswith(TEMPORARY):
            return Brought(path, troubles=(Trouble("different", "the target"),))
    fresh = place if place.name.endswith(TEMPORARY) else beside(place)
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        fresh.touch()
    except OSError as error:
        if error.errno not in (*NAME_REFUSED, errno.ENOTDIR, errno.EEXIST):
            raise  # that is not this file's alone
        return Brought(path, troubles=(Trouble("unwritable", "the target", f"its name is refused: {error.strerror}"),))
    troubles: list[Trouble] = []
    for contents in holdings:
        name, opened = contents.name, contents.read(sha256, path)
        if opened is None:
            troubles.append(Trouble("unlisted", name))
            continue
        digest, size, grade = hashlib.sha256(), 0, ""
        with fresh.open("wb", buffering=0) as file:
            try:
                with opened as reading:
                    for piece in reading.pieces:
                        digest.update(piece)
                        size += len(piece)
                        _write(file, piece)
                    grade = reading.grade
            except FileNotFoundError:
                troubles.append(Trouble("missing", name))
                continue
            except _TargetTrouble as trouble:
                raise trouble.reason from None
            except OSError as error:
                troubles.append(Trouble("unreadable", name, error.strerror or str(error)))
                continue
        if digest.hexdigest() == sha256:
            if mtime_ns is not None:
                set_time(fresh, mtime_ns)
            return Brought(path, size, contents, grade)
        troubles.append(Trouble("damaged", name))
    fresh.unlink(missing_ok=True)
    return Brought(path, troubles=tuple(troubles) or (Trouble("nowhere"),))


def _is_there(place: Path) -> bool:
    try:
        return place.is_file()
    except OSError:  # a name that is refused; that is told where it is to be made
        return False


class _TargetTrouble(Exception):
    """The target cannot be written: that is not the depot's fault."""

    def __init__(self, reason: OSError) -> None:
        super().__init__(reason)
        self.reason = reason


def _write(file: RawIOBase, piece: bytes | memoryview) -> None:
    rest = memoryview(piece)
    try:
        while rest:
            rest = rest[file.write(rest) or 0 :]
    except OSError as error:
        raise _TargetTrouble(error) from error
