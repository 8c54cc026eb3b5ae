"""Standing: what every frame's copies amount to against the rule."""

import sqlite3
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Literal

from bramblemoor.depots.register import LIBRARY, KnownDepot, known_depots
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import stamp
from bramblemoor.library.volumes import volume_of

State = Literal["sound", "short", "single", "lost"]
STATES: tuple[State, ...] = ("sound", "short", "single", "lost")


@dataclass(frozen=True)
class Holder:
    """Somewhere that may hold copies: the library, or a depot. `device` tells which of them are one drive."""

    id: str
    name: str
    site: str
    medium: str
    device: str


@dataclass
class HolderStanding:
    """What counts at one holder. `oldest` is the oldest counted reading (UTC, as in receipts); None for the library.

    `amiss` files are damaged or missing there, `unproven` were written, or read from what may have been a cache, and `stale`
    were read too long ago.
    """

    holder: Holder
    frames: int = 0
    others: int = 0
    oldest: str | None = None
    amiss: int = 0
    unproven: int = 0
    stale: int = 0
    absent: int = 0


@dataclass
class Standing:
    """Frames by year and state; `years` maps a year (None: undated) to counts, and `held` to frames per holder id.

    `others` counts files that belong to no frame, as album lists and delivered data; the rule holds for them too.
    """

    frames: int
    others: int
    other_states: Counter[State] = field(default_factory=Counter)
    years: dict[int | None, Counter[State]] = field(default_factory=dict)
    held: dict[int | None, Counter[str]] = field(default_factory=dict)
    holders: list[HolderStanding] = field(default_factory=list)
    sites: tuple[str, ...] = ()
    media: tuple[str, ...] = ()

    def total(self) -> Counter[State]:
        return sum(self.years.values(), Counter())

    @property
    def sound(self) -> bool:
        """Everything satisfies the rule, albums, companions and delivered data included, and nothing is known to be amiss."""
        counted = self.total()["sound"] == self.frames and self.other_states["sound"] == self.others
        return counted and not any(holder.amiss for holder in self.holders)


def judge(library: Library, holders: Sequence[Holder]) -> State:
    """What copies at `holders` amount to: those on one physical device count once."""
    rule = library.settings.rule
    by_device = {holder.device: holder for holder in holders}
    if not holders:
        return "lost"
    if len(by_device) == 1:
        return "single" if rule.copies > 1 else "sound"
    media = {holder.medium for holder in holders}
    sites = {holder.site for holder in holders}
    enough = len(by_device) >= rule.copies and len(media) >= rule.media and len(sites) >= rule.sites
    return "sound" if enough else "short"


def holders_of(library: Library) -> list[Holder]:
    home = library.settings.library
    device = f"pretend {home.stand_in}" if home.stand_in else volume_of(library.root).device
    own = Holder(LIBRARY, LIBRARY, home.site, home.medium, device)
    return [own, *(_holder(depot) for depot in known_depots(library))]


def _holder(depot: KnownDepot) -> Holder:
    return Holder(depot.id, depot.name, depot.site, depot.medium, depot.device)


def standing(library: Library) -> Standing:
    """Weigh every frame. A frame counts at a holder when each of its files does: good, current, read from the medium, fresh."""
    db = library.db
    holders = holders_of(library)
    cutoff = stamp(now_utc() - timedelta(days=library.settings.rule.fresh_days))
    frames, others = db.execute("SELECT count(DISTINCT frame), sum(frame IS NULL) FROM files").fetchone()
    result = Standing(frames, others or 0)
    for row in _masks_of_others(db, holders, cutoff):
        members = [holder for number, holder in enumerate(holders) if row["mask"] >> number & 1]
        result.other_states[judge(library, members)] += row["files"]
    for row in _masks(db, holders, cutoff):
        members = [holder for number, holder in enumerate(holders) if row["mask"] >> number & 1]
        result.years.setdefault(row["year"], Counter())[judge(library, members)] += row["frames"]
        result.held.setdefault(row["year"], Counter()).update({holder.id: row["frames"] for holder in members})
    result.holders = [_holder_standing(db, holder, cutoff, result) for holder in holders]
    counted = [own.holder for own in result.holders if own.frames]
    result.sites = tuple(dict.fromkeys(holder.site for holder in counted))
    result.media = tuple(dict.fromkeys(holder.medium for holder in counted))
    return result


