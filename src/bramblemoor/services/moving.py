"""A frame on its way between services: how a source shows it, what a destination can hold, and what arrived there."""

from typing import Literal

import msgspec

from bramblemoor.disk.told import Inside
from bramblemoor.frames.fields import TOLD

FIELDS = tuple(field.name for field in TOLD)
"""What can be told of a frame beside its files, by the names of `Told`; the order is that of reports."""

Kind = Literal["photo", "raw", "video", "other"]
Role = Literal["original", "rendition", "clip", "voice note", "document", "twin", "sidecar"]
"""A twin is the same content once more, in another folder."""


class Told(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is known of a frame. `taken` is written as by `Moment`; `position` is latitude and longitude in degrees.

    It has what `frames/fields.py` says that travels, and nothing else.
    """

    taken: str = ""
    title: str = ""
    caption: str = ""
    keywords: tuple[str, ...] = ()
    people: tuple[str, ...] = ()
    position: tuple[float, float] | None = None
    location: str = ""
    favourite: bool = False
    rating: int | None = None
    label: str = ""
    creator: str = ""
    rights: str = ""
    terms: str = ""
    faces: tuple[str, ...] = ()


NOTHING_TOLD = Told()


class ShownFile(msgspec.Struct, frozen=True, omit_defaults=True):
    """One file of a frame where it is: `at` is where its content is had, `sha256` "" where nobody told it."""

    role: Role
    name: str
    bytes: int
    at: str
    sha256: str = ""
    etag: str = ""
    modified: int = 0


class Shown(msgspec.Struct, frozen=True, omit_defaults=True):
    """A frame as a service or the library shows it; its first file is the original. `id` is the same at each look.

    `folder` is where it lies, "" in a flat service; `told` is what is said of it outside of its original; `key` is what it was
    sent with, where the service keeps that. `edits` says that an editor's instructions belong to it.
    """

    id: str
    kind: Kind
    files: tuple[ShownFile, ...]
    told: Told = Told()
    folder: str = ""
    reduced: bool = False
    key: str = ""
    edits: bool = False

    @property
    def name(self) -> str:
        """What a person calls it: its original's name, in its folder where it has one."""
        return f"{self.folder}/{self.files[0].name}" if self.folder else self.files[0].name

    @property
    def bytes(self) -> int:
        return sum(file.bytes for file in self.files)


class ShownAlbum(msgspec.Struct, frozen=True, omit_defaults=True):
    """An album: its frames by their ids, in order where the service keeps one. `key` as of a frame."""

    id: str
    title: str
    frames: tuple[str, ...] = ()
    description: str = ""
    key: str = ""


class Limit(msgspec.Struct, frozen=True, omit_defaults=True):
    """How much of a field is held: so many letters of a text, or so many values; 0 is any."""

    letters: int = 0
    values: int = 0


class Fidelity(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a destination keeps of a frame.

    `stores` is what becomes of a picture; `fields` are those that it has, a field that is not among them it cannot hold, except
    inside of files (`embedded`) or beside them (`sidecars`); `dates` says whether it keeps local clocks and offsets or the
    instant alone; `kinds` are those that it takes, `most_bytes` how large a file of a kind may be, where there is a limit;
    `roles` the files of a frame besides its original; `name_bytes` 0 is any.
    """

    stores: Literal["original", "reduced"] = "original"
    tree: bool = False
    names: bool = True
    embedded: bool = True
    sidecars: bool = False
    dates: Literal["as told", "utc"] = "as told"
    undated: Literal["undated", "arrival"] = "undated"
    fields: dict[str, Limit] = {}
    kinds: tuple[str, ...] = ("photo", "raw", "video", "other")
    most_bytes: dict[str, int] = {}
    roles: tuple[Role, ...] = ()
    albums: bool = False
    album_order: bool = False
    albums_overlap: bool = False
    name_bytes: int = 0
    refused_letters: str = ""
    folds_case: bool = False


class Powers(msgspec.Struct, frozen=True):
    """What an account can do, as sentences for a person: each with whether it can, and what follows."""

    can: list[tuple[str, bool, str]]


class Outgoing(msgspec.Struct, frozen=True):
    """A file as it is sent: what it is to be called, its size and digest, "" where that is known only once it was read."""

    role: Role
    name: Inside
    bytes: int
    sha256: str = ""

    def require(self, sha256: str) -> None:
        """Raise Changed where what was read of it is something else."""
        if self.sha256 and sha256 != self.sha256:
            raise Changed(self.name)


class Changed(Exception):
    """What is read of the source is not what its digest said: nothing of it stays at the destination."""


class Arrived(msgspec.Struct, frozen=True):
    """One file as the destination says that it has it. `read_back` says that its content was read there and matched; else
    `etag` is what must be listed of it.
    """

    name: str
    bytes: int
    sha256: str
    at: str = ""
    read_back: bool = False
    etag: str = ""
