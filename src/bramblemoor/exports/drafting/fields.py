"""Drafting a dialect's fields: which values of records are names, digests, dates, places and words.

A place is proposed for what its values agree with in the pictures themselves, in whatever language its key is; only where
pictures say nothing of a field may an unmistakable key speak for it.
"""

import html
import re
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import unquote

from bramblemoor.exports import forms
from bramblemoor.exports.drafting.names import alike
from bramblemoor.exports.drafting.places import position
from bramblemoor.exports.drafting.records import Found, Records, key_of, quoted
from bramblemoor.exports.drafting.sampling import Sample
from bramblemoor.exports.forms import Form
from bramblemoor.exports.templates import folded, last_step
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
_TRIED = 40  # values of a place


def proposals(records: Records, sample: Sample) -> Iterator[Found]:
    """What the places of records are likely to hold: how they name their picture, then fields, then the position."""
    yield from _keys(records, sample)
    yield from _date(records, sample)
    yield from position(records, sample)
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
        place = records.agreeing(test, share, sample.digests if key == "sha256" else None)
        if place:
            yield records.found("key", f"{key} = {quoted(place)}", place, f"it is the {what} of the picture")
    for place in records.free():  # whatever is one short word, and another for each
        words = [one[0] for one in records.values(place) if len(one) == 1 and isinstance(one[0], str | int)]
        short = [
            word for word in words if re.fullmatch(r"[A-Za-z0-9_-]{2,40}", str(word)) and not isinstance(word, bool)
        ]
        if len(set(short)) == records.count >= 3 and (
            re.search(r"[A-Za-z]", str(short[0])) or key_of(place) in ("id", "key", "ref")
        ):
            yield records.found("key", f"reference = {quoted(place)}", place, "it is another for each picture")
            return


def _is_called(place: str, keys: frozenset[str], records: Records) -> bool:
    """Whether the key of a place, or that of the list it is in, begins with one of some words, and anything stands there."""
    values = records.values(place)
    if not any(value not in (None, "", []) for one in values for value in one):
        return False
    steps = [re.split(r"[@:]", step)[-1] for step in place.replace("/*", "").split("/") if step]
    listed = "/*" in place or any(len(one) > 1 for one in values)
    steps = steps[-2 if listed else -1 :]
    if not place.startswith("/"):
        steps.append(place)  # a column, whose name may hold a slash
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
                not compared and (shot or not re.search(r"(?i)tak|shot|creat|date|when|time|moment", place))
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
