"""Emberlow and Pipit Lane, and orders in full: repeated, withdrawn, lapsed, picked; and a second export of one account."""

import csv
import json
import re
import subprocess
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from bramblemoor.frames.xmp_reading import has_edits
from conftest import PROGRAM, Shell, serving


@pytest.fixture(scope="session")
def accounts(tmp_path_factory: pytest.TempPathFactory) -> Path:
    from bramblemoor.standins import accounts as known

    folder = tmp_path_factory.mktemp("accounts")
    for name in ("emberlow", "pipit-lane"):
        known()[name].draw(folder / name)
    return folder


@contextmanager
def running(account: Path, *options: str) -> Iterator[str]:
    """A stand-in over an account; yields its address."""
    command = [str(PROGRAM), "stand-in", account.name, str(account), "--prepare", "0.1", *options]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None and "listens" in process.stdout.readline()
        yield (account / "address.txt").read_text().strip()
    finally:
        process.kill()
        process.wait()


def truth(account: Path) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads((account / "truth.json").read_text(encoding="utf-8"))["frames"]
    return found


def test_emberlow_keeps_its_folders_and_its_edits(shell: Shell, accounts: Path, tmp_path: Path) -> None:
    shell("new", "library")
    library = tmp_path / "library"
    with running(accounts / "emberlow") as address:
        token = accounts / "emberlow/token.txt"
        shell("service", "add", "emberlow", address, "--token-file", token, cwd=library)
        shell("order", "--form", "tar.gz", "--size", "400kB", cwd=library)
        collected = shell("collect", "--bell", cwd=library)
        assert "vol003.tar.gz" in collected.out and "\a" in collected.err
    receipt = shell("unpack", "--json", cwd=library).json
    assert receipt["balanced"] and receipt["about"]["frames"] == "9 with edits, beside or inside the file; 3 without"
    for frame in truth(accounts / "emberlow"):
        path = library / "pictures" / frame["path"]
        shown = shell("show", f"pictures/{frame['path']}", "--json", cwd=library).json
        assert shown["made_of"][0]["sha256"] == frame["sha256"] and shown["made_of"][0]["media"] == "image/dng"
        believed = shown["believed"]
        assert (believed["taken"], believed["title"], believed["rating"] or 0) == (
            frame["taken"],
            frame["title"] or None,
            frame["stars"],
        )
        sidecar = path.with_name(path.name + ".xmp")
        assert sidecar.is_file() is (frame["edited"] or bool(frame["stars"]))
        if frame["edited"]:
            content = sidecar.read_bytes()
            assert has_edits(content) and re.search(rb'em:Exposure="[+-]\d\.\d\d"', content)
            assert content.count(b"<em:Masks>") == 1 and b"<em:Shape>oval</em:Shape>" in content
    again = shell(
        "unpack", "--from", library / "incoming/emberlow" / receipt["about"]["order"], "--json", cwd=library
    ).json
    assert again["balanced"]
    # Somebody unpacks by hand, as guides say, and deletes the small files.
    by_hand = tmp_path / "Emberlow by hand"
    by_hand.mkdir()
    for part in (library / "incoming/emberlow").rglob("*.tar.gz"):
        subprocess.run(["tar", "-xzf", part, "-C", by_hand], check=True)
    gone = sorted(by_hand.rglob("*.xmp"))[0]
    gone.unlink()
    shell("new", "second")
    lost = shell("unpack", "--from", by_hand, "--dialect", "emberlow", "--library", "second", "--json").json
    assert [one["name"] for one in lost["findings"] if "no edits came" in one["what"]] == [
        gone.with_suffix(".DNG").relative_to(by_hand).as_posix()
    ]


