"""The made-up world: what the account at Thrushfield holds, and the truth it was made from."""

import hashlib
import json
from dataclasses import asdict, dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from PIL import Image
from PIL.TiffImagePlugin import IFDRational

from bramblemoor.standins.clips import movie
from bramblemoor.standins.drawing import draw, jpeg


@dataclass(frozen=True)
class Shoot:
    """One session of the scenario: where, when, with what, and what is said of its pictures."""

    subject: str
    location: str
    scene: str
    skies: tuple[str, ...]
    begins: datetime
    every: int  # minutes between pictures
    offset: int  # minutes
    count: int
    prefix: str
    camera: tuple[str, str, str]  # maker, model, lens
    position: tuple[float, float]
    keywords: tuple[str, ...]
    people: tuple[str, ...]
    titles: tuple[str, ...]


_FEN = ("Alderholt", "Alderholt M7", "Alderholt 35mm f/2")
_POCKET = ("Kestrelway", "Pocket 4", "Kestrelway 24-70mm")

SHOOTS = (
    Shoot(
        "Reed cutting", "Saltby Fen", "reeds", ("dawn", "grey", "day"), datetime(2024, 9, 14, 6, 12), 9, 60, 20,
        "ALD_", _FEN, (54.663842, 2.117289), ("reeds", "fen", "harvest"), ("Ada Fenwright", "Joss Marl"),
        ("First swathe", "Bundles on the bank", "Mist over the cut", "Łąka o świcie", "The long scythe"),
    ),
    Shoot(
        "Barge wash", "Lock Nine", "barge", ("day", "grey"), datetime(2025, 4, 26, 10, 5), 11, 60, 19,
        "KW", _POCKET, (54.637104, 2.149734), ("barge", "lock", "water"), ("Joss Marl",),
        ("Soap and sun", "Rinsing the Marigold", "Шлюз номер девять", "Ropes & buckets", "Gate paddles"),
    ),
    Shoot(
        "Owl boxes", "Harrow Wood", "owls", ("grey", "dusk"), datetime(2025, 11, 8, 14, 20), 6, 0, 18,
        "ALD_", _FEN, (54.691377, 2.076092), ("owls", "wood", "nest boxes"), ("Ada Fenwright", "Tilde Roke"),
        ("Box seven, occupied", "Φωλιά της κουκουβάγιας", "Ladder work", "Looking back at us", "Leaf fall"),
    ),
    Shoot(
        "Lantern fair", "Withymere", "lanterns", ("night", "dusk"), datetime(2026, 5, 2, 20, 44), 4, 60, 22,
        "ALD_", _FEN, (54.652519, 2.133957), ("lanterns", "fair", "night"), ("Ada Fenwright", "Tilde Roke", "Omar Vale"),
        ("Lanterns on the landing", "水面の灯り", "Two hundred wishes", "Die Laternen steigen", "The last lantern"),
    ),
    Shoot(
        "Chapel roofers", "Upper Tarn", "roofers", ("day", "dawn"), datetime(2026, 8, 19, 8, 30), 17, 345, 16,
        "KW", _POCKET, (15.986065, 88.922623), ("roof", "chapel", "work"), ("Omar Vale",),
        ("New slates", "छत पर सुबह", "Ridge line", "Tea on the scaffold", "Bell housing"),
    ),
)  # fmt: skip


def locations() -> str:
    """The made-up valley's own names for where it is, as a library keeps them in companions/locations.toml."""
    return "\n".join(
        f'[[location]]\nname = "{shoot.location}"\nposition = [{shoot.position[0]}, {shoot.position[1]}]\nradius = 900\n'
        for shoot in SHOOTS
    )


ALBUMS = (
    ("L-01", "Best of the valley", "One picture of each good day."),
    ("L-02", "Lantern nights", "Every fair we could stay awake for."),
    ("L-03", "Owls & water", ""),
    ("L-04", "Für Großmutter 💛", "To print, large."),
    ("L-05", "Roof work: 2026", "For the chapel committee."),
)


@dataclass
class Item:
    """One frame of the account. `files` are (role, name at the service, stored file); `truth` what an export must bring home."""

    ref: str
    filename: str
    kind: str
    shutter_utc: str
    heading: str
    text: str
    spot: tuple[float, float] | None
    spot_name: str
    faces: list[str]
    subjects: list[str]
    heart: bool
    quality: str
    labels: list[str]
    slip: bool = True
    files: list[dict[str, Any]] = field(default_factory=list)
    truth: dict[str, Any] = field(default_factory=dict)


