"""What the user says of frames: planned, entered with their sidecars, accounted for, and taken back by the receipt.

A run may be killed at any moment. What it had said by then is said, and the next one accounts for it before it begins.
"""

import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path

import msgspec

from bramblemoor.disk.file_systems import flush_files
from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import (
    HAND,
    TAKEN_AWAY,
    TAKEN_AWAY_BY,
    Facts,
    believe,
)
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.albums import write_albums_of
from bramblemoor.library.catalogue import add_claims, choose_shown, claims_of, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import (
    Amount,
    Change,
    Kept,
    LeftOut,
    Receipt,
    Said,
    listing,
    next_number,
    number_in_name,
    read_receipt,
    run_in_name,
    stamp,
    write_receipt,
)
from bramblemoor.library.sayings import Word, words_for
from bramblemoor.library.selection import Selected
from bramblemoor.library.sidecars import take_up_edits, write_sidecar
from bramblemoor.running import Pace, Progress, Stage

_BATCH = 50  # frames of one transaction
_UNDER_WAY, _PART = "telling", "telling "
"""In the ledger's meta: the run that is under way, and what came of each batch of it."""
_FRAME = Amount(frames=1)
_LISTED = ("title", "taken")
"""What the lists of albums tell of frames."""


@dataclass
class PlannedWord:
    """How many frames a word is new to, of how many of these it takes the place of something else, and how many have it.

    `cannot` are those of which it cannot be said, as they have no date.
    """

    word: Word
    new: int = 0
    replaces: int = 0
    there: int = 0
    cannot: int = 0


@dataclass
class Plan:
    """What telling would do; `bound` counts frames by bound year, which are not to change, or not to be added to."""

    words: list[PlannedWord]
    bound: dict[int, int] = field(default_factory=dict)


def plan(selected: Selected, words: Sequence[Word], progress: Progress) -> Plan:
    """Look what telling would do; changes nothing."""
    result, db = Plan([PlannedWord(word) for word in words]), selected.library.db
    may_move = (
        any(word.field in ("taken", "position") for word in words) and db.execute("SELECT 1 FROM bound").fetchone()
    )
    for number, frame in enumerate(selected.frames(), 1):
        progress(Stage("looking", "frames"), number, selected.count)
        year = _bound_year(db, frame) or (_bound_year_with(db, frame, words) if may_move else None)
        if year is not None:
            result.bound[year] = result.bound.get(year, 0) + 1
            continue
        claims = claims_of(db, frame)
        facts = believe(claims)
        for one in result.words:
            word = one.word.for_frame(claims, facts)
            if word is None:
                one.cannot += 1
            elif word.stands(claims, facts):
                one.there += 1
            else:
                one.new += 1
                one.replaces += word.replaces(facts)
    return result


def _bound_year(db: sqlite3.Connection, frame: int) -> int | None:
    """The year of a frame, where it is bound."""
    return _row(db, frame)["year"] if is_bound(db, frame) else None


def _bound_year_with(db: sqlite3.Connection, frame: int, words: Sequence[Word]) -> int | None:
    """The bound year that a frame would come into by these words; nothing is changed."""
    db.execute("SAVEPOINT looking")
    add_claims(db, frame, "you", [word.claim for word in words_for(words, claims_of(db, frame))])
    choose_shown(db, frame)
    year = _bound_year(db, frame)
    db.execute("ROLLBACK TO looking")
    db.execute("RELEASE looking")
    return year


def tell(library: Library, selected: Selected, words: Sequence[Word], progress: Progress, pace: Pace) -> Receipt:
    """Enter what is said of each frame, and write it down beside the pictures; returns the receipt, which is also written.

    Frames of bound years, or that would come into one, stay as they are, and are named.
    """

    def say(frame: int) -> _Before:
        return _say(library.db, frame, words)

    what = "; ".join(word.said() for word in words)
    return _run(
        library, "tell", {"said": what, "of": selected.said}, selected.frames(), selected.count, say, progress, pace
    )


def tell_each(
    library: Library, words: Mapping[int, Sequence[Word]], of: str, progress: Progress, pace: Pace
) -> Receipt:
    """Say of each frame what is meant for it, as a marks file does; `of` is what the receipt says it was told by."""

    def say(frame: int) -> _Before:
        return _say(library.db, frame, words[frame])

    return _run(
        library, "tell", {"said": "what is meant for each", "of": of}, iter(words), len(words), say, progress, pace
    )


def _say(db: sqlite3.Connection, frame: int, words: Sequence[Word]) -> "_Before":
    """Enter what is said of a frame; returns what of its claims was changed by that, and what it was before."""
    claims = claims_of(db, frame)
    facts = believe(claims)
    said = words_for(words, claims)
    if all(word.stands(claims, facts) for word in said):
        return []
    before = [(one, one.of(db, frame)) for one in (_Touched(word.field, word.value) for word in said)]
    add_claims(db, frame, "you", [word.claim for word in said])
    return before


