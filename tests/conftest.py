"""What the tests share: the installed program, the made-up service as a real server, and a library that was unpacked once."""

import hashlib
import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from jsonschema import Draft202012Validator

sys.path.insert(0, str(Path(__file__).parent.parent / "proof"))
from bramblemoor.standins.cards import CARD_INDEX, CARD_MISFIRES
from preloaded import SHORT_PAUSE, Preloaded

# A machine that is busy with something else is no fault of what is tried.
settings.register_profile("patient", deadline=None)
settings.load_profile("patient")

ROOT = Path(__file__).parent.parent
_MEMORY = Path("/dev/shm")
if os.access(_MEMORY, os.W_OK) and shutil.disk_usage(_MEMORY).free > 4 << 30:
    # Hundreds of flushes make these tests as slow as the disk; drives that must be real are mounted by the tests themselves.
    os.environ.setdefault("PYTEST_DEBUG_TEMPROOT", str(_MEMORY))
PROGRAM = Path(sys.executable).parent / "bramblemoor"
CHECKER = ROOT / "proof/check.py"


TOOLKIT = shutil.which("exempi")
"""The reference toolkit's program for XMP, where it is installed."""


def as_others_read(path: Path) -> str | None:
    """A sidecar, or what lies in a picture, as that program reads it; None where it is not installed."""
    if TOOLKIT is None:
        return None
    sidecar = ["-X"] if path.suffix == ".xmp" else []
    return subprocess.run([TOOLKIT, *sidecar, "-x", path], capture_output=True, text=True, check=True).stdout


def others_read(path: Path, *holds: str, lacks: tuple[str, ...] = ()) -> None:
    """See that it reads these texts there, and not those; where it is not installed, nobody is asked."""
    told = as_others_read(path)
    if told is not None:
        assert [text for text in holds if text not in told] == [] and [text for text in lacks if text in told] == [], (
            path
        )


@cache
def _program() -> Preloaded:
    return Preloaded(SHORT_PAUSE)


@cache
def _schema() -> Draft202012Validator:
    return Draft202012Validator(json.loads((ROOT / "docs/json.schema.json").read_text(encoding="utf-8")))


@cache
def no_pause() -> Preloaded:
    """The program, but for the moments in which stocktake waits for other writers to end."""
    from sidecar_orders import NO_PAUSE

    return Preloaded(NO_PAUSE)


_BALANCED = re.compile(r'^  service: .*^The books balance|"run": "unpack".*"balanced": true', re.DOTALL | re.MULTILINE)


LEAVE = tuple(word for name in (*CARD_MISFIRES, CARD_INDEX) for word in ("--leave", name))
"""What a photographer who has seen the plan leaves out of the stand-in card."""


@dataclass
class Result:
    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


# A clock that is ahead or behind, in each Python process that a command starts.
_ANOTHER_CLOCK = """
import os, time
shift, real = float(os.environ["DAYS_AHEAD"]) * 86400, time.time
time.time = lambda: real() + shift
"""


class Shell:
    """Runs `bramblemoor` in a folder, with its tokens kept apart from the user's."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(folder / "tokens.json"), "COLUMNS": "160"}
        self.environment.pop("PYTHONDONTWRITEBYTECODE", None)  # a command starts twice as fast from compiled code

    def command(self, *arguments: str | Path) -> list[str]:
        return [str(PROGRAM), *(str(argument) for argument in arguments)]

    def __call__(self, *arguments: str | Path, code: int | None = 0, cwd: Path | None = None, **more: str) -> Result:
        environment = self.environment | more
        if any(name.startswith("PYTHON") and environment[name] != os.environ.get(name) for name in environment):
            done = subprocess.run(
                self.command(*arguments), cwd=cwd or self.folder, env=environment, capture_output=True, text=True,
                stdin=subprocess.DEVNULL, timeout=120,
            )  # fmt: skip
        else:
            done = _program().run(list(map(str, arguments)), cwd or self.folder, environment)
        assert "Traceback" not in done.stderr, done.stderr
        if code == 0 and done.returncode == 1 and _BALANCED.search(done.stdout):
            code = 1  # an export in which something is to be seen to; what, the tests look at by themselves
        if code is not None:
            assert done.returncode == code, f"{arguments} ended with {done.returncode}\n{done.stdout}\n{done.stderr}"
        if "--json" in arguments:
            for error in _schema().iter_errors(json.loads(done.stdout)):
                raise AssertionError(f"{arguments} printed what docs/json.schema.json does not allow: {error}")
        return Result(done.returncode, done.stdout, done.stderr)


@pytest.fixture(scope="session")
def world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The account at Thrushfield, drawn once."""
    from bramblemoor.standins.world import make_world

    folder = tmp_path_factory.mktemp("world") / "thrushfield"
    make_world(folder)
    return folder


