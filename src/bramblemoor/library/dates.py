"""Days and moments as people write them."""

from datetime import UTC, date, datetime, timedelta

from bramblemoor.errors import WrongUse


def first_day(written: str) -> date:
    """The first day of a written year, month or day."""
    parts = written.split("-")
    try:
        numbers = [int(part) for part in parts]
        return date(numbers[0], *([*numbers[1:], 1, 1][:2]))
    except (ValueError, TypeError) as error:
        raise WrongUse(f"{written!r} is no date.", "Write it as 2026, 2026-05 or 2026-05-09.") from error


def moment_named(written: str) -> str:
    """A moment as receipts write it: of a day the end; of a time with no zone that time in UTC, as reports show it.

    Raises WrongUse for what is neither.
    """
    if len(written) <= 10:
        return f"{day_after(written)}T00:00:00Z"
    try:
        moment = datetime.fromisoformat(written)
        return (moment if moment.tzinfo is None else moment.astimezone(UTC)).strftime("%Y-%m-%dT%H:%M:%SZ")
    except (ValueError, OverflowError) as error:
        raise WrongUse(
            f"{written!r} is no date or time.", "Write it as 2026-05-09, or 2026-05-09T14:30 (UTC, or with +02:00)."
        ) from error


def day_after(written: str) -> str:
    """The first day behind a written year, month or day; "~" sorts behind every date."""
    first = first_day(written)
    try:
        if written.count("-") == 0:
            return date(first.year + 1, 1, 1).isoformat()
        if written.count("-") == 1:
            return (date(first.year, first.month, 28) + timedelta(days=4)).replace(day=1).isoformat()
        return (first + timedelta(days=1)).isoformat()
    except (ValueError, OverflowError):
        return "~"
