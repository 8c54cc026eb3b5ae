"""The library by itself: settings, ledger, naming, volumes, the rule; and the made-up world it is shown on."""

import json
import os
import re
import shutil
import sqlite3
import subprocess
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from PIL import Image

from bramblemoor.depots.kinds.folder import FolderStore
from bramblemoor.disk.file_systems import file_system_of
from conftest import Shell, pictures


def edit_settings(library: Path, old: str, new: str) -> None:
    path = library / "bramblemoor.toml"
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new))


def test_settings_are_checked_and_named(shell: Shell) -> None:
    shell("new", "lib", "--name", "My pictures", "--site", "attic")
    library = shell.folder / "lib"
    assert 'site = "attic"' in (library / "bramblemoor.toml").read_text()
    for old, new, word in (
        ("copies = 3", "copies = 'three'", "copies"),
        ("copies = 'three'", "copeis = 3", "copeis"),
        ("copeis = 3", "copies = ", "bramblemoor.toml"),
    ):
        edit_settings(library, old, new)
        error = shell("standing", cwd=library, code=3).err
        assert word in error and "Put it right with an editor" in error
    edit_settings(library, "copies = ", "copies = 3")
    assert "holds no frames yet" in shell("standing", cwd=library).out


def test_naming_templates(shell: Shell, collected: Path) -> None:
    edit_settings(collected, "{year}/{year}-{month}", "{service}/{decade}")
    refused = shell("unpack", cwd=collected, code=3).err
    assert "{decade}" in refused and "{year}, {month}, {day}, {service}" in refused and not pictures(collected)
    edit_settings(collected, "{service}/{decade}", "{service}/{year}.{month}.{day}/")
    shell("unpack", cwd=collected)
    assert len(list((collected / "pictures/thrushfield/2026.05.02").glob("*.jpg"))) == 22
    assert shell("find", "lantern", "--json", cwd=collected).json["hits"][0]["shoot"] == "2026.05.02"


def test_ledgers_that_cannot_be_used(shell: Shell, library: Path) -> None:
    ledger = library / "ledger/ledger.sqlite"
    whole = ledger.read_bytes()
    with sqlite3.connect(ledger) as db:
        db.execute("PRAGMA user_version = 99")
    assert "schema version 99" in shell("find", "owl", cwd=library, code=3).err
    ledger.write_bytes(b"no database at all, but long enough to look like one" * 100)
    assert "cannot be opened" in shell("find", "owl", cwd=library, code=3).err
    ledger.write_bytes(whole)
    assert shell("find", "owl", cwd=library).out


