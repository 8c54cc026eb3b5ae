"""Dialects: TOML files that tell how a service writes its exports. docs/dialects.md describes the format."""

import re
import tomllib
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from importlib.resources import files
from pathlib import Path
from typing import Any, get_args

import msgspec

from bramblemoor.disk.names import is_litter
from bramblemoor.errors import WrongUse
from bramblemoor.exports.dialect_rules import KEY, REFERENCES, EntryKind, FieldName, FieldRule, RecordRules, Rules
from bramblemoor.exports.templates import BadTemplate, Template, folded, last_step
from bramblemoor.frames.kinds import is_picture_ending, is_sidecar


class BadDialect(WrongUse):
    """A dialect file that does not follow the format; names file, line and key."""


@dataclass(frozen=True)
class ParsedName:
    """A picture's name taken apart. `number` is that of its counter, "" where it has none."""

    folder: str
    stem: str
    suffix: str
    counter: str
    number: str
    ending: str

    @property
    def frame(self) -> str:
        """What all files of one frame have in common."""
        return f"{self.folder}{self.stem}\0{self.number}"


class Dialect:
    """A checked dialect, ready to be asked."""

    def __init__(self, rules: Rules, source: str) -> None:
        """`source` is the TOML text: with another text, unpacking starts anew."""
        self.source = source
        self.name, self.about = rules.dialect.name, rules.dialect.about
        self.entries, self.names, self.folders = rules.entries, rules.names, rules.folders
        self.sidecar, self.index, self.album = rules.sidecar, rules.index, rules.album
        self.part_pattern = re.compile(rules.dialect.part_name or r"(?P<order>.+)\.(?:zip|tar|tar\.gz|tgz)")
        self.picture_template = Template(rules.names.picture)
        self.sidecar_templates = [Template(source) for source in rules.names.sidecar]
        suffixes = [*rules.names.renditions, *rules.names.clips]
        self._suffixes = set(suffixes)
        self._parsers = [
            self.picture_template.parser(found, counter)
            for found, counter in ((suffixes, rules.names.counter), (suffixes, ""), ((), rules.names.counter))
        ]

    @cached_property
    def _kinds(self) -> list[tuple[EntryKind, re.Pattern[str]]]:
        globs = self.entries
        groups: list[tuple[EntryKind, list[str]]] = [
            ("index", globs.index), ("album", globs.albums), ("sidecar", globs.sidecars), ("picture", globs.pictures),
        ]  # fmt: skip
        return [(kind, matcher(some)) for kind, some in groups if some]

    @cached_property
    def _copies(self) -> re.Pattern[str]:
        return matcher(self.entries.copies)

    @cached_property
    def _albums(self) -> re.Pattern[str]:
        return matcher(self.folders.albums)

    @cached_property
    def _trees(self) -> list[tuple[re.Pattern[str], str]]:
        """Patterns of real folders, with what all folders of one have in common. a/** is a itself too."""
        return [
            (matcher([glob, glob.removesuffix("/**")]), composed(re.split(r"[*?{]", glob)[0].rpartition("/")[0]))
            for glob in self.folders.tree
        ]

    def kind_of(self, entry: str) -> EntryKind:
        """What an archive entry of this name is. An XMP beside a picture is a sidecar in every dialect."""
        plain = composed(entry)
        found: EntryKind = next((kind for kind, pattern in self._kinds if pattern.fullmatch(plain)), "other")
        if found == "picture" and is_litter(entry):
            return "other"
        return "sidecar" if found in ("picture", "other") and is_sidecar(entry) else found

    @property
    def tells_of_each(self) -> bool:
        """Whether a record is to be expected of each picture: in folders of one's own an XMP beside one is the exception."""
        return bool(self.entries.sidecars or self.entries.index)

    def is_copy(self, entry: str) -> bool:
        """Whether an entry lies where frames are delivered again, once for each album."""
        return bool(self.entries.copies) and self._copies.fullmatch(composed(entry)) is not None

    def album_folder(self, entry: str) -> str:
        """The folder that makes a picture a member of an album, "" where there is none."""
        folder = entry.rpartition("/")[0]
        return folder if self.folders.albums and self._albums.fullmatch(composed(folder)) else ""

    def tree_folder(self, entry: str) -> str | None:
        """The folder in which a picture stays, below what all of the tree has in common; None where folders are not real."""
        folder = entry.rpartition("/")[0]
        for pattern, fixed in self._trees:
            if pattern.fullmatch(composed(folder)):
                return folder[_length_in(folder, fixed) :].strip("/")
        return None

    def readings(self, entry: str) -> list[ParsedName]:
        """The ways to take a picture's name apart: with suffix and counter where it has them, with one of them, as it stands.

        Where one of them ends like a picture, those that do not are none: a counter after the ending is no part of it.
        """
        found = list(self._readings(entry))
        return [parsed for parsed in found if is_picture_ending(parsed.ending)] or found

    def _readings(self, entry: str) -> Iterator[ParsedName]:
        folder, slash, name = entry.rpartition("/")
        found: list[ParsedName] = []
        for parser in self._parsers:
            match = parser.fullmatch(name) or parser.fullmatch(composed(name))
            stem, suffix, counter, number, ending = (
                (match.groupdict().get(part) or "" if match else "")
                for part in ("stem", "suffix", "counter", "n", "ending")
            )
            if not (counter or suffix) or stem.startswith("."):
                continue
            parsed = ParsedName(folder + slash, stem, suffix, counter, number, ending)
            # Where all that is left is a suffix, what looks like a counter is rather the name.
            only_suffix = bool(found) and found[0].stem in self._suffixes and not found[0].suffix
            found.insert(0 if only_suffix else len(found), parsed)
        yield from found
        stem, dot, ending = name.rpartition(".")
        yield ParsedName(folder + slash, stem if stem else name, "", "", "", dot + ending if stem else "")

    @property
    def counts_positions(self) -> bool:
        """Whether sidecars are named by the place that their picture has among those of its folder."""
        return any(template.has_word("position") for template in self.sidecar_templates)

    def sidecar_names(self, entry: str, position: int = 0) -> list[str]:
        """The names that the sidecar of a picture may have, the likeliest first: its own before that of what it is an edit of.

        `position` is the picture's place among those of its folder, from 1; without it names that need it are left out.
        """
        found: dict[str, None] = {}
        for parsed in sorted(self.readings(entry), key=lambda parsed: bool(parsed.suffix)):
            found |= dict.fromkeys(self._sidecar_names(parsed, position))
        return list(found)

    def may_be_sidecar_of(self, entry: str, sidecar: str, is_one_folder: bool) -> bool:
        """Whether a sidecar whose name fits nothing may be that of a picture: not where it lies elsewhere than that would, nor
        where it is named as that of a picture which differs from `entry` in nothing but its number.

        Where pictures of one name lie in several folders they have no numbers, and those of sidecars tell nothing, unless
        sidecars are named after the folders, too.
        """
        place = sidecar.rpartition("/")[0]
        if all(name.rpartition("/")[0] != place for name in self.sidecar_names(entry)):
            return False
        by_folder = all(template.has_word("folder") for template in self.sidecar_templates)
        if not self.names.counter or not (by_folder or is_one_folder):
            return True
        others = [
            replace(parsed, number=number, counter=self.names.counter.replace("{n}", number) if number else "")
            for parsed in self.readings(entry)
            for number in {"", *re.findall(r"[0-9]+", sidecar)} - {parsed.number}
        ]
        return all(folded(sidecar) != folded(name) for other in others for name in self._sidecar_names(other, 0))

    def _sidecar_names(self, parsed: ParsedName, position: int) -> Iterator[str]:
        words = self._words(parsed, str(position))
        if parsed.number and self.names.sidecar_counter:
            words["counter"] = self.names.sidecar_counter.replace("{n}", parsed.number)
        for template in self.sidecar_templates:
            if (position or not template.has_word("position")) and (words["number"] or not template.has_word("number")):
                yield template.render(words)

    def _words(self, parsed: ParsedName, position: str) -> dict[str, str]:
        parent = parsed.folder.rstrip("/").rpartition("/")[0]
        return {
            "folder": parsed.folder, "parent": parent + "/" if parent else "", "stem": parsed.stem, "ending": parsed.ending,
            "name": parsed.stem + parsed.ending, "suffix": parsed.suffix, "counter": parsed.counter,
            "number": parsed.stem[len(parsed.stem.rstrip("0123456789")) :], "position": position,
        }  # fmt: skip

    def picture_name(self, told: str, counter: str = "", suffix: str = "") -> str:
        """The name under which the service delivers a picture that is called `told`."""
        stem, dot, ending = told.rpartition(".")
        words = {"stem": stem if stem else told, "ending": dot + ending if stem else "", "name": told}
        return self.picture_template.render(words | {"counter": counter, "suffix": suffix})

    def is_called(self, entry: str, told: str) -> bool:
        """Whether a picture's name is how the service delivers one that is called `told`, sign by sign, but for a number."""
        name = last_step(entry)
        return name == told or any(
            name == self.picture_name(told, parsed.counter, parsed.suffix) for parsed in self.readings(entry)
        )


