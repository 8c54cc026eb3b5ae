"""The worksheet of one unpacking: an SQLite file beside the parts that lets a killed run go on where it stopped."""

import hashlib
import shutil
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from bramblemoor.exports.containers.folder import FolderPart
from bramblemoor.exports.containers.interface import Entry
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.templates import folded, last_step, loose
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.receipts import stamp

_SCHEMA = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE entries (
    id INTEGER PRIMARY KEY, part INTEGER NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL,
    method INTEGER NOT NULL, crc32 INTEGER, packed INTEGER, size INTEGER NOT NULL, at INTEGER NOT NULL, raw BLOB,
    folded TEXT NOT NULL,                               -- what two spellings of the name have in common
    base TEXT NOT NULL,                                 -- its last step
    is_copy INTEGER NOT NULL,                           -- delivered again, for an album
    frame_key TEXT, suffix TEXT, ending TEXT,           -- of pictures: what the dialect makes of their names
    done INTEGER NOT NULL DEFAULT 0, staged INTEGER NOT NULL DEFAULT 0,
    sha256 TEXT,                                        -- see content_key
    media TEXT, picture_kind TEXT, width INTEGER, height INTEGER, taken TEXT,
    edits INTEGER NOT NULL DEFAULT 0,                   -- whether an editor's instructions came inside
    content_ids TEXT NOT NULL DEFAULT '',               -- what a still and its clip have in common
    claims TEXT NOT NULL DEFAULT '[]', troubles TEXT NOT NULL DEFAULT '[]'
);
CREATE INDEX entries_name ON entries (name);
CREATE INDEX entries_folded ON entries (folded);
CREATE INDEX entries_base ON entries (base);
CREATE INDEX entries_sha256 ON entries (sha256);
CREATE INDEX entries_crc32 ON entries (crc32, size);
CREATE INDEX entries_part ON entries (part, at);
CREATE TABLE wanted (                                   -- under which names a picture's sidecar may be found
    picture INTEGER NOT NULL, name TEXT NOT NULL, folded TEXT NOT NULL, rank INTEGER NOT NULL,
    PRIMARY KEY (picture, name)
) WITHOUT ROWID;
CREATE INDEX wanted_name ON wanted (name);
CREATE INDEX wanted_folded ON wanted (folded);
CREATE TABLE called (                                   -- what a picture may have been called at the service
    picture INTEGER NOT NULL, key TEXT NOT NULL, PRIMARY KEY (picture, key)
) WITHOUT ROWID;
CREATE INDEX called_key ON called (key);
CREATE TABLE records (
    id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, number INTEGER NOT NULL,
    family TEXT NOT NULL,                               -- a picture may have one record of each: sidecar, index, xmp
    path TEXT NOT NULL, file_name TEXT NOT NULL, reference TEXT NOT NULL, sha256_said TEXT NOT NULL,
    told TEXT NOT NULL, as_told TEXT NOT NULL,          -- the name as the service writes it, and as it stands
    size_said INTEGER NOT NULL, taken TEXT,
    scope TEXT NOT NULL DEFAULT '',                     -- the folder that a bare name speaks of; '' for all of them
    claims TEXT NOT NULL, albums TEXT NOT NULL, troubles TEXT NOT NULL,
    edits INTEGER NOT NULL DEFAULT 0,
    content BLOB,                                       -- of XMP packets
    refers TEXT NOT NULL DEFAULT '[]'                   -- to what it is an edit or clip of, or has as such
);
CREATE INDEX records_entry ON records (entry);
CREATE INDEX records_told ON records (told);
CREATE INDEX records_as_told ON records (as_told);
CREATE INDEX records_path ON records (path);
CREATE INDEX records_sha256 ON records (sha256_said);
CREATE INDEX records_reference ON records (reference);
CREATE TABLE described (                                -- albums, as the service describes them
    id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, title TEXT NOT NULL, description TEXT NOT NULL, reference TEXT NOT NULL,
    members TEXT NOT NULL, cover TEXT NOT NULL
);
CREATE TABLE pairs (picture INTEGER, record INTEGER, PRIMARY KEY (picture, record)) WITHOUT ROWID;
CREATE INDEX pairs_record ON pairs (record);
CREATE TABLE ties (picture INTEGER, record INTEGER, PRIMARY KEY (picture, record)) WITHOUT ROWID;
CREATE TABLE rejected (                                 -- candidates that contradict, or that only a name speaks for
    picture INTEGER, record INTEGER, why TEXT NOT NULL, PRIMARY KEY (record, picture)
) WITHOUT ROWID;
CREATE TABLE own (                                      -- records that are meant for a rendition or clip alone
    picture INTEGER, record INTEGER, PRIMARY KEY (picture, record)
) WITHOUT ROWID;
CREATE INDEX own_record ON own (record);
CREATE INDEX rejected_picture ON rejected (picture);
CREATE TABLE units (                                    -- contents, each where it is to lie
    entry INTEGER PRIMARY KEY, sha256 TEXT NOT NULL,
    staged_as INTEGER NOT NULL,                         -- the entry under whose number it was staged
    frame INTEGER, role TEXT,                           -- the frame it belongs to, named by the entry of its original
    rival TEXT NOT NULL DEFAULT '',                     -- another original that it fits as well
    here INTEGER,                                       -- the frame in the ledger that has this content already
    path TEXT, collision TEXT, mtime_ns INTEGER, former_name TEXT NOT NULL DEFAULT ''
);
CREATE INDEX units_frame ON units (frame);
CREATE INDEX units_sha256 ON units (sha256);
CREATE INDEX units_here ON units (here);
CREATE INDEX units_collision ON units (collision);
"""


ENTERING = "entering"
"""Noted once frames begin to be entered: what a run that breaks off then wrote beside pictures, the ledger does not know."""
_NOTHING = hashlib.sha256(b"").hexdigest()


def content_key(digest: str, entry: int) -> str:
    """What tells contents apart: the digest; but empty files are pictures that went wrong, each another one."""
    return f"empty {entry}" if digest == _NOTHING else digest


def digest_of_key(key: str) -> str:
    """The digest of a content, from its key."""
    return _NOTHING if key.startswith("empty ") else key


def stem_of(name: str) -> str:
    stem, _, ending = name.rpartition(".")
    return stem if stem and "/" not in ending else name


_RULES: dict[str, Callable[[str], str]] = {
    "bm_stem": stem_of, "bm_base": lambda path: path.rpartition("/")[2], "bm_folded": folded, "bm_last": last_step,
    "bm_loose": loose,
}  # fmt: skip
"""What queries may ask of names."""


class Worksheet:
    """Open worksheet; `staging` holds extracted pictures, each under its entry's number."""

    def __init__(self, work: Path, fingerprint: str) -> None:
        self.work = work
        self.staging = work / "staging"
        self._path = work / "worksheet.sqlite"
        self.staging.mkdir(parents=True, exist_ok=True)
        self.db = self._open()
        if self.get("fingerprint") != fingerprint:
            entering = self.get(ENTERING)
            self.discard()
            self.staging.mkdir(parents=True, exist_ok=True)
            self.db = self._open()
            with self.changing() as db:
                for statement in _SCHEMA.split(";\n"):
                    db.execute(statement)
                db.execute("INSERT INTO meta VALUES ('fingerprint', ?)", (fingerprint,))
                db.execute("INSERT INTO meta VALUES ('started', ?)", (stamp(now_utc()),))
                if entering:
                    self.put(ENTERING, entering)

    def _open(self) -> sqlite3.Connection:
        db = sqlite3.connect(self._path, isolation_level=None)
        db.row_factory = sqlite3.Row
        db.execute("PRAGMA locking_mode = EXCLUSIVE")  # the library is held: a lock for each query is time lost
        for name, rule in _RULES.items():
            db.create_function(name, 1, rule, deterministic=True)
        return db

    def get(self, key: str) -> str | None:
        try:
            row = self.db.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        except sqlite3.DatabaseError:
            return None  # new, or broken off while it was made
        return row[0] if row else None

    def put(self, key: str, value: str) -> None:
        self.db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))

    @contextmanager
    def changing(self) -> Iterator[sqlite3.Connection]:
        self.db.execute("BEGIN")
        try:
            yield self.db
        except BaseException:
            if self.db.in_transaction:  # a full disk makes SQLite roll back by itself
                self.db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")

    def staged(self, entry: int) -> Path:
        return self.staging / str(entry)

    def discard(self) -> None:
        """Remove the worksheet and what is staged; nothing of it is needed any more."""
        self.db.close()
        shutil.rmtree(self.staging)
        for path in self.work.glob("worksheet.sqlite*"):
            path.unlink()


