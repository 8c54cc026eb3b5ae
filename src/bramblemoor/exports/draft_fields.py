"""Drafting a dialect's fields: which values of records are names, digests, dates, places and words.

A place is proposed for what its values agree with in the pictures themselves, in whatever language its key is; only where pictures say
nothing of a field may an unmistakable key speak for it.
"""

import html
import json
import re
from collections import Counter
from collections.abc import Callable, Container, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any
from urllib.parse import unquote

from bramblemoor.exports import forms
from bramblemoor.exports.draft_names import alike
from bramblemoor.exports.forms import Form
from bramblemoor.exports.sampling import Sample, first_text
from bramblemoor.exports.templates import folded, last_step
from bramblemoor.frames.claims import parse_position
from bramblemoor.frames.moments import Moment, infer_offset, parse_moment

_KEYS: tuple[tuple[str, frozenset[str]], ...] = (
    ("caption", frozenset({"caption", "description"})), ("title", frozenset({"title", "headline", "heading"})),
    ("keyword", frozenset({"keywords", "keyword", "tags"})), ("person", frozenset({"people", "persons", "faces"})),
    ("location", frozenset({"location", "place"})), ("favourite", frozenset({"favourite", "favorite", "starred"})),
    ("rating", frozenset({"rating", "stars"})),
)  # fmt: skip
"""Keys that say by themselves what they hold; used only where no picture could confirm or contradict."""
_TEXTS, _LISTS = ("title", "caption", "location", "camera", "lens", "rating"), ("keyword", "person")
_EPOCHS: tuple[Form, ...] = ("epoch-seconds", "epoch-milliseconds", "epoch-microseconds")
_PATTERNS = (
    "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M", "%d/%m/%Y %H:%M:%S", "%d/%m/%Y %H:%M", "%m/%d/%Y %H:%M:%S", "%m/%d/%Y %H:%M",
    "%Y:%m:%d %H:%M:%S", "%Y/%m/%d %H:%M:%S", "%Y/%m/%d %H:%M", "%Y%m%d%H%M%S", "%Y-%m-%d %H.%M.%S", "%d-%m-%Y %H:%M:%S",
    "%d.%m.%y %H:%M", "%m/%d/%Y, %I:%M:%S %p", "%d %b %Y %H:%M:%S", "%b %d, %Y, %I:%M:%S %p", "%d %B %Y %H:%M", "%Y-%m-%d %H:%M",
)  # fmt: skip
_TRIED, _COMPARED = 40, 300  # values of a place
_SCALES = (1.0, 1e-5, 1e-6, 1e-7)
_NEAR = 0.002  # degrees: pictures and services round differently


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


def proposals(records: Records, sample: Sample) -> Iterator[Found]:
    """What the places of records are likely to hold: how they name their picture, then fields, then the position."""
    yield from _keys(records, sample)
    yield from _date(records, sample)
    yield from _position(records, sample)
    told: set[str] = set()
    for one in _confirmed(records, sample):
        told.add(one.what)
        yield one
    silent = {claim.field for reading in sample.looked.values() for claim in reading.claims}
    for field, keys in _KEYS:
        place = next((one for one in records.free() if _is_called(one, keys, records)), None)
        if f"field {field}" not in told and field not in silent and place is not None:
            yield records.found(
                f"field {field}", _field(field, place, records), place, "its key says so, no picture does"
            )


def _keys(records: Records, sample: Sample) -> Iterator[Found]:
    def same_path(value: Any, pair: str) -> bool:
        told = folded(str(value).replace("\\", "/").lstrip("./"))
        return "/" in told and ("/" + folded(pair)).endswith("/" + told)

    tests: tuple[tuple[str, Callable[[Any, str], bool], str], ...] = (
        ("path", same_path, "path"),
        ("file_name", lambda value, pair: alike(last_step(str(value)), last_step(pair)), "name"),
        ("sha256", lambda value, pair: str(value).lower() == sample.digests.get(pair), "SHA-256"),
        ("size", lambda value, pair: str(value) == str(sample.contents[pair][1]), "size"),
    )
    for key, test, what in tests:
        share = 0.6 if key != "size" else 0.95
        place = records.agreeing(
            test if key != "sha256" else lambda value, pair: pair not in sample.digests or test(value, pair), share
        )
        if place and (key != "sha256" or any(test(value, pair) for value, pair in records.told(place))):
            yield records.found("key", f"{key} = {quoted(place)}", place, f"it is the {what} of the picture")
    for place in records.free():  # whatever is one short word, and another for each
        words = [one[0] for one in records.values(place) if len(one) == 1 and isinstance(one[0], str | int)]
        short = [
            word for word in words if re.fullmatch(r"[A-Za-z0-9_-]{2,40}", str(word)) and not isinstance(word, bool)
        ]
        if len(set(short)) == records.count >= 3 and (
            re.search(r"[A-Za-z]", str(short[0])) or _key_of(place) in ("id", "key", "ref")
        ):
            yield records.found("key", f"reference = {quoted(place)}", place, "it is another for each picture")
            return


