"""Moving house, driven by the program against the stand-ins: folders and buckets brought home and compared, collections carried
from one service to another, proven on arrival, whatever happens on the way.

What arrived is looked at where the stand-ins keep it, not through the program.
"""

import hashlib
import json
import re
import signal
import sqlite3
import subprocess
import time
import urllib.parse
import urllib.request
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest

from conftest import Served, Shell, others_read, standing_in


@pytest.fixture
def library(shell: Shell) -> Path:
    shell("new", "home")
    return shell.folder / "home"


Begin = Callable[..., Served]


@pytest.fixture
def begin(shell: Shell, library: Path) -> Any:
    """Begin a stand-in, and add it to the library."""
    with ExitStack() as stack:

        def start(service: str, *faults: str, name: str = "", more: tuple[str, ...] = ()) -> Served:
            served = stack.enter_context(standing_in(service, shell.folder / (name or service), *faults))
            served.add(shell, name or service, library, *more)
            return served

        yield start


def truth(served: Served) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads((served.folder / "truth.json").read_text())["frames"]
    return found


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def taken(served: Served) -> list[dict[str, Any]]:
    """The frames that a flat stand-in took, as it keeps them."""
    path = served.folder / "taken.jsonl"
    return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []


def kept(receipt: Any) -> dict[str, int]:
    return {line["what"]: line["amount"]["frames"] for line in receipt["kept"]}


def left(receipt: Any) -> list[str]:
    return [f"{item['name']}: {item['reason']}" for item in receipt["left_out"]]


def test_a_folder_service_is_brought_home_and_compared(shell: Shell, library: Path, begin: Begin) -> None:
    wharf = begin("stonewharf", "--fault", "quota=20000000")
    survey = shell("service", "survey", "stonewharf", "--json", cwd=library).json
    assert (survey["frames"], survey["videos"], survey["shown_twice"], survey["sidecars"]) == (49, 1, 49, 32)
    assert 0 < survey["room"] < 20_000_000 and {one["path"] for one in survey["folders"]} == {
        "Valley",
        "Work",
        "Fairs & feasts",
    }
    by_desk = {
        one["power"]: one["is_there"] for one in shell("service", "powers", "--json", cwd=library).json["powers"]
    }
    assert (
        by_desk["make folders"] and by_desk["move files"] and not by_desk["tell digests"] and by_desk["take any name"]
    )
    assert sorted(path.name for path in (wharf.folder / "tree").iterdir()) == ["Fairs & feasts", "Valley", "Work"]

    first = shell("fetch", "stonewharf", "--json", cwd=library).json
    assert first["balanced"] and kept(first)["new in the library"] == 50  # with a text that lies beside pictures
    for one in truth(wharf):
        assert digest(library / "pictures" / one["path"]) == one["sha256"]
    said = next(one for one in truth(wharf) if one["said"])
    others_read(library / "pictures" / f"{said['path']}.xmp", said["said"]["title"])
    assert shell("fetch", "stonewharf", "--json", cwd=library).json["nothing_to_do"]

    # Only what is new since last time comes; and both trees stand side by side.
    place = wharf.folder / "tree/Work/Chapel roofers"
    (place / "new.jpg").write_bytes((place / "KW4080.jpg").read_bytes() + b"\0")
    (place / "KW4082.jpg").unlink()
    told = shell("compare", "library", "stonewharf", "--no-sidecars", "--json", cwd=library, code=1).json
    states = {one["state"]: one["files"] for one in told["compared"]}
    assert states == {"same": 49, "same size": 0, "differs": 0, "only first": 1, "only second": 1}
    second = shell("fetch", "stonewharf", "--folder", "Work", "--json", cwd=library).json
    assert kept(second)["new in the library"] == 1
    seen = shell("compare", "stonewharf/Work", wharf.folder / "tree/Work", "--read", cwd=library)
    assert "Both are the same" in seen.out and "by digest" in seen.out
    assert "is no service here" in shell("compare", "library", "nowhere", cwd=library, code=2).err


