"""SIGKILL during runs at depots: at every rename, flush and removal, at writes, and at random instants.

usage: depot_kills.py [--each 8] [--most N] [--only backup,mend,...] [--at rename,fsync,...] [--in FOLDER] [--seed N]

The run itself, and apart from it the processes that write depots for it, are killed as they begin each single call that
renames, flushes, removes or gives a staged file its time (at most --most of a kind, evenly spread), at --each of their writes
and of what they read back, both together at each rename of a writer, and the run at --each random instants. After each kill
the same command is run again until it completes; then every content that was there before must be there still, the depots
must be valid bags, and what the command is for must hold. Needs strace. Prints histograms: by command and call, and by what
the kill left open at a depot.
"""

import argparse
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from lab import PROGRAM, Lab, amiss_in_bag, contents, level

CALLS = {
    "rename": "rename,renameat,renameat2",
    "fsync": "fsync,fdatasync,syncfs",
    "unlink": "unlink,unlinkat,rmdir",
    "write": "write,pwrite64",
    "set time": "utimensat",
    "read back": "readv,preadv,preadv2",
}
EVERY = ("rename", "fsync", "unlink", "set time")
WHO = ("run", "writers", "both")
# Found by Python as it starts; puts a writing process, and no other, under strace, which stays out of its line of parents.
# With "both" the run dies as soon as it learns that a writer was killed: it cannot go on to finish what that left.
SITE = """
import os, sys
if "bramblemoor.depots.engine.writer" in sys.orig_argv and "STRACE_WRITERS" in os.environ:
    told = os.environ.pop("STRACE_WRITERS")
    os.execvp("strace", [*told.replace("PID", str(os.getpid())).split(), *sys.orig_argv])
elif "DIE_WITH_WRITERS" in os.environ:
    import subprocess
    ended = subprocess.Popen._handle_exitstatus
    def learn(self, status, *more):
        if os.WIFSIGNALED(status):
            os.kill(os.getpid(), 9)
        ended(self, status, *more)
    subprocess.Popen._handle_exitstatus = learn
"""


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
        self.save("unbind", "unbind", "2021")
        # A new drive in the place of one that is gone; what was freed comes from the other.
        shutil.rmtree(self.lab.root / "e")
        (self.lab.root / "e").mkdir()
        self.lab.must("depot", "replace", "e", str(self.lab.root / "e"), "--stand-in", "e")
        self.save("refill", "backup")
        self.lab.must("backup")
        self.lab.must("unbind", "2021")
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
        if name == "free":  # what lies in another seat counts once it was read there
            self.lab.must("verify")

    def arguments(self, name: str) -> list[str]:
        where = [] if name == "restore" else ["--library", str(self.lab.library)]
        return [*PROGRAM, *where, *self.commands[name]]

    def held(self) -> set[str]:
        """The contents that are there before a run."""
        return contents(self.lab.library, self.lab.root / "d", self.lab.root / "e")

    def judge(self, name: str, before: set[str]) -> list[str]:
        """Run the command again, and say what does not hold."""
        problems = []
        command = subprocess.run(self.arguments(name), cwd=self.lab.root, capture_output=True, text=True, check=False)
        told = command.stdout + command.stderr
        again = command.returncode
        done_already = {"bind": "is bound already", "unbind": "is open for work", "pack": "already"}
        if again == 2 and name in done_already and done_already[name] in told:
            again = 0
        if again not in (0, 1) or (again == 1 and name not in ("backup", "refill", "mend", "restore")):
            problems.append(f"the rerun ended with {again}: {told[-300:]}")
        lab = self.lab
        after = self.held()
        if name != "purge" and before - after:
            problems.append(f"{len(before - after)} contents lost")
        if name == "purge" and before - after - self.purgeable:
            problems.append("more was lost than was to be purged")
        for depot in ("d", "e"):
            problems += amiss_in_bag(lab.root / depot)
        if name in ("backup", "mend"):
            problems += [problem for depot in ("d", "e") for problem in level(lab.library, lab.root / depot)]
        if name in ("level", "refill"):
            problems += level(lab.root / "d/data", lab.root / "e")
        if name == "restore":
            problems += level(lab.root / "back", lab.root / "d")
        if name == "pack":
            whole = subprocess.run(
                [*PROGRAM, "volumes", "away"], cwd=lab.root, capture_output=True, text=True, check=False
            )
            if whole.returncode or [path for path in (lab.root / "away").iterdir() if path.suffix != ".zip"]:
                problems.append(f"the archive is not whole: {whole.stdout[-300:]}{whole.stderr}")
        if name == "unbind":
            problems += level(lab.library, lab.root / "d")
        if name == "free" and list((lab.library / "pictures/2021").rglob("*.jpg")):
            problems.append("2021 is still there")
        return problems

    @property
    def purgeable(self) -> set[str]:
        return contents(self.root / "before-purge/d/earlier")


def traced(stage: Stage, name: str, who: str, *options: str) -> subprocess.CompletedProcess[str]:
    """Run a command with the first thread of the run itself, or all of its writers, under strace."""
    command, environment = stage.arguments(name), dict(os.environ)
    if who == "run":
        command = ["strace", "-qq", *options, *command]
    else:
        site = stage.root / "site"
        site.mkdir(exist_ok=True)
        (site / "sitecustomize.py").write_text(SITE)
        environment |= {"PYTHONPATH": str(site), "STRACE_WRITERS": " ".join(["strace", "-D", "-f", "-qq", *options])}
        environment |= {"DIE_WITH_WRITERS": "1"} if who == "both" else {}
    return subprocess.run(
        command, cwd=stage.lab.root, capture_output=True, text=True, check=False, env=environment, timeout=120
    )