def test_pipit_lanes_copies_are_recognised(shell: Shell, world: Path, accounts: Path, library: Path) -> None:
    """What Pipit Lane has is a smaller copy of what is here; both are kept, and the original stays the original."""
    account = accounts / "pipit-lane"
    with running(account) as address:
        shell("service", "add", "pipit-lane", address, "--token-file", account / "token.txt", cwd=library)
        shell("order", "pipit-lane", cwd=library)
        shell("collect", cwd=library)
    order = shell("order", "list", "--no-ask", "--json", cwd=library).json["orders"][-1]
    parts = sorted((library / "incoming/pipit-lane" / order["order"]).glob("*.tar.gz"))
    assert [part.name[:14] for part in parts] == ["pipitlane 2024", "pipitlane 2025", "pipitlane 2026"]
    aside = parts[0].rename(library / "aside")
    missing = shell("unpack", "--from", parts[1].parent, "--dialect", "pipit-lane", cwd=library, code=3).err
    assert "The index of the export lists 3 parts; not here: pipitlane 2024" in missing
    aside.rename(parts[0])
    receipt = shell("unpack", order["order"], "--json", cwd=library).json
    assert receipt["balanced"] and receipt["kept"][0]["amount"]["frames"] == len(truth(account))
    copies = [one for one in receipt["findings"] if "reduced copy of an original that is here" in one["what"]]
    assert len(copies) == 28, "each but none of the roofers, whose pictures Pipit Lane never had"
    for frame in truth(account):
        path = next((library / "pictures").rglob(f"{frame['sha256'][:10]}.jpg"))
        shown = shell("show", path.name, "--json", cwd=library).json
        believed = shown["believed"]
        assert (believed["taken"], believed["caption"], believed["people"]) == (
            frame["taken"],
            frame["caption"],
            frame["people"],
        )
        if frame["position"]:
            assert believed["position"] == pytest.approx(frame["position"], abs=2e-6)
        original = shell("show", shown["reduced_copy_of"][-1], "--json", cwd=library).json
        assert next(file for file in original["made_of"] if file["role"] == "original")["width"] >= 480
        assert original["from"]["service"] == "thrushfield"
    with (library / "albums/_albums.csv").open(encoding="utf-8", newline="") as file:
        listed = {row["title"]: row for row in csv.DictReader(file)}
    assert listed["Evenings"]["cover"] and listed["Evenings"]["service"] == "pipit-lane"


def test_orders_are_repeated_and_withdrawn(shell: Shell, accounts: Path, tmp_path: Path) -> None:
    shell("new", "library")
    library = tmp_path / "library"
    account = accounts / "emberlow"
    with running(account, "--day", "0.2") as address:
        shell("service", "add", "emberlow", address, "--token-file", account / "token.txt", cwd=library)
        assert (
            "--repeat-until goes with --every"
            in shell("order", "--repeat-until", "2027-01-01", cwd=library, code=2).err
        )
        assert "zip, tar or tar.gz" in shell("order", "--form", "rar", cwd=library, code=2).err
        first = shell("order", "--album", "Chapel roofers", "--every", "5", "--json", cwd=library).json["order"]
        second = shell("order", "--since", "2026-01-01", "--json", cwd=library).json["order"]
        time.sleep(2.3)
        listed = shell("order", "list", "--json", cwd=library).json["orders"]
        made = [one for one in listed if one["order"] not in (first, second)]
        assert len(made) >= 2 and all(
            one["state"] == "ready" and one["scope"]["albums"] == ["Chapel roofers"] for one in made
        )
        assert "is withdrawn at emberlow" in shell("withdraw", first, cwd=library).out
        assert "was withdrawn already" in shell("withdraw", first, cwd=library, code=2).err
        assert "is withdrawn" in shell("collect", first, cwd=library, code=3).err
        count = len(shell("order", "list", "--json", cwd=library).json["orders"])
        time.sleep(1.2)
        assert len(shell("order", "list", "--json", cwd=library).json["orders"]) == count, (
            "a withdrawn order repeats no more"
        )
        done = shell("collect", "--all", "--json", cwd=library).json["orders"]
        assert {one["order"] for one in done} == {
            one["order"] for one in shell("order", "list", "--json", cwd=library).json["orders"]
        } - {first}
    offline = shell("order", "list", cwd=library)
    assert "cannot be reached" in offline.err and f"{second}" in offline.out and "collected" in offline.out


def test_links_and_sign_in_lapse(shell: Shell, accounts: Path, tmp_path: Path) -> None:
    shell("new", "library")
    library = tmp_path / "library"
    account = accounts / "emberlow"
    with running(account, "--links", "0.5") as address:
        shell("service", "add", "emberlow", address, "--token-file", account / "token.txt", cwd=library)
        order = shell("order", "--album", "Chapel roofers", "--json", cwd=library).json["order"]
        time.sleep(1.0)
        lapsed = shell("collect", order, cwd=library, code=3).err
        assert "lapsed" in lapsed and f"order --again {order}" in lapsed
        assert f"bramblemoor order --again {order}" in shell("order", "list", cwd=library).out
    port = address.rpartition(":")[2]
    with running(account, "--port", port):
        again = shell("order", "--again", order, "--json", cwd=library).json
        assert again["frames"] == 4 and again["order"] != order
        shell("collect", again["order"], cwd=library)
        order = shell("order", "--json", cwd=library).json["order"]
        shell("order", "list", cwd=library)
    with running(account, "--sign-in", "0.01", "--links", "0.01", "--port", port):
        refused = shell("collect", order, cwd=library, code=3).err
        assert "the sign-in has lapsed" in refused and "bramblemoor service add emberlow" in refused
    with running(account, "--port", port):
        shell("service", "add", "emberlow", address, "--token-file", account / "token.txt", cwd=library)
        shell("collect", order, cwd=library)
    assert shell("unpack", order, "--json", cwd=library).json["balanced"]


