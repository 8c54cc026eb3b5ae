"""A lane: the thread that writes one depot, behind a bounded queue, so that a slow depot holds nobody up before it is full."""

import hashlib
import threading
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from itertools import zip_longest
from pathlib import Path
from queue import Queue
from typing import BinaryIO

from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import Intent, Journal
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import set_time
from bramblemoor.library.receipts import stamp

PIECE = 4 << 20
_QUEUED = 16  # pieces: 64 MB
_HELD_BYTES = 64 << 20
_HELD_FILES = 500


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
    """A written file that was not read back yet; `pieces` holds its bytes where they are few enough to keep."""

    item: Item
    pieces: list[bytes] | None


@dataclass
class _Open:
    item: Item
    file: BinaryIO
    pieces: list[bytes] | None


@dataclass
class Lane:
    """Use: begin(), piece()*, end() or abandon() for each file; then finish(). Results gather in `results`.

    Errors of the drive end the lane, not the run: `failure` then says what happened, and later files are passed over.
    """

    depot: Depot
    run: str
    results: list[Copied] = field(default_factory=list)
    failure: OSError | None = None

    def __post_init__(self) -> None:
        self._queue: Queue[tuple[str, object]] = Queue(_QUEUED)
        self._journal: Journal | None = None
        self._current: _Open | None = None
        self._held: list[_Held] = []
        self._held_bytes = 0
        self._crash: BaseException | None = None
        self._settler = ThreadPoolExecutor(1)
        self._settling: Future[None] | None = None
        self._thread = threading.Thread(target=self._work, name=f"lane {self.depot.name}", daemon=True)
        self._thread.start()

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
    def journal(self) -> Journal | None:
        """The depot's journal; None if nothing was written."""
        return self._journal

    def _work(self) -> None:
        steps = {"begin": self._begin, "piece": self._piece, "end": self._end, "abandon": self._abandon}
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
                    self.failure = error
                    self._close_current()
                except BaseException as error:  # told by finish(): a lane that died in silence would block its feeder
                    self._crash = error
            if step == "finish":
                return

    def _begin(self, item: object) -> None:
        assert isinstance(item, Item)
        if self._journal is None:
            self._journal = Journal(self.depot, self.run)
        staged = self._journal.staged(item.path)
        staged.parent.mkdir(parents=True, exist_ok=True)
        keep: list[bytes] | None = [] if item.bytes <= _HELD_BYTES else None
        self._current = _Open(item, self.depot.drive.open_to_write(staged), keep)

    def _piece(self, content: object) -> None:
        assert isinstance(content, bytes) and self._current is not None
        self._current.file.write(content)
        if self._current.pieces is not None:
            self._current.pieces.append(content)

    def _end(self, _: object) -> None:
        current = self._current
        assert current is not None and self._journal is not None
        self._close_current()
        set_time(self._journal.staged(current.item.path), current.item.mtime_ns)
        self._held.append(_Held(current.item, current.pieces))
        self._held_bytes += current.item.bytes
        if self._held_bytes >= _HELD_BYTES or len(self._held) >= _HELD_FILES:
            self._hand_over()

    def _abandon(self, _: object) -> None:
        current = self._current
        assert current is not None and self._journal is not None
        self._close_current()
        self._journal.staged(current.item.path).unlink()

    def _close_current(self) -> None:
        if self._current is not None:
            with suppress(OSError):
                self._current.file.__exit__(None, None, None)
        self._current = None

    def _hand_over(self) -> None:
        """Let what was written be settled while the next files are written."""
        self._await_settling()
        if self._held and self._journal is not None:
            self._settling = self._settler.submit(self._settle, self._held, self._journal)
        self._held, self._held_bytes = [], 0

    def _await_settling(self) -> None:
        settling, self._settling = self._settling, None
        if settling is not None:
            settling.result()

    def _settle(self, batch: list[_Held], journal: Journal) -> None:
        """Flush, read back from the medium, and put in place what proved right."""
        staged = [journal.staged(held.item.path) for held in batch]
        self.depot.drive.flush(staged)
        intents, copied = [], []
        for held, path in zip(batch, staged, strict=True):
            matches, grade = self._read_back(held, path)
            read_at = stamp(now_utc())
            item = held.item
            if matches:
                intents.append(Intent(item.path, item.sha256, item.bytes, read_at, grade, item.why))
                copied.append(Copied(item, read_at, grade))
            else:
                path.unlink()
                copied.append(
                    Copied(item, trouble="read back, it was not what was written; the drive cannot be trusted")
                )
        journal.put_in_place(intents)
        self.results += copied

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
