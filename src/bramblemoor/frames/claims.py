"""Claims: who says what about a frame, and which of them is believed."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Literal

import msgspec

from bramblemoor.frames.moments import Moment, infer_offset, parse_moment, parse_offset

Source = Literal["you", "sidecar", "xmp", "iptc", "camera", "service", "map", "name", "file", "pixels"]
Field = Literal[
    "taken",
    "offset",
    "title",
    "caption",
    "keyword",
    "person",
    "no_keyword",
    "no_person",
    "region",
    "position",
    "location",
    "favourite",
    "rating",
    "label",
    "creator",
    "rights",
    "terms",
    "template",
    "no_template",
    "camera",
    "lens",
    "quality",
    "edited",
    "reduced_of",
    "came_as",
]

# The most believed first; "sidecar" is what somebody wrote into the XMP beside a picture in the library.
# Location names and positions follow LOCATION_ORDER: what a delivered XMP says comes after the camera.
ORDER: tuple[Source, ...] = ("you", "sidecar", "xmp", "iptc", "camera", "service", "map", "name", "file", "pixels")
LOCATION_ORDER: tuple[Source, ...] = (
    "you", "sidecar", "camera", "xmp", "iptc", "service", "map", "name", "file", "pixels"
)  # fmt: skip
HAND: tuple[Source, ...] = ("you", "sidecar")
"""Said by hand, here or in an editor: of these two the latest word counts, whichever said it."""
_RANKS: dict[Source, int] = {source: ORDER.index("you" if source in HAND else source) for source in ORDER}
_LOCATION_RANKS: dict[Source, int] = {
    source: LOCATION_ORDER.index("you" if source in HAND else source) for source in LOCATION_ORDER
}
RETELLERS = (*HAND, "service")
"""Who may say a thing anew: then the latest word counts."""
TAKEN_AWAY: dict[Field, Field] = {"no_keyword": "keyword", "no_person": "person", "no_template": "template"}
"""The fields that take a value away again, and from which."""
TAKEN_AWAY_BY: dict[Field, Field] = {kept: gone for gone, kept in TAKEN_AWAY.items()}
"""The fields of several values, and which take one away."""
MARKED = -1
"""The rating of a frame that is marked to be culled, as XMP has it of rejects (ISO 16684-1, 8.2.2.1: xmp:Rating)."""
_SAME = 2  # seconds
_DRIFT = 300  # seconds that one clock may be off another


class Claim(msgspec.Struct, frozen=True, gc=False):
    """One fact from one source. `value` is text; a moment is written as by `Moment`, a position as "lat,lon" in degrees."""

    field: Field
    value: str
    source: Source


class Facts(msgspec.Struct, frozen=True):
    """What is believed about a frame once every claim was heard. `conflicts` are sentences for a person.

    `by_you` are the fields in which the user's own word, told here, is the latest by hand; `gone` are keywords and people
    that were taken away by hand.
    """

    taken: Moment | None = None
    taken_by: Source | None = None
    title: str = ""
    caption: str = ""
    keywords: tuple[str, ...] = ()
    people: tuple[str, ...] = ()
    position: tuple[float, float] | None = None
    location: str = ""
    favourite: bool = False
    rating: int | None = None
    label: str = ""
    creator: str = ""
    rights: str = ""
    terms: str = ""
    faces: tuple[str, ...] = ()
    templates: tuple[str, ...] = ()
    camera: str = ""
    lens: str = ""
    reduced: bool = False
    conflicts: tuple[str, ...] = ()
    by_you: frozenset[Field] = frozenset()
    gone: frozenset[tuple[Field, str]] = frozenset()


def believe(claims: Sequence[Claim]) -> Facts:
    """Weigh the claims: single values by the order of belief, keywords and people as unions in order of belief.

    `claims` are in the order in which they were told: of what a user or a service said several times, the latest counts.
    """

    by_field: dict[Field, list[Claim]] = {}
    latest: dict[tuple[Field, str], Claim] = {}

    def first(field: Field, ranks: Mapping[Source, int] = _RANKS) -> str:
        return _first(by_field[field], ranks) if field in by_field else ""

    def union(field: Field) -> tuple[str, ...]:
        if field not in by_field:
            return ()
        told = (claim.value for claim in _ranked(by_field[field]))
        return tuple(value for value in dict.fromkeys(told) if (field, value) not in gone)

    for claim in claims:
        by_field.setdefault(claim.field, []).append(claim)
        if claim.source in HAND:
            several = claim.field in TAKEN_AWAY or claim.field in TAKEN_AWAY_BY
            latest[TAKEN_AWAY.get(claim.field, claim.field), claim.value if several else ""] = claim
    gone = frozenset(key for key, claim in latest.items() if claim.field in TAKEN_AWAY)
    taken, taken_by, conflicts = _taken(by_field.get("taken", ()), by_field.get("offset", ()))
    return Facts(
        taken=taken,
        taken_by=taken_by,
        title=first("title"),
        caption=first("caption"),
        keywords=union("keyword"),
        people=union("person"),
        position=parse_position(where) if (where := first("position", _LOCATION_RANKS)) else None,
        location=first("location", _LOCATION_RANKS),
        favourite=first("favourite") == "yes",
        rating=int(rating) if (rating := first("rating")).lstrip("-").isdecimal() else None,
        label=first("label"),
        creator=first("creator"),
        rights=first("rights"),
        terms=first("terms"),
        faces=union("region"),
        templates=union("template"),
        camera=first("camera"),
        lens=first("lens"),
        reduced=first("quality") == "reduced" or bool(first("reduced_of")),
        conflicts=conflicts,
        by_you=frozenset(field for (field, _), claim in latest.items() if claim.source == "you"),
        gone=gone,
    )


SEVERAL: dict[Field, Callable[[Facts], tuple[str, ...]]] = {
    "keyword": lambda facts: facts.keywords, "person": lambda facts: facts.people, "template": lambda facts: facts.templates,
}  # fmt: skip
"""The fields of which several values are believed together."""


def believed_moment(claims: Iterable[Claim]) -> tuple[Moment | None, tuple[str, ...]]:
    """When a frame was taken, and the conflicts, as `believe` tells them: where nothing else is asked."""
    told: dict[Field, list[Claim]] = {"taken": [], "offset": []}
    for claim in claims:
        if claim.field in told:
            told[claim.field].append(claim)
    moment, _, conflicts = _taken(told["taken"], told["offset"])
    return moment, conflicts


def _first(told: Sequence[Claim], ranks: Mapping[Source, int] = _RANKS) -> str:
    """The value that is believed of a field that has one."""
    if len(told) == 1:
        return told[0].value
    best = min(ranks[claim.source] for claim in told)
    same = [claim for claim in told if ranks[claim.source] == best]
    return (same[-1] if same[0].source in RETELLERS else same[0]).value


def _ranked(claims: Iterable[Claim]) -> list[Claim]:
    return sorted(claims, key=lambda claim: _RANKS[claim.source])


def _taken(claims: Sequence[Claim], offsets: Sequence[Claim]) -> tuple[Moment | None, Source | None, tuple[str, ...]]:
    """The believed moment; a UTC told by another source supplies an offset that the believed one lacks."""
    by_hand = [claim for claim in claims if claim.source in HAND]
    if by_hand and not by_hand[-1].value:  # all that was said by hand was taken back
        claims = [claim for claim in claims if claim.source not in HAND]
    ranked = _ranked([*reversed([c for c in claims if c.source in RETELLERS]), *claims])
    told = [(claim, moment) for claim in dict.fromkeys(ranked) if (moment := parse_moment(claim.value))]
    if not told:
        return None, None, ()
    best, moment = told[0]
    heard = {best.source}
    conflicts = []
    if best.source == "camera" and moment.local is None:
        moment, doubt = _film_clock(moment, told[1:])
        conflicts += doubt
    local = moment.local
    if local is not None:
        for claim, other in told[1:]:
            # Of one source the latest word counts; a film's own clocks may differ, which is worth knowing.
            if claim.source in ("name", "file") or (claim.source in heard and claim.source in RETELLERS):
                continue
            if best.source in HAND and claim.source in HAND:
                continue  # said anew: that it differs is the point
            heard.add(claim.source)
            if best.source == "you" or (best.source in ("sidecar", "xmp") and other.utc is None):
                continue  # somebody corrected the date: that it differs is the point
            problem, offset = _compared(local, moment.offset, other)
            if problem:
                conflicts.append(
                    f"taken: the {best.source} says {moment}, the {claim.source} says {other};"
                    f" {problem}, and the {best.source} is believed"
                )
            elif moment.offset is None and offset is not None:
                moment = replace(moment, offset=offset)
    if moment.local is not None and moment.offset is None and offsets:
        moment = replace(moment, offset=parse_offset(_first(offsets)))  # the map's word: above none, below all others
    return moment, best.source, tuple(conflicts)


def _compared(local: datetime, offset: int | None, other: Moment) -> tuple[str, int | None]:
    """What is wrong between a local time and another source's word, "" where nothing is; and the offset between them."""
    if other.utc is None:
        if other.local is not None and abs((other.local - local).total_seconds()) > _DRIFT:
            return "they differ", None
        return "", other.offset
    between = infer_offset(local, other.utc)
    if between is None or (offset is not None and offset != between):
        return "no time zone fits both", None
    return "", between


