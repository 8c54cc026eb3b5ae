"""What a made-up account holds, and how its parcel is written after a layout: names, documents, archives."""

import hashlib
import io
import json
import random
import tarfile
import unicodedata
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from corpus import pictures
from corpus.layout import Layout, path_of
from corpus.values import signed, words


@dataclass
class Frame:
    """One frame of the account: what it is, what the service knows of it, and where the export puts it."""

    number: int
    stem: str
    ending: str
    local: datetime
    offset: int
    exif: str  # none, local, offset
    corrected: bool = False  # the service tells another date than the picture
    told: bool = True  # whether the service tells anything of it
    title: str = ""
    caption: str = ""
    tags: list[str] = field(default_factory=list)
    people: list[str] = field(default_factory=list)
    spot: str = ""
    position: tuple[float, float] | None = None
    favourite: bool = False
    albums: list[int] = field(default_factory=list)
    folder: str = ""
    ghost: bool = False
    files: dict[str, bytes] = field(default_factory=dict)  # role: content
    entry: str = ""
    sidecar: str = ""
    wanted: str = ""
    of: str = ""  # the entry of what it is an edit of
    # "sure": the export tells which picture its record belongs to; "may": hints do; "tie": nothing can; "hidden": nothing can,
    # and it does not show.
    decided: str = "sure"

    @property
    def name(self) -> str:
        return self.stem + self.ending

    @property
    def utc(self) -> datetime:
        return self.local - timedelta(minutes=self.offset)

    @property
    def told_local(self) -> datetime:
        """The local time that the service tells."""
        return self.local.replace(year=1956, day=min(self.local.day, 28)) if self.corrected else self.local

    @property
    def token(self) -> str:
        return f"id{self.number:07}"


ALBUMS = ("Best of the valley", "Owls & water", "Für Großmutter 💛", "Roof work 2026")
_ODD_STEMS = (
    "a", "con", "NUL", "ends with dot.", "ends with space ", "Rope &amp; water", "R&D", "cafe\u0301", "café", "CASE", "case",
    "🪵" * 20, "x" * 200, "水" * 70, "name.with.dots", "[1]", "A~1", "untitled", "_redone", "%41", "#1 mist",
)  # fmt: skip


