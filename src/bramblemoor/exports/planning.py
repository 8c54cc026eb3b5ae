"""From extracted entries to a plan: which files are one frame, what is believed of it, and where each is to lie."""

import json
import sqlite3
from collections.abc import Collection, Iterable

from bramblemoor.disk.names import collision_key, safe_name
from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.earlier_exports import Earlier, keep_apart, refuse_strangers
from bramblemoor.exports.grouping import group_frames
from bramblemoor.exports.pairing import find_candidates, pair
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.templates import true_name
from bramblemoor.exports.worksheet import Worksheet, decode_claims, digest_of_key
from bramblemoor.frames.claims import Claim, believed_moment
from bramblemoor.frames.moments import moment_in_name
from bramblemoor.library.home import Library
from bramblemoor.library.layout import folder_for
from bramblemoor.library.receiving import free_paths
from bramblemoor.running import Progress, Stage, portions

# A content delivered several times was staged and read once, perhaps as a copy for an album in an earlier part; it belongs
# to the frame of the entry that is no copy.
_READ = """
    UPDATE entries AS e SET media = s.media, picture_kind = s.picture_kind, width = s.width, height = s.height,
    taken = s.taken, claims = s.claims, content_ids = s.content_ids
    FROM entries AS s WHERE e.kind = 'picture' AND NOT e.staged AND s.staged AND s.sha256 = e.sha256
"""
# Each content once; in a folder tree once for each folder. Of several entries, one with a sidecar of its own stands for it.
_UNITS = """
    INSERT INTO units (entry, sha256, staged_as)
    SELECT id, sha256, (SELECT min(s.id) FROM entries s WHERE s.sha256 = ranked.sha256 AND s.staged) FROM (
        SELECT id, sha256, place, row_number() OVER (PARTITION BY sha256, place ORDER BY is_copy, lone, name, id) AS rank,
        row_number() OVER (PARTITION BY sha256 ORDER BY is_copy, lone, name, id) AS first
        FROM (SELECT id, name, sha256, is_copy, bm_tree(name, is_copy) AS place, NOT EXISTS (SELECT 1 FROM wanted w
            JOIN entries s ON s.name = w.name AND s.kind = 'sidecar' WHERE w.picture = e.id) AS lone
            FROM entries e WHERE kind = 'picture')
    ) AS ranked WHERE rank = 1 AND (place != '' OR first = 1)
"""

PLANNED = "planned"
AT_ONCE = 128
"""Frames that are asked for at once: asking for each by itself takes longer than what is done with it."""
# By name and content: in whatever order the parts came, the same pictures get the same names.
FRAMES = """
    SELECT frame, max(here) IS NULL AS is_new, max(iif(entry = frame, path, NULL)) AS path, min(picture_kind) AS picture_kind
    FROM units JOIN entries ON id = frame GROUP BY frame
    ORDER BY min(frame_key), min(name), min(entries.sha256), frame
"""


def plan(sheet: Worksheet, parcel: Parcel, library: Library, progress: Progress) -> None:
    """Decide for every distinct content whose frame it is and where it goes, once; then the worksheet notes PLANNED."""
    with sheet.changing() as db:
        progress(Stage("pairing", "entries"), 0, db.execute("SELECT count(*) FROM entries").fetchone()[0])
        _gather(sheet, parcel.dialect)
        units = db.execute("SELECT units.*, name FROM units JOIN entries ON id = entry")
        here = [(known, row["entry"]) for row in units if (known := _known(library, parcel.service, row)) is not None]
        db.executemany("UPDATE units SET here = ? WHERE entry = ?", here)
        earlier = Earlier(library.db, parcel.service)
        refuse_strangers(sheet, earlier)
        _match(sheet, parcel.dialect)
        keep_apart(sheet, earlier)
        count, whole = 0, db.execute("SELECT count(DISTINCT frame) FROM units").fetchone()[0]
        for frames in portions((row[0] for row in db.execute(FRAMES)), AT_ONCE):
            contents, records = units_of(sheet, frames), records_of(sheet, frames)
            for frame in frames:
                _place_frame(sheet, parcel, library, contents[frame], records[frame])
            count += len(frames)
            progress(Stage("planning", "frames"), count, whole)
        sheet.put(PLANNED, "yes")


def join(sheet: Worksheet, dialect: Dialect) -> None:
    """Group what was extracted to frames, and pair pictures with records, as if nothing were known yet."""
    _gather(sheet, dialect)
    _match(sheet, dialect)


