"""What is known of one transfer: its frames with how far each is, what becomes of them, and its albums; in a file of its own.

Others may look while it goes on. docs/formats.md tells its tables.
"""

import hashlib
import sqlite3
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Literal

import msgspec

from bramblemoor.frames.moments import now_seconds
from bramblemoor.library.receipts import Amount
from bramblemoor.migrate.fidelity import Row
from bramblemoor.migrate.sending import Sent, SentFile
from bramblemoor.services.moving import Shown, ShownAlbum

State = Literal["waiting", "sent", "proven", "missing", "amiss", "left"]
"""`missing` was sent, and is not there; `amiss` arrived as something else than was sent; `left` was refused, or could not be
had.
"""
_PAGE = 500
_LINE = "n, place, shown, state, why, sent, coalesce(due_bytes, bytes), due_bytes NOT NULL, gone, was_proven"
_ALIVE = 15  # seconds in which a run that is alive says so
_TABLES = """
    PRAGMA journal_mode = WAL;
    PRAGMA synchronous = NORMAL;
    CREATE TABLE IF NOT EXISTS meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS frames (
        n INTEGER PRIMARY KEY, id TEXT NOT NULL, name TEXT NOT NULL, mark TEXT NOT NULL, seen INTEGER NOT NULL,
        kind TEXT NOT NULL, bytes INTEGER NOT NULL, files INTEGER NOT NULL, shown BLOB NOT NULL,
        state TEXT NOT NULL, why TEXT NOT NULL DEFAULT '',
        place TEXT NOT NULL DEFAULT '', place_key TEXT NOT NULL DEFAULT '', sent BLOB, there TEXT,
        run INTEGER NOT NULL DEFAULT 0, found TEXT NOT NULL DEFAULT '', restated INTEGER NOT NULL DEFAULT 0,
        due_files INTEGER, due_bytes INTEGER,               -- what of it is to be sent, where the rest is there
        gone INTEGER NOT NULL DEFAULT 0, was_proven INTEGER NOT NULL DEFAULT 0,
        UNIQUE (id, mark)
    );
    CREATE INDEX IF NOT EXISTS frames_there ON frames (there);
    CREATE INDEX IF NOT EXISTS frames_place ON frames (place_key);
    CREATE TABLE IF NOT EXISTS lying (key TEXT PRIMARY KEY, bytes INTEGER NOT NULL) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS held (sha256 TEXT PRIMARY KEY, there TEXT NOT NULL, sent TEXT NOT NULL) WITHOUT ROWID;
    CREATE INDEX IF NOT EXISTS frames_state ON frames (state);
    CREATE TABLE IF NOT EXISTS verdicts (
        frame INTEGER NOT NULL, what TEXT NOT NULL, outcome TEXT NOT NULL, how TEXT NOT NULL, PRIMARY KEY (frame, what)
    ) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS begun (frame INTEGER NOT NULL, place TEXT NOT NULL, PRIMARY KEY (frame, place)) WITHOUT ROWID;
    CREATE TABLE IF NOT EXISTS albums (n INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, title TEXT NOT NULL, about TEXT NOT NULL);
    CREATE TABLE IF NOT EXISTS album_frames (
        album INTEGER NOT NULL, position INTEGER NOT NULL, id TEXT NOT NULL, PRIMARY KEY (album, position)
    ) WITHOUT ROWID;
    CREATE INDEX IF NOT EXISTS album_frames_id ON album_frames (id);
"""


class Line(msgspec.Struct, frozen=True):
    """A frame of the worksheet. `place` is where its original is to lie, where the destination has folders; `due` are the bytes
    to be sent of it; where it is `renewed`, these are of sidecars, and the rest is there. `gone` is how often
    it was there and is gone; what lies in its place once it `was_proven` and is something else now, somebody else put there.
    """

    n: int
    place: str
    shown: Shown
    state: State
    why: str
    sent: Sent | None
    due: int
    renewed: bool
    gone: int
    was_proven: bool

    @property
    def amount(self) -> Amount:
        return Amount(int(self.shown.kind != "other"), len(self.shown.files), self.shown.bytes)


