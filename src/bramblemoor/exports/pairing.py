"""Joining pictures with the records of their sidecars: by exact names, then by what a record itself says, never by a guess.

Every candidate pair gets a score. A pair is made where each side is the other's only best candidate; then the next, until
nothing changes. Where two candidates are equal, the pictures stay unpaired and are reported as a tie. What contradicts, or has
nothing but a name for it that others have too, is no pair; why, is noted for those that stay alone.
"""

import sqlite3
from datetime import datetime

from bramblemoor.exports.dialect import Dialect, composed
from bramblemoor.exports.evidence import BY_NAME, CALLED, INSIDE, LYING, OFTEN, How, Score, refuse_contradicted, weighed
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.kinds import SIDECAR, ending_of
from bramblemoor.frames.moments import parse_moment

_FAMILIES = ("sidecar", "index", "xmp")
_QUARTER, _FURTHEST = 900, 14 * 3600  # seconds: of what the offsets of time zones are multiples, and the largest
_FEW = 3  # of one size: of more it tells nothing
_NAMELESS = f"""
    SELECT id, size_said, bm_seconds(taken) AS at, count(*) OVER (PARTITION BY size_said) AS alike FROM records r
    WHERE size_said > 0 AND told = '' AND path = ''
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.record = r.id AND o.how <= {How.FOLDED})
"""
# Each finds (picture, record, how, rank). A copy made for an album has candidates only by its own name.
_CANDIDATES = (
    f"""SELECT w.picture, r.id, {How.EXACT}, w.rank FROM wanted w JOIN entries s ON s.name = w.name AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'sidecar'""",
    f"""SELECT w.picture, r.id, {How.FOLDED}, w.rank FROM wanted w JOIN entries s ON s.folded = w.folded AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'sidecar' AND s.name != w.name""",
    f"""SELECT p.id, r.id, {How.PATH}, 0 FROM records r JOIN entries p ON p.name = r.path
        WHERE r.path != '' AND p.kind = 'picture'""",
    f"""SELECT p.id, r.id, {How.FOLDED}, p.folded != r.path
        FROM (SELECT id, bm_folded(path) AS path FROM records WHERE path != '') r JOIN entries p ON p.base = bm_base(r.path)
        WHERE p.kind = 'picture' AND substr('/' || p.folded, -length(r.path) - 1) = '/' || r.path""",
    *(
        f"""SELECT p.id, r.id, iif({INSIDE}, iif(r.scope != '' AND r.scope = {LYING}, {How.BESIDE}, {How.TOLD}), {How.AFAR}),
        iif(bm_base(p.name) = bm_last(r.file_name), 0, 1 + (p.base != c.key))
        FROM records r JOIN called c ON c.key = r.{told} JOIN entries p ON p.id = c.picture
        WHERE r.{told} != '' AND r.path = '' AND NOT p.is_copy"""
        for told in ("told", "as_told")
    ),
    f"""SELECT p.id, r.id, iif({INSIDE}, {How.TOLD_STEM}, {How.AFAR}), 1 + (p.base != c.key || bm_folded(p.ending))
        FROM (SELECT id, scope, family, bm_stem(told) AS stem FROM records WHERE told != '' AND path = '') r
        JOIN called c ON c.key = r.stem JOIN entries p ON p.id = c.picture WHERE NOT p.is_copy""",
    f"""SELECT p.id, r.id, {How.DIGEST}, 0 FROM records r JOIN entries p ON p.sha256 = r.sha256_said
        WHERE r.sha256_said != '' AND p.kind = 'picture' AND NOT p.is_copy""",
    f"""SELECT p.id, r.id, {How.EXACT}, 0 FROM entries p JOIN entries s ON s.name = p.name || '{SIDECAR}'
        JOIN records r ON r.entry = s.id WHERE p.kind = 'picture' AND r.family = 'xmp'""",
    f"""SELECT p.id, r.id, {How.EXACT}, 1 FROM (SELECT id, bm_stem(name) AS stem FROM entries WHERE kind = 'picture') p
        JOIN entries s ON s.name = p.stem || '{SIDECAR}' JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    f"""SELECT w.picture, r.id, {How.EXACT}, w.rank FROM wanted w JOIN entries s ON s.name = w.name AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    f"""SELECT p.id, r.id, {How.FOLDED}, 0 FROM entries p JOIN entries s ON s.folded = p.folded || '{SIDECAR}'
        JOIN records r ON r.entry = s.id WHERE p.kind = 'picture' AND r.family = 'xmp'""",
    f"""SELECT p.id, r.id, {How.FOLDED}, 1 FROM (SELECT id, bm_stem(folded) AS stem FROM entries WHERE kind = 'picture') p
        JOIN entries s ON s.folded = p.stem || '{SIDECAR}' JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    f"""SELECT w.picture, r.id, {How.FOLDED}, w.rank FROM wanted w JOIN entries s ON s.folded = w.folded AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id WHERE r.family = 'xmp'""",
    # What neither names a picture nor is named after one, but tells its size and its second, in whatever time zone: many pictures
    # may have one size.
    f"""SELECT p.id, r.id, {How.MEASURED}, 0 FROM ({_NAMELESS}) r
        CROSS JOIN clocks p ON p.size = r.size_said AND p.quarter = r.at % {_QUARTER} AND abs(p.at - r.at) <= {_FURTHEST}""",
    f"""SELECT p.id, r.id, {How.SIZE_ALONE}, 0 FROM ({_NAMELESS}) r CROSS JOIN clocks p ON p.size = r.size_said
        WHERE max(r.alike, p.alike) <= {_FEW}""",
)
# Names that differ only by how their letters are composed are the same, unless both stand in one folder: some systems write
# sidecars otherwise than pictures.
_COMPOSED = f"""
    WITH called (id, kind, name) AS (
        SELECT min(id), min(kind), bm_composed(name) FROM entries WHERE kind IN ('picture', 'sidecar')
        GROUP BY bm_composed(name) HAVING count(*) = 1
    )
    SELECT w.picture, r.id, {How.EXACT}, w.rank FROM wanted w JOIN called s ON s.name = bm_composed(w.name) AND s.kind = 'sidecar'
        JOIN records r ON r.entry = s.id
    UNION ALL SELECT p.id, r.id, {How.EXACT}, 0 FROM called p JOIN called s ON s.name = p.name || '{SIDECAR}'
        JOIN records r ON r.entry = s.id WHERE p.kind = 'picture' AND r.family = 'xmp'
"""
# A told name that is a picture's but for its ending, like .jpeg of a .jpg, may be that of another picture, which did not come;
# but some services do not write endings as they deliver them.
_TELLS_ENDING = "record IN (SELECT id FROM records WHERE bm_ending(told) != '')"
_OTHER_ENDINGS = f"""
    SELECT count(*) FILTER (WHERE best = {How.TOLD_STEM}) > {OFTEN} * count(*) FROM (
        SELECT min(how) AS best FROM candidates c WHERE how BETWEEN {How.BESIDE} AND {How.TOLD_STEM} AND {_TELLS_ENDING}
        AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.picture = c.picture AND o.family = c.family AND o.how < c.how)
        GROUP BY record)
