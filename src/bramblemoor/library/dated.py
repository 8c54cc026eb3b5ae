"""Frames that came without a date and have one now, by a later delivery or a correction: brought to the folder of that date,
under the name that they came by where that is free there. What was moved can be taken back.
"""

from collections.abc import Iterator

from bramblemoor.disk.durable import is_taken
from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.errors import WrongUse
from bramblemoor.frames.kinds import stem_of
from bramblemoor.frames.moments import parse_moment
from bramblemoor.library.home import Library
from bramblemoor.library.layout import folder_for
from bramblemoor.library.rearranging import Rearrangement, Wanted, plan_moves
from bramblemoor.library.receipts import Receipt

RUN = "dated"
"""What the receipt calls it."""
MOVED = (RUN, "shoot")
"""The runs whose moves can be taken back."""
_DATED = """
    SELECT r.id, r.folder, r.name, r.taken, coalesce(r.service, '') AS service, coalesce(o.former_name, '') AS former
    FROM frames r JOIN files o ON o.frame = r.id AND o.role = 'original'
    WHERE r.folder = ? AND r.shown NOT NULL ORDER BY r.shown, r.name
"""


def plan_by_date(library: Library) -> Rearrangement:
    """Plan where frames go that lie among the undated, and have a date; changes nothing."""
    planned: set[str] = set()
    undated = folder_for(library.settings.naming.flat, None, "")
    return plan_moves(library, RUN, {"from": undated.removeprefix("pictures/")}, _wanted(library, undated, planned))


def _wanted(library: Library, undated: str, planned: set[str]) -> Iterator[Wanted]:
    for row in library.db.execute(_DATED, (undated,)).fetchall():
        target = folder_for(library.settings.naming.flat, parse_moment(row["taken"]), row["service"])
        if target == undated:
            continue
        ending = row["name"][len(stem_of(row["name"])) :]
        name = free_name(
            safe_name(stem_of(row["former"] or row["name"]) + ending),
            lambda one, folder=target: _is_taken(library, f"{folder}/{one}", planned),  # type: ignore[misc]
        )
        planned.add(collision_key(f"{target}/{name}"))
        yield Wanted(row["id"], target, stem_of(name))


def _is_taken(library: Library, path: str, planned: set[str]) -> bool:
    key = collision_key(path)
    known = library.db.execute("SELECT 1 FROM files WHERE collision = ?", (key,)).fetchone()
    return key in planned or known is not None or is_taken(library.root / path)


def plan_back(library: Library, receipt: Receipt) -> Rearrangement:
    """Plan to bring frames back to where they lay before a run. What was moved elsewhere since stays there.

    Raises WrongUse where nothing lies where that run has left it.
    """
    wanted = []
    for change in receipt.changes:
        was = change.before[0].value
        for frame, path in change.frames:
            row = library.db.execute("SELECT folder || '/' || name FROM frames WHERE id = ?", (frame,)).fetchone()
            if row is not None and row[0] == path:
                folder, _, name = was.rpartition("/")
                wanted.append(Wanted(frame, folder, stem_of(name)))
    if not wanted:
        raise WrongUse(f"What receipt {receipt.number} has moved lies elsewhere now.", "There is nothing to take back.")
    return plan_moves(library, receipt.run, {"taken back": f"receipt {receipt.number}"}, wanted)
