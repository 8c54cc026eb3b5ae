"""The line of a depot: which run it has seen last, after which, and of which ledger. By it a cloned drive is recognised.

line.json at the depot: {"runs": 7, "digest": "...", "parent": "...", "run": "0007-...", "library": {"generation", "digest"}}
"""

import hashlib
import json
from contextlib import suppress
from dataclasses import asdict, dataclass

import msgspec

from bramblemoor.depots.kinds.interface import Store
from bramblemoor.library.lineage import ORIGIN, Link

LINE = "line.json"
_LARGEST = 1 << 16
_MOST = 1 << 62  # what a ledger can count


@dataclass(frozen=True)
class Line:
    """`digest` is made of the parent's and the run's name; an empty line is that of a depot without a run."""

    runs: int = 0
    digest: str = ""
    parent: str = ""
    run: str = ""
    library: Link = ORIGIN


def read_line(store: Store) -> Line:
    """The line that lies at a depot; an empty one where there is none, or where it is damaged (see `write_line`)."""
    with suppress(OSError, msgspec.DecodeError, ValueError, RecursionError):  # a flipped bit may make it no text
        lies = store.stat(LINE)
        if lies is not None and lies.bytes < _LARGEST:
            line = msgspec.json.decode(store.content(LINE), type=Line)
            if 0 <= line.runs < _MOST and 0 <= line.library.generation < _MOST:
                return line
    return Line()


def next_line(store: Store, run: str, library: Link) -> bytes:
    """What line.json becomes by a run. The same run twice, as after a kill, makes the same line."""
    before = read_line(store)
    if before.run == run:
        return store.content(LINE)
    return _encoded(Line(before.runs + 1, digest_after(before, run), before.digest, run, library))


def digest_after(line: Line, run: str) -> str:
    """The digest that a line has once a run has ended, be it the last one that it has seen."""
    return line.digest if line.run == run else hashlib.sha256(f"{line.digest} {run}".encode()).hexdigest()


def write_line(store: Store, runs: int, digest: str) -> None:
    """Write line.json anew, as far as a ledger remembers it. It names no ledger: so no other depot is brought level with it."""
    store.put_small(LINE, _encoded(Line(runs, digest)))


def _encoded(line: Line) -> bytes:
    return json.dumps(asdict(line), indent=1).encode() + b"\n"
