"""What a copy is worth: the states of copies and what they mean, amounts, and all that changes a state.

Nothing else writes to the ledger's table of copies.

A row is of one file (its number) at one place: a depot's number, or LIBRARY. In the library a file without a row is as it should
be. Functions that change something are called inside a transaction of the ledger.
"""

import sqlite3
from collections.abc import Iterable, Sequence
from typing import Literal

from bramblemoor.library.receipts import Amount, seconds

LIBRARY = 0
"""How the ledger's copies name the library itself; a row there means trouble, for by default its files are good."""
State = Literal["proven", "cached", "written", "damaged", "missing", "freed", "unbrought"]
"""Read from the medium; perhaps from a cache; not read yet; not sound; not there; put away on purpose; never brought."""

AMOUNT = "coalesce(sum(f.role = 'original'), 0), count(*), coalesce(sum(f.bytes), 0)"
"""Frames, files and bytes of rows of `files f`."""

FREED = "SELECT file FROM copies WHERE depot = 0 AND state = 'freed'"
"""Files that were put away: they have left the working drive on purpose."""
UNBROUGHT = "SELECT file FROM copies WHERE depot = 0 AND state = 'unbrought'"
"""Files of a restored library that no depot could give when it was made. They are missing, and nobody has let them go."""


ALARM = "alarm"
"""In the ledger's meta: the guard has stopped a run, and what it saw is not entered."""


def good(copy: str = "c") -> str:
    """It is thought to be there as it should be, whether it was read or not."""
    return f"{copy}.state IN ('proven', 'cached', 'written')"


def amiss(copy: str = "c") -> str:
    """It should be there, and is known not to be, or not to be sound."""
    return f"{copy}.state IN ('damaged', 'missing', 'unbrought')"


def amount(db: sqlite3.Connection, of: str, values: Sequence[object] = ()) -> Amount:
    """The amount of what stands behind FROM, in which the files are called `f`."""
    return Amount(*db.execute(f"SELECT {AMOUNT} FROM {of}", values).fetchone())


def read(grade: str) -> State:
    """What a copy is that was read and found right."""
    return "proven" if grade == "medium" else "cached"


def mark(db: sqlite3.Connection, place: int, file: int, state: State) -> None:
    """Set the state of a copy that is not well; what was read of it before no longer counts.

    What a restore did not bring is not there either, but has not gone missing: nobody can let it go.
    """
    db.execute(
        "INSERT INTO copies (depot, file, state) VALUES (?, ?, ?) ON CONFLICT (depot, file) DO UPDATE"
        " SET state = iif(copies.state = 'unbrought' AND excluded.state = 'missing', 'unbrought', excluded.state),"
        " read_at = NULL",
        (place, file, state),
    )


def mark_all_here(db: sqlite3.Connection, files: str, values: Sequence[object], state: State) -> None:
    """Set the state of the library's own copies of the files that a query gives, of which nothing was known yet."""
    db.execute(
        f"INSERT OR IGNORE INTO copies (depot, file, state) SELECT {LIBRARY}, id, ? FROM ({files})", (state, *values)
    )


def here_again(db: sqlite3.Connection, files: str, values: Sequence[object] = ()) -> None:
    """The library's own copies of the files of a query are as they should be."""
    db.execute(f"DELETE FROM copies WHERE depot = {LIBRARY} AND file IN ({files})", values)


def is_here_again(db: sqlite3.Connection, file: int) -> None:
    """The same of one file."""
    db.execute(f"DELETE FROM copies WHERE depot = {LIBRARY} AND file = ?", (file,))


def enter(db: sqlite3.Connection, depot: int, copies: Iterable[tuple[int, str, str]], *, counts: bool = True) -> None:
    """Copies that were just written and read back: file, when, and the grade of the reading; `counts` says whether it does."""
    moments: dict[str, int] = {}  # there are few, of many files each
    db.executemany(
        "INSERT OR REPLACE INTO copies VALUES (?, ?, ?, ?, NULL, NULL)",
        (
            (
                depot,
                file,
                read(grade) if counts else "written",
                (moments.get(at) or moments.setdefault(at, seconds(at))) if counts else None,
            )
            for file, at, grade in copies
        ),
    )


