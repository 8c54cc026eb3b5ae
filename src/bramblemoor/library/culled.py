"""What was culled and is set aside: listed, brought back as it was, or deleted for good (see culling.py).

What a run is about to do stands in the ledger before it begins; one that was killed is finished by that.
"""

import shutil
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import msgspec

from bramblemoor.disk.durable import flush_folder, is_taken
from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import is_plain_file
from bramblemoor.errors import WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.albums import write_albums
from bramblemoor.library.catalogue import ENTER_CLAIM
from bramblemoor.library.copies import good
from bramblemoor.library.culling import CULLED, CulledFrame, flush, folder_of, move_all, records_in
from bramblemoor.library.home import Library
from bramblemoor.library.known import choose_shown
from bramblemoor.library.open_runs import Finished
from bramblemoor.library.receipts import (
    NOTHING,
    Amount,
    Finding,
    Kept,
    LeftOut,
    Receipt,
    next_number,
    receipt_of,
    stamp,
    total,
    write_receipt,
)

_DELETING = ".deleting"
UNDER_WAY = "culled"
"""In the ledger's meta: the run that brings back or deletes what was culled."""


@dataclass(frozen=True)
class Batch:
    """What one run has culled, as far as it is still set aside; `alone` of its frames have no copy at a depot."""

    number: int
    at: str
    amount: Amount
    alone: int


def batches(library: Library) -> list[Batch]:
    """What is set aside and can come back, the oldest first."""
    found = []
    top = library.root / CULLED
    for folder in sorted(top.iterdir()) if top.is_dir() else ():
        if not folder.name.isdecimal():
            continue
        records = [record for record in records_in(folder) if _lies(folder, record)]
        if records:
            alone = sum(not _is_at_depot(library.db, record) for record in records)
            number = int(folder.name)
            found.append(Batch(number, _when(library, number), total(one.amount for one in records), alone))
    return found


def _lies(folder: Path, record: CulledFrame) -> bool:
    return any(is_plain_file(folder / file["path"]) for file in record.files)


def _when(library: Library, number: int) -> str:
    receipt = receipt_of(library.receipts, number, "cull")
    return receipt.finished if receipt is not None else ""


def _is_at_depot(db: sqlite3.Connection, record: CulledFrame) -> bool:
    """Whether a depot still holds the frame's picture, as far as the ledger knows; earlier versions there not counted."""
    original = next((file["sha256"] for file in record.files if file["role"] == "original"), "")
    return db.execute(
        "SELECT 1 FROM leftovers WHERE sha256 = ?1 AND state != 'damaged' UNION ALL SELECT 1 FROM files f JOIN copies c"
        f" ON c.file = f.id WHERE f.sha256 = ?1 AND c.depot > 0 AND {good()} LIMIT 1",
        (original,),
    ).fetchone() is not None  # fmt: skip


def _batch(library: Library, number: int | None) -> int:
    """The batch of that number, or the latest. Raises WrongUse where there is none."""
    known = [one.number for one in batches(library)]
    if not known:
        raise WrongUse("Nothing that was culled is set aside.", "What has been deleted for good does not come back.")
    if number is not None and number not in known:
        raise WrongUse(
            f"Receipt {number} has culled nothing that is still set aside.", f"There is: {', '.join(map(str, known))}."
        )
    return known[-1] if number is None else number


def put_back(library: Library, number: int | None) -> Receipt:
    """Bring what a run has culled back as it was; returns the receipt of that. What lies in its place now keeps it."""
    return _carry_out(library, _begin(library, "uncull", [_batch(library, number)]))


def discard(library: Library, numbers: Sequence[int]) -> Receipt:
    """Delete for good what runs have culled; returns the receipt, which names every frame."""
    return _carry_out(library, _begin(library, "discard", [_batch(library, number) for number in numbers]))


class _Head(msgspec.Struct):
    """A run that is under way: what it does to which batches, when it began, its receipt's number, and by which command."""

    run: Literal["uncull", "discard"]
    numbers: list[int]
    started: str
    receipt: int
    asked: str


def _begin(library: Library, run: Literal["uncull", "discard"], numbers: list[int]) -> _Head:
    head = _Head(run, numbers, stamp(now_utc()), next_number(library.receipts), library.asked)
    with library.ledger.changing() as db:
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (UNDER_WAY, msgspec.json.encode(head).decode()))
    return head


def finish_culled(library: Library) -> Finished | None:
    """End what a killed run has begun; None where there is nothing."""
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (UNDER_WAY,)).fetchone()
    if row is None:
        return None
    head = msgspec.json.decode(row["value"], type=_Head)
    return Finished(head.asked, _carry_out(library, head))


def _carry_out(library: Library, head: _Head) -> Receipt:
    """The receipt is written before anything is deleted: a run that goes on from there has only that left to do."""
    receipt = receipt_of(library.receipts, head.receipt, head.run)
    if receipt is None:
        receipt = _put_back(library, head) if head.run == "uncull" else _set_to_go(library, head)
        write_receipt(library.receipts, receipt)
    top = library.root / CULLED
    for number in head.numbers if head.run == "discard" or not receipt.left_out else ():
        for folder in (folder_of(library, number), _leaving(library, number)):
            if folder.is_dir():
                shutil.rmtree(folder)
    if top.is_dir():
        flush_folder(top)
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (UNDER_WAY,))
    return receipt


