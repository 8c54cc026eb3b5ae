"""Culling: marked frames leave the library with all their files, come back as they were, or are deleted for good.

A culled frame lies in set-aside/culled/NUMBER/, NUMBER being that of the receipt: its files under their paths in the library, and
frames.jsonl, a line for each frame with all that the ledger knew of it. The line is written before anything moves; a run that
was killed is finished by it.
"""

import json
import shutil
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from bramblemoor.disk.durable import flush_folder, is_taken, remove_empty, replacing
from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import is_plain_file
from bramblemoor.errors import WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.albums import write_albums
from bramblemoor.library.catalogue import ENTER_CLAIM, drop_frame, is_bound
from bramblemoor.library.copies import good
from bramblemoor.library.home import SET_ASIDE, Library
from bramblemoor.library.known import choose_shown
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
from bramblemoor.library.selection import Selected
from bramblemoor.running import Progress, Stage, portions

CULLED = f"{SET_ASIDE}/culled"
_LIST = "frames.jsonl"
_DELETING = ".deleting"
_UNDER_WAY = "culling"
"""In the ledger's meta: the number of the run that is taking frames out."""
_AT_ONCE = 100
_FRAME = "folder, name, kind, service, reference, arrived, added"
_FILE = "role, path, collision, bytes, sha256, mtime_ns, media, width, height, former_name, read_at"


class CulledFrame(msgspec.Struct):
    """A frame as the ledger had it: its row, its files and claims as rows, and (album's path, title, position) of its albums."""

    frame: int
    row: dict[str, Any]
    files: list[dict[str, Any]]
    claims: list[tuple[str, str, str, str]]
    albums: list[tuple[str, str, int]]

    @property
    def path(self) -> str:
        return f"{self.row['folder']}/{self.row['name']}"

    @property
    def amount(self) -> Amount:
        return Amount(1, len(self.files), sum(file["bytes"] for file in self.files))


@dataclass
class Removal:
    """What taking frames out would mean. `alone` are paths of frames of which no good copy is known but the library's own."""

    amount: Amount = NOTHING
    alone: list[str] = field(default_factory=list)
    bound: dict[int, int] = field(default_factory=dict)


def plan_removal(selected: Selected) -> Removal:
    """Look what taking the selected frames out would mean; changes nothing."""
    db, found = selected.library.db, Removal()
    for frame in selected.frames():
        row = db.execute("SELECT folder || '/' || name AS path, year FROM frames WHERE id = ?", (frame,)).fetchone()
        if is_bound(db, frame):
            found.bound[row["year"]] = found.bound.get(row["year"], 0) + 1
            continue
        files, size = db.execute("SELECT count(*), sum(bytes) FROM files WHERE frame = ?", (frame,)).fetchone()
        found.amount += Amount(1, files, size)
        if not _has_copy(db, frame):
            found.alone.append(row["path"])
    return found


def _has_copy(db: sqlite3.Connection, frame: int) -> bool:
    """Whether a depot has a good copy of the frame's original."""
    row = db.execute(
        "SELECT 1 FROM files f JOIN copies c ON c.file = f.id JOIN depots d ON d.number = c.depot WHERE f.frame = ?"
        f" AND f.role = 'original' AND c.sha256 IS NULL AND {good()} AND d.retired = '' LIMIT 1",
        (frame,),
    )
    return row.fetchone() is not None


def cull(library: Library, selected: Selected, progress: Progress) -> Receipt:
    """Take frames out of the library; returns the receipt, which is also written. Frames of bound years stay.

    May be killed at any moment: the next run, or `finish_culling`, ends what was begun.
    """
    finish_culling(library)
    started, number = stamp(now_utc()), next_number(library.receipts)
    folder = _folder(library, number)
    frames, left = [], list[LeftOut]()
    for frame in selected.frames():
        if is_bound(library.db, frame):
            row = library.db.execute("SELECT folder || '/' || name, year FROM frames WHERE id = ?", (frame,)).fetchone()
            left.append(LeftOut(row[0], f"its year, {row[1]}, is bound", Amount(1)))
        else:
            frames.append(frame)
    if frames:
        _write_down(folder, (_record(library.db, frame) for frame in frames))
        with library.ledger.changing() as db:
            db.execute(
                "INSERT OR REPLACE INTO meta VALUES (?, ?)",
                (_UNDER_WAY, json.dumps({"number": number, "started": started, "said": selected.said})),
            )
    return _carry_out(library, number, started, selected.said, left, progress)


