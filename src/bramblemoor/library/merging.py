"""What two libraries know of the same frames, joined: what is said there and not here is added; what is said here stays.

Nothing that was said by hand here is replaced, and no editor's instructions are mixed with another state of them.
"""

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import get_args

from bramblemoor.disk.file_systems import flush_files
from bramblemoor.frames.claims import HAND, ORDER, TAKEN_AWAY, TAKEN_AWAY_BY, Claim, Field
from bramblemoor.frames.xmp_edits import edits
from bramblemoor.frames.xmp_fragments import instructions
from bramblemoor.frames.xmp_writing import read_packet
from bramblemoor.library.albums import extend_album, write_albums, write_albums_of
from bramblemoor.library.catalogue import add_claims, claims_of, is_bound
from bramblemoor.library.folding import plain
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding
from bramblemoor.library.renewing import renew_all, take_up_all
from bramblemoor.library.sidecars import packet_of_frame, take_up_edits, write_sidecar
from bramblemoor.library.taken_in import frame_of
from bramblemoor.running import Progress, Stage, portions

_BATCH = 50  # frames of one transaction


@dataclass
class Joined:
    """What is said there and not here: of how many frames that are here, in how many albums, and where the two contradict."""

    frames: int = 0
    albums: int = 0
    findings: list[Finding] = field(default_factory=list)


@dataclass(frozen=True)
class _News:
    """What is new of a frame here: claims, and an editor's instructions."""

    frame: int
    path: str
    claims: list[Claim]
    instructions: bytes | None


def join(library: Library, other: Library, progress: Progress, *, changing: bool) -> Joined:
    """Add what another library knows of the frames that both have; or, not `changing`, only look what that would be.

    It may be killed at any moment, and begun again: what is here already is not added once more.
    """
    joined = Joined()
    places = _places(library, other)
    done = 0
    for some in portions(iter(places.items()), _BATCH):
        news = [one for there, here in some if (one := _news(library, other, there, here, joined)) is not None]
        if changing and news:
            _enter(library, news)
        done += len(some)
        progress(Stage("joining what is known", "frames"), done, len(places))
    _join_albums(library, other, places, joined, changing=changing)
    _note_culled(library, other, joined)
    return joined


def said_there(other: Library, frame: int) -> list[Claim]:
    """All that is said of a frame of a library, in order; what was changed in its sidecar since that was looked at comes last."""
    claims = [
        claim for claim in claims_of(other.db, frame)
        if claim.source in ORDER and claim.source != "map" and claim.field in get_args(Field)
    ]  # fmt: skip  # each library has a map of its own; what nobody here says is none of ours
    packet = packet_of_frame(other, frame)
    if packet is not None:
        claims += edits(read_packet(packet), claims, was_written=True)
    return claims


def to_add(here: Sequence[Claim], there: Sequence[Claim]) -> tuple[list[Claim], list[str]]:
    """The claims that are only there, and may be added here; and the contradictions, as sentences.

    What was said by hand here stays: of one thing, or of one keyword or person.
    """
    known = set(here)
    said_here = {_matter(claim): claim for claim in here if claim.source in HAND}
    said_there = {_matter(claim): claim for claim in there if claim.source in HAND}
    found = [
        claim for claim in there
        if claim not in known and (claim.source not in HAND or _matter(claim) not in said_here)
    ]  # fmt: skip
    contradictions = [
        f"{matter[0]}: {_told(mine)} here, {_told(said_there[matter])} there"
        for matter, mine in said_here.items()
        if matter in said_there and (mine.field, mine.value) != (said_there[matter].field, said_there[matter].value)
    ]
    return found, contradictions


def _matter(claim: Claim) -> tuple[str, str]:
    """What a claim by hand is about: a field, or of several values one of them."""
    several = claim.field in TAKEN_AWAY or claim.field in TAKEN_AWAY_BY
    return TAKEN_AWAY.get(claim.field, claim.field), claim.value if several else ""


def _told(claim: Claim) -> str:
    if claim.field in TAKEN_AWAY:
        return f"{claim.value!r} was taken away"
    return repr(claim.value) if claim.value else "nothing"


