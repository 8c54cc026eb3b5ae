"""Speed and memory of copies, as ratios to the system's own programs on the same data in one run.

usage: bench_copies.py [--runs 5] [--megabytes 2000] [--many 100000] [--looked 200000] [--frames 1000000] [--in FOLDER]

0 leaves that part out. Each pair is run in turn, with nothing in the system's cache; printed are the medians in seconds and
the median of the ratios, and the most memory that one more run held. The baselines are in proof/baselines/.

Library and two depots lie on three drives, as they should: ext4 images in memory, where this machine can have such. With
--in they are folders of one disk instead, for which all of them wait.
"""

import argparse
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from bench import compare, peak_megabytes, picture, timed
from lab import available, make_image, mounted

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "bramblemoor"]
HOMES = {name: f"{name}-drive/{name}" for name in ("library", "one", "two")}
LIBRARY = [*PROGRAM, "--library", HOMES["library"]]
_MEMORY = Path("/dev/shm")


def program(root: Path, *arguments: str) -> float:
    return timed([*LIBRARY, *arguments], root)


def tell_peak(root: Path, *arguments: str) -> None:
    """Besides the timed runs, as asking for it takes time."""
    _, peak = peak_megabytes([*LIBRARY, *arguments], root)
    verdict = "ok" if peak <= 300 else "TOO MUCH"
    print(f"{'':<34} {peak:8.0f} MB at most  (at most 300)  {verdict}", flush=True)


def drop_caches() -> None:
    drop = Path("/proc/sys/vm/drop_caches")
    if os.access(drop, os.W_OK):
        os.sync()
        drop.write_text("3")


@contextmanager
def one_disk(where: Path | None) -> Iterator[Path]:
    with tempfile.TemporaryDirectory(dir=where) as name:
        for home in HOMES.values():
            (Path(name) / home).parent.mkdir()
        yield Path(name)


