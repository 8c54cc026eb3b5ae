"""One packet of XMP in many notations: what ISO 16684-1 and RDF/XML let an editor write, each different, all saying the same.

Shares no code with the product: it reads and writes XML by the standard library alone.
"""

import itertools
import random
import re
from dataclasses import dataclass, replace
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

RDF = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
SPACES = {
    "rdf": RDF,
    "dc": "http://purl.org/dc/elements/1.1/",
    "xmp": "http://ns.adobe.com/xap/1.0/",
    "xmpMM": "http://ns.adobe.com/xap/1.0/mm/",
    "exif": "http://ns.adobe.com/exif/1.0/",
    "photoshop": "http://ns.adobe.com/photoshop/1.0/",
    "Iptc4xmpCore": "http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/",
    "Iptc4xmpExt": "http://iptc.org/std/Iptc4xmpExt/2008-02-29/",
    "bm": "http://ns.bramblemoor.example/1.0/",
    "ed": "urn:editor:9/",
}
EDITOR = SPACES["ed"]
LIST, ALTERNATIVES = {"dc:subject", "Iptc4xmpExt:PersonInImage", "bm:albums"}, {"dc:title", "dc:description"}


@dataclass(frozen=True)
class Notation:
    """Every respect in which two writers of XMP differ."""

    name: str
    encoding: str = "utf-8"  # utf-8, utf-8-sig, utf-16, utf-16-le, utf-16-be, utf-32, utf-32-be
    wrapper: str = "packet"  # packet, bare, meta, other
    split: str = "one"  # one description, one a namespace, one a property
    simple: str = "element"  # attribute, qualified, value
    member: str = "li"  # resource, nested, attribute
    array: str = "Bag"  # Seq
    title: str = "alternatives"  # qualified
    structure: str = "resource"  # nested, attributes, typed
    node: str = "rdf:Description"  # a typed node
    about: str = ""  # a name of the picture


def notations() -> list[Notation]:
    base = Notation("plain")
    one = {
        "encoding": ("utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32", "utf-32-be"),
        "wrapper": ("bare", "meta", "other"), "split": ("namespace", "property"),
        "simple": ("attribute", "qualified", "value"), "member": ("resource", "nested", "attribute"), "array": ("Seq",),
        "title": ("qualified",), "structure": ("nested", "attributes", "typed"), "node": ("ed:Photo",),
        "about": ("uuid:9e1f",),
    }  # fmt: skip
    made = [base]
    for what, values in one.items():
        made += [replace(base, name=f"{what} {value}", **{what: value}) for value in values]
    chance = random.Random(7)
    for number in range(12):
        mixed = {what: chance.choice((getattr(base, what), *values)) for what, values in one.items()}
        made.append(replace(base, name=f"mixed {number}", **mixed))
    return made


@dataclass
class Words:
    """What a packet says: single values, lists, texts by language, and an editor's instructions."""

    single: dict[str, str]
    lists: dict[str, list[str]]
    texts: dict[str, dict[str, str]]
    instructions: bool = False


def read(packet: bytes) -> Words:
    """The words of a packet in any of the notations above. Raises AssertionError for a property that stands twice."""
    words = Words({}, {}, {})
    rdf = tree(packet)
    for node in rdf:
        for name, value in node.attrib.items():
            if prefixed(name) not in ("rdf:about", "xml:lang"):
                _note(words, prefixed(name), value)
        for child in node:
            _note(words, prefixed(child.tag), child)
    return words


def tree(packet: bytes) -> ElementTree.Element:
    """The rdf:RDF element of a packet."""
    marks = {b"\xff\xfe\0\0": "utf-32", b"<\0\0\0": "utf-32-le", b"\0\0\0<": "utf-32-be", b"\xff\xfe": "utf-16",
             b"<\0": "utf-16-le", b"\0<": "utf-16-be"}  # fmt: skip
    coding = next((name for start, name in marks.items() if packet.startswith(start)), "utf-8-sig")
    text = re.sub(r"<\?xpacket[^>]*\?>", "", packet.decode(coding).lstrip("\ufeff"))
    root = ElementTree.fromstring(text.strip())
    found = root if root.tag == f"{{{RDF}}}RDF" else root.find(f".//{{{RDF}}}RDF")
    assert found is not None
    return found


def prefixed(name: str) -> str:
    uri, _, local = name[1:].partition("}")
    prefix = next((prefix for prefix, known in SPACES.items() if known == uri), "xml" if "XML" in uri else uri)
    return f"{prefix}:{local}"


def _note(words: Words, name: str, value: "str | ElementTree.Element") -> None:
    if name.startswith("ed:") or name == "rdf:type":
        words.instructions = True
        return
    assert name not in words.single and name not in words.lists and name not in words.texts, f"{name} stands twice"
    if isinstance(value, str):
        members, langs = [value], [""]
    else:
        array = next((child for child in value if prefixed(child.tag) in ("rdf:Bag", "rdf:Seq", "rdf:Alt")), None)
        items = list(array) if array is not None else [value]
        members, langs = [_text(item) for item in items], [_language(item) for item in items]
    if name in ALTERNATIVES:
        words.texts[name] = dict(zip(langs, members, strict=True))
    elif name in LIST:
        words.lists[name] = members
    else:
        words.single[name] = members[0]


