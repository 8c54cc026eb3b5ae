"""What the proofs of copies share: a small library, depots on file systems of their own, and an independent judge.

Nothing here imports Bramblemoor: it runs the program, and reads what lies on disk by the open formats alone.
"""

import argparse
import hashlib
import http.server
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from ctypes.util import find_library
from dataclasses import dataclass
from pathlib import Path
from typing import Any

PROGRAM = [sys.executable, "-m", "bramblemoor"]
HEAD = bytes.fromhex("ffd8ffe000104a46494600010100000100010000ffdb004300") + b"\x01" * 64
MAKERS = {
    "ext4": ("mkfs.ext4", "-q", "-m0"),
    "xfs": ("mkfs.xfs", "-q", "-f"),
    "btrfs": ("mkfs.btrfs", "-q", "-f"),
    "exfat": ("mkfs.exfat",),
    "ntfs": ("mkntfs", "-q", "-F", "-f"),
}
MOUNTERS = {
    "exfat": ("mount.exfat-fuse",),
    "ntfs": ("ntfs-3g", "-o", "windows_names"),
    "ntfs-ignore-case": ("lowntfs-3g", "-o", "windows_names,ignore_case"),
}
SIZES = {"xfs": 310 << 20, "btrfs": 130 << 20}


def available(kind: str) -> bool:
    """Whether this machine can make and mount such a file system."""
    maker = MAKERS[kind.partition("-")[0]][0]
    mounter = MOUNTERS.get(kind, ("mount",))[0]
    return os.geteuid() == 0 and shutil.which(maker) is not None and shutil.which(mounter) is not None


def has_fuse() -> bool:
    """Whether a program here can be a file system (with libfuse 2)."""
    return os.geteuid() == 0 and Path("/dev/fuse").exists() and find_library("fuse") is not None


def make_image(path: Path, kind: str, size: int = 48 << 20) -> None:
    with path.open("wb") as file:
        file.truncate(SIZES.get(kind, size))
    subprocess.run([*MAKERS[kind.partition("-")[0]], str(path)], check=True, capture_output=True)


def attach(image: Path) -> str:
    """A loop device over an image."""
    done = subprocess.run(["losetup", "--find", "--show", str(image)], check=True, capture_output=True, text=True)
    return done.stdout.strip()


def mount(device: str, folder: Path, kind: str, options: str = "") -> bool:
    folder.mkdir(exist_ok=True)
    command = list(MOUNTERS.get(kind, ("mount", "-t", kind)))
    if options:
        command += ["-o", options]
    return subprocess.run([*command, device, str(folder)], capture_output=True, check=False).returncode == 0


def unmount(folder: Path) -> None:
    for _ in range(50):
        if subprocess.run(["umount", str(folder)], capture_output=True, check=False).returncode == 0:
            return
        subprocess.run(["sleep", "0.1"], check=False)
    # Rather out of sight than left behind: every later look for drives would meet it.
    subprocess.run(["umount", "--lazy", str(folder)], check=False)


@contextmanager
def mounted(image: Path, folder: Path, kind: str) -> Iterator[None]:
    """An image as a drive; afterwards it is as if it had been unplugged in good order."""
    device = attach(image)
    try:
        if not mount(device, folder, kind):
            raise RuntimeError(f"{kind} does not mount")
        try:
            yield
        finally:
            unmount(folder)
    finally:
        subprocess.run(["losetup", "--detach", device], check=False)


@dataclass
class Lab:
    """A folder with a library, and depots beside it."""

    root: Path

    @property
    def library(self) -> Path:
        return self.root / "library"

    def run(
        self, *arguments: str, prefix: Sequence[str] = (), timeout: float = 120
    ) -> subprocess.CompletedProcess[str]:
        environment = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
        return subprocess.run(
            [*prefix, *PROGRAM, "--library", str(self.library), *arguments], cwd=self.root, capture_output=True, text=True,
            check=False, timeout=timeout, env=environment,
        )  # fmt: skip

    def must(self, *arguments: str, codes: Sequence[int] = (0,)) -> str:
        done = self.run(*arguments)
        if done.returncode not in codes:
            raise RuntimeError(f"{arguments} ended with {done.returncode}: {done.stdout}{done.stderr}")
        return done.stdout

    def make_library(self, pictures: int, size: int, chance: random.Random) -> None:
        """A library of pictures put there by hand, with a few sidecars and companions."""
        subprocess.run([*PROGRAM, "new", "library"], cwd=self.root, check=True, capture_output=True)
        for number in range(pictures):
            folder = self.library / f"pictures/{2020 + number % 4}/shoot {number % 7}"
            folder.mkdir(parents=True, exist_ok=True)
            name = f"{2020 + number % 4}0102_{number % 24:02}0000_{number:04}.jpg"
            (folder / name).write_bytes(HEAD + chance.randbytes(size + chance.randrange(size)))
        (self.library / "companions/catalogue.db").write_bytes(chance.randbytes(5000))
        self.must("stocktake", "--yes")

    def change_things(self, chance: random.Random) -> None:
        """A day's work: titles told, a folder moved, companions changed, new pictures."""
        names = sorted(path.name for path in (self.library / "pictures").rglob("*.jpg"))
        for name in chance.sample(names, 3):
            self.must("tell", name, "--title", f"Title {chance.random()}")
        moved = self.library / "pictures/2020"
        moved.rename(self.library / f"pictures/renamed {chance.randrange(10**6)}") if moved.exists() else None
        (self.library / "companions/catalogue.db").write_bytes(chance.randbytes(6000))
        (self.library / "companions/old.txt").unlink(missing_ok=True)
        new = self.library / f"pictures/new {chance.randrange(10**6)}"
        new.mkdir()
        for number in range(4):
            (new / f"N{number}.jpg").write_bytes(HEAD + chance.randbytes(30_000))


