"""The process that writes one depot: it takes messages on its standard input, and tells on its standard output what came of them.

A process of its own, as threads that write small files spend their time handing the interpreter's lock to and fro. It holds
the run's writing.lock for as long as it lives, and ends with the run that started it.
"""

import ctypes
import errno
import os
import queue
import signal
import sys
import threading
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from importlib import import_module
from typing import BinaryIO

import msgspec

from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.bag.placing import NothingPlaced, Placing, writing_lock
from bramblemoor.depots.engine import messages
from bramblemoor.depots.engine.messages import Task
from bramblemoor.depots.engine.slots import map_slots
from bramblemoor.depots.kinds.interface import Grade, Staging, Store
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.receipts import stamp
from bramblemoor.running import PIECE

_MOST_FILES = 2000  # of a batch
_READERS = 3
# Troubles that are not one file's: the drive is full, protected, or gone.
_FATAL = {
    errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.ENODEV, errno.ENXIO, errno.ENOTCONN, errno.ESTALE, errno.EACCES, errno.EPERM,
}  # fmt: skip
_TOO_MANY = 20  # files in a row that failed, each for itself
_PR_SET_PDEATHSIG = 1


@dataclass
class _Written:
    """A file that was written and not read back yet; `parts` says where its bytes lie, where they are few enough to keep."""

    task: Task
    parts: list[memoryview] | None


@dataclass
class _Batch:
    """Files that are flushed and read back together, and the slots that hold their bytes."""

    files: list[_Written] = field(default_factory=list)
    slots: list[int] = field(default_factory=list)
    streamed: bool = False  # whether there are large files among them


@dataclass
class _Open:
    task: Task
    staging: Staging
    parts: list[memoryview] | None
    slots: list[int] = field(default_factory=list)


def _store(setup: messages.Setup) -> Store:
    module, name = setup.kind
    store: Store = getattr(import_module(module), name)(setup.where, setup.options, setup.seen)
    return store


