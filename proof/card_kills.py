"""SIGKILL at enumerated system calls of every command that changes a library at the desk: an intake, culling and all that follows
on it, shoots, merging, lending, telling and taking back, and a page.

usage: card_kills.py [--only intake,cull,...] [--each 8] [--in FOLDER]

After each kill the same command is given again. It must end as one that was not killed, and leave a receipt; the library (and, of
an intake, a depot) is compared, file by file and word by word, with what a run that was not killed leaves. Needs strace. Prints,
by command and kind of system call, how many kills were tried, and held.
"""

import argparse
import hashlib
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import zipfile
from collections import Counter
from pathlib import Path

from PIL import Image, ImageOps

PROGRAM = [sys.executable, "-m", "bramblemoor"]
CALLS = {
    "rename": "rename,renameat,renameat2", "fsync": "fsync,fdatasync,syncfs", "unlink": "unlink,unlinkat,rmdir",
    "write": "write,pwrite64",
}  # fmt: skip
_INTAKE = ["intake", "../card", "--subject", "Reed cutting", "--second-copy", "heron", "--yes"]
COMMANDS = {
    "intake": _INTAKE,
    "cull": ["cull", "remove", "--number", "2-9", "--yes"],
    "rename": ["shoot", "rename", "reed", "--subject", "Reed harvest", "--yes"],
    "merge": ["shoot", "merge", "reed", "second", "--yes"],
    "library": ["merge", "../road", "--yes"],
    "lend": ["lend", "back", "ada", "../lent", "--yes"],
    "undo": ["cull", "undo"],
    "purge": ["cull", "purge", "--yes"],
    "tell": ["tell", "*", "--title", "Swathe", "--keyword", "mown", "--yes"],
    "takeback": ["takeback"],
    "split": ["shoot", "split", "--shoot", "*Reed*", "--number", "3-7", "--subject", "Otters", "--yes"],
    "page": ["page", "../page.zip"],
}
RUNS = {
    "intake": "intake", "cull": "cull", "rename": "shoot", "merge": "shoot", "library": "merge", "lend": "lend", "undo": "uncull",
    "purge": "discard", "tell": "tell", "takeback": "takeback", "split": "shoot",
}  # fmt: skip
"""What the receipt of each is called."""


class Stage:
    """For each command the state of the disk from which it is run, and what it leaves when nobody kills it."""

    def __init__(self, root: Path) -> None:
        self.root, self.trial = root, root / "trial"
        self.environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(root / "tokens.json")}
        self.environment.pop("PYTHONDONTWRITEBYTECODE", None)
        self.trial.mkdir()
        self.run("stand-in", "card", "card", at=".")
        self.run("stand-in", "second-card", "second", at=".")
        self.run("new", "library", at=".")
        (self.trial / "heron").mkdir()
        self.run("depot", "add", "heron", "../heron", "--site", "studio", "--medium", "ssd", "--stand-in", "heron")
        self.save("intake")
        self.run(*_INTAKE)
        for name in ("cull", "rename", "tell", "split", "page"):
            self.save(name)
        self.run(*COMMANDS["tell"])
        self.save("takeback")
        self.load("cull")
        self.run(*COMMANDS["cull"])
        for name in ("undo", "purge"):
            self.save(name)
        self.load("cull")
        self.run("new", "road", at=".")
        self.run("intake", "../second", "--subject", "Second camera", "--yes", at="road")
        self.save("library")
        self.run("lend", "out", "ada", "../lent", "*")
        for path in (self.trial / "lent").iterdir():
            with Image.open(path) as image:
                ImageOps.mirror(image).save(path)
        self.save("lend")
        self.run("intake", "../second", "--subject", "Second camera", "--yes")
        self.save("merge")
        self.truth = {}
        self.code = {}
        for name, command in COMMANDS.items():
            self.load(name)
            self.code[name] = self.attempt(*command)
            if self.code[name] not in (0, 1):
                sys.exit(f"{command} ended with {self.code[name]}")
            self.truth[name] = self.told()

    def save(self, name: str) -> None:
        shutil.copytree(self.trial, self.root / name)
        with sqlite3.connect(self.root / name / "library/ledger/ledger.sqlite") as db:
            db.execute("DELETE FROM meta WHERE key = 'seat'")

    def load(self, name: str) -> None:
        shutil.rmtree(self.trial)
        shutil.copytree(self.root / name, self.trial)

    def attempt(self, *arguments: str, at: str = "library", prefix: tuple[str, ...] = ()) -> int:
        done = subprocess.run(
            [*prefix, *PROGRAM, *arguments],
            cwd=self.trial / at,
            env=self.environment,
            capture_output=True,
            text=True,
            check=False,
        )
        if "Traceback" in done.stderr:
            print(done.stderr)
        return done.returncode

    def run(self, *arguments: str, at: str = "library") -> None:
        code = self.attempt(*arguments, at=at)
        if code not in (0, 1):
            sys.exit(f"{arguments} ended with {code}")

    def receipts(self, name: str) -> int:
        """How many receipts there are of what a command does."""
        return len(list((self.trial / "library/ledger/receipts").glob(f"*-{RUNS.get(name, 'none')}-*")))

    def told(self) -> tuple[object, ...]:
        """Every picture of library and depot, and what is set aside; every file that the ledger knows of frames;
        what is said by hand of frames, and which sidecars say it; whether a page is whole.
        """
        found = {}
        for place in (
            self.trial / "library/pictures", self.trial / "library/set-aside", self.trial / "heron/data/pictures",
        ):  # fmt: skip
            for path in place.rglob("*") if place.is_dir() else ():
                if path.is_file() and path.suffix != ".xmp":
                    found[str(path.relative_to(self.trial))] = hashlib.sha256(path.read_bytes()).hexdigest()
        with sqlite3.connect(self.trial / "library/ledger/ledger.sqlite") as db:
            rows = db.execute(
                "SELECT path, sha256 FROM files WHERE frame NOT NULL AND role != 'sidecar' ORDER BY path"
            ).fetchall()
            said = db.execute(
                "SELECT folder || '/' || name, field, value FROM claims JOIN frames ON frames.id = frame"
                " WHERE source IN ('you', 'sidecar') ORDER BY 1, 2, 3"
            ).fetchall()
        titled = sorted(
            str(path.relative_to(self.trial)) for path in (self.trial / "library/pictures").rglob("*.xmp")
            if "Swathe" in path.read_text(errors="replace")
        )  # fmt: skip
        page = self.trial / "page.zip"
        whole = page.is_file() and zipfile.ZipFile(page).testzip() is None
        left = sorted(str(path.relative_to(self.trial)) for path in self.trial.glob("*.bm-new"))
        return found, rows, said, titled, whole, left


