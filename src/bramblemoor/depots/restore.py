"""Restoring: a whole library to a new folder, with the library itself gone; or some of it, to any folder."""

import json
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from bramblemoor.depots.archives.opened import Archive, open_archive, volumes_in
from bramblemoor.depots.bag.contents import NOW, Brought, Contents, DepotContents, bring, size_on
from bramblemoor.depots.bag.depot import Depot, open_depot
from bramblemoor.depots.bag.line import read_line
from bramblemoor.depots.register.enroll import add_depot
from bramblemoor.depots.register.register import number_of
from bramblemoor.depots.standing.tally import settle_all
from bramblemoor.disk.durable import TEMPORARY, beside, flush_folder, flush_many, write_atomically
from bramblemoor.disk.file_systems import file_system_of
from bramblemoor.disk.told import Inside, is_plain_file
from bramblemoor.errors import DepotTrouble, NotPossible, WrongUse
from bramblemoor.frames.moments import now_seconds, now_utc
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.copies import FREED
from bramblemoor.library.home import FOLDERS, SET_ASIDE, Library, require_apart, require_room
from bramblemoor.library.ledger import Ledger, merge, require_inside
from bramblemoor.library.receipts import (
    NOTHING,
    Amount,
    Finding,
    Kept,
    LeftOut,
    Receipt,
    listing,
    next_number,
    read_receipt,
    stamp,
    write_receipt,
)
from bramblemoor.library.settings import read_settings
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Progress, Stage

Holder = Depot | Archive
_UNFINISHED = "restore-unfinished.json"
_BATCH_FILES, _BATCH_BYTES = 200, 128 << 20
_PAGE = 1000
_LARGEST_RECEIPT = 256 << 20
ALL_HERE = f"""
    UPDATE bound SET freed = '' WHERE year NOT IN (
        SELECT r.year FROM files f JOIN frames r ON r.id = f.frame WHERE f.id IN ({FREED}) AND r.year NOT NULL)
"""
"""A year of which nothing is freed any more is all on the working drive again."""


@dataclass(frozen=True)
class Wanted:
    """A file to bring, by its path in the library; `frames` is 1 for the original of a frame."""

    path: Inside
    sha256: str
    mtime_ns: int | None
    frames: int
    bytes: int


class ToBring:
    """The files to bring, kept outside memory; of several depots that list a path, the one named first is believed."""

    def __init__(self, holdings: Sequence[Contents]) -> None:
        self.holdings = holdings
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE wanted (path TEXT PRIMARY KEY, sha256 TEXT, mtime_ns INTEGER, frames INTEGER, bytes INTEGER)"
            " WITHOUT ROWID; BEGIN;"
        )

    def add(self, path: Inside, sha256: str, mtime_ns: int | None, frames: int) -> None:
        size = size_on(self.holdings, path, sha256)
        self._db.execute("INSERT OR IGNORE INTO wanted VALUES (?, ?, ?, ?, ?)", (path, sha256, mtime_ns, frames, size))

    def add_everything(self, facts: sqlite3.Connection | None) -> None:
        """All that the depots list but the ledger; `facts`, a ledger, knows times and roles."""
        for contents in self.holdings:
            after = ""
            while page := contents.paths(after, _PAGE):
                after = page[-1][0]
                for path, sha256 in page:
                    if path != ledger_file.FILE:
                        known = (
                            facts
                            and facts.execute("SELECT mtime_ns, role FROM files WHERE path = ?", (path,)).fetchone()
                        )
                        self.add(path, sha256, known[0] if known else None, int(bool(known and known[1] == "original")))

    def bytes(self) -> int:
        whole: int = self._db.execute("SELECT coalesce(sum(bytes), 0) FROM wanted").fetchone()[0]
        return whole

    def lacking(self, target: Path) -> int:
        """Bytes that are not at the target yet."""
        return sum(wanted.bytes for wanted in self.items() if not (target / wanted.path).is_file())

    def items(self) -> Iterator[Wanted]:
        for row in self._db.cursor().execute("SELECT path, sha256, mtime_ns, frames, bytes FROM wanted ORDER BY path"):
            yield Wanted(*row)


@dataclass
class Restored:
    """What came of the files so far."""

    came_in: Amount = NOTHING
    kept: dict[str, Amount] = field(default_factory=dict)
    left_out: list[LeftOut] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    only_different: bool = True
    """Whether all that was left out was so because another file is in its place."""

    def enter(self, wanted: Wanted, result: Brought, first: Contents) -> None:
        # What has arrived has the right digest, and so the right size; a depot's damaged file may have any.
        amount = Amount(wanted.frames, 1, wanted.bytes if result.trouble else result.bytes)
        self.came_in += amount
        if result.trouble:
            self.left_out.append(LeftOut(result.path, result.trouble, amount))
            self.only_different &= all(trouble.kind == "different" for trouble in result.troubles)
            return
        what = f"from {result.contents.name}" if result.contents else "there already"
        self.kept[what] = self.kept.get(what, NOTHING) + amount
        if result.contents is not None and result.contents is not first:
            self.findings.append(
                Finding(result.path, f"was not sound at {first.name}; taken from {result.contents.name}")
            )

    def receipt(
        self, name: str, number: int, holdings: Sequence[Contents], started: str, more: dict[str, str]
    ) -> Receipt:
        return Receipt(
            number=number,
            run="restore",
            started=started,
            finished=stamp(now_utc()),
            about={"library": name, "from": ", ".join(contents.name for contents in holdings)} | more,
            came_in=self.came_in,
            kept=[Kept(what, amount) for what, amount in self.kept.items()],
            left_out=self.left_out,
            findings=self.findings,
        )


