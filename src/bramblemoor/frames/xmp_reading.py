"""Reading XMP packets (ISO 16684-1): the properties Bramblemoor makes claims from."""

import re
from collections.abc import Iterator
from pathlib import Path

from lxml import etree

from bramblemoor.frames.claims import Claim, Field, written_position
from bramblemoor.frames.moments import moment_told
from bramblemoor.frames.xmp_names import DESCRIPTIVE, RDF, XML, parser, qualified

_MOST_BYTES = 16 << 20
_COORDINATE = re.compile(r"(\d{1,3}),(?:(\d{1,2}(?:\.\d+)?)|(\d{1,2}),(\d{1,2}(?:\.\d+)?))([NSEW])")
_SINGLE: tuple[tuple[Field, str], ...] = (
    ("title", "dc:title"),
    ("caption", "dc:description"),
    ("location", "Iptc4xmpCore:Location"),
)
_LISTS: tuple[tuple[Field, str], ...] = (("keyword", "dc:subject"), ("person", "Iptc4xmpExt:PersonInImage"))


class BrokenXmp(Exception):
    """The packet is no XML, is no XMP, or declares entities."""


def packet_in(sidecar: Path) -> bytes:
    """The content of a sidecar. Raises BrokenXmp for a file that is too large to be one; it is not read then."""
    with sidecar.open("rb") as file:
        packet = file.read(_MOST_BYTES + 1)
    if len(packet) > _MOST_BYTES:
        raise BrokenXmp(f"it has {sidecar.stat().st_size:,} bytes, more than {_MOST_BYTES:,}")
    return packet


def parse_packet(packet: bytes) -> etree._Element:
    """The rdf:RDF element of a packet. Raises BrokenXmp, with a reason, for anything unreadable or hostile."""
    if len(packet) > _MOST_BYTES:
        raise BrokenXmp(f"it has {len(packet):,} bytes, more than {_MOST_BYTES:,}")
    try:
        root = etree.fromstring(packet.strip(b"\0 \t\r\n"), parser())
    except (etree.XMLSyntaxError, ValueError) as error:
        raise BrokenXmp(f"it is not well-formed XML ({error})") from error
    info = root.getroottree().docinfo
    if info.internalDTD is not None:
        raise BrokenXmp("it declares a document type, which XMP never has")
    rdf = root if root.tag == f"{{{RDF}}}RDF" else root.find(f".//{{{RDF}}}RDF")
    if rdf is None:
        raise BrokenXmp("it holds no rdf:RDF")
    return rdf


def read_xmp(packet: bytes) -> list[Claim]:
    """The claims of a packet, all from the source "xmp". Raises BrokenXmp."""
    rdf = parse_packet(packet)
    claims = [Claim(field, value, "xmp") for field, name in _SINGLE for value in values(rdf, name)[:1]]
    claims += [Claim(field, value, "xmp") for field, name in _LISTS for value in values(rdf, name)]
    for name in ("exif:DateTimeOriginal", "photoshop:DateCreated"):
        moments = [moment for value in values(rdf, name) if (moment := moment_told(value))]
        if moments:
            claims.append(Claim("taken", str(moments[0]), "xmp"))
            break
    latitude, longitude = values(rdf, "exif:GPSLatitude"), values(rdf, "exif:GPSLongitude")
    if latitude and longitude:
        degrees = _degrees(latitude[0]), _degrees(longitude[0])
        if degrees[0] is not None and degrees[1] is not None:
            written = written_position(degrees[0], degrees[1])
            claims += [Claim("position", written, "xmp")] if written else []
    for rating in values(rdf, "xmp:Rating")[:1]:
        claims += [Claim("rating", rating, "xmp")] if re.fullmatch(r"-1|[0-5]", rating) else []
    known = {claim.value for claim in claims if claim.field == "person"}
    for name, area in _regions(rdf):
        claims += [Claim("person", name, "xmp")] if name not in known else []
        claims += [Claim("region", f"{name}: {area}", "xmp")] if area else []
        known.add(name)
    return list(dict.fromkeys(claims))


def has_edits(packet: bytes) -> bool:
    """Whether a packet holds what no schema for describing pictures has: an editor's instructions, above all."""
    try:
        rdf = parse_packet(packet)
    except BrokenXmp:
        return False
    for description in rdf.iterchildren(f"{{{RDF}}}Description"):
        names = [*description.attrib, *(child.tag for child in description if isinstance(child.tag, str))]
        spaces = {str(name)[1:].partition("}")[0] for name in names if str(name).startswith("{")}
        if spaces - DESCRIPTIVE:
            return True
    return False


def _regions(rdf: etree._Element) -> Iterator[tuple[str, str]]:
    """Named faces (MWG 1.0, 5.9): (name, "x y w h" as shares of the picture, from its centre)."""
    for listed in rdf.iter(qualified("mwg-rs:RegionList")):
        for item in listed.iter(f"{{{RDF}}}li"):
            inner = item.find(f"{{{RDF}}}Description")
            region = item if inner is None else inner
            if _inner(region, "mwg-rs:Type") not in ("", "Face"):
                continue
            name = _inner(region, "mwg-rs:Name").strip()
            area = region.find(qualified("mwg-rs:Area"))
            if area is not None and area.find(f"{{{RDF}}}Description") is not None:
                area = area.find(f"{{{RDF}}}Description")
            parts = [_inner(area, f"stArea:{axis}") for axis in "xywh"] if area is not None else []
            if name:
                yield name, " ".join(parts) if all(parts) else ""


def _inner(element: etree._Element, name: str) -> str:
    """A simple property of a structure, written as attribute or as element."""
    tag = qualified(name)
    return str(element.get(tag) or element.findtext(tag) or "")


def values(rdf: etree._Element, name: str) -> list[str]:
    """All texts of a property, written as attribute, element or array; of alternatives, x-default comes first."""
    tag = qualified(name)
    found: list[str] = []
    for description in rdf.iterchildren(f"{{{RDF}}}Description"):
        attribute = description.get(tag)
        if attribute is not None:
            found.append(str(attribute))
        for element in description.iterchildren(tag):
            items = list(element.iter(f"{{{RDF}}}li"))
            items.sort(key=lambda item: item.get(f"{{{XML}}}lang") != "x-default")
            found += [str(item.text or "") for item in items] if items else [str(element.text or "")]
    return [text.strip() for text in found if text.strip()]


def _degrees(written: str) -> float | None:
    """Signed decimal degrees from "DDD,MM.mmmmK" or "DDD,MM,SSK" (ISO 16684-1, 8.2.2.4 GPSCoordinate)."""
    match = _COORDINATE.fullmatch(written)
    if match is None:
        return None
    minutes = float(match[2]) if match[2] else float(match[3]) + float(match[4]) / 60
    degrees = int(match[1]) + minutes / 60
    return -degrees if match[5] in "SW" else degrees
