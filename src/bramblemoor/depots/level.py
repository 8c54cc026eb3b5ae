"""Bringing one depot level with another of the same library, from their own manifests, with the library away."""

import hashlib
import sqlite3
from collections.abc import Iterator

from bramblemoor.depots.bag.contents import DepotContents
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.bag.journal import Journal, finish_interrupted
from bramblemoor.depots.bag.line import read_line
from bramblemoor.depots.bag.purging import finish_purge
from bramblemoor.depots.bag.terms import chosen
from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.engine.lane import Lane, Lanes, open_lanes
from bramblemoor.depots.kinds.interface import INCOMING
from bramblemoor.depots.register.learning import size_of
from bramblemoor.depots.register.records import name_run
from bramblemoor.depots.register.register import require_room_there
from bramblemoor.disk.told import inside_or_none
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.conditions import prepare
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.lineage import ORIGIN, links
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, encode, stamp, total
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Pace, Progress, Stage

_PAGE = 1000
_TABLE = """
    CREATE TABLE wanted (path TEXT PRIMARY KEY, sha256 TEXT, bytes INTEGER, mtime_ns INTEGER, frames INTEGER);
    CREATE TABLE held (path TEXT PRIMARY KEY, sha256 TEXT, bytes INTEGER);
    CREATE TABLE elsewhere (path TEXT PRIMARY KEY);
    CREATE TABLE given_up (sha256 TEXT PRIMARY KEY) WITHOUT ROWID;
    CREATE INDEX held_sha256 ON held (sha256); BEGIN;
"""


def level(source: Depot, target: Depot, progress: Progress, pace: Pace) -> tuple[Receipt, bool]:
    """Copy to `target`, which the caller holds, what `source` has and it lacks; what differs there moves to earlier/.

    Every file is read once, compared with the source's manifest, and read back. Returns the receipt, which lies at the
    target, and whether something lies there that the source knows nothing of. Raises WrongUse for depots of different
    libraries, DepotTrouble where the target is the newer one, or was written by another copy of the library.
    """
    if source.identity.library != target.identity.library or source.id == target.id:
        raise WrongUse("These are not two depots of one library.", "Name two depots that hold the same library.")
    if source.store.is_taken(INCOMING):
        raise DepotTrouble(
            f"A run was interrupted at the depot {source.name}.",
            "Finish it first: bramblemoor backup, with the library.",
        )
    ours, contents = read_line(source.store).library, DepotContents(source)
    _require_one_line(contents, target)
    started = stamp(now_utc())
    finish_purge(target, target.name)
    for _ in finish_interrupted(target, target.name):
        pass
    db = _compared(contents, target)
    lacks, came_in = _amount(db, f"({_LACKS})"), _amount(db, "wanted")
    require_room_there(target, lacks.bytes, f"Bringing {target.name} level")
    run = name_run(read_line(target.store).runs + 1, started)
    copied, moved, removed, failed = _carry_out(db, contents, Journal(target, run, ours), lacks.bytes, progress, pace)
    lost = [LeftOut(item.path, trouble, Amount(int(item.frames), 1, item.bytes)) for item, trouble in failed]
    rest = lacks - copied - moved - total(left.amount for left in lost)
    if rest.files:
        lost.append(LeftOut(f"{rest.files:,} files", "stopped before their turn", rest))
    receipt = Receipt(
        number=read_line(target.store).runs + 1,
        run="level",
        started=started,
        finished=stamp(now_utc()),
        about={"from": source.name, "to": target.name},
        came_in=came_in,
        kept=[
            kept
            for kept in (
                Kept("copied and read back", copied),
                Kept("moved there", moved),
                Kept("there already", came_in - lacks),
            )
            if kept.amount != NOTHING
        ],
        left_out=lost,
        findings=_not_level(db, source, target, removed),
    )
    Journal(target, run, ours).close(source.name, {f"receipts/{receipt.file_name}": encode(receipt)})
    return receipt, bool(db.execute(f"{_STRANGE} LIMIT 1").fetchone())


