"""Compare what lies on disk with the truth that the made-up world was drawn from. Imports nothing of Bramblemoor.

usage: check.py WORLD [--library DIR] [--depot DIR]...

WORLD holds truth.json. Prints one line for each thing that is wrong and exits 1, or says what was compared and exits 0.
"""

import argparse
import csv
import hashlib
import json
import re
import sqlite3
import sys
import xml.etree.ElementTree as ET
import zipfile
from pathlib import Path
from typing import Any

RDF = "{http://www.w3.org/1999/02/22-rdf-syntax-ns#}"
SPACES = {
    "dc": "http://purl.org/dc/elements/1.1/",
    "exif": "http://ns.adobe.com/exif/1.0/",
    "photoshop": "http://ns.adobe.com/photoshop/1.0/",
    "core": "http://iptc.org/std/Iptc4xmpCore/1.0/xmlns/",
    "ext": "http://iptc.org/std/Iptc4xmpExt/2008-02-29/",
    "bm": "http://ns.bramblemoor.example/1.0/",
}
wrong: list[str] = []
compared = 0


def expect(what: str, found: object, wanted: object) -> None:
    global compared
    compared += 1
    if found != wanted:
        wrong.append(f"{what}: found {found!r}, should be {wanted!r}")


def sha256(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def files_below(folder: Path) -> dict[str, Path]:
    return {path.relative_to(folder).as_posix(): path for path in sorted(folder.rglob("*")) if path.is_file()}


def xmp_values(path: Path) -> dict[str, list[str]]:
    """Every property of a sidecar as a list of texts, by prefix:name."""
    values: dict[str, list[str]] = {}
    body = re.sub(rb"<\?xpacket.*?\?>", b"", path.read_bytes())
    for description in ET.fromstring(body.strip()).iter(RDF + "Description"):
        for element in description:
            space, _, name = element.tag[1:].partition("}")
            prefix = next((key for key, uri in SPACES.items() if uri == space), space)
            items = [item.text or "" for item in element.iter(RDF + "li")]
            values[f"{prefix}:{name}"] = items or [element.text or ""]
    return values


def degrees(text: str) -> float:
    match = re.fullmatch(r"(\d+),(\d+\.\d+)([NSEW])", text)
    if match is None:
        return float("nan")
    value = int(match[1]) + float(match[2]) / 60
    return -value if match[3] in "SW" else value


def check_sidecar(frame: dict[str, Any], path: Path, albums: list[str]) -> None:
    name = path.name
    found = xmp_values(path)
    for key, wanted in (
        ("dc:title", [frame["title"]] if frame["title"] else []),
        ("dc:description", [frame["caption"]] if frame["caption"] else []),
        ("dc:subject", frame["keywords"]),
        ("ext:PersonInImage", frame["people"]),
        ("core:Location", [frame["location"]] if frame["location"] else []),
        ("photoshop:DateCreated", [frame["taken"]]),
        ("exif:DateTimeOriginal", [frame["taken"]]),
        ("bm:favourite", ["True"] if frame["favourite"] else []),
    ):
        expect(f"{name} {key}", found.get(key, []), wanted)
    expect(f"{name} albums", sorted(found.get("bm:albums", [])), sorted(albums))
    if frame["position"]:
        at = [degrees(found.get(f"exif:GPS{axis}", [""])[0]) for axis in ("Latitude", "Longitude")]
        near = all(abs(here - there) < 2e-6 for here, there in zip(at, frame["position"], strict=True))
        expect(f"{name} position {at} near {frame['position']}", near, True)
    else:
        expect(f"{name} has no position", "exif:GPSLatitude" in found, False)


def check_pictures(truth: dict[str, Any], root: Path) -> dict[str, str]:
    """Every file of the truth is there once, in its month, at its time; returns the original's path by reference."""
    by_digest: dict[str, list[str]] = {}
    on_disk = files_below(root / "pictures")
    for name, path in on_disk.items():
        if not name.endswith(".xmp"):
            by_digest.setdefault(sha256(path), []).append(name)
    places = {}
    frames = [frame for frame in truth["frames"] if frame["files"]]
    for frame in frames:
        albums = [title for title, refs in truth["albums"].items() if frame["ref"] in refs]
        for file in frame["files"]:
            found = by_digest.pop(file["sha256"], [])
            expect(f"{frame['ref']} {file['name']} is there once", len(found), 1)
            if len(found) != 1:
                continue
            folder, _, name = found[0].rpartition("/")
            month = f"{frame['month'][:4]}/{frame['month']}"
            expect(f"{name} folder", folder, truth["renamed"].get(month, month))
            stem, _, ending = file["name"].rpartition(".")
            fits = re.fullmatch(rf"{re.escape(stem)}(-\d+)?\.{ending}", name) or re.fullmatch(r".*-touched.*", name)
            expect(f"{name} keeps its name", bool(fits), True)
            expect(f"{name} time", int((root / "pictures" / found[0]).stat().st_mtime), frame["mtime"])
            if file["role"] == "original":
                places[frame["ref"]] = f"pictures/{found[0]}"
                sidecar = root / "pictures" / f"{found[0]}.xmp"
                expect(f"{name} has a sidecar", sidecar.is_file(), bool(frame["slip"] or albums))
                if sidecar.is_file() and frame["slip"]:
                    check_sidecar(frame, sidecar, albums)
    for digest in truth["beside"]:
        expect(f"the picture {digest[:10]} of another account is there once", len(by_digest.pop(digest, [])), 1)
    of_cards = {digest: names for digest, names in by_digest.items() if digest in truth["cards"]}
    for digest, names in of_cards.items():
        expect(f"a card's {by_digest.pop(digest)[0]} is there once", len(names), 1)
    truth["from_cards"] = len({names[0].rpartition(".")[0] for names in of_cards.values()})
    expect("pictures nobody knows", sorted(name for names in by_digest.values() for name in names), [])
    return places


def check_library(truth: dict[str, Any], root: Path) -> None:
    places = check_pictures(truth, root)
    expect("half files", [name for name in files_below(root) if name.endswith((".bm-new", ".partial"))], [])
    lists = {}
    for path in (root / "albums").glob("*.csv"):
        with path.open(newline="", encoding="utf-8") as file:
            rows = list(csv.DictReader(file))
        if path.name == "_albums.csv":
            expect(
                "titles in the list of albums",
                sorted(row["title"] for row in rows),
                sorted([*truth["albums"], *truth["beside_albums"]]),
            )
            continue
        lists[tuple(row["path"] for row in rows)] = path.name
        expect(f"{path.name} positions", [int(row["position"]) for row in rows], list(range(1, len(rows) + 1)))
    for title, refs in truth["albums"].items():
        wanted = tuple(places.get(ref, "") for ref in refs)
        expect(f"an album list for {title}", wanted in lists, True)
    expect("albums", len(lists), len(truth["albums"]) + len(truth["beside_albums"]))
    slips = set()
    for packed in (root / "delivered").rglob("*.zip"):
        with zipfile.ZipFile(packed) as archive:
            for name in archive.namelist():
                if name.endswith(".slip"):
                    slips.add(json.loads(archive.read(name))["item"]["ref"])
    expect("delivered sidecars", slips, {frame["ref"] for frame in truth["frames"] if frame["slip"]})
    check_ledger(truth, root)
    check_receipts(truth, root)


def check_ledger(truth: dict[str, Any], root: Path) -> None:
    db = sqlite3.connect(f"file:{root / 'ledger/ledger.sqlite'}?mode=ro&immutable=1", uri=True)
    expect("ledger check", db.execute("PRAGMA quick_check").fetchone()[0], "ok")
    expect(
        "frames in the ledger",
        db.execute("SELECT count(*) FROM frames").fetchone()[0],
        sum(bool(f["files"]) for f in truth["frames"]) + len(truth["beside"]) + truth["from_cards"],
    )
    for path, digest in db.execute("SELECT path, sha256 FROM files WHERE role != 'ledger'"):
        there = (root / path).is_file()
        expect(f"the ledger's {path}", sha256(root / path) if there else "missing", digest)
    db.close()


def check_receipts(truth: dict[str, Any], root: Path) -> None:
    """The unpackings' accounts: the last of each order balances, by our own sums, and one speaks for all frames by name."""
    frames, left, last = [0], set(), {}
    for path in sorted((root / "ledger/receipts").glob("*-unpack-*.json")):
        receipt = json.loads(path.read_text(encoding="utf-8"))
        last[receipt["about"]["order"]] = receipt
    for order, receipt in last.items():
        lines = [line["amount"] for line in receipt["kept"] + receipt["left_out"]]
        for unit in ("frames", "files", "bytes"):
            expect(f"balance of {order} in {unit}", sum(line[unit] for line in lines), receipt["came_in"][unit])
        frames.append(receipt["came_in"]["frames"])
        left |= {item["name"] for item in receipt["left_out"]}
    expect("frames on a receipt", max(frames), len(truth["frames"]))
    for frame in truth["frames"]:
        if not frame["files"]:
            expect(f"a receipt names {frame['ref']}", frame["name"] in left, True)


def manifest(path: Path) -> dict[str, str]:
    lines = path.read_text(encoding="utf-8").splitlines() if path.is_file() else []
    return {name: digest for digest, _, name in (line.partition("  ") for line in lines)}


def check_depot(truth: dict[str, Any], root: Path, library: Path | None) -> None:
    """RFC 8493: complete and valid; and the same as the library."""
    name = root.name
    declared = (root / "bagit.txt").read_bytes() if (root / "bagit.txt").is_file() else b""
    expect(f"{name} bagit.txt", declared, b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n")
    listed = manifest(root / "manifest-sha256.txt")
    actual = {f"data/{path}": sha256(file) for path, file in files_below(root / "data").items()}
    expect(f"{name} payload", sorted(listed.items() ^ actual.items()), [])
    tags = manifest(root / "tagmanifest-sha256.txt")
    for path, digest in tags.items():
        expect(f"{name} tag {path}", sha256(root / path) if (root / path).is_file() else "missing", digest)
    others = {path for path in files_below(root) if not path.startswith("data/")}
    expect(f"{name} unlisted tags", sorted(others - set(tags) - {"tagmanifest-sha256.txt", "in-use.lock"}), [])
    size = sum((root / path).stat().st_size for path in actual)
    info = (root / "bag-info.txt").read_text(encoding="utf-8") if (root / "bag-info.txt").is_file() else ""
    expect(f"{name} Payload-Oxum", f"Payload-Oxum: {size}.{len(actual)}\n" in info, True)
    expect(f"{name} has no open run", (root / "incoming").exists(), False)
    check_library(truth, root / "data")
    if library is not None:
        for folder in ("pictures", "albums", "delivered", "companions"):
            mine = {path: sha256(file) for path, file in files_below(library / folder).items()}
            held = {path: sha256(file) for path, file in files_below(root / "data" / folder).items()}
            expect(f"{name} {folder} as in the library", sorted(mine.items() ^ held.items()), [])


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("world", type=Path)
    parser.add_argument("--library", type=Path)
    parser.add_argument(
        "--beside", type=Path, action="append", default=[], help="another account that was unpacked too"
    )
    parser.add_argument(
        "--card", type=Path, action="append", default=[], help="a card that was taken in too, as one stem a frame"
    )
    parser.add_argument("--depot", type=Path, action="append", default=[])
    parser.add_argument("--renamed", action="append", default=[], help="OLD=NEW, a folder below pictures/")
    parser.add_argument("--retitled", action="append", default=[], help="NAME=TITLE, by the user or in an editor")
    given = parser.parse_args()
    truth = json.loads((given.world / "truth.json").read_text(encoding="utf-8"))
    others = [json.loads((other / "truth.json").read_text(encoding="utf-8")) for other in given.beside]
    truth["renamed"] = dict(pair.split("=", 1) for pair in given.renamed)
    titles = dict(pair.split("=", 1) for pair in given.retitled)
    for frame in truth["frames"]:
        for file in frame["files"]:
            frame["title"] = titles.get(file["name"], frame["title"])
    truth["beside"] = {frame["sha256"] for other in others for frame in other["frames"]}
    for other in given.beside:  # what lies in a tree of folders beside its pictures comes as it is, but for sidecars
        lying = files_below(other / "tree") if (other / "tree").is_dir() else {}
        truth["beside"] |= {sha256(path) for name, path in lying.items() if not name.endswith(".xmp")}
    truth["beside_albums"] = [title for other in others for title in other.get("albums", {})]
    truth["cards"] = {sha256(path) for card in given.card for path in files_below(card).values()}
    if given.library is not None:
        check_library(truth, given.library)
    for depot in given.depot:
        check_depot(truth, depot, given.library)
    for line in wrong[:40]:
        print(line)
    print(f"{compared:,} comparisons, {len(wrong)} wrong")
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main())