def _places(library: Library, other: Library) -> dict[int, int]:
    """The frames that both have: by their number there, their number here."""
    found = {}
    for frame, sha256 in other.db.execute("SELECT frame, sha256 FROM files WHERE role = 'original' ORDER BY frame"):
        here = frame_of(library.db, sha256)
        if here is not None:
            found[frame] = here[0]
    return found


def _news(library: Library, other: Library, there: int, here: int, joined: Joined) -> _News | None:
    path = library.db.execute("SELECT folder || '/' || name FROM frames WHERE id = ?", (here,)).fetchone()[0]
    claims, contradictions = to_add(claims_of(library.db, here), said_there(other, there))
    packet = packet_of_frame(other, there)
    new, otherwise = (None, []) if packet is None else instructions(packet, beside=packet_of_frame(library, here))
    contradictions += [f"an editor's instructions ({space}) are others there than here" for space in otherwise]
    joined.findings += [Finding(path, f"{one}; what stands here stays") for one in contradictions]
    if not claims and new is None:
        return None
    if is_bound(library.db, here):
        joined.findings.append(Finding(
            path, "its year is bound, so what that library knows of it was not added; to add it: unbind, and merge again",
            attention=True,
        ))  # fmt: skip
        return None
    joined.frames += 1
    return _News(here, path, claims, new)


def _enter(library: Library, news: Sequence[_News]) -> None:
    written: list[Path] = []
    take_up_all(library, [one.frame for one in news])
    with library.ledger.changing(facts=True) as db:
        for one in news:
            take_up_edits(library, one.frame)
            add_claims(db, one.frame, one.path, one.claims, beneath=True)
            also = [one.instructions] if one.instructions is not None else []
            path = write_sidecar(library, one.frame, where_different=True, also=also)
            written += [path] if path is not None else []
        write_albums_of(library, [one.frame for one in news])
        flush_files(written, library.root)


def _join_albums(library: Library, other: Library, places: dict[int, int], joined: Joined, *, changing: bool) -> None:
    """Its albums: of the same title, or the same one of a service, they become one; its frames come behind."""
    fields = "SELECT id, title, description, coalesce(service, '') AS service, coalesce(reference, '') AS reference FROM albums"
    known = library.db.execute(fields).fetchall()
    for album in other.db.execute(fields).fetchall():
        same = next((one for one in known if _is_same(one, album)), None)
        within = _members(library.db, same["id"]) if same is not None else []
        frames = [places[frame] for frame in _members(other.db, album["id"]) if frame in places]
        if same is not None and set(frames) <= set(within):
            continue
        joined.albums += 1
        if changing:
            _extend(library, album if same is None else same, frames)


def _is_same(here: sqlite3.Row, there: sqlite3.Row) -> bool:
    of_service = (there["service"], there["reference"])
    return (there["service"] and of_service == (here["service"], here["reference"])) or (
        plain(here["title"]) == plain(there["title"])
    )


def _members(db: sqlite3.Connection, album: int) -> list[int]:
    return [row[0] for row in db.execute("SELECT frame FROM album_frames WHERE album = ? ORDER BY position", (album,))]


def _extend(library: Library, album: sqlite3.Row, frames: list[int]) -> None:
    take_up_all(library, frames)
    with library.ledger.changing(facts=True) as db:
        number, grown = extend_album(
            db, service=album["service"], reference=album["reference"], title=album["title"],
            description=album["description"], frames=frames, behind=True,
        )  # fmt: skip
        renew_all(library, grown)
        write_albums(library, [number])


def _note_culled(library: Library, other: Library, joined: Joined) -> None:
    """What was culled there and is here is not culled by that: it is told."""
    for (sha256,) in other.db.execute("SELECT sha256 FROM culled WHERE path != ''"):
        here = frame_of(library.db, sha256)
        if here is not None:
            joined.findings.append(
                Finding(here[1], "it was culled there, and stays here; to have it leave: bramblemoor cull mark")
            )