def take_back(library: Library, receipt: Receipt, progress: Progress, pace: Pace) -> Receipt:
    """Take the changes of a run back; returns the receipt of that, by which it can be done again.

    What was changed since is left as it is, and named. Raises WrongUse for a run whose changes cannot be taken back.
    """
    if receipt.run not in ("tell", "takeback"):
        raise WrongUse(
            f"Receipt {receipt.number} is of a run that cannot be taken back: {receipt.run}.",
            "What was told can be, and what was taken back.",
        )
    if not receipt.changes:
        raise WrongUse(f"By the run of receipt {receipt.number} nothing was changed.", "There is nothing to take back.")
    changes: dict[int, list[Change]] = {}
    names: dict[int, str] = {}
    for change in receipt.changes:
        for frame, path in change.frames:
            changes.setdefault(frame, []).append(change)
            names[frame] = path

    def restore(frame: int) -> _Before:
        db = library.db
        before = [(one, one.of(db, frame)) for one in (_Touched(each.field, each.value) for each in changes[frame])]
        for change, (touched, now) in zip(changes[frame], before, strict=True):
            if now != change.after:
                raise _LeftAsItIs(f"{_TOLD_SINCE} ({touched.name})")
        for change, (touched, _) in zip(changes[frame], before, strict=True):
            touched.put(db, frame, change.before)
        return before

    said = receipt.about.get("said", "what that had taken back")
    about = {"taken back": f"receipt {receipt.number}: {said}"}
    return _run(library, "takeback", about, iter(changes), len(changes), restore, progress, pace, names)


_TOLD_SINCE = "it was told otherwise since, and stays so"


class _LeftAsItIs(Exception):
    """Why a frame is left as it is."""


@dataclass(frozen=True)
class _Touched:
    """What of a frame's claims a word may change: those by hand of one field, or of one keyword or person and its opposite."""

    field: str
    value: str

    @property
    def name(self) -> str:
        return TAKEN_AWAY.get(self.field, self.field)  # type: ignore[call-overload, no-any-return]

    def _where(self) -> tuple[str, list[str]]:
        if self.name in TAKEN_AWAY_BY:
            return "field IN (?, ?) AND value = ?", [self.name, TAKEN_AWAY_BY[self.name], self.value]
        return "field = ?", [self.field]

    def of(self, db: sqlite3.Connection, frame: int) -> list[Said]:
        """The claims by hand, in the order in which they were told."""
        where, values = self._where()
        rows = db.execute(
            f"SELECT field, value, source, told FROM claims WHERE frame = ? AND source IN {HAND} AND {where} ORDER BY rowid",
            (frame, *values),
        )
        return [Said(*row) for row in rows.fetchall()]

    def put(self, db: sqlite3.Connection, frame: int, claims: Sequence[Said]) -> None:
        """Make them these."""
        where, values = self._where()
        db.execute(f"DELETE FROM claims WHERE frame = ? AND source IN {HAND} AND {where}", (frame, *values))
        for one in claims:
            db.execute("INSERT INTO claims VALUES (?, ?, ?, ?, ?)", (frame, one.field, one.value, one.source, one.told))


_Before = list[tuple[_Touched, list[Said]]]
"""What of a frame's claims was changed, and what it was before; empty where all was so already."""


class _Part(msgspec.Struct):
    """What came of one batch, as it is kept until the receipt is written."""

    told: int
    known: int
    left: list[LeftOut]
    changes: list[Change]


class _Head(msgspec.Struct):
    """The run that is under way; `number` is its receipt's once that is being written."""

    run: str
    started: str
    about: dict[str, str]
    count: int
    number: int = 0


def _gather(changes: dict[bytes, Change], change: Change) -> None:
    """Add a change to those alike: of other frames, but the same."""
    alike = msgspec.structs.replace(change, frames=[])
    changes.setdefault(msgspec.json.encode(alike), alike).frames.extend(change.frames)


class _Batch:
    def __init__(self, library: Library) -> None:
        self._db = library.db
        self._told = self._known = 0
        self._left: list[LeftOut] = []
        self._changes: dict[bytes, Change] = {}

    def done(self, frame: int, path: str, before: _Before) -> None:
        """Note what has become of a frame's claims, those alike together."""
        self._told += bool(before)
        self._known += not before
        for one, was in before:
            _gather(self._changes, Change(one.field, one.value, was, one.of(self._db, frame), [(frame, path)]))

    def left(self, path: str, why: _LeftAsItIs) -> None:
        self._left.append(LeftOut(path, str(why), _FRAME))

    def part(self) -> bytes:
        return msgspec.json.encode(_Part(self._told, self._known, self._left, list(self._changes.values())))


