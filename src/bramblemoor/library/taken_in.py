"""What was taken in from devices, and what was culled: so that the one is not read again, and the other not brought again."""

import json
import sqlite3
from collections.abc import Collection, Iterable

from bramblemoor.frames.moments import now_utc
from bramblemoor.library.receipts import stamp

Seen = tuple[str, int, int, str]
"""A file of a device: its path there, bytes, mtime in ns since 1970, and its digest."""


def remember(db: sqlite3.Connection, device: str, seen: Iterable[Seen]) -> None:
    """Note what of a device has been read, inside a transaction."""
    db.executemany("INSERT OR REPLACE INTO taken_in VALUES (?, ?, ?, ?, ?)", ((device, *one) for one in seen))


def known_on(db: sqlite3.Connection, device: str) -> dict[str, tuple[int, int, str]]:
    """What was read of a device before: by path (bytes, mtime in ns, digest)."""
    rows = db.execute("SELECT path, bytes, mtime_ns, sha256 FROM taken_in WHERE device = ?", (device,))
    return {path: (size, mtime_ns, sha256) for path, size, mtime_ns, sha256 in rows}


def sizes_here(db: sqlite3.Connection, sizes: Collection[int]) -> set[int]:
    """Which of some sizes in bytes files of the library have, or files that were culled."""
    listed = json.dumps(list(sizes))
    return {
        row[0]
        for row in db.execute(
            "SELECT bytes FROM files WHERE frame NOT NULL AND bytes IN (SELECT value FROM json_each(?1))"
            " UNION SELECT bytes FROM culled WHERE bytes IN (SELECT value FROM json_each(?1))",
            (listed,),
        )
    }


def frame_of(db: sqlite3.Connection, sha256: str) -> tuple[int, str] | None:
    """The frame that a content is in the library of, and that content's path."""
    row = db.execute(
        "SELECT frame, path FROM files WHERE sha256 = ? AND frame NOT NULL AND role != 'sidecar' ORDER BY id LIMIT 1",
        (sha256,),
    ).fetchone()
    return None if row is None else (row[0], row[1])


def culled_on(db: sqlite3.Connection, sha256: str) -> str:
    """The day on which a content was culled here, or left out of an intake, as 2026-05-09; "" where it was not."""
    row = db.execute("SELECT at FROM culled WHERE sha256 = ?", (sha256,)).fetchone()
    return "" if row is None else str(row[0])[:10]


def was_here(db: sqlite3.Connection, sha256: str) -> bool:
    """Whether a culled content was in the library; else it was left out of an intake."""
    return db.execute("SELECT 1 FROM culled WHERE sha256 = ? AND path != ''", (sha256,)).fetchone() is not None


def culled_names(db: sqlite3.Connection, folder: str) -> set[str]:
    """The names of files that were culled from a folder."""
    start = f"{folder}/"
    rows = db.execute("SELECT path FROM culled WHERE substr(path, 1, ?) = ?", (len(start), start))
    return {row[0].removeprefix(start) for row in rows}


def was_read(db: sqlite3.Connection, sha256: str) -> bool:
    """Whether a content was taken in from any device, as sidecars of a card are: their bytes lie in delivered/."""
    return db.execute("SELECT 1 FROM taken_in WHERE sha256 = ? LIMIT 1", (sha256,)).fetchone() is not None


def leave_out(db: sqlite3.Connection, left: Iterable[tuple[str, int]]) -> None:
    """Note contents (digest, bytes) that were left out of an intake, as nothing is to be seen in them; inside a transaction."""
    db.executemany("INSERT OR IGNORE INTO culled VALUES (?, ?, '', ?)", ((*one, stamp(now_utc())) for one in left))
