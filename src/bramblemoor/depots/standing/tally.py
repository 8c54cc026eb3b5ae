"""Keeping in step what every frame's copies amount to, so that `standing` has only to count.

For each unit (a frame, or a file of none) the ledger keeps a line such as "0=ok 2=20780 3=lacks": depot number, and the worst
that holds of the unit's files there: damaged or missing ("amiss"), not there or not current ("lacks"), not proven by reading
("unread"), or the day of the oldest reading, in days since 1970; "20780-20791" where the newest is of another day, for one
from the future counts for nothing. Freshness is then a matter of counting, not of writing.
"""

import sqlite3
import sys
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path

from bramblemoor.library.clock import DAY
from bramblemoor.library.copies import amiss
from bramblemoor.library.home import Library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.ledger import read_apart
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions, silent

AMISS, LACKS, UNREAD, FREED = "amiss", "lacks", "unread", "freed"
_BATCH = 10_000
_AT_ONCE = 20  # depots in one query: it joins a table for each, and SQLite joins no more than 64
# What is wrong with a file, as a number above every moment; the larger counts.
_UNREAD, _LACKS, _OLD, _AMISS = 1 << 40, 2 << 40, (2 << 40) + 1, 3 << 40


def _at_depot(depot: int) -> str:
    """SQL for what a file is at a depot: the moment it was last read, or what is wrong."""
    copy = f"c{depot}"
    return f"""CASE WHEN {copy}.state = 'proven' AND {copy}.sha256 IS NULL THEN coalesce({copy}.read_at, {_UNREAD})
        WHEN {copy}.file IS NULL THEN {_LACKS} WHEN {amiss(copy)} THEN {_AMISS}
        WHEN {copy}.sha256 NOT NULL THEN {_OLD} ELSE {_UNREAD} END"""


# In the library most files have no row.
_AT_LIBRARY = f"""CASE WHEN c0.file IS NULL THEN coalesce(f.read_at, {_UNREAD}) WHEN {amiss("c0")} THEN {_AMISS}
    WHEN c0.state = 'freed' THEN {_LACKS} ELSE coalesce(f.read_at, {_UNREAD}) END"""


def _state(depot: int, lacks: str) -> str:
    """SQL for what a unit is at a depot, by the least (`low`) and the most (`high`) of what its files are there."""
    low, high = f"low{depot}", f"high{depot}"
    days = f"({low} / {DAY}) || iif({high} / {DAY} = {low} / {DAY}, '', '-' || ({high} / {DAY}))"
    text = f"CASE {high} >> 40 WHEN 0 THEN {days} WHEN 1 THEN '{UNREAD}' WHEN 2 THEN '{lacks}' ELSE '{AMISS}' END"
    if depot == 0:
        return f"'0=' || {text}"
    return (
        f"iif({low} = {_LACKS} AND {high} = {_LACKS}, '', ' {depot}=' || {text})"  # nothing is there: it is not named
    )


def _settling(kind: str, join: str, depots: Sequence[int]) -> str:
    """SQL that weighs units at some depots. Each depot is a join of its own, so that a unit's rows come one after another:
    sorting them, or looking for a file's depots, takes as long as all the rest.
    """
    values = [(depot, _at_depot(depot) if depot else _AT_LIBRARY) for depot in depots]
    spans = ", ".join(f"min({value}) AS low{depot}, max({value}) AS high{depot}" for depot, value in values)
    joins = " ".join(
        f"LEFT JOIN copies c{depot} ON c{depot}.depot = {depot} AND c{depot}.file = f.id" for depot in depots
    )
    held = " || ".join(_state(depot, LACKS if depot else FREED) for depot in depots)
    return f"""
        INSERT INTO temp.settled SELECT unit, {held} FROM (
            SELECT u.unit, {spans} FROM temp.settling u CROSS JOIN files f ON {join} {joins} WHERE {kind} GROUP BY u.unit
        ) WHERE true ON CONFLICT (unit) DO UPDATE SET held = held || excluded.held
    """


def unsettle_all(db: sqlite3.Connection) -> None:
    """Every standing is to be settled, as in a library that was just made from copies. Inside the transaction that makes it:
    a run that is killed before all are settled leaves it known.
    """
    db.execute("INSERT OR IGNORE INTO unsettled SELECT DISTINCT coalesce(frame, -id) FROM files")


