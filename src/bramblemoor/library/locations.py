"""Locations of the user's own: names for where pictures were taken, by position, in companions/locations.toml.

They name what nobody else names: what the user, the camera or a service says of a frame's location is believed before.
"""

import math
import sqlite3
import tomllib
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated

import msgspec

from bramblemoor.errors import NotPossible

FILE = "companions/locations.toml"
NAME_AT = "bm_location_at"
"""The function by which a ledger's queries ask for the name at a position; without it nothing is named."""
_EARTH = 6_371_008.8  # metres: the mean radius (IUGG)
_Latitude = Annotated[float, msgspec.Meta(ge=-90, le=90)]
_Longitude = Annotated[float, msgspec.Meta(ge=-180, le=180)]


class Location(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A name for all that lies within `radius` metres of a position, in degrees of latitude and longitude."""

    name: Annotated[str, msgspec.Meta(min_length=1)]
    position: tuple[_Latitude, _Longitude]
    radius: Annotated[float, msgspec.Meta(gt=0)]


class _Named(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    location: list[Location] = []


def locations_of(root: Path) -> list[Location]:
    """The locations of a library, the smallest first. Raises NotPossible for a file that is not TOML or not these."""
    path = root / FILE
    try:
        written = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        return []
    except UnicodeDecodeError as error:
        raise NotPossible(f"{path} cannot be read: {error}.", "Put it right with an editor and try again.") from error
    try:
        return sorted(msgspec.convert(tomllib.loads(written), _Named).location, key=lambda one: one.radius)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError) as error:
        raise NotPossible(
            f"{path} cannot be read: {error}.",
            "Put it right with an editor and try again; each [[location]] has a name, a position and a radius.",
        ) from error


def readable_locations(root: Path) -> list[Location] | None:
    """The same; None where the file cannot be read: then nobody knows what it names, and what it has named stays."""
    try:
        return locations_of(root)
    except NotPossible:
        return None


def name_at(locations: Iterable[Location] | None, latitude: float, longitude: float) -> str | None:
    """The name of the smallest location that a position lies in; "" for none, None where the locations are not known."""
    if locations is None:
        return None
    return next((one.name for one in locations if metres(one.position, (latitude, longitude)) <= one.radius), "")


def metres(one: tuple[float, float], other: tuple[float, float]) -> float:
    """The distance of two positions on a sphere, by the haversine formula."""
    (lat, lon), (lat2, lon2) = (tuple(map(math.radians, each)) for each in (one, other))
    a = math.sin((lat2 - lat) / 2) ** 2 + math.cos(lat) * math.cos(lat2) * math.sin((lon2 - lon) / 2) ** 2
    return 2 * _EARTH * math.asin(min(1.0, math.sqrt(a)))


def make_known(db: sqlite3.Connection, root: Path) -> str:
    """Let a library's ledger name positions by its locations, as they are written now; returns what is wrong with them, or ""."""
    trouble = ""
    try:
        known: list[Location] | None = locations_of(root)
    except NotPossible as error:
        known, trouble = None, f"{error.happened} {error.remedy}"
    db.create_function(NAME_AT, 2, lambda latitude, longitude: name_at(known, latitude, longitude), deterministic=True)
    return trouble
