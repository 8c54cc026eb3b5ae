"""Names of places by position, offline: the nearest of some 235,000 places with 500 inhabitants or more.

The data are those of GeoNames, under Creative Commons Attribution 4.0 (docs/places.py makes the file).
"""

import math
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from typing import Any

_EARTH = 6_371_008.8  # metres: the mean radius (IUGG)
_WITHIN = 2_000.0
"""Metres within which a picture is said to be taken at a place, and not some way from it."""


@dataclass(frozen=True)
class Near:
    """The nearest place to a position, and how far away it is in metres."""

    name: str
    metres: float

    def said(self) -> str:
        """ "Harrow", or "6 km from Harrow"."""
        return self.name if self.metres <= _WITHIN else f"{self.metres / 1000:.0f} km from {self.name}"


@dataclass(frozen=True)
class _Places:
    latitude: Any
    longitude: Any
    ends: Any
    names: bytes


@lru_cache(1)
def _places() -> _Places:
    import numpy as np

    with files("bramblemoor.frames").joinpath("places.npz").open("rb") as file, np.load(file) as data:
        return _Places(
            np.radians(data["latitude"] / 1e5), np.radians(data["longitude"] / 1e5),
            np.cumsum(data["length"], dtype=np.int64), data["names"].tobytes(),
        )  # fmt: skip


def nearest(latitude: float, longitude: float, within: float) -> Near | None:
    """The nearest place within so many metres; None where there is none."""
    import numpy as np

    places = _places()
    here, band = math.radians(latitude), within / _EARTH
    low, high = np.searchsorted(places.latitude, [here - band, here + band])
    if low == high:
        return None
    there = places.latitude[low:high]
    # The haversine formula.
    across = np.sin((places.longitude[low:high] - math.radians(longitude)) / 2) ** 2
    down = np.sin((there - here) / 2) ** 2
    distances = 2 * _EARTH * np.arcsin(np.sqrt(np.minimum(1, down + np.cos(there) * math.cos(here) * across)))
    best = int(np.argmin(distances))
    if distances[best] > within:
        return None
    number = int(low) + best
    start = int(places.ends[number - 1]) if number else 0
    return Near(places.names[start : int(places.ends[number])].decode(), float(distances[best]))
