"""A buffer in slots that the processes of a run share: a file's content is read into it once, whoever writes it."""

import mmap
import os
import tempfile
import threading
from collections import Counter
from collections.abc import Iterable
from pathlib import Path

from bramblemoor.running import PIECE


class Slots:
    """The buffer, from the side that fills it. A slot is free again once each taker has given it back."""

    def __init__(self, count: int) -> None:
        self._descriptor, self.path = _make_file(count * PIECE)
        self.memory = mmap.mmap(self._descriptor, count * PIECE)
        self.changed = threading.Condition()
        # The last that was freed is taken first: what was never used takes up no memory.
        self._free = list(range(count))[::-1]
        self._takers: Counter[int] = Counter()

    def take(self) -> int | None:
        """A free slot for the feeder; None where there is none. To be called with `changed` held."""
        return self._free.pop() if self._free else None

    def view(self, slot: int) -> memoryview:
        return memoryview(self.memory)[slot * PIECE : (slot + 1) * PIECE]

    def pass_on(self, slot: int, takers: int) -> None:
        """Say how many will give a slot back. To be called before they are told of it."""
        with self.changed:
            self._takers[slot] = takers
            self._free_if_done(slot)

    def give_back(self, slots: Iterable[int]) -> None:
        """A taker has done with some slots. To be called with `changed` held."""
        for slot in slots:
            self._takers[slot] -= 1
            self._free_if_done(slot)
        self.changed.notify_all()

    def _free_if_done(self, slot: int) -> None:
        if not self._takers[slot]:
            self._free.append(slot)

    def close(self) -> None:
        os.close(self._descriptor)
        if not self.path.startswith("/proc/"):
            Path(self.path).unlink()


def _make_file(size: int) -> tuple[int, str]:
    """A file that another process can open by its path while this one lives; in memory where the system can."""
    if hasattr(os, "memfd_create"):
        descriptor = os.memfd_create("bramblemoor")
        path = f"/proc/{os.getpid()}/fd/{descriptor}"
    else:
        descriptor, path = tempfile.mkstemp(prefix="bramblemoor-")
    os.ftruncate(descriptor, size)
    return descriptor, path


def map_slots(path: str) -> mmap.mmap:
    """The buffer, from the side that empties it."""
    with Path(path).open("r+b") as file:
        return mmap.mmap(file.fileno(), 0)
