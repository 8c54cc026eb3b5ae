"""Finding frames, as they are listed to people."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from bramblemoor.library.copies import FREED, good
from bramblemoor.library.home import Library
from bramblemoor.library.selection import Clause


@dataclass(frozen=True)
class Found:
    frame: int
    shoot: str
    path: str
    taken: str
    title: str


def find(library: Library, clause: Clause, most: int = -1) -> Iterator[Found]:
    """Frames of which a condition holds, as `located_in` gives it, in order of their taking, at most `most`."""
    rows = library.db.execute(
        "SELECT id, folder, name, coalesce(taken, ''), title FROM frames r"
        f" WHERE {clause.sql} ORDER BY shown, folder, name LIMIT ?",
        (*clause.values, most),
    )
    for frame, folder, name, taken, title in rows:
        yield Found(frame, folder.rpartition("/")[2], f"{folder}/{name}", taken, title)


def count(library: Library, clause: Clause) -> int:
    number: int = library.db.execute(f"SELECT count(*) FROM frames r WHERE {clause.sql}", clause.values).fetchone()[0]
    return number


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
