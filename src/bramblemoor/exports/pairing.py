"""Joining what was extracted: sidecars with pictures, files with frames, and every frame with its place in the library."""

import sqlite3
from collections.abc import Iterator
from itertools import groupby
from pathlib import Path

from bramblemoor.exports.extract import decode_claims
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.claims import Claim, Facts, believe
from bramblemoor.library.durable import digest_of
from bramblemoor.library.home import Library
from bramblemoor.library.layout import folder_for
from bramblemoor.library.names import collision_key, free_name, safe_name

# First by the name that the dialect derives; an XMP beside the picture by its own two namings; last by the digest that
# the sidecar itself states. A copy made for an album has no sidecar of its own.
_PAIR = (
    """INSERT OR IGNORE INTO pairs SELECT p.id, min(s.id) FROM entries p JOIN entries s ON s.name = p.sidecar_name
       WHERE p.kind = 'picture' AND NOT p.is_copy AND s.kind = 'sidecar' GROUP BY p.id""",
    """INSERT OR IGNORE INTO pairs SELECT p.id, s.id FROM entries p
       JOIN entries s ON s.name IN (p.name || '.xmp', p.stem || '.xmp')
       WHERE p.kind = 'picture' AND NOT p.is_copy AND NOT p.rendition AND s.kind = 'sidecar'""",
    """INSERT OR IGNORE INTO pairs SELECT min(p.id), s.id FROM entries s JOIN entries p ON p.sha256 = s.sha256_said
       WHERE s.kind = 'sidecar' AND p.kind = 'picture' AND s.id NOT IN (SELECT sidecar FROM pairs) GROUP BY s.id""",
)
# A content delivered several times was staged and read once, perhaps as a copy for an album in an earlier part; it belongs
# to the frame of the entry that is no copy.
_READ = """
    UPDATE entries AS e SET media = s.media, picture_kind = s.picture_kind, width = s.width, height = s.height, claims = s.claims
    FROM entries AS s WHERE e.kind = 'picture' AND NOT e.staged AND s.staged AND s.sha256 = e.sha256
"""
_UNITS = """
    INSERT INTO units (sha256, entry, staged_as)
    SELECT sha256, id, (SELECT min(s.id) FROM entries s WHERE s.sha256 = ranked.sha256 AND s.staged) FROM (
        SELECT sha256, id, row_number() OVER (PARTITION BY sha256 ORDER BY is_copy, id) AS rank
        FROM entries WHERE kind = 'picture'
    ) AS ranked WHERE rank = 1
"""


def plan(sheet: Worksheet, parcel: Parcel, library: Library) -> None:
    """Decide for every distinct content whose frame it is and where it goes; a decision once made stays."""
    if sheet.get("planned"):
        return
    with sheet.changing() as db:
        for statement in _PAIR:
            db.execute(statement)
        db.execute(_READ)
        db.execute(_UNITS)
        for group in _groups(sheet):
            _plan_frame(sheet, parcel, library, group)
        sheet.put("planned", "yes")


def _groups(sheet: Worksheet) -> Iterator[list[sqlite3.Row]]:
    """The distinct contents, frame by frame: what shares a stem belongs together, the original first."""
    rows = sheet.db.execute(
        "SELECT units.sha256, entries.id, name, stem, rendition, picture_kind, size FROM units JOIN entries ON id = entry"
        " ORDER BY stem, rendition, picture_kind, id"
    ).fetchall()
    for _, members in groupby(rows, key=lambda row: row["stem"]):
        group = list(members)
        first = group[0]
        # Besides its first file, a frame takes renditions, and the clip of a still; a second original is a frame by itself.
        mine = [first, *(row for row in group[1:] if row["rendition"] or _is_clip(first, row))]
        yield mine
        yield from ([row] for row in group if row not in mine)


def _is_clip(original: sqlite3.Row, other: sqlite3.Row) -> bool:
    return bool(original["picture_kind"] == "photo" and other["picture_kind"] == "video")


def sidecars_of(sheet: Worksheet, frame: int) -> list[sqlite3.Row]:
    """The sidecars of all files of a frame (which is named by its original's entry)."""
    return sheet.db.execute(
        "SELECT DISTINCT s.* FROM units JOIN entries p ON p.sha256 = units.sha256 JOIN pairs ON picture = p.id"
        " JOIN entries s ON s.id = sidecar WHERE units.frame = ? ORDER BY s.id",
        (frame,),
    ).fetchall()


