"""What the ledger learns of the copies at a depot: what runs have done there, what lies there, and what is amiss."""

import sqlite3
from collections.abc import Iterable

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.earlier import moment_of
from bramblemoor.depots.bag.intents import Intent, What
from bramblemoor.depots.bag.line import read_line
from bramblemoor.depots.bag.run_lists import read_run
from bramblemoor.depots.kinds.interface import PAYLOAD, Store
from bramblemoor.depots.register.known import KnownDepot, number_in
from bramblemoor.depots.register.records import read_reading
from bramblemoor.depots.standing.tally import settle, settle_apart
from bramblemoor.frames.moments import now_seconds
from bramblemoor.library import copies
from bramblemoor.library.home import Library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.lineage import descends_from
from bramblemoor.library.receipts import Finding, in_order, moment_in_name, seconds


def forget_readings(library: Library, number: int) -> None:
    """What was read at a place does not count any more; what is known to be amiss there stays so."""
    with library.ledger.changing() as db:
        copies.doubt(db, number)
    settle_apart(library)


def catch_up(library: Library, known: KnownDepot, store: Store, run: str) -> None:
    """Enter what a run of ours has done that was killed before it could enter all: as far as the ledger thinks otherwise."""
    with library.ledger.changing() as db:
        for row in read_run(store, run):
            gone = row.was if row.what == "move" else row.path if row.what == "remove" else None
            if gone is not None and not _thinks_there(db, known.number, gone):
                continue
            if gone is None and _thinks_there(db, known.number, row.path):
                continue
            what: What = "move" if row.what == "move" else "remove" if row.what == "remove" else "put"
            intent = Intent(row.path, row.sha256, row.bytes, was=row.was or "", what=what)
            enter_intent(db, known.number, intent, believed=False)
        settle(db)


def _thinks_there(db: sqlite3.Connection, number: int, path: str) -> bool:
    """Whether the ledger has something at a path of a depot."""
    return (
        db.execute(
            "SELECT 1 FROM leftovers WHERE depot = :depot AND path = :path UNION ALL SELECT 1 FROM copies WHERE depot = :depot"
            " AND path = :path UNION ALL SELECT 1 FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = :depot"
            " AND c.path IS NULL AND f.path = :path AND c.state != 'missing'",
            {"depot": number, "path": path},
        ).fetchone()
        is not None
    )


def unlearnt(library: Library, store: Store, number: int) -> dict[int, str]:
    """What the ledger counts at a depot, though a later reading, which lies there, has found it amiss: files, and their paths.

    So it is where a ledger comes back from a copy that was made before. What was found before the depot's own last run is no
    matter any more, as that run may have mended it; what was found in the future was found by a wrong clock.
    """
    left = library.db.execute("SELECT tags FROM depots WHERE number = ?", (number,)).fetchone()["tags"]
    if store.stat(bag.TAG_MANIFEST) is not None and store.digest(bag.TAG_MANIFEST) == left:
        return {}
    last_run, now = moment_of(read_line(store).run), now_seconds()
    since = seconds(last_run) if last_run else 0
    found: dict[int, str] = {}
    for name in in_order(store.names("readings")):
        if not since <= (moment := moment_in_name(name)) <= now:
            continue
        reading = read_reading(store, f"readings/{name}")
        for finding in reading.amiss if reading is not None and reading.run == "verify" else ():
            row = library.db.execute(
                "SELECT file FROM copies WHERE depot = :depot AND read_at <= :moment AND (path IS NULL OR path = :path)"
                " AND file = coalesce((SELECT file FROM copies WHERE depot = :depot AND path = :path),"
                " (SELECT id FROM files WHERE path = :path))",
                {"depot": number, "moment": moment, "path": finding.name},
            ).fetchone()
            if row is not None:
                found[row["file"]] = finding.name
    return found


