"""The intent journal of a run at a depot: written before anything is changed, so that any machine can finish the run.

incoming/RUN/journal.jsonl   one line for the run, then one for each intent, and a mark behind each kind that must be over
                             before the next begins: removals, then moves, then files that are put in place
incoming/RUN/data/...        staged files, complete or not
"""

import json
from collections.abc import Collection, Iterable, Iterator
from contextlib import suppress
from dataclasses import asdict, dataclass

import msgspec

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.intents import Intent, What
from bramblemoor.depots.bag.line import LINE, next_line
from bramblemoor.depots.bag.placing import Placing, journal_at, writing_lock
from bramblemoor.depots.bag.run_lists import Sums, earlier, write_run
from bramblemoor.depots.kinds.interface import INCOMING, PAYLOAD, Store
from bramblemoor.disk.durable import NAME_REFUSED
from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import Inside, inside_or_none
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


@dataclass(frozen=True)
class _Contents:
    """Which marks and which kinds of intents stand in a journal."""

    marks: frozenset[str]
    kinds: frozenset[What]


class Journal(Placing):
    """An open run at one depot. `library` is the link of the ledger whose state the depot is brought to."""

    def __init__(self, depot: Depot, run: str, library: Link) -> None:
        super().__init__(depot.store, run)
        self.depot = depot
        self._known: _Contents | None = None
        self._oxum: tuple[int, int] | None = None  # of the payload before the run; None where that is not sure any more
        if not self.log.exists:
            self.store.require_there()
            self._oxum = bag.read_oxum(self.store) if self.store.stat(bag.MANIFEST) is not None else (0, 0)
            head = {"run": run, "started": stamp(now_utc()), "library": asdict(library)}
            self.log.begin(json.dumps(head).encode() + b"\n")

    @property
    def seeks(self) -> bool:
        return self.depot.seeks

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
        if not self._lies(intent.was):
            return Trouble("missing").said()
        return self.stager.hindrance(intent.path, suspect=True)

    def _lies(self, path: str) -> bool:
        """Whether a file lies at data/`path`."""
        return self.store.stat(f"{PAYLOAD}/{path}") is not None

    def _is_moved(self, intent: Intent) -> bool:
        return self._lies(intent.path)

    def _carry_out_removals(self) -> None:
        with self.store.moving() as moves:
            for intent in self._of_kind("remove"):
                if self._lies(intent.path):
                    self.set_aside(intent.path, moves)
        self.write_down((), "what is removed is away")

    def _carry_out_moves(self) -> None:
        """First all are taken from their places, then each is put in its new one: so two can change places."""
        if not self._has_mark(_TAKEN):
            with self.store.moving() as moves:
                for intent in self._of_kind("move"):
                    staged = self.stager.staged(intent.path)
                    if not self._lies(intent.was) or self.store.is_taken(staged) or self.stager.hindrance(intent.path):
                        continue
                    try:
                        moves.move(f"{PAYLOAD}/{intent.was}", staged)
                    except OSError as error:
                        if error.errno not in NAME_REFUSED or not self.stager.is_there:
                            raise
                        continue  # it keeps its former name
            self.write_down((), _TAKEN)
        with self.store.moving() as moves:
            for intent in self._of_kind("move"):
                self.put(intent, moves)

    def _clear_shadows(self) -> None:
        """After a loss of power some file systems show a moved file under its old name, too: that one is set aside."""
        wanted = {intent.path for intent in self.intents() if intent.what != "remove"}
        with self.store.moving() as moves:
            for intent in self._of_kind("move"):
                old, new = f"{PAYLOAD}/{intent.was}", f"{PAYLOAD}/{intent.path}"
                if intent.was in wanted or not self._lies(intent.was) or not self._lies(intent.path):
                    continue
                # Where names fold, the old name of a file that differs only by case or composition leads to the new one.
                if collision_key(intent.was) == collision_key(intent.path) and self.store.is_one(old, new):
                    continue
                if self.store.digest(old) == intent.sha256:
                    self.set_aside(intent.was, moves)

    def write_down(self, intents: Iterable[Intent], mark: str) -> None:
        super().write_down(intents, mark)
        self.look_again()

    def look_again(self) -> None:
        """What stands in the journal is remembered."""
        self._known = None

    def _contents(self) -> _Contents:
        if self._known is None:
            marks, kinds = set(), set()
            for raw in self.log.lines():
                if raw.startswith(_MARK):
                    with suppress(ValueError, KeyError, TypeError):
                        marks.add(json.loads(raw)["mark"])
                elif (intent := _read(raw)) is not None:
                    kinds.add(intent.what)
            self._known = _Contents(frozenset(marks), frozenset(kinds))
        return self._known

    def _has_mark(self, mark: str) -> bool:
        return mark in self._contents().marks

    def _of_kind(self, what: What) -> Iterator[Intent]:
        """The intents of a kind; of removals and moves only if all of them were written down."""
        if what not in self._contents().kinds or (what in _MARKS and not self._has_mark(_MARKS[what])):
            return
        for raw in self.log.lines():
            intent = _read(raw)
            if intent is not None and intent.what == what:
                yield intent

    def intents(self) -> Iterator[Intent]:
        """What was written down so far, in the order in which it is carried out."""
        for what in ("remove", "move", "put"):
            yield from self._of_kind(what)

    def library(self) -> Link:
        """The link of the ledger that the run was begun with."""
        with suppress(msgspec.DecodeError, ValueError):
            return msgspec.json.decode(next(self.log.lines(), b""), type=_Head).library
        return ORIGIN

    def roll_forward(self) -> None:
        if self._has_mark(_MARKS["remove"]) and not self._has_mark("what is removed is away"):
            self._carry_out_removals()
        if self._has_mark(_MARKS["move"]):
            self._carry_out_moves()
            self._clear_shadows()
        waiting = self._waiting()
        with self.store.moving() as moves:
            for intent in self._of_kind("put") if waiting else ():
                if intent.path in waiting and not self.stager.hindrance(intent.path):
                    self.put(intent, moves)

    def _waiting(self) -> set[str]:
        """What is staged still, by its path in the library."""
        top = self.stager.staged("")
        return {path.removeprefix(top) for path in self.store.listed(top.rstrip("/"))}

    def placed(self) -> Iterator[Intent]:
        """What came of the intents: removals, and files that are in place."""
        waiting = self._waiting()
        for intent in self.intents():
            if intent.what == "remove" or (intent.path not in waiting and self._lies(intent.path)):
                yield intent

    def close(self, library_name: str, tags: dict[str, bytes]) -> list[Inside]:
        """End the run: manifest, what it did, tag files (`tags`, by path), line, tag manifest.

        What is written down and not carried out, as a rename failed, is carried out first: a manifest must not list it else.
        Returns what the manifest listed in a folder that the run has touched, and is not there: it lists that no more.
        """
        store = self.store
        store.require_there()
        self.roll_forward()
        fresh, oxum = set(tags), bag.read_oxum(store)
        for name, content in tags.items():
            store.put_small(name, content)
        anything, lost = next(self.placed(), None) is not None, list[Inside]()
        if anything or store.stat(bag.MANIFEST) is None:
            with Sums() as sums:
                sums.update((f"data/{one.was}", None) for one in self._of_kind("move") if self._is_moved(one))
                if anything:
                    fresh |= set(write_run(store, self.run, self._noted(sums)))
                lost = list(self._not_there(sums))
                sums.update((f"data/{path}", None) for path in lost)
                self._oxum = None if lost else self._oxum
                oxum = self._oxum_now(bag.write_manifest(store, sums))
            store.put_small(LINE, next_line(store, self.run, self.library()))
        refresh_tags(self.depot, library_name, fresh, oxum)
        store.clear(INCOMING)
        return lost

    def _not_there(self, sums: Sums) -> Iterator[Inside]:
        """What the manifest is going to list, of the folders that the run has touched, and is not there."""
        key = collision_key if self.store.traits.folds_case else _as_it_is
        there: dict[str, set[str]] = {}  # of each touched folder, the names in it
        for intent in self.intents():
            for path in filter(None, (intent.path, intent.was)):
                folder = path.rpartition("/")[0]
                if folder not in there:
                    there[folder] = {key(name) for name in self.store.names(f"{PAYLOAD}/{folder}".rstrip("/"))}
        for path, _ in bag.payload(self.store):
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
        for path in self.store.listed(earlier(self.run, "").rstrip("/")):
            if (former := self.store.stat_if_told(path)) is None:
                return None
            size -= former.bytes
            count -= 1
        return (size, count) if count == files else None


