"""Planning to merge a library that was made elsewhere, as on the road, into this one.

Its frames come as they come from a card: planned, copied in one reading, read back, entered. What both libraries have stays once,
and what is known of it in the other one is joined (library/merging.py).
"""

import os
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path

from bramblemoor.disk.durable import digest_of
from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import Outside, Root, inside
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.kinds import sidecar_of
from bramblemoor.frames.moments import now_utc
from bramblemoor.intake.interface import Known, Plan, PlannedFile, PlannedFrame, Wishes
from bramblemoor.intake.joining_known import joining, note_hurt
from bramblemoor.intake.summing import note_folders, note_what_stays, whole_of
from bramblemoor.library.catalogue import is_bound
from bramblemoor.library.home import Library, find_library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.ledger import require_inside
from bramblemoor.library.merging import join, said_there
from bramblemoor.library.receipts import NOTHING, Amount, Finding, LeftOut, stamp
from bramblemoor.library.receiving import Here, find_here, folder_inside, free_paths, is_as_seen
from bramblemoor.library.taken_in import culled_on, was_here
from bramblemoor.running import Progress, Stage

_FRAMES = "SELECT id, folder, kind, service, reference, shown FROM frames ORDER BY shown IS NULL, shown, folder, name"
_FILES = """
    SELECT role, path, bytes, sha256, mtime_ns, media, width, height, former_name, seen_ns, inode, ctime_ns FROM files
    WHERE frame = ? ORDER BY role != 'original', id
"""
_ROLES = ("original", "rendition", "clip", "voice note", "document", "twin", "sidecar")


def plan_merge(library: Library, wishes: Wishes, progress: Progress) -> Plan:
    """Look what another library has that this one has not; changes nothing. Raises WrongUse for one that cannot be merged."""
    other = open_other(library, wishes)
    plan = Plan(wishes=wishes, device="", started=stamp(now_utc()), came_in=NOTHING)
    frames = other.db.execute(_FRAMES).fetchall()
    first: dict[str, str] = {}
    planned: set[str] = set()
    there = Root(other.root)
    inodes = other.keeps_inodes and not other.moved  # one that was copied to another drive has none of them
    for number, frame in enumerate(frames, 1):
        rows = other.db.execute(_FILES, (frame["id"],)).fetchall()
        files = [file for row in rows if (file := _lying(plan, there, row, inodes=inodes)) is not None]
        for file in files[1:]:
            file.role = "rendition" if file.role == "original" else file.role
        if files and files[0].role == "original":
            _sort_in(plan, library, other, frame, files, first, planned)
        else:
            plan.left += (LeftOut(file.source, "its original is not there", Amount(0, 1, file.bytes)) for file in files)
        progress(Stage("comparing both libraries", "frames"), number, len(frames))
    note_folders(plan, library)
    note_what_stays(plan, 0)
    plan.joined = join(library, other, progress, changing=False)
    plan.findings += _that_stays(other)
    plan.came_in = whole_of(plan)
    return plan


def open_other(library: Library, wishes: Wishes) -> Library:
    """The library to merge, of which nothing is changed.

    Raises WrongUse for this one itself, or a copy of one at a depot; NoLibrary where there is none; NotPossible where a run there
    was killed, as what its ledger says is not whole, or where it says what no ledger says.
    """
    other = find_library(Path(wishes.source), Path(wishes.source), only_read=True)
    if other.root == library.root:
        raise WrongUse(f"{other.root} is this library itself.", "Name the one that was made elsewhere.")
    if other.at_depot:
        raise WrongUse(
            f"{other.root} is a copy at a depot or in an archive.",
            "What lies there comes back by: bramblemoor mend, or restore.",
        )
    journal = other.root / f"{LEDGER}-journal"
    if journal.is_file() and journal.stat().st_size:
        raise NotPossible(
            f"A run on {other.root} is under way, or was killed.",
            "Let it end, or run there: bramblemoor stocktake. Then merge it.",
        )
    require_inside(other.root / LEDGER)
    return other


