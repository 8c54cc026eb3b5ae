"""How Thrushfield writes an export: a stream of pictures, a folder a label, slips with the facts, and a contents list."""

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from bramblemoor.standins.exporter import Account, Entry, Record, Scope, as_json, as_utc
from bramblemoor.standins.world import make_world


class Thrushfield(Account):
    """Flat, albums as labels; keeps originals, mostly."""

    name = "Thrushfield"
    prefix = "TF"

    @staticmethod
    def draw(folder: Path) -> None:
        make_world(folder)

    def keeps(self) -> Record:
        """All pictures as they are; it has no field for ratings, labels and who made them, and ignores sidecars."""
        names = ("taken", "title", "caption", "keywords", "people", "position", "location", "favourite")
        fields: Record = {name: {} for name in names}
        return {
            "stores": "original", "tree": False, "names": True, "embedded": True, "sidecars": False, "dates": "utc",
            "undated": "arrival",
            "fields": fields, "kinds": ["photo", "raw", "video"], "most_bytes": {"video": 200_000_000},
            "roles": ["rendition", "clip"], "albums": True, "album_order": True, "albums_overlap": True,
        }  # fmt: skip

    def told(self, item: Record) -> Record:
        told = {
            "taken": item["shutter_utc"] + "Z", "title": item["heading"], "caption": item["text"],
            "keywords": item["subjects"], "people": item["faces"], "location": item["spot_name"], "favourite": item["heart"],
        }  # fmt: skip
        return told | ({"position": item["spot"]} if item["spot"] else {})

    def take(self, ref: str, kind: str, contents: list[tuple[str, str, bytes]], told: Record) -> Record:
        files = [
            {"role": role, "name": name} | self.keep_file(f"{ref}-{number}{Path(name).suffix}", content)
            for number, (role, name, content) in enumerate(contents)
        ]
        return {
            "ref": ref, "filename": contents[0][1], "kind": kind, "shutter_utc": as_utc(told.get("taken", "")),
            "heading": told.get("title", ""), "text": told.get("caption", ""), "spot": told.get("position"),
            "spot_name": told.get("location", ""), "faces": told.get("people", []), "subjects": told.get("keywords", []),
            "heart": told.get("favourite", False), "quality": "original", "labels": [], "slip": True, "files": files,
        }  # fmt: skip

    def part_name(self, order: str, part: str, total: int, container: str) -> str:
        return f"thrushfield-{order}-{part}of{total}.{container}"

    def entries(self, scope: Scope, order: str) -> Iterator[Entry]:
        """Pictures first; the slips come last, so that they land in other parts than their pictures."""
        items = self.chosen(scope)
        names = _names_in_stream(items)
        contents = []
        for item in items:
            for file in item["files"]:
                yield Entry(f"stream/{names[item['ref'], file['name']]}", self.stored(file))
        for label in self.labels:
            if scope.albums and label["title"] not in scope.albums:
                continue
            folder = "labels/" + re.sub(r'[<>:"/\\|?*&]', "_", label["title"])
            members = [item for item in items if label["ref"] in item["labels"] and item["files"]]
            for item in members:
                first = item["files"][0]
                yield Entry(f"{folder}/{names[item['ref'], first['name']]}", self.stored(first))
            described = {"label": label["ref"], "heading": label["title"], "about": label["about"]}
            yield Entry(f"{folder}/label.json", as_json(described | {"order": [item["ref"] for item in members]}))
        for item in items:
            name = names.get((item["ref"], item["filename"])) or str(item["filename"])
            slip = f"slips/{name.replace('.', '_')}.slip"
            if item["slip"]:
                yield Entry(slip, as_json(_slip(item)))
            contents.append({"ref": item["ref"], "slip": slip if item["slip"] else None, "files": len(item["files"])})
        yield Entry(
            "read-me.txt",
            b"This parcel was made by Thrushfield at your request. Slips hold what we know of each picture.\n",
        )
        yield Entry("contents.json", as_json({"parcel": order, "items": contents}))


def _names_in_stream(items: list[Record]) -> dict[tuple[str, str], str]:
    """Names within the flat stream; the second of a name gets a number in braces."""
    seen: dict[str, int] = {}
    names = {}
    for item in items:
        for file in item["files"]:
            stem, dot, ending = file["name"].rpartition(".")
            seen[file["name"]] = seen.get(file["name"], 0) + 1
            number = seen[file["name"]]
            names[item["ref"], file["name"]] = f"{stem}{{{number}}}{dot}{ending}" if number > 1 else file["name"]
    return names


def _slip(item: Record) -> Record:
    shutter = datetime.fromisoformat(item["shutter_utc"]).replace(tzinfo=UTC)
    spot = item["spot"]
    return {
        "slip": 2,
        "item": {
            "ref": item["ref"],
            "filename": item["filename"],
            "quality": item["quality"],
            "sha256": item["files"][0]["sha256"] if item["files"] else None,
        },
        "words": {"heading": item["heading"].replace("&", "&amp;"), "text": item["text"]},
        "shutter": {"utc_ms": str(round(shutter.timestamp() * 1000))},
        "spot": {
            "lat_e6": round(spot[0] * 1e6) if spot else 0,
            "lon_e6": round(spot[1] * 1e6) if spot else 0,
            "name": item["spot_name"],
        },
        "faces": [{"called": name} for name in item["faces"]],
        "subjects": "; ".join(item["subjects"]),
        "heart": int(item["heart"]),
    }
