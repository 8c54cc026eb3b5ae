"""Templates of metadata: what a user says of many frames alike, under a name; TOML files in companions/templates/.

docs/formats.md describes them. What has a field of its own here becomes the user's word on a frame; a contact, any other
property, and an editor's starting look are added to its sidecar as XMP.
"""

import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

import msgspec
from lxml import etree

from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.claims import Field
from bramblemoor.frames.xmp_fragments import without
from bramblemoor.frames.xmp_model import BrokenXmp, new_property, packet_of, parse_packet
from bramblemoor.frames.xmp_names import DESCRIPTIVE, NAMESPACES, RDF
from bramblemoor.library.home import Library
from bramblemoor.library.own_companions import write_companion
from bramblemoor.library.sayings import Templated, Word

FOLDER = "companions/templates"
_NAME = re.compile(r"[\w][\w .()-]{0,60}")
_PROPERTY = re.compile(r"([A-Za-z_][\w.-]*):([A-Za-z_][\w.-]*)")
_CONTACT = {
    "email": "CiEmailWork", "url": "CiUrlWork", "phone": "CiTelWork", "address": "CiAdrExtadr", "city": "CiAdrCity",
    "region": "CiAdrRegion", "code": "CiAdrPcode", "country": "CiAdrCtry",
}  # fmt: skip
"""The fields of a creator's contact (IPTC Core 1.1, Creator's Contact Info)."""


class Contact(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    email: str = ""
    url: str = ""
    phone: str = ""
    address: str = ""
    city: str = ""
    region: str = ""
    code: str = ""
    country: str = ""


class Template(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What is said of a frame. `{year}` in a text is the year of its taking.

    `fields` are XMP properties by name ("photoshop:Credit"), those of other namespaces with `namespaces`; `look` names an XMP
    packet beside the template.
    """

    title: str = ""
    caption: str = ""
    location: str = ""
    creator: str = ""
    rights: str = ""
    terms: str = ""
    label: str = ""
    keywords: list[str] = []
    people: list[str] = []
    contact: Contact = Contact()
    fields: dict[str, str] = {}
    namespaces: dict[str, str] = {}
    look: str = ""

    def says(self) -> list[tuple[Field, str]]:
        """What is the user's word on a frame."""
        texts: list[tuple[Field, str]] = [
            ("title", self.title), ("caption", self.caption), ("location", self.location), ("creator", self.creator),
            ("rights", self.rights), ("terms", self.terms), ("label", self.label),
            *(("keyword", word) for word in self.keywords), *(("person", name) for name in self.people),
        ]  # fmt: skip
        return [(field, text.strip()) for field, text in texts if text.strip()]


def template_names(library: Library) -> list[str]:
    return _names(library.root)


def _names(root: Path) -> list[str]:
    folder = root / FOLDER
    return sorted(path.stem for path in folder.glob("*.toml")) if folder.is_dir() else []


def read_template(library: Library, name: str) -> Template:
    """Raises WrongUse where there is none of that name, NotPossible for one that cannot be read."""
    return _template(library.root, name)


def _template(root: Path, name: str) -> Template:
    path = root / FOLDER / f"{name}.toml"
    if not _NAME.fullmatch(name) or not path.is_file():
        known = ", ".join(_names(root)) or "none"
        raise WrongUse(
            f"There is no template {name!r}.",
            f"There is: {known}. To make one: bramblemoor template set NAME --creator TEXT.",
        )
    return _read(path, path.stat().st_mtime_ns)


@lru_cache(64)
def _read(path: Path, _: int) -> Template:
    try:
        template = msgspec.toml.decode(path.read_bytes(), type=Template)
        fragment(template, path.parent)
        return template
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise NotPossible(
            f"The template {path} cannot be read: {error}.", "Put it right with an editor and try again."
        ) from error


def write_template(library: Library, name: str, template: Template) -> Path:
    """Raises WrongUse for a name that cannot be, and for properties that are none."""
    import tomlkit

    if not _NAME.fullmatch(name):
        raise WrongUse(f"A template cannot be called {name!r}.", "Use letters, digits and spaces, as studio.")
    folder = library.root / FOLDER
    fragment(template, folder)
    document = tomlkit.document()
    for key, value in msgspec.to_builtins(template).items():
        document.add(key, tomlkit.item(value))
    return write_companion(library, f"{FOLDER}/{name}.toml", tomlkit.dumps(document).encode())


def words_of_templates(library: Library, names: Sequence[str]) -> list[Word]:
    """What templates have the user say of any frame, and that they were applied. Raises WrongUse, NotPossible."""
    found: list[Word] = []
    for name in names:
        found += [Templated(field, text) for field, text in read_template(library, name).says()]
        found.append(Word("template", name))
    return found


def fragments(root: str, names: tuple[str, ...]) -> list[bytes]:
    """What templates add to a sidecar besides the user's words; of one that is gone, or broken, nothing."""
    found = []
    for name in names:
        try:
            packet = fragment(_template(Path(root), name), Path(root) / FOLDER)
        except (WrongUse, NotPossible):
            continue
        found += [packet] if packet is not None else []
    return found


def fragment(template: Template, folder: Path) -> bytes | None:
    """The packet of a template's contact, fields and look; None where it has none. Raises WrongUse, NotPossible."""
    contact = {key: text for key in _CONTACT if (text := getattr(template.contact, key))}
    if not (contact or template.fields or template.look):
        return None
    spaces = NAMESPACES | template.namespaces
    rdf = _look(template, folder) if template.look else etree.Element(f"{{{RDF}}}RDF", nsmap={"rdf": RDF})
    node = etree.SubElement(rdf, f"{{{RDF}}}Description", nsmap=template.namespaces)
    node.set(f"{{{RDF}}}about", "")
    for name, text in template.fields.items():
        match = _PROPERTY.fullmatch(name)
        if match is None or match[1] not in spaces:
            raise WrongUse(
                f"{name!r} is no property of XMP that is known here.",
                f"Write PREFIX:NAME, with one of {', '.join(sorted(NAMESPACES))}; or say what your prefix stands for, in"
                " [namespaces].",
            )
        etree.SubElement(node, f"{{{spaces[match[1]]}}}{match[2]}", nsmap={match[1]: spaces[match[1]]}).text = text
    if contact:
        told = new_property(node, "Iptc4xmpCore:CreatorContactInfo")
        told.set(f"{{{RDF}}}parseType", "Resource")
        for key, text in contact.items():
            etree.SubElement(told, f"{{{NAMESPACES['Iptc4xmpCore']}}}{_CONTACT[key]}").text = text
    return packet_of(rdf)


def _look(template: Template, folder: Path) -> etree._Element:
    """An editor's instructions; what its packet says of the picture that it was written for is left out."""
    path = folder / template.look
    try:
        if "/" in template.look or "\\" in template.look:
            raise OSError(0, "it lies in another folder")
        rdf = parse_packet(path.read_bytes())
    except (OSError, BrokenXmp) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise NotPossible(
            f"The look {path} cannot be read ({why}).",
            "Put the XMP of the look beside the template, or take it out of it.",
        ) from error
    without(rdf, DESCRIPTIVE.__contains__)
    return rdf
