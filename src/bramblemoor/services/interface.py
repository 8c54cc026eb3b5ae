"""What Bramblemoor asks of a service, whatever protocol it speaks."""

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import Literal

import msgspec

from bramblemoor.disk.names import collision_key
from bramblemoor.disk.told import Inside, Outside, one_name
from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.services.moving import Arrived, Fidelity, Outgoing, Powers, Shown, ShownAlbum, ShownFile, Told

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


class FolderCount(msgspec.Struct, frozen=True):
    """A folder directly in the topmost one: what lies in it and below."""

    path: str
    frames: int
    files: int
    bytes: int


class Survey(msgspec.Struct, frozen=True):
    """What an account holds, before anything is ordered.

    Where it keeps a tree: `files` of any kind, of which `sidecars`; `twice` counts those that are shown at another path once
    more, as in a list. `room` is what it still takes, in bytes, None where it does not say.
    """

    service: str
    statement: Statement
    albums: list[AlbumCount] = []
    folders: list[FolderCount] = []
    files: int = 0
    sidecars: int = 0
    twice: int = 0
    room: int | None = None


class OrderScope(msgspec.Struct, frozen=True, omit_defaults=True):
    """What to order: no albums means everything; dates are inclusive ISO days; part_bytes 0 leaves the size to the service,
    and so does container "". With `every_days` the service makes the order again and again, until `repeat_until` if given.
    `deliver` names a place of the user's that the service knows, a bucket or a folder service, to which it puts the parts.
    """

    albums: list[str] = []
    since: str = ""
    until: str = ""
    media: Literal["photos", "videos", "both"] = "both"
    part_bytes: int = 0
    container: str = ""
    every_days: int = 0
    repeat_until: str = ""
    deliver: str = ""


class Part(msgspec.Struct, frozen=True):
    """One part of a parcel. `sha256` in hex; `href` where to fetch it, relative to the service's address, "" where it was
    delivered.
    """

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


def leads_out(error: Outside) -> ServiceTrouble:
    """What is said of a service that tells a name which becomes a path elsewhere."""
    return ServiceTrouble(
        f"The service told a name that leads out of its folder: {error.filename!r}. Nothing was fetched.",
        "Do not use this service before it is explained.",
    )


def checked(placed: PlacedOrder) -> PlacedOrder:
    """The order itself. Raises ServiceTrouble where its id or a part's name is no plain name, or a size or number is none.

    They become names of folders and files here.
    """
    try:
        one_name(placed.id)
        for part in placed.parts:
            one_name(part.name)
    except Outside as error:
        raise leads_out(error) from error
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
    """Bytes of a part from `start` on; `start` is 0 where the service would not resume.

    `told` is the digest of the whole as the service tells it, as "sha256:HEX" or "md5:HEX", "" where it tells none.
    """

    start: int
    etag: str
    pieces: Iterator[bytes]
    told: str = ""


class PartsLapsed(Exception):
    """The order's links are no longer good: it must be ordered again."""


class TooMuchAtOnce(Exception):
    """A selection is too large to be had without an order; the message says how the service puts it."""


class Entry(msgspec.Struct, frozen=True):
    """A file or a folder of a service that shows a tree. `etag` is another one whenever the content is (RFC 9110, 8.8.3).

    `same` names the thing itself where one lies at several paths, and the service says so; `modified` is in seconds since 1970.
    """

    path: Inside
    is_folder: bool
    bytes: int = 0
    etag: str = ""
    sha256: str = ""
    modified: int = 0
    same: str = ""


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

    @abstractmethod
    def powers(self) -> Powers:
        """What it can do, where that is not known beforehand found out by trying, in a small folder that is removed again."""


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
    """It shows its files in folders. `odd` are names that it told, and that lead nowhere or out of the tree: they are passed
    over.
    """

    odd: list[str]

    @abstractmethod
    def entries(self, below: str = "") -> Iterator[Entry]:
        """All that lies below a folder, in any order; "" is the topmost. Raises ServiceTrouble where there is none."""

    @abstractmethod
    def open(self, path: Inside, start: int, etag: str) -> AbstractContextManager[PartStream]:
        """Begin to fetch a file at byte `start`, as `Exports.open_part` does."""

    @abstractmethod
    def peek(self, path: Inside, start: int, length: int) -> bytes:
        """At most so many bytes of a file, from `start` on; fewer at its end, none where they cannot be had."""


class Listing(ABC):
    """It lists its frames one by one, with what it knows of each."""

    @abstractmethod
    def frames(self) -> Iterator[Shown]: ...

    @abstractmethod
    def albums(self) -> Iterator[ShownAlbum]: ...

    @abstractmethod
    def open_file(self, file: ShownFile, start: int, etag: str) -> AbstractContextManager[PartStream]:
        """Begin to fetch a file of a frame at byte `start`, as `Exports.open_part` does."""


Content = Callable[[], AbstractContextManager[Iterator[bytes]]]
"""What gives the pieces of a file, from its beginning each time that it is asked."""


class Uploads(ABC):
    """It takes files: into folders where it is a `Tree`, else frame by frame."""

    @abstractmethod
    def fidelity(self) -> Fidelity:
        """What it keeps of what it is sent; nothing is sent for this."""

    @abstractmethod
    def room(self) -> int | None:
        """Bytes that it still takes; None where it does not say."""


class TreeUploads(Uploads):
    """It takes files into folders. `mark` tells one who sends from another: whoever goes on with what was begun sets the same."""

    mark: str

    @abstractmethod
    def put(
        self, path: Inside, outgoing: Outgoing, content: Content, begin: Callable[[str], None], *, mine: bool
    ) -> Arrived:
        """Put a file where nothing lies yet, whole or not at all; it was read back there. Raises NotTaken, NameTaken, Changed.

        `begin` is told the path before anything is put right there; `mine` says that an earlier try was, so that what lies
        there may be its half.
        """


class FrameUploads(Uploads):
    @abstractmethod
    def send(self, key: str, frame: Shown, files: Sequence[tuple[Outgoing, Content]], told: Told) -> Shown:
        """Send a frame; one that was sent with this key is not sent again. Returns what the service has. Raises NotTaken,
        Changed.
        """

    @abstractmethod
    def sent(self, key: str) -> Shown | None:
        """The frame that was sent with a key; None where none was."""

    @abstractmethod
    def make_album(self, key: str, album: ShownAlbum) -> ShownAlbum:
        """An album of that key, made where there is none."""

    @abstractmethod
    def put_in_album(self, album: str, frames: Sequence[str]) -> None:
        """Put frames into an album, behind those that are in it; one that is in it stays where it is."""


class NotTaken(Exception):
    """The destination refuses one frame or file; the message says why, in its words or ours."""


class NameTaken(Exception):
    """Something lies there already."""


CAPABILITIES: dict[str, type] = {"exports": Exports, "tree": Tree, "list": Listing, "uploads": Uploads}


def powers(kind: type[Account]) -> list[str]:
    """What accounts of a kind can do, by the names of the capabilities."""
    return [name for name, capability in CAPABILITIES.items() if issubclass(kind, capability)]


def exports_of(account: Account, name: str) -> Exports:
    """The account as one that makes exports. Raises WrongUse where its kind makes none."""
    if not isinstance(account, Exports):
        raise WrongUse(f"{name} makes no exports.", "See what it holds: bramblemoor service survey.")
    return account
