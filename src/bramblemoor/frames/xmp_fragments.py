"""Pieces of XMP that a user's templates bring: an editor's starting look, a contact, any property that no field here is for.

They are added property by property, where a packet does not say it yet, and taken out again where it still says just that.
"""

from collections.abc import Iterator, Mapping, Sequence
from copy import deepcopy

from lxml import etree

from bramblemoor.frames.xmp_model import nodes, normal, parse_packet

_ABOUT = "about"


def add_to(rdf: etree._Element, home: etree._Element, fragments: Sequence[bytes]) -> None:
    """Add the properties of some packets to a description, those that stand nowhere yet. Raises BrokenXmp."""
    for name, element in _properties(fragments):
        if not _stands(rdf, name):
            home.append(deepcopy(element))


def take_from(rdf: etree._Element, fragments: Sequence[bytes]) -> None:
    """Take the properties of some packets out, where they stand as those say them. Raises BrokenXmp."""
    for name, element in _properties(fragments):
        wanted = normal(element)
        for node in nodes(rdf):
            for place in list(node.iterchildren(name)):
                if normal(place) == wanted:
                    node.remove(place)
            if (told := node.get(name)) is not None and normal(_as_element(name, str(told), {})) == wanted:
                del node.attrib[name]


def _properties(fragments: Sequence[bytes]) -> Iterator[tuple[str, etree._Element]]:
    """Every property of some packets as an element, in whatever notation it is told."""
    for fragment in fragments:
        for node in nodes(parse_packet(fragment)):
            for name, value in node.attrib.items():
                if str(name).startswith("{") and etree.QName(str(name)).localname != _ABOUT:
                    yield str(name), _as_element(str(name), str(value), node.nsmap)
            for child in node.iterchildren(etree.Element):
                yield str(child.tag), child


def _as_element(name: str, text: str, prefixes: Mapping[str | None, str]) -> etree._Element:
    space = etree.QName(name).namespace
    element = etree.Element(name, nsmap={prefix: told for prefix, told in prefixes.items() if prefix and told == space})
    element.text = text
    return element


def _stands(rdf: etree._Element, name: str) -> bool:
    return any(node.get(name) is not None or node.find(name) is not None for node in nodes(rdf))
