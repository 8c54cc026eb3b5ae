"""Moments in time as they were told: local, offset if known, UTC if known."""

import re
import time
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

AGREES, SILENT, CONTRADICTS = range(3)
"""What one telling says of another, the best first."""
_QUARTER = 15 * 60
EXACTLY = 2.0
"""Seconds within which two are the same: some services cut fractions off, some file systems keep every second one."""
_WRITTEN = re.compile(r"(\d{4}-\d\d-\d\d)T(\d\d:\d\d:\d\d(?:\.\d{1,6})?)(Z|[+-]\d\d:\d\d)?")
_SHIFT = re.compile(r"([+-])(?:(\d+)d)?(?:(\d+)h)?(?:(\d+)m)?(?:(\d+)s)?")
_COLON = re.compile(r"([+-])(\d+):(\d\d)(?::(\d\d))?")
_NAMED = re.compile(
    r"(?<!\d)((?:19|20)\d\d)([-_.]?)(\d\d)\2(\d\d)[-_ .T]{1,2}([0-2]\d)([-_.:]?)([0-5]\d)\6([0-5]\d)(?!\d{4})"
)
_DAY_NAMED = re.compile(r"(?<!\d)((?:19|20)\d\d)([-_.]?)(0[1-9]|1[0-2])\2(0[1-9]|[12]\d|3[01])(?!\d)")


_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_IN_WORDS = re.compile(r"(?:\w{3},? )?(\w{3}) +(\d{1,2}) (\d\d):(\d\d):(\d\d) (\d{4})")
_MAIL = re.compile(r"(?:\w{3}, )?(\d{1,2}) (\w{3}) (\d{4}) (\d\d):(\d\d)(?::(\d\d))?(?: ([+-]\d{4}|GMT|UT|Z))?")
_DIGITS = re.compile(r"(\d{4})[-:/](\d\d)[-:/](\d\d)[ T]+(\d\d):(\d\d):(\d\d)")


@dataclass(frozen=True)
class Moment:
    """A point in time. `local` and `utc` are naive datetimes; `offset` is local minus UTC, in minutes.

    At least one of `local` and `utc` is set. A known offset with a known local time implies UTC.
    """

    local: datetime | None = None
    offset: int | None = None
    utc: datetime | None = None

    def __str__(self) -> str:
        """ISO 8601: with an offset where known, with Z where only UTC is known, else bare local time."""
        if self.local is None:
            return f"{self._utc_or_local().isoformat()}Z"
        return self.local.isoformat() + ("" if self.offset is None else written_offset(self.offset))

    def _utc_or_local(self) -> datetime:
        if self.utc is not None:
            return self.utc
        assert self.local is not None, "a moment has a local time or UTC"
        return self.local

    @property
    def shown(self) -> datetime:
        """What a calendar or folder shows: the local time, else UTC."""
        return self.local or self._utc_or_local()

    @property
    def instant(self) -> datetime:
        """UTC where it can be told, else the local time as it stands."""
        if self.local is not None and self.offset is not None:
            return self.local - timedelta(minutes=self.offset)
        return self._utc_or_local()

    @property
    def nanoseconds(self) -> int:
        """For a file's time: nanoseconds since 1970 of `instant`.

        A local time without offset counts as UTC, so that the same picture gets the same time on every machine.
        """
        since = self.instant - datetime(1970, 1, 1)
        return (since.days * 86_400 + since.seconds) * 1_000_000_000 + since.microseconds * 1000


def written_offset(minutes: int) -> str:
    """+01:00 for 60."""
    sign = "-" if minutes < 0 else "+"
    return f"{sign}{abs(minutes) // 60:02}:{abs(minutes) % 60:02}"


def parse_offset(written: str) -> int | None:
    """Minutes of "+01:00" or "Z"; None for anything else."""
    if written == "Z":
        return 0
    match = re.fullmatch(r"([+-])(\d\d):(\d\d)", written.strip())
    if match is None:
        return None
    minutes = int(match[2]) * 60 + int(match[3])
    return -minutes if match[1] == "-" else minutes


def written_shift(by: timedelta) -> str:
    """+1h, -30m, +26d5h."""
    seconds = int(by.total_seconds())
    parts = []
    rest = abs(seconds)
    for unit, size in (("d", 86_400), ("h", 3600), ("m", 60), ("s", 1)):
        count, rest = divmod(rest, size)
        parts += [f"{count}{unit}"] if count else []
    return ("-" if seconds < 0 else "+") + ("".join(parts) or "0h")


def parse_shift(written: str) -> timedelta | None:
    """An amount of time with its sign: +1h, -30m, +26d5h, +01:00; None for anything else."""
    if match := _COLON.fullmatch(written):
        amount = timedelta(hours=int(match[2]), minutes=int(match[3]), seconds=int(match[4] or 0))
    elif (match := _SHIFT.fullmatch(written)) and len(written) > 1:
        days, hours, minutes, seconds = (int(part or 0) for part in match.groups()[1:])
        try:
            amount = timedelta(days=days, hours=hours, minutes=minutes, seconds=seconds)
        except OverflowError:
            return None
    else:
        return None
    return -amount if match[1] == "-" else amount


