"""Backing the library up to depots: what is missing there is copied, read back, and accounted for."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import msgspec

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.bag.terms import LACKING, chosen
from bramblemoor.depots.engine.copying import CopyRun
from bramblemoor.depots.engine.sources import from_library
from bramblemoor.depots.engine.work import (
    Member,
    Work,
    at_hand,
    enter_moves,
    enter_removals,
    moves,
    removals,
    weigh_removals,
)
from bramblemoor.depots.purge import expired, old_ledgers, purge, write_purge_receipt
from bramblemoor.depots.register.learning import mark_lost
from bramblemoor.depots.register.records import Books, ReadingRecord, open_books, record_tags
from bramblemoor.depots.register.register import finish_all, number_of, remember_line, with_place, within_reach
from bramblemoor.errors import DepotTrouble, MassOfChanges
from bramblemoor.frames.kinds import SIDECAR
from bramblemoor.library import copies
from bramblemoor.library.copies import FREED, amiss, good
from bramblemoor.library.erasing import Erasing, Within
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, total, write_receipt
from bramblemoor.library.stocktake.stock import Stock, renew_snapshot, take_stock
from bramblemoor.running import Pace, Progress

_AWAY = "put away: no longer on the working drive, and no drive of this run has them; let one take part that does"
_STAYS = "not to be there any more, but not taken away: too few other drives were found to have them, and read lately"
_UNKNOWN = "kept in earlier/ there, though it keeps nothing so long: nobody else is known to have them"
_FEW = 20  # so many files besides pictures may always go


@dataclass
class Changes:
    """What a backup does at a depot besides copying."""

    moved: Amount = NOTHING
    removed: dict[str, Amount] = field(default_factory=dict)
    staying: list[Finding] = field(default_factory=list)


@dataclass(frozen=True)
class Planned:
    """What a backup would do at one depot."""

    copied: Amount
    moved: Amount
    removed: Amount
    deletes: bool
    """Whether it keeps nothing of what is removed: a mirror."""


def members_of(library: Library, depots: Sequence[Depot]) -> list[Member]:
    return [Member(depot, number_of(library, depot), place, depot.identity.terms) for place, depot in enumerate(depots)]


def plan_backup(library: Library, depots: Sequence[Depot], progress: Progress) -> dict[str, Planned]:
    """What a backup would do, by name of depot; changes nothing but the ledger's knowledge of the library."""
    take_stock(library, progress)
    renew_snapshot(library)
    members = members_of(library, depots)
    work = Work(library, members, _lacking(members), before_moves=True)
    within = within_reach(library, depots)
    planned = {}
    for member in members:
        weigh_removals(Erasing(library, within), member)
        planned[member.depot.name] = Planned(
            work.left(member),
            total(Amount(0, 1, intent.bytes) for intent in moves(library.db, member)),
            total(Amount(0, 1, intent.bytes) for intent in removals(library.db)),
            member.terms.days_kept == 0,
        )
    return planned


def backup(
    library: Library, depots: Sequence[Depot], progress: Progress, *, yes: bool = False, pace: Pace | None = None
) -> tuple[Receipt, CopyRun]:
    """Bring depots, which the caller holds, level with the library; returns the receipt, which is also written.

    A depot with too little room is passed over, and stands on the receipt as not level. Raises MassOfChanges where others have
    changed too much in the library, or too much would be removed at a depot, and `yes` was not said.
    """
    books = open_books(library, "backup")
    depots, wrong = finish_all(library, depots)
    stock = take_stock(library, progress, yes=yes)
    renew_snapshot(library)
    members = members_of(library, depots)
    within = within_reach(library, depots)
    run = CopyRun(library, members, books.name, progress, pace or Pace())
    work = Work(library, members, _lacking(members), before_moves=True)
    full = {member.number: why for member in members if (why := run.lacks_room(work, member))}
    no_room = wrong + [
        Finding(f"depot {member.depot.name}", full[member.number]) for member in members if member.number in full
    ]
    run.members = [member for member in members if member.number not in full]
    if not yes:
        for member in run.members:
            _require_no_mass(library, member, within)
    changes = {member.number: _change(run, member, within) for member in run.members}
    if full or any(change.moved.files for change in changes.values()):
        work = Work(library, run.members, _lacking(run.members))
    away = _away(library, run.members)
    run.copy(work, from_library(library, [member.depot for member in run.members]))
    findings = [*run.findings, *stock.findings, *_amiss_here(library, stock)]
    for change in changes.values():
        findings += change.staying
    if not run.journals:
        findings += [*no_room, *(Finding(one.name, one.reason) for one in away)]
        findings += _purge_all(library, run.members, within, books.started)
        return books.receipt([], Amount(), [], findings=findings), run
    receipt = _receipt(books, run, changes, away, [*no_room, *findings])
    write_receipt(library.receipts, receipt)
    more = close_journals(run, receipt)
    more += _purge_all(library, run.members, within, books.started)
    if more:
        receipt = msgspec.structs.replace(receipt, findings=[*receipt.findings, *more])
        write_receipt(library.receipts, receipt)
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
        lacked = copies.amount(
            library.db,
            f"files f LEFT JOIN copies c ON c.file = f.id AND c.depot = ?"
            f" LEFT JOIN frames r ON r.id = f.frame WHERE {LACKING} AND {where} AND NOT {at_hand(members)}",
            (member.number, *values),
        )
        if lacked.files:
            away.append(LeftOut(f"{member.depot.name}: {lacked.files:,} files", _AWAY, lacked))
    return away