def fingerprint(parcel: Parcel) -> str:
    """Names, sizes and times of the parts, the dialect, and the tables: another parcel, or another version of this program,
    needs another worksheet.
    """
    facts = [_SCHEMA, parcel.dialect.source]
    for path in parcel.parts:
        if path.is_dir():
            listed = hashlib.sha256()
            for entry in FolderPart(path).entries():
                listed.update(f"{entry.name}\0{entry.size}\0".encode())
            facts.append(f"{path.name} {listed.hexdigest()}")
            continue
        status = path.stat()
        facts.append(f"{path.name} {status.st_size} {status.st_mtime_ns}")
    return hashlib.sha256("\n".join(facts).encode()).hexdigest()


def rows_of_part(sheet: Worksheet, number: int, condition: str) -> Iterator[sqlite3.Row]:
    """Entries of a part in the order in which they are best read; a few at a time, so that they may be changed meanwhile."""
    last = -1
    while True:
        rows = sheet.db.execute(
            f"SELECT * FROM entries WHERE part = ? AND at > ? AND {condition} ORDER BY at LIMIT 512", (number, last)
        ).fetchall()
        yield from rows
        if len(rows) < 512:
            return
        last = rows[-1]["at"]


def entry_of(row: sqlite3.Row) -> Entry:
    """An entry as its container knows it."""
    return Entry(row["name"], row["size"], row["at"], row["packed"], row["crc32"], row["method"], row["raw"])


def taken_of(claims: Iterable[Claim]) -> str | None:
    """The first moment that is claimed."""
    return next((claim.value for claim in claims if claim.field == "taken"), None)


def encode_claims(claims: Iterable[Claim]) -> str:
    return msgspec.json.encode(list(claims)).decode()


def decode_claims(text: str) -> list[Claim]:
    return msgspec.json.decode(text, type=list[Claim])
