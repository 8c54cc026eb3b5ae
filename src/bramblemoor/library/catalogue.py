"""Frames in the ledger: adding them, their files and claims, and keeping what is believed and searched in step."""

import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass

from bramblemoor.disk.names import collision_key
from bramblemoor.frames.claims import HAND, ORDER, RETELLERS, TAKEN_AWAY, TAKEN_AWAY_BY, Claim, Facts, Field, believe
from bramblemoor.frames.moments import now_seconds, written_offset
from bramblemoor.frames.zones import offset_at
from bramblemoor.library.folding import plain
from bramblemoor.library.locations import NAME_AT


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
    kind = read_as if read_as in ("video", "other") else "photo"
    cursor = db.execute(
        "INSERT INTO frames (folder, name, kind, service, reference, arrived) VALUES (?, ?, ?, ?, ?, ?)",
        (folder, name, kind, service, reference, arrived),
    )
    assert cursor.lastrowid is not None
    return cursor.lastrowid


def drop_frame(db: sqlite3.Connection, frame: int) -> list[int]:
    """Let a frame go, with all that was claimed of it; its files must be another's, or nobody's. Returns the albums it was in."""
    albums = [row[0] for row in db.execute("SELECT DISTINCT album FROM album_frames WHERE frame = ?", (frame,))]
    db.execute("UPDATE albums SET cover = NULL WHERE cover = ?", (frame,))
    for table, column in (
        ("claims", "frame"), ("album_frames", "frame"), ("words", "rowid"), ("standings", "unit"), ("frames", "id"),
    ):  # fmt: skip
        db.execute(f"DELETE FROM {table} WHERE {column} = ?", (frame,))
    return albums


def enter_file(db: sqlite3.Connection, frame: int | None, file: NewFile) -> int:
    """Enter a file, or what a known one has become; returns its number, which stays the same.

    Its content was just written or read, to know its digest: that is the first reading of the library's own copy.
    """
    row = db.execute(
        "INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns, media, width, height, former_name, read_at)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (path) DO UPDATE SET bytes = excluded.bytes,"
        " frame = coalesce(files.frame, excluded.frame), sha256 = excluded.sha256, mtime_ns = excluded.mtime_ns, seen_ns = 0,"
        " read_at = excluded.read_at RETURNING id",
        (
            frame, file.role, file.path, collision_key(file.path), file.bytes, file.sha256, file.mtime_ns,
            file.media, file.width, file.height, file.former_name, now_seconds(),
        ),
    ).fetchone()  # fmt: skip
    return int(row[0])


# What a source may tell anew, where the latest word counts; of all other fields every value counts.
SINGLE = ("taken", "title", "caption", "position", "location", "favourite", "rating", "quality")


def add_claims(
    db: sqlite3.Connection, frame: int, told: str, claims: Iterable[Claim], *, beneath: bool = False
) -> bool:
    """Enter claims told by one file or order; says whether anything was new.

    Those `beneath` are kept, and what the same source said before of a field that has one value stays its latest word.
    """
    new = False
    for claim in claims:
        row = (frame, claim.field, claim.source, claim.value)
        known = db.execute(
            "SELECT 1 FROM claims WHERE frame = ? AND field = ? AND source = ? AND value = ?", row
        ).fetchone()
        if known:
            if beneath or _is_latest(db, frame, claim):
                continue
            # Said before, then something else, and now again: the latest word.
            db.execute("DELETE FROM claims WHERE frame = ? AND field = ? AND source = ? AND value = ?", row)
        latest = None
        if beneath and claim.field in SINGLE:
            latest = db.execute(
                "SELECT max(rowid) FROM claims WHERE frame = ? AND field = ? AND source = ?", row[:3]
            ).fetchone()[0]
        db.execute("INSERT INTO claims VALUES (?, ?, ?, ?, ?)", (frame, claim.field, claim.value, claim.source, told))
        if latest is not None:
            db.execute("UPDATE claims SET rowid = (SELECT max(rowid) + 1 FROM claims) WHERE rowid = ?", (latest,))
        new = True
    return new


