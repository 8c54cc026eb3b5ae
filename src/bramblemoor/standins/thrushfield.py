"""How Thrushfield writes an export: a stream of pictures, a folder a label, slips with the facts, and a contents list."""

import json
import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

Record = dict[str, Any]


@dataclass(frozen=True)
class Scope:
    """What an order asks for. Empty albums means everything; dates are ISO days, inclusive; media is photos, videos or both."""

    albums: tuple[str, ...] = ()
    since: str = ""
    until: str = ""
    media: str = "both"


class Account:
    """What the service holds, read from the world's folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        document = json.loads((folder / "account.json").read_text(encoding="utf-8"))
        self.items: list[Record] = document["items"]
        self.labels: list[Record] = document["labels"]

    def chosen(self, scope: Scope) -> list[Record]:
        refs = {label["ref"] for label in self.labels if label["title"] in scope.albums}
        return [
            item
            for item in self.items
            if (not scope.albums or refs & set(item["labels"]))
            and (scope.media == "both" or scope.media == item["kind"] + "s")
            and (not scope.since or item["shutter_utc"][:10] >= scope.since)
            and (not scope.until or item["shutter_utc"][:10] <= scope.until)
        ]

    def counts(self, items: list[Record]) -> Record:
        """What the protocol calls a statement: frames, photos, videos, bytes, reduced, by year, newest and oldest."""
        years: dict[str, int] = {}
        for item in items:
            year = item["shutter_utc"][:4]
            years[year] = years.get(year, 0) + 1
        dates = sorted(item["shutter_utc"] for item in items)
        return {
            "frames": len(items),
            "photos": sum(item["kind"] == "photo" for item in items),
            "videos": sum(item["kind"] == "video" for item in items),
            "bytes": sum(file["bytes"] for item in items for file in item["files"]),
            "reduced": sum(item["quality"] == "reduced" for item in items),
            "years": dict(sorted(years.items())),
            "oldest": dates[0] if dates else None,
            "newest": dates[-1] if dates else None,
        }

    def albums(self, items: list[Record]) -> list[Record]:
        return [
            {"title": label["title"], "frames": sum(label["ref"] in item["labels"] for item in items)}
            for label in self.labels
        ]


@dataclass(frozen=True)
class Entry:
    """One file of the export: its name in the archive, and its content or where that lies."""

    name: str
    content: bytes | Path


def export_entries(account: Account, scope: Scope, order: str) -> Iterator[Entry]:
    """All entries of an export, pictures first; the slips come last, so that they land in other parts than their pictures."""
    items = account.chosen(scope)
    names = _names_in_stream(items)
    contents = []
    for item in items:
        for file in item["files"]:
            yield Entry(f"stream/{names[item['ref'], file['name']]}", account.folder / "items" / file["stored"])
    for label in account.labels:
        if scope.albums and label["title"] not in scope.albums:
            continue
        folder = "labels/" + re.sub(r'[<>:"/\\|?*&]', "_", label["title"])
        members = [item for item in items if label["ref"] in item["labels"] and item["files"]]
        for item in members:
            first = item["files"][0]
            yield Entry(f"{folder}/{names[item['ref'], first['name']]}", account.folder / "items" / first["stored"])
        described = {"label": label["ref"], "heading": label["title"], "about": label["about"]}
        yield Entry(f"{folder}/label.json", _json(described | {"order": [item["ref"] for item in members]}))
    for item in items:
        name = names.get((item["ref"], item["filename"])) or str(item["filename"])
        slip = f"slips/{name.replace('.', '_')}.slip"
        if item["slip"]:
            yield Entry(slip, _json(_slip(item)))
        contents.append({"ref": item["ref"], "slip": slip if item["slip"] else None, "files": len(item["files"])})
    yield Entry(
        "read-me.txt",
        b"This parcel was made by Thrushfield at your request. Slips hold what we know of each picture.\n",
    )
    yield Entry("contents.json", _json({"parcel": order, "items": contents}))


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


def _json(document: Any) -> bytes:
    return json.dumps(document, ensure_ascii=False, indent=1).encode()


def write_parts(entries: Iterator[Entry], folder: Path, order: str, most_bytes: int) -> list[Path]:
    """Pack entries into numbered ZIP parts of about `most_bytes`; their names tell how many there are."""
    folder.mkdir(parents=True, exist_ok=True)
    open_parts: list[Path] = []
    archive: zipfile.ZipFile | None = None
    filled = 0
    for entry in entries:
        content = entry.content.read_bytes() if isinstance(entry.content, Path) else entry.content
        if archive is None or (filled and filled + len(content) > most_bytes):
            if archive is not None:
                archive.close()
            open_parts.append(folder / f"part-{len(open_parts) + 1}.unfinished")
            archive, filled = zipfile.ZipFile(open_parts[-1], "w"), 0
        method = zipfile.ZIP_STORED if isinstance(entry.content, Path) else zipfile.ZIP_DEFLATED
        archive.writestr(zipfile.ZipInfo(entry.name, (2026, 11, 20, 12, 0, 0)), content, method)
        filled += len(content)
    if archive is not None:
        archive.close()
    total = len(open_parts)
    return [
        part.rename(folder / f"thrushfield-{order}-{number}of{total}.zip") for number, part in enumerate(open_parts, 1)
    ]
