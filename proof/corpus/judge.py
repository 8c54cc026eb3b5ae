"""Comparing an unpacked library with the truth: pairs and fields right, wrong, missing, and what was left open."""

import csv
import hashlib
import re
import sqlite3
import subprocess
import unicodedata
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from xml.etree import ElementTree
from zoneinfo import ZoneInfo

from tzfpy import get_tz

from corpus.layout import Layout
from corpus.values import signed
from corpus.world import ALBUMS, Frame

_RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"
_SPACES = {
    "{http://purl.org/dc/elements/1.1/}title": "title", "{http://purl.org/dc/elements/1.1/}description": "caption",
    "{http://purl.org/dc/elements/1.1/}subject": "tags", "{http://ns.adobe.com/photoshop/1.0/}DateCreated": "taken",
    "{http://iptc.org/std/Iptc4xmpExt/2008-02-29/}PersonInImage": "people",
    "{http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/}Location": "spot", "{http://ns.adobe.com/exif/1.0/}GPSLatitude": "lat",
    "{http://ns.adobe.com/exif/1.0/}GPSLongitude": "lon", "{http://ns.bramblemoor.example/1.0/}favourite": "favourite",
    "{http://ns.bramblemoor.example/1.0/}albums": "albums",
}  # fmt: skip


@dataclass
class Score:
    """Counts, and the first few sentences of what was wrong or missing."""

    counts: Counter[str] = field(default_factory=Counter)
    words: list[str] = field(default_factory=list)

    def note(self, what: str, words: str = "") -> None:
        self.counts[what] += 1
        if words and not what.endswith("right"):
            self.words.append(f"{what}: {words}")

    def add(self, other: "Score") -> None:
        self.counts += other.counts
        self.words += other.words


def said(path: Path) -> dict[str, list[str]]:
    """The values of an XMP sidecar."""
    return _values(path.read_bytes()) if path.is_file() else {}


def judge_toolkit(library: Path) -> Score:
    """Whether the reference toolkit's program gives back each value of each sidecar of a library."""
    score = Score()
    paths = sorted((library / "pictures").rglob("*.xmp"))
    for start in range(0, len(paths), 100):
        some = paths[start : start + 100]
        done = subprocess.run(["exempi", "-X", "-x", *map(str, some)], capture_output=True, check=False)
        dumped = re.split(rb"(?m)^dump_xmp for file .*\n", done.stdout)[1:]
        for path, packet in zip(some, dumped, strict=len(dumped) == len(some)):
            same = _values(packet) == said(path)
            score.note("toolkit right" if same else "toolkit wrong", f"{path} is read as {packet[:200]!r}")
        score.counts["toolkit wrong"] += len(some) - len(dumped)
    return score


def _values(packet: bytes) -> dict[str, list[str]]:
    body = re.sub(rb"<\?xpacket[^>]*\?>", b"", packet)
    values: dict[str, list[str]] = {}
    for description in ElementTree.fromstring(body.strip()).iter(_RDF + "Description"):
        for element in description:
            if element.tag in _SPACES:
                items = [item.text or "" for item in element.iter(_RDF + "li")]
                values[_SPACES[element.tag]] = items or [element.text or ""]
    return values


def expected_date(layout: Layout, frame: Frame) -> str:
    """What must be believed: a date that an XMP packet tells, for somebody has written it; the camera's clock, with an offset
    that it, the service or the map told; else the service's word.
    """
    sign = signed(frame.offset)
    if layout.documents == "xmp" and frame.told:
        return frame.told_local.isoformat() + sign
    if frame.corrected and frame.exif == "local":
        return frame.local.isoformat()
    if frame.exif == "offset" or (frame.exif == "local" and frame.told and layout.date.tells != "local"):
        return frame.local.isoformat() + sign
    if frame.exif == "local" or (frame.told and layout.date.tells == "local"):
        return frame.local.isoformat() + _by_the_map(frame)
    if not frame.told:
        return ""
    return frame.utc.isoformat() + "Z" if layout.date.tells == "utc" else frame.local.isoformat() + sign


