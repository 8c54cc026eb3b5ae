"""Which files are one frame: edits and clips go to the still that the evidence points to, never by the order of files.

The evidence, the most telling first: an identifier that a still and its clip have in common, a record that is meant for the
file alone, the same moment, then the name. What points away from every original is a frame of its own.
"""

import json
import sqlite3
from collections.abc import Iterator
from itertools import groupby

from bramblemoor.exports.pairing import AGREES, BY_NAME, CONTRADICTS, SILENT, moments_agree
from bramblemoor.exports.templates import folded
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.sniff import same_ending

# The distinct contents, those of one name together; by name and content, so that the order of parts plays no part.
_CONTENTS = """
    SELECT u.entry, u.sha256, e.name, bm_folded(e.frame_key) AS key, e.frame_key, e.suffix, e.ending, e.picture_kind,
    e.media, e.taken, e.content_ids FROM units u JOIN entries e ON e.id = u.entry ORDER BY key, e.name, u.sha256, u.entry
"""
# Records that name one file of a group, and none of its originals.
_OWN = """
    SELECT c.record, coalesce(r.taken, '') AS taken FROM candidates c JOIN records r ON r.id = c.record JOIN entries p ON
    p.id = c.picture WHERE c.picture = ? AND c.how <= ? AND r.family != 'xmp'
    AND r.sha256_said IN ('', p.sha256) AND r.size_said IN (0, p.size)
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND o.how <= c.how AND o.picture IN ({originals}))
"""
_STILL_FIRST = ("image/heic", "image/heif", "image/x-raw", "image/dng", "image/jpeg")
"""Of stills between which nothing else tells, a camera's own format has the clip, and is what was edited."""


def group_frames(sheet: Worksheet) -> None:
    """Give every distinct content its frame, named by the entry of its original, and its role; fill `own`."""
    referred = _by_reference(sheet)
    rows = [row for row in sheet.db.execute(_CONTENTS).fetchall() if row["entry"] not in referred]
    for _, members in groupby(rows, key=lambda row: row["key"]):
        for original, others in _frames(sheet, list(members)):
            _enter(sheet, original, others)
    for entry, (original_entry, role) in referred.items():
        _note_own(sheet, entry, _own_records(sheet, entry, [original_entry]))
        sheet.db.execute(
            "UPDATE units SET role = ?, frame = (SELECT frame FROM units WHERE entry = ?) WHERE entry = ?",
            (role, original_entry, entry),
        )


def _by_reference(sheet: Worksheet) -> dict[int, tuple[int, str]]:
    """Edits and clips that records tell of: the unit of each, that of its original, and its role."""
    db = sheet.db
    found: dict[int, tuple[int, str]] = {}
    for row in db.execute(
        "SELECT r.id, refers, e.name FROM records r JOIN entries e ON e.id = r.entry WHERE refers != '[]'"
        " ORDER BY e.name, r.number"
    ).fetchall():
        mine = _unit_of_record(db, row["id"])
        for what, name in json.loads(row["refers"]):
            other = _unit_called(db, name, row["name"].rpartition("/")[0])
            if mine is None or other is None or mine == other:
                continue
            edit, original = (mine, other) if what.endswith("_of") else (other, mine)
            found[edit] = (original, "clip" if what.startswith("clip") else "rendition")
    return {edit: (original, role) for edit, (original, role) in found.items() if original not in found}


def _unit_of_record(db: sqlite3.Connection, record: int) -> int | None:
    """The content that a record speaks of, where its best candidates are one."""
    rows = db.execute(
        "SELECT DISTINCT u.entry, c.how FROM candidates c JOIN entries p ON p.id = c.picture JOIN units u ON u.sha256 = p.sha256"
        " WHERE c.record = ? ORDER BY c.how, c.rank LIMIT 2",
        (record,),
    ).fetchall()
    return rows[0]["entry"] if len(rows) == 1 or (rows and rows[0]["how"] < rows[1]["how"]) else None


def _unit_called(db: sqlite3.Connection, name: str, folder: str) -> int | None:
    """The one content that goes by a name: a record's reference, an entry's path or its end, or the name that a record tells.

    A bare name speaks first of what lies beside the document, in `folder`.
    """
    told = db.execute("SELECT id FROM records WHERE reference = ? AND reference != '' LIMIT 2", (name,)).fetchall()
    if len(told) == 1:
        return _unit_of_record(db, told[0]["id"])
    for query in (
        "SELECT DISTINCT u.entry FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.kind = 'picture'"
        " AND p.name IN (:name, :folder || '/' || :name) ORDER BY p.name != :name",
        "SELECT DISTINCT u.entry FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.kind = 'picture'"
        " AND p.base = bm_base(:folded) AND substr('/' || p.folded, -length(:folded) - 1) = '/' || :folded",
    ):
        found = db.execute(query, {"name": name, "folder": folder, "folded": folded(name)}).fetchmany(2)
        if found:
            return found[0]["entry"] if len(found) == 1 else None
    told = db.execute("SELECT id FROM records WHERE told = ? LIMIT 2", (folded(name),)).fetchall()
    return _unit_of_record(db, told[0]["id"]) if len(told) == 1 else None


