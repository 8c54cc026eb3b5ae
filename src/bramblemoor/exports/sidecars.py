"""What a foreign sidecar says: JSON read leniently, field by field, so that one odd value costs only itself."""

import html
import json
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from bramblemoor.exports.dialect import Dialect, FieldRule
from bramblemoor.frames.claims import Claim, written_position
from bramblemoor.frames.moments import moment_from_epoch, parse_moment
from bramblemoor.frames.xmp_reading import BrokenXmp, read_xmp

MOST_BYTES = 16 << 20
_ABSENT = object()


@dataclass(frozen=True)
class SidecarReading:
    """The claims of one sidecar, how it names its picture ("" where it does not), and what was refused, as sentences."""

    claims: tuple[Claim, ...] = ()
    reference: str = ""
    file_name: str = ""
    sha256: str = ""
    troubles: tuple[str, ...] = ()


@dataclass(frozen=True)
class AlbumReading:
    """An album's description; `order` holds the references of its frames."""

    title: str
    description: str = ""
    reference: str = ""
    order: tuple[str, ...] = ()


class BrokenSidecar(Exception):
    """The document as a whole cannot be read."""


def read_sidecar(content: bytes, name: str, dialect: Dialect) -> SidecarReading:
    """Never raises: a document that cannot be read yields no claims and says why."""
    if name.lower().endswith(".xmp"):
        try:
            return SidecarReading(tuple(read_xmp(content)))
        except BrokenXmp as error:
            return SidecarReading(troubles=(f"the XMP was not read: {error}",))
    try:
        document = _decode(content)
    except BrokenSidecar as error:
        return SidecarReading(troubles=(f"the sidecar was not read: {error}",))
    claims: list[Claim] = []
    troubles: list[str] = []
    for field, rule in dialect.fields.items():
        try:
            claims += [Claim(field, value, "service") for value in _values(document, rule)]
        except (ValueError, OverflowError) as error:
            troubles.append(f"{field} was not understood: {error}")
    if dialect.position is not None:
        try:
            written = _position(document, dialect)
            claims += [Claim("position", written, "service")] if written else []
        except (ValueError, OverflowError) as error:
            troubles.append(f"position was not understood: {error}")
    keys = dialect.sidecar
    reference, file_name, sha256 = (_key(document, key) for key in (keys.reference, keys.file_name, keys.sha256))
    return SidecarReading(tuple(claims), reference, file_name, sha256, tuple(troubles))


def read_album(content: bytes, dialect: Dialect) -> AlbumReading:
    """Raises BrokenSidecar where the description cannot be read or has no title."""
    document = _decode(content)
    keys = dialect.album
    title = _key(document, keys.title) if keys else ""
    if keys is None or not title:
        raise BrokenSidecar("it tells no title")
    order = _find(document, keys.order) if keys.order else []
    members = tuple(_clean(str(item)) for item in order) if isinstance(order, list) else ()
    return AlbumReading(title, _key(document, keys.description), _key(document, keys.reference), members)


def _decode(content: bytes) -> Any:
    if len(content) > MOST_BYTES:
        raise BrokenSidecar(f"it has {len(content)} bytes")
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = content.decode("latin-1")
    try:
        return json.loads(text)
    except RecursionError:
        raise BrokenSidecar("it is nested too deeply") from None
    except ValueError as error:
        raise BrokenSidecar(f"it is not JSON ({error})") from None


def _find(document: Any, pointer: str) -> Any:
    """The value at a JSON pointer (RFC 6901), or _ABSENT."""
    for token in pointer.split("/")[1:]:
        token = token.replace("~1", "/").replace("~0", "~")
        if isinstance(document, dict) and token in document:
            document = document[token]
        elif isinstance(document, list) and token.isdigit() and int(token) < len(document):
            document = document[int(token)]
        else:
            return _ABSENT
    return document


def _key(document: Any, pointer: str) -> str:
    value = _find(document, pointer) if pointer else _ABSENT
    return _clean(value) if isinstance(value, str) else ""


def _values(document: Any, rule: FieldRule) -> Iterator[str]:
    found = _find(document, rule.at)
    if found is _ABSENT or found is None or found == "":
        return
    if rule.each or isinstance(found, list):
        if not isinstance(found, list):
            raise ValueError(f"a list was expected, not {_kind(found)}")
        members = [_find(item, rule.each) for item in found]
    elif rule.separator and isinstance(found, str):
        members = [part.strip() for part in found.split(rule.separator)]
    else:
        members = [found]
    for member in members:
        if member is not _ABSENT and member not in (None, ""):
            value = _written(member, rule.form)
            if value:
                yield value


def _written(value: Any, form: str) -> str:
    if form == "flag":
        if not isinstance(value, bool | int):
            raise ValueError(f"yes or no was expected, not {_kind(value)}")
        return "yes" if value else ""
    if form.startswith("epoch"):
        seconds = float(value) / (1000 if form == "epoch-milliseconds" else 1)
        moment = moment_from_epoch(seconds) if seconds == seconds and seconds else None
        return str(moment) if moment else ""
    if not isinstance(value, str):
        raise ValueError(f"text was expected, not {_kind(value)}")
    if form == "iso":
        told = parse_moment(value)
        if told is None:
            raise ValueError(f"{value[:40]!r} is no ISO 8601 date")
        return str(told)
    return _clean(html.unescape(value) if form == "html" else value).strip()


def _position(document: Any, dialect: Dialect) -> str | None:
    assert dialect.position is not None
    rule = dialect.position
    parts = []
    for pointer in (rule.latitude, rule.longitude):
        value = _find(document, pointer)
        if value is _ABSENT or value is None:
            return None
        if isinstance(value, bool) or not isinstance(value, int | float | str):
            raise ValueError(f"degrees were expected, not {_kind(value)}")
        parts.append(float(value) * rule.scale)
    return written_position(parts[0], parts[1])


def _clean(text: str) -> str:
    """Text without lone surrogates, which no database or XML document takes."""
    return text.encode("utf-8", "replace").decode()


def _kind(value: Any) -> str:
    names = {dict: "an object", list: "a list", str: "text", bool: "yes or no", int: "a number", float: "a number"}
    return names.get(type(value), "nothing")
