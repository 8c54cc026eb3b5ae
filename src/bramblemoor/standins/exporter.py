"""What the stand-in services share: an account on disk, what an order chooses of it, and parts to pack it into."""

import hashlib
import io
import json
import tarfile
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any

Record = dict[str, Any]
CONTAINERS = ("zip", "tar", "tar.gz")


@dataclass(frozen=True)
class Scope:
    """What an order asks for. Empty albums means everything; dates are ISO days, inclusive; media is photos, videos or both."""

    albums: tuple[str, ...] = ()
    since: str = ""
    until: str = ""
    media: str = "both"
    container: str = ""
    deliver: str = ""


@dataclass(frozen=True)
class Entry:
    """One file of the export: its name in the archive, its content or where that lies, and the part it must lie in, if any."""

    name: str
    content: bytes | Path
    part: str = ""


class Account(ABC):
    """What a service holds, read from its world's folder. `name` is what the service calls itself."""

    name: str
    prefix: str
    container = "zip"

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        document = json.loads((folder / "account.json").read_text(encoding="utf-8"))
        self.items: list[Record] = document["items"]
        self.labels: list[Record] = document["labels"]
        self._load_taken()

    @staticmethod
    @abstractmethod
    def draw(folder: Path) -> None:
        """Draw the account's made-up pictures into a folder, with account.json and truth.json."""

    @abstractmethod
    def entries(self, scope: Scope, order: str) -> Iterator[Entry]: ...

    @abstractmethod
    def part_name(self, order: str, part: str, total: int, container: str) -> str:
        """The name of a part; `part` is its number, or what `Entry.part` says."""

    # What it took besides lies beside the drawn account: a line for each frame, and the albums as they have become.

    def _load_taken(self) -> None:
        taken, labels = self.folder / "taken.jsonl", self.folder / "labels.json"
        if taken.is_file():
            self.items += [json.loads(line) for line in taken.read_text(encoding="utf-8").splitlines()]
        if labels.is_file():
            self.labels = json.loads(labels.read_text(encoding="utf-8"))
            for item in self.items:
                item["labels"] = [label["ref"] for label in self.labels if item["ref"] in label["members"]]

    def keep_item(self, item: Record) -> None:
        self.items.append(item)
        with (self.folder / "taken.jsonl").open("a", encoding="utf-8") as file:
            file.write(json.dumps(item, ensure_ascii=False) + "\n")

    def keep_labels(self) -> None:
        for label in self.labels:
            label.setdefault("members", [item["ref"] for item in self.items if label["ref"] in item["labels"]])
        fresh = self.folder / "labels.json.new"
        fresh.write_text(json.dumps(self.labels, ensure_ascii=False), encoding="utf-8")
        fresh.replace(self.folder / "labels.json")

    def keeps(self) -> Record:
        """What it keeps of what it is sent, as the protocol says it; empty for a service that takes nothing and lists nothing."""
        return {}

    def told(self, item: Record) -> Record:
        """What it knows of a frame, in the protocol's words."""
        raise NotImplementedError

    def take(self, ref: str, kind: str, contents: list[tuple[str, str, bytes]], told: Record) -> Record:
        """Make a frame of its own of files (role, name, content) and what is told of them."""
        raise NotImplementedError

    def keep_file(self, stored: str, content: bytes) -> Record:
        (self.folder / "items" / stored).write_bytes(content)
        return {"stored": stored, "bytes": len(content), "sha256": hashlib.sha256(content).hexdigest()}

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

    def stored(self, file: Record) -> Path:
        return self.folder / "items" / str(file["stored"])


def as_utc(taken: str) -> str:
    """A moment as the protocol tells it, as naive UTC: a local time without an offset is taken for UTC, and nothing for now."""
    if not taken:
        return datetime.now(UTC).replace(tzinfo=None, microsecond=0).isoformat()
    moment = datetime.fromisoformat(taken)
    return (moment.astimezone(UTC) if moment.tzinfo else moment).replace(tzinfo=None, microsecond=0).isoformat()


def as_json(document: Any) -> bytes:
    return json.dumps(document, ensure_ascii=False, indent=1).encode()


def write_parts(account: Account, scope: Scope, folder: Path, order: str, most_bytes: int) -> list[Path]:
    """Pack an export into parts of about `most_bytes`, or into the parts that its entries ask for."""
    folder.mkdir(parents=True, exist_ok=True)
    container = scope.container or account.container
    packers: dict[str, _Packer] = {}
    number = 0
    for entry in account.entries(scope, order):
        content = entry.content.read_bytes() if isinstance(entry.content, Path) else entry.content
        if not entry.part and (not number or packers[str(number)].filled + len(content) > most_bytes):
            if number:
                packers[str(number)].close()
            number += 1
        part = entry.part or str(number)
        if part not in packers:
            packers[part] = _Packer(folder / f"part-{part}.unfinished", container)
        packers[part].add(entry.name, content, stored=isinstance(entry.content, Path))
    for packer in packers.values():
        packer.close()
    return [
        packer.path.rename(folder / account.part_name(order, part, len(packers), container))
        for part, packer in packers.items()
    ]


class _Packer:
    """One part while it is written."""

    def __init__(self, path: Path, container: str) -> None:
        self.path = path
        self.filled = 0
        self._zip: zipfile.ZipFile | None = None
        self._tar: tarfile.TarFile | None = None
        if container == "zip":
            self._zip = zipfile.ZipFile(path, "w")
        else:
            mode = "w:gz" if container == "tar.gz" else "w"
            self._tar = tarfile.open(  # noqa: SIM115 - closed with the part
                path,
                mode,
                format=tarfile.PAX_FORMAT,  # type: ignore[call-overload]
            )

    def add(self, name: str, content: bytes, *, stored: bool) -> None:
        self.filled += len(content)
        if self._zip is not None:
            method = zipfile.ZIP_STORED if stored else zipfile.ZIP_DEFLATED
            self._zip.writestr(zipfile.ZipInfo(name, (2026, 11, 20, 12, 0, 0)), content, method)
        if self._tar is not None:
            info = tarfile.TarInfo(name)
            info.size, info.mtime = len(content), 1_795_000_000
            file: IO[bytes] = io.BytesIO(content)
            self._tar.addfile(info, file)

    def close(self) -> None:
        for archive in (self._zip, self._tar):
            if archive is not None:
                archive.close()
