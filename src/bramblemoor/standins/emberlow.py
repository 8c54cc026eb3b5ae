"""Emberlow, a service for raws: DNG originals in project folders, edits as XMP beside them, a statement of everything in CSV."""

import csv
import hashlib
import io
import json
import struct
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

import numpy as np
from PIL import Image

from bramblemoor.standins.drawing import draw
from bramblemoor.standins.exporter import Account, Entry, Record, Scope
from bramblemoor.standins.world import SHOOTS, frame_times

_PROJECTS = {"owls": "Owl boxes (Harrow Wood)", "roofers": "Chapel roofers", "reeds": "Fens/Reed cutting (Saltby Fen)"}
_DEVELOP = "http://ns.emberlow.example/develop/2/"


class Emberlow(Account):
    """A folder tree; its edits are worth more than its pictures."""

    name = "Emberlow"
    prefix = "EM"
    container = "tar"

    @staticmethod
    def draw(folder: Path) -> None:
        """Four raws of each of three projects; two of three were edited."""
        (folder / "items").mkdir(parents=True, exist_ok=True)
        items: list[Record] = []
        truth: list[Record] = []
        number = 0
        for shoot in SHOOTS:
            for index in range(shoot.count):
                number += 1
                if shoot.scene not in _PROJECTS or index not in (1, 4, 7, 10):
                    continue
                local, utc = frame_times(shoot, index)
                picture = draw(shoot.scene, shoot.skies[index % len(shoot.skies)], number)
                name = f"EMB{number:05}.DNG"
                content = _dng(picture, local, shoot.camera[0], shoot.camera[1])
                (folder / "items" / name).write_bytes(content)
                edited = index != 7
                stars = index % 6
                packet = _packet(shoot.titles[index % len(shoot.titles)], stars, number) if edited else ""
                project = _PROJECTS[shoot.scene]
                item: Record = {
                    "ref": f"em-{number}", "kind": "photo", "shutter_utc": utc.isoformat(), "quality": "original",
                    "labels": [project], "name": name, "project": project, "edited": edited, "packet": packet, "stars": stars,
                    "files": [{"stored": name, "bytes": len(content), "sha256": hashlib.sha256(content).hexdigest()}],
                }  # fmt: skip
                items.append(item)
                truth.append(
                    {
                        "path": f"{project}/{name}", "sha256": item["files"][0]["sha256"], "edited": edited, "packet": packet,
                        "taken": local.isoformat(), "title": shoot.titles[index % len(shoot.titles)] if edited else "",
                        "stars": stars,
                    }
                )  # fmt: skip
        labels = [{"ref": project, "title": project} for project in _PROJECTS.values()]
        for name, document in (
            ("account.json", {"service": "Emberlow", "items": items, "labels": labels}),
            ("truth.json", {"frames": truth}),
        ):
            (folder / name).write_text(json.dumps(document, ensure_ascii=False, indent=1), encoding="utf-8")

    def part_name(self, order: str, part: str, total: int, container: str) -> str:
        return f"{order}.vol{int(part):03}.{container}"

    def entries(self, scope: Scope, order: str) -> Iterator[Entry]:
        """XMP first, so that it lies in other parts than the raws; the statement comes last."""
        items = self.chosen(scope)
        for item in items:
            if item["edited"]:
                name = f"Emberlow/{item['project']}/{item['name'].removesuffix('.DNG')}.xmp"
                yield Entry(name, item["packet"].encode())
        for item in items:
            yield Entry(f"Emberlow/{item['project']}/{item['name']}", self.stored(item["files"][0]))
        text = io.StringIO(newline="")
        writer = csv.writer(text, delimiter=";")
        writer.writerow(["Where", "Bytes", "Digest (SHA-256)", "Edited or not", "Stars"])
        for item in items:
            file = item["files"][0]
            edited = "edited" if item["edited"] else "not"
            writer.writerow(
                [f"{item['project']}/{item['name']}", file["bytes"], file["sha256"].upper(), edited, item["stars"]]
            )
        yield Entry("Emberlow/STATEMENT.CSV", text.getvalue().encode("utf-8-sig"))