def make_account(layout: Layout, count: int, seed: int, first: int) -> list[Frame]:
    """So many frames, each unlike all others by content; names collide now and then."""
    chance, sharing = random.Random(seed), random.Random(seed)
    frames: list[Frame] = []
    for number in range(first, first + count):
        odd = chance.random()
        if odd < 0.06:
            stem = chance.choice(_ODD_STEMS)
        elif odd < 0.12 and frames:
            stem = chance.choice(frames).stem
        elif odd < 0.18:
            stem = "".join(chance.choice("abcdefgh äöü🪵水é") for _ in range(chance.randrange(1, 55))).strip() or "b"
        else:
            stem = f"{chance.choice(('IMG_', 'DSC', 'ALD_', 'Reed cutting ', 'P'))}{chance.randrange(1, 9000):04}"
        year = chance.choice((1931, 1969, 2039, 2107)) if chance.random() < 0.03 else chance.randrange(1999, 2027)
        local = datetime(year, 1, 1) + timedelta(seconds=chance.randrange(364 * 86_400))
        if chance.random() < 0.02:
            local = datetime(
                2024, 3, 31, 2, 30, chance.randrange(60)
            )  # a clock time that a change of clocks leaves out
        frame = Frame(
            number, stem, chance.choice((".jpg", ".jpg", ".JPG", ".jpeg", ".png")), local,
            chance.choice((0, 60, 60, 120, -300, 345, 570)), chance.choice(("none", "local", "local", "offset")),
        )  # fmt: skip
        # Of what is called as an edit would be, only a record tells that it is none.
        frame.told = chance.random() > 0.03 or stem.endswith(layout.rendition)
        frame.tags = [frame.token, *(chance.choice(("reeds", "Lock", "owls")) for _ in range(chance.randrange(2)))]
        frame.title = words(chance, chance.randrange(1, 5)) if chance.random() < 0.8 else ""
        frame.caption = words(chance, chance.randrange(1, 9)) if chance.random() < 0.4 else ""
        frame.people = [name for name in ("Ada Fenwright", "Joss Marl") if chance.random() < 0.3]
        frame.spot = chance.choice(("", "Saltby Fen", "Lock Nine"))
        if chance.random() < 0.6:
            frame.position = (round(chance.uniform(-80, 80), 5), round(chance.uniform(-179, 179), 5))
        frame.favourite = chance.random() < 0.2
        frame.albums = [n for n in range(len(ALBUMS)) if chance.random() < 0.12]
        frame.ghost = frame.told and chance.random() < (0.05 if layout.absent else 0.01)
        frame.folder = chance.choice(("", "2024", "2024/May", "Trips/Fen & lock"))
        if layout.shared and frames and sharing.random() < 0.15:  # as a camera that writes every picture twice
            other = frames[-1]
            frame.stem, frame.folder, frame.albums = other.stem, other.folder, other.albums
            frame.ending = ".png" if other.ending != ".png" else ".jpg"
            frame.told |= other.stem.endswith(layout.rendition)
        elif layout.shared and frames and sharing.random() < 0.05:  # somebody's picture, called as an edit would be
            frame.stem, frame.folder, frame.told = frames[-1].stem + layout.rendition, frames[-1].folder, True
        if not frame.ghost:
            _fill(frame, chance)
            frame.corrected = layout.corrects and frame.exif != "none" and year > 1970 and frame.number % 23 == 0
        frames.append(frame)
    return frames


def _fill(frame: Frame, chance: random.Random) -> None:
    shot = None if frame.exif == "none" else frame.local
    offset = frame.offset if frame.exif == "offset" else None
    if chance.random() < 0.004:
        frame.exif, frame.files["original"] = "none", b""
        return
    make = (
        pictures.png if frame.ending == ".png" or chance.random() < 0.03 else pictures.jpeg
    )  # a PNG may be called .jpg
    frame.files["original"] = make(frame.number * 4, shot, offset)
    if chance.random() < 0.05:
        frame.files["rendition"] = pictures.jpeg(frame.number * 4 + 1, shot, offset)
    if chance.random() < 0.04:
        frame.files["clip"] = pictures.mp4(frame.number * 4 + 2, frame.utc)


@dataclass
class Parcel:
    """Entries to be packed, in the order of the archive, and what the export says of parts."""

    entries: list[tuple[str, bytes]]
    frames: list[Frame]


def write_parcel(
    layout: Layout, frames: list[Frame], folder: Path, chance: random.Random, *, lost: float = 0.0
) -> None:
    """Write all parts of the export into `folder`; a lossy one lacks a share of its entries."""
    entries = _name_pictures(layout, frames)
    entries += _documents(layout, frames)
    entries = [one for one in entries if _is_list(one) or chance.random() >= lost]
    entries += [("media/notes.txt.bak" if layout.documents == "index" else "read me.txt", b"made up\n")][: layout.parts]
    chance.shuffle(entries)
    folder.mkdir(parents=True)
    order = f"ORDER{frames[0].number}"
    shares = [entries[n :: layout.parts] for n in range(layout.parts)]
    if layout.repeats and layout.documents in ("index", "lists"):
        lists = [entry for entry in entries if _is_list(entry)]
        shares = [[*share, *(one for one in lists if one not in share)] for share in shares]
    for number, share in enumerate(shares, 1):
        name = (
            f"export-{order}-{number}-of-{layout.parts}.{'zip' if layout.container == 'stored' else layout.container}"
        )
        _pack(layout, folder / name if layout.container != "folder" else folder, share)


def _is_list(entry: tuple[str, bytes]) -> bool:
    return entry[0].rpartition("/")[2].startswith("index.")


