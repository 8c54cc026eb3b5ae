"""Which files are one frame: edits and clips go to the still that the evidence points to, never by the order of files.

The evidence, the most telling first: an identifier that a still and its clip have in common, a record that is meant for the
file alone, the same moment, then the name. What points away from every original is a frame of its own.
"""

import json
import sqlite3
from heapq import heapify, heappop, heappush
from typing import NamedTuple

from bramblemoor.disk.names import collision_key
from bramblemoor.exports.dialect import Dialect, composed
from bramblemoor.exports.evidence import (
    BY_NAME,
    CALLED,
    INSIDE,
    IS_NUMBERED_OTHER,
    TELLING_BESIDE,
    TOGETHER,
    How,
    is_one_folder,
    moments_agree,
)
from bramblemoor.exports.templates import folded
from bramblemoor.exports.worksheet import Worksheet, digest_of_key, stem_of
from bramblemoor.frames.kinds import PICTURES, Family, family, family_by_name, same_ending
from bramblemoor.frames.moments import AGREES, CONTRADICTS, SILENT

# The distinct contents, those of one name together; by name and content, so that the order of parts plays no part.
_CONTENTS = """
    SELECT u.entry, u.sha256, e.name, e.frame_key, e.suffix, e.ending, e.picture_kind, e.media, e.taken, e.content_ids
    FROM units u JOIN entries e ON e.id = u.entry ORDER BY e.name, u.sha256, u.entry
"""
_WAYS = tuple(map(int, (how for how in How if how < How.AFAR)))
# Whether a picture q that a record may be of is another than p: its own edits and clips are not.
_IS_ANOTHER = """
    q.sha256 != p.sha256 AND NOT bm_contradict(r.taken, q.taken) AND q.frame_key != bm_stem(p.name) || char(0)
    AND NOT (bm_stem(q.name) = bm_stem(p.name) AND q.picture_kind = 'video' AND p.picture_kind != 'video')
"""
# Records that name one file of a group better than any other, and none of its originals, nor what ends otherwise. An XMP packet
# is such only by what it says: editors put one beside whatever they write. Where names are cut, many have the same.
_OWN = f"""
    SELECT c.record, coalesce(r.taken, '') AS taken, r.family = 'xmp' AS is_packet,
    r.sha256_said != '' OR r.size_said > 0 OR c.how IN ({How.PATH}, {How.BESIDE}) AS is_proven, {TOGETHER} AS is_beside,
    r.told != '' OR instr(s.folded, bm_stem(p.base)) > 0 AS is_whole,
    EXISTS (SELECT 1 FROM candidates o JOIN entries q ON q.id = o.picture
        WHERE o.record = c.record AND (o.how, o.rank) <= (c.how, c.rank)
        AND (r.told != p.base OR r.told = q.base) AND {_IS_ANOTHER}
    ) AS is_others,
    EXISTS (SELECT 1 FROM candidates o JOIN entries q ON q.id = o.picture
        WHERE o.record = c.record AND o.how <= {BY_NAME} AND o.picture NOT IN ({{originals}}) AND {_IS_ANOTHER}
    ) AS has_rival, c.how, coalesce(p.taken, '') AS shot
    FROM candidates c JOIN records r ON r.id = c.record JOIN entries p ON p.id = c.picture
    JOIN entries s ON s.id = r.entry WHERE c.picture = ?1 AND c.how IN {{ways}}
    AND (r.told = '' OR r.path != '' OR c.how > {BY_NAME} OR {CALLED})
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND o.how < c.how)
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND (o.how, o.rank) <= (c.how, c.rank)
        AND o.picture IN ({{originals}}))
    ORDER BY c.how, c.rank, r.taken, r.family
"""
_STILL_FIRST = ("image/heic", "image/heif", "image/x-raw", "image/dng", "image/jpeg")
"""Of stills between which nothing else tells, a camera's own format has the clip, and is what was edited."""


