"""How exports write values: dates, degrees, yes and no, text that is escaped, and what stands for "unknown"."""

import html
import re
from datetime import UTC, datetime, timedelta, timezone
from typing import Any, Literal
from urllib.parse import unquote
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from bramblemoor.frames.moments import Moment, moment_from_epoch, parse_moment, parse_offset

Form = Literal[
    "text",
    "html",
    "percent",
    "flag",
    "number",
    "epoch-seconds",
    "epoch-milliseconds",
    "epoch-microseconds",
    "iso",
    "date",
]
_PER_SECOND = {"epoch-seconds": 1, "epoch-milliseconds": 1000, "epoch-microseconds": 10**6}
_YES = {"1", "true", "yes", "y", "on"}
_NO = {"", "0", "false", "no", "n", "off", "none", "null"}
_ISO = re.compile(
    r"(\d{4})-?(\d\d)-?(\d\d)[T ](\d\d):?(\d\d)(?::?(\d\d)(?:[.,](\d{1,9}))?)?\s*(Z|z|UTC|[+-]\d\d(?::?\d\d)?)?"
)
_OFFSET = re.compile(
    r"(?i)((?:utc|gmt)\s*)?[+-](\d{1,2})(?::?(\d\d))?(?<![+-]\d{3})|(?:utc|gmt)\s*(\d{1,2})(?::(\d\d))?|z|utc|gmt"
)
_DEGREES = re.compile(
    r"""([NSEWnsew])?\s*([+-])?\s*(\d{1,3}(?:[.,]\d+)?)\s*[°d:\s]?\s*
        (?:(\d{1,2}(?:[.,]\d+)?)\s*['′m:\s]?\s*(?:(\d{1,2}(?:[.,]\d+)?)\s*(?:["″s]|'')?\s*)?)?([NSEWnsew])?""",
    re.VERBOSE,
)


def written(value: Any, form: Form, pattern: str = "", zone: str = "") -> str:
    """A value as claims write it, "" where it says nothing. Raises ValueError, with a reason, for one that makes no sense.

    `pattern` is a strptime pattern, for the form "date"; `zone` is "utc", "local" or an offset like "+01:00", for dates that
    do not tell their own.
    """
    if form == "flag":
        return "yes" if _flag(value) else ""
    if form in _PER_SECOND:
        return _epoch(value, _PER_SECOND[form])
    if form == "number":
        return f"{number(value):g}"
    if not isinstance(value, str):
        if isinstance(value, bool | dict | list) or value is None:
            raise ValueError(f"text was expected, not {kind_of(value)}")
        value = str(value)
    if form == "iso":
        return _iso(value, zone)
    if form == "date":
        return _date(value, pattern, zone)
    if form == "html":
        value = html.unescape(value)
    elif form == "percent":
        value = unquote(value, errors="strict") if "%" in value else value
    return clean(value).strip()


def with_zone(written: str, zone: Any) -> str:
    """A moment's text with the time zone that a field of its own tells; as it is where that says nothing, or it has its own.

    A zone is an offset ("+02:00", "+0200", "UTC+2", "Z"), a name of the time zone database, or a number: of hours up to 14,
    else of minutes, or of seconds. Raises ValueError for anything else.
    """
    moment = parse_moment(written)
    if moment is None or moment.offset is not None or zone is None or isinstance(zone, bool | dict | list):
        return written
    if not isinstance(zone, str | int | float) or not str(zone).strip():
        return written
    text = str(zone).strip()
    clock = moment.local or moment.utc
    assert clock is not None
    offset = _offset(text, clock, is_utc=moment.local is None)
    return str(Moment(local=clock if moment.local is not None else clock + timedelta(minutes=offset), offset=offset))


