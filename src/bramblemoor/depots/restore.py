"""Restoring: a whole library to a new folder, with the library itself gone; or some of it, to any folder."""

import json
import sqlite3
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import msgspec

from bramblemoor.depots.archives.opened import Archive, open_archive, volumes_in
from bramblemoor.depots.bag.contents import NOW, Contents, DepotContents
from bramblemoor.depots.bag.depot import Depot, open_depot
from bramblemoor.depots.bag.line import read_line
from bramblemoor.depots.bringing import Brought, Restored, ToBring, Wanted, bring, bring_all, size_on
from bramblemoor.depots.kinds import PAYLOAD, lies_at
from bramblemoor.depots.register.enroll import add_depot
from bramblemoor.depots.register.register import number_of
from bramblemoor.depots.standing.tally import settle_apart, unsettle_all
from bramblemoor.disk.durable import TEMPORARY, flush_folder, write_atomically
from bramblemoor.disk.told import Inside
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_seconds, now_utc
from bramblemoor.library import copies
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.copies import FREED, LIBRARY
from bramblemoor.library.home import FOLDERS, SET_ASIDE, Library, require_apart, require_room
from bramblemoor.library.ledger import Ledger, merge, require_inside
from bramblemoor.library.receipts import Receipt, decode, in_order, next_number, stamp, write_receipt
from bramblemoor.library.settings import read_settings
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Progress

Holder = Depot | Archive
_UNFINISHED = "restore-unfinished.json"
_LARGEST_RECEIPT = 256 << 20
ALL_HERE = f"""
    UPDATE bound SET freed = '' WHERE year NOT IN (
        SELECT r.year FROM files f JOIN frames r ON r.id = f.frame WHERE f.id IN ({FREED}) AND r.year NOT NULL)
"""
"""A year of which nothing is freed any more is all on the working drive again."""


def sources_at(roots: Sequence[Path]) -> list[Holder]:
    """Open the depots and archives to restore from; a depot's data/ stands for it, and volumes in one folder are one archive.

    Raises WrongUse where they hold different libraries.
    """
    volumes = {root: [root] if root.is_file() else volumes_in(root) for root in roots}
    every = [path for paths in volumes.values() for path in paths]
    sources: dict[str, Holder] = {}  # in the order in which they were named
    for root in roots:
        if not volumes[root]:
            at_depot = root.parent if root.name == PAYLOAD and not lies_at(str(root)) else root
            sources[str(root)] = open_depot(str(at_depot))
        elif "" not in sources:
            sources[""] = open_archive(every)
    if len({source.library for source in sources.values()}) > 1:
        raise WrongUse("They hold copies of different libraries.", "Name depots and archives of one library only.")
    return list(sources.values())


def contents_of(source: Holder, moment: str = NOW) -> Contents:
    """What can be had from a source. Raises WrongUse for an archive as of a date: it knows only one."""
    if isinstance(source, Depot):
        return DepotContents(source, moment)
    if moment != NOW:
        raise WrongUse("An archive holds no earlier versions.", "Leave --as-of out, or name a depot.")
    return source.contents()