def calls_made(stage: Stage, name: str, who: str, calls: str) -> int:
    """How often the busiest thread makes such a call in an undisturbed run."""
    stage.reset(name)
    logs = stage.root / "calls"
    shutil.rmtree(logs, ignore_errors=True)
    logs.mkdir()
    traced(stage, name, who, "-o", f"{logs}/PID", "-e", f"trace={calls}")
    lines = [
        f"{log.name} {line}"
        for log in logs.iterdir()
        for line in log.read_text(errors="replace").splitlines()
        if "(" in line and "---" not in line
    ]
    threads = Counter("" if who == "run" else " ".join(line.split()[:2]) for line in lines)
    return max(threads.values(), default=0)


def kill_at(stage: Stage, name: str, who: str, calls: str, when: int) -> bool:
    inject = ["-e", f"trace={calls}", "-e", f"inject={calls}:signal=SIGKILL:when={when}"]
    done = traced(stage, name, who, "-o", "/dev/null", *inject)
    # Where it was a writer that was killed, the run itself goes on without that depot, and says so.
    return done.returncode in (-9, 137) or "its writing process was ended" in done.stdout + done.stderr


def kill_after(stage: Stage, name: str, seconds: float) -> bool:
    process = subprocess.Popen(
        stage.arguments(name), cwd=stage.lab.root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    time.sleep(seconds)
    process.kill()
    return process.wait() == -9


def left_open(stage: Stage) -> set[str]:
    """How far the runs at the depots had come when they were killed, by what lies there; each depot has its own."""
    found = set()
    for depot in ("d", "e"):
        for run in (stage.lab.root / depot / "incoming").glob("*"):
            journal = run / "journal.jsonl"
            intents = journal.read_text(errors="replace").count('"what":"put"') if journal.is_file() else 0
            staged = any(path.is_file() for path in (run / "data").rglob("*"))
            found.add("staging" if not intents else "putting in place" if staged else "closing")
    return found or {"no run open"}


@dataclass
class Histogram:
    """Kills tried and held, by command and call, and by what they left open."""

    tried: Counter[tuple[str, str]] = field(default_factory=Counter)
    held: Counter[tuple[str, str]] = field(default_factory=Counter)

    def enter(self, name: str, kind: str, at: str, phases: set[str], problems: list[str]) -> None:
        for key in ((name, kind), *(("", phase) for phase in phases)):
            self.tried[key] += 1
            self.held[key] += not problems
        if problems:
            print(f"{name}, {kind} {at}: {'; '.join(problems[:3])}", flush=True)

    def show(self) -> bool:
        kinds = [*CALLS, "instant"]
        print(f"{'command':<10}" + "".join(f"{kind:>10}" for kind in kinds) + f"{'all':>12}   (held of tried)")
        for name in dict.fromkeys(name for name, _ in self.tried if name):
            cells = [f"{self.held[name, kind]}/{self.tried[name, kind]}" for kind in kinds]
            held, tried = (sum(counts[name, kind] for kind in kinds) for counts in (self.held, self.tried))
            print(f"{name:<10}" + "".join(f"{cell:>10}" for cell in cells) + f"{held:>8}/{tried}")
        for phase in sorted(phase for name, phase in self.tried if not name):
            print(f"left open at a depot: {phase:<20} {self.held['', phase]:>5}/{self.tried['', phase]}")
        held, tried = (sum(counts[key] for key in self.tried if key[0]) for counts in (self.held, self.tried))
        print(f"{held} of {tried} kills held")
        return held == tried


def kill_instants(stage: Stage, name: str, wanted: int, chance: random.Random, histogram: Histogram) -> None:
    latest = 1.0
    for _ in range(wanted):
        for _ in range(4):
            stage.reset(name)
            before = stage.held()
            at = chance.uniform(0.15, latest)
            if kill_after(stage, name, at):
                histogram.enter(name, "instant", f"{at:.2f} s", left_open(stage), stage.judge(name, before))
                break
            latest = max(0.3, at)


def kill_calls(
    stage: Stage, name: str, who: str, kind: str, wanted: int, chance: random.Random, histogram: Histogram
) -> None:
    made = calls_made(stage, name, who, CALLS[kind])
    chosen = list(range(1, made + 1))
    if wanted < made:
        chosen = sorted({max(1, round(made * (number + chance.random()) / wanted)) for number in range(wanted)})
    for at in chosen:
        stage.reset(name)
        before = stage.held()
        if kill_at(stage, name, who, CALLS[kind], at):
            histogram.enter(name, kind, f"{at} of the {who}", left_open(stage), stage.judge(name, before))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--each", type=int, default=8)
    parser.add_argument("--most", type=int, default=1000)
    parser.add_argument("--only", default="")
    parser.add_argument("--at", default=",".join([*CALLS, "instant"]))
    parser.add_argument("--in", dest="where", type=Path, default=Path("/dev/shm"))
    parser.add_argument("--seed", type=int, default=int(time.time()))
    given = parser.parse_args()
    if shutil.which("strace") is None:
        sys.exit("depot_kills.py needs strace; nothing was proven.")
    chance = random.Random(given.seed)
    print(f"seed {given.seed}", flush=True)
    histogram = Histogram()
    with tempfile.TemporaryDirectory(dir=given.where) as folder:
        stage = Stage(Path(folder), chance)
        for name in given.only.split(",") if given.only else stage.commands:
            kinds = given.at.split(",")
            for who in WHO:
                for kind in filter(kinds.__contains__, CALLS if who != "both" else ("rename",)):
                    wanted = given.most if kind in EVERY else given.each
                    kill_calls(stage, name, who, kind, wanted, chance, histogram)
            kill_instants(stage, name, given.each if "instant" in kinds else 0, chance, histogram)
    sys.exit(not histogram.show())


if __name__ == "__main__":
    main()
