"""Finding frames by words, dates, albums, keywords, people and locations."""

import json
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from bramblemoor.errors import WrongUse
from bramblemoor.library.copies import FREED, good
from bramblemoor.library.folding import plain
from bramblemoor.library.home import Library


@dataclass(frozen=True)
class Wanted:
    """What to look for; everything given must hold. Dates are written YYYY, YYYY-MM or YYYY-MM-DD and inclusive."""

    words: Sequence[str] = ()
    since: str = ""
    until: str = ""
    album: str = ""
    keyword: str = ""
    person: str = ""
    location: str = ""
    favourite: bool = False


@dataclass(frozen=True)
class Found:
    frame: int
    shoot: str
    path: str
    taken: str
    title: str


def find(library: Library, wanted: Wanted, most: int) -> Iterator[Found]:
    """Frames in order of their taking, at most `most`. Each word matches the beginnings of words anywhere in a frame's texts.

    Raises WrongUse for a date that is none.
    """
    clauses, values = _clauses(library.db, wanted)
    where = f"WHERE {' AND '.join(clauses)}" if clauses else ""
    rows = library.db.execute(
        f"SELECT id, folder, name, coalesce(taken, ''), title FROM frames {where} ORDER BY shown, folder, name LIMIT ?",
        (*values, most),
    )
    for frame, folder, name, taken, title in rows:
        yield Found(frame, folder.rpartition("/")[2], f"{folder}/{name}", taken, title)


def count(library: Library, wanted: Wanted) -> int:
    clauses, values = _clauses(library.db, wanted)
    where = f"WHERE {' AND '.join(clauses)}" if clauses else ""
    number: int = library.db.execute(f"SELECT count(*) FROM frames {where}", values).fetchone()[0]
    return number


# Those of which it was claimed at any time, as an index finds them; of these, those of which it is believed.
_SAYING = """
    id IN (SELECT frame FROM claims WHERE field = ? AND value IN (SELECT value FROM json_each(?)))
    AND EXISTS (SELECT 1 FROM words WHERE words.rowid = frames.id AND instr(words.{column}, ?))
"""


def _clauses(db: sqlite3.Connection, wanted: Wanted) -> tuple[list[str], list[object]]:
    clauses: list[str] = []
    values: list[object] = []
    terms = [term for word in wanted.words for term in plain(word).replace('"', " ").split()]
    if terms:
        clauses.append("id IN (SELECT rowid FROM words WHERE words MATCH ?)")
        values.append(" ".join(f'"{term}"*' for term in terms))
    if wanted.since:
        clauses.append("shown >= ?")
        values.append(first_day(wanted.since).isoformat())
    if wanted.until:
        clauses.append("shown < ?")
        values.append(day_after(wanted.until))
    if wanted.album:
        clauses.append("id IN (SELECT frame FROM album_frames WHERE album IN (SELECT value FROM json_each(?)))")
        values.append(_containing(db, "SELECT id, title FROM albums", wanted.album))
    for field, column, value in (("keyword", "keywords", wanted.keyword), ("person", "people", wanted.person)):
        if value:
            clauses.append(_SAYING.format(column=column))
            told = f"SELECT DISTINCT value, value FROM claims WHERE field = '{field}'"
            values += [field, _containing(db, told, value), plain(value)]
    if wanted.location:
        clauses.append("location IN (SELECT value FROM json_each(?))")
        values.append(_containing(db, "SELECT DISTINCT location, location FROM frames", wanted.location))
    if wanted.favourite:
        clauses.append("favourite")
    return clauses, values


def _containing(db: sqlite3.Connection, query: str, text: str) -> str:
    """Of (key, text) rows the keys of those that contain a text, as a JSON list: each text is compared once."""
    sought = plain(text)
    return json.dumps([key for key, found in map(tuple, db.execute(query)) if sought in plain(found)])


def first_day(written: str) -> date:
    """The first day of a written year, month or day."""
    parts = written.split("-")
    try:
        numbers = [int(part) for part in parts]
        return date(numbers[0], *([*numbers[1:], 1, 1][:2]))
    except (ValueError, TypeError) as error:
        raise WrongUse(f"{written!r} is no date.", "Write it as 2026, 2026-05 or 2026-05-09.") from error


def moment_named(written: str) -> str:
    """A moment as receipts write it: of a day the end; of a time with no zone that time in UTC, as reports show it.

    Raises WrongUse for what is neither.
    """
    if len(written) <= 10:
        return f"{day_after(written)}T00:00:00Z"
    try:
        moment = datetime.fromisoformat(written)
        return (moment if moment.tzinfo is None else moment.astimezone(UTC)).strftime("%Y-%m-%dT%H:%M:%SZ")
    except (ValueError, OverflowError) as error:
        raise WrongUse(
            f"{written!r} is no date or time.", "Write it as 2026-05-09, or 2026-05-09T14:30 (UTC, or with +02:00)."
        ) from error


def day_after(written: str) -> str:
    """The first day behind a written year, month or day; "~" sorts behind every date."""
    first = first_day(written)
    try:
        if written.count("-") == 0:
            return date(first.year + 1, 1, 1).isoformat()
        if written.count("-") == 1:
            return (date(first.year, first.month, 28) + timedelta(days=4)).replace(day=1).isoformat()
        return (first + timedelta(days=1)).isoformat()
    except (ValueError, OverflowError):
        return "~"


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
