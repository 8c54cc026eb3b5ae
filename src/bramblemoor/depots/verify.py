"""Verifying: files of a copy are read from its medium and compared with what they should be."""

import hashlib
import sqlite3
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Literal

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.journal import refresh_tags
from bramblemoor.depots.kinds import FOLDER, PAYLOAD, Store, open_store
from bramblemoor.depots.register.records import ReadingRecord, common_grade, open_books, record_tags
from bramblemoor.depots.register.register import finish_all, number_of, remember_line, tags_as_left, with_place
from bramblemoor.depots.standing.tally import settle
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.frames.moments import now_seconds, now_utc
from bramblemoor.library import copies
from bramblemoor.library.copies import FREED, LIBRARY
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, stamp, total, write_receipt
from bramblemoor.library.selection import EVERYTHING, Selection, select
from bramblemoor.library.stocktake.stock import content_of, take_stock_if_few
from bramblemoor.running import Meter, Pace, Progress, Stage

Choice = Literal["everything", "sample", "longest unread"]
STRAY = "not in the manifest: somebody put it there; move it out of data/"
_WORKERS = 2
_PAGE = 256
_ORDERS = {"everything": "path", "sample": "random()", "longest unread": "coalesce(read_at, 0), path"}


@dataclass(frozen=True)
class Scope:
    """What to read at each place: `choice` says in which order, the rest how much of it (0: no end), of some frames or of all."""

    choice: Choice = "everything"
    files: int = 0
    bytes: int = 0
    seconds: float = 0
    selection: Selection = EVERYTHING

    @property
    def whole(self) -> bool:
        return (
            self.choice == "everything" and not (self.files or self.bytes or self.seconds) and self.selection.everything
        )


@dataclass(frozen=True)
class Expected:
    file: int
    path: str
    bytes: int
    sha256: str
    frames: int

    @property
    def amount(self) -> Amount:
        return Amount(self.frames, 1, self.bytes)


@dataclass(frozen=True)
class Seen:
    """How one file was found: good, damaged or missing; `detail` says more where it helps."""

    expected: Expected
    state: Literal["good", "damaged", "missing", "stopped"]
    grade: str = ""
    detail: str = ""

    @property
    def what(self) -> str:
        return self.state + (f" ({self.detail})" if self.detail else "")


@dataclass(frozen=True)
class Place:
    """Something to read: a depot, or the library (number 0). `locate` leads from a path in the ledger to that in the store."""

    number: int
    name: str
    store: Store
    locate: Callable[[str], str]


@dataclass
class Result:
    """What was found at one place; `unread` is what the scope, or a stop, left for another time."""

    place: Place
    due: Amount
    good: Amount = NOTHING
    grades: set[str] = field(default_factory=set)
    amiss: list[Seen] = field(default_factory=list)

    @property
    def grade(self) -> str:
        return common_grade(self.grades)

    @property
    def read(self) -> Amount:
        return self.good + total(seen.expected.amount for seen in self.amiss)

    def kept(self) -> list[Kept]:
        doubt = "" if self.grade == "medium" else ", but perhaps read from a cache"
        name = self.place.name
        return [Kept(f"{name}: good{doubt}", self.good), Kept(f"{name}: not read this time", self.due - self.read)]

    def left_out(self) -> list[LeftOut]:
        return [
            LeftOut(f"{self.place.name}: {seen.expected.path}", seen.what, seen.expected.amount) for seen in self.amiss
        ]

    def reading(self, began: str, scope: Scope) -> ReadingRecord:
        amiss = [Finding(seen.expected.path, seen.what) for seen in self.amiss]
        whole = scope.whole and self.read == self.due
        return ReadingRecord(
            "verify", began, stamp(now_utc()), self.grade, self.read.files, self.read.bytes,
            "everything" if whole else "some", "", amiss,
        )  # fmt: skip


