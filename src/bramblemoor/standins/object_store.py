"""What an object store keeps: objects by key in one folder, of which some are cold; on a clock that can be set ahead."""

import base64
import hashlib
import json
import sqlite3
import threading
import time
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

COLD = "DEEP_COLD"
_TABLES = """
    CREATE TABLE IF NOT EXISTS objects (
        key TEXT PRIMARY KEY, blob TEXT, bytes INTEGER, etag TEXT, modified REAL, meta TEXT, class TEXT, sums TEXT,
        wanted REAL NOT NULL DEFAULT 0, ready REAL NOT NULL DEFAULT 0, until REAL NOT NULL DEFAULT 0
    ) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS pieces (upload TEXT, number INTEGER, blob TEXT, bytes INTEGER, etag TEXT, sum TEXT,
        PRIMARY KEY (upload, number)) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS uploads (id TEXT PRIMARY KEY, key TEXT, meta TEXT, class TEXT, algorithm TEXT) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS fees (at REAL, what TEXT, bytes INTEGER, fee REAL);
"""
_RESTORE_FEE = 0.02  # for each GB
_EARLY_FEE = 0.01  # for each GB that is removed before its time
_EARLY_DAYS = 90


@dataclass(frozen=True)
class Held:
    key: str
    blob: Path
    bytes: int
    etag: str
    modified: float
    meta: dict[str, str]
    storage: str
    sums: dict[str, str]
    wanted: float
    ready: float
    until: float


