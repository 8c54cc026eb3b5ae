"""What Bramblemoor asks of a service, whatever protocol it speaks."""

import re
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import AbstractContextManager
from typing import Literal

import msgspec

from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import Inside, Outside, one_name
from bramblemoor.errors import ServiceTrouble, WrongUse

OrderState = Literal["asked", "preparing", "ready", "lapsed", "withdrawn"]


class Statement(msgspec.Struct, frozen=True):
    """What an account or an order holds. Dates are ISO 8601, UTC."""

    frames: int
    photos: int
    videos: int
    bytes: int
    reduced: int = 0
    years: dict[str, int] = {}
    oldest: str | None = None
    newest: str | None = None


class AlbumCount(msgspec.Struct, frozen=True):
    title: str
    frames: int
    ordered: bool = True


class OrderStatement(Statement, frozen=True):
    """An order's statement says, besides, what it leaves out of the account."""

    account_frames: int = 0
    albums: list[AlbumCount] = []


class Survey(msgspec.Struct, frozen=True):
    """What an account holds, before anything is ordered."""

    service: str
    statement: Statement
    albums: list[AlbumCount]


class OrderScope(msgspec.Struct, frozen=True, omit_defaults=True):
    """What to order: no albums means everything; dates are inclusive ISO days; part_bytes 0 leaves the size to the service,
    and so does container "". With `every_days` the service makes the order again and again, until `repeat_until` if given.
    """

    albums: list[str] = []
    since: str = ""
    until: str = ""
    media: Literal["photos", "videos", "both"] = "both"
    part_bytes: int = 0
    container: str = ""
    every_days: int = 0
    repeat_until: str = ""


class Part(msgspec.Struct, frozen=True):
    """One part of a parcel. `sha256` in hex; `href` where to fetch it, relative to the service's address."""

    number: int
    name: Inside
    bytes: int
    sha256: str
    href: str


class PlacedOrder(msgspec.Struct, frozen=True):
    """An order as the service tells it; `key` is the one that it was asked with, where the service keeps keys."""

    id: Inside
    state: OrderState
    statement: OrderStatement
    parts: list[Part] = []
    series: str = ""
    key: str = ""


def checked(placed: PlacedOrder) -> PlacedOrder:
    """The order itself. Raises ServiceTrouble where its id or a part's name is no plain name, or a size or number is none.

    They become names of folders and files here.
    """
    try:
        one_name(placed.id)
        for part in placed.parts:
            one_name(part.name)
    except Outside as error:
        raise ServiceTrouble(
            f"The service told a name that leads out of its folder: {error.filename!r}. Nothing was fetched.",
            "Do not use this service before it is explained.",
        ) from error
    names = {collision_key(part.name) for part in placed.parts}
    if len(names) < len(placed.parts) or any(
        part.bytes < 0 or part.bytes >= 1 << 62 or not re.fullmatch("[0-9a-fA-F]{64}", part.sha256)
        for part in placed.parts
    ):
        raise ServiceTrouble(
            f"The service told parts of {placed.id} that cannot be: two of one name, or a size or digest that is none.",
            "Order the export anew, or ask the service.",
        )
    return placed


class OrderList(msgspec.Struct, frozen=True):
    orders: list[PlacedOrder]


class PartStream(msgspec.Struct, frozen=True):
    """Bytes of a part from `start` on; `start` is 0 where the service would not resume."""

    start: int
    etag: str
    pieces: Iterator[bytes]


class PartsLapsed(Exception):
    """The order's links are no longer good: it must be ordered again."""


class TooMuchAtOnce(Exception):
    """A selection is too large to be had without an order; the message says how the service puts it."""


class Entry(msgspec.Struct, frozen=True):
    """A file or a folder of a service that shows a tree. `etag` is another one whenever the content is (RFC 9110, 8.8.3)."""

    path: Inside
    is_folder: bool
    bytes: int = 0
    etag: str = ""
    sha256: str = ""


class Outgoing(msgspec.Struct, frozen=True):
    """A file on its way to a service: where it is to lie there, and what it is."""

    path: Inside
    bytes: int
    sha256: str
    mtime_ns: int


class Account(ABC):
    """A signed-in account. What can be done with it is told by which of the capabilities below its kind has, too.

    Every method of an account raises ServiceTrouble when the service stays down, refuses, or talks nonsense.
    """

    @classmethod
    @abstractmethod
    def checked_address(cls, url: str) -> str:
        """The address, in order. Raises WrongUse for one that is none, or where a token would be sent in the clear."""

    @abstractmethod
    def survey(self) -> Survey: ...


class Exports(ABC):
    """It makes parcels when asked."""

    @abstractmethod
    def place_order(self, scope: OrderScope, key: str = "") -> PlacedOrder:
        """Place an order; with a `key`, which is the same when it is asked for again, once, however often its answer is lost."""

    @abstractmethod
    def pick(self, scope: OrderScope) -> PlacedOrder:
        """A selection small enough to be had at once. Raises TooMuchAtOnce for one that is not."""

    @abstractmethod
    def order(self, order: str) -> PlacedOrder: ...

    @abstractmethod
    def orders(self) -> list[PlacedOrder]: ...

    @abstractmethod
    def withdraw(self, order: str) -> PlacedOrder: ...

    @abstractmethod
    def open_part(self, part: Part, start: int, etag: str) -> AbstractContextManager[PartStream]:
        """Begin to fetch a part at byte `start`; `etag` is what an earlier try was told, "" at the first.

        Raises PartsLapsed where its link has lapsed. Reading its pieces raises ConnectionBroke when the transfer ends early.
        """


class Tree(ABC):
    """It shows its files in folders, one by one."""

    @abstractmethod
    def entries(self, below: str) -> Iterator[Entry]:
        """What lies directly in a folder; "" is the topmost."""

    @abstractmethod
    def open(self, path: Inside, start: int, etag: str) -> AbstractContextManager[PartStream]:
        """Begin to fetch a file at byte `start`, as `Exports.open_part` does."""

    @abstractmethod
    def make_folder(self, path: Inside) -> None:
        """Make a folder, and those above it; one that is there stays as it is."""


class Uploads(ABC):
    """It takes files."""

    @abstractmethod
    def room(self) -> int | None:
        """Bytes that it still takes; None where it does not say."""

    @abstractmethod
    def send(self, outgoing: Outgoing, pieces: Iterator[bytes]) -> Entry:
        """Send one file; returns what the service says it has."""


CAPABILITIES: dict[str, type] = {"exports": Exports, "tree": Tree, "uploads": Uploads}


def powers(kind: type[Account]) -> list[str]:
    """What accounts of a kind can do, by the names of the capabilities."""
    return [name for name, capability in CAPABILITIES.items() if issubclass(kind, capability)]


def exports_of(account: Account, name: str) -> Exports:
    """The account as one that makes exports. Raises WrongUse where its kind makes none."""
    if not isinstance(account, Exports):
        raise WrongUse(f"{name} makes no exports.", "See what it holds: bramblemoor service survey.")
    return account
