"""Speed of moving house on loopback, against bare clients with as many connections: ratios, and memory where that is bounded.

    python proof/bench_moves.py [--runs 3] [--share 1.0]

Both sides alternate; medians. A bare client does what the program promises (put, read back, move where that is the way; check
what comes against the store's digest, and take the library's), or, in a line of its own, nothing of it. The servers are Ceph's
object store and Apache, as `proof/real.py` starts them.
"""

import argparse
import hashlib
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

import httpx

from byte_proxy import Fault, proxied
from real import Where, servers

PROGRAM = Path(sys.executable).with_name("bramblemoor")
CONNECTIONS = 8


class Bench:
    def __init__(self, scratch: Path, runs: int) -> None:
        self.scratch, self.runs = scratch, runs
        self.environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(scratch / "tokens.json")}
        self.number = 0

    def program(self, *arguments: str, cwd: Path) -> int:
        """Run it; returns the most memory that it held, in MB."""
        with tempfile.TemporaryFile("w+") as said:
            process = subprocess.Popen(
                [str(PROGRAM), *arguments], cwd=cwd, env=self.environment, stdout=subprocess.DEVNULL, stderr=said
            )
            _, status, used = os.wait4(process.pid, 0)
            process.returncode = os.waitstatus_to_exitcode(status)
            if process.returncode not in (0, 1):
                said.seek(0)
                raise SystemExit(f"{arguments}: {said.read()}")
        return used.ru_maxrss // 1024

    def library(self, name: str, where: dict[str, Where], pictures: dict[str, bytes] | None = None) -> Path:
        """A library that knows the services, and holds these pictures."""
        home = self.scratch / name
        self.program("new", name, cwd=self.scratch)
        if pictures is not None:
            for path, content in pictures.items():
                place = home / "pictures" / path
                place.parent.mkdir(parents=True, exist_ok=True)
                place.write_bytes(content)
            self.program("stocktake", cwd=home)
        for service, told in where.items():
            secret = self.scratch / f"secret-{service}"
            secret.write_text(told["secret"])
            self.program(
                "service", "add", service, told["url"], "--kind", told["kind"], "--user", told["user"], "--token-file",
                str(secret), cwd=home,
            )  # fmt: skip
        return home

    def compare(self, what: str, goal: float, ours: Callable[[str], int], bare: Callable[[str], None]) -> None:
        pairs, memory = [], 0
        for _ in range(self.runs):
            self.number += 1
            began = time.monotonic()
            bare(f"bare-{self.number}")
            middle = time.monotonic()
            memory = max(memory, ours(f"ours-{self.number}"))
            pairs.append((middle - began, time.monotonic() - middle))
        theirs, own = (statistics.median(side) for side in zip(*pairs, strict=True))
        ratio = statistics.median(one / other for other, one in pairs)
        print(f"{what:<58} {own:7.1f} s  {theirs:7.1f} s  {ratio:5.2f}  (at most {goal}), {memory} MB", flush=True)


def at_once(do: Callable[[Any], None], things: list[Any]) -> None:
    with ThreadPoolExecutor(CONNECTIONS) as pool:
        list(pool.map(do, things))


def store(where: Where) -> tuple[Any, str]:
    import boto3
    from botocore.config import Config

    parts = urlsplit(where["url"])
    config = Config(
        request_checksum_calculation="when_required", response_checksum_validation="when_required",
        max_pool_connections=CONNECTIONS,
    )  # fmt: skip
    return boto3.client(
        "s3", endpoint_url=f"{parts.scheme}://{parts.netloc}", aws_access_key_id=where["user"],
        aws_secret_access_key=where["secret"], region_name="us-east-1", config=config,
    ), parts.path.strip("/")  # fmt: skip


def picture(number: int, size: int, noise: bytes) -> bytes:
    head = bytes.fromhex("ffd8ffe000104a46494600010100000100010000ffdb004300") + b"\x01" * 64
    start = number * 4099 % (len(noise) - size)
    return head + number.to_bytes(8, "big") + noise[start : start + size - len(head) - 10] + b"\xff\xd9"


def buckets(bench: Bench, where: Where, share: float) -> None:
    noise = os.urandom(12 << 20)
    for count, size, goal in ((int(400 * share), 5_000_000, 1.3), (int(20_000 * share), 20_000, 1.5)):
        _bucket(bench, where, {f"p/{n % 40:02}/{n:05}.jpg": picture(n, size, noise) for n in range(count)}, size, goal)


def _bucket(bench: Bench, where: Where, pictures: dict[str, bytes], size: int, goal: float) -> None:
    client, bucket = store(where)
    home = bench.library(f"bucket-{size}", {"ceph": where}, pictures)
    files = sorted(pictures)
    pictures.clear()

    def put(into: str, path: str) -> None:
        client.put_object(Bucket=bucket, Key=f"{into}/{path}", Body=(home / "pictures" / path).read_bytes())

    def get(into: str, path: str, *, surely: bool) -> None:
        answer = client.get_object(Bucket=bucket, Key=f"home/{path}")
        place = bench.scratch / into / path
        place.parent.mkdir(parents=True, exist_ok=True)
        with place.open("wb") as file:
            if not surely:
                shutil.copyfileobj(answer["Body"], file, 1 << 20)
                return
            told, own = hashlib.md5(usedforsecurity=False), hashlib.sha256()
            for piece in answer["Body"].iter_chunks(1 << 20):
                file.write(piece)
                told.update(piece)
                own.update(piece)
            assert told.hexdigest() == answer["ETag"].strip('"')

    homes = [bench.library(f"home-{size}-{number}", {"ceph": where}) for number in range(2 * bench.runs)]

    def brought(into: str) -> int:
        return bench.program("fetch", "ceph", "--folder", "home", cwd=homes.pop())

    label = f"{len(files):,} x {size // 1000:,} kB"
    bench.compare(
        f"{label} to a bucket, against bare puts", goal,
        lambda into: bench.program("migrate", "library", "ceph", "--into", into, "--yes", cwd=home),
        lambda into: at_once(lambda one: put(into, one), files),
    )  # fmt: skip
    at_once(lambda one: put("home", one), files)

    def bare(into: str, *, surely: bool) -> None:
        at_once(lambda one: get(into, one, surely=surely), files)

    for against, surely in (("bare gets", False), ("gets, hashed twice", True)):
        bench.compare(f"{label} home, filed; against {against}", goal, brought, partial(bare, surely=surely))


