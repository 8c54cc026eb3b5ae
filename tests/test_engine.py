"""The copy engine: files of every size, sources that changed, slow drives, stopping, and writers that outlive their run."""

import csv
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import time
from datetime import datetime
from pathlib import Path

from filelock import FileLock

from conftest import Shell, pictures

MB = 1 << 20
# Around the limits between small files, those that are read ahead, and those that are read when it is their turn.
SIZES = (0, 1, 4095, 4096, MB - 1, MB, MB + 1, 3 * MB + 7, 16 * MB, 16 * MB + 1, 25 * MB)


def make_work(shell: Shell, sizes: tuple[int, ...]) -> Path:
    """A library of companions of these sizes."""
    shell("new", "library")
    library = shell.folder / "library"
    for size in sizes:
        (library / f"companions/{size:09}.bin").write_bytes(os.urandom(size))
    return library


def add_depots(shell: Shell, library: Path, *names: str) -> dict[str, Path]:
    made = {name: shell.folder / name for name in names}
    for number, (name, root) in enumerate(made.items()):
        root.mkdir()
        shell(
            "depot",
            "add",
            name,
            root,
            "--site",
            name,
            "--medium",
            ("ssd", "hdd")[number % 2],
            "--stand-in",
            name,
            cwd=library,
        )
    return made


def same(library: Path, depot: Path) -> bool:
    ours = {path.name: path.read_bytes() for path in (library / "companions").iterdir()}
    return ours == {path.name: path.read_bytes() for path in (depot / "data/companions").iterdir()}


def test_files_of_every_size_and_sources_that_changed(shell: Shell) -> None:
    library = make_work(shell, SIZES)
    depots = add_depots(shell, library, "heron", "otter")
    shell("backup", cwd=library)
    assert all(same(library, root) for root in depots.values())
    shell("verify", cwd=library)
    shutil.rmtree(depots["otter"] / "data/companions")
    shell("verify", "otter", cwd=library, code=1)
    shell("mend", cwd=library)
    assert same(library, depots["otter"])
    # Content that is not what the ledger says, though neither size nor time tells so: nothing of it reaches a new depot.
    rotten = [f"companions/{size:09}.bin" for size in (4096, MB + 1, 16 * MB, 25 * MB)]
    db = sqlite3.connect(library / "ledger/ledger.sqlite")
    for path in rotten:
        db.execute("UPDATE files SET sha256 = ? WHERE path = ?", ("0" * 64, path))
    db.commit()
    db.close()
    (fresh,) = add_depots(shell, library, "dipper").values()
    told = shell("backup", "dipper", cwd=library, code=1).out
    assert told.count("its content is not what it was") >= 1 and "0 sound" not in told
    receipt = json.loads(max(library.glob("ledger/receipts/*-backup-*.json")).read_text())
    assert {left["name"].partition(": ")[2] for left in receipt["left_out"]} == set(rotten)
    there = {path.relative_to(fresh / "data").as_posix() for path in (fresh / "data/companions").iterdir()}
    assert there == {f"companions/{size:09}.bin" for size in SIZES} - set(rotten)
    assert not (fresh / "incoming").exists()
    subprocess.run(["sha256sum", "-c", "--quiet", "manifest-sha256.txt"], cwd=fresh, check=True)


