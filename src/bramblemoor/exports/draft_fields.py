"""Drafting a dialect's fields: which values of records are names, digests, dates, places and words.

A place is believed first for what agrees with the pictures themselves, then for what its key is called.
"""

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from bramblemoor.exports import forms
from bramblemoor.exports.sampling import Sample, first_text
from bramblemoor.exports.templates import folded
from bramblemoor.frames.moments import Moment, infer_offset, parse_moment

_WORDS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("caption", ("caption", "description", "descr", "note", "comment", "about", "text", "say", "message")),
    ("title", ("title", "heading", "headline", "subject_line")),
    ("keyword", ("keyword", "tags", "tag", "subjects", "labels")),
    ("person", ("people", "persons", "person", "faces", "who", "with")),
    ("location", ("place", "location", "spot", "where", "venue")),
    ("favourite", ("favourite", "favorite", "heart", "starred", "hearts", "liked", "fav")),
    ("rating", ("rating", "stars")),
)
_DATES = ("epoch-seconds", "epoch-milliseconds", "epoch-microseconds", "iso")
_PATTERNS = (
    "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M", "%d/%m/%Y %H:%M:%S", "%m/%d/%Y %H:%M:%S", "%Y:%m:%d %H:%M:%S", "%Y/%m/%d %H:%M:%S",
    "%m/%d/%Y, %I:%M:%S %p", "%d %b %Y %H:%M:%S", "%b %d, %Y, %I:%M:%S %p",
)  # fmt: skip


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


class _Columns:
    """The values of all records, by place; `pairs` are the pictures that the records belong to, "" where that is unknown."""

    def __init__(self, records: list[dict[str, list[Any]]], pairs: list[str]) -> None:
        self.places = list(dict.fromkeys(place for record in records for place in record))
        self.values = {place: [record.get(place, []) for record in records] for place in self.places}
        self.pairs = pairs
        self.count = len(records)
        self.taken: set[str] = set()

    def free(self) -> list[str]:
        return [place for place in self.places if place not in self.taken]

    def share(self, place: str) -> float:
        return sum(any(value not in (None, "") for value in values) for values in self.values[place]) / self.count

    def example(self, place: str) -> str:
        return next((text for values in self.values[place] if (text := first_text(values))), "")

    def told(self, place: str) -> list[tuple[Any, str]]:
        """(value, picture) of the records that have just one value there."""
        both = zip(self.values[place], self.pairs, strict=True)
        return [(values[0], pair) for values, pair in both if len(values) == 1 and pair and values[0] not in (None, "")]

    def agreeing(self, test: Callable[[Any, str], bool]) -> str:
        """The place whose values pass a test most often; "" where none does mostly."""
        best = (0.0, "")
        for place in self.free():
            told = self.told(place)
            fit = sum(bool(test(value, pair)) for value, pair in told)
            if told and fit >= 0.6 * len(told) and fit >= min(3, self.count):
                best = max(best, (fit / len(told), place))
        return best[1]

    def found(self, what: str, toml: str, place: str, why: str) -> Found:
        self.taken.add(place)
        return Found(what, toml, self.share(place), self.example(place), why)


def proposals(records: list[dict[str, list[Any]]], pairs: list[str], sample: Sample) -> Iterator[Found]:
    """What the places of records are likely to hold: how they name their picture, then fields, then the position."""
    columns = _Columns(records, pairs)
    yield from _keys(columns, sample)
    date = _date(columns, sample)
    if date is not None:
        place, words, why = date
        yield columns.found("field taken", f"taken = {{ at = {quoted(place)}, {words} }}", place, why)
    for field, words_of in _WORDS:
        named = next(
            (place for place in columns.free() if columns.example(place) and _is_called(place, words_of)), None
        )
        if named is not None:
            yield columns.found(
                f"field {field}", _field(field, named, columns.values[named]), named, "its name says so"
            )
    yield from _position(columns)


def _keys(columns: _Columns, sample: Sample) -> Iterator[Found]:
    base = {pair: folded(pair.rpartition("/")[2]) for pair in columns.pairs}
    tests: tuple[tuple[str, Callable[[Any, str], bool], str], ...] = (
        (
            "path",
            lambda value, pair: "/" in str(value) and folded(pair).endswith(folded(str(value).lstrip("./"))),
            "path",
        ),
        ("file_name", lambda value, pair: _alike_names(folded(str(value)), base[pair]), "name"),
        ("sha256", lambda value, pair: str(value).lower() == sample.digests.get(pair), "SHA-256"),
        ("size", lambda value, pair: str(value) == str(sample.contents[pair][1]), "size"),
    )
    for key, test, what in tests:
        place = columns.agreeing(test)
        if place:
            yield columns.found("key", f"{key} = {quoted(place)}", place, f"it is the {what} of the picture")
    for place in columns.free():
        different = len({str(values) for values in columns.values[place]}) == columns.count
        if different and columns.share(place) > 0.9 and re.search(r"(?i)(^|[/@:_])(id|ref|reference|uuid|key)$", place):
            yield columns.found("key", f"reference = {quoted(place)}", place, "it is another for each picture")
            return
    for place in columns.free():  # else whatever is one short word, and another for each
        words = [values[0] for values in columns.values[place] if len(values) == 1 and isinstance(values[0], str)]
        short = [word for word in words if re.fullmatch(r"[A-Za-z0-9_-]{3,40}", word)]
        if len(set(short)) == columns.count >= 3:
            yield columns.found("key", f"reference = {quoted(place)}", place, "it is another for each picture")
            return


