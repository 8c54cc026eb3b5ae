"""The one way to say which frames, by their names and by what is known of them: in every command and in the terms of depots.

Of one condition any of its values will do; of several conditions all must hold. Texts are compared without regard to case and
accents, and a part of a text will do; names, paths and shoots are compared as globs.
"""

import json
import re
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

import msgspec

from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import MARKED
from bramblemoor.library.catalogue import believed
from bramblemoor.library.conditions import (
    CLAIMS_MARK,
    CONTAINS,
    IN_ALBUM,
    KINDS,
    LACKING,
    LACKS,
    NUMBERS,
    SIZE,
    STANDINGS,
    YEARS,
    Clause,
    any_of,
    believing,
    circle,
    number_range,
    of_years,
    prepare,
    saying,
    terms,
    within_circle,
)  # fmt: skip
from bramblemoor.library.dates import day_after, first_day
from bramblemoor.library.folding import plain, suggestion
from bramblemoor.library.globs import checked_glob, is_glob
from bramblemoor.library.home import Library
from bramblemoor.library.lookup import FramesByName

_PAGE = 500
_LARGEST = 1 << 62  # bytes that a ledger can count


class Selection(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which frames. Nothing given means all of them.

    `frames` are names, paths or globs; `words` are found by their beginnings in any text of a frame (one in double quotes as it
    stands), and all must occur; `years` are "2019", "2015-2019" or "undated", `since` and `until` inclusive days, months or
    years, as `added_since` and `added_until` are of when frames came into the library; `numbers` are "12" or "12-40", as names
    end; `near` is "LAT,LON,KM"; `standings` are of STANDINGS; `marked` frames are to be culled; `shoots`, `only` and `without`
    are globs on folders, and on paths of files (see docs/formats.md); `rating` is the least; sizes are bytes of the
    original; `lacking` are of LACKING. What fits any condition of `excepting` is not meant.
    """

    frames: list[str] = []
    words: list[str] = []
    years: list[str] = []
    since: str = ""
    until: str = ""
    added_since: str = ""
    added_until: str = ""
    numbers: list[str] = []
    near: str = ""
    shoots: list[str] = []
    albums: list[str] = []
    keywords: list[str] = []
    people: list[str] = []
    locations: list[str] = []
    kinds: list[str] = []
    rating: int = 0
    marked: bool = False
    labels: list[str] = []
    creators: list[str] = []
    standings: list[str] = []
    favourite: bool = False
    reduced: bool = False
    services: list[str] = []
    cameras: list[str] = []
    lenses: list[str] = []
    lacking: list[str] = []
    only: list[str] = []
    without: list[str] = []
    at_least: int = 0
    at_most: int = 0
    excepting: "Selection | None" = None

    @property
    def everything(self) -> bool:
        return not any(getattr(self, name) for name in Selection.__struct_fields__)

    def checked(self) -> Self:
        """The selection itself. Raises WrongUse, with what would be right, for values that cannot be."""
        for years in self.years:
            if not YEARS.fullmatch(years):
                raise WrongUse(f"{years!r} is no year.", "Write 2019, 2015-2019 or undated.")
        for kind in self.kinds:
            if kind not in KINDS:
                raise WrongUse(
                    f"There is no kind {kind!r}.", "Choose photo, video, or other (what cannot be read here)."
                )
        for what in self.lacking:
            if what not in LACKING:
                raise WrongUse(f"A frame cannot lack {what!r}.", f"Choose one of {', '.join(LACKING)}.")
        for glob in (*self.frames, *self.shoots, *self.only, *self.without):
            checked_glob(glob)
        for option, since, until in (
            ("--since", self.since, self.until), ("--added-since", self.added_since, self.added_until),
        ):  # fmt: skip
            for day in filter(None, (since, until)):
                first_day(day)
            if since and until and first_day(since).isoformat() >= day_after(until):
                raise WrongUse(f"Nothing lies between {since} and {until}.", f"Give the earlier date with {option}.")
        for numbers in self.numbers:
            if not NUMBERS.fullmatch(numbers):
                raise WrongUse(f"{numbers!r} is no number.", "Write 12, or 12-40.")
        for state in self.standings:
            if state not in STANDINGS:
                raise WrongUse(f"No frame is {state!r}.", f"Choose one of {', '.join(STANDINGS)}.")
        if self.near:
            circle(self.near)
        if min(self.at_least, self.at_most) < 0 or max(self.at_least, self.at_most) >= _LARGEST:
            raise WrongUse("That is no size.", "Write it as 500MB, 2GB or 4TB.")
        if self.excepting is not None:
            self.excepting.checked()
        return self

    def clause(self, called: str = "") -> Clause:
        """The condition. `called` is a query for the numbers of the frames that `frames` names, once they were looked up."""
        parts = [*self._parts(), *([Clause(f"r.id IN ({called})")] if self.frames else [])]
        if self.excepting is not None:
            parts += [Clause(f"NOT coalesce({part.sql}, 0)", part.values) for part in self.excepting._parts()]
        return Clause(
            " AND ".join(f"({part.sql})" for part in parts) or "1",
            tuple(value for part in parts for value in part.values),
        )

    def _parts(self) -> Iterator[Clause]:
        """A condition for each field that is given, but `frames`."""
        matched = " ".join(term for word in self.words for term in terms(word))
        if matched:
            yield Clause("r.id IN (SELECT rowid FROM words WHERE words MATCH ?)", (matched,))
        yield from any_of(map(of_years, self.years))
        if self.since:
            yield Clause("r.shown >= ?", (first_day(self.since).isoformat(),))
        if self.until:
            yield Clause("r.shown < ?", (day_after(self.until),))
        if self.added_since:
            yield Clause("r.added >= ?", (first_day(self.added_since).isoformat(),))
        if self.added_until:
            yield Clause("r.added < ?", (day_after(self.added_until),))
        yield from any_of(
            Clause("bm_number(r.name) BETWEEN ? AND ?", number_range(numbers)) for numbers in self.numbers
        )
        if self.near:
            yield within_circle(self.near)
        # A folder in full, or as it is called below pictures/.
        shoot = "bm_fits(?, r.folder) OR bm_fits('pictures/**/' || ?, r.folder)"
        yield from any_of(Clause(shoot, (glob, glob)) for glob in self.shoots)
        yield from any_of(Clause(IN_ALBUM, (plain(title),)) for title in self.albums)
        yield from any_of(saying("keyword", "keywords", word) for word in self.keywords)
        yield from any_of(saying("person", "people", name) for name in self.people)
        yield from any_of(Clause(CONTAINS.format(column="location"), (plain(place),)) for place in self.locations)
        yield from any_of(Clause("r.kind = ?", (kind,)) for kind in self.kinds)
        yield from any_of(Clause(CONTAINS.format(column="service"), (plain(name),)) for name in self.services)
        yield from any_of(believing("camera", name) for name in self.cameras)
        yield from any_of(believing("lens", name) for name in self.lenses)
        if self.rating:
            yield Clause(f"CAST({believed('rating')} AS INTEGER) >= ?", (self.rating,))
        yield from any_of(believing("label", text) for text in self.labels)
        yield from any_of(believing("creator", text) for text in self.creators)
        if self.marked:
            yield Clause(f"{CLAIMS_MARK} AND {believed('rating')} = '{MARKED}'")
        if self.standings:
            listed = ", ".join("?" for _ in self.standings)
            yield Clause(
                "r.id IN (SELECT unit FROM standings WHERE stand IN (SELECT stand FROM temp.judged WHERE state"
                f" IN ({listed})))",
                tuple(self.standings),
            )
        if self.favourite:
            yield Clause("r.favourite")
        if self.reduced:
            yield Clause("r.reduced")
        yield from (Clause(LACKS[what]) for what in self.lacking)
        path = "r.folder || '/' || r.name"
        yield from any_of(Clause(f"bm_fits(?, {path})", (glob,)) for glob in self.only)
        yield from (Clause(f"NOT bm_fits(?, {path})", (glob,)) for glob in self.without)
        if self.at_least:
            yield Clause(f"{SIZE} >= ?", (self.at_least,))
        if self.at_most:
            yield Clause(f"{SIZE} <= ?", (self.at_most,))

    def said(self, frames: str = "frames") -> str:
        """In words, as they follow a count: "frames of 2024 with the keyword reeds"."""
        return " ".join(
            [frames, *self._said(), *([f"but not those {self.excepting._said_or()}"] if self.excepting else [])]
        )

    def _said_or(self) -> str:
        return " or ".join(self._said())

    def _said(self) -> Iterator[str]:
        if self.frames:
            yield f"called {_or(self.frames)}" if len(self.frames) <= _FEW else f"of a list of {len(self.frames):,}"
        if self.years:
            yield f"of {_or(self.years)}"
        if self.since or self.until:
            yield f"taken {_between(self.since, self.until)}"
        if self.added_since or self.added_until:
            yield f"added {_between(self.added_since, self.added_until)}"
        if self.numbers:
            yield f"numbered {_or(self.numbers)}"
        if self.near:
            latitude, longitude, radius = circle(self.near)
            yield f"taken within {radius / 1000:g} km of {latitude:g},{longitude:g}"
        words = "with the words {}" if len(self.words) > 1 else "with the word {}"
        for values, phrase in (
            (self.shoots, "of shoots like {}"), (self.albums, "in albums like {}"), (self.words, words),
            (self.keywords, "with the keyword {}"), (self.people, "showing {}"), (self.locations, "taken at {}"),
            (self.services, "from {}"), (self.cameras, "by the camera {}"), (self.lenses, "through the lens {}"),
            (self.lacking, "without a {}"), (self.only, "that fit {}"), (self.without, "that do not fit {}"),
        ):  # fmt: skip
            if values:
                yield phrase.format(" and ".join(values) if values is self.words else _or(values))
        if self.kinds:
            yield f"that are {_or([_KIND_SAID[kind] for kind in self.kinds])}"
        if self.rating:
            yield f"rated {self.rating} or more"
        if self.labels:
            yield f"labelled {_or(self.labels)}"
        if self.creators:
            yield f"by {_or(self.creators)}"
        if self.marked:
            yield "that are marked"
        if self.standings:
            yield f"whose copies are {_or(self.standings)}"
        if self.favourite:
            yield "that are favourites"
        if self.reduced:
            yield "that are reduced copies"
        if self.at_least:
            yield f"of {self.at_least / 1e6:g} MB or more"
        if self.at_most:
            yield f"of {self.at_most / 1e6:g} MB or less"


EVERYTHING = Selection()
_FEW = 3
_MOST_NAMES = 20_000  # that are compared with one that nothing is called: a moment's work
_KIND_SAID = {"photo": "photos", "video": "films", "other": "of a kind that is not known here"}


def _or(values: Sequence[str]) -> str:
    """ "a", "a or b", "a, b or c"."""
    return f"{', '.join(values[:-1])} or {values[-1]}" if len(values) > 1 else values[0]


def _between(since: str, until: str) -> str:
    if since and until:
        return f"from {since} to {until}"
    return f"since {since}" if since else f"until {until}"


def located(db: sqlite3.Connection, selection: Selection, root: Path | None = None) -> Clause:
    """The condition on a ledger, with the names that the selection gives looked up there.

    `root` is the library's folder, where it is at hand: then a path may be one as seen from the current folder. Raises
    WrongUse for names that no frame has.
    """
    prepare(db)
    called = ""
    if selection.frames:
        called = "temp.called"
        db.executescript("CREATE TEMP TABLE IF NOT EXISTS called (frame INTEGER PRIMARY KEY); DELETE FROM temp.called;")
        unknown = []
        by_name = FramesByName(db, root)
        for name in dict.fromkeys(selection.frames):
            numbers = by_name.called(name)
            if not numbers and is_glob(name):
                numbers = [
                    row["id"]
                    for row in db.execute(
                        "SELECT id FROM frames r WHERE bm_fits(?, r.folder || '/' || r.name)", (name,)
                    )
                ]
            db.executemany("INSERT OR IGNORE INTO temp.called VALUES (?)", ((number,) for number in numbers))
            if not numbers:
                unknown.append(name)
        if unknown:
            raise _none_called(db, unknown, len(selection.frames))
        called = "SELECT frame FROM temp.called"
    return selection.clause(called)


_judges: list[Callable[[Library], None]] = []


def judge_standings_by(judge: Callable[[Library], None]) -> None:
    """Tell who fills temp.judged (stand, state) where a selection asks for standings: what knows the depots."""
    _judges[:] = [judge]


def located_in(library: Library, selection: Selection) -> Clause:
    """The same on an open library."""
    if selection.standings or (selection.excepting is not None and selection.excepting.standings):
        _judges[0](library)
    return located(library.db, selection, library.root)


def _names_near(db: sqlite3.Connection, name: str) -> list[str]:
    """Names of frames that one may be a slip of; where there are very many, only those that begin alike, and not too many."""
    found = db.execute("SELECT DISTINCT name FROM frames LIMIT ?", (_MOST_NAMES + 1,)).fetchall()
    if len(found) > _MOST_NAMES:
        found = db.execute(
            "SELECT DISTINCT name FROM frames WHERE substr(name, 1, 3) = substr(?, 1, 3) COLLATE NOCASE LIMIT ?",
            (name, _MOST_NAMES),
        ).fetchall()
    return sorted(row[0] for row in found)


def _none_called(db: sqlite3.Connection, unknown: list[str], of: int) -> WrongUse:
    if len(unknown) > 1:
        shown = ", ".join(map(repr, unknown[:_FEW])) + (", ..." if len(unknown) > _FEW else "")
        return WrongUse(
            f"{len(unknown):,} of the {of:,} names are no frame's here: {shown}.",
            "Nothing was done. Correct them, or look for what there is: bramblemoor find.",
        )
    name = unknown[0]
    if is_glob(name):
        literal = " Brackets in a glob stand for themselves." if set(name) & set("[]{}") else ""
        return WrongUse(f"No frame fits {name!r}.{literal}", "Look for what there is: bramblemoor find.")
    called = name.rpartition("/")[2]
    near = suggestion(called, _names_near(db, called), listed=0)
    return WrongUse(f"No frame is called {name!r} here.", f"{near}Look for it: bramblemoor find.")


def counted(count: int, selection: Selection) -> str:
    """ "312 frames of 2024 with the keyword reeds", "1 frame called ...", "100 frames"."""
    return f"{count:,} {selection.said('frame' if count == 1 else 'frames')}"


@dataclass(frozen=True)
class Selected:
    """The frames of a library that a selection means, as they were when it was made:

    what is done to them does not change which.
    """

    library: Library
    selection: Selection
    count: int

    def frames(self) -> Iterator[int]:
        """Their numbers, in order of taking."""
        last = 0
        while page := self.library.db.execute(
            "SELECT n, frame FROM temp.selected WHERE n > ? ORDER BY n LIMIT ?", (last, _PAGE)
        ).fetchall():
            yield from (row["frame"] for row in page)
            last = page[-1]["n"]

    @property
    def said(self) -> str:
        return counted(self.count, self.selection)


NOTHING = "Look for what there is: bramblemoor find."


def select(library: Library, selection: Selection) -> Selected:
    """Find the frames;

    they are kept in a table outside memory. Raises WrongUse for names that no frame has, or where none fits.
    """
    db, clause = library.db, located_in(library, selection)
    db.executescript(
        "DROP TABLE IF EXISTS temp.selected; CREATE TEMP TABLE selected (n INTEGER PRIMARY KEY, frame INTEGER);"
    )
    count = db.execute(
        "INSERT INTO temp.selected (frame) SELECT r.id FROM frames r"
        f" WHERE {clause.sql} ORDER BY r.shown, r.folder, r.name",
        clause.values,
    ).rowcount
    if not count:
        raise WrongUse(f"There are no {selection.said()}.", NOTHING)
    return Selected(library, selection, count)


def read_list(lines: str) -> list[str]:
    """The names of a list: one a line, or parted by NUL. Blank lines are passed over."""
    return [name for line in re.split(r"[\n\0]", lines) if (name := line.strip("\r"))]


def as_document(selection: Selection) -> dict[str, Any]:
    """For --json: what was asked for, without what was not."""
    document: dict[str, Any] = json.loads(msgspec.json.encode(selection))
    return document


def frame_named(library: Library, name: str) -> int:
    """The one frame of that path, file name or number.

    Raises WrongUse, with the nearest names, where there is none or several.
    """
    found = FramesByName(library.db, library.root).called(name)
    if not found:
        raise _none_called(library.db, [name], 1)
    if len(found) > 1:
        paths = [
            library.db.execute("SELECT folder || '/' || name FROM frames WHERE id = ?", (number,)).fetchone()[0]
            for number in found[:5]
        ]
        more = ", ..." if len(found) > len(paths) else ""
        raise WrongUse(
            f"{len(found):,} frames are called {name}, or lie there.",
            f"Name one by its path: {', '.join(paths)}{more}.",
        )
    return found[0]
