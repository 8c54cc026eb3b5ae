"""Verifying: every file of a copy is read from its medium and compared with what it should be."""

import hashlib
import os
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.copying import Progress
from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import refresh_tags
from bramblemoor.depots.kinds import Drive
from bramblemoor.depots.kinds.folder import FolderDrive
from bramblemoor.depots.lane import PIECE
from bramblemoor.depots.records import ReadingRecord, common_grade, make_receipt, record_tags, run_name
from bramblemoor.depots.register import LIBRARY, finish_at, mark_copy, remember_device
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import write_atomically
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp, total, write_receipt
from bramblemoor.library.stock import source_of

_WORKERS = 2
_GROUP = 64


@dataclass(frozen=True)
class _Expected:
    file: int
    path: str
    bytes: int
    sha256: str
    frames: int

    @property
    def amount(self) -> Amount:
        return Amount(self.frames, 1, self.bytes)


@dataclass(frozen=True)
class _Seen:
    """How one file was found: good, damaged or missing; `detail` says more where it helps."""

    expected: _Expected
    state: str
    grade: str = ""
    detail: str = ""

    @property
    def what(self) -> str:
        return self.state + (f" ({self.detail})" if self.detail else "")


@dataclass(frozen=True)
class _Place:
    """Something to read: a depot, or the library. `locate` leads from a path in the ledger to the file."""

    id: str
    name: str
    drive: Drive
    locate: Callable[[str], Path]


@dataclass
class _Result:
    """What was found at one place."""

    place: _Place
    good: Amount
    grades: set[str]
    amiss: list[_Seen]

    @property
    def grade(self) -> str:
        return common_grade(self.grades)

    def kept(self) -> Kept:
        doubt = "" if self.grade == "medium" else ", but perhaps read from a cache"
        return Kept(f"{self.place.name}: good{doubt}", self.good)

    def left_out(self) -> list[LeftOut]:
        return [
            LeftOut(f"{self.place.name}: {seen.expected.path}", seen.what, seen.expected.amount) for seen in self.amiss
        ]

    def reading(self, began: str) -> ReadingRecord:
        amiss = [Finding(seen.expected.path, seen.what) for seen in self.amiss]
        read = self.good + total(seen.expected.amount for seen in self.amiss)
        ended = stamp(now_utc())
        return ReadingRecord("verify", began, ended, self.grade, read.files, read.bytes, "everything", [], amiss)


def verify(library: Library, depots: Sequence[Depot], *, with_library: bool, progress: Progress) -> Receipt:
    """Read everything at `depots`, and in the library itself if asked; returns the receipt, which is also written.

    What is damaged or missing is entered in the ledger, so that `mend` knows, and stands on the receipt by name.
    """
    started = stamp(now_utc())
    name = run_name(library, started)
    for depot in depots:
        if os.access(depot.root, os.W_OK):
            finish_at(library, depot)
        remember_device(library, depot)
    places = [_Place(depot.id, depot.name, depot.drive, depot.data.joinpath) for depot in depots]
    if with_library:
        drive = FolderDrive(library.root, {})
        drive.flush([])  # what was just written to the library can only be read from its medium once it is there
        places.append(_Place(LIBRARY, LIBRARY, drive, lambda path: source_of(library, path)))
    came_in = total(expected.amount for place in places for expected in _expected(library, place.id))
    meter = _Meter(progress, came_in.bytes)
    results = [_look_at(library, place, meter) for place in places]
    readings = {result.place.id: result.reading(started) for result in results}
    about_bags = {depot.id: list(_bag_findings(depot)) for depot in depots}
    receipt = make_receipt(
        library, "verify", name, started, stamp(now_utc()), [place.name for place in places], came_in,
        [result.kept() for result in results],
        [left for result in results for left in result.left_out()],
        [finding for findings in about_bags.values() for finding in findings],
    )  # fmt: skip
    write_receipt(library.receipts, receipt)
    for depot in depots:
        # New digests over a damaged tag file would make the damage look right: then the depot stays untouched.
        tags_are_amiss = any(finding.what != STRAY for finding in about_bags[depot.id])
        if os.access(depot.root, os.W_OK) and not tags_are_amiss:
            tags = record_tags(readings[depot.id], receipt)
            for path, content in tags.items():
                write_atomically(depot.root / path, content)
            refresh_tags(depot, library.name, tags)
    return receipt


