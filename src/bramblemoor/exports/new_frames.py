"""Entering frames of which nothing is known yet, which most are: in bulk, their sidecars written by helpers."""

import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

from bramblemoor.exports.earlier_exports import told_by
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.planning import (
    AT_ONCE,
    came_as,
    names_of,
    original_of,
    own_claims,
    records_of,
    told_reference,
    units_of,
)
from bramblemoor.exports.worksheet import Worksheet, decode_claims, digest_of_key
from bramblemoor.frames.heard import Heard, settle
from bramblemoor.frames.kinds import sidecar_of
from bramblemoor.frames.xmp_writing import Belonging
from bramblemoor.library.catalogue import NewFile, add_frames, titles_by_frame
from bramblemoor.library.home import Library
from bramblemoor.library.known import Rows
from bramblemoor.library.locations import Location, name_at, readable_locations
from bramblemoor.library.sidecars import is_wanted, new_sidecar, origin_of, put_sidecar
from bramblemoor.processes import Helpers
from bramblemoor.running import portions


@dataclass(frozen=True)
class _Fresh:
    """A new frame. `says` are the claims of its original, as the worksheet has them, and `entry` is its name there; `told`
    are those of its records, each with who told them; `came` are the names it came under, in the order `by`; `packet` is the
    XMP that came beside it.
    """

    number: int
    folder: str
    name: str
    service: str
    reference: str
    files: Sequence[NewFile]
    says: str
    entry: str
    told: Sequence[tuple[str, str]]
    came: Sequence[str]
    by: str
    albums: Sequence[str]
    packet: bytes | None


@dataclass
class _Told:
    """What is to be entered of some frames; `written` are the paths of their sidecars."""

    rows: Rows = field(default_factory=Rows)
    references: list[tuple[str, int]] = field(default_factory=list)
    written: list[str] = field(default_factory=list)


def number_new(parcel: Parcel, library: Library, frames: Sequence[sqlite3.Row]) -> dict[int, int]:
    """Enter frames of the worksheet (rows of `FRAMES`) with little more than their names; returns their numbers."""
    found = []
    for row in frames:
        folder, _, name = row["path"].rpartition("/")
        found.append((folder, name, row["picture_kind"], ""))
    numbers = add_frames(library.db, found, service=parcel.service, arrived=parcel.order)
    return {row["frame"]: number for row, number in zip(frames, numbers, strict=True)}


def enter_new(
    sheet: Worksheet, parcel: Parcel, library: Library, numbered: Iterable[tuple[int, int]], helping: Helpers
) -> Iterator[tuple[int, list[str]]]:
    """Enter all that is told of frames that have their numbers (frame of the worksheet, frame of the ledger) and are in their
    albums, and write their sidecars; yields how many were entered and the paths of their sidecars, which are not flushed, a
    portion at a time. Inside a transaction of the ledger.
    """
    jobs = (_told_of(sheet, parcel, library, dict(some)) for some in portions(numbered, AT_ONCE))
    work = partial(_prepared, str(library.root), readable_locations(library.root))
    db = library.db
    for told in helping.map(work, jobs):
        db.executemany("UPDATE frames SET reference = ? WHERE id = ?", told.references)
        told.rows.enter(db, new=True)
        yield len(told.references), told.written


def _told_of(sheet: Worksheet, parcel: Parcel, library: Library, numbers: Mapping[int, int]) -> list[_Fresh]:
    units, records, names = units_of(sheet, numbers), records_of(sheet, numbers), names_of(sheet, numbers)
    albums = titles_by_frame(library.db, numbers.values())
    found = []
    for frame, number in numbers.items():
        original = original_of(units[frame])
        folder, _, name = units[frame][0]["path"].rpartition("/")
        found.append(_Fresh(
            number, folder, name, parcel.service, told_reference(records[frame]),
            [new_file(library, unit) for unit in units[frame]], original["claims"], original["name"],
            [(one["claims"], told_by(parcel.service, parcel.order, one["name"])) for one in records[frame]],
            names[frame], f"{parcel.service} {parcel.order}", albums.get(number, ()), delivered_packet(records[frame]),
        ))  # fmt: skip
    return found


def new_file(library: Library, unit: sqlite3.Row) -> NewFile:
    """A content that has just been put in its place, as it is to be entered."""
    mtime = unit["mtime_ns"]
    if mtime is None:
        mtime = (library.root / unit["path"]).stat().st_mtime_ns
    return NewFile(
        unit["role"], unit["path"], unit["size"], digest_of_key(unit["sha256"]), mtime, unit["media"] or "",
        unit["width"] or 0, unit["height"] or 0, unit["former_name"],
    )  # fmt: skip


def delivered_packet(records: Sequence[sqlite3.Row]) -> bytes | None:
    """The XMP packet that came beside a frame's original."""
    return next((record["content"] for record in records if record["content"] is not None), None)


def _prepared(root: str, locations: list[Location] | None, frames: list[_Fresh]) -> _Told:
    """Weigh what is told of some frames, and write their sidecars."""
    result = _Told()
    for frame in frames:
        heard = Heard()
        original = frame.files[0]
        heard.hear_all(own_claims(frame.says, frame.entry), original.path)
        for claims, told in frame.told:
            heard.hear_all(decode_claims(claims), told)
        heard.hear_all((came_as(frame.service, name) for name in frame.came), frame.by)
        facts = settle(heard, partial(name_at, locations))
        files = list(frame.files)
        if is_wanted(heard.claims, frame.albums, original.former_name, frame.packet):
            belonging = Belonging(frame.albums, origin_of(frame.service, frame.reference), original.former_name)
            content = new_sidecar(facts, belonging, frame.packet)
            files.append(put_sidecar(root, sidecar_of(original.path), content, original.mtime_ns))
            result.written.append(f"{root}/{files[-1].path}")
        result.references.append((frame.reference, frame.number))
        result.rows.add_files(frame.number, files)
        result.rows.add(frame.number, frame.folder, frame.name, frame.albums, heard, facts)
    return result