def _is_called(place: str, words: tuple[str, ...]) -> bool:
    steps = re.split(r"[/@:]", place.replace("/*", "").lower())
    key = re.split(r"[_\-.]", steps[-1])
    listed = "/*" in place and any(word in "/".join(steps[:-1]) for word in words)
    return listed or any(word == steps[-1] or word in key for word in words)


def _alike_names(told: str, name: str) -> bool:
    stem, _, _ = told.rpartition(".")
    return told == name or (len(stem) >= 3 and name.startswith(stem[:20]))


def _field(field: str, place: str, values: list[list[Any]]) -> str:
    texts = [value for found in values for value in found if isinstance(value, str)]
    if "/*" in place:
        at, _, each = place.partition("/*")
        return f"{field} = {{ at = {quoted(at)}" + (f", each = {quoted(each)} }}" if each else " }")
    words = f"{field} = {{ at = {quoted(place)}"
    if field == "favourite":
        words += ', form = "flag"'
    elif any(re.search(r"&(amp|lt|gt|quot|#\d+);", text) for text in texts):
        words += ', form = "html"'
    elif sum(bool(re.search(r"%[0-9A-Fa-f]{2}", text)) for text in texts) * 4 > len(texts) > 0:
        words += ', form = "percent"'
    if field in ("keyword", "person") and texts:
        separator = next((sign for sign in (";", "|", ",") if any(sign in text for text in texts)), "")
        words += f", separator = {quoted(separator)}" if separator else ""
    return words + " }"


def _date(columns: _Columns, sample: Sample) -> tuple[str, str, str] | None:
    """The place whose values, read in some form, agree best with the dates in the pictures; else the likeliest by its name."""
    shot = {
        name: moment.local
        for name, reading in sample.looked.items()
        for claim in reading.claims[:1]
        if claim.field == "taken" and (moment := parse_moment(claim.value)) is not None and moment.local is not None
    }
    ways = [(f'form = "{form}"', form, "") for form in _DATES]
    ways += [(f'form = "date", pattern = "{pattern}"', "date", pattern) for pattern in _PATTERNS]
    best: tuple[tuple[float, float], tuple[str, str, str]] | None = None
    for place in columns.free():
        told = columns.told(place)
        named = bool(re.search(r"(?i)tak|shot|shutter|creat|date|when|time", place))
        for words, form, pattern in ways:
            read = [(moment, pair) for value, pair in told if (moment := _tried(value, form, pattern)) is not None]
            if not read or len(read) < 0.5 * len(told):
                continue
            compared = [(moment, shot[pair]) for moment, pair in read if pair in shot]
            agree = sum(_same_instant(moment, local) for moment, local in compared)
            rank = (agree / len(compared) if compared else 0.0, len(read) / len(told) + named / 2)
            why = f"it agrees with {agree} of {len(compared)} pictures' own dates" if agree else "it looks like a date"
            if best is None or rank > best[0]:
                best = (rank, (place, words, why))
    return best[1] if best is not None and (best[0][0] > 0.3 or best[0][1] >= 1) else None


def _tried(value: Any, form: str, pattern: str) -> Moment | None:
    """The moment that a value tells in a form, where it is one that pictures can have."""
    try:
        moment = parse_moment(forms.written(value, form, pattern))  # type: ignore[arg-type]
    except (ValueError, OverflowError):
        return None
    if moment is None or not datetime(1900, 1, 1) < moment.shown < datetime(2110, 1, 1):
        return None
    too_early = form.startswith("epoch") and abs(moment.shown - datetime(1970, 1, 1)) < timedelta(days=1000)
    return None if too_early else moment  # small numbers are rather counts, and milliseconds read as microseconds


def _same_instant(moment: Moment, local: datetime) -> bool:
    clock = moment.utc or moment.shown
    offset = infer_offset(local, clock)
    return offset is not None and abs(local - clock - timedelta(minutes=offset)) < timedelta(seconds=2)


def _position(columns: _Columns) -> Iterator[Found]:
    axes = {}
    for axis, words in (("latitude", r"(?i)(^|[/@:_])lat"), ("longitude", r"(?i)(^|[/@:_])(lon|lng)")):
        place = next((one for one in columns.free() if re.search(words, one) and columns.example(one)), None)
        if place is None:
            yield from _pair(columns)
            return
        axes[axis] = place
    values = [str(value) for place in axes.values() for found in columns.values[place] for value in found]
    largest = max((abs(float(value)) for value in values if re.fullmatch(r"-?\d+(\.\d+)?", value)), default=0.0)
    for axis, place in axes.items():
        yield columns.found(f"position {axis}", f"{axis} = {quoted(place)}", place, "its name says so")
    if largest > 360:
        scale = "1e-7" if largest > 180 * 10**6 else "1e-6"
        yield Found("position scale", f"scale = {scale}", 1.0, f"up to {largest:.0f}", "degrees go to 180")


def _pair(columns: _Columns) -> Iterator[Found]:
    """A place where both halves of a position stand in one text."""
    for place in columns.free():
        told = [value for value, _ in columns.told(place) if isinstance(value, str) and re.search(r"[,;]", value)]
        read = [value for value in told if _is_pair(value)]
        if told and len(read) >= 0.8 * len(told):
            why = "it can be read as two angles"
            yield Found("position pair", f"pair = {quoted(place)}", len(read) / columns.count, read[0], why)
            return


def _is_pair(value: str) -> bool:
    try:
        latitude, longitude = (forms.degrees(half) for half in re.split(r"[,;]", value, maxsplit=1))
    except ValueError:
        return False
    return abs(latitude) <= 90 and abs(longitude) <= 180
