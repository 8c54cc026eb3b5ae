"""Writing XMP sidecars (ISO 16684-1): new ones, and additions to those that came along."""

import re
from collections.abc import Sequence
from dataclasses import dataclass

from lxml import etree

from bramblemoor.frames.claims import Facts
from bramblemoor.frames.xmp_names import NAMESPACES, RDF, XML, qualified
from bramblemoor.frames.xmp_reading import parse_packet

_UNWRITABLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


@dataclass(frozen=True)
class Belonging:
    """What no schema has: the albums a frame is in, where it came from, and a name it had before."""

    albums: Sequence[str] = ()
    origin: str = ""
    former_name: str = ""


def sidecar(facts: Facts, belonging: Belonging, existing: bytes | None = None) -> bytes:
    """The bytes of a sidecar for `facts`; with `existing`, that packet with what it does not say yet added to it.

    Properties of an existing packet are never altered. Raises BrokenXmp for an existing packet that cannot be read.
    The same input gives the same bytes, and adding a second time changes none.
    """
    if existing is None:
        # The wrapper that many packets have around rdf:RDF is optional (ISO 16684-1, 7.3.3).
        root = rdf = etree.Element(f"{{{RDF}}}RDF", nsmap={"rdf": RDF})
        present: set[str] = set()
    else:
        rdf = parse_packet(existing)
        root = rdf.getroottree().getroot()
        descriptions = list(rdf.iterchildren(f"{{{RDF}}}Description"))
        present = {str(name) for item in descriptions for name in item.attrib}
        present |= {str(child.tag) for item in descriptions for child in item}
    elements = [element for element in _properties(facts, belonging) if element.tag not in present]
    if existing is not None and not elements:
        return existing
    used = {prefix: uri for prefix, uri in NAMESPACES.items() if any(e.tag.startswith(f"{{{uri}}}") for e in elements)}
    description = etree.SubElement(rdf, f"{{{RDF}}}Description", nsmap=used)
    description.set(f"{{{RDF}}}about", "")
    description.extend(elements)
    if existing is None:
        etree.indent(rdf, space=" ")
    body = etree.tostring(root, encoding="utf-8") + b"\n"
    return b'<?xpacket begin="\xef\xbb\xbf" id="W5M0MpCehiHzreSzNTczkc9d"?>\n' + body + b'<?xpacket end="w"?>\n'


def clean(text: str) -> str:
    """Text without the characters that XML 1.0 (2.2) cannot carry."""
    return _UNWRITABLE.sub("", text)


def _properties(facts: Facts, belonging: Belonging) -> list[etree._Element]:
    found: list[etree._Element] = []
    if facts.title:
        found.append(_array("dc:title", "Alt", [facts.title]))
    if facts.caption:
        found.append(_array("dc:description", "Alt", [facts.caption]))
    if facts.keywords:
        found.append(_array("dc:subject", "Bag", facts.keywords))
    if facts.people:
        found.append(_array("Iptc4xmpExt:PersonInImage", "Bag", facts.people))
    if facts.taken is not None:
        found += [_simple(name, str(facts.taken)) for name in ("photoshop:DateCreated", "exif:DateTimeOriginal")]
    if facts.location:
        found.append(_simple("Iptc4xmpCore:Location", facts.location))
    if facts.position is not None:
        found.append(_simple("exif:GPSLatitude", _coordinate(facts.position[0], "NS")))
        found.append(_simple("exif:GPSLongitude", _coordinate(facts.position[1], "EW")))
    if facts.favourite:
        found.append(_simple("bm:favourite", "True"))
    if belonging.albums:
        found.append(_array("bm:albums", "Bag", belonging.albums))
    if belonging.origin:
        found.append(_simple("bm:origin", belonging.origin))
    if belonging.former_name:
        found.append(_simple("xmpMM:PreservedFileName", belonging.former_name))
    return found


def _simple(name: str, value: str) -> etree._Element:
    element = etree.Element(qualified(name))
    element.text = clean(value)
    return element


def _array(name: str, kind: str, values: Sequence[str]) -> etree._Element:
    element = etree.Element(qualified(name))
    array = etree.SubElement(element, f"{{{RDF}}}{kind}")
    for value in values:
        item = etree.SubElement(array, f"{{{RDF}}}li")
        item.text = clean(value)
        if kind == "Alt":
            item.set(f"{{{XML}}}lang", "x-default")
    return element


def _coordinate(degrees: float, sides: str) -> str:
    """DDD,MM.mmmmmmK (ISO 16684-1, 8.2.2.4): degrees and decimal minutes, never decimal degrees."""
    whole, minutes = divmod(round(abs(degrees) * 60, 6), 60)
    return f"{int(whole)},{minutes:.6f}{sides[degrees < 0]}"
