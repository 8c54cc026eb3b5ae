"""Trying a dialect on a parcel: what would be paired and understood. Nothing reaches a library."""

import json
import tempfile
from collections import Counter
from dataclasses import dataclass, replace
from pathlib import Path

from bramblemoor.exports import worksheet as worksheets
from bramblemoor.exports.extract import Progress, decode_claims, extract, list_entries
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.planning import join
from bramblemoor.exports.worksheet import Worksheet

_EXAMPLES = 10


@dataclass(frozen=True)
class Example:
    """One pair: the picture, the sidecar, and what is understood of it as "field: value"."""

    picture: str
    sidecar: str
    facts: tuple[str, ...]


@dataclass(frozen=True)
class Trial:
    """What a dialect makes of a parcel. `fields` counts the records in which each field was found.

    `lone_*` and `ties` are names; `refused` are (sidecar, sentence).
    """

    entries: int
    pictures: int
    frames: int
    renditions: int
    clips: int
    records: int
    paired: int
    fields: dict[str, int]
    lone_pictures: tuple[str, ...]
    lone_records: tuple[str, ...]
    ties: tuple[str, ...]
    refused: tuple[tuple[str, str], ...]
    others: dict[str, int]
    albums: tuple[str, ...]
    examples: tuple[Example, ...]


def try_dialect(parcel: Parcel, progress: Progress) -> Trial:
    """Read a parcel as unpacking would, in a temporary folder. Raises PartsAmiss or HostileArchive as unpacking does."""
    with tempfile.TemporaryDirectory(prefix="bramblemoor-") as folder:
        tried = replace(parcel, work=Path(folder))
        sheet = Worksheet(tried.work, worksheets.fingerprint(tried))
        try:
            list_entries(sheet, tried)
            extract(sheet, tried, progress, keep=False)
            with sheet.changing():
                join(sheet, tried.dialect)
            return _trial(sheet)
        finally:
            sheet.db.close()


def _trial(sheet: Worksheet) -> Trial:
    def names(query: str) -> tuple[str, ...]:
        return tuple(row[0] for row in sheet.db.execute(query))

    def number(query: str) -> int:
        return int(sheet.db.execute(query).fetchone()[0])

    fields: Counter[str] = Counter()
    refused: list[tuple[str, str]] = []
    for row in sheet.db.execute(
        "SELECT name, r.claims, r.albums, r.troubles FROM records r JOIN entries ON entries.id = entry ORDER BY r.id"
    ):
        fields.update({claim.field for claim in decode_claims(row["claims"])})
        fields.update(["album"] if row["albums"] != "[]" else [])
        refused += [(row["name"], trouble) for trouble in json.loads(row["troubles"])]
    for row in sheet.db.execute("SELECT name, troubles FROM entries WHERE troubles != '[]' ORDER BY id"):
        refused += [(row["name"], trouble) for trouble in json.loads(row["troubles"])]
    return Trial(
        entries=number("SELECT count(*) FROM entries"),
        pictures=number("SELECT count(*) FROM entries WHERE kind = 'picture'"),
        frames=number("SELECT count(DISTINCT frame) FROM units"),
        renditions=number("SELECT count(*) FROM units WHERE role = 'rendition'"),
        clips=number("SELECT count(*) FROM units WHERE role = 'clip'"),
        records=number("SELECT count(*) FROM records"),
        paired=number("SELECT count(DISTINCT record) FROM pairs"),
        fields=dict(fields.most_common()),
        lone_pictures=names(
            "SELECT name FROM units u JOIN entries e ON e.id = u.entry WHERE role = 'original' AND NOT EXISTS (SELECT 1 FROM"
            " units m JOIN entries o ON o.sha256 = m.sha256 JOIN pairs ON picture = o.id WHERE m.frame = u.frame) ORDER BY e.id"
        ),
        lone_records=names(
            "SELECT CASE WHEN family = 'index' THEN coalesce(nullif(path, ''), nullif(file_name, ''), reference) ELSE name END"
            " FROM records r JOIN entries e ON e.id = r.entry WHERE r.id NOT IN (SELECT record FROM pairs) ORDER BY r.id"
        ),
        ties=names(
            "SELECT s.name || ' fits ' || group_concat(p.name, ', ') FROM ties JOIN records r ON r.id = record"
            " JOIN entries s ON s.id = r.entry JOIN entries p ON p.id = picture GROUP BY record ORDER BY record"
        ),
        refused=tuple(refused),
        others=dict(sheet.db.execute("SELECT kind, count(*) FROM entries GROUP BY kind ORDER BY kind").fetchall()),
        albums=names("SELECT title FROM described ORDER BY id"),
        examples=tuple(_examples(sheet)),
    )


def _examples(sheet: Worksheet) -> list[Example]:
    """Pairs from all over the parcel, not only from its beginning."""
    total = sheet.db.execute("SELECT count(*) FROM pairs").fetchone()[0]
    examples = []
    for place in range(min(_EXAMPLES, total)):
        row = sheet.db.execute(
            "SELECT p.name AS picture, s.name AS sidecar, r.claims, r.family, r.number FROM pairs"
            " JOIN entries p ON p.id = picture JOIN records r ON r.id = record JOIN entries s ON s.id = r.entry"
            " ORDER BY picture LIMIT 1 OFFSET ?",
            (place * total // min(_EXAMPLES, total),),
        ).fetchone()
        which = f", record {row['number'] + 1}" if row["family"] == "index" else ""
        facts = tuple(f"{claim.field}: {claim.value}" for claim in decode_claims(row["claims"]))
        examples.append(Example(row["picture"], row["sidecar"] + which, facts))
    return examples
