"""Keeping in step what every frame's copies amount to, so that `standing` has only to count.

For each unit (a frame, or a file of none) the ledger keeps a line such as "0=ok 2=20780 3=lacks": depot number, and the worst
that holds of the unit's files there: damaged or missing ("amiss"), not there or not current ("lacks"), not proven by reading
("unread"), or the day of the oldest reading, in days since 1970. Freshness is then a matter of counting, not of writing.
"""

import sqlite3
from collections.abc import Iterator
from itertools import groupby

AMISS, LACKS, UNREAD, FREED, OK = "amiss", "lacks", "unread", "freed", "ok"
_BATCH = 20_000
_DAY = 86_400

_COPIES = """
    SELECT u.unit, c.depot,
        max(c.state IN ('damaged', 'missing')) AS amiss,
        max(c.state = 'freed') AS freed,
        sum(c.sha256 IS NULL) AS current,
        max(c.state IN ('written', 'cached')) AS unread,
        min(c.read_at) AS oldest
    FROM temp.settling u JOIN files f ON {join}
    JOIN copies c ON c.file = f.id
    GROUP BY u.unit, c.depot ORDER BY u.unit, c.depot
"""


def settle(db: sqlite3.Connection) -> None:
    """Bring the standings of all unsettled units in step, inside a transaction of the ledger."""
    db.execute("CREATE TEMP TABLE IF NOT EXISTS settling (unit INTEGER PRIMARY KEY, files INTEGER, year INTEGER)")
    while True:
        db.execute("DELETE FROM temp.settling")
        taken = db.execute("INSERT INTO temp.settling SELECT unit, 0, NULL FROM unsettled LIMIT ?", (_BATCH,)).rowcount
        if not taken:
            return
        db.execute(
            "UPDATE temp.settling SET files = (SELECT count(*) FROM files WHERE frame = unit),"
            " year = (SELECT year FROM frames WHERE id = unit) WHERE unit > 0"
        )
        db.execute(
            "UPDATE temp.settling SET files = 1 WHERE unit < 0 AND -unit IN (SELECT id FROM files WHERE frame IS NULL)"
        )
        db.execute("DELETE FROM standings WHERE unit IN (SELECT unit FROM temp.settling)")
        known = {row["held"]: row["id"] for row in db.execute("SELECT id, held FROM stands")}
        rows = []
        for unit, year, held in _lines(db):
            if held not in known:
                known[held] = db.execute("INSERT INTO stands (held) VALUES (?) RETURNING id", (held,)).fetchone()[0]
            rows.append((unit, year, known[held]))
        db.executemany("INSERT INTO standings VALUES (?, ?, ?)", rows)
        db.execute("DELETE FROM unsettled WHERE unit IN (SELECT unit FROM temp.settling)")


def _lines(db: sqlite3.Connection) -> Iterator[tuple[int, int | None, str]]:
    # Frames and loose files apart: each have their own index to go by.
    for kind, join in (("unit > 0", "f.frame = u.unit"), ("unit < 0", "f.id = -u.unit")):
        units = db.execute(f"SELECT unit, files, year FROM temp.settling WHERE {kind} AND files > 0 ORDER BY unit")
        copies = groupby(
            db.execute(_COPIES.format(join=join).replace("GROUP BY", f"WHERE u.{kind} GROUP BY")),
            key=lambda row: row["unit"],
        )
        ahead = next(copies, None)
        for unit in units:
            mine: list[sqlite3.Row] = []
            if ahead is not None and ahead[0] == unit["unit"]:
                mine = list(ahead[1])
                ahead = next(copies, None)
            yield unit["unit"], unit["year"], " ".join(_held(unit["files"], mine))


def _held(files: int, copies: list[sqlite3.Row]) -> Iterator[str]:
    if not any(row["depot"] == 0 for row in copies):
        yield f"0={OK}"
    for row in copies:
        if row["amiss"]:
            state = AMISS
        elif row["freed"]:
            state = FREED
        elif row["current"] < files:
            state = LACKS
        elif row["unread"] or row["oldest"] is None:
            state = UNREAD
        else:
            state = str(row["oldest"] // _DAY)
        yield f"{row['depot']}={state}"


def read_held(held: str) -> dict[int, str]:
    """Depot number to state; a depot that is not named lacks the unit."""
    return {int(depot): state for depot, state in (part.split("=") for part in held.split())}
