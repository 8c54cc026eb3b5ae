"""Putting files in place at a depot: the part of an open run that its writing process and the run itself share.

incoming/RUN/journal.jsonl   what is to be done, written down before it is done
incoming/RUN/data/...        staged files, complete or not
incoming/RUN/writing.lock    held by the writing process, which may outlive a killed run by a moment
"""

import json
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

import msgspec

from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.bag.run_lists import earlier
from bramblemoor.depots.kinds.interface import INCOMING, PAYLOAD, Log, Moves, Stager, Store

_encode = msgspec.json.Encoder().encode


class NothingPlaced(OSError):
    """The journal could not be written: the files that it was about are staged, and in nobody's books."""


def writing_lock(run: str) -> str:
    return f"{INCOMING}/{run}/writing.lock"


def journal_at(store: Store, run: str) -> Log:
    return store.log(f"{INCOMING}/{run}/journal.jsonl")


class Placing:
    """The staged files of a run at a depot, and the way into place."""

    def __init__(self, store: Store, run: str) -> None:
        self.store = store
        self.run = run
        self.stager: Stager = store.stager(run)
        self.log = journal_at(store, run)

    @property
    def seeks(self) -> bool:
        """Whether the drive is slow to do two things at once."""
        return self.store.traits.spins

    def look_again(self) -> None:
        """To be called once another process has written intents down."""

    def put_in_place(self, intents: Sequence[Intent]) -> None:
        """Write the intents down durably, then carry them out. The staged files are flushed and proven already.

        Raises NothingPlaced where the journal cannot be written, and nothing was put in place; any other OSError leaves the
        run open, for the journal to be rolled forward.
        """
        self.store.require_there()
        try:
            self.write_down(intents, "")
        except OSError as error:
            raise NothingPlaced(error.errno, error.strerror) from error
        with self.store.moving() as moves:
            for intent in intents:
                self.put(intent, moves, surely_staged=True)

    def write_down(self, intents: Iterable[Intent], mark: str) -> None:
        self.log.append(_lines(intents, mark))

    def put(self, intent: Intent, moves: Moves, *, surely_staged: bool = False) -> None:
        """As long as the staged file is there, what lies in its place is the former version."""
        staged, target = self.stager.staged(intent.path), f"{PAYLOAD}/{intent.path}"
        if not surely_staged and self.store.stat(staged) is None:
            return
        if self.store.is_taken(target):
            self.set_aside(intent.path, moves)
        moves.move(staged, target)

    def set_aside(self, path: str, moves: Moves) -> None:
        # Where names fold, the system may go on showing for a moment under one spelling what was just moved under another.
        with suppress(FileNotFoundError):
            moves.move(f"{PAYLOAD}/{path}", earlier(self.run, path))


def _lines(intents: Iterable[Intent], mark: str) -> Iterator[bytes]:
    for intent in intents:
        yield _encode(intent) + b"\n"
    if mark:
        yield json.dumps({"mark": mark}).encode() + b"\n"
