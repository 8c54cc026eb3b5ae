"""Passing files on: from the card, in one reading, to the library's landing and to the depots that get a second copy."""

import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from io import FileIO
from pathlib import Path

from bramblemoor.depots.engine.copying import Outcome
from bramblemoor.depots.engine.feeding import Feed, Feeder
from bramblemoor.depots.engine.items import Copied, Item
from bramblemoor.depots.engine.lane import Lanes
from bramblemoor.depots.engine.sources import Source
from bramblemoor.intake.entering import Arrived, Came, is_frame, landing_path
from bramblemoor.intake.interface import Plan, PlannedFile, PlannedFrame
from bramblemoor.library.copies import LIBRARY
from bramblemoor.library.receipts import Amount
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Pace, Progress, Stage

_CARD = -1
"""The card, among the places that files are read from."""


@dataclass
class State:
    """How far an intake is: by the file's number in the plan, what has landed, what failed and why, and what is entered.

    `held` are the copies at depots of which the ledger does not know yet, as their files are not entered.
    """

    plan: Plan
    files: list[tuple[int, PlannedFrame, PlannedFile]] = field(default_factory=list)
    landed: dict[int, Came] = field(default_factory=dict)
    failed: dict[int, str] = field(default_factory=dict)
    entered: dict[int, int] = field(default_factory=dict)
    """The ledger's number of each file; 0 of one that has none, as a sidecar."""
    held: dict[int, list[tuple[int, Copied]]] = field(default_factory=dict)
    done: set[int] = field(default_factory=set)
    """Frames that are in the library, by their number in the plan."""

    def __post_init__(self) -> None:
        numbers: dict[int, list[int]] = {}
        for number, frame in enumerate(self.plan.frames):
            for file in frame.files:
                numbers.setdefault(number, []).append(len(self.files))
                self.files.append((number, frame, file))
        self._of_frame = numbers

    def files_of(self, frame: int) -> list[int]:
        return self._of_frame[frame]

    def ready(self) -> list[Arrived]:
        """Frames of which all has landed that can, and that are not entered."""
        found = []
        touched = {self.files[number][0] for number in (*self.landed, *self.failed)} - self.done
        for frame in sorted(touched):
            numbers = self.files_of(frame)
            if all(number in self.landed or number in self.failed for number in numbers):
                came = [self.landed[number] for number in numbers if number in self.landed]
                planned = self.plan.frames[frame]
                if is_frame(came) or (came and (planned.joins or not planned.amount.frames)):
                    found.append(Arrived(frame, self.plan.frames[frame], came))
        return found


class PassOn(Feeder):
    """Feeds the landing and the depots with what is not in the library yet."""

    passes_over = False  # a card is read once

    def __init__(
        self, state: State, lanes: Lanes, hashers: ThreadPoolExecutor, *, root: Path, depots: Mapping[int, "set[str]"],
        pace: Pace, progress: Progress, outcomes: Mapping[int, Outcome], enter: Callable[[], None],
    ) -> None:  # fmt: skip
        """`depots` are the numbers of depots, and the paths that each has already; `outcomes` tell what came of copies there;
        `enter` brings the ledger in step.
        """
        whole = sum(file.bytes for number, _, file in self._open(state))
        super().__init__(lanes, hashers, pace=pace, progress=progress, stage=Stage("taking in"), whole=whole)
        self.state, self.root, self._depots, self._enter = state, root, depots, enter
        self._outcomes = outcomes
        self._device = _device(root)
        self.pulled = False

    @staticmethod
    def _open(state: State) -> Iterator[tuple[int, PlannedFrame, PlannedFile]]:
        for number, (frame, planned, file) in enumerate(state.files):
            if frame not in state.done and number not in state.landed and number not in state.failed:
                yield number, planned, file

    def work(self) -> Iterator[Feed]:
        for number, frame, file in self._open(self.state):
            path = landing_path(file)
            takers = [LIBRARY]
            if file.role != "sidecar":
                takers += [depot for depot, has in self._depots.items() if path not in has]
            item = Item(number, path, file.bytes, file.sha256, frame.mtime_ns, frames=int(file.role == "original"))
            yield Feed(number, item, takers)

    def sources(self, item: Item) -> Iterable[Source]:
        lies = self.root / self.state.files[item.file][2].source
        return [Source(_CARD, "card", str(lies), partial(FileIO, lies))]

    def for_lane(self, item: Item, number: int) -> Item:
        return item

    def has_failed(self, item: Item, source: Source, trouble: Trouble) -> None:
        if _device(self.root) != self._device:
            self.pulled = True
            self.pace.stopped = True

    def cannot_have(self, feed: Feed, takers: Sequence[int], trouble: Trouble) -> None:
        if not self.pulled:
            self.state.failed[feed.n] = trouble.said()

    def enter(self) -> None:
        state = self.state
        for number, lane in self.lanes.items():
            for one in lane.take_results():
                self.arrived(number, one.item)
                file = one.item.file
                if number != LIBRARY and one.trouble:
                    self._outcomes[number].failed.append((one.item, one.trouble))
                elif number != LIBRARY:
                    state.held.setdefault(file, []).append((number, one))
                    self._outcomes[number].copied += Amount(one.item.frames, 1, one.item.bytes)
                    self._outcomes[number].unproven += one.grade != "medium"
                elif one.trouble:
                    state.failed[file] = one.trouble
                else:
                    state.landed[file] = Came(file, state.files[file][2], one.item.sha256)
        if self.lanes[LIBRARY].failure is not None:
            self.pace.stopped = True
        self._enter()


def _device(root: Path) -> int | None:
    """The device that a folder lies on, None if it answers to nothing: of a card that was pulled the empty folder may be left."""
    try:
        with os.scandir(root) as entries:
            next(entries, None)
        return root.stat().st_dev
    except OSError:
        return None
