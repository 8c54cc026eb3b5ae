"""A made-up service's way of writing exports, chosen at random or by hand, and the dialect file that describes it."""

import json
import random
from dataclasses import dataclass, field, replace
from typing import Any

from corpus.values import DATES, FLAGS, PLACES, TEXTS, Form, Place


@dataclass(frozen=True)
class Layout:
    """Every respect in which two services may differ."""

    name: str
    container: str = "zip"  # zip, stored, tar, tar.gz, folder
    parts: int = 1
    documents: str = "beside"  # beside, apart, index, lists (one in each folder), xmp (packets beside the pictures)
    format: str = "json"  # json, xml, csv
    folders: str = "flat"  # flat, albums, tree, labels
    replaced: tuple[str, str] = ("", "")
    cap: tuple[int, str] = (0, "characters")  # of a picture's stem
    half: str = ""  # what stands where half a character was cut off: nothing, ? or U+FFFD
    counter: str = "+{n}"
    counter_place: str = "stem"  # stem, name, front
    sidecar_counter: str = ".{n}"
    sidecar_counter_place: str = "stem"  # stem, name, end
    sidecar_cap: int = 0  # of the picture's name within the sidecar's
    sidecar_keeps_ending: bool = True
    sidecar_case: str = ""  # lower
    sidecar_suffix: str = ".facts"
    rendition: str = "_redone"
    clip: str = ""
    date: Form = DATES[0]
    text: Form = TEXTS[0]
    flag: Form = FLAGS[0]
    place: Place = PLACES[0]
    separator: str = ""  # of keywords: "" is a list
    objects: bool = False  # people are objects
    unknown: Any = None  # what stands for an unknown title
    tells_name: bool = True
    tells_reference: bool = True
    tells_digest: bool = False
    tells_size: bool = False
    encoding: str = "utf-8"  # utf-8, utf-8-sig, latin-1
    depth: int = 2  # of nesting in JSON
    corrects: bool = False  # dates that people corrected at the service differ from the pictures' own
    repeats: bool = False  # every part has the whole index
    fold: str = ""  # sidecars' names are not written as the pictures' are: upper, nfd
    absent: bool = False  # many records are of pictures that were not sent
    shared: bool = False  # pictures of other endings may have one stem and number, with an edit or clip of either
    keyed: bool = False  # a JSON list is an object, whose keys are paths or names
    refers: bool = False  # edits and clips have names of their own, and the list tells whose they are
    own_edits: bool = False  # an edit has a line of its own in the list
    keys: dict[str, str] = field(default_factory=dict)

    def key(self, what: str) -> str:
        return self.keys.get(what, what)


FIELDS = (
    "name",
    "ref",
    "digest",
    "size",
    "title",
    "caption",
    "date",
    "tags",
    "people",
    "spot",
    "heart",
    "lat",
    "lon",
    "geo",
    "labels",
)


def random_layout(seed: int) -> Layout:
    chance = random.Random(seed)
    documents = chance.choice(("beside", "beside", "apart", "apart", "index"))
    style = chance.choice(("json", "json", "xml", "csv") if documents == "index" else ("json", "json", "xml"))
    spelled = {what: what + chance.choice(("", "Text", "_v2", "/x", "~y", " z", "ß")) for what in FIELDS}
    if style == "xml":
        spelled = {what: what + chance.choice(("", "-a", "_b")) for what in FIELDS}
    text = chance.choice(TEXTS)
    cap = chance.choice(
        (
            (0, "characters"),
            (0, "characters"),
            (chance.randrange(18, 60), chance.choice(("characters", "bytes", "units"))),
        )
    )
    layout = Layout(
        name=f"random-{seed}",
        container=chance.choice(("zip", "zip", "stored", "tar", "tar.gz", "folder")),
        parts=chance.choice((1, 1, 2, 3)),
        documents=documents,
        format=style,
        folders=chance.choice(("flat", "albums", "tree", "labels")),
        replaced=chance.choice((("", ""), ("&", "_"), (" ", "+"), ("#", ""))),
        cap=cap,
        half=chance.choice(("", "?", "�")),
        counter=chance.choice(("+{n}", "-{n}", " {n}", "~{n}", "[{n}]", "_dup{n}")),
        counter_place=chance.choice(("stem", "stem", "name", "front")),
        sidecar_counter=chance.choice(("+{n}", "-{n}", ".{n}", "[{n}]")),
        sidecar_counter_place=chance.choice(("stem", "name", "end")),
        sidecar_cap=chance.choice((0, 0, 0, chance.randrange(16, 51))),
        sidecar_keeps_ending=chance.random() < 0.75,
        sidecar_case=chance.choice(("", "", "", "lower")),
        rendition=chance.choice(("_redone", "_bearbeitet", " (mine)", ".retouched")),
        clip=chance.choice(("", "", "_motion", ".live")),
        date=chance.choice(DATES),
        text=text,
        flag=chance.choice(FLAGS),
        place=chance.choice(PLACES),
        separator=chance.choice((";", "|", ", ")) if style == "csv" else chance.choice(("", "", ";", "|")),
        objects=style != "csv" and chance.random() < 0.5,
        unknown=chance.choice((None, "", "-", "untitled")),
        tells_name=chance.random() < 0.7 or documents == "index",
        tells_reference=chance.random() < 0.6,
        tells_digest=chance.random() < 0.2,
        tells_size=chance.random() < 0.3,
        encoding=chance.choice(("utf-8", "utf-8", "utf-8-sig", "latin-1")),
        depth=chance.choice((1, 2, 3)),
        keys=spelled,
    )
    suffix = {"json": chance.choice((".facts", ".about.txt", ".data.json")), "xml": chance.choice((".xml", ".meta"))}
    if layout.counter_place == "front" and layout.counter[0] == "-":
        layout = replace(layout, counter="[{n}]")
    later = random.Random(seed + 1)
    layout = replace(
        layout, sidecar_suffix=suffix.get(style, ".facts"), corrects=later.random() < 0.4, repeats=later.random() < 0.4,
        fold=later.choice(("", "", "upper", "nfd")), absent=later.random() < 0.3, shared=later.random() < 0.4,
        own_edits=later.random() < 0.5, keyed=later.random() < 0.4,
        refers=later.random() < 0.4,
    )  # fmt: skip
    if layout.documents == "index" and later.random() < 0.5:
        return replace(layout, documents="lists")
    if layout.documents == "beside" and later.random() < 0.25:
        return as_packets(layout)
    return layout


