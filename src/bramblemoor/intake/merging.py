"""Planning to merge a library that was made elsewhere, as on the road, into this one.

Its frames come as they come from a card: planned, copied in one reading, read back, entered. What both libraries have stays once,
and what is known of it in the other one is joined (library/merging.py).
"""

import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path

from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import is_plain_file
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.intake.interface import Known, Plan, PlannedFile, PlannedFrame, Wishes
from bramblemoor.intake.summing import note_folders, note_what_stays, whole_of
from bramblemoor.library.receiving import free_paths
from bramblemoor.library.home import Library, find_library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.merging import join, said_there
from bramblemoor.library.receipts import NOTHING, Amount, Finding, LeftOut, stamp
from bramblemoor.library.taken_in import culled_on, frame_of, was_here
from bramblemoor.running import Progress, Stage

_FRAMES = "SELECT id, folder, kind, service, reference, shown FROM frames ORDER BY shown IS NULL, shown, folder, name"
_FILES = """
    SELECT role, path, bytes, sha256, mtime_ns, media, width, height, former_name FROM files WHERE frame = ?
    ORDER BY role != 'original', id
"""


def plan_merge(library: Library, wishes: Wishes, progress: Progress) -> Plan:
    """Look what another library has that this one has not; changes nothing. Raises WrongUse for one that cannot be merged."""
    other = open_other(library, wishes)
    plan = Plan(wishes=wishes, device="", started=stamp(now_utc()), came_in=NOTHING)
    frames = other.db.execute(_FRAMES).fetchall()
    first: dict[str, str] = {}
    planned: set[str] = set()
    for number, frame in enumerate(frames, 1):
        files = other.db.execute(_FILES, (frame["id"],)).fetchall()
        if _is_wanted(plan, library, other, files, first):
            plan.frames.append(_planned(library, other, frame, files, planned))
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
    was killed, as what its ledger says is not whole.
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
    return other


def _is_wanted(
    plan: Plan, library: Library, other: Library, files: Sequence[sqlite3.Row], first: dict[str, str]
) -> bool:
    """Whether a frame is to be taken in; where it is not the plan gets it noted, with why."""
    original = files[0]
    path, sha256 = original["path"], original["sha256"]
    amount = Amount(1, len(files), sum(file["bytes"] for file in files))
    here, culled = frame_of(library.db, sha256), culled_on(library.db, sha256)
    if here is not None:
        _note_known(plan, library, files, here[1])
    elif sha256 in first:
        plan.twice.append(LeftOut(path, f"the same picture as {first[sha256]} there", amount))
    elif culled and was_here(library.db, sha256):
        plan.culled.append(LeftOut(path, f"you culled it on {culled}", amount))
    elif not is_plain_file(other.root / path):
        plan.left.append(LeftOut(path, "it is not there, though that library lists it", amount))
    else:
        first[sha256] = path
        return True
    return False


def _note_known(plan: Plan, library: Library, files: Sequence[sqlite3.Row], here: str) -> None:
    """A frame that both have. What belongs to it there and is not here is told; sidecars are joined by what they say."""
    known = Amount(1)
    for file in files:
        amount = Amount(0, 1, file["bytes"])
        if file["role"] == "sidecar" or frame_of(library.db, file["sha256"]) is not None:
            known += amount
        else:
            why = f"it is not in the library, though its picture is, as {here}"
            plan.beside.append(LeftOut(file["path"], why, amount))
    plan.known.append(Known(files[0]["path"], here, known))


def _planned(
    library: Library, other: Library, frame: sqlite3.Row, files: Sequence[sqlite3.Row], planned: set[str]
) -> PlannedFrame:
    wanted = {at: file["path"].rpartition("/")[2] for at, file in enumerate(files) if file["role"] != "sidecar"}
    digests = {at: files[at]["sha256"] for at in wanted}
    paths = free_paths(library, frame["folder"], wanted, digests, planned.__contains__)
    planned |= {collision_key(path) for path in paths.values()}
    return PlannedFrame(
        frame["folder"], frame["kind"],
        [
            PlannedFile(
                file["path"], file["role"], _bytes_of(other, file), file["mtime_ns"], paths.get(at, ""), file["media"],
                file["width"], file["height"], digests.get(at, ""), file["former_name"],
            )
            for at, file in enumerate(files) if file["role"] != "sidecar" or is_plain_file(other.root / file["path"])
        ],
        [(claim.field, claim.value, claim.source) for claim in said_there(other, frame["id"])],
        files[0]["mtime_ns"], shown=(frame["shown"] or "").replace("T", " ")[:16],
        service=frame["service"] or "", reference=frame["reference"] or "", as_told=True,
    )  # fmt: skip


def _bytes_of(other: Library, file: sqlite3.Row) -> int:
    """How large it is; of a sidecar, which may have been changed there since that library looked, as it lies there."""
    size: int = file["bytes"] if file["role"] != "sidecar" else (other.root / file["path"]).stat().st_size
    return size


def _that_stays(other: Library) -> Iterator[Finding]:
    """What of the other library is not merged."""
    for role, what in (("companion", "companions"), ("delivered", "delivered beside the pictures")):
        count = other.db.execute("SELECT count(*) FROM files WHERE role = ?", (role,)).fetchone()[0]
        if count:
            files = "1 file stays" if count == 1 else f"{count:,} files stay"
            yield Finding(what, f"{files} in that library; what you want of that you copy yourself")
