"""Which clock is kept where: the time zone at a position, by the map of zones and the time zone database."""

from datetime import datetime


def offset_at(latitude: float, longitude: float, local: datetime) -> int | None:
    """Minutes from UTC that clocks at a position were ahead at a local time.

    None where nothing is known, where the clocks went back or forward just then, and for the odd offsets of long ago.
    """
    # The map takes half a second to load, and few runs need it.
    from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

    from tzfpy import get_tz

    try:
        zone = ZoneInfo(get_tz(longitude, latitude))
    except (ZoneInfoNotFoundError, ValueError):
        return None
    told = {local.replace(tzinfo=zone, fold=fold).utcoffset() for fold in (0, 1)}
    offset = told.pop()
    if told or offset is None:
        return None
    minutes, odd = divmod(offset.total_seconds(), 60)
    return int(minutes) if not odd and minutes % 15 == 0 else None
