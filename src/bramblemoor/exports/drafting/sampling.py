"""Looking at a parcel that nobody has described: what its entries are, and a sample of pictures and documents."""

import hashlib
import json
import re
from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lxml import etree

from bramblemoor.errors import WrongUse
from bramblemoor.exports.containers import open_part
from bramblemoor.exports.containers.interface import Entry
from bramblemoor.exports.dialect_rules import KEY
from bramblemoor.exports.documents import BrokenDocument, csv_rows, decoded, json_tree, xml_tree
from bramblemoor.frames.kinds import HEAD, kind_of, media_type
from bramblemoor.frames.reading import PictureReading, read_picture
from bramblemoor.frames.source import MemorySource

_PICTURES, _DOCUMENTS = 400, 120  # looked into
_MOST_READ = 256 << 20  # bytes of pictures, all together
_KEYED = 3  # members that an object must have to be taken for a list
_MOST_PICTURE, _MOST_DOCUMENT, _MOST_INDEX = 8 << 20, 1 << 20, 64 << 20


@dataclass
class Document:
    """A document as flat places and values; `lists` are the lists of objects in it, each with where it stands."""

    name: str
    format: str
    places: dict[str, list[Any]]
    lists: list[tuple[str, list[dict[str, list[Any]]]]] = field(default_factory=list)
    namespaces: dict[str, str] = field(default_factory=dict)


@dataclass
class Sample:
    """What a parcel holds. `pictures` are names; `looked` are those that were read; `rest` counts other entries by pattern."""

    parts: list[str] = field(default_factory=list)
    by_hand: bool = False  # a folder that somebody unpacked
    pictures: list[str] = field(default_factory=list)
    others: list[str] = field(default_factory=list)
    looked: dict[str, PictureReading] = field(default_factory=dict)
    contents: dict[str, tuple[int | None, int]] = field(default_factory=dict)  # CRC-32, where told, and size
    digests: dict[str, str] = field(default_factory=dict)
    documents: list[Document] = field(default_factory=list)


