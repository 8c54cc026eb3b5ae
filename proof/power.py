"""Loss of power at every flush of a backup, on real file systems: the drive's writes are recorded and replayed.

usage: power.py [--kinds ext4,xfs,btrfs,exfat,ntfs] [--most N] [--subsets 20] [--in FOLDER] [--seed N]

A depot lies on a loop device over an image that records each write and flush. After a backup of a day's work, the drive is
put back to what it was at each flush (or --most of them, evenly spread), and to random choices of the writes that came
between a flush and the next. Each time it is mounted again and the backup is run again, by a library that knows nothing of
the first run: it must complete; every content that the depot held before must be there; its manifests must hold.
"""

import argparse
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from lab import Lab, amiss_in_bag, attach, available, contents, has_fuse, level, make_image, mount, mounted, unmount
from recording_image import FLUSH, WRITE, read_log

HERE = Path(__file__).parent
BROKEN = "the file system is broken"
CHECKS = {"exfat": ("fsck.exfat", "-y"), "btrfs": (), "ext4": (), "xfs": (), "ntfs": ("ntfsfix",)}
"""What a person runs before mounting a drive that lost power, where mounting itself does not see to it."""


@dataclass
class Recorded:
    """An image as it was when recording began, what was written since, and the library then."""

    base: Path
    log: Path
    library: Path
    held: set[str]


def record(lab: Lab, kind: str, chance: random.Random) -> Recorded:
    """Make a depot with a first backup, then record the backup of a day's work."""
    image, drive, point, log = lab.root / "image", lab.root / "drive", lab.root / "fuse", lab.root / "log"
    make_image(image, kind)
    with mounted(image, drive, kind):
        (drive / "depot").mkdir()
        lab.must("depot", "add", "d", str(drive / "depot"), "--site", "here", "--medium", "hdd")
        lab.must("backup")
        held = contents(drive / "depot")
    base = lab.root / "base"
    lab.change_things(chance)
    with mounted(image, drive, kind):
        lab.must("backup", "--dry-run")  # a run writes the library's own part first, on another drive: that is not lost
    subprocess.run(["cp", "--sparse=always", image, base], check=True)
    shutil.copytree(lab.library, lab.root / "library-before")
    point.mkdir()
    server = subprocess.Popen([sys.executable, HERE / "recording_image.py", image, log, point])
    for _ in range(100):
        if (point / "image").exists():
            break
        time.sleep(0.1)
    device = attach(point / "image")
    if not mount(device, drive, kind):
        raise RuntimeError(f"{kind} does not mount over FUSE")
    lab.must("backup", codes=(0, 1))
    unmount(drive)
    subprocess.run(["losetup", "--detach", device], check=True)
    unmount(point)
    server.wait(30)
    return Recorded(base, log, lab.root / "library-before", held)


def crashes(
    recorded: Recorded, most: int, subsets: int, chance: random.Random
) -> Iterator[tuple[str, list[tuple[int, bytes]]]]:
    """What the drive holds after a loss of power: the writes up to a flush, and some of those behind it."""
    records = list(read_log(recorded.log))
    flushes = [0, *(number + 1 for number, record in enumerate(records) if record[0] == FLUSH)]
    chosen = (
        flushes if len(flushes) <= most else [flushes[round(i * (len(flushes) - 1) / (most - 1))] for i in range(most)]
    )
    for at in chosen:
        yield (
            f"flush {flushes.index(at)} of {len(flushes) - 1}",
            [(o, data) for k, o, data in records[:at] if k == WRITE],
        )
    for _ in range(subsets):
        number = chance.randrange(len(flushes))
        start = flushes[number]
        end = flushes[number + 1] if number + 1 < len(flushes) else len(records)
        later = [record for record in records[start:end] if record[0] == WRITE and chance.random() < 0.5]
        writes = [record for record in records[:start] if record[0] == WRITE]
        yield f"flush {number} and {len(later)} later writes", [(o, data) for _, o, data in [*writes, *later]]


