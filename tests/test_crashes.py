"""Runs that end at every single step: the program leaves without a word at its Nth change of the disk, and is run again."""

import json
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Shell, check, leave_at, pictures


def test_unpacking_left_at_any_step(shell: Shell, world: Path, collected: Path) -> None:
    # One library through many interrupted runs: each goes on from what the last one left behind.
    steps = [1, 3, 8, 21, 40, 90, 95, 100, 3, 60, 80, 7, 150, 170]
    left, strange = [], 0
    for step in steps:
        left.append(leave_at(shell, step, collected, "unpack"))
        if step in (60, 150):  # what another version of the program left has other tables, and is begun anew
            for path in (collected / "incoming").rglob("worksheet.sqlite"):
                with closing(sqlite3.connect(path, isolation_level=None)) as db:
                    db.execute("DROP TABLE IF EXISTS own")
                    db.execute("UPDATE meta SET value = 'of another version' WHERE key = 'fingerprint'")
                strange += 1
    assert left.count(True) >= 8
    assert strange >= 2
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


def test_a_writer_that_is_killed_costs_its_depot_the_run_and_no_more(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path]
) -> None:
    """The others go on, the run ends in good order and says so, and the next one goes on."""
    for step in range(4, 60, 4):
        assert leave_at(shell, step, library, "backup", who="WRITER")
        if list(library.glob("ledger/receipts/*-backup-*.json")):
            break
    receipt = json.loads(next(library.glob("ledger/receipts/*-backup-*.json")).read_text())
    assert "its writing process was ended" in json.dumps(receipt), "no step was a writer's"
    assert any(kept["amount"]["files"] > 200 for kept in receipt["kept"]), "nothing was copied to the others"
    shell("backup", cwd=library)
    check(world, "--library", library, *(part for root in depots.values() for part in ("--depot", root)))


def test_packing_left_at_any_step(shell: Shell, library: Path, tmp_path: Path) -> None:
    """The same command goes on with the next volume; nothing half written ever has a volume's name."""
    away = tmp_path / "away"
    for step in (1, 2, 4, 7, 9, 12, 15):
        leave_at(shell, step, library, "pack", away, "--size", "2.4MB")
        for volume in away.glob("*.zip") if away.exists() else ():
            assert "damaged" not in shell("volumes", volume, code=1).out  # whole, though the others are not there
    shell("pack", away, "--size", "2.4MB", cwd=library)
    assert all(path.suffix == ".zip" for path in away.iterdir()) and len(list(away.iterdir())) >= 3
    shell("volumes", away)
    shell("restore", "back", "--from", away)
    assert pictures(tmp_path / "back") == pictures(library)
