"""Exports of very many small files: helpers do most of the work, and must neither change it, nor outlive the run."""

import hashlib
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import time
from contextlib import suppress
from pathlib import Path

import pytest

from bench import make_small_parcel, with_children
from bramblemoor.depots.standing.tally import settle, settle_apart, unsettle_all
from bramblemoor.errors import NotPossible, PartsAmiss
from bramblemoor.library.clock import DAY
from bramblemoor.library.home import Library
from bramblemoor.processes import Helpers
from conftest import Shell, others_read, pictures

ENTRIES = 4000
_TOLD = """
    SELECT r.folder, r.name, r.shown, r.title, r.reference, c.field, c.source, c.value, c.told FROM frames r
    JOIN claims c ON c.frame = r.id ORDER BY r.folder, r.name, c.rowid
"""
_FOUND = "SELECT path, role, bytes, sha256, mtime_ns, width FROM files WHERE frame NOT NULL ORDER BY path"


def _state(library: Path) -> tuple[object, ...]:
    """All pictures and sidecars, as they lie there, and what the ledger says of them."""
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        told = [db.execute(query).fetchall() for query in (_TOLD, _FOUND)]
        words = db.execute("SELECT count(*) FROM words WHERE words MATCH 'picture'").fetchone()
    there = {
        str(path.relative_to(library)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in (library / "pictures").rglob("*")
        if path.is_file()
    }
    return told, words, there


@pytest.mark.skipif(not Path("/proc/self/task").is_dir(), reason="tells processes by /proc")
def test_a_killed_run_takes_its_helpers_with_it_and_is_gone_on_with(shell: Shell, tmp_path: Path) -> None:
    make_small_parcel(tmp_path / "small", ENTRIES)
    libraries = {}
    for name, until in (
        ("whole", ""),
        ("extracting", "incoming/*/*/staging/delivered-2-*"),
        ("entering", "pictures/*/*/*.xmp"),
    ):
        shell("new", name)
        library = libraries[name] = tmp_path / name
        if until:
            run = subprocess.Popen(
                shell.command("--library", name, "unpack", "--from", "small"), cwd=tmp_path, env=shell.environment,
                stdout=subprocess.DEVNULL,
            )  # fmt: skip
            while next(library.glob(until), None) is None:
                assert run.poll() is None, "it was over before it could be killed"
                time.sleep(0.02)
            helpers = [one for one in with_children(run.pid) if one != run.pid]
            assert len(helpers) >= 2, "no helpers were at work"
            run.send_signal(signal.SIGKILL)
            run.wait()
            deadline = time.monotonic() + 10
            while any(Path(f"/proc/{one}/stat").is_file() and _is_alive(one) for one in helpers):
                assert time.monotonic() < deadline, "helpers have outlived their run"
                time.sleep(0.05)
        receipt = shell("--library", name, "unpack", "--from", "small", "--json").json
        assert receipt["balanced"] and receipt["came_in"]["frames"] == ENTRIES // 2, receipt
    states = {name: _state(library) for name, library in libraries.items()}
    assert len(states["whole"][2]) == ENTRIES, "a picture and a sidecar each"  # type: ignore[arg-type]
    assert states["extracting"] == states["whole"]
    assert states["entering"] == states["whole"]


def _is_alive(process: int) -> bool:
    with suppress(OSError):
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    return False


def _square(number: int) -> int:
    if number == 70:
        raise PartsAmiss("Part 70 is damaged.", "Get it anew.", ["a line"])
    if number == 90:
        os.kill(os.getpid(), signal.SIGKILL)
    return number * number


def test_what_helpers_return_comes_in_order_and_what_fails_there_is_told_here() -> None:
    with Helpers() as helping:
        assert list(helping.map(_square, range(60))) == [number * number for number in range(60)]
    with Helpers() as helping, pytest.raises(PartsAmiss) as told:
        list(helping.map(_square, range(80)))
    assert (told.value.happened, told.value.remedy, told.value.named) == (
        "Part 70 is damaged.",
        "Get it anew.",
        ["a line"],
    )
    with Helpers() as helping, pytest.raises(NotPossible, match="ended from outside"):
        list(helping.map(_square, range(71, 120)))


@pytest.mark.skipif(not Path("/proc/self/task").is_dir(), reason="tells processes by /proc")
def test_an_impatient_ctrl_c_ends_a_run_with_helpers(shell: Shell, tmp_path: Path) -> None:
    make_small_parcel(tmp_path / "small", ENTRIES)
    shell("new", "library")
    for helpers in (1, 2):  # while they are begun, and while they work
        run = subprocess.Popen(
            shell.command("--library", "library", "unpack", "--from", "small"), cwd=tmp_path, env=shell.environment,
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # tests in the background ignore it
        )  # fmt: skip
        while len(list(with_children(run.pid))) < 2 + helpers:
            assert run.poll() is None, "it was over before it could be interrupted"
            time.sleep(0.005)
        for _ in range(3):
            run.send_signal(signal.SIGINT)
            time.sleep(0.02)
        told = run.communicate(timeout=60)[1]
        assert run.returncode == 130 and told.startswith("Interrupted") and len(told.splitlines()) == 2, told
    shell("--library", "library", "unpack", "--from", "small")


def test_standings_are_the_same_whoever_weighs_them(
    shell: Shell, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shell("new", "library")
    library = Library(tmp_path / "library")
    states = ("proven", "proven", "cached", "written", "damaged", "missing")
    draw = random.Random(20)
    with library.ledger.changing() as db:
        for number in (1, 2):
            db.execute(
                "INSERT INTO depots (number, id, name, kind, site, medium, whereabouts, device, added)"
                " VALUES (?1, ?1, ?1, '', '', '', '', '', '')", (number,),
            )  # fmt: skip
        for number in range(1, 1201):
            db.execute(
                "INSERT INTO frames (id, folder, name, kind, year) VALUES (?1, '', ?1, '', 2000 + ?1 % 9)", (number,)
            )
        for number in range(1, 3001):
            db.execute(
                "INSERT INTO files (id, frame, role, path, collision, bytes, sha256, mtime_ns, read_at)"
                " VALUES (?1, ?2, '', ?1, ?1, 1, ?1, 0, ?3)",
                (number, number % 1500 if 0 < number % 1500 <= 1200 else None, draw.choice((None, DAY * 20_000))),
            )  # fmt: skip
            for depot in range(3):
                if draw.random() < 0.8:
                    state = draw.choice(states) if depot else draw.choice(("freed", "missing", "damaged"))
                    old = draw.choice((None, None, None, "old"))
                    db.execute(
                        "INSERT INTO copies VALUES (?, ?, ?, ?, ?, NULL)",
                        (depot, number, state, DAY * (20_000 + draw.randrange(3)), old if depot else None),
                    )
        settle(db)
    alone = _standings(library)
    assert len(alone) == 1200 + 3000 - 2400 and len({held for _, held in alone}) > 20
    monkeypatch.setattr("bramblemoor.depots.standing.tally._BATCH", 100)
    told: list[int] = []
    with library.ledger.changing() as db:
        unsettle_all(db)
    settle_apart(library, lambda stage, done, whole: told.append(done))
    assert _standings(library) == alone
    assert told[-1] == len(alone) and len(told) == 18
    assert library.db.execute("SELECT count(*) FROM unsettled").fetchone()[0] == 0


def _standings(library: Library) -> list[tuple[int, str]]:
    query = "SELECT unit, held FROM standings JOIN stands ON stands.id = stand ORDER BY unit"
    return [tuple(row) for row in library.db.execute(query)]


def _told(library: Path) -> list[tuple[object, ...]]:
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        return db.execute("SELECT * FROM claims ORDER BY frame, field, source, value").fetchall()


def _sidecars(library: Path) -> dict[str, bytes]:
    return {path: content for path, content in pictures(library).items() if path.endswith(".xmp")}


@pytest.mark.skipif(not Path("/proc/self/task").is_dir(), reason="tells processes by /proc")
def test_what_is_told_of_many_is_told_as_of_each_alone(shell: Shell, tmp_path: Path) -> None:
    """By helpers, with edits of others among them, a sidecar that cannot be read, and a kill; then all is taken back."""
    make_small_parcel(tmp_path / "small", 2600)
    shell("new", "whole")
    whole, killed = tmp_path / "whole", tmp_path / "killed"
    shell("--library", whole, "unpack", "--from", "small")
    edited, broken, alone = sorted((whole / "pictures").rglob("*.xmp"))[5:1205:500]
    shell("--library", whole, "tell", str(edited.relative_to(whole))[:-4], "--keyword", "reeds")
    text = edited.read_text().replace(">Picture", ">Theirs, picture")
    edited.write_text(re.sub(r"<dc:subject>.*</dc:subject>", "", text, flags=re.DOTALL))
    broken.write_bytes(broken.read_bytes()[:200])
    shutil.copytree(whole, killed, symlinks=True)
    before = _sidecars(whole)
    # One by itself, the rest by helpers: the same word is written the same way, and nobody else's is lost.
    shell("--library", whole, "tell", str(alone.relative_to(whole))[:-4], "--keyword", "heron")
    tell = ("tell", "*", "--keyword", "heron", "--rating", "4", "--yes")
    receipt = shell("--library", whole, *tell, "--json", code=1).json
    assert receipt["balanced"] and receipt["kept"][0]["amount"]["frames"] == 1300
    assert [one["name"] for one in receipt["findings"]] == [str(broken.relative_to(whole))]
    assert broken.read_bytes() == before[str(broken.relative_to(whole))]
    for path in (edited, alone):
        others_read(path, "heron", "<xmp:Rating>4<", *(["Theirs"] if path == edited else []), lacks=("reeds",))
    with sqlite3.connect(whole / "ledger/ledger.sqlite") as db:
        assert db.execute("SELECT count(*) FROM words WHERE words MATCH 'heron'").fetchone() == (1300,)
        assert db.execute("SELECT source FROM claims WHERE value LIKE 'Theirs%'").fetchall() == [("sidecar",)]
        assert db.execute("SELECT source FROM claims WHERE field = 'no_keyword' AND value = 'reeds'").fetchall() == [
            ("sidecar",)
        ]

    run = subprocess.Popen(
        shell.command("--library", killed, *tell), cwd=tmp_path, env=shell.environment, stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )  # fmt: skip
    first = min((killed / "pictures").rglob("*.xmp"))
    node = first.stat().st_ino
    while first.stat().st_ino == node:
        assert run.poll() is None, "it was over before it could be killed"
    run.kill()
    run.wait()
    told = _sidecars(whole)
    assert _sidecars(killed) != told
    # Whoever looks at it first finds what the run had not entered undone, and nobody's change but the editor's.
    looked = shell("--library", killed, "stocktake", code=1).out
    assert "1 file changed by others" in looked
    others_read(killed / edited.relative_to(whole), "Theirs", lacks=("heron", "reeds"))
    shell("--library", killed, *tell, code=1)
    assert _sidecars(killed) == told
    assert _told(killed) == _told(whole)
    assert "changed by others" not in shell("--library", killed, "stocktake").out
    taken = shell("--library", whole, "takeback", "--json", code=1).json
    assert taken["balanced"] and taken["kept"][0]["amount"]["frames"] == 1300
    after = _sidecars(whole)
    changed = {path for path, content in after.items() if content != before[path]}
    assert changed == {str(path.relative_to(whole)) for path in (alone, edited)}
    others_read(alone, "heron", lacks=("Rating",))
    others_read(edited, "Theirs", lacks=("Rating", "heron", "reeds"))
    assert "1 file changed by others" in shell("--library", whole, "stocktake", code=1).out