def composed(name: str) -> str:
    """A name in Unicode normalisation form C, in which dialects are compared with it."""
    return name if name.isascii() else unicodedata.normalize("NFC", name)


def _length_in(folder: str, start: str) -> int:
    """How many characters of a folder, however it is composed, its beginning `start` has."""
    return next(
        (at for at in range(len(folder) + 1) if composed(folder[:at]).casefold() == start.casefold()), len(start)
    )


def matcher(globs: list[str]) -> re.Pattern[str]:
    """A pattern for globs, of composed names: `*` and `?` stay within one folder, `**` crosses folders, `{a,b}` is either."""

    def one(glob: str) -> str:
        tokens = re.split(r"(\*\*/|\*\*|\*|\?|\{[^{}]*\})", glob)
        wild = {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}
        return "".join(
            wild.get(token)
            or (f"(?:{'|'.join(map(re.escape, token[1:-1].split(',')))})" if token[:1] == "{" else re.escape(token))
            for token in tokens
        )

    return re.compile("|".join(one(composed(glob)) for glob in globs), re.IGNORECASE | re.DOTALL)


def known_dialects() -> list[str]:
    return sorted(entry.name.removesuffix(".toml") for entry in files(__package__).joinpath("dialects").iterdir())


def load_dialect(name: str, own: Path | None = None) -> Dialect:
    """A dialect that ships with Bramblemoor or lies in the folder `own`, by name, or one from a file, by its path.

    Raises WrongUse for an unknown name or an absent file, BadDialect for a file that does not follow the format.
    """
    if name in known_dialects():
        text = files(__package__).joinpath("dialects", f"{name}.toml").read_text(encoding="utf-8")
        return read_dialect(text, name)
    path = Path(name)
    if own is not None and (own / f"{name}.toml").is_file():
        path = own / f"{name}.toml"
    if path.suffix != ".toml" and not path.is_file():
        raise WrongUse(
            f"There is no dialect {name!r}.",
            f"Known are {', '.join(known_dialects())}; or name a file of your own, ending in .toml.",
        )
    try:
        text = path.read_text(encoding="utf-8-sig")
    except UnicodeDecodeError:
        raise BadDialect(f"{path} is not UTF-8 text.", "Save it as UTF-8.") from None
    except OSError as error:
        raise WrongUse(f"The dialect {path} cannot be read ({error.strerror}).", "Check the path.") from None
    return read_dialect(text, str(path))


