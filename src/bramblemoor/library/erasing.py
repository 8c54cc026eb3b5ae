"""The one rule for giving up a copy, wherever that is asked: how many other places must hold its content soundly.

A place counts where the content was read from the medium lately enough by the library's rule, and not in the future, on a
device that is not the one it leaves. Where the place is within reach, the file must be there now, with its size; where it is
not, the reading must be quite fresh. The library is a place like the others.
"""

import os
import sqlite3
import stat
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from bramblemoor.frames.moments import now_seconds
from bramblemoor.library.clock import DAY
from bramblemoor.library.home import Library

_TABLE = """
    CREATE TEMP TABLE IF NOT EXISTS leaving (
        depot INTEGER NOT NULL, path TEXT NOT NULL, sha256 TEXT NOT NULL, bytes INTEGER NOT NULL, why TEXT NOT NULL,
        elsewhere INTEGER NOT NULL DEFAULT 0, stays INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (depot, path)
    ) WITHOUT ROWID;
    DELETE FROM temp.leaving;
"""
_PAGE = 500
# Where a content is sound by the books, but for what is leaving: the place, its path there, its size, when it was read.
_SOUND = """
    SELECT c.depot, coalesce(c.path, f.path) AS path, f.bytes, c.read_at FROM files f JOIN copies c ON c.file = f.id
        WHERE f.sha256 = :sha256 AND c.sha256 IS NULL AND c.depot > 0 AND c.state = 'proven'
    UNION SELECT c.depot, coalesce(c.path, f.path), NULL, c.read_at FROM copies c JOIN files f ON f.id = c.file
        WHERE c.sha256 = :sha256 AND c.state = 'proven'
    UNION SELECT depot, path, nullif(bytes, 0), read_at FROM leftovers WHERE sha256 = :sha256 AND state = 'proven'
    UNION SELECT 0, path, bytes, read_at FROM files f WHERE sha256 = :sha256
        AND NOT EXISTS (SELECT 1 FROM copies WHERE depot = 0 AND file = f.id)
"""


@dataclass(frozen=True)
class Within:
    """What is within reach: by number (0 for the library) how to ask a place for the bytes of what lies at a path there now.

    `doubted` are places of which nothing counts now, as what lies there is not what the ledger remembers.
    """

    sizes: Mapping[int, Callable[[str], int | None]]
    doubted: Collection[int] = ()


@dataclass
class Erasing:
    """Weighs what is to leave a place. First `table` is filled, then `weigh` is called, then the table tells what `stays`."""

    library: Library
    within: Within
    table: str = "temp.leaving"
    _devices: dict[int, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.library.db.executescript(_TABLE)
        self._devices = devices(self.library)
        rule, now = self.library.settings.rule, now_seconds()
        self._until = now
        self._since = now - rule.fresh_days * DAY
        self._away_since = now - min(rule.fresh_days, self.library.settings.erase.away_days) * DAY

    @property
    def least(self) -> int:
        return self.library.settings.erase.copies

    def weigh(self, *, for_good: bool) -> None:
        """Mark what may not leave.

        `for_good` says that it is deleted: then what neither the library holds nor anybody has given up there stays, too, as
        it may be somebody else's only copy. Set aside at a depot it may be.
        """
        db = self.library.db
        last = (-1, "")
        while page := db.execute(
            "SELECT depot, path, sha256, EXISTS (SELECT 1 FROM files f WHERE f.sha256 = l.sha256) AS wanted,"
            " EXISTS (SELECT 1 FROM given_up g WHERE g.sha256 = l.sha256) AS given_up FROM temp.leaving l"
            " WHERE (depot, path) > (?, ?) ORDER BY depot, path LIMIT ?",
            (*last, _PAGE),
        ).fetchall():
            for row in page:
                elsewhere, stays = 0, False
                if row["wanted"]:
                    elsewhere, remains = self._weighed(row["depot"], row["sha256"])
                    stays = elsewhere < self.least and not remains
                elif for_good:
                    stays = not row["given_up"]
                if elsewhere or stays:
                    db.execute(
                        "UPDATE temp.leaving SET elsewhere = ?, stays = ? WHERE depot = ? AND path = ?",
                        (elsewhere, stays, row["depot"], row["path"]),
                    )
            last = (page[-1]["depot"], page[-1]["path"])

    def _weighed(self, depot: int, sha256: str) -> tuple[int, bool]:
        """On how many other devices a content is sound, and whether it remains at the very same place under another path."""
        held = self.holding(sha256)
        own = self._devices.get(depot, "")
        return len({self._devices[place] for place in held if self._devices[place] != own}), depot in held

    def holding(self, sha256: str) -> list[int]:
        """The places where a content is sound, and not about to leave: the library (0), and depots."""
        held: list[int] = []
        for place, path, size, read_at in self.library.db.execute(_SOUND, {"sha256": sha256}).fetchall():
            if place not in self._devices or place in held:
                continue
            if not self._is_leaving(place, path) and self._counts(place, path, size, read_at):
                held.append(place)
        return held

    def copies(self, held: Iterable[int], but: str = "") -> int:
        """What places amount to: those on one physical device are one copy; what is on the device `but` is none."""
        return len({self._devices[place] for place in held} - {but})

    def _is_leaving(self, place: int, path: str) -> bool:
        row = self.library.db.execute("SELECT 1 FROM temp.leaving WHERE depot = ? AND path = ?", (place, path))
        return row.fetchone() is not None

    def _counts(self, place: int, path: str, size: int | None, read_at: int | None) -> bool:
        if place in self.within.doubted or read_at is None or read_at > self._until:
            return False
        size_there = self.within.sizes.get(place)
        if size_there is None:
            return read_at >= self._away_since
        if read_at < self._since:
            return False
        lies = size_there(path)
        return lies is not None and size in (None, lies)

    def staying(self, most: int = -1) -> Iterator[sqlite3.Row]:
        """What may not leave, the fewest copies first."""
        yield from self.library.db.execute(
            "SELECT * FROM temp.leaving WHERE stays ORDER BY elsewhere, path LIMIT ?", (most,)
        )

    def count_staying(self) -> int:
        count: int = self.library.db.execute("SELECT count(*) FROM temp.leaving WHERE stays").fetchone()[0]
        return count


def size_in_library(library: Library, path: str) -> int | None:
    """Bytes of a file of the library as it lies there; None where none does."""
    try:
        status = os.lstat(f"{library.root}/{path}")
    except (OSError, ValueError):
        return None
    return status.st_size if stat.S_ISREG(status.st_mode) else None


def devices(library: Library) -> dict[int, str]:
    """The physical device of each place in use, by number; the library's is 0."""
    rows = library.db.execute("SELECT number, device FROM depots WHERE retired = ''")
    return {0: library.device} | {row["number"]: row["device"] for row in rows}