def restore(target: Path, sources: Sequence[Holder], progress: Progress) -> tuple[Library, Receipt]:
    """Restore everything to `target`, which is new, empty, or an interrupted restore of the same library.

    Each file is read from the medium of the first source that has it, compared with its manifest, and taken from the next
    where it is damaged. A different file at the target is never overwritten. Returns the library, open, and the receipt.
    Raises WrongUse where an archive is not whole, and nothing else is named that could stand in.
    """
    depots = [source for source in sources if isinstance(source, Depot)]
    if not depots:
        _require_whole(sources)
    require_apart(target.resolve().parent, "restoring")
    _claim(target, sources[0].library)
    holdings = [contents_of(source) for source in sources]
    # The ledger comes first, under another name, because it knows the files' times; it is put in place last, because a
    # folder with a ledger counts as a library.
    digest = next(filter(None, (contents.digest(ledger_file.FILE) for contents in holdings)), "")
    if not digest:
        raise DepotTrouble(
            f"The depot {sources[0].name} holds no finished backup.", "Name another depot: --from FOLDER."
        )
    begun = target / _UNFINISHED
    started: str = json.loads(begun.read_text())["started"]
    final_ledger, fresh_ledger = target / ledger_file.FILE, target / (ledger_file.FILE + TEMPORARY)
    size = size_on(holdings, ledger_file.FILE, digest)
    if final_ledger.is_file():
        # An earlier run has begun to write to it: it must stay, as SQLite may have to roll its journal back.
        ledger_done, known = Brought(ledger_file.FILE, size), final_ledger
    else:
        ledger_done, known = bring(holdings, ledger_file.FILE, digest, fresh_ledger, None), fresh_ledger
        if not ledger_done.troubles:
            _take_facts(fresh_ledger)
    facts = Ledger(known) if not ledger_done.trouble else None
    to_bring = ToBring(holdings)
    to_bring.add_everything(facts.db if facts else None)
    if facts:
        facts.close()
    require_room(target, to_bring.lacking(target), "Restoring")
    restored, proven = Restored(), _Proven(depots)
    restored.enter(Wanted(Inside(ledger_file.FILE), digest, None, 0, size), ledger_done, holdings[0])
    for wanted, result in bring_all(target, to_bring, progress):
        restored.enter(wanted, result, holdings[0])
        proven.add(wanted, result)
    if ledger_done.trouble:
        raise DepotTrouble(
            "No depot holds a sound copy of the ledger; the pictures were restored without it.",
            "Restore again with another depot: --from FOLDER.",
        )
    for folder in FOLDERS:
        (target / folder).mkdir(parents=True, exist_ok=True)
    if known is fresh_ledger:
        fresh_ledger.replace(final_ledger)
    flush_folder(target / "ledger")
    library = Library(target)
    _bring_receipts(library, depots)
    number = next_number(library.receipts)
    receipt = restored.receipt(library.name, number, holdings, started, _numbered(number))
    _make_known(library, depots)
    proven.enter(library)
    with library.ledger.changing(facts=True) as db:
        library.take_seat(db)
        _know_what_is_away(library)
        proven.enter_library(library)
        unsettle_all(db)
    settle_apart(library, progress)
    write_receipt(library.receipts, receipt)
    begun.unlink()
    return library, receipt


def _require_whole(archives: Sequence[Holder]) -> None:
    """Raise WrongUse for an archive of which volumes are missing."""
    for archive in archives:
        if not isinstance(archive, Depot) and archive.lacks:
            raise WrongUse(
                f"Of the archive {archive.name} {archive.lacks_said} not here.",
                "Bring them to the others, name their folders too (--from), or say what you want, as --year 2024.",
            )


def _numbered(number: int) -> dict[str, str]:
    """How the receipts of a library that came back go on: some that it had may never have reached a depot."""
    told = f"numbered on from {number - 1}, the last that lies there; later runs of the lost library are not among them"
    return {"receipts": told} if number > 1 else {}


def restore_ledger(root: Path, depots: Sequence[Depot]) -> Library:
    """Give a library whose ledger is lost or damaged the newest that lies at a depot; the old one is set aside.

    What has happened since in the library's folders is for taking stock.
    """
    contents = DepotContents(max(depots, key=lambda depot: read_line(depot.store).library.generation))
    digest = contents.digest(ledger_file.FILE)
    fresh = root / (ledger_file.FILE + TEMPORARY)
    (root / "ledger/receipts").mkdir(parents=True, exist_ok=True)
    result = (
        bring([contents], ledger_file.FILE, digest, fresh, None)
        if digest
        else Brought("", troubles=(Trouble("unlisted", contents.name),))
    )
    if result.trouble:
        raise DepotTrouble(f"No sound ledger can be had ({result.trouble}).", "Name another depot: --from FOLDER.")
    require_inside(fresh)
    aside = root / SET_ASIDE / f"ledger-{stamp(now_utc()).replace(':', '')}"
    for name in ("ledger.sqlite", "ledger.sqlite-journal"):
        if (root / "ledger" / name).exists():
            aside.mkdir(parents=True, exist_ok=True)
            (root / "ledger" / name).replace(aside / name)
    _take_facts(fresh)
    fresh.replace(root / ledger_file.FILE)
    flush_folder(root / "ledger")
    library = Library(root)
    _make_known(library, depots)
    with library.ledger.changing() as db:
        library.take_seat(db)
        db.execute("UPDATE files SET read_at = NULL")  # what was found amiss since, that ledger does not tell
        _know_what_is_away(library)
        unsettle_all(db)
    settle_apart(library)
    return library


def _take_facts(fresh: Path) -> None:
    """Make a ledger that came from elsewhere one of ours: its facts in our tables, and nothing else that may be in it."""
    require_inside(fresh)
    ours = fresh.with_name(fresh.name + ".ours")
    merge([fresh], ours)
    ours.replace(fresh)


