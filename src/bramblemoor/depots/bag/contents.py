"""What can be had from a depot or an archive, by path and by content."""

import sqlite3
from abc import ABC, abstractmethod
from contextlib import AbstractContextManager

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.earlier import StateThen, versions
from bramblemoor.depots.bag.journal import open_run
from bramblemoor.depots.kinds.interface import PAYLOAD, Reading
from bramblemoor.disk.told import Inside, inside_or_none
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.ledger import Ledger

NOW = "9999"


class Contents(ABC):
    """Files that can be brought, by path and by digest; the list of them is kept outside memory."""

    def __init__(self, name: str, depot: Depot | None = None) -> None:
        self.name = name
        self.depot = depot
        # Two threads may ask for contents; SQLite itself lets only one in at a time (sqlite3.threadsafety is 3).
        self._db = sqlite3.connect("", isolation_level=None, check_same_thread=False)
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

    @property
    def readers(self) -> int:
        """How many threads may read there at once, and had better."""
        return 1

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
        then = StateThen(depot.store, moment)
        for path, sha256 in then.files():
            self._put(path, sha256)
        for sha256, lies in then.contents():
            self._put_content(sha256, lies)
        run = open_run(depot) if moment == NOW else None
        for intent in run.placed() if run is not None else ():
            if intent.what != "remove":
                self._put(Inside(intent.path), intent.sha256)
                self._put_content(intent.sha256, f"data/{intent.path}")

    @property
    def readers(self) -> int:
        traits = self.depot.store.traits
        return 2 if traits.several_readers and not traits.spins else 1

    def find(self, sha256: str, path: str) -> Inside | None:
        """Where a content lies at the depot, best under that very path; where it is listed and nowhere to be found, the first of
        its places.

        What was set aside in earlier/ is found, too.
        """
        places = [place for lies in self._lies(sha256, path) if (place := inside_or_none(lies)) is not None]
        return next(filter(self.depot.store.stat_if_told, places), places[0] if places else None)

    def size(self, sha256: str, path: str) -> int:
        found = self.find(sha256, path)
        lies = self.depot.store.stat_if_told(found) if found is not None else None
        return lies.bytes if lies is not None else 0

    def read(self, sha256: str, path: str) -> AbstractContextManager[Reading] | None:
        found = self.find(sha256, path)
        return self.depot.store.read(found) if found is not None else None

    def ledger(self) -> tuple[Ledger, bool] | None:
        digest = self.digest(LEDGER)
        if not digest:
            return None
        store = self.depot.store
        found = self.find(digest, LEDGER)
        if found is not None:
            return Ledger(store.at_hand(found), read_only=True), True
        later = (one.lies for one in versions(store) if one.path == LEDGER and one.when > self._moment)
        return Ledger(store.at_hand(next(later, f"{PAYLOAD}/{LEDGER}")), read_only=True), False
