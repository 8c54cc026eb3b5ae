"""The one way to say which frames, in every command that takes it; and telling many frames, taken back by the receipt."""

import json
import signal
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from bramblemoor.frames.claims import Field, believe
from bramblemoor.library.catalogue import believed, claims_of
from bramblemoor.library.ledger import Ledger
from conftest import Shell, as_others_read, leave_at, pictures


def found(shell: Shell, library: Path, *arguments: str) -> set[str]:
    document = shell("find", *arguments, "--most", "1000", "--json", cwd=library).json
    assert document["found"] == len(document["hits"])
    return {frame["path"] for frame in document["hits"]}


def facts(shell: Shell, library: Path, frame: str) -> dict[str, Any]:
    believed_of: dict[str, Any] = shell("show", frame, "--json", cwd=library).json["believed"]
    return believed_of


def all_facts(library: Path) -> dict[str, Any]:
    """What is believed of each frame, by the ledger's own claims."""
    ledger = Ledger(library / "ledger/ledger.sqlite", read_only=True)
    rows = ledger.db.execute("SELECT id, folder || '/' || name AS path, kind FROM frames").fetchall()
    return {row["path"]: (row["kind"], believe(claims_of(ledger.db, row["id"]))) for row in rows}


def test_each_condition_finds_what_is_believed(shell: Shell, library: Path) -> None:
    shell("tell", "ALD_0457.jpg", "--rating", "4", "--keyword", "Été", cwd=library)
    shell("tell", "KW0244.jpg", "--rating", "2", cwd=library)
    known = all_facts(library)
    whole = set(known)
    undated = {path for path, (_, told) in known.items() if told.taken is None}

    def having(condition: Any) -> set[str]:
        return {path for path, (_, told) in known.items() if condition(told)}

    assert found(shell, library) == whole
    years = {path for path in whole - undated if "/2024/" in path or "/2025/" in path}
    assert (
        found(shell, library, "--year", "2024", "--year", "2025")
        == years
        == found(shell, library, "--year", "2024-2025")
    )
    assert found(shell, library, "--year", "undated") == undated
    assert found(shell, library, "--keyword", "REEDS") == having(
        lambda told: any("reeds" in word for word in told.keywords)
    )
    assert found(shell, library, "--keyword", "ete") == {path for path in whole if path.endswith("ALD_0457.jpg")}
    assert found(shell, library, "--rating", "3") == having(lambda told: (told.rating or 0) >= 3)
    assert found(shell, library, "--favourite") == having(lambda told: told.favourite)
    assert found(shell, library, "--reduced") == having(lambda told: told.reduced)
    assert found(shell, library, "--camera", "alderholt") == having(lambda told: "Alderholt" in told.camera)
    assert found(shell, library, "--kind", "video") == {path for path, (kind, _) in known.items() if kind == "video"}
    assert found(shell, library, "--service", "thrush") == whole and not found(shell, library, "--service", "pipit")
    for what, of in (
        ("title", "title"),
        ("caption", "caption"),
        ("keyword", "keywords"),
        ("person", "people"),
        ("rating", "rating"),
    ):
        lacking = having(lambda told, of=of: getattr(told, of) in ("", (), None))
        assert found(shell, library, "--lacking", what) == lacking, what
    assert found(shell, library, "--lacking", "date") == undated
    # Of several conditions all must hold, of one any; what is excepted goes.
    both = found(shell, library, "--year", "2024", "--keyword", "reeds")
    assert both == found(shell, library, "--year", "2024") & found(shell, library, "--keyword", "reeds") and both
    assert (
        found(shell, library, "--year", "2024", "--not", "keyword=reeds")
        == found(shell, library, "--year", "2024") - both
    )
    none = found(shell, library, "--not", "year=2024", "--not", "year=undated", "--not", "keyword=reeds")
    assert none == whole - found(shell, library, "--year", "2024") - undated - found(
        shell, library, "--keyword", "reeds"
    )
    large = {path for path, content in pictures(library).items() if path in whole and len(content) >= 50_000}
    assert found(shell, library, "--at-least", "50kB") == large
    assert found(shell, library, "--shoot", "2024/**") == {path for path in whole if path.startswith("pictures/2024/")}


def test_believed_values_in_sql_are_those_of_the_rule(library: Path, shell: Shell) -> None:
    shell("tell", "ALD_0457.jpg", "--rating", "4", "--title", "One", cwd=library)
    shell("tell", "ALD_0457.jpg", "--rating", "1", "--title", "Two", cwd=library)
    ledger = Ledger(library / "ledger/ledger.sqlite", read_only=True)
    fields: tuple[Field, ...] = ("rating", "camera", "lens", "title")
    for field in fields:
        for row in ledger.db.execute(f"SELECT id, {believed(field)} AS value FROM frames r").fetchall():
            value = getattr(believe(claims_of(ledger.db, row["id"])), field)
            assert (row["value"] or "") == ("" if value is None else str(value))


