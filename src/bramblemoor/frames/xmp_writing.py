"""Writing XMP sidecars (ISO 16684-1): new ones, and additions to those that others wrote.

What stands in a packet is ours or somebody else's, value by value: `bm:wrote` there holds a mark of every value that was
written here, `bm:kept` one of every value that others had written when it was. So it shows in the file itself what an
editor has changed since, also where that editor wrote the whole packet anew.
"""

import hashlib
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from xml.sax.saxutils import escape

from lxml import etree

from bramblemoor.frames.claims import Facts, Field
from bramblemoor.frames.fields import FIELDS
from bramblemoor.frames.xmp_fragments import add_to, take_from
from bramblemoor.frames.xmp_model import (
    SAYS_NOTHING,
    Occurrence,
    add_member,
    all_occurrences,
    as_array,
    essence,
    head,
    heads,
    heads_at,
    new_array,
    new_property,
    nodes,
    occurrences,
    packet_of,
    parse_packet,
    remove,
    set_text,
    text_of,
    texts_at,
    values,
    wrapped,
)
from bramblemoor.frames.xmp_names import NAMESPACES, RDF, XML, XMPMETA, qualified
from bramblemoor.frames.xmp_reading import ALBUMS, FORMER_NAME, ORIGIN

_UNWRITABLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")
_WROTE, _KEPT, _BASE = qualified("bm:wrote"), qualified("bm:kept"), qualified("bm:base")
_FORMER_MARK = qualified("bm:added")
"""On what was added, before single values were marked."""
_ABOUT = f"{{{RDF}}}about"


@dataclass(frozen=True)
class Belonging:
    """What no schema has: the albums a frame is in, where it came from, and a name it had before.

    `adds` are packets whose properties are to stand in the sidecar where nobody says them otherwise, `takes` such as are not.
    """

    albums: Sequence[str] = ()
    origin: str = ""
    former_name: str = ""
    adds: Sequence[bytes] = ()
    takes: Sequence[bytes] = ()


@dataclass(frozen=True)
class _Property:
    name: str
    field: Field | None
    array: str = ""  # Alt for texts in several languages, Bag for lists, Seq for one in order, "" for simple values


_PROPERTIES = (
    *(_Property(one.name, field.claim, one.array) for field in FIELDS for one in field.properties),
    _Property(ALBUMS, None, "Bag"), _Property(ORIGIN, None), _Property(FORMER_NAME, None),
)  # fmt: skip
_TEXTS = tuple((one.name, field.name, one.texts) for field in FIELDS for one in field.properties)
_OURS = frozenset((*(qualified(one.name) for one in _PROPERTIES), _WROTE, _KEPT, _BASE, _FORMER_MARK))


@lru_cache(4096)  # keywords and names come again and again
def mark(name: str, text: str) -> str:
    """What stands for a value of a property in `bm:wrote` and `bm:kept`."""
    digest = hashlib.sha256(f"{name}\0{text}".encode())
    return f"{name}={digest.hexdigest()[:8]}"


def marks_of(facts: Facts) -> dict[Field, set[str]]:
    """The marks of all that a sidecar for some facts says, by field."""
    found: dict[Field, set[str]] = {}
    for one in _PROPERTIES:
        if one.field is not None:
            texts = _wanted(facts, Belonging())[one.name]
            found.setdefault(one.field, set()).update(mark(one.name, text) for text in texts)
    return found


@dataclass
class Packet:
    """A sidecar that was read: its tree, and what it tells of who wrote what. `base` is the essence of what was delivered."""

    content: bytes
    rdf: etree._Element
    wrote: set[str] = field(default_factory=set)
    kept: set[str] = field(default_factory=set)
    base: str = ""
    is_marked: bool = False
    is_former: bool = False

    @property
    def root(self) -> etree._Element:
        return self.rdf.getroottree().getroot()

    @property
    def rest(self) -> str:
        """The essence of all that we have no word for."""
        return essence(self.rdf, _OURS)

    @property
    def is_all_ours(self) -> bool:
        """Whether nobody else's word is in it."""
        return self.holds_only_ours(self.says())

    def says(self) -> dict[str, list[str]]:
        """The texts of every property that we have a word for."""
        found = all_occurrences(self.rdf, [one.name for one in _PROPERTIES])
        return {name: texts_at(places) for name, places in found.items()}

    def holds_only_ours(self, said: Mapping[str, list[str]]) -> bool:
        """Whether nobody else's word is in it, where it says that."""
        mine = all(mark(name, text) in self.wrote for name, texts in said.items() for text in texts)
        return (self.is_marked or self.is_former) and mine and self.rest == SAYS_NOTHING


