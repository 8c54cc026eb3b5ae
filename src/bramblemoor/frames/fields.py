"""What can be known of a frame: the one table of its fields.

A field has its name in documents, reports and tables, the claims that it is believed by, the XMP properties that hold it, and
whether it is told to others. Reading and writing sidecars, tables and documents, lending, and what becomes of a frame in a move
all go by this table; a field that is added here is in all of them.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from bramblemoor.frames.claims import Facts, Field

Form = Literal["text", "list", "date", "position", "number", "flag"]
Texts = Callable[[Any], Sequence[str]]


@dataclass(frozen=True)
class Property:
    """A property of XMP: its name, the array that its values stand in ("" for none), and its texts for a field's value."""

    name: str
    array: Literal["", "Alt", "Bag", "Seq"] = ""
    texts: Texts = lambda value: [value]


@dataclass(frozen=True)
class FrameField:
    """A field: its name in `Facts` and in documents, that of its claims, what it tells, its form, and where XMP has it.

    `travels` says that it is told to a service that a frame is sent to; `columns` are those of a table, where they are others
    than its name.
    """

    name: str
    claim: Field
    meaning: str
    form: Form = "text"
    properties: tuple[Property, ...] = ()
    travels: bool = True
    columns: tuple[str, ...] = ()

    @property
    def several(self) -> bool:
        """Whether several values are believed together."""
        return self.form == "list"

    def of(self, facts: Facts) -> Any:
        """What is believed: a text, a tuple of texts, two degrees, a number, or whether it is so; see `Facts`."""
        return getattr(facts, self.name)

    def text(self, facts: Facts) -> str:
        """The value of a field that has one, as its claims hold it; "" for nothing."""
        value = self.of(facts)
        if value is None or value is False:
            return ""
        if self.form == "position":
            return f"{value[0]:.6f},{value[1]:.6f}"
        return "yes" if value is True else str(value)

    def cells(self, facts: Facts) -> list[Any]:
        """What stands in the columns of a table, "" for nothing."""
        value = self.of(facts)
        if self.form == "position":
            return list(value or ("", ""))
        return ["; ".join(value) if self.several else self.text(facts)]

    @property
    def headings(self) -> tuple[str, ...]:
        return self.columns or (self.name,)


def _coordinate(degrees: float, sides: str) -> str:
    """DDD,MM.mmmmmmK (ISO 16684-1, 8.2.2.4): degrees and decimal minutes, never decimal degrees."""
    whole, minutes = divmod(round(abs(degrees) * 60, 6), 60)
    return f"{int(whole)},{minutes:.6f}{sides[degrees < 0]}"


def _moment(value: Any) -> Sequence[str]:
    return [str(value)] if value is not None else []


FIELDS = (
    FrameField("title", "title", "what it is called", "text", (Property("dc:title", "Alt"),)),
    FrameField("caption", "caption", "what is to be said of it", "text", (Property("dc:description", "Alt"),)),
    FrameField("keywords", "keyword", "what it is found by", "list", (Property("dc:subject", "Bag", tuple),)),
    FrameField("people", "person", "who is in it", "list", (Property("Iptc4xmpExt:PersonInImage", "Bag", tuple),)),
    FrameField("taken", "taken", "when it was taken", "date", (
        Property("photoshop:DateCreated", texts=_moment), Property("exif:DateTimeOriginal", texts=_moment),
    )),
    FrameField("location", "location", "where it was taken, as a name", "text", (Property("Iptc4xmpCore:Location"),)),
    FrameField("position", "position", "where it was taken, in degrees", "position", (
        Property("exif:GPSLatitude", texts=lambda value: [_coordinate(value[0], "NS")] if value else []),
        Property("exif:GPSLongitude", texts=lambda value: [_coordinate(value[1], "EW")] if value else []),
    ), columns=("latitude", "longitude")),
    FrameField("creator", "creator", "who took it", "text", (Property("dc:creator", "Seq"),)),
    FrameField("rights", "rights", "whose it is", "text", (Property("dc:rights", "Alt"),)),
    FrameField("terms", "terms", "on which terms it may be used", "text", (Property("xmpRights:UsageTerms", "Alt"),)),
    FrameField("label", "label", "a label of somebody's own", "text", (Property("xmp:Label"),)),
    FrameField("rating", "rating", "its stars, or that it is to be culled", "number", (
        Property("xmp:Rating", texts=lambda value: [str(value)] if value is not None else []),
    )),
    FrameField("favourite", "favourite", "whether it is one", "flag", (
        Property("bm:favourite", texts=lambda value: ["True"] if value else []),
    )),
    FrameField("faces", "region", "who is where in it: name, and centre and size as shares of the picture", "list"),
    FrameField("templates", "template", "by which metadata presets it was told something", "list", travels=False),
    FrameField("camera", "camera", "what it was taken with", travels=False),
    FrameField("lens", "lens", "through which lens", travels=False),
    FrameField("reduced", "quality", "whether it is a reduced copy", "flag", travels=False),
)  # fmt: skip
"""In the order of sidecars, tables and reports."""
BY_CLAIM = {field.claim: field for field in FIELDS}
TOLD = tuple(field for field in FIELDS if field.travels)
"""What is told to others of a frame."""