def verify(
    library: Library,
    depots: Sequence[Depot],
    *,
    with_library: bool,
    progress: Progress,
    scope: Scope | None = None,
    pace: Pace | None = None,
) -> tuple[Receipt, bool]:
    """Read what `scope` says at `depots`, and in the library itself if asked.

    Returns the receipt, which is also written, and whether lists of a depot, or others of its tag files, are damaged.

    The library is looked over first, as before a backup; where more was changed there than the guard lets pass it is not read.

    What is damaged or missing is entered in the ledger, so that `mend` knows, and stands on the receipt by name.
    """
    scope, pace = scope or Scope(), pace or Pace()
    books = open_books(library, "verify")
    depots, wrong = finish_all(library, depots)
    if with_library:
        library.ledger.require_sound()
        # What people have renamed or edited since is no damage.
        stock, with_library = take_stock_if_few(library, progress)
        wrong = [*wrong, *stock.findings]
    results = read_places(library, depots, scope, pace, progress, with_library=with_library)
    about_bags, tags_amiss = wrong, set[str]()
    for depot in depots if scope.whole else ():
        amiss_tags = [
            Finding(f"{depot.name}: {path}", what)
            for path, what in bag.amiss_tags(depot.store, tags_as_left(library, depot))
        ]
        about_bags += amiss_tags
        about_bags += [Finding(f"{depot.name}: {path}", what) for path, what in _strays(depot)]
        if amiss_tags:
            tags_amiss.add(depot.id)
    receipt = books.receipt(
        [result.place.name for result in results],
        total(result.due for result in results),
        [kept for result in results for kept in result.kept()],
        [left for result in results for left in result.left_out()],
        about_bags,
    )
    write_receipt(library.receipts, receipt)
    for depot, result in zip(depots, results, strict=False):
        # New digests over a damaged tag file would make the damage look right: then the depot stays untouched.
        if depot.store.writable and depot.id not in tags_amiss:
            depot.require_there()
            tags = record_tags(result.reading(books.started, scope), receipt)
            for path, content in tags.items():
                depot.store.put_small(path, content)
            refresh_tags(depot, library.name, tags, bag.read_oxum(depot.store))
            remember_line(library, depot)
    return receipt, bool(tags_amiss)


def read_places(
    library: Library, depots: Sequence[Depot], scope: Scope, pace: Pace, progress: Progress, *, with_library: bool
) -> list[Result]:
    """Read what `scope` says at `depots` and, last, in the library; what is found is entered in the ledger."""
    places = [Place(number_of(library, depot), depot.name, depot.store, f"{PAYLOAD}/{{}}".format) for depot in depots]
    if with_library:
        flush_files((), library.root)  # what was just written can be read from the medium only once it is there
        places.append(Place(LIBRARY, "library", open_store(FOLDER, str(library.root), {}), content_of))
    of = _chosen(library, scope.selection)
    results = [Result(place, copies.amount(library.db, f"({_expected(place.number, of)}) f")) for place in places]
    meter = Meter(
        progress, Stage("reading"), sum(min(scope.bytes or result.due.bytes, result.due.bytes) for result in results)
    )
    for result in results:
        _look_at(library, result, of, scope, pace, meter)
    return results


def _expected(place: int, of: str) -> str:
    """A query for what should be there: at a depot its copies as entered, under the path that they have there.

    `of` is what else must hold of the files `f`.
    """
    if place == LIBRARY:
        return (
            "SELECT f.id, f.path, f.bytes, f.sha256, f.role, f.read_at FROM files f"
            f" WHERE f.id NOT IN ({FREED}) AND f.id NOT IN (SELECT file FROM temp.waiting) AND {of}"
        )
    return (
        "SELECT f.id, coalesce(c.path, f.path) AS path, f.bytes, coalesce(c.sha256, f.sha256) AS sha256, f.role, c.read_at"
        f" FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = {place} AND {of}"
    )


def _chosen(library: Library, selection: Selection) -> str:
    """What must hold of the files `f` that are to be read. Raises WrongUse where no frame is meant."""
    if selection.everything:
        return "1"
    select(library, selection)
    return "f.frame IN (SELECT frame FROM temp.selected)"


