"""Drafting a dialect: the likeliest rules for a parcel that nobody has described, with what speaks for them.

Rules are found by what agrees with the pictures themselves: names, sizes, digests, dates, positions and words.
"""

import json
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from bramblemoor.exports.drafting.fields import proposals
from bramblemoor.exports.drafting.names import (
    SidecarNames,
    counter_of,
    part_pattern,
    sidecar_files,
    sidecar_names,
    suffixes_of,
)
from bramblemoor.exports.drafting.records import Found, Records, quoted
from bramblemoor.exports.drafting.sampling import Document, Sample, look_at, read_documents
from bramblemoor.exports.templates import folded
from bramblemoor.frames.kinds import ending_of
from bramblemoor.frames.moments import parse_moment

_ENOUGH = 0.2  # of the pictures: fewer sidecars or lines are chance
_MOST_RECORDS = 3000


@dataclass(frozen=True)
class Draft:
    """A drafted dialect file, and its proposals one by one. `sidecar_share` is that of pictures with a sidecar."""

    text: str
    proposals: tuple[Found, ...]
    pictures: int
    documents: int
    sidecar: str
    sidecar_share: float


@dataclass
class _Index:
    """Documents that list pictures: their names, how they are written, where the list stands, and its records with their
    pictures.
    """

    names: list[str]
    format: str
    items: str
    namespaces: dict[str, str]
    records: list[dict[str, list[Any]]] = field(default_factory=list)
    pairs: list[str] = field(default_factory=list)

    @property
    def found(self) -> int:
        return len(set(filter(None, self.pairs)))

    def share_of(self, pictures: int) -> float:
        """The share of so many pictures that it tells of; 0 where hardly any of its records tell of one."""
        by_chance = self.found < _ENOUGH * min(pictures, len(self.pairs))
        return 0.0 if by_chance else self.found / pictures


def draft_dialect(path: Path, name: str) -> Draft:
    """Look at a parcel and propose how it is written. Raises WrongUse where no picture is in it."""
    return _Drafting(path, look_at(path), name).draft()


