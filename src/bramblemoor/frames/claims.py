"""Claims: who says what about a frame, and which of them is believed."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from bramblemoor.frames.moments import Moment, infer_offset, parse_moment

Source = Literal["you", "xmp", "camera", "service", "name", "file"]
Field = Literal[
    "taken", "title", "caption", "keyword", "person", "position", "location", "favourite", "camera", "lens", "quality"
]

# The most believed first. Location names and positions follow LOCATION_ORDER: a sidecar's word comes after the camera's.
ORDER: tuple[Source, ...] = ("you", "xmp", "camera", "service", "name", "file")
LOCATION_ORDER: tuple[Source, ...] = ("you", "camera", "xmp", "service", "name", "file")


@dataclass(frozen=True)
class Claim:
    """One fact from one source. `value` is text; a moment is written as by `Moment`, a position as "lat,lon" in degrees."""

    field: Field
    value: str
    source: Source


@dataclass(frozen=True)
class Facts:
    """What is believed about a frame once every claim was heard. `conflicts` are sentences for a person."""

    taken: Moment | None = None
    taken_by: Source | None = None
    title: str = ""
    caption: str = ""
    keywords: tuple[str, ...] = ()
    people: tuple[str, ...] = ()
    position: tuple[float, float] | None = None
    location: str = ""
    favourite: bool = False
    camera: str = ""
    lens: str = ""
    reduced: bool = False
    conflicts: tuple[str, ...] = ()


def believe(claims: Sequence[Claim]) -> Facts:
    """Weigh the claims: single values by the order of belief, keywords and people as unions in order of belief."""

    def first(field: Field, order: Sequence[Source] = ORDER) -> str:
        return next((claim.value for claim in _ranked(claims, field, order)), "")

    def union(field: Field) -> tuple[str, ...]:
        return tuple(dict.fromkeys(claim.value for claim in _ranked(claims, field, ORDER)))

    taken, taken_by, conflicts = _taken(claims)
    return Facts(
        taken=taken,
        taken_by=taken_by,
        title=first("title"),
        caption=first("caption"),
        keywords=union("keyword"),
        people=union("person"),
        position=parse_position(first("position", LOCATION_ORDER)),
        location=first("location", LOCATION_ORDER),
        favourite=first("favourite") == "yes",
        camera=first("camera"),
        lens=first("lens"),
        reduced=first("quality") == "reduced",
        conflicts=conflicts,
    )


def _ranked(claims: Iterable[Claim], field: Field, order: Sequence[Source]) -> list[Claim]:
    return sorted((claim for claim in claims if claim.field == field), key=lambda claim: order.index(claim.source))


def _taken(claims: Sequence[Claim]) -> tuple[Moment | None, Source | None, tuple[str, ...]]:
    """The believed moment; a UTC told by another source supplies an offset that the believed one lacks."""
    told = [(claim, moment) for claim in _ranked(claims, "taken", ORDER) if (moment := parse_moment(claim.value))]
    if not told:
        return None, None, ()
    best, moment = told[0]
    conflicts = []
    local = moment.local
    if local is not None:
        for claim, other in told[1:]:
            if other.utc is None or claim.source in ("name", "file"):
                continue
            offset = infer_offset(local, other.utc)
            if offset is None or (moment.offset is not None and moment.offset != offset):
                conflicts.append(
                    f"taken: the {best.source} says {moment}, the {claim.source} says {other};"
                    f" no time zone fits both, and the {best.source} is believed"
                )
            elif moment.offset is None:
                moment = replace(moment, offset=offset)
    return moment, best.source, tuple(conflicts)


def parse_position(written: str) -> tuple[float, float] | None:
    """Degrees from "52.5,-1.25"; None where it is no such text."""
    try:
        latitude, longitude = (float(part) for part in written.split(","))
    except ValueError:
        return None
    return latitude, longitude


def written_position(latitude: float, longitude: float) -> str | None:
    """The text of a position claim, to 6 decimals (0.1 m); None for exactly 0/0 (unknown) and what lies off the globe."""
    if (latitude, longitude) == (0.0, 0.0) or not (-90 <= latitude <= 90 and -180 <= longitude <= 180):
        return None
    return f"{latitude:.6f},{longitude:.6f}"
