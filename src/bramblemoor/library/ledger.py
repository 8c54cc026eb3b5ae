"""The ledger: an SQLite database of frames, files, claims, albums, orders, depots and copies.

Rollback journal, not WAL: a library may lie on exFAT or a network drive, and a copy of the file alone must be whole.
"""

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bramblemoor.disk.durable import flush_file
from bramblemoor.disk.told import inside_or_none
from bramblemoor.errors import NotPossible
from bramblemoor.library import schema
from bramblemoor.library.folding import plain
from bramblemoor.library.locations import NAME_AT

FILE = "ledger/ledger.sqlite"
_ANEW = "Write it anew from a depot: bramblemoor restore DIR --ledger-only --from DEPOT."
_WORDS = "rowid, name, title, caption, keywords, people, location, albums, folder"
_FRAMES_ONLY = "(SELECT frame FROM main.files JOIN {only} ON file = files.id WHERE frame IS NOT NULL)"
# What of each table belongs to some of the files; of the other tables all does.
_WHERE_ONLY = {
    "files": "id IN (SELECT file FROM {only})",
    "frames": f"id IN {_FRAMES_ONLY}",
    "claims": f"frame IN {_FRAMES_ONLY}",
    "words": f"rowid IN {_FRAMES_ONLY}",
    "albums": f"id IN (SELECT album FROM main.album_frames WHERE frame IN {_FRAMES_ONLY})",
    "album_frames": f"frame IN {_FRAMES_ONLY}",
}


class Ledger:
    """One open ledger. Queries go to `db`; changes go inside `changing()`."""

    def __init__(self, path: Path, *, read_only: bool = False) -> None:
        """Open an existing ledger. `read_only` also opens one on a medium that cannot be written at all."""
        self.read_only = read_only
        self.closed = False
        mode = "mode=ro&immutable=1" if read_only else "mode=rw"
        try:
            self.db = sqlite3.connect(f"{path.resolve().as_uri()}?{mode}", uri=True, isolation_level=None)
            version = self.db.execute("PRAGMA user_version").fetchone()[0]
            if read_only and 1 <= version < schema.VERSION:
                # One that cannot be written is brought up to date in a temporary copy.
                former, self.db = self.db, sqlite3.connect("", isolation_level=None)
                former.backup(self.db)
                former.close()
            self.db.row_factory = sqlite3.Row
            self.db.create_function("bm_plain", 1, plain, deterministic=True)
            self.db.create_function(NAME_AT, 2, lambda latitude, longitude: "", deterministic=True)
            self.db.execute("PRAGMA synchronous = FULL")
            if read_only:  # it may be a stranger's: what his schema would run is not run
                self.db.execute("PRAGMA trusted_schema = OFF")
            while 1 <= version < schema.VERSION:
                step = schema.upgrade(version, self._columns)
                version += 1
                self.db.executescript(f"BEGIN; {step} PRAGMA user_version = {version}; COMMIT;")
        except sqlite3.Error as error:
            raise NotPossible(f"The ledger {path} cannot be opened ({error}).", _ANEW) from error
        if version != schema.VERSION:
            self.db.close()
            raise NotPossible(
                f"The ledger {path} has schema version {version}; this program knows version {schema.VERSION}.",
                "Use the Bramblemoor that wrote it, or a newer one.",
            )

    def _columns(self, table: str) -> list[str]:
        return [row["name"] for row in self.db.execute(f"SELECT name FROM pragma_table_info('{table}')")]

    @classmethod
    def create(cls, path: Path) -> "Ledger":
        """Make an empty ledger; appears under its name only when whole."""
        fresh = path.with_name(path.name + ".bm-new")
        _make(fresh)
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

    @contextmanager
    def unchanged(self) -> Iterator[sqlite3.Connection]:
        """For very many queries that see one state: without it each of them locks the file, and looks whether it has changed."""
        self.db.execute("BEGIN")
        try:
            yield self.db
        finally:
            self.db.execute("ROLLBACK")

    def generation(self) -> int:
        """How often facts about frames have changed."""
        row = self.db.execute("SELECT value FROM meta WHERE key = 'generation'").fetchone()
        return int(row[0]) if row else 0

    def require_sound(self) -> None:
        """Raise NotPossible where this ledger is damaged; reads all of it."""
        try:
            trouble = self.db.execute("PRAGMA quick_check(1)").fetchone()[0]
        except sqlite3.DatabaseError as error:
            trouble = str(error)
        if trouble != "ok":
            raise NotPossible(f"The ledger is damaged ({' '.join(trouble.split())}).", _ANEW)

    def write_snapshot(self, target: Path, *, only: str = "") -> None:
        """Write the facts alone, as a ledger that opens by itself. Raises NotPossible where this ledger is damaged.

        `only` names a table of this connection whose column `file` has the files that it is to be about, with their frames.
        """
        self.require_sound()
        fresh = target.with_name(target.name + ".bm-new")
        _make(fresh, with_triggers=False)
        self.db.execute("ATTACH ? AS snapshot", (str(fresh),))
        try:
            self.db.execute("BEGIN")
            for table in schema.FACT_TABLES:
                told = ", ".join(name for name in self._columns(table) if name not in schema.UNTOLD)
                where = _WHERE_ONLY.get(table, "1").format(only=only) if only else "1"
                if table == "files":
                    where += " AND role != 'ledger'"
                self.db.execute(f"INSERT INTO snapshot.{table} ({told}) SELECT {told} FROM main.{table} WHERE {where}")
            where = _WHERE_ONLY["words"].format(only=only) if only else "1"
            self.db.execute(f"INSERT INTO snapshot.words ({_WORDS}) SELECT {_WORDS} FROM main.words WHERE {where}")
            self.db.execute("COMMIT")
        finally:
            if self.db.in_transaction:
                self.db.execute("ROLLBACK")
            self.db.execute("DETACH snapshot")
        copy = sqlite3.connect(fresh)
        copy.executescript(f"BEGIN; {schema.triggers()} COMMIT;")
        copy.close()
        flush_file(fresh)
        fresh.replace(target)

    def close(self) -> None:
        self.closed = True
        self.db.close()