def survives(lab: Lab, kind: str, recorded: Recorded, writes: list[tuple[int, bytes]]) -> str:
    """Replay, mount, run again, judge; returns what is wrong."""
    trial, drive = lab.root / "trial", lab.root / "drive"
    subprocess.run(["cp", "--sparse=always", recorded.base, trial], check=True)
    with trial.open("r+b") as file:
        for offset, data in writes:
            file.seek(offset)
            file.write(data)
    shutil.rmtree(lab.library)
    shutil.copytree(recorded.library, lab.library)
    device = attach(trial)
    try:
        if CHECKS[kind]:
            subprocess.run([*CHECKS[kind], device], capture_output=True, check=False)
        if not mount(device, drive, kind):
            return "it does not mount"
        try:
            done = lab.run("backup")
            if done.returncode not in (0, 1):
                return (
                    BROKEN
                    if _says_broken(drive, done)
                    else f"the rerun ended with {done.returncode}: {done.stdout[-300:]}{done.stderr[-300:]}"
                )
            again = lab.run("verify", "d")
            if again.returncode:  # what the loss of power damaged is found; a second run mends it
                lab.run("mend")
            last = lab.run("backup")
            try:
                problems = amiss_in_bag(drive / "depot") + level(lab.library, drive / "depot")
                lost = recorded.held - contents(drive / "depot", lab.library)
            except OSError as error:  # nothing can be judged there: it is to have been said
                return (
                    BROKEN
                    if _says_broken(drive, last)
                    else f"hidden: {error}: {last.stdout[-300:]}{last.stderr[-300:]}"
                )
            if lost:
                return f"{len(lost)} contents lost"
            return BROKEN if problems and _says_broken(drive, last) else "; ".join(problems[:3])
        finally:
            unmount(drive)
    finally:
        subprocess.run(["losetup", "--detach", device], check=False)


def _says_broken(drive: Path, run: subprocess.CompletedProcess[str]) -> bool:
    """Whether a run failed naming a place on a drive, and the system's own programs cannot list the drive, put a copy in that
    place or take away what lies there: only its file system's own repair can help then. What lies there is taken away."""
    named = re.search(re.escape(str(drive)) + r"[^:)\n]*", run.stdout + run.stderr)
    if run.returncode == 0 or named is None:
        return False
    listed = subprocess.run(["find", drive, "-size", "+0"], capture_output=True, check=False)
    place = Path(named[0])
    target = place.with_name(re.sub(r"(\.copy|\.again)?\.bm-new$", "", place.name))
    places = map(str, (drive / "depot/depot.toml", target.parent / "probe", target))
    put = ["sh", "-c", 'cp "$0" "$1" && mv -f "$1" "$2"', *places]
    if listed.returncode or subprocess.run(put, capture_output=True, check=False).returncode:
        return True
    take = ["rm", "-r", str(place)]
    return place.exists() and subprocess.run(take, capture_output=True, check=False).returncode != 0


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--kinds", default="ext4,xfs,btrfs,exfat,ntfs")
    parser.add_argument("--most", type=int, default=10_000)
    parser.add_argument("--subsets", type=int, default=20)
    parser.add_argument("--in", dest="where", type=Path, default=Path("/dev/shm"))
    parser.add_argument("--seed", type=int, default=int(time.time()))
    given = parser.parse_args()
    chance = random.Random(given.seed)
    print(f"seed {given.seed}", flush=True)
    failed = False
    for kind in given.kinds.split(","):
        if not (available(kind) and has_fuse()):
            print(f"{kind}: skipped, this machine cannot make or mount it, or has no libfuse 2", flush=True)
            continue
        with tempfile.TemporaryDirectory(dir=given.where) as name:
            lab = Lab(Path(name))
            lab.make_library(24, 40_000, chance)
            recorded = record(lab, kind, chance)
            tried = held = broken = 0
            for what, writes in crashes(recorded, given.most, given.subsets, chance):
                problem = survives(lab, kind, recorded, writes)
                tried += 1
                held += not problem
                broken += problem == BROKEN
                if problem and problem != BROKEN:
                    print(f"{kind}, {what}: {problem}", flush=True)
        failed = failed or tried != held + broken
        more = f"; file system itself broken, and said so, {broken}" if broken else ""
        print(f"{kind:<8} power lost {tried:>4} times, held {held:>4}{more}", flush=True)
    sys.exit(failed)


if __name__ == "__main__":
    main()