def frame_times(shoot: Shoot, index: int) -> tuple[datetime, datetime]:
    """Local time and UTC, naive, of a frame of a shoot."""
    local = shoot.begins + timedelta(minutes=shoot.every * index, seconds=(index * 37) % 60)
    return local, local - timedelta(minutes=shoot.offset)


def make_world(folder: Path) -> None:
    """Draw the account into `folder`: items/, account.json (what the service knows) and truth.json (for checkers)."""
    (folder / "items").mkdir(parents=True, exist_ok=True)
    items = []
    number = 0
    for order, shoot in enumerate(SHOOTS):
        for index in range(shoot.count):
            number += 1
            items.append(_item(folder, shoot, order, index, number))
    items.append(_video(folder, number + 1))
    items.append(_ghost(number + 2))
    labels = [{"ref": ref, "title": title, "about": about} for ref, title, about in ALBUMS]
    account: dict[str, Any] = {"service": "Thrushfield", "items": [], "labels": labels}
    truth: dict[str, Any] = {"albums": {}, "frames": []}
    for item in items:
        record = asdict(item)
        known = {"ref": item.ref, "name": item.filename, "files": item.files, "slip": item.slip}
        truth["frames"].append(record.pop("truth") | known)
        account["items"].append(record)
    for ref, title, _ in ALBUMS:
        truth["albums"][title] = [item.ref for item in items if ref in item.labels and item.files]
    for name, document in (("truth.json", truth), ("account.json", account)):
        (folder / name).write_text(json.dumps(document, ensure_ascii=False, indent=1), encoding="utf-8")


def _labels(shoot: Shoot, index: int) -> list[str]:
    chosen = []
    if index % 7 == 2:
        chosen.append("L-01")
    if shoot.scene == "lanterns" and index % 3 != 1:
        chosen.append("L-02")
    if (shoot.scene == "owls" and index % 4 == 1) or (shoot.scene in ("barge", "reeds") and index % 9 == 2):
        chosen.append("L-03")
    if index == 4:
        chosen.append("L-04")
    if shoot.scene == "roofers" and index % 4 == 0:
        chosen.append("L-05")
    return chosen


def _item(folder: Path, shoot: Shoot, order: int, index: int, number: int) -> Item:
    ref = f"TF-{number:06}"
    local, utc = frame_times(shoot, index)
    # Oddities, each once or a few times: see the truth below for what each must come to.
    service_only = shoot.scene == "barge" and index == 17  # no Exif at all: the service alone knows the date
    no_slip = shoot.scene == "reeds" and index == 11
    twin = shoot.scene == "lanterns" and index == 13  # a second camera's counter gives the name of the picture before
    drifting = (
        shoot.scene == "roofers" and index == 9
    )  # the camera's clock is 37 minutes off: nobody can tell the offset
    tells_offset = index % 5 != 3 and not drifting
    edited = shoot.scene == "owls" and index == 5
    moving = shoot.scene == "lanterns" and index == 6
    reduced = shoot.scene == "barge" and index in (3, 8, 14)
    filename = f"{shoot.prefix}{order * 211 + index + (30 if not twin else 29):04}.jpg"
    located = index % 3 != 2 and not service_only
    heading = shoot.titles[index % len(shoot.titles)] + (f" {index // len(shoot.titles) + 1}" if index >= 5 else "")
    text = f"{shoot.subject} at {shoot.location}, picture {index + 1} of {shoot.count}." if index % 2 else ""
    spot = (shoot.position[0] + index / 9000, shoot.position[1] - index / 7000)
    item = Item(
        ref=ref,
        filename=filename,
        kind="photo",
        shutter_utc=(utc + timedelta(minutes=37 if drifting else 0)).isoformat(),
        heading=heading,
        text=text,
        spot=(round(spot[0], 6), round(spot[1], 6)) if index % 4 else None,
        spot_name=shoot.location,
        faces=[shoot.people[index % len(shoot.people)]] if index % 3 == 0 else [],
        subjects=[*shoot.keywords, shoot.subject],
        heart=index % 6 == 1,
        quality="reduced" if reduced else "original",
        labels=_labels(shoot, index),
        slip=not no_slip,
    )
    size = (480, 320) if reduced else (960, 640)
    image = draw(shoot.scene, shoot.skies[index % len(shoot.skies)], number, size)
    exif = None if service_only else exif_of(shoot, index, local, tells_offset, spot if located else None)
    _store(folder, item, "original", filename, jpeg(image, exif=exif))
    stem = filename.removesuffix(".jpg")
    if edited:
        _store(folder, item, "rendition", f"{stem}-touched.jpg", jpeg(image.convert("L").convert("RGB"), exif=exif))
    if moving:
        pictures = [jpeg(draw(shoot.scene, "night", number * 50 + n, (320, 214)), 60) for n in range(6)]
        _store(folder, item, "clip", f"{stem}.mp4", movie(pictures, (320, 214), utc))
    camera_spot = (round(spot[0], 6), round(spot[1], 6)) if located else None
    service_spot = item.spot if item.slip else None
    _tell_truth(
        item,
        taken=_true_date(local, utc, shoot.offset, tells_offset, service_only, no_slip or drifting),
        shown=utc if service_only else local,
        instant=utc if tells_offset or not (no_slip or drifting) else local,
        position=camera_spot or service_spot,
    )
    return item


