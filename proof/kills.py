"""SIGKILL at enumerated system calls and at random instants of collect, unpack, backup and restore.

usage: kills.py [--each 32] [--random 32] [--in FOLDER] [--seed N]

After each kill the same command is run again until it completes, and check.py compares everything with the truth.
Needs strace. Prints, by command and kind of system call, how many kills were tried and how many held.
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
from pathlib import Path

HERE = Path(__file__).parent
PROGRAM = [sys.executable, "-m", "bramblemoor"]
CALLS = {
    "rename": "rename,renameat,renameat2",
    "fsync": "fsync,fdatasync,syncfs",
    "unlink": "unlink,unlinkat,rmdir",
    "write": "write,pwrite64",
}
DEPOTS = (("heron", "studio", "ssd"), ("otter", "studio", "hdd"), ("dipper", "cottage", "hdd"))


class Stage:
    """A prepared world, and for each command a state of the disk from which it is run."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(root / "tokens.json")}
        self.environment.pop("PYTHONDONTWRITEBYTECODE", None)
        self.world = root / "thrushfield"
        command = [*PROGRAM, "stand-in", "thrushfield", str(self.world), "--prepare", "0"]
        self.server = subprocess.Popen(command, env=self.environment, stdout=subprocess.PIPE, text=True)
        assert self.server.stdout is not None and "listens" in self.server.stdout.readline()
        address = (self.world / "address.txt").read_text().strip()
        self.trial = root / "trial"
        self.commands = {
            "collect": ["--library", "library", "collect"],
            "unpack": ["--library", "library", "unpack"],
            "backup": ["--library", "library", "backup"],
            "restore": ["restore", "back", "--from", "heron", "--from", "otter"],
        }
        library = ["--library", "library"]
        self.trial.mkdir()
        self.run("new", "library")
        self.run(*library, "service", "add", "thrushfield", address, "--token-file", str(self.world / "token.txt"))
        self.run(*library, "order", "--size", "2MB")
        time.sleep(2)
        self.save("collect")
        self.run(*self.commands["collect"])
        self.save("unpack")
        self.run(*self.commands["unpack"])
        for name, site, medium in DEPOTS:
            (self.trial / name).mkdir()
            self.run(*library, "depot", "add", name, name, "--site", site, "--medium", medium, "--stand-in", name)
        self.save("backup")
        self.run(*self.commands["backup"])
        self.save("restore")

    def run(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        done = self.attempt(*arguments)
        if done.returncode and not seen_to(done):
            sys.exit(f"{arguments} ended with {done.returncode}:\n{done.stdout}{done.stderr}")
        return done

    def attempt(self, *arguments: str, prefix: tuple[str, ...] = ()) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [*prefix, *PROGRAM, *arguments],
            cwd=self.trial,
            env=self.environment,
            capture_output=True,
            text=True,
            check=False,
        )

    def save(self, command: str) -> None:
        shutil.copytree(self.trial, self.root / f"before-{command}")

    def reset(self, command: str) -> None:
        shutil.rmtree(self.trial)
        shutil.copytree(self.root / f"before-{command}", self.trial)

    def check(self, command: str) -> str:
        """Run the command again until it completes, carry the journey on to where the checker can judge; returns problems."""
        again = self.attempt(*self.commands[command])
        if again.returncode and not seen_to(again):
            return f"the rerun ended with {again.returncode}: {again.stdout[-300:]}{again.stderr[-300:]}"
        if command == "collect":
            self.run(*self.commands["unpack"])
        where = ["--library", str(self.trial / ("back" if command == "restore" else "library"))]
        if command == "backup":
            where += [part for name, _, _ in DEPOTS for part in ("--depot", str(self.trial / name))]
        judged = subprocess.run(
            [sys.executable, HERE / "check.py", self.world, *where], capture_output=True, text=True, check=False
        )
        return judged.stdout if judged.returncode else ""


def seen_to(done: "subprocess.CompletedProcess[str]") -> bool:
    """Whether an unpacking balances, though something of it is to be seen to."""
    return done.returncode == 1 and "unpack" in done.args and "The books balance" in done.stdout


def kill_at_call(stage: Stage, command: str, calls: str, when: int) -> bool:
    inject = ("strace", "-f", "-qq", "-o", "/dev/null", "-e", f"trace={calls}")
    done = stage.attempt(*stage.commands[command], prefix=(*inject, "-e", f"inject={calls}:signal=SIGKILL:when={when}"))
    return done.returncode in (-9, 137)


def calls_made(stage: Stage, command: str, calls: str) -> int:
    """How often the busiest thread of an undisturbed run makes such a call."""
    stage.reset(command)
    log = stage.root / "calls"
    stage.attempt(*stage.commands[command], prefix=("strace", "-f", "-qq", "-o", str(log), "-e", f"trace={calls}"))
    return max(Counter(line.split()[0] for line in log.read_text(errors="replace").splitlines()).values(), default=0)


def kill_after(stage: Stage, command: str, seconds: float) -> bool:
    process = subprocess.Popen(
        [*PROGRAM, *stage.commands[command]], cwd=stage.trial, env=stage.environment,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    time.sleep(seconds)
    process.kill()
    return process.wait() == -9


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--each", type=int, default=32, help="kills at system calls, for each command")
    parser.add_argument("--random", type=int, default=32, help="kills at random instants, over all commands")
    parser.add_argument("--in", dest="where", type=Path, default=None)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    given = parser.parse_args()
    if shutil.which("strace") is None:
        sys.exit("kills.py needs strace; nothing was proven.")
    chance = random.Random(given.seed)
    print(f"seed {given.seed}", flush=True)
    tried: Counter[tuple[str, str]] = Counter()
    held: Counter[tuple[str, str]] = Counter()
    with tempfile.TemporaryDirectory(dir=given.where) as name:
        stage = Stage(Path(name))
        try:
            for command in stage.commands:
                for kind in [*CALLS, "instant"]:
                    wanted = given.random // len(stage.commands) if kind == "instant" else given.each // len(CALLS)
                    prove(stage, command, kind, wanted, chance, tried, held)
        finally:
            stage.server.kill()
    print(f"{'command':<10}{'killed at':<12}{'tried':>6}{'held':>6}")
    for (command, kind), count in tried.items():
        print(f"{command:<10}{kind:<12}{count:>6}{held[command, kind]:>6}")
    print(f"{sum(held.values())} of {sum(tried.values())} kills held")
    sys.exit(sum(held.values()) != sum(tried.values()))


def prove(
    stage: Stage, command: str, kind: str, wanted: int, chance: random.Random,
    tried: Counter[tuple[str, str]], held: Counter[tuple[str, str]],
) -> None:  # fmt: skip
    """Kill `wanted` times, at calls spread over the whole run; a run that ended before its kill is aimed at again, earlier."""
    made = 0 if kind == "instant" else calls_made(stage, command, CALLS[kind])
    latest = 1.2
    for number in range(wanted):
        for _ in range(5):
            stage.reset(command)
            if kind == "instant":
                aimed = chance.uniform(0.25, latest)
                killed = kill_after(stage, command, aimed)
                latest = latest if killed else max(0.4, aimed)
            else:
                aimed = max(1, min(made, round(made * (number + chance.random()) / wanted)))
                killed = kill_at_call(stage, command, CALLS[kind], int(aimed))
            if killed:
                break
        else:
            continue
        tried[command, kind] += 1
        problems = stage.check(command)
        held[command, kind] += not problems
        if problems:
            print(f"{command}, {kind} {aimed}: {problems}", flush=True)


if __name__ == "__main__":
    main()
