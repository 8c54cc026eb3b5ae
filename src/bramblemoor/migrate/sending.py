"""What is sent, and what every destination does."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

import msgspec

from bramblemoor.frames.claims import Facts
from bramblemoor.frames.fields import TOLD
from bramblemoor.frames.moments import parse_moment
from bramblemoor.frames.xmp_writing import Belonging, read_packet, sidecar
from bramblemoor.migrate.sources import Source
from bramblemoor.running import PIECE
from bramblemoor.services.moving import NOTHING_TOLD, Changed, Fidelity, Shown, ShownAlbum, ShownFile, Told

BREAKS = 3


class SentFile(msgspec.Struct, frozen=True, omit_defaults=True):
    """A file as it was sent: of which content at the source, what became of it, and where it is to be there. What was not read
    back must be listed with the `etag`; `instead` is the name that it should have, where something else lies under that. It
    is of the source's file `source_at`; `stale` says that this is another one by now.
    """

    role: str
    name: str
    bytes: int
    sha256: str
    source_bytes: int
    source_sha256: str
    at: str = ""
    read_back: bool = False
    etag: str = ""
    instead: str = ""
    source_at: str = ""
    stale: bool = False


class Sent(msgspec.Struct, frozen=True, omit_defaults=True):
    """A frame as it was sent: what the destination calls it, its files, what it was told, which fields are inside of copies.

    `already` says that the same lay there before.
    """

    there: str
    files: tuple[SentFile, ...]
    told: Told = NOTHING_TOLD
    inside: tuple[str, ...] = ()
    already: bool = False


@dataclass(frozen=True)
class Try:
    """One try to send a frame. `begun` are the places where an earlier one began to put something, and may have left it half;
    `begin` notes another. `there` is what is there of the frame already.
    """

    begun: Collection[str]
    begin: Callable[[str], None]
    there: Sequence[SentFile] = ()


Filled = tuple[ShownAlbum, Sequence[tuple[str, Shown]]]
"""An album with its frames in order: what the destination calls each, and what it is."""


class Destination(ABC):
    """Where frames are sent. `keeps` is what it said of itself; `into` the folder that all goes below, "" for its topmost."""

    name: str
    keeps: Fidelity
    into: str = ""

    def lying(self) -> Iterator[tuple[str, int]]:
        """What lies there below `into`, where it has folders: paths and sizes."""
        return iter(())

    def has(self, path: str) -> bool:
        """Whether a file lies at a path, where it has folders: a list may lag behind."""
        return False

    def held(self) -> Iterator[tuple[str, str]] | None:
        """What it shows, where it has no folders: what each frame is called there, and the SHA-256 of its original, "" where it
        does not have that. None where it has folders, or shows nothing.
        """
        return None

    def place_of(self, frame: Shown, source: Source) -> str:
        """Where a frame's original would lie by itself, where it has folders."""
        return ""

    @abstractmethod
    def send(self, key: str, place: str, frame: Shown, albums: Sequence[str], source: Source, try_: "Try") -> Sent:
        """Send a frame, which is in albums of these titles, its original to its place.

        Raises NotTaken where it is refused, Gone where the source has it no more, ServiceTrouble where one of them is down.
        """

    @abstractmethod
    def put_albums(self, key: str, albums: Iterable[Filled], former: Mapping[str, SentFile]) -> dict[str, SentFile]:
        """Make albums and put frames into them, in order. Returns those that are lists, by their albums; `former` are those that
        an earlier run put there.
        """


def broken(file: ShownFile, error: Exception) -> str:
    if isinstance(error, Changed):
        return f"{file.name} comes from the source as something else than its digest says, {BREAKS} times"
    return f"{file.name} breaks off at the source, {BREAKS} times"


@contextmanager
def of_bytes(content: bytes) -> Iterator[Iterator[bytes]]:
    yield (content[at : at + PIECE] for at in range(0, len(content), PIECE))


def packet_of(frame: Shown, albums: Sequence[str], there: bytes | None = None) -> bytes | None:
    """What is known of a frame as an XMP packet, `there` being one to add to; None where nothing is. Raises BrokenXmp."""
    told = frame.told
    if told == NOTHING_TOLD and not albums:
        return None
    known = {field.name: getattr(told, field.name) for field in TOLD}
    facts = Facts(**known | {"taken": parse_moment(told.taken) if told.taken else None})
    return sidecar(facts, Belonging(albums=tuple(albums)), read_packet(there) if there is not None else None)