def _film_clock(moment: Moment, others: Sequence[tuple[Claim, Moment]]) -> tuple[Moment, list[str]]:
    """A film's header should count in UTC (14496-12, 8.2.2), but many cameras write their local time there.

    What a service tells with an offset decides; so does the very same clock without a zone, which is local then.
    """
    assert moment.utc is not None
    for claim, other in others:
        if claim.source not in ("name", "service") or other.local is None:
            continue
        if claim.source == "service" and other.offset is not None:
            if abs((other.instant - moment.utc).total_seconds()) <= _DRIFT:
                return Moment(local=moment.utc + timedelta(minutes=other.offset), offset=other.offset), []
            if abs((other.local - moment.utc).total_seconds()) <= _DRIFT:
                return Moment(local=moment.utc, offset=other.offset), []
        elif abs((other.local - moment.utc).total_seconds()) <= _SAME:
            who = "its name" if claim.source == "name" else "the service"
            return Moment(local=moment.utc), [
                f"taken: the film's clock should be UTC, but {who} tells the same as local time"
            ]
    for claim, other in others:
        if (
            claim.source == "service"
            and other.utc is not None
            and abs((moment.utc - other.utc).total_seconds()) > _DRIFT
        ):
            offset = infer_offset(moment.utc, other.utc)
            if offset:
                return Moment(local=moment.utc, offset=offset), [
                    f"taken: the film's clock should be UTC, but beside the service's {other} it reads like local time"
                ]
    return moment, []


def parse_position(written: str) -> tuple[float, float] | None:
    """Degrees from "52.5,-1.25"; None where it is no such text, or no position on the globe."""
    try:
        latitude, longitude = (float(part) for part in written.split(","))
    except ValueError:
        return None
    if not (-90 <= latitude <= 90 and -180 <= longitude <= 180):
        return None
    return latitude, longitude


def written_position(latitude: float, longitude: float) -> str | None:
    """The text of a position claim, to 6 decimals (0.1 m); None for exactly 0/0 (unknown) and what lies off the globe."""
    if (latitude, longitude) == (0.0, 0.0) or not (-90 <= latitude <= 90 and -180 <= longitude <= 180):
        return None
    return f"{latitude:.6f},{longitude:.6f}"
