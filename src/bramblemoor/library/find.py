"""Finding frames, as they are listed to people."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from bramblemoor.frames.claims import HAND, TAKEN_AWAY_BY, Facts, believe
from bramblemoor.library.catalogue import believed, claims_of
from bramblemoor.library.conditions import Clause
from bramblemoor.library.copies import FREED, good
from bramblemoor.library.home import Library


@dataclass(frozen=True)
class Found:
    frame: int
    shoot: str
    path: str
    taken: str
    title: str


SORTS = {
    "taken": "shown, folder, name", "added": "added, shown, folder, name", "path": "folder, name",
    "name": "name, folder", "title": "title, shown, folder, name",
    "size": "(SELECT bytes FROM files WHERE frame = r.id AND role = 'original'), folder, name",
}  # fmt: skip
"""What frames can be sorted by."""


def find(
    library: Library, clause: Clause, most: int = -1, *, sort: str = "taken", reverse: bool = False
) -> Iterator[Found]:
    """Frames of which a condition holds, as `located_in` gives it, sorted by one of SORTS, at most `most`."""
    rows = library.db.execute(
        "SELECT id, folder, name, coalesce(taken, ''), title FROM frames r"
        f" WHERE {clause.sql} ORDER BY {_ordered(sort, reverse)} LIMIT ?",
        (*clause.values, most),
    )
    for frame, folder, name, taken, title in rows:
        yield Found(frame, folder.rpartition("/")[2], f"{folder}/{name}", taken, title)


def paths(
    library: Library, clause: Clause, most: int = -1, *, sort: str = "taken", reverse: bool = False
) -> Iterator[str]:
    """Nothing but the paths of the same."""
    rows = library.db.execute(
        f"SELECT folder || '/' || name FROM frames r WHERE {clause.sql} ORDER BY {_ordered(sort, reverse)} LIMIT ?",
        (*clause.values, most),
    )
    rows.row_factory = None
    yield from (path for (path,) in rows)


def _ordered(sort: str, reverse: bool) -> str:
    order = SORTS[sort]
    return ", ".join(f"{key} DESC" for key in _keys(order)) if reverse else order


def _keys(order: str) -> list[str]:
    """The keys of an order; commas within brackets part nothing."""
    return re.split(r", (?![^(]*\))", order)


def facts_of(library: Library, frame: int) -> Facts:
    """What is believed of a frame."""
    return believe(claims_of(library.db, frame))


def count(library: Library, clause: Clause) -> int:
    number: int = library.db.execute(f"SELECT count(*) FROM frames r WHERE {clause.sql}", clause.values).fetchone()[0]
    return number


_ONE_EACH = {
    "year": "coalesce(r.year, 'undated')", "month": "coalesce(substr(r.shown, 1, 7), 'undated')",
    "day": "coalesce(substr(r.shown, 1, 10), 'undated')", "shoot": "r.folder", "kind": "r.kind",
    "location": "r.location", "service": "coalesce(r.service, '')",
    "camera": f"coalesce({believed('camera')}, '')", "lens": f"coalesce({believed('lens')}, '')",
    "creator": f"coalesce({believed('creator')}, '')", "rating": f"coalesce({believed('rating')}, '')",
}  # fmt: skip
_SEVERAL_EACH = {"keyword": "keywords", "person": "people"}
COUNTED = (*_ONE_EACH, *_SEVERAL_EACH, "album")
"""What frames can be counted by."""


def count_by(library: Library, clause: Clause, what: str) -> list[tuple[str, int]]:
    """How many frames of which a condition holds have each value; "" stands for none. Years and the like in order, others by
    number.
    """
    db = library.db
    if what in _ONE_EACH:
        key = _ONE_EACH[what]
        rows = db.execute(f"SELECT {key}, count(*) FROM frames r WHERE {clause.sql} GROUP BY 1", clause.values)
        found = [(str(value), int(number)) for value, number in rows]
    elif what == "album":
        rows = db.execute(
            "SELECT title, count(DISTINCT frame) FROM album_frames JOIN albums ON albums.id = album JOIN frames r ON r.id = frame"
            f" WHERE {clause.sql} GROUP BY album",
            clause.values,
        )
        found = [(str(title), int(number)) for title, number in rows]
    else:
        found = _count_believed(library, clause, what)
    if what in ("year", "month", "day", "shoot"):
        return sorted(found)
    return sorted(found, key=lambda one: (-one[1], one[0]))


def _count_believed(library: Library, clause: Clause, what: str) -> list[tuple[str, int]]:
    """Of keywords and people several are believed of a frame, and some were taken away again."""
    rows = library.db.execute(
        "SELECT c.value, count(DISTINCT c.frame) FROM claims c JOIN frames r ON r.id = c.frame"
        f" WHERE c.field = ? AND {clause.sql} AND NOT EXISTS ("
        "SELECT 1 FROM claims g WHERE g.frame = c.frame AND g.value = c.value AND g.field = ? AND NOT EXISTS ("
        "SELECT 1 FROM claims k WHERE k.frame = c.frame AND k.value = c.value AND k.field = c.field"
        f" AND k.source IN {HAND} AND k.rowid > g.rowid)) GROUP BY 1",
        (what, *clause.values, TAKEN_AWAY_BY[what]),  # type: ignore[index]
    )
    return [(str(value), int(number)) for value, number in rows]


def put_away(library: Library, frames: Sequence[int]) -> dict[int, tuple[str, ...]]:
    """Which of these frames have left the working drive, and at which depots (name, with its site) they are."""
    found: dict[int, tuple[str, ...]] = {}
    if library.db.execute("SELECT 1 FROM bound WHERE freed != ''").fetchone() is None or library.at_depot:
        return found
    for frame in frames:
        rows = library.db.execute(
            "SELECT name || ' (' || site || ')' FROM files f JOIN copies c ON c.file = f.id JOIN depots d ON d.number = c.depot"
            f" WHERE f.frame = ? AND f.role = 'original' AND {good()} AND retired = ''"
            f" AND f.id IN ({FREED}) ORDER BY d.number",
            (frame,),
        ).fetchall()
        if rows:
            found[frame] = tuple(row[0] for row in rows)
    return found


def bytes_by_year(library: Library) -> dict[int, int]:
    """How large each year is, with all files of its frames; undated frames are in none."""
    rows = library.db.execute(
        "SELECT year, sum(bytes) FROM files JOIN frames ON frames.id = frame WHERE year IS NOT NULL GROUP BY year"
    )
    return {int(year): int(size) for year, size in rows}
