"""A folder on a mounted file system: an external or internal drive, or a network drive."""

import errno
import io
import os
import shutil
import stat
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from bramblemoor.depots.kinds.folder_stager import FolderStager
from bramblemoor.depots.kinds.interface import INCOMING, PAYLOAD, Log, Moves, Reading, Stager, Store, Stored, Traits
from bramblemoor.depots.kinds.medium import READ, can_prove, open_on_medium, pieces_of
from bramblemoor.disk.durable import (
    NOTHING_THERE,
    clear_unfinished,
    flush_folder,
    free_bytes,
    is_taken,
    replacing,
    status_of,
    write_atomically,
)
from bramblemoor.disk.file_systems import FileSystem, file_system_of, seat_of
from bramblemoor.disk.names import DEPOT_MARK
from bramblemoor.disk.told import Anchor, Inside, Root, require_plain_folders
from bramblemoor.running import PIECE


class FolderStore(Store):
    kind = "folder"

    def __init__(self, where: str, options: dict[str, str], seen: Sequence[int] = ()) -> None:
        super().__init__(where, options, seen)
        self._root = Root(where)
        if not seen and os.path.isdir(where):
            self.seen = Anchor(where).place
        self._anchor = Anchor(where, (self.seen[0], self.seen[1])) if self.seen else None

    @classmethod
    def lies_at(cls, where: str) -> bool:
        return Path(where, DEPOT_MARK).is_file()

    def _path(self, path: str) -> str:
        return self._root.path(Inside(path))

    @cached_property
    def system(self) -> FileSystem:
        return file_system_of(Path(self.where))

    @cached_property
    def traits(self) -> Traits:
        # Of what lies there in any case, as it is asked for before anything is written.
        names = {name for name in os.listdir(self.where) if name.isascii()} if self.is_there else set()
        small = next((name for name in names if name.upper() not in names), None)
        folds = small is not None and os.path.lexists(f"{self.where}/{small.upper()}")
        return Traits(can_prove(self.system), self.system.spins, folds, opens_in_place=True, several_readers=True)

    @property
    def device(self) -> str:
        return self.system.device

    @property
    def seat(self) -> str:
        return seat_of(Path(self.where), PAYLOAD)

    @property
    def writable(self) -> bool:
        return os.access(self.where, os.W_OK)

    @property
    def is_there(self) -> bool:
        return os.path.isdir(self.where)

    def require_there(self) -> None:
        if self._anchor is None:
            raise OSError(errno.ENODEV, "it is not there", self.where)
        self._anchor.require()

    def require_plain(self, folders: Iterable[str]) -> None:
        require_plain_folders(Path(self.where), folders)

    def room(self) -> int:
        return free_bytes(Path(self.where))

    def stat(self, path: str) -> Stored | None:
        status = status_of(self._path(path))
        if status is None or not stat.S_ISREG(status.st_mode):
            return None
        return Stored(path, status.st_size, status.st_mtime_ns)

    def is_taken(self, path: str) -> bool:
        return is_taken(self._path(path))

    def names(self, folder: str) -> list[str]:
        try:
            return sorted(os.listdir(self._path(folder) if folder else self.where))
        except (FileNotFoundError, NotADirectoryError):
            return []

    def folders(self, folder: str) -> list[str]:
        top = self._path(folder)
        return [name for name in self.names(folder) if _is_folder(f"{top}/{name}")]

    def listed(self, folder: str) -> Iterator[str]:
        top = self._path(folder)
        if not _is_folder(top):
            return
        for where, _, names in os.walk(top, onerror=_unless_gone):
            below = folder + where[len(top) :]
            for name in names:
                yield f"{below}/{name}" if os.sep == "/" else f"{below}/{name}".replace(os.sep, "/")

    def is_one(self, path: str, other: str) -> bool:
        try:
            if self.system.keeps_folders:
                return os.path.samefile(self._path(path), self._path(other))
            return self.traits.folds_case
        except OSError:
            return False

    def open(self, path: str) -> io.FileIO:
        return io.FileIO(self._path(path), opener=lambda place, _: os.open(place, READ))

    @contextmanager
    def read(self, path: str, size: int = PIECE) -> Iterator[Reading]:
        descriptor, grade = open_on_medium(self._path(path), proves=self.traits.proves)
        try:
            yield Reading(grade, pieces_of(descriptor, size, grade))
        finally:
            os.close(descriptor)

    def at_hand(self, path: str) -> Path:
        return Path(self._path(path))

    def make_folder(self, folder: str) -> None:
        os.makedirs(self._path(folder), exist_ok=True)

    @contextmanager
    def replacing(self, path: str) -> Iterator[BinaryIO]:
        with replacing(Path(self._path(path))) as file:
            yield file

    def log(self, path: str) -> Log:
        return _FolderLog(self._path(path))

    @contextmanager
    def moving(self) -> Iterator[Moves]:
        folders = Folders(self)
        yield folders
        folders.flush()

    def remove(self, paths: Iterable[str]) -> None:
        folders: dict[str, None] = {}
        for path in paths:
            place = self._path(path)
            with suppress(FileNotFoundError, NotADirectoryError):
                os.unlink(place)
            folders[place.rpartition("/")[0]] = None
        self.leave(folders)

    def leave(self, folders: Iterable[str]) -> None:
        """Remove folders in which nothing is left, and make it durable that something has left the others."""
        for folder in sorted(folders, key=len, reverse=True):
            while folder.count("/") > self.where.count("/") + 1:
                try:
                    os.rmdir(folder)
                except OSError:
                    break
                folder = folder.rpartition("/")[0]
            if os.path.isdir(folder):
                flush_folder(Path(folder))

    def clear(self, folder: str) -> None:
        place = Path(self._path(folder))
        if place.is_dir():
            try:
                shutil.rmtree(place)
            except OSError as error:
                if not os.path.isabs(error.filename or ""):  # the system names the last step only
                    error.filename = str(place)
                raise
        flush_folder(place.parent)

    def clear_unfinished(self, folders: Iterable[str]) -> None:
        clear_unfinished(*(Path(self.where, folder) for folder in folders))

    @contextmanager
    def hold(self, path: str, patience: float = 0) -> Iterator[None]:
        from filelock import FileLock, Timeout  # takes long to load, and what only reads needs no lock

        self.require_there()  # a lock makes the folders that it lies in
        lock = FileLock(self._path(path))
        try:
            lock.acquire(timeout=patience)
        except Timeout as error:
            raise BlockingIOError(errno.EWOULDBLOCK, "another run holds it", self._path(path)) from error
        try:
            yield
        finally:
            lock.release()

    def stager(self, run: str) -> Stager:
        return FolderStager(self.where, run, self.system, self.require_there)


