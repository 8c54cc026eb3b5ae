"""Joining pictures with the records of their sidecars: by exact names, then by what a record itself says, never by a guess.

Every candidate pair gets a score. A pair is made where each side is the other's only best candidate; then the next, until
nothing changes. Where two candidates are equal, the pictures stay unpaired and are reported as a tie. What contradicts, or has
nothing but a name for it that others have too, is no pair; why, is noted for those that stay alone.
"""

import sqlite3
from collections.abc import Iterator
from typing import Literal, NamedTuple

from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.templates import last_step
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.moments import infer_offset, parse_moment
from bramblemoor.frames.sniff import is_picture_ending, same_ending

Why = Literal["digest", "size", "ending", "date", "name"]
"""Why a record is not that of a picture: what of it contradicts; or that only a name speaks for it."""

_FAMILIES = ("sidecar", "index", "xmp")
AGREES, SILENT, CONTRADICTS = range(3)
_EXACTLY = 2.0  # seconds: some services cut fractions off, some file systems keep every second one
# How a candidate was found, the most telling first. A name that fits counts little where the record names another picture.
_PATH, _EXACT, _FOLDED, _BESIDE, _TOLD, _TOLD_STEM, _DIGEST, _AFAR, _OTHERWISE = range(9)
_BARE = (_TOLD, _TOLD_STEM, _AFAR)
_NAMING = (*_BARE, _BESIDE)
BY_NAME = _TOLD_STEM
"""The least telling way that still goes by a name of this place, and not by a digest alone."""


class _Score(NamedTuple):
    """Compared in this order; less is better. `spelled` is 1 where a told name is a picture's own but for its number."""

    digest: int
    name: int
    rank: int
    size: int
    date: int
    spelled: int


