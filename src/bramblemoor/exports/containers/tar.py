"""Reading tar parts (POSIX.1-2001 pax), plain or gzipped (RFC 1952), without trusting them."""

import gzip
import os
import tarfile
import threading
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, cast

from bramblemoor.exports.containers.interface import CHUNK, MOST, Container, Entry

_MOST_RATIO = 1100  # deflate cannot expand more than 1032 times
_SLACK = 64 << 20


class TarPart(Container):
    """A gzipped archive can only be read from front to back: its contents are asked for in the order of `at`, by one thread."""

    def __init__(self, path: Path) -> None:
        super().__init__(path)
        self._raw = path.open("rb")
        self._packed = self._raw.read(2) == b"\x1f\x8b"
        self._raw.seek(0)
        self._file = cast(IO[bytes], gzip.GzipFile(fileobj=self._raw, mode="rb")) if self._packed else self._raw
        self.several_readers = False
        self._lock = threading.Lock()

    def close(self) -> None:
        self._file.close()
        self._raw.close()

    def entries(self) -> Iterator[Entry]:
        size = os.fstat(self._raw.fileno()).st_size
        most = size * _MOST_RATIO + _SLACK if self._packed else size
        with self._reading():
            self._file.seek(0)
            with tarfile.open(fileobj=self._file, mode="r:") as archive:
                while (member := archive.next()) is not None:
                    archive.members = []  # type: ignore[attr-defined]  # it would remember every one
                    if member.size < 0 or member.offset_data + member.size > min(most, MOST):
                        raise self.broken(f"the entry {member.name!r} claims more bytes than there are")
                    self._refuse(member)
                    if member.isreg():
                        yield Entry(member.name.removeprefix("./"), member.size, member.offset_data)
            if self._packed:  # only at its end does gzip tell whether all was right
                while self._file.read(CHUNK):
                    pass

    def _refuse(self, member: tarfile.TarInfo) -> None:
        self.refuse_name(member.name.removeprefix("./") or ".")
        if member.issym() or member.islnk():
            raise self.hostile(member.name, "is a link")
        if not member.isreg() and not member.isdir():
            raise self.hostile(member.name, "is a device or pipe")
        if member.issparse():
            raise self.broken(f"the entry {member.name!r} is sparse, which Bramblemoor cannot read")

    def content(self, entry: Entry) -> Iterator[bytes]:
        left = entry.size
        with self._lock, self._reading():
            self._file.seek(entry.at)
            while left:
                piece = self._file.read(min(CHUNK, left))
                if not piece:
                    raise self.broken(f"the entry {entry.name!r} breaks off")
                left -= len(piece)
                yield piece

    @contextmanager
    def _reading(self) -> Iterator[None]:
        try:
            yield
        except (tarfile.TarError, EOFError, zlib.error, gzip.BadGzipFile, ValueError) as error:
            raise self.broken(f"it cannot be read to its end ({error})") from None