def read_packet(content: bytes) -> Packet:
    """Raises BrokenXmp."""
    packet = Packet(content, parse_packet(content))
    # In whatever notation: an editor may have written the whole packet anew.
    found = all_occurrences(packet.rdf, ("bm:wrote", "bm:kept", "bm:base", "bm:added"))
    for places, tokens in ((found["bm:wrote"], packet.wrote), (found["bm:kept"], packet.kept)):
        packet.is_marked |= bool(places)
        tokens.update(" ".join(heads_at(places)).split())
    packet.base = next(iter(heads_at(found["bm:base"])), "")
    packet.is_former = bool(found["bm:added"])
    if packet.is_former and not packet.is_marked:
        packet.wrote = _of_former(packet.rdf)
    return packet


def _of_former(rdf: etree._Element) -> set[str]:
    """The marks of what was added before single values were marked: what a description of our own holds, and nothing else."""
    found = set()
    for node in nodes(rdf):
        names = {str(name) for name in node.attrib} | {str(child.tag) for child in node.iterchildren(etree.Element)}
        if node.get(_FORMER_MARK) is None or names - _OURS - {_ABOUT}:
            continue
        alone = etree.Element(f"{{{RDF}}}RDF")
        following = node.getnext()
        parent = node.getparent()
        alone.append(node)
        found |= {mark(one.name, text) for one in _PROPERTIES for text in values(alone, one.name)}
        if parent is not None:
            parent.append(node) if following is None else following.addprevious(node)
    return found


def sidecar(facts: Facts, belonging: Belonging, there: Packet | None = None, *, base: str | None = None) -> bytes:
    """The bytes of a sidecar for `facts`; with `there`, that packet brought up to date, which changes it.

    What others wrote is only added to, but for properties in which the user's own word is the latest (`facts.by_you`); those
    are changed where they stand, other languages stay. `base` is the essence of a delivered packet that `there` is; None
    leaves what is told. The same input gives the same bytes.
    """
    wanted = _wanted(facts, belonging)
    if there is None and not belonging.adds:
        return _new_sidecar(wanted, base or "")
    if there is None:
        there = read_packet(_new_sidecar(wanted, base or ""))
    packet, said = there, there.says()
    all_ours = packet.holds_only_ours(said)
    if all_ours and packet.is_marked and not packet.is_former and not belonging.adds and not belonging.takes:
        # There is nobody else's word to keep; but where it says all already, it stays in whatever notation it is.
        if said == wanted and base in (None, packet.base) and packet.root.tag == f"{{{XMPMETA}}}xmpmeta":
            return there.content
        return _new_sidecar(wanted, packet.base if base is None else base)
    before = etree.tostring(packet.root)
    home = _home(packet)
    take_from(packet.rdf, belonging.takes)
    add_to(packet.rdf, home, belonging.adds)
    wrote: set[str] = set()
    kept: set[str] = set()
    for one in _PROPERTIES:
        is_told = one.field in facts.by_you
        if one.array == "Bag":
            gone = {text for field, text in facts.gone if field == one.field}
            ours = _bring_list(packet, home, one, wanted[one.name], is_told, gone)
        else:
            ours = _bring_single(packet, home, one, wanted[one.name], is_told)
        wrote |= {mark(one.name, text) for text in ours}
        now = values(packet.rdf, one.name) if one.array == "Bag" else heads(packet.rdf, one.name)
        kept |= {mark(one.name, text) for text in now if text not in ours}
    _set_marks(packet, home, wrote, kept, packet.base if base is None else base)
    if etree.tostring(packet.root) == before and packet.root.tag == f"{{{XMPMETA}}}xmpmeta":
        return there.content
    if all_ours:
        etree.indent(packet.rdf, space=" ")
    return packet_of(packet.rdf)


def rewritten(content: bytes, was: Facts, facts: Facts, belonging: Belonging) -> bytes | None:
    """A sidecar brought up to date that says just what was believed before, as it is written here: so nobody else's word is in
    it, and it need not be read. None where that is not so.
    """
    if belonging.adds or belonging.takes or content != _new_sidecar(_wanted(was, belonging), ""):
        return None
    return content if facts == was else _new_sidecar(_wanted(facts, belonging), "")