class _Writer:
    """Files are written one after the other, and proven in batches, behind the next files' backs.

    On a spinning drive a batch of large files is proven before the next is written: with two heads' work at once it does
    little else than seek. Of small ones it mostly waits for names.
    """

    def __init__(self, store: Store, setup: messages.Setup, pipe: BinaryIO) -> None:
        self._placing = Placing(store, setup.run)
        self._stager = self._placing.stager
        self._buffer = memoryview(map_slots(setup.buffer))
        self._most_held, self._by_turns = setup.most_held, setup.by_turns
        self._pipe, self._telling = pipe, threading.Lock()
        self._current: _Open | None = None
        self._batch = _Batch()
        self._failed_in_a_row = 0
        self._failed = False
        self._background = ThreadPoolExecutor(1)
        self._readers = ThreadPoolExecutor(_READERS)
        self._under_way: Future[None] | None = None

    def carry_out(self, message: messages.Told) -> bool:
        """Carry out one message; says whether there is more to come. After the drive has failed, messages are passed over."""
        if not self._failed:
            try:
                match message:
                    case messages.Small(slot, files):
                        self._small(slot, files)
                    case messages.Begin(begun):
                        self._begin(begun)
                    case messages.Piece(slot, length):
                        self._piece(slot, length)
                    case messages.End(sha256, worthless):
                        self._end(sha256, worthless=worthless)
                    case messages.Finish():
                        self._hand_over()
                        self._await_under_way()
            except OSError as error:
                self._fail(error)
        if isinstance(message, messages.Finish):
            with suppress(OSError):
                self._await_under_way()
            self._tell(messages.Finished())
            return False
        return True

    def _tell(self, answer: messages.Answer) -> None:
        with self._telling:
            messages.send(self._pipe, answer)

    def _fail(self, error: OSError) -> None:
        """Tell an error of the file that was being written; where it is not the file's alone, the drive has failed."""
        current, self._current = self._current, None
        try:
            if current is None:
                raise error
            with suppress(OSError):
                current.staging.abandon()
            self._not_written(current.task, error)
            self._tell(messages.Freed(current.slots))
        except OSError as fatal:
            self._failed = True
            self._tell(messages.Failed(fatal.errno, fatal.strerror or str(fatal)))

    def _is_fatal(self, error: OSError) -> bool:
        """Whether it is a trouble of the whole drive. A name that a drive refuses may be told as if there were no such folder."""
        if error.errno == errno.ENOENT:
            return not self._stager.is_there
        return error.errno in _FATAL

    def _lost(self, task: Task, trouble: str) -> None:
        self._tell(messages.Came("", [(task.number, "", trouble)]))

    def _not_written(self, task: Task, error: OSError) -> None:
        """Tell an error of the file; raise it where it is not the file's alone."""
        self._failed_in_a_row += 1
        if self._is_fatal(error) or (self._failed_in_a_row >= _TOO_MANY and not self._still_writes()):
            raise error
        with suppress(OSError):
            self._stager.discard(task.path)
        self._lost(task, f"it could not be written ({error.strerror or error})")

    def _still_writes(self) -> bool:
        """Whether the drive takes a file of a plain name: then it is the names of those that failed that it does not take."""
        if not self._stager.still_writes():
            return False
        self._failed_in_a_row = 0
        return True

    def _hindered(self, task: Task) -> bool:
        try:
            why = self._stager.hindrance(task.path)
        except OSError as error:
            self._not_written(task, error)
            return True
        if why:
            self._lost(task, why)
        return bool(why)

    def _small(self, slot: int, files: list[tuple[Task, int]]) -> None:
        begin = slot * PIECE
        for task, start in files:
            content = self._buffer[begin + start : begin + start + task.bytes]
            if self._hindered(task):
                continue
            try:
                self._stager.write_small(task.path, content, task.mtime_ns)
            except OSError as error:
                self._not_written(task, error)
                continue
            self._failed_in_a_row = 0
            self._batch.files.append(_Written(task, [content]))
        self._batch.slots.append(slot)
        self._hand_over_if_full()

    def _begin(self, task: Task) -> None:
        if self._hindered(task):
            return
        try:
            staging = self._stager.begin(task.path, task.mtime_ns)
        except OSError as error:
            self._not_written(task, error)
            return
        # A file that takes up too much of the buffer is read back by its digest, not by comparing.
        self._current = _Open(task, staging, [] if task.bytes <= self._most_held * PIECE else None)

    def _piece(self, slot: int, length: int) -> None:
        current = self._current
        if current is None:  # it failed already
            self._tell(messages.Freed([slot]))
            return
        current.slots.append(slot)
        content = self._buffer[slot * PIECE : slot * PIECE + length]
        current.staging.write(content)
        if current.parts is not None:
            current.parts.append(content)
        else:
            self._tell(messages.Freed(current.slots))
            current.slots = []

    def _end(self, sha256: str, *, worthless: bool) -> None:
        current = self._current
        if current is None:
            return
        if worthless:
            current.staging.abandon()
            self._tell(messages.Freed(current.slots))
            self._current = None
            return
        current.staging.end()
        self._current = None
        self._failed_in_a_row = 0
        task = msgspec.structs.replace(current.task, sha256=sha256)
        self._batch.files.append(_Written(task, current.parts))
        self._batch.slots += current.slots
        self._batch.streamed = True
        self._hand_over_if_full()

    def _hand_over_if_full(self) -> None:
        if len(self._batch.slots) >= self._most_held or len(self._batch.files) >= _MOST_FILES:
            self._hand_over()

    def _hand_over(self) -> None:
        """Prove what was written, or let it be proven while the next files are written."""
        self._await_under_way()
        batch, self._batch = self._batch, _Batch()
        if not batch.files:
            self._tell(messages.Freed(batch.slots))
        elif batch.streamed and self._by_turns:
            self._prove_and_place(batch)
        else:
            self._under_way = self._background.submit(self._prove_and_place, batch)

    def _await_under_way(self) -> None:
        under_way, self._under_way = self._under_way, None
        if under_way is not None:
            under_way.result()

    def _prove_and_place(self, batch: _Batch) -> None:
        """Flush, read back from the medium, and put in place what proved right."""
        files = self._flushed(batch.files)
        read_at = stamp(now_utc())
        # Small ones some at a time: a drive that is asked for one after the other is idle most of the time.
        readers = 1 if batch.streamed else _READERS
        slices = [files[start::readers] for start in range(readers)]
        proven = [one for part in self._readers.map(self._proven, slices) for one in part]
        self._tell(messages.Freed(batch.slots))
        intents = [
            Intent(task.path, task.sha256, task.bytes, read_at, grade, task.why, mends=task.mends)
            for task, grade in proven
        ]
        try:
            self._placing.put_in_place(intents)
        except NothingPlaced as error:
            if self._is_fatal(error):
                raise
            for task, _ in proven:
                self._lost(task, f"the depot's journal could not be written ({error.strerror or error})")
            return
        self._tell(messages.Came(read_at, [(task.number, grade, "") for task, grade in proven]))

    def _flushed(self, files: list[_Written]) -> list[_Written]:
        """Flush a batch; where that fails, each file for itself, to learn which it was."""
        try:
            self._stager.flush([written.task.path for written in files])
        except OSError as error:
            if self._is_fatal(error):
                raise
        else:
            return files
        sound = []
        for written in files:
            path = written.task.path
            try:
                self._stager.flush_one(path)
                sound.append(written)
            except OSError as error:
                if self._is_fatal(error):
                    raise
                self._stager.discard(path)
                self._lost(written.task, f"it could not be flushed ({error.strerror or error})")
        return sound

    def _proven(self, part: list[_Written]) -> list[tuple[Task, Grade]]:
        """Read files back; those that are what was written, and the grades. The others are told, and removed."""
        proven = []
        for written in part:
            task = written.task
            try:
                # With the bytes still at hand; by digest where they were too many to keep.
                matches, grade = self._stager.prove(task.path, task.sha256, written.parts)
            except OSError as error:
                if self._is_fatal(error):
                    raise
                self._lost(task, f"it could not be read back ({error.strerror or error})")
                self._stager.discard(task.path)
                continue
            if matches:
                proven.append((task, grade))
            else:
                self._stager.discard(task.path)
                self._lost(task, "read back, it was not what was written; the drive cannot be trusted")
        return proven


