"""All that is known of one frame: what is believed and who says it, its files, albums and copies."""

from collections.abc import Sequence
from dataclasses import dataclass

from bramblemoor.frames.claims import SEVERAL, TAKEN_AWAY, Claim, Facts, believe, parse_position
from bramblemoor.frames.moments import parse_offset
from bramblemoor.library.catalogue import albums_of, claims_of
from bramblemoor.library.find import put_away
from bramblemoor.library.home import Library

_APART = ("came_as", "reduced_of", "region")
"""Fields of claims that are no rivals of others."""


@dataclass(frozen=True)
class ToldClaim:
    """A claim, by which file or order it was told, and whether what is shown of the frame is, or rests on, it."""

    claim: Claim
    told: str
    believed: bool


@dataclass(frozen=True)
class OneFile:
    role: str
    path: str
    bytes: int
    sha256: str
    media: str
    width: int
    height: int
    former_name: str


@dataclass(frozen=True)
class OneCopy:
    """What a depot has of the frame: so many files in this state; `read_at` is the oldest reading of them, null for none."""

    name: str
    site: str
    medium: str
    state: str
    files: int
    read_at: str | None


@dataclass(frozen=True)
class Dossier:
    path: str
    kind: str
    service: str | None
    reference: str | None
    order: str | None
    facts: Facts
    albums: Sequence[str]
    claims: Sequence[ToldClaim]
    apart: dict[str, list[str]]
    files: Sequence[OneFile]
    copies: Sequence[OneCopy]
    put_away_at: Sequence[str]


def dossier(library: Library, frame: int) -> Dossier:
    """Everything about a frame that is in the ledger."""
    db = library.db
    row = db.execute("SELECT * FROM frames WHERE id = ?", (frame,)).fetchone()
    facts = believe(claims_of(db, frame))
    told = db.execute(
        "SELECT field, value, source, told FROM claims WHERE frame = ? ORDER BY rowid", (frame,)
    ).fetchall()
    files = db.execute(
        "SELECT role, path, bytes, sha256, media, width, height, former_name FROM files WHERE frame = ? ORDER BY role, path",
        (frame,),
    )
    copies = db.execute(
        "SELECT name, site, medium, iif(c.sha256 IS NULL, c.state, 'an earlier version') AS state, count(*) AS files,"
        " strftime('%Y-%m-%dT%H:%M:%SZ', min(c.read_at), 'unixepoch') AS read_at"
        " FROM copies c JOIN files f ON f.id = file JOIN depots ON depots.number = c.depot WHERE frame = ?"
        " GROUP BY name, 4",
        (frame,),
    )
    claims = [(Claim(one["field"], one["value"], one["source"]), one["told"]) for one in told]
    return Dossier(
        path=f"{row['folder']}/{row['name']}",
        kind=row["kind"],
        service=row["service"],
        reference=row["reference"],
        order=row["arrived"],
        facts=facts,
        albums=albums_of(db, frame),
        claims=[ToldClaim(one, by, _is_believed(one, facts)) for one, by in claims if one.field not in _APART],
        apart={field: [one.value for one, _ in claims if one.field == field] for field in _APART},
        files=[OneFile(*one) for one in files.fetchall()],
        copies=[OneCopy(*one) for one in copies.fetchall()],
        put_away_at=put_away(library, [frame]).get(frame, ()),
    )


def _is_believed(claim: Claim, facts: Facts) -> bool:
    if claim.field == "taken":
        return claim.source == facts.taken_by
    if claim.field == "position":
        return parse_position(claim.value) == facts.position
    if claim.field in SEVERAL:
        return claim.value in SEVERAL[claim.field](facts)
    if claim.field in TAKEN_AWAY:
        return (TAKEN_AWAY[claim.field], claim.value) in facts.gone
    if claim.field in ("quality", "edited"):
        return True
    if claim.field == "offset":
        return facts.taken is not None and facts.taken.offset == parse_offset(claim.value)
    if claim.field == "favourite":
        return (claim.value == "yes") == facts.favourite
    return bool(claim.value) and claim.value == str(getattr(facts, claim.field))
