"""Mending: what verifying found damaged or missing is put right from any good copy, the library's included."""

import errno
import hashlib
import shutil
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.backup import close_journals, members_of
from bramblemoor.depots.copying import CopyRun, Pace, Progress
from bramblemoor.depots.depot import Depot, write_identity
from bramblemoor.depots.enroll import identity_of
from bramblemoor.depots.journal import refresh_tags
from bramblemoor.depots.kinds.folder import FolderDrive
from bramblemoor.depots.known import LIBRARY, known_depots
from bramblemoor.depots.lane import Item
from bramblemoor.depots.line import LINE, write_line
from bramblemoor.depots.records import make_receipt, run_name
from bramblemoor.depots.register import finish_at, number_of, remember_line, tags_as_left
from bramblemoor.depots.run_lists import Sums
from bramblemoor.depots.shelf import DepotShelf
from bramblemoor.depots.slots import PIECE
from bramblemoor.depots.sources import Source, from_anywhere
from bramblemoor.depots.tally import settle
from bramblemoor.depots.work import AMISS, Work
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import TEMPORARY, chunks, flush_file, flush_folder, set_time
from bramblemoor.library.home import DEPOT_MARK, Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, stamp, write_receipt
from bramblemoor.library.stock import source_of

SET_ASIDE = "set-aside"
"""Where the library keeps what mending replaced, as earlier/ does at a depot."""
_NO_GOOD_COPY = "no good copy of it is within reach"
_AMISS_HERE = "FROM files f JOIN copies c ON c.file = f.id WHERE c.depot = 0 AND c.state IN ('damaged', 'missing')"


def mend(library: Library, depots: Sequence[Depot], progress: Progress, pace: Pace | None = None) -> Receipt:
    """Put right what the ledger knows to be damaged or missing at `depots` and in the library.

    Returns the receipt, which is also written. What was damaged moves to earlier/ at a depot, to set-aside/ in the library.
    """
    started = stamp(now_utc())
    for depot in depots:
        finish_at(library, depot)
    name = run_name(library, started)
    kept: list[Kept] = []
    pace = pace or Pace()
    mended_library, left_out, came_in = _mend_library(library, depots, name, progress, pace)
    kept.append(Kept("library: mended", mended_library))
    tags = []
    for member in members_of(library, depots):
        depot = member.depot
        # One depot at a time: what one lacks may be what another has.
        run = CopyRun(library, [member], name, progress, pace)
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
            left_out.append(LeftOut(f"{depot.name}: {outcome.left.files:,} files", outcome.why_left, outcome.left))
        told = {item.path for item, _ in outcome.failed}
        tags += [finding for finding in dict.fromkeys(run.findings) if finding.name not in told]
        tags += _mend_tags(library, depots, depot, bool(run.journals))
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


def _mend_tags(library: Library, depots: Sequence[Depot], depot: Depot, run_is_open: bool) -> list[Finding]:
    """Put a depot's damaged tag files right: what says how things are is written anew, what tells of the past is copied."""
    amiss = dict(bag.amiss_tags(depot.root, tags_as_left(library, depot)))
    if not amiss:
        return []
    said = dict(bag.read_manifest(depot.root / bag.TAG_MANIFEST))
    findings, fresh = [], []
    for path, what in amiss.items():
        if path == bag.TAG_MANIFEST:
            told = "it was damaged; written anew"
        elif bag.TAG_MANIFEST in amiss:
            told = f"it seemed {what}; in truth the tag manifest was damaged"
        elif path.partition("/")[0] not in bag.TAG_FOLDERS:
            told = f"it was {what}; written anew from the ledger"
        elif trouble := _copy_anew(library, depots, depot, path, said[path]):
            findings.append(Finding(f"{depot.name}: {path}", f"it is {what}, and {trouble}"))
            continue
        else:
            told = f"it was {what}; copied from where there is a good one"
        fresh.append(path)
        findings.append(Finding(f"{depot.name}: {path}", told))
    known = next(known for known in known_depots(library) if known.id == depot.id)
    if DEPOT_MARK in amiss:
        write_identity(depot.root, identity_of(library, known))
    if LINE in amiss and not run_is_open:
        write_line(depot.root, known.runs, known.line)
    _write_manifest(library, depot)
    if not run_is_open:
        refresh_tags(depot, library.name, fresh)
        remember_line(library, depot)
    return findings