class _File(NamedTuple):
    """A content, under the name that what belongs together has in common, and the suffix that its own has besides."""

    row: sqlite3.Row
    frame_key: str
    suffix: str

    @property
    def key(self) -> str:
        return folded(self.frame_key)

    @property
    def is_film(self) -> bool:
        return _is_film(self.row)

    def by_whole_name(self) -> "_File":
        """The same file, of which the suffix is part of its name."""
        stem, mark, number = self.frame_key.rpartition("\0")
        return _File(self.row, stem + self.suffix + mark + number, "")


class _Own(NamedTuple):
    """A record that is meant for one file alone, and the date that it tells; or for others of that name as well.

    One that is unlikely has another date, and nothing but the file's name, which another may have: elsewhere, by its number, or
    where names are cut.
    """

    record: int
    taken: str
    is_packet: bool
    is_others: bool
    is_unlikely: bool


def _family(row: sqlite3.Row) -> Family:
    return family(row["name"], row["media"] or "")


def _is_film(row: sqlite3.Row) -> bool:
    """Whether it is a film: by its name where its beginning tells nothing."""
    return row["picture_kind"] == "video" or (row["picture_kind"] == "other" and _family(row) == "film")


def group_frames(sheet: Worksheet, dialect: Dialect) -> None:
    """Give every distinct content its frame, named by the entry of its original, and its role; fill `own`."""
    sheet.db.create_function(
        "bm_contradict", 2, lambda one, other: moments_agree(one or "", other or "") == CONTRADICTS, deterministic=True
    )
    contents = sheet.db.execute(_CONTENTS).fetchall()
    referred = _by_reference(sheet)
    beside = _beside(contents)
    groups: dict[str, list[_File]] = {}
    for row in contents:
        if row["entry"] not in referred and row["entry"] not in beside:
            file = _File(row, row["frame_key"], row["suffix"] or "")
            groups.setdefault(file.key, []).append(file)
    # A picture that is a frame of its own, though its name ends like an edit's, may have edits and clips: the longer names.
    keys = [(len(key), key) for key in groups]
    heapify(keys)
    while keys:
        _, key = heappop(keys)
        for file in _group(sheet, _read_otherwise(groups, key, dialect)):
            as_it_stands = file._replace(frame_key=stem_of(file.row["name"]) + "\0")
            if file.key not in groups and as_it_stands.key in groups:  # what looks like a counter is part of the name
                file = as_it_stands
            if file.key not in groups:
                heappush(keys, (len(file.key), file.key))
            groups.setdefault(file.key, []).append(file)
    for entry, (original_entry, role) in (referred | beside).items():
        if entry in referred:
            _note_own(sheet, entry, _own_records(sheet, entry, [original_entry]))
        sheet.db.execute(
            "UPDATE units SET role = ?, frame = (SELECT frame FROM units WHERE entry = ?) WHERE entry = ?",
            (role, original_entry, entry),
        )


def _beside(contents: list[sqlite3.Row]) -> dict[int, tuple[int, str]]:
    """What is no picture and stands beside one: the unit of each, that of its picture, and its role.

    It is called as the picture, with an ending behind that or in place of the picture's own: just so, or as that is spelled
    otherwise. Of several alike a raw; where nothing tells it stands by itself.
    """
    aside = [row for row in contents if row["picture_kind"] == "other" or family_by_name(row["name"]) == "document"]
    aside = [row for row in aside if _family(row) not in PICTURES]
    if not aside:
        return {}
    names: dict[tuple[bool, str], list[sqlite3.Row]] = {}
    apart = {row["entry"] for row in aside}
    for row in contents:
        if row["entry"] not in apart:
            for name in (row["name"], stem_of(row["name"])):
                names.setdefault((True, name), []).append(row)
                names.setdefault((False, collision_key(name)), []).append(row)
    found = {}
    for row in aside:
        stem = stem_of(row["name"])
        pictures = names.get((True, stem)) or names.get((False, collision_key(stem))) or []
        if len(pictures) > 1:
            pictures = [one for one in pictures if _family(one) == "raw"]
        if len(pictures) == 1:
            found[row["entry"]] = (pictures[0]["entry"], "voice note" if _family(row) == "sound" else "document")
    return found


