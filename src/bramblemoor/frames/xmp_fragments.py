"""Pieces of XMP that a user's templates bring: an editor's starting look, a contact, any property that no field here is for.

They are added property by property, where a packet does not say it yet, and taken out again where it still says just that.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from copy import deepcopy

from lxml import etree

from bramblemoor.frames.xmp_model import nodes, normal, packet_of, parse_packet, remove
from bramblemoor.frames.xmp_names import DESCRIPTIVE, RDF

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
        yield from _properties_in(parse_packet(fragment))


def _properties_in(rdf: etree._Element) -> Iterator[tuple[str, etree._Element]]:
    for node in nodes(rdf):
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


def instructions(packet: bytes, beside: bytes | None = None) -> tuple[bytes | None, list[str]]:
    """What a packet holds that does not describe its picture: an editor's instructions; None where there are none.

    Of an editor that has its say in `beside`, too, nothing is told, as two states of its instructions do not mix; those that say
    something else there are named by their namespace. Raises BrokenXmp.
    """
    rdf = parse_packet(packet)
    there, here = _by_space(rdf), _by_space(parse_packet(beside)) if beside is not None else {}
    without(rdf, lambda space: space in DESCRIPTIVE or space in here)
    otherwise = [space for space, told in there.items() if space in here and told != here[space]]
    return packet_of(rdf) if there.keys() - here.keys() else None, [str(space) for space in otherwise]


def without(rdf: etree._Element, unwanted: Callable[[str | None], bool]) -> None:
    """Take out of a packet the properties of some namespaces."""
    for node in nodes(rdf):
        for name in [str(name) for name in node.attrib if unwanted(etree.QName(str(name)).namespace)]:
            if etree.QName(name).namespace != RDF:
                del node.attrib[name]
        for child in [child for child in node.iterchildren(etree.Element) if unwanted(etree.QName(child).namespace)]:
            remove(child)


def _by_space(rdf: etree._Element) -> dict[str | None, list[str]]:
    """What is said in namespaces that do not describe pictures."""
    found: dict[str | None, list[str]] = {}
    for name, element in _properties_in(rdf):
        space = etree.QName(name).namespace
        if space not in DESCRIPTIVE:
            found.setdefault(space, []).append(normal(element))
    return {space: sorted(told) for space, told in found.items()}


def _stands(rdf: etree._Element, name: str) -> bool:
    return any(node.get(name) is not None or node.find(name) is not None for node in nodes(rdf))