def enter_one(
    db: sqlite3.Connection, depot: int, file: int, state: State, read_at: int | None, sha256: str | None
) -> None:
    """One copy; `sha256` is its content's where that is an earlier version's."""
    db.execute("INSERT OR REPLACE INTO copies VALUES (?, ?, ?, ?, ?, NULL)", (depot, file, state, read_at, sha256))


def enter_listed(db: sqlite3.Connection, depot: int, listed: str) -> None:
    """What a table of (path, sha256, bytes) tells of a depot, as not read yet; bytes are null of what is not there."""
    db.execute(
        "INSERT INTO copies SELECT ?, id, iif(l.bytes IS NULL, 'missing', 'written'), NULL, nullif(l.sha256, f.sha256), NULL"
        f" FROM {listed} l JOIN files f ON f.path = l.path",
        (depot,),
    )


def take_leftover(db: sqlite3.Connection, depot: int, path: str, file: int) -> None:
    """A leftover there becomes a file's copy, with what was read of it."""
    db.execute(
        "INSERT OR REPLACE INTO copies SELECT depot, ?, state, read_at, NULL, NULL FROM leftovers"
        " WHERE depot = ? AND path = ?",
        (file, depot, path),
    )


def is_in_its_place(db: sqlite3.Connection, depot: int, file: int, was: str) -> bool:
    """A copy that lay at `was` is at the file's own path now; says whether there was such a one."""
    moved = db.execute(
        "UPDATE copies SET path = NULL WHERE depot = ? AND file = ? AND path = ?", (depot, file, was)
    ).rowcount
    return bool(moved)


def renew(db: sqlite3.Connection, depot: int, file: int, grade: str, moment: int) -> None:
    """It was read and is right. A reading that may have come from a cache does not take the place of one that did not."""
    db.execute(
        "UPDATE copies SET state = :state, read_at = :moment WHERE depot = :depot AND file = :file"
        " AND (:state = 'proven' OR state != 'proven')",
        {"state": read(grade), "moment": moment, "depot": depot, "file": file},
    )


def is_not_amiss(db: sqlite3.Connection, depot: int, file: int) -> None:
    """It was read by a clock in doubt: what was amiss is not any more, and what was read before counts as it did."""
    db.execute(f"UPDATE copies SET state = 'written' WHERE depot = ? AND file = ? AND {amiss('copies')}", (depot, file))


_AT = "depot = :depot AND (path = :path OR path IS NULL AND file = (SELECT id FROM files WHERE path = :path))"


def forget_at(db: sqlite3.Connection, depot: int, path: str) -> None:
    """Nothing lies at that path of a depot any more, by what a run did."""
    db.execute(f"DELETE FROM copies WHERE {_AT}", {"depot": depot, "path": path})


def missing_at(db: sqlite3.Connection, depot: int, path: str) -> None:
    """What should lie at that path of a depot was found gone."""
    db.execute(f"UPDATE copies SET state = 'missing', read_at = NULL WHERE {_AT}", {"depot": depot, "path": path})


def forget_all(db: sqlite3.Connection, depot: int) -> None:
    """Nothing is known of a depot."""
    for table in ("copies", "leftovers"):
        db.execute(f"DELETE FROM {table} WHERE depot = ?", (depot,))


def doubt(db: sqlite3.Connection, depot: int) -> None:
    """What was read at a depot does not count any more; what is known to be amiss there stays so."""
    for table in ("copies", "leftovers"):
        db.execute(
            f"UPDATE {table} SET state = iif(state IN ('proven', 'cached'), 'written', state), read_at = NULL"
            " WHERE depot = ? AND (read_at IS NOT NULL OR state IN ('proven', 'cached'))",
            (depot,),
        )


def doubt_after(db: sqlite3.Connection, moment: int) -> None:
    """What was read anywhere after a moment counts for nothing."""
    db.execute(
        f"UPDATE copies SET state = 'written', read_at = NULL WHERE read_at > ? AND depot > {LIBRARY}", (moment,)
    )
    db.execute("UPDATE leftovers SET state = 'written', read_at = NULL WHERE read_at > ?", (moment,))
    db.execute("UPDATE files SET read_at = NULL WHERE read_at > ?", (moment,))
