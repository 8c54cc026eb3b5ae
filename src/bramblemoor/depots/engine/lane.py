"""Lanes: the writing processes of a run's depots, and the buffer that they share, so that a slow depot holds nobody up before
its part of it is full."""

import os
import subprocess
import sys
import threading
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import BinaryIO, cast

import msgspec

from bramblemoor.depots.bag.placing import Placing
from bramblemoor.depots.engine import messages
from bramblemoor.depots.engine.items import Copied, Item
from bramblemoor.depots.engine.messages import Task
from bramblemoor.depots.engine.slots import Slots
from bramblemoor.running import PIECE

BUFFER = 120 << 20
"""Bytes that all lanes of a run may hold together."""
_LEAST = 6  # slots of one lane
_AHEAD = 40  # further slots, for files that are read before their turn


class Lane:
    """The way to one depot's writing process.

    What goes wrong with one file is told of that file. Errors of the whole drive end the lane, not the run: `failure` then
    says what happened, and later files are passed over.
    """

    def __init__(self, journal: Placing, slots: Slots, share: int) -> None:
        self.failure: OSError | None = None
        self._slots, self._share, self._most_held = slots, share, share // 2
        self._held: set[int] = set()  # slots that it has not given back
        self._results: deque[Copied] = deque()  # filled by one thread, emptied by another
        self._under_way: dict[int, Item] = {}
        self._next = 0
        self._process = _start()
        store = journal.store
        self._send(messages.Setup(
            store.where, store.seen, journal.run, (type(store).__module__, type(store).__qualname__),
            store.options, slots.path, self._most_held, journal.seeks, os.getpid(),
        ))  # fmt: skip
        self._listener = threading.Thread(target=self._listen, daemon=True)
        self._listener.start()

    def small(self, slot: int, files: Sequence[tuple[Item, int]]) -> None:
        """Some small files that lie in one slot, and where in it each begins."""
        self._hold(slot)
        self._send(messages.Small(slot, [(self._task(item), start) for item, start in files]))

    def begin(self, item: Item) -> None:
        self._send(messages.Begin(self._task(item)))

    def piece(self, slot: int, length: int) -> None:
        self._hold(slot)
        self._send(messages.Piece(slot, length))

    def end(self, sha256: str) -> None:
        """The file is whole; `sha256` is its digest, which may not have been known when it began."""
        if (item := self._under_way.get(self._next)) is not None:
            self._under_way[self._next] = msgspec.structs.replace(item, sha256=sha256)
        self._send(messages.End(sha256))

    def abandon(self) -> None:
        """What came of the present file is worthless: the source was not what it should be."""
        self._send(messages.End("", worthless=True))

    def finish(self) -> None:
        """Read back and put in place what is still held; returns when all is done."""
        self._send(messages.Finish())
        self._end()

    def leave(self) -> None:
        """End at once, whatever is under way: the next run goes on from the journal."""
        self._process.kill()
        self._end()

    def _end(self) -> None:
        self._listener.join()
        self._process.wait()
        for pipe in (self._process.stdin, self._process.stdout):
            with suppress(OSError):
                cast(BinaryIO, pipe).close()

    @property
    def lags(self) -> bool:
        """Whether its part of the buffer is full."""
        return len(self._held) >= self._share

    @property
    def idles(self) -> bool:
        """Whether it has no more to do than wait for a batch to become full."""
        return len(self._held) <= self._most_held

    def take_results(self) -> list[Copied]:
        """What came of files since the last time."""
        results = []
        while self._results:
            results.append(self._results.popleft())
        return results

    def _task(self, item: Item) -> Task:
        self._next += 1
        self._under_way[self._next] = item
        return Task(self._next, item.path, item.bytes, item.sha256, item.mtime_ns, item.why, item.mends)

    def _hold(self, slot: int) -> None:
        with self._slots.changed:
            if self.failure is None:
                self._held.add(slot)
            else:
                self._slots.give_back([slot])

    def _send(self, message: messages.Told) -> None:
        # Where the process is gone, its listener tells.
        if self.failure is None or isinstance(message, messages.Finish):
            with suppress(OSError):
                messages.send(cast(BinaryIO, self._process.stdin), message)

    def _listen(self) -> None:
        finished = False
        try:
            for answer in messages.answers(cast(BinaryIO, self._process.stdout)):
                match answer:
                    case messages.Freed(slots):
                        self._give_back(slots)
                    case messages.Came(read_at, files):
                        for number, grade, trouble in files:
                            self._results.append(Copied(self._under_way.pop(number), read_at, grade, trouble))
                    case messages.Failed(number, reason):
                        self._fail(OSError(number or 0, reason))
                    case messages.Finished():
                        finished = True
        finally:  # whatever ended it: nobody may wait for slots that never come back
            if not finished:
                self._fail(OSError(0, "its writing process was ended"))

    def _give_back(self, slots: Sequence[int]) -> None:
        with self._slots.changed:
            mine = self._held.intersection(slots)
            self._held -= mine
            self._slots.give_back(mine)

    def _fail(self, failure: OSError) -> None:
        with self._slots.changed:
            self.failure = self.failure or failure
        self._give_back(list(self._held))


