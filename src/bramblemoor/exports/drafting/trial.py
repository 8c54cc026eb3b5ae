"""Trying a dialect on a parcel: what would be paired and understood. Nothing reaches a library."""

import json
import tempfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from bramblemoor.exports import worksheet as worksheets
from bramblemoor.exports.albums import albums_in
from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.extract import extract, list_entries
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.planning import join
from bramblemoor.exports.unpaired import Lone, candidates_of, lone_records, record_name
from bramblemoor.exports.worksheet import Worksheet, decode_claims
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress

_EXAMPLES = 10


@dataclass(frozen=True)
class Example:
    """One pair: the picture, the sidecar, and what is understood of it as "field: value"."""

    picture: str
    sidecar: str
    facts: tuple[str, ...]


@dataclass(frozen=True)
class TriedAlbum:
    """An album, how many frames are in it, and how the members that did not come are named."""

    title: str
    members: int
    missing: tuple[str, ...]


@dataclass(frozen=True)
class Trial:
    """What a dialect makes of a parcel. `fields` counts the records in which each field was found.

    `refused` are (sidecar, sentence); of `albums` each has its title, and how many members are in it and did not come.
    """

    entries: int
    pictures: int
    frames: int
    renditions: int
    clips: int
    records: int
    paired: int
    fields: dict[str, int]
    lone_pictures: tuple[Lone, ...]
    lone_records: tuple[Lone, ...]
    refused: tuple[tuple[str, str], ...]
    others: dict[str, int]
    albums: tuple[TriedAlbum, ...]
    examples: tuple[Example, ...]


def try_dialect(parcel: Parcel, progress: Progress) -> Trial:
    """Read a parcel as unpacking would, in a temporary folder. Raises PartsAmiss or HostileArchive as unpacking does."""
    with tempfile.TemporaryDirectory(prefix="bramblemoor-") as folder:
        tried = replace(parcel, work=Path(folder))
        sheet = Worksheet(tried.work, worksheets.fingerprint(tried))
        try:
            with Helpers() as helping:
                list_entries(sheet, tried, helping, progress)
                extract(sheet, tried, helping, progress, keep=False)
            with sheet.changing():
                join(sheet, tried.dialect)
            return _trial(sheet, tried.dialect)
        finally:
            sheet.db.close()


def _trial(sheet: Worksheet, dialect: Dialect) -> Trial:
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
        lone_pictures=tuple(_lone_pictures(sheet)) if dialect.tells_of_each else (),
        lone_records=tuple(lone_records(sheet)),
        refused=tuple(refused),
        others=dict(sheet.db.execute("SELECT kind, count(*) FROM entries GROUP BY kind ORDER BY kind").fetchall()),
        albums=tuple(TriedAlbum(album.title, len(album.frames), album.missing) for album in albums_in(sheet, dialect)),
        examples=tuple(_examples(sheet)),
    )


def _lone_pictures(sheet: Worksheet) -> Iterator[Lone]:
    for row in sheet.db.execute(
        "SELECT e.id, name FROM units u JOIN entries e ON e.id = u.entry WHERE role = 'original' AND NOT EXISTS (SELECT 1 FROM"
        " units m JOIN entries o ON o.sha256 = m.sha256 JOIN pairs ON picture = o.id WHERE m.frame = u.frame) ORDER BY name, e.id"
    ).fetchall():
        yield Lone(row["name"], row["name"], candidates_of(sheet, row["id"]))


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
        facts = tuple(f"{claim.field}: {claim.value}" for claim in decode_claims(row["claims"]))
        examples.append(Example(row["picture"], record_name(row["sidecar"], row["number"], row["family"]), facts))
    return examples