def test_the_same_frames_in_every_command(shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path) -> None:
    choice = ("--keyword", "reeds", "--year", "2024", "--not", "rating=5")
    wanted = found(shell, library, *choice)
    assert 3 < len(wanted) < 60
    said = "frames of 2024 with the keyword reeds but not those rated 5 or more"
    assert f"{len(wanted)} {said} in" in shell("find", *choice, cwd=library).out
    listed = shell("find", *choice, "--paths", cwd=library).out
    assert set(listed.splitlines()) == wanted
    assert shell("find", *choice, "--paths", cwd=library, COLUMNS="20").out.splitlines() == listed.splitlines()
    first = shell("find", *choice, "--paths", "--most", "3", cwd=library).out
    assert first.splitlines() == listed.splitlines()[:3]
    (tmp_path / "list.txt").write_text(listed)
    assert found(shell, library, "--frames-from", str(tmp_path / "list.txt")) == wanted
    shell("backup", cwd=library)
    weighed = shell("standing", *choice, "--json", cwd=library).json
    assert weighed["frames"] == len(wanted) and weighed["safe"] and weighed["of"]["keywords"] == ["reeds"]
    assert f"These are safe: all {len(wanted)} {said}" in shell("standing", *choice, cwd=library).out
    read = shell("verify", "heron", *choice, "--json", cwd=library).json["came_in"]
    assert read["frames"] == len(wanted) and read["files"] >= len(wanted)
    shell("restore", tmp_path / "some", *choice, cwd=library)
    assert {path for path in pictures(tmp_path / "some") if not path.endswith(".xmp")} >= wanted
    assert {Path(path).stem.partition(".")[0] for path in pictures(tmp_path / "some")} == {
        Path(path).stem for path in wanted
    }
    packed = shell("pack", tmp_path / "away", "--dry-run", "--json", *choice, cwd=library).json
    assert packed["frames"] == len(wanted)
    # A depot gets just these, and what belongs to no frame.
    (tmp_path / "small").mkdir()
    made = shell(
        "depot", "add", "small", tmp_path / "small", "--site", "cottage", "--medium", "usb", "--yes", *choice, cwd=library
    )  # fmt: skip
    assert f"It gets: {said}." in made.out
    shell("backup", "small", cwd=library)
    held = {path for path in pictures(tmp_path / "small/data") if path in found(shell, library)}
    assert held == wanted
    shell("depot", "change", "small", "--keyword", "", "--year", "", "--not", "", "--album", "fair", cwd=library)
    assert "in albums like fair" in shell("depot", "list", cwd=library).out


@pytest.mark.parametrize(
    ("arguments", "happened", "remedy"),
    [
        (
            ("find", "--frame", "[A]*"),
            "No frame fits '[A]*'. Brackets in a glob stand for themselves.",
            "bramblemoor find",
        ),
        (("find", "--frame", "ALD_0457.jpgg"), "No frame is called 'ALD_0457.jpgg' here.", "ALD_0457.jpg"),
        (("find", "--year", "20x4"), "'20x4' is no year.", "2015-2019"),
        (("find", "--since", "2025", "--until", "2024"), "Nothing lies between 2025 and 2024.", "earlier date"),
        (("find", "--rating", "9"), "'9' is no rating.", "1 to 5"),
        (("find", "--lacking", "hat"), "A frame cannot lack 'hat'.", "title, caption"),
        (("find", "--not", "keyword"), "--not cannot take 'keyword'.", "keyword=TEXT"),
        (("find", "--not", "hat=red"), "--not cannot take 'hat=red'.", "keyword=TEXT"),
        (("tell", "--title", "x"), "No frame was named.", "--where"),
        (("tell", "--where", "year=1901", "--title", "x"), "There are no frames of 1901.", "bramblemoor find"),
        (("tell", "*", "--title", "x"), "That would be told of 96 frames; nothing was done.", "--yes"),
        (("standing", "--year", "1901"), "There are no frames of 1901.", "bramblemoor find"),
        (("takeback", "1"), "Receipt 1 is of a run that cannot be taken back: unpack.", "Nothing was told yet"),
        (("takeback", "99"), "There is no receipt 99.", "There are 1"),
        (("unsay", "*", "--keyword", "hat", "--yes"), "None of 96 frames called * has the keyword 'hat'.", "Nothing"),
    ],
)
def test_what_cannot_be_meant_is_said(
    shell: Shell, library: Path, arguments: tuple[str, ...], happened: str, remedy: str
) -> None:
    told = shell(*arguments, cwd=library, code=2).err.splitlines()
    assert told[-2] == happened and remedy in told[-1], told
    with closing(sqlite3.connect(library / "ledger/ledger.sqlite")) as db:
        assert db.execute("SELECT count(*) FROM claims WHERE source = 'you'").fetchone() == (0,)


