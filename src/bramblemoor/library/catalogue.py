"""Frames in the ledger: adding them, their files and claims, and what they are shown by."""

import json
import sqlite3
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

from bramblemoor.disk.names import collision_key
from bramblemoor.frames.claims import HAND, ORDER, RETELLERS, Claim, Field
from bramblemoor.frames.heard import Heard
from bramblemoor.frames.kinds import RAWS
from bramblemoor.frames.moments import now_seconds, now_utc
from bramblemoor.library.receipts import stamp


@dataclass(frozen=True)
class NewFile:
    """A file to enter. `path` relative to the library, `sha256` in hex, `former_name` where it came under another."""

    role: str
    path: str
    bytes: int
    sha256: str
    mtime_ns: int
    media: str = ""
    width: int = 0
    height: int = 0
    former_name: str = ""


def add_frame(
    db: sqlite3.Connection, *, folder: str, name: str, read_as: str, service: str, reference: str, arrived: str
) -> int:
    """A new frame, nothing claimed of it yet; returns its number. `read_as` is the kind that its original was read as."""
    return add_frames(db, [(folder, name, read_as, reference)], service=service, arrived=arrived)[0]


def add_frames(
    db: sqlite3.Connection, frames: Sequence[tuple[str, str, str, str]], *, service: str, arrived: str
) -> list[int]:
    """Several, each as (folder, name, read_as, reference); returns their numbers, which rise."""
    first = db.execute("SELECT coalesce(max(id), 0) + 1 FROM frames").fetchone()[0]
    numbers, added = list(range(first, first + len(frames))), stamp(now_utc())
    db.executemany(
        "INSERT INTO frames (id, folder, name, kind, reference, service, arrived, added) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (
            (
                number,
                folder,
                name,
                read_as if read_as in ("video", "other") else "photo",
                reference,
                service,
                arrived,
                added,
            )
            for number, (folder, name, read_as, reference) in zip(numbers, frames, strict=True)
        ),
    )
    return numbers


def drop_frame(db: sqlite3.Connection, frame: int) -> list[int]:
    """Let a frame go, with all that was claimed of it; its files must be another's, or nobody's. Returns the albums it was in."""
    albums = [row[0] for row in db.execute("SELECT DISTINCT album FROM album_frames WHERE frame = ?", (frame,))]
    db.execute("UPDATE albums SET cover = NULL WHERE cover = ?", (frame,))
    for table, column in (
        ("claims", "frame"), ("album_frames", "frame"), ("words", "rowid"), ("standings", "unit"), ("frames", "id"),
    ):  # fmt: skip
        db.execute(f"DELETE FROM {table} WHERE {column} = ?", (frame,))
    return albums


ENTER_FILE = (
    "INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns, media, width, height, former_name, read_at)"
    " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (path) DO UPDATE SET bytes = excluded.bytes,"
    " frame = coalesce(files.frame, excluded.frame), sha256 = excluded.sha256, mtime_ns = excluded.mtime_ns, seen_ns = 0,"
    " read_at = excluded.read_at"
)


def file_row(frame: int | None, file: NewFile) -> tuple[object, ...]:
    """What `ENTER_FILE` enters.

    Its content was just written or read, to know its digest: that is the first reading of the library's own copy.
    """
    return (
        frame, file.role, file.path, collision_key(file.path), file.bytes, file.sha256, file.mtime_ns,
        file.media, file.width, file.height, file.former_name, now_seconds(),
    )  # fmt: skip


def enter_file(db: sqlite3.Connection, frame: int | None, file: NewFile) -> int:
    """Enter a file, or what a known one has become; returns its number, which stays the same."""
    return int(db.execute(f"{ENTER_FILE} RETURNING id", file_row(frame, file)).fetchone()[0])


def add_claims(
    db: sqlite3.Connection, frame: int, told: str, claims: Iterable[Claim], *, beneath: bool = False
) -> bool:
    """Enter claims told by one file or order; says whether anything was new. See `Heard` for what is told `beneath`."""
    heard = Heard(
        (Claim(row["field"], row["value"], row["source"]), row["told"])
        for row in db.execute("SELECT field, value, source, told FROM claims WHERE frame = ? ORDER BY rowid", (frame,))
    )
    heard.hear_all(claims, told, beneath=beneath)
    changed = heard.changed()
    db.executemany(ENTER_CLAIM, claim_rows(frame, changed))
    return bool(changed)


