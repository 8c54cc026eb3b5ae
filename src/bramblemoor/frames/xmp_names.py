"""The XMP schemas in use (ISO 16684-1, IPTC, CIPA DC-010) and a parser that nothing hostile gets through."""

from typing import Final

from lxml import etree

RDF: Final = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
XML: Final = "http://www.w3.org/XML/1998/namespace"
XMPMETA: Final = "adobe:ns:meta/"
NAMESPACES: Final = {
    "rdf": RDF,
    "dc": "http://purl.org/dc/elements/1.1/",
    "xmp": "http://ns.adobe.com/xap/1.0/",
    "xmpRights": "http://ns.adobe.com/xap/1.0/rights/",
    "xmpMM": "http://ns.adobe.com/xap/1.0/mm/",
    "exif": "http://ns.adobe.com/exif/1.0/",
    "photoshop": "http://ns.adobe.com/photoshop/1.0/",
    "Iptc4xmpCore": "http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/",
    "Iptc4xmpExt": "http://iptc.org/std/Iptc4xmpExt/2008-02-29/",
    "mwg-rs": "http://www.metadataworkinggroup.com/schemas/regions/",
    "stArea": "http://ns.adobe.com/xmp/sType/Area#",
    "bm": "http://ns.bramblemoor.example/1.0/",
}
DESCRIPTIVE: Final = frozenset(NAMESPACES.values()) | {
    XML,
    "http://cipa.jp/exif/1.0/",
    "http://ns.adobe.com/exif/1.0/aux/",
    "http://ns.adobe.com/tiff/1.0/",
    "http://ns.adobe.com/xap/1.0/bj/",
    "http://ns.adobe.com/xmp/note/",
    "http://ns.useplus.org/ldf/xmp/1.0/",
}
"""Namespaces that describe a picture; what else a packet holds are instructions of some editor."""


def qualified(name: str) -> str:
    """{namespace}local for "dc:title"."""
    prefix, _, local = name.partition(":")
    return f"{{{NAMESPACES[prefix]}}}{local}"


def parser(*, as_it_stands: bool = False) -> etree.XMLParser:
    """No entities, no network, no document types loaded, no huge trees.

    `as_it_stands` keeps white space between elements, and CDATA, for what is written again.
    """
    return etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False,
        remove_blank_text=not as_it_stands, strip_cdata=not as_it_stands,
    )  # fmt: skip