def parse_moment(written: str) -> Moment | None:
    """The inverse of str(Moment); None where it is no such text."""
    match = _WRITTEN.fullmatch(written.strip())
    if match is None:
        return None
    try:
        clock = datetime.fromisoformat(f"{match[1]}T{match[2]}")
    except ValueError:
        return None
    if match[3] == "Z":
        return Moment(utc=clock)
    return Moment(local=clock, offset=parse_offset(match[3]) if match[3] else None)


def moment_told(written: str) -> Moment | None:
    """A moment as cameras and editors write it in ISO 8601: the offset may lack its colon, seconds may be missing."""
    written = re.sub(r"([+-]\d\d)(\d\d)$", r"\1:\2", written.strip())
    written = re.sub(r"(T\d\d:\d\d)(?=$|Z|[+-])", r"\1:00", written)
    written = re.sub(r"(\.\d{6})\d+", r"\1", written)
    return parse_moment(written)


def moment_in_words(text: str) -> Moment | None:
    """A moment as programs write it in many ways: Sat May 09 10:00:00 2026 (ISO C asctime), Sat, 9 May 2026 10:00:00 +0200 (RFC
    5322, 3.3), 2026:05:09 10:00:00, ISO 8601; None for anything else.
    """
    text = text.strip()
    if (moment := moment_told(text.replace(" ", "T", 1))) is not None:
        return moment
    offset: int | None = None
    if match := _IN_WORDS.fullmatch(text):
        month, day, hour, minute, second, year = match.groups()
        months = _MONTHS.index(month.lower()) + 1 if month.lower() in _MONTHS else 0
    elif match := _MAIL.fullmatch(text):
        day, month, year, hour, minute, second, zone = match.groups()
        months = _MONTHS.index(month.lower()) + 1 if month.lower() in _MONTHS else 0
        if zone:
            offset = 0 if zone.isalpha() else (int(zone[1:3]) * 60 + int(zone[3:])) * (-1 if zone[0] == "-" else 1)
    elif match := _DIGITS.match(text):
        year, month, day, hour, minute, second = match.groups()
        months = int(month)
    else:
        return None
    try:
        return Moment(
            local=datetime(int(year), months, int(day), int(hour), int(minute), int(second or 0)), offset=offset
        )
    except ValueError:
        return None


def moment_from_epoch(seconds: float) -> Moment | None:
    """UTC from seconds since 1970 (negative before); None outside the years 1 to 9999."""
    try:
        return Moment(utc=datetime(1970, 1, 1) + timedelta(seconds=seconds))
    except (OverflowError, ValueError):
        return None


def moment_in_name(name: str) -> Moment | None:
    """The local date and time that a file's name tells, as 20240501_123456 or 2024-05-01 12.34.56; of a date alone, as messengers
    write it, the beginning of the day. None where it tells none.
    """
    match, places = _NAMED.search(name), [1, 3, 4, 5, 7, 8]
    if match is None:
        match, places = _DAY_NAMED.search(name), [1, 3, 4]
    try:
        return None if match is None else Moment(local=datetime(*(int(match[at]) for at in places)))  # type: ignore[arg-type]
    except ValueError:
        return None


def infer_offset(local: datetime, utc: datetime) -> int | None:
    """The offset in minutes that lies between a local time and UTC, both naive.

    Their difference rounded to a quarter of an hour, within -12 h to +14 h and with at most 5 minutes left over (a
    camera clock that drifts). None otherwise: the two contradict each other.
    """
    difference = (local - utc).total_seconds()
    rounded = round(difference / _QUARTER) * _QUARTER
    if abs(difference - rounded) > 300 or not -12 * 3600 <= rounded <= 14 * 3600:
        return None
    return rounded // 60


def agreement(one: Moment, other: Moment) -> int:
    """AGREES where two are the same to the second, CONTRADICTS where they cannot be, SILENT where nobody knows the time zone."""
    for utc, clock in ((one.utc, other), (other.utc, one)):
        if utc is not None and clock.local is not None and clock.offset is None:
            offset = infer_offset(clock.local, utc)
            if offset is None:
                return CONTRADICTS
            drift = (clock.local - utc).total_seconds() - offset * 60
            # Many pictures are some minutes from a quarter of an hour: only to the second does it tell anything.
            return AGREES if abs(drift) <= EXACTLY else SILENT
    if one.local is not None and other.local is not None and None in (one.offset, other.offset):
        return AGREES if abs((one.local - other.local).total_seconds()) <= EXACTLY else CONTRADICTS
    return AGREES if abs((one.instant - other.instant).total_seconds()) <= EXACTLY else CONTRADICTS


def now_seconds() -> int:
    """This moment in seconds since 1970, as the ledger keeps readings."""
    return int(time.time())


def now_utc() -> datetime:
    """This moment, naive UTC, to the second."""
    return datetime.fromtimestamp(now_seconds(), UTC).replace(tzinfo=None)
