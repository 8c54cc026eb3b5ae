"""The intent journal of a run at a depot: written before anything is changed, so that any machine can finish the run.

incoming/RUN/journal.jsonl   one line for the run, then one for each intent, and a mark behind each kind that must be over
                             before the next begins: removals, then moves, then files that are put in place
incoming/RUN/data/...        staged files, complete or not
"""

import json
import os
import shutil
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any, Literal

import msgspec

from bramblemoor.depots import bag
from bramblemoor.depots.depot import Depot
from bramblemoor.depots.line import LINE, next_line
from bramblemoor.depots.run_lists import Sums, write_run
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import digest_of, flush_folder, write_atomically
from bramblemoor.library.lineage import ORIGIN, Link
from bramblemoor.library.receipts import stamp

What = Literal["put", "move", "remove"]
_MARKS = {"remove": "removals are over", "move": "moves are over"}
_TAKEN = "what moves is taken"
_encode = msgspec.json.Encoder().encode


class Intent(msgspec.Struct, frozen=True):
    """A change of data/`path`: a staged file is put there, the file at `was` moves there, or it is removed.

    `why` says what happens to the file that is there now, if any: it moves to earlier/.
    """

    path: str
    sha256: str
    bytes: int
    read_at: str = ""
    grade: str = ""
    why: str = ""
    was: str = ""
    what: What = "put"


class NothingPlaced(OSError):
    """The journal could not be written: the files that it was about are staged, and in nobody's books."""


class Journal:
    """An open run at one depot. `library` is the link of the ledger whose state the depot is brought to."""

    def __init__(self, depot: Depot, run: str, library: Link) -> None:
        self.depot = depot
        self.run = run
        self.folder = depot.root / "incoming" / run
        self._path = self.folder / "journal.jsonl"
        self._data = str(depot.data)
        if not self._path.exists():
            self.folder.mkdir(parents=True, exist_ok=True)
            head = {"run": run, "started": stamp(now_utc()), "library": asdict(library)}
            write_atomically(self._path, json.dumps(head).encode() + b"\n")
            flush_folder(depot.root / "incoming")
            flush_folder(depot.root)

    def staged(self, path: str) -> Path:
        return self.folder / "data" / path

    def staged_name(self, path: str) -> str:
        """The same as text: where there are many small files, making path objects takes longer than writing."""
        return f"{self.folder}/data/{path}"

    def remove(self, intents: Iterable[Intent]) -> None:
        """Move files to earlier/. To be called once, before anything else."""
        self._write_down(intents, _MARKS["remove"])
        self._carry_out_removals()

    def move(self, intents: Iterable[Intent]) -> None:
        """Move files within data/. To be called once, before anything is put in place; they may change places in any way."""
        self._write_down(intents, _MARKS["move"])
        self._carry_out_moves()

    def put_in_place(self, intents: Sequence[Intent]) -> None:
        """Write the intents down durably, then carry them out. The staged files are flushed and proven already.

        Raises NothingPlaced where the journal cannot be written, and nothing was put in place; any other OSError leaves the
        run open, for the journal to be rolled forward.
        """
        before = self._path.stat().st_size
        try:
            self._write_down(intents, "")
        except OSError as error:
            os.truncate(self._path, before)
            raise NothingPlaced(error.errno, error.strerror) from error
        folders = _Folders(self.depot.root)
        for intent in intents:
            self._put(intent, folders, surely_staged=True)
        folders.flush()

    def _write_down(self, intents: Iterable[Intent], mark: str) -> None:
        with self._path.open("ab") as file:
            for intent in intents:
                file.write(_encode(intent) + b"\n")
            if mark:
                file.write(json.dumps({"mark": mark}).encode() + b"\n")
            file.flush()
            os.fsync(file.fileno())

    def _put(self, intent: Intent, folders: "_Folders", *, surely_staged: bool = False) -> None:
        """As long as the staged file is there, what lies in its place is the former version."""
        staged, target = self.staged_name(intent.path), f"{self._data}/{intent.path}"
        if not surely_staged and not os.path.isfile(staged):
            return
        folders.make(target.rpartition("/")[0])
        if os.path.lexists(target):
            self._set_aside(intent.path, folders)
        os.replace(staged, target)

    def _set_aside(self, path: str, folders: "_Folders") -> None:
        former = self.earlier(path)
        folders.make(str(former.parent))
        (self.depot.data / path).replace(former)
        folders.note(str((self.depot.data / path).parent))

    def earlier(self, path: str) -> Path:
        """Where what lay at data/`path` is kept once this run has replaced or removed it."""
        return self.depot.root / "earlier" / self.run / "data" / path

    def _carry_out_removals(self) -> None:
        folders = _Folders(self.depot.root)
        for intent in self._of_kind("remove"):
            if (self.depot.data / intent.path).is_file():
                self._set_aside(intent.path, folders)
        folders.flush()
        self._write_down((), "what is removed is away")

    def _carry_out_moves(self) -> None:
        """First all are taken from their places, then each is put in its new one: so two can change places."""
        if not self._has_mark(_TAKEN):
            folders = _Folders(self.depot.root)
            for intent in self._of_kind("move"):
                old, staged = self.depot.data / intent.was, self.staged(intent.path)
                if old.is_file() and not staged.exists():
                    folders.make(str(staged.parent))
                    old.replace(staged)
                    folders.note(str(old.parent))
            folders.flush()
            self._write_down((), _TAKEN)
        folders = _Folders(self.depot.root)
        for intent in self._of_kind("move"):
            self._put(intent, folders)
        folders.flush()

    def _clear_shadows(self) -> None:
        """After a loss of power some file systems show a moved file under its old name, too: that one is set aside."""
        wanted = {intent.path for intent in self.intents() if intent.what != "remove"}
        folders = _Folders(self.depot.root)
        for intent in self._of_kind("move"):
            old, new = self.depot.data / intent.was, self.depot.data / intent.path
            if intent.was not in wanted and old.is_file() and new.is_file() and digest_of(old) == intent.sha256:
                self._set_aside(intent.was, folders)
        folders.flush()

    def _lines(self) -> Iterator[dict[str, Any]]:
        """The journal line by line; one that broke off was never acted upon."""
        with self._path.open("rb") as file:
            for raw in file:
                with suppress(ValueError):
                    line = json.loads(raw)
                    if isinstance(line, dict):
                        yield line

    def _has_mark(self, mark: str) -> bool:
        return any(line.get("mark") == mark for line in self._lines())

    def _of_kind(self, what: What) -> Iterator[Intent]:
        """The intents of a kind; of removals and moves only if all of them were written down."""
        if what in _MARKS and not self._has_mark(_MARKS[what]):
            return
        for line in self._lines():
            if line.get("what") == what:
                with suppress(msgspec.ValidationError):
                    yield msgspec.convert(line, Intent)

    def intents(self) -> Iterator[Intent]:
        """What was written down so far, in the order in which it is carried out."""
        for what in ("remove", "move", "put"):
            yield from self._of_kind(what)

    def library(self) -> Link:
        """The link of the ledger that the run was begun with."""
        head = next(self._lines(), {})
        with suppress(TypeError):
            return Link(**head["library"])
        return ORIGIN

    def roll_forward(self) -> None:
        if self._has_mark(_MARKS["remove"]) and not self._has_mark("what is removed is away"):
            self._carry_out_removals()
        if self._has_mark(_MARKS["move"]):
            self._carry_out_moves()
            self._clear_shadows()
        folders = _Folders(self.depot.root)
        for intent in self._of_kind("put"):
            self._put(intent, folders)
        folders.flush()

    def placed(self) -> Iterator[Intent]:
        """What came of the intents: removals, and files that are in place."""
        for intent in self.intents():
            waits = intent.what != "remove" and os.path.isfile(self.staged_name(intent.path))
            if intent.what == "remove" or (not waits and (self.depot.data / intent.path).is_file()):
                yield intent

    def close(self, library_name: str, tags: dict[str, bytes]) -> None:
        """End the run: manifest, what it did, tag files (`tags`, by path), line, tag manifest.

        What is written down and not carried out, as a rename failed, is carried out first: a manifest must not list it else.
        """
        root = self.depot.root
        self.roll_forward()
        fresh = set(tags)
        for name, content in tags.items():
            write_atomically(root / name, content)
        anything = next(self.placed(), None) is not None
        if anything:
            fresh |= set(write_run(root, self.run, self.placed, self.earlier))
        if anything or not (root / bag.MANIFEST).is_file():
            with Sums() as sums:
                for intent in self.placed():
                    if intent.what == "move":
                        sums.set(f"data/{intent.was}", None)
                for intent in self.placed():
                    sums.set(f"data/{intent.path}", None if intent.what == "remove" else intent.sha256)
                bag.write_manifest(root, sums)
            write_atomically(root / LINE, next_line(root, self.run, self.library()))
        refresh_tags(self.depot, library_name, fresh, payload_changed=anything)
        shutil.rmtree(root / "incoming")
        flush_folder(root)