def contents(*roots: Path) -> set[str]:
    """Digests of every picture, sidecar and companion below some folders, wherever it lies."""
    found = set()
    for root in roots:
        for path in root.rglob("*"):
            if path.suffix in (".jpg", ".xmp", ".db") and path.is_file():
                found.add(hashlib.sha256(path.read_bytes()).hexdigest())
    return found


def amiss_in_bag(root: Path) -> list[str]:
    """What RFC 8493 finds wrong with a depot: manifests that do not fit, files that none lists, a run left open."""
    problems = []
    for name in ("manifest-sha256.txt", "tagmanifest-sha256.txt"):
        listed = set()
        lines = (root / name).read_text().splitlines() if (root / name).is_file() else []
        for line in lines:
            digest, _, path = line.partition("  ")
            listed.add(path)
            file = root / path
            if not file.is_file():
                problems.append(f"{name} lists {path}, which is missing")
            elif hashlib.sha256(file.read_bytes()).hexdigest() != digest:
                problems.append(f"{name}: {path} does not fit")
        if name.startswith("manifest"):
            for lies in (root / "data").rglob("*"):
                if lies.is_file() and lies.relative_to(root).as_posix() not in listed:
                    problems.append(f"{lies.relative_to(root)} is in no manifest")
        if not lines:
            problems.append(f"{name} is missing or empty")
    if (root / "incoming").exists():
        problems.append("a run is open")
    return problems


def level(library: Path, depot: Path) -> list[str]:
    """Where a depot's pictures and companions differ from the library's."""

    def all_below(root: Path) -> dict[str, str]:
        return {
            path.relative_to(root).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
            for folder in ("pictures", "companions")
            for path in (root / folder).rglob("*")
            if path.is_file()
        }

    ours, theirs = all_below(library), all_below(depot / "data")
    return [f"{path} differs" for path in sorted(ours.keys() | theirs.keys()) if ours.get(path) != theirs.get(path)]


@contextmanager
def answering(answers: dict[str, Any]) -> Iterator[str]:
    """A service that answers as it is told: by path a document, or a function that writes the answer."""

    class Handler(http.server.BaseHTTPRequestHandler):
        def answer(self) -> None:
            found = answers.get(f"{self.command} {self.path}", answers.get(self.path))
            if callable(found):
                found(self)
                return
            body = json.dumps(found if found is not None else {"detail": "no"}).encode()
            self.send_response(200 if found is not None else 404)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        do_GET = do_POST = do_DELETE = answer

        def log_message(self, *_: object) -> None: ...

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()


class Tally:
    """Counts by fault; what does not hold is printed."""

    def __init__(self) -> None:
        self.tried: Counter[str] = Counter()
        self.held: Counter[str] = Counter()

    def enter(self, fault: str, problems: list[str]) -> None:
        self.tried[fault] += 1
        self.held[fault] += not problems
        if problems:
            print(f"{fault}: {'; '.join(problems[:3])}", flush=True)

    def show(self) -> bool:
        print(f"{'fault':<44}{'tried':>6}{'held':>6}")
        for fault, count in self.tried.items():
            print(f"{fault:<44}{count:>6}{self.held[fault]:>6}")
        return self.tried == self.held


Part = Callable[[Path, random.Random, Tally, argparse.Namespace], None]


def run_parts(parser: argparse.ArgumentParser, parts: dict[str, Part]) -> None:
    """Run the parts of a proof that were asked for, each in a folder of its own, and end with 1 if anything did not hold."""
    parser.add_argument("--only", default=",".join(parts))
    parser.add_argument("--in", dest="where", type=Path, default=Path("/dev/shm"))
    parser.add_argument("--seed", type=int, default=int(time.time()))
    given = parser.parse_args()
    chance, tally = random.Random(given.seed), Tally()
    print(f"seed {given.seed}", flush=True)
    for name in given.only.split(","):
        with tempfile.TemporaryDirectory(dir=given.where) as folder:
            parts[name](Path(folder), chance, tally, given)
        print(f"{name} is through: {sum(tally.held.values())} of {sum(tally.tried.values())} held so far", flush=True)
    sys.exit(not tally.show())