def _is_latest(db: sqlite3.Connection, frame: int, claim: Claim) -> bool:
    """Whether nothing was said since that a known claim, now said again, must outweigh."""
    by_hand = claim.source in HAND
    sources = HAND if by_hand else (claim.source,)
    if by_hand and (claim.field in TAKEN_AWAY or claim.field in TAKEN_AWAY_BY):
        kept = TAKEN_AWAY.get(claim.field, claim.field)
        fields = [kept, TAKEN_AWAY_BY[kept]]
        condition, values = " AND value = ?", [claim.value]
    elif by_hand or claim.source == "service":
        if claim.field not in SINGLE:
            return True
        fields, condition, values = [claim.field], "", []
    else:
        return True
    latest = db.execute(
        f"SELECT field, value FROM claims WHERE frame = ? AND field IN ({', '.join('?' * len(fields))})"
        f" AND source IN ({', '.join('?' * len(sources))}){condition} ORDER BY rowid DESC LIMIT 1",
        (frame, *fields, *sources, *values),
    ).fetchone()
    return (latest["field"], latest["value"]) == (claim.field, claim.value)


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
    rows = db.execute(
        "SELECT title FROM albums JOIN album_frames ON album = albums.id WHERE frame = ? ORDER BY title", (frame,)
    )
    return [row[0] for row in rows]


def _with_the_maps_word(db: sqlite3.Connection, frame: int) -> Facts:
    """What is believed of a frame; where its position is known, and nobody tells more, the map claims the offset of a local
    time, and the user's own map of locations a name.
    """
    claims = claims_of(db, frame)
    others = [claim for claim in claims if claim.source != "map"]
    facts = believe(others)
    told: list[Claim] = []
    if facts.position and facts.taken and facts.taken.local and facts.taken.offset is None and not facts.conflicts:
        offset = offset_at(*facts.position, facts.taken.local)
        told = [Claim("offset", written_offset(offset), "map")] if offset is not None else []
    if facts.position and not facts.location:
        name = db.execute(f"SELECT {NAME_AT}(?, ?)", facts.position).fetchone()[0]
        told += [Claim("location", name, "map")] if name else []
    if [claim for claim in claims if claim.source == "map"] != told:
        db.execute("DELETE FROM claims WHERE frame = ? AND source = 'map'", (frame,))
        add_claims(db, frame, "", told)
    return believe([*others, *told]) if told else facts


def choose_shown(db: sqlite3.Connection, frame: int) -> Facts:
    """Weigh a frame's claims anew, and bring its row and its words for searching in step."""
    facts = _with_the_maps_word(db, frame)
    latitude, longitude = facts.position or (None, None)
    shown = facts.taken.shown if facts.taken else None
    db.execute(
        "UPDATE frames SET taken = ?, taken_by = ?, shown = ?, year = ?, title = ?, caption = ?, location = ?, latitude = ?,"
        " longitude = ?, favourite = ?, reduced = ? WHERE id = ?",
        (
            str(facts.taken) if facts.taken else None, facts.taken_by, shown.isoformat() if shown else None,
            shown.year if shown else None, facts.title, facts.caption, facts.location, latitude, longitude,
            facts.favourite, facts.reduced, frame,
        ),
    )  # fmt: skip
    folder, name = db.execute("SELECT folder, name FROM frames WHERE id = ?", (frame,)).fetchone()
    db.execute("DELETE FROM words WHERE rowid = ?", (frame,))
    db.execute(
        "INSERT INTO words (rowid, name, title, caption, keywords, people, location, albums, folder)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            frame,
            *map(plain, (
                name, facts.title, facts.caption, "; ".join(facts.keywords), "; ".join(facts.people), facts.location,
                "; ".join(albums_of(db, frame)), folder,
            )),
        ),
    )  # fmt: skip
    return facts
