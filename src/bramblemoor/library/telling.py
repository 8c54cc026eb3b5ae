"""What the user says of frames: planned, entered with their sidecars, and taken back by the receipt."""

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

import msgspec

from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import HAND, TAKEN_AWAY, TAKEN_AWAY_BY, Claim, Facts, believe
from bramblemoor.frames.heard import Heard, settle
from bramblemoor.library.home import Library
from bramblemoor.library.known import told_of
from bramblemoor.library.locations import name_at, readable_locations
from bramblemoor.library.receipts import Change, Receipt, Said, listing, number_in_name, run_in_name
from bramblemoor.library.renewing import LeftAsItIs
from bramblemoor.library.sayings import Word, words_for
from bramblemoor.library.selection import Selected, Selection, select
from bramblemoor.library.telling_runs import Before, finish_interrupted, run
from bramblemoor.running import Pace, Progress, Stage, portions

_CAN_BE = ("tell", "takeback")
"""The runs that can be taken back."""
_AT_ONCE = 512  # frames whose claims are read together


@dataclass
class PlannedWord:
    """How many frames a word is new to, of how many of these it takes the place of something else, and how many have it.

    `cannot` are those of which it cannot be said, as they have no date.
    """

    word: Word
    new: int = 0
    replaces: int = 0
    there: int = 0
    cannot: int = 0


@dataclass
class Plan:
    """What telling would do; `bound` counts frames by bound year, which are not to change, or not to be added to."""

    words: list[PlannedWord]
    bound: dict[int, int] = field(default_factory=dict)


def plan(selected: Selected, words: Sequence[Word], progress: Progress) -> Plan:
    """Look what telling would do; changes nothing."""
    library = selected.library
    result, db, seen = Plan([PlannedWord(word) for word in words]), library.db, 0
    bound = frozenset(row[0] for row in db.execute("SELECT year FROM bound"))
    names = partial(name_at, readable_locations(library.root))
    may_move = bool(bound) and any(word.field in ("taken", "position") for word in words)
    for frames in portions(selected.frames(), _AT_ONCE):
        years = _years(library, frames) if bound else {}
        for frame, told in told_of(db, frames).items():
            claims = [claim for claim, _ in told]
            facts = believe(claims)
            year = years.get(frame)
            if may_move and year not in bound:
                year = _year_with(told, facts, words, names)
            if year in bound:
                result.bound[year] = result.bound.get(year, 0) + 1  # type: ignore[index, arg-type]
                continue
            for one in result.words:
                word = one.word.for_frame(claims, facts)
                if word is None:
                    one.cannot += 1
                elif word.stands(claims, facts):
                    one.there += 1
                else:
                    one.new += 1
                    one.replaces += word.replaces(facts)
        seen += len(frames)
        progress(Stage("looking", "frames"), seen, selected.count)
    return result


def _years(library: Library, frames: Sequence[int]) -> dict[int, int | None]:
    rows = library.db.execute(
        "SELECT id, year FROM frames WHERE id IN (SELECT value FROM json_each(?))", (json.dumps(frames),)
    )
    return dict(rows.fetchall())


def _year_with(
    told: Sequence[tuple[Claim, str]],
    facts: Facts,
    words: Sequence[Word],
    name_at: Callable[[float, float], str | None],
) -> int | None:
    """The year that a frame would come into by these words."""
    heard = Heard(told)
    _say(heard, facts, words)
    taken = settle(heard, name_at).taken
    return taken.shown.year if taken else None


def tell(library: Library, selected: Selected, words: Sequence[Word], progress: Progress, pace: Pace) -> Receipt:
    """Enter what is said of each frame, and write it down beside the pictures; returns the receipt, which is also written.

    Frames of bound years, or that would come into one, stay as they are, and are named.
    """

    jobs = ((frame, words) for frame in selected.frames())
    about = {"said": "; ".join(word.said() for word in words), "of": selected.said}
    return run(library, "tell", about, jobs, selected.count, _say, progress, pace)


def go_on(library: Library, selection: Selection, words: Sequence[Word], progress: Progress, pace: Pace) -> Receipt:
    """Go on with telling that was killed (see `goes_on`); what is selected by what was told may be nobody any more."""
    try:
        selected = select(library, selection)
    except WrongUse:
        receipt = finish_interrupted(library)
        assert receipt is not None
        return receipt
    return tell(library, selected, words, progress, pace)