class _Drafting:
    def __init__(self, path: Path, sample: Sample, name: str) -> None:
        self.path, self.sample, self.name = path, sample, name
        self.counter = counter_of(sample.pictures)
        self.renditions = suffixes_of(sample.pictures)
        self.by_base: dict[str, list[str]] = {}
        for picture in sample.pictures:
            self.by_base.setdefault(folded(picture.rpartition("/")[2]), []).append(picture)
        self.by_digest = {digest: picture for picture, digest in sample.digests.items()}

    def draft(self) -> Draft:
        pictures = self.sample.pictures
        names = sidecar_names(pictures, self.sample.others, self.counter)
        index = self._index()
        if index is not None and names.share >= max(_ENOUGH, index.share_of(len(pictures))):
            index = None
        if index is None and names.share < _ENOUGH:
            names = SidecarNames()
        records, namespaces, form = Records([], []), {}, ""
        if index is not None:
            names = SidecarNames()
            records, namespaces, form = Records(index.records, index.pairs), index.namespaces, index.format
        elif names.template:
            records, namespaces, form = self._of_sidecars(names)
            form = form or ("xmp" if names.glob.lower().endswith(".xmp") else "")
        found = tuple(proposals(records, self.sample)) if records.count else ()
        text = self._toml(names, index, form, namespaces, found)
        return Draft(text, found, len(pictures), len(self.sample.others), names.template, names.share)

    def _of_sidecars(self, names: SidecarNames) -> tuple[Records, dict[str, str], str]:
        """The sidecars of the pictures that were looked into."""
        pairs = sidecar_files(names.template, list(self.sample.looked) or self.sample.pictures[:400], self.counter)
        documents = {one.name: one for one in read_documents(self.path, set(pairs.values()))}
        both = [(documents[sidecar], picture) for picture, sidecar in pairs.items() if sidecar in documents]
        namespaces = next((document.namespaces for document, _ in both if document.namespaces), {})
        form = both[0][0].format if both else ""
        return Records([document.places for document, _ in both], [picture for _, picture in both]), namespaces, form

    def _index(self) -> _Index | None:
        """The list, or the lists of one name, whose records name most pictures."""
        groups: dict[tuple[str, str, str], _Index] = {}
        for document in self.sample.documents:
            base = document.name.rpartition("/")[2]
            for items, records in document.lists:
                one = groups.setdefault(
                    (base, document.format, items), _Index([], document.format, items, document.namespaces)
                )
                one.names.append(document.name)
                self._pair(one, document, records)
        best = max(groups.values(), key=lambda one: (one.found, -len(one.items)), default=None)
        return best if best is not None and best.found else None

    def _pair(self, index: _Index, document: Document, records: Sequence[dict[str, list[Any]]]) -> None:
        """Note records with the pictures that they name: by path or name, beside their list first, or by digest."""
        folder = document.name.rpartition("/")[0]
        for record in records[: max(0, _MOST_RECORDS - len(index.records))]:
            picture = ""
            for values in record.values():
                for value in values:
                    if not isinstance(value, str) or not value:
                        continue
                    key = folded(value.replace("\\", "/").rpartition("/")[2])
                    same = self.by_base.get(key, ())
                    beside = [one for one in same if one.rpartition("/")[0] == folder] or list(same)
                    told = [
                        one for one in same if folded(one).endswith("/" + folded(value.lstrip("./"))) or one == value
                    ]
                    chosen = told if len(told) == 1 else beside
                    picture = self.by_digest.get(value.lower(), "") or (chosen[0] if len(chosen) == 1 else picture)
                if picture:
                    break
            index.records.append(record)
            index.pairs.append(picture)

    def _toml(
        self, names: SidecarNames, index: _Index | None, form: str, namespaces: dict[str, str], found: tuple[Found, ...]
    ) -> str:
        sample = self.sample
        pictures = _picture_globs(sample)
        in_folders = any("/" in one for one in sample.pictures)
        own_folders = sample.by_hand and in_folders and index is None and form in ("", "xmp")
        lines = [
            f"# A draft, made by looking at {len(sample.parts)} part(s) with {len(sample.pictures):,} pictures.",
            "# Read every line, then see what it makes of the export: bramblemoor dialect try, with it and this file.", "",
            "[dialect]", f"name = {quoted(self.name)}",
        ]  # fmt: skip
        if not sample.by_hand:
            lines.append(f"part_name = '{part_pattern(sample.parts)}'")
        lines += ["", "[entries]"]
        lines += [f"index = {json.dumps(_globs(index.names), ensure_ascii=False)}"] if index else []
        lines += [f"sidecars = [{quoted(names.glob)}]"] if names.template and not own_folders else []
        lines.append(f"pictures = {json.dumps(pictures, ensure_ascii=False)}")
        copied = _copied_folders(sample)
        if copied:
            globs = json.dumps([f"{folder}/*" for folder in copied], ensure_ascii=False)
            lines += [f"copies = {globs}  # every picture there lies elsewhere too", "", "[folders]"]
            lines.append(f"albums = {json.dumps(copied, ensure_ascii=False)}")
        elif own_folders:
            lines += ["", "[folders]", 'tree = ["**"]  # no service tells of them: the folders are kept as they are']
        lines += ["", "[names]"]
        lines += [f"counter = {quoted(self.counter)}"] if self.counter else []
        lines += [f"renditions = {json.dumps(self.renditions, ensure_ascii=False)}"] if self.renditions else []
        lines += [f"sidecar = [{quoted(names.template)}]"] if names.template else []
        if not form or own_folders:
            lines += ["", "# No index was found: what pictures say themselves, and XMP beside them, will be known."]
            return "\n".join(lines) + "\n"
        table = "index" if index else "sidecar"
        form, _, separator = form.partition(" ")
        lines += ["", f"[{table}]", f"format = {quoted(form)}"]
        lines += [f"separator = {quoted(separator)}"] if separator else []
        lines += [f"items = {quoted(index.items)}"] if index and index.items else []
        listed = _parts_list(sample, index) if index else ""
        lines += [f"parts = {quoted(listed)}  # the names of all parts"] if listed else []
        if namespaces:
            inner = ", ".join(f"{prefix} = {quoted(uri)}" for prefix, uri in namespaces.items())
            lines.append(f"namespaces = {{ {inner} }}")
        lines += [_line(one) for one in found if not one.what.startswith(("field ", "position"))]
        lines += ["", f"[{table}.fields]"]
        lines += [_line(one) for one in found if one.what.startswith("field ")]
        positions = [one for one in found if one.what.startswith("position")]
        if positions:
            lines += ["", f"[{table}.position]", *(_line(one) for one in positions)]
        return "\n".join(lines) + "\n"


