"""Heavy proofs of moving house, on real servers where they run here: whole collections between each pair of kinds compared with
the truth, kills at many instants, and faults on the wire.

    python proof/moves.py [--frames 5000] [--kills 200] [--faults 20]

Nothing here imports Bramblemoor: it runs the program, and looks at what arrived with a bare client, or on the server's own disk.
"""

import argparse
import hashlib
import io
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from PIL import Image

from byte_proxy import Fault, proxied
from preloaded import SHORT_PAUSE, Preloaded
from real import Where, servers

PROGRAM = Path(sys.executable).with_name("bramblemoor")
_OFFSETS = (0, 60, 345)
_FIELDS = ("title", "caption", "keywords", "people", "rating")


@dataclass
class Frame:
    """One picture of the truth: where it lies, what it is, and what its sidecar says (nothing of each fifth)."""

    path: str
    content: bytes
    taken: datetime
    offset: int
    said: dict[str, Any] = field(default_factory=dict)

    @property
    def sha256(self) -> str:
        return hashlib.sha256(self.content).hexdigest()

    @property
    def utc(self) -> str:
        return (self.taken - timedelta(minutes=self.offset)).isoformat()


def frames(count: int, seed: int) -> list[Frame]:
    """Pictures of a few kilobytes with an Exif date, each its own; captions over 200 letters, ratings, people of some."""
    rand = random.Random(seed)
    found = []
    for number in range(count):
        taken, offset = datetime(2023, 1, 1) + timedelta(minutes=37 * number), rand.choice(_OFFSETS)
        image = Image.new("RGB", (64, 48), (number % 251, number // 251 % 251, 90))
        exif = Image.Exif()
        shot = exif.get_ifd(0x8769)
        shot[0x9003] = taken.strftime("%Y:%m:%d %H:%M:%S")
        shot[0x9011] = f"+{offset // 60:02}:{offset % 60:02}"
        written = io.BytesIO()
        image.save(written, "JPEG", exif=exif, comment=f"{seed}-{number}".encode())
        said: dict[str, Any] = {}
        if number % 5:
            said = {
                "title": f"Frame {number} of {seed}", "caption": "Reeds & water. " * (20 if number % 10 == 1 else 1),
                "keywords": [f"k{number % 7}", "fen"], "people": ["Ada Fenwright"] if number % 3 == 0 else [],
                "rating": number % 6,
            }  # fmt: skip
            said["caption"] = said["caption"].strip()
        path = f"{taken:%Y}/{taken:%m} fen/F{number:05}.jpg"
        found.append(Frame(path, written.getvalue(), taken, offset, said))
    return found


def sidecar(said: dict[str, Any]) -> bytes:
    def alternative(name: str, text: str) -> str:
        plain = text.replace("&", "&amp;")
        return f'<{name}><rdf:Alt><rdf:li xml:lang="x-default">{plain}</rdf:li></rdf:Alt></{name}>'

    def bag(name: str, values: list[str]) -> str:
        inner = "".join(f"<rdf:li>{one}</rdf:li>" for one in values)
        return f"<{name}><rdf:Bag>{inner}</rdf:Bag></{name}>" if values else ""

    return (
        '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
        '<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/"'
        f' xmlns:Iptc4xmpExt="http://iptc.org/std/Iptc4xmpExt/2008-02-29/" xmp:Rating="{said["rating"]}">'
        + alternative("dc:title", said["title"])
        + alternative("dc:description", said["caption"])
        + bag("dc:subject", said["keywords"])
        + bag("Iptc4xmpExt:PersonInImage", said["people"])
        + "</rdf:Description></rdf:RDF></x:xmpmeta>"
    ).encode()


class End:
    """One end of a move: a kind, where it is, and what a bare client sees of it."""

    def __init__(self, name: str, kind: str, where: Where) -> None:
        self.name, self.kind, self.where = name, kind, where

    def fill(self, truth: list[Frame]) -> None:
        """Put the truth there, past the program."""
        raise NotImplementedError

    def lying(self, below: str) -> dict[str, bytes]:
        """What lies below a folder: paths and contents. Of a flat service: what it calls each, and the bytes."""
        raise NotImplementedError


class OnDisk(End):
    """One whose files lie in folders of this machine, where `top` says."""

    def top(self, below: str) -> Path:
        return Path(self.where["folder"], below)

    def fill(self, truth: list[Frame]) -> None:
        for one in truth:
            path = self.top("from") / one.path
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(one.content)
            if one.said:
                path.with_name(path.name + ".xmp").write_bytes(sidecar(one.said))

    def lying(self, below: str) -> dict[str, bytes]:
        top = self.top(below)
        return {path.relative_to(top).as_posix(): path.read_bytes() for path in top.rglob("*") if path.is_file()}


class Folders(OnDisk):
    """A real server, which runs as somebody else."""

    def fill(self, truth: list[Frame]) -> None:
        super().fill(truth)
        top = Path(self.where["folder"])
        for path in (top, *top.rglob("*")):
            path.chmod(0o777 if path.is_dir() else 0o666)


class InLibrary(OnDisk):
    """Pictures that lie in a library already: the program sends what it has there."""

    def top(self, below: str) -> Path:
        return Path(self.where["folder"], "pictures")


class Bucket(End):
    def client(self) -> tuple[Any, str, str]:
        import boto3
        from botocore.config import Config

        parts = urlsplit(self.where["url"])
        bucket, _, prefix = parts.path.strip("/").partition("/")
        config = Config(request_checksum_calculation="when_required", response_checksum_validation="when_required")
        return boto3.client(
            "s3", endpoint_url=f"{parts.scheme}://{parts.netloc}", aws_access_key_id=self.where["user"],
            aws_secret_access_key=self.where["secret"], region_name="us-east-1", config=config,
        ), bucket, f"{prefix}/" if prefix else ""  # fmt: skip

    def fill(self, truth: list[Frame]) -> None:
        client, bucket, prefix = self.client()
        for one in truth:
            client.put_object(Bucket=bucket, Key=f"{prefix}from/{one.path}", Body=one.content)
            if one.said:
                client.put_object(Bucket=bucket, Key=f"{prefix}from/{one.path}.xmp", Body=sidecar(one.said))

    def lying(self, below: str) -> dict[str, bytes]:
        client, bucket, prefix = self.client()
        found = {}
        for page in client.get_paginator("list_objects_v2").paginate(Bucket=bucket, Prefix=f"{prefix}{below}/"):
            for one in page.get("Contents", ()):
                found[one["Key"][len(prefix) + len(below) + 1 :]] = client.get_object(Bucket=bucket, Key=one["Key"])[
                    "Body"
                ].read()
        return found


class Flat(End):
    def fill(self, truth: list[Frame]) -> None:
        """An account of its own, written before the stand-in is started."""
        folder = Path(self.where["folder"])
        (folder / "items").mkdir(parents=True)
        items = []
        for number, one in enumerate(truth):
            stored = f"S{number:06}.jpg"
            (folder / "items" / stored).write_bytes(one.content)
            file = {
                "role": "original",
                "name": Path(one.path).name,
                "stored": stored,
                "bytes": len(one.content),
                "sha256": one.sha256,
            }
            items.append({
                "ref": f"S-{number:06}", "filename": file["name"], "kind": "photo", "shutter_utc": one.utc,
                "heading": one.said.get("title", ""), "text": one.said.get("caption", ""), "spot": None, "spot_name": "",
                "faces": one.said.get("people", []), "subjects": one.said.get("keywords", []), "heart": False,
                "quality": "original", "labels": ["L1"] if number % 4 == 0 else [], "slip": True, "files": [file],
            })  # fmt: skip
        labels = [{"ref": "L1", "title": "Every fourth", "about": ""}]
        (folder / "account.json").write_text(json.dumps({"service": self.name, "items": items, "labels": labels}))

    def taken(self) -> list[dict[str, Any]]:
        path = Path(self.where["folder"], "taken.jsonl")
        return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []

    def albums(self) -> dict[str, int]:
        path = Path(self.where["folder"], "labels.json")
        return {one["title"]: len(one["members"]) for one in json.loads(path.read_text())} if path.exists() else {}

    def lying(self, below: str) -> dict[str, bytes]:
        folder = Path(self.where["folder"], "items")
        return {item["ref"]: (folder / item["files"][0]["stored"]).read_bytes() for item in self.taken()}


@contextmanager
def standing_in(service: str, folder: Path, *faults: str) -> Iterator[Where]:
    """A stand-in with its account in a folder; yields where it is."""
    process = subprocess.Popen(
        [str(PROGRAM), "stand-in", service, str(folder), *faults], stdout=subprocess.PIPE, text=True
    )
    try:
        assert process.stdout is not None and "listens" in process.stdout.readline()
        address, secret = (folder / "address.txt").read_text(), (folder / "token.txt").read_text()
        yield {"folder": str(folder), "url": address.strip(), "user": "", "secret": secret.strip()}
    finally:
        process.kill()
        process.wait()


@contextmanager
def flat(name: str, service: str, folder: Path, truth: list[Frame]) -> Iterator[Flat]:
    Flat(name, "flat", {"folder": str(folder)}).fill(truth)
    with standing_in(service, folder) as where:
        yield Flat(name, "flat", where)


class Lab:
    """A library, and the program."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(folder / "tokens.json"), "COLUMNS": "200"}
        self.program = Preloaded(SHORT_PAUSE)
        self.run("new", "home", cwd=folder)
        self.home = folder / "home"

    def run(self, *arguments: str, cwd: Path | None = None, kill_after: float = 0) -> subprocess.CompletedProcess[str]:
        return self.program.run(list(arguments), cwd or self.home, self.environment, kill_after)

    def add(self, end: End, name: str = "", url: str = "", *, surely: bool = True) -> None:
        """Add it to the library; not `surely` where that goes through a fault, too."""
        secret = self.folder / f"secret-{end.name}"
        secret.write_text(end.where["secret"] + "\n")
        kind = ["--kind", end.kind] if end.kind != "flat" else []
        user = ["--user", end.where["user"]] if end.where["user"] else []
        dialect = ["--dialect", "thrushfield"] if end.kind == "flat" else []
        done = self.run(
            "service",
            "add",
            name or end.name,
            url or end.where["url"],
            *kind,
            *user,
            *dialect,
            "--token-file",
            str(secret),
        )
        assert done.returncode == 0 or not surely, done.stderr


def moved(source: End, destination: End, into: str, *more: str) -> list[str]:
    below = ["--folder", "from"] if source.kind in ("folders", "bucket") else []
    to = ["--into", into] if destination.kind != "flat" else []
    return ["migrate", source.name, destination.name, *below, *to, "--yes", "--json", *more]


def unlike(source: End, destination: End, truth: list[Frame], into: str, table: dict[str, Any]) -> list[str]:
    """What arrived otherwise than the truth and the fidelity table say."""
    found = destination.lying(into)
    wrong: list[str] = []
    if destination.kind == "flat":
        assert isinstance(destination, Flat)
        return _unlike_flat(source, destination, truth, found, table)
    pictures = {path: content for path, content in found.items() if path.endswith(".jpg")}
    if source.kind == "library":
        wanted = source.lying("")
        wrong += [f"{one.path} is not as it was" for one in truth if wanted.get(one.path) != one.content]
        wrong += [f"{one.path} has no sidecar" for one in truth if one.said and f"{one.path}.xmp" not in wanted]
        wrong += [f"{path} is not as in the library" for path in wanted if found.get(path) != wanted[path]]
        wrong += [f"{path} came from nowhere" for path in found if path not in wanted]
    elif source.kind != "flat":
        wanted = {one.path: one.content for one in truth}
        wanted |= {f"{one.path}.xmp": sidecar(one.said) for one in truth if one.said}
        wrong += [f"{path} is not as it was" for path in wanted if found.get(path) != wanted[path]]
        wrong += [f"{path} came from nowhere" for path in found if path not in wanted]
    else:
        digests = Counter(hashlib.sha256(content).hexdigest() for content in pictures.values())
        wrong += [f"{one.path} arrived {digests[one.sha256]} times" for one in truth if digests[one.sha256] != 1]
        if len(pictures) != len(truth):
            wrong.append(f"{len(pictures)} pictures arrived of {len(truth)}")
        by_digest = {hashlib.sha256(content).hexdigest(): path for path, content in pictures.items()}
        for one in truth:
            packet = found.get(f"{by_digest.get(one.sha256, '')}.xmp", b"").decode()
            words = (
                [one.said["title"], one.said["caption"], *one.said["keywords"], *one.said["people"]] if one.said else []
            )
            if not all(text.replace("&", "&amp;") in packet for text in words):
                wrong.append(f"the sidecar of {one.path} lacks its words")
        fourth = found.get("albums/Every fourth.csv", b"").decode()
        listed = Counter(line.partition(",")[0].removeprefix(f"{into}/") for line in fourth.splitlines()[1:])
        if listed != Counter(by_digest.get(one.sha256, "") for one in truth[::4]):
            wrong.append(f"the list of the album has {len(listed)} frames")
    if any(path.rpartition("/")[2].startswith(".bm-") for path in found):
        wrong.append("something unfinished lies there")
    return wrong


def _unlike_flat(
    source: End, destination: Flat, truth: list[Frame], found: dict[str, bytes], table: dict[str, Any]
) -> list[str]:
    wrong: list[str] = []
    reduces = "heading" not in (destination.taken() or [{}])[0]
    items = {item["shutter_utc"] + item["text"][:12]: item for item in destination.taken()} if reduces else {
        item["filename"]: item for item in destination.taken()
    }  # fmt: skip
    if len(items) != len(truth) or len(destination.taken()) != len(truth):
        wrong.append(f"{len(destination.taken())} frames arrived of {len(truth)}, {len(items)} different ones")
    counts: dict[str, Counter[str]] = {what: Counter() for what in (*_FIELDS, "taken", "picture")}
    for one in truth:
        item = items.get(one.utc + one.said.get("caption", "")[:12] if reduces else Path(one.path).name)
        if item is None:
            wrong.append(f"{one.path} is not there")
            continue
        content = found[item["ref"]]
        counts["picture"]["kept" if content == one.content else "other"] += 1
        if item["shutter_utc"] != one.utc:
            wrong.append(f"{one.path} is dated {item['shutter_utc']}, not {one.utc}")
        for what, name in (("title", "heading"), ("caption", "text"), ("keywords", "subjects"), ("people", "faces")):
            value = one.said.get(what)
            if value:
                there = item.get(name, item.get("with") if what == "people" else None)
                kind = (
                    "kept"
                    if there == value
                    else "changed"
                    if there and str(value).startswith(str(there)[:150])
                    else "lost"
                )
                counts[what][kind] += 1
        if "rating" in one.said and source.kind != "flat":
            inside = (
                f'Rating="{one.said["rating"]}"'.encode() in content
                or f"Rating>{one.said['rating']}<".encode() in content
            )
            counts["rating"]["inside" if inside else "lost"] += 1
    # All that comes from folders makes an album of each; what comes from an account keeps its own.
    albums = {"Every fourth": len(truth[::4])} if source.kind == "flat" else {}
    if source.kind == "flat" and destination.albums() != albums:
        wrong.append(f"there are the albums {destination.albums()}")
    for what in _FIELDS:
        row = table.get(what, {})
        told = {kind: row.get(f"frames_{kind}", 0) for kind in ("kept", "inside", "changed", "lost")}
        if any(told[kind] != counts[what][kind] for kind in told):
            wrong.append(f"{what}: foreseen {told}, found {dict(counts[what])}")
    return wrong


def pairs(lab: Lab, ends: list[tuple[End, End]], truth: list[Frame]) -> int:
    """A whole collection between each pair of kinds; returns how much was not as foreseen."""
    amiss = 0
    for number, (source, destination) in enumerate(ends):
        into = f"pair-{number}"
        began = time.monotonic()
        plan = json.loads(lab.run(*moved(source, destination, into, "--dry-run")).stdout)
        table = {row["what"]: row for row in plan["fidelity"]}
        done = lab.run(*moved(source, destination, into))
        seconds = time.monotonic() - began
        receipt = json.loads(done.stdout)
        proven = sum(line["amount"]["frames"] for line in receipt.get("kept", ()))
        wrong = unlike(source, destination, truth, into, table)
        if not receipt.get("balanced") or proven != len(truth):
            wrong.append(
                f"the receipt tells {proven} of {len(truth)}: {done.stderr[:200]} {receipt.get('left_out', '')!s:.200}"
            )
        again = json.loads(lab.run(*moved(source, destination, into)).stdout)
        if not again.get("nothing_to_do"):
            wrong.append("a second run had something to do")
        amiss += len(wrong)
        print(f"  {source.name} -> {destination.name}: {proven:,} of {len(truth):,} frames, {seconds:.0f} s,"
              f" {len(wrong)} unforeseen {wrong[:3] or ''}", flush=True)  # fmt: skip
    return amiss


Way = Callable[[int], AbstractContextManager[tuple[End, End]]]
"""From where to where something is sent in the nth trial."""


def kills(lab: Lab, ways: list[Way], truth: list[Frame], count: int, seed: int) -> int:
    """SIGKILL at random instants of plan, sending and proof; then the same command, and a bare client looks."""
    rand, amiss, struck = random.Random(seed), 0, 0
    for number in range(count):
        into, longest = f"kill-{number}", 2.5
        with ways[number % len(ways)](number) as (source, destination):
            for _ in range(rand.choice((1, 1, 2))):
                killed = lab.run(
                    *moved(source, destination, into, "--prove", "all"), kill_after=rand.uniform(0.3, longest)
                )
                struck += killed.returncode != 0
            done = lab.run(*moved(source, destination, into, "--prove", "all"))
            far = json.loads(lab.run("transfer", "list", "--json").stdout)["transfers"][-1]
            wrong = (
                unlike(source, destination, truth, into, {})
                if destination.kind != "flat"
                else _twice(destination, truth)
            )
            if far["state"] != "proven" or done.returncode not in (0, 1):
                wrong.append(f"it ends {far['state']}: {done.stderr[:200]}")
        shutil.rmtree(lab.home / "ledger/transfers", ignore_errors=True) if number % 40 == 39 else None
        amiss += bool(wrong)
        if wrong:
            print(f"  kill {number} {source.name} -> {destination.name}: {wrong[:4]}", flush=True)
    print(f"  {count - amiss} of {count} held ({struck} runs were killed on the way)", flush=True)
    return amiss


def _twice(destination: End, truth: list[Frame]) -> list[str]:
    """Of a flat service: whether each frame is there, once, as it was or with words inside."""
    assert isinstance(destination, Flat)
    names = Counter(item["filename"] for item in destination.taken())
    wrong = [
        f"{Path(one.path).name} is there {names[Path(one.path).name]} times"
        for one in truth
        if names[Path(one.path).name] != 1
    ]
    wrong += [f"{name} came from nowhere" for name in names if name not in {Path(one.path).name for one in truth}]
    found = destination.lying("")
    there = {item["filename"]: found[item["ref"]] for item in destination.taken()}
    for one in truth:
        content = there.get(Path(one.path).name, b"")
        if content != one.content and not (one.said and content.endswith(one.content[-400:])):
            wrong.append(f"{one.path} is not as it was")
    return wrong


def faults(lab: Lab, source: End, destination: End, truth: list[Frame], count: int) -> int:
    """Each fault of the wire before the source, and before the destination, until it has struck often enough."""
    amiss = 0
    for at, end in (("source", source), ("destination", destination)):
        for kind in ("cut-answer", "cut-request", "flip-answer", "flip-request", "busy", "slow"):
            if kind.startswith("flip") and end.kind == "folders":
                continue  # a folder service tells no digests, and by plain HTTP nobody could see it: TLS does
            fault, tries, held, said = Fault(kind, one_in=4, seed=len(kind)), 0, 0, Counter[str]()
            parts = urlsplit(end.where["url"])
            with proxied(int(parts.port or 80), fault) as port:
                url = end.where["url"].replace(f":{parts.port}", f":{port}")
                while fault.done < count and tries < 40:
                    tries += 1
                    lab.add(end, url=url, surely=False)
                    into = f"fault-{at}-{kind}-{tries}"
                    lab.run(*moved(source, destination, into), "--patience", "8")
                    lab.add(end)
                    done = lab.run(*moved(source, destination, into))
                    wrong = unlike(source, destination, truth, into, {})
                    held += not wrong
                    said.update(wrong[:2])
                    if wrong:
                        print(f"    {kind} at the {at}: {wrong[:2]} {done.stderr[:200]}", flush=True)
            amiss += tries - held
            print(
                f"  {kind} at the {at} ({end.name}): struck {fault.done} times in {tries} runs, {held} held", flush=True
            )
    return amiss


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--frames", type=int, default=5000)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--faults", type=int, default=20)
    parser.add_argument("--seed", type=int, default=17)
    given = parser.parse_args()
    amiss = 0
    with ExitStack() as stack:
        scratch = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="moves-", dir="/tmp")))
        scratch.chmod(0o755)
        known = stack.enter_context(servers(scratch, ("wsgidav", "apache", "ceph")))
        lab = Lab(scratch)
        web = {name: Folders(name, "folders", where) for name, where in known.items() if where["kind"] == "folders"}
        stores = {name: Bucket(name, "bucket", where) for name, where in known.items() if where["kind"] == "bucket"}
        if not web or not stores:
            print("skipped: a folder service and an object store are wanted, and do not run here")
            return 0
        folder_end, bucket_end = web.get("apache") or next(iter(web.values())), next(iter(stores.values()))
        truth = frames(given.frames, given.seed)
        if given.frames:
            folder_end.fill(truth)
            bucket_end.fill(truth)
            field = stack.enter_context(flat("field", "thrushfield", scratch / "field", truth))
            others = [
                stack.enter_context(flat(f"field-{n}", "thrushfield", scratch / f"field-{n}", [])) for n in range(3)
            ]
            lane = stack.enter_context(flat("lane", "pipit-lane", scratch / "lane", []))
            lane2 = stack.enter_context(flat("lane-2", "pipit-lane", scratch / "lane-2", []))
            field_of_library = stack.enter_context(flat("field-of-library", "thrushfield", scratch / "field-l", []))
            lab.add(field_of_library)
            library = InLibrary("library", "library", {"folder": str(lab.home)})
            library.fill(truth)
            assert lab.run("stocktake").returncode == 0
            for each in (folder_end, bucket_end, field, *others, lane, lane2):
                lab.add(each)
            print(f"between each pair of kinds, {given.frames:,} frames:", flush=True)
            amiss += pairs(lab, [
                (folder_end, bucket_end), (bucket_end, folder_end), (folder_end, others[0]), (bucket_end, others[1]),
                (field, folder_end), (field, bucket_end), (field, others[2]), (folder_end, lane), (field, lane2),
                (library, folder_end), (library, bucket_end), (library, field_of_library),
            ], truth)  # fmt: skip
        few = frames(40, given.seed + 1)
        few[7].content += random.Random(given.seed).randbytes(9 << 20)  # one that is sent in pieces
        small = [
            Folders(f"{name}-small", "folders", _below(where, "small"))
            for name, where in known.items()
            if where["kind"] == "folders"
        ]
        little = Bucket("ceph-small", "bucket", bucket_end.where | {"url": bucket_end.where["url"] + "/small"})
        for one in small:
            Path(one.where["folder"]).mkdir(exist_ok=True)
        for few_end in (*small, little):
            few_end.fill(few)
            lab.add(few_end)
        if given.kills:
            print(f"killed at {given.kills} instants:", flush=True)
            ways: list[Way] = []
            for one in small:
                ways += [partial(_between, one, little), partial(_between, little, one)]
            ways.append(partial(_to_new_account, lab, little, scratch))
            amiss += kills(lab, ways, few, given.kills, given.seed)
        if given.faults:
            print(f"each fault of the wire at least {given.faults} times:", flush=True)
            amiss += faults(lab, small[0], little, few, given.faults)
            amiss += faults(lab, little, small[-1], few, given.faults)
    print("all held" if not amiss else f"{amiss} did not hold")
    return 1 if amiss else 0


@contextmanager
def _between(source: End, destination: End, number: int) -> Iterator[tuple[End, End]]:
    yield source, destination


@contextmanager
def _to_new_account(lab: Lab, source: End, scratch: Path, number: int) -> Iterator[tuple[End, End]]:
    with flat(f"field-kill-{number}", "thrushfield", scratch / f"field-kill-{number}", []) as destination:
        lab.add(destination)
        yield source, destination
    shutil.rmtree(scratch / f"field-kill-{number}")


def _below(where: Where, name: str) -> Where:
    return where | {"url": f"{where['url']}{name}/", "folder": f"{where['folder']}/{name}"}


if __name__ == "__main__":
    sys.exit(main())
