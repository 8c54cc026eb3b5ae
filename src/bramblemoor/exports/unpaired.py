"""What found no partner: records and pictures that stay alone, with what could have been theirs, and why it is not."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import get_args

from bramblemoor.exports.evidence import Why
from bramblemoor.exports.worksheet import Worksheet

_WORDS: dict[Why, str] = {
    "digest": "another content", "size": "another size", "ending": "another ending", "date": "another date",
    "known": "an earlier export told which is its own",
    "name": "only a name speaks for it",
}  # fmt: skip
assert set(_WORDS) == set(get_args(Why))
_MOST = 3  # candidates named


@dataclass(frozen=True)
class Candidate:
    """What could have been a partner, by name; `why` is None where it fits as well as another one."""

    name: str
    why: Why | None

    def __str__(self) -> str:
        return f"{self.name} ({_WORDS[self.why] if self.why else 'fits as well as others'})"


@dataclass(frozen=True)
class Lone:
    """A record or a picture without a partner: what it is called, and where it stands.

    `open` says that one of its candidates may be its partner: nothing excludes it.
    """

    name: str
    entry: str
    candidates: tuple[Candidate, ...]

    @property
    def open(self) -> bool:
        return any(one.why in (None, "name") for one in self.candidates)


def listed(candidates: Sequence[Candidate]) -> str:
    """Candidates, as a sentence has them; the first few."""
    more = len(candidates) - _MOST
    return ", ".join(map(str, candidates[:_MOST])) + (f" and {more:,} more" if more > 0 else "")


# Only pictures and records that have no partner of that family themselves: any other is spoken for.
_OF_RECORD = """
    SELECT p.name, NULL AS why FROM ties t JOIN entries p ON p.id = t.picture WHERE t.record = :record
    UNION ALL
    SELECT p.name, x.why FROM rejected x JOIN entries p ON p.id = x.picture WHERE x.record = :record
    AND NOT EXISTS (SELECT 1 FROM ties t WHERE t.record = x.record AND t.picture = x.picture)
    AND NOT EXISTS (SELECT 1 FROM units u JOIN units m ON m.frame = u.frame JOIN entries o ON o.sha256 = m.sha256
        JOIN pairs ON pairs.picture = o.id JOIN records r ON r.id = pairs.record
        WHERE u.sha256 = p.sha256 AND r.family = :family)
    ORDER BY 2, 1
"""
_OF_PICTURE = """
    SELECT s.name, r.number, r.family, NULL AS why FROM ties t JOIN records r ON r.id = t.record JOIN entries s ON s.id = r.entry
    WHERE t.picture = :picture
    UNION ALL
    SELECT s.name, r.number, r.family, x.why FROM rejected x JOIN records r ON r.id = x.record JOIN entries s ON s.id = r.entry
    WHERE x.picture = :picture AND NOT EXISTS (SELECT 1 FROM pairs WHERE pairs.record = x.record)
    AND NOT EXISTS (SELECT 1 FROM ties t WHERE t.record = x.record AND t.picture = x.picture) ORDER BY 4, 1, 2
"""


def lone_records(sheet: Worksheet) -> Iterator[Lone]:
    """Records without a picture, sidecars first; not those that could not be read. A frame that has several is told once."""
    seen: set[str] = set()
    for row in sheet.db.execute(
        "SELECT r.*, e.name FROM records r JOIN entries e ON e.id = r.entry WHERE r.id NOT IN (SELECT record FROM pairs)"
        " AND NOT (r.troubles != '[]' AND r.claims = '[]') ORDER BY r.family != 'sidecar', e.name, r.number, r.id"
    ).fetchall():
        names = {name for name in (row["reference"], row["path"], row["file_name"]) if name}
        if names & seen:
            continue
        seen |= names if row["reference"] or row["path"] else set()
        found = sheet.db.execute(_OF_RECORD, {"record": row["id"], "family": row["family"]})
        candidates = tuple(Candidate(one["name"], one["why"]) for one in found)
        name = row["file_name"] or row["path"] or row["name"]
        yield Lone(name, record_name(row["name"], row["number"], row["family"]), candidates)


def candidates_of(sheet: Worksheet, picture: int) -> tuple[Candidate, ...]:
    """The records that could have been a lone picture's, and are nobody else's."""
    return tuple(
        Candidate(record_name(row["name"], row["number"], row["family"]), row["why"])
        for row in sheet.db.execute(_OF_PICTURE, {"picture": picture})
    )


def record_name(entry: str, number: int, family: str) -> str:
    """What a record is called: its document, and its place in it where that holds many."""
    return f"{entry}, record {number + 1}" if family == "index" else entry