def tell_each(
    library: Library, words: Mapping[int, Sequence[Word]], of: str, progress: Progress, pace: Pace
) -> Receipt:
    """Say of each frame what is meant for it, as a marks file does; `of` is what the receipt says it was told by."""

    about = {"said": "what is meant for each", "of": of}
    return run(library, "tell", about, iter(words.items()), len(words), _say, progress, pace)


def _say(heard: Heard, facts: Facts, words: Sequence[Word]) -> Before:
    """Take in what is said of a frame; returns what of its claims was changed by that."""
    claims = heard.claims
    said = words_for(words, claims, facts)
    if all(word.stands(claims, facts) for word in said):
        return []
    touched = [_Touched(word.field, word.value) for word in said]
    before = [one.of(heard) for one in touched]
    heard.hear_all((word.claim for word in said), "you")
    return _changes(touched, before, heard)


def _changes(touched: Sequence["_Touched"], before: Sequence[list[Said]], heard: Heard) -> Before:
    return [(one.field, one.value, was, one.of(heard)) for one, was in zip(touched, before, strict=True)]


def take_back(library: Library, receipt: Receipt, progress: Progress, pace: Pace) -> Receipt:
    """Take the changes of a run back; returns the receipt of that, by which it can be done again.

    What was changed since is left as it is, and named. Raises WrongUse for a run whose changes cannot be taken back.
    """
    if receipt.run not in _CAN_BE:
        last = next(
            (number_in_name(one) for one in reversed(listing(library.receipts)) if run_in_name(one) in _CAN_BE), None
        )
        raise WrongUse(
            f"Receipt {receipt.number} is of a run that cannot be taken back: {receipt.run}.",
            f"The last that can be: bramblemoor takeback {last}." if last else "Nothing was told yet.",
        )
    if not receipt.changes:
        raise WrongUse(f"By the run of receipt {receipt.number} nothing was changed.", "There is nothing to take back.")
    changes: dict[int, list[Change]] = {}
    names: dict[int, str] = {}
    for change in receipt.changes:
        meant = msgspec.structs.replace(change, frames=[])
        for frame, path in change.frames:
            changes.setdefault(frame, []).append(meant)
            names[frame] = path
    said = receipt.about.get("said", "what that had taken back")
    about = {"taken back": f"receipt {receipt.number}: {said}"}
    jobs = iter(changes.items())
    return run(library, "takeback", about, jobs, len(changes), _restore, progress, pace, names, of=receipt.number)


def _restore(heard: Heard, was: Facts, changes: Sequence[Change]) -> Before:
    """Make of a frame's claims what they were before some changes. Raises LeftAsItIs where they were told otherwise since."""
    touched = [_Touched(each.field, each.value) for each in changes]
    before = [one.of(heard) for one in touched]
    for one, change, now in zip(touched, changes, before, strict=True):
        if now != change.after:
            raise LeftAsItIs(f"{_TOLD_SINCE} ({one.name})")
    for one, change in zip(touched, changes, strict=True):
        one.put(heard, change.before)
    return _changes(touched, before, heard)


_TOLD_SINCE = "it was told otherwise since, and stays so"


@dataclass(frozen=True)
class _Touched:
    """What of a frame's claims a word may change: those by hand of one field, or of one keyword or person and its opposite."""

    field: str
    value: str

    @property
    def name(self) -> str:
        return TAKEN_AWAY.get(self.field, self.field)  # type: ignore[call-overload, no-any-return]

    def _told(self, heard: Heard) -> list[tuple[Claim, str]]:
        several = self.name in TAKEN_AWAY_BY
        fields = (self.name, TAKEN_AWAY_BY[self.name]) if several else (self.field,)  # type: ignore[index]
        return [
            (claim, told)
            for claim, told in heard.told
            if claim.field in fields and claim.source in HAND and (not several or claim.value == self.value)
        ]

    def of(self, heard: Heard) -> list[Said]:
        """The claims by hand, in the order in which they were told."""
        return [Said(claim.field, claim.value, claim.source, told) for claim, told in self._told(heard)]

    def put(self, heard: Heard, claims: Iterable[Said]) -> None:
        """Make them these."""
        heard.forget([claim for claim, _ in self._told(heard)])
        for one in claims:
            heard.hear(Claim(one.field, one.value, one.source), one.told)  # type: ignore[arg-type]