class _Meter:
    """Bytes read so far, over all places."""

    def __init__(self, progress: Progress, whole: int) -> None:
        self._progress, self._whole, self._done = progress, whole, 0

    def add(self, count: int) -> None:
        self._done += count
        self._progress("reading", self._done, self._whole)


def _look_at(library: Library, place: _Place, meter: _Meter) -> _Result:
    result = _Result(place, Amount(), set(), [])
    for seen in _read_all(library, place, meter):
        if seen.state == "good":
            result.good += seen.expected.amount
            result.grades.add(seen.grade)
        else:
            result.amiss.append(seen)
    return result


def _expected(library: Library, place: str) -> Iterator[_Expected]:
    """What should be there: for a depot its copies as entered, for the library its files. In order of path, as on disk."""
    if place == LIBRARY:
        rows = library.db.execute("SELECT id, path, bytes, sha256, role FROM files ORDER BY path")
    else:
        rows = library.db.execute(
            "SELECT f.id, f.path, f.bytes, c.sha256, f.role FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = ?"
            " ORDER BY f.path",
            (place,),
        )
    for row in rows:
        yield _Expected(row["id"], row["path"], row["bytes"], row["sha256"], int(row["role"] == "original"))


def _read_all(library: Library, place: _Place, meter: _Meter) -> Iterator[_Seen]:
    """Read every file of a place, some at a time, and enter what was found."""
    files = iter(list(_expected(library, place.id)))
    with ThreadPoolExecutor(_WORKERS) as pool:
        while group := list(islice(files, _GROUP)):
            seen = list(pool.map(lambda expected: _read(place.drive, place.locate(expected.path), expected), group))
            with library.ledger.changing() as db:
                for one in seen:
                    _remember(db, place.id, one)
            meter.add(sum(expected.bytes for expected in group))
            yield from seen


def _read(drive: Drive, path: Path, expected: _Expected) -> _Seen:
    digest = hashlib.sha256()
    try:
        with drive.read_from_medium(path, PIECE) as reading:
            for piece in reading.pieces:
                digest.update(piece)
            grade = reading.grade
    except FileNotFoundError:
        return _Seen(expected, "missing")
    except OSError as error:
        return _Seen(expected, "damaged", detail=error.strerror or "unreadable")
    if digest.hexdigest() != expected.sha256:
        return _Seen(expected, "damaged", detail="its content is not what it was")
    return _Seen(expected, "good", grade)


def _remember(db: sqlite3.Connection, place: str, seen: _Seen) -> None:
    file = seen.expected.file
    if seen.state != "good":
        mark_copy(db, place, file, seen.state, seen.expected.sha256)
    elif place == LIBRARY:
        db.execute("DELETE FROM copies WHERE depot = ? AND file = ?", (LIBRARY, file))
    else:
        # A reading that may have come from a cache does not take the place of one that did not.
        db.execute(
            "UPDATE copies SET state = 'good', read_at = ?, grade = ? WHERE depot = ? AND file = ?"
            " AND (? = 'medium' OR state != 'good' OR grade != 'medium')",
            (stamp(now_utc()), seen.grade, place, file, seen.grade),
        )


def _bag_findings(depot: Depot) -> Iterator[Finding]:
    """What is wrong with the bag besides its payload files: tag files, and files that the manifest does not list."""
    for path, what in bag.amiss_tags(depot.root):
        yield Finding(f"{depot.name}: {path}", what)
    listed = dict(bag.read_manifest(depot.root / bag.MANIFEST))
    for path in bag.payload_strays(depot.root, listed):
        if Path(path).name not in bag.STRAYS:
            yield Finding(f"{depot.name}: {path}", STRAY)


STRAY = "not in the manifest: somebody put it there; move it out of data/"