def as_packets(layout: Layout) -> Layout:
    """The same, with XMP packets in place of documents: what they say, and how, the standard fixes."""
    return replace(
        layout, documents="xmp", format="xml", sidecar_suffix=".xmp", text=TEXTS[0], date=DATES[9], flag=FLAGS[0],
        tells_name=False, tells_reference=False, tells_digest=False, tells_size=False, separator="", objects=False,
        unknown=None, sidecar_cap=0, sidecar_case="", encoding="utf-8",
        sidecar_keeps_ending=layout.sidecar_keeps_ending or layout.shared,
        # A number must tell which picture of a stem is meant, and stand where every reader looks for it.
        sidecar_counter=layout.counter, sidecar_counter_place="stem", counter_place="stem",
    )  # fmt: skip


def place_of(layout: Layout, what: str) -> str:
    """Where a value stands, in the words of a dialect: a JSON pointer, an XPath, or a column."""
    key = layout.key(what)
    if layout.format == "json":
        return "".join("/" + step.replace("~", "~0").replace("/", "~1") for step in path_of(layout, what))
    return key if layout.format == "csv" else f"p:{key}"


def path_of(layout: Layout, what: str) -> list[str]:
    group = "about" if what in ("name", "ref", "digest", "size") else "facts"
    return [*(["photo", group][: layout.depth - 1] if layout.depth > 1 else []), layout.key(what)]