"""
# A rendition or clip has what its original has, where no record is meant for it alone.
_OF_ONE_FRAME = """
    DELETE FROM candidates WHERE EXISTS (
        SELECT 1 FROM entries e JOIN units u ON u.sha256 = e.sha256 JOIN candidates o ON o.picture = u.frame
        WHERE e.id = candidates.picture AND u.role IN ('rendition', 'clip')
        AND o.family = candidates.family AND (o.record = candidates.record OR o.how <= candidates.how)
    ) AND NOT EXISTS (SELECT 1 FROM own WHERE own.picture = candidates.picture AND own.record = candidates.record)
"""
# Nor has it one that tells another name, which is neither its own nor its original's.
_NOT_CALLED = f"""
    FROM candidates WHERE how <= {BY_NAME} AND EXISTS (
        SELECT 1 FROM entries p JOIN units u ON u.sha256 = p.sha256 JOIN records r ON r.id = candidates.record
        WHERE p.id = candidates.picture AND u.role IN ('rendition', 'clip')
        AND r.told != '' AND r.path = '' AND NOT {CALLED}
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
    WHERE (c.how = {How.PATH} OR (c.how = {How.EXACT} AND c.rank = 0
        AND (r.told = '' OR EXISTS (SELECT 1 FROM called WHERE picture = c.picture AND key = r.told))))
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.picture = c.picture AND o.record != c.record AND o.family = c.family)
    AND NOT EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND o.picture != c.picture)
