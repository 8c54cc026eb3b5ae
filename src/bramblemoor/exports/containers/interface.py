"""What a part of a parcel is to the rest: a list of entries that were checked, and their content."""

import re
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.errors import HostileArchive, PartsAmiss

CHUNK = 1 << 20
MOST = 1 << 62
"""No size or place in an archive is as large; more could not be counted."""
_DRIVE = re.compile(r"[A-Za-z]:")


@dataclass(frozen=True)
class Entry:
    """One file of a part. Sizes in bytes; `at` is where the container finds it again, and entries are best read in its order.

    `crc32` and `packed` are None where the container does not tell; `raw` is the name as the system has it, for a file on disk.
    """

    name: str
    size: int
    at: int
    packed: int | None = None
    crc32: int | None = None
    method: int = 0
    raw: bytes | None = None


class Container(ABC):
    """An open part. `several_readers` says whether contents may be read by several threads at once, in any order."""

    several_readers = True

    def __init__(self, path: Path) -> None:
        self.path = path

    @abstractmethod
    def entries(self) -> Iterator[Entry]:
        """All files. Checks everything that can be told without unpacking, and raises HostileArchive or PartsAmiss."""

    @abstractmethod
    def content(self, entry: Entry) -> Iterator[bytes]:
        """An entry's content in pieces of at most CHUNK bytes; raises PartsAmiss where it is not what the part promised."""

    def place(self, entry: Entry) -> str | None:
        """Where an entry lies as a file of its own; None in an archive."""
        return None

    @abstractmethod
    def close(self) -> None: ...

    def broken(self, reason: str) -> PartsAmiss:
        return PartsAmiss(
            f"{self.path.name} is damaged: {reason}.",
            "Nothing was unpacked; get just that part anew from where it came, and give the same command again.",
        )

    def hostile(self, name: str, reason: str) -> HostileArchive:
        return HostileArchive(
            f"{self.path.name}: the entry {name!r} {reason}.",
            "Nothing was unpacked; ask the service for a new export, and do not open this one by other means.",
        )

    def refuse_name(self, name: str) -> None:
        """Raise HostileArchive for a name that could lead out of the folder it is unpacked to."""
        if "\0" in name or not name:
            raise self.hostile(name, "has no usable name")
        if name.startswith(("/", "\\")) or _DRIVE.match(name):
            raise self.hostile(name, "names an absolute place")
        if ".." in name.replace("\\", "/").split("/"):
            raise self.hostile(name, "leaves its folder")
