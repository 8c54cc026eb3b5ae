"""Writing XMP sidecars (ISO 16684-1): new ones, and additions to those that came along."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from lxml import etree

from bramblemoor.frames.claims import Facts
from bramblemoor.frames.xmp_names import NAMESPACES, RDF, XML, qualified
from bramblemoor.frames.xmp_reading import parse_packet, values

_UNWRITABLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


@dataclass(frozen=True)
class Belonging:
    """What no schema has: the albums a frame is in, where it came from, and a name it had before."""

    albums: Sequence[str] = ()
    origin: str = ""
    former_name: str = ""


PROPERTIES = {
    "title": ("dc:title",), "caption": ("dc:description",), "taken": ("photoshop:DateCreated", "exif:DateTimeOriginal"),
    "keyword": ("dc:subject",), "person": ("Iptc4xmpExt:PersonInImage",), "location": ("Iptc4xmpCore:Location",),
    "position": ("exif:GPSLatitude", "exif:GPSLongitude"), "rating": ("xmp:Rating",), "favourite": ("bm:favourite",),
}  # fmt: skip
"""The properties that each field is written to."""
_MARK = "bm:added"
_BASE = "bm:base"


def sidecar(
    facts: Facts, belonging: Belonging, foreign: bytes | None = None, *, base: str = "", overruled: Iterable[str] = ()
) -> bytes:
    """The bytes of a sidecar for `facts`; with `foreign`, that packet with what it does not say yet added to it.

    Properties of a foreign packet are never altered, but for those `overruled` ("dc:title"), which the user has changed.
    `base` is the digest of a delivered packet that `foreign` is. Raises BrokenXmp for a foreign packet that cannot be read.
    The same input gives the same bytes.
    """
    if foreign is None:
        # The wrapper that many packets have around rdf:RDF is optional (ISO 16684-1, 7.3.3).
        root = rdf = etree.Element(f"{{{RDF}}}RDF", nsmap={"rdf": RDF})
        present: set[str] = set()
    else:
        rdf = parse_packet(foreign)
        root = rdf.getroottree().getroot()
        descriptions = list(rdf.iterchildren(f"{{{RDF}}}Description"))
        facts = _with_lists(facts, rdf, set(overruled))
        _remove(descriptions, {qualified(name) for name in overruled})
        present = {str(name) for item in descriptions for name in item.attrib}
        present |= {str(child.tag) for item in descriptions for child in item}
    elements = [element for element in _properties(facts, belonging) if element.tag not in present]
    if foreign is not None and not elements and not overruled:
        return foreign
    used = {prefix: uri for prefix, uri in NAMESPACES.items() if any(e.tag.startswith(f"{{{uri}}}") for e in elements)}
    description = etree.SubElement(rdf, f"{{{RDF}}}Description", nsmap=used | {"bm": NAMESPACES["bm"]})
    description.set(f"{{{RDF}}}about", "")
    description.set(qualified(_MARK), "by Bramblemoor")
    if base:
        description.set(qualified(_BASE), base)
    description.extend(elements)
    if foreign is None:
        etree.indent(rdf, space=" ")
    return _packet(root)


def foreign_part(packet: bytes) -> tuple[bytes | None, str]:
    """A sidecar as Bramblemoor wrote it, without what it added: None where nothing is left; and the `base` it was made with.

    To be used only where nobody else has changed the file since. Raises BrokenXmp.
    """
    rdf = parse_packet(packet)
    base, ours = "", False
    for description in list(rdf.iterchildren(f"{{{RDF}}}Description")):
        if description.get(qualified(_MARK)) is not None:
            base, ours = str(description.get(qualified(_BASE)) or ""), True
            rdf.remove(description)
    if not ours:
        return packet, base
    return (_packet(rdf.getroottree().getroot()) if len(rdf) else None), base


def _packet(root: etree._Element) -> bytes:
    body = etree.tostring(root, encoding="utf-8") + b"\n"
    return b'<?xpacket begin="\xef\xbb\xbf" id="W5M0MpCehiHzreSzNTczkc9d"?>\n' + body + b'<?xpacket end="w"?>\n'


def _with_lists(facts: Facts, rdf: etree._Element, overruled: set[str]) -> Facts:
    """The facts, with the keywords and people that a packet has besides: a user who adds one removes none."""
    if "dc:subject" in overruled:
        facts = replace(facts, keywords=tuple(dict.fromkeys([*values(rdf, "dc:subject"), *facts.keywords])))
    if "Iptc4xmpExt:PersonInImage" in overruled:
        people = [*values(rdf, "Iptc4xmpExt:PersonInImage"), *facts.people]
        facts = replace(facts, people=tuple(dict.fromkeys(people)))
    return facts


def _remove(descriptions: Iterable[etree._Element], names: set[str]) -> None:
    for description in descriptions:
        for name in names & {str(name) for name in description.attrib}:
            del description.attrib[name]
        for child in list(description):
            if str(child.tag) in names:
                description.remove(child)


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
    if facts.rating is not None:
        found.append(_simple("xmp:Rating", str(facts.rating)))
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
