"""The copy engine: each file is read once and written to all depots that need it at the same time."""

import hashlib
import os
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import Journal
from bramblemoor.depots.lane import PIECE, Copied, Item, Lane
from bramblemoor.depots.register import enter_copy, mark_copy, number_of
from bramblemoor.depots.tally import settle
from bramblemoor.depots.work import Member, Work
from bramblemoor.library.home import Library, require_room
from bramblemoor.library.lineage import latest
from bramblemoor.library.receipts import NOTHING, Amount, Finding
from bramblemoor.library.stock import LIBRARY, source_of

Progress = Callable[[str, int, int], None]
_SLACK = 1 << 20
_READ = os.O_RDONLY | getattr(os, "O_BINARY", 0)
_BUNDLE = 64  # small files that are handed over together
_OFTEN = 2.0  # seconds between two transactions of the ledger
_PATIENCE = 2.0  # seconds that a depot's buffer may be full while another one idles, before it is passed over


@dataclass(frozen=True)
class Source:
    """A place a file may be read from; `number` is the depot's in the ledger, 0 for the library."""

    number: int
    name: str
    path: str


@dataclass
class Outcome:
    """What a run did at one depot. `left` is what it did not come to: it was stopped, or (`failure`) the drive failed."""

    copied: Amount = NOTHING
    unproven: int = 0
    failed: list[tuple[Item, str]] = field(default_factory=list)
    left: Amount = NOTHING
    failure: OSError | None = None


@dataclass
class Pace:
    """How fast to read, and whether to stop. `limit` is in bytes a second, 0 for as fast as it goes."""

    limit: int = 0
    stopped: bool = False
    _began: float = field(default_factory=time.monotonic)
    _passed: int = 0

    def wait(self, count: int) -> None:
        """Called for every piece: sleeps where the limit is passed."""
        if self.limit:
            self._passed += count
            ahead = self._passed / self.limit - (time.monotonic() - self._began)
            if ahead > 0:
                time.sleep(ahead)


@dataclass
class CopyRun:
    """One run of the engine. Journals are made as needed, and closed by the caller."""

    library: Library
    members: Sequence[Member]
    name: str
    progress: Progress
    pace: Pace = field(default_factory=Pace)
    journals: dict[int, Journal] = field(default_factory=dict)
    outcomes: dict[int, Outcome] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)
    seconds: float = 0

    def journal(self, member: Member) -> Journal:
        if member.number not in self.journals:
            self.journals[member.number] = Journal(member.depot, self.name, latest(self.library))
        return self.journals[member.number]

    def require_room(self, work: Work) -> None:
        """Raises NotPossible where a depot has too little room for what it lacks."""
        for member in self.members:
            needed = work.left(member).bytes
            if needed:
                what = f"Copying to the depot {member.depot.name}"
                require_room(member.depot.root, needed + _SLACK, what, member.terms.leave_free)

    def copy(self, work: Work, sources: Callable[[Item], Iterable[Source]]) -> None:
        """Copy what the depots lack, and enter each copy in the ledger once it was read back.

        A source whose content is not what the ledger says is a finding, and the next one is tried. A depot that keeps the
        others waiting is passed over, and served by itself behind them. Where the pace is stopped, the run ends in good order.
        """
        began = time.monotonic()
        self.outcomes |= {member.number: Outcome() for member in self.members if member.number not in self.outcomes}
        wanting = [member for member in self.members if work.left(member).files]
        lanes = {member.number: Lane(member.depot, self.journal(member), len(wanting)) for member in wanting}
        feeder = _Feeder(self, work, lanes, sources, work.whole().bytes)
        try:
            while feeder.one_pass() and not self.pace.stopped:
                pass
        finally:
            feeder.hand_over()
            for lane in lanes.values():
                lane.finish()
            feeder.enter()
        for member in wanting:
            outcome = self.outcomes[member.number]
            outcome.failure = lanes[member.number].failure
            outcome.left = work.left(member)
        self.seconds = time.monotonic() - began


