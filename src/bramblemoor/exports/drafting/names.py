"""Drafting a dialect's names: how sidecars are called after their pictures, what counters look like, and what parts are
called.
"""

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from urllib.parse import quote

from bramblemoor.exports.templates import Template, folded

# How a sidecar's name may begin: in the words of a template, and as `_starts` computes it.
_FORMS: tuple[tuple[str, str], ...] = (
    ("{stem}{counter}{ending}", "name"), ("{stem}{counter}", "stem"), ("{stem + counter + ending | replace '.' '_'}", "replaced"),
    ("{stem + counter + ending | lower}", "lower name"), ("{stem + counter | lower}", "lower stem"),
    ("{stem + counter + ending | percent}", "percent"),
)  # fmt: skip
_LOOKED_AT, _TRIED, _MOST_CUT = 600, 12, 3
_SHORTEST_CUT = 8
_NUMBERED, _LONGEST_SIGN = re.compile(r"(.*?\D)(\d{1,3})([^\w]*)", re.DOTALL), 8


@dataclass(frozen=True)
class SidecarNames:
    """A template that finds sidecars, the share of pictures that it finds one for, a glob for them, and the counter in it."""

    template: str = ""
    share: float = 0.0
    glob: str = ""


def counter_of(pictures: Sequence[str]) -> str:
    """The counter that most pictures have which stand beside one of the same name without it; "" where none do."""
    names = set(pictures)
    found: Counter[str] = Counter()
    for name in pictures:
        folder, slash, base = name.rpartition("/")
        stem, dot, ending = base.rpartition(".")
        match = _NUMBERED.fullmatch(stem)
        if match is None:
            continue
        for at in range(len(match[1]), max(0, len(match[1]) - _LONGEST_SIGN), -1):
            sign = stem[at : match.start(2)]
            if f"{folder}{slash}{stem[:at]}{dot}{ending}" in names and not sign.isalnum():
                found[f"{sign}{{n}}{match[3]}"] += 1
                break
    return found.most_common(1)[0][0] if found else ""


def suffixes_of(pictures: Sequence[str]) -> list[str]:
    """What is put behind the stems of edited versions: the same few endings of stems, always beside a picture without it."""
    names = {name.rpartition(".")[0] for name in pictures}
    found: Counter[str] = Counter()
    for stem in names:
        base = stem.rpartition("/")[2]
        for at in range(max(1, len(base) - 20), len(base)):
            suffix = base[at:]
            if (
                not suffix[0].isalnum()
                and not re.search(r"\d", suffix)
                and len(suffix) > 3
                and stem[: len(stem) - len(suffix)] in names
            ):
                found[suffix] += 1
    alone = {suffix: sum(stem.endswith(suffix) for stem in names) for suffix in found}
    return [suffix for suffix, count in found.most_common(3) if count >= 2 and count >= 0.8 * alone[suffix]]


