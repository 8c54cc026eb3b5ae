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
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp, write_receipt
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


@dataclass(frozen=True)
class _Seen:
    """How one file was found: good, damaged or missing; `detail` says more where it helps."""

    expected: _Expected
    state: str
    grade: str = ""
    detail: str = ""


@dataclass
class _Tally:
    came_in: Amount
    good: Amount
    grades: frozenset[str] = frozenset()


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
    came_in = Amount()
    kept: list[Kept] = []
    left_out: list[LeftOut] = []
    findings: list[Finding] = []
    readings: dict[str, ReadingRecord] = {}
    total = sum(_to_read(library, depot.id) for depot in depots) + (_to_read(library, LIBRARY) if with_library else 0)
    done = [0]
    places: list[tuple[str, str, Drive, Callable[[str], Path]]] = [
        (depot.id, depot.name, depot.drive, lambda path, depot=depot: depot.data / path)  # type: ignore[misc]
        for depot in depots
    ]
    if with_library:
        places.append((LIBRARY, LIBRARY, FolderDrive(library.root, {}), lambda path: source_of(library, path)))
    for place, place_name, drive, locate in places:
        if place == LIBRARY:
            drive.flush([])  # what was just written to the library can only be read from its medium once it is there
        tally = _Tally(Amount(), Amount())
        amiss: list[Finding] = []
        for seen in _read_all(library, place, drive, locate, total, done, progress):
            amount = Amount(seen.expected.frames, 1, seen.expected.bytes)
            tally.came_in += amount
            if seen.state == "good":
                tally.good += amount
                tally.grades |= {seen.grade}
            else:
                what = seen.state + (f" ({seen.detail})" if seen.detail else "")
                amiss.append(Finding(seen.expected.path, what))
                left_out.append(LeftOut(f"{place_name}: {seen.expected.path}", what, amount))
        came_in += tally.came_in
        grade = common_grade(set(tally.grades))
        kept.append(
            Kept(f"{place_name}: {'good' if grade == 'medium' else 'good, but perhaps read from a cache'}", tally.good)
        )
        readings[place] = ReadingRecord(
            "verify",
            started,
            stamp(now_utc()),
            grade,
            tally.came_in.files,
            tally.came_in.bytes,
            "everything",
            [],
            amiss,
        )
    tags_are_amiss: dict[str, bool] = {}
    for depot in depots:
        found = list(_bag_findings(depot))
        tags_are_amiss[depot.id] = any(finding.what != STRAY for finding in found)
        findings += found
    names = [place_name for _, place_name, _, _ in places]
    receipt = make_receipt(library, "verify", name, started, stamp(now_utc()), names, came_in, kept, left_out, findings)
    write_receipt(library.receipts, receipt)
    for depot in depots:
        # New digests over a damaged tag file would make the damage look right: then the depot stays untouched.
        if os.access(depot.root, os.W_OK) and not tags_are_amiss[depot.id]:
            tags = record_tags(readings[depot.id], receipt)
            for path, content in tags.items():
                write_atomically(depot.root / path, content)
            refresh_tags(depot, library.name, tags)
    return receipt


def _to_read(library: Library, place: str) -> int:
    return sum(expected.bytes for expected in _expected(library, place))


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


def _read_all(
    library: Library,
    place: str,
    drive: Drive,
    locate: Callable[[str], Path],
    total: int,
    done: list[int],
    progress: Progress,
) -> Iterator[_Seen]:
    with ThreadPoolExecutor(_WORKERS) as pool:
        expected_files = iter(list(_expected(library, place)))
        while group := list(islice(expected_files, _GROUP)):
            seen = list(pool.map(lambda expected: _read(drive, locate(expected.path), expected), group))
            with library.ledger.changing() as db:
                for one in seen:
                    _remember(db, place, one)
            done[0] += sum(expected.bytes for expected in group)
            progress("reading", done[0], total)
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
