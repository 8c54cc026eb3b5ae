"""What every kind of place for a depot keeps to, one by one, and every work on depots over a kind that knows no folders."""

import hashlib
import os
import shutil
import signal
import sqlite3
import subprocess
import time
from pathlib import Path

import pytest

from bramblemoor.depots.kinds.folder import FolderStore
from bramblemoor.depots.kinds.interface import Store
from bramblemoor.disk.told import Outside
from bramblemoor.running import PIECE
from bramblemoor.standins.chest import Chest
from bramblemoor.standins.drives import StandInDrive
from conftest import Shell, pictures

KINDS: tuple[type[Store], ...] = (FolderStore, StandInDrive, Chest)
ODD = "data/pictures/2026/Été à l'étang (n° 1)/ein # Bild, 50 Prozent.jpg"


@pytest.fixture(params=KINDS, ids=lambda kind: kind.kind)
def store(request: pytest.FixtureRequest, tmp_path: Path) -> Store:
    (tmp_path / "place").mkdir()
    kind: type[Store] = request.param
    return kind(str(tmp_path / "place"), {"device": "otter"})


def again(store: Store) -> Store:
    """The same place, opened as another process does."""
    return type(store)(store.where, store.options, store.seen)


def sha(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def test_small_files_are_there_whole_or_not_at_all(store: Store) -> None:
    assert store.is_there and store.writable and store.room() > 0 and store.device and store.seat
    assert store.stat(ODD) is None and not store.is_taken(ODD) and store.names("data") == []
    with pytest.raises(FileNotFoundError):
        store.open(ODD).close()
    before = time.time_ns()
    store.put_small(ODD, b"a moorhen")
    lies = again(store).stat(ODD)
    assert lies is not None and (lies.path, lies.bytes) == (ODD, 9) and abs(lies.mtime_ns - before) < 60e9
    assert store.content(ODD) == b"a moorhen" and store.digest(ODD) == sha(b"a moorhen") and store.is_taken(ODD)
    with pytest.raises(RuntimeError), store.replacing(ODD) as file:
        file.write(b"half of a")
        raise RuntimeError("the pen broke")
    assert store.content(ODD) == b"a moorhen" and list(store.listed("data")) == [ODD]
    store.put_small(ODD, b"")
    assert store.content(ODD) == b"" and store.at_hand(ODD).read_bytes() == b""


def test_what_lies_in_folders_is_listed(store: Store) -> None:
    for path in (
        "depot.toml",
        "runs/0001.csv",
        "earlier/0001/why.csv",
        "earlier/0001/data/b.jpg",
        "earlier/0002/data/c",
    ):
        store.put_small(path, path.encode())
    assert store.names("earlier") == store.folders("earlier") == ["0001", "0002"]
    assert store.names("earlier/0001") == ["data", "why.csv"] and store.folders("earlier/0001") == ["data"]
    assert set(store.names("")) >= {"depot.toml", "earlier", "runs"} and store.names("nowhere") == []
    assert sorted(store.listed("earlier")) == ["earlier/0001/data/b.jpg", "earlier/0001/why.csv", "earlier/0002/data/c"]
    assert list(store.listed("depot.toml")) == [] and store.lies_at(store.where)
    store.remove(["earlier/0001/data/b.jpg", "earlier/0001/data/b.jpg", "never/there"])
    assert store.folders("earlier/0001") == [] and store.names("earlier/0001") == ["why.csv"]
    store.clear("earlier")
    assert not store.is_taken("earlier") and store.content("runs/0001.csv") == b"runs/0001.csv"


def test_files_are_read_in_pieces_and_had_at_hand(store: Store) -> None:
    content = os.urandom(2 * PIECE + 4099)
    store.put_small("data/large", content)
    with store.read("data/large") as reading:
        pieces = [bytes(piece) for piece in reading.pieces]
    assert b"".join(pieces) == content and {len(piece) for piece in pieces[:-1]} == {PIECE}
    assert reading.grade == "medium" or not store.traits.proves or isinstance(store, FolderStore)
    assert store.at_hand("data/large").read_bytes() == content
    with pytest.raises(OSError), store.read("data/none") as none:
        list(none.pieces)


def test_lists_grow_and_are_read_by_others(store: Store) -> None:
    log = store.log("incoming/0001/journal.jsonl")
    assert not log.exists
    log.begin(b"head\n")
    log.append(b"%d\n" % number for number in range(1000))
    log.append([b"mark\n"])
    other = again(store).log("incoming/0001/journal.jsonl")
    assert other.exists and list(other.lines()) == [b"head\n", *(b"%d\n" % number for number in range(1000)), b"mark\n"]
    assert store.folders("incoming") == ["0001"]


def test_files_move_and_nothing_is_lost_on_the_way(store: Store) -> None:
    store.put_small("data/a/one.jpg", b"one")
    store.put_small("data/a/two.jpg", b"two")
    with store.moving() as moves:
        moves.move("data/a/one.jpg", "earlier/0001/data/a/one.jpg")
        moves.move("data/a/two.jpg", "data/b/c/d/one.jpg")
        with pytest.raises(FileNotFoundError):
            moves.move("data/a/two.jpg", "data/e")
    found = {path: again(store).content(path) for folder in ("data", "earlier") for path in store.listed(folder)}
    assert found == {"earlier/0001/data/a/one.jpg": b"one", "data/b/c/d/one.jpg": b"two"}


def test_only_one_holds_it_and_only_where_it_was(store: Store, tmp_path: Path) -> None:
    other = again(store)
    with store.hold("in-use.lock"), pytest.raises(BlockingIOError), other.hold("in-use.lock"):
        pass
    with other.hold("in-use.lock"):
        store.require_there()
    shutil.move(store.where, tmp_path / "unplugged")
    Path(store.where).mkdir()
    for one in (store, other):
        with pytest.raises(OSError):
            one.require_there()
    with pytest.raises(OSError), store.hold("in-use.lock"):
        pass
    assert not list(Path(store.where).iterdir()), "something was written to what is no depot"


def test_files_are_staged_and_proven(store: Store) -> None:
    stager = store.stager("0001")
    store.log("incoming/0001/journal.jsonl").begin(b"{}\n")
    small, large = b"a reed", os.urandom(PIECE + 5)
    assert stager.is_there and stager.still_writes() and not stager.hindrance(ODD.removeprefix("data/"))
    stager.write_small("x/small.jpg", memoryview(small), 1_600_000_000_000_000_000)
    for name in ("x/large.jpg", "x/worthless.jpg"):
        staging = stager.begin(name, 1_600_000_000_000_000_000)
        staging.write(memoryview(large)[:PIECE])
        staging.write(memoryview(large)[PIECE:])
        staging.abandon() if "worthless" in name else staging.end()
    stager.flush(["x/small.jpg", "x/large.jpg"])
    stager.flush_one("x/large.jpg")
    assert stager.prove("x/small.jpg", sha(small), [memoryview(small)])[0]
    assert stager.prove("x/large.jpg", sha(large), [memoryview(large)[:PIECE], memoryview(large)[PIECE:]])[0]
    assert stager.prove("x/large.jpg", sha(large), None)[0]
    assert not stager.prove("x/large.jpg", sha(small), None)[0]
    assert not stager.prove("x/small.jpg", sha(b"a ree."), [memoryview(b"a ree.")])[0] or isinstance(store, Chest)
    lies = store.stat(stager.staged("x/small.jpg"))
    assert lies is not None and lies.mtime_ns == 1_600_000_000_000_000_000
    assert store.stat(stager.staged("x/worthless.jpg")) is None
    stager.discard("x/small.jpg")
    stager.discard("x/small.jpg")
    assert list(store.listed("incoming/0001/data")) == ["incoming/0001/data/x/large.jpg"]


@pytest.mark.parametrize("kind", [FolderStore, StandInDrive])
def test_no_link_is_followed(kind: type[FolderStore], tmp_path: Path) -> None:
    (tmp_path / "place/data").mkdir(parents=True)
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "elsewhere/a.jpg").write_bytes(b"not ours")
    (tmp_path / "place/data/way").symlink_to(tmp_path / "elsewhere")
    (tmp_path / "place/data/a.jpg").symlink_to(tmp_path / "elsewhere/a.jpg")
    store = kind(str(tmp_path / "place"), {"device": "otter"})
    assert store.stat("data/a.jpg") is None and store.is_taken("data/a.jpg")
    for work in (store.stat, store.content, store.digest, lambda path: store.put_small(path, b"x")):
        with pytest.raises(Outside):
            work("data/way/a.jpg")
    with pytest.raises(OSError):
        store.content("data/a.jpg")
    with pytest.raises(Outside):
        (tmp_path / "place/earlier").symlink_to(tmp_path / "elsewhere")
        store.require_plain(["data", "earlier"])
    assert (tmp_path / "elsewhere/a.jpg").read_bytes() == b"not ours"


