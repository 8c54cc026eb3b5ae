"""Drafting a dialect: the likeliest rules for a parcel that nobody has described, with what speaks for them.

Rules are found by what agrees with the pictures themselves (names, sizes, digests, dates), then by what keys are called.
"""

import json
import re
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bramblemoor.exports.draft_fields import Found, quoted
from bramblemoor.exports.draft_fields import proposals as proposed
from bramblemoor.exports.sampling import Document, Sample, look_at
from bramblemoor.exports.templates import Template, folded

_INNER = ("{name}", "{stem}", "{stem + counter + ending}", "{name}{counter}", "{stem + ending | replace '.' '_'}",
          "{stem + counter + ending | replace '.' '_'}", "{name | lower}", "{stem | lower}")  # fmt: skip
_COUNTERS = ("({n})", " ({n})", "-{n}", "_{n}", "[{n}]", "~{n}", "{{n}}")
_SUFFIXES = ("-edited", "_edited", "-edit", "-touched", " (edited)", ".edited", "-retouched")


@dataclass(frozen=True)
class Draft:
    """A drafted dialect file, and its proposals one by one. `sidecar_share` is that of pictures with a sidecar."""

    text: str
    proposals: tuple[Found, ...]
    pictures: int
    documents: int
    sidecar: str
    sidecar_share: float


def draft_dialect(path: Path, name: str) -> Draft:
    """Look at a parcel and propose how it is written. Raises WrongUse where no picture is in it."""
    return _Drafting(look_at(path), name).draft()


