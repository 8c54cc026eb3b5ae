"""What speaks for and against each candidate pair of a picture and a record: digests, sizes, dates and names, and what else in
the export has the same name.
"""

import sqlite3
from collections.abc import Iterator
from enum import IntEnum
from typing import Literal, NamedTuple

from bramblemoor.exports.dialect import Dialect, composed
from bramblemoor.exports.templates import folded, last_step
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.kinds import is_of_another_kind
from bramblemoor.frames.moments import AGREES, CONTRADICTS, SILENT, agreement, parse_moment

Why = Literal["digest", "size", "ending", "date", "known", "name"]
"""Why a record is not that of a picture: what of it contradicts; that another is known as its own; or that only a name tells."""


class How(IntEnum):
    """How a candidate was found, the most telling first."""

    PATH = 0
    EXACT = 1  # by the sidecar's own name
    FOLDED = 2  # by its name or path, spelled otherwise
    BESIDE = 3  # by the bare name that a list tells of what lies beside it
    TOLD = 4
    TOLD_STEM = 5
    DIGEST = 6
    MEASURED = 7  # by size and moment
    AFAR = 8  # by a bare name that speaks of another folder, or of another ending
    OTHERWISE = 9  # by its own name, which counts little while it tells another
    SIZE_ALONE = 10  # no reason to pair, but one to doubt


NOT_WHOLE = 2
"""The rank of a candidate whose told name is a picture's only but for its number or suffix; 1 where only spelling differs."""
BY_NAME = How.TOLD_STEM
"""The least telling way that still goes by a name of this place, and not by a digest alone."""
LYING = "substr(p.name, 1, length(p.name) - length(bm_base(p.name)))"
"""In SQL: the folder of an entry p."""
TOGETHER = f"{LYING} = {LYING.replace('p.name', 's.name')}"
"""In SQL: whether an entry p lies in the folder of an entry s."""
INSIDE = (
    "(r.scope = '' OR iif(r.family = 'index', r.scope = (SELECT scope FROM reach WHERE folder = "
    f"{LYING}), substr(p.name, 1, length(r.scope)) = r.scope))"
)
"""In SQL: whether a bare name that a record r tells may be that of an entry p: a list speaks of its own folder and those below,
as far as they have none of their own; a sidecar of all below.
"""
CALLED = (
    "EXISTS (SELECT 1 FROM called WHERE picture = p.id AND (key IN (r.told, r.as_told)"
    " OR bm_loose(key) IN (bm_loose(r.told), bm_loose(bm_folded(r.file_name)))))"
)
"""In SQL: whether a picture p may have been called at the service what a record r tells, whatever signs were replaced."""
TELLING_BESIDE = """(SELECT count(*) FROM records o
    WHERE o.told = r.told AND o.file_name = r.file_name AND +o.entry = r.entry)"""
"""In SQL: how many lines of its list tell the very name that a record r tells."""
_TELLING = "(SELECT count(*) FROM records o WHERE o.told = r.told AND o.family = r.family)"
# How many records tell a name: of a list that speaks of what lies beside it, those of that list.
_TELLERS = f"iif(c.how = {How.BESIDE}, {TELLING_BESIDE}, {_TELLING})"
IS_NUMBERED_OTHER = (
    f"(c.how BETWEEN {How.BESIDE} AND {How.TOLD_STEM} AND c.rank = {NOT_WHOLE} AND {_TELLERS} = 1"
    " AND substr(CAST(p.frame_key AS BLOB), -1) != x'00')"
)
"""In SQL: whether a picture p may be another than a record r alone tells of: its number says that two have the name."""
_NAMED_AFTER = (How.EXACT, How.FOLDED)
_OF_HERE = (How.BESIDE, How.TOLD, How.TOLD_STEM)
_BARE = (How.TOLD, How.TOLD_STEM, How.AFAR)
_NAMING = (*_OF_HERE, How.AFAR)


class Score(NamedTuple):
    """Compared in this order; less is better. `spelled` counts where a told name is not a picture's own to the letter, or not at
    all but for a number.
    """

    digest: int
    name: int
    rank: int
    size: int
    date: int
    spelled: int

    @property
    def agrees(self) -> bool:
        return AGREES in (self.digest, self.size, self.date)


class Weighed(NamedTuple):
    """A candidate with its score, or with why it is none. `frame` is what the picture belongs to.

    A doubt is not to be paired; yet another record of the picture that is no better than it is not for certain.
    """

    picture: int
    record: int
    frame: int
    score: Score | Why
    is_doubt: bool = False