def sources_at(roots: Sequence[Path]) -> list[Holder]:
    """Open the depots and archives to restore from; a depot's data/ stands for it, and volumes in one folder are one archive.

    Raises WrongUse where they hold different libraries.
    """
    volumes = {root: [root] if root.is_file() else volumes_in(root) for root in roots}
    every = [path for paths in volumes.values() for path in paths]
    sources: dict[str, Holder] = {}  # in the order in which they were named
    for root in roots:
        if not volumes[root]:
            at_depot = root.parent if root.name == "data" and not (root / "depot.toml").exists() else root
            sources[str(root)] = open_depot(at_depot)
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
    for source in sources:
        if not isinstance(source, Depot) and source.lacks and not depots:
            raise WrongUse(
                f"Of the archive {source.name} {source.lacks_said} not here.",
                "Bring them to the others, name their folders too (--from), or say what you want, as --year 2024.",
            )
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
    receipt = restored.receipt(library.name, next_number(library.receipts), holdings, started, {})
    _make_known(library, depots)
    proven.enter(library)
    with library.ledger.changing(facts=True) as db:
        library.take_seat(db)
        _know_what_is_away(library)
        proven.enter_library(library)
        settle_all(db)
    write_receipt(library.receipts, receipt)
    begun.unlink()
    return library, receipt


def restore_ledger(root: Path, depots: Sequence[Depot]) -> Library:
    """Give a library whose ledger is lost or damaged the newest that lies at a depot; the old one is set aside.

    What has happened since in the library's folders is for taking stock.
    """
    contents = DepotContents(max(depots, key=lambda depot: read_line(depot.root).library.generation))
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
        settle_all(db)
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
    library.db.executemany(
        "INSERT INTO copies (depot, file, state) VALUES (0, ?, 'freed')",
        [(row["id"],) for row in rows if not (library.root / row["path"]).exists()],
    )
    library.db.execute(ALL_HERE)


def _make_known(library: Library, depots: Sequence[Depot]) -> None:
    """A library that came from depots knows them."""
    for depot in depots:
        identity = depot.identity
        add_depot(
            library, depot.root, name=identity.name, site=identity.site, medium=identity.medium, kind=identity.kind,
            options=identity.options, terms=identity.terms,
        )  # fmt: skip


def bring_all(target: Path, to_bring: ToBring, progress: Progress) -> Iterator[tuple[Wanted, Brought]]:
    """Bring every wanted file to `target`; each is put in place, with others, once it was flushed."""
    batch: list[Path] = []
    done, filled, total = 0, 0, to_bring.bytes()
    whole = file_system_of(target).flushes_whole
    for wanted in to_bring.items():
        result = bring(to_bring.holdings, wanted.path, wanted.sha256, target / wanted.path, wanted.mtime_ns)
        if result.contents is not None:
            batch.append(target / wanted.path)
            filled += wanted.bytes
        done += wanted.bytes
        progress(Stage("restoring"), done, total)
        if len(batch) >= _BATCH_FILES or filled >= _BATCH_BYTES:
            _put_in_place(batch, target, whole)
            batch, filled = [], 0
        yield wanted, result
    _put_in_place(batch, target, whole)


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


def _put_in_place(places: Sequence[Path], target: Path, whole: bool) -> None:
    fresh = [beside(place) for place in places]
    flush_many(fresh, target, whole_system=whole)
    for written, place in zip(fresh, places, strict=True):
        written.replace(place)
    for folder in {place.parent for place in places}:
        flush_folder(folder)


class _Proven:
    """What was read from depots and matched; entered in a library that is only made in the end."""

    def __init__(self, depots: Sequence[Depot]) -> None:
        self._depots = depots
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE proven (path TEXT, depot TEXT, state TEXT, read_at INTEGER);"
            "CREATE TABLE here (path TEXT, sha256 TEXT, read_at INTEGER); BEGIN;"
        )

    def add(self, wanted: Wanted, result: Brought) -> None:
        if not result.trouble:
            self._db.execute("INSERT INTO here VALUES (?, ?, ?)", (wanted.path, wanted.sha256, now_seconds()))
        depot = result.contents.depot if result.contents is not None else None
        if depot is not None:
            state = "proven" if result.grade == "medium" else "cached"
            row = (result.path, depot.id, state, now_seconds())
            self._db.execute("INSERT INTO proven VALUES (?, ?, ?, ?)", row)

    def enter(self, library: Library) -> None:
        numbers = {depot.id: number_of(library, depot) for depot in self._depots}
        with library.ledger.changing() as db:
            for path, depot, state, read_at in self._db.execute("SELECT * FROM proven"):
                db.execute(
                    "UPDATE copies SET state = ?, read_at = ? WHERE depot = ?"
                    " AND file = (SELECT id FROM files WHERE path = ?) AND state != 'proven'",
                    (state, read_at, numbers[depot], path),
                )

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
        library.db.execute(
            "INSERT OR IGNORE INTO copies (depot, file, state) SELECT 0, f.id, 'unbrought' FROM files f"
            " LEFT JOIN temp.brought b ON b.path = f.path AND b.sha256 = f.sha256 WHERE b.path IS NULL AND f.role != 'ledger'"
        )
        library.db.execute("DROP TABLE temp.brought")


def _bring_receipts(library: Library, depots: Sequence[Depot]) -> None:
    """The receipts of runs at depots lie there alone: with them the account goes on, and no number is given twice."""
    for depot in depots:
        folder = depot.root / "receipts"
        for name in listing(folder) if folder.is_dir() and not folder.is_symlink() else ():
            source, place = folder / name, library.receipts / name
            if place.exists() or not is_plain_file(source) or source.stat().st_size > _LARGEST_RECEIPT:
                continue
            with suppress(NotPossible, OSError):
                read_receipt(source)
                write_atomically(place, source.read_bytes())
