"""The copy engine: each file is read once and written to all depots that need it at the same time."""

import hashlib
import os
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field, replace
from io import RawIOBase
from itertools import islice

from bramblemoor.depots.bag.journal import Journal
from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.engine.lane import Lanes, open_lanes
from bramblemoor.depots.engine.sources import Source
from bramblemoor.depots.engine.work import Member, Work
from bramblemoor.depots.register.register import expect_line, require_room_there
from bramblemoor.depots.standing.tally import settle_apart
from bramblemoor.errors import NotPossible
from bramblemoor.library import copies
from bramblemoor.library.home import Library
from bramblemoor.library.lineage import latest
from bramblemoor.library.receipts import NOTHING, Amount, Finding
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import PIECE, Pace, Progress, Stage

_SLACK = 1 << 20
_BUNDLE = 64  # small files that are handed over together
_CHANGED = Trouble("damaged")
_AHEAD = 32  # files that are opened before their turn
_HASHERS = 2
_NEXT = 6  # files that may be read before their turn
_MOST_AHEAD = 16 << 20  # a larger file is read when it is its turn
_OFTEN = 2.0  # seconds between two transactions of the ledger
_PATIENCE = 2.0  # seconds that a depot's buffer may be full while another one idles, before it is passed over


@dataclass
class Outcome:
    """What a run did at one depot. `left` is what it did not come to: it was stopped, or (`failure`) the drive failed."""

    copied: Amount = NOTHING
    unproven: int = 0
    failed: list[tuple[Item, str]] = field(default_factory=list)
    left: Amount = NOTHING
    failure: OSError | None = None

    @property
    def why_left(self) -> str:
        if self.failure is not None:
            return f"the drive failed ({self.failure.strerror or self.failure})"
        return "stopped before their turn"


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
            expect_line(self.library, member.depot, self.name)
            self.journals[member.number] = Journal(member.depot, self.name, latest(self.library))
        return self.journals[member.number]

    def require_room(self, work: Work) -> None:
        """Raises NotPossible where a depot has too little room for what it lacks."""
        for member in self.members:
            needed = work.left(member).bytes
            if needed:
                what = f"Copying to the depot {member.depot.name}"
                require_room_there(member.depot, needed + _SLACK, what)

    def lacks_room(self, work: Work, member: Member) -> str:
        """Why a depot cannot take what it lacks, with the figures; "" where it can."""
        needed = work.left(member).bytes
        if not needed:
            return ""
        what = f"Copying to the depot {member.depot.name}"
        try:
            require_room_there(member.depot, needed + _SLACK, what)
        except NotPossible as trouble:
            return f"{trouble.happened} It was passed over: {trouble.remedy}"
        return ""

    def copy(self, work: Work, sources: Callable[[Item], Iterable[Source]]) -> None:
        """Copy what the depots lack, and enter each copy in the ledger once it was read back.

        A source whose content is not what the ledger says is a finding, and the next one is tried. A depot that keeps the
        others waiting is passed over, and served by itself behind them. Where the pace is stopped, the run ends in good order.
        """
        began = time.monotonic()
        self.outcomes |= {member.number: Outcome() for member in self.members if member.number not in self.outcomes}
        for member in self.members:
            self.outcomes[member.number].failed += work.twins.get(member.number, [])
        wanting = [member for member in self.members if work.left(member).files]
        journals = {member.number: self.journal(member) for member in wanting}
        with open_lanes(journals) as lanes, ThreadPoolExecutor(_HASHERS) as hashers:
            feeder = _Feeder(self, work, lanes, hashers, sources)
            while feeder.one_pass() and not self.pace.stopped:
                pass
            feeder.hand_over()
        feeder.enter()
        settle_apart(self.library)  # once: a frame's copies at several depots are seldom entered together
        for member in wanting:
            outcome = self.outcomes[member.number]
            outcome.failure = lanes.by_key[member.number].failure
            outcome.left = work.left(member)
        self.seconds = time.monotonic() - began


@dataclass
class _Bundle:
    """Small files in one slot, for the same depots; `files` says where each begins."""

    slot: int
    view: memoryview
    takers: list[Member]
    files: list[tuple[Item, int]] = field(default_factory=list)
    filled: int = 0

    @property
    def numbers(self) -> list[int]:
        return [member.number for member in self.takers]


@dataclass
class _Opened:
    """A source that was opened before its turn; what is read of it by then lies in `slots` (`job` gives its digest)."""

    file: RawIOBase
    slots: list[int] = field(default_factory=list)
    job: Future[tuple[int, str]] | None = None


