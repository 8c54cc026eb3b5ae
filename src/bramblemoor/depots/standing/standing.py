"""Standing: what every frame's copies amount to against the rule, now or if something were lost."""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Literal

from bramblemoor.depots.bag.terms import LACKING, chosen
from bramblemoor.depots.register.known import KnownDepot, known_depots
from bramblemoor.depots.register.register import within_reach
from bramblemoor.depots.standing.tally import AMISS, FREED, LACKS, UNREAD, read_days, read_held, settle_apart
from bramblemoor.disk.names import folded
from bramblemoor.frames.moments import now_seconds
from bramblemoor.library.clock import DAY
from bramblemoor.library.conditions import prepare
from bramblemoor.library.copies import ALARM, LIBRARY, amiss
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import stamp
from bramblemoor.library.selection import EVERYTHING, Selection, select
from bramblemoor.running import Progress, silent

State = Literal["sound", "short", "single", "lost"]
STATES: tuple[State, ...] = ("sound", "short", "single", "lost")
_LOOSE = "SELECT 0, stand, sum(units) FROM counted WHERE loose AND units > 0 GROUP BY stand"
_OF_SELECTED = {
    by: f"SELECT {key}, s.stand, count(*) FROM temp.selected JOIN standings s ON s.unit = frame JOIN frames r ON r.id = frame"
    " GROUP BY 1, 2 ORDER BY 1"
    for by, key in (("year", "r.year"), ("shoot", "r.folder"))
}
_COUNTS = {
    "year": "SELECT nullif(year, 0), stand, units FROM counted WHERE NOT loose AND units > 0 ORDER BY 1",
    "shoot": "SELECT r.folder, s.stand, count(*) FROM standings s JOIN frames r ON r.id = s.unit GROUP BY 1, 2 ORDER BY 1",
}


@dataclass(frozen=True)
class Holder:
    """Somewhere that may hold copies: the library (number 0), or a depot. `device` tells which of them are one drive."""

    number: int
    name: str
    site: str
    medium: str
    device: str


@dataclass
class HolderStanding:
    """What counts at one holder, in frames and in files that belong to none (`others`).

    `oldest` is the oldest counted reading, `stale_since` the oldest that does not count any more (UTC, as in receipts). Of both
    together, `amiss` are damaged or missing there, `unread` not yet read from the medium, `stale` read too long ago, `future`
    read by a clock that was ahead of this one, `absent` not there or not current.
    """

    holder: Holder
    frames: int = 0
    others: int = 0
    oldest: str | None = None
    amiss: int = 0
    unread: int = 0
    stale: int = 0
    stale_since: str | None = None
    future: int = 0
    absent: int = 0


@dataclass
class Standing:
    """Frames by group and state: `groups` maps a year (None: undated) or a shoot to counts, `held` to frames by holder.

    `others` counts files that belong to no frame, as album lists and delivered data; the rule holds for them too. `gone` are
    the holders that were supposed to be lost.
    """

    frames: int = 0
    others: int = 0
    other_states: Counter[State] = field(default_factory=Counter)
    groups: dict[int | str | None, Counter[State]] = field(default_factory=dict)
    held: dict[int | str | None, Counter[int]] = field(default_factory=dict)
    holders: list[HolderStanding] = field(default_factory=list)
    gone: tuple[Holder, ...] = ()
    sites: tuple[str, ...] = ()
    media: tuple[str, ...] = ()
    alarm: str = ""
    """What the guard saw in the library when it stopped a run; it is not in any count."""

    def total(self) -> Counter[State]:
        return sum(self.groups.values(), Counter())

    @property
    def sound(self) -> bool:
        """Everything satisfies the rule, albums, companions and delivered data included, and nothing is known to be amiss."""
        counted = self.total()["sound"] == self.frames and self.other_states["sound"] == self.others
        return counted and not self.alarm and not any(holder.amiss for holder in self.holders)


def judge(library: Library, holders: Sequence[Holder]) -> State:
    """What copies at `holders` amount to: those on one physical device count once."""
    rule = library.settings.rule
    by_device = {holder.device: holder for holder in holders}
    if not holders:
        return "lost"
    if len(by_device) == 1:
        return "single" if rule.copies > 1 else "sound"
    media = {folded(holder.medium) for holder in holders}
    sites = {folded(holder.site) for holder in holders}
    enough = len(by_device) >= rule.copies and len(media) >= rule.media and len(sites) >= rule.sites
    return "sound" if enough else "short"


def holders_of(library: Library) -> list[Holder]:
    """The library, and every depot that is not retired."""
    home = library.settings.library
    own = Holder(LIBRARY, "library", home.site, home.medium, library.device)
    return [own, *(_holder(depot) for depot in known_depots(library) if not depot.retired)]


def _holder(depot: KnownDepot) -> Holder:
    return Holder(depot.number, depot.name, depot.site, depot.medium, depot.device)


def standing(
    library: Library,
    *,
    by: Literal["year", "shoot"] = "year",
    lost: Sequence[str] = (),
    selection: Selection = EVERYTHING,
    progress: Progress = silent,
) -> Standing:
    """Weigh every frame that is meant. A frame counts at a holder when each of its files does: current, read from the medium,
    fresh.

    `lost` names holders, sites or media that are supposed to be gone. Of some frames only they are weighed, and no other files.
    """
    return _Scale(library, lost, selection, progress).weigh(by)


