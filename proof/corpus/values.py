"""How made-up services write values: each form as the words of a dialect file, and as a function of our own."""

import html
import random
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import quote

EPOCH = datetime(1970, 1, 1)


@dataclass(frozen=True)
class Form:
    """`words` go into the dialect; `write` makes the value. `tells` says, of dates, what of utc, local, offset it keeps."""

    words: str
    write: Callable[..., Any]
    tells: str = ""


def _since(utc: datetime, per_second: int) -> int:
    return round((utc - EPOCH) / timedelta(microseconds=1)) * per_second // 10**6


def signed(offset: int, colon: str = ":") -> str:
    return f"{'-' if offset < 0 else '+'}{abs(offset) // 60:02}{colon}{abs(offset) % 60:02}"


def _year(moment: datetime, pattern: str) -> str:
    return moment.strftime(pattern.replace("%Y", f"{moment.year:04}"))


def _dated(pattern: str, in_utc: bool) -> Callable[..., str]:
    return lambda local, utc, offset: _year(utc if in_utc else local, pattern)


DATES = [
    Form('form = "epoch-seconds"', lambda local, utc, offset: _since(utc, 1), "utc"),
    Form('form = "epoch-seconds"', lambda local, utc, offset: str(_since(utc, 1)), "utc"),
    Form('form = "epoch-seconds"', lambda local, utc, offset: float(_since(utc, 1)), "utc"),
    Form('form = "epoch-milliseconds"', lambda local, utc, offset: _since(utc, 1000), "utc"),
    Form('form = "epoch-milliseconds"', lambda local, utc, offset: str(_since(utc, 1000)), "utc"),
    Form('form = "epoch-microseconds"', lambda local, utc, offset: _since(utc, 10**6), "utc"),
    Form('form = "iso"', lambda local, utc, offset: utc.isoformat() + "Z", "utc"),
    Form('form = "iso", zone = "utc"', lambda local, utc, offset: utc.isoformat(sep=" "), "utc"),
    Form('form = "iso"', lambda local, utc, offset: _year(utc, "%Y%m%dT%H%M%SZ"), "utc"),
    Form('form = "iso"', lambda local, utc, offset: local.isoformat() + signed(offset), "offset"),
    Form('form = "iso"', lambda local, utc, offset: local.isoformat() + ".000" + signed(offset, ""), "offset"),
    Form('form = "iso"', lambda local, utc, offset: local.isoformat(), "local"),
    *(
        Form(f'form = "date", pattern = "{pattern}"{zone}', _dated(pattern, bool(zone)), "utc" if zone else "local")
        for pattern, zone in (
            ("%d.%m.%Y %H:%M:%S", ', zone = "utc"'),
            ("%m/%d/%Y, %I:%M:%S %p", ""),
            ("%Y:%m:%d %H:%M:%S", ""),
        )
    ),
]
TEXTS = [
    Form('form = "text"', lambda text: text),
    Form('form = "html"', lambda text: html.escape(text)),
    Form('form = "percent"', lambda text: quote(text)),
]
FLAGS = [
    Form('form = "flag"', lambda on: on),
    Form('form = "flag"', lambda on: int(on)),
    Form('form = "flag"', lambda on: "Yes" if on else "No"),
    Form('means = { starred = "yes" }', lambda on: "starred" if on else "plain"),
]


def _degrees(value: float, sides: str) -> str:
    whole, rest = divmod(abs(value), 1)
    minutes, rest = divmod(rest * 60, 1)
    return f"{int(whole)}°{int(minutes)}'{rest * 60:.4f}\"{sides[value < 0]}"


@dataclass(frozen=True)
class Place:
    """How positions are written: in two values, or as a `pair` in one. `extra` goes into the dialect."""

    write: Callable[[float, float], Any]
    pair: bool = False
    extra: str = ""


PLACES = [
    Place(lambda lat, lon: (lat, lon)),
    Place(lambda lat, lon: (f"{lat:.6f}", f"{lon:.6f}")),
    Place(lambda lat, lon: (round(lat * 1e7), round(lon * 1e7)), extra="scale = 1e-7"),
    Place(lambda lat, lon: (str(round(lat * 1e6)), str(round(lon * 1e6))), extra="scale = 1e-6"),
    Place(lambda lat, lon: (_degrees(lat, "NS"), _degrees(lon, "EW"))),
    Place(lambda lat, lon: f"{lat:.6f},{lon:.6f}", pair=True),
    Place(lambda lat, lon: f"{lon:.6f}; {lat:.6f}", pair=True, extra='order = "longitude-latitude"'),
]


def words(chance: random.Random, count: int) -> str:
    """A few words in several scripts, with what needs care."""
    bag = (
        "reed", "Lock & gate", "owl's", "Größe", "水面", "🪵", "<i>", "100%", "fen", "łąka", "Φως", "a/b", "lantern",
        "\"quoted\"",
        "naïve", "roof", "barge", "mist", "шлюз",
    )  # fmt: skip
    return " ".join(chance.choice(bag) for _ in range(count))
