"""Runs that were killed: every run that changes the library first ends what another has left open, then judges its own plan.

A run that leaves work open notes by which command it was asked for (`Library.asked`). Where that is the command which is given
now, it is done by being ended here, or goes on.
"""

from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from bramblemoor.library.home import Library
    from bramblemoor.library.receipts import Receipt


class Finished(NamedTuple):
    """A run that was ended: the command that it was asked for by, "" where that is not known, and its receipt."""

    asked: str
    receipt: "Receipt"


_KEYS = ("culling", "culled", "telling")


def finish_open(library: "Library") -> list[Finished]:
    """End what killed runs have left open; the caller holds the library. Telling that is to go on now is left open."""
    marks = ", ".join("?" for _ in _KEYS)
    open_keys = {row[0] for row in library.db.execute(f"SELECT key FROM meta WHERE key IN ({marks})", _KEYS)}
    moves = library.root / "incoming" / "rearranging"
    if not open_keys and not moves.is_dir():
        return []  # as it nearly always is; what ends the others takes a while to load
    from bramblemoor.library.culled import finish_culled
    from bramblemoor.library.culling import finish_culling
    from bramblemoor.library.rearranging import finish_rearranging
    from bramblemoor.library.telling_runs import finish_others

    found = (finish(library) for finish in (finish_culling, finish_culled, finish_rearranging, finish_others))
    return [one for one in found if one is not None]
