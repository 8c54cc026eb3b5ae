"""Dialects: TOML files that tell how a service writes its exports. docs/formats.md describes the format."""

import re
import tomllib
from functools import cached_property
from importlib.resources import files
from typing import Literal

import msgspec

from bramblemoor.errors import WrongUse

EntryKind = Literal["picture", "sidecar", "album", "index", "other"]


class Heading(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str
    part_name: str


class EntryGlobs(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    index: list[str] = []
    albums: list[str] = []
    sidecars: list[str] = []
    pictures: list[str] = []


class Pairing(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    sidecar_name: str
    replace: dict[str, str] = {}
    rendition_suffixes: list[str] = []
    copies_in: list[str] = []


class SidecarKeys(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    reference: str = ""
    file_name: str = ""
    sha256: str = ""


class FieldRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where a field stands and how it is written. `each` points into every member of a list; `separator` splits text."""

    at: str
    form: Literal["text", "html", "flag", "epoch-seconds", "epoch-milliseconds", "iso"] = "text"
    separator: str = ""
    each: str = ""


class PositionRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    latitude: str
    longitude: str
    scale: float = 1.0


class AlbumKeys(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    title: str
    description: str = ""
    reference: str = ""
    order: str = ""


FieldName = Literal["title", "caption", "taken", "keyword", "person", "location", "favourite", "quality"]


class Dialect(msgspec.Struct, frozen=True, forbid_unknown_fields=True, dict=True):
    dialect: Heading
    entries: EntryGlobs
    pairing: Pairing
    sidecar: SidecarKeys
    fields: dict[FieldName, FieldRule]
    position: PositionRule | None = None
    album: AlbumKeys | None = None

    @property
    def name(self) -> str:
        return self.dialect.name

    @cached_property
    def part_pattern(self) -> re.Pattern[str]:
        return re.compile(self.dialect.part_name)

    @cached_property
    def _kinds(self) -> list[tuple[EntryKind, re.Pattern[str]]]:
        groups: list[tuple[EntryKind, list[str]]] = [
            ("index", self.entries.index),
            ("album", self.entries.albums),
            ("sidecar", self.entries.sidecars),
            ("picture", self.entries.pictures),
        ]
        return [(kind, _matcher(globs)) for kind, globs in groups if globs]

    @cached_property
    def _copies(self) -> re.Pattern[str]:
        return _matcher(self.pairing.copies_in)

    def kind_of(self, entry: str) -> EntryKind:
        """What an archive entry of this name is. An XMP beside a picture is a sidecar in every dialect."""
        if entry.lower().endswith(".xmp"):
            return "sidecar"
        return next((kind for kind, pattern in self._kinds if pattern.fullmatch(entry)), "other")

    def is_copy(self, entry: str) -> bool:
        """Whether an entry lies where frames are delivered again, once for each album."""
        return bool(self.pairing.copies_in) and self._copies.fullmatch(entry) is not None

    def sidecar_of(self, entry: str) -> str:
        """The name that the sidecar of a picture entry has."""
        name = entry.rpartition("/")[2]
        for old, new in self.pairing.replace.items():
            name = name.replace(old, new)
        return self.pairing.sidecar_name.replace("{name}", name)

    def frame_stem(self, entry: str) -> tuple[str, bool]:
        """The path of an entry without its ending and rendition suffix, and whether it had such a suffix."""
        folder, slash, name = entry.rpartition("/")
        stem = name.rpartition(".")[0] or name
        for suffix in self.pairing.rendition_suffixes:
            if stem.endswith(suffix) and len(stem) > len(suffix):
                return folder + slash + stem[: -len(suffix)], True
        return folder + slash + stem, False


def _matcher(globs: list[str]) -> re.Pattern[str]:
    return re.compile("|".join(re.escape(glob).replace(r"\*", "[^/]*") for glob in globs))


def known_dialects() -> list[str]:
    return sorted(entry.name.removesuffix(".toml") for entry in files(__package__).joinpath("dialects").iterdir())


def load_dialect(name: str) -> Dialect:
    """A dialect that ships with Bramblemoor. Raises WrongUse for an unknown name."""
    if name not in known_dialects():
        raise WrongUse(f"There is no dialect {name!r}.", f"Known are: {', '.join(known_dialects())}.")
    text = files(__package__).joinpath("dialects", f"{name}.toml").read_text(encoding="utf-8")
    return msgspec.convert(tomllib.loads(text), Dialect)