def _put_back(library: Library, head: _Head) -> Receipt:
    (number,) = head.numbers
    folder = folder_of(library, number)
    came_in, back, left = NOTHING, NOTHING, list[LeftOut]()
    albums: set[int] = set()
    for record in list(records_in(folder)):
        lies, is_known = _lies(folder, record), _is_entered(library.db, record)
        if not lies and not is_known:
            continue  # it came back, or was deleted, by another run
        came_in += record.amount
        # The ledger first: a frame that it knows, and whose files are still here, was on its way back when a run was killed.
        if not is_known:
            taken = next((file["path"] for file in record.files if not _is_free(library, file["path"])), None)
            if taken is not None:
                left.append(LeftOut(record.path, f"something else lies at {taken} now", record.amount))
                continue
            with library.ledger.changing(facts=True) as db:
                albums |= _enter_again(db, record)
        move_all(folder, library.root, record)
        flush(library.root, folder, [record])
        if _lies(folder, record):  # the same picture was taken in again meanwhile: what else was known of it stays here
            left.append(LeftOut(record.path, "something lies in its place now", record.amount))
        else:
            back += record.amount
    with library.ledger.changing(facts=bool(albums)):
        write_albums(library, albums)
    return Receipt(
        number=head.receipt, run="uncull", started=head.started, finished=stamp(now_utc()),
        about={"library": library.name, "of": f"receipt {number}"}, came_in=came_in,
        kept=[Kept("back in the library, as before", back)] if back.files else [], left_out=left, findings=[],
    )  # fmt: skip


def _set_to_go(library: Library, head: _Head) -> Receipt:
    """Take batches from those that can come back, and account for what is in them."""
    gone, findings = NOTHING, list[Finding]()
    for number in head.numbers:
        folder, leaving = folder_of(library, number), _leaving(library, number)
        if folder.is_dir():
            folder.rename(leaving)  # first: nobody brings half a batch back
            flush_folder(folder.parent)
        for record in records_in(leaving):
            if _lies(leaving, record):
                gone += record.amount
                findings.append(Finding(record.path, "deleted for good"))
    return Receipt(
        number=head.receipt, run="discard", started=head.started, finished=stamp(now_utc()),
        about={"library": library.name, "of": ", ".join(f"receipt {number}" for number in head.numbers)}, came_in=gone,
        kept=[Kept("deleted for good", gone)], left_out=[], findings=findings,
    )  # fmt: skip


def _leaving(library: Library, number: int) -> Path:
    """Where a batch lies while it is deleted."""
    folder = folder_of(library, number)
    return folder.with_name(folder.name + _DELETING)


def _is_entered(db: sqlite3.Connection, record: CulledFrame) -> bool:
    first = record.files[0]
    row = db.execute("SELECT 1 FROM files WHERE path = ? AND sha256 = ?", (first["path"], first["sha256"])).fetchone()
    return row is not None


def _is_free(library: Library, path: str) -> bool:
    known = library.db.execute("SELECT 1 FROM files WHERE collision = ?", (collision_key(path),)).fetchone()
    return known is None and not is_taken(library.root / path)


def _enter_again(db: sqlite3.Connection, record: CulledFrame) -> set[int]:
    """Enter a culled frame once more; returns the albums that it is in again."""
    columns = list(record.row)
    cursor = db.execute(
        f"INSERT INTO frames ({', '.join(columns)}) VALUES ({', '.join('?' for _ in columns)})",
        list(record.row.values()),
    )
    frame = cursor.lastrowid
    assert frame is not None
    for file in record.files:
        db.execute(
            f"INSERT INTO files (frame, {', '.join(file)}) VALUES (?, {', '.join('?' for _ in file)})",
            (frame, *file.values()),
        )
        db.execute("DELETE FROM culled WHERE sha256 = ?", (file["sha256"],))
    db.executemany(ENTER_CLAIM, ((frame, *claim) for claim in record.claims))
    albums = set()
    for path, _, position in record.albums:
        row = db.execute("SELECT id FROM albums WHERE path = ?", (path,)).fetchone()
        if row is not None:
            _into_album(db, row["id"], frame, position)
            albums.add(int(row["id"]))
    choose_shown(db, frame)
    return albums


def _into_album(db: sqlite3.Connection, album: int, frame: int, position: int) -> None:
    """Put a frame at its former place in an album."""
    order = [row[0] for row in db.execute("SELECT frame FROM album_frames WHERE album = ? ORDER BY position", (album,))]
    order.insert(min(position - 1, len(order)), frame)
    db.execute("DELETE FROM album_frames WHERE album = ?", (album,))
    db.executemany("INSERT INTO album_frames VALUES (?, ?, ?)", [(album, n, one) for n, one in enumerate(order, 1)])