def own_claims(sheet: Worksheet, frame: int) -> list[Claim]:
    """What the original itself says."""
    return decode_claims(sheet.db.execute("SELECT claims FROM entries WHERE id = ?", (frame,)).fetchone()[0])


def facts_of(sheet: Worksheet, frame: int) -> Facts:
    claims = own_claims(sheet, frame)
    for row in sidecars_of(sheet, frame):
        claims += decode_claims(row["claims"])
    return believe(claims)


def _plan_frame(sheet: Worksheet, parcel: Parcel, library: Library, group: list[sqlite3.Row]) -> None:
    frame = group[0]["id"]
    for row in group:
        known = library.db.execute(
            "SELECT frame FROM files WHERE sha256 = ? AND frame IS NOT NULL", (row["sha256"],)
        ).fetchone()
        role = "original" if row["id"] == frame else "rendition" if row["rendition"] else "clip"
        sheet.db.execute(
            "UPDATE units SET frame = ?, role = ?, here = ? WHERE sha256 = ?",
            (frame, role, known[0] if known else None, row["sha256"]),
        )
    here = sheet.db.execute("SELECT max(here) FROM units WHERE frame = ?", (frame,)).fetchone()[0]
    facts = facts_of(sheet, frame)
    if here is not None:
        folder = library.db.execute("SELECT folder FROM frames WHERE id = ?", (here,)).fetchone()[0]
    else:
        folder = folder_for(library.settings.naming.flat, facts, parcel.service)
    wanted = {row["sha256"]: _told_name(sheet, frame, row) for row in group}
    safe = {digest: safe_name(name) for digest, name in wanted.items()}
    base = _frame_base(safe[group[0]["sha256"]], list(safe.values()))

    def numbered(name: str, number_of_base: str) -> str:
        return number_of_base + name[len(base) :]

    def taken(candidate: str) -> bool:
        names = [(digest, numbered(name, candidate)) for digest, name in safe.items()]
        return any(_is_taken(sheet, library, f"{folder}/{name}", digest) for digest, name in names)

    chosen = free_name(base, taken)
    for digest, name in safe.items():
        path = f"{folder}/{numbered(name, chosen)}"
        former = wanted[digest] if path.rpartition("/")[2] != wanted[digest] else ""
        sheet.db.execute(
            "UPDATE units SET path = ?, collision = ?, mtime_ns = ?, former_name = ? WHERE sha256 = ? AND here IS NULL",
            (path, collision_key(path), facts.taken.nanoseconds if facts.taken else None, former, digest),
        )


def _told_name(sheet: Worksheet, frame: int, row: sqlite3.Row) -> str:
    """The name a picture had before the service mangled it, where its frame's sidecar tells; else that of its entry."""
    entry_name: str = row["name"].rpartition("/")[2]
    told: str = next((said["file_name"] for said in sidecars_of(sheet, frame) if said["file_name"]), "")
    if not told or row["id"] == frame:
        return told or entry_name
    stem: str = row["stem"].rpartition("/")[2]
    return (told.rpartition(".")[0] or told) + entry_name[len(stem) :]


def _frame_base(original: str, names: list[str]) -> str:
    """What all names of a frame begin with: a number that tells it from another frame goes behind this, in all of them."""
    stem = original.rpartition(".")[0] or original
    return stem if all(name.startswith(stem) for name in names) else ""


def _is_taken(sheet: Worksheet, library: Library, path: str, digest: str) -> bool:
    """Whether a path would collide with another file, in this plan, in the ledger, or on disk.

    A file with the same content may be there: an earlier run put it in place and was killed.
    """
    key = collision_key(path)
    planned = sheet.db.execute("SELECT 1 FROM units WHERE collision = ?", (key,)).fetchone()
    entered = library.db.execute("SELECT 1 FROM files WHERE collision = ?", (key,)).fetchone()
    if planned or entered:
        return True
    target: Path = library.root / path
    return target.exists() and (not target.is_file() or digest_of(target) != digest)
