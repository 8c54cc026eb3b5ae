"""The ledger: an SQLite database of frames, files, claims, albums, orders, depots and copies.

Rollback journal, not WAL: a library may lie on exFAT or a network drive, and a copy of the file alone must be whole.
"""

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bramblemoor.errors import NotPossible

SCHEMA_VERSION = 2
FILE = "ledger/ledger.sqlite"

_SCHEMA = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE frames (
    id INTEGER PRIMARY KEY,
    folder TEXT NOT NULL,            -- relative to the library, as in pictures/2026/2026-05
    name TEXT NOT NULL,              -- of the original
    kind TEXT NOT NULL,              -- photo or video
    taken TEXT,                      -- as it was told; see frames/moments.py
    taken_by TEXT,
    shown TEXT,                      -- the local clock (else UTC) of the taking, to sort and filter by
    year INTEGER,
    title TEXT NOT NULL DEFAULT '', caption TEXT NOT NULL DEFAULT '', location TEXT NOT NULL DEFAULT '',
    latitude REAL, longitude REAL,
    favourite INTEGER NOT NULL DEFAULT 0, reduced INTEGER NOT NULL DEFAULT 0,
    service TEXT, reference TEXT,    -- where it came from, and its name there
    arrived TEXT                     -- the order it first came with
);
CREATE INDEX frames_shown ON frames (shown);
CREATE INDEX frames_reference ON frames (service, reference);
CREATE TABLE files (
    id INTEGER PRIMARY KEY,
    frame INTEGER REFERENCES frames (id),   -- null for albums, delivered data, companions and settings
    role TEXT NOT NULL,
    path TEXT NOT NULL UNIQUE,              -- relative to the library
    collision TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    mtime_ns INTEGER NOT NULL,
    media TEXT NOT NULL DEFAULT '', width INTEGER NOT NULL DEFAULT 0, height INTEGER NOT NULL DEFAULT 0,
    former_name TEXT NOT NULL DEFAULT ''    -- the name it came under, where another was needed
);
CREATE INDEX files_frame ON files (frame);
CREATE INDEX files_sha256 ON files (sha256);
CREATE INDEX files_collision ON files (collision);
CREATE TABLE claims (
    frame INTEGER NOT NULL REFERENCES frames (id),
    field TEXT NOT NULL, value TEXT NOT NULL, source TEXT NOT NULL,
    told TEXT NOT NULL DEFAULT '',          -- by which file or order
    UNIQUE (frame, field, source, value)
);
CREATE INDEX claims_value ON claims (field, value COLLATE NOCASE);
CREATE TABLE albums (
    id INTEGER PRIMARY KEY,
    title TEXT NOT NULL, description TEXT NOT NULL DEFAULT '', path TEXT NOT NULL UNIQUE,
    service TEXT, reference TEXT,
    cover INTEGER REFERENCES frames (id),   -- the frame that stands for it, where the service told one
    UNIQUE (service, reference)
);
CREATE TABLE album_frames (
    album INTEGER NOT NULL REFERENCES albums (id), position INTEGER NOT NULL,
    frame INTEGER NOT NULL REFERENCES frames (id), PRIMARY KEY (album, position)
) WITHOUT ROWID;
CREATE INDEX album_frames_frame ON album_frames (frame);
CREATE VIRTUAL TABLE words USING fts5 (
    name, title, caption, keywords, people, location, albums, folder, tokenize = 'unicode61 remove_diacritics 2'
);
CREATE TABLE services (
    name TEXT PRIMARY KEY, url TEXT NOT NULL, dialect TEXT NOT NULL, added TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE orders (
    id TEXT PRIMARY KEY, service TEXT NOT NULL REFERENCES services (name),
    asked TEXT NOT NULL, state TEXT NOT NULL, scope TEXT NOT NULL, statement TEXT NOT NULL DEFAULT '{}'
) WITHOUT ROWID;
CREATE TABLE parts (
    order_id TEXT NOT NULL REFERENCES orders (id), number INTEGER NOT NULL,
    name TEXT NOT NULL, bytes INTEGER NOT NULL, sha256 TEXT NOT NULL, href TEXT NOT NULL,
    etag TEXT NOT NULL DEFAULT '',          -- of what was fetched so far, to resume it
    stamp TEXT NOT NULL DEFAULT '',         -- size, time and inode of the file when its digest was last found right
    PRIMARY KEY (order_id, number)
) WITHOUT ROWID;
CREATE TABLE depots (
    id TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE, kind TEXT NOT NULL, site TEXT NOT NULL, medium TEXT NOT NULL,
    whereabouts TEXT NOT NULL,              -- relative to the library
    device TEXT NOT NULL,                   -- the physical device it was last seen on
    options TEXT NOT NULL DEFAULT '{}', added TEXT NOT NULL
);
CREATE TABLE copies (
    depot TEXT NOT NULL,                    -- a depot's id, or 'library'
    file INTEGER NOT NULL REFERENCES files (id),
    state TEXT NOT NULL,                    -- written, good, damaged or missing
    sha256 TEXT NOT NULL,                   -- of the content that was put there
    read_at TEXT, grade TEXT,               -- of the last reading that matched: medium or maybe-cache
    PRIMARY KEY (depot, file)
) WITHOUT ROWID;
CREATE INDEX copies_file ON copies (file);
"""

# From each former version to the next. A ledger that cannot be written is read as it is: what is new there is nowhere needed.
_UPGRADES = {1: "ALTER TABLE albums ADD COLUMN cover INTEGER REFERENCES frames (id)"}

# What a depot's snapshot does not carry: facts about this machine's dealings, not about frames.
_DEALINGS = ("copies", "depots", "parts", "orders", "services")


class Ledger:
    """One open ledger. Queries go to `db`; changes go inside `changing()`."""

    def __init__(self, path: Path, *, read_only: bool = False) -> None:
        """Open an existing ledger. `read_only` also opens one on a medium that cannot be written at all."""
        self.read_only = read_only
        mode = "mode=ro&immutable=1" if read_only else "mode=rw"
        try:
            self.db = sqlite3.connect(f"{path.resolve().as_uri()}?{mode}", uri=True, isolation_level=None)
            self.db.row_factory = sqlite3.Row
            self.db.execute("PRAGMA synchronous = FULL")
            version = self.db.execute("PRAGMA user_version").fetchone()[0]
        except sqlite3.Error as error:
            raise NotPossible(
                f"The ledger {path} cannot be opened ({error}).",
                "Restore the library from a depot: bramblemoor restore.",
            ) from error
        while not read_only and version in _UPGRADES:
            self.db.executescript(f"BEGIN; {_UPGRADES[version]}; PRAGMA user_version = {version + 1}; COMMIT;")
            version += 1
        if version != SCHEMA_VERSION and not (read_only and version in _UPGRADES):
            self.db.close()
            raise NotPossible(
                f"The ledger {path} has schema version {version}; this program knows version {SCHEMA_VERSION}.",
                "Use the Bramblemoor that wrote it, or a newer one.",
            )

    @classmethod
    def create(cls, path: Path) -> "Ledger":
        """Make an empty ledger; appears under its name only when whole."""
        fresh = path.with_name(path.name + ".bm-new")
        fresh.unlink(missing_ok=True)
        db = sqlite3.connect(fresh)
        db.executescript(f"BEGIN; {_SCHEMA} PRAGMA user_version = {SCHEMA_VERSION}; COMMIT;")
        db.close()
        fresh.replace(path)
        return cls(path)

    @contextmanager
    def changing(self, *, facts: bool = False) -> Iterator[sqlite3.Connection]:
        """A transaction. `facts` says that facts about frames change, so that depots need a new snapshot."""
        self.db.execute("BEGIN IMMEDIATE")
        try:
            yield self.db
            if facts:
                self.db.execute(
                    "INSERT INTO meta VALUES ('generation', 1) ON CONFLICT (key) DO UPDATE SET value = value + 1"
                )
        except BaseException:
            if self.db.in_transaction:  # a full disk makes SQLite roll back by itself
                self.db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")

    def generation(self) -> int:
        """How often facts about frames have changed."""
        row = self.db.execute("SELECT value FROM meta WHERE key = 'generation'").fetchone()
        return int(row[0]) if row else 0

    def write_snapshot(self, target: Path) -> None:
        """Write the facts alone, as a ledger that opens by itself. Raises NotPossible where this ledger is damaged."""
        trouble = self.db.execute("PRAGMA quick_check(1)").fetchone()[0]
        if trouble != "ok":
            raise NotPossible(f"The ledger is damaged ({trouble}).", "Restore it from a depot: bramblemoor restore.")
        fresh = target.with_name(target.name + ".bm-new")
        fresh.unlink(missing_ok=True)
        copy = sqlite3.connect(fresh, isolation_level=None)
        try:
            self.db.backup(copy)
            copy.execute("BEGIN")
            for table in _DEALINGS:
                copy.execute(f"DELETE FROM {table}")
            copy.execute("DELETE FROM files WHERE role = 'ledger'")
            copy.execute("COMMIT")
            copy.execute("VACUUM")
        finally:
            copy.close()
        fresh.replace(target)

    def close(self) -> None:
        self.db.close()
