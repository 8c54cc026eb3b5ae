"""The conditions that selections are made of: each in SQL over `frames r`, with its values."""

import re
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import MARKED, Field, parse_position, written_position
from bramblemoor.library.catalogue import believed
from bramblemoor.library.folding import plain
from bramblemoor.library.globs import fits
from bramblemoor.library.locations import metres

UNDATED = "undated"
STANDINGS = ("sound", "short", "single", "lost")
NUMBERS = re.compile(r"(\d{1,9})(?:-(\d{1,9}))?")
_LAST_NUMBER = re.compile(r"(\d{1,18})\D*$")
YEARS = re.compile(rf"(\d{{4}})(?:-(\d{{4}}))?|{UNDATED}")
KINDS = ("photo", "video", "other")
LACKING = ("title", "caption", "keyword", "person", "location", "position", "date", "album", "rating")
SIZE = "(SELECT o.bytes FROM files o WHERE o.frame = r.id AND o.role = 'original')"


@dataclass(frozen=True)
class Clause:
    """A condition in SQL over `frames r`, and its values."""

    sql: str
    values: tuple[Any, ...] = ()


IN_ALBUM = (
    "r.id IN (SELECT frame FROM album_frames WHERE album IN (SELECT id FROM albums WHERE instr(bm_plain(title), ?)))"
)
# Each text is compared once, however many frames have it.
CONTAINS = (
    "r.{column} IN (SELECT told FROM (SELECT DISTINCT {column} AS told FROM frames) WHERE instr(bm_plain(told), ?))"
)
# The values of a field that have a text in them: each is compared once, and the index tells which there are, one after the other.
_HAVING = """
    SELECT told FROM (WITH RECURSIVE each_value (told) AS (
        SELECT (SELECT value FROM claims WHERE field = ? ORDER BY value COLLATE NOCASE LIMIT 1) UNION ALL
        SELECT (SELECT value FROM claims WHERE field = ? AND value COLLATE NOCASE > each_value.told
                ORDER BY value COLLATE NOCASE LIMIT 1) FROM each_value WHERE each_value.told IS NOT NULL
    ) SELECT told FROM each_value WHERE told IS NOT NULL) WHERE instr(bm_plain(told), ?)
"""
# Those of which it was claimed at any time, value by value; of these, those of which it is believed.
_CLAIMED = (
    f"r.id IN (SELECT c.frame FROM ({_HAVING}) k CROSS JOIN claims c"
    " WHERE c.field = ? AND c.value COLLATE NOCASE = k.told)"
)  # fmt: skip
CLAIMS_MARK = f"r.id IN (SELECT frame FROM claims WHERE field = 'rating' AND value = '{MARKED}')"
_NONE_BELIEVED = "coalesce({}, '') = ''"
LACKS = {
    "title": "r.title = ''", "caption": "r.caption = ''", "location": "r.location = ''", "position": "r.latitude IS NULL",
    "date": "r.shown IS NULL", "album": "r.id NOT IN (SELECT frame FROM album_frames)",
    "keyword": "NOT EXISTS (SELECT 1 FROM words WHERE rowid = r.id AND keywords != '')",
    "person": "NOT EXISTS (SELECT 1 FROM words WHERE rowid = r.id AND people != '')",
    "rating": _NONE_BELIEVED.format(believed("rating")),
}  # fmt: skip


def terms(word: str) -> Iterator[str]:
    """What is asked of the words of a frame (SQLite FTS5, 3): each beginning; of a text in double quotes all, as it stands."""
    if len(word) > 2 and word[0] == word[-1] == '"':
        yield f'"{plain(word[1:-1]).replace(chr(34), " ")}"'
        return
    yield from (f'"{term}"*' for term in plain(word).replace('"', " ").split())


def number_range(numbers: str) -> tuple[int, int]:
    match = NUMBERS.fullmatch(numbers)
    assert match is not None, "it was checked"
    return int(match[1]), int(match[2] or match[1])


def number_in_name(name: str) -> int:
    """The number that a file's name ends with, before its ending; -1 where it has none."""
    match = _LAST_NUMBER.search(name.rpartition(".")[0] or name)
    return int(match[1]) if match else -1


def circle(near: str) -> tuple[float, float, float]:
    """Latitude and longitude in degrees, and a radius in metres. Raises WrongUse for what is none."""
    where, _, radius = near.rpartition(",")
    position = parse_position(where)
    try:
        size = float(radius.strip().lower().removesuffix("km")) * 1000
    except ValueError:
        size = 0
    if position is None or written_position(*position) is None or not 0 < size < 2e7:
        raise WrongUse(f"{near!r} is no circle on the map.", "Write its centre and radius in km, as 54.65,2.13,5.")
    return (*position, size)


def _metres_from(latitude: float, longitude: float, other: float, further: float) -> float:
    return metres((latitude, longitude), (other, further))


def within_circle(near: str) -> Clause:
    latitude, longitude, radius = circle(near)
    high = radius / 111_000
    return Clause(
        "r.latitude BETWEEN ? AND ? AND bm_metres(r.latitude, r.longitude, ?, ?) <= ?",
        (latitude - high, latitude + high, latitude, longitude, radius),
    )


def any_of(clauses: Iterator[Clause]) -> Iterator[Clause]:
    """One clause that holds where any of these does; none for none."""
    found = list(clauses)
    if found:
        yield Clause(
            " OR ".join(f"({one.sql})" for one in found), tuple(value for one in found for value in one.values)
        )


def of_years(years: str) -> Clause:
    match = YEARS.fullmatch(years)
    if match is None or match[1] is None:
        return Clause("r.year IS NULL")
    return Clause("r.year BETWEEN ? AND ?", (int(match[1]), int(match[2] or match[1])))


def saying(field: Field, column: str, text: str) -> Clause:
    believed_now = f"EXISTS (SELECT 1 FROM words WHERE words.rowid = r.id AND instr(words.{column}, ?))"
    return Clause(f"{_CLAIMED} AND {believed_now}", (field, field, plain(text), field, plain(text)))


def believing(field: Field, text: str) -> Clause:
    believed_now = f"{believed(field)} COLLATE NOCASE IN ({_HAVING})"
    return Clause(f"{_CLAIMED} AND {believed_now}", (field, field, plain(text), field, field, field, plain(text)))


def prepare(db: sqlite3.Connection) -> None:
    """Make globs known to a ledger's connection."""

    def fit(glob: str, path: str | None) -> bool:
        return path is not None and fits(glob, path)

    db.create_function("bm_fits", 2, fit, deterministic=True)
    db.create_function("bm_number", 1, number_in_name, deterministic=True)
    db.create_function("bm_metres", 4, _metres_from, deterministic=True)
