"""Work that keeps a processor busy, spread over several processes where there is much of it.

A process of Python uses one processor for its own code: what is done for each of very many small files is done twice as fast
in two. What they are given and return is copied between them, so that a job is worth some milliseconds.
"""

import os
import signal
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from multiprocessing import get_context, parent_process
from threading import Thread
from typing import TypeVar

from bramblemoor.errors import NotPossible

Job = TypeVar("Job")
Result = TypeVar("Result")
_HELPERS = 2
_AHEAD = 3  # jobs that run or wait: what they return is held in memory


class Helpers:
    """Processes that help this one; threads of its own where there is little to do."""

    def __init__(self, pool: Executor) -> None:
        self._pool = pool

    def map(self, work: Callable[[Job], Result], jobs: Iterable[Job]) -> Iterator[Result]:
        """The results of some jobs, in their order; a few are done ahead. `work` and what it is given can be pickled.

        Raises what `work` raises, and NotPossible where a helper was ended by others.
        """
        waiting: deque[Future[Result]] = deque()
        try:
            for job in jobs:
                waiting.append(self._pool.submit(work, job))
                if len(waiting) > _AHEAD:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        except BrokenProcessPool as error:
            raise NotPossible(
                "A process that helped with this run was ended from outside; the system may be short of memory.",
                "Nothing is lost; give the same command again.",
            ) from error


@contextmanager
def helpers(*, much: bool) -> Iterator[Helpers]:
    """Helpers for a while; starting them takes a third of a second, which is worth it where there is `much` to do."""
    # Processes that begin anew: a copy of this one would hold its open databases, too.
    pool = ProcessPoolExecutor(_HELPERS, get_context("spawn"), _begin) if much else ThreadPoolExecutor(_HELPERS)
    with pool:
        try:
            yield Helpers(pool)
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise


def _begin() -> None:
    """A helper leaves it to the process that it helps to be stopped from the terminal, and ends when that one has ended."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    Thread(target=_end_with_parent, daemon=True).start()


def _end_with_parent() -> None:
    parent = parent_process()
    if parent is not None:
        parent.join()
    os._exit(1)