def _frames(sheet: Worksheet, group: list[sqlite3.Row]) -> Iterator[tuple[sqlite3.Row, list[tuple[sqlite3.Row, str]]]]:
    """The originals of a group of files of one name, each with its renditions and clips."""
    stills = [row for row in group if row["picture_kind"] != "video" and not row["suffix"]]
    films = [row for row in group if row["picture_kind"] == "video" and not row["suffix"]]
    originals = stills or films
    if not originals:  # only edits came: the first by name stands for the others
        first = min(group, key=lambda row: (row["picture_kind"] == "video", len(row["suffix"] or ""), row["name"]))
        originals = [first]
    found: dict[int, list[tuple[sqlite3.Row, str]]] = {row["entry"]: [] for row in originals}
    alone = []
    for row in group:
        if row["entry"] in found:
            continue
        home = _home(sheet, row, originals)
        if home is None:
            alone.append(row)
        else:
            is_clip = row["picture_kind"] == "video" and home["picture_kind"] != "video"
            found[home["entry"]].append((row, "clip" if is_clip else "rendition"))
    for row in originals:
        yield row, found[row["entry"]]
    for row in alone:
        yield row, []


def _home(sheet: Worksheet, row: sqlite3.Row, originals: list[sqlite3.Row]) -> sqlite3.Row | None:
    """The original that a file belongs to, None where it is one itself."""
    ids = set(row["content_ids"].split())
    sharing = [one for one in originals if ids & set(one["content_ids"].split())]
    if len(sharing) == 1:
        return sharing[0]
    own = _own_records(sheet, row["entry"], [one["entry"] for one in originals])
    moments = {one["entry"]: _moment(sheet, row, own, one) for one in originals}
    best = min(originals, key=lambda one: (moments[one["entry"]], *_likeness(row, one)))
    moment = moments[best["entry"]]
    if moment == CONTRADICTS or (own and moment != AGREES):
        return None
    _note_own(sheet, row["entry"], own)
    return best


def _note_own(sheet: Worksheet, entry: int, own: list[tuple[int, str]]) -> None:
    sheet.db.executemany("INSERT OR IGNORE INTO own VALUES (?, ?)", [(entry, record) for record, _ in own])


def _own_records(sheet: Worksheet, entry: int, originals: list[int]) -> list[tuple[int, str]]:
    """The records that are meant for a file alone, and for none of its possible originals: (number, date that it tells)."""
    marks = ", ".join("?" * len(originals))
    found = sheet.db.execute(_OWN.format(originals=marks), (entry, BY_NAME, *originals)).fetchall()
    return [(one["record"], one["taken"]) for one in found]


def _moment(sheet: Worksheet, row: sqlite3.Row, own: list[tuple[int, str]], original: sqlite3.Row) -> int:
    """Whether a file was taken at the same moment as an original: by what both say themselves, else by what their records say."""
    if row["taken"] and original["taken"]:
        return moments_agree(row["taken"], original["taken"])
    told = next((taken for _, taken in own if taken), "")
    if not told:
        return SILENT
    if original["taken"]:
        return moments_agree(told, original["taken"])
    other = sheet.db.execute(
        "SELECT r.taken FROM candidates c JOIN records r ON r.id = c.record WHERE c.picture = ? AND r.taken IS NOT NULL"
        " AND r.family != 'xmp' ORDER BY c.how, c.rank, r.taken LIMIT 1",
        (original["entry"],),
    ).fetchone()
    return moments_agree(told, other["taken"]) if other else SILENT


def _likeness(row: sqlite3.Row, original: sqlite3.Row) -> tuple[int, bool, bool, int, str, str]:
    """How well an original fits a file by its kind and name, less is better; the name last, so that no two are equal."""
    media = original["media"] or ""
    return (
        original["picture_kind"] != row["picture_kind"] and row["picture_kind"] != "video",
        not same_ending(row["ending"] or "", original["ending"] or ""),
        row["frame_key"] != original["frame_key"],
        _STILL_FIRST.index(media) if media in _STILL_FIRST else len(_STILL_FIRST),
        original["name"],
        original["sha256"],
    )


def _enter(sheet: Worksheet, original: sqlite3.Row, others: list[tuple[sqlite3.Row, str]]) -> None:
    before = sheet.db.execute(
        "SELECT frame FROM units WHERE sha256 = ? AND frame IS NOT NULL", (original["sha256"],)
    ).fetchone()
    frame = before[0] if before else original["entry"]
    for row, role in [(original, "twin" if before else "original"), *others]:
        sheet.db.execute("UPDATE units SET frame = ?, role = ? WHERE entry = ?", (frame, role, row["entry"]))
