"""Mending: what verifying found damaged or missing is put right from any good copy, the library's included."""

import hashlib
from collections.abc import Sequence
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.backup import close_journals, members_of
from bramblemoor.depots.copying import CopyRun, Pace, Progress, Source, from_anywhere
from bramblemoor.depots.depot import Depot, write_identity
from bramblemoor.depots.journal import refresh_tags
from bramblemoor.depots.lane import PIECE, Item
from bramblemoor.depots.records import make_receipt, run_name
from bramblemoor.depots.register import finish_at, number_of
from bramblemoor.depots.run_lists import Sums
from bramblemoor.depots.tally import settle
from bramblemoor.depots.work import AMISS, Work
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import TEMPORARY, flush_file, flush_folder, set_time
from bramblemoor.library.home import DEPOT_MARK, Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp, write_receipt
from bramblemoor.library.stock import LIBRARY, source_of

SET_ASIDE = "set-aside"
"""Where the library keeps what mending replaced, as earlier/ does at a depot."""


def mend(library: Library, depots: Sequence[Depot], progress: Progress, pace: Pace | None = None) -> Receipt:
    """Put right what the ledger knows to be damaged or missing at `depots` and in the library.

    Returns the receipt, which is also written. What was damaged moves to earlier/ at a depot, to set-aside/ in the library.
    """
    started = stamp(now_utc())
    for depot in depots:
        finish_at(library, depot)
    name = run_name(library, started)
    kept: list[Kept] = []
    mended_library, left_out, came_in = _mend_library(library, depots, name)
    kept.append(Kept("library: mended", mended_library))
    tags = []
    for member in members_of(library, depots):
        depot = member.depot
        # One depot at a time: what one lacks may be what another has.
        run = CopyRun(library, [member], name, progress, pace or Pace())
        work = Work(library, [member], AMISS)
        due = work.left(member)
        came_in += due
        run.require_room(work)
        run.copy(work, from_anywhere(library, depots, member.number))
        outcome = run.outcomes[member.number]
        kept.append(Kept(f"{depot.name}: good again", outcome.copied))
        left_out += [
            LeftOut(f"{depot.name}: {item.path}", trouble, Amount(int(item.frames), 1, item.bytes))
            for item, trouble in outcome.failed
        ]
        if outcome.left.files:
            left_out.append(LeftOut(f"{depot.name}: {outcome.left.files:,} files", "not come to", outcome.left))
        told = {item.path for item, _ in outcome.failed}
        tags += [finding for finding in dict.fromkeys(run.findings) if finding.name not in told]
        tags += _mend_tags(library, depot, bool(run.journals))
        interim = make_receipt(
            library, "mend", name, started, stamp(now_utc()), [depot.name], due,
            [Kept(f"{depot.name}: good again", outcome.copied)],
            [left for left in left_out if left.name.startswith(f"{depot.name}: ")], [],
        )  # fmt: skip
        close_journals(run, interim)
    names = [depot.name for depot in depots]
    receipt = make_receipt(library, "mend", name, started, stamp(now_utc()), names, came_in, kept, left_out, tags)
    if came_in != Amount() or tags:
        write_receipt(library.receipts, receipt)
    return receipt


def _mend_tags(library: Library, depot: Depot, run_is_open: bool) -> list[Finding]:
    """Write a depot's damaged manifests anew, from the ledger's record of what was put there."""
    amiss = list(bag.amiss_tags(depot.root))
    if not amiss:
        return []
    if any(path == DEPOT_MARK for path, _ in amiss):
        write_identity(depot.root, depot.identity)
    number = number_of(library, depot)
    with Sums() as sums:
        for row in library.db.execute(
            "SELECT 'data/' || coalesce(c.path, f.path) AS path, coalesce(c.sha256, f.sha256) AS sha256"
            " FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = ? AND c.state != 'missing'"
            " UNION ALL SELECT 'data/' || path, sha256 FROM leftovers WHERE depot = ?",
            (number, number),
        ):
            sums.set(row["path"], row["sha256"])
        bag.write_manifest(depot.root, sums, afresh=True)
    if not run_is_open:
        refresh_tags(depot, library.name, [path for path, _ in amiss])
    return [Finding(f"{depot.name}: {path}", f"it was {what}; written anew from the ledger") for path, what in amiss]


def _mend_library(library: Library, depots: Sequence[Depot], run: str) -> tuple[Amount, list[LeftOut], Amount]:
    """Put the library's own damaged and missing files right from depots."""
    rows = library.db.execute(
        "SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role = 'original' AS frames FROM files f"
        " JOIN copies c ON c.file = f.id WHERE c.depot = 0 AND c.state IN ('damaged', 'missing') ORDER BY f.path"
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
                db.execute("DELETE FROM copies WHERE depot = 0 AND file = ?", (item.file,))
                db.execute("UPDATE files SET seen_ns = 0 WHERE id = ?", (item.file,))
                settle(db)
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
        with Path(source.path).open("rb", buffering=0) as file, fresh.open("wb", buffering=0) as copy:
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
