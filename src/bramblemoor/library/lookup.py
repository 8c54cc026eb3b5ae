"""Looking frames up by what a person calls them."""

import os
import sqlite3
from pathlib import Path

from bramblemoor.library.folding import plain

_FEW = 20
"""Names that are looked for one by one; for more, an index of all names is made once."""


class FramesByName:
    """The frames of a ledger by what they are called.

    With `root`, the library's folder, a path may be one as seen from the folder that one is in.
    """

    def __init__(self, db: sqlite3.Connection, root: Path | None) -> None:
        self._db = db
        self._root = root.resolve() if root is not None else None
        self._folders: dict[str, Path] = {}
        self._looked_for = 0
        self._has_index = False

    def called(self, name: str) -> list[int]:
        """The numbers of the frames with this path, name of a file, or number, or in this folder; the surest meaning counts.

        Case and accents do not count where no frame has the name as it is written.
        """
        wanted = self._within(name) or name.removeprefix("./")
        exact = self._db.execute("SELECT frame FROM files WHERE path = ? AND frame IS NOT NULL", (wanted,)).fetchall()
        if exact:
            return [exact[0]["frame"]]
        if (self._root is not None and wanted != name) or "/" in wanted:  # a path, as the shell completes it
            folder = wanted.rstrip("/") + "/"
            below = self._db.execute(
                "SELECT id FROM frames WHERE substr(folder || '/', 1, ?) = ? ORDER BY folder, name",
                (len(folder), folder),
            ).fetchall()
            if below:
                return [row["id"] for row in below]
        rows = self._ending(wanted)
        rows = [row for row in rows if row["path"].endswith(f"/{wanted}")] or rows
        if not rows and "/" not in wanted:
            rows = self._like(wanted)
        if not rows and name.isascii() and name.isdecimal():
            rows = self._db.execute("SELECT id AS frame FROM frames WHERE id = ?", (int(name),)).fetchall()
        return list(dict.fromkeys(row["frame"] for row in rows))

    def _within(self, name: str) -> str:
        """The path in the library of a file that is there, as seen from the current folder; "" where that is none."""
        if self._root is None or not os.path.lexists(name):
            return ""
        place = Path(os.path.abspath(name))  # noqa: PTH100 - a link is a name like any other
        parent = str(place.parent)
        if parent not in self._folders:
            self._folders[parent] = place.parent.resolve()
        for one in (place, self._folders[parent] / place.name):
            if one.is_relative_to(self._root):
                return one.relative_to(self._root).as_posix()
        return ""

    def _ending(self, wanted: str) -> list[sqlite3.Row]:
        """Files whose paths end with these steps, but for the case of A to Z."""
        self._looked_for += 1
        if self._looked_for <= _FEW:
            ends = wanted.replace("!", "!!").replace("%", "!%").replace("_", "!_")
            return self._db.execute(
                "SELECT frame, path FROM files WHERE frame IS NOT NULL AND path LIKE '%/' || ? ESCAPE '!'", (ends,)
            ).fetchall()
        end = f"/{wanted}".encode().lower()
        return [row for row in self._indexed(wanted) if row["path"].encode().lower().endswith(end)]

    def _like(self, wanted: str) -> list[sqlite3.Row]:
        """Frames whose name is this, but for case and accents."""
        if self._looked_for <= _FEW:
            return self._db.execute(
                "SELECT id AS frame FROM frames WHERE bm_plain(name) = ?", (plain(wanted),)
            ).fetchall()
        return [row for row in self._indexed(wanted) if row["role"] == "original"]

    def _indexed(self, wanted: str) -> list[sqlite3.Row]:
        """Files of this name, but for case and accents."""
        if not self._has_index:
            self._index()
        return self._db.execute(
            "SELECT frame, path, role FROM temp.last_steps JOIN files ON files.id = file WHERE last = ?",
            (_last_step(wanted),),
        ).fetchall()

    def _index(self) -> None:
        self._db.execute("DROP TABLE IF EXISTS temp.last_steps")
        self._db.execute("CREATE TEMP TABLE last_steps (last TEXT, file INTEGER)")
        self._db.create_function("bm_last_step", 1, _last_step, deterministic=True)
        self._db.execute("INSERT INTO temp.last_steps SELECT bm_last_step(path), id FROM files WHERE frame IS NOT NULL")
        self._db.execute("CREATE INDEX temp.by_last_step ON last_steps (last)")
        self._has_index = True


def _last_step(path: str) -> str:
    return plain(path.rpartition("/")[2])
