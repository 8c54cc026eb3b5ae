"""Reading XMP packets (ISO 16684-1): the properties Bramblemoor makes claims from."""

import re

from lxml import etree

from bramblemoor.frames.claims import Claim, Field, written_position
from bramblemoor.frames.moments import parse_moment
from bramblemoor.frames.xmp_names import RDF, XML, parser, qualified

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


def parse_packet(packet: bytes) -> etree._Element:
    """The rdf:RDF element of a packet. Raises BrokenXmp, with a reason, for anything unreadable or hostile."""
    if len(packet) > _MOST_BYTES:
        raise BrokenXmp(f"it has {len(packet)} bytes, more than {_MOST_BYTES}")
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
    claims = [Claim(field, value, "xmp") for field, name in _SINGLE for value in _values(rdf, name)[:1]]
    claims += [Claim(field, value, "xmp") for field, name in _LISTS for value in _values(rdf, name)]
    for name in ("exif:DateTimeOriginal", "photoshop:DateCreated"):
        moments = [moment for value in _values(rdf, name) if (moment := parse_moment(value))]
        if moments:
            claims.append(Claim("taken", str(moments[0]), "xmp"))
            break
    latitude, longitude = _values(rdf, "exif:GPSLatitude"), _values(rdf, "exif:GPSLongitude")
    if latitude and longitude:
        degrees = _degrees(latitude[0]), _degrees(longitude[0])
        if degrees[0] is not None and degrees[1] is not None:
            written = written_position(degrees[0], degrees[1])
            claims += [Claim("position", written, "xmp")] if written else []
    return claims


def _values(rdf: etree._Element, name: str) -> list[str]:
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
