"""What a depot needs of the drive it lies on."""

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Literal

Grade = Literal["medium", "maybe-cache"]
"""Whether a reading certainly came from the medium. Only such a reading makes a copy count."""


@dataclass(frozen=True)
class Reading:
    """An open file: its grade, and its bytes in pieces of `size` (the last may be shorter); each until the next is asked for."""

    grade: Grade
    pieces: Iterator[bytes | memoryview]


class Drive(ABC):
    """A drive seen from the depot's folder on it."""

    kind: str

    def __init__(self, root: Path, options: dict[str, str]) -> None:
        self.root = root
        self.options = options

    @property
    @abstractmethod
    def device(self) -> str:
        """A name for the physical device; depots with the same one count as one copy."""

    @property
    @abstractmethod
    def seat(self) -> str:
        """Where the depot lies, so closely that a copy of it lies in another one: readings count only where they were made."""

    @property
    @abstractmethod
    def proves(self) -> bool:
        """Whether a reading there can be proven to come from the medium at all."""

    @property
    @abstractmethod
    def spins(self) -> bool:
        """Whether the system takes it for a spinning disk, which had better not write and read at once."""

    @property
    @abstractmethod
    def folds_case(self) -> bool:
        """Whether two names that differ only by case are one there."""

    @abstractmethod
    def is_one(self, path: Path, other: Path) -> bool:
        """Whether two paths that differ only by case or composition lead to one file."""

    @abstractmethod
    def open_to_write(self, path: Path) -> BinaryIO:
        """A new or emptied file; what is written goes to the system unbuffered."""

    @abstractmethod
    def write(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        """Write a small file at once, with its time."""

    @abstractmethod
    def compare(self, path: str, parts: Sequence[memoryview]) -> tuple[bool, Grade]:
        """Whether a file is just this, read from the medium as far as can be had. All parts but the last are of whole blocks."""

    @abstractmethod
    def flush(self, paths: Iterable[Path]) -> None:
        """Make the content of written files durable."""

    @abstractmethod
    def flush_one(self, path: Path) -> None:
        """Make one file durable, whatever became of a flush of many."""

    @abstractmethod
    def read_from_medium(self, path: Path, size: int) -> AbstractContextManager[Reading]:
        """Open a file so that, as far as can be had, its bytes come from the medium and not from a cache."""
