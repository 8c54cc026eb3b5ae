"""A depot's terms: which frames are chosen for it, how long it keeps earlier versions, how much space it leaves free."""

from typing import Any

from bramblemoor.errors import WrongUse
from bramblemoor.library.copies import amiss
from bramblemoor.library.selection import Selection

EVER, NONE = "ever", "none"
LACKING = f"(c.file IS NULL OR c.sha256 IS NOT NULL OR {amiss()})"
"""Holds of a file that is chosen for a depot, joined to its row `c` of copies there, if any: it is not as it should be."""
_ALWAYS = "f.role IN ('ledger', 'settings', 'album', 'receipt')"


class Terms(Selection, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a depot gets, as a selection, and what it keeps: a frame comes with all its files or not at all.

    What belongs to no frame comes along, but for what `only` and `without` leave out, and where it gets some shoots only.
    `keep_for` is "ever", "none" (a mirror) or a number of days.
    """

    keep_for: str = EVER
    leave_free: int = 0

    @property
    def chooses(self) -> bool:
        """Whether anything is left out at all."""
        return not self.everything

    @property
    def days_kept(self) -> int | None:
        """Days that earlier versions stay; None for ever."""
        return None if self.keep_for == EVER else 0 if self.keep_for == NONE else int(self.keep_for)


def checked(terms: Terms) -> Terms:
    """The terms themselves. Raises WrongUse, with what would be right, for what nobody could have agreed on."""
    terms.checked()
    if terms.frames:
        raise WrongUse(
            "A depot cannot be given frames one by one.", "Choose them by what they have in common, as --only GLOB."
        )
    if terms.keep_for not in (EVER, NONE) and not (
        terms.keep_for.isascii() and terms.keep_for.isdecimal() and len(terms.keep_for) < 7
    ):
        raise WrongUse(f"{terms.keep_for!r} is no time to keep.", "Write a number of days, ever, or none for a mirror.")
    if terms.leave_free < 0:
        raise WrongUse("That is no size.", "Write it as 500MB, 2GB or 4TB.")
    return terms


def chosen(terms: Terms) -> tuple[str, list[Any]]:
    """An SQL condition for what a depot gets, over `files f LEFT JOIN frames r ON r.id = f.frame`, and its values."""
    if not terms.chooses:
        return "1", []
    clause = terms.clause()
    named, names = _loose(terms)
    return (
        f"({_ALWAYS} OR (f.frame IS NULL AND {named}) OR (f.frame IS NOT NULL AND {clause.sql}))",
        [*names, *clause.values],
    )


def _loose(terms: Terms) -> tuple[str, list[Any]]:
    """Which files of no frame a depot gets."""
    if terms.shoots:
        return "0", []
    clauses = [f"({' OR '.join('bm_fits(?, f.path)' for _ in terms.only)})"] if terms.only else []
    clauses += ["NOT bm_fits(?, f.path)" for _ in terms.without]
    return " AND ".join(clauses) or "1", [*terms.only, *terms.without]


def said(terms: Terms) -> str:
    """The terms in words, for a list of depots."""
    parts = [terms.said()] if terms.chooses else []
    kept = {EVER: "", NONE: "a mirror: no earlier versions"}
    parts += [kept.get(terms.keep_for, f"earlier versions kept for {terms.keep_for} days")]
    parts += [f"leaves {terms.leave_free / 1e9:g} GB free"] if terms.leave_free else []
    return "; ".join(filter(None, parts)) or "everything, earlier versions for ever"
