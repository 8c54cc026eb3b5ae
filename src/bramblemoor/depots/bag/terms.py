"""A depot's terms: which frames are chosen for it, how long it keeps earlier versions, how much space it leaves free."""

import re
import sqlite3
from typing import Any

import msgspec

from bramblemoor.errors import WrongUse
from bramblemoor.library.copies import amiss
from bramblemoor.library.find import day_after, first_day
from bramblemoor.library.globs import checked_glob, fits

EVER, NONE = "ever", "none"
LACKING = f"(c.file IS NULL OR c.sha256 IS NOT NULL OR {amiss()})"
"""Holds of a file that is chosen for a depot, joined to its row `c` of copies there, if any: it is not as it should be."""
_YEARS = re.compile(r"(\d{4})(?:-(\d{4}))?|undated")
_ALWAYS = "f.role IN ('ledger', 'settings', 'album', 'receipt')"


class Terms(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a depot gets and keeps. Everything given must hold; a frame comes with all its files or not at all.

    `years` are "2019", "2015-2019" or "undated"; `shoots`, `only` and `without` are globs (see docs/formats.md), `since` and
    `until` dates of taking; sizes are bytes of the original. `keep_for` is "ever", "none" (a mirror) or a number of days.
    """

    years: list[str] = []
    shoots: list[str] = []
    kinds: list[str] = []
    only: list[str] = []
    without: list[str] = []
    since: str = ""
    until: str = ""
    at_least: int = 0
    at_most: int = 0
    keep_for: str = EVER
    leave_free: int = 0

    @property
    def chooses(self) -> bool:
        """Whether anything is left out at all."""
        return msgspec.structs.replace(self, keep_for=EVER, leave_free=0) != Terms()

    @property
    def days_kept(self) -> int | None:
        """Days that earlier versions stay; None for ever."""
        return None if self.keep_for == EVER else 0 if self.keep_for == NONE else int(self.keep_for)


def checked(terms: Terms) -> Terms:
    """The terms themselves. Raises WrongUse, with what would be right, for years, kinds, dates, days or globs that are none."""
    for years in terms.years:
        if not _YEARS.fullmatch(years):
            raise WrongUse(f"{years!r} is no year.", "Write 2019, 2015-2019 or undated.")
    for kind in terms.kinds:
        if kind not in ("photo", "video", "other"):
            raise WrongUse(f"There is no kind {kind!r}.", "Choose photo, video, or other (what cannot be read here).")
    for glob in (*terms.shoots, *terms.only, *terms.without):
        checked_glob(glob)
    for day in filter(None, (terms.since, terms.until)):
        first_day(day)
    if terms.keep_for not in (EVER, NONE) and not (
        terms.keep_for.isascii() and terms.keep_for.isdecimal() and len(terms.keep_for) < 7
    ):
        raise WrongUse(f"{terms.keep_for!r} is no time to keep.", "Write a number of days, ever, or none for a mirror.")
    if min(terms.at_least, terms.at_most, terms.leave_free) < 0 or max(terms.at_least, terms.at_most) >= 1 << 62:
        raise WrongUse("That is no size.", "Write it as 500MB, 2GB or 4TB.")
    return terms


def prepare(db: sqlite3.Connection) -> None:
    """Make globs known to a ledger's connection."""

    def fit(glob: str, path: str | None) -> bool:
        return path is not None and fits(glob, path)

    db.create_function("bm_fits", 2, fit, deterministic=True)


def chosen(terms: Terms) -> tuple[str, list[Any]]:
    """An SQL condition for what a depot gets, over `files f LEFT JOIN frames r ON r.id = f.frame`, and its values."""
    if not terms.chooses:
        return "1", []
    of_frames, values = _of_frames(terms)
    named, names = _globs(terms, "f.path")
    by_frame, frame_names = _globs(terms, "r.folder || '/' || r.name")
    loose = f"f.frame IS NULL AND {named}" if not terms.shoots else "0"
    return (
        f"({_ALWAYS} OR ({loose}) OR (f.frame IS NOT NULL AND {by_frame} AND {of_frames}))",
        [*(names if not terms.shoots else []), *frame_names, *values],
    )


def _of_frames(terms: Terms) -> tuple[str, list[Any]]:
    clauses: list[str] = []
    values: list[Any] = []
    if terms.years:
        ways = []
        for years in terms.years:
            match = _YEARS.fullmatch(years)
            assert match is not None
            if match[1] is None:
                ways.append("r.year IS NULL")
            else:
                ways.append("r.year BETWEEN ? AND ?")
                values += [int(match[1]), int(match[2] or match[1])]
        clauses.append(f"({' OR '.join(ways)})")
    if terms.shoots:
        clauses.append(f"({' OR '.join('bm_fits(?, r.folder)' for _ in terms.shoots)})")
        values += terms.shoots
    if terms.kinds:
        clauses.append(f"r.kind IN ({', '.join('?' for _ in terms.kinds)})")
        values += terms.kinds
    if terms.since:
        clauses.append("r.shown >= ?")
        values.append(first_day(terms.since).isoformat())
    if terms.until:
        clauses.append("r.shown < ?")
        values.append(day_after(terms.until))
    size = "(SELECT o.bytes FROM files o WHERE o.frame = f.frame AND o.role = 'original')"
    if terms.at_least:
        clauses.append(f"{size} >= ?")
        values.append(terms.at_least)
    if terms.at_most:
        clauses.append(f"{size} <= ?")
        values.append(terms.at_most)
    return " AND ".join(clauses) or "1", values


def _globs(terms: Terms, path: str) -> tuple[str, list[Any]]:
    clauses = []
    if terms.only:
        clauses.append(f"({' OR '.join(f'bm_fits(?, {path})' for _ in terms.only)})")
    clauses += [f"NOT bm_fits(?, {path})" for _ in terms.without]
    return " AND ".join(clauses) or "1", [*terms.only, *terms.without]


def said(terms: Terms) -> str:
    """The terms in words, for a list of depots."""
    parts = []
    if terms.years:
        parts.append(f"years {', '.join(terms.years)}")
    for name in ("shoots", "kinds", "only", "without"):
        if getattr(terms, name):
            parts.append(f"{name if name != 'kinds' else 'only'} {', '.join(getattr(terms, name))}")
    parts += [f"taken since {terms.since}"] if terms.since else []
    parts += [f"taken until {terms.until}"] if terms.until else []
    parts += [f"from {terms.at_least / 1e6:g} MB"] if terms.at_least else []
    parts += [f"up to {terms.at_most / 1e6:g} MB"] if terms.at_most else []
    kept = {EVER: "", NONE: "a mirror: no earlier versions"}
    parts += [kept.get(terms.keep_for, f"earlier versions kept for {terms.keep_for} days")]
    parts += [f"leaves {terms.leave_free / 1e9:g} GB free"] if terms.leave_free else []
    return "; ".join(filter(None, parts)) or "everything, earlier versions for ever"
