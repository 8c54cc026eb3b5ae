"""Years on drives: which year goes on which drive, with its twin on another one; whole years, fewest drives, room to grow."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import islice, permutations

_SECONDS = 10.0
_ORDERS = 5000


@dataclass(frozen=True)
class Drive:
    """A drive to fill: `bytes` is what it holds; `site` is where it is to be kept, "" for anywhere."""

    name: str
    bytes: int
    site: str = ""


@dataclass(frozen=True)
class Year:
    """A year to put away: `bytes` as it is now, or will be when it ends."""

    year: int
    bytes: int


@dataclass(frozen=True)
class YearsOnDrives:
    """The years on each drive that is used, by the drive's name; and the years for which there is no room, if any."""

    on: dict[str, tuple[Year, ...]]
    left: tuple[Year, ...] = ()


def grown(sizes: dict[int, int], this_year: int, share_gone: float, growth: float, ahead: int) -> list[Year]:
    """Past years as they are; the present one as it will be at its end at the present pace; `ahead` further years.

    `share_gone` is the part of this year that has passed (0 to 1), `growth` how much larger each year is than the one before.
    """
    years = [Year(year, size) for year, size in sorted(sizes.items()) if year < this_year]
    present = sizes.get(this_year, 0)
    size = float(present / max(share_gone, 0.02)) if present else float(years[-1].bytes if years else 0) * (1 + growth)
    for offset in range(ahead + 1):
        if size and (offset or present):
            years.append(Year(this_year + offset, int(size)))
        size *= 1 + growth
    return years


def pack(years: Sequence[Year], drives: Sequence[Drive], *, copies: int, reserve: float) -> YearsOnDrives:
    """Choose for each year `copies` drives, at different sites where drives say that they have some, using the fewest drives.

    `reserve` is the share of each drive that stays free. Years in a row on drives that are twins of each other are preferred, if
    that takes no more drives; else it is solved as a mixed-integer programme (HiGHS). Where not all years fit, the largest part
    of them by size is placed, and the others are `left`.
    """
    in_a_row = _in_a_row(years, drives, copies, reserve)
    if in_a_row is not None and len(in_a_row) <= _fewest(years, drives, copies, reserve):
        return YearsOnDrives(in_a_row)
    chosen = _solve(years, drives, copies, reserve, every=True)
    if chosen is None:
        chosen = _solve(years, drives, copies, reserve, every=False) or {}
    if in_a_row is not None and len(in_a_row) <= len({name for names in chosen.values() for name in names}):
        return YearsOnDrives(in_a_row)
    on = {drive.name: tuple(year for year in years if drive.name in chosen.get(year.year, ())) for drive in drives}
    left = tuple(year for year in years if year.year not in chosen)
    return YearsOnDrives({name: placed for name, placed in on.items() if placed}, left)


def _fewest(years: Sequence[Year], drives: Sequence[Drive], copies: int, reserve: float) -> int:
    """No plan can do with fewer drives: the largest ones together must hold it all."""
    needed = copies * sum(year.bytes for year in years)
    room = 0.0
    for number, drive in enumerate(sorted(drives, key=lambda one: -one.bytes), 1):
        room += drive.bytes * (1 - reserve)
        if room >= needed:
            return max(number, copies)
    return len(drives)


def _in_a_row(
    years: Sequence[Year], drives: Sequence[Drive], copies: int, reserve: float
) -> dict[str, tuple[Year, ...]] | None:
    """Years in their order on groups of twins, which hold the same; None where that does not work."""
    groups = list(_twins(drives, copies))
    best: dict[str, tuple[Year, ...]] | None = None
    for order in islice(permutations(groups), _ORDERS):
        on: dict[str, tuple[Year, ...]] = {}
        rest = list(years)
        for group in order:
            room = min(drive.bytes for drive in group) * (1 - reserve)
            placed: list[Year] = []
            while rest and sum(year.bytes for year in [*placed, rest[0]]) <= room:
                placed.append(rest.pop(0))
            if placed:
                on |= {drive.name: tuple(placed) for drive in group}
        if not rest and (best is None or len(on) < len(best)):
            best = on
    return best


def _twins(drives: Sequence[Drive], copies: int) -> Iterator[list[Drive]]:
    """Groups of drives of about one size, at different sites where they say that they have some."""
    left = sorted(drives, key=lambda drive: -drive.bytes)
    many_sites = len({drive.site for drive in drives if drive.site}) > 1
    while left:
        group = [left.pop(0)]
        while len(group) < copies:
            sites = {drive.site for drive in group if drive.site}
            fitting = [drive for drive in left if not many_sites or drive.site not in sites or len(sites) > 1]
            if not fitting:
                break
            group.append(fitting[0])
            left.remove(fitting[0])
        if len(group) == copies:
            yield group


def _solve(
    years: Sequence[Year], drives: Sequence[Drive], copies: int, reserve: float, *, every: bool
) -> dict[int, tuple[str, ...]] | None:
    """Drives by year; None where there is no way to place every year."""
    import numpy as np
    from scipy.optimize import Bounds, LinearConstraint, milp

    if not years or not drives:
        return None if years and every else {}
    many, few = len(years), len(drives)
    # Unknowns: x[y, d], whether year y lies on drive d; u[d], whether drive d is used; p[y], whether year y is placed.
    unknowns = many * few + few + many
    whole = sum(year.bytes for year in years) or 1
    cost = np.zeros(unknowns)
    for d in range(few):
        # Fewest drives; of as few, the smaller ones; and years in a row on drives in a row, so that a plan reads well.
        cost[many * few + d] = 1.0 + 0.01 * drives[d].bytes / max(drive.bytes for drive in drives) + 1e-4 * d
    for y in range(many):
        cost[many * few + few + y] = 0 if every else -10.0 * few * years[y].bytes / whole
    rows, low, high = [], [], []

    def constrain(entries: Mapping[int, float], least: float, most: float) -> None:
        row = np.zeros(unknowns)
        for column, value in entries.items():
            row[column] = value
        rows.append(row)
        low.append(least)
        high.append(most)

    for y in range(many):
        constrain({y * few + d: 1 for d in range(few)} | {many * few + few + y: -copies}, 0, 0)
        if every:
            constrain({many * few + few + y: 1}, 1, 1)
    scale = float(max(drive.bytes for drive in drives))
    for d, drive in enumerate(drives):
        room = drive.bytes * (1 - reserve) / scale
        constrain({y * few + d: years[y].bytes / scale for y in range(many)} | {many * few + d: -room}, -np.inf, 0)
    sites = {drive.site for drive in drives if drive.site}
    if len(sites) > 1:
        for site in sites:
            here = [d for d, drive in enumerate(drives) if drive.site == site]
            for y in range(many):
                constrain({y * few + d: 1 for d in here}, 0, max(1, copies - 1))
    solved = milp(
        cost,
        constraints=LinearConstraint(np.array(rows), np.array(low), np.array(high)),
        integrality=np.ones(unknowns),
        bounds=Bounds(0, 1),
        options={"time_limit": _SECONDS},
    )
    if solved.x is None:
        return None
    found: dict[int, tuple[str, ...]] = {}
    for y, year in enumerate(years):
        names = tuple(drives[d].name for d in range(few) if solved.x[y * few + d] > 0.5)
        if names:
            found[year.year] = names
    return found