def _read_otherwise(groups: dict[str, list[_File]], key: str, dialect: Dialect) -> list[_File]:
    """Take a group from those to come. Edits whose original did not come go to one that fits what their names say in another
    reading.
    """
    group = groups.pop(key)
    if not all(file.suffix for file in group):
        return group
    staying = []
    for file in group:
        readings = [_File(file.row, reading.frame, reading.suffix) for reading in dialect.readings(file.row["name"])]
        other = next((one for one in readings if not one.suffix and one.key in groups), None)
        if other is None:
            staying.append(file)
        else:
            groups[other.key].append(other)
    return staying


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
            other = _unit_called(db, name, row["name"].rpartition("/")[0], row["id"])
            if mine is None or other is None or mine == other:
                continue
            edit, original = (mine, other) if what.endswith("_of") else (other, mine)
            found[edit] = (original, "clip" if what.startswith("clip") else "rendition")
    return {edit: (original, role) for edit, (original, role) in found.items() if original not in found}


def _unit_of_record(db: sqlite3.Connection, record: int) -> int | None:
    """The content that a record speaks of, where its best candidate is one: of a name that it alone tells, that very one."""
    rows = db.execute(
        f"WITH alone AS (SELECT {TELLING_BESIDE} = 1 FROM records r WHERE r.id = :record)"
        " SELECT DISTINCT u.entry, c.how, iif((SELECT * FROM alone), c.rank, 0) AS rank FROM candidates c"
        " JOIN entries p ON p.id = c.picture JOIN units u ON u.sha256 = p.sha256 JOIN records r ON r.id = c.record"
        f" WHERE c.record = :record AND c.how < :afar AND NOT {IS_NUMBERED_OTHER} ORDER BY c.how, 3 LIMIT 2",
        {"record": record, "afar": How.AFAR},
    ).fetchall()
    found = [(row["how"], row["rank"]) for row in rows]
    return rows[0]["entry"] if len(rows) == 1 or (rows and found[0] < found[1]) else None


def _unit_called(db: sqlite3.Connection, name: str, folder: str, record: int) -> int | None:
    """The one content that goes by a name: a record's reference, an entry's path or its end, or the name that a record tells.

    A bare name speaks first of what lies beside the document, in `folder`; of other folders as far as all that `record` tells.
    """
    told = db.execute("SELECT id FROM records WHERE reference = ? AND reference != '' LIMIT 2", (name,)).fetchall()
    if len(told) == 1:
        return _unit_of_record(db, told[0]["id"])
    for query in (
        "SELECT DISTINCT u.entry FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.kind = 'picture'"
        " AND p.name IN (:name, :folder || '/' || :name) ORDER BY p.name != :name",
        "SELECT DISTINCT u.entry FROM entries p JOIN units u ON u.sha256 = p.sha256 JOIN records r ON r.id = :record"
        " WHERE p.kind = 'picture' AND p.base = bm_base(:folded)"
        f" AND substr('/' || p.folded, -length(:folded) - 1) = '/' || :folded AND (instr(:name, '/') OR {INSIDE})",
    ):
        found = db.execute(query, {"name": name, "folder": folder, "folded": folded(name), "record": record}).fetchmany(
            2
        )
        if found:
            return found[0]["entry"] if len(found) == 1 else None
    told = db.execute(
        "SELECT id FROM records WHERE told = ?1 AND scope = (SELECT scope FROM records WHERE id = ?2)"
        " UNION SELECT id FROM records WHERE as_told = ?1 AND scope = (SELECT scope FROM records WHERE id = ?2) LIMIT 2",
        (folded(name), record),
    ).fetchall()
    return _unit_of_record(db, told[0]["id"]) if len(told) == 1 else None


