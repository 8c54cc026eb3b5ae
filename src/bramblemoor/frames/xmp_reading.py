"""Reading XMP packets (ISO 16684-1): the properties Bramblemoor makes claims from."""

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lxml import etree

from bramblemoor.frames.claims import Claim, written_position
from bramblemoor.frames.fields import FIELDS
from bramblemoor.frames.moments import moment_told
from bramblemoor.frames.xmp_model import (
    MOST_BYTES,
    BrokenXmp,
    array_in,
    fields,
    heads,
    members,
    nodes,
    occurrences,
    parse_packet,
    text_of,
    values,
)
from bramblemoor.frames.xmp_names import DESCRIPTIVE, qualified

_COORDINATE = re.compile(r"(\d{1,3}),(?:(\d{1,2}(?:\.\d+)?)|(\d{1,2}),(\d{1,2}(?:\.\d+)?))([NSEW])")
_TEXTS = tuple((field.claim, one.name) for field in FIELDS if field.form == "text" for one in field.properties)
_LISTS = tuple((field.claim, one.name) for field in FIELDS if field.several for one in field.properties)
_DATES = ("exif:DateTimeOriginal", "photoshop:DateCreated")  # what is believed of the two, if they differ
ALBUMS, ORIGIN, FORMER_NAME = "bm:albums", "bm:origin", "xmpMM:PreservedFileName"


@dataclass(frozen=True)
class Said:
    """A claim of a packet, and where it stands: the texts of the properties that it is read from."""

    claim: Claim
    texts: tuple[tuple[str, str], ...]


def packet_in(sidecar: Path | str) -> bytes:
    """The content of a sidecar. Raises BrokenXmp for a file that is too large to be one; it is not read then."""
    with open(sidecar, "rb") as file:  # noqa: PTH123 - also of a text, which is faster where there are many
        size = os.fstat(file.fileno()).st_size
        if size > MOST_BYTES:
            raise BrokenXmp(f"it has {size:,} bytes, more than {MOST_BYTES:,}")
        return file.read()


def read_xmp(packet: bytes) -> list[Claim]:
    """The claims of a packet, all from the source "xmp"; of a property told twice the first. Raises BrokenXmp."""
    found: dict[Claim, None] = {}
    single = set()
    for said in all_said(parse_packet(packet)):
        if said.claim.field not in ("keyword", "person", "region"):
            if said.claim.field in single:
                continue
            single.add(said.claim.field)
        found[said.claim] = None
    return list(found)


def all_said(rdf: etree._Element) -> Iterator[Said]:
    """Everything that a packet says of a picture, also what it says twice and differently."""
    for field, name in _TEXTS:
        for text in heads(rdf, name):
            yield Said(Claim(field, text, "xmp"), ((name, text),))
    for field, name in _LISTS:
        for text in values(rdf, name):
            yield Said(Claim(field, text, "xmp"), ((name, text),))
    for name in _DATES:
        for text in values(rdf, name):
            if (moment := moment_told(text)) is not None:
                yield Said(Claim("taken", str(moment), "xmp"), ((name, text),))
    yield from _positions(rdf)
    for text in values(rdf, "xmp:Rating"):
        if re.fullmatch(r"-1|[0-5]", text):
            yield Said(Claim("rating", text, "xmp"), (("xmp:Rating", text),))
    for text in values(rdf, "bm:favourite"):
        if text == "True":
            yield Said(Claim("favourite", "yes", "xmp"), (("bm:favourite", text),))
    known = set(values(rdf, "Iptc4xmpExt:PersonInImage"))
    for person, area in _regions(rdf):
        if person not in known:
            yield Said(Claim("person", person, "xmp"), ())
        if area:
            yield Said(Claim("region", f"{person}: {area}", "xmp"), ())
        known.add(person)


def _positions(rdf: etree._Element) -> Iterator[Said]:
    for south, east in zip(values(rdf, "exif:GPSLatitude"), values(rdf, "exif:GPSLongitude"), strict=False):
        latitude, longitude = _degrees(south), _degrees(east)
        if latitude is not None and longitude is not None:
            written = written_position(latitude, longitude)
            if written:
                yield Said(
                    Claim("position", written, "xmp"), (("exif:GPSLatitude", south), ("exif:GPSLongitude", east))
                )


def has_edits(packet: bytes) -> bool:
    """Whether a packet holds what no schema for describing pictures has: an editor's instructions, above all."""
    try:
        rdf = parse_packet(packet)
    except BrokenXmp:
        return False
    for node in nodes(rdf):
        names = [*node.attrib, *(child.tag for child in node.iterchildren(etree.Element))]
        spaces = {str(name)[1:].partition("}")[0] for name in names if str(name).startswith("{")}
        if spaces - DESCRIPTIVE:
            return True
    return False


def _regions(rdf: etree._Element) -> Iterator[tuple[str, str]]:
    """Named faces (MWG 1.0, 5.9): (name, "x y w h" as shares of the picture, from its centre)."""
    for place in occurrences(rdf, "mwg-rs:Regions"):
        listed = fields(place.element).get(qualified("mwg-rs:RegionList")) if place.element is not None else None
        array = None if listed is None or isinstance(listed, str) else array_in(listed)
        for member in members(array) if array is not None else ():
            region = fields(member)
            if _told(region, "mwg-rs:Type") not in ("", "Face"):
                continue
            name, area = _told(region, "mwg-rs:Name"), region.get(qualified("mwg-rs:Area"))
            inside = fields(area) if area is not None and not isinstance(area, str) else {}
            parts = [_told(inside, f"stArea:{axis}") for axis in "xywh"]
            if name:
                yield name, " ".join(parts) if all(parts) else ""


def _told(structure: dict[str, Any], name: str) -> str:
    """The text of a field of a structure, "" where it has none."""
    value = structure.get(qualified(name), "")
    return value.strip() if isinstance(value, str) else text_of(value)


def _degrees(written: str) -> float | None:
    """Signed decimal degrees from "DDD,MM.mmmmK" or "DDD,MM,SSK" (ISO 16684-1, 8.2.2.4 GPSCoordinate)."""
    match = _COORDINATE.fullmatch(written)
    if match is None:
        return None
    minutes = float(match[2]) if match[2] else float(match[3]) + float(match[4]) / 60
    degrees = int(match[1]) + minutes / 60
    return -degrees if match[5] in "SW" else degrees
