"""Moving frames to other folders and names within the library: on disk, in the ledger, and in the lists of albums.

Depots follow at the next backup by moving what they have. What is to be done is written down in incoming/rearranging/ first; a
run that was killed is finished by it. Files change places by way of that folder, so that two may swap their names.
"""

from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import msgspec

from bramblemoor.disk.durable import flush_folder, is_taken, remove_empty, write_atomically
from bramblemoor.disk.names import collision_key, free_name
from bramblemoor.disk.told import is_plain_file
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.albums import write_albums
from bramblemoor.library.catalogue import is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.known import choose_shown
from bramblemoor.library.open_runs import Finished
from bramblemoor.library.receipts import (
    Amount,
    Change,
    Kept,
    LeftOut,
    Receipt,
    Said,
    next_number,
    receipt_of,
    stamp,
    total,
    write_receipt,
)
from bramblemoor.library.sidecars import write_what_waits
from bramblemoor.running import Progress, Stage, silent

_PLAN, _STAGED = "moves.json", "all-staged"


@dataclass(frozen=True)
class Wanted:
    """Where a frame is to be: its folder, and what its files are called before their endings ("" keeps their names)."""

    frame: int
    folder: str
    stem: str = ""


class Move(msgspec.Struct, array_like=True):
    """One file: its number in the ledger, that of its frame, where it lies, and where it is to lie."""

    file: int
    frame: int
    role: str
    old: str
    new: str
    bytes: int


class Rearrangement(msgspec.Struct):
    """All that is to be moved, and why, as the receipt says it. `number` is that of the receipt, 0 as long as it is a plan."""

    run: str
    started: str
    about: dict[str, str]
    moves: list[Move]
    left: list[LeftOut] = []
    number: int = 0
    asked: str = ""

    @property
    def amount(self) -> Amount:
        return Amount(len({one.frame for one in self.moves}), len(self.moves), sum(one.bytes for one in self.moves))


def plan_moves(library: Library, run: str, about: dict[str, str], wanted: Iterable[Wanted]) -> Rearrangement:
    """Plan where frames go; changes nothing. Frames of bound years stay, and are named.

    Raises WrongUse where another file has a path that one of these is to have.
    """
    plan = Rearrangement(run, stamp(now_utc()), {"library": library.name, **about}, [])
    db = library.db
    for one in wanted:
        if is_bound(db, one.frame):
            row = db.execute("SELECT folder || '/' || name, year FROM frames WHERE id = ?", (one.frame,)).fetchone()
            plan.left.append(LeftOut(row[0], f"its year, {row[1]}, is bound", Amount(1)))
            continue
        rows = db.execute(
            "SELECT id, role, path, bytes FROM files WHERE frame = ? ORDER BY id", (one.frame,)
        ).fetchall()
        original = next(row["path"] for row in rows if row["role"] == "original").rpartition("/")[2]
        base = original.partition(".")[0]
        for row in rows:
            name = row["path"].rpartition("/")[2]
            renamed = one.stem + name[len(base) :] if one.stem and name.startswith(base) else name
            plan.moves.append(
                Move(row["id"], one.frame, row["role"], row["path"], f"{one.folder}/{renamed}", row["bytes"])
            )
    plan.moves = [move for move in plan.moves if move.old != move.new]
    _require_free(library, plan)
    return plan


def _require_free(library: Library, plan: Rearrangement) -> None:
    leaving = {collision_key(move.old) for move in plan.moves}
    coming: dict[str, str] = {}
    for move in plan.moves:
        key = collision_key(move.new)
        there = coming.get(key)
        if there is None and key not in leaving:
            row = library.db.execute("SELECT path FROM files WHERE collision = ?", (key,)).fetchone()
            there = row["path"] if row is not None else move.new if is_taken(library.root / move.new) else None
        if there is not None:
            raise WrongUse(
                f"{move.old} cannot become {move.new}: {there} has that name.",
                "Choose another name; nothing was moved.",
            )
        coming[key] = move.old


def carry_out(library: Library, plan: Rearrangement, progress: Progress) -> Receipt:
    """Move what is planned; returns the receipt, which is also written. Raises NotPossible where a file is not there."""
    for move in plan.moves:
        if not is_plain_file(library.root / move.old):
            raise NotPossible(
                f"{move.old} is not there, or is no plain file; nothing was moved.",
                "See what has become of it: bramblemoor stocktake.",
            )
    plan.number, plan.asked = next_number(library.receipts), library.asked
    folder = _folder(library)
    folder.mkdir(parents=True, exist_ok=True)
    write_atomically(folder / _PLAN, msgspec.json.encode(plan))
    flush_folder(folder.parent)
    return _go_on(library, plan, progress)


