"""SIGKILL during runs at depots: at renames, flushes, removals and writes, and at random instants.

usage: depot_kills.py [--each 8] [--only backup,mend,...] [--in FOLDER] [--seed N]

For each command and each kind of system call, --each kills are spread over the whole run. After each, the same command is run
again until it completes; then every content that was there before must be there still, the depots must be valid bags, and what
the command is for must hold. Needs strace. Prints a histogram.
"""

import argparse
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

from lab import PROGRAM, Lab, amiss_in_bag, contents, level

CALLS = {
    "rename": "rename,renameat,renameat2",
    "fsync": "fsync,fdatasync,syncfs",
    "unlink": "unlink,unlinkat,rmdir",
    "write": "write,pwrite64",
}


class Stage:
    """Copies of a prepared world, one for each command, from which it is run and killed."""

    def __init__(self, root: Path, chance: random.Random) -> None:
        self.root = root
        self.lab = Lab(root / "world")
        self.lab.root.mkdir()
        self.lab.make_library(20, 20_000, chance)
        for name, medium in (("d", "hdd"), ("e", "ssd")):
            (self.lab.root / name).mkdir()
            options = ("--site", name, "--medium", medium, "--stand-in", name)
            self.lab.must("depot", "add", name, str(self.lab.root / name), *options)
        self.commands: dict[str, list[str]] = {}
        self.lab.must("backup")
        self.save("bind", "bind", "2021", "--at", "d", "--at", "e")
        self.lab.must("bind", "2021", "--at", "d", "--at", "e")
        self.lab.must("backup")
        self.save("free", "free", "2021", "--yes")
        self.lab.must("free", "2021", "--yes")
        self.save("reopen", "reopen", "2021")
        self.lab.must("reopen", "2021")
        self.lab.change_things(chance)
        self.save("backup", "backup")
        self.lab.must("backup", "d", codes=(0, 1))
        self.save("level", "depot", "level", "d", "e")
        self.lab.must("backup", codes=(0, 1))
        self.save("purge", "purge", "d", "--older-than", "0", "--yes")
        self.save("restore", "restore", "back", "--from", "d", "--from", "e")
        self.save("pack", "pack", "away", "--size", "1MB")
        for path in sorted((self.lab.root / "d/data/pictures").rglob("*.jpg"))[:6]:
            path.write_bytes(b"rotten")
        sorted((self.lab.library / "pictures").rglob("*.jpg"))[9].write_bytes(b"rotten too")
        self.lab.must("verify", codes=(0, 1))
        self.save("mend", "mend")

    def save(self, name: str, *command: str) -> None:
        shutil.copytree(self.lab.root, self.root / f"before-{name}")
        self.commands[name] = list(command)

    def reset(self, name: str) -> None:
        shutil.rmtree(self.lab.root)
        shutil.copytree(self.root / f"before-{name}", self.lab.root)

    def arguments(self, name: str) -> list[str]:
        where = [] if name == "restore" else ["--library", str(self.lab.library)]
        return [*PROGRAM, *where, *self.commands[name]]

    def judge(self, name: str, before: set[str]) -> list[str]:
        """Run the command again, and say what does not hold."""
        problems = []
        command = subprocess.run(self.arguments(name), cwd=self.lab.root, capture_output=True, text=True, check=False)
        told = command.stdout + command.stderr
        again = command.returncode
        done_already = {"bind": "is bound already", "reopen": "is open for work", "pack": "already"}
        if again == 2 and name in done_already and done_already[name] in told:
            again = 0
        if again not in (0, 1) or (again == 1 and name not in ("backup", "mend", "restore")):
            problems.append(f"the rerun ended with {again}: {told[-300:]}")
        lab = self.lab
        after = contents(lab.library, lab.root / "d", lab.root / "e")
        if name != "purge" and before - after:
            problems.append(f"{len(before - after)} contents lost")
        if name == "purge" and before - after - self.purgeable:
            problems.append("more was lost than was to be purged")
        for depot in ("d", "e"):
            problems += amiss_in_bag(lab.root / depot)
        if name in ("backup", "mend"):
            problems += [problem for depot in ("d", "e") for problem in level(lab.library, lab.root / depot)]
        if name == "level":
            problems += level(lab.root / "d/data", lab.root / "e")
        if name == "restore":
            problems += level(lab.root / "back", lab.root / "d")
        if name == "pack":
            whole = subprocess.run(
                [*PROGRAM, "volumes", "away"], cwd=lab.root, capture_output=True, text=True, check=False
            )
            if whole.returncode or [path for path in (lab.root / "away").iterdir() if path.suffix != ".zip"]:
                problems.append(f"the archive is not whole: {whole.stdout[-300:]}{whole.stderr}")
        if name == "reopen":
            problems += level(lab.library, lab.root / "d")
        if name == "free" and list((lab.library / "pictures/2021").rglob("*.jpg")):
            problems.append("2021 is still there")
        return problems

    @property
    def purgeable(self) -> set[str]:
        return contents(self.root / "before-purge/d/earlier")