class _Drafting:
    def __init__(self, sample: Sample, name: str) -> None:
        self.sample, self.name = sample, name
        self.counter = _best_counter(sample.pictures)
        self.renditions = [
            suffix for suffix in _SUFFIXES
            if any(_stem(picture).endswith(suffix) and _stem(picture) != suffix for picture in sample.pictures)
        ]  # fmt: skip

    def draft(self) -> Draft:
        template, share, glob = self._sidecars()
        index = None if share >= 0.2 else self._index()
        records, pairs = (index.many, self._by_index(index)) if index else self._by_sidecar(template)
        described = index or next((doc for doc in self.sample.documents if template and _is_sidecar(doc, glob)), None)
        proposals = tuple(proposed(records, pairs, self.sample)) if records else ()
        text = self._toml(template, glob, index, described, proposals)
        return Draft(text, proposals, len(self.sample.pictures), len(self.sample.others), template, share)

    def _sidecars(self) -> tuple[str, float, str]:
        """The template of sidecars' names that finds most, the share of pictures it fits, and a glob for them."""
        others = set(self.sample.others)
        pictures = self.sample.pictures
        endings = Counter(_tail(name) for name in others).most_common(12)
        folders = Counter(name.rpartition("/")[0] for name in others).most_common(6)
        places = ["{folder}", *(folder + "/" for folder, _ in folders if folder)]
        best: tuple[int, str, str] = (0, "", "")
        for place in places:
            for ending, _ in endings:
                for inner in _INNER:
                    template = place + inner + ending
                    fit = sum(self._name(template, picture) in others for picture in pictures)
                    if fit > best[0]:
                        glob = (place + "*" if place != "{folder}" else "**/*") + ending
                        best = (fit, template, glob)
        return best[1], best[0] / len(pictures), best[2]

    def _name(self, template: str, picture: str) -> str:
        folder, slash, name = picture.rpartition("/")
        stem, dot, ending = name.rpartition(".")
        words = {"folder": folder + slash, "stem": stem or name, "ending": dot + ending if stem else "", "counter": ""}
        pattern = re.escape(self.counter).replace(re.escape("{n}"), "[0-9]+") if self.counter else ""
        match = re.search(pattern + "$", words["stem"]) if pattern else None
        if match and match.start():
            words["counter"], words["stem"] = match[0], words["stem"][: match.start()]
        words["name"] = words["stem"] + words["ending"]
        return Template(template).render(words)

    def _by_sidecar(self, template: str) -> tuple[list[dict[str, list[Any]]], list[str]]:
        documents = {document.name: document for document in self.sample.documents}
        records, pairs = [], []
        for picture in self.sample.pictures:
            document = documents.get(self._name(template, picture)) if template else None
            if document is not None:
                records.append(document.places)
                pairs.append(picture)
        return records, pairs

    def _index(self) -> Document | None:
        """The document whose records name most pictures."""
        names = {folded(picture.rpartition("/")[2]) for picture in self.sample.pictures}

        def named(document: Document) -> int:
            return sum(
                any(folded(str(value).rpartition("/")[2]) in names for values in record.values() for value in values)
                for record in document.many
            )

        best = max(self.sample.documents, key=named, default=None)
        return best if best is not None and named(best) else None

    def _by_index(self, index: Document) -> list[str]:
        by_name = {folded(picture.rpartition("/")[2]): picture for picture in self.sample.pictures}
        return [
            next((by_name[key] for values in record.values() for value in values
                  if (key := folded(str(value).rpartition("/")[2])) in by_name), "")
            for record in index.many
        ]  # fmt: skip

    def _toml(
        self, template: str, glob: str, index: Document | None, described: Document | None, proposals: tuple[Found, ...]
    ) -> str:
        kinds = sorted({name.rpartition("/")[0] for name in self.sample.pictures})
        tops = sorted({kind.partition("/")[0] for kind in kinds})
        pictures = ["**"] if len(tops) > 5 or "" in tops else [f"{top}/**" for top in tops]
        if glob.startswith("**/"):
            glob = glob if len(tops) > 5 or "" in tops else f"{tops[0]}/{glob}" if len(tops) == 1 else glob
        lines = [
            f"# A draft, made by looking at {len(self.sample.parts)} part(s) with {len(self.sample.pictures):,} pictures.",
            "# Check every line, then try it: bramblemoor dialect try PARCEL --dialect THIS-FILE", "",
            "[dialect]", f"name = {quoted(self.name)}",
        ]  # fmt: skip
        if not self.sample.by_hand:
            lines.append(f"part_name = '{_part_pattern(self.sample.parts)}'")
        lines += ["", "[entries]"]
        lines += [f"index = [{quoted(index.name)}]"] if index else []
        lines += [f"sidecars = [{quoted(glob)}]"] if template and not index else []
        lines.append(f"pictures = {json.dumps(pictures, ensure_ascii=False)}")
        copied = _copied_folders(self.sample)
        if copied:
            lines.append(
                f"copies = {json.dumps([f'{folder}/*' for folder in copied])}  # every picture there lies elsewhere too"
            )
            lines += ["", "[folders]", f"albums = {json.dumps(copied)}"]
        lines += ["", "[names]"]
        lines += [f"counter = {quoted(self.counter)}"] if self.counter else []
        lines += [f"renditions = {json.dumps(self.renditions, ensure_ascii=False)}"] if self.renditions else []
        lines += [f"sidecar = [{quoted(template)}]"] if template and not index else []
        if described is None:
            lines += ["", "# No sidecar and no index was found: only what pictures say themselves will be known."]
            return "\n".join(lines) + "\n"
        table = "index" if index else "sidecar"
        form, _, separator = described.format.partition(" ")
        lines += ["", f"[{table}]", f"format = {quoted(form)}"]
        lines += [f"separator = {quoted(separator)}"] if separator else []
        lines += [f"items = {quoted(described.items)}"] if index and described.items else []
        listed = _parts_list(index, self.sample.parts) if index else ""
        lines += [f"parts = {quoted(listed)}  # the names of all parts"] if listed else []
        if described.namespaces:
            inner = ", ".join(f"{prefix} = {quoted(uri)}" for prefix, uri in described.namespaces.items())
            lines.append(f"namespaces = {{ {inner} }}")
        lines += [_line(found) for found in proposals if not found.what.startswith(("field ", "position"))]
        lines += ["", f"[{table}.fields]"]
        lines += [_line(found) for found in proposals if found.what.startswith("field ")]
        positions = [found for found in proposals if found.what.startswith("position")]
        if positions:
            lines += ["", f"[{table}.position]", *(_line(found) for found in positions)]
        return "\n".join(lines) + "\n"


def _line(found: Found) -> str:
    return f"{found.toml}  # in {found.share:.0%}: {found.example[:60]}; {found.why}"


def _parts_list(index: Document, parts: list[str]) -> str:
    """Where an index lists the names of the parts."""
    for place, values in index.places.items():
        if place.endswith("/*") and set(parts) <= {str(value).rpartition("/")[2] for value in values}:
            return place.removesuffix("/*")
    return ""