def _end_with(parent: int) -> None:
    """Be killed at once when the run is, where the system can do so; elsewhere the closed pipe tells."""
    if sys.platform.startswith("linux"):
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)


def _read_messages(pipe: BinaryIO, coming: "queue.SimpleQueue[messages.Told]") -> None:
    for message in messages.told(pipe):
        coming.put(message)
        if isinstance(message, messages.Finish):
            return
    os._exit(1)  # the run is gone: what was begun here is left for the next one


def main() -> None:
    taken, told = sys.stdin.buffer, sys.stdout.buffer
    setup = next(messages.told(taken), None)
    if not isinstance(setup, messages.Setup):
        return
    _end_with(setup.parent)
    coming: queue.SimpleQueue[messages.Told] = queue.SimpleQueue()
    threading.Thread(target=_read_messages, args=(taken, coming), daemon=True).start()
    try:
        store = _store(setup)
        with store.hold(writing_lock(setup.run), -1):
            writer = _Writer(store, setup, told)
            while writer.carry_out(coming.get()):
                pass
    except OSError as error:
        with suppress(OSError):  # the run may be gone, too
            messages.send(told, messages.Failed(error.errno, error.strerror or str(error)))
            messages.send(told, messages.Finished())


if __name__ == "__main__":
    main()
