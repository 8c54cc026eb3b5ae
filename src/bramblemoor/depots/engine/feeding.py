"""Feeding lanes: each file is read and hashed once, and handed to all lanes that take it at the same time."""

import hashlib
import os
import time
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from io import RawIOBase
from itertools import islice

import msgspec

from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.engine.lane import Lanes
from bramblemoor.depots.engine.sources import Source
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import PIECE, Pace, Progress, Stage

HASHERS = 2
_BUNDLE = 64  # small files that are handed over together
_CHANGED = Trouble("damaged")
_AHEAD = 32  # files that are opened before their turn
_NEXT = 6  # files that may be read before their turn
_MOST_AHEAD = 16 << 20  # a larger file is read when it is its turn
_OFTEN = 2.0  # seconds between two transactions of the ledger
_PATIENCE = 2.0  # seconds that a depot's buffer may be full while another one idles, before it is passed over


@dataclass
class _Bundle:
    """Small files in one slot, for the same lanes; `files` says where each begins."""

    slot: int
    view: memoryview
    takers: list[int]
    files: list[tuple[Item, int]] = field(default_factory=list)
    filled: int = 0


@dataclass
class _Opened:
    """A source that was opened before its turn; what is read of it by then lies in `slots` (`job` gives its digest)."""

    file: RawIOBase
    slots: list[int] = field(default_factory=list)
    job: Future[tuple[int, str]] | None = None


@dataclass(frozen=True)
class Feed:
    """One file of the work: the work's number for it, the file, and the keys of the lanes that are to have it."""

    n: int
    item: Item
    takers: list[int]