def _require_one_line(contents: DepotContents, target: Depot) -> None:
    """Raise DepotTrouble where the target has seen a state of the library that the source's ledger does not go back to."""
    source = contents.depot
    theirs = read_line(target.store).library
    found = contents.ledger()
    if found is None:
        raise DepotTrouble(f"The depot {source.name} holds no finished backup.", "Name another depot.")
    ledger = found[0]
    known = links(ledger.db)
    ledger.close()
    if theirs == ORIGIN or theirs in known:
        return
    if theirs.generation > max((link.generation for link in known), default=0):
        raise DepotTrouble(
            f"The depot {target.name} is newer than {source.name}, or has gone its own way: it has seen a state of the library"
            f" that {source.name} has not. Nothing was written.",
            "Turn them round, or make a backup with the library.",
        )
    raise DepotTrouble(
        f"The depot {target.name} was written by another copy of this library than {source.name}: what differs there may be all"
        " that there is of it. Nothing was written.",
        "Restore what it holds to a folder first, and decide with the library: bramblemoor depot adopt.",
    )


def _amount(db: sqlite3.Connection, table: str) -> Amount:
    return Amount(
        *db.execute(f"SELECT coalesce(sum(frames), 0), count(*), coalesce(sum(bytes), 0) FROM {table}").fetchone()
    )


def _not_level(db: sqlite3.Connection, source: Depot, target: Depot, removed: int) -> list[Finding]:
    """What a person should know of what the source could not give, and of what left its place."""
    lacking = db.execute(
        "SELECT count(*) FROM elsewhere e LEFT JOIN held h ON h.path = e.path WHERE h.bytes IS NULL"
    ).fetchone()[0]
    findings = []
    if lacking:
        what = (
            f"{lacking:,} files of the library are not there, and not at {target.name}: make a backup with the library"
        )
        findings.append(Finding(source.name, what))
    strange = db.execute(f"SELECT count(*), min(path) FROM ({_STRANGE})").fetchone()
    if strange[0]:
        what = (
            f"{strange[0]:,} files there are nothing that {source.name} knows ({strange[1]}); they stay, and a backup with the"
            " library will tell"
        )
        findings.append(Finding(target.name, what))
    if removed:
        what = f"{removed:,} files moved to earlier/, which are not in the library as {source.name} knows it"
        findings.append(Finding(target.name, what))
    return findings


# What is listed there and has gone, or has another size, is lacking too; only reading tells the rest.
_LACKS = """
    SELECT w.* FROM wanted w LEFT JOIN held h ON h.path = w.path WHERE h.sha256 IS NOT w.sha256 OR h.bytes IS NOT w.bytes
"""
# What the source does not hold, but the library does, is no surplus: the source may get less than the target.
_SURPLUS = """
    SELECT h.* FROM held h WHERE h.path NOT IN (SELECT path FROM wanted) AND h.path NOT IN (SELECT path FROM elsewhere)
"""
# What nobody has given up in the library, as far as the source knows, stays: it may be there and nowhere else.
_STRANGE = f"SELECT s.* FROM ({_SURPLUS}) s WHERE s.sha256 NOT IN (SELECT sha256 FROM given_up)"
_GIVEN_UP = f"SELECT s.* FROM ({_SURPLUS}) s WHERE s.sha256 IN (SELECT sha256 FROM given_up)"
_MOVABLE = f"""
    SELECT min(h.path) AS was, l.path, l.sha256, l.bytes, l.frames FROM ({_LACKS}) l
    JOIN ({_SURPLUS}) h ON h.sha256 = l.sha256 AND h.bytes = l.bytes GROUP BY l.sha256
"""


def _compared(contents: DepotContents, target: Depot) -> sqlite3.Connection:
    """What the target should hold, by the source's manifest and ledger and its own terms; and what it holds."""
    db = sqlite3.connect("", isolation_level=None)
    db.row_factory = sqlite3.Row
    db.executescript(_TABLE)
    source = contents.find(contents.digest(ledger_file.FILE), ledger_file.FILE)
    if source is None:
        raise DepotTrouble(f"The depot {contents.depot.name} holds no finished backup.", "Name another depot.")
    store = contents.depot.store
    ledger = Ledger(store.at_hand(source), read_only=True)
    prepare(ledger.db)
    where, values = chosen(target.identity.terms)
    rows = ledger.db.execute(
        "SELECT f.path, f.bytes, f.mtime_ns, f.role = 'original' AS frames FROM files f LEFT JOIN frames r ON r.id = f.frame"
        f" WHERE {where}",
        values,
    )
    for row in rows:
        digest = contents.digest(row["path"])
        if inside_or_none(row["path"]) is None:
            continue
        if not digest:
            db.execute("INSERT INTO elsewhere VALUES (?)", (row["path"],))
        else:
            db.execute(
                "INSERT INTO wanted VALUES (?, ?, ?, ?, ?)",
                (row["path"], digest, row["bytes"], row["mtime_ns"], row["frames"]),
            )
    db.executemany(
        "INSERT OR IGNORE INTO given_up VALUES (?)", map(tuple, ledger.db.execute("SELECT sha256 FROM given_up"))
    )
    ledger.close()
    lies = store.stat(source)
    db.execute(
        "INSERT INTO wanted VALUES (?, ?, ?, ?, 0)",
        (
            ledger_file.FILE, contents.digest(ledger_file.FILE), lies.bytes if lies is not None else 0,
            lies.mtime_ns if lies is not None else 0,
        ),
    )  # fmt: skip
    held, after = DepotContents(target), ""
    while page := held.paths(after, _PAGE):
        after = page[-1][0]
        found = ((path, sha256, size_of(target.store, path)) for path, sha256 in page)
        db.executemany("INSERT INTO held VALUES (?, ?, ?)", found)
    return db


