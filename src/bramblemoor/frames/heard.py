"""What is claimed of one frame: in which order it was told, and what the map adds to it."""

from collections.abc import Callable, Iterable, Sequence

from bramblemoor.frames.claims import HAND, RETELLERS, TAKEN_AWAY, TAKEN_AWAY_BY, Claim, Facts, Field, Source, believe
from bramblemoor.frames.fields import FIELDS
from bramblemoor.frames.moments import written_offset
from bramblemoor.frames.zones import offset_at

SINGLE = tuple(field.claim for field in FIELDS if not field.several and field.claim not in ("camera", "lens"))
"""What a source may tell anew, where the latest word counts; of all other fields every value counts."""


class Heard:
    """The claims of one frame, in the order in which they were told, each with the file or order that told it last."""

    def __init__(self, told: Iterable[tuple[Claim, str]] = ()) -> None:
        self._told = dict(told)
        self._changed: set[Claim] = set()
        self._forgotten: set[Claim] = set()

    @property
    def claims(self) -> list[Claim]:
        return list(self._told)

    @property
    def told(self) -> list[tuple[Claim, str]]:
        """The claims, each with who told it."""
        return list(self._told.items())

    def changed(self) -> list[tuple[Claim, str]]:
        """What was told since, or has become the latest word again; all of it comes behind what has not changed."""
        return [(claim, told) for claim, told in self._told.items() if claim in self._changed]

    def forgotten(self) -> list[Claim]:
        """What was told before, and is not any more."""
        return [claim for claim in self._forgotten if claim not in self._told]

    def forget(self, claims: Iterable[Claim]) -> None:
        """Let claims go; those that are not known are passed over."""
        for claim in claims:
            if self._told.pop(claim, None) is not None:
                self._changed.discard(claim)
                self._forgotten.add(claim)

    def hear_all(self, claims: Iterable[Claim], told: str, *, beneath: bool = False) -> None:
        """Take in what one file or order tells."""
        for claim in claims:
            self.hear(claim, told, beneath=beneath)

    def hear(self, claim: Claim, told: str, *, beneath: bool = False) -> None:
        """Take in a claim. One told `beneath` is kept, and what its source said before of a field that has one value stays the
        latest word.
        """
        latest = None
        if claim in self._told:
            if beneath or self._is_latest(claim):
                return
            del self._told[claim]  # said before, then something else, and now again: the latest word
        elif beneath and claim.field in SINGLE:
            latest = self._latest((claim.field,), (claim.source,))
        self._told[claim] = told
        self._changed.add(claim)
        if latest is not None:
            self._told[latest] = self._told.pop(latest)
            self._changed.add(latest)

    def _is_latest(self, claim: Claim) -> bool:
        """Whether nothing was said since that a known claim, now said again, must outweigh."""
        by_hand = claim.source in HAND
        if by_hand and (claim.field in TAKEN_AWAY or claim.field in TAKEN_AWAY_BY):
            kept = TAKEN_AWAY.get(claim.field, claim.field)
            latest = self._latest((kept, TAKEN_AWAY_BY[kept]), HAND, claim.value)
        elif claim.source in RETELLERS and claim.field in SINGLE:
            latest = self._latest((claim.field,), HAND if by_hand else (claim.source,))
        else:
            return True
        return latest is not None and (latest.field, latest.value) == (claim.field, claim.value)

    def _latest(self, fields: Sequence[Field], sources: Sequence[Source], value: str | None = None) -> Claim | None:
        return next(
            (
                one for one in reversed(self._told)
                if one.field in fields and one.source in sources and value in (None, one.value)
            ),
            None,
        )  # fmt: skip


def settle(heard: Heard, name_at: Callable[[float, float], str | None]) -> Facts:
    """What is believed of a frame; what the map claims of it is brought up to date by that.

    Where its position is known, and nobody tells more, that is the offset of a local time and, by the user's own map of
    locations (`name_at` tells the name at a latitude and longitude in degrees, "" for none, None where nobody knows), a name.
    """
    claims = heard.claims
    before = [claim for claim in claims if claim.source == "map"]
    others = [claim for claim in claims if claim.source != "map"]
    facts = believe(others)
    told: list[Claim] = []
    if facts.position and facts.taken and facts.taken.local and facts.taken.offset is None and not facts.conflicts:
        offset = offset_at(*facts.position, facts.taken.local)
        told = [Claim("offset", written_offset(offset), "map")] if offset is not None else []
    if facts.position and not facts.location:
        name = name_at(*facts.position)
        if name is None:
            told += [claim for claim in before if claim.field == "location"]
        elif name:
            told.append(Claim("location", name, "map"))
    if before != told:
        heard.forget(before)
        heard.hear_all(told, "")
    return believe([*others, *told]) if told else facts