def _cut(text: str, most: int, unit: str, half: str) -> str:
    if unit == "characters" or not most:
        return text[:most] if most else text
    coding = "utf-8" if unit == "bytes" else "utf-16-le"
    raw = text.encode(coding)[: most * (2 if unit == "units" else 1)]
    whole = raw.decode(coding, "ignore")
    return whole + (half if len(whole.encode(coding)) < len(raw) else "")


def _name_pictures(layout: Layout, frames: list[Frame]) -> list[tuple[str, bytes]]:
    entries = []
    used: set[str] = set()
    for frame in frames:
        stem = frame.stem.replace("/", "_").replace(layout.replaced[0] or "\0", layout.replaced[1])
        stem = _cut(stem, layout.cap[0], layout.cap[1], layout.half) or "_"
        folder = {
            "flat": "media/", "labels": "media/all/", "tree": f"media/{frame.folder}/" if frame.folder else "media/",
            "albums": f"media/albums/{ALBUMS[frame.albums[0]]}/" if frame.albums else "media/rest/",
        }[layout.folders]  # fmt: skip

        def make(
            number: int, suffix: str = "", ending: str = frame.ending, stem: str = stem, folder: str = folder
        ) -> str:
            counter = layout.counter.replace("{n}", str(number)) if number else ""
            return folder + {
                "stem": f"{stem}{counter}{suffix}{ending}", "name": f"{stem}{suffix}{ending}{counter}",
                "front": f"{counter}{stem}{suffix}{ending}",
            }[layout.counter_place]  # fmt: skip

        # What a frame's files are called must be free for all of them: services number frames, not files.
        number = 0
        roles: tuple[tuple[str, str], ...] = (
            ("", frame.ending),
            (layout.rendition, frame.ending),
            (layout.clip, ".mp4"),
        )
        if layout.shared and "clip" not in frame.files:
            roles = roles[:2]
        while any(make(number, *role).casefold() in used for role in roles):
            number += 1
        used |= {make(number, *role).casefold() for role in roles}
        frame.entry = make(number)
        frame.__dict__["parts_of_name"] = (folder, stem, number)
        for role, content in frame.files.items():
            named = make(number, *roles[("original", "rendition", "clip").index(role)])
            if layout.refers and layout.documents in ("index", "lists") and role != "original":
                name, ending = ("made", frame.ending) if role == "rendition" else ("film", ".mp4")
                named = f"{folder}{name} {frame.number}{ending}"
            frame.__dict__.setdefault("names", {})[role] = named
            entries.append((named, content))
        if layout.folders == "labels" and "original" in frame.files:
            for album in frame.albums:
                entries.append((f"media/labels/{ALBUMS[album]}/{frame.number}{frame.ending}", frame.files["original"]))
    return entries


def _documents(layout: Layout, frames: list[Frame]) -> list[tuple[str, bytes]]:
    told = [frame for frame in frames if frame.told]
    if layout.documents == "index":
        return [_index(layout, told)]
    if layout.documents == "lists":
        folders = dict.fromkeys(frame.entry.rpartition("/")[0] + "/" for frame in told)
        return [
            _index(layout, [one for one in told if one.entry.rpartition("/")[0] + "/" == folder], folder)
            for folder in folders
        ]
    used: dict[str, list[Frame]] = {}
    wanted: dict[str, list[Frame]] = {}
    entries = []
    for frame in told:
        name, clean = _sidecar_name(layout, frame, used)
        frame.sidecar, frame.wanted = name, clean
        wanted.setdefault(_plain(clean), []).append(frame)
        document = _packet(frame) if layout.documents == "xmp" else _encoded(layout, _document(layout, frame))
        entries.append((name, document))
    for group in wanted.values():
        if len(group) > 1:  # their sidecars' names were cut to one, and only numbers tell them apart
            _judge_collision(layout, group)
    for frame in frames:  # whose edit's sidecar would have the cut name of another's
        if "rendition" in frame.files:
            folder, stem, number = frame.__dict__["parts_of_name"]
            edit = replace(frame)
            edit.__dict__["parts_of_name"] = (folder, stem + layout.rendition, number)
            for other in wanted.get(_plain(_sidecar_name(layout, edit, {})[1]), []):
                if other is not frame and not (layout.tells_name or layout.tells_size or layout.tells_digest):
                    other.decided = "hidden"
    for frame in frames:  # of which nothing is told, while a sidecar is there that may be meant for it
        namesakes = [] if frame.told else wanted.get(_plain(_sidecar_name(layout, frame, {})[1]), [])
        for other in namesakes:
            names_tell = layout.tells_name and _plain(other.name) != _plain(frame.name)
            if any(one.ghost for one in namesakes):
                frame.decided = other.decided = "hidden"
            elif other.decided == "sure" and not (names_tell or layout.tells_size or layout.tells_digest):
                frame.decided, other.decided = "hidden", "may"
    return entries