def test_the_rule_and_freshness(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    def states() -> dict[str, int]:
        states: dict[str, int] = shell("standing", "--json", cwd=library, code=None).json["states"]
        return states

    assert states() == {"single": 96}  # the library alone
    shell("backup", "heron", cwd=library)
    assert states() == {"short": 96}  # two copies, one site
    shell("backup", "dipper", cwd=library)
    assert states() == {"sound": 96}
    edit_settings(library, "copies = 3", "copies = 4")
    assert states() == {"short": 96}
    edit_settings(library, "copies = 4", "copies = 3")
    edit_settings(library, "sites = 2", "sites = 3")
    assert states() == {"short": 96}
    edit_settings(library, "sites = 3", "sites = 2")
    shell("backup", cwd=library)
    # A reading that is too old no longer counts; one that may have come from a cache never did.
    old = int((datetime.now() - timedelta(days=400)).timestamp())
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        dipper = db.execute("SELECT number FROM depots WHERE name = 'dipper'").fetchone()[0]
        heron = db.execute("SELECT number FROM depots WHERE name = 'heron'").fetchone()[0]
        frame = db.execute("SELECT id FROM frames WHERE name = 'ALD_0457.jpg'").fetchone()[0]
        db.execute("UPDATE copies SET read_at = ? WHERE depot = ?", (old, dipper))
        files = "SELECT id FROM files WHERE frame = ?"
        db.execute(f"UPDATE copies SET state = 'cached' WHERE depot = ? AND file IN ({files})", (heron, frame))
    weighed = shell("standing", "--json", cwd=library, code=1).json
    assert weighed["states"] == {"short": 96}
    holders = {holder["depot"]: holder for holder in weighed["copies"]}
    assert holders["dipper"]["frames"] == 0 and holders["dipper"]["stale"] > 100 and holders["heron"]["frames"] == 95
    assert any("dipper" in step and "verify" in step for step in weighed["next"])
    assert re.search(r"dipper .*400 days ago: too long", shell("standing", cwd=library, code=1).out)
    shell("verify", cwd=library)
    assert states() == {"sound": 96}


def test_show_takes_paths_names_and_numbers(shell: Shell, library: Path) -> None:
    one = shell("show", "pictures/2026/2026-05/ALD_0675-2.jpg", cwd=library).out
    assert "came as ALD_0675.jpg" in one and "Withymere" in one
    number = str(shell("show", "ALD_0457.jpg", "--json", cwd=library).json["frame"])
    assert "ALD_0457.jpg" in shell("show", number, cwd=library).out
    assert "Did you mean ALD_0457.jpg" in shell("show", "ALD_0457.jgp", cwd=library, code=2).err
    doubt = shell("show", "KW0883.jpg", cwd=library).out
    assert "In doubt" in doubt and "no time zone fits both" in doubt
    assert "a reduced copy" in shell("show", "KW0244.jpg", cwd=library).out


def test_volumes_say_what_can_be_proven(tmp_path: Path) -> None:
    shm = Path("/dev/shm")
    if shm.is_dir() and file_system_of(shm).file_system == "tmpfs":
        assert not file_system_of(shm).can_prove_reading  # it is nothing but cache
    image, mount = tmp_path / "image", tmp_path / "mount"
    mount.mkdir()
    with image.open("wb") as file:
        file.truncate(16 << 20)
    if (
        os.geteuid()
        or not shutil.which("mkfs.ext4")
        or subprocess.run(["mkfs.ext4", "-q", image], check=False).returncode
    ):
        pytest.skip("no file systems can be made here")
    if subprocess.run(["mount", "-o", "loop", image, mount], check=False, capture_output=True).returncode:
        pytest.skip("this machine lets nobody mount a small file system")
    try:
        volume = file_system_of(mount)
        assert volume.file_system == "ext4" and volume.can_prove_reading and volume.flushes_whole
        assert volume.device == file_system_of(tmp_path).device  # a container lies on the drive that its file lies on
        store = FolderStore(str(mount), {})
        stager = store.stager("0001")
        store.log("incoming/0001/journal.jsonl").begin(b"")
        for size in (0, 1, 5000, 9 << 20):
            staging = stager.begin(f"file{size}", 0)
            staging.write(
                memoryview(bytes(size))
            )  # past the cache only whole blocks are taken, and as many as the system likes
            staging.end()
            stager.flush([f"file{size}"])
            with store.read(stager.staged(f"file{size}")) as reading:
                assert reading.grade == "medium" and sum(len(piece) for piece in reading.pieces) == size
    finally:
        subprocess.run(["umount", mount], check=False)


def test_the_made_up_world_is_worth_showing(world: Path) -> None:
    truth = json.loads((world / "truth.json").read_text(encoding="utf-8"))
    frames = [frame for frame in truth["frames"] if frame["files"]]
    assert len(frames) >= 90 and {frame["month"][:4] for frame in frames} == {"2024", "2025", "2026"}
    offsets = {frame["taken"][19:] for frame in frames}
    assert {"+01:00", "+05:45", "", "Z"} <= offsets
    roles = [file["role"] for frame in frames for file in frame["files"]]
    assert roles.count("clip") == 1 and roles.count("rendition") == 1
    assert sum(path.stat().st_size for path in (world / "items").iterdir()) < 25_000_000
    assert sum(not frame["slip"] for frame in frames) == 1 and len(truth["frames"]) - len(frames) == 1
    names = [file["name"] for frame in frames for file in frame["files"]]
    assert len(names) - len(set(names)) == 1  # two different frames of one name
    members = [ref for refs in truth["albums"].values() for ref in refs]
    assert len(members) > len(set(members))  # albums overlap
    for path in (world / "items").glob("*.jpg"):
        with Image.open(path) as image:
            image.load()
