"""Keeping in step what every frame's copies amount to, so that `standing` has only to count.

For each unit (a frame, or a file of none) the ledger keeps a line such as "0=ok 2=20780 3=lacks": depot number, and the worst
that holds of the unit's files there: damaged or missing ("amiss"), not there or not current ("lacks"), not proven by reading
("unread"), or the day of the oldest reading, in days since 1970; "20780-20791" where the newest is of another day, for one
from the future counts for nothing. Freshness is then a matter of counting, not of writing.
"""

import sqlite3

from bramblemoor.library.clock import DAY
from bramblemoor.library.copies import amiss

AMISS, LACKS, UNREAD, FREED = "amiss", "lacks", "unread", "freed"
_BATCH = 20_000


def _days(of: str) -> str:
    """SQL for the days of the oldest and the newest reading of a group's files."""
    return (
        f"CAST(min({of}.read_at) / {DAY} AS TEXT) || iif(max({of}.read_at) / {DAY} = min({of}.read_at) / {DAY}, '',"
        f" '-' || (max({of}.read_at) / {DAY}))"
    )


# In this order of tables, or SQLite would go through all copies for each batch.
# Depots in order of number; frames and loose files apart, as each have their own index to go by.
_SETTLED = f"""
    INSERT INTO temp.settled
    SELECT unit, year, group_concat(depot || '=' || state, ' ')
    FROM (
        SELECT u.unit, u.year, 0 AS depot, CASE
            WHEN max({amiss()}) THEN '{AMISS}'
            WHEN max(c.state = 'freed') THEN '{FREED}'
            WHEN count(f.read_at) < u.files THEN '{UNREAD}'
            ELSE {_days("f")} END AS state
        FROM temp.settling u JOIN files f ON {{join}} LEFT JOIN copies c ON c.file = f.id AND c.depot = 0
        WHERE u.{{kind}} AND u.files > 0 GROUP BY u.unit
        UNION ALL
        SELECT u.unit, u.year, c.depot, CASE
            WHEN max({amiss()}) THEN '{AMISS}'
            WHEN sum(c.sha256 IS NULL) < u.files THEN '{LACKS}'
            WHEN max(c.state IN ('written', 'cached')) OR min(c.read_at) IS NULL THEN '{UNREAD}'
            ELSE {_days("c")} END AS state
        FROM temp.settling u CROSS JOIN files f ON {{join}} CROSS JOIN copies c ON c.file = f.id AND +c.depot > 0
        WHERE u.{{kind}} AND u.files > 0 GROUP BY u.unit, c.depot ORDER BY 1, 3
    ) GROUP BY unit
"""


def settle_all(db: sqlite3.Connection) -> None:
    """Bring every standing in step, as in a library that was just made from copies."""
    db.execute("INSERT OR IGNORE INTO unsettled SELECT DISTINCT coalesce(frame, -id) FROM files")
    settle(db)


def settle(db: sqlite3.Connection) -> None:
    """Bring the standings of all unsettled units in step, inside a transaction of the ledger."""
    db.execute("CREATE TEMP TABLE IF NOT EXISTS settling (unit INTEGER PRIMARY KEY, files INTEGER, year INTEGER)")
    db.execute("CREATE TEMP TABLE IF NOT EXISTS settled (unit INTEGER PRIMARY KEY, year INTEGER, held TEXT)")
    while True:
        db.execute("DELETE FROM temp.settling")
        db.execute("DELETE FROM temp.settled")
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
        for kind, join in (("unit > 0", "f.frame = u.unit"), ("unit < 0", "f.id = -u.unit")):
            db.execute(_SETTLED.format(kind=kind, join=join))
        db.execute("INSERT OR IGNORE INTO stands (held) SELECT DISTINCT held FROM temp.settled")
        db.execute("DELETE FROM standings WHERE unit IN (SELECT unit FROM temp.settling)")
        db.execute(
            "INSERT INTO standings SELECT unit, year, stands.id FROM temp.settled JOIN stands USING (held) ORDER BY unit"
        )
        db.execute("DELETE FROM unsettled WHERE unit IN (SELECT unit FROM temp.settling)")


def read_days(state: str | None) -> tuple[int, int] | None:
    """The days of the oldest and the newest reading, of a state that is one of readings."""
    if state is None or not state[:1].isdecimal():
        return None
    oldest, _, newest = state.partition("-")
    return int(oldest), int(newest or oldest)


def read_held(held: str) -> dict[int, str]:
    """Depot number to state; a depot that is not named lacks the unit."""
    return {int(depot): state for depot, state in (part.split("=") for part in held.split())}