def _plain(name: str) -> str:
    return unicodedata.normalize("NFC", name).casefold()


def _judge_collision(layout: Layout, group: list[Frame]) -> None:
    """Say of frames whose sidecars wanted one name whether anything tells which is whose. Case may, where it differs."""
    same = len({frame.wanted for frame in group}) == 1
    here = [frame for frame in group if not frame.ghost]
    if not here:
        return
    if layout.tells_digest:
        for frame in group:
            frame.decided = "sure" if all(other.files["original"] for other in here) else "may"
        return
    if len(here) < len(group) and not layout.tells_name and not layout.tells_size:
        # The record that has the name may be that of a picture which was not sent: nothing in the export shows which.
        for frame in group:
            frame.decided = "hidden"
        return
    names = [frame.name for frame in group]
    for frame in group:
        alone = names.count(frame.name) == 1
        hints = (layout.tells_name and alone) or layout.tells_size or frame.exif != "none" or not same
        frame.decided = "may" if hints else "tie"
    if any(frame.decided != "tie" for frame in group):
        for frame in group:
            frame.decided = "may"


def _sidecar_name(layout: Layout, frame: Frame, used: dict[str, list[Frame]]) -> tuple[str, str]:
    folder, stem, number = frame.__dict__["parts_of_name"]
    counter = layout.sidecar_counter.replace("{n}", str(number)) if number else ""
    inner = stem + (counter if layout.sidecar_counter_place == "stem" else "")
    inner += frame.ending if layout.sidecar_keeps_ending else ""
    inner = inner[: layout.sidecar_cap] if layout.sidecar_cap else inner
    inner = inner.lower() if layout.sidecar_case else inner
    inner += counter if layout.sidecar_counter_place == "name" else ""
    end = counter if layout.sidecar_counter_place == "end" else ""
    folder = "meta/" if layout.documents == "apart" else folder
    if layout.fold:
        inner = inner.upper() if layout.fold == "upper" else unicodedata.normalize("NFD", inner)
    clean = f"{folder}{inner}{layout.sidecar_suffix}{end}"
    name, again = clean, 0
    while name.casefold() in used:  # a second sidecar of one name gets a number of the service's own
        again += 1
        name = f"{folder}{inner}!{again}{layout.sidecar_suffix}{end}"
    used[name.casefold()] = [frame]
    return name, clean