_COMPETING = f"""
    SELECT c.*, p.name AS entry, s.name AS sidecar, s.folded, p.sha256, p.size, p.ending, p.taken AS shot,
    r.sha256_said, r.size_said, r.told, r.file_name, r.path, r.taken,
    coalesce((SELECT frame FROM units WHERE units.sha256 = p.sha256), -p.id) AS frame,
    {CALLED} OR EXISTS (SELECT 1 FROM called WHERE picture = p.id AND key = bm_stem(r.told)) AS named,
    {TOGETHER} AS beside,
    (SELECT count(*) FROM candidates o WHERE o.record = c.record AND o.how IN {tuple(map(int, _BARE))}) AS pictures_called,
    iif(r.told = '', 0, {_TELLING}) AS records_telling, iif(r.told = '', 0, {_TELLERS}) AS tellers,
    {IS_NUMBERED_OTHER} AS is_numbered_other,
    EXISTS (SELECT 1 FROM candidates o WHERE o.record = c.record AND o.how <= {How.FOLDED}) AS fits
    FROM candidates c JOIN entries p ON p.id = c.picture JOIN records r ON r.id = c.record JOIN entries s ON s.id = r.entry
    WHERE c.family = ? AND c.record NOT IN (SELECT record FROM pairs)
    AND NOT EXISTS (SELECT 1 FROM pairs JOIN records o ON o.id = pairs.record WHERE pairs.picture = c.picture AND o.family =
    c.family)
"""
# Of the sidecars that are named after pictures: how many fit only in another spelling, and how many there are.
_RESPELLED = f"""
    SELECT count(*) FILTER (WHERE best = {How.FOLDED}), count(*) FROM (
        SELECT min(c.how) AS best FROM candidates c JOIN records r ON r.id = c.record
        WHERE c.family = ? AND r.path = '' GROUP BY c.record HAVING best <= {How.FOLDED})
"""
OFTEN = 0.1  # of all sidecars, or of all told names: then the service has a spelling of its own
# The spellings in which sidecars of one name came: where there are two, the service tells them apart.
_SPELLINGS = "SELECT folded FROM entries WHERE kind = 'sidecar' GROUP BY folded HAVING count(DISTINCT name) > 1"
_FOLDERS = f"SELECT count(DISTINCT {LYING}) FROM entries p WHERE kind = 'picture' AND NOT is_copy"
# What of a record speaks against a picture for certain. A digest that agrees outweighs all else; by its path, or the whole name
# of its sidecar, a picture may be meant although it is called otherwise.
_CONTRADICTIONS: dict[Why, str] = {
    "digest": "r.sha256_said NOT IN ('', p.sha256)",
    "size": "r.sha256_said = '' AND r.size_said NOT IN (0, p.size)",
    "ending": f"r.sha256_said = '' AND r.told != '' AND c.how != {How.PATH}"
    f" AND NOT (c.how = {How.EXACT} AND instr(s.base, p.base)) AND bm_of_another_kind(r.told, p.name)",
}


def is_one_folder(sheet: Worksheet) -> bool:
    """Whether all pictures lie in one folder: then no two have one name."""
    return bool(sheet.db.execute(_FOLDERS).fetchone()[0] == 1)


def refuse_contradicted(sheet: Worksheet) -> None:
    """Take away the candidates that a digest, a size or an ending contradicts, and note why."""
    db = sheet.db
    db.create_function("bm_of_another_kind", 2, is_of_another_kind, deterministic=True)
    for why, condition in _CONTRADICTIONS.items():
        db.execute(
            "INSERT OR IGNORE INTO rejected SELECT c.picture, c.record, ? FROM candidates c JOIN records r ON r.id = c.record"
            f" JOIN entries p ON p.id = c.picture JOIN entries s ON s.id = r.entry WHERE {condition}",
            (why,),
        )
    db.execute(
        "DELETE FROM candidates WHERE EXISTS (SELECT 1 FROM rejected x WHERE x.record = candidates.record"
        " AND x.picture = candidates.picture)"
    )


