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
_COLUMNS = "frames.id, folder, frames.name, taken, shown, path, bytes, width, height, media, service"


def mark_reduced(library: Library, order: str) -> list[int]:
    """Find which frames of an order are reduced copies of others here, or have one here, and claim so; returns their numbers.

    Both are kept. Call inside a transaction of the ledger, when the frames' claims are weighed.
    """
    db = library.db
    seen: dict[str, bytes | None] = {}
    marked: list[int] = []
    for mine in db.execute(
        f"SELECT {_COLUMNS} FROM frames JOIN files ON frame = frames.id AND role = 'original'"
        " WHERE arrived = ? AND kind = 'photo' AND shown IS NOT NULL AND width > 0",
        (order,),
    ).fetchall():
        for other in _same_moment(db, mine):
            pair = _reduced_and_original(mine, other)
            if pair is not None and _alike(library.root, pair, seen):
                reduced, original = pair
                claim = Claim("reduced_of", original["path"], "file")
                if add_claims(db, reduced["id"], original["path"], [claim]):
                    settle(db, reduced["id"])
                    marked.append(reduced["id"])
    return marked


def _same_moment(db: sqlite3.Connection, mine: sqlite3.Row) -> list[sqlite3.Row]:
    """Other photos taken at the same moment, as far as the two dates tell. A bare UTC fits local times of any zone."""
    taken = parse_moment(mine["taken"])
    assert taken is not None
    clock = datetime.fromisoformat(mine["shown"])
    reach = timedelta(hours=14) if taken.local is None else timedelta(seconds=_NEAR)
    rows = db.execute(
        f"SELECT {_COLUMNS} FROM frames JOIN files ON frame = frames.id AND role = 'original' WHERE frames.id != ? AND"
        " shown BETWEEN ? AND ? AND kind = 'photo' AND width > 0"
        " UNION SELECT " + _COLUMNS + " FROM frames JOIN files ON frame = frames.id AND role = 'original'"
        " WHERE frames.id != ? AND shown BETWEEN ? AND ? AND kind = 'photo' AND width > 0 AND taken LIKE '%Z'",
        (
            mine["id"], (clock - reach).isoformat(), (clock + reach).isoformat(),
            mine["id"], (clock - timedelta(hours=14)).isoformat(), (clock + timedelta(hours=14)).isoformat(),
        ),
    ).fetchall()  # fmt: skip
    return [row for row in rows if (other := parse_moment(row["taken"])) is not None and _agree(taken, other)]


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
