"""Recognising reduced copies: the same scene at the same moment, with fewer pixels or stronger compression."""

import sqlite3
from datetime import datetime, timedelta
from pathlib import Path

from bramblemoor.frames.claims import Claim
from bramblemoor.frames.kinds import RAWS
from bramblemoor.frames.likeness import alike, difference, fingerprint, small_grey
from bramblemoor.frames.moments import AGREES, EXACTLY, agreement, parse_moment
from bramblemoor.library.catalogue import add_claims
from bramblemoor.library.home import Library
from bramblemoor.library.known import choose_shown
from bramblemoor.running import Progress, Stage

_ALL_BITS = (1 << 64) - 1
_FEWER = 1.2  # an original has at least so many times the pixels
_NEAR_BITS = 8
_SURE, _APART = 1.7, 0.8
"""Mean differences: of a reduced copy and its original at most, and how much farther any other picture must be."""
_ASPECT = 0.02
_STRONGER = 0.7  # as many pixels in less than this share of the bytes count as stronger compression
_DAY = timedelta(hours=14)  # no time zone is farther from UTC
_MOST = 20_000  # photos of about one moment: more, and the camera's clock stood still
_ROWS = """
    SELECT frames.id, taken, path, bytes, width, height, media FROM frames
    JOIN files ON frame = frames.id AND role = 'original'
"""
# What may be the same picture: of the same proportions, at the same second of a quarter of an hour, and unlike in size.
_FITTING = f"""
    frames.id != :id AND shown BETWEEN :first AND :last AND kind = 'photo' AND width > 0
    AND abs(width * :height - height * :width) <= :aspect * height * :height
    AND (strftime('%s', shown) - :second + 903) % 900 <= 6
    AND (width * height != :width * :height OR bytes < :bytes * :stronger OR bytes * :stronger > :bytes
         OR (media IN {RAWS}) != :raw)
"""
_PHOTOS = f"{_ROWS.replace('media FROM', 'media, sha256, arrived FROM')} WHERE kind = 'photo' AND width > 0"


def mark_undated(library: Library, order: str, progress: Progress) -> list[int]:
    """Find among all pictures the originals of reduced copies without a date, as far as an order is concerned.

    Both are kept. Of several that look alike, as in a burst, none is claimed. Call inside a transaction of the ledger.
    Returns the numbers of the copies.
    """
    db = library.db
    undated = db.execute(
        f"{_PHOTOS} AND shown IS NULL AND frames.id NOT IN (SELECT frame FROM claims WHERE field = 'reduced_of') ORDER BY path"
    ).fetchall()
    if not undated or not any(row["arrived"] == order for row in db.execute(_PHOTOS)):
        return []
    smallest = min(row["width"] * row["height"] for row in undated)
    others = [
        row for row in db.execute(f"{_PHOTOS} ORDER BY path") if row["width"] * row["height"] >= _FEWER * smallest
    ]
    bits = _prints(library, [*undated, *others], progress)
    marked = []
    for mine in undated:
        original = _original_of(library, mine, others, bits, order)
        if original is not None and add_claims(
            db, mine["id"], original["path"], [Claim("reduced_of", original["path"], "file")]
        ):
            choose_shown(db, mine["id"])
            marked.append(mine["id"])
    return marked


def _original_of(
    library: Library, mine: sqlite3.Row, others: list[sqlite3.Row], bits: dict[str, int], order: str
) -> sqlite3.Row | None:
    """The one picture that a reduced copy is made of, None where none is, or several may be."""
    if mine["sha256"] not in bits:
        return None
    near = [
        row for row in others
        if row["sha256"] in bits and row["id"] != mine["id"] and order in (mine["arrived"], row["arrived"])
        and row["width"] * row["height"] >= _FEWER * mine["width"] * mine["height"]
        and abs(mine["width"] / mine["height"] - row["width"] / row["height"]) <= _ASPECT
        and (bits[row["sha256"]] ^ bits[mine["sha256"]]).bit_count() <= _NEAR_BITS
    ]  # fmt: skip
    grey = small_grey(library.root / mine["path"]) if near else None
    if grey is None:
        return None
    apart = []
    for row in near:
        other = small_grey(library.root / row["path"])
        apart += [(difference(grey, other), row["id"], row)] if other is not None else []
    apart.sort(key=lambda one: one[:2])
    alone = len(apart) == 1 or (apart and apart[1][0] >= apart[0][0] + _APART)
    return apart[0][2] if apart and alone and apart[0][0] <= _SURE else None


def _prints(library: Library, rows: list[sqlite3.Row], progress: Progress) -> dict[str, int]:
    """The fingerprints of pictures by their digests; those that were never made are made, and kept."""
    db = library.db
    known = dict(map(tuple, db.execute("SELECT sha256, bits FROM prints")))
    due = {row["sha256"]: row["path"] for row in rows if row["sha256"] not in known}
    for number, (digest, path) in enumerate(due.items(), 1):
        known[digest] = fingerprint(library.root / path)
        db.execute("INSERT OR REPLACE INTO prints VALUES (?, ?)", (digest, known[digest]))
        progress(Stage("looking for reduced copies", "frames"), number, len(due))
    return {digest: bits & _ALL_BITS for digest, bits in known.items() if bits is not None}


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
                    choose_shown(db, reduced["id"])
                    marked.append(reduced["id"])
    return marked


def _same_moment(db: sqlite3.Connection, mine: sqlite3.Row, some_in_utc: bool) -> list[sqlite3.Row]:
    """Other photos taken at the same moment, as far as the two dates tell. A bare UTC fits local times of any zone."""
    taken = parse_moment(mine["taken"])
    assert taken is not None
    clock = taken.shown
    values: dict[str, object] = {
        "id": mine["id"], "width": mine["width"], "height": mine["height"], "bytes": mine["bytes"], "aspect": _ASPECT,
        "stronger": _STRONGER, "raw": mine["media"] in RAWS, "second": int((clock - datetime(1970, 1, 1)).total_seconds()),
    }  # fmt: skip
    found = []
    near = timedelta(seconds=EXACTLY)
    for reach, further in ((near if taken.local else _DAY, ""), (_DAY, "AND taken LIKE '%Z'")):
        if further and not (some_in_utc and taken.local):
            continue
        span = {"first": (clock - reach).isoformat(), "last": (clock + reach).isoformat()}
        about = "SELECT count(*) FROM (SELECT 1 FROM frames WHERE shown BETWEEN :first AND :last LIMIT :most)"
        most = 500 if reach == near else _MOST
        if db.execute(about, span | {"most": most}).fetchone()[0] < most:
            found += db.execute(f"{_ROWS} WHERE {_FITTING} {further}", values | span).fetchall()
    return [
        row for row in found if (other := parse_moment(row["taken"])) is not None and agreement(taken, other) == AGREES
    ]


def _reduced_and_original(one: sqlite3.Row, other: sqlite3.Row) -> tuple[sqlite3.Row, sqlite3.Row] | None:
    """Which of two is the reduced one, None where neither is."""
    if abs(one["width"] / one["height"] - other["width"] / other["height"]) > _ASPECT:
        return None
    raw = [row["media"] in RAWS for row in (one, other)]
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