class ObjectStore:
    """`days_ahead` sets its clock ahead. `restoring` is how many seconds bringing up what is cold takes."""

    def __init__(self, folder: Path, *, skew: float = 0.0, restoring: float = 2.0) -> None:
        self.blobs = folder / "blobs"
        self.blobs.mkdir(parents=True, exist_ok=True)
        self.skew, self.restoring = skew, restoring
        self.lock = threading.RLock()
        self.db = sqlite3.connect(folder / "objects.sqlite", check_same_thread=False, isolation_level=None)
        self.db.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=OFF;" + _TABLES)

    def now(self) -> float:
        return time.time() + self.skew

    def put(
        self, key: str, content: bytes, meta: dict[str, str], storage: str, sums: dict[str, str], etag: str = ""
    ) -> str:
        blob = uuid.uuid4().hex
        (self.blobs / blob).write_bytes(content)
        etag = etag or hashlib.md5(content, usedforsecurity=False).hexdigest()
        with self.lock:
            self._drop(key)
            self.db.execute(
                "INSERT INTO objects (key, blob, bytes, etag, modified, meta, class, sums) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                (key, blob, len(content), etag, self.now(), json.dumps(meta), storage, json.dumps(sums)),
            )
        return etag

    def at(self, key: str) -> Held | None:
        with self.lock:
            row = self.db.execute(
                "SELECT key, blob, bytes, etag, modified, meta, class, sums, wanted, ready, until FROM objects WHERE key = ?",
                (key,),
            ).fetchone()
        return self._held(row) if row else None

    def _held(self, row: Any) -> Held:
        key, blob, size, etag, modified, meta, storage, sums, wanted, ready, until = row
        return Held(
            key,
            self.blobs / blob,
            size,
            etag,
            modified,
            json.loads(meta),
            storage,
            json.loads(sums),
            wanted,
            ready,
            until,
        )

    def listed(self, prefix: str, after: str, most: int, *, late: float = 0.0) -> list[Held]:
        """In order of keys; what was put less than `late` seconds ago is not listed yet."""
        with self.lock:
            rows = self.db.execute(
                "SELECT key, blob, bytes, etag, modified, meta, class, sums, wanted, ready, until FROM objects"
                " WHERE key > ? AND substr(key, 1, length(?)) = ? AND modified <= ? ORDER BY key LIMIT ?",
                (after, prefix, prefix, self.now() - late, most),
            ).fetchall()
        return [self._held(row) for row in rows]

    def remove(self, key: str) -> None:
        with self.lock:
            self._drop(key)

    def _drop(self, key: str) -> None:
        held = self.at(key)
        if held is None:
            return
        if held.storage == COLD and self.now() - held.modified < _EARLY_DAYS * 86_400:
            self._charge("removed early", held.bytes, _EARLY_FEE)
        held.blob.unlink(missing_ok=True)
        self.db.execute("DELETE FROM objects WHERE key = ?", (key,))

    def _charge(self, what: str, size: int, fee: float) -> None:
        self.db.execute("INSERT INTO fees VALUES (?, ?, ?, ?)", (self.now(), what, size, size / 1e9 * fee))

    def restore(self, key: str, days: int) -> bool:
        """Ask for a cold object to be brought up; False where that was asked for already, and is going on."""
        with self.lock:
            held = self.at(key)
            assert held is not None
            now = self.now()
            if held.wanted and held.ready > now:
                return False
            self._charge("brought up", held.bytes, _RESTORE_FEE)
            ready = now + self.restoring
            self.db.execute(
                "UPDATE objects SET wanted = ?, ready = ?, until = ? WHERE key = ?",
                (now, ready, ready + days * 86_400, key),
            )
            return True

    def is_up(self, held: Held) -> bool:
        return held.storage != COLD or bool(held.wanted and held.ready <= self.now() < held.until)

    def begin(self, key: str, meta: dict[str, str], storage: str, algorithm: str) -> str:
        upload = uuid.uuid4().hex
        with self.lock:
            self.db.execute(
                "INSERT INTO uploads VALUES (?, ?, ?, ?, ?)", (upload, key, json.dumps(meta), storage, algorithm)
            )
        return upload

    def add_piece(self, upload: str, number: int, content: bytes, check: str) -> str:
        blob, etag = uuid.uuid4().hex, hashlib.md5(content, usedforsecurity=False).hexdigest()
        (self.blobs / blob).write_bytes(content)
        with self.lock:
            self.db.execute(
                "INSERT OR REPLACE INTO pieces VALUES (?, ?, ?, ?, ?, ?)",
                (upload, number, blob, len(content), etag, check),
            )
        return etag

    def knows(self, upload: str) -> bool:
        with self.lock:
            return self.db.execute("SELECT 1 FROM uploads WHERE id = ?", (upload,)).fetchone() is not None

    def complete(self, upload: str, numbers: list[int]) -> str:
        """Make one object of its pieces. Its ETag is no digest of the content, but of those of the pieces."""
        with self.lock:
            key, meta, storage, algorithm = self.db.execute(
                "SELECT key, meta, class, algorithm FROM uploads WHERE id = ?", (upload,)
            ).fetchone()
            rows = {
                row[0]: row[1:]
                for row in self.db.execute("SELECT number, blob, etag, sum FROM pieces WHERE upload = ?", (upload,))
            }
            content = b"".join((self.blobs / rows[number][0]).read_bytes() for number in numbers)
            together = hashlib.md5(
                b"".join(bytes.fromhex(rows[n][1]) for n in numbers), usedforsecurity=False
            ).hexdigest()
            sums = {"type": "COMPOSITE"} | (
                {"sha256": composite([rows[n][2] for n in numbers])}
                if algorithm == "SHA256" and all(rows[n][2] for n in numbers)
                else {}
            )
            etag = self.put(key, content, json.loads(meta), storage, sums, f"{together}-{len(numbers)}")
            self.give_up(upload)
        return etag

    def give_up(self, upload: str) -> None:
        with self.lock:
            for (blob,) in self.db.execute("SELECT blob FROM pieces WHERE upload = ?", (upload,)).fetchall():
                (self.blobs / blob).unlink(missing_ok=True)
            self.db.execute("DELETE FROM pieces WHERE upload = ?", (upload,))
            self.db.execute("DELETE FROM uploads WHERE id = ?", (upload,))


def composite(sums: list[str]) -> str:
    """The checksum of checksums of pieces, in base64, and how many there are."""
    digest = hashlib.sha256(b"".join(map(base64.b64decode, sums))).digest()
    return f"{base64.b64encode(digest).decode()}-{len(sums)}"


def fill(store: ObjectStore, tree: Path) -> None:
    """Put a tree of files into the store; what lies under lanterns is cold."""
    for path in _files(tree):
        key = path.relative_to(tree).as_posix()
        store.put(key, path.read_bytes(), {}, COLD if "/deep/" in key else "STANDARD", {})


def _files(folder: Path) -> Iterator[Path]:
    return (path for path in sorted(folder.rglob("*")) if path.is_file())
