"""The intent journal of a run at a depot: written before anything is changed, so that any machine can finish the run.

incoming/RUN/journal.jsonl   one line for the run, then one for each intent, and a mark behind each kind that must be over
                             before the next begins: removals, then moves, then files that are put in place
incoming/RUN/data/...        staged files, complete or not
"""

import json
import os
import shutil
from collections.abc import Collection, Iterable, Iterator
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path

import msgspec

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.line import LINE, next_line
from bramblemoor.depots.bag.placing import WRITING, Folders, Intent, Placing, What
from bramblemoor.depots.bag.run_lists import Sums, write_run
from bramblemoor.disk.durable import NAME_REFUSED, digest_of, flush_folder, in_the_way, write_atomically
from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import Inside, inside_or_none, is_plain_file
from bramblemoor.errors import DepotTrouble
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.lineage import ORIGIN, Link
from bramblemoor.library.receipts import stamp
from bramblemoor.library.troubles import Trouble

_MARKS = {"remove": "removals are over", "move": "moves are over"}
_TAKEN = "what moves is taken"
_PATIENCE = 60  # seconds
_MARK = b'{"mark"'
_decode = msgspec.json.Decoder(Intent).decode


class _Head(msgspec.Struct):
    """The journal's first line."""

    library: Link


class Journal(Placing):
    """An open run at one depot. `library` is the link of the ledger whose state the depot is brought to."""

    def __init__(self, depot: Depot, run: str, library: Link) -> None:
        super().__init__(depot.root, run, depot.anchor)
        self.depot = depot
        self._oxum: tuple[int, int] | None = None  # of the payload before the run; None where that is not sure any more
        if not self._path.exists():
            self.anchor.require()
            self._oxum = bag.read_oxum(depot.root) if (depot.root / bag.MANIFEST).is_file() else (0, 0)
            self.folder.mkdir(parents=True, exist_ok=True)
            head = {"run": run, "started": stamp(now_utc()), "library": asdict(library)}
            write_atomically(self._path, json.dumps(head).encode() + b"\n")
            flush_folder(depot.root / "incoming")
            flush_folder(depot.root)

    def remove(self, intents: Iterable[Intent]) -> None:
        """Move files to earlier/. To be called once, before anything else."""
        self.write_down(intents, _MARKS["remove"])
        self._carry_out_removals()

    def move(self, intents: Iterable[Intent]) -> Iterator[tuple[Intent, str]]:
        """Move files within data/. To be called once, before anything is put in place; they may change places in any way.

        Returns each intent with why it was not carried out, so that the file keeps its former name; "" where it was.
        """
        self.write_down(intents, _MARKS["move"])
        self._carry_out_moves()
        return ((intent, self._why_not_moved(intent)) for intent in self._of_kind("move"))

    def _why_not_moved(self, intent: Intent) -> str:
        if self._is_moved(intent):
            return ""
        if not is_plain_file(f"{self._data}/{intent.was}"):
            return Trouble("missing").said()
        return self.hindrance(intent.path, suspect=True)

    def _is_moved(self, intent: Intent) -> bool:
        return is_plain_file(f"{self._data}/{intent.path}")

    def _carry_out_removals(self) -> None:
        folders = Folders(self.root, self.anchor)
        for intent in self._of_kind("remove"):
            if is_plain_file(self.place(intent.path)):
                self.set_aside(intent.path, folders)
        folders.flush()
        self.write_down((), "what is removed is away")

    def _carry_out_moves(self) -> None:
        """First all are taken from their places, then each is put in its new one: so two can change places."""
        if not self._has_mark(_TAKEN):
            folders = Folders(self.root, self.anchor)
            for intent in self._of_kind("move"):
                old, staged = self.place(intent.was), self.staged(intent.path)
                if not is_plain_file(old) or os.path.lexists(staged) or in_the_way(self._data, intent.path):
                    continue
                try:
                    folders.make(str(staged.parent))
                    old.replace(staged)
                except OSError as error:
                    if error.errno not in NAME_REFUSED or not self.folder.is_dir():
                        raise
                    continue  # it keeps its former name
                folders.note(str(old.parent))
            folders.flush()
            self.write_down((), _TAKEN)
        folders = Folders(self.root, self.anchor)
        for intent in self._of_kind("move"):
            self.put(intent, folders)
        folders.flush()

    def _clear_shadows(self) -> None:
        """After a loss of power some file systems show a moved file under its old name, too: that one is set aside."""
        wanted = {intent.path for intent in self.intents() if intent.what != "remove"}
        folders = Folders(self.root, self.anchor)
        for intent in self._of_kind("move"):
            old, new = self.depot.data / intent.was, self.depot.data / intent.path
            if intent.was in wanted or not is_plain_file(old) or not is_plain_file(new):
                continue
            # Where names fold, the old name of a file that differs only by case or composition leads to the new one.
            if collision_key(intent.was) == collision_key(intent.path) and self.depot.drive.is_one(old, new):
                continue
            if digest_of(old) == intent.sha256:
                self.set_aside(intent.was, folders)
        folders.flush()

    def _has_mark(self, mark: str) -> bool:
        with self._path.open("rb") as file:
            for raw in file:
                if raw.startswith(_MARK):
                    with suppress(ValueError, KeyError, TypeError):
                        if json.loads(raw)["mark"] == mark:
                            return True
        return False

    def _of_kind(self, what: What) -> Iterator[Intent]:
        """The intents of a kind; of removals and moves only if all of them were written down."""
        if what in _MARKS and not self._has_mark(_MARKS[what]):
            return
        with self._path.open("rb") as file:
            for raw in file:
                try:
                    intent = _decode(raw)
                except (msgspec.DecodeError, ValueError):
                    continue  # the head, marks, and a line that broke off, which was never acted upon
                # A journal may be a stranger's: what leads out of the depot is nobody's work.
                if (
                    intent.what == what
                    and inside_or_none(intent.path)
                    and (not intent.was or inside_or_none(intent.was))
                ):
                    yield intent

    def intents(self) -> Iterator[Intent]:
        """What was written down so far, in the order in which it is carried out."""
        for what in ("remove", "move", "put"):
            yield from self._of_kind(what)

    def library(self) -> Link:
        """The link of the ledger that the run was begun with."""
        with self._path.open("rb") as file, suppress(msgspec.DecodeError, ValueError):
            return msgspec.json.decode(file.readline(), type=_Head).library
        return ORIGIN

    def roll_forward(self) -> None:
        if self._has_mark(_MARKS["remove"]) and not self._has_mark("what is removed is away"):
            self._carry_out_removals()
        if self._has_mark(_MARKS["move"]):
            self._carry_out_moves()
            self._clear_shadows()
        folders, waiting = Folders(self.root, self.anchor), self._waiting()
        for intent in self._of_kind("put"):
            if intent.path in waiting and not in_the_way(self._data, intent.path):
                self.put(intent, folders)
        folders.flush()

    def _waiting(self) -> set[str]:
        """What is staged still, by its path in the library."""
        top = self.staged("")
        return {Path(where, name).relative_to(top).as_posix() for where, _, names in os.walk(top) for name in names}

    def placed(self) -> Iterator[Intent]:
        """What came of the intents: removals, and files that are in place."""
        waiting = self._waiting()
        for intent in self.intents():
            if intent.what == "remove" or (intent.path not in waiting and is_plain_file(f"{self._data}/{intent.path}")):
                yield intent

    def close(self, library_name: str, tags: dict[str, bytes]) -> list[Inside]:
        """End the run: manifest, what it did, tag files (`tags`, by path), line, tag manifest.

        What is written down and not carried out, as a rename failed, is carried out first: a manifest must not list it else.
        Returns what the manifest listed in a folder that the run has touched, and is not there: it lists that no more.
        """
        root = self.depot.root
        self.anchor.require()
        self.roll_forward()
        fresh, oxum = set(tags), bag.read_oxum(root)
        for name, content in tags.items():
            write_atomically(root / name, content)
        anything, lost = next(self.placed(), None) is not None, list[Inside]()
        if anything or not (root / bag.MANIFEST).is_file():
            with Sums() as sums:
                sums.update((f"data/{one.was}", None) for one in self._of_kind("move") if self._is_moved(one))
                if anything:
                    fresh |= set(write_run(root, self.run, self._noted(sums), self.earlier))
                lost = list(self._not_there(sums))
                sums.update((f"data/{path}", None) for path in lost)
                self._oxum = None if lost else self._oxum
                oxum = self._oxum_now(bag.write_manifest(root, sums))
            write_atomically(root / LINE, next_line(root, self.run, self.library()))
        refresh_tags(self.depot, library_name, fresh, oxum)
        shutil.rmtree(root / "incoming")
        flush_folder(root)
        return lost

    def _not_there(self, sums: Sums) -> Iterator[Inside]:
        """What the manifest is going to list, of the folders that the run has touched, and is not there."""
        key = collision_key if self.depot.drive.folds_case else _as_it_is
        there: dict[str, set[str]] = {}  # of each touched folder, the names in it
        for intent in self.intents():
            for path in filter(None, (intent.path, intent.was)):
                folder = path.rpartition("/")[0]
                if folder not in there:
                    there[folder] = {key(name) for name in _names_in(self.depot.data / folder)}
        for path, _ in bag.payload(self.root / bag.MANIFEST):
            folder, _, name = path.rpartition("/")
            if folder in there and f"data/{path}" not in sums and key(name) not in there[folder]:
                yield path

    def _noted(self, sums: Sums) -> Iterator[Intent]:
        """What came of the intents, noted for the manifest while it passes by."""
        for intent in self.placed():
            sums.set(f"data/{intent.path}", None if intent.what == "remove" else intent.sha256)
            if intent.what == "put" and self._oxum is not None:
                self._oxum = self._oxum[0] + intent.bytes, self._oxum[1] + 1
            yield intent

    def _oxum_now(self, files: int) -> tuple[int, int] | None:
        """The payload's bytes and files after the run; None where it has not just so many `files`, and must be counted."""
        if self._oxum is None:
            return None
        size, count = self._oxum
        for where, _, names in os.walk(self.earlier("")):
            for name in names:
                size -= os.stat(f"{where}/{name}").st_size
                count -= 1
        return (size, count) if count == files else None


