"""The copy engine: each file is read once and written to all depots that need it at the same time."""

import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import Journal
from bramblemoor.depots.lane import PIECE, Copied, Item, Lane
from bramblemoor.depots.register import LIBRARY, mark_copy
from bramblemoor.library.home import Library, require_room
from bramblemoor.library.receipts import Finding
from bramblemoor.library.stock import source_of

Progress = Callable[[str, int, int], None]
_SLACK = 1 << 20
_GROUP = 200


@dataclass(frozen=True)
class Source:
    """A place a file may be read from; `origin` is "library" or a depot's id."""

    origin: str
    name: str
    path: Path


@dataclass
class CopyOutcome:
    """What one run did, by depot id: files put in place, and journals still to be closed. `findings` name what went wrong."""

    copied: dict[str, list[Copied]] = field(default_factory=dict)
    journals: dict[str, Journal] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)


def wanted_by(library: Library, depot: Depot, where: str) -> Iterator[Item]:
    """Files that a depot lacks, or (`where` narrows it) some of them, those with the fewest good copies first."""
    rows = library.db.execute(
        "SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role, c.state,"
        " (SELECT count(*) FROM copies o WHERE o.file = f.id AND o.state = 'good' AND o.sha256 = f.sha256) AS copies"
        " FROM files f LEFT JOIN copies c ON c.file = f.id AND c.depot = ?"
        f" WHERE {where} ORDER BY copies, f.path",
        (depot.id,),
    )
    for row in rows:
        why = f"it was {row['state']}" if row["state"] in ("damaged", "missing") else ""
        yield Item(row["id"], row["path"], row["bytes"], row["sha256"], row["mtime_ns"], row["role"] == "original", why)


LACKING = "c.file IS NULL OR c.sha256 != f.sha256 OR c.state IN ('damaged', 'missing')"
AMISS = "c.state IN ('damaged', 'missing')"


def copy_files(
    library: Library,
    depots: Sequence[Depot],
    wanted: dict[str, list[Item]],
    sources: Callable[[Item], Iterable[Source]],
    run: str,
    progress: Progress,
) -> CopyOutcome:
    """Copy the `wanted` files (by depot id) and enter each copy in the ledger once it was read back.

    A source whose content is not what the ledger says is a finding, and the next one is tried. Raises NotPossible, before
    anything is written, where a depot has too little room.
    """
    outcome = CopyOutcome(copied={depot.id: [] for depot in depots})
    for depot in depots:
        if wanted[depot.id]:
            needed = sum(item.bytes for item in wanted[depot.id]) + _SLACK
            require_room(depot.root, needed, f"Copying to the depot {depot.name}")
    takers: dict[int, list[str]] = {}
    items: dict[int, Item] = {}
    for depot in depots:
        for item in wanted[depot.id]:
            takers.setdefault(item.file, []).append(depot.id)
            items.setdefault(item.file, item)
    total = sum(item.bytes for item in items.values())
    done = 0
    lanes = {depot.id: Lane(depot, run) for depot in depots if wanted[depot.id]}
    entered = dict.fromkeys(lanes, 0)
    try:
        for number, (file, depot_ids) in enumerate(takers.items(), 1):
            _feed(library, items[file], [lanes[depot] for depot in depot_ids], sources, outcome)
            done += items[file].bytes
            progress("copying", done, total)
            if number % _GROUP == 0:
                _enter(library, lanes, entered, outcome)
            if all(lane.failure for lane in lanes.values()):
                break
    finally:
        for lane in lanes.values():
            lane.finish()
        _enter(library, lanes, entered, outcome)
    for depot_id, lane in lanes.items():
        if lane.journal is not None:
            outcome.journals[depot_id] = lane.journal
        if lane.failure is not None:
            left = len(wanted[depot_id]) - len(lane.results)
            reason = lane.failure.strerror or str(lane.failure)
            outcome.findings.append(
                Finding(lane.depot.name, f"the drive failed ({reason}); {left} files were not copied to it")
            )
    return outcome


def _feed(
    library: Library,
    item: Item,
    lanes: list[Lane],
    sources: Callable[[Item], Iterable[Source]],
    outcome: CopyOutcome,
) -> None:
    tried = False
    for source in sources(item):
        tried = True
        digest = hashlib.sha256()
        for lane in lanes:
            lane.begin(item)
        trouble = "is not what the ledger says: its content changed"
        with ExitStack() as stack:
            try:
                file = stack.enter_context(source.path.open("rb", buffering=0))
                while piece := file.read(PIECE):
                    for lane in lanes:
                        lane.piece(piece)
                    digest.update(piece)
            except FileNotFoundError:
                trouble = "is missing"
            except OSError as error:
                trouble = f"cannot be read ({error.strerror})"
        if digest.hexdigest() == item.sha256 and trouble.startswith("is not"):
            for lane in lanes:
                lane.end()
            return
        for lane in lanes:
            lane.abandon()
        outcome.findings.append(Finding(item.path, f"at the {source.name}, it {trouble}; it was not copied from there"))
        with library.ledger.changing() as db:
            state = "missing" if trouble == "is missing" else "damaged"
            mark_copy(db, source.origin, item.file, state, item.sha256)
    if not tried:
        outcome.findings.append(Finding(item.path, "no good copy of it is within reach"))


def _enter(library: Library, lanes: dict[str, Lane], entered: dict[str, int], outcome: CopyOutcome) -> None:
    """Bring the ledger in step with what the lanes have put in place since the last time."""
    with library.ledger.changing() as db:
        for depot_id, lane in lanes.items():
            fresh = lane.results[entered[depot_id] :]
            entered[depot_id] += len(fresh)
            for copied in fresh:
                if copied.trouble:
                    outcome.findings.append(
                        Finding(copied.item.path, f"at the depot {lane.depot.name}: {copied.trouble}")
                    )
                    continue
                outcome.copied[depot_id].append(copied)
                db.execute(
                    "INSERT OR REPLACE INTO copies VALUES (?, ?, 'good', ?, ?, ?)",
                    (depot_id, copied.item.file, copied.item.sha256, copied.read_at, copied.grade),
                )


def from_library(library: Library) -> Callable[[Item], Iterable[Source]]:
    """Backups read the library and nothing else."""
    return lambda item: [Source(LIBRARY, LIBRARY, source_of(library, item.path))]


def from_anywhere(library: Library, depots: Sequence[Depot], target: str) -> Callable[[Item], Iterable[Source]]:
    """Mending reads the library, or any depot within reach but `target` whose copy was good when last looked at."""

    def sources(item: Item) -> Iterator[Source]:
        bad = library.db.execute(
            "SELECT 1 FROM copies WHERE depot = ? AND file = ? AND state IN ('damaged', 'missing')",
            (LIBRARY, item.file),
        ).fetchone()
        if bad is None and target != LIBRARY:
            yield Source(LIBRARY, LIBRARY, source_of(library, item.path))
        for depot in depots:
            row = library.db.execute(
                "SELECT 1 FROM copies WHERE depot = ? AND file = ? AND state IN ('good', 'written') AND sha256 = ?",
                (depot.id, item.file, item.sha256),
            ).fetchone()
            if row is not None and depot.id != target:
                yield Source(depot.id, f"depot {depot.name}", depot.data / item.path)

    return sources
