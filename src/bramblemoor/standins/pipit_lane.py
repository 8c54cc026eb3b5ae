"""Pipit Lane, a social service: reduced copies without Exif, one list of everything, and an archive for each year."""

import hashlib
import io
import json
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

from PIL import Image

from bramblemoor.standins.drawing import draw, jpeg
from bramblemoor.standins.exporter import Account, Entry, Record, Scope, as_json, as_utc
from bramblemoor.standins.world import SHOOTS, frame_times

_LETTERS = 200
"""How long a caption may be."""
_COLLECTIONS = (("c1", "Evenings"), ("c2", "People we met"))


class PipitLane(Account):
    """Keeps no originals: what it has is smaller, and says nothing of itself."""

    name = "Pipit Lane"
    prefix = "PL"
    container = "tar.gz"

    @staticmethod
    def draw(folder: Path) -> None:
        """Every third frame of the valley, and a few that only Pipit Lane has."""
        (folder / "items").mkdir(parents=True, exist_ok=True)
        items: list[Record] = []
        truth: list[Record] = []
        number = 0
        for shoot in SHOOTS:
            for index in range(shoot.count):
                number += 1
                if index % 3 or shoot.scene == "roofers":
                    continue
                _, utc = frame_times(shoot, index)
                content = jpeg(draw(shoot.scene, shoot.skies[index % len(shoot.skies)], number, (480, 320)), 60)
                digest = hashlib.sha256(content).hexdigest()
                name = f"{digest[:10]}.jpg"
                (folder / "items" / name).write_bytes(content)
                labels = [
                    ref
                    for ref, fits in (("c1", shoot.scene == "lanterns"), ("c2", bool(shoot.people) and index % 2))
                    if fits
                ]
                item: Record = {
                    "ref": f"pl{1000 + number}", "kind": "photo", "shutter_utc": utc.isoformat(), "quality": "reduced",
                    "labels": labels, "text": f"{shoot.titles[index % len(shoot.titles)]} – 100% {shoot.location}",
                    "with": [shoot.people[index % len(shoot.people)]] if index % 2 == 0 else [],
                    "spot": [round(shoot.position[0], 6), round(shoot.position[1], 6)] if index % 4 else None,
                    "hearts": index % 5, "files": [{"stored": name, "bytes": len(content), "sha256": digest}],
                }  # fmt: skip
                items.append(item)
                truth.append({"ref": item["ref"], "sha256": digest, "taken": f"{utc.isoformat()}Z", "caption": item["text"],
                              "people": item["with"], "position": item["spot"]})  # fmt: skip
        collections = [{"ref": ref, "title": title} for ref, title in _COLLECTIONS]
        members = {title: [item["ref"] for item in items if ref in item["labels"]] for ref, title in _COLLECTIONS}
        for name, document in (
            ("account.json", {"service": "Pipit Lane", "items": items, "labels": collections}),
            ("truth.json", {"frames": truth, "albums": members}),
        ):
            (folder / name).write_text(json.dumps(document, ensure_ascii=False, indent=1), encoding="utf-8")

    def keeps(self) -> Record:
        """Smaller copies under names of its own; captions that are not too long; a picture in one collection, in no order."""
        return {
            "stores": "reduced", "tree": False, "names": False, "embedded": False, "sidecars": False, "dates": "utc",
            "undated": "arrival",
            "fields": {"taken": {}, "caption": {"letters": _LETTERS}, "position": {}}, "kinds": ["photo", "video"],
            "most_bytes": {"video": 5_000_000, "photo": 30_000_000}, "roles": [], "albums": True, "album_order": False,
            "albums_overlap": False,
        }  # fmt: skip

    def told(self, item: Record) -> Record:
        told = {"taken": item["shutter_utc"] + "Z", "caption": item["text"], "people": item["with"]}
        return told | ({"position": item["spot"]} if item["spot"] else {})

    def take(self, ref: str, kind: str, contents: list[tuple[str, str, bytes]], told: Record) -> Record:
        """A picture is made smaller, and loses what is said inside; a caption that is too long is dropped."""
        _, name, content = contents[0]
        if kind == "photo":
            image = Image.open(io.BytesIO(content)).convert("RGB")
            image.thumbnail((480, 480))
            content = jpeg(image, 60)
        digest = hashlib.sha256(content).hexdigest()
        caption = str(told.get("caption", ""))
        return {
            "ref": ref, "kind": kind, "shutter_utc": as_utc(told.get("taken", "")),
            "quality": "reduced" if kind == "photo" else "original", "labels": [],
            "text": caption if len(caption) <= _LETTERS else "", "with": [], "spot": told.get("position"), "hearts": 0,
            "files": [self.keep_file(f"{digest[:10]}{'.jpg' if kind == 'photo' else Path(name).suffix}", content)],
        }  # fmt: skip

    def part_name(self, order: str, part: str, total: int, container: str) -> str:
        return f"pipitlane {part} ({order}).{container}"

    def entries(self, scope: Scope, order: str) -> Iterator[Entry]:
        """The list of everything lies in the archive of the newest year."""
        items = self.chosen(scope)
        years = sorted({item["shutter_utc"][:4] for item in items})
        for item in items:
            year = item["shutter_utc"][:4]
            yield Entry(f"shown/{year}/{item['files'][0]['stored']}", self.stored(item["files"][0]), part=year)
        container = scope.container or self.container
        document = {
            "archives": [self.part_name(order, year, len(years), container) for year in years],
            "posts": [_post(item) for item in items],
            "collections": [self._collection(label, items) for label in self.labels],
        }
        yield Entry("everything.json", as_json(document), part=years[-1])
        yield Entry("replies.html", b"<p>Lovely!</p>\n", part=years[-1])

    def _collection(self, label: Record, items: list[Record]) -> Record:
        posts = [item["ref"] for item in items if label["ref"] in item["labels"]]
        return {"called": label["title"], "posts": posts, "face": posts[-1] if posts else None}


def _post(item: Record) -> Record:
    shown = datetime.fromisoformat(item["shutter_utc"])
    spot: Any = item["spot"]
    return {
        "post": item["ref"],
        "file": f"shown/{shown:%Y}/{item['files'][0]['stored']}",
        "moment": shown.strftime("%d.%m.%Y %H:%M:%S"),
        "say": quote(item["text"]),
        "with": ", ".join(item["with"]),
        "point": f"{_angle(spot[0], 'NS')}, {_angle(spot[1], 'EW')}" if spot else "nowhere",
        "hearts": item["hearts"],
        "original": False,
    }


def _angle(degrees: float, sides: str) -> str:
    whole, rest = divmod(abs(degrees), 1)
    minutes, rest = divmod(rest * 60, 1)
    return f"{int(whole)}°{int(minutes)}'{rest * 60:.3f}\"{sides[degrees < 0]}"
