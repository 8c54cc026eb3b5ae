"""Culling: marked frames leave the library with all their files. They come back as they were, or go for good, by culled.py.

A culled frame lies in set-aside/culled/NUMBER/, NUMBER being that of the receipt: its files under their paths in the library, and
frames.jsonl, a line for each frame with all that the ledger knew of it. The line is written before anything moves; a run that
was killed is finished by it.
"""

import json
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec

from bramblemoor.disk.durable import flush_folder, is_taken, remove_empty, replacing
from bramblemoor.disk.told import is_plain_file
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.albums import write_albums
from bramblemoor.library.catalogue import drop_frame, is_bound
from bramblemoor.library.copies import good
from bramblemoor.library.home import SET_ASIDE, Library
from bramblemoor.library.open_runs import Finished
from bramblemoor.library.receipts import (
    NOTHING,
    Amount,
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
from bramblemoor.running import Progress, Stage, portions, silent

CULLED = f"{SET_ASIDE}/culled"
_LIST = "frames.jsonl"
UNDER_WAY = "culling"
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
    started, number = stamp(now_utc()), next_number(library.receipts)
    folder = folder_of(library, number)
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
                (
                    UNDER_WAY,
                    json.dumps({
                        "number": number, "started": started, "said": selected.said, "asked": library.asked,
                        "left": msgspec.to_builtins(left),
                    }),
                ),
            )  # fmt: skip
    return _carry_out(library, number, started, selected.said, left, progress)


def finish_culling(library: Library) -> Finished | None:
    """End what a killed run has begun; None where there is nothing."""
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (UNDER_WAY,)).fetchone()
    if row is None:
        return None
    told = json.loads(row["value"])
    left = msgspec.convert(told.get("left", []), list[LeftOut])
    receipt = _carry_out(library, told["number"], told["started"], told["said"], left, silent)
    return Finished(told.get("asked", ""), receipt)


def _carry_out(
    library: Library, number: int, started: str, said: str, left: Sequence[LeftOut], progress: Progress
) -> Receipt:
    folder = folder_of(library, number)
    culled, albums, done = NOTHING, set[int](), 0
    records = list(records_in(folder))
    for some in portions(records, _AT_ONCE):
        for record in some:
            move_all(library.root, folder, record)
        flush(folder, library.root, some)
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
        db.execute("DELETE FROM meta WHERE key = ?", (UNDER_WAY,))
    return receipt


def _is_there(db: sqlite3.Connection, album: int) -> bool:
    return db.execute("SELECT 1 FROM albums WHERE id = ?", (album,)).fetchone() is not None


def folder_of(library: Library, number: int) -> Path:
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


def records_in(folder: Path) -> Iterator[CulledFrame]:
    if (folder / _LIST).is_file():
        for line in (folder / _LIST).read_bytes().splitlines():
            yield msgspec.json.decode(line, type=CulledFrame)


def move_all(source: Path, target: Path, record: CulledFrame) -> None:
    """Move a frame's files to the same paths below another folder, those that are still here."""
    for file in record.files:
        here, there = source / file["path"], target / file["path"]
        if is_plain_file(here) and not is_taken(there):
            there.parent.mkdir(parents=True, exist_ok=True)
            here.replace(there)


def flush(one: Path, other: Path, records: Sequence[CulledFrame]) -> None:
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