def finish_culling(library: Library) -> Receipt | None:
    """End what a killed run has begun; None where there is nothing."""
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (_UNDER_WAY,)).fetchone()
    if row is None:
        return None
    told = json.loads(row["value"])
    return _carry_out(library, told["number"], told["started"], told["said"], [], lambda stage, done, whole: None)


def _carry_out(
    library: Library, number: int, started: str, said: str, left: Sequence[LeftOut], progress: Progress
) -> Receipt:
    folder = _folder(library, number)
    culled, albums, done = NOTHING, set[int](), 0
    records = list(_records(folder))
    for some in portions(records, _AT_ONCE):
        for record in some:
            _move_all(library.root, folder, record)
        _flush(folder, library.root, some)
        with library.ledger.changing(facts=True) as db:
            for record in some:
                albums |= _forget(db, record)
                culled += record.amount
        done += len(some)
        progress(Stage("taking out", "frames"), done, len(records))
    with library.ledger.changing(facts=bool(albums)):
        write_albums(library, [album for album in albums if _is_there(library.db, album)])
    receipt = receipt_of(library.receipts, number, "cull") or Receipt(
        number=number, run="cull", started=started, finished=stamp(now_utc()),
        about={"library": library.name, "of": said, "to": f"{CULLED}/{number:04}"},
        came_in=culled + total(one.amount for one in left),
        kept=[Kept("taken out of the library, and set aside", culled)] if culled.files else [],
        left_out=list(left), findings=[],
    )  # fmt: skip
    write_receipt(library.receipts, receipt)
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (_UNDER_WAY,))
    return receipt


def _is_there(db: sqlite3.Connection, album: int) -> bool:
    return db.execute("SELECT 1 FROM albums WHERE id = ?", (album,)).fetchone() is not None


def _folder(library: Library, number: int) -> Path:
    return library.root / CULLED / f"{number:04}"


def _record(db: sqlite3.Connection, frame: int) -> CulledFrame:
    row = dict(db.execute(f"SELECT {_FRAME} FROM frames WHERE id = ?", (frame,)).fetchone())
    files = [dict(one) for one in db.execute(f"SELECT {_FILE} FROM files WHERE frame = ? ORDER BY id", (frame,))]
    claims = db.execute("SELECT field, value, source, told FROM claims WHERE frame = ? ORDER BY rowid", (frame,))
    albums = db.execute(
        "SELECT path, title, position FROM album_frames JOIN albums ON albums.id = album WHERE frame = ?", (frame,)
    )
    return CulledFrame(
        frame, row, files, [tuple(one) for one in claims.fetchall()], [tuple(one) for one in albums.fetchall()]
    )  # fmt: skip


def _write_down(folder: Path, records: Iterable[CulledFrame]) -> None:
    with replacing(folder / _LIST) as file:
        for record in records:
            file.write(msgspec.json.encode(record) + b"\n")
    for level in (folder.parent, folder.parent.parent):
        flush_folder(level)


def _records(folder: Path) -> Iterator[CulledFrame]:
    if (folder / _LIST).is_file():
        for line in (folder / _LIST).read_bytes().splitlines():
            yield msgspec.json.decode(line, type=CulledFrame)


def _move_all(source: Path, target: Path, record: CulledFrame) -> None:
    """Move a frame's files to the same paths below another folder, those that are still here."""
    for file in record.files:
        here, there = source / file["path"], target / file["path"]
        if is_plain_file(here) and not is_taken(there):
            there.parent.mkdir(parents=True, exist_ok=True)
            here.replace(there)