class Feeder(ABC):
    """Reads files and hands them to lanes.

    Files of a middling size are read and hashed before their turn, two at a time: one processor hashes more slowly than two
    drives write. Of an item without a digest, what is read becomes its digest.
    """

    passes_over = True
    """Whether a lane that keeps another one waiting is passed over, and served behind the others."""

    def __init__(
        self, lanes: Lanes, hashers: ThreadPoolExecutor, *, pace: Pace, progress: Progress, stage: Stage, whole: int
    ) -> None:
        """`whole` is how many bytes there are to read."""
        self.pace = pace
        self.lanes = lanes.by_key
        self._shared = lanes
        self._progress, self._stage, self._whole, self._done = progress, stage, whole, 0
        self._bundle: _Bundle | None = None
        self._opened: dict[tuple[int, str], _Opened] = {}  # sources of the next files, by place and path
        self._hashers = hashers
        self._entered = time.monotonic()
        self._lagging: dict[int, float] = {}  # lane to the moment since when it keeps another one waiting
        self._numbers: dict[tuple[int, int], int] = {}  # (lane, file) to the number of the work that is under way

    @abstractmethod
    def work(self) -> Iterator[Feed]:
        """What is to be done, in order."""

    @abstractmethod
    def sources(self, item: Item) -> Iterable[Source]:
        """Where a file may be read, the best first."""

    @abstractmethod
    def for_lane(self, item: Item, number: int) -> Item:
        """The item as a lane's writer is told of it."""

    @abstractmethod
    def has_failed(self, item: Item, source: Source, trouble: Trouble) -> None:
        """A source did not give what it should; the next one is tried."""

    @abstractmethod
    def cannot_have(self, feed: Feed, takers: Sequence[int], trouble: Trouble) -> None:
        """No source gave a file."""

    @abstractmethod
    def enter(self) -> None:
        """Bring the ledger in step with what the lanes have put in place since the last time."""

    def one_pass(self) -> bool:
        """Go through the work once; says whether something was passed over and has to be gone through again."""
        try:
            return self._go_through()
        finally:
            while self._opened:
                self._drop(self._opened.popitem()[1])

    def _go_through(self) -> bool:
        passed_over = False
        for feed, first in self._ahead():
            if self.pace.stopped or all(lane.failure for lane in self.lanes.values()):
                return False
            alive = [number for number in feed.takers if self._may_take(number, feed.item)]
            takers = self._who_takes(alive) if self.passes_over else alive
            passed_over = passed_over or len(takers) < len(alive)
            if takers:
                self._feed(feed, takers, first)
                if len(takers) == len(alive):
                    self._done += feed.item.bytes
                self._progress(self._stage, self._done, self._whole)
            if time.monotonic() - self._entered > _OFTEN:
                self._entered = time.monotonic()
                self.enter()
        return passed_over

    def _may_take(self, number: int, item: Item) -> bool:
        """Whether a lane's drive works, and the file is not on its way there already."""
        return self.lanes[number].failure is None and (number, item.file) not in self._numbers

    def arrived(self, number: int, item: Item) -> int:
        """A file is on its way to a lane no more; returns the work's number for it."""
        return self._numbers.pop((number, item.file))

    def _ahead(self) -> Iterator[tuple[Feed, Source | None]]:
        """The work; of the next files the system is asked to read the beginnings: small ones take longest to find."""
        coming: deque[tuple[Feed, Source | None]] = deque()
        larger = 0  # of those that are coming, for most libraries have many more small files
        for feed in self.work():
            source = next(iter(self.sources(feed.item)), None)
            coming.append((feed, source))
            larger += feed.item.bytes >= PIECE
            if source is not None and source.key not in self._opened and hasattr(os, "posix_fadvise"):
                with suppress(OSError):  # told when its turn comes; what is no file of the system's has no number
                    opened = self._opened[source.key] = _Opened(source.open())
                    os.posix_fadvise(opened.file.fileno(), 0, PIECE, os.POSIX_FADV_WILLNEED)
            if len(coming) > _AHEAD:
                if larger:
                    self._read_next(coming)
                    larger -= coming[0][0].item.bytes >= PIECE
                yield coming.popleft()
        while coming:
            self._read_next(coming)
            yield coming.popleft()

    def _read_next(self, coming: Iterable[tuple[Feed, Source | None]]) -> None:
        """Let the next files be read whole, as far as there is room for them, each with one byte more than there should be."""
        for feed, source in islice(coming, _NEXT):
            opened = self._opened.get(source.key) if source is not None else None
            if opened is not None and opened.job is None and PIECE <= feed.item.bytes <= _MOST_AHEAD:
                opened.slots = self._shared.take_ahead(feed.item.bytes // PIECE + 1)
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
        with _read_from(opened.file):
            pass

    def _who_takes(self, takers: list[int]) -> list[int]:
        """All, but for those that have long kept another one waiting."""
        if len(takers) < 2 or not any(self.lanes[number].idles for number in takers):
            self._lagging.clear()
            return takers
        now, willing = time.monotonic(), []
        for number in takers:
            if not self.lanes[number].lags:
                self._lagging.pop(number, None)
            if now - self._lagging.setdefault(number, now) < _PATIENCE:
                willing.append(number)
        return willing or takers

    def _feed(self, feed: Feed, takers: list[int], first: Source | None) -> None:
        tried: set[tuple[int, str]] = set()
        trouble = Trouble("nowhere")
        for source in self._candidates(feed.item, first):
            if source.key in tried:
                continue
            tried.add(source.key)
            found = self._read(feed, source, takers)
            if found is None:
                return
            trouble = found
            self.has_failed(feed.item, source, trouble)
        self.cannot_have(feed, takers, trouble)

    def _candidates(self, item: Item, first: Source | None) -> Iterator[Source]:
        """Where to read a file from; the others are asked for only where the first does not do."""
        if first is not None:
            yield first
        yield from self.sources(item)

    def _read(self, feed: Feed, source: Source, takers: list[int]) -> Trouble | None:
        """Read a file from one source into the lanes; says what was wrong with it, None where nothing was."""
        try:
            opened = self._opened.pop(source.key, None) or _Opened(source.open())
            with _read_from(opened.file) as file:
                if opened.job is not None:
                    trouble = self._take_ready(feed, opened, takers)
                elif feed.item.bytes < PIECE:
                    trouble = self._read_small(feed, file, takers)
                else:
                    trouble = self._read_large(feed, file, takers)
                return replace(trouble, place=f"the {source.name}") if trouble is not None else None
        except FileNotFoundError:
            return Trouble("missing", f"the {source.name}")
        except OSError as error:
            return Trouble("unreadable", f"the {source.name}", error.strerror or "")

    def _proven(self, item: Item, count: int, digest: str) -> Item | None:
        """The item with its digest; None where something else was read than it should be."""
        if count != item.bytes or item.sha256 not in ("", digest):
            return None
        return item if item.sha256 else msgspec.structs.replace(item, sha256=digest)

    def _begin(self, feed: Feed, takers: list[int]) -> None:
        """A file is on its way."""
        for number in takers:
            self._numbers[number, feed.item.file] = feed.n

    def _read_small(self, feed: Feed, file: RawIOBase, takers: list[int]) -> Trouble | None:
        """Keep a small file in a slot with others, until there are enough of them to hand over."""
        bundle, size = self._bundle, feed.item.bytes
        if bundle is not None and (bundle.takers != takers or bundle.filled + size >= PIECE):
            self.hand_over()
            bundle = None
        if bundle is None:
            slot = self._shared.take([self.lanes[number] for number in takers])
            self._bundle = bundle = _Bundle(slot, self._shared.slots.view(slot), takers)
        content = bundle.view[bundle.filled :]
        count = _fill(file, content[: size + 1])  # one byte more than there should be
        self.pace.wait(count)
        item = self._proven(feed.item, count, hashlib.sha256(content[:count]).hexdigest())
        if item is None:
            return _CHANGED
        self._begin(feed, takers)
        bundle.files.append((item, bundle.filled))
        bundle.filled += count
        if len(bundle.files) >= _BUNDLE:
            self.hand_over()
        return None

    def _take_ready(self, feed: Feed, opened: _Opened, takers: list[int]) -> Trouble | None:
        """Hand a file over that was read before its turn."""
        assert opened.job is not None
        try:
            count, digest = opened.job.result()
        except OSError:
            self._shared.give_up_ahead(opened.slots)
            raise
        item = self._proven(feed.item, count, digest)
        if item is None:
            self._shared.give_up_ahead(opened.slots)
            return _CHANGED
        self.hand_over()
        lanes = [self.lanes[number] for number in takers]
        self._begin(feed, takers)
        for number, lane in zip(takers, lanes, strict=True):
            lane.begin(self.for_lane(item, number))
        for number, slot in enumerate(opened.slots):
            length = min(PIECE, count - number * PIECE)
            self._shared.pass_on_ahead(slot, lanes if length > 0 else [])
            for lane in lanes if length > 0 else ():
                lane.piece(slot, length)
            self.pace.wait(max(0, length))
        for lane in lanes:
            lane.end(item.sha256)
        return None

    def _read_large(self, feed: Feed, file: RawIOBase, takers: list[int]) -> Trouble | None:
        self.hand_over()
        lanes = [self.lanes[number] for number in takers]
        digest, slots, whole = hashlib.sha256(), self._shared.slots, 0
        trouble: Trouble | None = None
        self._begin(feed, takers)
        for number, lane in zip(takers, lanes, strict=True):
            lane.begin(self.for_lane(feed.item, number))
        while not self.pace.stopped:
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
            whole += count
            self.pace.wait(count)
        stopped = self.pace.stopped and not trouble
        if not trouble and not stopped and self._proven(feed.item, whole, digest.hexdigest()) is None:
            trouble = _CHANGED
        for number, lane in zip(takers, lanes, strict=True):
            if trouble or stopped:
                lane.abandon()
                self._numbers.pop((number, feed.item.file), None)
            else:
                lane.end(digest.hexdigest())
        return trouble

    def hand_over(self) -> None:
        """Give the lanes the small files that were kept for them."""
        bundle, self._bundle = self._bundle, None
        if bundle is None:
            return
        self._shared.slots.pass_on(bundle.slot, len(bundle.takers) if bundle.files else 0)
        for number in bundle.takers if bundle.files else ():
            files = [(self.for_lane(item, number), start) for item, start in bundle.files]
            self.lanes[number].small(bundle.slot, files)


@contextmanager
def _read_from(file: RawIOBase) -> Iterator[RawIOBase]:
    """A file that is closed afterwards. On a drive that was pulled that fails, too: what was read of it is no worse for it."""
    try:
        yield file
    finally:
        with suppress(OSError):
            file.close()


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
