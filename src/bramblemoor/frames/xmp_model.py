"""The data model of XMP (ISO 16684-1, 6 and 7) over an XML tree: packets in every encoding, and properties in every notation."""

import hashlib
import re
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from lxml import etree

from bramblemoor.frames.xmp_names import NAMESPACES, RDF, XML, XMPMETA, parser, qualified

MOST_BYTES = 16 << 20
_DESCRIPTION, _VALUE, _LI = f"{{{RDF}}}Description", f"{{{RDF}}}value", f"{{{RDF}}}li"
_ARRAYS = frozenset(f"{{{RDF}}}{kind}" for kind in ("Bag", "Seq", "Alt"))
_MEMBER = re.compile(re.escape(f"{{{RDF}}}") + r"(?:li|_\d+)")
_LANG, _PARSE_TYPE, _RESOURCE = f"{{{XML}}}lang", f"{{{RDF}}}parseType", f"{{{RDF}}}resource"
# How a packet begins in UTF-16 and UTF-32, with and without a mark of its byte order (XML 1.0, appendix F).
_ENCODINGS = (
    (b"\xff\xfe\0\0", "utf-32"), (b"\0\0\xfe\xff", "utf-32"), (b"<\0\0\0", "utf-32-le"), (b"\0\0\0<", "utf-32-be"),
    (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"<\0", "utf-16-le"), (b"\0<", "utf-16-be"),
)  # fmt: skip


class BrokenXmp(Exception):
    """The packet is no XML, is no XMP, or declares entities."""


def parse_packet(packet: bytes) -> etree._Element:
    """The rdf:RDF element of a packet. Raises BrokenXmp, with a reason, for anything unreadable or hostile."""
    if len(packet) > MOST_BYTES:
        raise BrokenXmp(f"it has {len(packet):,} bytes, more than {MOST_BYTES:,}")
    try:
        root = etree.fromstring(_plain(packet), parser(as_it_stands=True))
    except (etree.XMLSyntaxError, ValueError) as error:
        raise BrokenXmp(f"it is not well-formed XML ({error})") from error
    info = root.getroottree().docinfo
    if info.internalDTD is not None:
        raise BrokenXmp("it declares a document type, which XMP never has")
    rdf = root if root.tag == f"{{{RDF}}}RDF" else root.find(f".//{{{RDF}}}RDF")
    if rdf is None:
        raise BrokenXmp("it holds no rdf:RDF")
    return rdf