def _by_the_map(frame: Frame) -> str:
    """The offset at the frame's position, where it is one and whole quarters of an hour."""
    if frame.position is None or not frame.told:
        return ""
    zone = ZoneInfo(get_tz(frame.position[1], frame.position[0]))
    one, other = (frame.local.replace(tzinfo=zone, fold=fold).utcoffset() for fold in (0, 1))
    assert one is not None
    return signed(int(one.total_seconds()) // 60) if one == other and one.total_seconds() % 900 == 0 else ""


def degrees(text: str) -> float:
    match = re.fullmatch(r"(\d+),(\d+\.\d+)([NSEW])", text)
    value = int(match[1]) + float(match[2]) / 60 if match else 999.0
    return -value if match and match[3] in "SW" else value


def judge(layout: Layout, frames: list[Frame], library: Path, open_records: set[str]) -> Score:
    """`open_records` are the names of records that the receipt tells as left out, or as left open."""
    score = Score()
    where: dict[str, Path] = {}
    for lies in (library / "pictures").rglob("*"):
        if lies.is_file() and lies.suffix != ".xmp":
            where[hashlib.sha256(lies.read_bytes()).hexdigest()] = lies
    db = sqlite3.connect(f"file:{library / 'ledger/ledger.sqlite'}?mode=ro&immutable=1", uri=True)
    frame_of = dict(db.execute("SELECT sha256, frame FROM files WHERE frame IS NOT NULL"))
    owners: dict[int, str] = {}
    told_open = {name.strip() for name in open_records}  # of what a list tells, spaces around it are no part
    empties = sum(frame.files.get("original") == b"" for frame in frames)
    for frame in frames:
        if frame.ghost:
            named = {frame.name, frame.entry, frame.entry.rpartition("/")[2], frame.sidecar}
            is_told = any(name.strip() in told_open for name in named)
            score.note("ghosts right" if is_told or frame.decided != "sure" else "ghosts wrong", frame.entry)
            continue
        content = frame.files["original"]
        digest = hashlib.sha256(content).hexdigest()
        path = where.get(digest)
        if path is None:
            score.note("pictures wrong", f"{frame.entry} is not in the library")
            continue
        score.note("pictures right")
        for role, other in frame.files.items():
            together = frame_of.get(hashlib.sha256(other).hexdigest()) == frame_of.get(digest)
            if role != "original" and (frame.told or not layout.refers):
                # Whose it is only a record's date may tell, which may not be told apart itself.
                is_open = not together and frame.decided != "sure" and frame.exif == "none"
                kind = "groups open" if is_open else "groups right" if together else "groups wrong"
                score.note(kind, f"{role} of {frame.entry}")
        if content == b"" and (empties > 1 or layout.folders == "labels"):
            continue  # several empty files are one content: nobody can tell them apart
        owner = owners.setdefault(frame_of[digest], frame.entry)
        if owner != frame.entry and frame.decided == "sure":
            score.note("groups wrong", f"{frame.entry} was made one frame with {owner}")
        _judge_frame(layout, frame, said(path.with_name(path.name + ".xmp")), score)
    _judge_albums(layout, frames, where, library, score)
    db.close()
    return score


def _judge_frame(layout: Layout, frame: Frame, found: dict[str, list[str]], score: Score) -> None:
    tokens = [tag for tag in found.get("tags", []) if re.fullmatch(r"id\d{7}", tag)]
    if frame.decided == "hidden":
        score.note("pairs misled" if tokens and tokens != [frame.token] else "pairs hidden")
        return
    if not frame.told:
        score.note("pairs wrong" if tokens else "pairs right", f"{frame.entry} was given {tokens}")
        return
    if tokens and tokens != [frame.token]:
        score.note("pairs wrong", f"{frame.entry} ({frame.token}, {frame.decided}) was given {tokens}")
        return
    if not tokens:
        kind = {"sure": "pairs missing", "may": "pairs open, hints only"}.get(frame.decided, "pairs open, true ties")
        score.note(kind, f"{frame.entry} ({frame.token})")
        return
    if frame.decided == "tie":
        score.note("pairs guessed", f"{frame.entry}: nothing could tell")
        return
    score.note("pairs right")
    # What is told of an edit counts where nothing is told of its original.
    title = frame.title or (
        "An edit"
        if (layout.own_edits or layout.refers) and layout.documents in ("index", "lists") and "rendition" in frame.files
        else ""
    )
    # Composition is no difference: XML and databases keep it, some services do not.
    wanted = {
        "title": [title] if title else [], "caption": [frame.caption] if frame.caption else [],
        "tags": list(dict.fromkeys(frame.tags)), "people": frame.people, "spot": [frame.spot] if frame.spot else [],
        "taken": [expected_date(layout, frame)], "favourite": ["True"] if frame.favourite and layout.documents != "xmp" else [],
    }  # fmt: skip
    for name, values in wanted.items():
        _judge_field(score, f"{frame.entry} {name}", found.get(name, []), values)
    here = [degrees(found[axis][0]) for axis in ("lat", "lon")] if "lat" in found and "lon" in found else []
    there = list(frame.position or ())
    near = len(here) == len(there) and all(abs(a - b) < 2e-5 for a, b in zip(here, there, strict=True))
    wanted_place = [str(there)] if there else []
    _judge_field(score, f"{frame.entry} position", wanted_place if near else list(map(str, here)), wanted_place)


def _judge_field(score: Score, name: str, found: list[str], wanted: list[str]) -> None:
    if [unicodedata.normalize("NFC", one) for one in found] == [unicodedata.normalize("NFC", one) for one in wanted]:
        score.counts["fields right"] += bool(wanted)
    else:
        score.note("fields wrong" if found else "fields missing", f"{name}: {found}, not {wanted}")


def _judge_albums(layout: Layout, frames: list[Frame], where: dict[str, Path], library: Path, score: Score) -> None:
    if layout.folders not in ("albums", "labels"):
        return
    for number, title in enumerate(ALBUMS):
        members = [
            frame for frame in frames
            if number in (frame.albums[:1] if layout.folders == "albums" else frame.albums) and frame.files.get("original")
            and frame.decided == "sure"
        ]  # fmt: skip
        wanted = {where[digest].relative_to(library).as_posix() for frame in members
                  if (digest := hashlib.sha256(frame.files["original"]).hexdigest()) in where}  # fmt: skip
        listed: set[str] = set()
        for path in (library / "albums").glob("*.csv"):
            if path.stem == title:
                with path.open(newline="", encoding="utf-8") as file:
                    listed |= {row["path"] for row in csv.DictReader(file)}
        score.note(
            "albums right" if listed >= wanted else "albums wrong", f"{title}: lacks {sorted(wanted - listed)[:2]}"
        )
