"""Filing: choosing paths that are free, putting files in place, and putting a good one back where one is amiss."""

import errno
import hashlib
import os
import shutil
from collections.abc import Callable, Hashable, Iterator, Mapping
from contextlib import suppress
from io import RawIOBase
from pathlib import Path
from typing import TypeVar

from bramblemoor.disk.durable import beside, digest_of, flush_file, flush_folder, is_taken, set_time
from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.library.home import Library
from bramblemoor.running import PIECE

Key = TypeVar("Key", bound=Hashable)


def free_paths(
    library: Library,
    folder: str,
    wanted: Mapping[Key, str],
    digests: Mapping[Key, str],
    is_planned: Callable[[str], bool],
) -> dict[Key, str]:
    """A path for each file of a frame in a folder, by its wanted name, the original's first: one number tells all from others.

    `is_planned` says of a collision key whether something else is to lie there. A file with the same content may lie there
    already: an earlier run put it in place and was killed.
    """
    safe = {key: safe_name(name) for key, name in wanted.items()}
    names = list(safe.values())
    base = _frame_base(names[0], names)

    def numbered(name: str, number_of_base: str) -> str:
        return number_of_base + name[len(base) :]

    def taken(candidate: str) -> bool:
        return any(
            _is_taken(library, f"{folder}/{numbered(name, candidate)}", digests[key], is_planned)
            for key, name in safe.items()
        )

    seen: set[str] = set()
    for key, name in safe.items():  # two files of a frame may come under one name, from two parts
        safe[key] = free_name(name, lambda other: collision_key(other) in seen)
        seen.add(collision_key(safe[key]))
    chosen = free_name(base, taken)
    return {key: f"{folder}/{numbered(name, chosen)}" for key, name in safe.items()}


def _frame_base(original: str, names: list[str]) -> str:
    """What all names of a frame begin with: a number that tells it from another frame goes behind this, in all of them."""
    stem = original.rpartition(".")[0] or original
    return stem if all(name.startswith(stem) for name in names) else ""


def _is_taken(library: Library, path: str, digest: str, is_planned: Callable[[str], bool]) -> bool:
    """Whether a path would collide with another file, in the plan, in the ledger, or on disk."""
    key = collision_key(path)
    if is_planned(key) or library.db.execute("SELECT 1 FROM files WHERE collision = ?", (key,)).fetchone():
        return True
    target = f"{library.root}/{path}"
    return os.path.exists(target) and (not os.path.isfile(target) or digest_of(Path(target)) != digest)


class Filing:
    """Files that are put in place one by one; `flush` makes their names durable."""

    def __init__(self, library: Library) -> None:
        self._root = library.root
        self._made: set[str] = set()
        self.folders: dict[Path, None] = {}

    def put(self, staged: str, path: str, mtime_ns: int | None) -> None:
        """Move a staged file to its path, with its time; where it is not staged, an earlier run has put it there."""
        folder = path.rpartition("/")[0]
        if folder not in self._made:
            place = self._root / folder
            place.mkdir(parents=True, exist_ok=True)
            self._made.add(folder)
            self.folders[place] = None
        if os.path.isfile(staged):
            if mtime_ns is not None:
                set_time(staged, mtime_ns)
            os.replace(staged, f"{self._root}/{path}")

    def flush(self) -> None:
        for folder in self.folders:
            flush_folder(folder)
            flush_folder(folder.parent)


def _trust(_: Path) -> None:
    """What was flushed is taken for written."""


def put_back(
    opened: Callable[[], RawIOBase],
    target: Path,
    sha256: str,
    mtime_ns: int,
    aside: Path,
    prove: Callable[[Path], None] = _trust,
) -> bool:
    """Put a good file in the place of one that is amiss; what lies there moves to `aside`, to a name that is free beside it.

    False where the source is not what it should be. `prove` looks at what was written, and raises OSError where it is not what
    it should be; so does this where the target cannot be written. What was there then still is.
    """
    fresh, digest = beside(target), hashlib.sha256()
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        with fresh.open("wb") as copy:
            for piece in pieces_of(opened):
                digest.update(piece)
                copy.write(piece)
        if digest.hexdigest() != sha256:
            return False
        flush_file(fresh)
        prove(fresh)
        set_time(fresh, mtime_ns)
        if is_taken(target):
            _set_aside(target, aside)
        fresh.replace(target)
        flush_folder(target.parent)
        return True
    finally:
        fresh.unlink(missing_ok=True)


def pieces_of(opened: Callable[[], RawIOBase]) -> Iterator[bytes]:
    """A source's content; as much as can be read of it, so that one that cannot is not whole."""
    with suppress(OSError), opened() as file:
        while piece := file.read(PIECE):
            yield piece


def _set_aside(target: Path, aside: Path) -> None:
    """Move a file aside; where that is another drive, copy what can be read of it, as it will be replaced."""
    aside.parent.mkdir(parents=True, exist_ok=True)
    aside = aside.with_name(free_name(aside.name, lambda name: os.path.lexists(aside.with_name(name))))
    try:
        target.replace(aside)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        with suppress(OSError):
            shutil.copyfile(target, aside)