def without_own(packet: bytes) -> bytes:
    """A packet less what no schema has, for others: who wrote what, albums, where the frame came from."""
    rdf = parse_packet(packet)
    own = f"{{{NAMESPACES['bm']}}}"
    for node in nodes(rdf):
        for name in [str(name) for name in node.attrib if str(name).startswith(own)]:
            del node.attrib[name]
        for child in list(node.iterchildren(etree.Element)):
            if str(child.tag).startswith(own):
                remove(child)
    etree.cleanup_namespaces(rdf)
    return packet_of(rdf)


def _new_sidecar(wanted: Mapping[str, list[str]], base: str) -> bytes:
    """A packet in which nobody else's word is: most sidecars are such. A text, since its form is always the same, and making a
    tree of it takes ten times as long where there are very many.
    """
    wrote = sorted({mark(name, text) for name, texts in wanted.items() for text in texts})
    prefixes = dict.fromkeys(
        name.partition(":")[0] for name in (*(name for name in wanted if wanted[name]), "bm:wrote")
    )
    spaces = " ".join(f'xmlns:{prefix}="{NAMESPACES[prefix]}"' for prefix in prefixes)
    said = [
        f"  <{name}>{inner}</{name}>\n" for name, texts in wanted.items() if texts for inner in [_inner(name, texts)]
    ]
    said.append(f"  <bm:wrote>{' '.join(wrote)}</bm:wrote>\n" if wrote else "  <bm:wrote/>\n")
    if base:
        said.append(f"  <bm:base>{base}</bm:base>\n")
    body = (
        f'<x:xmpmeta xmlns:x="{XMPMETA}"><rdf:RDF xmlns:rdf="{RDF}">\n'
        f' <rdf:Description {spaces} rdf:about="">\n{"".join(said)} </rdf:Description>\n</rdf:RDF></x:xmpmeta>'
    )
    return wrapped(body.encode())


_FORMS = {one.name: one.array for one in _PROPERTIES}


def _inner(name: str, texts: Sequence[str]) -> str:
    """What stands in the element of a property."""
    kind = _FORMS[name]
    if not kind:
        return escape(texts[0], _IN_TEXT)
    language = ' xml:lang="x-default"' if kind == "Alt" else ""
    items = "".join(
        f"    <rdf:li{language}>{escape(text, _IN_TEXT)}</rdf:li>\n" for text in (texts if kind == "Bag" else texts[:1])
    )
    return f"\n   <rdf:{kind}>\n{items}   </rdf:{kind}>\n  "


_IN_TEXT = {"\r": "&#13;"}
"""What a reader would else take for the end of a line (XML 1.0, 2.11)."""


def _say_new(home: etree._Element, one: _Property, texts: Sequence[str]) -> None:
    """Put a property where none of its name stands."""
    element = new_property(home, one.name)
    if one.array == "Bag":
        array = new_array(element, one.array)
        for text in texts:
            add_member(array, text)
    elif one.array:
        language = "x-default" if one.array == "Alt" else ""
        add_member(new_array(element, one.array), texts[0], language=language)
    else:
        element.text = texts[0]


def _home(packet: Packet) -> etree._Element:
    """The description for what is added: the one that has been marked before, or a new one about the same picture."""
    for node in nodes(packet.rdf):
        for place in (_WROTE, _KEPT, _BASE, _FORMER_MARK):
            if node.get(place) is not None or node.find(place) is not None:
                return node
    about = next((str(node.get(_ABOUT)) for node in nodes(packet.rdf) if node.get(_ABOUT)), "")
    node = etree.SubElement(packet.rdf, f"{{{RDF}}}Description", nsmap={"bm": NAMESPACES["bm"]})
    node.set(_ABOUT, about)
    return node


def _set_marks(packet: Packet, home: etree._Element, wrote: set[str], kept: set[str], base: str) -> None:
    """Write down who wrote what, last in the description; where that stands already, nothing is touched."""
    told = {_WROTE: " ".join(sorted(wrote)), _KEPT: " ".join(sorted(kept)), _BASE: base}
    places = [(node, place) for node in nodes(packet.rdf) for place in (*told, _FORMER_MARK)]
    stands = {place: text_of(child) for node, place in places for child in node.iterchildren(place)}
    if stands == {place: text for place, text in told.items() if text or place == _WROTE}:
        return
    for node, place in places:
        node.attrib.pop(place, "")
        for child in list(node.iterchildren(place)):
            remove(child)
    for place, text in told.items():
        if text or place == _WROTE:
            etree.SubElement(home, place, nsmap={"bm": NAMESPACES["bm"]}).text = text