def _look_at(library: Library, result: Result, of: str, scope: Scope, pace: Pace, meter: Meter) -> None:
    """Read the files of a place, some at a time, and enter what was found."""
    db, place = library.db, result.place
    limit = f"LIMIT {scope.files}" if scope.files else ""
    db.execute("DROP TABLE IF EXISTS temp.reading")
    db.execute(
        f"CREATE TEMP TABLE reading AS SELECT * FROM ({_expected(place.number, of)})"
        f" ORDER BY {_ORDERS[scope.choice]} {limit}"
    )
    until = time.monotonic() + scope.seconds if scope.seconds else None
    last = 0
    with ThreadPoolExecutor(_WORKERS) as pool:
        while not pace.stopped and not (until and time.monotonic() > until):
            rows = db.execute(
                "SELECT rowid AS n, * FROM temp.reading WHERE rowid > ? ORDER BY rowid LIMIT ?", (last, _PAGE)
            ).fetchall()
            if (scope.bytes and result.read.bytes >= scope.bytes) or not rows:
                break
            group = list(_affordable(rows, scope, result.read.bytes, until))
            last = rows[len(group) - 1]["n"]
            seen = pool.map(
                lambda expected: _read(place.store, place.locate(expected.path), expected, pace, meter), group
            )
            _enter(library, result, [one for one in seen if one.state != "stopped"])


def _affordable(rows: list[sqlite3.Row], scope: Scope, read: int, until: float | None) -> Iterator[Expected]:
    """As many of the next files as the budget in bytes takes; few at a time where the clock counts."""
    for number, row in enumerate(rows):
        if number and ((scope.bytes and read >= scope.bytes) or (until and number >= 2 * _WORKERS)):
            return
        read += row["bytes"]
        yield Expected(row["id"], row["path"], row["bytes"], row["sha256"], int(row["role"] == "original"))


def _enter(library: Library, result: Result, seen: list[Seen]) -> None:
    with library.ledger.changing() as db:
        for one in seen:
            _remember(db, result.place, one, counts=not library.clock.in_doubt)
        settle(db)
    for one in seen:
        if one.state == "good":
            result.good += one.expected.amount
            result.grades.add(one.grade)
        else:
            result.amiss.append(one)


def _read(store: Store, path: str, expected: Expected, pace: Pace, meter: Meter) -> Seen:
    digest = hashlib.sha256()
    try:
        with store.read(path) as reading:
            for piece in reading.pieces:
                digest.update(piece)
                pace.wait(len(piece))
                meter.add(len(piece))
                if pace.stopped:
                    return Seen(expected, "stopped")
            grade = reading.grade
    except (FileNotFoundError, NotADirectoryError, IsADirectoryError):
        return Seen(expected, "missing")
    except OSError as error:
        return Seen(expected, "damaged", detail=error.strerror or "unreadable")
    if digest.hexdigest() != expected.sha256:
        return Seen(expected, "damaged", detail="its content is not what it was")
    return Seen(expected, "good", grade)


def _remember(db: sqlite3.Connection, place: Place, seen: Seen, *, counts: bool) -> None:
    file = seen.expected.file
    if seen.state != "good":
        copies.mark(db, place.number, file, "missing" if seen.state == "missing" else "damaged")
    elif place.number == LIBRARY:
        copies.is_here_again(db, file)
        # A reading that may have come from a cache does not renew one; where none can be had but such, it must do.
        if counts and (seen.grade == "medium" or not place.store.traits.proves):
            db.execute("UPDATE files SET read_at = ? WHERE id = ?", (now_seconds(), file))
    elif counts:
        copies.renew(db, place.number, file, seen.grade, now_seconds())
    else:
        copies.is_not_amiss(db, place.number, file)


def _strays(depot: Depot) -> Iterator[tuple[str, str]]:
    """Payload files that the manifest does not list, and why there may be more of them."""
    try:
        for path in bag.payload_strays(depot.store):
            yield path, STRAY
    except OSError as error:
        yield PAYLOAD, f"not all of it can be listed: {with_place(error)}"