class _Feeder:
    """Reads files and hands them to lanes.

    Files of a middling size are read and hashed before their turn, two at a time: one processor hashes more slowly than two
    drives write.
    """

    def __init__(
        self, run: CopyRun, work: Work, lanes: Lanes, hashers: ThreadPoolExecutor,
        sources: Callable[[Item], Iterable[Source]],
    ) -> None:  # fmt: skip
        self._run, self._work, self._sources = run, work, sources
        self._shared, self._lanes = lanes, lanes.by_key
        self._total, self._done = work.whole().bytes, 0
        self._bundle: _Bundle | None = None
        self._opened: dict[tuple[int, str], _Opened] = {}  # sources of the next files, by place and path
        self._hashers = hashers
        self._entered = time.monotonic()
        self._lagging: dict[int, float] = {}  # depot to the moment since when it keeps another one waiting
        self._numbers: dict[tuple[int, int], int] = {}  # (depot, file) to the number of the work that is under way

    def one_pass(self) -> bool:
        """Go through the work once; says whether something was passed over and has to be gone through again."""
        try:
            return self._go_through()
        finally:
            while self._opened:
                self._drop(self._opened.popitem()[1])

    def _go_through(self) -> bool:
        passed_over = False
        for n, item, members, first in self._ahead():
            if self._run.pace.stopped or all(lane.failure for lane in self._lanes.values()):
                return False
            alive = [member for member in members if self._may_take(member, item)]
            takers = self._who_takes(alive)
            passed_over = passed_over or len(takers) < len(alive)
            if takers:
                self._feed(n, item, takers, first)
                if len(takers) == len(alive):
                    self._done += item.bytes
                self._run.progress(Stage("copying"), self._done, self._total)
            if time.monotonic() - self._entered > _OFTEN:
                self.enter()
        return passed_over

    def _may_take(self, member: Member, item: Item) -> bool:
        """Whether a depot's drive works, and the file is not on its way there already."""
        return self._lanes[member.number].failure is None and (member.number, item.file) not in self._numbers

    def _ahead(self) -> Iterator[tuple[int, Item, list[Member], Source | None]]:
        """The work; of the next files the system is asked to read the beginnings: small ones take longest to find."""
        coming: deque[tuple[int, Item, list[Member], Source | None]] = deque()
        larger = 0  # of those that are coming, for most libraries have many more small files
        for n, item, members in self._work.items():
            source = next(iter(self._sources(item)), None)
            coming.append((n, item, members, source))
            larger += item.bytes >= PIECE
            if source is not None and source.key not in self._opened and hasattr(os, "posix_fadvise"):
                with suppress(OSError):  # told when its turn comes; what is no file of the system's has no number
                    opened = self._opened[source.key] = _Opened(source.open())
                    os.posix_fadvise(opened.file.fileno(), 0, PIECE, os.POSIX_FADV_WILLNEED)
            if len(coming) > _AHEAD:
                if larger:
                    self._read_next(coming)
                    larger -= coming[0][1].bytes >= PIECE
                yield coming.popleft()
        while coming:
            self._read_next(coming)
            yield coming.popleft()

    def _read_next(self, coming: Iterable[tuple[int, Item, list[Member], Source | None]]) -> None:
        """Let the next files be read whole, as far as there is room for them, each with one byte more than there should be."""
        for _, item, _, source in islice(coming, _NEXT):
            opened = self._opened.get(source.key) if source is not None else None
            if opened is not None and opened.job is None and PIECE <= item.bytes <= _MOST_AHEAD:
                opened.slots = self._shared.take_ahead(item.bytes // PIECE + 1)
                if not opened.slots:
                    return
                rooms = [self._shared.slots.view(slot) for slot in opened.slots]
                opened.job = self._hashers.submit(_read_whole, opened.file, rooms)

    def _drop(self, opened: _Opened) -> None:
        """Close what was not read after all."""
        if opened.job is not None:
            with suppress(OSError):
                opened.job.result()
            self._shared.give_up_ahead(opened.slots)
        opened.file.close()

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

    def _feed(self, n: int, item: Item, takers: list[Member], first: Source | None) -> None:
        tried: set[tuple[int, str]] = set()
        for source in self._candidates(item, first):
            if source.key in tried:
                continue
            tried.add(source.key)
            trouble = self._read(n, item, source, takers)
            if trouble is None:
                return
            finding = f"{trouble.said()}; it was not copied from there"
            self._run.findings.append(Finding(item.path, finding))
            with self._run.library.ledger.changing() as db:
                copies.mark(db, source.number, item.file, "missing" if trouble.kind == "missing" else "damaged")
        if not tried:
            finding = Trouble("nowhere").said()
            self._run.findings.append(Finding(item.path, finding))
        for member in takers:
            self._run.outcomes[member.number].failed.append((item, finding))
            self._work.done([n], member)

    def _candidates(self, item: Item, first: Source | None) -> Iterator[Source]:
        """Where to read a file from; the others are asked for only where the first does not do."""
        if first is not None:
            yield first
        yield from self._sources(item)

    def _read(self, n: int, item: Item, source: Source, takers: list[Member]) -> Trouble | None:
        """Read a file from one source into the lanes; says what was wrong with it, None where nothing was."""
        try:
            opened = self._opened.pop(source.key, None) or _Opened(source.open())
            with opened.file as file:
                if opened.job is not None:
                    trouble = self._take_ready(n, item, opened, takers)
                elif item.bytes < PIECE:
                    trouble = self._read_small(n, item, file, takers)
                else:
                    trouble = self._read_large(n, item, file, takers)
                return replace(trouble, place=f"the {source.name}") if trouble is not None else None
        except FileNotFoundError:
            return Trouble("missing", f"the {source.name}")
        except OSError as error:
            return Trouble("unreadable", f"the {source.name}", error.strerror or "")

    def _read_small(self, n: int, item: Item, file: RawIOBase, takers: list[Member]) -> Trouble | None:
        """Keep a small file in a slot with others, until there are enough of them to hand over."""
        numbers = [member.number for member in takers]
        bundle = self._bundle
        if bundle is not None and (bundle.numbers != numbers or bundle.filled + item.bytes >= PIECE):
            self.hand_over()
            bundle = None
        if bundle is None:
            slot = self._shared.take([self._lanes[number] for number in numbers])
            self._bundle = bundle = _Bundle(slot, self._shared.slots.view(slot), takers)
        content = bundle.view[bundle.filled :]
        count = _fill(file, content[: item.bytes + 1])  # one byte more than there should be
        self._run.pace.wait(count)
        if count != item.bytes or hashlib.sha256(content[:count]).hexdigest() != item.sha256:
            return _CHANGED
        for member in takers:
            self._numbers[member.number, item.file] = n
        bundle.files.append((item, bundle.filled))
        bundle.filled += count
        if len(bundle.files) >= _BUNDLE:
            self.hand_over()
        return None

    def _take_ready(self, n: int, item: Item, opened: _Opened, takers: list[Member]) -> Trouble | None:
        """Hand a file over that was read before its turn."""
        assert opened.job is not None
        try:
            count, digest = opened.job.result()
        except OSError:
            self._shared.give_up_ahead(opened.slots)
            raise
        if count != item.bytes or digest != item.sha256:
            self._shared.give_up_ahead(opened.slots)
            return _CHANGED
        self.hand_over()
        lanes = [self._lanes[member.number] for member in takers]
        for member, lane in zip(takers, lanes, strict=True):
            self._numbers[member.number, item.file] = n
            lane.begin(self._work.for_depot(item, member))
        for number, slot in enumerate(opened.slots):
            length = min(PIECE, count - number * PIECE)
            self._shared.pass_on_ahead(slot, lanes if length > 0 else [])
            for lane in lanes if length > 0 else ():
                lane.piece(slot, length)
            self._run.pace.wait(max(0, length))
        for lane in lanes:
            lane.end()
        return None

    def _read_large(self, n: int, item: Item, file: RawIOBase, takers: list[Member]) -> Trouble | None:
        self.hand_over()
        lanes = [self._lanes[member.number] for member in takers]
        digest, slots = hashlib.sha256(), self._shared.slots
        trouble: Trouble | None = None
        for member, lane in zip(takers, lanes, strict=True):
            self._numbers[member.number, item.file] = n
            lane.begin(self._work.for_depot(item, member))
        while not self._run.pace.stopped:
            slot = self._shared.take(lanes)
            view = slots.view(slot)
            try:
                count = _fill(file, view)
            except OSError as error:
                count, trouble = 0, Trouble("unreadable", detail=error.strerror or "")
            slots.pass_on(slot, len(lanes) if count else 0)
            if not count:
                break
            for lane in lanes:
                lane.piece(slot, count)
            digest.update(view[:count])
            self._run.pace.wait(count)
        stopped = self._run.pace.stopped and not trouble
        if not trouble and not stopped and digest.hexdigest() != item.sha256:
            trouble = _CHANGED
        for lane in lanes:
            if trouble or stopped:
                lane.abandon()
            else:
                lane.end()
        return trouble

    def hand_over(self) -> None:
        """Give the lanes the small files that were kept for them."""
        bundle, self._bundle = self._bundle, None
        if bundle is None:
            return
        self._shared.slots.pass_on(bundle.slot, len(bundle.takers) if bundle.files else 0)
        for member in bundle.takers if bundle.files else ():
            files = [(self._work.for_depot(item, member), start) for item, start in bundle.files]
            self._lanes[member.number].small(bundle.slot, files)

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
                good = [one for one in results if not one.trouble]
                outcome.failed += [(one.item, one.trouble) for one in results if one.trouble]
                outcome.copied += Amount(
                    sum(one.item.frames for one in good), len(good), sum(one.item.bytes for one in good)
                )
                outcome.unproven += sum(one.grade != "medium" for one in good)
                copies.enter(
                    db, member.number, ((one.item.file, one.read_at, one.grade) for one in good),
                    counts=not self._run.library.clock.in_doubt,
                )  # fmt: skip


def _read_whole(file: RawIOBase, rooms: list[memoryview]) -> tuple[int, str]:
    """Read a file as far as there is room; returns how much came, and its digest."""
    digest, whole = hashlib.sha256(), 0
    for room in rooms:
        count = _fill(file, room)
        digest.update(room[:count])
        whole += count
        if count < len(room):
            break
    return whole, digest.hexdigest()


def _fill(file: RawIOBase, room: memoryview) -> int:
    """Read as much as there is room for; returns how much came."""
    count = 0
    while count < len(room) and (came := file.readinto(room[count:])):
        count += came
    return count
