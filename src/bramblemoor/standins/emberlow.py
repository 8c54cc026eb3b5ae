"""Emberlow, a service for raws: DNG originals in project folders, edits as XMP beside them, a statement of everything in CSV."""

import csv
import hashlib
import io
import json
from collections.abc import Iterator
from pathlib import Path

from bramblemoor.standins.drawing import draw
from bramblemoor.standins.exporter import Account, Entry, Record, Scope
from bramblemoor.standins.raws import dng
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
                content = dng(picture, local, shoot.camera[0], shoot.camera[1])
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
