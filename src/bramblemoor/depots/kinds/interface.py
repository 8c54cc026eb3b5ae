"""What a depot needs of the place where it lies: a store of files by path, and a stager in the process that writes to it.

A path is a `str` relative to the depot, with slashes; one that somebody told was looked at before (`disk/told.py`). Where the way
to a file crosses a link or another mount, every method raises Outside, which is an OSError. Every kind passes
tests/test_store_kinds.py.
"""

import hashlib
import io
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Literal

from bramblemoor.running import PIECE

Grade = Literal["medium", "maybe-cache"]
"""Whether a reading certainly came from the medium. Only such a reading makes a copy count."""
PAYLOAD = "data"
"""The folder of a depot that holds its copy (RFC 8493, 2.1.2)."""
INCOMING = "incoming"
"""The folder of a depot where a run lies until it is closed."""


@dataclass(frozen=True)
class Reading:
    """An open file: its grade, and its bytes in pieces of `size` (the last may be shorter); each until the next is asked for."""

    grade: Grade
    pieces: Iterator[bytes | memoryview]


@dataclass(frozen=True)
class Stored:
    """A file that lies there."""

    path: str
    bytes: int
    mtime_ns: int


@dataclass(frozen=True)
class Traits:
    """What a store is like.

    `proves`: a reading there can be proven to come from the medium at all. `spins`: it had better not write and read at once.
    `folds_case`: two names that differ only by case are one. `opens_in_place`: other programs can open its files where they lie.
    `several_readers`: two threads may read there at once.
    """

    proves: bool
    spins: bool = False
    folds_case: bool = False
    opens_in_place: bool = False
    several_readers: bool = False


class Log(ABC):
    """A list at a depot that only grows: each line is kept, durably, before `append` returns."""

    @property
    @abstractmethod
    def exists(self) -> bool: ...

    @abstractmethod
    def begin(self, head: bytes) -> None:
        """Make it, with its first line. The folder that it lies in is made too."""

    @abstractmethod
    def append(self, lines: Iterable[bytes]) -> None:
        """Add lines, each with its line feed. Raises OSError, and has none of them, where they cannot all be kept."""

    @abstractmethod
    def lines(self) -> Iterator[bytes]:
        """Every line; the last may have broken off. Raises FileNotFoundError where there is no such list."""


class Moves(ABC):
    """Files that change their places; what was moved is durable once the context that `Store.moving` opens is left."""

    @abstractmethod
    def move(self, old: str, new: str) -> None:
        """Move one file to where nothing lies. Raises FileNotFoundError where it is not there."""