def _read(raw: bytes) -> Intent | None:
    """An intent, as a line tells it; None for the head, marks, and a line that broke off, which was never acted upon."""
    try:
        intent = _decode(raw)
    except (msgspec.DecodeError, ValueError):
        return None
    # A journal may be a stranger's: what leads out of the depot is nobody's work.
    return intent if inside_or_none(intent.path) and (not intent.was or inside_or_none(intent.was)) else None


def _as_it_is(name: str) -> str:
    return name


def refresh_tags(
    depot: Depot, library_name: str, fresh: Collection[str] = (), oxum: tuple[int, int] | None = None
) -> None:
    """Write the tag files anew after the payload or a tag file has changed; `fresh` names those just written.

    `oxum` is (bytes, files) of the payload; it is counted where that is not known.
    """
    depot.require_there()
    if oxum is None:
        oxum = _counted(depot.store)
    bag.write_tags(depot.store, depot.identity.library, library_name, oxum, stamp(now_utc())[:10], fresh)


def _counted(store: Store) -> tuple[int, int]:
    """(bytes, files) of what the manifest lists and is there."""
    size = count = 0
    for path, _ in bag.read_manifest(store):
        if (lies := store.stat_if_told(path)) is not None:
            size += lies.bytes
            count += 1
    return size, count


def open_run(depot: Depot) -> Journal | None:
    """The run that was interrupted at a depot, if there is one. Writes nothing."""
    for run in depot.store.folders(INCOMING):
        if journal_at(depot.store, run).exists:
            return Journal(depot, run, ORIGIN)
    return None


def _await_writer(journal: Journal) -> None:
    """A killed run's writing process may live on for a moment, where a drive keeps it waiting: its changes must not meet ours."""
    try:
        with journal.store.hold(writing_lock(journal.run), _PATIENCE):
            pass
    except BlockingIOError as error:
        raise DepotTrouble(
            f"The last run at the depot {journal.depot.name} was killed, and its writing process has not ended yet.",
            "Wait until the drive is idle, and run the same command again.",
        ) from error


def finish_interrupted(depot: Depot, library_name: str) -> Iterator[Intent]:
    """Roll an interrupted run forward, yield what it had done, and close it. Without one, does nothing.

    To be iterated to the end: it is closed only then.
    """
    journal = open_run(depot)
    if journal is None:
        if depot.store.is_taken(INCOMING):
            depot.store.clear(INCOMING)
        return
    _await_writer(journal)
    journal.roll_forward()
    yield from journal.placed()
    journal.close(library_name, {})
