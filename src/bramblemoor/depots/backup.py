"""Backing the library up to depots: what is missing there is copied, read back, and accounted for."""

from collections.abc import Sequence
from dataclasses import dataclass

from bramblemoor.depots.copying import CopyRun, Pace, Progress
from bramblemoor.depots.depot import Depot
from bramblemoor.depots.earlier import purge_expired, thin_ledgers, write_purge_receipt
from bramblemoor.depots.records import ReadingRecord, make_receipt, record_tags, run_name
from bramblemoor.depots.register import finish_at, number_of, remember_device, remember_line
from bramblemoor.depots.sources import from_library
from bramblemoor.depots.terms import LACKING, chosen
from bramblemoor.depots.work import Member, Work, at_hand, enter_moves, enter_removals, moves, removals, stays
from bramblemoor.errors import DepotTrouble
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.comparing import FREED
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, stamp, total, write_receipt
from bramblemoor.library.stock import renew_snapshot, take_stock

_ALL = "coalesce(sum(f.role = 'original'), 0), count(*), coalesce(sum(f.bytes), 0)"

_AWAY = "put away: no longer on the working drive, and no drive of this run has them; let one take part that does"
_STAYS = "not chosen for it any more, but not taken away: the library does not have them, and too few other drives do"


@dataclass
class Changes:
    """What a backup does at a depot besides copying."""

    moved: Amount = NOTHING
    removed: Amount = NOTHING


@dataclass(frozen=True)
class Planned:
    """What a backup would do at one depot."""

    copied: Amount
    moved: Amount
    removed: Amount


def members_of(library: Library, depots: Sequence[Depot]) -> list[Member]:
    return [Member(depot, number_of(library, depot), place, depot.identity.terms) for place, depot in enumerate(depots)]


def plan_backup(library: Library, depots: Sequence[Depot], progress: Progress) -> dict[str, Planned]:
    """What a backup would do, by name of depot; changes nothing but the ledger's knowledge of the library."""
    take_stock(library, progress)
    renew_snapshot(library)
    members = members_of(library, depots)
    work = Work(library, members, _lacking(members), before_moves=True)
    return {
        member.depot.name: Planned(
            work.left(member),
            total(Amount(0, 1, intent.bytes) for intent in moves(library.db, member)),
            total(Amount(0, 1, intent.bytes) for intent in removals(library.db, member, library.settings.erase.copies)),
        )
        for member in members
    }


def backup(
    library: Library, depots: Sequence[Depot], progress: Progress, *, yes: bool = False, pace: Pace | None = None
) -> tuple[Receipt, CopyRun]:
    """Bring depots, which the caller holds, level with the library; returns the receipt, which is also written.

    Raises MassOfChanges where others have changed too much in the library and `yes` was not said, and NotPossible before
    anything is copied where a depot has too little room.
    """
    started = stamp(now_utc())
    for depot in depots:
        finish_at(library, depot)
        remember_device(library, depot)
    stock = take_stock(library, progress, yes=yes)
    renew_snapshot(library)
    members = members_of(library, depots)
    run = CopyRun(library, members, run_name(library, started), progress, pace or Pace())
    work = Work(library, members, _lacking(members), before_moves=True)
    run.require_room(work)
    changes = {member.number: _change(run, member) for member in members}
    if any(change.moved.files for change in changes.values()):
        work = Work(library, members, _lacking(members))
    away = _away(library, members)
    run.copy(work, from_library(library, depots))
    findings = [*run.findings, *stock.findings]
    for member in members:
        if count := stays(library.db, member, library.settings.erase.copies):
            findings.append(Finding(f"{member.depot.name}: {count:,} files", _STAYS))
    if not run.journals:
        name, ended = run.name, stamp(now_utc())
        findings += [Finding(one.name, one.reason) for one in away]
        return make_receipt(library, "backup", name, started, ended, [], Amount(), [], [], findings), run
    receipt = _receipt(run, changes, away, findings, started)
    write_receipt(library.receipts, receipt)
    close_journals(run, receipt)
    for member in members:
        _purge(library, member.depot, started)
    return receipt, run


def _lacking(members: Sequence[Member]) -> str:
    """What a depot lacks and can be given: what was freed comes from another depot of the run that has it."""
    return f"{LACKING} AND {at_hand(members)}"


def _away(library: Library, members: Sequence[Member]) -> list[LeftOut]:
    """What depots lack and cannot be given."""
    if library.db.execute(f"{FREED} LIMIT 1").fetchone() is None:
        return []
    away = []
    for member in members:
        where, values = chosen(member.terms)
        lacked = Amount(*library.db.execute(
            f"SELECT {_ALL} FROM files f LEFT JOIN copies c ON c.file = f.id AND c.depot = ?"
            f" LEFT JOIN frames r ON r.id = f.frame WHERE {LACKING} AND {where} AND NOT {at_hand(members)}",
            (member.number, *values),
        ).fetchone())  # fmt: skip
        if lacked.files:
            away.append(LeftOut(f"{member.depot.name}: {lacked.files:,} files", _AWAY, lacked))
    return away


