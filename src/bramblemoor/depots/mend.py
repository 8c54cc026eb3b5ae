"""Mending: what verifying found damaged or missing is put right from any good copy, the library's included."""

import errno
import hashlib
import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from io import FileIO, RawIOBase
from pathlib import Path

from bramblemoor.depots.backup import close_journals, members_of
from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.contents import DepotContents
from bramblemoor.depots.bag.depot import Depot, write_identity
from bramblemoor.depots.bag.journal import refresh_tags
from bramblemoor.depots.bag.line import LINE, write_line
from bramblemoor.depots.bag.run_lists import Sums, write_reasons
from bramblemoor.depots.engine.copying import CopyRun
from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.engine.sources import Source, from_anywhere
from bramblemoor.depots.engine.work import Work
from bramblemoor.depots.kinds import FOLDER, Store, open_store
from bramblemoor.depots.register.known import known_depots
from bramblemoor.depots.register.records import open_books
from bramblemoor.depots.register.register import finish_all, identity_of, number_of, remember_line, tags_as_left
from bramblemoor.depots.standing.tally import settle
from bramblemoor.disk.durable import in_the_way
from bramblemoor.disk.names import DEPOT_MARK
from bramblemoor.library import copies
from bramblemoor.library.copies import LIBRARY, amiss
from bramblemoor.library.home import SET_ASIDE, Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, write_receipt
from bramblemoor.library.receiving import is_right, pieces_of, put_back
from bramblemoor.library.stocktake.stock import source_of, take_stock_if_few
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Pace, Progress, Stage

_AMISS_HERE = f"temp.due d JOIN files f ON f.id = d.file JOIN copies c ON c.file = f.id WHERE c.depot = 0 AND {amiss()}"


def mend(
    library: Library, depots: Sequence[Depot], progress: Progress, pace: Pace | None = None
) -> tuple[Receipt, bool]:
    """Put right what the ledger knows to be damaged or missing at `depots` and in the library.

    Returns the receipt, which is also written, and whether a tag file is damaged still. What was damaged moves to earlier/ at a
    depot, to set-aside/ in the library.
    """
    books = open_books(library, "mend")
    depots, tags = finish_all(library, depots)
    kept: list[Kept] = []
    pace = pace or Pace()
    found = _choose_here(library, progress)
    mended_library, left_out, came_in = _mend_library(library, depots, books.name, progress, pace)
    kept.append(Kept("library: mended", mended_library))
    tags = [*tags, *found]
    still_amiss = bool(tags)
    for member in members_of(library, depots):
        depot = member.depot
        # One depot at a time: what one lacks may be what another has.
        run = CopyRun(library, [member], books.name, progress, pace)
        work = Work(library, [member], amiss())
        due = work.left(member)
        came_in += due
        run.require_room(work)
        run.copy(work, from_anywhere(library, depots, member.number))
        outcome = run.outcomes[member.number]
        kept.append(Kept(f"{depot.name}: good again", outcome.copied))
        here = [
            LeftOut(f"{depot.name}: {item.path}", trouble, Amount(int(item.frames), 1, item.bytes))
            for item, trouble in outcome.failed
        ]
        if outcome.left.files:
            here.append(LeftOut(f"{depot.name}: {outcome.left.files:,} files", outcome.why_left, outcome.left))
        left_out += here
        failed = {item.path for item, _ in outcome.failed}
        tags += [finding for finding in dict.fromkeys(run.findings) if finding.name not in failed]
        told, stays = _mend_tags(library, depots, depot, run_is_open=bool(run.journals))
        tags += told
        still_amiss = still_amiss or stays
        interim = books.receipt([depot.name], due, [Kept(f"{depot.name}: good again", outcome.copied)], here)
        lost = close_journals(run, interim)
        tags += lost
        still_amiss = still_amiss or bool(lost)
    receipt = books.receipt([depot.name for depot in depots], came_in, kept, left_out, tags)
    if came_in != Amount() or tags:
        write_receipt(library.receipts, receipt)
    return receipt, still_amiss


