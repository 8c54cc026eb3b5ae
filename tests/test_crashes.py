"""Runs that end at every single step: the program leaves without a word at its Nth change of the disk, and is run again."""

import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Shell, check, pictures

# Counts every rename, flush and removal, and leaves at the Nth as a killed process does: no handler and no clean-up runs.
LEAVING = """
import os, sys
left = int(sys.argv.pop(1))
def counted(name):
    whole = getattr(os, name)
    def step(*arguments, **more):
        global left
        left -= 1
        if left == 0:
            os._exit(99)
        return whole(*arguments, **more)
    setattr(os, name, step)
for name in ("replace", "rename", "unlink", "fsync", "rmdir"):
    counted(name)
from bramblemoor.cli.main import main
main()
"""


def leave_at(shell: Shell, step: int, cwd: Path, *arguments: str | Path) -> bool:
    """Run a command that leaves at its `step`th change; says whether it came to that."""
    command = [sys.executable, "-c", LEAVING, str(step), *(str(argument) for argument in arguments)]
    done = subprocess.run(command, cwd=cwd, env=shell.environment, capture_output=True, text=True, timeout=120)
    assert done.returncode in (0, 1, 99), done.stderr
    return done.returncode == 99


def test_unpacking_left_at_any_step(shell: Shell, world: Path, collected: Path) -> None:
    # One library through many interrupted runs: each goes on from what the last one left behind.
    steps = [1, 3, 8, 21, 40, 90, 95, 100, 3, 60, 80, 7, 150, 170]
    left = [leave_at(shell, step, collected, "unpack") for step in steps]
    assert left.count(True) >= 8
    assert not [path for path in collected.glob("pictures/**/*") if path.is_file() and path.stat().st_size == 0]
    shell("unpack", cwd=collected)
    check(world, "--library", collected)
    assert not list((collected / "incoming").rglob("worksheet*")) and not list(
        (collected / "incoming").rglob("staging")
    )


@pytest.mark.parametrize("steps", [(2, 5, 9, 14), (20, 31, 47, 70), (100, 180, 260, 340)])
def test_backups_left_at_any_step(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path], steps: tuple[int, ...]
) -> None:
    left = [leave_at(shell, step, library, "backup") for step in steps]
    assert any(left)
    whole = pictures(library)
    for name, content in whole.items():  # no half file stands under a final name, at any moment
        for root in depots.values():
            assert not (root / "data" / name).exists() or (root / "data" / name).read_bytes() == content
    shell("backup", cwd=library)
    check(world, "--library", library, *(part for root in depots.values() for part in ("--depot", root)))


def test_mending_left_at_any_step(shell: Shell, world: Path, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    for path in sorted((depots["heron"] / "data/pictures").rglob("*.jpg"))[:8]:
        path.write_bytes(b"rotten")
    shell("verify", "heron", cwd=library, code=1)
    for step in (2, 6, 12, 20, 30):
        leave_at(shell, step, library, "mend")
    shell("mend", cwd=library, code=None)
    shell("verify", cwd=library)
    check(world, "--library", library, *(part for root in depots.values() for part in ("--depot", root)))
    aside = [path.read_bytes() for path in (depots["heron"] / "earlier").rglob("*.jpg")]
    assert aside == [b"rotten"] * 8


def test_restoring_left_at_any_step(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", "heron", cwd=library)
    for step in (1, 2, 4, 9, 120, 215, 224, 227, 230, 233):
        leave_at(shell, step, tmp_path, "restore", "back", "--from", depots["heron"])
    shell("restore", "back", "--from", depots["heron"])
    check(world, "--library", tmp_path / "back")
    assert "already; nothing was changed" in shell("restore", "back", "--from", depots["heron"]).out


def test_another_machine_finishes_an_interrupted_run(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    """A depot's journal is enough: a library that knows nothing of the run rolls it forward, and a restore sees its files."""
    twin = tmp_path / "twin"
    shutil.copytree(library, twin)
    step = 240
    while not (leave_at(shell, step, library, "backup", "otter") and list((depots["otter"] / "data").rglob("*.jpg"))):
        step -= 10
        assert step > 0, "no step left a run open with files in place"
    journal = next((depots["otter"] / "incoming").glob("*/journal.jsonl"))
    intents = [json.loads(line) for line in journal.read_text().splitlines()[1:]]
    assert intents and all(set(intent) >= {"path", "sha256", "bytes", "read_at", "grade"} for intent in intents)
    journal.write_bytes(journal.read_bytes() + b'{"path": "pictures/torn')  # a line that broke off
    shell("depot", "add", "otter", depots["otter"], cwd=twin)
    shell("backup", "otter", cwd=twin)
    assert not (depots["otter"] / "incoming").exists()
    check(world, "--library", twin, "--depot", depots["otter"])