def read_dialect(text: str, name: str) -> Dialect:
    """A dialect from its TOML text; `name` is what errors call it. Raises BadDialect."""
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadDialect(f"{name} is no TOML: {error}.", "Correct that line.") from None
    try:
        rules = msgspec.convert(document, Rules)
    except msgspec.ValidationError as error:
        keys, problem = _misfit(document, error)
        raise _bad(text, name, keys, problem) from None
    for keys, problem in _problems(rules):
        raise _bad(text, name, keys, problem)
    return Dialect(rules, text)


def _misfit(document: dict[str, Any], error: msgspec.ValidationError) -> tuple[list[str], str]:
    """The key that does not fit, and why. Which field of a table of fields it is, the error itself does not tell."""
    reason, _, where = str(error).partition(" - at `")
    for table in ("sidecar", "index"):
        fields = document.get(table, {}).get("fields", {}) if isinstance(document.get(table), dict) else {}
        for field, rule in fields.items() if isinstance(fields, dict) and ".fields" in where else ():
            if field not in get_args(FieldName):
                return [table, "fields", field], f"no such field; there are {', '.join(get_args(FieldName))}"
            try:
                msgspec.convert(rule, FieldRule)
            except msgspec.ValidationError as inner:
                keys, problem = _misfit({}, inner)
                return [table, "fields", field, *keys], problem
    keys = [key for key in re.split(r"[.\[\]]+", where.lstrip("$").rstrip("`")) if key and key != "..."]
    extra = re.search(r"unknown field `(.*)`", reason)
    return [*keys, *([extra[1]] if extra else [])], reason[0].lower() + reason[1:]