def _mend_tags(
    library: Library, depots: Sequence[Depot], depot: Depot, *, run_is_open: bool
) -> tuple[list[Finding], bool]:
    """Put a depot's damaged tag files right: what says how things are is written anew, what tells of the past is copied.

    Returns what was found, and whether something stays damaged.
    """
    amiss, stays = dict(bag.amiss_tags(depot.store, tags_as_left(library, depot))), False
    if not amiss:
        return [], False
    said: dict[str, str] = dict(bag.read_manifest(depot.store, bag.TAG_MANIFEST))
    depot.require_there()
    findings, fresh = [], []
    for path, what in amiss.items():
        if path == bag.TAG_MANIFEST:
            told = "it was damaged; written anew"
        elif bag.TAG_MANIFEST in amiss:
            told = f"it seemed {what}; in truth the tag manifest was damaged"
        elif path.partition("/")[0] not in bag.TAG_FOLDERS:
            told = f"it was {what}; written anew from the ledger"
        elif trouble := _copy_anew(library, depots, depot, path, said[path]):
            if not (told := _do_without(library, depot, path, what, trouble)):
                findings.append(Finding(f"{depot.name}: {path}", f"it is {what}, and {trouble.said()}"))
                stays = True
                continue
        else:
            told = f"it was {what}; copied from where there is a good one"
        fresh.append(path)
        findings.append(Finding(f"{depot.name}: {path}", told))
    known = next(known for known in known_depots(library) if known.id == depot.id)
    if DEPOT_MARK in amiss:
        write_identity(depot.store, identity_of(library, known))
    if LINE in amiss and not run_is_open:
        write_line(depot.store, known.runs, known.line)
    _write_manifest(library, depot)
    if not run_is_open:
        refresh_tags(depot, library.name, fresh)
        remember_line(library, depot)
    return findings, stays


def _do_without(library: Library, depot: Depot, path: str, what: str, trouble: Trouble) -> str:
    """What to do of a tag file that nobody has another copy of; says what was done, "" where that is nothing.

    Why files lie in earlier/ is told anew, as far as can be known. An account of the past that cannot be had again is set aside,
    so that it is told once; an earlier version of a file stays as it is, whatever it holds.
    """
    folder, _, rest = path.partition("/")
    if trouble.kind != "nowhere":
        return ""
    if folder == "earlier":
        run, _, below = rest.partition("/")
        if below != "why.csv":
            return ""
        write_reasons(depot.store, run)
        return f"it was {what}; written anew from what lies there"
    if depot.store.stat(path) is not None:
        _keep_tag_aside(library, depot, path)
        depot.store.remove([path])
    return f"it was {what}, and nobody has another copy; what was left of it is in {SET_ASIDE}/ of the library"


def _keep_tag_aside(library: Library, depot: Depot, path: str) -> None:
    """Copy what can be read of a depot's damaged tag file to the library, before it goes."""
    aside = library.root / SET_ASIDE / "tag files" / depot.name / path
    aside.parent.mkdir(parents=True, exist_ok=True)
    with suppress(OSError), depot.store.open(path) as left, aside.open("wb") as kept:
        shutil.copyfileobj(left, kept)


def _copy_anew(library: Library, depots: Sequence[Depot], depot: Depot, path: str, sha256: str) -> Trouble | None:
    """Replace a tag file by a good one: of the library's receipts, of another depot, or of the same content elsewhere.

    Says why that was not possible, None where it was.
    """
    try:
        for opened in _copies_of(library, depots, depot, path, sha256):
            if _replaced(depot, path, sha256, opened, lambda: _keep_tag_aside(library, depot, path)):
                return None
    except OSError as error:
        return Trouble("unwritable", detail=error.strerror or str(error))
    return Trouble("nowhere")


def _copies_of(
    library: Library, depots: Sequence[Depot], depot: Depot, path: str, sha256: str
) -> Iterator[Callable[[], RawIOBase]]:
    """Where a depot's tag file may be had from, as ways to open it."""
    name = path.rpartition("/")[2]
    row = library.db.execute("SELECT path FROM files WHERE sha256 = ?", (sha256,)).fetchone()
    # Some drives show names in small letters, whatever they were.
    own = [receipt for receipt in library.receipts.iterdir() if receipt.name.casefold() == name.casefold()]
    own += [library.root / row["path"]] if row else []
    yield from (partial(FileIO, place) for place in own if place.is_file())
    for other in depots:
        for lies in (path, DepotContents(other).find(sha256, "")):
            if lies is not None and other.store.stat_if_told(lies) is not None and (other.id, lies) != (depot.id, path):
                yield partial(other.store.open, lies)


class _NotThat(Exception):
    """A source is not what it should be."""


def _replaced(
    depot: Depot, path: str, sha256: str, opened: Callable[[], RawIOBase], keep_aside: Callable[[], None]
) -> bool:
    """Put a tag file's right content in its place, and read it back; False where the source does not have it."""
    digest = hashlib.sha256()
    with suppress(_NotThat):
        with depot.store.replacing(path) as target:
            for piece in pieces_of(opened):
                digest.update(piece)
                target.write(piece)
            if digest.hexdigest() != sha256:
                raise _NotThat
            if depot.store.is_taken(path):
                keep_aside()
        _require_same(depot.store, path, sha256)
        return True
    return False


