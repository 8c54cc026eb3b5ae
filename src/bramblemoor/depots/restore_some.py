"""Restoring some of a library: frames, shoots, albums, years, or what stood there at a date, to any folder."""

import sqlite3
from collections.abc import Sequence
from pathlib import Path

from bramblemoor.depots.bag.contents import NOW, Contents
from bramblemoor.depots.bringing import Restored, ToBring, bring_all
from bramblemoor.depots.restore import ALL_HERE, Holder, contents_of
from bramblemoor.depots.standing.tally import settle_apart
from bramblemoor.disk.durable import write_atomically
from bramblemoor.disk.told import inside_or_none
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_seconds, now_utc
from bramblemoor.library import copies
from bramblemoor.library.home import Library, require_apart, require_room
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.receipts import Receipt, encode, next_number, stamp, write_receipt
from bramblemoor.library.selection import NOTHING, Selection, located
from bramblemoor.running import Progress


def restore_some(
    target: Path,
    sources: Sequence[Holder],
    selection: Selection,
    library: Library | None,
    progress: Progress,
    moment: str = NOW,
    *,
    as_they_hold: bool = False,
) -> Receipt:
    """Bring what is selected to `target`, under the paths it has in the library; returns the receipt.

    With a library at hand its ledger says what there is, and the receipt goes there; else, for a former `moment`, and where the
    sources were named (`as_they_hold`), the ledger of the first one does, of what they hold; without a library the receipt goes
    to the target. Files that are there already stay; different ones too, and are named. Raises WrongUse where nothing fits.
    """
    require_apart(target, "restoring some of a library", but=library.root if library is not None else None)
    started = stamp(now_utc())
    holdings = [contents_of(source, moment) for source in sources]
    to_bring = ToBring(holdings)
    if library is not None and moment == NOW and not as_they_hold:
        _choose(library.db, selection, to_bring, library.root)
    else:
        ledger = _ledger_of(holdings[0], moment)
        _choose(ledger.db, selection, to_bring, None, held=True)
        ledger.close()
    if next(to_bring.items(), None) is None:
        raise WrongUse(f"There are no {selection.said()}.", NOTHING)
    target.mkdir(parents=True, exist_ok=True)
    require_room(target, to_bring.lacking(target), "Restoring")
    restored = Restored()
    here: list[tuple[str, str]] = []
    for wanted, result in bring_all(target, to_bring, progress):
        restored.enter(wanted, result, holdings[0])
        if not result.trouble:
            here.append((wanted.path, wanted.sha256))
    if library is not None and target.resolve() == library.root:
        with library.ledger.changing(facts=True) as db:  # now that all are in place
            for one in here:
                copies.here_again(db, "SELECT id FROM files WHERE path = ? AND sha256 = ?", one)
            db.executemany(
                "UPDATE files SET read_at = ? WHERE path = ? AND sha256 = ?", ((now_seconds(), *one) for one in here)
            )
            db.execute(ALL_HERE)
        settle_apart(library, progress)
    more = {"to": str(target)} | ({"as of": moment} if moment != NOW else {})
    name = library.name if library else sources[0].name
    if library is not None and not library.read_only:
        receipt = restored.receipt(name, next_number(library.receipts), holdings, started, more)
        write_receipt(library.receipts, receipt)
    else:
        receipt = restored.receipt(name, 1, holdings, started, more)
        write_atomically(target / f"restored-{started.replace(':', '')}.json", encode(receipt))
    return receipt


def _choose(
    db: sqlite3.Connection, selection: Selection, to_bring: ToBring, root: Path | None, *, held: bool = False
) -> None:
    """`held` says that only what the sources hold counts, under the path that it has there: known by its content, if need be."""
    clause = located(db, selection, root)
    frames = "" if selection.everything else f" AND f.frame IS NOT NULL AND {clause.sql}"
    for row in db.execute(
        "SELECT f.path, f.sha256, f.mtime_ns, f.role FROM files f LEFT JOIN frames r ON r.id = f.frame"
        f" WHERE f.role != 'ledger'{frames} ORDER BY f.path",
        clause.values,
    ):
        path, sha256 = inside_or_none(row["path"]), row["sha256"]
        if path is not None and held:
            stood = next(filter(None, (contents.digest(path) for contents in to_bring.holdings)), "")
            if stood:
                sha256 = stood
            else:
                path = next(filter(None, (contents.path_of(sha256) for contents in to_bring.holdings)), None)
        if path is not None:
            to_bring.add(path, sha256, row["mtime_ns"], int(row["role"] == "original"))


def _ledger_of(contents: Contents, moment: str) -> Ledger:
    """The ledger as it stood there then, read-only, or the next that was kept."""
    ledger = contents.ledger()
    if ledger is None:
        when = "" if moment == NOW else f" from before {moment[:10]}"
        raise DepotTrouble(
            f"The depot {contents.name} holds no ledger{when}.",
            "Name another depot, or another date: bramblemoor earlier DEPOT lists what there is.",
        )
    return ledger[0]