@contextmanager
def serving(world: Path, *faults: str) -> Iterator[str]:
    """The stand-in service as a process; yields its address. The account is shared, orders are made anew each time."""
    folder = world.parent / f"account-{time.monotonic_ns()}"
    folder.mkdir()
    for name in ("account.json", "truth.json"):
        shutil.copy(world / name, folder / name)
    (folder / "items").symlink_to(world / "items")
    command = [str(PROGRAM), "stand-in", "thrushfield", str(folder), "--prepare", "0.1", *faults]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None and "listens" in process.stdout.readline()
        (world.parent / "token.txt").write_text((folder / "token.txt").read_text())
        yield (folder / "address.txt").read_text().strip()
    finally:
        process.kill()
        process.wait()


@dataclass
class Served:
    """A stand-in that runs: of which kind, where, and the file with what opens it."""

    kind: str
    folder: Path
    where: dict[str, str]
    secret: Path

    def add(self, shell: "Shell", name: str, library: Path, *more: str | Path) -> None:
        """Add it to a library."""
        user = ["--user", self.where["user"]] if self.where["user"] else []
        kind = ["--kind", self.kind] if self.kind != "flat" else []
        shell("service", "add", name, self.where["url"], *kind, *user, "--token-file", self.secret, *more, cwd=library)


_KINDS = {"stonewharf": ("folders", "keeper"), "coldbarrow": ("bucket", "VALLEYKEY")}
_DRAWN = Path(tempfile.gettempdir()) / f"bramblemoor-drawn-{os.getuid()}"


def drawn(service: str) -> Path:
    """The account of a stand-in, drawn once for all tests of this version."""
    source = b"".join(path.read_bytes() for path in sorted((ROOT / "src/bramblemoor/standins").glob("*.py")))
    folder = _DRAWN / f"{service}-{hashlib.sha256(source).hexdigest()[:12]}"
    if not folder.is_dir():
        fresh = folder.with_name(f"{folder.name}-{os.getpid()}")
        if service in _KINDS:
            from bramblemoor.standins import coldbarrow, stonewharf

            (stonewharf if service == "stonewharf" else coldbarrow).draw_account(fresh)
        else:
            from bramblemoor.standins import accounts

            accounts()[service].draw(fresh)
        with suppress(OSError):  # another worker was quicker
            fresh.rename(folder)
    return folder


@contextmanager
def standing_in(service: str, folder: Path, *faults: str) -> Iterator[Served]:
    """A stand-in as a process, with an account of its own in a new folder; one that is there is gone on with."""
    if not folder.exists():
        shutil.copytree(drawn(service), folder)
    command = [str(PROGRAM), "stand-in", service, str(folder), "--prepare", "0.1", *faults]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    kind, user = _KINDS.get(service, ("flat", ""))
    try:
        assert process.stdout is not None and "listens" in process.stdout.readline()
        secret = folder / "token.txt"
        where = {
            "url": (folder / "address.txt").read_text().strip(),
            "user": user,
            "secret": secret.read_text().strip(),
        }
        yield Served(kind, folder, where, secret)
    finally:
        process.kill()
        process.wait()