def _purge(library: Library, depot: Depot, started: str) -> None:
    """Delete what the depot's terms say is kept long enough, and most old ledgers; that has a receipt of its own."""
    gone = purge_expired(depot, library.name) + thin_ledgers(depot, library.name)
    if gone:
        write_purge_receipt(library, depot, gone, started)


def _change(run: CopyRun, member: Member) -> Changes:
    """Carry removals and moves out at a depot; both are entered at once."""
    db, least = run.library.db, run.library.settings.erase.copies
    changes = Changes()
    if next(removals(db, member, least), None) is not None:
        journal = run.journal(member)
        journal.remove(removals(db, member, least))
        with run.library.ledger.changing():
            changes.removed = enter_removals(db, member, (i for i in journal.intents() if i.what == "remove"))
    if next(moves(db, member), None) is not None:
        journal = run.journal(member)
        journal.move(moves(db, member))
        with run.library.ledger.changing():
            changes.moved = enter_moves(db, member, (i for i in journal.intents() if i.what == "move"))
    return changes


def close_journals(run: CopyRun, receipt: Receipt) -> None:
    """End the run at each depot that was written to: manifests, reading, receipt and line.

    Raises DepotTrouble, once all others are closed, where a drive fails at it: the next run there finishes this one.
    """
    failed: list[tuple[Depot, OSError]] = []
    for member in run.members:
        journal = run.journals.get(member.number)
        if journal is None:
            continue
        depot, outcome = member.depot, run.outcomes.get(member.number)
        tags = {}
        if outcome is not None:
            reading = ReadingRecord(
                run=receipt.run,
                began=receipt.started,
                ended=receipt.finished,
                grade="maybe-cache" if outcome.unproven else "medium",
                files=outcome.copied.files,
                bytes=outcome.copied.bytes,
                scope="written",
                listed_in=f"runs/{run.name}.csv",
                amiss=[Finding(item.path, trouble) for item, trouble in outcome.failed],
            )
            tags = record_tags(reading, receipt)
        try:
            journal.close(run.library.name, tags)
            remember_line(run.library, depot)
        except OSError as error:
            failed.append((depot, error))
    for depot, reason in failed:
        raise DepotTrouble(
            f"The run at the depot {depot.name} could not be closed ({reason.strerror or reason}).",
            "Put that right, or make room there, and run the same command again: it finishes what was begun.",
        ) from reason


def _receipt(
    run: CopyRun, changes: dict[int, Changes], away: list[LeftOut], findings: list[Finding], started: str
) -> Receipt:
    """Came in: what each depot is to hold, and what it holds besides. Kept: what the ledger says is good there now."""
    db = run.library.db
    came_in, kept, left_out = Amount(), [], [*away]
    for member in run.members:
        name, outcome, change = member.depot.name, run.outcomes[member.number], changes[member.number]
        where, values = chosen(member.terms)
        chosen_for_it = f"SELECT {_ALL} FROM files f LEFT JOIN frames r ON r.id = f.frame WHERE {where}"
        came_in += Amount(*db.execute(chosen_for_it, values).fetchone()) + change.removed
        good = Amount(*db.execute(
            f"SELECT {_ALL} FROM copies c JOIN files f ON f.id = c.file LEFT JOIN frames r ON r.id = f.frame WHERE c.depot = ?"
            f" AND c.sha256 IS NULL AND c.state IN ('proven', 'cached', 'written') AND {where}",
            (member.number, *values),
        ).fetchone())  # fmt: skip
        doubt = ", but perhaps from a cache" if outcome.unproven else ""
        kept += [
            Kept(f"{name}: copied and read back{doubt}", outcome.copied),
            Kept(f"{name}: moved there as in the library", change.moved),
            Kept(f"{name}: there already", good - outcome.copied - change.moved),
            Kept(f"{name}: no longer to be there; moved to earlier/", change.removed),
        ]
        left_out += [
            LeftOut(f"{name}: {item.path}", trouble, Amount(int(item.frames), 1, item.bytes))
            for item, trouble in outcome.failed
        ]
        if outcome.left.files:
            left_out.append(LeftOut(f"{name}: {outcome.left.files:,} files", outcome.why_left, outcome.left))
    told = {item.name.partition(": ")[2] for item in left_out}
    findings = [finding for finding in dict.fromkeys(findings) if finding.name not in told]
    finished = stamp(now_utc())
    names = [member.depot.name for member in run.members]
    return make_receipt(run.library, "backup", run.name, started, finished, names, came_in, kept, left_out, findings)
