"""A lane: the thread that writes one depot, behind a bounded queue, so that a slow depot holds nobody up before it is full."""

import errno
import hashlib
import threading
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path
from queue import Queue
from typing import BinaryIO

from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import Intent, Journal
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import set_time
from bramblemoor.library.receipts import stamp

PIECE = 1 << 20
BUFFER = 144 << 20
"""Bytes that all lanes of a run may hold together."""
_HELD_FILES = 2000
_MOST_HELD = 64 << 20  # a larger file is read back by its digest, not by comparing
# Troubles that are not one file's: the drive is full, protected, or gone.
_FATAL = {
    errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.ENODEV, errno.ENXIO, errno.ENOTCONN, errno.ESTALE, errno.ENOENT,
    errno.EACCES, errno.EPERM,
}  # fmt: skip
_TOO_MANY = 20  # files in a row that failed, each for itself


@dataclass(frozen=True)
class Item:
    """A file to copy: its number in the ledger, its path in library and depot, and what is expected of it."""

    file: int
    path: str
    bytes: int
    sha256: str
    mtime_ns: int
    frames: int = 0  # 1 for the original of a frame, which stands for it in counts
    why: str = ""


@dataclass(frozen=True)
class Copied:
    """A file that was put in place, or (`trouble`) was not, and why."""

    item: Item
    read_at: str = ""
    grade: str = ""
    trouble: str = ""


@dataclass
class _Held:
    """A file that was written and not read back yet; `pieces` holds its bytes where they are few enough to keep."""

    item: Item
    pieces: list[bytes] | None


@dataclass
class _Open:
    item: Item
    file: BinaryIO
    pieces: list[bytes] | None


