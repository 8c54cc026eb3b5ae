"""Stand-in drives: folders that pass for a physical device of their own, with faults to order."""

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import cached_property

from bramblemoor.depots.kinds.folder import FolderStore
from bramblemoor.depots.kinds.folder_stager import FolderStager
from bramblemoor.depots.kinds.interface import Grade, Reading, Stager, Staging, Traits
from bramblemoor.running import PIECE
from bramblemoor.standins import DRIVE


class StandInDrive(FolderStore):
    """Options: `device`, the name it passes for; `flips`, a file name in which one bit goes wrong while it is written; `folds`,
    to pass for one that does not tell capitals apart; `slow`, the seconds that it takes over each file.

    Its readings always pass for readings from the medium: the pretence is the point, and every report says so.
    """

    kind = DRIVE

    @cached_property
    def traits(self) -> Traits:
        return replace(super().traits, folds_case=bool(self.options.get("folds")))

    @property
    def device(self) -> str:
        return f"pretend {self.options['device']}"

    @contextmanager
    def read(self, path: str, size: int = PIECE) -> Iterator[Reading]:
        with super().read(path, size) as reading:
            yield Reading("medium", reading.pieces)

    def stager(self, run: str) -> Stager:
        stager = _PretendingStager(self.where, run, self.system, self.require_there)
        stager.flips, stager.slow = self.options.get("flips"), float(self.options.get("slow", "0"))
        return stager


class _PretendingStager(FolderStager):
    flips: str | None = None
    """The name of files that go wrong."""
    slow = 0.0
    """Seconds that it takes over each file."""

    def _goes_wrong(self, path: str) -> bool:
        return path.rpartition("/")[2] == self.flips

    def write_small(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        time.sleep(self.slow)
        super().write_small(path, _flipped(content) if self._goes_wrong(path) else content, mtime_ns)

    def begin(self, path: str, mtime_ns: int) -> Staging:
        time.sleep(self.slow)
        staging = super().begin(path, mtime_ns)
        return _Flipping(staging) if self._goes_wrong(path) else staging

    def prove(self, path: str, sha256: str, parts: Sequence[memoryview] | None) -> tuple[bool, Grade]:
        return super().prove(path, sha256, parts)[0], "medium"


def _flipped(content: bytes | memoryview) -> bytes:
    return bytes((content[0] ^ 1,)) + bytes(content[1:])


class _Flipping(Staging):
    """Writes what it is given, but for the lowest bit of the first byte."""

    def __init__(self, staging: Staging) -> None:
        self._staging = staging
        self._flipped = False

    def write(self, piece: memoryview) -> None:
        if not self._flipped and piece:
            self._flipped = True
            piece = memoryview(_flipped(piece))
        self._staging.write(piece)

    def end(self) -> None:
        self._staging.end()

    def abandon(self) -> None:
        self._staging.abandon()