def _flush(one: Path, other: Path, records: Sequence[CulledFrame]) -> None:
    """Make moves durable, and remove folders in which nothing is left."""
    folders = {file["path"].rpartition("/")[0] for record in records for file in record.files}
    for root in (one, other):
        for folder in sorted(folders, key=len, reverse=True):
            place = root / folder
            if place.is_dir():
                flush_folder(place)
    remove_empty({other / folder for folder in folders}, other / "pictures")


def _forget(db: sqlite3.Connection, record: CulledFrame) -> set[int]:
    """Take a frame out of the ledger, and note its contents as culled; returns its albums."""
    row = db.execute("SELECT folder || '/' || name FROM frames WHERE id = ?", (record.frame,)).fetchone()
    if row is None or row[0] != record.path:
        return set()  # a run that was killed had done so
    db.execute("DELETE FROM files WHERE frame = ?", (record.frame,))
    at = stamp(now_utc())
    db.executemany(
        "INSERT OR REPLACE INTO culled VALUES (?, ?, ?, ?)",
        ((file["sha256"], file["bytes"], file["path"], at) for file in record.files),
    )
    return set(drop_frame(db, record.frame))


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
        records = [record for record in _records(folder) if _lies(folder, record)]
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
    finish_culling(library)
    started, number = stamp(now_utc()), _batch(library, number)
    folder = _folder(library, number)
    came_in, back, left = NOTHING, NOTHING, list[LeftOut]()
    albums: set[int] = set()
    records = [record for record in _records(folder) if _lies(folder, record)]
    for record in records:
        came_in += record.amount
        # The ledger first: a frame that it knows, and whose files are still here, was on its way back when a run was killed.
        if not _is_entered(library.db, record):
            taken = next((file["path"] for file in record.files if not _is_free(library, file["path"])), None)
            if taken is not None:
                left.append(LeftOut(record.path, f"something else lies at {taken} now", record.amount))
                continue
            with library.ledger.changing(facts=True) as db:
                albums |= _enter_again(db, record)
        _move_all(folder, library.root, record)
        _flush(library.root, folder, [record])
        if _lies(folder, record):  # the same picture was taken in again meanwhile: what else was known of it stays here
            left.append(LeftOut(record.path, "something lies in its place now", record.amount))
        else:
            back += record.amount
    with library.ledger.changing(facts=bool(albums)):
        write_albums(library, albums)
    if not left:
        shutil.rmtree(folder)
        flush_folder(folder.parent)
    receipt = Receipt(
        number=next_number(library.receipts), run="uncull", started=started, finished=stamp(now_utc()),
        about={"library": library.name, "of": f"receipt {number}"}, came_in=came_in,
        kept=[Kept("back in the library, as before", back)] if back.files else [], left_out=left, findings=[],
    )  # fmt: skip
    write_receipt(library.receipts, receipt)
    return receipt


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


def _clear_half_deleted(library: Library) -> None:
    """What a run that was killed had begun to delete for good."""
    for folder in (library.root / CULLED).glob(f"*{_DELETING}"):
        shutil.rmtree(folder)


def discard(library: Library, numbers: Sequence[int]) -> Receipt:
    """Delete for good what runs have culled; returns the receipt, which names every frame."""
    finish_culling(library)
    _clear_half_deleted(library)
    started, gone, findings = stamp(now_utc()), NOTHING, list[Finding]()
    for number in numbers:
        folder = _folder(library, _batch(library, number))
        records = [record for record in _records(folder) if _lies(folder, record)]
        for record in records:
            gone += record.amount
            findings.append(Finding(record.path, "deleted for good"))
        leaving = folder.with_name(folder.name + _DELETING)
        folder.rename(leaving)  # first: nobody brings half a batch back
        flush_folder(folder.parent)
        shutil.rmtree(leaving)
    receipt = Receipt(
        number=next_number(library.receipts), run="discard", started=started, finished=stamp(now_utc()),
        about={"library": library.name, "of": ", ".join(f"receipt {number}" for number in numbers)}, came_in=gone,
        kept=[Kept("deleted for good", gone)], left_out=[], findings=findings,
    )  # fmt: skip
    write_receipt(library.receipts, receipt)
    return receipt
