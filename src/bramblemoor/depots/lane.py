"""A lane: the thread that writes one depot, behind a bounded queue, so that a slow depot holds nobody up before it is full."""

import errno
import hashlib
import threading
from collections import deque
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path
from queue import Queue
from typing import BinaryIO

from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import Intent, Journal, NothingPlaced
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import set_time
from bramblemoor.library.receipts import stamp

PIECE = 1 << 20
BUFFER = 144 << 20
"""Bytes that all lanes of a run may hold together."""
_HELD_FILES = 2000
_READERS = 3
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
    held: bool = False  # whether some depot has a version of it


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
    """Use: small(), or begin(), piece()*, end() or abandon(), for each file; then finish(). take_results() tells.

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
        self._results: deque[Copied] = deque()  # filled by one thread, emptied by another
        self._current: _Open | None = None
        self._held: list[_Held] = []
        self._held_bytes = 0
        self._failed_in_a_row = 0
        self._crash: BaseException | None = None
        self._folders: set[str] = set()
        self._settler = ThreadPoolExecutor(1)
        self._readers = ThreadPoolExecutor(_READERS)
        self._settling: Future[None] | None = None
        self._thread = threading.Thread(target=self._work, name=f"lane {depot.name}", daemon=True)
        self._thread.start()

    def small(self, files: Sequence[tuple[Item, bytes]]) -> None:
        """Some small files at once: handing over one by one takes longer than writing."""
        self._queue.put(("small", files))

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
        self._readers.shutdown()
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
        results = []
        while self._results:
            results.append(self._results.popleft())
        return results

    def _work(self) -> None:
        steps = {
            "small": self._small,
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
        try:
            if current is None:
                raise error
            with suppress(OSError):
                current.file.__exit__(None, None, None)
            self._not_written(current.item, error)
        except OSError as fatal:
            self.failure = fatal

    def _tell(self, item: Item, trouble: str) -> None:
        self._results.append(Copied(item, trouble=trouble))

    def _small(self, files: object) -> None:
        assert isinstance(files, Sequence)
        for item, content in files:
            self._write(item, content)
            self._hand_over_if_full()

    def _write(self, item: Item, content: bytes) -> None:
        staged = self.journal.staged_name(item.path)
        self._make_folder(staged)
        try:
            self.depot.drive.write(staged, content, item.mtime_ns)
        except OSError as error:
            self._not_written(item, error)
            return
        self._failed_in_a_row = 0
        self._hold(item, [content])

    def _begin(self, item: object) -> None:
        assert isinstance(item, Item)
        staged = self.journal.staged(item.path)
        self._make_folder(str(staged))
        keep: list[bytes] | None = [] if item.bytes <= _MOST_HELD else None
        try:
            file = self.depot.drive.open_to_write(staged)
        except OSError as error:
            self._not_written(item, error)
            return
        self._current = _Open(item, file, keep)

    def _make_folder(self, staged: str) -> None:
        folder = staged.rpartition("/")[0]
        if folder not in self._folders:
            Path(folder).mkdir(parents=True, exist_ok=True)
            self._folders.add(folder)

    def _not_written(self, item: Item, error: OSError) -> None:
        """Tell an error of the file; raise it where it is not the file's alone."""
        self._failed_in_a_row += 1
        if error.errno in _FATAL or self._failed_in_a_row >= _TOO_MANY:
            raise error
        with suppress(OSError):
            self.journal.staged(item.path).unlink()
        self._tell(item, f"it could not be written ({error.strerror or error})")

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
        self._hold(current.item, current.pieces)
        self._hand_over_if_full()

    def _hold(self, item: Item, pieces: list[bytes] | None) -> None:
        """Keep a written file until its batch is settled."""
        self._held.append(_Held(item, pieces))
        self._held_bytes += item.bytes

    def _abandon(self, _: object) -> None:
        current, self._current = self._current, None
        if current is not None:
            current.file.__exit__(None, None, None)
            self.journal.staged(current.item.path).unlink()

    def _hand_over_if_full(self) -> None:
        if self._held_bytes >= self._most_held or len(self._held) >= _HELD_FILES:
            self._hand_over()

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
        read_at = stamp(now_utc())
        # Some at a time: a drive that is asked for one small file after the other is idle most of the time.
        slices = [batch[start::_READERS] for start in range(_READERS)]
        copied = [one for part in self._readers.map(lambda part: self._proven(part, read_at), slices) for one in part]
        intents = [
            Intent(one.item.path, one.item.sha256, one.item.bytes, read_at, one.grade, one.item.why) for one in copied
        ]
        try:
            self.journal.put_in_place(intents)
        except NothingPlaced as error:
            if error.errno in _FATAL:
                raise
            for one in copied:
                self._tell(one.item, f"the depot's journal could not be written ({error.strerror or error})")
            return
        self._results.extend(copied)

    def _proven(self, part: list[_Held], read_at: str) -> list[Copied]:
        """Read files back; those that are what was written. The others are told, and removed."""
        proven = []
        for held in part:
            path, item = self.journal.staged_name(held.item.path), held.item
            try:
                matches, grade = self._read_back(held, path)
            except OSError as error:
                if error.errno in _FATAL:
                    raise
                self._tell(item, f"it could not be read back ({error.strerror or error})")
                Path(path).unlink(missing_ok=True)
                continue
            held.pieces = None
            if matches:
                proven.append(Copied(item, read_at, grade))
            else:
                Path(path).unlink()
                self._tell(item, "read back, it was not what was written; the drive cannot be trusted")
        return proven

    def _flushed(self, batch: list[_Held]) -> list[_Held]:
        """Flush a batch; where that fails, each file for itself, to learn which it was."""
        try:
            self.depot.drive.flush(self.journal.staged(held.item.path) for held in batch)
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

    def _read_back(self, held: _Held, path: str) -> tuple[bool, str]:
        """Compare with the bytes still at hand, by digest where they were too many to keep."""
        if held.pieces is not None and len(held.pieces) == 1:
            return self.depot.drive.compare(path, held.pieces[0])
        with self.depot.drive.read_from_medium(Path(path), PIECE) as reading:
            if held.pieces is not None:
                pairs = zip_longest(reading.pieces, held.pieces)
                return all(came == written for came, written in pairs), reading.grade
            digest = hashlib.sha256()
            for piece in reading.pieces:
                digest.update(piece)
            return digest.hexdigest() == held.item.sha256, reading.grade
