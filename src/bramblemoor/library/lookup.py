"""Looking frames up by what a person calls them."""

import os
import sqlite3
from pathlib import Path

from bramblemoor.library.folding import plain


def frames_called(db: sqlite3.Connection, name: str, root: Path | None) -> list[int]:
    """The numbers of the frames with this path, name of a file, or number; the surest meaning counts.

    A path may begin at the library, or (with `root`, the library's folder) at the folder that one is in. Case and accents do not
    count where no frame has the name as it is written.
    """
    wanted = (_within(root, name) if root is not None else "") or name.removeprefix("./")
    exact = db.execute("SELECT frame FROM files WHERE path = ? AND frame IS NOT NULL", (wanted,)).fetchall()
    if exact:
        return [exact[0]["frame"]]
    ends = wanted.replace("!", "!!").replace("%", "!%").replace("_", "!_")
    rows = db.execute(
        "SELECT frame, path FROM files WHERE frame IS NOT NULL AND path LIKE '%/' || ? ESCAPE '!'", (ends,)
    ).fetchall()
    rows = [row for row in rows if row["path"].endswith(f"/{wanted}")] or rows
    if not rows and "/" not in wanted:
        rows = db.execute("SELECT id AS frame FROM frames WHERE bm_plain(name) = ?", (plain(wanted),)).fetchall()
    if not rows and name.isascii() and name.isdecimal():
        rows = db.execute("SELECT id AS frame FROM frames WHERE id = ?", (int(name),)).fetchall()
    return list(dict.fromkeys(row["frame"] for row in rows))


def _within(root: Path, name: str) -> str:
    """The path in the library of a file that is there, as seen from the current folder; "" where that is none."""
    place = Path(os.path.abspath(name))  # noqa: PTH100 - a link is a name like any other
    root = root.resolve()
    for one in (place, place.parent.resolve() / place.name):
        if os.path.lexists(one) and one.is_relative_to(root):
            return one.relative_to(root).as_posix()
    return ""