def _group(sheet: Worksheet, group: list[_File]) -> list[_File]:
    """Enter the frames of files of one name; returns those that are none's rendition or clip, as what they are by their whole
    names.
    """
    if not group:
        return []
    stills = [file for file in group if not file.is_film and not file.suffix]
    films = [file for file in group if file.is_film and not file.suffix]
    if not stills and not films:  # only edits came: the first by name stands for the others
        first = min(group, key=lambda file: (file.is_film, len(file.suffix), file.row["name"]))
        stills = [one for one in group if (one.is_film, one.suffix) == (first.is_film, first.suffix)]
    originals = [file.row for file in stills or films]
    found: dict[int, list[tuple[sqlite3.Row, str]]] = {row["entry"]: [] for row in originals}
    alone: list[_File] = []
    for file in sorted(group, key=lambda file: file.is_film):
        if file.row["entry"] in found:
            continue
        apart = file.by_whole_name()
        is_anothers = file.is_film and apart.key in [other.key for other in alone]
        home = None if is_anothers else _home(sheet, file.row, originals)
        if home is None and not file.suffix:
            _enter(sheet, file.row, [])
        elif home is None:
            alone.append(apart)
        else:
            is_clip = file.is_film and not _is_film(home)
            found[home["entry"]].append((file.row, "clip" if is_clip else "rendition"))
    for row in originals:
        _enter(sheet, row, found[row["entry"]])
    return alone


def _home(sheet: Worksheet, row: sqlite3.Row, originals: list[sqlite3.Row]) -> sqlite3.Row | None:
    """The original that a file belongs to, None where it is one itself."""
    ids = set(row["content_ids"].split())
    sharing = [one for one in originals if ids & set(one["content_ids"].split())]
    if len(sharing) == 1:
        return sharing[0]
    own = _own_records(sheet, row["entry"], [one["entry"] for one in originals])
    moments = {one["entry"]: _moment(sheet, row, own, one) for one in originals}
    evidence = {
        one["entry"]: (moments[one["entry"]], _told_moment(sheet, row, one), *_likeness(row, one)) for one in originals
    }
    best, *others = sorted(originals, key=lambda one: (evidence[one["entry"]], _custom(one)))
    moment = moments[best["entry"]]
    if moment == CONTRADICTS:
        return None
    # An editor may have written a packet; but no edit has a date that its original lacks.
    dated_alone = not _is_film(row) and bool(row["taken"]) and not best["taken"]
    if moment != AGREES and any(not one.is_others and (dated_alone or not one.is_packet) for one in own):
        return None
    telling = evidence[best["entry"]]
    if telling[:2] == (SILENT, SILENT) and others and evidence[others[0]["entry"]] == telling:
        sheet.db.execute("UPDATE units SET rival = ? WHERE entry = ?", (others[0]["name"], row["entry"]))
    # A date that somebody corrected is told of the original, too; else the record may be of a namesake that did not come.
    strangers = [one for one in own if one.is_unlikely and _by_records(sheet, one.taken, best, one.record) != AGREES]
    for one in strangers:
        sheet.db.execute(
            "DELETE FROM candidates WHERE record = ? AND picture IN (?, ?)", (one.record, row["entry"], best["entry"])
        )
        sheet.db.execute("INSERT OR IGNORE INTO rejected VALUES (?, ?, 'date')", (row["entry"], one.record))
    _note_own(sheet, row["entry"], [one for one in own if one not in strangers])
    return best


def _note_own(sheet: Worksheet, entry: int, own: list[_Own]) -> None:
    found = [(entry, one.record) for one in own if not one.is_others]
    sheet.db.executemany("INSERT OR IGNORE INTO own VALUES (?, ?)", found)


def _own_records(sheet: Worksheet, entry: int, originals: list[int]) -> list[_Own]:
    """The records that are meant for a file alone, and for none of its possible originals."""
    marks = ", ".join(f"?{number}" for number in range(2, len(originals) + 2))
    found = sheet.db.execute(_OWN.format(ways=_WAYS, originals=marks), (entry, *originals)).fetchall()
    own = []
    for one in found:
        agrees = moments_agree(one["taken"], one["shot"])
        # A date that somebody corrected is no reason; but another file of that name is.
        is_named = one["how"] <= BY_NAME and (agrees != CONTRADICTS or not one["is_others"])
        if agrees == AGREES or is_named or one["how"] == How.DIGEST:
            is_others = bool(one["is_others"]) and agrees != AGREES
            is_unlikely = agrees == CONTRADICTS and not (one["is_proven"] or _is_alone(sheet, one))
            own.append(_Own(one["record"], one["taken"], bool(one["is_packet"]), is_others, is_unlikely))
    return own


