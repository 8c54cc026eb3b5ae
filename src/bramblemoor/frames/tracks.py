"""Tracks of a receiver (GPX 1.1): where one was at a moment, between the points that it has noted."""

from bisect import bisect_left
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from bramblemoor.errors import NotPossible
from bramblemoor.frames.moments import Moment
from bramblemoor.frames.zones import offset_at

_MOST_BYTES = 256 << 20
_GAP = timedelta(minutes=10)
"""Between two points so far apart nobody knows where one was; before the first and behind the last for _NEAR."""
_NEAR = timedelta(minutes=2)


@dataclass(frozen=True)
class Track:
    """Points in order of time: moments (naive UTC), and positions in degrees."""

    moments: list[datetime]
    positions: list[tuple[float, float]]

    def at(self, moment: Moment) -> tuple[float, float] | None:
        """Where one was; None where the track does not tell. A local clock without its zone is read by the track's."""
        when = self._utc(moment)
        place = bisect_left(self.moments, when)
        before, after = place - 1, place
        if after < len(self.moments) and self.moments[after] == when:
            return self.positions[after]
        if before >= 0 and after < len(self.moments) and self.moments[after] - self.moments[before] <= _GAP:
            share = (when - self.moments[before]) / (self.moments[after] - self.moments[before])
            (south, west), (north, east) = self.positions[before], self.positions[after]
            return south + (north - south) * share, west + (east - west) * share
        near = [
            one for one in (before, after) if 0 <= one < len(self.moments) and abs(self.moments[one] - when) <= _NEAR
        ]
        return self.positions[min(near, key=lambda one: abs(self.moments[one] - when))] if near else None

    def _utc(self, moment: Moment) -> datetime:
        if moment.local is not None and moment.offset is None and moment.utc is None:
            nearest = min(len(self.positions) - 1, bisect_left(self.moments, moment.local))
            offset = offset_at(*self.positions[nearest], moment.local)
            return moment.local - timedelta(minutes=offset or 0)
        return moment.instant


def read_track(file: Path) -> Track:
    """All points of a GPX file that have a time. Raises NotPossible for a file that is none, or has none."""
    import gpxpy

    try:
        if file.stat().st_size > _MOST_BYTES:
            raise NotPossible(f"{file} is too large for a track.", "Name the GPX file of a day or a journey.")
        told = gpxpy.parse(file.read_text(encoding="utf-8-sig"))
    except (OSError, UnicodeDecodeError, gpxpy.gpx.GPXException) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise NotPossible(
            f"{file} cannot be read as a track ({why}).", "Name a GPX file, as receivers write it."
        ) from error
    points = sorted(
        (point.time.astimezone(UTC).replace(tzinfo=None), (point.latitude, point.longitude))
        for track in told.tracks for segment in track.segments for point in segment.points if point.time is not None
    )  # fmt: skip
    if not points:
        raise NotPossible(f"{file} has no point with a time.", "Name the track as it was recorded.")
    return Track([moment for moment, _ in points], [position for _, position in points])