def _is_folder(path: str) -> bool:
    status = status_of(path)
    return status is not None and stat.S_ISDIR(status.st_mode)


def _unless_gone(error: OSError) -> None:
    """A folder that cannot be listed is none that is empty."""
    if error.errno not in NOTHING_THERE:
        raise error


class _FolderLog(Log):
    """A text file that is added to."""

    def __init__(self, path: str) -> None:
        self._path = path

    @property
    def exists(self) -> bool:
        status = status_of(self._path)
        return status is not None and stat.S_ISREG(status.st_mode)

    def begin(self, head: bytes) -> None:
        folder = Path(self._path).parent
        folder.mkdir(parents=True, exist_ok=True)
        write_atomically(Path(self._path), head)
        flush_folder(folder.parent)
        flush_folder(folder.parent.parent)

    def append(self, lines: Iterable[bytes]) -> None:
        with open(self._path, "ab") as file:
            before = file.tell()
            try:
                file.writelines(lines)
                file.flush()
                os.fsync(file.fileno())
            except OSError:
                with suppress(OSError):  # what is left of it broke off, and is passed over
                    os.truncate(self._path, before)
                raise

    def lines(self) -> Iterator[bytes]:
        with open(self._path, "rb") as file:
            yield from file


class Folders(Moves):
    """Moves files below a depot, making folders, and remembers whose names have to be flushed."""

    def __init__(self, store: FolderStore) -> None:
        self._store = store
        self._touched: dict[str, None] = {}
        self._left: dict[str, None] = {}

    def move(self, old: str, new: str) -> None:
        source, target = self._store._path(old), self._store._path(new)
        self._make(target.rpartition("/")[0])
        os.replace(source, target)
        if not old.startswith(f"{INCOMING}/"):  # what is staged is in nobody's books
            self._left[source.rpartition("/")[0]] = None

    def _make(self, folder: str) -> None:
        if folder in self._touched:
            return
        missing = []
        level = folder
        while level != self._store.where and not os.path.isdir(level):
            missing.append(level)
            level = level.rpartition("/")[0]
        if missing:
            self._store.require_there()
        for made in reversed(missing):
            with suppress(FileExistsError):
                os.mkdir(made)
            self._touched[made.rpartition("/")[0]] = None
        self._touched[folder] = None

    def flush(self) -> None:
        for folder in self._touched:
            if os.path.isdir(folder):
                flush_folder(Path(folder))
        self._touched.clear()
        # Only now: until a new name is durable, the old one may be all there is after a loss of power.
        self._store.leave(self._left)
        self._left.clear()
