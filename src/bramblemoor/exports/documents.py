"""Foreign documents, read leniently: JSON, XML and CSV as trees that values are looked up in."""

import csv
import io
import json
from abc import ABC, abstractmethod
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from lxml import etree

from bramblemoor.exports.dialect_rules import KEY
from bramblemoor.exports.forms import kind_of
from bramblemoor.frames.xmp_names import parser

MOST_BYTES = 256 << 20
ABSENT = object()


class BrokenDocument(Exception):
    """The document as a whole cannot be read; the message says why."""


class Tree(ABC):
    """A document, or a part of one. Values are what JSON knows: text, numbers, yes and no, nothing, lists and objects."""

    @abstractmethod
    def find(self, place: str) -> Any:
        """The value that stands at a place, or ABSENT."""

    @abstractmethod
    def each(self, place: str) -> Iterator["Tree"]:
        """The members of the list that stands at a place. Raises BrokenDocument where there is no list."""

    @abstractmethod
    def members(self, place: str) -> "list[Tree]":
        """What stands at a place, each member of a list by itself, to look into further; none where nothing stands there.

        Raises ValueError where values stand there that hold nothing inside.
        """


@lru_cache(1024)
def _steps(place: str) -> tuple[str, ...]:
    """The steps of a JSON pointer."""
    return tuple(token.replace("~1", "/").replace("~0", "~") for token in place.split("/")[1:])


class JsonTree(Tree):
    """Places are JSON pointers (RFC 6901); in that of a list, a step `*` stands for every member of an outer one.

    `#` is the key under which a member itself stands in an object.
    """

    def __init__(self, value: Any, key: str | None = None) -> None:
        self.value, self._key = value, key

    def find(self, place: str) -> Any:
        if place == KEY:
            return ABSENT if self._key is None else self._key
        value = self.value
        for token in _steps(place):
            if isinstance(value, dict) and token in value:
                value = value[token]
            elif isinstance(value, list) and token.isdecimal() and int(token) < len(value):
                value = value[int(token)]
            else:
                return ABSENT
        return value

    def each(self, place: str) -> Iterator[Tree]:
        before, star, behind = place.partition("/*")
        if star and behind[:1] in ("", "/"):
            return (inner for one in self.each(before) for inner in (one.each(behind) if behind else (one,)))
        found = self.find(place)
        if isinstance(found, dict):
            return (JsonTree(value, key) for key, value in found.items())
        if not isinstance(found, list):
            raise BrokenDocument(f"it has no list at {place or 'its root'}")
        return map(JsonTree, found)

    def members(self, place: str) -> list[Tree]:
        found = self.find(place)
        if found is ABSENT or found is None or found == "":
            return []
        listed = found if isinstance(found, list) else [found]
        inner: list[Tree] = [JsonTree(one) for one in listed if isinstance(one, dict | list)]
        if listed and not inner:
            raise ValueError(f"a list was expected, not {kind_of(found)}")
        return inner


class XmlTree(Tree):
    """Places are XPath 1.0 expressions, relative to the element."""

    def __init__(self, element: etree._Element, namespaces: dict[str, str]) -> None:
        self._element, self._namespaces = element, namespaces

    def _all(self, place: str) -> list[Any]:
        found = self._element.xpath(place, namespaces=self._namespaces or None)
        return found if isinstance(found, list) else [found]

    def find(self, place: str) -> Any:
        values = [self._value(one) for one in self._all(place)]
        return ABSENT if not values else values[0] if len(values) == 1 else values

    def _value(self, found: Any) -> Any:
        if isinstance(found, etree._Element):
            return found if len(found) else (found.text or "")
        return str(found) if isinstance(found, str) else found

    def each(self, place: str) -> Iterator[Tree]:
        for found in self._all(place):
            if isinstance(found, etree._Element):
                yield XmlTree(found, self._namespaces)

    def members(self, place: str) -> list[Tree]:
        found = self._all(place)
        inner: list[Tree] = [XmlTree(one, self._namespaces) for one in found if isinstance(one, etree._Element)]
        if found and not inner:
            raise ValueError("elements were expected, not text")
        return inner


class CsvTree(JsonTree):
    """One row; places are names of columns."""

    def find(self, place: str) -> Any:
        return self.value.get(place, ABSENT)


def decoded(content: bytes) -> str:
    """UTF-8 with or without a byte order mark, UTF-16 with one, else Latin-1, which takes everything."""
    if content[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return content.decode("utf-16", "replace")
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return content.decode("latin-1")


def json_tree(content: bytes) -> JsonTree:
    """Raises BrokenDocument."""
    _require_small(content)
    try:
        return JsonTree(json.loads(decoded(content)))
    except RecursionError:
        raise BrokenDocument("it is nested too deeply") from None
    except ValueError as error:
        raise BrokenDocument(f"it is not JSON ({error})") from None


def xml_tree(content: bytes, namespaces: dict[str, str]) -> XmlTree:
    """Raises BrokenDocument."""
    _require_small(content)
    try:
        root = etree.fromstring(content.strip(b"\0 \t\r\n"), parser())
    except (etree.XMLSyntaxError, ValueError) as error:
        raise BrokenDocument(f"it is not well-formed XML ({error})") from None
    return XmlTree(root, namespaces)


def csv_rows(content: bytes, separator: str) -> Iterator[Tree]:
    """The rows of a CSV document (RFC 4180), by the names in its first line. Raises BrokenDocument."""
    _require_small(content)
    try:
        reader = csv.DictReader(io.StringIO(decoded(content), newline=""), delimiter=separator)
        for row in reader:
            yield CsvTree({name: value for name, value in row.items() if isinstance(name, str)})
    except csv.Error as error:
        raise BrokenDocument(f"it is not CSV ({error})") from None


def _require_small(content: bytes) -> None:
    if len(content) > MOST_BYTES:
        raise BrokenDocument(f"it has {len(content):,} bytes, more than {MOST_BYTES:,}")
