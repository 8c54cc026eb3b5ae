"""Trees of pictures of the made-up world, as somebody filed them in a folder service or a bucket."""

import hashlib
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape, quoteattr

from bramblemoor.standins.clips import movie
from bramblemoor.standins.drawing import draw, jpeg
from bramblemoor.standins.raws import dng
from bramblemoor.standins.world import SHOOTS, Shoot, exif_of, frame_times


@dataclass(frozen=True)
class Filing:
    """Which frames of the valley somebody keeps, and in which folder each shoot lies."""

    folders: dict[str, str]
    every: int
    first: int


STONEWHARF = Filing(
    {
        "reeds": "Valley/2024/Reed cutting (Saltby Fen)", "barge": "Valley/2025/Barge wash (Lock Nine)",
        "owls": "Valley/2025/Owl boxes (Harrow Wood)", "lanterns": "Fairs & feasts/Lantern fair",
        "roofers": "Work/Chapel roofers",
    },
    2, 0,
)  # fmt: skip
COLDBARROW = Filing({"reeds": "put-by/reeds", "owls": "put-by/owls", "lanterns": "put-by/lanterns/2026"}, 3, 1)


def draw_tree(folder: Path, filing: Filing) -> None:
    """Draw the tree, and truth.json beside it: of each picture its path, digest, and what its sidecar says."""
    tree = folder / "tree"
    truth: list[dict[str, Any]] = []
    number = 0
    for shoot in SHOOTS:
        for index in range(shoot.count):
            number += 1
            if shoot.scene in filing.folders and index % filing.every == filing.first:
                truth.append(_put(tree, filing.folders[shoot.scene], shoot, index, number))
    _put_others(tree, filing, truth)
    document = json.dumps({"frames": truth}, ensure_ascii=False, indent=1)
    (folder / "truth.json").write_text(document, encoding="utf-8")


def _put(tree: Path, place: str, shoot: Shoot, index: int, number: int) -> dict[str, Any]:
    """One picture with its Exif; of two in three a sidecar with what somebody typed."""
    local, _ = frame_times(shoot, index)
    image = draw(shoot.scene, shoot.skies[index % len(shoot.skies)], number + 500, (960, 640))
    spot = (shoot.position[0] + index / 9000, shoot.position[1] - index / 7000)
    raw = shoot.scene == "owls" and index % 4 == 0
    name = f"{shoot.prefix}{4000 + number}.{'dng' if raw else 'jpg'}"
    content = (
        dng(image, local, shoot.camera[0], shoot.camera[1])
        if raw
        else jpeg(image, exif=exif_of(shoot, index, local, True, spot))
    )
    path = tree / place / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    said: dict[str, Any] = {}
    if index // 2 % 3 != 1:
        said = {
            "title": shoot.titles[index % len(shoot.titles)],
            "caption": f"{shoot.subject}, kept for the parish. " * (8 if index % 10 == 0 else 1),
            "keywords": list(shoot.keywords),
            "people": [shoot.people[0]] if index % 2 == 0 else [],
            "rating": index % 6,
        }
        said["caption"] = said["caption"].strip()
        path.with_name(name + ".xmp").write_text(_sidecar(said), encoding="utf-8")
    return {
        "path": f"{place}/{name}", "sha256": hashlib.sha256(content).hexdigest(), "bytes": len(content), "said": said,
        "taken": local.isoformat(),
    }  # fmt: skip


def _put_others(tree: Path, filing: Filing, truth: list[dict[str, Any]]) -> None:
    """A film, and a note that is no picture."""
    place = next(iter(filing.folders.values()))
    _, utc = frame_times(SHOOTS[0], 3)
    pictures = [jpeg(draw("reeds", "day", 9000 + n, (320, 214)), 60) for n in range(6)]
    content = movie(pictures, (320, 214), utc)
    (tree / place / "ALD_4900.mp4").write_bytes(content)
    truth.append({
        "path": f"{place}/ALD_4900.mp4", "sha256": hashlib.sha256(content).hexdigest(), "bytes": len(content), "said": {},
        "taken": f"{utc.isoformat()}Z",
    })  # fmt: skip
    (tree / place / "who-is-who.txt").write_text("Left to right: Ada, Joss, the dog.\n", encoding="utf-8")


def _sidecar(said: dict[str, Any]) -> str:
    def alternative(name: str, text: str) -> str:
        return f'<{name}><rdf:Alt><rdf:li xml:lang="x-default">{escape(text)}</rdf:li></rdf:Alt></{name}>'

    def bag(name: str, values: list[str]) -> str:
        inner = "".join(f"<rdf:li>{escape(one)}</rdf:li>" for one in values)
        return f"<{name}><rdf:Bag>{inner}</rdf:Bag></{name}>" if values else ""

    return (
        '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>\n<x:xmpmeta xmlns:x="adobe:ns:meta/">'
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about=""'
        ' xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/"'
        ' xmlns:Iptc4xmpExt="http://iptc.org/std/Iptc4xmpExt/2008-02-29/"'
        f" xmp:Rating={quoteattr(str(said['rating']))}>"
        + alternative("dc:title", said["title"])
        + alternative("dc:description", said["caption"])
        + bag("dc:subject", said["keywords"])
        + bag("Iptc4xmpExt:PersonInImage", said["people"])
        + '</rdf:Description></rdf:RDF></x:xmpmeta>\n<?xpacket end="w"?>\n'
    )
