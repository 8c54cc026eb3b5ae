"""Putting a year away: proven identical on its depots, then fixed, then freed from the working drive; and opened again."""

import hashlib
import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.bag.contents import DepotContents
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bringing import Restored, ToBring, bring_all
from bramblemoor.depots.register.known import known_depots
from bramblemoor.depots.register.records import Books, open_books
from bramblemoor.depots.register.register import finish_at, number_of, within_reach
from bramblemoor.depots.standing.tally import settle_apart
from bramblemoor.depots.verify import Result, Scope, read_places
from bramblemoor.disk.durable import digest_of, free_bytes, remove_empty
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.moments import now_seconds
from bramblemoor.library import copies
from bramblemoor.library.copies import FREED
from bramblemoor.library.erasing import Erasing
from bramblemoor.library.home import Library, require_room
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, total, write_receipt
from bramblemoor.library.renewing import renew_all
from bramblemoor.library.selection import Selection
from bramblemoor.library.stocktake.stock import take_stock
from bramblemoor.running import Pace, Progress, Stage

_OF_YEAR = "SELECT f.* FROM files f JOIN frames r ON r.id = f.frame WHERE r.year = ?"
_KEPT = f"{_OF_YEAR} AND f.id NOT IN ({FREED})"  # on the working drive


@dataclass(frozen=True)
class Bound:
    """A year that was put away. `freed` says when it left the working drive, "" where it is there."""

    year: int
    at: str
    depots: tuple[str, ...]
    receipt: str
    freed: str


def bound_years(library: Library) -> list[Bound]:
    names = {depot.id: depot.name for depot in known_depots(library)}
    return [
        Bound(
            row["year"], row["at"], tuple(names.get(one, one[:8]) for one in json.loads(row["depots"])), row["receipt"],
            row["freed"],
        )
        for row in library.db.execute("SELECT * FROM bound ORDER BY year")
    ]  # fmt: skip


def bind(
    library: Library, year: int, depots: Sequence[Depot], progress: Progress, pace: Pace, *, yes: bool = False
) -> tuple[Receipt, bool]:
    """Read a year's files in the library and at `depots`, and bind it if all are identical; says whether it was bound.

    The receipt is the year's final one: it holds a digest of the list of its files. Raises WrongUse for a year without
    frames or one that is bound already, NotPossible where a depot lacks some of it.
    """
    db = library.db
    library.ledger.require_sound()
    if _bound(library, year) is not None:
        raise WrongUse(f"{year} is bound already.", f"To open it for work: bramblemoor unbind {year}.")
    whole = copies.amount(db, f"({_OF_YEAR}) f", (year,))
    if not whole.files:
        raise WrongUse(f"No frame of {year} is in the library.", "bramblemoor standing lists the years.")
    books = open_books(library, "bind")
    for depot in depots:
        finish_at(library, depot)
    stock = take_stock(library, progress, yes=yes)
    for depot in depots:
        lacking = db.execute(
            f"SELECT count(*) FROM ({_OF_YEAR}) f LEFT JOIN copies c ON c.file = f.id AND c.depot = ?"
            " WHERE c.file IS NULL OR c.sha256 IS NOT NULL OR c.path IS NOT NULL",
            (year, number_of(library, depot)),
        ).fetchone()[0]
        if lacking:
            raise NotPossible(
                f"The depot {depot.name} lacks {lacking:,} files of {year}, or has older ones.",
                f"Bring it level first: bramblemoor backup {depot.name}.",
            )
    results = read_places(
        library, depots, Scope(selection=Selection(years=[str(year)])), pace, progress, with_library=True
    )
    doubtful = [
        Finding(result.place.name, "it may have been read from a cache: remount the drive, then bind again")
        for result in results
        if result.place.number and result.grade != "medium"
    ]
    identical = all(result.good == whole for result in results) and not doubtful and not pace.stopped
    receipt = _bind_receipt(books, year, whole, results, [*doubtful, *stock.findings], identical=identical)
    write_receipt(library.receipts, receipt)
    if identical:
        with library.ledger.changing(facts=True):
            db.execute(
                "INSERT INTO bound VALUES (?, ?, ?, ?, '')",
                (year, receipt.finished, json.dumps([depot.id for depot in depots]), receipt.file_name),
            )
    return receipt, identical


def _bind_receipt(
    books: Books, year: int, whole: Amount, results: list[Result], findings: list[Finding], *, identical: bool
) -> Receipt:
    listing = hashlib.sha256()
    for row in books.library.db.execute(f"{_OF_YEAR} ORDER BY f.path", (year,)):
        listing.update(f"{row['sha256']}  {row['path']}\n".encode())
    return books.receipt(
        [result.place.name for result in results],
        total(whole for _ in results),
        [kept for result in results for kept in result.kept()],
        [left for result in results for left in result.left_out()],
        findings,
        {
            "year": str(year), "bound": "yes" if identical else "no",
            "sha256 of its list of files": listing.hexdigest(),
        },
    )  # fmt: skip