def settle_apart(library: Library, progress: Progress = silent) -> None:
    """As `settle`, in a transaction of its own. Where there are very many units other processes help to weigh them.

    Those see what was committed only. What was changed before, and waits for this, stands in the ledger as unsettled.
    """
    with library.ledger.changing() as db:
        whole = db.execute("SELECT count(*) FROM unsettled").fetchone()[0]
        if whole <= _BATCH:
            settle(db)
            return
        _begin(db)
        db.execute("INSERT INTO temp.settling SELECT unit FROM unsettled")
        done = 0
        with Helpers(for_much=True) as helpers:
            jobs = ((library.root / LEDGER, *span) for span in _spans(db))
            for units in helpers.map(_weighed_apart, jobs):
                for held, those in units.items():
                    db.executemany("INSERT INTO temp.settled VALUES (?, ?)", ((unit, held) for unit in those))
                    done += len(those)
                progress(Stage("weighing copies", "frames"), done, whole)
        _put(db)  # now that nobody reads the ledger, which must not change under a reader


def settle(db: sqlite3.Connection) -> None:
    """Bring the standings of all unsettled units in step, inside a transaction of the ledger."""
    while True:
        _begin(db)
        if not db.execute("INSERT INTO temp.settling SELECT unit FROM unsettled LIMIT ?", (_BATCH,)).rowcount:
            return
        _weigh(db)
        _put(db)


def _begin(db: sqlite3.Connection) -> None:
    """Make the tables of what is being settled, or empty them."""
    db.execute("CREATE TEMP TABLE IF NOT EXISTS settling (unit INTEGER PRIMARY KEY)")
    db.execute("CREATE TEMP TABLE IF NOT EXISTS settled (unit INTEGER PRIMARY KEY, held TEXT)")
    db.execute("DELETE FROM temp.settling")
    db.execute("DELETE FROM temp.settled")


def _weigh(db: sqlite3.Connection) -> None:
    """Learn what is held of the units that are being settled."""
    depots = [0, *(row[0] for row in db.execute("SELECT number FROM depots WHERE number > 0 ORDER BY number"))]
    # Frames and files of none apart, as each have their own index to go by.
    for kind, join in (("u.unit > 0", "f.frame = u.unit"), ("u.unit < 0", "f.id = -u.unit AND f.frame IS NULL")):
        for some in portions(depots, _AT_ONCE):
            db.execute(_settling(kind, join, some))


def _put(db: sqlite3.Connection) -> None:
    """Enter what was learnt of the units that are being settled; of those that are no more, that they are not."""
    db.execute("INSERT OR IGNORE INTO stands (held) SELECT DISTINCT held FROM temp.settled")
    db.execute("DELETE FROM standings WHERE unit IN (SELECT unit FROM temp.settling)")
    db.execute(
        "INSERT INTO standings SELECT unit, year, stands.id FROM temp.settled JOIN stands USING (held)"
        " LEFT JOIN frames ON frames.id = unit ORDER BY unit"
    )
    db.execute("DELETE FROM unsettled WHERE unit IN (SELECT unit FROM temp.settling)")


def _spans(db: sqlite3.Connection) -> Iterator[tuple[int, int]]:
    """Spans of as many units as a helper had better be given at once, which together hold all that are being settled."""
    query = "SELECT min(unit), max(unit) FROM (SELECT unit FROM temp.settling WHERE unit > ? ORDER BY unit LIMIT ?)"
    last = -sys.maxsize
    while (span := db.execute(query, (last, _BATCH)).fetchone())[0] is not None:
        last = span[1]
        yield span[0], last


def _weighed_apart(job: tuple[Path, int, int]) -> dict[str, list[int]]:
    """The unsettled units of a ledger from the first number to the last, by what is held of them."""
    path, *span = job
    found: dict[str, list[int]] = {}
    with closing(read_apart(path)) as db:
        _begin(db)
        db.execute("INSERT INTO temp.settling SELECT unit FROM unsettled WHERE unit BETWEEN ? AND ?", span)
        _weigh(db)
        for unit, held in db.execute("SELECT unit, held FROM temp.settled"):
            found.setdefault(held, []).append(unit)
    return found


def is_whole_at(db: sqlite3.Connection, depot: int) -> bool:
    """Whether every file of the library is there and current at a depot, read or not. False, too, where that is not settled."""
    if db.execute("SELECT 1 FROM unsettled LIMIT 1").fetchone():
        return False
    stands = db.execute("SELECT held FROM stands WHERE id IN (SELECT stand FROM counted WHERE units > 0)")
    return all(read_held(held).get(depot, LACKS) not in (LACKS, AMISS) for (held,) in map(tuple, stands))


def read_days(state: str | None) -> tuple[int, int] | None:
    """The days of the oldest and the newest reading, of a state that is one of readings."""
    if state is None or not state[:1].isdecimal():
        return None
    oldest, _, newest = state.partition("-")
    return int(oldest), int(newest or oldest)


def read_held(held: str) -> dict[int, str]:
    """Depot number to state; a depot that is not named lacks the unit."""
    return {int(depot): state for depot, state in (part.split("=") for part in held.split())}