class Worksheet:
    """An open worksheet. Its methods may be called from several threads."""

    def __init__(self, path: Path, *, only_look: bool = False) -> None:
        self._lock = threading.RLock()
        where = f"{path.resolve().as_uri()}?mode=ro" if only_look else path.resolve().as_uri()
        self.db = sqlite3.connect(where, uri=True, isolation_level=None, check_same_thread=False, timeout=30)
        if not only_look:  # what a loss of power takes from it is found at the destination again
            self.db.executescript(_TABLES)

    def close(self) -> None:
        self.db.close()

    @contextmanager
    def changing(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            self.db.execute("BEGIN IMMEDIATE")
            try:
                yield self.db
            except BaseException:
                self.db.execute("ROLLBACK")
                raise
            self.db.execute("COMMIT")

    def get(self, key: str, otherwise: str = "") -> str:
        with self._lock:
            row = self.db.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        return str(row[0]) if row else otherwise

    def put(self, key: str, value: str) -> None:
        with self.changing() as db:
            db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))

    # What is going on, for those who look.

    def beat(self, rate: float) -> None:
        """Say that a run is alive, and how many bytes it sends a second."""
        with self.changing() as db:
            rows = (("alive", str(now_seconds())), *((("rate", str(rate)),) if rate else ()))
            db.executemany("INSERT OR REPLACE INTO meta VALUES (?, ?)", rows)

    @property
    def is_alive(self) -> bool:
        return now_seconds() - int(self.get("alive", "0")) < _ALIVE

    # Albums.

    def enter_albums(self, albums: Iterable[ShownAlbum]) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM albums")
            db.execute("DELETE FROM album_frames")
            for number, album in enumerate(albums, 1):
                db.execute("INSERT INTO albums VALUES (?, ?, ?, ?)", (number, album.id, album.title, album.description))
                db.executemany(
                    "INSERT INTO album_frames VALUES (?, ?, ?)",
                    ((number, position, frame) for position, frame in enumerate(album.frames, 1)),
                )

    def album_counts(self) -> tuple[int, int, int, int]:
        """Albums, entries in them, frames that are in one, and frames that are in several."""
        with self._lock:
            (albums,) = self.db.execute("SELECT count(*) FROM albums").fetchone()
            entries, frames = self.db.execute("SELECT count(*), count(DISTINCT id) FROM album_frames").fetchone()
            (several,) = self.db.execute(
                "SELECT count(*) FROM (SELECT id FROM album_frames GROUP BY id HAVING count(*) > 1)"
            ).fetchone()
        return albums, entries, frames, several

    def albums(self) -> Iterator[tuple[ShownAlbum, list[tuple[str, Shown]]]]:
        """Albums with their frames that have arrived, in order: what each is called there, and as it was shown."""
        for number, ref, title, about in self.db.execute(
            "SELECT n, id, title, about FROM albums ORDER BY n"
        ).fetchall():
            rows = self.db.execute(
                "SELECT f.sent, f.shown FROM album_frames a JOIN frames f ON f.id = a.id WHERE a.album = ? AND f.sent NOT NULL"
                " AND f.state IN ('sent', 'proven', 'amiss') ORDER BY a.position, f.n",
                (number,),
            ).fetchall()
            frames = [
                (msgspec.json.decode(sent, type=Sent).there, msgspec.json.decode(shown, type=Shown))
                for sent, shown in rows
            ]
            yield ShownAlbum(ref, title, (), about), frames

    def albums_mark(self) -> str:
        """What tells these albums, with what has arrived of them, from others; "" where there are none."""
        all_of_them = [
            (album.id, album.title, album.description, [there for there, _ in frames])
            for album, frames in self.albums()
        ]
        return hashlib.sha256(msgspec.json.encode(all_of_them)).hexdigest() if all_of_them else ""

    @property
    def lists(self) -> dict[str, SentFile]:
        """The albums' lists at the destination, by album, as they were put there."""
        return msgspec.json.decode(self.get("lists", "{}"), type=dict[str, SentFile])

    def note_albums(self, lists: Mapping[str, SentFile]) -> None:
        """The albums are there as they are now."""
        self.put("lists", msgspec.json.encode(self.lists | dict(lists)).decode())
        self.put("albums", self.albums_mark())

    def titles_of(self, ref: str) -> list[str]:
        with self._lock:
            return [
                row[0]
                for row in self.db.execute(
                    "SELECT title FROM album_frames JOIN albums ON n = album WHERE album_frames.id = ? ORDER BY n",
                    (ref,),
                )
            ]

    # The run.

    def lines(self, *states: State, look: int = 0) -> Iterator[Line]:
        """Frames in some states, in order; those that change their state meanwhile may be passed over."""
        last, marks = 0, ", ".join("?" * len(states))
        while rows := self._page(marks, states, last, look):
            for row in rows:
                yield _line(row)
            last = rows[-1][0]

    def _page(self, marks: str, states: Sequence[str], last: int, look: int) -> list[Any]:
        with self._lock:
            return self.db.execute(
                f"SELECT {_LINE} FROM frames WHERE state IN ({marks}) AND n > ? AND seen >= ? ORDER BY n LIMIT ?",
                (*states, last, look, _PAGE),
            ).fetchall()

    def begin(self, frame: int, place: str) -> None:
        with self.changing() as db:
            db.execute("INSERT OR IGNORE INTO begun VALUES (?, ?)", (frame, place))

    def begun(self, frame: int) -> list[str]:
        with self._lock:
            return [row[0] for row in self.db.execute("SELECT place FROM begun WHERE frame = ?", (frame,))]

    def note(self, outcomes: Iterable[tuple[int, State, str, Sent | None]], run: int) -> None:
        """Enter what became of frames: the state, why, and what was sent."""
        with self.changing() as db:
            for number, state, why, sent in outcomes:
                encoded = msgspec.json.encode(sent) if sent is not None else None
                db.execute(
                    "UPDATE frames SET state = ?, why = ?, sent = coalesce(?, sent), there = coalesce(?, there), run = ?"
                    " WHERE n = ?",
                    (state, why, encoded, sent.there if sent is not None else None, run, number),
                )
                if state == "sent":
                    db.execute(
                        "UPDATE frames SET due_files = NULL, due_bytes = NULL, was_proven = 0 WHERE n = ?", (number,)
                    )
                    db.execute("DELETE FROM begun WHERE frame = ?", (number,))

    def prove(self, outcomes: Iterable[tuple[int, State, str]]) -> None:
        with self.changing() as db:
            db.executemany(
                "UPDATE frames SET state = ?, found = ?, was_proven = was_proven OR ? WHERE n = ?",
                ((state, found, state == "proven", number) for number, state, found in outcomes),
            )

    def line_of(self, there: str) -> Line | None:
        """The frame that a destination calls so."""
        with self._lock:
            row = self.db.execute(
                f"SELECT {_LINE} FROM frames WHERE there = ? AND state IN ('sent', 'proven', 'missing', 'amiss')",
                (there,),
            ).fetchone()
        return _line(row) if row else None

    def run_of(self, number: int) -> int:
        """In which run a frame was sent."""
        return int(self._one("run", number))

    def found_of(self, number: int) -> str:
        """What the proof found of a frame, in words."""
        return str(self._one("found", number))

    def _one(self, column: str, number: int) -> Any:
        with self._lock:
            return self.db.execute(f"SELECT {column} FROM frames WHERE n = ?", (number,)).fetchone()[0]

    def gone(self, look: int) -> int:
        """Frames that are to be sent as they are gone from there."""
        with self._lock:
            row = self.db.execute(
                "SELECT count(*) FROM frames WHERE seen >= ? AND state = 'waiting' AND was_proven AND due_bytes IS NULL",
                (look,),
            ).fetchone()
        return int(row[0])

    def restated(self, look: int) -> list[str]:
        """Frames of which something else is said by now than was sent."""
        with self._lock:
            return [row[0] for row in self.db.execute("SELECT name FROM frames WHERE restated = ? ORDER BY n", (look,))]

    # Figures.

    def counts(self, look: int = 0) -> dict[State, tuple[int, int, int]]:
        """Frames, files and bytes by state; a file that is no picture or film is no frame."""
        with self._lock:
            rows = self.db.execute(
                "SELECT state, sum(kind != 'other'), sum(files), sum(bytes) FROM frames WHERE seen >= ? GROUP BY 1",
                (look,),
            ).fetchall()
        return {row[0]: (row[1], row[2], row[3]) for row in rows}

    def due(self, look: int) -> tuple[int, int, int]:
        """Frames, files and bytes that are to be sent."""
        with self._lock:
            row = self.db.execute(
                "SELECT coalesce(sum(kind != 'other'), 0), coalesce(sum(coalesce(due_files, files)), 0),"
                " coalesce(sum(coalesce(due_bytes, bytes)), 0) FROM frames WHERE seen >= ? AND state IN ('waiting', 'missing')",
                (look,),
            ).fetchone()
        return row[0], row[1], row[2]

    def table(self, look: int) -> list[Row]:
        """The fidelity table: for each thing how many frames keep, change or lose it, with an example."""
        rows: dict[str, dict[str, Any]] = {}
        for what, outcome, how, count, example in self.db.execute(
            "SELECT what, outcome, max(how), count(*), min(name) FROM verdicts JOIN frames ON n = frame"
            " WHERE seen >= ? AND state != 'left' GROUP BY what, outcome",
            (look,),
        ):
            row = rows.setdefault(what, {"what": what})
            row[outcome] = count
            if outcome in ("changed", "lost") and not row.get("example"):
                row["how"], row["example"] = how, example
        return [Row(**row) for row in rows.values()]


def _line(row: Any) -> Line:
    number, place, shown, state, why, sent, due, renewed, gone, was_proven = row
    return Line(
        number,
        place,
        msgspec.json.decode(shown, type=Shown),
        state,
        why,
        msgspec.json.decode(sent, type=Sent) if sent else None,
        due,
        bool(renewed),
        gone,
        bool(was_proven),
    )
