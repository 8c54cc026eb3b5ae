"""What every run has in common: how it tells how far it is, and how it is slowed down or stopped."""

import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple, TypeVar

Thing = TypeVar("Thing")
Outcome = TypeVar("Outcome")

PIECE = 1 << 20
"""Bytes that are read, hashed or handed on at once."""
_NAP = 0.3  # seconds; a signal does not end a longer sleep


class Stage(NamedTuple):
    """A part of a run whose progress can be told; it counts `things` ("files"), or bytes where that is ""."""

    name: str
    things: str = ""


def portions(
    things: Iterable[Thing], most: int, most_bytes: int = 0, size: Callable[[Thing], int] = lambda thing: 0
) -> Iterator[list[Thing]]:
    """Things in portions of at most so many, and of at most about so many bytes where their sizes are told."""
    portion: list[Thing] = []
    filled = 0
    for thing in things:
        portion.append(thing)
        filled += size(thing)
        if len(portion) == most or filled > most_bytes > 0:
            yield portion
            portion, filled = [], 0
    if portion:
        yield portion


Progress = Callable[[Stage, int, int], None]
"""Told as often as one likes: the stage, how much is done, and how much there is in all (0 where that is not known)."""


def silent(stage: Stage, done: int, whole: int) -> None:
    """Progress that is told to nobody."""


class Meter:
    """Tells the progress of a stage by what comes and, where something has to come once more, goes."""

    def __init__(self, progress: Progress, stage: Stage, whole: int) -> None:
        self._progress, self._stage, self._whole, self._done = progress, stage, whole, 0

    def add(self, count: int) -> None:
        self._done += count
        self._progress(self._stage, self._done, self._whole)


def several(
    do: Callable[[Thing], Outcome],
    things: Iterable[Thing],
    at_once: int,
    is_stopped: Callable[[], bool],
    look: float = 2.0,
) -> Iterator[list[tuple[Thing, Outcome]]]:
    """Do several things at once, in threads, and yield what comes of them, a list whenever some have ended or `look` seconds have
    passed. Once `is_stopped`, none is begun any more. Where one fails, those that are under way end first; then its error is
    raised.
    """
    from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait  # not for every command's start

    waiting, failed = iter(things), None
    with ThreadPoolExecutor(at_once) as pool:
        under_way: dict[Future[Outcome], Thing] = {}
        while True:
            if failed is None and not is_stopped():
                under_way |= {pool.submit(do, thing): thing for thing in islice(waiting, 2 * at_once - len(under_way))}
            else:
                for future in under_way:
                    future.cancel()
            if not under_way:
                break
            done, _ = wait(under_way, timeout=look, return_when=FIRST_COMPLETED)
            came = []
            for future in done:
                thing = under_way.pop(future)
                if future.cancelled():
                    continue
                if (error := future.exception()) is not None:
                    failed = failed or error
                else:
                    came.append((thing, future.result()))
            yield came
    if failed is not None:
        raise failed


@dataclass
class Pace:
    """How fast to read, and whether to stop. `limit` is in bytes a second, 0 for as fast as it goes."""

    limit: int = 0
    stopped: bool = False
    _began: float = field(default_factory=time.monotonic)
    _passed: int = 0

    def wait(self, count: int) -> None:
        """Called for every piece of `count` bytes: sleeps where the limit is passed."""
        if self.limit:
            self._passed += count
            while not self.stopped and (ahead := self._passed / self.limit - (time.monotonic() - self._began)) > 0:
                time.sleep(min(ahead, _NAP))