def calls_of(stage: Stage, name: str, kind: str) -> int:
    """How often the busiest thread of an undisturbed run makes such a call: kills are counted by thread."""
    stage.load(name)
    log = stage.root / "strace.log"
    stage.attempt(*COMMANDS[name], prefix=("strace", "-f", "-qq", "-o", str(log), "-e", f"trace={CALLS[kind]}"))
    return max(Counter(line.split()[0] for line in log.read_text(errors="replace").splitlines()).values(), default=0)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--only", default=",".join(COMMANDS))
    parser.add_argument("--each", type=int, default=8)
    parser.add_argument("--in", dest="folder", type=Path)
    options = parser.parse_args()
    tried: Counter[tuple[str, str]] = Counter()
    held: Counter[tuple[str, str]] = Counter()
    with tempfile.TemporaryDirectory(dir=options.folder) as folder:
        stage = Stage(Path(folder))
        for name in options.only.split(","):
            for kind, calls in CALLS.items():
                count = calls_of(stage, name, kind)
                for step in sorted({1 + number * count // options.each for number in range(options.each)}):
                    stage.load(name)
                    inject = f"inject={calls}:signal=SIGKILL:when={step}"
                    prefix = ("strace", "-f", "-qq", "-o", "/dev/null", "-e", f"trace={calls}", "-e", inject)
                    if stage.attempt(*COMMANDS[name], prefix=prefix) not in (-9, 137) and name != "intake":
                        continue  # it had ended before; of an intake a process that writes may have been killed
                    done = stage.receipts(name)  # one that was killed behind its end may have nothing more to do
                    code = stage.attempt(*COMMANDS[name])
                    is_well = (code == stage.code[name] or done) and (name not in RUNS or stage.receipts(name))
                    told = stage.told()
                    stage.attempt("stocktake")
                    tried[name, kind] += 1
                    if is_well and told == stage.truth[name] == stage.told():
                        held[name, kind] += 1
                    else:
                        wrong = f"ended with {code}" if not is_well else "not as it was to be"
                        print(f"NOT HELD: {name}, killed at {kind} {step} of {count}: {wrong}", flush=True)
    for key, count in tried.items():
        print(f"{key[0]:8} {key[1]:8} {held[key]:4} of {count:4} held")
    whole = sum(held.values()), sum(tried.values())
    print(f"{whole[0]} of {whole[1]} kills held")
    sys.exit(whole[0] != whole[1])


if __name__ == "__main__":
    main()