def test_a_small_selection_comes_at_once(shell: Shell, world: Path, tmp_path: Path) -> None:
    with serving(world) as address:
        shell("new", "library")
        library = tmp_path / "library"
        shell("service", "add", "thrushfield", address, "--token-file", world.parent / "token.txt", cwd=library)
        receipt = shell("fetch", "--album", "Roof work: 2026", "--json", cwd=library).json
        assert receipt["balanced"] and receipt["kept"][0]["amount"]["frames"] == 4
        assert not list((library / "incoming").rglob("*.zip"))
        assert (
            shell("fetch", "--album", "Roof work: 2026", "--json", cwd=library).json["kept"][0]["what"]
            == "in the library already"
        )
        too_much = shell("fetch", cwd=library, code=3).err
        assert "does not give that at once" in too_much and "bramblemoor order" in too_much
        assert "Did you mean Lantern nights?" in shell("fetch", "--album", "Lantern night", cwd=library, code=2).err


def test_a_second_export_brings_what_is_new_and_updates_what_changed(shell: Shell, tmp_path: Path) -> None:
    from test_exports import PICTURE, pack, slip

    def label(*refs: str) -> bytes:
        return json.dumps({"label": "L", "heading": "Walks", "order": list(refs)}).encode()

    first = {"stream/A.jpg": PICTURE, "slips/A_jpg.slip": slip("R1", "A.jpg"), "stream/B.jpg": PICTURE + b"b",
             "slips/B_jpg.slip": slip("R2", "B.jpg"), "labels/Walks/label.json": label("R1", "R2")}  # fmt: skip
    changed = slip("R1", "A.jpg", words={"heading": "A better title"}, subjects="new word")
    second = first | {"slips/A_jpg.slip": changed, "stream/C.jpg": PICTURE + b"c", "slips/C_jpg.slip": slip("R3", "C.jpg"),
                      "labels/Walks/label.json": label("R3", "R2", "R1")}  # fmt: skip
    pack(tmp_path / "one", first)
    pack(tmp_path / "two", second, "TFB")
    pack(tmp_path / "three", first, "TFC")
    shell("new", "library")

    def unpack(parcel: str) -> Any:
        return shell("unpack", "--from", parcel, "--library", "library", "--json").json

    def title() -> Any:
        return shell("show", "A.jpg", "--library", "library", "--json").json["believed"]["title"]

    unpack("one")
    beside = next((tmp_path / "library/pictures").rglob("B.jpg.xmp"))
    untouched = beside.read_bytes(), beside.stat().st_ino
    receipt = unpack("two")
    amounts = {line["what"]: line["amount"]["frames"] for line in receipt["kept"]}
    assert amounts["new in the library"] == 1 and amounts["in the library already"] == 2 and receipt["balanced"]
    assert receipt["about"]["updated"] == "1 that were here already: something new is told of them"
    assert title() == "A better title" and (beside.read_bytes(), beside.stat().st_ino) == untouched
    rows = list(csv.DictReader((tmp_path / "library/albums/Walks.csv").open(encoding="utf-8")))
    assert [row["path"].rpartition("/")[2] for row in rows] == ["C.jpg", "B.jpg", "A.jpg"]
    shell("tell", "A.jpg", "--title", "Mine", "--keyword", "own", "--position", "52.5,-1.25", "--library", "library")
    assert "updated" in unpack("three")["about"], "the service went back to its first title"
    shown = shell("show", "A.jpg", "--library", "library", "--json").json
    assert shown["believed"]["title"] == "Mine" and set(shown["believed"]["keywords"]) == {"own", "new word"}
    told = [
        (claim["source"], claim["value"], claim["believed"]) for claim in shown["claims"] if claim["field"] == "title"
    ]
    assert told == [("service", "A better title", False), ("you", "Mine", True), ("service", "Title of R1", False)]
    shell("tell", "A.jpg", "--title", "", "--library", "library")
    assert title() is None
    for wrong, words in (
        (["--taken", "soon"], "no date"),
        (["--position", "91,0"], "no position"),
        ([], "Nothing was said"),
    ):
        assert words in shell("tell", "A.jpg", *wrong, "--library", "library", code=2).err
    with zipfile.ZipFile(next((tmp_path / "library/delivered").rglob("TFB/*.zip"))) as archive:
        assert archive.read("slips/A_jpg.slip") == changed