"""


def find_candidates(sheet: Worksheet) -> None:
    """Fill `candidates` with what could belong together by any name, path or digest; entries must be extracted.

    What contradicts is in `rejected`, and which list speaks of which folder in `reach`.
    """
    db = sheet.db
    _scopes(db)
    db.execute(
        "CREATE TEMP TABLE candidates (picture INTEGER, record INTEGER, how INTEGER, rank INTEGER, family TEXT,"
        " PRIMARY KEY (picture, record)) WITHOUT ROWID"
    )
    db.execute("CREATE INDEX temp.candidates_record ON candidates (record)")
    _clocks(db)
    db.create_function("bm_composed", 1, composed, deterministic=True)
    is_mixed = db.execute("SELECT 1 FROM entries WHERE name != bm_composed(name) LIMIT 1").fetchone() is not None
    for query in (*_CANDIDATES, *((_COMPOSED,) if is_mixed else ())):
        db.execute(
            f"WITH found (picture, record, how, rank) AS ({query}) INSERT INTO candidates"
            " SELECT picture, record, how, rank, family FROM found JOIN records ON records.id = record WHERE true"
            " ON CONFLICT DO UPDATE SET how = excluded.how, rank = excluded.rank"
            " WHERE (excluded.how, excluded.rank) < (how, rank)"
        )
    db.execute("DROP TABLE clocks")
    refuse_contradicted(sheet)
    db.create_function("bm_ending", 1, ending_of, deterministic=True)
    if not db.execute(_OTHER_ENDINGS).fetchone()[0]:
        db.execute(
            "UPDATE candidates SET how = iif((SELECT sha256_said FROM records WHERE id = record)"
            f" = (SELECT sha256 FROM entries WHERE id = picture), {How.DIGEST}, {How.AFAR})"
            f" WHERE how = {How.TOLD_STEM} AND {_TELLS_ENDING}"
        )


def _clocks(db: sqlite3.Connection) -> None:
    """Fill `clocks` with sizes and moments of pictures, where a record tells a size and neither path nor name."""
    db.create_function("bm_seconds", 1, _seconds, deterministic=True)
    needed = "EXISTS (SELECT 1 FROM records WHERE size_said > 0 AND told = '' AND path = '')"
    db.execute(
        f"CREATE TEMP TABLE clocks AS SELECT id, size, at, at % {_QUARTER} AS quarter, alike FROM (SELECT id, size,"
        " count(*) OVER (PARTITION BY size) AS alike, bm_seconds(taken) AS at"
        f" FROM entries WHERE kind = 'picture' AND NOT is_copy AND {needed})"
    )
    db.execute("CREATE INDEX temp.clocks_size ON clocks (size, quarter)")


def _seconds(taken: str | None) -> int | None:
    """A moment as the clock shows it, in seconds."""
    moment = parse_moment(taken or "")
    return None if moment is None else int((moment.shown - datetime(1970, 1, 1)).total_seconds())


def pair(sheet: Worksheet, dialect: Dialect) -> None:
    """Fill `pairs`, `ties` and `rejected` from the candidates; what is one frame must be known (`units.frame`), and `own`.

    Where the dialect tells how sidecars are named, one whose name fits nothing needs more than the name that it tells itself.
    """
    db = sheet.db
    db.execute(_NOT_OWN)
    db.execute(_OF_ONE_FRAME)
    db.execute(f"INSERT OR IGNORE INTO rejected SELECT picture, record, 'name' {_NOT_CALLED}")
    db.execute(f"DELETE {_NOT_CALLED}")
    db.execute(_PLAIN)
    for family in _FAMILIES:
        _weigh(sheet, family, dialect)
    db.execute("DROP TABLE candidates")
    db.execute("DROP TABLE reach")


def _scopes(db: sqlite3.Connection) -> None:
    """Note for each record that tells a bare name which folder it speaks of: the nearest one above it that holds pictures.

    Fills `reach` with the list that is nearest to the pictures of each folder.
    """
    holding = {""}
    for (folder,) in db.execute(f"SELECT DISTINCT {LYING} FROM entries p WHERE kind = 'picture'"):
        while folder and folder not in holding:
            holding.add(folder)
            folder = _above(folder)
    for entry, name in db.execute(
        "SELECT id, name FROM entries WHERE kind IN ('index', 'sidecar')"
        " AND id IN (SELECT entry FROM records WHERE told != '' AND path = '')"
    ).fetchall():
        folder = _above(name)
        while folder not in holding:
            folder = _above(folder)
        if folder:
            db.execute("UPDATE records SET scope = ? WHERE entry = ?", (folder, entry))
    listed = {row[0] for row in db.execute("SELECT DISTINCT scope FROM records WHERE family = 'index' AND scope != ''")}
    db.execute("CREATE TEMP TABLE reach (folder TEXT PRIMARY KEY, scope TEXT NOT NULL) WITHOUT ROWID")
    for folder in holding:
        nearest = folder
        while nearest and nearest not in listed:
            nearest = _above(nearest)
        db.execute("INSERT INTO reach VALUES (?, ?)", (folder, nearest))


def _above(path: str) -> str:
    """The folder that an entry or a folder is in, with its slash; "" for the root."""
    return path[: path.rstrip("/").rfind("/") + 1]


def _weigh(sheet: Worksheet, family: str, dialect: Dialect) -> None:
    """Pair what competes, best pairs first, and note what remains undecided."""
    by_picture: dict[int, dict[int, Score]] = {}
    by_record: dict[int, dict[int, Score]] = {}
    doubts: dict[int, list[int]] = {}
    frames: dict[int, int] = {}
    for one in weighed(sheet, family, dialect):
        if isinstance(one.score, str):
            sheet.db.execute("INSERT OR IGNORE INTO rejected VALUES (?, ?, ?)", (one.picture, one.record, one.score))
            continue
        by_picture.setdefault(one.picture, {})[one.record] = one.score
        frames[one.picture] = one.frame
        if one.is_doubt:
            doubts.setdefault(one.record, []).append(one.picture)
        else:
            by_record.setdefault(one.record, {})[one.picture] = one.score
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


def _only_best(scores: dict[int, Score]) -> int | None:
    """The record with the best score, None where two have it."""
    best = min(scores.values())
    found = [record for record, score in scores.items() if score == best]
    return found[0] if len(found) == 1 else None
