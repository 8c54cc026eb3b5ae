"""What a person decides of findings: that what vanished was meant to go, and that what changed was meant to change.

By name, never in bulk: an accident that happened beside it is not decided along with it.
"""

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass

from bramblemoor.disk.durable import digest_of
from bramblemoor.errors import WrongUse
from bramblemoor.library.globs import checked_glob, fits
from bramblemoor.library.home import Library
from bramblemoor.library.stocktake.entering import accept, drop_file
from bramblemoor.library.stocktake.walk import LATEST

_OPEN = """
    SELECT f.id, f.path, f.role, f.bytes, f.sha256, f.frame, b.year AS bound FROM copies c JOIN files f ON f.id = c.file
    LEFT JOIN frames r ON r.id = f.frame LEFT JOIN bound b ON b.year = r.year
    WHERE c.depot = 0 AND c.state = '{state}' ORDER BY f.path
"""


@dataclass(frozen=True)
class Open:
    """A file that waits for a decision."""

    file: int
    path: str
    role: str
    bytes: int
    sha256: str


def vanished(library: Library, names: Sequence[str]) -> list[Open]:
    """What is missing here and fits one of the names: paths, file names, or globs. Raises WrongUse where nothing fits one.

    What a restore could not bring has not vanished, and is not among it.
    """
    return _fitting(library, "missing", names, "has vanished")


def changed(library: Library, names: Sequence[str]) -> list[Open]:
    """What was found changed here and fits one of the names. Raises WrongUse where nothing fits one, or its year is bound."""
    return _fitting(library, "damaged", names, "was found changed")


def _fitting(library: Library, state: str, names: Sequence[str], what: str) -> list[Open]:
    rows = library.db.execute(_OPEN.format(state=state)).fetchall()
    chosen: dict[int, sqlite3.Row] = {}
    for name in map(checked_glob, names):
        wanted = name.removeprefix("./")
        found = [row for row in rows if row["path"] == wanted] or [row for row in rows if fits(wanted, row["path"])]
        if not found:
            raise WrongUse(
                f"Nothing that {what} is called {name!r}.", "Look what there is: bramblemoor stocktake --all."
            )
        chosen |= {row["id"]: row for row in found}
    for row in chosen.values():
        if row["bound"] is not None:
            raise WrongUse(
                f"{row['path']} is of {row['bound']}, which is bound.", f"First: bramblemoor unbind {row['bound']}."
            )
    return [Open(row["id"], row["path"], row["role"], row["bytes"], row["sha256"]) for row in chosen.values()]


def let_go(library: Library, files: Sequence[Open]) -> None:
    """Let files leave the ledger; the next backup takes them out of the depots, as their terms say."""
    with library.ledger.changing(facts=True):
        for one in files:
            drop_file(library, one.file)


def accept_changed(library: Library, files: Sequence[Open]) -> None:
    """Take files as they are now; what they were stays at depots as an earlier version."""
    for one in files:
        place = library.root / one.path
        if not place.is_file():
            raise WrongUse(f"{one.path} is not there.", "Bring it back with mend, or let it go.")
    with library.ledger.changing(facts=True) as db:
        for one in files:
            place = library.root / one.path
            status = place.stat()
            row = db.execute(
                "SELECT ? AS path, ? AS role, ? AS bytes, ? AS sha256, ? AS mtime_ns",
                (one.path, one.role, status.st_size, digest_of(place), min(status.st_mtime_ns, LATEST)),
            ).fetchone()
            accept(library, row)
