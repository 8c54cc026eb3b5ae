"""Runs in which the user says something of frames: batch by batch, and accounted for by a receipt.

A run may be killed at any moment. What it had said by then is said, and the next one accounts for it before it begins.
"""

import sqlite3
from collections.abc import Callable, Iterator, Mapping
from itertools import islice, takewhile
from typing import TypeVar

import msgspec

from bramblemoor.frames.claims import Facts
from bramblemoor.frames.heard import Heard
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.albums import write_albums_of
from bramblemoor.library.home import Library
from bramblemoor.library.open_runs import Finished
from bramblemoor.library.receipts import (
    Amount,
    Change,
    Finding,
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
from bramblemoor.library.renewing import Outcome, helped, renew, renew_all, take_up_all
from bramblemoor.running import Pace, Progress, Stage

What = TypeVar("What")
Before = list[tuple[str, str, list[Said], list[Said]]]
"""What of a frame's claims was changed (see `Change`): field, value, and the claims by hand before and after; empty where all
was so already.
"""
_BATCH = 1024  # frames of one transaction
UNDER_WAY, _PART = "telling", "telling "
"""In the ledger's meta: the run that is under way, and what came of each batch of it."""
_BEGUN = "begun telling"
"""In the ledger's meta: the frames of a batch whose sidecars may be written, and which is not entered yet."""
_FRAME = Amount(frames=1)
_LISTED = ("title", "taken")
"""What the lists of albums tell of frames."""


class _Part(msgspec.Struct):
    """What came of one batch, as it is kept until the receipt is written; `frames` are those that it was about."""

    told: int
    known: int
    left: list[LeftOut]
    changes: list[Change]
    findings: list[Finding] = []
    frames: list[int] = []


class _Head(msgspec.Struct):
    """The run that is under way; `number` is its receipt's once that is being written. `asked` is the command that it is by, and
    `of` the number of the receipt whose changes it takes back.
    """

    run: str
    started: str
    about: dict[str, str]
    count: int
    number: int = 0
    asked: str = ""
    of: int = 0


def _gather(changes: dict[bytes, Change], change: Change) -> None:
    """Add a change to those alike: of other frames, but the same."""
    alike = msgspec.structs.replace(change, frames=[])
    changes.setdefault(msgspec.json.encode(alike), alike).frames.extend(change.frames)


class _Batch:
    def __init__(self, names: Mapping[int, str]) -> None:
        self._names = names
        self._told = self._known = 0
        self._left: list[LeftOut] = []
        self._changes: dict[bytes, Change] = {}
        self._frames: list[int] = []

    def add(self, one: Outcome[Before]) -> None:
        """Note what has become of a frame, changes that are alike together."""
        path = self._names.get(one.frame, one.path)
        self._frames.append(one.frame)
        if one.left:
            self._left.append(LeftOut(path, one.left, _FRAME))
            return
        self._told += bool(one.done)
        self._known += not one.done
        for field, value, before, after in one.done or ():
            _gather(self._changes, Change(field, value, before, after, [(one.frame, path)]))

    def part(self, findings: list[Finding]) -> bytes:
        changes = list(self._changes.values())
        return msgspec.json.encode(_Part(self._told, self._known, self._left, changes, findings, self._frames))


def run(
    library: Library, name: str, about: Mapping[str, str], jobs: Iterator[tuple[int, What]], count: int,
    change: Callable[[Heard, Facts, What], Before], progress: Progress, pace: Pace, names: Mapping[int, str] | None = None,
    of: int = 0,
) -> Receipt:  # fmt: skip
    """Do something to frames, some at a time, each batch with its sidecars in one transaction; then account for it.

    `names` are of frames that may be gone. Where a run that was killed was asked for by the same command, this one goes on with
    it, and both have one receipt. `of`: see `taken_back`.
    """
    head = _open(library)
    resumed = head is not None
    done = 0
    if head is None:
        head = _Head(name, stamp(now_utc()), {"library": library.name, **about}, count, asked=library.asked, of=of)
    else:
        _bring_back_in_step(library)
        seen = {frame for part in _parts(library.db) for frame in part.frames}
        left = [(frame, what) for frame, what in jobs if frame not in seen]
        jobs, done, head.count = iter(left), len(seen), len(seen) + len(left)
        count = head.count
    with library.ledger.changing() as db:
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (UNDER_WAY, msgspec.json.encode(head).decode()))
    with helped(count) as mapped:
        while not pace.stopped and (page := list(islice(jobs, _BATCH))):
            frames = [frame for frame, _ in page]
            take_up_all(library, frames, mapped, resumed=resumed)
            with library.ledger.changing() as db:
                db.execute("INSERT INTO meta VALUES (?, ?)", (_BEGUN, msgspec.json.encode(frames).decode()))
            with library.ledger.changing(facts=True) as db:
                batch, before = _Batch(names or {}), len(library.seen)
                some = takewhile(lambda _: not pace.stopped, page)
                for number, one in enumerate(renew(library, some, change, mapped, shut=True, resumed=resumed), 1):
                    batch.add(one)
                    progress(Stage("telling", "frames"), done + number, count)
                db.execute(
                    "INSERT INTO meta VALUES (?, ?)", (f"{_PART}{done:09}", batch.part(library.seen[before:]).decode())
                )
                db.execute("DELETE FROM meta WHERE key = ?", (_BEGUN,))
                del library.seen[before:]
            done += len(page)
    receipt = finish_interrupted(library, "stopped before their turn")
    assert receipt is not None
    return receipt