def _key_of(place: str) -> str:
    """The last key of a place, in small letters."""
    return re.split(r"[/@:]", place.replace("/*", "").lower())[-1]


def _is_called(place: str, keys: frozenset[str], records: Records) -> bool:
    """Whether the key of a place, or that of the list it is in, begins with one of some words, and anything stands there."""
    values = records.values(place)
    if not any(value not in (None, "", []) for one in values for value in one):
        return False
    steps = [re.split(r"[@:]", step)[-1] for step in place.replace("/*", "").split("/") if step]
    listed = "/*" in place or any(len(one) > 1 for one in values)
    steps = steps[-2 if listed else -1 :] + (
        [place] if not place.startswith("/") else []
    )  # a column's name may hold a slash
    words = [re.findall(r"[A-Za-z][a-z]*", step) for step in steps]
    return any(found and found[0].lower() in keys for found in words)


def _confirmed(records: Records, sample: Sample) -> Iterator[Found]:
    """Words, ratings and names that the pictures say themselves, wherever and in whatever language they stand."""
    own: dict[str, dict[str, set[str]]] = {}
    for picture, reading in sample.looked.items():
        for claim in reading.claims:
            own.setdefault(claim.field, {}).setdefault(picture, set()).add(_bare(claim.value))
    for field in (*_TEXTS, *_LISTS):
        said = own.get(field, {})
        best = (0.0, 0, "")
        for place in records.free() if said else ():
            both = [(set(map(_bare, _parts(record[place], field))), said[pair]) for record, pair in records.paired
                    if pair in said and any(value not in (None, "") for value in record.get(place, ()))]  # fmt: skip
            fit = sum(bool(told) and (told <= mine or (field in _LISTS and mine <= told)) for told, mine in both)
            if both and fit >= 0.6 * len(both) and fit >= min(2, len(both)):
                best = max(best, (fit / len(both), fit, place))
        if best[2]:
            why = f"it says what {best[1]} pictures say themselves"
            yield records.found(f"field {field}", _field(field, best[2], records), best[2], why)


def _bare(value: Any) -> str:
    """A text without what services and pictures write differently."""
    text = str(value)
    text = unquote(text) if "%" in text else text
    return " ".join(html.unescape(text).split()).casefold()


def _parts(values: list[Any], field: str) -> list[Any]:
    if field in _LISTS and len(values) == 1 and isinstance(values[0], str):
        separator = _separator(values)
        return [part.strip() for part in values[0].split(separator)] if separator else values
    return [value for value in values if value not in (None, "")]


def _separator(texts: list[Any]) -> str:
    return next((sign for sign in (";", "|", ",") if any(sign in str(text) for text in texts)), "")


def _field(field: str, place: str, records: Records) -> str:
    texts = [value for one in records.values(place) for value in one if isinstance(value, str)]
    if "/*" in place:
        at, _, each = place.partition("/*")
        return f"{field} = {{ at = {quoted(at)}" + (f", each = {quoted(each)} }}" if each else " }")
    words = f"{field} = {{ at = {quoted(place)}"
    if field == "favourite":
        words += ', form = "flag"'
    elif field == "rating":
        words += ', form = "number"'
    elif any(re.search(r"&(amp|lt|gt|quot|#\d+);", text) for text in texts):
        words += ', form = "html"'
    elif sum(bool(re.search(r"%[0-9A-Fa-f]{2}", text)) for text in texts) * 4 > len(texts) > 0:
        words += ', form = "percent"'
    if field in ("title", "caption") and (stand_in := _stand_in(texts)):
        words += f", unknown = [{quoted(stand_in)}]"
    if field in _LISTS and _separator(texts):
        words += f", separator = {quoted(_separator(texts))}"
    return words + " }"


