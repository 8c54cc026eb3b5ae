"""What exports say of pictures: records of sidecars and indexes, read field by field; one odd value costs only itself."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from bramblemoor.exports import forms
from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.dialect_rules import REFERENCES, AlbumRules, FieldRule, PositionRule, RecordRules
from bramblemoor.exports.documents import ABSENT, BrokenDocument, Tree, csv_rows, json_tree, xml_tree
from bramblemoor.frames.claims import Claim, written_position
from bramblemoor.frames.kinds import is_sidecar
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import has_edits, read_xmp


@dataclass(frozen=True)
class Record:
    """The claims of one record, how it names its picture ("" where it does not), and what was refused, as sentences.

    `path` is an entry's name, or its end; `size` is in bytes, 0 where not told; `albums` are titles. `refers` are (what,
    name): the record is of an edit or a clip of what is called so ("edit_of", "clip_of"), or has one ("edits", "clips").
    """

    claims: tuple[Claim, ...] = ()
    path: str = ""
    file_name: str = ""
    reference: str = ""
    sha256: str = ""
    size: int = 0
    albums: tuple[str, ...] = ()
    troubles: tuple[str, ...] = ()
    edits: bool = False
    refers: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class AlbumReading:
    """An album's description; `order` holds how its frames are named: references, paths or file names."""

    title: str
    description: str = ""
    reference: str = ""
    order: tuple[str, ...] = ()
    cover: str = ""


def read_sidecar(content: bytes, name: str, dialect: Dialect) -> list[Record]:
    """The records of a sidecar, mostly one. Never raises: a document that cannot be read makes a record that says why."""
    rules = dialect.sidecar
    if not is_sidecar(name):
        try:
            return list(read_records(content, rules))
        except BrokenDocument as error:
            return [Record(troubles=(f"the sidecar was not read: {error}",))]
    try:
        record = Record(tuple(read_xmp(content)), edits=has_edits(content))
        if rules.format == "xml":
            further = next(read_records(content, rules))
            record = replace(further, claims=record.claims + further.claims, edits=record.edits)
        return [record]
    except (BrokenXmp, BrokenDocument) as error:
        return [Record(troubles=(f"the XMP was not read: {error}",))]


def read_records(content: bytes, rules: RecordRules) -> Iterator[Record]:
    """The records of a document. Raises BrokenDocument."""
    for tree in trees(content, rules):
        yield _record(tree, rules)


def trees(content: bytes, rules: RecordRules) -> Iterator[Tree]:
    """The places in a document where records stand. Raises BrokenDocument."""
    if rules.format == "csv":
        yield from csv_rows(content, rules.separator)
        return
    root: Tree = json_tree(content) if rules.format == "json" else xml_tree(content, rules.namespaces)
    if rules.items:
        yield from root.each(rules.items)
    else:
        yield root


def parts_listed(content: bytes, rules: RecordRules) -> tuple[str, ...]:
    """The parts that an index lists by name; their numbers as text where it tells only how many there are."""
    if not rules.parts or rules.format == "csv":
        return ()
    root: Tree = json_tree(content) if rules.format == "json" else xml_tree(content, rules.namespaces)
    found = root.find(rules.parts)
    if isinstance(found, list):
        return tuple(str(name) for name in found)
    if isinstance(found, int | float | str) and str(found).isdecimal():
        return tuple(str(number) for number in range(1, min(int(found), 100_000) + 1))
    return () if found is ABSENT else (str(found),)


def _record(tree: Tree, rules: RecordRules) -> Record:
    claims: list[Claim] = []
    albums: list[str] = []
    troubles: list[str] = []
    for field, rule in rules.fields.items():
        values, refused = values_of(tree, rule)
        troubles += [f"{field} was not understood: {reason}" for reason in refused]
        if field == "album":
            albums += values
        else:
            many = field in ("keyword", "person")
            claims += [Claim(field, value, "service") for value in (values if many else values[:1])]
    if rules.position is not None:
        try:
            written = position_of(tree, rules.position)
            claims += [Claim("position", written, "service")] if written else []
        except ValueError as error:
            troubles.append(f"position was not understood: {error}")
    size = _key(tree, rules.size)
    return Record(
        claims=tuple(claims),
        path=_key(tree, rules.path).lstrip("/").removeprefix("./"),
        file_name=_key(tree, rules.file_name),
        reference=_key(tree, rules.reference),
        sha256=_key(tree, rules.sha256).lower(),
        size=int(size) if size.isdecimal() else 0,
        albums=tuple(albums),
        troubles=tuple(troubles),
        refers=tuple((what, name) for what in REFERENCES for name in _names_at(tree, getattr(rules, what))),
    )


def _names_at(tree: Tree, place: str) -> list[str]:
    """References, paths or file names that stand at a place."""
    found = tree.find(place) if place else ABSENT
    listed = found if isinstance(found, list) else [found]
    return [
        forms.clean(str(one)).strip()
        for one in listed
        if isinstance(one, str | int) and not isinstance(one, bool) and one != ""
    ]


