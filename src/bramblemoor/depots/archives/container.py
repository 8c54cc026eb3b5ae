"""Volumes as files: ZIP (APPNOTE 6.3, stored, ZIP64 where needed) and tar (POSIX.1-2001 pax), each a whole bag in one folder."""

import io
import os
import shutil
import struct
import tarfile
import time
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, BinaryIO, Literal

from bramblemoor.errors import NotPossible
from bramblemoor.running import PIECE

Form = Literal["zip", "tar"]
_EARLIEST, _LATEST = 315_532_800, 4_354_819_198  # what a ZIP entry's DOS time can say: 1980 to 2107
_MOST_AT_ONCE = 1 << 30  # of lists and of shares of a ledger, which are read whole
_TIMESTAMP = 0x5455  # the extra field with the time of modification, UTC


class VolumeWriter(ABC):
    """A volume that is being written."""

    @abstractmethod
    def add(self, name: str, content: IO[bytes], size: int, mtime_ns: int) -> None:
        """Add an entry of just `size` bytes."""

    @abstractmethod
    def close(self) -> None: ...

    @staticmethod
    @abstractmethod
    def overhead(name: str) -> int:
        """At most so many bytes come to an entry's content, its line in the manifest included."""


class _Zip(VolumeWriter):
    def __init__(self, file: BinaryIO) -> None:
        self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_STORED, allowZip64=True)

    def add(self, name: str, content: IO[bytes], size: int, mtime_ns: int) -> None:
        seconds = mtime_ns // 10**9
        entry = zipfile.ZipInfo(name, time.gmtime(min(max(seconds, _EARLIEST), _LATEST))[:6])
        entry.file_size = size
        entry.external_attr = 0o100644 << 16
        if -(2**31) <= seconds < 2**31:
            entry.extra = struct.pack("<HHBl", _TIMESTAMP, 5, 1, seconds)
        with self._zip.open(entry, "w", force_zip64=size >= 2**31) as target:
            shutil.copyfileobj(content, target, PIECE)

    def close(self) -> None:
        self._zip.close()

    @staticmethod
    def overhead(name: str) -> int:
        return 256 + 3 * len(name.encode())


class _Tar(VolumeWriter):
    def __init__(self, file: BinaryIO) -> None:
        self._tar = tarfile.TarFile(fileobj=file, mode="w", format=tarfile.PAX_FORMAT, copybufsize=PIECE)

    def add(self, name: str, content: IO[bytes], size: int, mtime_ns: int) -> None:
        entry = tarfile.TarInfo(name)
        entry.size, entry.mtime, entry.mode = size, max(0, mtime_ns // 10**9), 0o644
        if mtime_ns % 10**9 or mtime_ns < 0:
            entry.pax_headers = {"mtime": f"{mtime_ns / 10**9:.9f}"}
        self._tar.addfile(entry, content)

    def close(self) -> None:
        self._tar.close()

    @staticmethod
    def overhead(name: str) -> int:
        return 4096 + 3 * len(name.encode())


WRITERS: dict[Form, type[_Zip] | type[_Tar]] = {"zip": _Zip, "tar": _Tar}


class VolumeReader:
    """An open volume: its entries by name, without the folder that all of them lie in."""

    def __init__(self, path: Path, file: BinaryIO) -> None:
        """Raises NotPossible where it is no volume, or too damaged to be opened."""
        self.path = path
        self._members: dict[str, zipfile.ZipInfo | tarfile.TarInfo] = {}
        try:
            if zipfile.is_zipfile(file):
                self._zip: zipfile.ZipFile | None = zipfile.ZipFile(file)
                for entry in self._zip.infolist():
                    self._members[entry.filename.partition("/")[2]] = entry
            else:
                file.seek(0)
                self._zip = None
                self._tar = tarfile.TarFile(fileobj=file, mode="r")
                for member in self._tar:
                    self._members[member.name.partition("/")[2]] = member
        except (zipfile.BadZipFile, tarfile.TarError, OSError, ValueError) as error:
            raise NotPossible(
                f"{path} cannot be opened as a volume ({error}).",
                "If it is one, it is damaged: take another copy of it.",
            ) from error

    def __contains__(self, name: str) -> bool:
        return name in self._members

    def size(self, name: str) -> int:
        entry = self._members[name]
        return entry.file_size if isinstance(entry, zipfile.ZipInfo) else entry.size

    def pieces(self, name: str) -> Iterator[bytes]:
        """An entry's content. Raises FileNotFoundError where there is none, OSError where the container is damaged there."""
        try:
            entry = self._members[name]
        except KeyError:
            raise FileNotFoundError(name) from None
        try:
            with self._open(entry) as content:
                yield from iter(lambda: content.read(PIECE), b"")
        except (zipfile.BadZipFile, tarfile.TarError, EOFError, NotImplementedError, RuntimeError) as error:
            raise OSError(0, f"the volume is damaged there: {error}") from error

    def content(self, name: str) -> bytes:
        """A small entry, whole. Raises OSError as `pieces` does, and for one that is no small one."""
        if name in self and self.size(name) > _MOST_AT_ONCE:
            raise OSError(0, f"the volume's {name} is larger than can be")
        return b"".join(self.pieces(name))

    @contextmanager
    def _open(self, entry: zipfile.ZipInfo | tarfile.TarInfo) -> Iterator[IO[bytes]]:
        if isinstance(entry, zipfile.ZipInfo):
            assert self._zip is not None
            with self._zip.open(entry) as content:
                yield content
        else:
            taken = self._tar.extractfile(entry)
            yield taken if taken is not None else io.BytesIO()


def written() -> int:
    """A time for entries that have none of their own, ns since 1970: now, in whole seconds."""
    return int(datetime.now(UTC).timestamp()) * 10**9


def flush(file: BinaryIO) -> None:
    file.flush()
    os.fsync(file.fileno())