def _as_it_is(name: str) -> str:
    return name


def _names_in(folder: Path) -> list[str]:
    try:
        return os.listdir(folder)
    except (FileNotFoundError, NotADirectoryError):
        return []


def refresh_tags(
    depot: Depot, library_name: str, fresh: Collection[str] = (), oxum: tuple[int, int] | None = None
) -> None:
    """Write the tag files anew after the payload or a tag file has changed; `fresh` names those just written.

    `oxum` is (bytes, files) of the payload; it is counted where that is not known.
    """
    depot.require_there()
    if oxum is None:
        size = count = 0
        root = str(depot.root)
        for path, _ in bag.read_manifest(depot.root / bag.MANIFEST):
            with suppress(FileNotFoundError):
                size += os.stat(f"{root}/{path}").st_size
                count += 1
        oxum = (size, count)
    bag.write_tags(depot.root, depot.identity.library, library_name, oxum, stamp(now_utc())[:10], fresh)


def open_run(depot: Depot) -> Journal | None:
    """The run that was interrupted at a depot, if there is one. Writes nothing."""
    incoming = depot.root / "incoming"
    for folder in sorted(incoming.iterdir()) if incoming.is_dir() else ():
        if not folder.is_symlink() and is_plain_file(folder / "journal.jsonl"):
            return Journal(depot, folder.name, ORIGIN)
    return None


def _await_writer(journal: Journal) -> None:
    """A killed run's writing process may live on for a moment, where a drive keeps it waiting: its changes must not meet ours."""
    from filelock import FileLock, Timeout  # takes long to load, and what only reads needs no lock

    journal.anchor.require()
    lock = FileLock(journal.folder / WRITING)
    try:
        lock.acquire(timeout=_PATIENCE)
    except Timeout as error:
        raise DepotTrouble(
            f"The last run at the depot {journal.depot.name} was killed, and its writing process has not ended yet.",
            "Wait until the drive is idle, and run the same command again.",
        ) from error
    lock.release()


def finish_interrupted(depot: Depot, library_name: str) -> Iterator[Intent]:
    """Roll an interrupted run forward, yield what it had done, and close it. Without one, does nothing.

    To be iterated to the end: it is closed only then.
    """
    journal = open_run(depot)
    if journal is None:
        if (depot.root / "incoming").is_dir():
            shutil.rmtree(depot.root / "incoming")
        return
    _await_writer(journal)
    journal.roll_forward()
    yield from journal.placed()
    journal.close(library_name, {})
