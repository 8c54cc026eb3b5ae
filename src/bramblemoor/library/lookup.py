"""Looking one frame up by what a person calls it."""

import os
from difflib import get_close_matches
from pathlib import Path

from bramblemoor.errors import WrongUse
from bramblemoor.library.home import Library


def frame_named(library: Library, name: str) -> int:
    """The number of the frame with this path, file name, or number. Raises WrongUse, with the nearest names, else.

    A path may begin at the library, or at the folder that one is in.
    """
    db = library.db
    wanted = _within(library, name) or name.removeprefix("./")
    rows = db.execute(
        "SELECT DISTINCT frame FROM files WHERE frame IS NOT NULL AND (path = ? OR path LIKE '%/' || ? ESCAPE '!')",
        (wanted, wanted.replace("!", "!!").replace("%", "!%").replace("_", "!_")),
    ).fetchall()
    if not rows and name.isdigit():
        rows = db.execute("SELECT id FROM frames WHERE id = ?", (int(name),)).fetchall()
    if len(rows) == 1:
        return int(rows[0][0])
    if rows:
        paths = [
            db.execute("SELECT folder || '/' || name FROM frames WHERE id = ?", (row[0],)).fetchone()[0]
            for row in rows[:5]
        ]
        raise WrongUse(f"{len(rows)} frames are called {name}.", f"Name one by its path: {', '.join(paths)}.")
    names = {row[0] for row in db.execute("SELECT name FROM frames")}
    near = get_close_matches(wanted.rpartition("/")[2], names, 3, 0.4)
    raise WrongUse(
        f"No frame is called {name!r} here.",
        f"Did you mean {' or '.join(near)}?" if near else "Look for it: bramblemoor find.",
    )


def _within(library: Library, name: str) -> str:
    """The path in the library of a file that is there, as seen from the current folder; "" where that is none."""
    place = Path(os.path.abspath(name))  # noqa: PTH100 - a link is a name like any other
    root = library.root.resolve()
    for one in (place, place.parent.resolve() / place.name):
        if os.path.lexists(one) and one.is_relative_to(root):
            return one.relative_to(root).as_posix()
    return ""