def _open(library: Library) -> _Head | None:
    """The run that is under way, or was when it was killed."""
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (UNDER_WAY,)).fetchone()
    return None if row is None else msgspec.json.decode(row["value"], type=_Head)


def goes_on(library: Library) -> bool:
    """Whether a run that was killed is gone on with by the command that is given now."""
    head = _open(library)
    return head is not None and head.asked == library.asked != ""


def taken_back(library: Library) -> int:
    """The number of the receipt whose changes the run that goes on takes back; 0 where there is none."""
    head = _open(library)
    return head.of if head is not None and goes_on(library) else 0


def finish_others(library: Library) -> Finished | None:
    """End a run that was killed, unless it goes on now."""
    head = _open(library)
    if head is None or goes_on(library):
        return None
    receipt = finish_interrupted(library)
    return None if receipt is None else Finished(head.asked, receipt)


def finish_interrupted(library: Library, why_left: str = "interrupted before their turn") -> Receipt | None:
    """Account for a run that is under way, or was when it was killed; None where there is none."""
    db, head = library.db, _open(library)
    if head is None:
        return None
    _bring_back_in_step(library)
    known = _written(library, head)
    receipt = known or _receipt(db, head, next_number(library.receipts), why_left)
    if known is None:
        with library.ledger.changing():
            head.number = receipt.number
            db.execute("UPDATE meta SET value = ? WHERE key = ?", (msgspec.json.encode(head).decode(), UNDER_WAY))
        write_receipt(library.receipts, receipt)
    listed = {frame for change in receipt.changes if change.field in _LISTED for frame, _ in change.frames}
    if listed:
        with library.ledger.changing(facts=True):
            write_albums_of(library, listed)
    with library.ledger.changing():
        db.execute("DELETE FROM meta WHERE key = ? OR (key >= ? AND key < ?)", (UNDER_WAY, _PART, f"{_PART}~"))
    return receipt


def _bring_back_in_step(library: Library) -> None:
    """Where a batch broke off, its sidecars may say what the ledger does not know: they are brought back to what it knows."""
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (_BEGUN,)).fetchone()
    if row is None:
        return
    frames = msgspec.json.decode(row["value"], type=list[int])
    take_up_all(library, frames, resumed=True)
    with library.ledger.changing(facts=True) as db:
        renew_all(library, frames, resumed=True)
        db.execute("DELETE FROM meta WHERE key = ?", (_BEGUN,))


def _written(library: Library, head: _Head) -> Receipt | None:
    """The receipt, where it was written just before the run was killed."""
    for name in listing(library.receipts) if head.number else ():
        if number_in_name(name) == head.number and run_in_name(name) == head.run:
            return read_receipt(library.receipts / name)
    return None


def _parts(db: sqlite3.Connection) -> Iterator[_Part]:
    """What came of the batches that are entered."""
    for row in db.execute("SELECT value FROM meta WHERE key >= ? AND key < ? ORDER BY key", (_PART, f"{_PART}~")):
        yield msgspec.json.decode(row["value"], type=_Part)


def _receipt(db: sqlite3.Connection, head: _Head, number: int, why_left: str) -> Receipt:
    told = known = 0
    left: list[LeftOut] = []
    findings: list[Finding] = []
    changes: dict[bytes, Change] = {}
    for part in _parts(db):
        told, known, left = told + part.told, known + part.known, left + part.left
        findings += part.findings
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
        findings=findings,
        changes=list(changes.values()),
    )