def _is_sidecar(document: Document, glob: str) -> bool:
    from bramblemoor.exports.dialect import matcher

    return matcher([glob]).fullmatch(document.name) is not None


def _best_counter(pictures: list[str]) -> str:
    """The counter that most pictures have which stand beside one without it."""
    names = set(pictures)

    def uses(counter: str) -> int:
        pattern = re.compile(re.escape(counter).replace(re.escape("{n}"), "[0-9]{1,3}") + r"(?=\.[^./]*$)")
        return sum(bool(pattern.search(name)) and pattern.sub("", name) in names for name in pictures)

    best = max(_COUNTERS, key=uses)
    return best if uses(best) else ""


def _copied_folders(sample: Sample) -> list[str]:
    """Folders that hold nothing but pictures that lie elsewhere too: most likely albums."""
    by_content: dict[tuple[int | None, int], set[str]] = {}
    by_folder: dict[str, list[str]] = {}
    for name in sample.pictures:
        folder = name.rpartition("/")[0]
        by_content.setdefault(sample.contents[name], set()).add(folder)
        by_folder.setdefault(folder, []).append(name)
    largest = max(by_folder, key=lambda folder: len(by_folder[folder]))
    copied = [
        folder
        for folder, names in by_folder.items()
        if folder != largest and all(len(by_content[sample.contents[name]]) > 1 for name in names)
    ]
    parents = Counter(folder.rpartition("/")[0] for folder in copied)
    return sorted(f"{parent}/*" if parent else "*" for parent in parents)


def _stem(name: str) -> str:
    return name.rpartition("/")[2].rpartition(".")[0]


def _tail(name: str) -> str:
    """The ending of a sidecar's name, two steps of it where the first is no picture's."""
    base = name.rpartition("/")[2]
    steps = base.split(".")
    if (
        len(steps) > 2
        and not re.fullmatch(r"(?i)jpe?g|png|heic|heif|avif|webp|dng|tiff?|mp4|mov|gif|raw", steps[-2])
        and len(steps[-2]) < 20
    ):
        return "." + ".".join(steps[-2:])
    return "." + steps[-1] if len(steps) > 1 else ""


def _part_pattern(parts: list[str]) -> str:
    """The names of parts: the number that differs counts them, or is a year; with "of how many" behind it, if that is there."""
    ending = re.search(r"(?:\.tar)?\.\w+$", parts[0])
    stems = [part[: ending.start()] if ending else part for part in parts]
    behind = re.escape(ending[0]) if ending else ""
    split = [re.split(r"(\d+)", stem) for stem in stems]
    alike = all(one[::2] == split[0][::2] for one in split)
    places = [n for n in range(1, len(split[0]), 2) if alike and len({one[n] for one in split}) > 1]
    pieces = split[0]
    if not places and len(pieces) >= 5 and re.fullmatch(r"\D{1,5}", pieces[-3]) and not pieces[-1]:
        places = [len(pieces) - 4]  # one part of one: "1 of 1"
    if not places:
        return rf"(?P<order>.+){behind}"
    at = places[-1]
    number = r"(?P<year>\d{4})" if all(re.fullmatch(r"(19|20)\d\d", one[at]) for one in split) else r"(?P<number>\d+)"
    before, rest = "".join(pieces[:at]), pieces[at + 1 :]
    total = ""
    if len(rest) >= 2 and rest[1].isdecimal() and int(rest[1]) == len(parts) and number.startswith("(?P<number"):
        total, rest = re.escape(rest[0]) + r"(?P<total>\d+)", rest[2:]
    after = "".join(rest)
    order = re.compile(r"(?=[A-Za-z0-9]*\d)(?=[A-Za-z0-9]*[A-Z])[A-Za-z0-9]{4,}")
    if match := order.search(after):
        after = re.escape(after[: match.start()]) + "(?P<order>[A-Za-z0-9]+)" + re.escape(after[match.end() :])
        return re.escape(before) + number + total + after + behind
    head, sign = re.fullmatch(r"(.*?)([^A-Za-z0-9]*)", before, re.DOTALL).groups()  # type: ignore[union-attr]
    return ("(?P<order>.+)" if head else "(?P<order>)") + re.escape(sign) + number + total + re.escape(after) + behind