def _start() -> subprocess.Popen[bytes]:
    """A writing process, in a process group of its own: Ctrl-C is for the run, which lets its writers end in good order."""
    command = [sys.executable, "-P", "-m", "bramblemoor.depots.engine.writer"]
    pipe = subprocess.PIPE
    if sys.platform == "win32":
        return subprocess.Popen(command, stdin=pipe, stdout=pipe, creationflags=subprocess.CREATE_NEW_PROCESS_GROUP)
    return subprocess.Popen(command, stdin=pipe, stdout=pipe, process_group=0)


class Lanes:
    """All lanes of a run, by the key that the caller has for them. Use `open_lanes`."""

    def __init__(self, journals: Mapping[int, Placing]) -> None:
        share = max(_LEAST, BUFFER // PIECE // max(1, len(journals)))
        # Two more: one that is being filled with small files, and one with a large one's next piece.
        self.slots = Slots(share * len(journals) + 2 + _AHEAD)
        self._ahead = _AHEAD
        self.by_key = {key: Lane(journal, self.slots, share) for key, journal in journals.items()}

    def take(self, takers: Sequence[Lane]) -> int:
        """A slot to fill, once each of the takers has room for it."""
        with self.slots.changed:
            while True:
                if not any(lane.lags for lane in takers):
                    slot = self.slots.take()
                    if slot is not None:
                        return slot
                self.slots.changed.wait()

    def take_ahead(self, count: int) -> list[int]:
        """Slots for a file whose turn has not come; none where there is no room for it now."""
        with self.slots.changed:
            if count > self._ahead:
                return []
            self._ahead -= count
            slots = [self.slots.take() for _ in range(count)]
            assert None not in slots, "slots are set apart for this"
            return cast(list[int], slots)

    def give_up_ahead(self, slots: Sequence[int]) -> None:
        for slot in slots:
            self.pass_on_ahead(slot, ())

    def pass_on_ahead(self, slot: int, takers: Sequence[Lane]) -> None:
        """Pass on a slot that was taken ahead, once each of the takers has room for it."""
        with self.slots.changed:
            while any(lane.lags for lane in takers):
                self.slots.changed.wait()
            self._ahead += 1
            self.slots.pass_on(slot, len(takers))


@contextmanager
def open_lanes(journals: Mapping[int, Placing]) -> Iterator[Lanes]:
    """Lanes for some journals; when it closes, all that was fed to them is proven and in place.

    An interruption ends them at once.
    """
    lanes = Lanes(journals)
    try:
        yield lanes
        for lane in lanes.by_key.values():
            lane.finish()
    except BaseException:
        for lane in lanes.by_key.values():
            lane.leave()
        raise
    finally:
        lanes.slots.close()
        for journal in journals.values():
            journal.look_again()