def test_a_bucket_is_brought_home_whatever_happens_on_the_way(shell: Shell, library: Path, begin: Begin) -> None:
    faults = ("--busy", "2", "--drop", "3", "--flip", "0", "--fault", "late=0")
    barrow = begin("coldbarrow", *faults)
    receipt = shell("fetch", "coldbarrow", "--folder", "put-by/owls", "--json", cwd=library).json
    assert receipt["balanced"] and kept(receipt)["new in the library"] == 6
    shell("fetch", "coldbarrow", cwd=library)
    for one in truth(barrow):
        assert digest(library / "pictures" / one["path"]) == one["sha256"]

    def refused(url: str, user: str, secret: Path | str, words: str) -> None:
        secret_file = shell.folder / "secret.txt"
        secret_file.write_text(secret.read_text() if isinstance(secret, Path) else secret)
        failed = shell(
            "service", "add", "other", url, "--kind", "bucket", "--user", user, "--token-file", secret_file, "--patience", "1",
            cwd=library, code=3,
        )  # fmt: skip
        assert words in failed.err and secret_file.read_text().strip() not in failed.err, failed.err

    url = barrow.where["url"]
    refused(url, "VALLEYKEY", "sesame", "refuses the secret")
    refused(url, "NOSUCHKEY", barrow.secret, "does not know the key")
    refused(url + "x", "VALLEYKEY", barrow.secret, "has no bucket valleyx")
    refused("https://nowhere.invalid/valley", "VALLEYKEY", barrow.secret, "its name is not known")
    refused("https://127.0.0.1:9/valley", "VALLEYKEY", barrow.secret, "connection refused")
    nameless = (
        "service",
        "add",
        "x",
        "http://127.0.0.1:9/",
        "--kind",
        "bucket",
        "--user",
        "K",
        "--token-file",
        barrow.secret,
    )
    assert "names no bucket" in shell(*nameless, cwd=library, code=2).err
    # A key that only reads brings home, and sends nothing: that is said once, not of each frame.
    shell(
        "service", "add", "coldbarrow", url, "--kind", "bucket", "--user", "READERKEY", "--token-file",
        barrow.folder / "reader.txt", cwd=library,
    )  # fmt: skip
    assert shell("fetch", "coldbarrow", "--json", cwd=library).json["nothing_to_do"]
    failed = shell("migrate", "library", "coldbarrow", "--into", "x", "--yes", cwd=library, code=3)
    assert "does not let this key do that" in failed.err


def test_a_clock_that_is_off_is_said(shell: Shell, library: Path) -> None:
    with standing_in("coldbarrow", shell.folder / "coldbarrow", "--fault", "skew=3700") as barrow:
        failed = shell(
            "service", "add", "barrow", barrow.where["url"], "--kind", "bucket", "--user", "VALLEYKEY", "--token-file",
            barrow.secret, cwd=library, code=3,
        )  # fmt: skip
        assert "62 minutes behind its own" in failed.err and "Set the clock right" in failed.err


def test_from_folders_to_a_flat_service(shell: Shell, library: Path, begin: Begin) -> None:
    wharf, field = begin("stonewharf"), begin("thrushfield", more=("--dialect", "thrushfield"))
    before = {path: digest(path) for path in (wharf.folder / "tree").rglob("*") if path.is_file()}
    plan = shell("migrate", "stonewharf", "thrushfield", "--dry-run", "--json", cwd=library).json
    table = {row["what"]: row for row in plan["fidelity"]}
    assert plan["to_send"]["frames"] == 49 and plan["not_taken"]["files"] == 1
    assert (
        table["picture"]["frames_kept"] == 49
        and table["title"]["frames_kept"] == 32
        and table["folder"]["frames_lost"] == 49
    )
    assert table["rating"]["frames_inside"] + table["rating"]["frames_lost"] == 32 and not taken(field)

    moved = shell(
        "migrate", "stonewharf", "thrushfield", "--yes", "--arrival", "From the wharf", "--json", cwd=library, code=1
    )
    receipt = moved.json
    assert receipt["balanced"] and kept(receipt) == {"arrived, and proven": 49}
    assert left(receipt) == [
        "Valley/2024/Reed cutting (Saltby Fen)/who-is-who.txt: it is no picture or film, and nothing else is taken there"
    ]
    assert receipt["about"]["the source says"].startswith("49 frames") and receipt["about"][
        "the destination says"
    ].startswith("49 frames")

    # What it keeps is what the folders held; what it has no field for lies inside of the copy, and nowhere else.
    arrived = {item["filename"]: item for item in taken(field)}
    for one in truth(wharf):
        item, said = arrived[one["path"].rpartition("/")[2]], one["said"]
        stored = field.folder / "items" / item["files"][0]["stored"]
        altered = bool(said.get("rating")) and stored.suffix == ".jpg"
        assert (digest(stored) == one["sha256"]) is not altered or said.get("rating") == 0
        if said:
            assert (item["heading"], item["text"], item["subjects"]) == (
                said["title"],
                said["caption"],
                said["keywords"],
            )
            assert item["faces"] == said["people"]
        if altered and said["rating"]:
            others_read(stored, f"{said['rating']}")
    assert {path: digest(path) for path in before} == before
    album = next(
        one for one in json.loads((field.folder / "labels.json").read_text()) if one["title"] == "From the wharf"
    )
    assert len(album["members"]) == 49

    again = shell(
        "migrate", "stonewharf", "thrushfield", "--yes", "--arrival", "From the wharf", "--json", cwd=library
    ).json
    assert again["nothing_to_do"] and len(taken(field)) == 49
    planned = shell(
        "migrate", "stonewharf", "thrushfield", "--arrival", "From the wharf", "--dry-run", "--json", cwd=library
    ).json
    assert planned["to_send"]["frames"] == 0 and planned["at_source"]["frames"] == 49
    assert shell("transfer", "list", "--json", cwd=library).json["transfers"][0]["state"] == "proven"
    # It lies at one other service: by the rule that is not enough to let the account go.
    asked = shell("erasable", "--account", "stonewharf", "--json", cwd=library, code=1).json
    assert not asked["erasable"] and {item["copies_held"] for item in asked["items"]} <= {0, 1}


