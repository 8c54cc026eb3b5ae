"""The copy engine: each file is read once and written to all depots that need it at the same time."""

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from bramblemoor.depots.bag.journal import Journal
from bramblemoor.depots.engine.feeding import HASHERS, Feed, Feeder
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
from bramblemoor.running import Pace, Progress, Stage

_SLACK = 1 << 20


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
        with open_lanes(journals) as lanes, ThreadPoolExecutor(HASHERS) as hashers:
            feeder = _CopyFeeder(self, work, lanes, hashers, sources)
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


class _CopyFeeder(Feeder):
    """Feeds what depots lack, and enters each copy in the ledger once it was read back."""

    def __init__(
        self, run: CopyRun, work: Work, lanes: Lanes, hashers: ThreadPoolExecutor,
        sources: Callable[[Item], Iterable[Source]],
    ) -> None:  # fmt: skip
        super().__init__(
            lanes, hashers, pace=run.pace, progress=run.progress, stage=Stage("copying"), whole=work.whole().bytes
        )
        self._run, self._work, self._sources = run, work, sources
        self._members = {member.number: member for member in run.members}

    def work(self) -> Iterator[Feed]:
        for n, item, members in self._work.items():
            yield Feed(n, item, [member.number for member in members])

    def sources(self, item: Item) -> Iterable[Source]:
        return self._sources(item)

    def for_lane(self, item: Item, number: int) -> Item:
        return self._work.for_depot(item, self._members[number])

    def has_failed(self, item: Item, source: Source, trouble: Trouble) -> None:
        self._run.findings.append(Finding(item.path, _not_from_there(trouble)))
        with self._run.library.ledger.changing() as db:
            copies.mark(db, source.number, item.file, "missing" if trouble.kind == "missing" else "damaged")

    def cannot_have(self, feed: Feed, takers: Sequence[int], trouble: Trouble) -> None:
        why = trouble.said()
        if trouble.kind == "nowhere":
            self._run.findings.append(Finding(feed.item.path, why))
        else:
            why = _not_from_there(trouble)
        for number in takers:
            self._run.outcomes[number].failed.append((feed.item, why))
            self._work.done([feed.n], self._members[number])

    def enter(self) -> None:
        fresh = {number: lane.take_results() for number, lane in self.lanes.items()}
        if not any(fresh.values()):
            return
        with self._run.library.ledger.changing() as db:
            for number, results in fresh.items():
                outcome = self._run.outcomes[number]
                self._work.done([self.arrived(number, one.item) for one in results], self._members[number])
                good = [one for one in results if not one.trouble]
                outcome.failed += [(one.item, one.trouble) for one in results if one.trouble]
                outcome.copied += Amount(
                    sum(one.item.frames for one in good), len(good), sum(one.item.bytes for one in good)
                )
                outcome.unproven += sum(one.grade != "medium" for one in good)
                copies.enter(
                    db, number, ((one.item.file, one.read_at, one.grade) for one in good),
                    counts=not self._run.library.clock.in_doubt,
                )  # fmt: skip


def _not_from_there(trouble: Trouble) -> str:
    return f"{trouble.said()}; it was not copied from there"