@pytest.fixture
def shell(tmp_path: Path) -> Shell:
    return Shell(tmp_path)


@pytest.fixture
def ordered(shell: Shell, world: Path) -> Callable[..., Path]:
    """A new library that has ordered an export from the service at an address; returns the library's folder."""

    def make(address: str, *options: str) -> Path:
        shell("new", "library")
        library = shell.folder / "library"
        shell("service", "add", "thrushfield", address, "--token-file", world.parent / "token.txt", cwd=library)
        shell("order", "--size", "2MB", *options, cwd=library)
        return library

    return make


@pytest.fixture(scope="session")
def collected_once(world: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A library with everything ordered and collected, to be copied and never touched."""
    folder = tmp_path_factory.mktemp("collected")
    shell = Shell(folder)
    with serving(world) as address:
        shell("new", "library")
        shell(
            "service", "add", "thrushfield", address, "--token-file", world.parent / "token.txt", cwd=folder / "library"
        )
        shell("order", "--size", "2MB", cwd=folder / "library")
        shell("collect", cwd=folder / "library")
    return folder / "library"


@pytest.fixture(scope="session")
def unpacked_once(collected_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("unpacked")
    shutil.copytree(collected_once, folder / "library")
    Shell(folder)("unpack", cwd=folder / "library")
    return folder / "library"


def as_if_made(target: Path, library: Path) -> Path:
    """A library copied to a folder that then passes for the one in which it was made, and in which its files were read."""
    shutil.copytree(library, target)
    _forget_seat(target)
    return target


def _forget_seat(library: Path) -> None:
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        db.execute("DELETE FROM meta WHERE key = 'seat'")


@pytest.fixture
def collected(collected_once: Path, tmp_path: Path) -> Path:
    """A library of one's own, everything collected, nothing unpacked."""
    return as_if_made(tmp_path / "library", collected_once)


@pytest.fixture
def library(unpacked_once: Path, tmp_path: Path) -> Path:
    """A library of one's own with everything unpacked, and no depots."""
    return as_if_made(tmp_path / "library", unpacked_once)


DEPOTS = (("heron", "studio", "ssd"), ("otter", "studio", "hdd"), ("dipper", "cottage", "hdd"))


@pytest.fixture(scope="session")
def depots_once(unpacked_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of a library with three empty depots beside it, on pretend devices."""
    shell = Shell(tmp_path_factory.mktemp("depots"))
    library = as_if_made(shell.folder / "library", unpacked_once)
    for name, site, medium in DEPOTS:
        (shell.folder / name).mkdir()
        shell(
            "depot",
            "add",
            name,
            shell.folder / name,
            "--site",
            site,
            "--medium",
            medium,
            "--stand-in",
            name,
            cwd=library,
        )
    return shell.folder


@pytest.fixture
def depots(shell: Shell, library: Path, depots_once: Path) -> dict[str, Path]:
    """Three empty depots of `library`: copies of those that were made once, and of the ledger that knows them."""
    for name, _, _ in DEPOTS:
        shutil.copytree(depots_once / name, shell.folder / name)
    shutil.copytree(depots_once / "library/ledger", library / "ledger", dirs_exist_ok=True)
    _forget_seat(library)
    return {name: shell.folder / name for name, _, _ in DEPOTS}


def _before(place: str) -> str:
    """A folder that modules are looked for in first, before those that they are looked for in already."""
    return os.pathsep.join(filter(None, (place, os.environ.get("PYTHONPATH"))))


def run_changed(
    shell: Shell, cwd: Path, code: str, environment: dict[str, str], *arguments: str | Path
) -> subprocess.CompletedProcess[str]:
    """Run a command, with `code` run first in each Python process that it starts."""
    with tempfile.TemporaryDirectory() as place:
        Path(place, "sitecustomize.py").write_text(code)
        return subprocess.run(
            [sys.executable, "-m", "bramblemoor", *(str(argument) for argument in arguments)],
            cwd=cwd, env=shell.environment | environment | {"PYTHONPATH": _before(place)},
            capture_output=True, text=True, timeout=120,
        )  # fmt: skip


# Counts each rename, flush and removal of all its processes, and at the Nth has them
# leave as killed processes do: no handler and no clean-up runs. WRITER has only the process leave that came to it.
LEAVING = """
import os, signal
step, counter = int(os.environ["LEAVE_AT"]), os.open(os.environ["COUNTER"], os.O_WRONLY | os.O_APPEND | os.O_CREAT)
def counted(name):
    whole = getattr(os, name)
    def call(*arguments, **more):
        os.write(counter, b".")
        if os.lseek(counter, 0, os.SEEK_CUR) == step:
            if os.environ["LEAVES"] == "ALL" and os.path.exists(f"/proc/{os.getppid()}/cmdline"):
                if b"bramblemoor" in open(f"/proc/{os.getppid()}/cmdline", "rb").read().split(b"\\0"):
                    os.kill(os.getppid(), signal.SIGKILL)
            os.kill(os.getpid(), signal.SIGKILL)
        return whole(*arguments, **more)
    setattr(os, name, call)
for name in ("replace", "rename", "unlink", "fsync", "rmdir"):
    counted(name)
"""


def leave_at(shell: Shell, step: int, cwd: Path, *arguments: str | Path, who: str = "ALL") -> bool:
    """Run a command that leaves at its `step`th change; says whether it came to that."""
    counter = shell.folder / f"counter-{time.monotonic_ns()}"
    environment = {"LEAVE_AT": str(step), "COUNTER": str(counter), "LEAVES": who}
    done = run_changed(shell, cwd, LEAVING, environment, *arguments)
    assert done.returncode in (0, 1, -signal.SIGKILL), done.stderr
    return counter.exists() and counter.stat().st_size >= step


@contextmanager
def clock(shell: Shell, days_ahead: float) -> Iterator[None]:
    """Within it the commands of a shell see another date."""
    before = dict(shell.environment)
    with tempfile.TemporaryDirectory() as place:
        Path(place, "sitecustomize.py").write_text(_ANOTHER_CLOCK)
        shell.environment |= {"PYTHONPATH": _before(place), "DAYS_AHEAD": str(days_ahead)}
        try:
            yield
        finally:
            shell.environment = before


def check(world: Path, *arguments: str | Path, wrong: bool = False) -> str:
    """Run the independent checker; it must find nothing wrong, or (`wrong`) something."""
    done = subprocess.run(
        [sys.executable, str(CHECKER), str(world), *(str(argument) for argument in arguments)],
        capture_output=True,
        text=True,
    )
    assert (done.returncode == 1) is wrong, done.stdout + done.stderr
    return done.stdout


def pictures(folder: Path) -> dict[str, bytes]:
    """Every file below pictures/, by path."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in sorted(folder.glob("pictures/**/*"))
        if path.is_file()
    }


def data_of(root: Path) -> dict[str, bytes]:
    return pictures(root / "data")


def valid(root: Path) -> None:
    """A depot is a bag that checks without us, whose manifest lists all that is there."""
    done = subprocess.run(
        ["sha256sum", "-c", "--quiet", "manifest-sha256.txt"], cwd=root, capture_output=True, text=True
    )
    tags = subprocess.run(
        ["sha256sum", "-c", "--quiet", "tagmanifest-sha256.txt"], cwd=root, capture_output=True, text=True
    )
    assert done.returncode == tags.returncode == 0, done.stdout + done.stderr + tags.stdout + tags.stderr
    listed = {line.split("  ", 1)[1] for line in (root / "manifest-sha256.txt").read_text().splitlines()}
    found = {path.relative_to(root).as_posix() for path in (root / "data").rglob("*") if path.is_file()}
    assert listed == found and not (root / "incoming").exists()