def _named_by_key(layout: Layout) -> bool:
    return layout.keyed and layout.documents == "lists" and layout.format == "json"


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def dialect(layout: Layout) -> str:
    """The dialect file."""
    ending = {"zip": "zip", "stored": "zip", "tar": "tar", "tar.gz": r"tar\.gz", "folder": "none"}[layout.container]
    stem = "stem"
    if layout.replaced[0]:
        stem += f" | replace '{layout.replaced[0]}' '{layout.replaced[1]}'"
    if layout.cap[0]:
        stem += f" | cut {layout.cap[0]} {layout.cap[1]}"
    picture = {
        "stem": f"{{{stem}}}{{counter}}{{suffix}}{{ending}}",
        "name": f"{{{stem}}}{{suffix}}{{ending}}{{counter}}",
        "front": f"{{counter}}{{{stem}}}{{suffix}}{{ending}}",
    }[layout.counter_place]
    lines = [
        "[dialect]", f"name = {_quoted(layout.name)}",
        f"part_name = 'export-(?P<order>[A-Z0-9]+)-(?P<number>\\d+)-of-(?P<total>\\d+)\\.{ending}'", "", "[entries]",
    ]  # fmt: skip
    if layout.documents == "index":
        lines.append('index = ["index.*"]')
    elif layout.documents == "lists":
        lines.append('index = ["media/**/index.*"]')
    elif layout.documents != "xmp":  # those are known in every dialect
        where = f"media/**/*{layout.sidecar_suffix}*" if layout.documents == "beside" else "meta/**"
        lines.append(f"sidecars = [{_quoted(where)}]")
    lines.append('pictures = ["media/**"]')
    if layout.folders == "labels":
        lines.append('copies = ["media/labels/**"]')
    lines += ["", "[names]", f"picture = {_quoted(picture)}", f"counter = {_quoted(layout.counter)}"]
    lines += [f"sidecar_counter = {_quoted(layout.sidecar_counter)}", f"renditions = [{_quoted(layout.rendition)}]"]
    lines += [f"clips = [{_quoted(layout.clip)}]"] if layout.clip else []
    if layout.documents in ("beside", "apart"):
        lines.append(f"sidecar = [{_quoted(_sidecar_template(layout))}]")
    if layout.folders == "albums":
        lines += ["", "[folders]", 'albums = ["media/albums/*"]']
    elif layout.folders == "labels":
        lines += ["", "[folders]", 'albums = ["media/labels/*"]']
    elif layout.folders == "tree":
        lines += ["", "[folders]", 'tree = ["media/**"]']
    if layout.documents == "xmp":
        return "\n".join(lines) + "\n"
    table = "index" if layout.documents in ("index", "lists") else "sidecar"
    lines += ["", f"[{table}]", f"format = {_quoted(layout.format)}"]
    if layout.format == "xml":
        lines.append('namespaces = { p = "urn:made-up" }')
    if table == "index":
        lines += (
            [f"items = {_quoted({'json': '/all', 'xml': '//p:item', 'csv': ''}[layout.format])}"]
            if layout.format != "csv"
            else []
        )
    if layout.documents == "index":
        path = "#" if layout.keyed else "/path"
        lines.append(f"path = {_quoted(place_of(layout, 'path') if layout.format != 'json' else path)}")
    elif _named_by_key(layout):
        lines.append('file_name = "#"')
    for told, key, what in (
        (layout.tells_name and not _named_by_key(layout), "file_name", "name"), (layout.tells_reference, "reference", "ref"),
        (layout.tells_digest, "sha256", "digest"), (layout.tells_size, "size", "size"),
    ):  # fmt: skip
        lines += [f"{key} = {_quoted(place_of(layout, what))}"] if told else []
    if layout.refers and table == "index":
        lines += [f"edit_of = {_quoted(place_of(layout, 'of'))}"]
        lines += [f"clips = {_quoted(place_of(layout, 'films') + ('/p:li' if layout.format == 'xml' else ''))}"]
    lines += ["", f"[{table}.fields]"]
    unknown = f", unknown = [{_quoted(layout.unknown)}]" if layout.unknown else ""
    lines.append(f"title = {{ at = {_quoted(place_of(layout, 'title'))}, {layout.text.words}{unknown} }}")
    lines.append(f"caption = {{ at = {_quoted(place_of(layout, 'caption'))}, {layout.text.words} }}")
    lines.append(f"taken = {{ at = {_quoted(place_of(layout, 'date'))}, {layout.date.words} }}")
    lines.append(f"location = {{ at = {_quoted(place_of(layout, 'spot'))}, {layout.text.words} }}")
    lines.append(f"favourite = {{ at = {_quoted(place_of(layout, 'heart'))}, {layout.flag.words} }}")
    split = f", separator = {_quoted(layout.separator)}" if layout.separator else ""
    tags = place_of(layout, "tags") + ("/p:li" if layout.format == "xml" and not layout.separator else "")
    lines.append(f"keyword = {{ at = {_quoted(tags)}{split} }}")
    people = place_of(layout, "people") + ("/p:li" if layout.format == "xml" else "")
    each = f", each = {_quoted('/who' if layout.format == 'json' else 'p:who')}" if layout.objects else ""
    split = ', separator = "|"' if layout.format == "csv" else ""
    lines.append(f"person = {{ at = {_quoted(people)}{each}{split} }}")
    lines += ["", f"[{table}.position]"]
    if layout.place.pair:
        lines.append(f"pair = {_quoted(place_of(layout, 'geo'))}")
    else:
        lines += [f"latitude = {_quoted(place_of(layout, 'lat'))}", f"longitude = {_quoted(place_of(layout, 'lon'))}"]
    lines += [layout.place.extra] if layout.place.extra else []
    return "\n".join(lines) + "\n"


def _sidecar_template(layout: Layout) -> str:
    inner = "stem"
    if layout.sidecar_counter_place == "stem":
        inner += " + counter"
    if layout.sidecar_keeps_ending:
        inner += " + ending"
    inner += f" | cut {layout.sidecar_cap} characters" if layout.sidecar_cap else ""
    inner += " | lower" if layout.sidecar_case else ""
    after = "{counter}" if layout.sidecar_counter_place == "name" else ""
    end = "{counter}" if layout.sidecar_counter_place == "end" else ""
    folder = "{folder}" if layout.documents == "beside" else "meta/"
    return f"{folder}{{{inner}}}{after}{layout.sidecar_suffix}{end}"