def _stand_in(texts: list[str]) -> str:
    """The text that stands for "unknown": far more frequent than any other, or without a letter; "" where there is none."""
    common = Counter(text for text in texts if text.strip()).most_common(2)
    if not common or common[0][1] < max(3, 0.05 * len(texts)):
        return ""
    text, count = common[0]
    second = common[1][1] if len(common) > 1 else 0
    return text if not any(map(str.isalpha, text)) or count >= 3 * second else ""


def _date(records: Records, sample: Sample) -> Iterator[Found]:
    """The place whose values, read in some form, agree best with the dates in the pictures; else the one that must be a date."""
    shot = {}
    for name, reading in sample.looked.items():
        told = (parse_moment(claim.value) for claim in reading.claims if claim.field == "taken")
        moment = next((one for one in told if one is not None), None)
        if moment is not None:
            shot[name] = moment
    best: tuple[tuple[float, int, float], str, str, str] | None = None
    for place in records.free():
        told_there = records.told(place)
        compared = [(value, shot[pair]) for value, pair in told_there if pair in shot]
        for form, pattern in _ways(told_there[:: max(1, len(told_there) // _TRIED)]):
            read = [(moment, own) for value, own in compared if (moment := _tried(value, form, pattern)) is not None]
            agree = sum(_same_instant(moment, own) for moment, own in read)
            share = agree / len(compared) if compared else 0.0
            if (compared and share < 0.3) or (
                not compared and (shot or not re.search(r"(?i)tak|shot|creat|date|when|time", place))
            ):
                continue
            words = f'form = "{form}"' + (f", pattern = {quoted(pattern)}" if pattern else "") + _zone(read)
            why = (
                f"it agrees with {agree} of {len(compared)} pictures' own dates" if compared else "it looks like a date"
            )
            rank = (share, agree, len(told_there) / records.count)
            if best is None or rank > best[0]:
                best = (rank, place, words, why)
    if best is not None:
        yield records.found("field taken", f"taken = {{ at = {quoted(best[1])}, {best[2]} }}", best[1], best[3])


def _ways(told: list[tuple[Any, str]]) -> Iterator[tuple[Form, str]]:
    """The forms of dates in which most of some values can be read."""
    for form in (*_EPOCHS, "iso"):
        read = sum(_tried(value, form, "") is not None for value, _ in told)
        if told and read >= 0.8 * len(told):
            yield form, ""
    for pattern in _PATTERNS if told and isinstance(told[0][0], str) else ():
        read = sum(_tried(value, "date", pattern) is not None for value, _ in told)
        if read >= 0.8 * len(told):
            yield "date", pattern


def _zone(read: list[tuple[Moment, Moment]]) -> str:
    """The zone of clocks that do not tell theirs: the pictures' own clock, or UTC, where that is what agrees."""
    clocks = [
        (moment.local, own) for moment, own in read if moment.local is not None and moment.offset is None and own.local
    ]
    if not clocks:
        return ""
    local = sum(abs(clock - (own.local or clock)) < timedelta(seconds=61) for clock, own in clocks)
    return ', zone = "local"' if 2 * local >= len(clocks) else ', zone = "utc"'


def _tried(value: Any, form: Form, pattern: str) -> Moment | None:
    """The moment that a value tells in a form, where it is one that pictures can have."""
    try:
        moment = parse_moment(forms.written(value, form, pattern))
    except (ValueError, OverflowError):
        return None
    if moment is None or not datetime(1900, 1, 1) < moment.shown < datetime(2110, 1, 1):
        return None
    too_early = form.startswith("epoch") and abs(moment.shown - datetime(1970, 1, 1)) < timedelta(days=1000)
    return None if too_early else moment  # small numbers are rather counts, and milliseconds read as microseconds


def _same_instant(moment: Moment, own: Moment) -> bool:
    """Whether two say the same to the minute, in some time zone."""
    if own.local is None:
        return abs(moment.instant - own.instant) < timedelta(minutes=1)
    clock = moment.utc or moment.shown
    offset = infer_offset(own.local, clock)
    return offset is not None and abs(own.local - clock - timedelta(minutes=offset)) < timedelta(seconds=61)


def _position(records: Records, sample: Sample) -> Iterator[Found]:
    """The places, or the one place, whose values are where the pictures say that they were taken; else what keys say."""
    own = {}
    for name, reading in sample.looked.items():
        where = next((parse_position(claim.value) for claim in reading.claims if claim.field == "position"), None)
        if where is not None:
            own[name] = where
    for scale in _SCALES if own else ():
        north, east = (records.agreeing(_near(own, axis, scale), 0.6, own) for axis in (0, 1))
        if north and east and north != east:
            yield from _axes(records, north, east, scale, "it is where the pictures say that they were taken")
            return
    for order in ((0, 1), (1, 0)) if own else ():
        place = records.agreeing(_near_pair(own, order), 0.6, own)
        if place:
            yield _pair(records, place, order, "it is where the pictures say that they were taken")
            return
    for place in _listed_pairs(records) if own else ():
        for order in ((0, 1), (1, 0)):
            both = [
                (record[place], own[pair])
                for record, pair in records.paired
                if pair in own and len(record.get(place, ())) == 2
            ]
            fit = sum(
                all(_is_near(value, where[axis]) for value, axis in zip(values, order, strict=True))
                for values, where in both
            )
            if both and fit >= 0.5 * len(both):
                yield _pair(records, place, order, "it is where the pictures say that they were taken")
                return
    if not own:
        yield from _position_by_key(records)


def _listed_pairs(records: Records) -> list[str]:
    return [place for place in records.free() if place.endswith("/*")]


def _near(own: dict[str, tuple[float, float]], axis: int, scale: float) -> Callable[[Any, str], bool]:
    return lambda value, pair: pair in own and _is_near(value, own[pair][axis], scale)


def _is_near(value: Any, degrees: float, scale: float = 1.0) -> bool:
    try:
        return abs(forms.degrees(value, scale) - degrees) < _NEAR
    except ValueError:
        return False


def _near_pair(own: dict[str, tuple[float, float]], order: tuple[int, int]) -> Callable[[Any, str], bool]:
    def near(value: Any, pair: str) -> bool:
        halves = re.split(r"[,;]", value, maxsplit=1) if isinstance(value, str) else []
        return (
            pair in own
            and len(halves) == 2
            and all(_is_near(h, own[pair][a]) for h, a in zip(halves, order, strict=True))
        )

    return near


def _axes(records: Records, north: str, east: str, scale: float, why: str) -> Iterator[Found]:
    yield records.found("position latitude", f"latitude = {quoted(north)}", north, why)
    yield records.found("position longitude", f"longitude = {quoted(east)}", east, why)
    if scale != 1.0:
        yield Found("position scale", f"scale = {scale:g}", 1.0, "", "degrees go to 180")


def _pair(records: Records, place: str, order: tuple[int, int], why: str) -> Found:
    words = f"pair = {quoted(place.removesuffix('/*'))}"
    if order == (1, 0):
        words += '\norder = "longitude-latitude"'
    return records.found("position pair", words, place, why)


def _position_by_key(records: Records) -> Iterator[Found]:
    """Where no picture tells a position: two numbers whose keys are those of the two axes, or one text that can only be a pair."""
    found = {}
    for axis, keys in (
        ("latitude", r"lat(?:itude)?(?:_.*)?"),
        ("longitude", r"(?:lon|lng|long)(?:gitude|itude)?(?:_.*)?"),
    ):
        found[axis] = next(
            (one for one in records.free() if re.fullmatch(keys, _key_of(one)) and _numbers(records, one)), ""
        )
    if all(found.values()):
        largest = max(abs(number) for place in found.values() for number in _numbers(records, place))
        scale = 1.0 if largest <= 180 else 1e-6 if largest <= 180e6 else 1e-7
        yield from _axes(records, found["latitude"], found["longitude"], scale, "its key says so")
        return
    for place in records.free():
        told = [
            value for value, _ in records.told(place) if isinstance(value, str) and re.search(r"\d[^,;]*[,;]", value)
        ]
        if told and sum(map(_is_pair, told)) >= 0.8 * len(told):
            yield _pair(records, place, (0, 1), "it can be read as two angles")
            return


def _numbers(records: Records, place: str) -> list[float]:
    found = []
    for value, _ in records.told(place):
        try:
            found.append(forms.degrees(value))
        except ValueError:
            return []
    return found


def _is_pair(value: str) -> bool:
    try:
        latitude, longitude = (forms.degrees(half) for half in re.split(r"[,;]", value, maxsplit=1))
    except ValueError:
        return False
    return abs(latitude) <= 90 and abs(longitude) <= 180 and bool(re.search(r"[.°']", value))