def test_from_one_flat_service_to_another_that_keeps_less(shell: Shell, library: Path, begin: Begin) -> None:
    field, lane = begin("thrushfield"), begin("pipit-lane")
    plan = shell("migrate", "thrushfield", "pipit-lane", "--dry-run", cwd=library)
    assert "keeps only reduced copies" in plan.out and "it is no place for the only copy" in plan.out
    receipt = shell("migrate", "thrushfield", "pipit-lane", "--yes", "--prove", "all", "--json", cwd=library).json
    assert receipt["balanced"] and kept(receipt) == {"arrived, and proven": 96 + 0}
    reduced = [one["name"] for one in receipt["findings"] if "reduced" in one["what"]]
    assert len(reduced) == 95
    held = {
        item["ref"]: item for item in json.loads((field.folder / "account.json").read_text())["items"] if item["files"]
    }
    arrived = taken(lane)
    assert len(arrived) == len(held) == 96
    assert sorted(item["shutter_utc"] for item in arrived) == sorted(item["shutter_utc"] for item in held.values())
    assert {item["text"] for item in arrived} == {item["text"] for item in held.values()}
    # Reduced copies are no copies of the originals.
    asked = shell("erasable", "--account", "thrushfield", "--json", cwd=library, code=1).json
    assert {item["copies_held"] for item in asked["items"]} == {0}


def test_from_a_flat_service_into_folders_and_home_again(shell: Shell, library: Path, begin: Begin) -> None:
    """Albums become lists, fields sidecars; and what comes home from the folders knows all that the flat service knew."""
    field, wharf = begin("thrushfield"), begin("stonewharf")
    receipt = shell("migrate", "thrushfield", "stonewharf", "--into", "Moved", "--yes", "--json", cwd=library).json
    assert kept(receipt) == {"arrived, and proven": 96}
    moved = wharf.folder / "tree/Moved"
    sources = sorted(digest(path) for path in (field.folder / "items").iterdir())
    pictures = [path for path in moved.rglob("*") if path.suffix in (".jpg", ".mp4")]
    assert sorted(map(digest, pictures)) == sources
    for album in json.loads((field.folder / "truth.json").read_text())["albums"]:
        assert (moved / "albums" / f"{re.sub('[:]', '_', album)}.csv").is_file()
    assert not [path for path in moved.rglob("*") if path.name.startswith(".bm-")]
    shell("fetch", "stonewharf", "--folder", "Moved", "--json", cwd=library)
    account = json.loads((field.folder / "account.json").read_text())
    items, titles = account["items"], {label["ref"]: label["title"] for label in account["labels"]}
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        for one in json.loads((field.folder / "truth.json").read_text())["frames"]:
            if not one["files"]:
                continue
            frame, *row = db.execute(
                "SELECT r.id, title, caption, location, favourite FROM frames r JOIN files f ON f.frame = r.id"
                " WHERE f.sha256 = ?",
                (one["files"][0]["sha256"],),
            ).fetchone()
            wanted = next(item for item in items if item["ref"] == one["ref"])
            assert row == [wanted["heading"], wanted["text"], wanted["spot_name"], wanted["heart"]], one["ref"]
            told = {
                value
                for (value,) in db.execute("SELECT value FROM claims WHERE frame = ? AND field = 'keyword'", (frame,))
            }
            assert told == set(wanted["subjects"])
            albums = db.execute("SELECT title FROM album_frames JOIN albums ON id = album WHERE frame = ?", (frame,))
            assert {title for (title,) in albums} == {titles[label] for label in wanted["labels"]}
        rows = db.execute(
            "SELECT sha256 FROM album_frames JOIN albums a ON a.id = album JOIN files USING (frame) WHERE a.title = ?"
            " AND role = 'original' ORDER BY position",
            ("Lantern nights",),
        )
        found = [sha256 for (sha256,) in rows]
        assert found == [one["files"][0]["sha256"] for one in items if "L-02" in one["labels"]]