def weighed(sheet: Worksheet, family: str, dialect: Dialect) -> Iterator[Weighed]:
    """The candidates of one family that still compete; `candidates` must be filled, and what is certain paired."""
    respelled, named = sheet.db.execute(_RESPELLED, (family,)).fetchone()
    rows = _scored(sheet.db, family, respells=respelled > 0)
    export = _Export(sheet, family, dialect, rows, respells=respelled > OFTEN * named)
    for row, score in rows:
        key = (row["picture"], row["record"], row["frame"])
        is_measured = row["how"] in (How.MEASURED, How.SIZE_ALONE)
        if is_measured and score.date != AGREES:  # no reason to name it
            if export.is_doubt_by_size(row):
                yield Weighed(*key, score._replace(name=How.EXACT, rank=0), is_doubt=True)
        elif score.date == CONTRADICTS and score.digest != AGREES and not export.outweighs_date(row, score):
            yield Weighed(*key, "date")
        elif export.is_shown(row, score):
            yield Weighed(*key, export.spelled(row, score))
        else:
            if export.is_doubt(row, score):
                yield Weighed(*key, export.spelled(row, score._replace(name=How.EXACT, rank=0)), is_doubt=True)
            yield Weighed(*key, "name")


def _scored(db: sqlite3.Connection, family: str, *, respells: bool) -> list[tuple[sqlite3.Row, Score]]:
    """The competing candidates, each with its score by itself.

    `respells` says that some sidecars fit only in another spelling.
    """
    rows = db.execute(_COMPETING, (family,)).fetchall()
    scored = [(row, _score(row)) for row in rows]
    if not respells:
        return scored
    # Who writes names in a spelling of his own may have meant whichever picture has that name in any.
    told_apart = {row["folded"] for row in db.execute(_SPELLINGS)}
    meant: dict[int, set[int]] = {}
    for row in rows:
        if row["how"] == How.FOLDED and row["folded"] not in told_apart:
            meant.setdefault(row["record"], set()).add(row["frame"])

    def in_any_spelling(row: sqlite3.Row, score: Score) -> Score:
        has_rival = bool(meant.get(row["record"], set()) - {row["frame"]})
        return score._replace(name=How.FOLDED) if score.name == How.EXACT and has_rival else score

    return [(row, in_any_spelling(row, score)) for row, score in scored]


def _score(row: sqlite3.Row) -> Score:
    name = row["how"]
    if name in _NAMED_AFTER and row["told"] and not row["path"] and not row["named"]:
        name = How.OTHERWISE
    digest, size = _compared(row["sha256_said"], row["sha256"]), _compared(row["size_said"], row["size"])
    date = moments_agree(row["taken"] or "", row["shot"] or "")
    if name == How.FOLDED and AGREES in (size, date):
        name = How.EXACT  # the spelling is the service's: more than the name says so
    score = Score(digest, name, row["rank"], size, date, 0)
    if name not in _NAMING:
        return score
    # Where one line of a list alone tells a name, the picture of that very name comes first; where several do, the service has
    # numbered their pictures, and what else they tell comes first.
    spelled = row["rank"] if row["family"] == "index" else 0
    return score if spelled and row["tellers"] == 1 else score._replace(rank=0, spelled=spelled)


