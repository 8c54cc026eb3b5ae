"""Whether the system's clock can be believed: by it readings grow old, and what was set aside long ago is deleted.

The ledger notes the time of each run. A clock that is behind that, or far ahead of it, is told; what was read by one in doubt
does not count, and nothing is deleted by it, until a person says that it is right.
"""

import json
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from bramblemoor.frames.moments import now_seconds
from bramblemoor.library import copies

DAY = 86_400
_BEHIND = DAY
_PAUSE = 45 * DAY  # after a longer one nothing is deleted at once
_DOUBT = 400 * DAY
_COUNTED = 15 * DAY  # of a pause, towards the time for which things are kept
_KEY, _PAUSES = "clock", "pauses"


@dataclass(frozen=True)
class Clock:
    """What the clock says (`now`), and the time of the last run; both in seconds since 1970, 0 for no run yet.

    `pauses` are (begin, end) of times without a run.
    """

    now: int
    last: int = 0
    pauses: tuple[tuple[int, int], ...] = ()

    @property
    def ahead(self) -> bool:
        return bool(self.last) and self.now - self.last > _DOUBT

    @property
    def behind(self) -> bool:
        return self.last - self.now > _BEHIND

    @property
    def in_doubt(self) -> bool:
        return self.ahead or self.behind

    @property
    def may_delete(self) -> bool:
        """Whether what was kept long enough by this clock may be deleted in this run."""
        return not self.in_doubt and not (self.last and self.now - self.last > _PAUSE)

    def kept_for(self, since: int) -> int:
        """Seconds that passed since a moment, as far as they count: of a long time without a run only a part does.

        What this very run has set aside was kept for 0: the clock was read when the run began.
        """
        uncounted = sum(
            max(0, min(end, self.now) - max(begin, since) - _COUNTED) for begin, end in self.pauses if end > since
        )
        return max(0, self.now - since - uncounted)

    def said(self) -> str:
        """What a person should know of it; "" for a clock that nothing speaks against."""
        if not self.in_doubt:
            return ""
        where = "ahead of" if self.ahead else "behind"
        days = round(abs(self.now - self.last) / DAY)
        return (
            f"the clock says {day(self.now)}, {days:,} days {where} the last run ({day(self.last)}): nothing is deleted by it,"
            " and what is read does not count. Set it right; if it is right: bramblemoor clock --right"
        )


def day(moment: int) -> str:
    try:
        return datetime.fromtimestamp(moment, UTC).date().isoformat()
    except (ValueError, OverflowError, OSError):
        return "a date that is none"


def read_clock(db: sqlite3.Connection, records: Iterable[int] = ()) -> Clock:
    """The clock as it stands against what the ledger knows; `records` are other moments of runs, for a ledger of none."""
    kept = dict(db.execute("SELECT key, value FROM meta WHERE key IN (?, ?)", (_KEY, _PAUSES)).fetchall())
    now = now_seconds()
    last = int(kept[_KEY]) if _KEY in kept else max(records, default=0)
    return Clock(now, last, tuple((begin, end) for begin, end in json.loads(kept.get(_PAUSES, "[]"))))


def remember(db: sqlite3.Connection, clock: Clock) -> None:
    """Note a run; nothing by a clock in doubt. The pause before it, if it was long, is noted too."""
    if clock.in_doubt:
        return
    if clock.last and clock.now - clock.last > _PAUSE:
        pauses = json.dumps([*clock.pauses, (clock.last, clock.now)])
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (_PAUSES, pauses))
    db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (_KEY, str(now_seconds())))


def believe(db: sqlite3.Connection) -> None:
    """A person says that the clock is right."""
    db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (_KEY, str(now_seconds())))


def forget_doubtful_readings(db: sqlite3.Connection, clock: Clock) -> None:
    """What was read by a clock that is far ahead counts for nothing, whatever it says later."""
    if clock.ahead:
        copies.doubt_after(db, clock.last + _DOUBT)
