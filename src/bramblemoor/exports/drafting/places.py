"""Drafting where positions stand: by the pictures' own, else by keys that can mean nothing else."""

import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

from bramblemoor.exports import forms
from bramblemoor.exports.drafting.records import Found, Records, key_of, quoted
from bramblemoor.exports.drafting.sampling import Sample
from bramblemoor.frames.claims import parse_position

_SCALES = (1.0, 1e-5, 1e-6, 1e-7)
_NEAR = 0.002  # degrees: pictures and services round differently


def position(records: Records, sample: Sample) -> Iterator[Found]:
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
    texts = [value for values in records.values(place) for value in values if isinstance(value, str) and value]
    unread = Counter(text for text in texts if not _is_pair(text))
    if unread and unread.most_common(1)[0][1] == unread.total():  # one word stands for "unknown"
        words += f"\nunknown = [{quoted(next(iter(unread)))}]"
    if order == (1, 0):
        words += '\norder = "longitude-latitude"'
    found = records.found("position pair", words, place, why)
    return replace(found, example=next((text for text in texts if _is_pair(text)), found.example))


def _position_by_key(records: Records) -> Iterator[Found]:
    """Where no picture tells a position: two numbers whose keys are those of the two axes, or one text that can only be a
    pair.
    """
    found = {}
    for axis, keys in (
        ("latitude", r"lat(?:itude)?(?:_.*)?"),
        ("longitude", r"(?:lon|lng|long)(?:gitude|itude)?(?:_.*)?"),
    ):
        found[axis] = next(
            (one for one in records.free() if re.fullmatch(keys, key_of(one)) and _numbers(records, one)), ""
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
