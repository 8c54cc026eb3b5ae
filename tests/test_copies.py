"""Backing up, verifying, mending, standing, restoring; on drives that are absent, wrong, full or faulty."""

import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from filelock import FileLock

from conftest import Shell, check, pictures, run_changed


def checked(world: Path, library: Path, depots: dict[str, Path]) -> None:
    check(world, "--library", library, *(part for root in depots.values() for part in ("--depot", root)))


def flip(path: Path) -> bytes:
    """Flip one bit in the middle of a file, behind everybody's back; returns what it was."""
    status, before = path.stat(), path.read_bytes()
    content = bytearray(before)
    content[len(content) // 2] ^= 4
    path.write_bytes(content)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
    return before


def names_of(receipt: dict[str, Any], key: str) -> list[str]:
    return sorted(item["name"] for item in receipt[key])


def test_backup_verify_mend(shell: Shell, world: Path, library: Path, depots: dict[str, Path]) -> None:
    plan = {one["depot"]: one for one in shell("backup", "--dry-run", "--json", cwd=library).json["depots"]}
    assert plan["otter"]["frames"] == 96 and not (depots["otter"] / "data/pictures").exists()
    shell("backup", cwd=library)
    checked(world, library, depots)
    written = {path: path.stat().st_mtime_ns for path in depots["otter"].rglob("*") if path.is_file()}
    assert "Nothing to do" in shell("backup", cwd=library).out
    assert {path: path.stat().st_mtime_ns for path in depots["otter"].rglob("*") if path.is_file()} == written

    rotten, gone = (depots["heron"] / "data" / name for name in list(pictures(library))[10:13:2])
    flip(rotten)
    gone.unlink()
    amiss = sorted(f"heron: {path.relative_to(depots['heron'] / 'data').as_posix()}" for path in (rotten, gone))
    found = shell("verify", "--json", cwd=library, code=1).json
    assert names_of(found, "left_out") == amiss and found["findings"] == [] and found["balanced"]
    weighed = shell("standing", "--json", cwd=library, code=1).json
    assert not weighed["safe"] and any("mend" in step for step in weighed["next"])
    mended = shell("mend", "--json", cwd=library).json
    assert mended["came_in"]["files"] == 2 and mended["left_out"] == []
    checked(world, library, depots)
    assert shell("standing", "--json", cwd=library).json["safe"]
    assert "heron" in next((depots["heron"] / "earlier").glob("*/why.csv")).parts[-4]
    assert "it was damaged" in next((depots["heron"] / "earlier").glob("*/why.csv")).read_text()
    assert "Nothing is known to be damaged" in shell("mend", cwd=library).out


def test_a_rotten_original_is_never_copied(shell: Shell, world: Path, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "heron", cwd=library)
    name = next(name for name in pictures(library) if name.endswith(".jpg"))
    before = flip(library / name)
    receipt = shell("backup", "--json", cwd=library, code=1).json
    assert names_of(receipt, "left_out") == [f"dipper: {name}", f"otter: {name}"] and receipt["balanced"]
    assert "its content is not what it was" in receipt["left_out"][0]["reason"]
    assert not (depots["otter"] / "data" / name).exists() and (depots["heron"] / "data" / name).read_bytes() == before
    assert shell("standing", "--json", cwd=library, code=1).json["states"] == {"sound": 95, "single": 1}
    shell("mend", cwd=library)
    assert (library / name).read_bytes() == before and list((library / "set-aside").rglob("*.jpg"))
    shell("backup", cwd=library)
    checked(world, library, depots)


# The library's drive changes what is written to it, or has no room.
_OF_PICTURES = """
import errno, os
flush = os.fsync
def fsync(descriptor):
    path = os.readlink(f"/proc/self/fd/{descriptor}")
    if path.endswith(".jpg.bm-new"):
        BAD
    flush(descriptor)
os.fsync = fsync
"""
BAD_WRITES = {
    "it was not what was written": _OF_PICTURES.replace("BAD", "os.truncate(path, os.stat(path).st_size - 1)"),
    "No space left": _OF_PICTURES.replace("BAD", "raise OSError(errno.ENOSPC, 'No space left on device')"),
}


@pytest.mark.parametrize("told", BAD_WRITES)
def test_the_library_is_mended_by_what_was_read_back(
    shell: Shell, library: Path, depots: dict[str, Path], told: str
) -> None:
    shell("backup", "heron", cwd=library)
    one, other = [name for name in pictures(library) if name.endswith(".jpg")][3:5]
    flip(library / one)
    (library / other).unlink()
    damaged = (library / one).read_bytes()
    shell("verify", "library", cwd=library, code=1)
    receipt = run_changed(shell, library, BAD_WRITES[told], {}, "mend", "--json")
    assert receipt.returncode == 1 and receipt.stdout.count(told) == 2, receipt.stdout + receipt.stderr
    assert (library / one).read_bytes() == damaged and not (library / other).exists()
    assert not list(library.rglob("*.bm-new"))
    shell("mend", cwd=library)
    assert "good" in shell("verify", "library", cwd=library).out


def test_verify_and_another_library_s_backup_do_not_meet(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "heron", cwd=library)
    with FileLock(depots["heron"] / "in-use.lock"):
        assert "Another run is working on the depot heron" in shell("verify", "heron", cwd=library, code=3).err


def test_sidecars_companions_and_settings_follow(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "otter", cwd=library)
    sidecar = next(name for name in pictures(library) if name.endswith(".xmp"))
    foreign = b"<rdf:Description xmlns:e='urn:e:' e:edit='crop'/></rdf:RDF>"
    edited = (library / sidecar).read_bytes().replace(b"</rdf:RDF>", foreign)
    (library / sidecar).write_bytes(edited)
    (library / "companions/catalogue").mkdir()
    (library / "companions/catalogue/studio notes.db").write_bytes(b"notes")
    shell("backup", "otter", cwd=library)
    data = depots["otter"] / "data"
    assert (data / sidecar).read_bytes() == edited
    assert (data / "companions/catalogue/studio notes.db").read_bytes() == b"notes"
    assert any((run / "data" / sidecar).is_file() for run in (depots["otter"] / "earlier").iterdir())
    # What cannot be copied is said.
    (library / "companions/link").symlink_to("catalogue")
    Path(os.fsdecode(bytes(library / "companions") + b"/caf\xe9.txt")).write_text("Latin-1 name")
    told = [finding["what"] for finding in shell("backup", "otter", "--json", cwd=library, code=1).json["findings"]]
    assert len(told) == 2 and "is a link" in told[1] and "not valid UTF-8" in told[0]
    assert "within each other" in shell("depot", "add", "in", library / "companions", cwd=library, code=2).err
    (library / "companions/catalogue/studio notes.db").unlink()
    # What other programs keep beside the pictures comes and goes: the depot follows, and keeps what went.
    shell("backup", "otter", cwd=library, code=1)
    assert not (data / "companions/catalogue/studio notes.db").exists()
    kept = shell("earlier", "otter", "--of", "studio notes", "--json", cwd=library).json["earlier"]
    assert [one["why"] for one in kept] == ["removed from the library"]
    assert (depots["otter"] / kept[0]["lies"]).read_bytes() == b"notes"


def test_absent_and_wrong_drives_are_refused(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    away = tmp_path / "away"
    depots["otter"].rename(away)
    assert "is not there" in shell("backup", "otter", cwd=library, code=3).err
    passed = shell("backup", cwd=library, code=1)
    assert "Passed over: The depot otter is not there" in passed.err and not depots["otter"].exists()
    alone = shell("verify", cwd=library, code=1)  # the library is there, and the other depots
    assert "library: good" in alone.out and "Passed over" in alone.err
    depots["otter"].mkdir()  # the mount point, without its drive
    assert "may not be mounted" in shell("backup", "otter", cwd=library, code=3).err
    assert not list(depots["otter"].iterdir())
    shutil.rmtree(depots["otter"])
    shutil.copytree(depots["dipper"], depots["otter"])
    before = sorted(path.name for path in depots["otter"].rglob("*"))
    assert "holds another depot, dipper" in shell("backup", "otter", cwd=library, code=3).err
    assert sorted(path.name for path in depots["otter"].rglob("*")) == before
    # Found again under another name, after being told.
    shell("depot", "add", "otter", away, cwd=library)
    shell("backup", "otter", cwd=library)
    assert "Did you mean dipper?" in shell("verify", "diper", cwd=library, code=2).err
    shell("new", "other")
    refused = shell("depot", "add", "mine", away, "--library", "other", code=3)
    assert "of another library" in refused.err
    assert "makes no folder" in shell("depot", "add", "new", tmp_path / "nowhere", cwd=library, code=3).err
    assert not (tmp_path / "nowhere").exists()


def test_a_drive_that_flips_a_bit_while_writing(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    (tmp_path / "bad").mkdir()
    shell(
        "depot", "add", "bad", tmp_path / "bad", "--site", "studio", "--medium", "hdd", "--stand-in", "bad",
        "--stand-in-fault", "flips=ALD_0457.jpg", cwd=library,
    )  # fmt: skip
    done = shell("backup", cwd=library, code=1)
    assert "bad: pictures/2025/2025-11/ALD_0457.jpg" in done.out and "not what was written" in done.out
    assert not list((tmp_path / "bad/data").rglob("ALD_0457.jpg")) and list(
        (depots["heron"] / "data").rglob("ALD_0457.jpg")
    )


def test_copies_on_one_device_count_once(shell: Shell, library: Path, tmp_path: Path) -> None:
    for name in ("one", "two"):
        (tmp_path / name).mkdir()
        shell("depot", "add", name, tmp_path / name, "--site", name, "--medium", name, cwd=library)
    shell("backup", cwd=library)
    weighed = shell("standing", "--json", cwd=library, code=1).json
    assert weighed["states"] == {"single": 96}
    assert any("1 physical device" in step for step in weighed["next"])
    copies = shell("show", "ALD_0457.jpg", "--json", cwd=library).json["copies"]
    assert {copy["state"] for copy in copies} <= {"proven", "cached"}


@pytest.fixture
def small_drive(tmp_path: Path) -> Iterator[Path]:
    """A real ext4 file system of 12 MB on a loop device."""
    image, mount = tmp_path / "drive.img", tmp_path / "drive"
    mount.mkdir()
    with image.open("wb") as file:
        file.truncate(12 << 20)
    made = os.geteuid() == 0 and shutil.which("mkfs.ext4") is not None
    made = made and subprocess.run(["mkfs.ext4", "-q", "-m0", image], check=False).returncode == 0
    if not made or subprocess.run(["mount", "-o", "loop", image, mount], check=False, capture_output=True).returncode:
        pytest.skip("this machine lets nobody mount a small file system")
    yield mount
    subprocess.run(["umount", mount], check=False)


def test_a_full_drive_and_a_real_one(shell: Shell, world: Path, library: Path, small_drive: Path) -> None:
    hog = small_drive / "lost+found/hog"
    hog.write_bytes(bytes(5_000_000))
    shell("depot", "add", "small", small_drive, "--site", "cottage", "--medium", "ssd", cwd=library)
    passed = shell("backup", cwd=library, code=1)
    assert "needs" in passed.out and "MB free" in passed.out and not (small_drive / "incoming").exists()
    # Room enough by the count, but another program takes it while the run goes on: the drive fails, and the run says so.
    boasting = "import shutil; shutil.disk_usage = lambda folder: type('Usage', (), {'free': 1 << 40})"
    full = run_changed(shell, library, boasting, {}, "backup")
    assert full.returncode in (1, 3) and "small" in full.stdout + full.stderr, full.stdout + full.stderr
    assert "No space left on device" in full.stdout + full.stderr
    hog.unlink()
    shell("backup", cwd=library)
    check(world, "--library", library, "--depot", small_drive)
    copies = shell("show", "ALD_0457.jpg", "--json", cwd=library).json["copies"]
    assert [copy["state"] for copy in copies] == ["proven"]  # ext4 can prove where a reading came from


def kill_after(shell: Shell, delay: float, cwd: Path, *arguments: str | Path) -> None:
    process = subprocess.Popen(shell.command(*arguments), cwd=cwd, env=shell.environment, stdout=subprocess.DEVNULL)
    time.sleep(delay)
    process.send_signal(signal.SIGKILL)
    process.wait()


def test_killed_backups_and_restores_complete(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    for delay in (0.35, 0.5, 0.65, 0.8):
        kill_after(shell, delay, library, "backup")
    shell("backup", cwd=library)
    checked(world, library, depots)
    for delay in (0.35, 0.5, 0.65):
        kill_after(shell, delay, tmp_path, "restore", "back", "--from", depots["heron"])
    shell("restore", "back", "--from", depots["heron"])
    check(world, "--library", tmp_path / "back")
    assert pictures(tmp_path / "back") == pictures(library)


def test_restore_falls_back_and_overwrites_nothing(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    rotten = list((depots["heron"] / "data/pictures").rglob("*.jpg"))[:3]
    for path in rotten:
        flip(path)
    one = shell("restore", tmp_path / "one", "--from", depots["heron"], "--json", code=1).json
    assert len(one["left_out"]) == 3 and one["balanced"]
    both = shell(
        "restore", tmp_path / "both", "--from", depots["heron"], "--from", depots["otter"], "--json", code=1
    ).json
    assert both["left_out"] == [] and len(both["findings"]) == 3
    check(world, "--library", tmp_path / "both")
    assert shell("find", "lantern", "--json", cwd=tmp_path / "both").json["found"] == 23
    (tmp_path / "full").mkdir()
    (tmp_path / "full/letter.txt").write_text("dear")
    assert "is not empty" in shell("restore", tmp_path / "full", "--from", depots["heron"], code=2).err
    assert "no depot at" in shell("restore", tmp_path / "new", "--from", tmp_path / "full", code=3).err


def test_verify_names_strays_and_damaged_tag_files(
    shell: Shell, world: Path, library: Path, depots: dict[str, Path]
) -> None:
    shell("backup", cwd=library)
    (depots["otter"] / "data/pictures/holiday.jpg").write_bytes(b"stray")
    (depots["otter"] / "data/.DS_Store").write_bytes(b"system")
    flip(depots["heron"] / "manifest-sha256.txt")
    found = shell("verify", "--json", cwd=library, code=1).json
    named = names_of(found, "findings")  # besides, a picture whose line in the manifest was hit
    assert {"heron: manifest-sha256.txt", "otter: data/pictures/holiday.jpg"} <= set(named) and len(named) <= 3
    shell("mend", cwd=library)
    (depots["otter"] / "data/pictures/holiday.jpg").unlink()
    (depots["otter"] / "data/.DS_Store").unlink()
    assert shell("verify", "--json", cwd=library).json["findings"] == []
    checked(world, library, depots)


def test_a_ledger_that_rots_is_noticed_and_comes_back(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    ledger = library / "ledger/ledger.sqlite"
    sound, page = ledger.read_bytes(), 4096
    pages = len(sound) // page
    for first in (pages // 3, pages // 2, pages * 4 // 5):
        rotten = bytearray(sound)
        rotten[first * page : (first + 6) * page] = b"\xa5" * (6 * page)
        ledger.write_bytes(rotten)
        for asked in (("stocktake",), ("backup",), ("show", "ALD_0457.jpg"), ("standing",), ("find", "owl")):
            told = shell(*asked, cwd=library, code=None)  # never a traceback
            assert told.code != 3 or "--ledger-only" in told.err
        for command in (("verify",), ("bind", "2024", "--at", "heron"), ("free", "2024", "--yes")):
            assert "ledger" in shell(*command, cwd=library, code=3).err
    shell("restore", ".", "--ledger-only", "--from", depots["heron"], cwd=library)
    shell("stocktake", cwd=library)
    shell("verify", "heron", "library", cwd=library)


def test_only_one_run_at_a_time(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    from filelock import FileLock

    with FileLock(library / "ledger/in-use.lock"):
        assert "Another run is working on the library" in shell("backup", cwd=library, code=3).err
        assert shell("find", "owl", cwd=library).out
    with FileLock(depots["heron"] / "in-use.lock"):
        assert "working on the depot heron" in shell("backup", "heron", cwd=library, code=3).err
