"""What a user may say of a frame: fixed words, and such as depend on what is known of it."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta

from bramblemoor.frames.claims import (
    HAND,
    MARKED,
    SEVERAL,
    TAKEN_AWAY,
    TAKEN_AWAY_BY,
    Claim,
    Facts,
    Field,
    believe,
    believed_moment,
    written_position,
)
from bramblemoor.frames.gazetteer import nearest
from bramblemoor.frames.moments import Moment
from bramblemoor.frames.tracks import Track


@dataclass(frozen=True)
class Word:
    """One thing to say of a frame: as a claim of the user's. `no_keyword` and `no_person` take one away."""

    field: Field
    value: str

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> "Word | None":
        """What is said of a frame of which that is known; None where nothing can be."""
        return self

    @property
    def claim(self) -> Claim:
        return Claim(self.field, self.value, "you")

    def said(self) -> str:
        """ "title: Reeds", "no longer the keyword draft"."""
        kept = TAKEN_AWAY.get(self.field)
        if (self.field, self.value) == ("rating", str(MARKED)):
            return "marked to be culled"
        return f"{kept}: no {self.value!r} any more" if kept else f"{self.field}: {self.value or 'nothing'}"

    def stands(self, claims: Sequence[Claim], facts: Facts) -> bool:
        """Whether that is the last word on a frame already."""
        kept = TAKEN_AWAY.get(self.field)
        if kept:
            return self.value not in SEVERAL[kept](facts)
        if self.field in TAKEN_AWAY_BY:
            return self.value in SEVERAL[self.field](facts)
        by_hand = [claim for claim in claims if claim.field == self.field and claim.source in HAND]
        return bool(by_hand) and by_hand[-1] == self.claim

    def replaces(self, facts: Facts) -> bool:
        """Whether something else is believed of it now."""
        if self.field in (*TAKEN_AWAY_BY, *TAKEN_AWAY):
            return False
        return _believed(facts, self.field) not in ("", self.value)


def _believed(facts: Facts, name: Field) -> str:
    """What is believed, as a claim would say it."""
    if name == "favourite":
        return "yes" if facts.favourite else ""
    if name == "position":
        return "" if facts.position is None else "{:.6f},{:.6f}".format(*facts.position)
    value = getattr(facts, name)
    return "" if value is None else str(value)


@dataclass(frozen=True)
class Clock(Word):
    """How far the clock of whatever took the frame is off: the date is what was told by others, and that. Said anew it is the
    whole amount, so that a run may be repeated.
    """

    by: timedelta = timedelta()

    def said(self) -> str:
        return f"taken: {self.value} by the clock that it was taken by"

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> Word | None:
        told, _ = believed_moment([claim for claim in claims if claim.source not in HAND])
        try:
            if told is None:
                return None
            if told.local is None:
                return Word("taken", str(replace(told, utc=told.instant + self.by)))
            return Word("taken", str(replace(told, local=told.local + self.by)))
        except OverflowError:
            return None


@dataclass(frozen=True)
class Zone(Word):
    """In which time zone a frame was taken: its local clock stays."""

    minutes: int = 0

    def said(self) -> str:
        return f"taken: {self.value}, by the same clock"

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> Word | None:
        if facts.taken is None:
            return None
        local = facts.taken.local or facts.taken.instant + timedelta(minutes=self.minutes)
        return Word("taken", str(Moment(local=local, offset=self.minutes)))


@dataclass(frozen=True)
class Templated(Word):
    """A text of a template, in which the year of the taking is to stand."""

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> Word | None:
        year = str(facts.taken.shown.year) if facts.taken is not None else ""
        return Word(self.field, self.value.replace("{year}", year).strip())


def words_for(words: Sequence[Word], claims: Sequence[Claim], facts: Facts) -> list[Word]:
    """What is said of one frame, of which that is known and believed; of two words on one thing the latter."""
    found = [said for word in words if (said := word.for_frame(claims, facts)) is not None]
    several = [word for word in found if word.field in (*TAKEN_AWAY_BY, *TAKEN_AWAY)]
    return [*{word.field: word for word in found if word not in several}.values(), *several]


@dataclass(frozen=True)
class PlaceName(Word):
    """The name of the place that a frame was taken at or near, where it has a position and no location is known of it."""

    within: float = 10_000

    def said(self) -> str:
        return f"location: the nearest place within {self.within / 1000:g} km"

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> Word | None:
        if facts.location or facts.position is None:
            return None
        near = nearest(*facts.position, self.within)
        return Word("location", near.said()) if near is not None else None


@dataclass(frozen=True)
class OnTrack(Word):
    """Where a frame was taken, by a track, where it has no position."""

    track: Track = field(default_factory=lambda: Track([], []))

    def said(self) -> str:
        return f"position: by the track {self.value}"

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> Word | None:
        if facts.position is not None or facts.taken is None:
            return None
        position = self.track.at(facts.taken)
        written = written_position(*position) if position is not None else None
        return Word("position", written) if written is not None else None


@dataclass(frozen=True)
class Unmark(Word):
    """A frame is not to be culled: its rating is again what it was before it was marked."""

    def said(self) -> str:
        return "no longer marked to be culled"

    def for_frame(self, claims: Sequence[Claim], facts: Facts) -> Word | None:
        if facts.rating != MARKED:
            return None
        before = believe([claim for claim in claims if (claim.field, claim.value) != ("rating", str(MARKED))])
        return Word("rating", "" if before.rating is None else str(before.rating))


MARK = Word("rating", str(MARKED))
"""To be culled."""
UNMARK = Unmark("rating", "")