def _amiss_here(library: Library, stock: Stock) -> list[Finding]:
    """What is known to be amiss in the library itself, and was not named yet."""
    named = {finding.name for finding in stock.findings}
    rows = library.db.execute(
        f"SELECT f.path FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = 0 AND {amiss()} ORDER BY f.path"
    )
    return [
        Finding(row["path"], "it is damaged or missing here: bramblemoor mend")
        for row in rows
        if row["path"] not in named
    ]


def _purge_all(library: Library, members: Sequence[Member], within: Within, started: str) -> list[Finding]:
    """Delete what the depots' terms say is kept long enough, and most old ledgers; that has receipts of its own.

    Returns what a person should know of what was due and could not be deleted.
    """
    findings = []
    for member in members:
        depot = member.depot
        if not library.clock.may_delete and depot.identity.terms.days_kept is not None:
            continue
        due = [*expired(depot, library.clock), *old_ledgers(depot, library.clock)]
        gone, stay = purge(library, depot, due, within)
        if gone:
            write_purge_receipt(library, depot, gone, started)
        if stay:
            findings.append(Finding(f"{depot.name}: {len(stay):,} files", _UNKNOWN))
    return findings


def _require_no_mass(library: Library, member: Member, within: Within) -> None:
    """Raise MassOfChanges where more would be removed at a depot than the guard lets pass."""
    db, guard = library.db, library.settings.guard
    weigh_removals(Erasing(library, within), member)
    picture = f"path LIKE 'pictures/%' AND path NOT LIKE '%{SIDECAR}'"
    pictures, others = db.execute(
        f"SELECT coalesce(sum({picture}), 0), coalesce(sum(NOT ({picture})), 0) FROM temp.leaving WHERE NOT stays"
        " AND sha256 NOT IN (SELECT sha256 FROM culled)"  # that was agreed to, frame by frame
    ).fetchone()
    if pictures <= 1 and others <= _FEW:
        return
    held = db.execute(
        f"SELECT count(*) FROM (SELECT coalesce(c.path, f.path) AS path FROM copies c JOIN files f ON f.id = c.file"
        f" WHERE c.depot = ? AND c.state != 'missing' UNION ALL SELECT path FROM leftovers WHERE depot = ?) WHERE {picture}",
        (member.number, member.number),
    ).fetchone()[0]
    if pictures <= max(1, min(guard.frames, guard.share * held)) and others <= max(_FEW, guard.share * held):
        return
    sample = db.execute("SELECT path FROM temp.leaving WHERE NOT stays ORDER BY path LIMIT 5").fetchall()
    fate = "DELETED, as it keeps no earlier versions" if member.terms.days_kept == 0 else "moved to earlier/ there"
    raise MassOfChanges(
        f"At the depot {member.depot.name}, {pictures:,} of {held:,} pictures and {others:,} other files would be {fate}: more"
        f" than the guard lets pass. Nothing was removed or copied. Among them:",
        "If that is meant, run the same command again with --yes. The guard is set in bramblemoor.toml: [guard] share ="
        f" {guard.share:g}, frames = {guard.frames}. What the depot should get: bramblemoor depot change {member.depot.name}.",
        [row["path"] for row in sample],
    )


