"""Where bytes of a picture come from: memory while unpacking, a file afterwards."""

import os
from pathlib import Path
from types import TracebackType
from typing import Protocol, Self


class ByteSource(Protocol):
    """Random access to a picture's bytes. `read` returns fewer bytes than asked for at the end and never raises for it."""

    @property
    def size(self) -> int: ...

    def read(self, offset: int, length: int) -> bytes: ...


class MemorySource:
    """Bytes already at hand."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self.size = len(data)

    def read(self, offset: int, length: int) -> bytes:
        return self._data[offset : offset + length] if offset >= 0 else b""


class FileSource:
    """A file on disk; use as a context manager."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb")
        self.size = os.fstat(self._file.fileno()).st_size

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0:
            return b""
        self._file.seek(offset)
        return self._file.read(length)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._file.close()
