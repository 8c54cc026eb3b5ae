"""Records of a parcel that nobody has described, place by place, and what is proposed for one."""

import json
import re
from collections.abc import Callable, Container
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from bramblemoor.exports.drafting.sampling import first_text

_COMPARED = 300  # records


@dataclass(frozen=True)
class Found:
    """One proposal: what it is for, the TOML that says so, the share of records it was found in, an example, and the reason."""

    what: str
    toml: str
    share: float
    example: str
    why: str


def quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def key_of(place: str) -> str:
    """The last key of a place, in small letters."""
    return re.split(r"[/@:]", place.replace("/*", "").lower())[-1]


class Records:
    """The values of all records, by place; `pairs` are the pictures that the records belong to, "" where that is unknown."""

    def __init__(self, records: list[dict[str, list[Any]]], pairs: list[str]) -> None:
        self.places = list(dict.fromkeys(place for record in records for place in record))
        self.records, self.pairs, self.count = records, pairs, len(records)
        self.taken: set[str] = set()

    @cached_property
    def paired(self) -> list[tuple[dict[str, list[Any]], str]]:
        """Records with their pictures, from all over the list."""
        both = [(record, pair) for record, pair in zip(self.records, self.pairs, strict=True) if pair]
        return both[:: max(1, len(both) // _COMPARED)]

    def free(self) -> list[str]:
        return [place for place in self.places if place not in self.taken]

    def values(self, place: str) -> list[list[Any]]:
        return [record.get(place, []) for record in self.records]

    def told(self, place: str) -> list[tuple[Any, str]]:
        """(value, picture) of the records that have just one value there."""
        found = ((record.get(place, ()), pair) for record, pair in self.paired)
        return [(values[0], pair) for values, pair in found if len(values) == 1 and values[0] not in (None, "")]

    def agreeing(
        self, test: Callable[[Any, str], bool], share: float = 0.6, among: Container[str] | None = None
    ) -> str:
        """The place whose values pass a test most often; "" where none does mostly. `among` are the pictures that can tell."""
        best = (0.0, 0, "")
        for place in self.free():
            told = [one for one in self.told(place) if among is None or one[1] in among]
            fit = sum(bool(test(value, pair)) for value, pair in told)
            if told and fit >= share * len(told) and fit >= min(3, len(self.paired)):
                best = max(best, (fit / len(told), fit, place))
        return best[2]

    def found(self, what: str, toml: str, place: str, why: str) -> Found:
        self.taken.add(place)
        values = self.values(place)
        share = sum(any(value not in (None, "") for value in one) for one in values) / self.count
        return Found(what, toml, share, next((text for one in values if (text := first_text(one))), ""), why)