def _gather(sheet: Worksheet, dialect: Dialect) -> None:
    """Find the distinct contents, and which records may be whose."""

    def tree_place(name: str, is_copy: int) -> str:
        folder = None if is_copy else dialect.tree_folder(name)
        return "" if folder is None else "/" + folder

    sheet.db.create_function("bm_tree", 2, tree_place, deterministic=True)
    sheet.db.execute(_READ)
    sheet.db.execute(_UNITS)
    _one_of_each(sheet)
    find_candidates(sheet)


def _match(sheet: Worksheet, dialect: Dialect) -> None:
    group_frames(sheet, dialect)
    pair(sheet, dialect)


# What came several times, in several parts, is one record: of a sidecar under one name; of an index, where it says more of its
# picture than a bare name. The same line twice in one document stays two.
_FIRST_OF_EACH = """
    SELECT min(id) FROM (SELECT id, source, {columns}, row_number() OVER (PARTITION BY entry, {columns} ORDER BY id) AS time
        FROM (SELECT r.*, {source} AS source FROM {table} r JOIN entries e ON e.id = r.entry))
    GROUP BY source, time, {columns}
"""


def _one_of_each(sheet: Worksheet) -> None:
    records = _FIRST_OF_EACH.format(
        table="records",
        columns="family, path, file_name, reference, sha256_said, size_said, claims, albums, troubles, content",
        source="iif(family = 'index' AND (path != '' OR reference != ''), '', e.name)",
    )
    albums = _FIRST_OF_EACH.format(
        table="described",
        columns="title, description, reference, members, cover",
        source="iif(reference != '', '', e.name)",
    )
    sheet.db.execute(f"DELETE FROM records WHERE id NOT IN ({records})")
    sheet.db.execute(f"DELETE FROM described WHERE id NOT IN ({albums})")


def came_as(service: str, name: str) -> Claim:
    """Under which name a frame's file came: a frame keeps all of them."""
    return Claim("came_as", f"{service}: {name}", "service")


def _known(library: Library, service: str, row: sqlite3.Row) -> int | None:
    """The frame in the ledger that has this content. An empty file is the same where it came under the same name."""
    digest = digest_of_key(row["sha256"])
    query = "SELECT frame FROM files WHERE sha256 = ? AND frame IS NOT NULL"
    values = [digest]
    if digest != row["sha256"]:
        query += " AND frame IN (SELECT frame FROM claims WHERE field = 'came_as' AND value = ?)"
        values.append(came_as(service, row["name"]).value)
    found = library.db.execute(query, values).fetchone()
    return int(found[0]) if found else None


def units_of(sheet: Worksheet, frames: Collection[int]) -> dict[int, list[sqlite3.Row]]:
    """All contents of some frames, each named by its original's entry; the original first."""
    return _by_frame(
        frames,
        sheet.db.execute(
            "SELECT u.*, e.name, e.media, e.width, e.height, e.size, e.picture_kind, e.suffix, e.ending, e.claims"
            " FROM units u JOIN entries e ON e.id = u.entry WHERE u.frame IN (SELECT value FROM json_each(?))"
            " ORDER BY u.role != 'original', e.name, u.sha256, u.entry",
            (json.dumps(list(frames)),),
        ),
    )


def records_of(sheet: Worksheet, frames: Collection[int]) -> dict[int, list[sqlite3.Row]]:
    """The records of all files of some frames, the least particular first.

    Those that are meant for a rendition or clip alone (`is_own`) come first: what they say is kept, and the original's word
    counts.
    """
    return _by_frame(
        frames,
        sheet.db.execute(
            "SELECT DISTINCT r.*, units.frame, s.name, EXISTS (SELECT 1 FROM own WHERE own.record = r.id) AS is_own"
            " FROM units JOIN entries p ON p.sha256 = units.sha256 JOIN pairs ON picture = p.id"
            " JOIN records r ON r.id = record JOIN entries s ON s.id = r.entry"
            " WHERE units.frame IN (SELECT value FROM json_each(?))"
            " ORDER BY is_own DESC, family != 'index', s.name, r.number, r.claims",
            (json.dumps(list(frames)),),
        ),
    )


def names_of(sheet: Worksheet, frames: Collection[int]) -> dict[int, list[str]]:
    """The names under which the files of some frames came."""
    found = _by_frame(
        frames,
        sheet.db.execute(
            "SELECT u.frame, e.name FROM units u JOIN entries e ON e.sha256 = u.sha256"
            " WHERE u.frame IN (SELECT value FROM json_each(?)) AND e.kind = 'picture' ORDER BY e.id",
            (json.dumps(list(frames)),),
        ),
    )
    return {frame: list(dict.fromkeys(row["name"] for row in rows)) for frame, rows in found.items()}