def _know_what_is_away(library: Library) -> None:
    """What is not here of a year that was freed is no loss; a depot's ledger does not tell it file by file."""
    rows = library.db.execute(
        "SELECT f.id, f.path FROM files f JOIN frames r ON r.id = f.frame JOIN bound b ON b.year = r.year WHERE b.freed != ''"
    )
    for row in rows:
        if not (library.root / row["path"]).exists():
            copies.mark(library.db, LIBRARY, row["id"], "freed")
    library.db.execute(ALL_HERE)


def _make_known(library: Library, depots: Sequence[Depot]) -> None:
    """A library that came from depots knows them."""
    for depot in depots:
        identity = depot.identity
        add_depot(
            library, depot.where, name=identity.name, site=identity.site, medium=identity.medium, kind=identity.kind,
            options=identity.options, terms=identity.terms,
        )  # fmt: skip


def is_restored(target: Path, source: Holder) -> bool:
    """Whether `target` is this library already, with no restore unfinished."""
    if (target / _UNFINISHED).exists() or not (target / ledger_file.FILE).is_file():
        return False
    return read_settings(target).library.id == source.library


def _claim(target: Path, library: str) -> None:
    """Take `target` for this restore. Raises WrongUse where it holds anything else."""
    marker = target / _UNFINISHED
    if marker.is_file():
        if json.loads(marker.read_text())["library"] != library:
            raise WrongUse(f"{target} holds the unfinished restore of another library.", "Name another folder.")
        return
    if target.exists() and (
        not target.is_dir() or any(path.name != _UNFINISHED + TEMPORARY for path in target.iterdir())
    ):
        raise WrongUse(
            f"{target} is not empty, and a whole library is restored to an empty folder only.",
            "Name a new folder; or say what you want of it, as with --year or --shoot.",
        )
    target.mkdir(parents=True, exist_ok=True)
    document = {"library": library, "started": stamp(now_utc())}
    write_atomically(marker, json.dumps(document).encode())


class _Proven:
    """What was read from depots and matched; entered in a library that is only made in the end."""

    def __init__(self, depots: Sequence[Depot]) -> None:
        self._depots = depots
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE proven (path TEXT, depot TEXT, grade TEXT, read_at INTEGER);"
            "CREATE TABLE here (path TEXT, sha256 TEXT, read_at INTEGER); BEGIN;"
        )

    def add(self, wanted: Wanted, result: Brought) -> None:
        if not result.trouble:
            self._db.execute("INSERT INTO here VALUES (?, ?, ?)", (wanted.path, wanted.sha256, now_seconds()))
        depot = result.contents.depot if result.contents is not None else None
        if depot is not None:
            row = (result.path, depot.id, result.grade, now_seconds())
            self._db.execute("INSERT INTO proven VALUES (?, ?, ?, ?)", row)

    def enter(self, library: Library) -> None:
        numbers = {depot.id: number_of(library, depot) for depot in self._depots}
        with library.ledger.changing() as db:
            for path, depot, grade, read_at in self._db.execute("SELECT * FROM proven"):
                file = db.execute("SELECT id FROM files WHERE path = ?", (path,)).fetchone()
                if file is not None:
                    copies.renew(db, numbers[depot], file["id"], grade, read_at)

    def enter_library(self, library: Library) -> None:
        """The library counts what is in its folder; all else did not come back, and is missing, though nobody let it go."""
        library.db.execute(
            "CREATE TEMP TABLE brought (path TEXT PRIMARY KEY, sha256 TEXT, read_at INTEGER) WITHOUT ROWID"
        )
        library.db.executemany(
            "INSERT OR REPLACE INTO temp.brought VALUES (?, ?, ?)", self._db.execute("SELECT * FROM here")
        )
        library.db.execute(
            "UPDATE files SET read_at = b.read_at FROM temp.brought b WHERE b.path = files.path AND b.sha256 = files.sha256"
        )
        copies.mark_all_here(
            library.db,
            "SELECT f.id FROM files f LEFT JOIN temp.brought b ON b.path = f.path AND b.sha256 = f.sha256"
            " WHERE b.path IS NULL AND f.role != 'ledger'",
            (),
            "unbrought",
        )
        library.db.execute("DROP TABLE temp.brought")


def _bring_receipts(library: Library, depots: Sequence[Depot]) -> None:
    """The receipts of runs at depots lie there alone: with them the account goes on, and no number is given twice."""
    for depot in depots:
        for name in in_order(depot.store.names("receipts")):
            lies, place = depot.store.stat(f"receipts/{name}"), library.receipts / name
            if place.exists() or lies is None or lies.bytes > _LARGEST_RECEIPT:
                continue
            with suppress(msgspec.DecodeError, OSError):
                content = depot.store.content(lies.path)
                decode(content)
                write_atomically(place, content)