def _picture_globs(sample: Sample) -> list[str]:
    """Globs for the pictures; by their endings where all have one, so that texts beside them become no frames."""
    endings = sorted({ending_of(name)[1:].lower() for name in sample.pictures})
    tops = sorted({name.partition("/")[0] if "/" in name else "" for name in sample.pictures})
    names = "" if "" in endings else f"/*.{{{','.join(endings)}}}" if len(endings) > 1 else f"/*.{endings[0]}"
    return [f"**{names}"] if len(tops) > 5 or "" in tops else [f"{top}/**{names}" for top in tops]


def _line(found: Found) -> str:
    example = found.example[:60].replace("\n", " ")
    return f"{found.toml}  # in {found.share:.0%}: {example}; {found.why}"


def _globs(names: Sequence[str]) -> list[str]:
    """Globs for the documents that list pictures: of several of one name in many folders, that name."""
    distinct = sorted(set(names))
    if len(distinct) <= 2:
        return distinct
    bases = {name.rpartition("/")[2] for name in distinct}
    return [f"**/{base}" for base in sorted(bases)]


def _parts_list(sample: Sample, index: _Index) -> str:
    """Where an index lists the names of the parts."""
    for document in sample.documents:
        for place, values in document.places.items() if document.name in index.names else ():
            listed = {str(value).rpartition("/")[2] for value in values}
            if place.endswith("/*") and set(sample.parts) <= listed:
                return place.removesuffix("/*")
    return ""


def _copied_folders(sample: Sample) -> list[str]:
    """Folders that hold nothing but pictures that lie elsewhere too, and are no stretch of time: most likely albums."""
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
        if folder != largest
        and all(len(by_content[sample.contents[name]]) > 1 for name in names)
        and not _is_of_a_time(folder, names, sample)
    ]
    parents = Counter(folder.rpartition("/")[0] for folder in copied)
    return sorted(f"{parent}/*" if parent else "*" for parent in parents)


def _is_of_a_time(folder: str, names: Sequence[str], sample: Sample) -> bool:
    """Whether a folder is named after the year or month in which all its pictures were taken, as far as they tell."""
    digits = re.findall(r"\d+", folder.rpartition("/")[2] or folder)
    moments = [moment for name in names for moment in _taken(name, sample)]
    year = next((one for one in re.findall(r"(?<!\d)(?:19|20)\d\d(?!\d)", folder)), "")
    if not year or (not digits and not moments):
        return bool(re.fullmatch(r"(?:\d{4}[-_. ]?)?\d{1,2}", folder.rpartition("/")[2]))
    months = {(moment.year, moment.month) for moment in moments}
    return all(str(moment.year) == year for moment in moments) and (len(months) <= 1 or folder.endswith(year))


def _taken(name: str, sample: Sample) -> list[datetime]:
    reading = sample.looked.get(name)
    told = (parse_moment(claim.value) for claim in reading.claims if claim.field == "taken") if reading else ()
    return [moment.shown for moment in told if moment is not None][:1]
