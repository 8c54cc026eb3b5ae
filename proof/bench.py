"""Speed, as ratios to the system's own programs on the same data in one run. The baselines are in proof/baselines/.

usage: bench.py [--runs 5] [--megabytes 2000] [--entries 200000] [--in FOLDER]

0 megabytes or entries leave that half out. Each pair is run in turn; printed are the medians in seconds and the median of
the ratios.
"""

import argparse
import hashlib
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

from PIL import Image

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "bramblemoor"]
PICTURE = 5_000_000
FIRST = datetime(2024, 1, 1, 9)
EXIF_MOMENT = "%Y:%m:%d %H:%M:%S"
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program is compiled once, not at each start
PARTS = 4


def picture(number: int) -> bytes:
    """A small JPEG with Exif, padded with noise to the size of a camera's."""
    import io

    exif = Image.Exif()
    exif[0x0110] = "Alderholt M7"
    exif.get_ifd(0x8769)[0x9003] = f"{FIRST + timedelta(hours=number * 7):{EXIF_MOMENT}}"
    target = io.BytesIO()
    Image.new("RGB", (64, 48), (number % 256, 90, 120)).save(target, "JPEG", exif=exif)
    return target.getvalue() + os.urandom(PICTURE - target.tell())


def make_parcel(folder: Path, megabytes: int) -> None:
    """A parcel as Thrushfield writes it: stored pictures, and a slip for each in the last part."""
    folder.mkdir()
    count = megabytes * 1_000_000 // PICTURE
    slips = []
    for part in range(PARTS):
        with zipfile.ZipFile(folder / f"thrushfield-TFBENCH-{part + 1}of{PARTS}.zip", "w") as archive:
            for number in range(part, count, PARTS):
                content = picture(number)
                name = f"B{number:06}"
                archive.writestr(f"stream/{name}.jpg", content)
                digest = hashlib.sha256(content).hexdigest()
                item = {"ref": f"TF-{number:06}", "filename": f"{name}.jpg", "sha256": digest, "quality": "original"}
                slips.append((f"slips/{name}_jpg.slip", {"item": item, "words": {"heading": f"Picture {number}"}}))
            if part == PARTS - 1:
                for entry, slip in slips:
                    archive.writestr(entry, json.dumps(slip), zipfile.ZIP_DEFLATED)