def test_ctrl_c_stops_in_good_order_and_says_what_is_left(shell: Shell) -> None:
    library = make_work(shell, tuple(2 * MB + number for number in range(12)))
    (depot,) = add_depots(shell, library, "heron").values()
    run = subprocess.Popen(
        shell.command("backup", "--limit", "2MB"), cwd=library, env=shell.environment, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    while run.poll() is None and not any((depot / "incoming").rglob("*.bin")):
        time.sleep(0.05)
    run.send_signal(signal.SIGINT)
    out, err = run.communicate(timeout=60)
    assert run.returncode == 130 and "Traceback" not in err
    assert "Stopping" in err and "Left to copy" in out + err
    # What was copied counts, and the bag holds.
    copied = list((depot / "data/companions").iterdir())
    assert 0 < len(copied) < 12 and not (depot / "incoming").exists()
    subprocess.run(["sha256sum", "-c", "--quiet", "manifest-sha256.txt"], cwd=depot, check=True)
    before = {path.name: path.stat().st_ino for path in copied}
    shell("backup", cwd=library)
    assert same(library, depot)
    assert all((depot / "data/companions" / name).stat().st_ino == inode for name, inode in before.items())


def test_a_slow_drive_holds_nobody_up(shell: Shell) -> None:
    """With one drive that takes its time over each file, and more to copy than the buffer holds, the other is ready before it."""
    library = make_work(shell, tuple(3_000_000 + number for number in range(36)))
    depots = {name: shell.folder / name for name in ("heron", "otter")}
    for name, root in depots.items():
        root.mkdir()
        slow = ("--stand-in-fault", "slow=0.12") if name == "otter" else ()
        shell(
            "depot", "add", name, root, "--site", name, "--medium", "hdd", "--yes", "--stand-in", name, *slow, cwd=library
        )  # fmt: skip
    shell("backup", cwd=library)
    assert all(same(library, root) for root in depots.values())
    last = {}
    for name, root in depots.items():
        (listed,) = (root / "runs").iterdir()
        with listed.open(newline="") as file:
            last[name] = max(datetime.fromisoformat(row["when"]) for row in csv.DictReader(file))
    assert (last["otter"] - last["heron"]).total_seconds() >= 1, last


def test_a_run_waits_for_the_writer_of_a_killed_one(shell: Shell) -> None:
    library = make_work(shell, (5000, 6000, 2 * MB))
    (depot,) = add_depots(shell, library, "heron").values()
    shell("backup", cwd=library)
    run = depot / "incoming/0009-20260101T000000Z-abcd"
    (run / "data/companions").mkdir(parents=True)
    (run / "data/companions/late.bin").write_bytes(b"late")
    digest = "6c2f71b4bb0a0ab0d3a64fbfda2d0e8d3c4a5a7b5c0e5a4f7bb7c63c2b4a9d11"
    lines = (
        {"run": run.name, "started": "2026-01-01T00:00:00Z"},
        {"path": "companions/late.bin", "sha256": digest, "bytes": 4},
    )
    (run / "journal.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines))
    with FileLock(run / "writing.lock"):
        waiting = subprocess.Popen(
            shell.command("backup"), cwd=library, env=shell.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        time.sleep(2)
        assert waiting.poll() is None and (run / "data/companions/late.bin").exists()
        assert not (depot / "data/companions/late.bin").exists()
    waiting.communicate(timeout=60)
    assert waiting.returncode in (0, 1) and not run.exists()


def test_freed_files_come_from_depots_and_what_is_not_theirs_stays(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    of_year = {path: content for path, content in pictures(library).items() if path.startswith("pictures/2024/")}
    shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library)
    shell("free", "2024", "--yes", cwd=library)
    # As if freeing had been interrupted: one file is still there, and at the place of another lies somebody's new work.
    kept, other = sorted(of_year)[0], sorted(of_year)[2]
    for path in (kept, other):
        (library / path).parent.mkdir(parents=True, exist_ok=True)
    (library / kept).write_bytes(of_year[kept])
    new_work = bytes(len(of_year[other]))
    (library / other).write_bytes(new_work)
    assert other in shell("free", "2024", "--yes", cwd=library, code=1).out
    assert not (library / kept).exists() and (library / other).read_bytes() == new_work
    (library / other).unlink()
    shell("pack", tmp_path / "away", "--year", "2024", cwd=library)
    shell("restore", "back", "--from", tmp_path / "away")
    assert pictures(tmp_path / "back") == of_year
    for root in depots.values():
        root.rename(root.with_name(f"{root.name} away"))
    told = shell("pack", tmp_path / "none", "--year", "2024", cwd=library, code=1).out
    assert f"{len(of_year):,}" in told and ("is missing" in told or "within reach" in told)


def test_a_ledger_of_the_version_before_counts_alike(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "heron", cwd=library)
    before = shell("standing", "--json", cwd=library, code=1).json
    db = sqlite3.connect(library / "ledger/ledger.sqlite")
    db.executescript(
        "DROP TRIGGER standing_new; DROP TRIGGER standing_gone; DROP TABLE counted; DROP INDEX standings_stand;"
        "CREATE INDEX standings_year ON standings (year, stand); PRAGMA user_version = 3;"
    )
    db.close()
    assert shell("standing", "--json", cwd=library, code=1).json == before
    # And the counts keep in step with what comes after.
    shell("backup", cwd=library)
    shell("tell", "KW0241.jpg", "--taken", "1999-05-05", cwd=library)
    shell("backup", cwd=library)
    groups = shell("standing", "--json", cwd=library).json
    db = sqlite3.connect(library / "ledger/ledger.sqlite")
    counted = db.execute("SELECT year, sum(units) FROM counted WHERE NOT loose AND units > 0 GROUP BY 1").fetchall()
    assert (
        counted == db.execute("SELECT coalesce(year, 0), count(*) FROM frames GROUP BY 1").fetchall()
        and (1999, 1) in counted
    )
    assert "1999" in json.dumps(groups)
    db.close()


def test_what_was_let_pass_once_is_not_asked_again(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    (library / "pictures/2024").rename(library / "pictures/the year before last")
    shell("backup", "heron", cwd=library)
    receipt = json.loads(max(library.glob("ledger/receipts/*-backup-*.json")).read_text())
    kept = {line["what"].partition(": ")[2]: line["amount"] for line in receipt["kept"]}
    moved = kept["moved there as in the library"]
    assert 0 < moved["frames"] < moved["files"], "frames that moved are counted as frames"
    assert all(amount["frames"] <= amount["files"] for amount in kept.values())
    gone = sorted((library / "pictures/2025").rglob("*.jpg"))
    for path in gone:
        path.unlink()
    assert "more than the guard lets pass" in shell("backup", cwd=library, code=3).err
    assert "it has vanished" in shell("backup", "--yes", cwd=library, code=1).out
    assert "it has vanished" in shell("backup", cwd=library, code=1).out  # told again, and no longer in the way
    for path in sorted((library / "pictures/2026").rglob("*.jpg")):
        path.unlink()
    assert "more than the guard lets pass" in shell("backup", cwd=library, code=3).err  # more of it is asked for
    shell("mend", cwd=library, code=None)
    assert all(path.is_file() for path in gone)