def values_of(tree: Tree, rule: FieldRule) -> tuple[list[str], list[str]]:
    """The values of a field as claims write them, from the first place that says something; and what was refused, as reasons."""
    refused: list[str] = []
    for place in rule.places:
        values: list[str] = []
        for member in _members(tree, place, rule, refused):
            if member is ABSENT or member is None or member == "" or _is_unknown(member, rule.unknown):
                continue
            try:
                value = _written(member, rule)
                if value and rule.zone_at:
                    value = forms.with_zone(value, tree.find(rule.zone_at))
            except (ValueError, OverflowError) as error:
                refused.append(str(error))
                continue
            if value and not _is_unknown(value, rule.unknown):
                values.append(value)
        if values:
            return list(dict.fromkeys(values)), refused
    return [], refused


def _written(member: Any, rule: FieldRule) -> str:
    if rule.means:
        word = str(member).strip()
        return rule.means.get(word, rule.means.get(word.lower(), ""))
    return forms.written(member, rule.form, rule.pattern, rule.zone)


def _members(tree: Tree, place: str, rule: FieldRule, refused: list[str]) -> list[Any]:
    if rule.each:
        try:
            return [item.find(rule.each) for item in tree.members(place)]
        except ValueError as error:
            refused.append(str(error))
            return []
    found = tree.find(place)
    if rule.separator and isinstance(found, str):
        return [part.strip() for part in found.split(rule.separator)]
    return found if isinstance(found, list) else [found]


def _is_unknown(value: Any, unknown: list[Any]) -> bool:
    return bool(unknown) and any(value == word or str(value).strip() == str(word) for word in unknown)


def position_of(tree: Tree, rule: PositionRule) -> str | None:
    """The text of a position claim, None where nothing is told. Raises ValueError for what is no position."""
    if rule.pair:
        pair = tree.find(rule.pair)
        values = pair.replace(";", ",").split(",") if isinstance(pair, str) else pair
        if pair is ABSENT or pair is None or pair == "" or _is_unknown(pair, rule.unknown):
            return None
        if not isinstance(values, list) or len(values) < 2:
            raise ValueError(f"two numbers were expected, not {forms.shown(pair)}")
        found = values[:2] if rule.order == "latitude-longitude" else values[1::-1]
    else:
        found = [tree.find(rule.latitude), tree.find(rule.longitude)]
    if any(value is ABSENT or value is None or value == "" or _is_unknown(value, rule.unknown) for value in found):
        return None
    latitude, longitude = (forms.degrees(value, rule.scale) for value in found)
    if not (-90 <= latitude <= 90 and -180 <= longitude <= 180):
        raise ValueError(f"{latitude:g}, {longitude:g} is not on the globe")
    return written_position(latitude, longitude)


def _key(tree: Tree, place: str) -> str:
    value = tree.find(place) if place else ABSENT
    if isinstance(value, bool) or not isinstance(value, str | int):
        return ""
    return forms.clean(str(value)).strip()


def read_albums(content: bytes, dialect: Dialect) -> Iterator[AlbumReading]:
    """The albums that a document describes. Raises BrokenDocument where one cannot be read or has no title."""
    rules = dialect.album
    if rules is None:
        return
    if rules.format == "csv":
        yield from _albums_in_rows(content, rules)
        return
    root: Tree = json_tree(content) if rules.format == "json" else xml_tree(content, rules.namespaces)
    for tree in root.each(rules.items) if rules.items else [root]:
        title = _text(tree, rules.title, rules.form)
        if not title:
            raise BrokenDocument("it tells no title")
        yield AlbumReading(
            title,
            _text(tree, rules.description, rules.form),
            _key(tree, rules.reference),
            _order(tree, rules),
            _key(tree, rules.cover),
        )


def _albums_in_rows(content: bytes, rules: AlbumRules) -> Iterator[AlbumReading]:
    """Albums of which each row tells one member, or all of them; rows of one reference, or one title, are of one album."""
    found: dict[str, AlbumReading] = {}
    for tree in csv_rows(content, rules.separator):
        title = _text(tree, rules.title, rules.form)
        if not title:
            continue
        reference = _key(tree, rules.reference)
        one = found.get(reference or title, AlbumReading(title, reference=reference))
        found[reference or title] = replace(
            one, order=one.order + _order(tree, rules), cover=one.cover or _key(tree, rules.cover),
            description=one.description or _text(tree, rules.description, rules.form),
        )  # fmt: skip
    yield from found.values()


def _order(tree: Tree, rules: AlbumRules) -> tuple[str, ...]:
    """How the members of an album are named."""
    if not rules.order:
        return ()
    if rules.each:
        try:
            listed = [item.find(rules.each) for item in tree.members(rules.order)]
        except ValueError as error:
            raise BrokenDocument(str(error)) from None
    else:
        order = tree.find(rules.order)
        listed = order if isinstance(order, list) else [order]
    if rules.order_separator:
        listed = [part.strip() for one in listed if isinstance(one, str) for part in one.split(rules.order_separator)]
    return tuple(forms.clean(str(item)) for item in listed if item is not ABSENT and item is not None and item != "")


def _text(tree: Tree, place: str, form: forms.Form) -> str:
    """A text, unescaped; as it stands where it cannot be."""
    found = _key(tree, place)
    try:
        return forms.written(found, form) if found else ""
    except ValueError:
        return found
