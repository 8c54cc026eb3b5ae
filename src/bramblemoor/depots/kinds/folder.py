"""A folder on a mounted file system: an external or internal drive, or a network drive."""

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from bramblemoor.depots.kinds.interface import Drive, Grade, Reading
from bramblemoor.library.durable import flush_file, flush_many
from bramblemoor.library.volumes import Volume, volume_of

_APART = 4 << 20


class FolderDrive(Drive):
    kind = "folder"

    @cached_property
    def volume(self) -> Volume:
        return volume_of(self.root)

    @property
    def device(self) -> str:
        return self.volume.device

    def open_to_write(self, path: Path) -> BinaryIO:
        return path.open("wb", buffering=0)

    def flush(self, paths: Sequence[Path]) -> None:
        flush_many(paths, self.root, whole_system=self.volume.flushes_whole)

    def flush_one(self, path: Path) -> None:
        flush_file(path)

    @contextmanager
    def read_from_medium(self, path: Path, size: int) -> Iterator[Reading]:
        with path.open("rb", buffering=0) as file:
            yield Reading(self._grade(file.fileno()), iter(lambda: _read_full(file, size), b""))

    def _grade(self, descriptor: int) -> Grade:
        """Drop the file's cached pages, then ask for some without waiting: only where none answers, a read is from the medium."""
        if not self.volume.can_prove_reading or not hasattr(os, "posix_fadvise") or not hasattr(os, "RWF_NOWAIT"):
            return "maybe-cache"
        length = os.fstat(descriptor).st_size
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        probe = bytearray(1)
        # Asking starts a read-ahead: probes must lie farther apart than it reaches.
        offsets = (length - 1, length // 2, 0) if length > _APART else (0,) * bool(length)
        for offset in offsets:
            try:
                os.preadv(descriptor, [probe], offset, os.RWF_NOWAIT)
            except BlockingIOError:
                continue
            except OSError:
                return "maybe-cache"  # the file system cannot tell
            return "maybe-cache"  # the byte was at hand
        return "medium"


def _read_full(file: BinaryIO, size: int) -> bytes:
    """Exactly `size` bytes unless the file ends: pieces must line up with those that were written."""
    piece = file.read(size)
    while piece and len(piece) < size and (more := file.read(size - len(piece))):
        piece += more
    return piece
