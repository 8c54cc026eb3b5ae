"""Bringing files to a folder: each from the nearest good holding, read from its medium and compared on the way."""

import errno
import hashlib
import sqlite3
from collections import deque
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from io import RawIOBase
from pathlib import Path

from bramblemoor.depots.bag.contents import Contents
from bramblemoor.depots.kinds.medium import LARGE, can_prove, open_past_cache
from bramblemoor.disk.durable import (
    NAME_REFUSED,
    TEMPORARY,
    beside,
    digest_of,
    flush_folder,
    set_time,
)
from bramblemoor.disk.file_systems import file_system_of, flush_files
from bramblemoor.disk.told import Inside
from bramblemoor.frames.moments import now_utc
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, stamp
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Progress, Stage

_BATCH_FILES, _BATCH_BYTES = 200, 128 << 20
_AHEAD = 8
"""So many large files are asked for beforehand: while some are flushed, others are brought."""
_PAGE = 1000


@dataclass(frozen=True)
class Wanted:
    """A file to bring, by its path in the library; `frames` is 1 for the original of a frame."""

    path: Inside
    sha256: str
    mtime_ns: int | None
    frames: int
    bytes: int


@dataclass(frozen=True)
class Brought:
    """One file's way: `contents` is None where it was at the target already, and `troubles` tell why it is not there."""

    path: str
    bytes: int = 0
    contents: Contents | None = None
    grade: str = ""
    troubles: tuple[Trouble, ...] = ()

    @property
    def trouble(self) -> str:
        """The troubles in words; "" where it is there."""
        return "; ".join(trouble.said() for trouble in self.troubles)


class ToBring:
    """The files to bring, kept outside memory; of several depots that list a path, the one named first is believed."""

    def __init__(self, holdings: Sequence[Contents]) -> None:
        self.holdings = holdings
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE wanted (path TEXT PRIMARY KEY, sha256 TEXT, mtime_ns INTEGER, frames INTEGER, bytes INTEGER)"
            " WITHOUT ROWID; BEGIN;"
        )

    def add(self, path: Inside, sha256: str, mtime_ns: int | None, frames: int) -> None:
        size = size_on(self.holdings, path, sha256)
        self._db.execute("INSERT OR IGNORE INTO wanted VALUES (?, ?, ?, ?, ?)", (path, sha256, mtime_ns, frames, size))

    def add_everything(self, facts: sqlite3.Connection | None) -> None:
        """All that the depots list but the ledger; `facts`, a ledger, knows times and roles."""
        for contents in self.holdings:
            after = ""
            while page := contents.paths(after, _PAGE):
                after = page[-1][0]
                for path, sha256 in page:
                    if path != ledger_file.FILE:
                        known = (
                            facts
                            and facts.execute("SELECT mtime_ns, role FROM files WHERE path = ?", (path,)).fetchone()
                        )
                        self.add(path, sha256, known[0] if known else None, int(bool(known and known[1] == "original")))

    def bytes(self) -> int:
        whole: int = self._db.execute("SELECT coalesce(sum(bytes), 0) FROM wanted").fetchone()[0]
        return whole

    def lacking(self, target: Path) -> int:
        """Bytes that are not at the target yet."""
        return sum(wanted.bytes for wanted in self.items() if not (target / wanted.path).is_file())

    def items(self) -> Iterator[Wanted]:
        for row in self._db.cursor().execute("SELECT path, sha256, mtime_ns, frames, bytes FROM wanted ORDER BY path"):
            yield Wanted(*row)


@dataclass
class Restored:
    """What came of the files so far."""

    came_in: Amount = NOTHING
    kept: dict[str, Amount] = field(default_factory=dict)
    left_out: list[LeftOut] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    only_different: bool = True
    """Whether all that was left out was so because another file is in its place."""

    def enter(self, wanted: Wanted, result: Brought, first: Contents) -> None:
        # What has arrived has the right digest, and so the right size; a depot's damaged file may have any.
        amount = Amount(wanted.frames, 1, wanted.bytes if result.trouble else result.bytes)
        self.came_in += amount
        if result.trouble:
            self.left_out.append(LeftOut(result.path, result.trouble, amount))
            self.only_different &= all(trouble.kind == "different" for trouble in result.troubles)
            return
        what = f"from {result.contents.name}" if result.contents else "there already"
        self.kept[what] = self.kept.get(what, NOTHING) + amount
        if result.contents is not None and result.contents is not first:
            self.findings.append(
                Finding(result.path, f"was not sound at {first.name}; taken from {result.contents.name}")
            )

    def kept_lines(self) -> list[Kept]:
        return [Kept(what, amount) for what, amount in self.kept.items()]

    def receipt(
        self, name: str, number: int, holdings: Sequence[Contents], started: str, more: dict[str, str]
    ) -> Receipt:
        return Receipt(
            number=number,
            run="restore",
            started=started,
            finished=stamp(now_utc()),
            about={"library": name, "from": ", ".join(contents.name for contents in holdings)} | more,
            came_in=self.came_in,
            kept=self.kept_lines(),
            left_out=self.left_out,
            findings=self.findings,
        )