def test_from_the_library_a_selection(shell: Shell, library: Path, begin: Begin) -> None:
    wharf = begin("stonewharf")
    shell("fetch", "stonewharf", cwd=library)
    barrow, field = begin("coldbarrow"), begin("thrushfield", more=("--dialect", "thrushfield"))
    shell("album", "make", "Owls", "--keyword", "owls", cwd=library)
    receipt = shell(
        "migrate", "library", "coldbarrow", "--keyword", "owls", "--into", "sent", "--yes", "--json", cwd=library
    ).json
    owls = kept(receipt)["arrived, and proven"]
    with sqlite3.connect(barrow.folder / "objects.sqlite") as db:
        keys = {row[0]: row[1] for row in db.execute("SELECT key, blob FROM objects WHERE key LIKE 'sent/%'")}
    for key, blob in keys.items():
        if not key.startswith("sent/albums/"):
            assert (barrow.folder / "blobs" / blob).read_bytes() == (
                library / "pictures" / key.removeprefix("sent/")
            ).read_bytes()
    assert owls == 6 and "sent/albums/Owls.csv" in keys

    # An album that is new, and one that has changed: their lists are put right, and nothing else is sent.
    def lists() -> dict[str, int]:
        with sqlite3.connect(barrow.folder / "objects.sqlite") as db:
            rows = db.execute("SELECT key, blob FROM objects WHERE key LIKE 'sent/albums/%'").fetchall()
        return {key: (barrow.folder / "blobs" / blob).read_text().count("\n") - 1 for key, blob in rows}

    shell("album", "make", "Later", "--keyword", "owls", cwd=library)
    shell("album", "take", "Owls", "--frame", Path(next(key for key in keys if key.endswith(".jpg"))).name, cwd=library)
    move = ("migrate", "library", "coldbarrow", "--keyword", "owls", "--into", "sent", "--yes")
    assert kept(shell(*move, "--json", cwd=library).json) == {"arrived, and proven": 6}  # sidecars say albums, too
    assert lists() == {"sent/albums/Owls.csv": 5, "sent/albums/Later.csv": 6}
    assert "Nothing to do: 6 frames arrived before" in shell(*move, cwd=library).out
    # Somebody else's file stays as it is; what should have its name is told.
    words = next(key for key in keys if key.endswith(".xmp"))
    theirs = wharf.folder / "tree" / words
    theirs.parent.mkdir(parents=True)
    theirs.write_text("another program's")
    told = shell(
        "migrate", "library", "stonewharf", "--keyword", "owls", "--into", "sent", "--yes", "--json", cwd=library
    ).json
    assert theirs.read_text() == "another program's" and kept(told)["arrived, and proven"] == owls
    (beside,) = (one["what"] for one in told["findings"])
    name = re.fullmatch(f"its sidecar is (.*) there, as another file is {re.escape(theirs.name)}", beside)
    assert (
        name
        and (theirs.parent / name[1]).read_bytes() == (library / "pictures" / words.removeprefix("sent/")).read_bytes()
    )
    # Once more, with another command: what is there already is not sent twice.
    shell("migrate", "library", "thrushfield", "--keyword", "owls", "--yes", "--json", cwd=library)
    # A text that came home with the pictures is not taken there, and named.
    more = shell("migrate", "library", "thrushfield", "--yes", "--json", cwd=library, code=1).json
    assert kept(more)["lay there already"] == 6 and len(taken(field)) == len(truth(wharf))
    shell("album", "make", "Latest", "--keyword", "owls", cwd=library)
    albums = shell("migrate", "library", "thrushfield", "--yes", "--json", cwd=library, code=1).json
    assert kept(albums) == {"arrived and proven before": len(truth(wharf)) - 6, "lay there already": 6}
    labels = {one["title"]: len(one["members"]) for one in json.loads((field.folder / "labels.json").read_text())}
    assert labels["Latest"] == 6 and len(taken(field)) == len(truth(wharf))
    assert shell("migrate", "library", "thrushfield", "--yes", "--json", cwd=library).json["nothing_to_do"]


