"""Putting files in place at a depot: the part of an open run that its writing process and the run itself share.

incoming/RUN/journal.jsonl   what is to be done, written down before it is done
incoming/RUN/data/...        staged files, complete or not
incoming/RUN/writing.lock    held by the writing process, which may outlive a killed run by a moment
"""

import json
import os
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Literal

import msgspec

from bramblemoor.disk.durable import NAME_REFUSED, flush_folder, in_the_way
from bramblemoor.disk.names import may_be_refused
from bramblemoor.disk.told import Anchor, Inside, Root, is_plain_file

What = Literal["put", "move", "remove"]
WRITING = "writing.lock"
_encode = msgspec.json.Encoder().encode


class Intent(msgspec.Struct, frozen=True, gc=False):
    """A change of data/`path`: a staged file is put there, the file at `was` moves there, or it is removed.

    `why` says what happens to the file that is there now, if any: it moves to earlier/. `mends` says that it is damaged.
    """

    path: str
    sha256: str
    bytes: int
    read_at: str = ""
    grade: str = ""
    why: str = ""
    was: str = ""
    what: What = "put"
    mends: bool = False


class NothingPlaced(OSError):
    """The journal could not be written: the files that it was about are staged, and in nobody's books."""


class Placing:
    """The staged files of a run at the depot in `root`, and the way into place."""

    def __init__(self, root: Path, run: str, anchor: Anchor) -> None:
        self.root = root
        self.run = run
        self.folder = root / "incoming" / run
        self._path = self.folder / "journal.jsonl"
        self._data = str(root / "data")
        self._staged = str(self.folder / "data")
        self._root = Root(root)
        # In whose way nothing lies: whether a drive may refuse their names, and whether folders lie in them.
        self._folders: dict[str, tuple[bool, bool]] = {}
        self.anchor = anchor

    def place(self, path: str) -> Path:
        """Where a file of the payload lies. Raises Outside (an OSError) where a link or another mount is on the way."""
        return Path(self._root.path(Inside(f"data/{path}")))

    def hindrance(self, path: str, *, suspect: bool = False) -> str:
        """Why a file cannot come to its place, "" for nothing: what lies there is to stay, or the drive refuses the name.

        A name is tried where some file systems are known to refuse such, or it is `suspect`.
        """
        folder, _, name = path.rpartition("/")
        known = self._folders.get(folder)
        # One look at a folder, and not one at each place in it: there are many.
        if known is None or ((suspect or known[1]) and os.path.isdir(f"{self._data}/{path}")):
            if there := in_the_way(self._data, path):
                return f"{there} lies there in its way: rename this one, or let that go (stocktake --let-go)"
            known = self._folders[folder] = may_be_refused(folder), _holds_folders(f"{self._data}/{folder}")
        return self._refusal(path) if suspect or known[0] or may_be_refused(name) else ""

    def _refusal(self, path: str) -> str:
        """What a drive says to a name that not all can hold, tried where files are staged."""
        staged = self.staged(path)
        self.anchor.require()
        try:
            staged.parent.mkdir(parents=True, exist_ok=True)
            os.close(os.open(staged, os.O_WRONLY | os.O_CREAT | os.O_EXCL))
            os.unlink(staged)
        except FileExistsError:
            return ""
        except OSError as error:
            # Some drives answer a name that they cannot hold as if its folder were missing.
            if error.errno not in NAME_REFUSED or not self.folder.is_dir():
                raise
            return f"this drive cannot hold such a name ({error.strerror}): rename it in the library, or leave it out there"
        return ""

    def staged(self, path: str) -> Path:
        return self.folder / "data" / path

    def staged_name(self, path: str) -> str:
        """The same as text: where there are many small files, making path objects takes longer than writing."""
        return f"{self._staged}/{path}"

    def put_in_place(self, intents: Sequence[Intent]) -> None:
        """Write the intents down durably, then carry them out. The staged files are flushed and proven already.

        Raises NothingPlaced where the journal cannot be written, and nothing was put in place; any other OSError leaves the
        run open, for the journal to be rolled forward.
        """
        self.anchor.require()
        before = self._path.stat().st_size
        try:
            self.write_down(intents, "")
        except OSError as error:
            os.truncate(self._path, before)
            raise NothingPlaced(error.errno, error.strerror) from error
        folders = Folders(self.root, self.anchor)
        for intent in intents:
            self.put(intent, folders, surely_staged=True)
        folders.flush()

    def write_down(self, intents: Iterable[Intent], mark: str) -> None:
        with self._path.open("ab") as file:
            for intent in intents:
                file.write(_encode(intent) + b"\n")
            if mark:
                file.write(json.dumps({"mark": mark}).encode() + b"\n")
            file.flush()
            os.fsync(file.fileno())

    def put(self, intent: Intent, folders: "Folders", *, surely_staged: bool = False) -> None:
        """As long as the staged file is there, what lies in its place is the former version."""
        staged, target = self.staged_name(intent.path), self._root.path(Inside(f"data/{intent.path}"))
        if not surely_staged and not is_plain_file(staged):
            return
        folders.make(target.rpartition("/")[0])
        if os.path.lexists(target):
            self.set_aside(intent.path, folders)
        os.replace(staged, target)

    def set_aside(self, path: str, folders: "Folders") -> None:
        former = Path(self._root.path(Inside(f"earlier/{self.run}/data/{path}")))
        folders.make(str(former.parent))
        place = self.place(path)
        # Where names fold, the system may go on showing for a moment under one spelling what was just moved under another.
        with suppress(FileNotFoundError):
            place.replace(former)
        folders.note(str(place.parent))

    def earlier(self, path: str) -> Path:
        """Where what lay at data/`path` is kept once this run has replaced or removed it."""
        return self.root / "earlier" / self.run / "data" / path


def _holds_folders(folder: str) -> bool:
    try:
        with os.scandir(folder) as entries:
            return any(entry.is_dir(follow_symlinks=False) for entry in entries)
    except (FileNotFoundError, NotADirectoryError):
        return False


class Folders:
    """Makes folders below a depot, and remembers whose names have to be flushed."""

    def __init__(self, root: Path, anchor: Anchor) -> None:
        self._root = root
        self._anchor = anchor
        self._touched: dict[str, None] = {}

    def make(self, folder: str) -> None:
        if folder in self._touched:
            return
        missing = []
        level = Path(folder)
        while not level.is_dir() and level != self._root:
            missing.append(level)
            level = level.parent
        if missing:
            self._anchor.require()
        for made in reversed(missing):
            made.mkdir(exist_ok=True)
            self._touched[str(made.parent)] = None
        self._touched[folder] = None

    def note(self, folder: str) -> None:
        self._touched[folder] = None

    def flush(self) -> None:
        for folder in map(Path, self._touched):
            if folder.is_dir():
                flush_folder(folder)
        self._touched.clear()
