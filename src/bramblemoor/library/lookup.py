"""Looking one frame up by what a person calls it."""

from difflib import get_close_matches

from bramblemoor.errors import WrongUse
from bramblemoor.library.home import Library


def frame_named(library: Library, name: str) -> int:
    """The number of the frame with this path, file name, or number. Raises WrongUse, with the nearest names, else."""
    db = library.db
    wanted = name.removeprefix("./")
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