def _packet(title: str, stars: int, number: int) -> str:
    """An XMP packet with an editor's instructions, nested ones too."""
    return f"""<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
 <rdf:Description rdf:about="" xmlns:em="{_DEVELOP}" xmlns:xmp="http://ns.adobe.com/xap/1.0/"
  xmlns:dc="http://purl.org/dc/elements/1.1/" em:Exposure="{number % 7 / 10:+.2f}" em:Film="Reed {number % 3}"
  xmp:Rating="{stars}">
  <dc:title><rdf:Alt><rdf:li xml:lang="x-default">{title.replace("&", "&amp;")}</rdf:li></rdf:Alt></dc:title>
  <em:Masks><rdf:Seq>
   <rdf:li rdf:parseType="Resource"><em:Shape>oval</em:Shape><em:Centre>0.{number % 10} 0.5</em:Centre></rdf:li>
   <rdf:li><rdf:Description em:Shape="brush" em:Strokes="12 14 {number}"/></rdf:li>
  </rdf:Seq></em:Masks>
 </rdf:Description>
</rdf:RDF></x:xmpmeta>
<?xpacket end="w"?>
"""


def _dng(picture: Image.Image, local: datetime, maker: str, model: str) -> bytes:
    """A DNG (1.4): a small RGB picture first, the sensor's mosaic behind it, dates in an Exif directory."""
    small = picture.resize((120, 80)).tobytes()
    rgb = np.asarray(picture.resize((240, 160)))
    mosaic = np.empty((160, 240), dtype="<u2")
    for row, column, channel in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        mosaic[row::2, column::2] = rgb[row::2, column::2, channel].astype("<u2") * 256
    raw = mosaic.tobytes()
    writer = _Tiff()
    at_small, at_raw = writer.block(small), writer.block(raw)
    shot = writer.directory([(0x9003, 2, local.strftime("%Y:%m:%d %H:%M:%S").encode() + b"\0")])
    sensor = writer.directory(
        [
            (0x00FE, 4, [0]), (0x0100, 4, [240]), (0x0101, 4, [160]), (0x0102, 3, [16]), (0x0103, 3, [1]),
            (0x0106, 3, [32803]), (0x0111, 4, [at_raw]), (0x0115, 3, [1]), (0x0116, 4, [160]), (0x0117, 4, [len(raw)]),
            (0x828D, 3, [2, 2]), (0x828E, 1, b"\0\1\1\2"),
        ]
    )  # fmt: skip
    first = writer.directory(
        [
            (0x00FE, 4, [1]), (0x0100, 4, [120]), (0x0101, 4, [80]), (0x0102, 3, [8, 8, 8]), (0x0103, 3, [1]),
            (0x0106, 3, [2]), (0x010F, 2, maker.encode() + b"\0"), (0x0110, 2, model.encode() + b"\0"),
            (0x0111, 4, [at_small]), (0x0115, 3, [3]), (0x0116, 4, [80]), (0x0117, 4, [len(small)]),
            (0x014A, 4, [sensor]), (0x8769, 4, [shot]), (0xC612, 1, b"\1\4\0\0"), (0xC613, 1, b"\1\1\0\0"),
            (0xC614, 2, f"{maker} {model}".encode() + b"\0"),
        ]
    )  # fmt: skip
    return writer.finish(first)


class _Tiff:
    """A little-endian TIFF file (6.0), built from its end: blocks and directories get places as they come."""

    def __init__(self) -> None:
        self._data = bytearray(b"II*\0\0\0\0\0")

    def block(self, content: bytes) -> int:
        place = len(self._data)
        self._data += content + b"\0" * (len(content) % 2)
        return place

    def directory(self, tags: list[tuple[int, int, bytes | list[int]]]) -> int:
        entries = b""
        for tag, kind, value in tags:
            raw = (
                value if isinstance(value, bytes) else struct.pack(f"<{len(value)}{'H' if kind == 3 else 'I'}", *value)
            )
            count = len(value)
            where = raw.ljust(4, b"\0") if len(raw) <= 4 else struct.pack("<I", self.block(raw))
            entries += struct.pack("<HHI", tag, kind, count) + where
        return self.block(struct.pack("<H", len(tags)) + entries + b"\0\0\0\0")

    def finish(self, first: int) -> bytes:
        self._data[4:8] = struct.pack("<I", first)
        return bytes(self._data)