def test_a_transfer_that_is_killed_goes_on(shell: Shell, library: Path, begin: Begin) -> None:
    """Nothing is lost, nothing comes twice, nothing stays half: killed at several moments, then run to its end."""
    begin("stonewharf")
    field = begin("thrushfield", more=("--dialect", "thrushfield"))
    begin("coldbarrow")
    for destination, more in (("thrushfield", ()), ("coldbarrow", ("--into", "moved"))):
        command = shell.command("migrate", "stonewharf", destination, "--yes", *more)
        for pause in (0.7, 1.0, 1.2, 1.4):
            process = subprocess.Popen(
                command, cwd=library, env=shell.environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
            )
            time.sleep(pause)
            process.send_signal(signal.SIGKILL)
            process.wait()
        shell("migrate", "stonewharf", destination, "--yes", *more, "--json", cwd=library, code=None)
        assert shell("transfer", "show", "--json", cwd=library).json["state"] == "proven"
    names = [item["filename"] for item in taken(field)]
    assert len(names) == len(set(names)) == 49
    told = shell("compare", "stonewharf", "coldbarrow/moved", "--read", "--json", cwd=library).json
    assert {one["state"]: one["files"] for one in told["compared"]}["same"] == 82


def test_once_more_brings_what_is_new_and_what_has_gone(shell: Shell, library: Path, begin: Begin) -> None:
    """Sidecars that came or changed at the source are sent alone; what is gone at the destination comes again; nobody's words
    are replaced there.
    """
    wharf, other = begin("stonewharf"), begin("stonewharf", name="other")
    move = ("migrate", "stonewharf", "other", "--folder", "Work", "--into", "Moved", "--yes", "--json")
    first = shell(*move, cwd=library).json
    source, moved = wharf.folder / "tree/Work", other.folder / "tree/Moved"
    pictures = [path for path in sorted(source.rglob("*.jpg")) if len(list(path.parent.glob(f"{path.stem}.*"))) == 2]
    new, changed, both, gone, theirs = pictures[:5]
    there = {path: moved / path.relative_to(source) for path in pictures}
    kept_there = {path: path.stat().st_ctime_ns for path in moved.rglob("*.jpg")}

    def beside(path: Path) -> Path:
        return path.with_name(path.name + ".xmp")

    words = beside(new).read_bytes()
    new.with_suffix(".xmp").write_bytes(words)
    beside(changed).write_bytes(words + b"<!-- changed -->")
    beside(both).write_bytes(words + b"<!-- changed here -->")
    beside(there[both]).write_bytes(b"changed there")
    there[gone].unlink()
    there[theirs].write_bytes(b"somebody else's")
    plan = shell(*move[:-2], "--dry-run", "--json", cwd=library).json["to_send"]
    whole = gone.stat().st_size + theirs.stat().st_size
    assert (plan["frames"], plan["files"]) == (5, 3 + 2 + 2) and plan["bytes"] < whole + 60_000
    again = shell(*move, cwd=library).json
    assert again["balanced"] and kept(again)["arrived, and proven"] == 5
    assert kept(again)["arrived and proven before"] == kept(first)["arrived, and proven"] - 5
    assert there[new].with_suffix(".xmp").read_bytes() == words
    assert beside(there[changed]).read_bytes() == beside(changed).read_bytes()
    assert beside(there[both]).read_bytes() == b"changed there"
    told = {one["name"]: one["what"] for one in again["findings"]}
    (sidecar,) = (what for what in told.values() if f"as another file is {beside(both).name}" in what)
    ours = there[both].with_name(sidecar.split()[3])
    assert ours.read_bytes() == beside(both).read_bytes() and there[gone].read_bytes() == gone.read_bytes()
    (renamed,) = (what for what in told.values() if what.startswith("it is called "))
    assert there[theirs].read_bytes() == b"somebody else's"
    assert there[theirs].with_name(renamed.split()[3]).read_bytes() == theirs.read_bytes()
    untouched = kept_there.keys() - {there[gone], there[theirs]}
    assert {path: path.stat().st_ctime_ns for path in untouched} == {path: kept_there[path] for path in untouched}
    assert shell(*move, cwd=library).json["nothing_to_do"]
    # What is said of a picture there since it arrived is somebody's own word: it is told, and stays.
    beside(there[new]).write_bytes(b"said there")
    beside(changed).write_bytes(words)
    last = shell(*move, cwd=library).json
    assert [one["what"] for one in last["findings"] if one["name"].endswith(new.name)] == [
        "somebody has changed its sidecar there since it arrived"
    ]
    assert beside(there[new]).read_bytes() == b"said there" and beside(there[changed]).read_bytes() == words