def _values(layout: Layout, frame: Frame) -> dict[str, Any]:
    """What the record of a frame holds, by name of the value; what is unknown as the service writes it."""
    values: dict[str, Any] = {}
    if layout.tells_name:
        values["name"] = frame.entry.rpartition("/")[2] if layout.documents == "lists" else frame.name
    if layout.tells_reference:
        values["ref"] = f"R-{frame.number}{'-edit' if frame.of else ''}"
    if layout.tells_digest and frame.files.get("original"):
        values["digest"] = hashlib.sha256(frame.files["original"]).hexdigest()
    if layout.tells_size and frame.files.get("original"):
        values["size"] = len(frame.files["original"])
    if layout.refers and layout.documents in ("index", "lists"):
        original = (
            f"R-{frame.number}"
            if layout.tells_reference
            else (frame.of.rpartition("/")[2] if layout.documents == "lists" else frame.of)
        )
        values["of"] = original if frame.of else None
        films = [frame.__dict__["names"]["clip"].rpartition("/")[2]] if "clip" in frame.files else []
        values["films"] = films if layout.format != "csv" else "".join(films)
    values["title"] = layout.text.write(frame.title) if frame.title else layout.unknown
    values["caption"] = layout.text.write(frame.caption) if frame.caption else None
    values["date"] = layout.date.write(
        frame.told_local, frame.told_local - timedelta(minutes=frame.offset), frame.offset
    )
    values["spot"] = layout.text.write(frame.spot) if frame.spot else ""
    values["heart"] = layout.flag.write(frame.favourite)
    values["tags"] = layout.separator.join(frame.tags) if layout.separator else frame.tags
    people: Any = [{"who": name} for name in frame.people] if layout.objects else frame.people
    values["people"] = "|".join(frame.people) if layout.format == "csv" else people
    if frame.position is not None:
        place = layout.place.write(*frame.position)
    else:
        place = None if layout.place.pair else (0, 0)
    if layout.place.pair:
        values["geo"] = place
    else:
        values["lat"], values["lon"] = place
    return values


def _document(layout: Layout, frame: Frame) -> str:
    values = _values(layout, frame)
    if layout.format == "json":
        return json.dumps(_nested(layout, values), ensure_ascii=frame.number % 3 == 0)
    return f'<?xml version="1.0"?>\n<photo xmlns="urn:made-up">{_xml(layout, values)}</photo>'


def _nested(layout: Layout, values: dict[str, Any]) -> dict[str, Any]:
    document: dict[str, Any] = {}
    for what, value in values.items():
        *steps, last = path_of(layout, what)
        inner = document
        for step in steps:
            inner = inner.setdefault(step, {})
        inner[last] = value
    return document


def _xml(layout: Layout, values: dict[str, Any]) -> str:
    parts = []
    for what, value in values.items():
        if value is None:
            continue
        if isinstance(value, list):
            items = (f"<who>{escape(one['who'])}</who>" if isinstance(one, dict) else escape(one) for one in value)
            inner = "".join(f"<li>{item}</li>" for item in items)
        else:
            inner = escape(str(value))
        parts.append(f"<{layout.key(what)}>{inner}</{layout.key(what)}>")
    return "".join(parts)


def _packet(frame: Frame) -> bytes:
    """An XMP packet (ISO 16684-1) that says of a frame what the standard schemas can."""

    def several(kind: str, texts: list[str], language: str = "") -> str:
        return f"<rdf:{kind}>{''.join(f'<rdf:li{language}>{escape(text)}</rdf:li>' for text in texts)}</rdf:{kind}>"

    default = ' xml:lang="x-default"'
    written = frame.told_local.isoformat() + signed(frame.offset)
    fields = [
        f"<dc:subject>{several('Bag', frame.tags)}</dc:subject>",
        f"<photoshop:DateCreated>{written}</photoshop:DateCreated>",
    ]
    fields += [f"<dc:title>{several('Alt', [frame.title], default)}</dc:title>"] if frame.title else []
    fields += [f"<dc:description>{several('Alt', [frame.caption], default)}</dc:description>"] if frame.caption else []
    fields += [f"<ext:PersonInImage>{several('Bag', frame.people)}</ext:PersonInImage>"] if frame.people else []
    fields += [f"<core:Location>{escape(frame.spot)}</core:Location>"] if frame.spot else []
    if frame.position is not None:
        for name, value, sides in (("Latitude", frame.position[0], "NS"), ("Longitude", frame.position[1], "EW")):
            minutes = f"{abs(value) % 1 * 60:.6f}"
            fields.append(f"<exif:GPS{name}>{int(abs(value))},{minutes}{sides[value < 0]}</exif:GPS{name}>")
    if frame.number % 2:  # half of them as toolkits write them
        fields.reverse()
    body = (
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about=""'
        ' xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/"'
        ' xmlns:exif="http://ns.adobe.com/exif/1.0/" xmlns:core="http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/"'
        f' xmlns:ext="http://iptc.org/std/Iptc4xmpExt/2008-02-29/">{"".join(fields)}</rdf:Description></rdf:RDF>'
    )
    return f'<x:xmpmeta xmlns:x="adobe:ns:meta/">{body}</x:xmpmeta>'.encode()