def finish_rearranging(library: Library) -> Finished | None:
    """End what a killed run has begun; None where there is nothing."""
    folder = _folder(library)
    try:
        plan = msgspec.json.decode((folder / _PLAN).read_bytes(), type=Rearrangement)
    except FileNotFoundError:  # all was done; what it worked with may be left
        (folder / _STAGED).unlink(missing_ok=True)
        with suppress(OSError):
            folder.rmdir()
        return None
    except (OSError, msgspec.DecodeError) as error:
        raise NotPossible(
            f"The plan of a run that was interrupted cannot be read: {folder / _PLAN} ({error}).",
            "Put it back from a copy, or move the files beside it to where they belong, and remove that folder.",
        ) from error
    return Finished(plan.asked, _go_on(library, plan, silent))


def _folder(library: Library) -> Path:
    return library.root / "incoming" / "rearranging"


def _go_on(library: Library, plan: Rearrangement, progress: Progress) -> Receipt:
    folder, root = _folder(library), library.root
    if not (folder / _STAGED).exists():
        _each(plan.moves, "taking up", progress, lambda move: _move(root / move.old, folder / str(move.file)))
        flush_folder(folder)
        write_atomically(folder / _STAGED, b"")
    _give_way(library, plan)
    _each(plan.moves, "moving", progress, lambda move: _move(folder / str(move.file), root / move.new))
    for place in sorted({(root / path).parent for move in plan.moves for path in (move.old, move.new)}):
        if place.is_dir():
            flush_folder(place)
    remove_empty({(root / move.old).parent for move in plan.moves}, root / "pictures")
    _enter(library, plan)
    receipt = receipt_of(library.receipts, plan.number, plan.run) or Receipt(
        number=plan.number, run=plan.run, started=plan.started, finished=stamp(now_utc()),
        about=plan.about, came_in=plan.amount + total(one.amount for one in plan.left),
        kept=[Kept("moved and renamed", plan.amount)], left_out=plan.left, findings=[],
        changes=[_change(move) for move in plan.moves if move.role == "original"],
    )  # fmt: skip
    write_receipt(library.receipts, receipt)
    (folder / _PLAN).unlink()  # first: without it nobody goes on with the rest
    (folder / _STAGED).unlink()
    folder.rmdir()
    return receipt


def _change(move: Move) -> Change:
    """Where a frame lay, and where it lies now, as the receipt keeps it for taking it back."""
    return Change(
        "path", "", [Said("path", move.old, "", "")], [Said("path", move.new, "", "")], [(move.frame, move.new)]
    )


def _give_way(library: Library, plan: Rearrangement) -> None:
    """Where something else has got a name since this was planned, as behind a run that was killed, the next free one is taken."""
    folder, root = _folder(library), library.root
    planned, changed = {collision_key(move.new) for move in plan.moves}, False
    for move in plan.moves:
        if is_taken(folder / str(move.file)) and is_taken(root / move.new):
            move.new = _free(root, move.new, planned)
            planned.add(collision_key(move.new))
            changed = True
    if changed:
        write_atomically(folder / _PLAN, msgspec.json.encode(plan))


def _free(root: Path, path: str, planned: set[str]) -> str:
    place, _, name = path.rpartition("/")
    return f"{place}/" + free_name(
        name, lambda one: is_taken(root / place / one) or collision_key(f"{place}/{one}") in planned
    )


def _each(moves: Sequence[Move], stage: str, progress: Progress, do: Callable[[Move], None]) -> None:
    for number, move in enumerate(moves, 1):
        do(move)
        progress(Stage(stage, "files"), number, len(moves))


def _move(old: Path, new: Path) -> None:
    """Move a file that is still at its old place."""
    if is_plain_file(old) and not is_taken(new):
        new.parent.mkdir(parents=True, exist_ok=True)
        old.replace(new)


def _enter(library: Library, plan: Rearrangement) -> None:
    with library.ledger.changing(facts=True) as db:
        # By way of names that nobody has: two files may have changed places.
        db.executemany(
            "UPDATE files SET path = path || char(0) || id WHERE id = ? AND path = ?",
            ((move.file, move.old) for move in plan.moves),
        )
        db.executemany(
            "UPDATE files SET path = ?, collision = ? WHERE id = ?",
            ((move.new, collision_key(move.new), move.file) for move in plan.moves),
        )
        albums: set[int] = set()
        for move in plan.moves:
            if move.role != "original":
                continue
            folder, _, name = move.new.rpartition("/")
            db.execute("UPDATE frames SET folder = ?, name = ? WHERE id = ?", (folder, name, move.frame))
            choose_shown(db, move.frame)
            rows = db.execute("SELECT DISTINCT album FROM album_frames WHERE frame = ?", (move.frame,))
            albums |= {album for (album,) in rows.fetchall()}
        write_albums(library, albums)
        write_what_waits(library)