def folders(bench: Bench, where: Where, share: float) -> None:
    count, size = int(5_000 * share), 20_000
    noise = os.urandom(8 << 20)
    pictures = {f"p/{n % 40:02}/{n:05}.jpg": picture(n, size, noise) for n in range(count)}
    home = bench.library("folders", {"apache": where}, pictures)
    files = sorted(pictures)
    client = httpx.Client(
        auth=(where["user"], where["secret"]), limits=httpx.Limits(max_connections=CONNECTIONS), timeout=60
    )

    def prepare(into: str) -> None:
        for folder in ("", "p/", *sorted({path.rpartition("/")[0] + "/" for path in files})):
            client.request("MKCOL", f"{where['url']}{into}/{folder}")

    def put(into: str, path: str, *, surely: bool) -> None:
        content = (home / "pictures" / path).read_bytes()
        address = f"{where['url']}{into}/{quote(path)}"
        if not surely:
            client.put(address, content=content).raise_for_status()
            return
        client.put(address + ".part", content=content).raise_for_status()
        back = client.get(address + ".part").content
        assert hashlib.sha256(back).digest() == hashlib.sha256(content).digest()
        client.request("MOVE", address + ".part", headers={"Destination": address, "Overwrite": "F"}).raise_for_status()

    def bare(into: str, *, surely: bool) -> None:
        prepare(into)
        at_once(lambda one: put(into, one, surely=surely), files)

    def ours(into: str) -> int:
        return bench.program("migrate", "library", "apache", "--into", into, "--yes", cwd=home)

    label = f"{count:,} x 20 kB into folders"
    bench.compare(f"{label}, against put, read back, move", 1.5, ours, lambda into: bare(into, surely=True))
    bench.compare(f"{label}, against bare puts", 1.5, ours, lambda into: bare(into, surely=False))


def relay(bench: Bench, source: Where, destination: Where, share: float) -> None:
    """From Apache to the store, which takes so many bytes a second through a proxy: how busy that link is kept, and what is
    held.
    """
    count, size, rate = int(200 * share), 5_000_000, 25_000_000
    noise = os.urandom(12 << 20)
    for n in range(count):
        place = Path(source["folder"], "relay", f"{n % 10}", f"{n:05}.jpg")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(picture(n, size, noise))
    shutil.chown(source["folder"], "www-data")
    port = urlsplit(destination["url"]).port or 80
    least = 0
    with proxied(port, slow := Fault("none", rate=rate)) as through:
        told = {"apache": source, "ceph": destination | {"url": destination["url"].replace(f":{port}", f":{through}")}}
        home = bench.library("relay", told)
        least = bench.program("service", "survey", "ceph", cwd=home)
        slow.passed, began = 0, time.monotonic()
        most = bench.program(
            "migrate", "apache", "ceph", "--folder", "relay", "--into", "relay", "--yes", "--prove", "list", cwd=home
        )
        seconds = time.monotonic() - began
    print(
        f"relay of {count:,} x 5 MB over a link of {rate // 1_000_000} MB/s: {seconds:.1f} s,"
        f" busy {slow.passed / rate / seconds:.0%} (at least 85%),"
        f" {most - least} MB more than a survey holds (at most 64)", flush=True,
    )  # fmt: skip


def trees(bench: Bench, share: float) -> None:
    """Two trees of 200,000 files each, of which a few differ, as folders: listing of a server is the server's time."""
    count = int(200_000 * share)
    for side in ("one", "other"):
        for n in range(count):
            place = bench.scratch / side / f"{n % 400:03}"
            if n < 400:
                place.mkdir(parents=True)
            (place / f"{n:06}.jpg").write_bytes(b"%d" % (n if n % 5000 or side == "one" else n + 10**7))
    home = bench.library("trees", {})
    began = time.monotonic()
    memory = bench.program("compare", "../one", "../other", "--json", cwd=home)
    print(
        f"two trees of {count:,} files compared: {time.monotonic() - began:.1f} s (at most 60), {memory} MB (at most 300)",
        flush=True,
    )


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--share", type=float, default=1.0)
    parser.add_argument("--only", default="trees relay folders bucket")
    given = parser.parse_args()
    with (
        tempfile.TemporaryDirectory(prefix="bench-", dir="/tmp") as name,
        servers(Path(name), ("apache", "ceph")) as known,
    ):
        bench = Bench(Path(name), given.runs)
        print(f"{'what':<58} {'ours':>9}  {'bare':>9}  ratio", flush=True)
        if "trees" in given.only:
            trees(bench, given.share)
        if {"apache", "ceph"} <= known.keys() and "relay" in given.only:
            relay(bench, known["apache"], known["ceph"], given.share)
        if "apache" in known and "folders" in given.only:
            folders(bench, known["apache"], given.share)
        if "ceph" in known and "bucket" in given.only:
            buckets(bench, known["ceph"], given.share)
    return 0


if __name__ == "__main__":
    sys.exit(main())