ENTER_CLAIM = "INSERT OR REPLACE INTO claims VALUES (?, ?, ?, ?, ?)"
"""One that is known becomes the latest."""


def claim_rows(frame: int, told: Iterable[tuple[Claim, str]]) -> list[tuple[int, str, str, str, str]]:
    return [(frame, claim.field, claim.value, claim.source, by) for claim, by in told]


def believed(field: Field) -> str:
    """SQL for the believed value of a field with one value, of `frames r`: null or "" where there is none. See `believe`."""
    ranks = " ".join(
        f"WHEN '{source}' THEN {ORDER.index('you' if source in HAND else source)}" for source in dict.fromkeys(ORDER)
    )
    latest = ", ".join(f"'{source}'" for source in RETELLERS)
    return (
        f"(SELECT value FROM claims WHERE frame = r.id AND field = '{field}' ORDER BY CASE source {ranks} END,"
        f" iif(source IN ({latest}), -rowid, rowid) LIMIT 1)"
    )


def claims_of(db: sqlite3.Connection, frame: int) -> list[Claim]:
    return [
        Claim(row["field"], row["value"], row["source"])
        for row in db.execute("SELECT field, value, source FROM claims WHERE frame = ? ORDER BY rowid", (frame,))
    ]


def is_bound(db: sqlite3.Connection, frame: int) -> bool:
    """Whether a frame's year was put away: then its files are not to change."""
    row = db.execute("SELECT 1 FROM bound JOIN frames ON bound.year = frames.year WHERE frames.id = ?", (frame,))
    return row.fetchone() is not None


def albums_of(db: sqlite3.Connection, frame: int) -> list[str]:
    """The titles of the albums that a frame is in."""
    return titles_by_frame(db, [frame]).get(frame, [])


def titles_by_frame(db: sqlite3.Connection, frames: Collection[int]) -> dict[int, list[str]]:
    """The titles of the albums that some frames are in; nothing for those that are in none."""
    found: dict[int, list[str]] = {}
    for frame, title in db.execute(
        "SELECT frame, title FROM album_frames JOIN albums ON albums.id = album"
        " WHERE frame IN (SELECT value FROM json_each(?)) ORDER BY title",
        (json.dumps(list(frames)),),
    ):
        found.setdefault(frame, []).append(title)
    return found


# What a frame is shown by: its original, or where that is a raw with a JPEG of the camera's beside it, that.
_SHOWN_BY = f"""
    SELECT frame, path, sha256 FROM files WHERE frame = ? AND role IN ('original', 'rendition') ORDER BY CASE
        WHEN role = 'original' AND media NOT IN {RAWS} THEN 0
        WHEN role = 'rendition' AND media = 'image/jpeg' THEN 1 WHEN role = 'original' THEN 2 ELSE 3 END, id LIMIT 1
"""
_OTHERS = """
    SELECT frame, path, sha256 FROM files WHERE frame = ? AND role IN ('original', 'rendition') AND path != ?
    ORDER BY role = 'original', id DESC
"""


@dataclass(frozen=True)
class ShownBy:
    """The file that a frame is shown by: its path in the library, and its digest."""

    frame: int
    path: str
    sha256: str


def shown_by(db: sqlite3.Connection, frame: int) -> ShownBy:
    return ShownBy(*db.execute(_SHOWN_BY, (frame,)).fetchone())


def shown_beside(db: sqlite3.Connection, one: ShownBy) -> ShownBy | None:
    """Another version of a frame to look at beside one: the latest that was made of it, else its original.

    A raw and the JPEG that its camera wrote, which are called the same, show one picture.
    """
    stem = one.path.rpartition(".")[0]
    others = (ShownBy(*row) for row in db.execute(_OTHERS, (one.frame, one.path)).fetchall())
    return next((other for other in others if other.path.rpartition(".")[0] != stem), None)


def versions_of(db: sqlite3.Connection, frame: int) -> list[ShownBy]:
    """What a frame is shown by, and what it is shown beside, if there is anything."""
    by = shown_by(db, frame)
    other = shown_beside(db, by)
    return [by] if other is None else [by, other]