def _lying(plan: Plan, there: Root, row: sqlite3.Row, *, inodes: bool) -> PlannedFile | None:
    """A file as it lies in the other library now, with the content that it has now. None where none lies there."""
    path, sha256 = row["path"], row["sha256"]
    try:
        place = there.path(inside(path))
        status = os.lstat(place)
        if not is_as_seen(row, status, inodes=inodes):
            sha256 = digest_of(Path(place))
    except (Outside, OSError) as error:
        if row["role"] != "sidecar":
            why = f"it is not there as that library lists it ({error.strerror})"
            plan.left.append(LeftOut(path, why, Amount(int(row["role"] == "original"), 1, 0)))
        return None
    role = row["role"] if row["role"] in _ROLES else "document"
    return PlannedFile(
        path, role, status.st_size, row["mtime_ns"], "", row["media"], row["width"], row["height"],
        "" if role == "sidecar" else sha256, row["former_name"],
    )  # fmt: skip


def _sort_in(
    plan: Plan, library: Library, other: Library, frame: sqlite3.Row, files: list[PlannedFile], first: dict[str, str],
    planned: set[str],
) -> None:  # fmt: skip
    """Plan what becomes of a frame: it is new, or here already, or left, with why."""
    original = files[0]
    amount = Amount(1, len(files), sum(file.bytes for file in files))
    here = find_here(library, original.sha256)
    culled = culled_on(library.db, original.sha256) if here is None else ""
    if here is not None:
        _note_known(plan, library, files, here, planned)
    elif original.sha256 in first:
        plan.twice.append(LeftOut(original.source, f"the same picture as {first[original.sha256]} there", amount))
    elif culled and was_here(library.db, original.sha256):
        plan.culled.append(LeftOut(original.source, f"you culled it on {culled}", amount))
    else:
        first[original.sha256] = original.source
        plan.frames.append(_planned(library, other, frame, files, planned))


def _note_known(plan: Plan, library: Library, files: Sequence[PlannedFile], here: Here, planned: set[str]) -> None:
    """A frame that both have. What is hurt here is mended; what belongs to it there and is not here joins it; sidecars are joined
    by what they say.
    """
    known, new = Amount(1), list[PlannedFile]()
    for file in files:
        amount = Amount(0, 1, file.bytes)
        found = here if file is files[0] else find_here(library, file.sha256) if file.role != "sidecar" else None
        if file.role == "sidecar" or found is not None:
            known += amount
        elif is_bound(library.db, here.frame):
            why = f"it is new beside {here.path}, whose year is bound; to take it in: unbind, and then merge again"
            plan.beside.append(LeftOut(file.source, why, amount))
        else:
            new.append(file)
        if found is not None:
            note_hurt(plan, found, file.source, file.sha256)
    plan.known.append(Known(files[0].source, here.path, known))
    if new:
        plan.frames.append(joining(library, here.path, new, (), planned))


def _planned(
    library: Library, other: Library, frame: sqlite3.Row, files: list[PlannedFile], planned: set[str]
) -> PlannedFrame:
    folder = folder_inside(frame["folder"])
    wanted = {at: file.source.rpartition("/")[2] for at, file in enumerate(files) if file.role != "sidecar"}
    digests = {at: files[at].sha256 for at in wanted}
    for at, path in free_paths(library, folder, wanted, digests, planned.__contains__).items():
        files[at].path = path
        planned |= {collision_key(path), collision_key(sidecar_of(path))}
    return PlannedFrame(
        folder, frame["kind"], files, [(claim.field, claim.value, claim.source) for claim in said_there(other, frame["id"])],
        files[0].seen_ns, shown=(frame["shown"] or "").replace("T", " ")[:16],
        service=frame["service"] or "", reference=frame["reference"] or "", as_told=True,
    )  # fmt: skip


def _that_stays(other: Library) -> Iterator[Finding]:
    """What of the other library is not merged."""
    for role, what in (("companion", "companions"), ("delivered", "delivered beside the pictures")):
        count = other.db.execute("SELECT count(*) FROM files WHERE role = ?", (role,)).fetchone()[0]
        if count:
            files = "1 file stays" if count == 1 else f"{count:,} files stay"
            yield Finding(what, f"{files} in that library; what you want of that you copy yourself")