def read_apart(path: Path) -> sqlite3.Connection:
    """A ledger's connection for another thread or process, to read only; it sees what was committed."""
    return sqlite3.connect(f"{path.as_uri()}?mode=ro", uri=True, isolation_level=None)


def require_inside(path: Path) -> None:
    """Raise NotPossible where a ledger that came from elsewhere cannot be read, names files outside the library, or holds what is
    not of its column's type (a text for a number, a number without an end).
    """
    why = "It was not written by this program, or it is damaged; take another drive's."
    try:
        db = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro&immutable=1", uri=True)
        db.execute("PRAGMA trusted_schema = OFF")
        tables = {row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        for table in tables & set(schema.FACT_TABLES):
            if (column := _mistyped(db, table)) is not None:
                raise NotPossible(
                    f"The ledger {path} holds what no ledger does, in {table}, {column}. Nothing was taken from it.",
                    why,
                )
        for query, table in (
            ("SELECT path FROM files", "files"),
            ("SELECT folder || '/' || name FROM frames", "frames"),
            ("SELECT path FROM albums", "albums"),
        ):
            for (told,) in db.execute(query) if table in tables else ():
                if inside_or_none(told) is None:
                    raise NotPossible(
                        f"The ledger {path} names a file outside the library: {str(told)[:80]!r}. Nothing was taken from it.",
                        why,
                    )
        db.close()
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise NotPossible(f"The ledger {path} cannot be read ({error}).", "Take another drive's.") from error


_TYPES = {"INTEGER": "'integer'", "TEXT": "'text'", "REAL": "'real', 'integer'"}


def _mistyped(db: sqlite3.Connection, table: str) -> str | None:
    """A column of a table that holds another type of value than it was declared for (SQLite itself takes any)."""
    for _, name, declared, never_null, _, _ in db.execute(f"PRAGMA table_info('{table}')").fetchall():
        types = _TYPES.get(declared.upper())
        if types is None:
            continue
        allowed = types if never_null else f"{types}, 'null'"
        if db.execute(f'SELECT 1 FROM "{table}" WHERE typeof("{name}") NOT IN ({allowed}) LIMIT 1').fetchone():
            return str(name)
    return None


def merge(shares: Iterable[Path], target: Path) -> None:
    """Write one ledger from snapshots that are about different files of one library."""
    _make(target)
    db = sqlite3.connect(target, isolation_level=None)
    for share in shares:
        db.execute("ATTACH ? AS share", (str(share),))
        db.execute("BEGIN")
        for table in schema.FACT_TABLES:
            there = [name for _, name, *_ in db.execute(f"PRAGMA share.table_info('{table}')")]
            ours = {name for _, name, *_ in db.execute(f"PRAGMA main.table_info('{table}')")}
            columns = ", ".join(name for name in there if name in ours)
            if not columns:  # one of an older program has not all tables
                continue
            db.execute(f"INSERT OR IGNORE INTO main.{table} ({columns}) SELECT {columns} FROM share.{table}")
        db.execute(
            f"INSERT INTO main.words ({_WORDS}) SELECT {_WORDS} FROM share.words"
            " WHERE rowid NOT IN (SELECT rowid FROM main.words)"
        )
        db.execute("COMMIT")
        db.execute("DETACH share")
    db.close()
    flush_file(target)


def _make(path: Path, *, with_triggers: bool = True) -> None:
    path.unlink(missing_ok=True)
    db = sqlite3.connect(path)
    triggers = schema.triggers() if with_triggers else ""
    db.executescript(
        f"BEGIN; {schema.FACTS} {schema.DEALINGS} {triggers} PRAGMA user_version = {schema.VERSION}; COMMIT;"
    )
    db.close()