def _edit_of(layout: Layout, frame: Frame) -> Frame:
    """What the list tells of an edit: the words are its own, and not those of its frame."""
    entry = frame.__dict__["names"]["rendition"]
    return replace(
        frame, stem=frame.stem + layout.rendition, entry=entry, of=frame.entry, title="An edit", caption="",
        tags=[], people=[], spot="", position=None, favourite=False, files={"original": frame.files["rendition"]},
    )  # fmt: skip


def _index(layout: Layout, frames: list[Frame], folder: str = "") -> tuple[str, bytes]:
    """One list of all frames, by their paths; or that of a `folder`, by their bare names."""
    if layout.own_edits or layout.refers:
        frames = [
            *frames,
            *(_edit_of(layout, frame) for frame in frames if "rendition" in frame.files and not frame.ghost),
        ]
    where = {frame.entry: {} if folder else {"path": frame.entry} for frame in frames}
    if layout.format == "json":
        listed: Any = [where[frame.entry] | _nested(layout, _values(layout, frame)) for frame in frames]
        if layout.keyed:
            keys = [frame.entry.rpartition("/")[2] if folder else frame.entry for frame in frames]
            listed = {key: _nested(layout, _values(layout, frame)) for key, frame in zip(keys, frames, strict=True)}
        return folder + "index.json", _encoded(layout, json.dumps({"made": "up", "all": listed}, ensure_ascii=False))
    if layout.format == "xml":
        items = "".join(f"<item>{_xml(layout, where[frame.entry] | _values(layout, frame))}</item>" for frame in frames)
        return folder + "index.xml", _encoded(layout, f'<list xmlns="urn:made-up">{items}</list>')
    import csv

    text = io.StringIO(newline="")
    rows = [{layout.key(k): v for k, v in (where[frame.entry] | _values(layout, frame)).items()} for frame in frames]
    columns: dict[str, None] = {}
    for row in rows:
        columns |= dict.fromkeys(row)
    writer = csv.DictWriter(text, list(columns))
    writer.writeheader()
    writer.writerows(rows)
    return folder + "index.csv", _encoded(layout, text.getvalue())


def _encoded(layout: Layout, text: str) -> bytes:
    if layout.encoding == "latin-1" and layout.format == "json":
        try:
            return text.encode("latin-1")
        except UnicodeEncodeError:
            return text.encode()
    return text.encode("utf-8-sig" if layout.encoding == "utf-8-sig" else "utf-8")


def _pack(layout: Layout, path: Path, entries: Iterable[tuple[str, bytes]]) -> None:
    if layout.container == "folder":
        for name, content in entries:
            target = path / name
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(content)
    elif layout.container in ("zip", "stored"):
        method = zipfile.ZIP_DEFLATED if layout.container == "zip" else zipfile.ZIP_STORED
        with zipfile.ZipFile(path, "w", method) as archive:
            for name, content in entries:
                archive.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), content, method)
    else:
        with tarfile.open(path, "w:gz" if layout.container == "tar.gz" else "w", format=tarfile.PAX_FORMAT) as archive:
            for name, content in entries:
                info = tarfile.TarInfo(name)
                info.size = len(content)
                archive.addfile(info, io.BytesIO(content))