_INSIDE = "(r.scope = '' OR substr(p.name, 1, length(r.scope)) = r.scope)"
_LYING = "substr(p.name, 1, length(p.name) - length(bm_base(p.name)))"
_LYING_OF_RECORD = _LYING.replace("p.name", "s.name")
# Each finds (picture, record, how, rank). A copy made for an album has candidates only by its own name.
_CANDIDATES = (
    f"""SELECT w.picture, r.id, {_EXACT}, w.rank FROM wanted w JOIN entries s ON s.name = w.name AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'sidecar'""",
    f"""SELECT w.picture, r.id, {_FOLDED}, w.rank FROM wanted w JOIN entries s ON s.folded = w.folded AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'sidecar' AND s.name != w.name""",
    f"""SELECT p.id, r.id, {_PATH}, 0 FROM records r JOIN entries p ON p.name = r.path
        WHERE r.path != '' AND p.kind = 'picture'""",
    f"""SELECT p.id, r.id, {_FOLDED}, p.folded != r.path FROM (SELECT id, bm_folded(path) AS path FROM records WHERE path != '') r
        JOIN entries p ON p.base = bm_base(r.path)
        WHERE p.kind = 'picture' AND substr('/' || p.folded, -length(r.path) - 1) = '/' || r.path""",
    f"""SELECT p.id, r.id, iif({_INSIDE}, iif(r.scope != '' AND r.scope = {_LYING}, {_BESIDE}, {_TOLD}), {_AFAR}), 0
        FROM records r JOIN called c ON c.key = r.told JOIN entries p ON p.id = c.picture
        WHERE r.told != '' AND r.path = '' AND NOT p.is_copy""",
    f"""SELECT p.id, r.id, iif({_INSIDE}, {_TOLD_STEM}, {_AFAR}), 0
        FROM (SELECT id, scope, bm_stem(told) AS stem FROM records WHERE told != '' AND path = '') r
        JOIN called c ON c.key = r.stem JOIN entries p ON p.id = c.picture WHERE NOT p.is_copy""",
    f"""SELECT p.id, r.id, {_DIGEST}, 0 FROM records r JOIN entries p ON p.sha256 = r.sha256_said
        WHERE r.sha256_said != '' AND p.kind = 'picture' AND NOT p.is_copy""",
    f"""SELECT p.id, r.id, {_EXACT}, 0 FROM entries p JOIN entries s ON s.name = p.name || '.xmp'
        JOIN records r ON r.entry = s.id WHERE p.kind = 'picture' AND r.family = 'xmp'""",
    f"""SELECT p.id, r.id, {_EXACT}, 1 FROM (SELECT id, bm_stem(name) AS stem FROM entries WHERE kind = 'picture') p
        JOIN entries s ON s.name = p.stem || '.xmp' JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    f"""SELECT w.picture, r.id, {_EXACT}, w.rank FROM wanted w JOIN entries s ON s.name = w.name AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    f"""SELECT p.id, r.id, {_FOLDED}, 0 FROM entries p JOIN entries s ON s.folded = p.folded || '.xmp'
        JOIN records r ON r.entry = s.id WHERE p.kind = 'picture' AND r.family = 'xmp'""",
    f"""SELECT p.id, r.id, {_FOLDED}, 1 FROM (SELECT id, bm_stem(folded) AS stem FROM entries WHERE kind = 'picture') p
        JOIN entries s ON s.folded = p.stem || '.xmp' JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    f"""SELECT w.picture, r.id, {_FOLDED}, w.rank FROM wanted w JOIN entries s ON s.folded = w.folded AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
)
# A rendition or clip has what its original has, where no record is meant for it alone.
_OF_ONE_FRAME = """
    DELETE FROM candidates WHERE EXISTS (
        SELECT 1 FROM entries e JOIN units u ON u.sha256 = e.sha256 JOIN candidates o ON o.picture = u.frame
        WHERE e.id = candidates.picture AND u.role IN ('rendition', 'clip')
        AND o.family = candidates.family AND (o.record = candidates.record OR o.how <= candidates.how)
    ) AND NOT EXISTS (SELECT 1 FROM own WHERE own.picture = candidates.picture AND own.record = candidates.record)
"""
# A record that is meant for a rendition or clip alone is not one of its original's.
_NOT_OWN = """
    DELETE FROM candidates WHERE EXISTS (SELECT 1 FROM own WHERE own.record = candidates.record)
    AND NOT EXISTS (SELECT 1 FROM own WHERE own.record = candidates.record AND own.picture = candidates.picture)
"""
# A pair that nothing else competes with needs no weighing; nearly all are such.
_PLAIN = f"""
    INSERT INTO pairs SELECT c.picture, c.record FROM candidates c JOIN records r ON r.id = c.record
    JOIN entries p ON p.id = c.picture
    WHERE (c.how = {_PATH} OR (c.how = {_EXACT}
        AND (r.told = '' OR EXISTS (SELECT 1 FROM called WHERE picture = c.picture AND key = r.told))))
    AND r.sha256_said IN ('', p.sha256) AND r.size_said IN (0, p.size)
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.picture = c.picture AND o.record != c.record AND o.family = c.family)
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND o.picture != c.picture)
"""


def find_candidates(sheet: Worksheet) -> None:
    """Fill `candidates` with what could belong together by any name, path or digest; entries must be extracted."""
    db = sheet.db
    _scopes(db)
    db.execute(
        "CREATE TEMP TABLE candidates (picture INTEGER, record INTEGER, how INTEGER, rank INTEGER, family TEXT,"
        " PRIMARY KEY (picture, record)) WITHOUT ROWID"
    )
    for query in _CANDIDATES:
        db.execute(
            f"WITH found (picture, record, how, rank) AS ({query}) INSERT INTO candidates"
            " SELECT picture, record, how, rank, family FROM found JOIN records ON records.id = record WHERE true"
            " ON CONFLICT DO UPDATE SET how = excluded.how, rank = excluded.rank"
            " WHERE (excluded.how, excluded.rank) < (how, rank)"
        )
    db.execute("CREATE INDEX temp.candidates_record ON candidates (record)")