def frames_standing(
    library: Library, states: Sequence[State], lost: Sequence[str] = (), selection: Selection = EVERYTHING
) -> Iterator[tuple[str, State]]:
    """(path, state) of each frame whose state is one of these, in order of path."""
    scale = _Scale(library, lost, selection, silent)
    wanted = {number: state for number, (state, _) in scale.stands.items() if state in states}
    if not wanted:
        return
    rows = library.db.execute(
        "SELECT folder || '/' || name AS path, stand FROM standings JOIN frames ON frames.id = unit"
        f" WHERE stand IN ({', '.join(map(str, wanted))}){scale.of_selected} ORDER BY path"
    )
    for row in rows:
        yield row["path"], wanted[row["stand"]]


def judge_all(library: Library) -> None:
    """Fill temp.judged (stand, state): what each stand that the ledger knows amounts to now."""
    scale = _Scale(library, (), EVERYTHING, silent)
    library.db.executescript(
        "CREATE TEMP TABLE IF NOT EXISTS judged (stand INTEGER PRIMARY KEY, state TEXT); DELETE FROM temp.judged;"
    )
    library.db.executemany(
        "INSERT INTO temp.judged VALUES (?, ?)", ((number, state) for number, (state, _) in scale.stands.items())
    )


def _day(days: int) -> str:
    return stamp(datetime.fromtimestamp(days * DAY, UTC))


class _Scale:
    """The holders, and what each known stand amounts to."""

    def __init__(self, library: Library, lost: Sequence[str], selection: Selection, progress: Progress) -> None:
        self._library = library
        self._db = library.db
        if not library.read_only and self._db.execute("SELECT 1 FROM unsettled LIMIT 1").fetchone():
            settle_apart(library, progress)
        self._whole = selection.everything
        if not self._whole:
            select(library, selection)
        self.of_selected = "" if self._whole else " AND unit IN (SELECT frame FROM temp.selected)"
        every = holders_of(library)
        words = {folded(word) for word in lost}
        self.gone = tuple(h for h in every if h.name in lost or {folded(h.site), folded(h.medium)} & words)
        self.holders = [holder for holder in every if holder not in self.gone]
        # What lies elsewhere than it was read, or was written by another since, was read nowhere, though no run has met it yet.
        self._unread = within_reach(library).doubted
        self._today = now_seconds() // DAY
        self._cutoff = self._today - library.settings.rule.fresh_days
        self.stands = {row["id"]: self._weighed(row["held"]) for row in self._db.execute("SELECT id, held FROM stands")}

    def _weighed(self, held: str) -> tuple[State, dict[int, str]]:
        where = read_held(held)
        return judge(
            self._library, [holder for holder in self.holders if self._counts(holder.number, where.get(holder.number))]
        ), where

    def _counts(self, number: int, state: str | None) -> bool:
        days = read_days(state) if number not in self._unread else None
        return days is not None and days[0] >= self._cutoff and days[1] <= self._today

    def weigh(self, by: Literal["year", "shoot"]) -> Standing:
        alarm = self._db.execute("SELECT value FROM meta WHERE key = ?", (ALARM,)).fetchone()
        result = Standing(gone=self.gone, alarm=alarm["value"] if alarm is not None else "")
        own = {holder.number: HolderStanding(holder) for holder in self.holders}
        for key, stand, frames in self._counted((_COUNTS if self._whole else _OF_SELECTED)[by]):
            state, where = self.stands[stand]
            result.frames += frames
            result.groups.setdefault(key, Counter())[state] += frames
            held = result.held.setdefault(key, Counter())
            for number, holder in own.items():
                if self._count(holder, where.get(number), frames):
                    holder.frames += frames
                    held[number] += frames
        for _, stand, files in self._counted(_LOOSE) if self._whole else ():
            state, where = self.stands[stand]
            result.others += files
            result.other_states[state] += files
            for number, holder in own.items():
                holder.others += files * self._count(holder, where.get(number), files)
        self._correct_absence(own)
        result.holders = list(own.values())
        counted = [one.holder for one in result.holders if one.frames]
        result.sites = tuple(dict.fromkeys(holder.site for holder in counted))
        result.media = tuple(dict.fromkeys(holder.medium for holder in counted))
        return result

    def _counted(self, query: str) -> Iterator[tuple[int | str | None, int, int]]:
        yield from (tuple(row) for row in self._db.execute(query))

    def _count(self, holder: HolderStanding, state: str | None, units: int) -> bool:
        """Enter units at a holder; says whether they count there."""
        days = read_days(state)
        if days is not None:
            oldest = _day(days[0])
            if holder.holder.number in self._unread:
                holder.unread += units
            elif days[1] > self._today:
                holder.future += units
            elif days[0] >= self._cutoff:
                holder.oldest = min(filter(None, (holder.oldest, oldest)))
                return True
            else:
                holder.stale += units
                holder.stale_since = min(filter(None, (holder.stale_since, oldest)))
            return False
        if state == AMISS:
            holder.amiss += units
        elif state == UNREAD:
            holder.unread += units
        elif state != FREED:
            assert state in (None, LACKS), state
            holder.absent += units
        return False

    def _correct_absence(self, own: dict[int, HolderStanding]) -> None:
        """Nothing is absent at a depot that was not chosen for it."""
        prepare(self._db)
        of_selected = "" if self._whole else " AND f.frame IN (SELECT frame FROM temp.selected)"
        for known in known_depots(self._library):
            if known.number in own and known.terms.chooses:
                where, values = chosen(known.terms)
                own[known.number].absent = self._db.execute(
                    "SELECT count(DISTINCT coalesce(f.frame, -f.id)) FROM files f LEFT JOIN frames r ON r.id = f.frame"
                    f" LEFT JOIN copies c ON c.file = f.id AND c.depot = ? WHERE {where} AND {LACKING}"
                    f" AND NOT coalesce({amiss()}, 0){of_selected}",
                    (known.number, *values),
                ).fetchone()[0]