class _Feeder:
    """Reads files and hands them to lanes."""

    def __init__(
        self, run: CopyRun, work: Work, lanes: dict[int, Lane], sources: Callable[[Item], Iterable[Source]], total: int
    ) -> None:
        self._run, self._work, self._lanes, self._sources = run, work, lanes, sources
        self._total, self._done = total, 0
        self._bundles: dict[int, list[tuple[Item, bytes]]] = {}
        self._bundled = 0
        self._entered = time.monotonic()
        self._lagging: dict[int, float] = {}  # depot to the moment since when it keeps another one waiting
        self._numbers: dict[tuple[int, int], int] = {}  # (depot, file) to the number of the work that is under way

    def one_pass(self) -> bool:
        """Go through the work once; says whether something was passed over and has to be gone through again."""
        passed_over = False
        for n, item, members in self._work.items():
            alive = [
                member
                for member in members
                if self._lanes[member.number].failure is None and (member.number, item.file) not in self._numbers
            ]
            if self._run.pace.stopped or all(lane.failure for lane in self._lanes.values()):
                return False
            takers = self._who_takes(alive)
            passed_over = passed_over or len(takers) < len(alive)
            if takers:
                self._feed(n, item, takers)
                if len(takers) == len(alive):
                    self._done += item.bytes
                self._run.progress("copying", self._done, self._total)
            if time.monotonic() - self._entered > _OFTEN:
                self.enter()
        return passed_over

    def _who_takes(self, members: list[Member]) -> list[Member]:
        """All, but for those that have long kept another one waiting."""
        if len(members) < 2 or not any(self._lanes[member.number].idles for member in members):
            self._lagging.clear()
            return members
        now, takers = time.monotonic(), []
        for member in members:
            if not self._lanes[member.number].lags:
                self._lagging.pop(member.number, None)
            if now - self._lagging.setdefault(member.number, now) < _PATIENCE:
                takers.append(member)
        return takers or members

    def _feed(self, n: int, item: Item, takers: list[Member]) -> None:
        tried = False
        for source in self._sources(item):
            tried = True
            trouble = self._read(n, item, source, takers)
            if not trouble:
                return
            finding = f"at the {source.name}, it {trouble}; it was not copied from there"
            self._run.findings.append(Finding(item.path, finding))
            state = "missing" if trouble == "is missing" else "damaged"
            with self._run.library.ledger.changing() as db:
                mark_copy(db, source.number, item.file, state)
        if not tried:
            finding = "no good copy of it is within reach"
            self._run.findings.append(Finding(item.path, finding))
        for member in takers:
            self._run.outcomes[member.number].failed.append((item, finding))
            self._work.done([n], member)

    def _read(self, n: int, item: Item, source: Source, takers: list[Member]) -> str:
        """Read a file from one source into the lanes; says what was wrong with it, "" where nothing was."""
        lanes = [self._lanes[member.number] for member in takers]
        items = [self._work.for_depot(item, member) for member in takers]
        self._numbers |= {(member.number, item.file): n for member in takers}
        digest = hashlib.sha256()
        trouble, begun = "", False
        file = -1
        try:
            file = os.open(source.path, _READ)
            piece = os.read(file, PIECE)
            digest.update(piece)
            self._run.pace.wait(len(piece))
            if len(piece) == item.bytes and digest.hexdigest() == item.sha256:
                self._bundle_up(takers, items, piece)
                return ""
            self.hand_over()
            for lane, mine in zip(lanes, items, strict=True):
                lane.begin(mine)
            begun = True
            while piece and not self._run.pace.stopped:
                for lane in lanes:
                    lane.piece(piece)
                piece = os.read(file, PIECE)
                digest.update(piece)
                self._run.pace.wait(len(piece))
        except FileNotFoundError:
            trouble = "is missing"
        except OSError as error:
            trouble = f"cannot be read ({error.strerror})"
        finally:
            if file >= 0:
                os.close(file)
        stopped = self._run.pace.stopped and not trouble
        if not trouble and not stopped and digest.hexdigest() != item.sha256:
            trouble = "is not what the ledger says: its content changed"
        for lane in lanes if begun else ():
            if trouble or stopped:
                lane.abandon()
            else:
                lane.end()
        return trouble

    def _bundle_up(self, takers: list[Member], items: list[Item], content: bytes) -> None:
        """Keep a small file until there are enough of them to hand over."""
        for member, item in zip(takers, items, strict=True):
            self._bundles.setdefault(member.number, []).append((item, content))
        self._bundled += len(content)
        if self._bundled >= PIECE or len(self._bundles[takers[0].number]) >= _BUNDLE:
            self.hand_over()

    def hand_over(self) -> None:
        """Give the lanes the small files that were kept for them."""
        for number, files in self._bundles.items():
            self._lanes[number].small(files)
        self._bundles, self._bundled = {}, 0

    def enter(self) -> None:
        """Bring the ledger in step with what the lanes have put in place since the last time."""
        self._entered = time.monotonic()
        fresh = {number: lane.take_results() for number, lane in self._lanes.items()}
        if not any(fresh.values()):
            return
        with self._run.library.ledger.changing() as db:
            for member in self._run.members:
                outcome = self._run.outcomes[member.number]
                results = fresh.get(member.number, [])
                self._work.done([self._numbers.pop((member.number, one.item.file)) for one in results], member)
                for copied in results:
                    self._enter_one(outcome, copied)
                    if not copied.trouble:
                        enter_copy(db, member.number, copied.item.file, copied.read_at, copied.grade)
            settle(db)

    def _enter_one(self, outcome: Outcome, copied: Copied) -> None:
        item = copied.item
        if copied.trouble:
            outcome.failed.append((item, copied.trouble))
        else:
            outcome.copied += Amount(int(item.frames), 1, item.bytes)
            outcome.unproven += copied.grade != "medium"


def from_library(library: Library) -> Callable[[Item], Iterable[Source]]:
    """Backups read the library and nothing else."""
    return lambda item: [Source(LIBRARY, "library", str(source_of(library, item.path)))]


def from_anywhere(library: Library, depots: Sequence[Depot], target: int) -> Callable[[Item], Iterable[Source]]:
    """Mending reads the library, or any depot within reach but `target` whose copy was good when last looked at."""
    numbers = {number_of(library, depot): depot for depot in depots}

    def sources(item: Item) -> Iterator[Source]:
        bad = library.db.execute("SELECT 1 FROM copies WHERE depot = 0 AND file = ?", (item.file,)).fetchone()
        if bad is None and target != LIBRARY:
            yield Source(LIBRARY, "library", str(source_of(library, item.path)))
        for number, depot in numbers.items():
            row = library.db.execute(
                "SELECT coalesce(path, ?) AS path FROM copies WHERE depot = ? AND file = ? AND sha256 IS NULL"
                " AND state IN ('proven', 'cached', 'written')",
                (item.path, number, item.file),
            ).fetchone()
            if row is not None and number != target:
                yield Source(number, f"depot {depot.name}", str(depot.data / row["path"]))

    return sources