_GOOD = "c.state = 'good' AND c.grade = 'medium' AND c.sha256 = f.sha256 AND c.read_at >= :cutoff"


def _masks(db: sqlite3.Connection, holders: Sequence[Holder], cutoff: str) -> list[sqlite3.Row]:
    """Frames counted by year and by the set of holders (bit N: the Nth holder) at which they count."""
    bits = _bits(holders)
    return db.execute(
        f"""
        WITH needed AS (SELECT frame, count(*) AS files FROM files WHERE frame IS NOT NULL GROUP BY frame),
        good AS (
            SELECT f.frame, c.depot, count(*) AS files FROM copies c JOIN files f ON f.id = c.file
            WHERE f.frame IS NOT NULL AND {_GOOD} GROUP BY f.frame, c.depot
        ),
        bad AS (SELECT DISTINCT f.frame FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = '{LIBRARY}'),
        mask AS (
            SELECT needed.frame, (needed.frame NOT IN (SELECT frame FROM bad WHERE frame IS NOT NULL))
                + coalesce(sum(CASE good.depot {bits} ELSE 0 END), 0) AS mask
            FROM needed LEFT JOIN good ON good.frame = needed.frame AND good.files = needed.files GROUP BY needed.frame
        )
        SELECT year, mask, count(*) AS frames FROM mask JOIN frames ON frames.id = mask.frame GROUP BY year, mask ORDER BY year
        """,
        {"cutoff": cutoff},
    ).fetchall()


def _masks_of_others(db: sqlite3.Connection, holders: Sequence[Holder], cutoff: str) -> list[sqlite3.Row]:
    """The same for files that belong to no frame."""
    return db.execute(
        f"""
        WITH mask AS (
            SELECT f.id, (f.id NOT IN (SELECT file FROM copies WHERE depot = '{LIBRARY}'))
                + coalesce(sum(CASE WHEN {_GOOD} THEN CASE c.depot {_bits(holders)} ELSE 0 END END), 0) AS mask
            FROM files f LEFT JOIN copies c ON c.file = f.id WHERE f.frame IS NULL GROUP BY f.id
        )
        SELECT mask, count(*) AS files FROM mask GROUP BY mask
        """,
        {"cutoff": cutoff},
    ).fetchall()


def _bits(holders: Sequence[Holder]) -> str:
    return " ".join(f"WHEN '{holder.id}' THEN {1 << number}" for number, holder in enumerate(holders))


def _holder_standing(db: sqlite3.Connection, holder: Holder, cutoff: str, whole: Standing) -> HolderStanding:
    own = HolderStanding(holder, frames=sum(held[holder.id] for held in whole.held.values()))
    if holder.id == LIBRARY:
        own.amiss, bad_others = db.execute(
            "SELECT count(*), coalesce(sum(frame IS NULL), 0) FROM copies JOIN files ON id = file WHERE depot = ?",
            (LIBRARY,),
        ).fetchone()
        own.others = whole.others - bad_others
        return own
    row = db.execute(
        f"""
        SELECT coalesce(sum(frame IS NULL AND ({_GOOD})), 0) AS others, min(CASE WHEN {_GOOD} THEN c.read_at END) AS oldest,
            coalesce(sum(c.state IN ('damaged', 'missing')), 0) AS amiss,
            coalesce(sum(c.state = 'written' OR (c.state = 'good' AND c.grade != 'medium')), 0) AS unproven,
            coalesce(sum(c.state = 'good' AND c.grade = 'medium' AND c.read_at < :cutoff), 0) AS stale,
            coalesce(sum(c.file IS NULL OR c.sha256 != f.sha256), 0) AS absent
        FROM files f LEFT JOIN copies c ON c.file = f.id AND c.depot = :depot
        """,
        {"cutoff": cutoff, "depot": holder.id},
    ).fetchone()
    own.others, own.oldest, own.amiss = row["others"], row["oldest"], row["amiss"]
    own.unproven, own.stale, own.absent = row["unproven"], row["stale"], row["absent"]
    return own