def look_at(path: Path) -> Sample:
    """Read the directory of every part, and a sample of what is in them. Raises WrongUse where nothing is there."""
    sample = Sample()
    read = 0
    parts = _parts(path)
    sample.by_hand = parts[0].is_dir()
    for part_path in parts:
        sample.parts.append(part_path.name)
        with closing(open_part(part_path)) as part:
            entries = list(part.entries())
            for entry in entries:
                sample.contents[entry.name] = (entry.crc32 if entry.crc32 is not None else entry.at, entry.size)
            shown = _spread([entry for entry in entries if not _is_text(entry.name)], _PICTURES // len(parts) + 1)
            endings: Counter[str] = Counter()
            chosen = {entry.at for entry in shown}
            for entry in entries:
                if entry.at in chosen and entry.size <= _MOST_PICTURE and read < _MOST_READ:
                    read += entry.size
                    content = b"".join(part.content(entry))
                    if kind_of(media_type(content[:HEAD])) != "other":
                        endings[_ending(entry.name)] += 1
                        sample.looked[entry.name] = read_picture(MemorySource(content))
                        sample.digests[entry.name] = hashlib.sha256(content).hexdigest()
            for entry in entries:
                is_picture = _ending(entry.name) in endings or entry.name in sample.looked
                (sample.pictures if is_picture else sample.others).append(entry.name)
            names = set(sample.pictures)
            documents = [entry for entry in entries if entry.name not in names]
            large = {entry.at for entry in documents if _MOST_DOCUMENT < entry.size <= _MOST_INDEX}
            # A list for each folder has one name in all of them; what has a name of its own is mostly a list of everything.
            names_of = Counter(entry.name.rpartition("/")[2] for entry in documents)
            listing = [entry for entry in documents if names_of[entry.name.rpartition("/")[2]] > 1] or documents
            chosen = {entry.at for entry in _spread(documents, _DOCUMENTS // len(parts) + 1)} | large
            chosen |= {entry.at for entry in _spread(listing, _DOCUMENTS // len(parts) + 1)}
            chosen |= {entry.at for entry in sorted(documents, key=lambda one: -one.size)[:3]}
            for entry in documents:
                if entry.at in chosen and entry.size <= _MOST_INDEX:
                    sample.documents += list(_document(entry.name, b"".join(part.content(entry))))
    if not sample.pictures:
        raise WrongUse(
            f"No picture was found in {path}.", "Name the folder that holds the parts of an export, or one part."
        )
    return sample


def read_documents(path: Path, names: Collection[str]) -> Iterator[Document]:
    """The documents of these names, as far as they can be looked into."""
    wanted = set(names)
    for part_path in _parts(path):
        with closing(open_part(part_path)) as part:
            for entry in part.entries():
                if entry.name in wanted and entry.size <= _MOST_DOCUMENT:
                    yield from _document(entry.name, b"".join(part.content(entry)))


def _parts(path: Path) -> list[Path]:
    return [path] if path.is_file() or not _archives(path) else _archives(path)


def _archives(path: Path) -> list[Path]:
    if not path.is_dir():
        raise WrongUse(f"There is no {path}.", "Name the folder that holds the parts, or a part.")
    endings = (".zip", ".tar", ".tgz", ".tar.gz")
    return [file for file in sorted(path.iterdir()) if file.is_file() and file.name.lower().endswith(endings)]


def _is_text(name: str) -> bool:
    return _ending(name) in (".json", ".xml", ".csv", ".txt", ".xmp", ".html", ".md", ".slip")


def _ending(name: str) -> str:
    base = name.rpartition("/")[2]
    return "." + base.rpartition(".")[2].lower() if "." in base else ""


def _spread(entries: list[Entry], most: int) -> list[Entry]:
    """Entries from all over the list."""
    return entries[:: max(1, len(entries) // most)]


def _document(name: str, content: bytes) -> Iterator[Document]:
    """A document that can be looked into, as flat places and values."""
    start = decoded(content[:4096]).lstrip()
    try:
        if start[:1] in ("{", "["):
            tree = json_tree(content).value
            document = Document(name, "json", _flat(tree))
            document.lists = [
                (items, [_flat(one) | ({} if key is None else {KEY: [key]}) for key, one in listed])
                for items, listed in _lists(tree, "").items()
            ]
            yield document
        elif start[:1] == "<" and not name.lower().endswith((".xmp", ".html")):
            yield from _xml_document(name, content)
        elif name.lower().endswith(".csv") and "\n" in start:
            separator = max((",", ";", "\t"), key=start.partition("\n")[0].count)
            rows = [{key: [value] for key, value in tree.value.items()} for tree in csv_rows(content, separator)]  # type: ignore[attr-defined]
            yield Document(name, f"csv {separator}", {}, [("", rows)])
    except BrokenDocument:
        return


def _flat(tree: Any, place: str = "") -> dict[str, list[Any]]:
    """Pointers to all simple values; within a list, `*` stands for every member."""
    found: dict[str, list[Any]] = {}
    if isinstance(tree, dict):
        for key, value in tree.items():
            step = str(key).replace("~", "~0").replace("/", "~1")
            for inner, values in _flat(value, f"{place}/{step}").items():
                found.setdefault(inner, []).extend(values)
    elif isinstance(tree, list):
        for value in tree[:1000]:
            for inner, values in _flat(value, f"{place}/*").items():
                found.setdefault(inner, []).extend(values)
    else:
        found[place] = [tree]
    return found


def _lists(tree: Any, place: str) -> dict[str, list[tuple[str | None, Any]]]:
    """Lists of objects, and objects that are lists by their keys, by pointer; `*` stands for every member of an outer list.

    Each member comes with its key, None in a list.
    """
    found: dict[str, list[tuple[str | None, Any]]] = {}
    if isinstance(tree, list) or _is_keyed(tree):
        named: Iterable[tuple[str | None, Any]] = (
            tree.items() if isinstance(tree, dict) else ((None, one) for one in tree)
        )
        members = [(key, one) for key, one in named if isinstance(one, dict)]
        if members:
            found[place] = members
        for _, one in members[:2000]:
            for inner, listed in _lists(one, f"{place}/*").items():
                found.setdefault(inner, []).extend(listed)
    elif isinstance(tree, dict):
        for key, value in tree.items():
            for inner, listed in _lists(value, f"{place}/{str(key).replace('~', '~0').replace('/', '~1')}").items():
                found.setdefault(inner, []).extend(listed)
    return found


def _is_keyed(tree: Any) -> bool:
    """Whether the keys of an object are values, and not names of fields: its members are objects that have keys in common."""
    if not isinstance(tree, dict) or len(tree) < _KEYED or not all(isinstance(one, dict) for one in tree.values()):
        return False
    keys = Counter(key for one in tree.values() for key in one)
    return bool(keys) and keys.most_common(1)[0][1] > len(tree) / 2


def _xml_document(name: str, content: bytes) -> Iterator[Document]:
    root = xml_tree(content, {})._element
    spaces: dict[str, str] = {}
    for element in root.iter(etree.Element):
        uri = etree.QName(element).namespace
        if uri and uri not in spaces.values():
            spaces[f"n{len(spaces) + 1}"] = uri
    prefixes = {uri: prefix for prefix, uri in spaces.items()}

    def step(element: Any) -> str:
        named = etree.QName(element)
        return f"{prefixes[named.namespace]}:{named.localname}" if named.namespace else named.localname

    def flat(element: Any, place: str) -> dict[str, list[Any]]:
        found: dict[str, list[Any]] = {}
        for key, value in element.attrib.items():
            if not re.match(r"\{", key):
                found.setdefault(f"{place}@{key}", []).append(value)
        for child in element.iterchildren(etree.Element):
            here = f"{place}{step(child)}"
            if len(child):
                for inner, values in flat(child, here + "/").items():
                    found.setdefault(inner, []).extend(values)
            else:
                found.setdefault(here, []).append(child.text or "")
        return found

    document = Document(name, "xml", flat(root, ""), namespaces=spaces)
    paths: dict[str, list[Any]] = {}

    def walk(element: Any, place: str) -> None:
        for child in element.iterchildren(etree.Element):
            here = f"{place}/{step(child)}" if place else step(child)
            paths.setdefault(here, []).append(child)
            walk(child, here)

    walk(root, "")
    for place, elements in paths.items():
        if any(len(one) or one.attrib for one in elements):
            document.lists.append((place, [flat(one, "") for one in elements]))
    yield document


def first_text(values: list[Any]) -> str:
    return next((json.dumps(value, ensure_ascii=False) for value in values if value not in (None, "")), "")