def keys(chest: Path) -> dict[str, bytes]:
    """What lies in a chest, as any SQLite client sees it."""
    with sqlite3.connect(chest / "chest.sqlite") as db:
        rows = db.execute("SELECT key, id FROM objects").fetchall()
        read = "SELECT content FROM pieces WHERE object = ? ORDER BY number"
        return {key: b"".join(row[0] for row in db.execute(read, (number,))) for key, number in rows}


@pytest.fixture
def chest(shell: Shell, library: Path) -> Path:
    place = shell.folder / "chest"
    place.mkdir()
    shell(
        "depot", "add", "coffer", place, "--site", "boathouse", "--medium", "chest", "--stand-in", "coffer",
        "--stand-in-chest", cwd=library,
    )  # fmt: skip
    return place


def test_every_work_on_depots_over_a_kind_without_folders(
    shell: Shell, library: Path, depots: dict[str, Path], chest: Path
) -> None:
    shell("backup", "coffer", "heron", cwd=library)
    held = {
        key.removeprefix("data/"): content for key, content in keys(chest).items() if key.startswith("data/pictures")
    }
    assert held == pictures(library) and [path.name for path in chest.iterdir() if path.is_dir()] == []
    manifest = {line[66:]: line[:64] for line in keys(chest)["manifest-sha256.txt"].decode().splitlines()}
    assert {path: sha(content) for path, content in keys(chest).items() if path in manifest} == manifest
    assert "level with" in shell("backup", "coffer", cwd=library).out
    listed = {one["depot"]: one for one in shell("depot", "list", "--json", cwd=library).json["depots"]}
    assert listed["coffer"]["present"] and listed["coffer"]["files"] == listed["heron"]["files"]

    # Moved, replaced and removed.
    moved, gone = sorted((library / "pictures").rglob("*.jpg"))[:2]
    moved.rename(moved.with_name("moved.jpg"))
    gone.unlink()
    shell("stocktake", cwd=library, code=1)
    shell("stocktake", "--let-go", gone.name, "--yes", cwd=library)
    before = keys(chest)
    shell("backup", "coffer", cwd=library)
    after = keys(chest)
    assert (
        after[f"data/{moved.with_name('moved.jpg').relative_to(library)}"]
        == before[f"data/{moved.relative_to(library)}"]
    )
    assert f"data/{gone.relative_to(library)}" not in after
    earlier = shell("earlier", "coffer", "--json", cwd=library).json["earlier"]
    assert {one["path"] for one in earlier} >= {gone.relative_to(library).as_posix()}
    assert all(sha(after[one["lies"]]) == one["sha256"] for one in earlier)
    as_of = shell("restore", "then", "--from", chest, "--as-of", "2020-01-01", code=None)
    assert as_of.code in (0, 2, 3) and "Traceback" not in as_of.err

    # Rot, found and mended.
    rotten = next(key for key in after if key.startswith("data/pictures/2025") and key.endswith(".jpg"))
    with sqlite3.connect(chest / "chest.sqlite") as db:
        db.execute(
            "UPDATE pieces SET content = x'726f74' WHERE object = (SELECT id FROM objects WHERE key = ?)", (rotten,)
        )
    assert rotten.removeprefix("data/") in shell("verify", "coffer", cwd=library, code=1).out
    shell("mend", "coffer", cwd=library)
    assert keys(chest)[rotten] == after[rotten]
    shell("verify", "coffer", cwd=library)
    assert shell("drill", "coffer", "--json", cwd=library).code == 0
    assert "at a time" not in shell("depot", "look", "coffer", "--below", "pictures", cwd=library).err
    refused = shell("depot", "alone", "coffer", cwd=library, code=2)
    assert "open where it lies" in refused.err and "verify" in refused.err

    # From one to the other, and everything from it alone.
    shell("depot", "level", "coffer", "heron", cwd=library)
    shutil.rmtree(library)
    shell("restore", "back", "--from", chest)
    restored = {
        key.removeprefix("data/"): content for key, content in keys(chest).items() if key.startswith("data/pictures")
    }
    assert pictures(shell.folder / "back") == restored


def test_a_killed_run_goes_on_where_nothing_can_be_appended(shell: Shell, library: Path, chest: Path) -> None:
    with subprocess.Popen(
        shell.command("backup"),
        cwd=library,
        env=shell.environment,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    ) as run:
        until = time.monotonic() + 30
        while time.monotonic() < until and not any(key.startswith("incoming/") for key in keys(chest)):
            time.sleep(0.02)
        run.send_signal(signal.SIGKILL)
    shell("backup", cwd=library)
    held = {
        key.removeprefix("data/"): content for key, content in keys(chest).items() if key.startswith("data/pictures")
    }
    assert held == pictures(library) and not any(key.startswith("incoming/") for key in keys(chest))
    shell("verify", "coffer", cwd=library)
