"""Stand-in drives: folders that pass for a physical device of their own, with faults to order."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import BinaryIO, cast

from bramblemoor.depots.kinds.folder import FolderDrive
from bramblemoor.depots.kinds.interface import Grade, Reading


class StandInDrive(FolderDrive):
    """Options: `device`, the name it passes for; `flips`, a file name in which one bit goes wrong while it is written; `folds`,
    to pass for one that does not tell capitals apart.

    Its readings always pass for readings from the medium: the pretence is the point, and every report says so.
    """

    kind = "stand-in drive"

    @cached_property
    def folds_case(self) -> bool:
        return bool(self.options.get("folds"))

    @property
    def device(self) -> str:
        return f"pretend {self.options['device']}"

    def open_to_write(self, path: Path) -> BinaryIO:
        file = super().open_to_write(path)
        return cast(BinaryIO, _Flipping(file)) if path.name == self.options.get("flips") else file

    def write(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        if path.endswith(f"/{self.options.get('flips')}"):
            content = bytes((content[0] ^ 1,)) + bytes(content[1:])
        super().write(path, content, mtime_ns)

    def compare(self, path: str, parts: Sequence[memoryview]) -> tuple[bool, Grade]:
        return super().compare(path, parts)[0], "medium"

    @contextmanager
    def read_from_medium(self, path: Path, size: int) -> Iterator[Reading]:
        with super().read_from_medium(path, size) as reading:
            yield Reading("medium", reading.pieces)


class _Flipping:
    """Writes what it is given, but for the lowest bit of the first byte."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._flipped = False

    def write(self, piece: bytes) -> int:
        if not self._flipped and piece:
            self._flipped = True
            piece = bytes((piece[0] ^ 1,)) + piece[1:]
        return self._file.write(piece)

    def __enter__(self) -> "_Flipping":
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()
