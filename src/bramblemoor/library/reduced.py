"""Recognising reduced copies: the same scene at the same moment, with fewer pixels or stronger compression."""

import sqlite3
from datetime import datetime, timedelta
from pathlib import Path

from bramblemoor.frames.claims import Claim
from bramblemoor.frames.likeness import alike, small_grey
from bramblemoor.frames.moments import Moment, infer_offset, parse_moment
from bramblemoor.library.catalogue import add_claims, settle
from bramblemoor.library.home import Library

_ASPECT = 0.02
_STRONGER = 0.7  # as many pixels in less than this share of the bytes count as stronger compression
_RAW = ("image/dng", "image/x-raw")
_NEAR = 2.0  # seconds
_DAY = timedelta(hours=14)  # no time zone is farther from UTC
_MOST = 20_000  # photos of about one moment: more, and the camera's clock stood still
_ROWS = """
    SELECT frames.id, taken, path, bytes, width, height, media FROM frames
    JOIN files ON frame = frames.id AND role = 'original'
"""
# What may be the same picture: of the same proportions, at the same second of a quarter of an hour, and unlike in size.
_FITTING = """
    frames.id != :id AND shown BETWEEN :first AND :last AND kind = 'photo' AND width > 0
    AND abs(width * :height - height * :width) <= :aspect * height * :height
    AND (strftime('%s', shown) - :second + 903) % 900 <= 6
    AND (width * height != :width * :height OR bytes < :bytes * :stronger OR bytes * :stronger > :bytes
         OR (media IN ('image/dng', 'image/x-raw')) != :raw)
"""


def mark_reduced(library: Library, order: str) -> list[int]:
    """Find which frames of an order are reduced copies of others here, or have one here, and claim so; returns their numbers.

    Both are kept. Call inside a transaction of the ledger, when the frames' claims are weighed.
    """
    db = library.db
    seen: dict[str, bytes | None] = {}
    marked: list[int] = []
    some_in_utc = db.execute("SELECT 1 FROM frames WHERE taken LIKE '%Z' AND kind = 'photo' LIMIT 1").fetchone()
    rows = db.execute(f"{_ROWS} WHERE arrived = ? AND kind = 'photo' AND shown IS NOT NULL AND width > 0", (order,))
    for mine in rows.fetchall():
        for other in _same_moment(db, mine, some_in_utc is not None):
            pair = _reduced_and_original(mine, other)
            if pair is not None and _alike(library.root, pair, seen):
                reduced, original = pair
                claim = Claim("reduced_of", original["path"], "file")
                if add_claims(db, reduced["id"], original["path"], [claim]):
                    settle(db, reduced["id"])
                    marked.append(reduced["id"])
    return marked


def _same_moment(db: sqlite3.Connection, mine: sqlite3.Row, some_in_utc: bool) -> list[sqlite3.Row]:
    """Other photos taken at the same moment, as far as the two dates tell. A bare UTC fits local times of any zone."""
    taken = parse_moment(mine["taken"])
    assert taken is not None
    clock = taken.shown
    values: dict[str, object] = {
        "id": mine["id"], "width": mine["width"], "height": mine["height"], "bytes": mine["bytes"], "aspect": _ASPECT,
        "stronger": _STRONGER, "raw": mine["media"] in _RAW, "second": int((clock - datetime(1970, 1, 1)).total_seconds()),
    }  # fmt: skip
    found = []
    near = timedelta(seconds=_NEAR)
    for reach, further in ((near if taken.local else _DAY, ""), (_DAY, "AND taken LIKE '%Z'")):
        if further and not (some_in_utc and taken.local):
            continue
        span = {"first": (clock - reach).isoformat(), "last": (clock + reach).isoformat()}
        about = "SELECT count(*) FROM (SELECT 1 FROM frames WHERE shown BETWEEN :first AND :last LIMIT :most)"
        most = 500 if reach == near else _MOST
        if db.execute(about, span | {"most": most}).fetchone()[0] < most:
            found += db.execute(f"{_ROWS} WHERE {_FITTING} {further}", values | span).fetchall()
    return [row for row in found if (other := parse_moment(row["taken"])) is not None and _agree(taken, other)]


def _agree(one: Moment, other: Moment) -> bool:
    if one.local is not None and other.local is not None:
        return abs((one.local - other.local).total_seconds()) <= _NEAR
    if (one.local is None and other.local is None) or one.offset is not None or other.offset is not None:
        return abs((one.instant - other.instant).total_seconds()) <= _NEAR
    local, utc = (one.local, other.utc) if one.local is not None else (other.local, one.utc)
    assert local is not None and utc is not None
    offset = infer_offset(local, utc)
    return offset is not None and abs((local - utc).total_seconds() - offset * 60) <= _NEAR


def _reduced_and_original(one: sqlite3.Row, other: sqlite3.Row) -> tuple[sqlite3.Row, sqlite3.Row] | None:
    """Which of two is the reduced one, None where neither is."""
    if abs(one["width"] / one["height"] - other["width"] / other["height"]) > _ASPECT:
        return None
    raw = [row["media"] in _RAW for row in (one, other)]
    pixels = [row["width"] * row["height"] for row in (one, other)]
    if raw[0] != raw[1]:
        return (other, one) if raw[0] else (one, other)
    if pixels[0] != pixels[1]:
        return (one, other) if pixels[0] < pixels[1] else (other, one)
    smaller, larger = sorted((one, other), key=lambda row: int(row["bytes"]))
    return (smaller, larger) if smaller["bytes"] < larger["bytes"] * _STRONGER else None


def _alike(root: Path, pair: tuple[sqlite3.Row, sqlite3.Row], seen: dict[str, bytes | None]) -> bool:
    greys = []
    for row in pair:
        if row["path"] not in seen:
            if len(seen) > 500:
                seen.clear()
            seen[row["path"]] = small_grey(root / row["path"])
        greys.append(seen[row["path"]])
    return greys[0] is not None and greys[1] is not None and alike(greys[0], greys[1])