def _change(run: CopyRun, member: Member, within: Within) -> Changes:
    """Carry removals and moves out at a depot; both are entered at once."""
    db = run.library.db
    changes = Changes()
    erasing = Erasing(run.library, within)
    weigh_removals(erasing, member)
    if staying := erasing.count_staying():
        named = ", ".join(row["path"] for row in erasing.staying(3))
        changes.staying.append(Finding(f"{member.depot.name}: {staying:,} files", f"{_STAYS} ({named})"))
    if next(removals(db), None) is not None:
        journal = run.journal(member)
        journal.remove(removals(db))
        with run.library.ledger.changing():
            changes.removed = enter_removals(db, member, (i for i in journal.intents() if i.what == "remove"))
    if next(moves(db, member), None) is not None:
        journal = run.journal(member)
        done = journal.move(moves(db, member))
        with run.library.ledger.changing():
            changes.moved = enter_moves(db, member, _carried_out(done, member.depot.name, changes.staying))
    return changes


def _carried_out(done: Iterator[tuple[Intent, str]], depot: str, staying: list[Finding]) -> Iterator[Intent]:
    """The moves that were carried out; of the others it is told why what they are about keeps its former name there."""
    for intent, why in done:
        if why:
            staying.append(Finding(f"{depot}: {intent.path}", why))
        else:
            yield intent


def close_journals(run: CopyRun, receipt: Receipt) -> list[Finding]:
    """End the run at each depot that was written to: manifests, reading, receipt and line.

    Returns what was found gone in the folders that the run has touched.

    Raises DepotTrouble, once all others are closed, where a drive fails at it: the next run there finishes this one.
    """
    failed: list[tuple[Depot, OSError]] = []
    lost: list[Finding] = []
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
            lost += mark_lost(run.library, depot, journal.close(run.library.name, tags))
            remember_line(run.library, depot)
        except OSError as error:
            failed.append((depot, error))
    for depot, reason in failed:
        raise DepotTrouble(
            f"The run at the depot {depot.name} could not be closed: {with_place(reason)}.",
            "Put that right, or make room there, and run the same command again: it finishes what was begun.",
        ) from reason
    return lost


def _receipt(
    books: Books, run: CopyRun, changes: dict[int, Changes], away: list[LeftOut], findings: list[Finding]
) -> Receipt:
    """Came in: what each depot is to hold, and what it holds besides. Kept: what the ledger says is good there now."""
    db = run.library.db
    came_in, kept, left_out = Amount(), [], [*away]
    for member in run.members:
        name, outcome, change = member.depot.name, run.outcomes[member.number], changes[member.number]
        deletes = member.terms.days_kept == 0
        where, values = chosen(member.terms)
        came_in += copies.amount(db, f"files f LEFT JOIN frames r ON r.id = f.frame WHERE {where}", values)
        came_in += total(change.removed.values())
        sound = copies.amount(
            db,
            f"copies c JOIN files f ON f.id = c.file LEFT JOIN frames r ON r.id = f.frame WHERE c.depot = ?"
            f" AND c.sha256 IS NULL AND {good()} AND {where}",
            (member.number, *values),
        )
        doubt = ", but perhaps from a cache" if outcome.unproven else ""
        kept += [
            Kept(f"{name}: copied and read back{doubt}", outcome.copied),
            Kept(f"{name}: moved there as in the library", change.moved),
            Kept(f"{name}: there already", sound - outcome.copied - change.moved),
            *(
                Kept(f"{name}: {why}; {'deleted' if deletes else 'moved to earlier/'}", removed)
                for why, removed in change.removed.items()
            ),
        ]
        left_out += [
            LeftOut(f"{name}: {item.path}", trouble, Amount(int(item.frames), 1, item.bytes))
            for item, trouble in outcome.failed
        ]
        if outcome.left.files:
            left_out.append(LeftOut(f"{name}: {outcome.left.files:,} files", outcome.why_left, outcome.left))
    told = {item.path for member in run.members for item, _ in run.outcomes[member.number].failed}
    findings = [finding for finding in dict.fromkeys(findings) if finding.name not in told]
    return books.receipt([member.depot.name for member in run.members], came_in, kept, left_out, findings)