def _bad(text: str, name: str, keys: list[str], problem: str) -> BadDialect:
    return BadDialect(
        f"{name}, line {_line_of(text, keys)}, {'.'.join(keys) or 'the file'}: {problem}.",
        "docs/dialects.md lists every key and what it takes; try the file with: bramblemoor dialect try.",
    )


def _line_of(text: str, keys: list[str]) -> int:
    """The line on which the deepest of `keys` that is there stands."""
    table: list[str] = []
    best, depth = 1, 0
    for number, line in enumerate(text.splitlines(), 1):
        heading = re.match(r"\s*\[([^\[\]]+)\]", line)
        if heading:
            table = [step.strip().strip("\"'") for step in heading[1].split(".")]
            reached = table
        else:
            entry = re.match(r"\s*([\w.\"'-]+)\s*=", line)
            reached = table + [step.strip("\"'") for step in entry[1].split(".")] if entry else []
        if reached and reached == keys[: len(reached)] and len(reached) > depth:
            best, depth = number, len(reached)
    return best


def _problems(rules: Rules) -> Iterator[tuple[list[str], str]]:
    """What types cannot tell: patterns, templates, and where values stand."""
    try:
        pattern = re.compile(rules.dialect.part_name)
        if rules.dialect.part_name and "order" not in pattern.groupindex:
            yield (
                ["dialect", "part_name"],
                "a group (?P<order>...) was expected, and (?P<number>...), (?P<total>...) if told",
            )
    except re.error as error:
        yield ["dialect", "part_name"], f"a regular expression was expected ({error})"
    if not rules.entries.pictures:
        yield ["entries", "pictures"], "at least one pattern for the names of pictures was expected"
    try:
        Template(rules.names.picture).parser([*rules.names.renditions, *rules.names.clips], rules.names.counter)
    except BadTemplate as error:
        yield ["names", "picture"], str(error)
    for template in rules.names.sidecar:
        try:
            Template(template)
        except BadTemplate as error:
            yield ["names", "sidecar"], str(error)
    for key in ("counter", "sidecar_counter"):
        written = getattr(rules.names, key)
        if written and written.count("{n}") != 1:
            yield ["names", key], "{n} was expected, once, where the number stands"
    for table, record in (("sidecar", rules.sidecar), ("index", rules.index)):
        if record is not None:
            yield from _record_problems(table, record)


def _record_problems(table: str, record: RecordRules) -> Iterator[tuple[list[str], str]]:
    places: list[tuple[list[str], str]] = [
        ([table, key], getattr(record, key))
        for key in ("items", "path", "file_name", "reference", "sha256", "size", "parts", *REFERENCES)
    ]
    for name, rule in record.fields.items():
        places += [([table, "fields", name, "at"], place) for place in rule.places]
        places.append(([table, "fields", name, "zone_at"], rule.zone_at))
        if rule.form == "date":
            try:
                example = datetime(2024, 3, 4, 5, 6, 7).strftime(rule.pattern)
                datetime.strptime(example, rule.pattern)
                if "%" not in rule.pattern:
                    raise ValueError
            except ValueError:
                yield [table, "fields", name, "pattern"], "a date pattern like '%d.%m.%Y %H:%M' was expected"
        if rule.zone and not re.fullmatch(r"utc|local|[+-]\d\d:\d\d", rule.zone):
            yield [table, "fields", name, "zone"], "utc, local or an offset like +01:00 was expected"
    if record.position is not None:
        found = record.position
        places += [([table, "position", key], getattr(found, key)) for key in ("latitude", "longitude", "pair")]
        if not found.pair and not (found.latitude and found.longitude):
            yield [table, "position"], "latitude and longitude, or pair, were expected"
    for keys, place in places:
        if record.format == "json" and place and not place.startswith("/") and place != KEY:
            yield keys, f"a JSON pointer was expected, which begins with /, or {KEY}, not {place!r}"
        if record.format == "xml" and place:
            from lxml import etree

            try:
                etree.XPath(place, namespaces=record.namespaces or None)
            except etree.XPathSyntaxError as error:
                yield keys, f"an XPath was expected ({error})"
