"""Speed and memory of copies, as ratios to the system's own programs on the same data in one run.

usage: bench_copies.py [--runs 5] [--megabytes 2000] [--many 100000] [--looked 200000] [--frames 1000000] [--in FOLDER]

0 leaves that part out. Each pair is run in turn; printed are the medians in seconds and the median of the ratios, and the
most memory that a run held. The baselines are in proof/baselines/.
"""

import argparse
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from bench import compare, peak_megabytes, picture, timed

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "bramblemoor"]
LIBRARY = [*PROGRAM, "--library", "library"]
_peaks: list[float] = []


def program(root: Path, *arguments: str) -> float:
    os.sync()
    seconds, peak = peak_megabytes([*LIBRARY, *arguments], root)
    _peaks.append(peak)
    return seconds


def drop_caches() -> None:
    drop = Path("/proc/sys/vm/drop_caches")
    if os.access(drop, os.W_OK):
        os.sync()
        drop.write_text("3")


def make_library(root: Path, count: int, content: Callable[[int], bytes]) -> None:
    """A library whose pictures were put there by hand, and taken up."""
    timed([*PROGRAM, "new", "library"], root)
    for number in range(count):
        folder = root / f"library/pictures/{2000 + number % 20}/{number // 1000:04}"
        if number % 1000 < 20:
            folder.mkdir(parents=True, exist_ok=True)
        (folder / f"B{number:06}.jpg").write_bytes(content(number))
    timed([*LIBRARY, "stocktake", "--yes"], root)


def add_depots(root: Path) -> None:
    for name in ("one", "two"):
        shutil.rmtree(root / name, ignore_errors=True)
        (root / name).mkdir()
        timed([*LIBRARY, "depot", "add", name, name, "--site", name, "--medium", "ssd"], root)


def shell(root: Path, name: str, *arguments: str) -> float:
    return timed(["sh", str(HERE / f"baselines/{name}.sh"), *arguments], root)


def _backup_pair(root: Path, title: str, goal: float, runs: int, baseline: str) -> None:
    fresh = root / "ledger-before"
    if not fresh.exists():
        shutil.copytree(root / "library/ledger", fresh)
    sums = root / "sums"
    done = subprocess.run(
        "find pictures -type f | xargs sha256sum", shell=True, cwd=root / "library", capture_output=True, check=True
    )
    sums.write_bytes(done.stdout)

    def ours() -> float:
        for name in ("one", "two", "library/ledger"):
            shutil.rmtree(root / name, ignore_errors=True)
        shutil.copytree(fresh, root / "library/ledger")
        add_depots(root)
        return program(root, "backup")

    def theirs() -> float:
        for name in ("one", "two"):
            shutil.rmtree(root / name, ignore_errors=True)
            (root / name).mkdir()
        return shell(root, baseline, *(str(root / name) for name in ("library", "one", "two", "sums")))

    compare(title, goal, runs, ours, theirs)
    ours()


def large(root: Path, runs: int, megabytes: int) -> None:
    make_library(root, megabytes // 5, picture)
    _backup_pair(root, "backup to two / 2 cp + 2 sha256sum", 0.35, runs, "backup")
    _backup_pair(root, "backup to two / best of a shell", 0.7, runs, "backup_best")

    def verify() -> float:
        drop_caches()
        return program(root, "verify", "one")

    compare("verify / sha256sum -c", 0.4, runs, verify, lambda: shell(root, "verify", str(root / "one")))


def many(root: Path, runs: int, count: int) -> None:
    head = picture(1)[:600]
    make_library(root, count, lambda number: head + number.to_bytes(4, "big") + os.urandom(19_400))
    _backup_pair(root, f"{count:,} of 20 kB to two / 2 cp + sync", 2.0, runs, "small")


def looked(root: Path, runs: int, count: int) -> None:
    head = picture(1)[:600]
    make_library(root, count, lambda number: head + number.to_bytes(4, "big"))
    add_depots(root)
    program(root, "backup")
    compare(
        f"nothing to do at {count:,} / find", 3.0, runs, lambda: program(root, "backup"),
        lambda: shell(root, "look", str(root / "library")),
    )  # fmt: skip


def standing(root: Path, frames: int) -> None:
    """A ledger of so many frames of two files each, with five depots; some read on other days, some damaged."""
    timed([*PROGRAM, "new", "library"], root)
    for number in range(5):
        (root / f"d{number}").mkdir()
        site = ("studio", "cottage")[number % 2]
        timed([*LIBRARY, "depot", "add", f"d{number}", f"d{number}", "--site", site, "--medium", ("hdd", "ssd")[number % 2],
               "--stand-in", f"d{number}"], root)  # fmt: skip
    now = int(time.time())
    db = sqlite3.connect(root / "library/ledger/ledger.sqlite", isolation_level=None)
    db.executescript(f"""
        PRAGMA synchronous = OFF; BEGIN;
        WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {frames})
        INSERT INTO frames (id, folder, name, kind, shown, year) SELECT i, 'pictures/' || (2000 + i * 25 / {frames + 1}) || '/'
            || (i / 500), 'B' || i || '.jpg', 'photo', '2000', 2000 + i * 25 / {frames + 1} FROM n;
        INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns)
            SELECT id, 'original', folder || '/' || name, folder || '/' || name, 5000000, printf('%064x', id), 0 FROM frames;
        INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns)
            SELECT id, 'sidecar', folder || '/' || name || '.xmp', folder || '/' || name || '.xmp', 2000,
            printf('%064x', -id), 0 FROM frames;
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
    verdict = "ok" if spent <= 0.3 else "TOO SLOW"
    print(
        f"standing at {frames:,} frames, 5 depots: {runs[2]:.2f} s, start-up {bare:.2f} s, so {spent:.2f} s (at most 0.3) "
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
    parts: list[tuple[int, Callable[[Path], None]]] = [
        (given.megabytes, lambda root: large(root, given.runs, given.megabytes)),
        (given.many, lambda root: many(root, given.runs, given.many)),
        (given.looked, lambda root: looked(root, given.runs, given.looked)),
        (given.frames, lambda root: standing(root, given.frames)),
    ]
    for size, part in parts:
        if size:
            with tempfile.TemporaryDirectory(dir=given.where) as name:
                part(Path(name))
            if _peaks:
                print(f"{'':<36} most memory of a run: {max(_peaks):.0f} MB (at most 300)", flush=True)
                _peaks.clear()


if __name__ == "__main__":
    main()