class _Export:
    """What the other candidates of an export show about one of them."""

    def __init__(
        self, sheet: Worksheet, family: str, dialect: Dialect, rows: list[tuple[sqlite3.Row, Score]], *, respells: bool
    ) -> None:
        """`respells` says that the service writes the names of sidecars in a spelling of its own."""
        self._dialect, self._respells = dialect, respells
        # One whose own name fits nothing needs more than the name that it tells itself.
        self._needs_proof = family == "sidecar" and bool(dialect.sidecar_templates)
        self._is_one_folder = is_one_folder(sheet)
        # The frames that more than a name speaks for.
        self._settled = {row["frame"] for row, score in rows if score.agrees and row["how"] != How.SIZE_ALONE}
        # Of pictures the records that speak of them although their own name fits nothing: they tell the name, and size or second.
        self._proven: dict[int, set[int]] = {}
        for row, score in rows:
            is_unfit = not row["fits"] and row["how"] in (*_OF_HERE, How.MEASURED)
            if is_unfit and (score.size == AGREES or score.date == AGREES):
                self._proven.setdefault(row["picture"], set()).add(row["record"])
        # Of records that names give to several: the frames that more than a name speaks for, and the records that fit one whose
        # date contradicts no worse than another that nothing speaks against: perhaps the date was corrected, unless another
        # record tells the first one's very second.
        self._agreed: dict[int, set[int]] = {}
        silent: dict[int, list[tuple[int, int, int]]] = {}
        named = [(row, score) for row, score in rows if score.name in (*_NAMED_AFTER, *_OF_HERE)]
        for row, score in named:
            if score.agrees:
                self._agreed.setdefault(row["record"], set()).add(row["frame"])
            elif score.date == SILENT and score.name in _NAMED_AFTER:
                silent.setdefault(row["record"], []).append((score.name, score.rank, row["frame"]))
        self._contested = {
            row["record"] for row, score in named if score.date == CONTRADICTS and score.name in _NAMED_AFTER
            and row["frame"] not in self._settled
            and any((name, rank) >= (score.name, score.rank) and frame != row["frame"]
                    for name, rank, frame in silent.get(row["record"], ()))
        }  # fmt: skip

    def outweighs_date(self, row: sqlite3.Row, score: Score) -> bool:
        """Whether a name, or a size beside it, tells more than a date that contradicts, which somebody may have corrected."""
        if score.size == AGREES and (score.name <= How.FOLDED or (score.name == How.TOLD and not self._needs_proof)):
            return True
        if score.name != How.PATH and self._is_anothers(row):
            return False
        if score.name == How.EXACT:
            return row["record"] not in self._contested and self._is_likeliest(row)
        if score.name == How.FOLDED:  # only the sidecar's own name is spelled otherwise
            is_meant = self._is_alone_here(row) or self._dialect.is_called(row["entry"], last_step(row["file_name"]))
            return is_meant and self._is_likeliest(row)
        return score.name == How.PATH or (score.name == How.BESIDE and not self._needs_proof)

    def _is_likeliest(self, row: sqlite3.Row) -> bool:
        """Whether a sidecar is named after the likeliest reading of a picture's name, or all of it, or tells that very name."""
        name, told = last_step(row["entry"]), last_step(row["file_name"])
        is_first = row["family"] != "sidecar" or row["rank"] < len(self._dialect.sidecar_templates)
        return (
            is_first
            or folded(name) in folded(last_step(row["sidecar"]))
            or name in (told, self._dialect.picture_name(told))
        )

    def is_shown(self, row: sqlite3.Row, score: Score) -> bool:
        """Whether more than a name that others may have speaks for a candidate."""
        if score.agrees:
            return True
        if score.name != How.PATH and self._is_anothers(row):
            return False
        if score.name in _NAMED_AFTER and row["record"] in self._contested:
            return False
        if row["how"] == How.FOLDED and not self._respells and self._is_in_other_capitals(row):
            return self._is_alone_here(row)
        if score.name not in _NAMING:
            return True
        if row["is_numbered_other"]:
            return False
        several = row["pictures_called"] > 1 or row["records_telling"] > 1
        return not (score.name == How.AFAR or (several and score.name != How.BESIDE) or self._needs_proof)

    def _is_alone_here(self, row: sqlite3.Row) -> bool:
        """Whether no picture elsewhere can have the name that a sidecar has: it lies beside, or there is one folder."""
        return bool(row["beside"]) or self._is_one_folder

    def _is_in_other_capitals(self, row: sqlite3.Row) -> bool:
        """Whether a record tells its picture's name in other capitals: as its own name is, it is that of another picture."""
        name, told = composed(last_step(row["entry"])), composed(last_step(row["file_name"]))
        return name != told and name.casefold() == told.casefold()

    def spelled(self, row: sqlite3.Row, score: Score) -> Score:
        """The score, with whether the name that a record tells, besides its own, is the picture's to the letter."""
        if score.name not in _NAMED_AFTER or not row["told"]:
            return score
        return score._replace(spelled=int(not self._dialect.is_called(row["entry"], last_step(row["file_name"]))))

    def _is_anothers(self, row: sqlite3.Row) -> bool:
        """Whether more than a name speaks for another picture of this record, or for another record of this picture."""
        agreed, proven = self._agreed.get(row["record"], set()), self._proven.get(row["picture"], set())
        return bool(proven - {row["record"]}) or bool(agreed and row["frame"] not in agreed)

    def is_doubt_by_size(self, row: sqlite3.Row) -> bool:
        """Whether a record that nothing names may be a picture's all the same, for it alone tells its size."""
        return row["how"] == How.SIZE_ALONE and row["frame"] not in self._settled

    def is_doubt(self, row: sqlite3.Row, score: Score) -> bool:
        """Whether a record that names a picture, while its own name fits nothing, may be the picture's all the same."""
        if not self._needs_proof or score.name not in (How.TOLD, How.BESIDE) or row["fits"]:
            return False
        return self._dialect.may_be_sidecar_of(row["entry"], row["sidecar"], self._is_one_folder)


def _compared(said: object, found: object) -> int:
    return SILENT if not said or found is None else AGREES if said == found else CONTRADICTS


def moments_agree(told: str, own: str) -> int:
    """Whether a record's date and a picture's own agree, as they are written."""
    said, shot = parse_moment(told), parse_moment(own)
    return SILENT if said is None or shot is None else agreement(said, shot)