def _carry_out(
    db: sqlite3.Connection, contents: DepotContents, journal: Journal, total: int, progress: Progress, pace: Pace
) -> tuple[Amount, Amount, int, list[tuple[Item, str]]]:
    """Returns what was copied, what was moved, how many files moved to earlier/, and what failed."""
    moves = [dict(row) for row in db.execute(_MOVABLE)]
    moving = {row["was"] for row in moves}
    removed = [
        Intent(row["path"], row["sha256"], 0, why=f"not at {contents.depot.name}", what="remove")
        for row in db.execute(_GIVEN_UP)
        if row["path"] not in moving
    ]
    if removed:
        journal.remove(removed)
    moved = NOTHING
    if moves:
        came = journal.move(Intent(r["path"], r["sha256"], r["bytes"], was=r["was"], what="move") for r in moves)
        stays = {intent.path for intent, why in came if why}
        for row in moves:
            if row["path"] in stays:
                continue
            db.execute("DELETE FROM held WHERE path = ?", (row["was"],))
            db.execute("INSERT OR REPLACE INTO held VALUES (?, ?, ?)", (row["path"], row["sha256"], row["bytes"]))
            moved += Amount(row["frames"], 1, row["bytes"])
    failed: list[tuple[Item, str]] = []
    copied, done = NOTHING, 0
    with open_lanes({0: journal}) as lanes:
        lane = lanes.by_key[0]
        for item in _items(db):
            if pace.stopped or lane.failure is not None:
                break
            trouble = _feed(lanes, lane, contents, item)
            if trouble is not None:
                failed.append((item, trouble.said()))
            done += item.bytes
            progress(Stage("copying"), done, total)
    for result in lane.take_results():
        if result.trouble:
            failed.append((result.item, result.trouble))
        else:
            copied += Amount(int(result.item.frames), 1, result.item.bytes)
    if lane.failure is not None:
        raise DepotTrouble(
            f"The drive of {journal.depot.name} failed ({lane.failure.strerror or lane.failure}).",
            "Put that right and run the same command again: it goes on where it stopped.",
        ) from lane.failure
    return copied, moved, len(removed), failed


def _items(db: sqlite3.Connection) -> Iterator[Item]:
    for row in db.execute(f"{_LACKS} ORDER BY w.path").fetchall():
        yield Item(0, row["path"], row["bytes"], row["sha256"], row["mtime_ns"], row["frames"])


def _feed(lanes: Lanes, lane: Lane, contents: DepotContents, item: Item) -> Trouble | None:
    """Read a file from the source's medium into the lane; says what was wrong with it, None where nothing was."""
    opened = contents.read(item.sha256, item.path)
    if opened is None:
        return Trouble("missing", contents.depot.name)
    digest = hashlib.sha256()
    lane.begin(item)
    try:
        with opened as reading:
            for piece in reading.pieces:
                digest.update(piece)
                slot = lanes.take([lane])
                lanes.slots.view(slot)[: len(piece)] = piece
                lanes.slots.pass_on(slot, 1)
                lane.piece(slot, len(piece))
    except OSError as error:
        lane.abandon()
        return Trouble("unreadable", contents.depot.name, error.strerror or str(error))
    if digest.hexdigest() != item.sha256:
        lane.abandon()
        return Trouble("damaged", contents.depot.name)
    lane.end(item.sha256)
    return None