class Store(ABC):
    """The place where a depot lies. `where` is what people call it; `options` are what was agreed when it was added.

    From the moment when it is opened it is that place, whatever is found under its name later: see `require_there`. `seen`
    tells another process which one that is.
    """

    kind: str

    def __init__(self, where: str, options: dict[str, str], seen: Sequence[int] = ()) -> None:
        self.where = where
        self.options = options
        self.seen = tuple(seen)

    @classmethod
    @abstractmethod
    def lies_at(cls, where: str) -> bool:
        """Whether a depot of this kind seems to lie there. Raises OSError where nothing can be read."""

    @property
    @abstractmethod
    def traits(self) -> Traits: ...

    @property
    @abstractmethod
    def device(self) -> str:
        """A name for the physical device; depots with the same one count as one copy."""

    @property
    @abstractmethod
    def seat(self) -> str:
        """Where it lies, so closely that a copy of it lies in another seat: readings count only where they were made."""

    @property
    @abstractmethod
    def writable(self) -> bool: ...

    @property
    @abstractmethod
    def is_there(self) -> bool:
        """Whether the place itself can be reached, be there a depot in it or not."""

    @abstractmethod
    def require_there(self) -> None:
        """Raise OSError where this is not the place any more that was opened. To be asked before each batch of changes."""

    @abstractmethod
    def require_plain(self, folders: Iterable[str]) -> None:
        """Raise Outside where one of these folders is something else than a folder of the depot's own."""

    @abstractmethod
    def room(self) -> int:
        """Bytes that may still be written there."""

    # Looking

    @abstractmethod
    def stat(self, path: str) -> Stored | None:
        """The file that lies there; None where none does, or something that is no plain file.

        Raises OSError where that cannot be told, as on a drive that fails: a file that cannot be looked at is not missing.
        """

    def stat_if_told(self, path: str) -> Stored | None:
        """The same, and None where it cannot be told: for a place that is one of several where a content may lie."""
        try:
            return self.stat(path)
        except OSError:
            return None

    @abstractmethod
    def is_taken(self, path: str) -> bool:
        """Whether anything lies there, be it a file or not, or something that cannot be looked at."""

    @abstractmethod
    def names(self, folder: str) -> list[str]:
        """The names of what lies directly in a folder (`""` is the depot's own), in order; none where there is no such folder."""

    @abstractmethod
    def folders(self, folder: str) -> list[str]:
        """Of these names those of folders."""

    @abstractmethod
    def listed(self, folder: str) -> Iterator[str]:
        """The path of everything below a folder that is no folder itself, in any order; nothing where there is no such folder.

        Raises OSError where one cannot be listed.
        """

    @abstractmethod
    def is_one(self, path: str, other: str) -> bool:
        """Whether two paths that differ only by case or composition lead to one file."""

    @abstractmethod
    def open(self, path: str) -> io.RawIOBase:
        """Open a file for reading, from a cache or not. Raises FileNotFoundError where there is none."""

    @abstractmethod
    def read(self, path: str, size: int = PIECE) -> AbstractContextManager[Reading]:
        """Open a file so that, as far as can be had, its bytes come from the medium and not from a cache."""

    @abstractmethod
    def at_hand(self, path: str) -> Path:
        """A file on this machine with that content, for programs that need one: itself, or a copy that goes with the store."""

    def digest(self, path: str) -> str:
        """SHA-256 of a file, in hex, read from a cache or not."""
        with self.open(path) as file:
            return hashlib.file_digest(io.BufferedReader(file), "sha256").hexdigest()

    def content(self, path: str) -> bytes:
        """A small file, whole."""
        with self.open(path) as file:
            return file.readall()

    # Changing

    @abstractmethod
    def make_folder(self, folder: str) -> None:
        """Make a folder that has to be there even when it is empty, where there is such a thing."""

    @abstractmethod
    def replacing(self, path: str) -> AbstractContextManager[BinaryIO]:
        """A file to be written that takes the place of `path`, durably, once all of it is; until then what was there stays."""

    def put_small(self, path: str, content: bytes) -> None:
        """Write a whole small file, durably; what was there is replaced."""
        with self.replacing(path) as file:
            file.write(content)

    @abstractmethod
    def log(self, path: str) -> Log: ...

    @abstractmethod
    def moving(self) -> AbstractContextManager[Moves]: ...

    @abstractmethod
    def remove(self, paths: Iterable[str]) -> None:
        """Remove files, durably, and folders that are empty by that; one that is not there is passed over."""

    @abstractmethod
    def clear(self, folder: str) -> None:
        """Remove a folder with all that is in it, durably."""

    @abstractmethod
    def clear_unfinished(self, folders: Iterable[str]) -> None:
        """Remove what killed runs have left half written in some folders. The caller holds the depot."""

    @abstractmethod
    def hold(self, path: str, patience: float = 0) -> AbstractContextManager[None]:
        """Hold a lock of that name, which ends with the process. Raises BlockingIOError where another one has it for longer than
        `patience` seconds (a negative one waits for ever), another OSError where it cannot be made."""

    @abstractmethod
    def stager(self, run: str) -> "Stager":
        """To be called in the process that writes."""


class Staging(ABC):
    """A file that comes in pieces."""

    @abstractmethod
    def write(self, piece: memoryview) -> None: ...

    @abstractmethod
    def end(self) -> None:
        """The file is whole."""

    @abstractmethod
    def abandon(self) -> None:
        """What came is worthless; nothing of it stays."""


class Stager(ABC):
    """Files of a run that are written beside the payload, proven, and then put in place by moving (`staged` tells from where).

    `path` is that in the payload. It lives in the writing process, and is used by one thread, but for `prove`.
    """

    run: str

    def staged(self, path: str) -> str:
        """Where a file lies until it is put in place."""
        return f"{INCOMING}/{self.run}/{PAYLOAD}/{path}"

    @abstractmethod
    def hindrance(self, path: str, *, suspect: bool = False) -> str:
        """Why a file cannot come to its place, "" for nothing: what lies there is to stay, or the name is refused.

        A name is tried where some file systems are known to refuse such, or it is `suspect`.
        """

    @abstractmethod
    def write_small(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        """Write a small file at once, with its time."""

    @abstractmethod
    def begin(self, path: str, mtime_ns: int) -> Staging: ...

    @abstractmethod
    def flush(self, paths: Sequence[str]) -> None:
        """Make the content of written files durable."""

    @abstractmethod
    def flush_one(self, path: str) -> None:
        """Make one file durable, whatever became of a flush of many."""

    @abstractmethod
    def prove(self, path: str, sha256: str, parts: Sequence[memoryview] | None) -> tuple[bool, Grade]:
        """Whether a staged file is just this, read from the medium as far as can be had.

        `parts` are its bytes, where they are still at hand: all but the last of whole blocks.
        """

    @abstractmethod
    def discard(self, path: str) -> None:
        """Remove a staged file, if it is there."""

    @abstractmethod
    def still_writes(self) -> bool:
        """Whether a file of a plain name can be written: then it is the names of others that are refused."""

    @property
    @abstractmethod
    def is_there(self) -> bool:
        """Whether the run's own folder is there still: else it is the drive that is gone, and not one file."""