def _copy_anew(library: Library, depots: Sequence[Depot], depot: Depot, path: str, sha256: str) -> str:
    """Replace a tag file by a good one: of the library's receipts, of another depot, or of the same content elsewhere.

    Says why that was not possible, "" where it was.
    """
    name = path.rpartition("/")[2]
    row = library.db.execute("SELECT path FROM files WHERE sha256 = ?", (sha256,)).fetchone()
    # Some drives show names in small letters, whatever they were.
    places = [own for own in library.receipts.iterdir() if own.name.casefold() == name.casefold()]
    places += [*(other.root / path for other in depots if other.id != depot.id)]
    places += [library.root / row["path"]] if row else []
    for other in depots:
        shelf = DepotShelf(other)
        found = shelf.find(sha256, "")
        places += [found] if found is not None else []
    item = Item(0, path, 0, sha256, 0)
    target = depot.root / path
    aside = library.root / SET_ASIDE / "tag files" / depot.name / path
    try:
        for place in places:
            if place.is_file() and place != target and put_back(Source(0, "", str(place)), item, target, aside):
                return ""
    except OSError as error:
        return f"it could not be written ({error.strerror or error})"
    return _NO_GOOD_COPY


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
        bag.write_manifest(depot.root, sums, afresh=True)


def _mend_library(
    library: Library, depots: Sequence[Depot], run: str, progress: Progress, pace: Pace
) -> tuple[Amount, list[LeftOut], Amount]:
    """Put the library's own damaged and missing files right from depots."""
    due = Amount(*library.db.execute(
        f"SELECT coalesce(sum(f.role = 'original'), 0), count(*), coalesce(sum(f.bytes), 0) {_AMISS_HERE}"
    ).fetchone())  # fmt: skip
    mended, failed, lost = Amount(), Amount(), []
    sources = from_anywhere(library, depots, LIBRARY)
    for item in _amiss_here(library):
        if pace.stopped:
            break
        amount = Amount(item.frames, 1, item.bytes)
        target, aside = Path(source_of(library, item.path)), library.root / SET_ASIDE / run / item.path
        try:
            trouble = "" if any(put_back(source, item, target, aside) for source in sources(item)) else _NO_GOOD_COPY
        except OSError as error:
            trouble = f"it could not be written ({error.strerror or error})"
        if trouble:
            lost.append(LeftOut(f"library: {item.path}", trouble, amount))
            failed += amount
            continue
        with library.ledger.changing() as db:
            db.execute("DELETE FROM copies WHERE depot = 0 AND file = ?", (item.file,))
            db.execute("UPDATE files SET seen_ns = 0 WHERE id = ?", (item.file,))
            settle(db)
        mended += amount
        progress("mending the library", mended.bytes + failed.bytes, due.bytes)
    rest = due - mended - failed
    if rest.files:
        lost.append(LeftOut(f"library: {rest.files:,} files", "stopped before their turn", rest))
    return mended, lost, due


def _amiss_here(library: Library) -> Iterator[Item]:
    """The library's damaged and missing files, some at a time; what comes of one may be entered before the next is asked for."""
    last = 0
    while page := library.db.execute(
        "SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role = 'original' AS frames"
        f" {_AMISS_HERE} AND f.id > ? ORDER BY f.id LIMIT 500",
        (last,),
    ).fetchall():
        for row in page:
            yield Item(*row)
        last = page[-1]["id"]


def _set_aside(target: Path, aside: Path) -> None:
    """Move a damaged file aside; where that is another drive, copy what can be read of it, as it will be replaced."""
    aside.parent.mkdir(parents=True, exist_ok=True)
    try:
        target.replace(aside)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        with suppress(OSError):
            shutil.copyfile(target, aside)


def put_back(source: Source, item: Item, target: Path, aside: Path) -> bool:
    """Copy one file to `target`, and read it back; a different file there moves to `aside` first.

    False where the source is not what it should be. Raises OSError where the target cannot be written, or does not hold what
    was written to it; what was there then still is.
    """
    fresh = target.with_name(target.name + TEMPORARY)
    digest, pieces = hashlib.sha256(), chunks(Path(source.path))
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        with fresh.open("wb") as copy:
            while piece := _next(pieces):
                digest.update(piece)
                copy.write(piece)
        if digest.hexdigest() != item.sha256:
            return False
        flush_file(fresh)
        _read_back(fresh, item.sha256)
        set_time(fresh, item.mtime_ns)
        if target.exists():
            _set_aside(target, aside)
        fresh.replace(target)
        flush_folder(target.parent)
        return True
    finally:
        fresh.unlink(missing_ok=True)


def _next(pieces: Iterator[bytes]) -> bytes:
    """The next piece of a source; none where it cannot be read, so that it is not whole."""
    try:
        return next(pieces, b"")
    except OSError:
        return b""


def _read_back(fresh: Path, sha256: str) -> None:
    """Read a flushed file from its medium, as far as can be had; raises OSError where it is not what was written."""
    digest = hashlib.sha256()
    with FolderDrive(fresh.parent, {}).read_from_medium(fresh, PIECE) as reading:
        for piece in reading.pieces:
            digest.update(piece)
    if digest.hexdigest() != sha256:
        raise OSError(errno.EIO, "read back, it was not what was written; the drive cannot be trusted")