def _plain(packet: bytes) -> bytes:
    """What the XML parser takes: a packet in UTF-16 or UTF-32 as UTF-8 without a declaration, any other as it is."""
    packet = packet.strip(b" \t\r\n") if packet[:1] in (b" ", b"\t", b"\r", b"\n") and packet[1:2] != b"\0" else packet
    encoding = next((name for start, name in _ENCODINGS if packet.startswith(start)), None)
    if encoding is None:
        return packet.strip(b"\0 \t\r\n")
    unit = 4 if encoding.startswith("utf-32") else 2
    text = packet[: len(packet) // unit * unit].decode(encoding)
    return re.sub(r"^\s*<\?xml\s[^>]*\?>", "", text.lstrip("\ufeff").strip("\0 \t\r\n")).encode()


def packet_of(rdf: etree._Element) -> bytes:
    """The bytes of a packet: wrapped (ISO 16684-1, 7.3.2 and 7.3.3), in UTF-8, with whatever else stood around it.

    Readers find rdf:RDF in that wrapper alone: another one that stood around it comes to stand behind it.
    """
    root = rdf.getroottree().getroot()
    before, after = _beside(root)
    if root.tag != f"{{{XMPMETA}}}xmpmeta":
        wrapper = etree.Element(f"{{{XMPMETA}}}xmpmeta", nsmap={"x": XMPMETA})
        rdf.tail = None
        wrapper.append(rdf)
        if root is not rdf:
            wrapper.append(root)
        root = wrapper
    body = etree.tostring(root, encoding="utf-8", with_tail=False)
    return wrapped(body, before, after)


def wrapped(body: bytes, before: bytes = b"", after: bytes = b"") -> bytes:
    """The bytes of a packet around its x:xmpmeta (7.3.2): what marks its beginning and its end, and may be written to."""
    head = b'<?xpacket begin="\xef\xbb\xbf" id="W5M0MpCehiHzreSzNTczkc9d"?>\n'
    return head + before + body + b"\n" + after + b'<?xpacket end="w"?>\n'


def _beside(root: etree._Element) -> tuple[bytes, bytes]:
    """Comments and instructions before and after the root, but for the packet's own."""

    def written(nodes: Iterator[etree._Element]) -> list[bytes]:
        kept = [node for node in nodes if getattr(node, "target", "") != "xpacket"]
        return [etree.tostring(node, encoding="utf-8", with_tail=False) + b"\n" for node in kept]

    return b"".join(reversed(written(root.itersiblings(preceding=True)))), b"".join(written(root.itersiblings()))


def nodes(rdf: etree._Element) -> list[etree._Element]:
    """What describes the picture: an rdf:Description each, or a typed node (RDF 1.1 XML Syntax, 2.13)."""
    return [node for node in rdf.iterchildren(etree.Element) if node.tag not in _ARRAYS]


@dataclass(frozen=True)
class Item:
    """One value of a property: its text, its language, and the element it is the text of; None for an attribute's."""

    text: str
    language: str
    element: Any


@dataclass(frozen=True)
class Occurrence:
    """One place where a property stands: an element of a node, or an attribute, where `element` is None."""

    node: Any
    name: str
    element: Any

    @property
    def array(self) -> Any:
        return None if self.element is None else array_in(self.element)

    @property
    def items(self) -> list[Item]:
        """The values, those without any text left out."""
        if self.element is None:
            found = [Item(str(self.node.get(self.name)), "", None)]
        elif (array := self.array) is not None:
            found = [_item(member) for member in members(array)]
        else:
            found = [_item(self.element)]
        return [item for item in found if item.text]


def occurrences(rdf: etree._Element, name: str) -> list[Occurrence]:
    """Every place where a property ("dc:title") stands; there should be one at most."""
    return all_occurrences(rdf, (name,))[name]


def all_occurrences(rdf: etree._Element, names: Collection[str]) -> dict[str, list[Occurrence]]:
    """The same of several properties, in one go."""
    found: dict[str, list[Occurrence]] = {name: [] for name in names}
    tags = {qualified(name): found[name] for name in names}
    for node in nodes(rdf):
        for attribute in node.attrib:
            if (places := tags.get(str(attribute))) is not None:
                places.append(Occurrence(node, str(attribute), None))
        for element in node.iterchildren(etree.Element):
            if (places := tags.get(str(element.tag))) is not None:
                places.append(Occurrence(node, str(element.tag), element))
    return found


def values(rdf: etree._Element, name: str) -> list[str]:
    """All texts of a property, in whatever notation; of alternatives, x-default comes first."""
    return texts_at(occurrences(rdf, name))


def texts_at(places: Iterable[Occurrence]) -> list[str]:
    """The same, where the places are known."""
    found: list[str] = []
    for place in places:
        found += [item.text for item in sorted(place.items, key=lambda item: item.language != "x-default")]
    return found


def head(place: Occurrence) -> Item | None:
    """The value that counts of a property with one value: of several languages the default one, else the first."""
    items = sorted(place.items, key=lambda item: item.language != "x-default")
    return items[0] if items else None


def heads(rdf: etree._Element, name: str) -> list[str]:
    """The text of a property with one value, as often as it stands: more than once only where somebody wrote it twice."""
    return heads_at(occurrences(rdf, name))


def heads_at(places: Iterable[Occurrence]) -> list[str]:
    """The same, where the places are known."""
    return [item.text for place in places if (item := head(place)) is not None]


def members(array: etree._Element) -> list[etree._Element]:
    return [member for member in array.iterchildren(etree.Element) if _MEMBER.fullmatch(str(member.tag))]


def fields(element: etree._Element) -> dict[str, Any]:
    """The fields of a structure (7.9.2.2), each as its text or, where it has inner structure, its element."""
    inner = _node_in(element)
    found: dict[str, Any] = {}
    if inner is None:
        inner = element
    elif inner.tag != _DESCRIPTION:
        found[f"{{{RDF}}}type"] = str(inner.tag)
    found |= {str(name): str(value) for name, value in inner.attrib.items()}
    for child in inner.iterchildren(etree.Element):
        found[str(child.tag)] = child
    return found


def _node_in(element: etree._Element) -> etree._Element | None:
    """The node inside a property, where its value is one and no array."""
    children = list(element.iterchildren(etree.Element))
    is_node = len(children) == 1 and element.get(_PARSE_TYPE) is None and children[0].tag not in _ARRAYS
    return children[0] if is_node else None


def array_in(element: etree._Element) -> etree._Element | None:
    return next((child for child in element.iterchildren(etree.Element) if child.tag in _ARRAYS), None)


def _item(element: etree._Element) -> Item:
    holder = _value_holder(element)
    language = str(element.get(_LANG) or (holder[0].get(_LANG) if holder else None) or "")
    return Item(text_of(element), language, element)


def _value_holder(element: etree._Element) -> tuple[etree._Element, str] | None:
    """Where the text of a value stands (element, "" or the attribute): with qualifiers it is its rdf:value (7.8, 7.9.2.4)."""
    if element.get(_RESOURCE) is not None:
        return element, _RESOURCE
    if element.get(_VALUE) is not None:
        return element, _VALUE
    if next(element.iterchildren(etree.Element), None) is None:
        return element, ""
    value = element.find(_VALUE)
    if value is not None:
        return _value_holder(value)
    inner = _node_in(element)
    if inner is not None and (inner.get(_VALUE) is not None or inner.find(_VALUE) is not None):
        return _value_holder(inner)
    return None


def text_of(element: etree._Element) -> str:
    """The text of a simple value, without qualifiers; "" where it is none."""
    holder = _value_holder(element)
    if holder is None:
        return ""
    where, attribute = holder
    return str((where.get(attribute) if attribute else where.text) or "").strip()


def set_text(element: etree._Element, text: str) -> None:
    """Replace the text of a simple value; its qualifiers stay."""
    where, attribute = _value_holder(element) or (element, "")
    if attribute == _RESOURCE:
        del where.attrib[_RESOURCE]
        attribute = ""
    if attribute:
        where.set(attribute, text)
        return
    for child in list(where):
        where.remove(child)
    where.text = text


def new_property(node: etree._Element, name: str) -> etree._Element:
    """An empty property at the end of a node."""
    prefix = name.partition(":")[0]
    return etree.SubElement(node, qualified(name), nsmap={prefix: NAMESPACES[prefix]})


def new_array(element: etree._Element, kind: str) -> etree._Element:
    return etree.SubElement(element, f"{{{RDF}}}{kind}")


def add_member(array: etree._Element, text: str, *, language: str = "", first: bool = False) -> None:
    member = etree.Element(_LI)
    member.text = text
    if language:
        member.set(_LANG, language)
    array.insert(0, member) if first else array.append(member)


def remove(element: etree._Element) -> None:
    """Take an element out; the white space behind it goes with it."""
    parent = element.getparent()
    if parent is not None:
        parent.remove(element)


def as_array(place: Occurrence, kind: str) -> etree._Element:
    """The array of a property; one that stands there as a simple value becomes an array's first member."""
    standing: etree._Element | None = place.array
    if standing is not None:
        return standing
    if place.element is None:
        text = str(place.node.attrib.pop(place.name))
        element = etree.SubElement(place.node, place.name)
        array = new_array(element, kind)
        if text.strip():
            add_member(array, text.strip())
        return array
    element = place.element
    inner, text, attributes = list(element), element.text, dict(element.attrib)
    element.text = None
    element.attrib.clear()
    array = etree.Element(f"{{{RDF}}}{kind}")
    if inner or (text or "").strip() or attributes:
        member = etree.SubElement(array, _LI)
        member.text = text
        member.attrib.update(attributes)
        member.extend(inner)
    element.append(array)
    return array


SAYS_NOTHING = hashlib.sha256(b"").hexdigest()[:32]
"""The essence of a packet that says nothing else."""


def essence(rdf: etree._Element, without: frozenset[str]) -> str:
    """A digest of all that a packet says, in whatever notation, but for the properties named: 32 hex digits.

    `without` holds {namespace}local names. What two notations say alike has one essence; one that says nothing has SAYS_NOTHING.
    """
    found = []
    for node in nodes(rdf):
        if node.tag != _DESCRIPTION:
            found.append(f"type {node.tag}")
        for name, value in node.attrib.items():
            if name not in without and not _is_syntax(str(name)):
                found.append(f"{name!s} {str(value).strip()!r}")
        for child in node.iterchildren(etree.Element):
            if child.tag not in without:
                found.append(f"{child.tag!s} {normal(child)}")
    return hashlib.sha256("\n".join(sorted(found)).encode()).hexdigest()[:32]


def _is_syntax(name: str) -> bool:
    return name.startswith(f"{{{XML}}}") or name in (f"{{{RDF}}}about", f"{{{RDF}}}ID", f"{{{RDF}}}nodeID", _PARSE_TYPE)


def normal(element: etree._Element) -> str:
    """A value in one form for all notations: text, array or structure, with language and qualifiers."""
    language = element.get(_LANG)
    behind = f"@{language}" if language else ""
    array = array_in(element)
    if array is not None:
        kind = str(array.tag).rpartition("}")[2]
        return f"{kind}[{', '.join(normal(member) for member in members(array))}]{behind}"
    inside = fields(element)
    holder = _value_holder(element)
    plain = {
        name: repr(value.strip()) if isinstance(value, str) else normal(value)
        for name, value in inside.items()
        if not _is_syntax(name) and name not in (_VALUE, _RESOURCE, f"{{{RDF}}}datatype")
    }
    text = repr(text_of(element)) if holder is not None else ""
    if text == "''" and plain:
        text = ""
    return text + (f"{{{', '.join(f'{name} {plain[name]}' for name in sorted(plain))}}}" if plain else "") + behind