def make_small_parcel(folder: Path, entries: int) -> None:
    """As many entries, half of them tiny pictures and half their slips, in four parts; slips lie in other parts."""
    folder.mkdir()
    head, tail = picture(0)[:1500], b"\xff\xd9"
    stamp = f"{FIRST:{EXIF_MOMENT}}".encode()
    archives = [
        zipfile.ZipFile(
            folder / f"thrushfield-TFSMALL-{part + 1}of{PARTS}.zip", "w", zipfile.ZIP_DEFLATED, compresslevel=1
        )
        for part in range(PARTS)
    ]
    for number in range(entries // 2):
        name = f"S{number:06}"
        taken = datetime(2020, 1, 1, tzinfo=UTC) + timedelta(minutes=number * 11)
        made = head.replace(stamp, f"{taken:{EXIF_MOMENT}}".encode()) + number.to_bytes(4, "big") + tail
        slip = {
            "item": {"ref": f"TF-{number:06}", "filename": f"{name}.jpg", "quality": "original"},
            "words": {"heading": f"Picture {number}"}, "shutter": {"utc_ms": int(taken.timestamp() * 1000)}, "subjects": "small",
        }  # fmt: skip
        archives[number % PARTS].writestr(f"stream/{name}.jpg", made, zipfile.ZIP_STORED)
        archives[(number + 1) % PARTS].writestr(f"slips/{name}_jpg.slip", json.dumps(slip))
    for archive in archives:
        archive.close()


def peak_megabytes(command: list[str], cwd: Path) -> tuple[float, float]:
    """Seconds, and the most memory that the process and those it started held together, in MB (what they share once)."""
    began = time.monotonic()
    process = subprocess.Popen(command, cwd=cwd, stdout=subprocess.DEVNULL)
    peak = 0.0
    while True:
        with suppress(subprocess.TimeoutExpired):
            status = process.wait(timeout=0.2)
            break
        peak = max(peak, sum(_share_of_memory(one) for one in with_children(process.pid)))
    if status:
        sys.exit(f"{' '.join(command)} failed")
    return time.monotonic() - began, peak


def with_children(process: int) -> Iterator[int]:
    yield process
    with suppress(OSError):
        for thread in Path(f"/proc/{process}/task").iterdir():
            for child in (thread / "children").read_text().split():
                yield from with_children(int(child))


def _share_of_memory(process: int) -> float:
    """Proportional set size, in MB."""
    with suppress(OSError, IndexError):
        text = Path(f"/proc/{process}/smaps_rollup").read_text()
        return int(text.split("Pss:")[1].split()[0]) / 1000
    return 0.0


def many_entries(root: Path, entries: int) -> None:
    """Once, as it takes minutes. Nothing is removed before the end: ext4 is slow to use again what has just been freed."""
    make_small_parcel(root / "small", entries)
    timed([*PROGRAM, "new", "small-library"], root)
    os.sync()
    command = [*PROGRAM, "--library", "small-library", "unpack", "--from", "small", "--json"]
    seconds, peak = peak_megabytes(command, root)
    theirs = timed(["sh", str(HERE / "baselines/unpack.sh"), "small", "small-unpacked"], root)
    verdict = "ok" if peak <= 300 else "TOO MUCH"
    speed = f"{seconds:.0f} s, {entries / seconds:,.0f} entries/s"
    print(f"unpack {entries:,} small entries: {speed}, {peak:.0f} MB at most (300)  {verdict}")
    _tell_pair("unpack small / unzip + sha256sum", 5, seconds, theirs, seconds / theirs)
    for name in ("small-library", "small", "small-unpacked"):
        shutil.rmtree(root / name)


def timed(command: list[str], cwd: Path) -> float:
    os.sync()
    began = time.monotonic()
    done = subprocess.run(command, cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False)
    spent = time.monotonic() - began
    if done.returncode:
        sys.exit(f"{' '.join(command)} failed:\n{done.stdout}")
    return spent


def compare(title: str, goal: float, runs: int, ours: Callable[[], float], theirs: Callable[[], float]) -> None:
    pairs = [(ours(), theirs()) for _ in range(runs)]
    mine, other = (statistics.median(pair[side] for pair in pairs) for side in (0, 1))
    _tell_pair(title, goal, mine, other, statistics.median(pair[0] / pair[1] for pair in pairs))


def _tell_pair(title: str, goal: float, mine: float, other: float, ratio: float) -> None:
    verdict = "ok" if ratio <= goal else "TOO SLOW"
    print(f"{title:<34} {mine:8.2f} s {other:8.2f} s   ratio {ratio:5.2f}  (at most {goal})  {verdict}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--megabytes", type=int, default=2000)
    parser.add_argument("--entries", type=int, default=200_000)
    parser.add_argument("--in", dest="where", type=Path, default=None)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=given.where) as name:
        if given.megabytes:
            bench(Path(name), given.runs, given.megabytes)
        if given.entries:
            many_entries(Path(name), given.entries)


def bench(root: Path, runs: int, megabytes: int) -> None:
    def clear(*names: str) -> None:
        for name in names:
            shutil.rmtree(root / name, ignore_errors=True)

    def program(*arguments: str) -> float:
        return timed([*PROGRAM, *arguments], root)

    def unpack() -> float:
        clear("library")
        program("new", "library")
        return program("--library", "library", "unpack", "--from", str(root / "parcel"))

    def unzip() -> float:
        clear("unzipped")
        (root / "unzipped").mkdir()
        return timed(["sh", str(HERE / "baselines/unpack.sh"), str(root / "parcel"), str(root / "unzipped")], root)

    def start() -> float:
        return statistics.median(program("--help") for _ in range(5))

    def typer() -> float:
        return statistics.median(timed([sys.executable, "-c", "import typer"], root) for _ in range(5))

    print(f"{megabytes} MB of pictures of {PICTURE / 1e6:.0f} MB; medians of {runs} runs in turn", flush=True)
    print(f"{'':<34} {'Bramblemoor':>10} {'baseline':>10}", flush=True)
    compare("--help / import typer", 2.0, runs, start, typer)
    make_parcel(root / "parcel", megabytes)
    compare("unpack / unzip + sha256sum", 0.3, runs, unpack, unzip)
    clear("unzipped")


if __name__ == "__main__":
    main()