def pair(sheet: Worksheet, dialect: Dialect) -> None:
    """Fill `pairs`, `ties` and `rejected` from the candidates; what is one frame must be known (`units.frame`), and `own`.

    Where the dialect tells how sidecars are named, one whose name fits nothing needs more than the name that it tells itself.
    """
    db = sheet.db
    db.execute(_NOT_OWN)
    db.execute(_OF_ONE_FRAME)
    db.execute(_PLAIN)
    for family in _FAMILIES:
        _weigh(sheet, family, dialect)
    db.execute("DROP TABLE candidates")


def _scopes(db: sqlite3.Connection) -> None:
    """Note for each record that tells a bare name which folder it speaks of: the nearest one above it that holds pictures."""
    holding = {""}
    for (folder,) in db.execute(
        "SELECT DISTINCT substr(name, 1, length(name) - length(bm_base(name))) FROM entries WHERE kind = 'picture'"
    ):
        while folder and folder not in holding:
            holding.add(folder)
            folder = folder[:-1].rpartition("/")[0] + "/" if "/" in folder[:-1] else ""
    for entry, name in db.execute(
        "SELECT id, name FROM entries WHERE kind IN ('index', 'sidecar')"
        " AND id IN (SELECT entry FROM records WHERE told != '' AND path = '')"
    ).fetchall():
        folder = name[: len(name) - len(name.rpartition("/")[2])]
        while folder not in holding:
            folder = folder[:-1].rpartition("/")[0] + "/" if "/" in folder[:-1] else ""
        if folder:
            db.execute("UPDATE records SET scope = ? WHERE entry = ?", (folder, entry))


def _weigh(sheet: Worksheet, family: str, dialect: Dialect) -> None:
    """Pair what competes, best pairs first, and note what remains undecided."""
    by_picture: dict[int, dict[int, _Score]] = {}
    by_record: dict[int, dict[int, _Score]] = {}
    doubts: dict[int, list[int]] = {}
    frames: dict[int, int] = {}
    for picture, record, frame, score, proven in _scored(sheet, family, dialect):
        by_picture.setdefault(picture, {})[record] = score
        frames[picture] = frame
        if proven:
            by_record.setdefault(record, {})[picture] = score
        else:
            doubts.setdefault(record, []).append(picture)
    paired: list[tuple[int, int]] = []
    waiting = set(by_record)
    while waiting:
        record = waiting.pop()
        mine = by_record.get(record)
        if not mine:
            continue
        best = min(mine.values())
        first = [picture for picture, score in mine.items() if score == best]
        if len({frames[picture] for picture in first}) > 1:
            continue
        agreed = [picture for picture in first if _only_best(by_picture[picture]) == record]
        if not agreed:
            continue
        paired += [(picture, record) for picture in agreed]
        # Whoever else hoped for one of these may now have a best candidate.
        for picture in (*mine, *doubts.get(record, ())):
            if picture in by_picture:
                by_picture[picture].pop(record, None)
                waiting |= set(by_picture[picture])
        for picture in agreed:
            for other in by_picture.pop(picture):
                by_record.get(other, {}).pop(picture, None)
                waiting.add(other)
        del by_record[record]
    db = sheet.db
    db.executemany("INSERT OR IGNORE INTO pairs VALUES (?, ?)", paired)
    ties = [
        (picture, record)
        for record, mine in by_record.items()
        for picture, score in mine.items()
        if score == min(mine.values()) and by_picture.get(picture)
    ]
    db.executemany("INSERT OR IGNORE INTO ties VALUES (?, ?)", ties)


def _only_best(scores: dict[int, _Score]) -> int | None:
    """The record with the best score, None where two have it."""
    best = min(scores.values())
    found = [record for record, score in scores.items() if score == best]
    return found[0] if len(found) == 1 else None