def test_one_is_stopped_and_watched_from_elsewhere(shell: Shell, library: Path, begin: Begin) -> None:
    begin("stonewharf")
    begin("thrushfield", "--fault", "slow=0.2", more=("--dialect", "thrushfield"))
    process = subprocess.Popen(
        shell.command("migrate", "stonewharf", "thrushfield", "--yes"), cwd=library, env=shell.environment, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    for _ in range(100):
        time.sleep(0.1)
        listed = shell("transfer", "list", "--json", cwd=library).json["transfers"]
        if listed and listed[0]["state"] == "under way" and listed[0]["frames_done"] > 2:
            break
    busy = shell("migrate", "stonewharf", "thrushfield", "--yes", cwd=library, code=3)
    assert "goes on already" in busy.err and "transfer stop move-1" in busy.err
    assert "was asked to stop" in shell("transfer", "stop", cwd=library).out
    _, said = process.communicate(timeout=60)
    assert process.returncode == 3 and "Stopped" in said and "Go on with the same command" in said
    far = shell("transfer", "show", "--json", cwd=library).json
    assert far["state"] == "stopped" and 0 < far["frames_done"] < 49
    assert "nothing to stop" in shell("transfer", "stop", cwd=library).out


@pytest.mark.parametrize(
    ("faults", "words", "arrived"),
    [
        (("--fault", "refuse=10"), "this picture is not to the service's liking", 45),
        (("--fault", "swap=1"), "it did not arrive as it was sent", 48),
        (("--fault", "cut=1"), "it did not arrive as it was sent", 48),
        (("--fault", "lose_frame=3"), "", 49),
        (("--busy", "5"), "", 49),
    ],
)
def test_a_destination_that_is_not_well(
    shell: Shell, library: Path, begin: Begin, faults: tuple[str, ...], words: str, arrived: int
) -> None:
    begin("stonewharf")
    field = begin("thrushfield", *faults, more=("--dialect", "thrushfield"))
    receipt = shell("migrate", "stonewharf", "thrushfield", "--yes", "--json", cwd=library, code=1).json
    assert receipt["balanced"] and sum(kept(receipt).values()) == arrived
    amiss = [line for line in left(receipt) if "who-is-who" not in line]
    assert len(amiss) == 49 - arrived and all(words in line for line in amiss)
    refs = [item["filename"] for item in taken(field)]
    assert len(refs) == len(set(refs))


def test_folders_that_are_not_well(shell: Shell, library: Path, begin: Begin) -> None:
    begin("coldbarrow")
    wharf = begin("stonewharf", "--busy", "3", "--drop", "2", "--flip", "2", "--fault", "stump=3")
    receipt = shell(
        "migrate", "coldbarrow", "stonewharf", "--into", "Moved", "--yes", "--prove", "all", "--json", cwd=library
    ).json
    assert receipt["balanced"] and kept(receipt)["arrived, and proven"] == 21
    moved = [path for path in (wharf.folder / "tree/Moved").rglob("*") if path.is_file()]
    assert len(moved) == 42 and not [path for path in moved if path.name.startswith(".bm-")]


def test_a_store_that_loses_and_rots(shell: Shell, library: Path, begin: Begin) -> None:
    """It says that it has all: the list tells what is lost, and fetching back what is rotten; the next run sends those again."""
    wharf = begin("stonewharf")
    barrow = begin("coldbarrow", "--fault", "lost=2", "--fault", "rot=2", "--fault", "late=0")
    move = ("migrate", "stonewharf", "coldbarrow", "--into", "moved", "--yes", "--prove", "all", "--json")
    first = shell(*move, cwd=library, code=1).json
    assert (
        first["balanced"]
        and 1 <= len(left(first)) <= 4
        and all("did not arrive as it was sent" in line for line in left(first))
    )
    again = shell(*move, cwd=library).json
    assert again["balanced"] and not left(again) and sum(kept(again).values()) == 49
    with sqlite3.connect(barrow.folder / "objects.sqlite") as db:
        held = {
            key: digest(barrow.folder / "blobs" / blob) for key, blob in db.execute("SELECT key, blob FROM objects")
        }
    assert {one["path"]: one["sha256"] for one in truth(wharf)} == {
        one["path"]: held[f"moved/{one['path']}"] for one in truth(wharf)
    }


def test_a_list_that_lags_and_a_source_that_changes(shell: Shell, library: Path, begin: Begin) -> None:
    wharf = begin("stonewharf")
    begin("coldbarrow", "--fault", "late=60")
    receipt = shell("migrate", "stonewharf", "coldbarrow", "--into", "moved", "--yes", "--json", cwd=library).json
    assert kept(receipt)["arrived, and proven"] == 49 and not left(receipt)

    # While frames are sent, one becomes another one and one goes: both are named, and the next run takes what is there then.
    field = begin("thrushfield", "--fault", "slow=0.2", more=("--dialect", "thrushfield"))
    process = subprocess.Popen(
        shell.command("migrate", "stonewharf", "thrushfield", "--yes", "--json"), cwd=library, env=shell.environment, text=True,
        stdout=subprocess.PIPE,
    )  # fmt: skip
    while len(taken(field)) < 2:
        time.sleep(0.05)
    place = wharf.folder / "tree/Work/Chapel roofers"
    (place / "KW4094.jpg").write_bytes((place / "KW4094.jpg").read_bytes() + b"changed")
    (place / "KW4092.jpg").unlink()
    told = process.communicate(timeout=120)[0]
    reasons = " ".join(left(json.loads(told)))
    assert "KW4094.jpg has changed since it was listed" in reasons and "KW4092.jpg is not there any more" in reasons
    again = shell("migrate", "stonewharf", "thrushfield", "--yes", "--json", cwd=library, code=1).json
    assert sum(kept(again).values()) == 48 and len(taken(field)) == 48


def test_a_quota_is_asked_before_and_may_fill_on_the_way(shell: Shell, library: Path, begin: Begin) -> None:
    begin("coldbarrow")
    begin("stonewharf", "--fault", "quota=4500000")
    full = shell("migrate", "coldbarrow", "stonewharf", "--into", "Moved", "--yes", cwd=library, code=3)
    assert "has room for" in full.err and "Make room there" in full.err
    # It takes so many a day: that is said, with when to come back, and the rest waits.
    limited = begin("thrushfield", "--fault", "daily=5", name="limited", more=("--dialect", "thrushfield"))
    ended = shell("migrate", "coldbarrow", "limited", "--yes", "--patience", "2", cwd=library, code=3)
    assert "asks to come back in 86400 s" in ended.err and len(taken(limited)) == 5
    # The room goes while it is sent to: somebody else fills it.
    field = begin("thrushfield", "--fault", "fills=1", more=("--dialect", "thrushfield"))
    ended = shell("migrate", "coldbarrow", "thrushfield", "--yes", cwd=library, code=3)
    assert "is full: it takes no more" in ended.err and 0 < len(taken(field)) < 21
    assert shell("transfer", "show", "--json", cwd=library).json["state"] == "stopped"


def test_by_the_route_that_makes_no_folders(shell: Shell, library: Path, begin: Begin) -> None:
    wharf = begin("stonewharf")
    web = wharf.where["url"].replace("/desk/", "/web/")
    shell(
        "service", "add", "web", web, "--kind", "folders", "--user", "keeper", "--token-file", wharf.secret, cwd=library
    )
    can = {
        one["power"]: one["is_there"] for one in shell("service", "powers", "web", "--json", cwd=library).json["powers"]
    }
    assert not can["make folders"] and not can["move files"]
    begin("coldbarrow")
    receipt = shell("migrate", "coldbarrow", "web", "--yes", "--json", cwd=library, code=3)
    assert "it makes no folder" in shell("migrate", "coldbarrow", "web", "--yes", cwd=library, code=3).err
    assert receipt.code == 3 and not (wharf.folder / "tree/put-by").exists()


def test_parts_that_were_delivered_to_a_place_of_ones_own(shell: Shell, library: Path, begin: Begin) -> None:
    wharf = begin("stonewharf", "--drop", "1")
    begin("thrushfield", "--delivers", f"wharf={wharf.folder / 'tree/Exports'}", more=("--dialect", "thrushfield"))
    assert "no place called cellar" in shell("order", "thrushfield", "--deliver", "cellar", cwd=library, code=3).err
    order = shell("order", "thrushfield", "--size", "3MB", "--deliver", "wharf", "--json", cwd=library).json["order"]
    assert "Say where they lie" in shell("collect", cwd=library, code=2).err
    shell("collect", "--at", f"stonewharf/Exports/{order}", cwd=library)
    receipt = shell("unpack", "--json", cwd=library).json
    assert receipt["balanced"] and kept(receipt)["new in the library"] == 96


def _approve(address: str, code: str, allow: str) -> None:
    form = urllib.parse.urlencode({"code": code, "allow": allow}).encode()
    urllib.request.urlopen(f"{address}/device", form, timeout=10).close()


def test_signing_in_with_a_code(shell: Shell, library: Path) -> None:
    with standing_in("thrushfield", shell.folder / "thrushfield", "--sign-in", "6") as field:
        address = field.where["url"]

        def sign_in(*command: str, allow: str = "yes") -> tuple[int, str]:
            process = subprocess.Popen(
                shell.command(*command),
                cwd=library,
                env=shell.environment,
                text=True,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
            )
            assert process.stderr is not None
            line = process.stderr.readline()
            _approve(address, line.rpartition(" ")[2].strip(), allow)
            _, rest = process.communicate(timeout=60)
            return process.returncode, rest

        assert sign_in("service", "add", "thrushfield", address, "--code")[0] == 0
        assert shell("service", "list", "--json", cwd=library).json["services"][0]["signed_in"] == "to look and export"
        time.sleep(6)  # the access has lapsed: it is renewed, and the former refresh token is worth nothing
        kept_before = (shell.folder / "tokens.json").read_text()
        assert shell("service", "survey", "--json", cwd=library).json["frames"] == 97
        assert (shell.folder / "tokens.json").read_text() != kept_before

        # What is signed in for looking only cannot send; what was told no is not signed in.
        begun = shell("migrate", "thrushfield", "thrushfield", "--yes", cwd=library, code=2)
        assert "would be moved to itself" in begun.err
        code, said = sign_in("service", "sign-in", "thrushfield", "--may-send", allow="no")
        assert code == 3 and "was told no" in said
        assert sign_in("service", "sign-in", "thrushfield", "--may-send")[0] == 0
        assert shell("service", "list", "--json", cwd=library).json["services"][0]["signed_in"] == "to send, too"

        # Taken back at the service by somebody else: one sentence, and the way on.
        signed = json.loads((field.folder / "signed-in.json").read_text())
        for token in signed:
            form = urllib.parse.urlencode({"token": token}).encode()
            urllib.request.urlopen(f"{address}/revoke", form, timeout=10).close()
        lapsed = shell("service", "survey", cwd=library, code=3)
        assert "has lapsed, or was revoked" in lapsed.err and "service sign-in thrushfield" in lapsed.err
        assert not any(token in lapsed.err for token in signed)
        assert shell("service", "sign-out", "--json", cwd=library).json["signed_out"]
        assert "No token" in shell("service", "survey", cwd=library, code=3).err


def test_a_sign_in_that_lapses_on_the_way(shell: Shell, library: Path, begin: Begin) -> None:
    begin("coldbarrow")
    field = begin("thrushfield", "--fault", "lapses=1", more=("--dialect", "thrushfield"))
    lapsed = shell("migrate", "coldbarrow", "thrushfield", "--yes", cwd=library, code=3)
    assert "refuses the token" in lapsed.err and 0 < len(taken(field)) < 21
    with standing_in("thrushfield", shell.folder / "thrushfield") as again:
        again.add(shell, "thrushfield", library, "--dialect", "thrushfield")
        receipt = shell("migrate", "coldbarrow", "thrushfield", "--yes", "--json", cwd=library, code=1).json
        assert sum(kept(receipt).values()) == 21 and len(taken(again)) == 21


def test_only_a_trusted_certificate_is_spoken_to(shell: Shell, library: Path) -> None:
    """A certificate of nobody known, one that is trusted by the user, and one of another host."""
    import threading

    import trustme
    from cheroot import wsgi
    from cheroot.ssl.builtin import BuiltinSSLAdapter

    from bramblemoor.standins.stonewharf import DavFaults, Stonewharf
    from conftest import drawn

    authority = trustme.CA()
    authority.cert_pem.write_to_path(shell.folder / "authority.pem")
    for host, reached in (("localhost", True), ("other.example", False)):
        served = authority.issue_cert(host)
        served.private_key_pem.write_to_path(shell.folder / "key.pem")
        (shell.folder / "cert.pem").write_bytes(b"".join(one.bytes() for one in served.cert_chain_pems))
        server = wsgi.Server(("127.0.0.1", 0), Stonewharf(drawn("stonewharf"), "sesame", DavFaults()))
        server.ssl_adapter = BuiltinSSLAdapter(str(shell.folder / "cert.pem"), str(shell.folder / "key.pem"))
        server.prepare()
        threading.Thread(target=server.serve, daemon=True).start()
        try:
            address = f"https://localhost:{server.socket.getsockname()[1]}/desk/"
            (shell.folder / "secret.txt").write_text("sesame\n")
            command = ("service", "add", "wharf", address, "--kind", "folders", "--user", "keeper", "--token-file",
                       str(shell.folder / "secret.txt"), "--patience", "2")  # fmt: skip
            if reached:
                refused = shell(*command, cwd=library, code=3)
                assert "is not trusted here" in refused.err and "--authority FILE" in refused.err
                shell(*command, "--authority", shell.folder / "authority.pem", cwd=library)
                assert shell("service", "survey", "wharf", "--json", cwd=library).json["frames"] == 49
            else:
                refused = shell(*command, "--authority", shell.folder / "authority.pem", cwd=library, code=3)
                assert "is of another host" in refused.err
        finally:
            server.stop()