def learn_readings(library: Library, depot: Depot) -> int:
    """Enter what readings that this library has not seen found amiss at a depot; returns how many files that are."""
    number = number_in(library, depot.id)
    found = unlearnt(library, depot.store, number)
    if found:
        with library.ledger.changing() as db:
            for file, path in found.items():
                copies.mark(db, number, file, "missing" if size_of(depot.store, path) is None else "damaged")
            settle(db)
    return len(found)


_LISTED = """
    CREATE TEMP TABLE IF NOT EXISTS listed (path TEXT PRIMARY KEY, sha256 TEXT, bytes INTEGER) WITHOUT ROWID;
    DELETE FROM temp.listed;
"""


def learn_contents(library: Library, depot: Depot) -> int:
    """Enter what a depot's manifest lists and is there, as not read yet; whatever was known of it before is forgotten.

    Returns how many files have a content that the library neither has nor has given up.
    """
    number = number_in(library, depot.id)
    library.db.executescript(_LISTED)
    with library.ledger.changing() as db:
        db.executemany(
            "INSERT OR REPLACE INTO temp.listed VALUES (?, ?, ?)",
            (
                (path, digest, size_of(depot.store, path))
                for path, digest in bag.payload(depot.store)
            ),
        )  # fmt: skip
        copies.forget_all(db, number)
        copies.enter_listed(db, number, "temp.listed")
        db.execute(
            "INSERT INTO leftovers SELECT ?, path, sha256, bytes, 'written', NULL FROM temp.listed"
            " WHERE path NOT IN (SELECT path FROM files) AND bytes IS NOT NULL AND path != ?",
            (number, LEDGER),
        )
        if descends_from(library, read_line(depot.store).library):
            # A former state of this very ledger: what it says is known here.
            db.execute("INSERT OR IGNORE INTO given_up SELECT sha256 FROM temp.listed WHERE path = ?", (LEDGER,))
        unknown: int = db.execute(
            "SELECT count(*) FROM temp.listed WHERE bytes IS NOT NULL AND path != ? AND sha256 NOT IN (SELECT sha256 FROM files)"
            " AND sha256 NOT IN (SELECT sha256 FROM given_up)",
            (LEDGER,),
        ).fetchone()[0]
    settle_apart(library)
    return unknown


def size_of(store: Store, path: str) -> int | None:
    """Bytes of a file of the payload as it lies there; None where there is none, or a link or another mount is on the way."""
    lies = store.stat_if_told(f"{PAYLOAD}/{path}")
    return lies.bytes if lies is not None else None


def enter_intent(db: sqlite3.Connection, number: int, intent: Intent, *, believed: bool) -> None:
    """Enter what a run has done, by whatever library it was begun; `believed` says whether its readings count."""
    file = db.execute("SELECT id, sha256 FROM files WHERE path = ?", (intent.path,)).fetchone()
    if intent.what in ("remove", "move"):
        gone = intent.path if intent.what == "remove" else intent.was
        db.execute("DELETE FROM leftovers WHERE depot = ? AND path = ?", (number, gone))
        copies.forget_at(db, number, gone)
        if intent.what == "remove":
            return
    if file is not None:
        read_at = seconds(intent.read_at) if intent.read_at and believed else None
        state = "written" if read_at is None else copies.read(intent.grade)
        sha256 = None if file["sha256"] == intent.sha256 else intent.sha256
        copies.enter_one(db, number, file["id"], state, read_at, sha256)
    else:
        db.execute(
            "INSERT OR REPLACE INTO leftovers VALUES (?, ?, ?, ?, 'written', NULL)",
            (number, intent.path, intent.sha256, intent.bytes),
        )


def mark_lost(library: Library, depot: Depot, paths: Iterable[str]) -> list[Finding]:
    """What a run found gone where its manifest had it: it is missing there."""
    number, findings = number_in(library, depot.id), []
    with library.ledger.changing() as db:
        for path in paths:
            findings.append(Finding(f"{depot.name}: {path}", "it was listed there, and is not there any more"))
            db.execute("DELETE FROM leftovers WHERE depot = ? AND path = ?", (number, path))
            copies.missing_at(db, number, path)
        settle(db)
    return findings