def _is_alone(sheet: Worksheet, own: sqlite3.Row) -> bool:
    """Whether nothing else can have the name by which a record is meant for a file."""
    return bool(own["is_whole"] and not own["has_rival"] and (own["is_beside"] or is_one_folder(sheet)))


def _moment(sheet: Worksheet, row: sqlite3.Row, own: list[_Own], original: sqlite3.Row) -> int:
    """Whether a file was taken at the same moment as an original: by what both say themselves, else by what their records say."""
    if row["taken"] and original["taken"]:
        return moments_agree(row["taken"], original["taken"])
    told = next((one.taken for one in own if one.taken and not one.is_others), "")
    if not told or original["taken"]:
        return moments_agree(told, original["taken"] or "")
    return _by_records(sheet, told, original)


def _told_moment(sheet: Worksheet, row: sqlite3.Row, original: sqlite3.Row) -> int:
    """Whether a file's own moment is that which a service tells of an original: enough to choose one, and no more.

    Of a picture that has no date a service often tells when it was sent there.
    """
    return SILENT if original["taken"] else _by_records(sheet, row["taken"] or "", original)


def _by_records(sheet: Worksheet, taken: str, original: sqlite3.Row, but: int = 0) -> int:
    """Whether a moment is that which a record tells that may be an original's; `but` is a record that is not.

    A record that fits another picture of the folder better is that one's.
    """
    found = sheet.db.execute(
        "SELECT r.taken FROM candidates c JOIN records r ON r.id = c.record JOIN entries p ON p.id = c.picture"
        " WHERE c.picture = ? AND r.taken NOT NULL AND c.how <= ? AND r.id != ?"
        " AND NOT EXISTS (SELECT 1 FROM candidates o JOIN entries s ON s.id = o.picture"
        f" WHERE o.record = c.record AND (o.how, o.rank) < (c.how, c.rank) AND {TOGETHER})",
        (original["entry"], BY_NAME, but),
    )
    return min((moments_agree(taken, one["taken"]) for one in found), default=SILENT)


def _likeness(row: sqlite3.Row, original: sqlite3.Row) -> tuple[bool, ...]:
    """How well an original fits a file by its name and kind, less is better: the very letters tell more than what it is."""
    return (
        original["sha256"] != digest_of_key(original["sha256"]),  # an empty file is no picture
        composed(row["frame_key"]) != composed(original["frame_key"]),
        (row["ending"] or "") != (original["ending"] or "") and not _is_film(row),
        _is_film(original) != _is_film(row) and not _is_film(row),
        not same_ending(row["ending"] or "", original["ending"] or ""),
        (row["ending"] or "").lower() != (original["ending"] or "").lower(),
    )


def _custom(original: sqlite3.Row) -> tuple[int, str, str]:
    """Which of several originals is taken where nothing tells; by name and content last, so that no two are equal."""
    media = original["media"] or ""
    first = _STILL_FIRST.index(media) if media in _STILL_FIRST else len(_STILL_FIRST)
    return first, original["name"], original["sha256"]


def _enter(sheet: Worksheet, original: sqlite3.Row, others: list[tuple[sqlite3.Row, str]]) -> None:
    before = sheet.db.execute(
        "SELECT frame FROM units WHERE sha256 = ? AND frame IS NOT NULL", (original["sha256"],)
    ).fetchone()
    frame = before[0] if before else original["entry"]
    for row, role in [(original, "twin" if before else "original"), *others]:
        sheet.db.execute("UPDATE units SET frame = ?, role = ? WHERE entry = ?", (frame, role, row["entry"]))
