"""Faults of drives: full at every file, EIO on read, write and fsync, flipped bits, swapped drives, two runs at once.

usage: faults.py [--eio 100] [--looks 100] [--flips 50] [--pairs 20] [--only full,eio,looks,flips,swaps,pairs] [--in FOLDER]
                 [--seed N]

Prints, for each fault, how often it was tried and how often what must hold held. Parts that this machine cannot do are named.
"""

import argparse
import random
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from lab import (
    HEAD,
    PROGRAM,
    Lab,
    Tally,
    amiss_in_bag,
    attach,
    available,
    contents,
    has_fuse,
    level,
    make_image,
    mount,
    mounted,
    run_parts,
    unmount,
)

HERE = Path(__file__).parent
# The system boasts: a run begins although the drive is too small, as if another program took the room meanwhile.
UNAWARE = "import shutil; shutil.disk_usage = lambda folder: type('Usage', (), {'free': 1 << 40, 'total': 1 << 41}); "
UNAWARE += "from bramblemoor.cli.main import main; main()"


def full(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """No room at each file of a run: said clearly, nothing broken, completed once there is room."""
    for kind in ("ext4", "xfs", "btrfs", "exfat", "ntfs"):
        if not available(kind):
            print(f"full drives on {kind}: skipped, this machine cannot make or mount it")
            continue
        lab = Lab(root / kind)
        lab.root.mkdir()
        lab.make_library(14, 30_000, chance)
        image, drive = lab.root / "image", lab.root / "drive"
        make_image(image, kind)
        with mounted(image, drive, kind):
            (drive / "depot").mkdir()
            lab.must("depot", "add", "d", str(drive / "depot"), "--site", "here", "--medium", "hdd")
            state = lab.root / "ledger-before"
            shutil.copytree(lab.library / "ledger", state)
            empty = lab.root / "depot-before"
            shutil.copytree(drive / "depot", empty)
            for files in range(15):
                shutil.rmtree(lab.library / "ledger")
                shutil.copytree(state, lab.library / "ledger")
                shutil.rmtree(drive / "depot")
                shutil.copytree(empty, drive / "depot")
                hog = drive / "hog"
                _fill(hog, leave=40_000 + files * 45_000)
                done = subprocess.run(
                    [sys.executable, "-c", UNAWARE, "--library", str(lab.library), "backup"], capture_output=True, text=True,
                    cwd=lab.root, check=False,
                )  # fmt: skip
                problems = []
                told = done.stdout + done.stderr
                if done.returncode not in (0, 1, 3) or (done.returncode and "No space left" not in told):
                    problems.append(f"with room for {files} files it ended with {done.returncode}: {told[-200:]}")
                hog.unlink()
                again = lab.run("backup")
                if again.returncode:
                    problems.append(
                        f"the rerun ended with {again.returncode}: {again.stdout[-200:]}{again.stderr[-200:]}"
                    )
                problems += amiss_in_bag(drive / "depot") + level(lab.library, drive / "depot")
                tally.enter(f"no space, {kind}", problems)


def _fill(hog: Path, leave: int) -> None:
    """Take all the room of a drive but about so many bytes."""
    with hog.open("wb", buffering=0) as file:
        try:
            while True:
                file.write(bytes(1 << 18))
        except OSError:
            pass
        try:
            while True:
                file.write(bytes(4096))
        except OSError:
            pass
        file.truncate(max(0, file.tell() - leave))
    subprocess.run(["sync", "-f", str(hog.parent)], check=False)


@contextmanager
def faulty(lab: Lab) -> Iterator[tuple[Path, Path]]:
    """A drive that fails on order; yields where it is mounted, and the file for the orders."""
    real, point, orders = lab.root / "real", lab.root / "faulty", lab.root / "orders.txt"
    for folder in (real, point):
        folder.mkdir(exist_ok=True)
    server = subprocess.Popen([sys.executable, HERE / "faulty_folder.py", real, point, orders])
    for _ in range(100):
        if point.is_mount():
            break
        time.sleep(0.05)
    try:
        yield point, orders
    finally:
        orders.unlink(missing_ok=True)
        unmount(point)
        server.wait(30)


def eio(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """EIO at one call: that file is named, the others complete, no good copy is replaced, a rerun completes."""
    if not has_fuse():
        print("EIO: skipped, this machine has no libfuse 2")
        return
    for kind in ("write", "fsync", "read"):
        lab = Lab(root / f"eio-{kind}")
        lab.root.mkdir()
        lab.make_library(12, 20_000, chance)
        with faulty(lab) as (drive, orders):
            (drive / "depot").mkdir()
            lab.must("depot", "add", "d", str(drive / "depot"), "--site", "here", "--medium", "hdd")
            lab.must("backup")
            for _ in range(given.eio):
                for path in chance.sample(sorted((lab.library / "pictures").rglob("*.jpg")), 3):
                    path.unlink()
                for number in range(3):
                    (lab.library / f"pictures/E{chance.randrange(10**9)}-{number}.jpg").write_bytes(
                        bytes.fromhex("ffd8ffe0") + chance.randbytes(30_000)
                    )
                lab.must("stocktake", "--yes", codes=(1,))
                lab.must("stocktake", "--let-go", "pictures/", "--yes")
                held = contents(drive / "depot", lab.library)
                word = "data/" if kind != "read" else chance.choice(["incoming/", "data/"])
                orders.write_text(f"{kind} {chance.randrange(1, 5)} {word}")
                hit = orders.with_suffix(".hit")
                hit.unlink(missing_ok=True)
                command = "verify" if kind == "read" and word == "data/" else "backup"
                done = lab.run(command, *(["d"] if command == "verify" else ["--yes"]))
                orders.unlink(missing_ok=True)
                if not hit.exists():
                    continue
                problems = []
                name = Path(hit.read_text()).name
                if done.returncode not in (1, 3) or (name not in done.stdout + done.stderr and done.returncode == 1):
                    problems.append(
                        f"{name} failed, and was not named ({done.returncode}): {done.stdout[-300:]}{done.stderr[-200:]}"
                    )
                if command == "verify":
                    lab.run("mend")
                again = lab.run("backup", "--yes")
                if again.returncode:
                    problems.append(f"the rerun ended with {again.returncode}: {again.stdout[-300:]}")
                if held - contents(drive / "depot", lab.library):
                    problems.append("contents were lost")
                problems += amiss_in_bag(drive / "depot") + level(lab.library, drive / "depot")
                tally.enter(f"EIO on {kind}", problems)


def looks(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """EIO where something of a depot is looked at or listed, after a run was killed or not: nothing is taken for missing or
    empty by that, so that nothing is lost, and a rerun completes."""
    if not has_fuse():
        print("EIO on looks: skipped, this machine has no libfuse 2")
        return
    folders = ("incoming", "data", "readings", "receipts", "runs", "earlier")
    commands = (("backup", "--yes"), ("backup", "--yes"), ("verify", "d"), ("mend",))
    for kind, words in (("look", (*folders, "journal", "manifest", "line.json", "depot/")), ("list", folders)):
        lab = Lab(root / f"eio-{kind}")
        lab.root.mkdir()
        lab.make_library(12, 20_000, chance)
        moved = lab.library / "pictures/2020"
        with faulty(lab) as (drive, orders):
            (drive / "depot").mkdir()
            lab.must("depot", "add", "d", str(drive / "depot"), "--site", "here", "--medium", "hdd")
            lab.must("backup")
            hit = orders.with_suffix(".hit")
            for _ in range(given.looks):
                moved = moved.rename(lab.library / f"pictures/renamed {chance.randrange(10**6)}")
                (lab.library / "companions/catalogue.db").write_bytes(chance.randbytes(6000))
                for number in range(3):
                    (moved / f"E{chance.randrange(10**9)}-{number}.jpg").write_bytes(HEAD + chance.randbytes(30_000))
                held = contents(drive / "depot", lab.library)
                if chance.random() < 0.5:
                    with suppress(subprocess.TimeoutExpired):  # it is killed then
                        subprocess.run(
                            [*PROGRAM, "--library", str(lab.library), "backup", "--yes"],
                            capture_output=True, check=False, timeout=chance.uniform(0.3, 1.2),
                        )  # fmt: skip
                hit.unlink(missing_ok=True)
                orders.write_text(order := f"{kind} {chance.randrange(1, 6)} {chance.choice(words)}")
                done = lab.run(*chance.choice(commands))
                orders.unlink(missing_ok=True)
                if not hit.exists():
                    continue
                problems = [f"{order}: {done.stderr[-300:]}"] if "Traceback" in done.stderr else []
                lab.run("mend")
                again = lab.run("backup", "--yes")
                if again.returncode:
                    problems.append(f"{order}: the rerun ended with {again.returncode}: {again.stdout[-300:]}")
                if held - contents(drive / "depot", lab.library):
                    problems.append(f"{order}: contents were lost")
                problems += amiss_in_bag(drive / "depot") + level(lab.library, drive / "depot")
                tally.enter(f"EIO on {kind}", problems)


def flips(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """One flipped bit: found by verify, and mended, or named where no good copy exists. Half of them on the device."""
    lab = Lab(root / "flips")
    lab.root.mkdir()
    lab.make_library(12, 20_000, chance)
    image, drive, kind = lab.root / "image", lab.root / "drive", "ext4"
    on_device = available(kind) and shutil.which("filefrag") is not None
    if not on_device:
        print("flipped bits on the device: skipped, this machine cannot mount ext4 or has no filefrag")
    if on_device:
        make_image(image, kind)
    device = attach(image) if on_device else ""

    def plug() -> None:
        if on_device and not mount(device, drive, kind):
            raise RuntimeError("the drive does not mount")

    drive.mkdir(exist_ok=True)
    plug()
    depot = drive / "depot"
    depot.mkdir()
    (lab.root / "second").mkdir()
    lab.must("depot", "add", "d", str(depot), "--site", "here", "--medium", "hdd")
    lab.must("depot", "add", "e", str(lab.root / "second"), "--site", "there", "--medium", "ssd")
    lab.must("backup")
    lab.change_things(chance)
    lab.must("backup", codes=(0, 1))
    targets: dict[str, Callable[[], list[Path]]] = {
        "payload": lambda: [p for p in (depot / "data/pictures").rglob("*") if p.is_file()],
        "manifest": lambda: [depot / "manifest-sha256.txt"],
        "tag manifest": lambda: [depot / "tagmanifest-sha256.txt"],
        "ledger snapshot": lambda: [depot / "data/ledger/ledger.sqlite"],
        "depot.toml": lambda: [depot / "depot.toml"],
        "earlier": lambda: [p for p in (depot / "earlier").rglob("*") if p.is_file() and p.name != "why.csv"],
    }
    for what, choose in targets.items():
        for number in range(given.flips):
            path = chance.choice(sorted(choose()))
            before = path.read_bytes()
            at, bit = chance.randrange(len(before)), 1 << chance.randrange(8)
            if on_device and number % 2:
                if not _flip_on_device(path, image, at, bit, lambda: unmount(drive), plug):
                    continue
                where = "device"
            else:
                with path.open("r+b") as file:
                    file.seek(at)
                    file.write(bytes((before[at] ^ bit,)))
                where = "file"
            problems = _found_and_mended(lab, depot, path, before)
            if path.is_file() and path.read_bytes() != before and what == "earlier":
                path.write_bytes(before)
            tally.enter(f"flipped bit in {what}, {where}", problems)
    unmount(drive) if on_device else None
    if on_device:
        subprocess.run(["losetup", "--detach", device], check=False)


def _flip_on_device(
    path: Path, image: Path, at: int, bit: int, unplug: Callable[[], None], plug: Callable[[], None]
) -> bool:
    """Flip a bit of a file in the image that its drive lies in; False where the file lies in no block of its own."""
    subprocess.run(["sync"], check=False)
    listed = subprocess.run(["filefrag", "-v", "-b1", str(path)], capture_output=True, text=True, check=False).stdout
    for line in listed.splitlines():
        fields = line.replace(":", " ").replace("..", " ").split()
        if len(fields) >= 6 and fields[0].isdigit():
            start, end, physical = int(fields[1]), int(fields[2]), int(fields[3])
            if start <= at <= end:
                unplug()
                with image.open("r+b") as file:
                    file.seek(physical + at - start)
                    byte = file.read(1)[0]
                    file.seek(physical + at - start)
                    file.write(bytes((byte ^ bit,)))
                plug()
                return True
    return False


def _found_and_mended(lab: Lab, depot: Path, path: Path, before: bytes) -> list[str]:
    """Verify must tell of it; then mend, or what the error says, must put it right, or name it as lost."""
    name = path.relative_to(depot).as_posix().removeprefix("data/")
    found = lab.run("verify", "d")
    told = found.stdout + found.stderr
    if found.returncode == 0:
        return [f"{name}: the flip was not found"]
    if path.name == "depot.toml" and "depot repair" in told:
        lab.must("depot", "repair", "d", str(depot))
    mended = lab.run("mend")
    told += mended.stdout + mended.stderr
    again = lab.run("verify", "d")
    if name.startswith("earlier/") and "no good copy" in told:
        return []
    problems = []
    if Path(name).name not in told:
        problems.append(f"{name}: found, but not by name: {told[-300:]}")
    if again.returncode:
        problems.append(f"{name}: still amiss after mending: {again.stdout[-300:]}{again.stderr[-300:]}")
    if name.startswith(("pictures", "ledger")) and path.read_bytes() != before:
        problems.append(f"{name}: mended to something else")
    problems += amiss_in_bag(depot)
    return problems


def swaps(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """A drive swapped for another, emptied, cloned, or mounted elsewhere: recognised or refused, and never written to."""
    lab = Lab(root / "swaps")
    lab.root.mkdir()
    lab.make_library(8, 10_000, chance)
    for name in ("d", "e"):
        (lab.root / name).mkdir()
        lab.must("depot", "add", name, str(lab.root / name), "--site", name, "--medium", "hdd")
    lab.must("backup")
    d, e, away = lab.root / "d", lab.root / "e", lab.root / "away"

    def refused(what: str, words: str) -> None:
        before = {p: p.stat().st_mtime_ns for p in d.rglob("*") if p.name != "in-use.lock"} if d.exists() else {}
        done = lab.run("backup", "d")
        after = {p: p.stat().st_mtime_ns for p in d.rglob("*") if p.name != "in-use.lock"} if d.exists() else {}
        problems = [] if done.returncode == 3 and words in done.stderr else [f"{done.returncode}: {done.stderr[-200:]}"]
        tally.enter(f"drive {what}", problems + (["something was written"] if before != after else []))

    d.rename(away)
    refused("gone", "is not there")
    d.mkdir()
    refused("not mounted, or emptied", "may not be mounted")
    d.rmdir()
    shutil.copytree(e, d)
    refused("swapped for another", "holds another depot")
    shutil.rmtree(d)
    shutil.copytree(away, d)
    shutil.copytree(away, lab.root / "clone")
    shutil.rmtree(away)
    lab.change_things(chance)
    lab.must("backup", codes=(0, 1))
    d.rename(away)
    (lab.root / "clone").rename(d)
    refused("replaced by its older clone", "a clone, or a drive that was put back")
    shutil.rmtree(d)
    away.rename(d)
    if available("ext4"):
        image, first, second = lab.root / "image", lab.root / "sdb", lab.root / "sdc"
        make_image(image, "ext4")
        with mounted(image, first, "ext4"):
            lab.must("depot", "add", "usb", str(first), "--site", "cottage", "--medium", "hdd")
            lab.must("backup", "usb")
        with mounted(image, second, "ext4"):
            done = lab.run("backup", "usb")
            tally.enter("drive mounted elsewhere", [] if done.returncode == 0 else [done.stderr])


def pairs(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """Two runs at once on one library, and of two copies of a library on one depot: one works, the other says so and leaves."""
    lab, twin = Lab(root / "pairs"), Lab(root / "twin")
    lab.root.mkdir()
    lab.make_library(30, 60_000, chance)
    (lab.root / "d").mkdir()
    lab.must("depot", "add", "d", str(lab.root / "d"), "--site", "d", "--medium", "hdd")
    lab.must("backup")  # both then continue the same line
    shutil.copytree(lab.root, twin.root)
    shutil.rmtree(twin.root / "d")
    shutil.copytree(lab.root / "d", lab.root / "d-before")
    for one in (lab, twin):
        (one.library / "companions/large.db").write_bytes(bytes(4_000_000))
        one.must("backup", "--dry-run") if one is lab else None
    shutil.copytree(lab.library / "ledger", lab.root / "ledger-before")
    for what, other, command in (("library", lab, "backup"), ("depot", twin, "backup")):
        for _ in range(given.pairs):
            shutil.rmtree(lab.library / "ledger")
            shutil.copytree(lab.root / "ledger-before", lab.library / "ledger")
            if other is twin:
                shutil.rmtree(twin.library / "ledger")
                shutil.copytree(lab.root / "ledger-before", twin.library / "ledger")
                twin.must("depot", "add", "d", str(lab.root / "d"))
            shutil.rmtree(lab.root / "d")
            shutil.copytree(lab.root / "d-before", lab.root / "d")
            runs = []
            for one in (lab, other):
                slowly = [*PROGRAM, "--library", str(one.library), command, "--limit", "2MB"]
                runs.append(
                    subprocess.Popen(
                        slowly, cwd=one.root,
                        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                    )
                )  # fmt: skip
                time.sleep(chance.uniform(0.5, 0.8))  # the first one, slowed down, is at work
            ended = [(run.communicate(timeout=120), run.returncode) for run in runs]
            codes = sorted(code for _, code in ended)
            told = "".join(err for (_, err), _ in ended)
            problems = []
            if codes == [0, 3]:
                if "Another run is working" not in told:
                    problems.append(f"the other did not say so: {told[-200:]}")
            elif codes != [0, 0]:
                problems.append(f"they ended with {codes}: {told[-200:]}")
            again = lab.run("backup")
            problems += (
                [] if again.returncode == 0 else [f"the rerun ended with {again.returncode}: {again.stderr[-200:]}"]
            )
            problems += amiss_in_bag(lab.root / "d") + level(lab.library, lab.root / "d")
            tally.enter(
                f"two runs at once on one {what}" + (" (met)" if codes == [0, 3] else " (one after the other)"),
                problems,
            )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--eio", type=int, default=100)
    parser.add_argument("--looks", type=int, default=100)
    parser.add_argument("--flips", type=int, default=50)
    parser.add_argument("--pairs", type=int, default=20)
    run_parts(parser, {"full": full, "eio": eio, "looks": looks, "flips": flips, "swaps": swaps, "pairs": pairs})


if __name__ == "__main__":
    main()