def _run(
    library: Library, run: str, about: Mapping[str, str], frames: Iterator[int], count: int, work: Callable[[int], "_Before"],
    progress: Progress, pace: Pace, names: Mapping[int, str] | None = None,
) -> Receipt:  # fmt: skip
    """Do something to frames, some at a time, each batch with its sidecars in one transaction; then account for it.

    `names` are of frames that may be gone.
    """
    resumed = finish_interrupted(library) is not None
    head = _Head(run, stamp(now_utc()), {"library": library.name, **about}, count)
    with library.ledger.changing() as db:
        db.execute("INSERT INTO meta VALUES (?, ?)", (_UNDER_WAY, msgspec.json.encode(head).decode()))
    done = 0
    while not pace.stopped and (page := list(islice(frames, _BATCH))):
        with library.ledger.changing(facts=True) as db:
            batch = _Batch(library)
            written: list[Path] = []
            for frame in page:
                path = (names or {}).get(frame) or _row(db, frame)["path"]
                try:
                    before, facts = _do_one(library, frame, work, resumed)
                except _LeftAsItIs as why:
                    batch.left(path, why)
                    continue
                batch.done(frame, path, before)
                sidecar = write_sidecar(library, frame, where_different=True, facts=facts)
                written += [sidecar] if sidecar is not None else []
            flush_files(written, library.root)
            db.execute("INSERT INTO meta VALUES (?, ?)", (f"{_PART}{done:09}", batch.part().decode()))
        done += len(page)
        progress(Stage("telling", "frames"), done, count)
    receipt = finish_interrupted(library, "stopped before their turn")
    assert receipt is not None
    return receipt


def _do_one(library: Library, frame: int, work: Callable[[int], _Before], resumed: bool) -> tuple[_Before, Facts]:
    """Change what is told of one frame in the ledger, or nothing of it; and what is believed then. Raises _LeftAsItIs."""
    db = library.db
    if _row(db, frame) is None:
        raise _LeftAsItIs("it is not in the library any more")
    if (year := _bound_year(db, frame)) is not None:
        raise _LeftAsItIs(f"its year, {year}, is bound")
    db.execute("SAVEPOINT frame")
    try:
        take_up_edits(library, frame, resumed=resumed)
        before = work(frame)
        facts = choose_shown(db, frame)
        if (year := _bound_year(db, frame)) is not None:
            raise _LeftAsItIs(f"that would bring it into {year}, which is bound")
    except _LeftAsItIs:
        db.execute("ROLLBACK TO frame")
        db.execute("RELEASE frame")
        raise
    db.execute("RELEASE frame")
    return before, facts


def _row(db: sqlite3.Connection, frame: int) -> sqlite3.Row:
    row: sqlite3.Row = db.execute(
        "SELECT folder || '/' || name AS path, year FROM frames WHERE id = ?", (frame,)
    ).fetchone()
    return row


def finish_interrupted(library: Library, why_left: str = "interrupted before their turn") -> Receipt | None:
    """Account for a run that is under way, or was when it was killed; None where there is none."""
    db = library.db
    row = db.execute("SELECT value FROM meta WHERE key = ?", (_UNDER_WAY,)).fetchone()
    if row is None:
        return None
    head = msgspec.json.decode(row["value"], type=_Head)
    known = _written(library, head)
    receipt = known or _receipt(db, head, next_number(library.receipts), why_left)
    if known is None:
        with library.ledger.changing():
            head.number = receipt.number
            db.execute("UPDATE meta SET value = ? WHERE key = ?", (msgspec.json.encode(head).decode(), _UNDER_WAY))
        write_receipt(library.receipts, receipt)
    listed = {frame for change in receipt.changes if change.field in _LISTED for frame, _ in change.frames}
    if listed:
        with library.ledger.changing(facts=True):
            write_albums_of(library, listed)
    with library.ledger.changing():
        db.execute("DELETE FROM meta WHERE key = ? OR (key >= ? AND key < ?)", (_UNDER_WAY, _PART, f"{_PART}~"))
    return receipt


def _written(library: Library, head: _Head) -> Receipt | None:
    """The receipt, where it was written just before the run was killed."""
    for name in listing(library.receipts) if head.number else ():
        if number_in_name(name) == head.number and run_in_name(name) == head.run:
            return read_receipt(library.receipts / name)
    return None


def _receipt(db: sqlite3.Connection, head: _Head, number: int, why_left: str) -> Receipt:
    told = known = 0
    left: list[LeftOut] = []
    changes: dict[bytes, Change] = {}
    for row in db.execute("SELECT value FROM meta WHERE key >= ? AND key < ? ORDER BY key", (_PART, f"{_PART}~")):
        part = msgspec.json.decode(row["value"], type=_Part)
        told, known, left = told + part.told, known + part.known, left + part.left
        for change in part.changes:
            _gather(changes, change)
    rest = head.count - told - known - len(left)
    if rest:
        left.append(LeftOut(f"{rest:,} frames", why_left, Amount(frames=rest)))
    lines = (("told" if head.run == "tell" else "as it was before", told), ("known already", known))
    return Receipt(
        number=number,
        run=head.run,
        started=head.started,
        finished=stamp(now_utc()),
        about=head.about,
        came_in=Amount(frames=head.count),
        kept=[Kept(what, Amount(frames=frames)) for what, frames in lines if frames],
        left_out=left,
        findings=[],
        changes=list(changes.values()),
    )