def _offset(text: str, clock: datetime, *, is_utc: bool) -> int:
    """Minutes from UTC of a zone as `with_zone` takes it, at a clock."""
    match = _OFFSET.fullmatch(text)
    if match:
        minutes = int(match[2] or match[4] or 0) * 60 + int(match[3] or match[5] or 0)
        return -minutes if "-" in text else minutes
    if re.fullmatch(r"-?\d+(\.\d+)?", text):
        value = float(text)
        minutes = round(value * 60 if abs(value) <= 14 else value if abs(value) <= 14 * 60 else value / 60)
        if abs(minutes) <= 14 * 60:
            return minutes
    else:
        try:
            there = ZoneInfo(text)
            told = clock.replace(tzinfo=UTC).astimezone(there) if is_utc else clock.replace(tzinfo=there)
            return int((told.utcoffset() or timedelta()).total_seconds() // 60)
        except (ZoneInfoNotFoundError, ValueError, OSError):
            pass
    raise ValueError(f"{shown(text)} is no time zone")


def _flag(value: Any) -> bool:
    word = str(value).strip().lower()
    if isinstance(value, dict | list) or word not in _YES | _NO:
        raise ValueError(f"yes or no was expected, not {shown(value)}")
    return word in _YES


def _epoch(value: Any, per_second: int) -> str:
    """Exact to the microsecond: a float holds no more than 15 digits."""
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        raise ValueError(f"a number was expected, not {kind_of(value)}")
    if isinstance(value, str) and re.fullmatch(r"\s*[+-]?\d+\s*", value):
        value = int(value)
    seconds = value / per_second if isinstance(value, int) else number(value) / per_second
    if seconds == 0:
        return ""
    moment = moment_from_epoch(seconds)
    if moment is None:
        raise ValueError(f"{shown(value)} is no date of the years 1 to 9999")
    return str(moment)


def _told(clock: datetime, zone: str) -> str:
    if clock.tzinfo is not None:
        offset = clock.utcoffset() or timedelta()
        return str(Moment(local=clock.replace(tzinfo=None), offset=int(offset.total_seconds() // 60)))
    if zone == "utc":
        return str(Moment(utc=clock))
    return str(Moment(local=clock, offset=parse_offset(zone) if zone and zone != "local" else None))


def _iso(value: str, zone: str) -> str:
    match = _ISO.fullmatch(value.strip())
    if match is None:
        raise ValueError(f"{shown(value)} is no ISO 8601 date and time")
    year, month, day, hour, minute = (int(match[n]) for n in range(1, 6))
    fraction = int((match[7] or "")[:6].ljust(6, "0"))
    clock = datetime(year, month, day, hour, minute, int(match[6] or 0), fraction)
    if match[8] in ("Z", "z", "UTC"):
        return str(Moment(utc=clock))
    if match[8]:
        sign = -1 if match[8][0] == "-" else 1
        digits = match[8][1:].replace(":", "").ljust(4, "0")
        offset = timedelta(minutes=sign * (int(digits[:2]) * 60 + int(digits[2:])))
        return _told(clock.replace(tzinfo=timezone(offset)), zone)
    return _told(clock, zone)


def _date(value: str, pattern: str, zone: str) -> str:
    try:
        return _told(datetime.strptime(value.strip(), pattern), zone)
    except ValueError:
        raise ValueError(f"{shown(value)} is not written like {pattern!r}") from None


def number(value: Any) -> float:
    """Raises ValueError for what is no finite number."""
    if isinstance(value, bool) or not isinstance(value, int | float | str):
        raise ValueError(f"a number was expected, not {kind_of(value)}")
    try:
        result = float(value.strip().replace(",", ".") if isinstance(value, str) else value)
    except (ValueError, OverflowError):
        raise ValueError(f"{shown(value)} is no number") from None
    if result != result or result in (float("inf"), float("-inf")):
        raise ValueError(f"{shown(value)} is no number")
    return result


def degrees(value: Any, scale: float = 1.0) -> float:
    """Signed decimal degrees from a number (times `scale`), or from degrees, minutes and seconds with a side (N, S, E, W)."""
    if not isinstance(value, str) or re.fullmatch(r"\s*[+-]?\d+(?:[.,]\d*)?(?:[eE][+-]?\d+)?\s*", value):
        return number(value) * scale
    match = _DEGREES.fullmatch(value.strip())
    if match is None or (match[1] and match[6]):
        raise ValueError(f"{shown(value)} is no angle")
    parts = [float((match[n] or "0").replace(",", ".")) for n in (3, 4, 5)]
    result = parts[0] + parts[1] / 60 + parts[2] / 3600
    side = (match[1] or match[6] or "").upper()
    return -result if (side in ("S", "W")) != (match[2] == "-") else result


def clean(text: str) -> str:
    """Text without lone surrogates, which no database or XML document takes."""
    return text.encode("utf-8", "replace").decode()


def shown(value: Any) -> str:
    """A value, short enough to be named in a sentence."""
    text = clean(str(value))
    return repr(text if len(text) <= 40 else text[:39] + "…")


def kind_of(value: Any) -> str:
    names = {dict: "an object", list: "a list", str: "text", bool: "yes or no", int: "a number", float: "a number"}
    return names.get(type(value), "nothing")