def free(library: Library, year: int, progress: Progress) -> Receipt:
    """Delete a bound year from the working drive, once the rule for erasing holds for each of its files.

    What came to the year since it was freed is not let go unseen: the rule must hold for it too. Raises WrongUse for a year
    that is not bound, NotPossible where a file has too few fresh copies elsewhere, or has changed.
    """
    library.ledger.require_sound()
    bound = _bound(library, year)
    if bound is None:
        raise WrongUse(f"{year} is not bound.", f"First: bramblemoor bind {year}.")
    books = open_books(library, "free")
    if library.db.execute(f"{_KEPT} LIMIT 1", (year,)).fetchone() is not None:
        take_stock(library, progress)
        if library.clock.in_doubt:
            raise NotPossible(f"Nothing was deleted: {library.clock.said()}.", "Then run the same command again.")
        _require_rule(library, year)
        with library.ledger.changing(facts=True) as db:
            # Entered first: what is said to be freed and is still there does no harm, the other way round it would be lost.
            copies.mark_all_here(db, _KEPT, (year,), "freed")
            db.execute("UPDATE bound SET freed = ? WHERE year = ?", (books.started, year))
        settle_apart(library)
    freed, left = Amount(), []
    folders: set[Path] = set()
    rows = library.db.execute(f"{_OF_YEAR} ORDER BY f.path", (year,)).fetchall()
    before = free_bytes(library.root)
    for number, row in enumerate(rows, 1):
        path = library.root / row["path"]
        if path.is_file():
            if not _is_as_bound(path, row):
                amount = Amount(int(row["role"] == "original"), 1, row["bytes"])
                left.append(LeftOut(row["path"], "it is not what it was; it was left where it is", amount))
                continue
            path.unlink()
            folders.add(path.parent)
        freed += Amount(int(row["role"] == "original"), 1, row["bytes"])
        progress(Stage("freeing", "files"), number, len(rows))
    remove_empty(folders, library.root / "pictures")
    came_in = copies.amount(library.db, f"({_OF_YEAR}) f", (year,))
    kept = [Kept("away from the working drive; on its depots", freed)]
    room = f"{free_bytes(library.root) / 1e9:.2f} GB; before, {before / 1e9:.2f} GB"
    more = {"year": str(year), "free on the working drive": room}
    receipt = books.receipt(bound.depots, came_in, kept, left, more=more)
    write_receipt(library.receipts, receipt)
    return receipt


def _is_as_bound(path: Path, row: sqlite3.Row) -> bool:
    """Whether a file is what was bound: seen unchanged, or else read. Between two runs anything may have come to its place."""
    status = path.stat()
    if (status.st_size, status.st_mtime_ns, status.st_ctime_ns) == (row["bytes"], row["seen_ns"], row["ctime_ns"]):
        return True
    return bool(digest_of(path) == row["sha256"])


def _require_rule(library: Library, year: int) -> None:
    """Each file that is still here needs its copies elsewhere; none may be amiss here."""
    broken = library.db.execute(
        f"SELECT f.path FROM ({_KEPT}) f JOIN copies c ON c.file = f.id AND c.depot = 0 ORDER BY f.path LIMIT 1",
        (year,),
    ).fetchone()
    if broken is not None:
        raise NotPossible(
            f"{broken[0]} is damaged, changed or missing in the library.", "Put that right first: bramblemoor mend."
        )
    erasing = Erasing(library, within_reach(library))
    library.db.execute(
        "INSERT INTO temp.leaving (depot, path, sha256, bytes, why)"
        f" SELECT 0, path, sha256, bytes, 'freed' FROM ({_KEPT})",
        (year,),
    )
    erasing.weigh(for_good=True)
    poor = erasing.count_staying()
    if poor:
        worst = next(erasing.staying(1))
        away = library.settings.erase.away_days
        raise NotPossible(
            f"Of {year}, {'1 file has' if poor == 1 else f'{poor:,} files have'} fewer than {erasing.least} fresh copies, read"
            f" from their medium and still there, on drives elsewhere; {worst['path']} has {worst['elsewhere']}.",
            "Nothing was deleted. Attach the drives, bring them level and read them: bramblemoor backup, then verify. One that"
            f" is not attached counts for {away} days after it was read.",
        )


def unbind(library: Library, year: int, depots: Sequence[Depot], progress: Progress) -> tuple[Receipt, bool]:
    """Open a bound year for work: what was freed is brought back from `depots`, and the year is bound no more.

    Where a file cannot be had the year stays bound (False). What somebody put in the place of one that was freed is for taking
    stock to judge. Raises WrongUse for a year that is not bound.
    """
    bound = _bound(library, year)
    if bound is None:
        raise WrongUse(f"{year} is not bound: it is open for work.", "All bound years: bramblemoor bind list.")
    books = open_books(library, "unbind")
    to_bring = ToBring([DepotContents(depot) for depot in depots])
    for row in library.db.execute(_OF_YEAR, (year,)):
        to_bring.add(row["path"], row["sha256"], row["mtime_ns"], int(row["role"] == "original"))
    require_room(library.root, to_bring.lacking(library.root), f"Opening {year}")
    restored = Restored()
    for wanted, result in bring_all(library.root, to_bring, progress):
        restored.enter(wanted, result, to_bring.holdings[0])
    receipt = books.receipt(
        [depot.name for depot in depots], restored.came_in, restored.kept_lines(), restored.left_out, restored.findings,
        {"year": str(year)},
    )  # fmt: skip
    complete = restored.only_different
    if complete:
        with library.ledger.changing(facts=True) as db:
            copies.here_again(db, f"SELECT id FROM ({_OF_YEAR})", (year,))
            db.execute(
                f"UPDATE files SET seen_ns = 0, read_at = ? WHERE id IN (SELECT id FROM ({_OF_YEAR}))",
                (now_seconds(), year),
            )
            db.execute("DELETE FROM bound WHERE year = ?", (year,))
            _write_what_was_told(library, year)
        settle_apart(library)
    write_receipt(library.receipts, receipt)
    return receipt, complete


def _write_what_was_told(library: Library, year: int) -> None:
    """Bring sidecars in step with what came to be known of a year's frames while its files were not to change."""
    renew_all(library, [row[0] for row in library.db.execute("SELECT id FROM frames WHERE year = ?", (year,))])


def _bound(library: Library, year: int) -> Bound | None:
    return next((bound for bound in bound_years(library) if bound.year == year), None)
