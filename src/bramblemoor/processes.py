"""Work that keeps a processor busy, spread over several processes where there is much of it.

A process of Python uses one processor for its own code: what is done for each of very many small files is done twice as fast
in two. What they are given and return is copied between them, so that a job is worth some milliseconds.
"""

import os
import signal
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager
from threading import Thread
from types import FrameType, TracebackType
from typing import TypeVar

from bramblemoor.errors import NotPossible

Job = TypeVar("Job")
Result = TypeVar("Result")
_HELPERS = 2
_FEW = 16  # jobs, from which on processes help
_AHEAD = 3  # jobs that run or wait: what they return is held in memory


class Helpers:
    """Threads of this process, and once there were many jobs processes that help it: starting those takes a third of a second."""

    def __init__(self, *, for_much: bool = False) -> None:
        """`for_much` says that there will be many jobs: then processes help from the first on."""
        self._pool: Executor = _processes() if for_much else ThreadPoolExecutor(_HELPERS)
        self._jobs = _FEW if for_much else 0

    def map(self, work: Callable[[Job], Result], jobs: Iterable[Job]) -> Iterator[Result]:
        """The results of some jobs, in their order; a few are done ahead. `work`, what it is given and returns can be pickled.

        Raises what `work` raises, and NotPossible where a helper was ended by others.
        """
        waiting: deque[Future[Result]] = deque()
        try:
            for job in jobs:
                with _undisturbed():
                    waiting.append(self._hired().submit(work, job))
                if len(waiting) > _AHEAD:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        except BrokenExecutor as error:
            raise NotPossible(
                "A process that helped with this run was ended from outside; the system may be short of memory.",
                "Nothing is lost; give the same command again.",
            ) from error

    def _hired(self) -> Executor:
        self._jobs += 1
        if self._jobs == _FEW:
            self._pool.shutdown(wait=False)
            self._pool = _processes()
        return self._pool

    def __enter__(self) -> "Helpers":
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is None:
            self._pool.shutdown(cancel_futures=True)
            return
        # A second Ctrl-C must not come between: whoever waits for helpers that nobody ends would wait for ever. After the first
        # the run ends anyway, and Python's own winding up waits for helpers, too: then it stays so.
        before = signal.signal(signal.SIGINT, signal.SIG_IGN)
        try:
            _end_all()
            self._pool.shutdown(wait=False, cancel_futures=True)
        finally:
            if kind is not KeyboardInterrupt:
                signal.signal(signal.SIGINT, before)


def _processes() -> Executor:
    """Helpers that begin anew: copies of this process would hold its open databases, too."""
    # Loading this takes as long as a short command, and most runs have little to do.
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    return ProcessPoolExecutor(_HELPERS, get_context("spawn"), _begin)


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Let Ctrl-C wait meanwhile: a helper that is half begun could neither be ended nor waited for."""
    came: list[tuple[int, FrameType | None]] = []
    before = signal.signal(signal.SIGINT, lambda number, frame: came.append((number, frame)))
    # A helper that begins inherits what is blocked, and is not met by it before it can leave it to this process.
    blocks = hasattr(signal, "pthread_sigmask")  # not on Windows
    blocked = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT}) if blocks else set()
    try:
        yield
    finally:
        if blocks:
            signal.pthread_sigmask(signal.SIG_SETMASK, blocked)
        signal.signal(signal.SIGINT, before)
    if came and callable(before):
        before(*came[0])


def _end_all() -> None:
    """End the helpers at once; of what they were about to return nothing is wanted any more."""
    from multiprocessing import active_children

    for helper in active_children():
        helper.kill()


def _begin() -> None:
    """A helper leaves it to the process that it helps to be stopped from the terminal, and ends when that one has ended."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    from multiprocessing import parent_process

    parent = parent_process()
    if parent is not None:
        parent.join()
    os._exit(1)