class _Folders:
    """Makes folders below a depot, and remembers whose names have to be flushed."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self._touched: dict[str, None] = {}

    def make(self, folder: str) -> None:
        if folder in self._touched:
            return
        missing = []
        level = Path(folder)
        while not level.is_dir() and level != self._root:
            missing.append(level)
            level = level.parent
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


def refresh_tags(depot: Depot, library_name: str, fresh: Collection[str] = (), *, payload_changed: bool = True) -> None:
    """Write the tag files anew after the payload or a tag file has changed; `fresh` names those just written."""
    oxum = None if payload_changed else bag.read_oxum(depot.root)
    if oxum is None:
        size = count = 0
        for path, _ in bag.read_manifest(depot.root / bag.MANIFEST):
            with suppress(FileNotFoundError):
                size += (depot.root / path).stat().st_size
                count += 1
        oxum = (size, count)
    bag.write_tags(depot.root, depot.identity.library, library_name, oxum, stamp(now_utc())[:10], fresh)


def open_run(depot: Depot) -> Journal | None:
    """The run that was interrupted at a depot, if there is one. Writes nothing."""
    incoming = depot.root / "incoming"
    for folder in sorted(incoming.iterdir()) if incoming.is_dir() else ():
        if (folder / "journal.jsonl").is_file():
            return Journal(depot, folder.name, ORIGIN)
    return None


def finish_interrupted(depot: Depot, library_name: str) -> Iterator[Intent]:
    """Roll an interrupted run forward, yield what it had done, and close it. Without one, does nothing.

    To be iterated to the end: it is closed only then.
    """
    journal = open_run(depot)
    if journal is None:
        if (depot.root / "incoming").is_dir():
            shutil.rmtree(depot.root / "incoming")
        return
    journal.roll_forward()
    yield from journal.placed()
    journal.close(library_name, {})
