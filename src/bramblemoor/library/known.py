"""What the ledger knows of frames, many read together; and what is believed of them, entered together."""

import json
import sqlite3
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

from bramblemoor.frames.claims import Claim, Facts
from bramblemoor.frames.heard import Heard, settle
from bramblemoor.frames.kinds import SIDECAR
from bramblemoor.library.catalogue import ENTER_CLAIM, ENTER_FILE, NewFile, claim_rows, file_row, titles_by_frame
from bramblemoor.library.folding import plain
from bramblemoor.library.locations import NAME_AT

_Row = tuple[object, ...]
_FRAMES = f"""
    SELECT r.id, r.folder, r.name, r.year, r.service, r.reference, o.path, coalesce(o.former_name, ''),
    coalesce(o.mtime_ns, 0), (SELECT sha256 FROM files s WHERE s.path = o.path || '{SIDECAR}' AND s.frame = r.id),
    EXISTS (SELECT 1 FROM files s WHERE s.frame = r.id AND s.role = 'sidecar')
    FROM json_each(?) CROSS JOIN frames r ON r.id = value LEFT JOIN files o ON o.frame = r.id AND o.role = 'original'
"""
_CLAIMS = """
    SELECT frame, field, value, source, told FROM claims WHERE frame IN (SELECT value FROM json_each(?)) ORDER BY rowid
"""
_SHOW = (
    "UPDATE frames SET taken = ?, taken_by = ?, shown = ?, year = ?, title = ?, caption = ?, location = ?, latitude = ?,"
    " longitude = ?, favourite = ?, reduced = ? WHERE id = ?"
)
_ENTER_WORDS = (
    "INSERT INTO words (rowid, name, title, caption, keywords, people, location, albums, folder)"
    " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"
)


@dataclass(slots=True)
class Known:
    """What is known of one frame. `path`, `former_name` and `mtime_ns` are its original's, None, "" and 0 where it has none;
    `sidecar` is the digest of the sidecar beside it, as it was entered; `told` are the claims in the order in which they were
    told, each with the file or order that told it.
    """

    frame: int
    folder: str
    name: str
    year: int | None
    service: str | None
    reference: str | None
    path: str | None
    former_name: str
    mtime_ns: int
    sidecar: str | None
    has_sidecar: bool
    told: list[tuple[Claim, str]] = field(default_factory=list)
    albums: list[str] = field(default_factory=list)

    @property
    def shown_path(self) -> str:
        return f"{self.folder}/{self.name}"


def told_of(db: sqlite3.Connection, frames: Collection[int]) -> dict[int, list[tuple[Claim, str]]]:
    """The claims of some frames in the order in which they were told, each with who told it; [] where there are none."""
    found: dict[int, list[tuple[Claim, str]]] = {frame: [] for frame in frames}
    for frame, name, value, source, told in db.execute(_CLAIMS, (json.dumps(list(frames)),)):
        found[frame].append((Claim(name, value, source), told))
    return found


def known_of(db: sqlite3.Connection, frames: Collection[int]) -> dict[int, Known]:
    """What is known of some frames, in their order; nothing of those that are not in the library."""
    rows = db.execute(_FRAMES, (json.dumps(list(frames)),))
    found = {row[0]: Known(*row) for row in rows.fetchall()}
    for frame, told in told_of(db, found).items():
        found[frame].told = told
    for frame, titles in titles_by_frame(db, found).items():
        found[frame].albums = titles
    return found


@dataclass
class Rows:
    """What is to be entered of some frames."""

    files: list[_Row] = field(default_factory=list)
    forgotten: list[_Row] = field(default_factory=list)
    claims: list[_Row] = field(default_factory=list)
    shown: list[_Row] = field(default_factory=list)
    words: list[_Row] = field(default_factory=list)

    def add(self, frame: int, folder: str, name: str, albums: Iterable[str], heard: Heard, facts: Facts) -> None:
        """What was heard of a frame since it was read, what is believed of it now, and what it is searched by."""
        self.forgotten += ((frame, one.field, one.value, one.source) for one in heard.forgotten())
        self.claims += claim_rows(frame, heard.changed())
        self.shown.append(_shown_row(frame, facts))
        self.words.append(_words_row(frame, folder, name, facts, albums))

    def add_files(self, frame: int, files: Iterable[NewFile]) -> None:
        self.files += (file_row(frame, file) for file in files)

    def enter(self, db: sqlite3.Connection, *, new: bool = False) -> None:
        """`new` says that nothing is known yet of these frames."""
        db.executemany(ENTER_FILE, self.files)
        db.executemany("DELETE FROM claims WHERE frame = ? AND field = ? AND value = ? AND source = ?", self.forgotten)
        db.executemany(ENTER_CLAIM, self.claims)
        db.executemany(_SHOW, self.shown)
        if not new:
            db.executemany("DELETE FROM words WHERE rowid = ?", ((row[0],) for row in self.words))
        db.executemany(_ENTER_WORDS, self.words)


def _shown_row(frame: int, facts: Facts) -> _Row:
    latitude, longitude = facts.position or (None, None)
    shown = facts.taken.shown if facts.taken else None
    return (
        str(facts.taken) if facts.taken else None, facts.taken_by, shown.isoformat() if shown else None,
        shown.year if shown else None, facts.title, facts.caption, facts.location, latitude, longitude,
        facts.favourite, facts.reduced, frame,
    )  # fmt: skip


def _words_row(frame: int, folder: str, name: str, facts: Facts, albums: Iterable[str]) -> _Row:
    texts = (
        name, facts.title, facts.caption, "; ".join(facts.keywords), "; ".join(facts.people), facts.location,
        "; ".join(albums), folder,
    )  # fmt: skip
    return (frame, *map(plain, texts))


def choose_shown(db: sqlite3.Connection, frame: int) -> Facts:
    """Weigh a frame's claims anew, and bring its row and its words for searching in step."""
    known, rows = known_of(db, [frame])[frame], Rows()
    heard = Heard(known.told)
    facts = settle(heard, lambda *position: db.execute(f"SELECT {NAME_AT}(?, ?)", position).fetchone()[0])
    rows.add(frame, known.folder, known.name, known.albums, heard, facts)
    rows.enter(db)
    return facts
