"""How files come to a depot in a folder: staged beside the payload, flushed together, read back past the cache."""

import hashlib
import os
from collections.abc import Callable, Sequence
from contextlib import suppress
from io import RawIOBase
from pathlib import Path

from bramblemoor.depots.kinds.interface import INCOMING, PAYLOAD, Grade, Stager, Staging
from bramblemoor.depots.kinds.medium import can_prove, is_just, open_on_medium, open_past_cache, pieces_of
from bramblemoor.disk.durable import NAME_REFUSED, flush_file, flush_many, in_the_way, set_time
from bramblemoor.disk.file_systems import FileSystem
from bramblemoor.disk.names import may_be_refused
from bramblemoor.running import PIECE

_WRITE = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_BINARY", 0)


class FolderStager(Stager):
    """`require_there` raises OSError where the depot's drive is gone.

    Paths are text: where there are many small files, making path objects takes longer than writing.
    """

    def __init__(self, where: str, run: str, system: FileSystem, require_there: Callable[[], None]) -> None:
        self.run = run
        self._where, self._system, self._require_there = where, system, require_there
        self._proves = can_prove(system)
        self._folder = f"{where}/{INCOMING}/{run}"
        self._staged = f"{where}/{self.staged('')}".rstrip("/")
        self._data = f"{where}/{PAYLOAD}"
        self._made: set[str] = set()
        # In whose way nothing lies: whether a drive may refuse their names, and whether folders lie in them.
        self._clear: dict[str, tuple[bool, bool]] = {}

    def hindrance(self, path: str, *, suspect: bool = False) -> str:
        folder, _, name = path.rpartition("/")
        known = self._clear.get(folder)
        # One look at a folder, and not one at each place in it: there are many.
        if known is None or ((suspect or known[1]) and os.path.isdir(f"{self._data}/{path}")):
            if there := in_the_way(self._data, path):
                return f"{there} lies there in its way: rename this one, or let that go (stocktake --let-go)"
            known = self._clear[folder] = may_be_refused(folder), _holds_folders(f"{self._data}/{folder}")
        return self._refusal(path) if suspect or known[0] or may_be_refused(name) else ""

    def _refusal(self, path: str) -> str:
        """What a drive says to a name that not all can hold, tried where files are staged."""
        staged = f"{self._staged}/{path}"
        self._require_there()
        try:
            os.makedirs(staged.rpartition("/")[0], exist_ok=True)
            os.close(os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL))
            os.unlink(staged)
        except FileExistsError:
            return ""
        except OSError as error:
            # Some drives answer a name that they cannot hold as if its folder were missing.
            if error.errno not in NAME_REFUSED or not self.is_there:
                raise
            return f"this drive cannot hold such a name ({error.strerror}): rename it in the library, or leave it out there"
        return ""

    def _place(self, path: str) -> str:
        """Where a file is staged; its folder is made."""
        staged = f"{self._staged}/{path}"
        folder = staged.rpartition("/")[0]
        if folder not in self._made:
            self._require_there()
            os.makedirs(folder, exist_ok=True)
            self._made.add(folder)
        return staged

    def write_small(self, path: str, content: bytes | memoryview, mtime_ns: int) -> None:
        _write_at_once(self._place(path), content)
        set_time(f"{self._staged}/{path}", mtime_ns)

    def begin(self, path: str, mtime_ns: int) -> Staging:
        place = self._place(path)
        return _FolderStaging(place, open_past_cache(place, proves=self._proves), mtime_ns)

    def flush(self, paths: Sequence[str]) -> None:
        places = (Path(self._staged, path) for path in paths)
        flush_many(places, Path(self._where), whole_system=self._system.flushes_whole)

    def flush_one(self, path: str) -> None:
        flush_file(Path(self._staged, path))

    def prove(self, path: str, sha256: str, parts: Sequence[memoryview] | None) -> tuple[bool, Grade]:
        descriptor, grade = open_on_medium(f"{self._staged}/{path}", proves=self._proves)
        try:
            if parts is not None:
                return is_just(descriptor, parts or [memoryview(b"")], grade), grade
            digest = hashlib.sha256()
            for piece in pieces_of(descriptor, PIECE, grade):
                digest.update(piece)
            return digest.hexdigest() == sha256, grade
        finally:
            os.close(descriptor)

    def discard(self, path: str) -> None:
        with suppress(FileNotFoundError):
            os.unlink(f"{self._staged}/{path}")

    def still_writes(self) -> bool:
        trial = f"{self._folder}/trial"
        try:
            _write_at_once(trial, b"trial")
            flush_file(Path(trial))
            os.unlink(trial)
        except OSError:
            return False
        return True

    @property
    def is_there(self) -> bool:
        return os.path.isdir(self._folder)


class _FolderStaging(Staging):
    def __init__(self, place: str, file: RawIOBase, mtime_ns: int) -> None:
        self._place, self._file, self._mtime_ns = place, file, mtime_ns

    def write(self, piece: memoryview) -> None:
        while piece:
            piece = piece[self._file.write(piece) or 0 :]

    def end(self) -> None:
        self._file.close()
        set_time(self._place, self._mtime_ns)

    def abandon(self) -> None:
        with suppress(OSError):
            self._file.close()
        with suppress(FileNotFoundError):
            os.unlink(self._place)


def _write_at_once(path: str, content: bytes | memoryview) -> None:
    descriptor = os.open(path, _WRITE, 0o666)
    try:
        rest = memoryview(content)
        while rest:
            rest = rest[os.write(descriptor, rest) :]
    finally:
        os.close(descriptor)


def _holds_folders(folder: str) -> bool:
    try:
        with os.scandir(folder) as entries:
            return any(entry.is_dir(follow_symlinks=False) for entry in entries)
    except (FileNotFoundError, NotADirectoryError):
        return False
