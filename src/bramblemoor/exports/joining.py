"""Later exports: which frame of the ledger a frame of the export is, and what the export shows to belong together, or apart.

What an earlier export could not know, as an edit whose original came later, is mended; what it did know is not forgotten.
"""

import sqlite3
from collections.abc import Collection

from bramblemoor.exports.worksheet import Worksheet, digest_of_key
from bramblemoor.frames.claims import Claim
from bramblemoor.library.catalogue import add_frame, drop_frame
from bramblemoor.library.known import choose_shown

_BY_OTHERS = "source IN ('service', 'xmp') AND field NOT IN ('came_as', 'reduced_of', 'edited')"
_BY_HAND = "source IN ('you', 'sidecar')"


def frame_for(
    sheet: Worksheet, db: sqlite3.Connection, units: list[sqlite3.Row], told: Collection[Claim]
) -> int | None:
    """The frame in the ledger that an export's frame is, None for a new one.

    `units` are all contents of the export's frame, its original first; `told` is what its records say.
    """
    first = units[0]
    target: int | None = first["here"]
    if target is None:
        target = _adopting(db, units, told)
    elif not is_original(db, target, first):
        if says_nothing_else(db, target, told) or not _original_came_apart(sheet, db, target, first):
            return target  # the ledger knows what it is a rendition or clip of, and no record here says otherwise
        target = _split(db, first)
    return target


def bring_together(
    sheet: Worksheet, db: sqlite3.Connection, units: list[sqlite3.Row], frame: int, told: Collection[Claim]
) -> None:
    """Bring what is here already of an export's frame to the one in the ledger that it is (`frame_for`), or that was made."""
    together = {digest_of_key(unit["sha256"]) for unit in units}
    for unit in units[1:]:
        if unit["here"] is not None and unit["here"] != frame:
            _bring(sheet, db, unit, frame, together, told)


def is_original(db: sqlite3.Connection, frame: int, unit: sqlite3.Row) -> bool:
    """Whether a content is the original of a frame in the ledger, and not something that belongs to it."""
    return _role(db, frame, unit) in ("original", "twin", "")


def _role(db: sqlite3.Connection, frame: int, unit: sqlite3.Row) -> str:
    row = db.execute(
        "SELECT role FROM files WHERE frame = ? AND sha256 = ? ORDER BY role != 'original'",
        (frame, digest_of_key(unit["sha256"])),
    ).fetchone()
    return str(row["role"]) if row else ""


def contents_of(db: sqlite3.Connection, frame: int) -> set[str]:
    """The digests of the pictures and films of a frame in the ledger."""
    rows = db.execute("SELECT sha256 FROM files WHERE frame = ? AND role NOT IN ('sidecar', 'twin')", (frame,))
    return {row["sha256"] for row in rows}


def says_nothing_else(db: sqlite3.Connection, frame: int, told: Collection[Claim]) -> bool:
    """Whether records tell only what is known of a frame: then they are its original's."""
    known = {
        (row["field"], row["value"]) for row in db.execute("SELECT field, value FROM claims WHERE frame = ?", (frame,))
    }
    return all((claim.field, claim.value) in known for claim in told)


def _original_came_apart(sheet: Worksheet, db: sqlite3.Connection, frame: int, unit: sqlite3.Row) -> bool:
    """Whether the original that the ledger gives a file to came in the same export, as another frame, and by its own name."""
    row = db.execute("SELECT sha256 FROM files WHERE frame = ? AND role = 'original'", (frame,)).fetchone()
    if row is None:
        return False
    others = sheet.db.execute(
        "SELECT u.sha256 FROM units u JOIN entries e ON e.id = u.entry"
        " WHERE coalesce(u.here, ?1) = ?1 AND u.frame != ?2 AND NOT e.is_copy",  # one that is new here has just been entered
        (frame, unit["frame"]),
    )
    return any(digest_of_key(other["sha256"]) == row["sha256"] for other in others)


def _split(db: sqlite3.Connection, unit: sqlite3.Row) -> int:
    """Make a file that was taken for a rendition or clip a frame of its own; returns its number."""
    digest = digest_of_key(unit["sha256"])
    row = db.execute(
        "SELECT f.id, f.path, r.* FROM files f JOIN frames r ON r.id = f.frame WHERE f.frame = ? AND f.sha256 = ?",
        (unit["here"], digest),
    ).fetchone()
    folder, _, name = row["path"].rpartition("/")
    fresh = add_frame(
        db, folder=folder, name=name, read_as=unit["picture_kind"], service=row["service"], reference="",
        arrived=row["arrived"],
    )  # fmt: skip
    db.execute("UPDATE files SET frame = ?, role = 'original' WHERE id = ?", (fresh, row[0]))
    choose_shown(db, unit["here"])
    return fresh


def _adopting(db: sqlite3.Connection, units: list[sqlite3.Row], told: Collection[Claim]) -> int | None:
    """A frame in the ledger whose original is a rendition or clip of one that comes only now, which it takes for its own."""
    for unit in units[1:]:
        if (
            unit["here"] is not None
            and _role(db, unit["here"], unit) == "original"
            and not _is_told(db, unit["here"], told)
        ):
            db.execute("UPDATE files SET role = ? WHERE frame = ? AND role = 'original'", (unit["role"], unit["here"]))
            db.execute(
                "UPDATE frames SET folder = ?, name = ? WHERE id = ?",
                (*units[0]["path"].rpartition("/")[::2], unit["here"]),
            )
            # What that one says of itself is not the original's word.
            db.execute(
                "DELETE FROM claims WHERE frame = ? AND source IN ('camera', 'iptc', 'map', 'name', 'file')",
                (unit["here"],),
            )
            return int(unit["here"])
    return None


def _is_told(db: sqlite3.Connection, frame: int, told: Collection[Claim]) -> bool:
    """Whether a service said of a frame what it does not say of the one that it may belong to: then it is one by itself."""
    same = {(claim.field, claim.value) for claim in told}
    rows = db.execute(f"SELECT field, value FROM claims WHERE frame = ? AND {_BY_OTHERS}", (frame,))
    return any((row["field"], row["value"]) not in same for row in rows)


def _bring(
    sheet: Worksheet,
    db: sqlite3.Connection,
    unit: sqlite3.Row,
    target: int,
    together: set[str],
    told: Collection[Claim],
) -> None:
    """Bring a file to the frame it belongs to, as is known now; one that was nothing else goes, with what was claimed of it.

    `together` are the digests of all that belongs to the frame, as is known now.
    What it was taken for before is known better where that one's original did not come in this export.
    """
    former = unit["here"]
    if _role(db, former, unit) == "original":
        by_hand = db.execute(f"SELECT 1 FROM claims WHERE frame = ? AND {_BY_HAND}", (former,)).fetchone()
        if not contents_of(db, former) <= together or by_hand is not None or _is_told(db, former, told):
            return
        db.execute(
            "UPDATE files SET frame = ?, role = iif(role = 'original', ?, role) WHERE frame = ?",
            (target, unit["role"], former),
        )
        db.execute(
            "UPDATE album_frames SET frame = ? WHERE frame = ? AND album NOT IN (SELECT album FROM album_frames WHERE frame = ?)",
            (target, former, target),
        )
        db.execute("UPDATE albums SET cover = ? WHERE cover = ?", (target, former))
        drop_frame(db, former)
        return
    if not _original_came_apart(sheet, db, former, unit):
        return
    db.execute(
        "UPDATE files SET frame = ?, role = ? WHERE frame = ? AND sha256 = ?",
        (target, unit["role"], former, digest_of_key(unit["sha256"])),
    )
