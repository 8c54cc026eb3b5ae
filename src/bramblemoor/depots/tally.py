"""Keeping in step what every frame's copies amount to, so that `standing` has only to count.

For each unit (a frame, or a file of none) the ledger keeps a line such as "0=ok 2=20780 3=lacks": depot number, and the worst
that holds of the unit's files there: damaged or missing ("amiss"), not there or not current ("lacks"), not proven by reading
("unread"), or the day of the oldest reading, in days since 1970. Freshness is then a matter of counting, not of writing.
"""

import sqlite3

AMISS, LACKS, UNREAD, FREED, OK = "amiss", "lacks", "unread", "freed", "ok"
_BATCH = 20_000
_DAY = 86_400

# Depots in order of number; frames and loose files apart, as each have their own index to go by.
_SETTLED = f"""
    INSERT INTO temp.settled
    SELECT unit, year, iif(coalesce(min(depot), 1) = 0, '', '0={OK} ') || coalesce(group_concat(depot || '=' || state, ' '), '')
    FROM (
        SELECT u.unit, u.year, c.depot, CASE
            WHEN max(c.state IN ('damaged', 'missing')) THEN '{AMISS}'
            WHEN max(c.state = 'freed') THEN '{FREED}'
            WHEN sum(c.sha256 IS NULL) < u.files THEN '{LACKS}'
            WHEN max(c.state IN ('written', 'cached')) OR min(c.read_at) IS NULL THEN '{UNREAD}'
            ELSE CAST(min(c.read_at) / {_DAY} AS TEXT) END AS state
        FROM temp.settling u JOIN files f ON {{join}} LEFT JOIN copies c ON c.file = f.id
        WHERE u.{{kind}} AND u.files > 0 GROUP BY u.unit, c.depot ORDER BY u.unit, c.depot
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


def read_held(held: str) -> dict[int, str]:
    """Depot number to state; a depot that is not named lacks the unit."""
    return {int(depot): state for depot, state in (part.split("=") for part in held.split())}