def _write_manifest(library: Library, depot: Depot) -> None:
    number = number_of(library, depot)
    with Sums() as sums:
        for row in library.db.execute(
            "SELECT 'data/' || coalesce(c.path, f.path) AS path, coalesce(c.sha256, f.sha256) AS sha256"
            " FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = ? AND c.state != 'missing'"
            " UNION ALL SELECT 'data/' || path, sha256 FROM leftovers WHERE depot = ?",
            (number, number),
        ):
            sums.set(row["path"], row["sha256"])
        bag.write_manifest(depot.store, sums, afresh=True)


def _choose_here(library: Library, progress: Progress) -> list[Finding]:
    """Say what is to be mended in the library, in a table of its own, and return what else a person should know of it.

    It is what was known to be amiss before. Of that, what people have renamed or edited since is taken up, and not undone; what
    they did besides is not for this run. Where the guard stops that look, only what is missing is brought back.
    """
    db = library.db
    db.execute("DROP TABLE IF EXISTS temp.due")
    db.execute(f"CREATE TEMP TABLE due AS SELECT c.file FROM copies c WHERE c.depot = 0 AND {amiss()}")
    if db.execute("SELECT 1 FROM temp.due").fetchone() is None:
        return []
    stock, passes = take_stock_if_few(library, progress)
    db.execute("DELETE FROM temp.due WHERE file IN (SELECT file FROM temp.waiting)")
    if not passes:
        db.execute("DELETE FROM temp.due WHERE file IN (SELECT file FROM copies WHERE depot = 0 AND state = 'damaged')")
    due = {row["path"] for row in db.execute(f"SELECT f.path FROM {_AMISS_HERE}")}
    return [finding for finding in stock.findings if finding.name not in due]


def _mend_library(
    library: Library, depots: Sequence[Depot], run: str, progress: Progress, pace: Pace
) -> tuple[Amount, list[LeftOut], Amount]:
    """Put the library's own damaged and missing files right from depots."""
    due = copies.amount(library.db, _AMISS_HERE)
    mended, failed, lost = Amount(), Amount(), []
    sources = from_anywhere(library, depots, LIBRARY)
    for item in _amiss_here(library):
        if pace.stopped:
            break
        amount = Amount(item.frames, 1, item.bytes)
        target, aside = Path(source_of(library, item.path)), library.root / SET_ASIDE / run / item.path
        try:
            if there := in_the_way(str(library.root), item.path):
                trouble: Trouble | None = Trouble("different", detail=there)
            else:
                mends = any(_put_back(source, item, target, aside) for source in sources(item))
                trouble = None if mends else Trouble("nowhere")
        except OSError as error:
            trouble = Trouble("unwritable", detail=error.strerror or str(error))
        if trouble is not None:
            lost.append(LeftOut(f"library: {item.path}", trouble.said(), amount))
            failed += amount
            continue
        with library.ledger.changing() as db:
            is_right(db, item.file)
            settle(db)
        mended += amount
        progress(Stage("mending the library"), mended.bytes + failed.bytes, due.bytes)
    rest = due - mended - failed
    if rest.files:
        lost.append(LeftOut(f"library: {rest.files:,} files", "stopped before their turn", rest))
    return mended, lost, due


def _amiss_here(library: Library) -> Iterator[Item]:
    """The library's damaged and missing files, some at a time; what comes of one may be entered before the next is asked for."""
    last = 0
    while page := library.db.execute(
        "SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role = 'original' AS frames"
        f" FROM {_AMISS_HERE} AND f.id > ? ORDER BY f.id LIMIT 500",
        (last,),
    ).fetchall():
        for row in page:
            yield Item(*row)
        last = page[-1]["id"]


def _put_back(source: Source, item: Item, target: Path, aside: Path) -> bool:
    """Put a good file in the place of the library's, once it was read back from the library's own medium."""

    def prove(fresh: Path) -> None:
        _require_same(open_store(FOLDER, str(fresh.parent), {}), fresh.name, item.sha256)

    return put_back(source.open, target, item.sha256, item.mtime_ns, aside, prove)


def _require_same(store: Store, path: str, sha256: str) -> None:
    """Read a flushed file from its medium, as far as can be had; raises OSError where it is not what was written."""
    digest = hashlib.sha256()
    with store.read(path) as reading:
        for piece in reading.pieces:
            digest.update(piece)
    if digest.hexdigest() != sha256:
        raise OSError(errno.EIO, "read back, it was not what was written; the drive cannot be trusted")