def sidecar_names(pictures: Sequence[str], others: Sequence[str], counter: str) -> SidecarNames:
    """The template of sidecars' names that finds most: from how a sample of names begin, tried on all."""
    spread = others[:: max(1, len(others) // _LOOKED_AT)]
    begins: dict[str, list[tuple[str, str]]] = {}
    for picture in pictures:
        for form, start in _starts(picture, counter):
            begins.setdefault(start, []).append((form, picture))
    found: Counter[tuple[str, str]] = Counter()
    for other in spread:
        folder, slash, base = other.rpartition("/")
        longest = next((base[:end] for end in range(len(base), 0, -1) if base[:end] in begins), "")
        for form, picture in begins.get(longest, ())[:4]:
            beside = picture.rpartition("/")[0] == folder
            place = "{folder}" if beside else _parent(folder, picture) or folder + slash
            found[place + form, base[len(longest) :]] += 1
    known = set(others)
    tried = []
    for (start, tail), _ in found.most_common(_TRIED):
        for template in _with_counter(start, tail, counter):
            fit = sum(_rendered(template, picture, counter) in known for picture in pictures)
            glob = _glob(start, tail) + ("*" if template.endswith("{counter}") else "")
            tried.append(SidecarNames(template, fit / len(pictures), glob))
    likely = sorted(tried, key=lambda one: -one.share)[:_MOST_CUT]
    best = max(
        (_cut(one, pictures, others, counter) for one in likely), key=lambda one: one.share, default=SidecarNames()
    )
    return best if counter else replace(best, template=_without_counter(best.template))


def _without_counter(template: str) -> str:
    """A template for a service that has no counters, in the shortest words."""
    plain = template.replace("{counter}", "").replace(" + counter", "")
    return plain.replace("{stem}{ending}", "{name}").replace("stem + ending", "name")


def _starts(picture: str, counter: str) -> Iterator[tuple[str, str]]:
    base = picture.rpartition("/")[2]
    stem, dot, ending = base.rpartition(".")
    stem, ending = (stem, dot + ending) if stem else (base, "")
    computed = {
        "name": base, "stem": stem, "replaced": base.replace(".", "_"), "lower name": base.lower(), "lower stem": stem.lower(),
        "percent": quote(base, safe=""),
    }  # fmt: skip
    seen = set()
    for template, form in _FORMS:
        if computed[form] not in seen:
            seen.add(computed[form])
            yield template, computed[form]


def _parent(folder: str, picture: str) -> str:
    """A sidecar's folder in the words of a template, where it follows from the picture's; "" where it does not."""
    mine = picture.rpartition("/")[0]
    parent = mine.rpartition("/")[0]
    steps, others = mine.split("/") if mine else [], folder.split("/") if folder else []
    shared = next((n for n in range(min(len(steps), len(others)), 0, -1) if steps[-n:] == others[-n:]), 0)
    if shared:  # two trees of the same folders
        head, other = ("/".join(one[: len(one) - shared]) for one in (steps, others))
        if not head:
            return f"{other}/{{folder}}"
        return f"{{folder | replace '{head}/' '{other + '/' if other else ''}'}}" if "'" not in head + other else ""
    if parent and folder.startswith(parent + "/"):
        return "{parent}" + folder[len(parent) + 1 :] + "/"
    return ""


def _with_counter(start: str, tail: str, counter: str) -> Iterator[str]:
    """The places where a sidecar's name may have its picture's counter."""
    yield start + tail
    if counter and "{counter}" in start:
        bare = start.replace("{counter}", "")
        yield bare + "{counter}" + tail
        yield bare + tail + "{counter}"


def _glob(start: str, tail: str) -> str:
    place = start.partition("{stem")[0]
    replaced = re.fullmatch(r"\{folder \| replace '[^']*' '([^']*)'\}", place)
    if replaced:
        place = f"{replaced[1]}**/"
    elif place.endswith("/{folder}"):
        place = place.removesuffix("{folder}") + "**/"
    return ("**/*" if "{" in place else place + "*") + tail + ("*" if not tail.rpartition(".")[1] else "")


def _rendered(template: str, picture: str, counter: str) -> str:
    folder, slash, name = picture.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    parent = folder.rpartition("/")[0]
    words = {"folder": folder + slash, "parent": parent + "/" if parent else "", "stem": stem or name,
             "ending": dot + ending if stem else "", "counter": ""}  # fmt: skip
    pattern = re.escape(counter).replace(re.escape("{n}"), "[0-9]+") if counter else ""
    match = re.search(pattern + "$", words["stem"]) if pattern else None
    if match and match.start():
        words["counter"], words["stem"] = match[0], words["stem"][: match.start()]
    words["name"] = words["stem"] + words["ending"]
    return _template(template).render(words)


_parsed: dict[str, Template] = {}


def _template(source: str) -> Template:
    if source not in _parsed:
        _parsed[source] = Template(source)
    return _parsed[source]


def _cut(best: SidecarNames, pictures: Sequence[str], others: Sequence[str], counter: str) -> SidecarNames:
    """The template with its names cut, where sidecars of the longest names have only their beginnings."""
    pieces = re.fullmatch(
        r"(\{folder[^{}]*\}|\{parent\}[^{}]*|[^{}]*(?:\{folder\})?)((?:\{[^{}]*\})+)([^{}]*)", best.template
    )
    if pieces is None or best.share == 1.0:
        return best
    place, inner, tail = pieces.groups()
    known = set(others)
    lengths: Counter[int] = Counter()
    for picture in pictures:
        whole = _rendered(best.template, picture, counter)
        if whole in known:
            continue
        begin = whole[: len(whole) - len(tail)] if tail else whole
        folder = begin.rpartition("/")[0]
        length = len(begin) - len(folder) - bool(folder)
        for cut in range(length - 1, _SHORTEST_CUT - 1, -1):
            if begin[: len(begin) - (length - cut)] + tail in known:
                lengths[cut] += 1
                break
    if not lengths:
        return best
    length = lengths.most_common(1)[0][0]
    words = re.sub(r"\}\{", " + ", inner)[:-1] + f" | cut {length} characters}}"
    template = place + words + tail
    fit = sum(_rendered(template, picture, counter) in known for picture in pictures) / len(pictures)
    return SidecarNames(template, fit, best.glob) if fit > best.share else best


def part_pattern(parts: Sequence[str]) -> str:
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
    # As little as fits: else the order would take all but the last digit of a number of two.
    return ("(?P<order>.+?)" if head else "(?P<order>)") + re.escape(sign) + number + total + re.escape(after) + behind


def alike(told: str, name: str) -> bool:
    """Whether a told name is a picture's, or the beginning of it."""
    told, name = folded(told), folded(name)
    stem, _, _ = told.rpartition(".")
    return told == name or (len(stem) >= 12 and name.startswith(stem[:20]))


def sidecar_files(template: str, pictures: Sequence[str], counter: str) -> dict[str, str]:
    """The sidecars that pictures would have by a template."""
    return {picture: _rendered(template, picture, counter) for picture in pictures}