_COMPETING = f"""
    SELECT c.*, p.name AS entry, s.name AS sidecar, p.sha256, p.size, p.ending, p.taken AS shot,
    r.sha256_said, r.size_said, r.told, r.file_name, r.path, r.taken,
    coalesce((SELECT frame FROM units WHERE units.sha256 = p.sha256), -p.id) AS frame,
    EXISTS (SELECT 1 FROM called WHERE picture = p.id
        AND (key IN (r.told, bm_stem(r.told)) OR bm_loose(key) IN (bm_loose(r.told), bm_loose(bm_folded(r.file_name))))) AS named,
    p.frame_key, instr(s.base, p.base) AS whole, p.base = r.told AS spelled, {_LYING} = {_LYING_OF_RECORD} AS beside,
    (SELECT count(*) FROM candidates o WHERE o.record = c.record AND o.how IN {_BARE}) AS pictures_called,
    (SELECT count(*) FROM records o WHERE r.told != '' AND o.told = r.told AND o.family = r.family) AS records_telling,
    (SELECT count(*) FROM records o WHERE r.told != '' AND o.told = r.told AND o.entry = r.entry) AS telling_beside,
    EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND o.how <= {_FOLDED}) AS fits
    FROM candidates c JOIN entries p ON p.id = c.picture JOIN records r ON r.id = c.record JOIN entries s ON s.id = r.entry
    WHERE c.family = ? AND c.record NOT IN (SELECT record FROM pairs)
    AND NOT EXISTS (SELECT 1 FROM pairs JOIN records o ON o.id = pairs.record WHERE pairs.picture = c.picture AND o.family =
    c.family)
"""
_FOLDERS = f"SELECT count(DISTINCT {_LYING}) FROM entries p WHERE kind = 'picture' AND NOT is_copy"


def _scored(sheet: Worksheet, family: str, dialect: Dialect) -> Iterator[tuple[int, int, int, _Score, bool]]:
    """Candidates that compete, scored, and whether they may be paired.

    One that is contradicted is none at all. One whose own name fits nothing, but which names this picture, is not paired for that
    alone; yet it makes another that fits by its name no better than itself, unless it is named after a namesake that did not
    come. In several folders namesakes may have no numbers, and those of sidecars mean nothing.
    """
    needs_proof = family == "sidecar" and bool(dialect.sidecar_templates)
    numbers_tell = needs_proof and sheet.db.execute(_FOLDERS).fetchone()[0] == 1
    rows = [(row, _dates(row)) for row in sheet.db.execute(_COMPETING, (family,)).fetchall()]
    dated = {row["picture"] for row, date in rows if date == AGREES and row["how"] in _NAMING and not row["fits"]}
    for row, date in rows:
        name = row["how"]
        if name in (_EXACT, _FOLDED) and row["told"] and not row["path"] and not row["named"]:
            name = _OTHERWISE
        digest, size = _compared(row["sha256_said"], row["sha256"]), _compared(row["size_said"], row["size"])
        score = _spelled(row, _Score(digest, name, row["rank"], size, date, 0))
        why = _contradicted(row, score, dialect, needs_proof, row["picture"] in dated)
        if why is None and not _is_shown(row, score, needs_proof):
            why = "name"
            is_doubt = needs_proof and name == _TOLD and not row["fits"]
            if is_doubt and not (numbers_tell and dialect.is_sidecar_of_namesake(row["sidecar"], row["entry"])):
                yield row["picture"], row["record"], row["frame"], score._replace(name=_EXACT, rank=0), False
        if why is not None:
            sheet.db.execute("INSERT OR IGNORE INTO rejected VALUES (?, ?, ?)", (row["picture"], row["record"], why))
            continue
        yield row["picture"], row["record"], row["frame"], score, True


def _spelled(row: sqlite3.Row, score: _Score) -> _Score:
    """Where one record alone tells a name, the picture of that very name comes first; where several do, the service has numbered
    their pictures, and what else they tell comes first.
    """
    if score.name not in _NAMING or row["spelled"] or not _has_number(row):
        return score
    return score._replace(rank=1) if _tellers(row) == 1 else score._replace(spelled=1)


def _has_number(row: sqlite3.Row) -> bool:
    return not str(row["frame_key"]).endswith("\0")


