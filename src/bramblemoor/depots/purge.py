"""Purging: earlier versions at a depot are deleted for good, as far as the rule for giving up a copy lets them go."""

from collections.abc import Sequence

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.earlier import Version, moment_of, runs_with_earlier, versions, versions_of
from bramblemoor.depots.bag.purging import purge_earlier
from bramblemoor.depots.bag.run_lists import earlier
from bramblemoor.depots.register.known import number_in
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.clock import DAY, Clock
from bramblemoor.library.erasing import Erasing, Within
from bramblemoor.library.home import Library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.receipts import Amount, LeftOut, Receipt, next_number, seconds, stamp, total, write_receipt

_LEDGERS_KEPT = 30  # days


def purge(
    library: Library, depot: Depot, due: Sequence[Version], within: Within, *, also_unknown: bool = False
) -> tuple[list[Version], list[Version]]:
    """Delete earlier versions for good; returns what was deleted, and what had to stay.

    The rule for giving up a copy is asked for each; one that was damaged is no copy of anything. With `also_unknown` what nobody
    here has ever had goes, too: a person has said so. The caller holds the depot.
    """
    erasing = Erasing(library, within)
    number = number_in(library, depot.id)
    library.db.executemany(
        "INSERT OR REPLACE INTO temp.leaving (depot, path, sha256, bytes, why) VALUES (?, ?, ?, ?, '')",
        ((number, one.lies, one.sha256, one.bytes) for one in due if not one.mended),
    )
    erasing.weigh(for_good=not also_unknown)
    staying = {row["path"] for row in erasing.staying()}
    gone = [one for one in due if one.lies not in staying]
    if gone:
        purge_earlier(depot, [one.lies for one in gone], library.name)
    return gone, [one for one in due if one.lies in staying]


def set_aside_before(depot: Depot, moment: str) -> list[Version]:
    """What runs up to a moment (a day, or as receipts write it) have set aside; a day alone is its first moment."""
    return [version for version in versions(depot.store) if version.when <= moment]


def expired(depot: Depot, clock: Clock) -> list[Version]:
    """What was set aside longer ago than the depot's own terms keep it."""
    days = depot.identity.terms.days_kept
    if days is None:
        return []
    return [one for one in versions(depot.store) if clock.kept_for(seconds(one.when)) >= days * DAY]


def old_ledgers(depot: Depot, clock: Clock) -> list[Version]:
    """Former states of the ledger, but those of the last 30 days and the last of each month.

    Each is as large as the whole ledger, and every run that brings something new sets one aside.
    """
    if not clock.may_delete:
        return []
    runs = [run for run in runs_with_earlier(depot.store) if depot.store.stat(earlier(run, LEDGER)) is not None]
    of_month = {moment_of(run)[:7]: run for run in runs}
    going = [
        run
        for run in runs
        if run not in of_month.values() and clock.kept_for(seconds(moment_of(run))) > _LEDGERS_KEPT * DAY
    ]
    return [one for run in going for one in versions_of(depot.store, run) if one.path == LEDGER]


def write_purge_receipt(library: Library, depot: Depot, gone: Sequence[Version], started: str) -> Receipt:
    """Account for what was deleted, each file by name."""
    amounts = [Amount(0, 1, version.bytes) for version in gone]
    number = next_number(library.receipts)
    left_out = [
        LeftOut(f"{depot.name}: {version.path}", f"deleted; set aside on {version.when[:10]}: {version.why}", amount)
        for version, amount in zip(gone, amounts, strict=True)
    ]
    about = {"library": library.name, "depots": depot.name}
    receipt = Receipt(number, "purge", started, stamp(now_utc()), about, total(amounts), [], left_out, [])
    write_receipt(library.receipts, receipt)
    return receipt