def calls_made(stage: Stage, name: str, calls: str) -> int:
    """How often the busiest thread of an undisturbed run, in any of its processes, makes such a call."""
    stage.reset(name)
    log = stage.root / "calls"
    trace = ["strace", "-f", "-qq", "-o", str(log), "-e", f"trace={calls}"]
    subprocess.run([*trace, *stage.arguments(name)], cwd=stage.lab.root, capture_output=True, check=False)
    lines = log.read_text(errors="replace").splitlines()
    return max(Counter(line.split()[0] for line in lines).values(), default=0)


def kill_at(stage: Stage, name: str, calls: str, when: int) -> bool:
    inject = ["strace", "-f", "-qq", "-o", "/dev/null", "-e", f"trace={calls}"]
    inject += ["-e", f"inject={calls}:signal=SIGKILL:when={when}"]
    command = [*inject, *stage.arguments(name)]
    done = subprocess.run(command, cwd=stage.lab.root, capture_output=True, text=True, check=False)
    # Where it was a writer that was killed, the run itself goes on without that depot, and says so.
    return done.returncode in (-9, 137) or "its writing process was ended" in done.stdout + done.stderr


def kill_after(stage: Stage, name: str, seconds: float) -> bool:
    process = subprocess.Popen(
        stage.arguments(name), cwd=stage.lab.root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    time.sleep(seconds)
    process.kill()
    return process.wait() == -9


def prove(
    stage: Stage, name: str, kind: str, wanted: int, chance: random.Random, enter: Callable[[list[str], float], None]
) -> None:
    made = 0 if kind == "instant" else calls_made(stage, name, CALLS[kind])
    if kind != "instant" and not made:
        return
    latest = 1.0
    for number in range(wanted):
        for _ in range(4):
            stage.reset(name)
            before = contents(stage.lab.library, stage.lab.root / "d", stage.lab.root / "e")
            if kind == "instant":
                at = chance.uniform(0.15, latest)
                killed = kill_after(stage, name, at)
                latest = latest if killed else max(0.3, at)
            else:
                at = max(1, min(made, round(made * (number + chance.random()) / wanted)))
                killed = kill_at(stage, name, CALLS[kind], int(at))
            if killed:
                enter(stage.judge(name, before), at)
                break


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--each", type=int, default=8)
    parser.add_argument("--only", default="")
    parser.add_argument("--in", dest="where", type=Path, default=Path("/dev/shm"))
    parser.add_argument("--seed", type=int, default=int(time.time()))
    given = parser.parse_args()
    if shutil.which("strace") is None:
        sys.exit("depot_kills.py needs strace; nothing was proven.")
    chance = random.Random(given.seed)
    print(f"seed {given.seed}", flush=True)
    tried: Counter[tuple[str, str]] = Counter()
    held: Counter[tuple[str, str]] = Counter()
    with tempfile.TemporaryDirectory(dir=given.where) as folder:
        stage = Stage(Path(folder), chance)
        for name in given.only.split(",") if given.only else stage.commands:
            for kind in [*CALLS, "instant"]:

                def enter(problems: list[str], at: float, name: str = name, kind: str = kind) -> None:
                    tried[name, kind] += 1
                    held[name, kind] += not problems
                    if problems:
                        print(f"{name}, {kind} {at}: {'; '.join(problems[:3])}", flush=True)

                prove(stage, name, kind, given.each, chance, enter)
    kinds = [*CALLS, "instant"]
    print(f"{'command':<10}" + "".join(f"{kind:>10}" for kind in kinds) + f"{'all':>10}   (held of tried)")
    for name in dict.fromkeys(name for name, _ in tried):
        cells = [f"{held[name, kind]}/{tried[name, kind]}" for kind in kinds]
        whole = sum(held[name, kind] for kind in kinds), sum(tried[name, kind] for kind in kinds)
        print(f"{name:<10}" + "".join(f"{cell:>10}" for cell in cells) + f"{whole[0]:>5}/{whole[1]}")
    print(f"{sum(held.values())} of {sum(tried.values())} kills held")
    sys.exit(held != tried)


if __name__ == "__main__":
    main()