@contextmanager
def three_drives(megabytes: int, where: Path | None) -> Iterator[Path]:
    """A folder with three drives in it, each with room for so much."""
    with ExitStack() as stack:
        drives = where is None and available("ext4") and shutil.disk_usage(_MEMORY).free > 4 * megabytes << 20
        root = stack.enter_context(one_disk(_MEMORY if drives else where))
        for name, home in HOMES.items():
            if drives:
                image = root / f"{name}.img"
                make_image(image, "ext4", (megabytes + megabytes // 4 + 200) << 20)
                stack.enter_context(mounted(image, (root / home).parent, "ext4"))
        print("on three drives, as fast as memory:" if drives else "on one disk:", flush=True)
        yield root


def make_library(root: Path, count: int, content: Callable[[int], bytes]) -> None:
    """A library whose pictures were put there by hand, and taken up."""
    timed([*PROGRAM, "new", HOMES["library"]], root)
    for number in range(count):
        folder = root / HOMES["library"] / f"pictures/{2000 + number % 20}/{number // 1000:04}"
        if number % 1000 < 20:
            folder.mkdir(parents=True, exist_ok=True)
        (folder / f"B{number:06}.jpg").write_bytes(content(number))
    timed([*LIBRARY, "stocktake", "--yes"], root)


def empty_depots(root: Path) -> None:
    for name in ("one", "two"):
        shutil.rmtree(root / HOMES[name], ignore_errors=True)
        (root / HOMES[name]).mkdir()


def add_depots(root: Path) -> None:
    empty_depots(root)
    for name in ("one", "two"):
        timed([*LIBRARY, "depot", "add", name, HOMES[name], "--site", name, "--medium", "ssd"], root)


def shell(root: Path, name: str, *arguments: str) -> float:
    return timed(["sh", str(HERE / f"baselines/{name}.sh"), *arguments], root)


def _backup_pair(root: Path, title: str, goal: float, runs: int, baseline: str) -> None:
    ledger, fresh, sums = root / HOMES["library"] / "ledger", root / "ledger-before", root / "sums"
    if not fresh.exists():
        shutil.copytree(ledger, fresh)
    done = subprocess.run(
        "find pictures -type f | xargs sha256sum", shell=True, cwd=ledger.parent, capture_output=True, check=True
    )
    sums.write_bytes(done.stdout)

    def empty() -> None:
        shutil.rmtree(ledger)
        shutil.copytree(fresh, ledger)
        add_depots(root)
        drop_caches()

    def ours() -> float:
        empty()
        return program(root, "backup")

    def theirs() -> float:
        empty_depots(root)
        drop_caches()
        return shell(root, baseline, *(str(root / home) for home in HOMES.values()), str(sums))

    compare(title, goal, runs, ours, theirs)
    empty()
    tell_peak(root, "backup")


def large(root: Path, runs: int, megabytes: int) -> None:
    make_library(root, megabytes // 5, picture)
    _backup_pair(root, "backup to two / 2 cp + 2 sha256sum", 0.25, runs, "backup")
    _backup_pair(root, "backup to two / best of a shell", 0.45, runs, "backup_best")

    def verify() -> float:
        drop_caches()
        return program(root, "verify", "one")

    compare("verify / sha256sum -c", 0.25, runs, verify, lambda: shell(root, "verify", str(root / HOMES["one"])))
    tell_peak(root, "verify", "one")
    back = (root / HOMES["two"]).with_name("back")  # on a drive of its own

    def restore() -> float:
        shutil.rmtree(back, ignore_errors=True)
        drop_caches()
        return timed([*PROGRAM, "restore", str(back), "--from", str(root / HOMES["one"])], root)

    def copied_back() -> float:
        shutil.rmtree(back, ignore_errors=True)
        return shell(root, "restore", str(root / HOMES["one"]), str(back))

    shutil.rmtree(root / HOMES["two"])
    compare("restore / cp -a + sha256sum -c", 0.5, runs, restore, copied_back)


def many(root: Path, runs: int, count: int) -> None:
    head = picture(1)[:600]
    make_library(root, count, lambda number: head + number.to_bytes(4, "big") + os.urandom(19_400))
    _backup_pair(root, f"{count:,} of 20 kB to two / 2 cp + sync", 1.5, runs, "small")


def looked(root: Path, runs: int, count: int) -> None:
    head = picture(1)[:600]
    make_library(root, count, lambda number: head + number.to_bytes(4, "big"))
    add_depots(root)
    program(root, "backup")
    compare(
        f"nothing to do at {count:,} / find", 2.0, runs, lambda: program(root, "backup"),
        lambda: shell(root, "look", str(root / HOMES["library"])),
    )  # fmt: skip
    tell_peak(root, "backup")


def standing(root: Path, frames: int) -> None:
    """A ledger of so many frames of two files each, with five depots; some read on other days, some damaged."""
    timed([*PROGRAM, "new", HOMES["library"]], root)
    for number in range(5):
        (root / f"d{number}").mkdir()
        site = ("studio", "cottage")[number % 2]
        timed([*LIBRARY, "depot", "add", f"d{number}", f"d{number}", "--site", site, "--medium", ("hdd", "ssd")[number % 2],
               "--stand-in", f"d{number}"], root)  # fmt: skip
    now = int(time.time())
    db = sqlite3.connect(root / HOMES["library"] / "ledger/ledger.sqlite", isolation_level=None)
    db.executescript(f"""
        PRAGMA synchronous = OFF; BEGIN;
        WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {frames})
        INSERT INTO frames (id, folder, name, kind, shown, year) SELECT i, 'pictures/' || (2000 + i * 25 / {frames + 1}) || '/'
            || (i / 500), 'B' || i || '.jpg', 'photo', '2000', 2000 + i * 25 / {frames + 1} FROM n;
        INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns, read_at)
            SELECT id, 'original', folder || '/' || name, folder || '/' || name, 5000000, printf('%064x', id), 0,
            {now} - 86400 * ((id / 20000) % 170) FROM frames;
        INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns, read_at)
            SELECT id, 'sidecar', folder || '/' || name || '.xmp', folder || '/' || name || '.xmp', 2000,
            printf('%064x', -id), 0, {now} - 86400 * ((id / 20000) % 170) FROM frames;
        INSERT INTO copies (depot, file, state, read_at) SELECT d.number, f.id, iif((f.id * 7 + d.number) % 9973, 'proven',
            'damaged'), {now} - 86400 * ((f.id / 20000 + d.number) % 170) FROM files f, depots d;
        COMMIT;""")
    db.close()
    began = time.monotonic()
    timed_standing(root)
    print(f"standing at {frames:,} frames, first time (settling all): {time.monotonic() - began:.1f} s")
    bare = sorted(timed([*PROGRAM, "--version"], root) for _ in range(5))[2]
    runs = sorted(timed_standing(root) for _ in range(5))
    _, peak = peak_megabytes(["sh", "-c", f"{' '.join(LIBRARY)} standing > /dev/null || true"], root)
    spent = runs[2] - bare
    verdict = "ok" if spent <= 0.2 else "TOO SLOW"
    print(
        f"standing at {frames:,} frames, 5 depots: {runs[2]:.2f} s, start-up {bare:.2f} s, so {spent:.2f} s (at most 0.2) "
        f" {verdict}; {peak:.0f} MB"
    )


def timed_standing(root: Path) -> float:
    return timed(["sh", "-c", f"{' '.join(LIBRARY)} standing > /dev/null || true"], root)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--megabytes", type=int, default=2000)
    parser.add_argument("--many", type=int, default=100_000)
    parser.add_argument("--looked", type=int, default=200_000)
    parser.add_argument("--frames", type=int, default=1_000_000)
    parser.add_argument("--in", dest="where", type=Path, default=None)
    given = parser.parse_args()
    for megabytes, part, size in ((given.megabytes, large, given.megabytes), (given.many // 30, many, given.many)):
        if size:
            with three_drives(megabytes, given.where) as root:
                part(root, given.runs, size)
    if given.looked:
        with one_disk(given.where) as root:
            looked(root, given.runs, given.looked)
    if given.frames:
        with one_disk(given.where) as root:
            standing(root, given.frames)


if __name__ == "__main__":
    main()
