"""What a dialect file holds: its tables and keys, as docs/dialects.md describes them."""

from typing import Literal

import msgspec

from bramblemoor.exports.forms import Form

EntryKind = Literal["picture", "sidecar", "album", "index", "other"]
FieldName = Literal[
    "title",
    "caption",
    "taken",
    "keyword",
    "person",
    "location",
    "favourite",
    "quality",
    "album",
    "rating",
    "edited",
    "camera",
    "lens",
]
REFERENCES = ("edit_of", "clip_of", "edits", "clips")
KEY = "#"
"""The place in JSON that is the key under which a record itself stands, where the list is an object."""
Scalar = str | int | float | bool


class Heading(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    name: str
    part_name: str = ""
    about: str = ""


class EntryGlobs(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    index: list[str] = []
    albums: list[str] = []
    sidecars: list[str] = []
    pictures: list[str] = []
    copies: list[str] = []


class Names(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How the names of a picture, its renditions and clips, and its sidecar hang together; see exports/templates.py."""

    picture: str = "{stem}{suffix}{counter}{ending}"
    sidecar: list[str] = []
    counter: str = ""
    sidecar_counter: str = ""
    renditions: list[str] = []
    clips: list[str] = []


class Folders(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What folders of pictures mean: `albums` are globs of folders that are labels, `tree` is what is kept as it is."""

    albums: list[str] = []
    tree: list[str] = []


class FieldRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where a field stands and how it is written. `each` points into every member of a list; `separator` splits text.

    `zone_at` is where a time zone stands that is told apart from the date.
    """

    at: str | list[str]
    form: Form = "text"
    pattern: str = ""
    zone: str = ""
    zone_at: str = ""
    separator: str = ""
    each: str = ""
    unknown: list[Scalar] = []
    means: dict[str, str] = {}

    @property
    def places(self) -> list[str]:
        return [self.at] if isinstance(self.at, str) else self.at


class PositionRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Two values, or one `pair` of them in `order`; `scale` times the value is degrees."""

    latitude: str = ""
    longitude: str = ""
    pair: str = ""
    order: Literal["latitude-longitude", "longitude-latitude"] = "latitude-longitude"
    scale: float = 1.0
    unknown: list[Scalar] = []


class RecordRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One description of a picture: how its document is written, how it names its picture, and where its facts stand.

    `items` leads to the list of records of a document that holds many. `edit_of`, `clip_of`, `edits` and `clips` are where
    references, paths or file names stand of what the picture is an edit or a clip of, or of its own edits and clips.
    """

    format: Literal["json", "xml", "csv", "xmp"] = "json"
    items: str = ""
    separator: str = ","
    namespaces: dict[str, str] = {}
    path: str = ""
    file_name: str = ""
    reference: str = ""
    sha256: str = ""
    size: str = ""
    edit_of: str = ""
    clip_of: str = ""
    edits: str = ""
    clips: str = ""
    fields: dict[FieldName, FieldRule] = {}
    position: PositionRule | None = None
    parts: str = ""


class AlbumRules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Descriptions of albums: files of their own, or `items` of the index. `order` lists references, paths or file names.

    In rows of CSV each tells a member, or several in one text with `order_separator` between them; `separator` is the CSV's.
    """

    title: str
    format: Literal["json", "xml", "csv"] = "json"
    form: Literal["text", "html", "percent"] = "text"
    separator: str = ","
    order_separator: str = ""
    items: str = ""
    namespaces: dict[str, str] = {}
    description: str = ""
    reference: str = ""
    order: str = ""
    each: str = ""
    cover: str = ""


class Rules(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    dialect: Heading
    entries: EntryGlobs
    names: Names = Names()
    folders: Folders = Folders()
    sidecar: RecordRules = RecordRules()
    index: RecordRules | None = None
    album: AlbumRules | None = None