def _by_frame(frames: Collection[int], rows: Iterable[sqlite3.Row]) -> dict[int, list[sqlite3.Row]]:
    found: dict[int, list[sqlite3.Row]] = {frame: [] for frame in frames}
    for row in rows:
        found[row["frame"]].append(row)
    return found


def original_of(units: Iterable[sqlite3.Row]) -> sqlite3.Row:
    """Of the contents of a frame the one that it is named by."""
    return next(unit for unit in units if unit["entry"] == unit["frame"])


def own_claims(claims: str, name: str) -> list[Claim]:
    """What an original says itself, as the worksheet has it, and the name of its entry."""
    named = moment_in_name(name.rpartition("/")[2])
    return decode_claims(claims) + ([Claim("taken", str(named), "name")] if named else [])


def told_reference(records: Iterable[sqlite3.Row]) -> str:
    """How a frame is called at its service, by its records; "" where none tells."""
    return next((record["reference"] for record in records if record["reference"] and not record["is_own"]), "")


def _place_frame(
    sheet: Worksheet, parcel: Parcel, library: Library, group: list[sqlite3.Row], records: list[sqlite3.Row]
) -> None:
    """Find paths for the files of a frame: in its folder of the tree, beside those that are here already, or by date."""
    known = next((row["here"] for row in group if row["here"] is not None), None)
    beside = None
    if known is not None:
        beside = library.db.execute("SELECT folder, name FROM frames WHERE id = ?", (known,)).fetchone()
    told_of_it = [claim for one in records for claim in decode_claims(one["claims"])]
    original = original_of(group)
    taken, _ = believed_moment([*own_claims(original["claims"], original["name"]), *told_of_it])
    named = next((record["file_name"] for record in records if record["file_name"] and not record["is_own"]), "")
    told = true_name(named, group[0]["name"].rpartition("/")[2], group[0]["ending"] or "") if named else ""
    by_folder: dict[str, list[sqlite3.Row]] = {}
    for row in group:
        if row["here"] is not None:
            continue
        real = parcel.dialect.tree_folder(row["name"])
        if real is not None:
            folder = "/".join(["pictures", *(safe_name(step) for step in real.split("/") if step)])
        elif beside is not None:
            folder = beside["folder"]
        else:
            folder = folder_for(library.settings.naming.flat, taken, parcel.service)
        by_folder.setdefault(folder, []).append(row)
    for folder, rows in by_folder.items():
        keeps = parcel.dialect.tree_folder(rows[0]["name"]) is not None
        # What comes later to an original that is here is called after that one, whatever number it has got.
        here = beside["name"] if beside is not None and group[0]["here"] is not None else ""
        wanted = {row["entry"]: _told_name(row, here or ("" if keeps else told)) for row in rows}
        _place_files(sheet, library, folder, rows, wanted, taken.nanoseconds if taken else None)


def _place_files(
    sheet: Worksheet,
    library: Library,
    folder: str,
    rows: list[sqlite3.Row],
    wanted: dict[int, str],
    mtime_ns: int | None,
) -> None:
    def is_planned(key: str) -> bool:
        return sheet.db.execute("SELECT 1 FROM units WHERE collision = ?", (key,)).fetchone() is not None

    digests = {row["entry"]: digest_of_key(row["sha256"]) for row in rows}
    for entry, path in free_paths(library, folder, wanted, digests, is_planned).items():
        former = wanted[entry] if path.rpartition("/")[2] != wanted[entry] else ""
        sheet.db.execute(
            "UPDATE units SET path = ?, collision = ?, mtime_ns = ?, former_name = ? WHERE entry = ? AND here IS NULL",
            (path, collision_key(path), mtime_ns, former, entry),
        )


def _told_name(row: sqlite3.Row, told: str) -> str:
    """The name a picture had before the service mangled it, where its frame's sidecar tells; else that of its entry."""
    entry_name: str = row["name"].rpartition("/")[2]
    if not told or row["role"] in ("original", "twin"):
        return told or entry_name
    if row["role"] in ("document", "voice note") or (row["role"] == "rendition" and not row["suffix"]):
        return entry_name  # it stands beside its picture, or is an edit that a record tells of, not its name
    return (told.rpartition(".")[0] or told) + str(row["suffix"]) + str(row["ending"])
