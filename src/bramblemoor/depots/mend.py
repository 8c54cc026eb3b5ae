"""Mending: what verifying found damaged or missing is put right from any good copy, the library's included."""

import hashlib
from collections.abc import Sequence
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.backup import close_journals
from bramblemoor.depots.copying import AMISS, CopyOutcome, Progress, Source, copy_files, from_anywhere, wanted_by
from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import refresh_tags
from bramblemoor.depots.lane import PIECE, Item
from bramblemoor.depots.records import make_receipt, run_name
from bramblemoor.depots.register import LIBRARY, finish_at
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import TEMPORARY, flush_file, flush_folder, set_time
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp, write_receipt
from bramblemoor.library.stock import source_of

SET_ASIDE = "set-aside"
"""Where the library keeps what mending replaced, as earlier/ does at a depot."""


def mend(library: Library, depots: Sequence[Depot], progress: Progress) -> Receipt:
    """Put right what the ledger knows to be damaged or missing at `depots` and in the library.

    Returns the receipt, which is also written. What was damaged moves to earlier/ at a depot, to set-aside/ in the library.
    """
    started = stamp(now_utc())
    for depot in depots:
        finish_at(library, depot)
    name = run_name(library, started)
    outcome = CopyOutcome()
    kept: list[Kept] = []
    left_out: list[LeftOut] = []
    came_in = Amount()
    mended_library, lost, came_in = _mend_library(library, depots, name)
    kept.append(Kept("library: mended", mended_library))
    left_out += lost
    for depot in depots:
        wanted = list(wanted_by(library, depot, AMISS))
        sources = from_anywhere(library, depots, depot.id)
        one = copy_files(library, [depot], {depot.id: wanted}, sources, name, progress)
        outcome.copied |= one.copied
        outcome.journals |= one.journals
        outcome.findings += one.findings
        done = {copied.item.file for copied in one.copied[depot.id]}
        reasons = {finding.name: finding.what for finding in one.findings}
        for item in wanted:
            amount = Amount(item.frames, 1, item.bytes)
            came_in += amount
            if item.file in done:
                kept.append(
                    Kept(f"{depot.name}: {item.path}, {item.why.removeprefix('it was ')}, is good again", amount)
                )
            else:
                reason = reasons.get(item.path) or reasons.get(depot.name, "not mended")
                left_out.append(LeftOut(f"{depot.name}: {item.path}", reason, amount))
    left_names = {left.name.partition(": ")[2] for left in left_out}
    findings = [finding for finding in dict.fromkeys(outcome.findings) if finding.name not in left_names]
    tags = [finding for depot in depots for finding in _mend_tags(library, depot, depot.id in outcome.journals)]
    names = [depot.name for depot in depots]
    finished = stamp(now_utc())
    receipt = make_receipt(library, "mend", name, started, finished, names, came_in, kept, left_out, findings + tags)
    if came_in != Amount() or tags:
        write_receipt(library.receipts, receipt)
    close_journals(library, depots, outcome, receipt)
    return receipt


def _mend_tags(library: Library, depot: Depot, run_is_open: bool) -> list[Finding]:
    """Write a depot's damaged manifests anew, from the ledger's record of what was put there."""
    amiss = list(bag.amiss_tags(depot.root))
    if not amiss:
        return []
    rows = library.db.execute(
        "SELECT 'data/' || path AS path, copies.sha256 FROM copies JOIN files ON id = file WHERE depot = ? ORDER BY 1",
        (depot.id,),
    )
    bag.write_manifest(depot.root, {}, sorted((row["path"], row["sha256"]) for row in rows))
    if not run_is_open:
        refresh_tags(depot, library.name)
    return [Finding(f"{depot.name}: {path}", f"it was {what}; written anew from the ledger") for path, what in amiss]


def _mend_library(library: Library, depots: Sequence[Depot], run: str) -> tuple[Amount, list[LeftOut], Amount]:
    """Put the library's own damaged and missing files right from depots."""
    rows = library.db.execute(
        "SELECT f.id, path, bytes, f.sha256, mtime_ns, role = 'original' AS frames FROM files f"
        " JOIN copies c ON c.file = f.id WHERE c.depot = ? AND c.state IN ('damaged', 'missing') ORDER BY path",
        (LIBRARY,),
    ).fetchall()
    mended, came_in, lost = Amount(), Amount(), []
    sources = from_anywhere(library, depots, LIBRARY)
    for row in rows:
        item = Item(row["id"], row["path"], row["bytes"], row["sha256"], row["mtime_ns"], row["frames"])
        amount = Amount(item.frames, 1, item.bytes)
        came_in += amount
        target = source_of(library, item.path)
        if any(put_back(source, item, target, library.root / SET_ASIDE / run / item.path) for source in sources(item)):
            with library.ledger.changing() as db:
                db.execute("DELETE FROM copies WHERE depot = ? AND file = ?", (LIBRARY, item.file))
            mended += amount
        else:
            lost.append(LeftOut(f"library: {item.path}", "no good copy of it is within reach", amount))
    return mended, lost, came_in


def put_back(source: Source, item: Item, target: Path, aside: Path) -> bool:
    """Copy one file to `target` if it is what it should be; a different file there moves to `aside` first."""
    fresh = target.with_name(target.name + TEMPORARY)
    digest = hashlib.sha256()
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        with source.path.open("rb", buffering=0) as file, fresh.open("wb", buffering=0) as copy:
            while piece := file.read(PIECE):
                digest.update(piece)
                copy.write(piece)
    except OSError:
        fresh.unlink(missing_ok=True)
        return False
    if digest.hexdigest() != item.sha256:
        fresh.unlink()
        return False
    flush_file(fresh)
    set_time(fresh, item.mtime_ns)
    if target.exists():
        aside.parent.mkdir(parents=True, exist_ok=True)
        target.replace(aside)
    fresh.replace(target)
    flush_folder(target.parent)
    return True
