"""Pipit Lane, a social service: reduced copies without Exif, one list of everything, and an archive for each year."""

import hashlib
import json
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

from bramblemoor.standins.drawing import draw, jpeg
from bramblemoor.standins.exporter import Account, Entry, Record, Scope, as_json
from bramblemoor.standins.world import SHOOTS, frame_times

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