def _bring_list(
    packet: Packet, home: etree._Element, one: _Property, wanted: list[str], is_told: bool, gone: set[str]
) -> set[str]:
    """Add what is wanted to a list, and take out what was ours and is not wanted any more; returns what is ours now."""
    places = occurrences(packet.rdf, one.name)
    present = values(packet.rdf, one.name)
    ours = {text for text in present if mark(one.name, text) in packet.wrote}
    for place in places:
        for item in place.items:
            if item.text in gone or (item.text in ours and item.text not in wanted):
                _take_out(place, item.element)
    if set(present) - ours and not ours and not is_told:
        return set()
    there = values(packet.rdf, one.name)
    missing = [text for text in wanted if text not in there]
    if missing:
        places = occurrences(packet.rdf, one.name)
        array = as_array(places[0], "Bag") if places else new_array(new_property(home, one.name), "Bag")
        for text in missing:
            add_member(array, text)
    return (ours & set(wanted)) | set(missing)


def _bring_single(packet: Packet, home: etree._Element, one: _Property, wanted: list[str], is_told: bool) -> set[str]:
    """Say a single value where nobody else says one, or the user has told it; returns what is ours now."""
    places = occurrences(packet.rdf, one.name)
    ours = [place for place in places if (item := head(place)) and mark(one.name, item.text) in packet.wrote]
    others = [place for place in places if place not in ours and head(place) is not None]
    if others and not is_told:
        for place in ours:  # somebody has said it anew beside it
            _take_out(place, place.element)
        return set()
    if not wanted:
        for place in places if is_told else ours:
            item = head(place)
            several = place.array is not None and len(place.items) > 1
            _take_out(place, item.element if several and item is not None and not is_told else place.element)
        return set()
    if not places:
        _say_new(home, one, wanted)
        return set(wanted)
    first, *more = [*others, *(place for place in places if place not in others)]
    for place in more:
        _take_out(place, place.element)
    item = head(first)
    if item is not None and item.text == wanted[0]:
        return set(wanted) if first in ours else set()
    _say(first, one, wanted[0])
    return set(wanted)


def _say(place: Occurrence, one: _Property, text: str) -> None:
    """Put a text where a property stands already; its other languages and its qualifiers stay."""
    if one.array == "Seq":
        array = as_array(place, one.array)
        if (item := head(Occurrence(place.node, place.name, array.getparent()))) is not None:
            set_text(item.element, text)
        else:
            add_member(array, text)
    elif one.array:
        array = as_array(place, one.array)
        items = Occurrence(place.node, place.name, array.getparent()).items
        default = next((item for item in items if item.language == "x-default"), None)
        alone = [item for item in items if not item.language]
        if default is None and len(alone) == 1:
            default = alone[0]
            default.element.set(f"{{{XML}}}lang", "x-default")
        if default is not None:
            set_text(default.element, text)
        else:
            add_member(array, text, language="x-default", first=True)
    elif place.element is None:
        place.node.set(place.name, text)
    else:
        set_text(place.element, text)


def _take_out(place: Occurrence, element: etree._Element | None) -> None:
    """Take one value of a property out, or all of it; a list that is left empty goes too."""
    if element is None:
        place.node.attrib.pop(place.name, "")
        return
    remove(element)
    if place.element is not None and element is not place.element and not place.items:
        remove(place.element)


def clean(text: str) -> str:
    """Text without the characters that XML 1.0 (2.2) cannot carry."""
    return _UNWRITABLE.sub("", text)


def _wanted(facts: Facts, belonging: Belonging) -> dict[str, list[str]]:
    """The texts of every property, as they are to stand."""
    found: dict[str, Sequence[str]] = {name: texts(getattr(facts, field)) for name, field, texts in _TEXTS}
    found |= {ALBUMS: belonging.albums, ORIGIN: [belonging.origin], FORMER_NAME: [belonging.former_name]}
    return {name: list(dict.fromkeys(_written(texts))) if any(texts) else [] for name, texts in found.items()}


def _written(texts: Iterable[str]) -> list[str]:
    return [written for text in texts if (written := clean(text).strip())]