def _language(item: ElementTree.Element) -> str:
    return next((element.get("{http://www.w3.org/XML/1998/namespace}lang", "") for element in item.iter()
                 if element.get("{http://www.w3.org/XML/1998/namespace}lang")), "")  # fmt: skip


def _text(item: ElementTree.Element) -> str:
    for element in item.iter():
        if element.get(f"{{{RDF}}}value") is not None:
            return str(element.get(f"{{{RDF}}}value"))
        if element.tag == f"{{{RDF}}}value":
            return (element.text or "").strip()
    return (item.text or "").strip()


def write(words: Words, how: Notation) -> bytes:
    """The packet that says these words, in a notation."""
    pieces: list[tuple[str, str, str]] = []  # namespace, attributes, elements
    for name, text in words.single.items():
        if how.simple == "attribute":
            pieces.append((name.partition(":")[0], f" {name}={quoteattr(text)}", ""))
        else:
            pieces.append((name.partition(":")[0], "", _simple(name, text, how.simple)))
    for name, texts in words.lists.items():
        items = "".join(_member(text, how.member) for text in texts)
        pieces.append((name.partition(":")[0], "", f"<{name}><rdf:{how.array}>{items}</rdf:{how.array}></{name}>"))
    for name, by_language in words.texts.items():
        items = "".join(
            f'<rdf:li xml:lang="{language}"' + _inside(text, how.title) + "</rdf:li>"
            for language, text in by_language.items()
        )
        pieces.append((name.partition(":")[0], "", f"<{name}><rdf:Alt>{items}</rdf:Alt></{name}>"))
    if words.instructions:
        pieces += [("ed", ' ed:exposure="+0.3" ed:version="9"', ""), ("ed", "", _instructions(how.structure))]
    if how.split == "namespace":
        groups = [
            list(group) for _, group in itertools.groupby(sorted(pieces, key=lambda one: one[0]), lambda one: one[0])
        ]
    else:
        groups = [[piece] for piece in pieces] if how.split == "property" else [pieces]
    spaces = "".join(f' xmlns:{prefix}="{uri}"' for prefix, uri in SPACES.items() if prefix != "rdf")
    nodes = "\n".join(
        f'<{how.node} rdf:about="{how.about}"{spaces}{"".join(one[1] for one in group)}>'
        + "\n ".join(one[2] for one in group) + f"</{how.node}>"
        for group in groups
    )  # fmt: skip
    rdf = f'<rdf:RDF xmlns:rdf="{RDF}">\n{nodes}\n</rdf:RDF>'
    if how.wrapper in ("packet", "meta"):
        rdf = f'<x:xmpmeta xmlns:x="adobe:ns:meta/" x:xmptk="Editor 9">\n{rdf}\n</x:xmpmeta>'
    if how.wrapper == "other":
        rdf = f'<x:box xmlns:x="urn:some:box">{rdf}</x:box>'
    if how.wrapper == "packet":
        rdf = f'<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>\n{rdf}\n<?xpacket end="w"?>'
    return rdf.encode(how.encoding)


def _simple(name: str, text: str, how: str) -> str:
    if how == "qualified":
        return f'<{name} rdf:parseType="Resource"><rdf:value>{escape(text)}</rdf:value><ed:note>q</ed:note></{name}>'
    if how == "value":
        return f"<{name}><rdf:Description rdf:value={quoteattr(text)}/></{name}>"
    return f"<{name}>{escape(text)}</{name}>"


def _member(text: str, how: str) -> str:
    if how == "resource":
        return f'<rdf:li rdf:parseType="Resource"><rdf:value>{escape(text)}</rdf:value><ed:by>me</ed:by></rdf:li>'
    if how == "nested":
        return f"<rdf:li><rdf:Description><rdf:value>{escape(text)}</rdf:value><ed:by>me</ed:by></rdf:Description></rdf:li>"
    if how == "attribute":
        return f'<rdf:li><rdf:Description rdf:value={quoteattr(text)} ed:by="me"/></rdf:li>'
    return f"<rdf:li>{escape(text)}</rdf:li>"


def _inside(text: str, how: str) -> str:
    if how == "qualified":
        return f' rdf:parseType="Resource"><rdf:value>{escape(text)}</rdf:value><ed:why>q</ed:why>'
    return f">{escape(text)}"


def _instructions(how: str) -> str:
    curve = "<ed:curve><rdf:Seq><rdf:li>0, 0</rdf:li><rdf:li>9, 7</rdf:li></rdf:Seq></ed:curve>"
    if how == "nested":
        masks = "<rdf:li><rdf:Description ed:kind='brush'><ed:at>3</ed:at></rdf:Description></rdf:li>"
        look = "<ed:look><rdf:Description ed:name='Fen'/></ed:look>"
    elif how == "attributes":
        masks = "<rdf:li ed:kind='brush' ed:at='3'/>"
        look = "<ed:look ed:name='Fen'/>"
    elif how == "typed":
        masks = "<rdf:li><ed:Mask ed:kind='brush' ed:at='3'/></rdf:li>"
        look = "<ed:look><ed:Look><ed:name>Fen</ed:name></ed:Look></ed:look>"
    else:
        masks = '<rdf:li rdf:parseType="Resource"><ed:kind>brush</ed:kind><ed:at>3</ed:at></rdf:li>'
        look = '<ed:look rdf:parseType="Resource"><ed:name>Fen</ed:name></ed:look>'
    return f"{curve}<ed:masks><rdf:Bag>{masks}</rdf:Bag></ed:masks>{look}"