class Lane:
    """Use: whole(), or begin(), piece()*, end() or abandon(), for each file; then finish(). take_results() tells.

    What goes wrong with one file is told of that file. Errors of the whole drive end the lane, not the run: `failure` then
    says what happened, and later files are passed over. `share` is how many lanes share the buffer.
    """

    def __init__(self, depot: Depot, journal: Journal, share: int) -> None:
        self.depot = depot
        self.journal = journal
        self.failure: OSError | None = None
        room = BUFFER // share
        self._most_held = room // 3
        self._queue: Queue[tuple[str, object]] = Queue(max(4, self._most_held // PIECE))
        self._results: list[Copied] = []
        self._current: _Open | None = None
        self._held: list[_Held] = []
        self._held_bytes = 0
        self._failed_in_a_row = 0
        self._crash: BaseException | None = None
        self._folders: set[Path] = set()
        self._settler = ThreadPoolExecutor(1)
        self._settling: Future[None] | None = None
        self._thread = threading.Thread(target=self._work, name=f"lane {depot.name}", daemon=True)
        self._thread.start()

    def whole(self, item: Item, content: bytes) -> None:
        """A small file at once."""
        self._queue.put(("whole", (item, content)))

    def begin(self, item: Item) -> None:
        self._queue.put(("begin", item))

    def piece(self, content: bytes) -> None:
        self._queue.put(("piece", content))

    def end(self) -> None:
        self._queue.put(("end", None))

    def abandon(self) -> None:
        """What came of the present file is worthless: the source was not what it should be."""
        self._queue.put(("abandon", None))

    def finish(self) -> None:
        """Read back and put in place what is still held; returns when all is done."""
        self._queue.put(("finish", None))
        self._thread.join()
        self._settler.shutdown()
        if self._crash is not None:
            raise self._crash

    @property
    def lags(self) -> bool:
        """Whether its part of the buffer is full."""
        return self._queue.full()

    @property
    def idles(self) -> bool:
        return self._queue.empty()

    def take_results(self) -> list[Copied]:
        """What came of files since the last time."""
        results, self._results = self._results, []
        return results

    def _work(self) -> None:
        steps = {
            "whole": self._whole,
            "begin": self._begin,
            "piece": self._piece,
            "end": self._end,
            "abandon": self._abandon,
        }
        while True:
            step, argument = self._queue.get()
            if self.failure is None and self._crash is None:
                try:
                    if step == "finish":
                        self._hand_over()
                        self._await_settling()
                    else:
                        steps[step](argument)
                except OSError as error:
                    self._failed(error)
                except BaseException as error:  # told by finish(): a lane that died in silence would block its feeder
                    self._crash = error
            if step == "finish":
                return

    def _failed(self, error: OSError) -> None:
        """Tell an error of the file that was being written; end the lane where it is not the file's alone."""
        current, self._current = self._current, None
        if current is not None:
            with suppress(OSError):
                current.file.__exit__(None, None, None)
        self._failed_in_a_row += 1
        if current is None or error.errno in _FATAL or self._failed_in_a_row >= _TOO_MANY:
            self.failure = error
            return
        with suppress(OSError):
            self.journal.staged(current.item.path).unlink()
        self._tell(current.item, f"it could not be written ({error.strerror or error})")

    def _tell(self, item: Item, trouble: str) -> None:
        self._results.append(Copied(item, trouble=trouble))

    def _whole(self, argument: object) -> None:
        assert isinstance(argument, tuple)
        item, content = argument
        self._begin(item)
        self._piece(content)
        self._end(None)

    def _begin(self, item: object) -> None:
        assert isinstance(item, Item)
        staged = self.journal.staged(item.path)
        if staged.parent not in self._folders:
            staged.parent.mkdir(parents=True, exist_ok=True)
            self._folders.add(staged.parent)
        keep: list[bytes] | None = [] if item.bytes <= _MOST_HELD else None
        try:
            file = self.depot.drive.open_to_write(staged)
        except OSError as error:
            if error.errno in _FATAL:
                raise
            self._tell(item, f"it could not be written ({error.strerror or error})")
            return
        self._current = _Open(item, file, keep)

    def _piece(self, content: object) -> None:
        assert isinstance(content, bytes)
        if self._current is None:  # it failed already
            return
        rest = memoryview(content)
        while rest:
            rest = rest[self._current.file.write(rest) :]
        if self._current.pieces is not None:
            self._current.pieces.append(content)

    def _end(self, _: object) -> None:
        current = self._current
        if current is None:
            return
        current.file.__exit__(None, None, None)
        set_time(self.journal.staged(current.item.path), current.item.mtime_ns)
        self._current = None
        self._failed_in_a_row = 0
        self._held.append(_Held(current.item, current.pieces))
        self._held_bytes += current.item.bytes
        if self._held_bytes >= self._most_held or len(self._held) >= _HELD_FILES:
            self._hand_over()

    def _abandon(self, _: object) -> None:
        current, self._current = self._current, None
        if current is not None:
            current.file.__exit__(None, None, None)
            self.journal.staged(current.item.path).unlink()

    def _hand_over(self) -> None:
        """Let what was written be settled while the next files are written."""
        self._await_settling()
        if self._held:
            self._settling = self._settler.submit(self._settle, self._held)
        self._held, self._held_bytes = [], 0

    def _await_settling(self) -> None:
        settling, self._settling = self._settling, None
        if settling is not None:
            settling.result()

    def _settle(self, batch: list[_Held]) -> None:
        """Flush, read back from the medium, and put in place what proved right."""
        batch = self._flushed(batch)
        intents, copied = [], []
        for held in batch:
            path, item = self.journal.staged(held.item.path), held.item
            try:
                matches, grade = self._read_back(held, path)
            except OSError as error:
                if error.errno in _FATAL:
                    raise
                self._tell(item, f"it could not be read back ({error.strerror or error})")
                path.unlink(missing_ok=True)
                continue
            held.pieces = None
            read_at = stamp(now_utc())
            if matches:
                intents.append(Intent(item.path, item.sha256, item.bytes, read_at, grade, item.why))
                copied.append(Copied(item, read_at, grade))
            else:
                path.unlink()
                self._tell(item, "read back, it was not what was written; the drive cannot be trusted")
        try:
            self.journal.put_in_place(intents)
        except OSError as error:
            if error.errno in _FATAL or self.journal.staged(intents[-1].path).is_file() is False:
                raise
            for one in copied:
                self._tell(one.item, f"the depot's journal could not be written ({error.strerror or error})")
            return
        self._results += copied

    def _flushed(self, batch: list[_Held]) -> list[_Held]:
        """Flush a batch; where that fails, each file for itself, to learn which it was."""
        try:
            self.depot.drive.flush([self.journal.staged(held.item.path) for held in batch])
        except OSError as error:
            if error.errno in _FATAL:
                raise
        else:
            return batch
        sound = []
        for held in batch:
            path = self.journal.staged(held.item.path)
            try:
                self.depot.drive.flush_one(path)
                sound.append(held)
            except OSError as error:
                if error.errno in _FATAL:
                    raise
                path.unlink(missing_ok=True)
                self._tell(held.item, f"it could not be flushed ({error.strerror or error})")
        return sound

    def _read_back(self, held: _Held, path: Path) -> tuple[bool, str]:
        """Compare with the bytes still at hand, by digest where they were too many to keep."""
        with self.depot.drive.read_from_medium(path, PIECE) as reading:
            if held.pieces is not None:
                pairs = zip_longest(reading.pieces, held.pieces)
                return all(came == written for came, written in pairs), reading.grade
            digest = hashlib.sha256()
            for piece in reading.pieces:
                digest.update(piece)
            return digest.hexdigest() == held.item.sha256, reading.grade