def _true_date(local: datetime, utc: datetime, offset: int, told: bool, service_only: bool, unknown: bool) -> str:
    if service_only:
        return f"{utc.isoformat()}Z"
    if not told and unknown:
        return local.isoformat()
    return f"{local.isoformat()}+{offset // 60:02}:{offset % 60:02}"


def _tell_truth(
    item: Item, taken: str, shown: datetime, instant: datetime, position: tuple[float, float] | None
) -> None:
    said = item.slip
    item.truth = {
        "filename": item.filename,
        "kind": item.kind,
        "taken": taken,
        "month": shown.strftime("%Y-%m"),
        "mtime": int((instant - datetime(1970, 1, 1)).total_seconds()),
        "title": item.heading if said else "",
        "caption": item.text if said else "",
        "keywords": item.subjects if said else [],
        "people": item.faces if said else [],
        "position": position,
        "location": item.spot_name if said else "",
        "favourite": item.heart and said,
    }


def exif_of(
    shoot: Shoot, index: int, local: datetime, tells_offset: bool, spot: tuple[float, float] | None
) -> Image.Exif:
    maker, model, lens = shoot.camera
    exif = Image.Exif()
    exif[0x010F], exif[0x0110], exif[0x0112] = maker, model, 1
    written = local.strftime("%Y:%m:%d %H:%M:%S")
    exif[0x0132] = written
    shot = exif.get_ifd(0x8769)
    shot[0x9003] = shot[0x9004] = written
    if tells_offset:
        shot[0x9011] = f"+{shoot.offset // 60:02}:{shoot.offset % 60:02}"
    shot[0x829A] = IFDRational(1, (60, 125, 250, 500)[index % 4])
    shot[0x829D] = IFDRational((20, 28, 40, 56)[index % 4], 10)
    shot[0x8827] = (100, 200, 400, 1600)[index % 4]
    shot[0x920A] = IFDRational((350, 500)[index % 2], 10)
    shot[0xA434] = lens
    if spot is not None:
        places = exif.get_ifd(0x8825)
        for value_tag, degrees, sides in ((2, spot[0], "NS"), (4, spot[1], "EW")):
            places[value_tag - 1] = sides[degrees < 0]
            whole, rest = divmod(abs(degrees), 1)
            minutes, rest = divmod(rest * 60, 1)
            places[value_tag] = (
                IFDRational(int(whole)),
                IFDRational(int(minutes)),
                IFDRational(round(rest * 6e7), 10**6),
            )
    return exif


def _video(folder: Path, number: int) -> Item:
    utc = datetime(2026, 5, 2, 20, 30, 10)
    item = Item(
        f"TF-{number:06}", "KW0901.mp4", "video", utc.isoformat(), "Lanterns rising", "Twelve seconds before the band began.",
        (54.652519, 2.133957), "Withymere", [], ["lanterns", "fair"], True, "original", ["L-02"],
    )  # fmt: skip
    pictures = [jpeg(draw("lanterns", "dusk", 7000 + n, (480, 320)), 60) for n in range(12)]
    _store(folder, item, "original", item.filename, movie(pictures, (480, 320), utc))
    _tell_truth(item, f"{utc.isoformat()}Z", utc, utc, item.spot)
    return item


def _ghost(number: int) -> Item:
    """The service lists it and writes its sidecar, but its picture is gone."""
    return Item(
        f"TF-{number:06}", "KW0777.jpg", "photo", "2025-04-26T12:00:00", "The one that got away", "", None, "Lock Nine", [],
        ["barge"], False, "original", [],
    )  # fmt: skip


def _store(folder: Path, item: Item, role: str, name: str, content: bytes) -> None:
    stored = f"{item.ref}-{role}{Path(name).suffix}"
    (folder / "items" / stored).write_bytes(content)
    digest = hashlib.sha256(content).hexdigest()
    item.files.append({"role": role, "name": name, "stored": stored, "bytes": len(content), "sha256": digest})