def size_on(holdings: Sequence[Contents], path: str, sha256: str) -> int:
    """Bytes of a content, as the first that has it tells; 0 where none does."""
    return next(filter(None, (contents.size(sha256, path) for contents in holdings)), 0)


def bring(holdings: Sequence[Contents], path: str, sha256: str, place: Path, mtime_ns: int | None) -> Brought:
    """Bring one file to the temporary name beside `place`, unless it is there already. A different file stays as it is.

    Tries one depot after the other; each is read from its medium and compared.
    """
    if _is_there(place):
        if digest_of(place) == sha256:
            return Brought(path, place.stat().st_size)
        if not place.name.endswith(TEMPORARY):
            return Brought(path, troubles=(Trouble("different", "the target"),))
    fresh = place if place.name.endswith(TEMPORARY) else beside(place)
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        fresh.touch()
    except OSError as error:
        if error.errno not in (*NAME_REFUSED, errno.ENOTDIR, errno.EEXIST):
            raise  # that is not this file's alone
        return Brought(path, troubles=(Trouble("unwritable", "the target", f"its name is refused: {error.strerror}"),))
    troubles: list[Trouble] = []
    for contents in holdings:
        name, opened = contents.name, contents.read(sha256, path)
        if opened is None:
            troubles.append(Trouble("unlisted", name))
            continue
        digest, size, grade = hashlib.sha256(), 0, ""
        with _opened(fresh, contents.size(sha256, path)) as file:
            try:
                with opened as reading:
                    for piece in reading.pieces:
                        digest.update(piece)
                        size += len(piece)
                        _write(file, piece)
                    grade = reading.grade
            except FileNotFoundError:
                troubles.append(Trouble("missing", name))
                continue
            except _TargetTrouble as trouble:
                raise trouble.reason from None
            except OSError as error:
                troubles.append(Trouble("unreadable", name, error.strerror or str(error)))
                continue
        if digest.hexdigest() == sha256:
            if mtime_ns is not None:
                set_time(fresh, mtime_ns)
            return Brought(path, size, contents, grade)
        troubles.append(Trouble("damaged", name))
    fresh.unlink(missing_ok=True)
    return Brought(path, troubles=tuple(troubles) or (Trouble("nowhere"),))


def _opened(place: Path, size: int) -> RawIOBase:
    """A file to write; a large one past the system's cache, where that can be: filling it takes longer than the drive does."""
    proves = size >= LARGE and can_prove(file_system_of(place.parent))
    return open_past_cache(str(place), proves=proves)


def _is_there(place: Path) -> bool:
    try:
        return place.is_file()
    except OSError:  # a name that is refused; that is told where it is to be made
        return False


class _TargetTrouble(Exception):
    """The target cannot be written: that is not the depot's fault."""

    def __init__(self, reason: OSError) -> None:
        super().__init__(reason)
        self.reason = reason


def _write(file: RawIOBase, piece: bytes | memoryview) -> None:
    rest = memoryview(piece)
    try:
        while rest:
            rest = rest[file.write(rest) or 0 :]
    except OSError as error:
        raise _TargetTrouble(error) from error


def bring_all(target: Path, to_bring: ToBring, progress: Progress) -> Iterator[tuple[Wanted, Brought]]:
    """Bring every wanted file to `target`; each is put in place, with others, once it was flushed."""
    batch: list[Path] = []
    done, filled, total = 0, 0, to_bring.bytes()
    for wanted, result in _results(target, to_bring):
        if result.contents is not None:
            batch.append(target / wanted.path)
            filled += wanted.bytes
        done += wanted.bytes
        progress(Stage("restoring"), done, total)
        if len(batch) >= _BATCH_FILES or filled >= _BATCH_BYTES:
            _put_in_place(batch, target)
            batch, filled = [], 0
        yield wanted, result
    _put_in_place(batch, target)


def _results(target: Path, to_bring: ToBring) -> Iterator[tuple[Wanted, Brought]]:
    """What came of each file, in order. Large ones are brought two at a time: one is hashed while another is read or written."""

    def brought(wanted: Wanted) -> Brought:
        return bring(to_bring.holdings, wanted.path, wanted.sha256, target / wanted.path, wanted.mtime_ns)

    ahead: deque[tuple[Wanted, Future[Brought]]] = deque()
    at_once = min((contents.readers for contents in to_bring.holdings), default=1)
    with ThreadPoolExecutor(at_once) as workers:
        for wanted in to_bring.items():
            if wanted.bytes < LARGE or at_once == 1:
                while ahead:
                    yield ahead[0][0], ahead.popleft()[1].result()
                yield wanted, brought(wanted)
                continue
            ahead.append((wanted, workers.submit(brought, wanted)))
            if len(ahead) > _AHEAD:
                yield ahead[0][0], ahead.popleft()[1].result()
        while ahead:
            yield ahead[0][0], ahead.popleft()[1].result()


def _put_in_place(places: Sequence[Path], target: Path) -> None:
    fresh = [beside(place) for place in places]
    flush_files(fresh, target)
    for written, place in zip(fresh, places, strict=True):
        written.replace(place)
    for folder in {place.parent for place in places}:
        flush_folder(folder)