def _tellers(row: sqlite3.Row) -> int:
    """How many records tell a name: of a list that speaks of what lies beside it, those of that list."""
    return int(row["telling_beside"] if row["how"] == _BESIDE else row["records_telling"])


def _contradicted(row: sqlite3.Row, score: _Score, dialect: Dialect, needs_proof: bool, is_dated: bool) -> Why | None:
    """What of a record speaks against a picture; `is_dated` says that another one, which names it, has its very date."""
    if score.digest == AGREES:
        return None
    if score.digest == CONTRADICTS:
        return "digest"
    if score.size == CONTRADICTS:
        return "size"
    if _is_of_another_kind(row):
        return "ending"
    if score.date == CONTRADICTS and not _outweighs_date(row, score, dialect, needs_proof, is_dated):
        return "date"
    return None


def _outweighs_date(row: sqlite3.Row, score: _Score, dialect: Dialect, needs_proof: bool, is_dated: bool) -> bool:
    """Whether a name, or a size beside it, tells more than a date that contradicts, which somebody may have corrected."""
    if score.size == AGREES and (score.name <= _FOLDED or (score.name == _TOLD and not needs_proof)):
        return True
    if score.name == _EXACT:
        return not is_dated
    if score.name == _BESIDE:
        return not needs_proof
    if score.name == _FOLDED:  # only the sidecar's own name is spelled otherwise
        told = last_step(row["file_name"])
        named = last_step(row["entry"]) in (told, dialect.picture_name(told)) or (row["whole"] and row["beside"])
        return named and not is_dated
    return score.name == _PATH


def _is_shown(row: sqlite3.Row, score: _Score, needs_proof: bool) -> bool:
    """Whether more than a name that others may have speaks for a candidate."""
    if score.name not in _NAMING or AGREES in (score.digest, score.size, score.date):
        return True
    if _has_number(row) and not row["spelled"] and _tellers(row) == 1:
        return False  # the number says that two have the name, and only one is told of: perhaps the other
    several = row["pictures_called"] > 1 or row["records_telling"] > 1
    return not (score.name == _AFAR or (several and score.name != _BESIDE) or needs_proof)


def _is_of_another_kind(row: sqlite3.Row) -> bool:
    """Whether a record names a picture of another ending; by its path or its whole own name it may be meant all the same."""
    told = "." + row["told"].rpartition(".")[2] if "." in row["told"] else ""
    ending = "." + row["entry"].rpartition(".")[2]
    if (
        not is_picture_ending(told)
        or not is_picture_ending(ending)
        or row["how"] == _PATH
        or (row["how"] == _EXACT and row["whole"])
    ):
        return False
    return not same_ending(told, ending)


def _compared(said: object, found: object) -> int:
    return SILENT if not said or found is None else AGREES if said == found else CONTRADICTS


def _dates(row: sqlite3.Row) -> int:
    """Whether the date that the record tells can be the one that the picture itself tells, in some time zone."""
    return moments_agree(row["taken"] or "", row["shot"] or "")


def moments_agree(told: str, own: str) -> int:
    """AGREES where a record's date and a picture's own are the same to the second, CONTRADICTS where they cannot be."""
    said, shot = parse_moment(told), parse_moment(own)
    if said is None or shot is None:
        return SILENT
    if said.utc is not None and shot.local is not None and shot.offset is None:
        offset = infer_offset(shot.local, said.utc)
        if offset is None:
            return CONTRADICTS
        drift = (shot.local - said.utc).total_seconds() - offset * 60
        # Many pictures are some minutes from a quarter of an hour: only to the second does it tell anything.
        return AGREES if abs(drift) <= _EXACTLY else SILENT
    if said.local is not None and shot.local is not None and None in (said.offset, shot.offset):
        return AGREES if abs((said.local - shot.local).total_seconds()) <= _EXACTLY else CONTRADICTS
    if said.local is not None and said.offset is None:
        return SILENT  # a clock whose zone nobody knows, against UTC
    return AGREES if abs((said.instant - shot.instant).total_seconds()) <= _EXACTLY else CONTRADICTS
