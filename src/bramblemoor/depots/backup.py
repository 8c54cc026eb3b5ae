"""Backing the library up to depots: what is missing there is copied, read back, and accounted for."""

from collections.abc import Sequence

from bramblemoor.depots.copying import LACKING, CopyOutcome, Progress, copy_files, from_library, wanted_by
from bramblemoor.depots.depot import Depot
from bramblemoor.depots.lane import Item
from bramblemoor.depots.records import ReadingRecord, common_grade, make_receipt, record_tags, run_name
from bramblemoor.depots.register import finish_at, remember_device
from bramblemoor.errors import DepotTrouble
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp, total, write_receipt
from bramblemoor.library.stock import renew_snapshot, take_stock


def plan_backup(library: Library, depots: Sequence[Depot]) -> tuple[dict[str, list[Item]], list[Finding]]:
    """What a backup would copy, by depot id, and what it cannot; changes nothing but the ledger's knowledge of the library."""
    passed_over = take_stock(library)
    renew_snapshot(library)
    return {depot.id: list(wanted_by(library, depot, LACKING)) for depot in depots}, passed_over


def backup(library: Library, depots: Sequence[Depot], progress: Progress) -> Receipt:
    """Bring depots, which the caller holds, level with the library; returns the receipt, which is also written.

    Raises NotPossible before anything is copied where a depot has too little room.
    """
    started = stamp(now_utc())
    for depot in depots:
        finish_at(library, depot)
        remember_device(library, depot)
    wanted, passed_over = plan_backup(library, depots)
    name = run_name(library, started)
    outcome = copy_files(library, depots, wanted, from_library(library), name, progress)
    outcome.findings += passed_over
    receipt = _receipt(library, depots, wanted, outcome, name, started)
    if any(wanted.values()):
        write_receipt(library.receipts, receipt)
    close_journals(library, depots, outcome, receipt)
    return receipt


def close_journals(library: Library, depots: Sequence[Depot], outcome: CopyOutcome, receipt: Receipt) -> None:
    """End the run at each depot that was written to: manifests, reading and receipt.

    Raises DepotTrouble, once all others are closed, where a drive fails at it: the next run there finishes this one.
    """
    failed: list[tuple[Depot, OSError]] = []
    for depot in depots:
        journal = outcome.journals.get(depot.id)
        if journal is None:
            continue
        copied = outcome.copied[depot.id]
        reading = ReadingRecord(
            run=receipt.run,
            began=receipt.started,
            ended=receipt.finished,
            grade=common_grade({item.grade for item in copied}),
            files=len(copied),
            bytes=sum(done.item.bytes for done in copied),
            scope="listed",
            paths=[done.item.path for done in copied],
            amiss=[finding for finding in outcome.findings if depot.name in finding.what],
        )
        try:
            journal.close(library.name, record_tags(reading, receipt))
        except OSError as error:
            failed.append((depot, error))
    for depot, reason in failed:
        raise DepotTrouble(
            f"The run at the depot {depot.name} could not be closed ({reason.strerror or reason}).",
            "Put that right, or make room there, and run the same command again: it finishes what was begun.",
        ) from reason


def _receipt(
    library: Library,
    depots: Sequence[Depot],
    wanted: dict[str, list[Item]],
    outcome: CopyOutcome,
    name: str,
    started: str,
) -> Receipt:
    """Came in: every file of the library, once for each depot. Kept: what the ledger's copies say is good there now."""
    row = library.db.execute("SELECT sum(role = 'original'), count(*), coalesce(sum(bytes), 0) FROM files").fetchone()
    came_in = total(Amount(row[0] or 0, row[1], row[2]) for _ in depots)
    kept, left_out = [], []
    for depot in depots:
        done = {copied.item.file for copied in outcome.copied[depot.id]}
        reasons = {finding.name: finding.what for finding in outcome.findings}
        new, before = Amount(), Amount()
        held = library.db.execute(
            "SELECT f.id, f.bytes, f.role = 'original' AS frames FROM files f JOIN copies c ON c.file = f.id"
            " WHERE c.depot = ? AND c.sha256 = f.sha256 AND c.state IN ('good', 'written')",
            (depot.id,),
        )
        for file in held:
            amount = Amount(file["frames"], 1, file["bytes"])
            if file["id"] in done:
                new += amount
            else:
                before += amount
        kept += [Kept(f"{depot.name}: copied and read back", new), Kept(f"{depot.name}: there already", before)]
        left_out += [
            LeftOut(
                f"{depot.name}: {item.path}",
                reasons.get(item.path) or reasons.get(depot.name, "not copied"),
                Amount(item.frames, 1, item.bytes),
            )
            for item in wanted[depot.id]
            if item.file not in done
        ]
    findings = [finding for finding in outcome.findings if finding.name not in {item.name for item in left_out}]
    finished = stamp(now_utc())
    names = [depot.name for depot in depots]
    return make_receipt(library, "backup", name, started, finished, names, came_in, kept, left_out, _distinct(findings))


def _distinct(findings: list[Finding]) -> list[Finding]:
    return list(dict.fromkeys(findings))
