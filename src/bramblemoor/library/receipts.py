"""Receipts: the balanced account of one run, as JSON in ledger/receipts/."""

import json
import re
from collections.abc import Iterable
from contextlib import suppress
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path

import msgspec

from bramblemoor.disk.durable import write_atomically
from bramblemoor.errors import NotPossible

_FILE = re.compile(r"(\d{4,})-([a-z]+)-(\d{8}T\d{6}Z)\.json")


class Amount(msgspec.Struct, frozen=True):
    frames: int = 0
    files: int = 0
    bytes: int = 0

    def __add__(self, other: "Amount") -> "Amount":
        return Amount(self.frames + other.frames, self.files + other.files, self.bytes + other.bytes)

    def __sub__(self, other: "Amount") -> "Amount":
        return Amount(self.frames - other.frames, self.files - other.files, self.bytes - other.bytes)


NOTHING = Amount()


class Kept(msgspec.Struct, frozen=True):
    """Items that were kept, or were kept already, under one heading."""

    what: str
    amount: Amount


class LeftOut(msgspec.Struct, frozen=True):
    """One item that was not kept, by name, with the reason."""

    name: str
    reason: str
    amount: Amount


class Finding(msgspec.Struct, frozen=True):
    """Something that a person should know of an item that was kept; `attention` says that something is to be seen to."""

    name: str
    what: str
    attention: bool = False


class Said(msgspec.Struct, frozen=True, array_like=True):
    """A claim by hand: field, value, who said it, and by which file."""

    field: str
    value: str
    source: str
    told: str


class Change(msgspec.Struct, frozen=True):
    """What became of frames (number and path) to which the same was done: the claims by hand of a field, before and after.

    Of keywords and people `value` says which; all of them stand together, as taking one away is a claim, too.
    """

    field: str
    value: str
    before: list[Said]
    after: list[Said]
    frames: list[tuple[int, str]]


class Receipt(msgspec.Struct, frozen=True):
    """One run's account. What came in must equal what was kept plus what was left out.

    `changes` are there where they can be taken back.
    """

    number: int
    run: str
    started: str
    finished: str
    about: dict[str, str]
    came_in: Amount
    kept: list[Kept]
    left_out: list[LeftOut]
    findings: list[Finding]
    changes: list[Change] = []

    @property
    def accounted(self) -> Amount:
        return total([*(kept.amount for kept in self.kept), *(left.amount for left in self.left_out)])

    @property
    def balanced(self) -> bool:
        return self.came_in == self.accounted

    @property
    def file_name(self) -> str:
        stamp = re.sub(r"[-:]", "", self.finished)
        return f"{self.number:04}-{self.run}-{stamp}.json"


def number_in_name(name: str) -> int:
    """The number of a receipt, by its name; 0 for a name that tells none."""
    match = _FILE.fullmatch(name)
    return 0 if match is None else int(match[1])


def moment_in_name(name: str) -> int:
    """When the run of a receipt ended, by the receipt's name; seconds since 1970, 0 for a name that tells none."""
    match = _FILE.fullmatch(name)
    with suppress(ValueError):
        return (
            0 if match is None else int(datetime.strptime(match[3], "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC).timestamp())
        )
    return 0


def run_in_name(name: str) -> str:
    """What run a receipt is of, by the receipt's name; "" for a name that tells none."""
    match = _FILE.fullmatch(name)
    return "" if match is None else match[2]


def total(amounts: Iterable[Amount]) -> Amount:
    result = Amount()
    for amount in amounts:
        result += amount
    return result


def receipt_of(folder: Path, number: int, run: str) -> Receipt | None:
    """The receipt of that number, if such a run wrote it: one that was killed behind its receipt does not write another."""
    for name in listing(folder):
        if number_in_name(name) == number and run_in_name(name) == run:
            return read_receipt(folder / name)
    return None


def next_number(folder: Path) -> int:
    return max(map(number_in_name, listing(folder)), default=0) + 1


def stamp(moment: datetime) -> str:
    """How receipts and the ledger write a UTC moment."""
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


@lru_cache(16)
def seconds(stamp: str) -> int:
    """Seconds since 1970 of a moment as `stamp` writes it."""
    return int(datetime.fromisoformat(stamp).timestamp())


def encode(receipt: Receipt) -> bytes:
    facts = msgspec.to_builtins(receipt) | {"balanced": receipt.balanced}
    if not receipt.changes:
        del facts["changes"]
    return json.dumps(facts, indent=1, ensure_ascii=False).encode() + b"\n"


def write_receipt(folder: Path, receipt: Receipt) -> Path:
    path = folder / receipt.file_name
    write_atomically(path, encode(receipt))
    return path


def listing(folder: Path) -> list[str]:
    """Names of all receipts, oldest first."""
    return in_order(path.name for path in folder.iterdir()) if folder.is_dir() else []


def in_order(names: Iterable[str]) -> list[str]:
    """Of some names those that receipts have, oldest first."""
    return sorted(filter(number_in_name, names), key=lambda name: (number_in_name(name), name))


def read_receipt(path: Path) -> Receipt:
    """Raises NotPossible where it cannot be read."""
    try:
        return decode(path.read_bytes())
    except (OSError, msgspec.DecodeError) as error:
        raise NotPossible(
            f"The receipt {path} cannot be read ({error}).", "A depot's receipts/ may hold a copy."
        ) from error


def decode(content: bytes) -> Receipt:
    """Raises msgspec.DecodeError for what is no receipt."""
    return msgspec.json.decode(content, type=Receipt)