def test_a_list_with_names_that_nobody_has_changes_nothing(shell: Shell, library: Path) -> None:
    names = "pictures/nope.jpg\r\n\nALD_0457.jpg\nneither.jpg\n"
    done = subprocess.run(
        shell.command("tell", "--frames-from", "-", "--title", "Fog", "--yes"), cwd=library, env=shell.environment,
        input=names, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert (
        done.returncode == 2
        and "2 of the 3 names are no frame's here: 'pictures/nope.jpg', 'neither.jpg'." in done.stderr
    )
    assert facts(shell, library, "ALD_0457.jpg")["title"] != "Fog"


def test_a_long_list_may_be_of_bare_names(shell: Shell, library: Path, tmp_path: Path) -> None:
    paths = found(shell, library)
    names = [Path(path).name.swapcase() if number % 2 else Path(path).name for number, path in enumerate(sorted(paths))]
    (tmp_path / "picks.txt").write_text("\n".join(names))
    assert len(names) == 96 and found(shell, library, "--frames-from", str(tmp_path / "picks.txt")) == paths
    (tmp_path / "picks.txt").write_text("\n".join([*(f"no-{number}.jpg" for number in range(30)), *names, "1"]))
    refused = shell("find", "--frames-from", tmp_path / "picks.txt", cwd=library, code=2).err
    assert "30 of the 127 names are no frame's here: 'no-0.jpg', 'no-1.jpg', 'no-2.jpg', ..." in refused


def keywords_in(sidecar: Path) -> list[str] | None:
    """What somebody else's program reads of a sidecar's keywords; None where it is not installed."""
    told = as_others_read(sidecar)
    if told is None:
        return None
    items = told.partition("<dc:subject>")[2].partition("</dc:subject>")[0]
    return [line.partition(">")[2].partition("<")[0] for line in items.splitlines() if "<rdf:li" in line]


def test_telling_many_and_taking_it_back(shell: Shell, library: Path) -> None:
    chosen = ("--where", "year=2024")
    first = sorted(found(shell, library, "--year", "2024"))[0]
    shell("tell", first, "--title", "A word before", "--keyword", "evening", cwd=library)
    before = {path: facts(shell, library, path) for path in found(shell, library, "--year", "2024")}
    sidecars = pictures(library)
    words = ("--title", "The fen", "--keyword", "evening", "--no-keyword", "reeds", "--rating", "3")
    plan = shell("tell", *chosen, *words, "--dry-run", "--json", cwd=library).json
    counts = {(one["field"], one["value"]): one for one in plan["words"]}
    assert plan["frames"] == len(before) and counts["keyword", "evening"]["frames_already"] == 1
    assert counts["title", "The fen"]["frames_replaced"] == sum(
        told["title"] not in (None, "The fen") for told in before.values()
    )
    assert counts["no_keyword", "reeds"]["frames_new"] == sum("reeds" in told["keywords"] for told in before.values())
    assert pictures(library) == sidecars
    receipt = shell("tell", *chosen, *words, "--yes", "--json", cwd=library).json
    assert receipt["balanced"] and receipt["kept"] == [
        {"what": "told", "amount": {"frames": len(before), "files": 0, "bytes": 0}}
    ]
    for path in before:
        now = facts(shell, library, path)
        assert (
            (now["title"], now["rating"]) == ("The fen", 3)
            and "evening" in now["keywords"]
            and "reeds" not in now["keywords"]
        )
    said = keywords_in(library / f"{first}.xmp")
    assert said is None or ("evening" in said and "reeds" not in said)
    again = shell("tell", *chosen, *words, "--yes", cwd=library)
    assert "There is nothing to do." in again.out
    # One was told otherwise since: it stays so, and is named.
    other = sorted(before)[1]
    shell("tell", other, "--title", "A word since", cwd=library)
    taken = shell("takeback", str(receipt["number"]), "--json", cwd=library, code=1).json
    assert [one["name"] for one in taken["left_out"]] == [other] and "told otherwise since" in taken["left_out"][0][
        "reason"
    ]
    assert taken["balanced"]
    for path, was in before.items():
        now = facts(shell, library, path)
        if path == other:
            assert now["title"] == "A word since" and now["rating"] == 3
        else:
            assert now == was
    said = keywords_in(library / f"{first}.xmp")
    assert said is None or sorted(said) == sorted(before[first]["keywords"])
    # What was taken back can be done again, by its own receipt.
    last = shell("receipt", "--json", cwd=library).json["number"]
    assert f"The last that can be: bramblemoor takeback {last}." in shell("takeback", "1", cwd=library, code=2).err
    assert f"takeback {last}" in shell("takeback", cwd=library).out, "given again it takes nothing back twice"
    shell("takeback", str(last), cwd=library)
    assert facts(shell, library, first)["title"] == "The fen"


def test_an_interrupted_telling_goes_on_or_is_accounted_for(shell: Shell, library: Path) -> None:
    """Given again it goes on, and has one receipt for all; another command accounts for it first. It is taken back as one."""

    def receipts() -> list[Any]:
        names = sorted(path for path in (library / "ledger/receipts").iterdir() if "-tell-" in path.name)
        return [one for path in names if "evening" in (one := json.loads(path.read_text()))["about"]["said"]]

    words = ("tell", "*", "--keyword", "evening", "--yes")
    for step in (4, 60, 130, 200, 260):
        assert leave_at(shell, step, library, *words) or step > 4
        if step == 200:
            shell("stocktake", cwd=library)
    shell(*words, cwd=library)
    assert len(found(shell, library, "--keyword", "evening")) == 96
    assert all(one["balanced"] for one in receipts()) and len(receipts()) <= 2
    frames = [tuple(frame) for one in receipts() for change in one.get("changes", []) for frame in change["frames"]]
    assert len(frames) == len(set(frames)) == 96, "each change stands on one receipt, and can be taken back by it"
    for one in receipts():
        if one.get("changes"):
            assert leave_at(shell, 30, library, "takeback", str(one["number"])), "it came to that"
            back = shell("takeback", str(one["number"]), "--json", cwd=library).json
            assert back["run"] == "takeback" and len(back["changes"]) > 0
    assert not found(shell, library, "--keyword", "evening")
    shell("stocktake", cwd=library)
    assert "all as it was" in shell("stocktake", cwd=library).out


def test_a_bound_year_is_not_told(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    left = min(found(shell, library, "--year", "2024"))
    shell("tell", left, "--taken", "2025-05-05", cwd=library)
    moved = shell("receipt", "--json", cwd=library).json
    shell("backup", cwd=library)
    shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library)
    receipt = shell("tell", "--where", "year=2024-2025", "--title", "Fen", "--yes", "--json", cwd=library, code=1).json
    assert receipt["balanced"] and {one["reason"] for one in receipt["left_out"]} == {"its year, 2024, is bound"}
    assert all("2024" in one["name"] for one in receipt["left_out"]) and receipt["kept"][0]["amount"]["frames"] > 0
    plan = shell("tell", "--where", "year=2024", "--title", "Fen", "--yes", cwd=library, code=1).out
    assert "stay as before: 2024 is bound" in plan and "nothing to do" in plan
    # None comes into it either, be it told or taken back.
    plan = shell("tell", "--where", "year=2025", "--taken", "2024-05-05", "--yes", cwd=library, code=1).out
    assert "stay as before: 2024 is bound" in plan and "nothing to do" in plan
    kept = shell("takeback", str(moved["number"]), "--json", cwd=library, code=1).json
    assert [one["reason"] for one in kept["left_out"]] == ["that would bring it into 2024, which is bound"]
    assert kept["balanced"] and not kept["kept"] and not kept.get("changes")
    assert found(shell, library, "--frame", left) == {left} == found(shell, library, "--frame", left, "--year", "2025")


def test_receipts_are_counted_past_four_digits(shell: Shell, library: Path) -> None:
    first = next((library / "ledger/receipts").glob("0001-*"))
    late = json.loads(first.read_text()) | {"number": 9999}
    first.with_name(first.name.replace("0001", "9999")).write_text(json.dumps(late))
    shell("tell", "ALD_0457.jpg", "--title", "Fog", cwd=library)
    assert shell("receipt", "--json", cwd=library).json["number"] == 10_000
    assert [one["number"] for one in shell("receipt", "list", "--json", cwd=library).json["receipts"]] == [
        1,
        9999,
        10_000,
    ]
    shell("takeback", cwd=library)
    assert facts(shell, library, "ALD_0457.jpg")["title"] != "Fog"


def test_ctrl_c_ends_telling_in_good_order(shell: Shell, library: Path) -> None:
    run = subprocess.Popen(
        shell.command("tell", "*", "--keyword", "dawn", "--yes"), cwd=library, env=shell.environment,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    with closing(sqlite3.connect(library / "ledger/ledger.sqlite", timeout=10)) as db:
        while run.poll() is None and not db.execute("SELECT 1 FROM meta WHERE key LIKE 'telling %'").fetchone():
            pass
    run.send_signal(signal.SIGINT)
    out, err = run.communicate(timeout=60)
    assert run.returncode in (0, 130) and "Traceback" not in err and "The books balance" in out
