"""Never the last copy, and never "safe" of what is not: ordinary sequences that end with copies gone unless one rule is asked."""

import os
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from conftest import CHECKER, Shell, clock, pictures

sys.path.insert(0, str(CHECKER.parent))
import lab

HEAD = bytes.fromhex("ffd8ffe000104a46494600010100000100010000ffdb004300") + b"\x01" * 64


def picture(words: str) -> bytes:
    return HEAD + words.encode() * 200


def add_depot(shell: Shell, library: Path, name: str, site: str, medium: str) -> None:
    folder = shell.folder / name
    folder.mkdir()
    where = ("--site", site, "--medium", medium, "--stand-in", name)
    shell("depot", "add", name, folder, *where, cwd=library)


@pytest.fixture
def small(shell: Shell) -> Path:
    """A library of a dozen pictures of two years, and its three depots, level and read."""
    shell("new", "library")
    library = shell.folder / "library"
    for year in (2024, 2026):
        for day in range(1, 7):
            path = library / f"pictures/{year}/{year}0{day}01_120000.jpg"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(picture(f"{year} {day}"))
    for name, site, medium in (("heron", "studio", "ssd"), ("otter", "studio", "hdd"), ("dipper", "cottage", "hdd")):
        add_depot(shell, library, name, site, medium)
    shell("backup", cwd=library)
    return library


def holders(shell: Shell, library: Path) -> dict[str, dict[str, Any]]:
    weighed = shell("standing", "--json", cwd=library, code=None).json
    return {one["depot"]: one for one in weighed["copies"]}


def safe(shell: Shell, library: Path) -> bool:
    told: bool = shell("standing", "--json", cwd=library, code=None).json["safe"]
    return told


def lying(shell: Shell, content: bytes) -> set[str]:
    """At which depots a content lies anywhere, by looking at every file."""
    return {
        name
        for name in ("heron", "otter", "dipper")
        if any(path.is_file() and path.read_bytes() == content for path in (shell.folder / name).rglob("*"))
    }


def make_stale(library: Path, *names: str) -> None:
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        for name in names:
            db.execute(
                "UPDATE copies SET read_at = read_at - 400 * 86400 WHERE depot = (SELECT number FROM depots WHERE name = ?)",
                (name,),
            )


def flip(path: Path) -> None:
    """As a drive does it: size and time stay."""
    status, content = path.stat(), bytearray(path.read_bytes())
    content[len(content) // 2] ^= 1
    path.write_bytes(content)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def put_away(shell: Shell, library: Path) -> None:
    shell("bind", "2024", "--at", "heron", "--at", "otter", "--at", "dipper", cwd=library)
    shell("backup", cwd=library)
    shell("free", "2024", "--yes", cwd=library)


def test_a_mirror_keeps_the_only_fresh_copies_of_a_freed_year(shell: Shell, small: Path) -> None:
    put_away(shell, small)
    make_stale(small, "heron", "otter")
    for path in (shell.folder / "heron/data/pictures/2024").iterdir():
        flip(path)
    for year in ("2026", "2204"):
        shell("depot", "change", "dipper", "--keep-for", "none", "--year", year, cwd=small)
        told = shell("backup", "--yes", cwd=small, code=1).out
        assert "not to be there any more, but not taken away" in told and "2024" in told
        assert len(pictures(shell.folder / "dipper/data")) == 12
    # Once the others were read, it may go there, as it is at two more places.
    shell("verify", cwd=small, code=1)
    shell("mend", cwd=small)
    shell("backup", "--yes", cwd=small)
    assert not list((shell.folder / "dipper/data/pictures").glob("2024/*"))
    assert lying(shell, picture("2024 1")) == {"heron", "otter"}


def test_freeing_looks_at_what_is_attached_and_wants_the_rest_read_lately(shell: Shell, small: Path) -> None:
    shell("bind", "2024", "--at", "heron", "--at", "otter", "--at", "dipper", cwd=small)
    shell("backup", cwd=small)
    for name in ("heron", "otter"):
        shutil.move(shell.folder / name / "data/pictures/2024", shell.folder / f"{name} 2024")
    refused = shell("free", "2024", "--yes", cwd=small, code=3).err
    assert "fewer than 2 fresh copies" in refused and "Nothing was deleted" in refused
    for name in ("heron", "otter"):
        shutil.move(shell.folder / f"{name} 2024", shell.folder / name / "data/pictures/2024")
    # A file of another size is no copy either.
    longer = shell.folder / "heron/data/pictures/2024/20240101_120000.jpg"
    content = longer.read_bytes()
    longer.write_bytes(content + b"x")
    (shell.folder / "otter").rename(shell.folder / "otter unplugged")
    with clock(shell, 100):
        assert "fewer than 2" in shell("free", "2024", "--yes", cwd=small, code=3).err
    longer.write_bytes(content)
    with clock(shell, 100):  # fresh by the rule, but two of the drives are on the shelf, and nobody has looked for long
        (shell.folder / "heron").rename(shell.folder / "heron unplugged")
        assert "not attached counts for 30 days" in shell("free", "2024", "--yes", cwd=small, code=3).err
        (shell.folder / "heron unplugged").rename(shell.folder / "heron")
    assert len(pictures(small)) == 12
    assert "100 days behind the last run" in shell("free", "2024", "--yes", cwd=small, code=3).err
    shell("clock", "--right", cwd=small)
    shell("free", "2024", "--yes", cwd=small)
    assert len(pictures(small)) == 6


def test_levelling_over_a_fork_is_refused_and_adopting_is_for_one_depot(shell: Shell, small: Path) -> None:
    fork = shell.folder / "fork"
    shell("depot", "change", "dipper", "--keep-for", "none", cwd=small)
    shutil.copytree(small, fork, copy_function=shutil.copy2)
    only = picture("only the other one has this")
    (fork / "pictures/2026/20260901_120000.jpg").write_bytes(only)
    shell("backup", "dipper", "otter", cwd=fork)
    for n in range(4):  # this one's generation is the higher
        shell("tell", "20260101_120000.jpg", "--title", f"Title {n}", cwd=small)
        shell("backup", "heron", cwd=small)
    refused = shell("depot", "level", shell.folder / "heron", shell.folder / "dipper", code=3).err
    assert "another copy of this library" in refused and lying(shell, only) == {"dipper", "otter"}
    assert "has never had" in shell("backup", "dipper", cwd=small, code=3).err
    adopted = shell("depot", "adopt", "dipper", cwd=small)
    assert "nothing that this library has ever had" in adopted.err
    # The other one of that fork stays closed, and what only the fork had stays where it is, mirror or not.
    assert "has never had" in shell("backup", "otter", cwd=small, code=3).err
    assert any(
        "otter" in step and "another state" in step
        for step in shell("standing", "--json", cwd=small, code=1).json["next"]
    )
    assert holders(shell, small)["dipper"]["frames"] == 0  # adopted, not read
    for _ in range(2):
        told = shell("backup", "heron", "dipper", "--yes", cwd=small, code=1).out
    assert "kept in earlier/" in told and lying(shell, only) == {"dipper", "otter"}
    stays = shell("purge", "dipper", "--older-than", "0", "--yes", cwd=small, code=1).out
    assert "stay there" in stays and lying(shell, only) == {"dipper", "otter"}
    found = shell("verify", "dipper", "--json", cwd=small).json
    assert found["balanced"] and holders(shell, small)["dipper"]["frames"] == 12


def test_a_clock_that_is_ahead_deletes_nothing_and_counts_for_nothing(shell: Shell, small: Path) -> None:
    shell("depot", "change", "heron", "--keep-for", "30", cwd=small)
    shell("tell", "20260101_120000.jpg", "--title", "First", cwd=small)
    shell("backup", cwd=small)
    shell("tell", "20260101_120000.jpg", "--title", "Second", cwd=small)
    shell("backup", cwd=small)
    set_aside = sorted((shell.folder / "heron/earlier").rglob("*.xmp"))
    new = small / "pictures/2026/20260701_120000.jpg"
    new.write_bytes(picture("new"))
    with clock(shell, 3650):
        told = shell("backup", cwd=small, code=1)
        assert "ahead of the last run" in told.err and "clock --right" in told.err
        shell("verify", cwd=small, code=1)
        assert not safe(shell, small)
    assert set_aside and sorted((shell.folder / "heron/earlier").rglob("*.xmp")) == set_aside
    held = holders(shell, small)
    assert {name: held[name]["frames"] for name in ("heron", "otter", "dipper")} == dict.fromkeys(
        ("heron", "otter", "dipper"), 12
    )
    assert held["heron"]["unread"] and not safe(shell, small)
    shell("verify", cwd=small)
    assert safe(shell, small)
    with clock(shell, 100):  # a long pause is no doubt, but nothing is deleted at once
        shell("backup", cwd=small)
        assert sorted((shell.folder / "heron/earlier").rglob("*.xmp")) == set_aside
    with clock(shell, 101):
        shell("tell", "20260201_120000.jpg", "--title", "x", cwd=small)
        shell("backup", cwd=small)
    with clock(shell, 140):
        shell("tell", "20260201_120000.jpg", "--title", "y", cwd=small)
        shell("backup", cwd=small)
        assert not set(set_aside) & set((shell.folder / "heron/earlier").rglob("*.xmp"))
    with clock(shell, -10):
        behind = shell("backup", cwd=small, code=1).err
        assert "behind the last run" in behind and not safe(shell, small)
        assert "behind" in shell("clock", cwd=small, code=1).out
        assert "Nothing speaks against it" in shell("clock", "--right", cwd=small).out
        shell("backup", cwd=small)


def test_what_a_depot_went_through_without_us_is_learnt_anew(shell: Shell, small: Path) -> None:
    """Let go at one, put back by hand, levelled to the others: old rows in the ledger are no copies."""
    name_of, gone = "20240101_120000.jpg", picture("2024 1")
    for name in ("heron", "otter", "dipper"):
        shell("depot", "change", name, "--keep-for", "none", cwd=small)
    shell("backup", cwd=small)
    (small / "pictures/2024" / name_of).unlink()
    shell("stocktake", "--let-go", name_of, "--yes", cwd=small)
    shell("backup", "heron", cwd=small)
    (small / "pictures/2024" / name_of).write_bytes(gone)
    shell("stocktake", cwd=small)
    for name in ("otter", "dipper"):
        shell("depot", "level", shell.folder / "heron", shell.folder / name)
        assert gone not in pictures(shell.folder / name / "data").values()
    shell("backup", cwd=small)
    assert lying(shell, gone) == {"heron", "otter", "dipper"}
    held = holders(shell, small)
    assert held["otter"]["unread"] and not safe(shell, small)
    assert shell("verify", "--json", cwd=small).json["left_out"] == []
    assert safe(shell, small)


def test_a_rotten_picture_whose_folder_was_renamed_does_not_pass_for_a_new_one(shell: Shell, small: Path) -> None:
    good = picture("2024 1")
    (small / "pictures/2024").rename(small / "pictures/put away")
    flip(small / "pictures/put away/20240101_120000.jpg")
    told = shell("stocktake", cwd=small, code=1).out
    assert "its content changed when it was moved" in told and "vanished" not in told
    shell("backup", "--yes", cwd=small, code=1)
    assert all(good in pictures(shell.folder / name / "data").values() for name in ("heron", "otter", "dipper"))
    shell("mend", cwd=small)
    assert (small / "pictures/put away/20240101_120000.jpg").read_bytes() == good
    shell("backup", cwd=small)
    assert safe(shell, small)


def test_a_picture_that_was_moved_over_another(shell: Shell, small: Path) -> None:
    a, b = (small / f"pictures/2024/20240{n}01_120000.jpg" for n in (1, 2))
    first, second = a.read_bytes(), b.read_bytes()
    b.replace(a)
    told = shell("stocktake", cwd=small, code=1).out
    assert "another picture was moved over it" in told and "20240101_120000-2.jpg" in told
    shell("backup", cwd=small, code=1)
    assert lying(shell, first) == lying(shell, second) == {"heron", "otter", "dipper"}
    shell("mend", cwd=small)
    assert a.read_bytes() == second and a.with_name("20240101_120000-2.jpg").read_bytes() == first
    shell("backup", cwd=small)
    assert safe(shell, small) and len(pictures(small)) == 12
    assert all(pictures(shell.folder / name / "data") == pictures(small) for name in ("heron", "otter", "dipper"))


def test_readings_belong_to_where_they_were_made(shell: Shell, small: Path) -> None:
    """Copied by a file manager, a depot was read nowhere; moved on its drive, it is the same one."""
    (shell.folder / "heron").rename(shell.folder / "heron moved")
    shell("depot", "add", "heron", shell.folder / "heron moved", cwd=small)
    assert safe(shell, small)
    shutil.copytree(shell.folder / "heron moved", shell.folder / "heron", copy_function=shutil.copy2)
    shutil.rmtree(shell.folder / "heron moved")
    assert "lies elsewhere" in shell("depot", "add", "heron", shell.folder / "heron", cwd=small).err
    held = holders(shell, small)
    assert held["heron"]["frames"] == 0 and held["heron"]["unread"]
    # Nothing that is known of it is changed by saying where it is.
    refused = shell("depot", "add", "wren", shell.folder / "heron", cwd=small, code=2).err
    assert "holds the depot heron" in refused
    told = shell("depot", "add", "heron", shell.folder / "heron", "--site", "cottage", cwd=small).out
    assert "It stays as it was agreed" in told and holders(shell, small)["heron"]["site"] == "studio"
    shell("verify", "heron", cwd=small)
    assert safe(shell, small)


def test_the_library_s_own_copy_is_read_and_ages(shell: Shell, small: Path) -> None:
    """Rot in it is found, and until it was read again within the rule it does not count."""
    assert holders(shell, small)["library"]["frames"] == 12
    # Its readings, too, belong to where they were made: brought to another drive by hand it was read nowhere.
    brought = shell.folder / "brought"
    shutil.copytree(small, brought, copy_function=shutil.copy2)
    assert holders(shell, brought)["library"]["frames"] == 0
    assert "lies elsewhere than before" in shell("stocktake", cwd=brought).err
    shell("verify", "library", cwd=brought)
    assert holders(shell, brought)["library"]["frames"] == 12
    with clock(shell, 200):
        shell("verify", "heron", "otter", "dipper", cwd=small)
        held = holders(shell, small)["library"]
        assert held["frames"] == 0 and held["stale"] and held["stale_since"]
        assert "200 days ago: too long" in shell("standing", cwd=small, code=None).out
        flip(small / "pictures/2024/20240101_120000.jpg")
        assert "20240101" in shell("verify", "library", cwd=small, code=1).out
        assert holders(shell, small)["library"]["frames"] == 11
        shell("mend", cwd=small)
        assert holders(shell, small)["library"]["frames"] == 12 and safe(shell, small)


def test_a_restored_library_counts_what_came_back(shell: Shell, small: Path) -> None:
    shell("depot", "change", "otter", "--year", "2026", cwd=small)
    shell("backup", "--yes", cwd=small)
    rotten = shell.folder / "otter/data/pictures/2026/20260101_120000.jpg"
    flip(rotten)
    numbers = {one["number"] for one in shell("receipt", "list", "--json", cwd=small).json["receipts"]}
    shell("restore", "again", "--from", shell.folder / "otter", code=1)
    again = shell.folder / "again"
    assert holders(shell, again)["library"]["frames"] == 5
    let_go = ("stocktake", "--let-go", "pictures/2024/", "--yes")
    for command in (("stocktake", "--yes"), let_go, ("verify", "library"), let_go, ("backup", "--yes")):
        shell(*command, cwd=again, code=None)
        assert len(pictures(shell.folder / "otter/data")) == 6
    named = shell("depot", "add", "heron", shell.folder / "heron", cwd=again)
    assert "counts once it was read" in named.out
    shell("backup", "--yes", cwd=again, code=None)
    assert len(pictures(shell.folder / "heron/data")) == 12
    shell("mend", cwd=again)
    assert pictures(again) == pictures(small)
    # A mirror of it keeps no former ledgers.
    shell("depot", "change", "heron", "--keep-for", "none", cwd=again)
    shell("tell", "20260101_120000.jpg", "--title", "Again", cwd=again)
    shell("backup", "--yes", cwd=again)
    assert not list((shell.folder / "heron/earlier").rglob("ledger.sqlite"))
    # Numbers of receipts go on, and those that lay at the depot came back.
    listed = shell("receipt", "list", "--json", cwd=again).json["receipts"]
    assert len({one["number"] for one in listed}) == len(listed)
    assert {one["run"] for one in listed} >= {"backup", "restore"} and max(one["number"] for one in listed) > max(
        numbers
    )


def test_a_drive_that_knows_more_than_a_restored_library_is_told(shell: Shell, small: Path) -> None:
    shell("tell", "20260101_120000.jpg", "--title", "Later", cwd=small)
    shell("backup", "dipper", cwd=small)
    shell("restore", "again", "--from", shell.folder / "heron")
    told = shell("depot", "add", "dipper", shell.folder / "dipper", cwd=shell.folder / "again", code=1).err
    assert "may know more than it" in told
    assert any(
        "dipper" in step for step in shell("standing", "--json", cwd=shell.folder / "again", code=1).json["next"]
    )


def test_a_ledger_that_comes_back_learns_what_was_found_amiss_since(shell: Shell, small: Path) -> None:
    ledger, before = small / "ledger/ledger.sqlite", (small / "ledger/ledger.sqlite").read_bytes()
    for name, path in (("heron", "20240101_120000.jpg"), ("otter", "20240201_120000.jpg")):
        flip(shell.folder / name / "data/pictures/2024" / path)
    (shell.folder / "heron/data/pictures/2026/20260101_120000.jpg").unlink()
    flip(small / "pictures/2026/20260601_120000.jpg")
    with clock(shell, 1):
        shell("verify", cwd=small, code=1)
        ledger.write_bytes(before)
        assert holders(shell, small)["library"]["frames"] == 0
        (shell.folder / "heron").rename(shell.folder / "in a drawer")
        assert "found 1 file amiss there" in shell("backup", "otter", "dipper", cwd=small).err
        assert holders(shell, small)["heron"]["frames"] == 12 and holders(shell, small)["library"]["frames"] == 0
        (shell.folder / "in a drawer").rename(shell.folder / "heron")
        assert holders(shell, small)["heron"]["frames"] == 0
        assert "found 2 files amiss there" in shell("backup", cwd=small).err
        assert pictures(shell.folder / "heron/data") == pictures(shell.folder / "otter/data")
        shell("verify", "library", cwd=small, code=1)
        assert holders(shell, small)["library"]["frames"] == 11
        shell("mend", cwd=small)
        assert pictures(shell.folder / "heron/data") == pictures(small)
        assert safe(shell, small) and "amiss" not in shell("backup", cwd=small).err


def test_some_is_restored_as_the_depot_holds_it(shell: Shell, small: Path) -> None:
    (small / "pictures/2024").rename(small / "pictures/Reed cutting")
    shell("stocktake", cwd=small, code=None)
    out = shell.folder / "out"
    shell("restore", out, "--shoot", "2024", "--from", "heron", cwd=small)
    assert len(list((out / "pictures/2024").iterdir())) == 6
    set_aside = shell("earlier", "heron", "--json", cwd=small).json["earlier"]
    moment = set_aside[-1]["set_aside"][:16] if set_aside else "2030-01-01T00:00"
    shell(
        "restore", shell.folder / "then", "--as-of", moment, "--year", "2024", "--from", "heron", cwd=small, code=None
    )
    assert (
        "is no date or time"
        in shell("restore", shell.folder / "x", "--as-of", "2026-05-09T99", "--from", "heron", cwd=small, code=2).err
    )


@pytest.mark.parametrize("name", ["layers.psd", "film.avi", "sound.wav", "old.jxl", "notes.txt"])
def test_whatever_lies_among_the_pictures_is_an_original(shell: Shell, small: Path, name: str) -> None:
    place = small / "pictures/2026" / name
    place.write_bytes(b"of no kind that is known here" * 50)
    assert "not known here" in shell("backup", cwd=small, code=1).out
    shown = shell("show", name, "--json", cwd=small).json
    assert shown["kind"] == "other" and holders(shell, small)["library"]["frames"] == 13 and safe(shell, small)
    place.write_bytes(b"")
    assert "its content" in shell("stocktake", cwd=small, code=1).out
    shell("mend", cwd=small)
    place.unlink()
    assert "it has vanished" in shell("backup", cwd=small, code=1).out
    assert all((shell.folder / at / "data/pictures/2026" / name).is_file() for at in ("heron", "otter", "dipper"))


def test_a_picture_that_is_still_being_written(shell: Shell, small: Path) -> None:
    place, whole = small / "pictures/2026/coming.jpg", picture("whole") * 50
    writer = subprocess.Popen(
        [
            "sh",
            "-c",
            'i=0; while [ $i -lt 60 ]; do printf "piece of it" >> "$1"; sleep 0.1; i=$((i + 1)); done',
            "sh",
            str(place),
        ]
    )
    try:
        told = shell("backup", cwd=small, code=1).out
        assert "being written" in told and not (shell.folder / "heron/data/pictures/2026/coming.jpg").exists()
    finally:
        writer.kill()
        writer.wait()
    # One that was left alone for a while, and is gone on with, was not whole: what follows is.
    place.write_bytes(whole[:1000])
    shell("backup", cwd=small)
    place.write_bytes(whole)
    assert "before it was whole" in shell("backup", cwd=small, code=1).out
    shell("mend", cwd=small)
    assert place.read_bytes() == whole == (shell.folder / "otter/data/pictures/2026/coming.jpg").read_bytes()


def test_a_retouched_picture_is_accepted_by_name(shell: Shell, small: Path) -> None:
    place, former = small / "pictures/2024/20240101_120000.jpg", picture("2024 1")
    place.write_bytes(picture("retouched"))
    assert "--accept NAME" in shell("backup", cwd=small, code=1).out
    assert any("--accept" in step for step in shell("standing", "--json", cwd=small, code=1).json["next"])
    assert "Go on?" in shell("stocktake", "--accept", place.name, cwd=small, code=1).err
    shell("stocktake", "--accept", place.name, "--yes", cwd=small)
    shell("backup", cwd=small)
    for name in ("heron", "otter", "dipper"):
        assert (shell.folder / name / "data/pictures/2024" / place.name).read_bytes() == picture("retouched")
        assert former in [path.read_bytes() for path in (shell.folder / name / "earlier").rglob("*.jpg")]
    assert safe(shell, small) and place.read_bytes() == picture("retouched")


EDITED = b"""<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:ed="urn:editor:" ed:crop="1"/></rdf:RDF>"""


@pytest.mark.parametrize("content", (b"<x:xmpmeta>half of it", b"<a/>" + b" " * (17 << 20)))
def test_a_sidecar_that_cannot_be_read_is_not_written_over(shell: Shell, small: Path, content: bytes) -> None:
    name = "20240101_120000.jpg"
    theirs = small / f"pictures/2024/{name}.xmp"
    theirs.write_bytes(content)
    for told in ("Fog", "Mist"):  # once as it was found, once as it is known
        said = shell("tell", name, "--title", told, cwd=small, code=1)
        assert theirs.read_bytes() == content and "left as it is" in said.err and "ledger." in said.out
        assert shell("show", name, "--json", cwd=small).json["believed"]["title"] == told
        shell("stocktake", cwd=small, code=None)
    theirs.write_bytes(EDITED)
    shell("stocktake", cwd=small)
    written = theirs.read_bytes()
    assert b"Mist" in written and b'ed:crop="1"' in written
    assert shell("stocktake", cwd=small).out.count("waits") == 0


def test_what_people_did_meanwhile_is_no_damage(shell: Shell, small: Path) -> None:
    """Edited or renamed since the last run, and then verified and mended as advised: the work stands, and nothing comes twice."""
    folder = small / "pictures/2024"
    flip(folder / "20240301_120000.jpg")
    shell("tell", "20240101_120000.jpg", "--title", "Reeds", cwd=small)
    sidecar = folder / "20240101_120000.jpg.xmp"
    words = sidecar.read_text()
    flip(sidecar)
    assert "2 of" in shell("verify", cwd=small, code=1).out
    sidecar.write_text(words + "<!-- mine -->")
    (folder / "20240201_120000.jpg").rename(folder / "ice.jpg")
    shell("verify", "heron", cwd=small)
    mended = shell("mend", "--json", cwd=small).json
    assert mended["came_in"]["files"] == 1 and "mine" in sidecar.read_text()
    assert shell("verify", "--json", cwd=small).json["left_out"] == []
    assert len(pictures(small)) == 13 and (folder / "ice.jpg").exists()  # the sidecar is one of them
    # A mass of changes is for a person; the depots are read all the same.
    for path in (small / "pictures/2026").iterdir():
        path.unlink()
    told = shell("verify", "--json", cwd=small, code=1).json
    assert told["left_out"] == [] and "guard" in told["findings"][0]["what"]
    shell("stocktake", "--yes", cwd=small, code=1)
    shell("mend", cwd=small)
    assert len(pictures(small)) == 13


def test_a_folder_in_place_of_a_picture_holds_nobody_up(shell: Shell, small: Path) -> None:
    """No drive can hold both: what stays there stays, what cannot come is named, and all else is done."""
    place, other = small / "pictures/2024/20240101_120000.jpg", small / "pictures/2024/20240201_120000.jpg"
    place.unlink()
    place.mkdir()
    (place / "inner.jpg").write_bytes(picture("inner"))
    other.rename(place / "moved.jpg")
    (small / "pictures/2026/new.jpg").write_bytes(picture("new"))
    told = shell("backup", cwd=small, code=1).out
    assert told.count("20240101_120000.jpg/inner.jpg") == 3 and told.count("20240101_120000.jpg/moved.jpg") == 3
    assert lying(shell, picture("new")) == lying(shell, picture("2024 1")) == {"heron", "otter", "dipper"}
    assert "a different file is there" in shell("mend", cwd=small, code=1).out and (place / "inner.jpg").is_file()
    assert "1 x missing" in shell("verify", cwd=small, code=1).out
    shell("stocktake", "--let-go", "pictures/2024/20240101_120000.jpg", "--yes", cwd=small)
    for _ in range(2):  # the first takes away what was in the way of the move
        shell("backup", cwd=small, code=None)
    assert safe(shell, small) and not shell("verify", "--json", cwd=small).json["left_out"]
    for name in ("heron", "otter", "dipper"):
        data = shell.folder / name / "data/pictures/2024/20240101_120000.jpg"
        assert {one.name for one in data.iterdir()} == {"inner.jpg", "moved.jpg"}
        subprocess.run(["sha256sum", "-c", "--quiet", "manifest-sha256.txt"], cwd=shell.folder / name, check=True)


def test_a_copy_that_is_gone_does_not_move(shell: Shell, small: Path) -> None:
    """Renamed in the library, it is missing at the depot by either name, and counts there by none."""
    name = "pictures/2024/20240101_120000.jpg"
    (shell.folder / "heron/data" / name).unlink()
    (small / name).rename(small / "pictures/2024/reeds.jpg")
    assert "it is missing" in shell("backup", cwd=small, code=1).out
    assert holders(shell, small)["heron"]["frames"] == 11 and not safe(shell, small)
    shell("mend", cwd=small)
    assert safe(shell, small) and not shell("verify", "--json", cwd=small).json["left_out"]


def test_words_that_are_spelled_otherwise_are_the_same_place(shell: Shell) -> None:
    shell("new", "library", "--site", "studio", "--medium", "ssd")
    library = shell.folder / "library"
    (library / "pictures/a.jpg").write_bytes(picture("a"))
    for name, site, medium in (("one", "Studio", "SSD"), ("two", "studio ", "ssd.")):
        add_depot(shell, library, name, site, medium)
    shell("backup", cwd=library)
    weighed = shell("standing", "--json", cwd=library, code=1).json
    assert weighed["states"] == {"short": 1} and {one["site"] for one in weighed["copies"]} == {"studio"}
    (shell.folder / "three").mkdir()
    three = ("depot", "add", "three", shell.folder / "three", "--medium", "hdd", "--stand-in", "three")
    assert "it is nearly 'studio'. Known: studio" in shell(*three, "--site", "studoi", cwd=library, code=2).err
    assert "A new site: cottage. Known: studio" in shell(*three, "--site", "cottage", cwd=library).err
    assert "1 OF 1 FRAME" in shell("standing", "--if-lost", "STUDIO", cwd=library, code=1).out


def test_nothing_lies_inside_another(shell: Shell, small: Path) -> None:
    heron = shell.folder / "heron"
    for place in (small / "pictures/copy", small / "companions/copy", heron / "data/pictures/copy", heron / "copy"):
        assert "would mix" in shell("restore", place, "--from", shell.folder / "otter", code=2).err
        assert "would mix" in shell("restore", place, "--year", "2024", "--from", shell.folder / "otter", code=2).err
        assert "would mix" in shell("new", place, code=2).err
        place.mkdir()
        refused = shell("depot", "add", "inner", place, "--site", "studio", "--medium", "ssd", cwd=small, code=2).err
        assert "would mix" in refused or "within each other" in refused
        place.rmdir()
    assert len(pictures(small)) == 12
    # A library lies on one drive: what is elsewhere would be counted as there.
    (small / "pictures").rename(shell.folder / "elsewhere")
    (small / "pictures").symlink_to(shell.folder / "elsewhere")
    for command in ("backup", "verify", "mend", "stocktake"):
        assert "a library lies on one drive" in shell(command, cwd=small, code=3).err
    assert holders(shell, small)["library"]["frames"] == 0 and len(list((shell.folder / "elsewhere").iterdir())) == 2


def test_one_full_drive_does_not_stop_the_others(shell: Shell, small: Path) -> None:
    shell("depot", "change", "otter", "--leave-free", "4000TB", cwd=small)
    (small / "pictures/2026/20260801_120000.jpg").write_bytes(picture("tonight"))
    shell("backup", cwd=small, code=1)
    told = shell("backup", cwd=small, code=1).out
    assert "depot otter" in told and "passed over" in told
    assert lying(shell, picture("tonight")) == {"heron", "dipper"}
    (shell.folder / "heron").rename(shell.folder / "unplugged")
    (small / "pictures/2026/20260802_120000.jpg").write_bytes(picture("later"))
    told_json = shell("backup", "--json", cwd=small, code=1).json
    assert [one["depot"] for one in told_json["passed_over"]] == ["heron"] and lying(shell, picture("later")) == {
        "dipper"
    }


def test_a_name_with_a_word_in_it_decides_nothing(shell: Shell, small: Path) -> None:
    shell("depot", "change", "heron", "--name", "missing-link", cwd=small)
    for path in (shell.folder / "heron/data/pictures").rglob("*.jpg"):
        flip(path)
    shell("drill", "missing-link", "--files", "60", cwd=small, code=1)
    with sqlite3.connect(small / "ledger/ledger.sqlite") as db:
        states = {row[0] for row in db.execute("SELECT DISTINCT state FROM copies WHERE depot = 1")}
    assert "missing" not in states and "damaged" in states


def test_an_export_mends_what_is_missing_or_damaged_here(shell: Shell, small: Path) -> None:
    dialect = shell.folder / "plain.toml"
    parcel = shell.folder / "parcel"
    parcel.mkdir()
    for day in (1, 2, 3):
        shutil.copy2(small / f"pictures/2024/20240{day}01_120000.jpg", parcel / f"IMG_{day}.jpg")
    (small / "pictures/2024/20240101_120000.jpg").unlink()
    flip(small / "pictures/2024/20240201_120000.jpg")  # nobody has noticed
    shell("dialect", "draft", parcel, "--out", dialect, cwd=small)
    receipt = shell("unpack", "--from", parcel, "--dialect", dialect, "--json", cwd=small, code=None).json
    assert receipt["balanced"]
    assert len([one for one in receipt["findings"] if "mended" in one["what"]]) == 2
    assert pictures(small)["pictures/2024/20240101_120000.jpg"] == picture("2024 1")
    assert pictures(small)["pictures/2024/20240201_120000.jpg"] == picture("2024 2")
    shell("backup", cwd=small)
    assert safe(shell, small)


def test_a_folding_drive_keeps_what_was_renamed_by_capitals_alone(shell: Shell, small: Path) -> None:
    if not lab.available("exfat"):
        pytest.skip("exfat cannot be made or mounted here")
    image, place = shell.folder / "drive.img", shell.folder / "drive"
    lab.make_image(image, "exfat")
    with lab.mounted(image, place, "exfat"):
        (place / "copy").mkdir()
        shell(
            "depot", "add", "red", place / "copy", "--site", "attic", "--medium", "usb", "--keep-for", "none", cwd=small,
        )  # fmt: skip
        shell("backup", "red", cwd=small)
        for old, new in (
            ("2024/20240101_120000.jpg", "2024/20240101_120000.JPG"),
            ("2026", "2026 X"),
            ("2026 X", "2026 x"),
        ):
            (small / "pictures" / old).rename(small / "pictures" / new)
            shell("backup", "red", "--yes", cwd=small)
            shell("verify", "red", cwd=small)
            data = pictures(place / "copy/data")
            assert sorted(data.values()) == sorted(pictures(small).values())
        # What lies in earlier/ is found by restoring, whatever the manifest says of its place.
        shell("restore", "back", "--from", place / "copy")
        assert sorted(pictures(shell.folder / "back").values()) == sorted(pictures(small).values())


def test_what_is_listed_and_lies_only_in_earlier_is_restored(shell: Shell, small: Path) -> None:
    depot = shell.folder / "heron"
    place = depot / "data/pictures/2024/20240101_120000.jpg"
    aside = depot / "earlier/0009-20260101T000000Z-abcd/data/pictures/2024"
    aside.mkdir(parents=True)
    place.rename(aside / place.name)
    (aside.parents[2] / "why.csv").write_text(
        "path,why,when,sha256,bytes,what\npictures/2024/20240101_120000.jpg,moved,,"
        + subprocess.run(["sha256sum", aside / place.name], capture_output=True, text=True).stdout[:64]
        + f",{(aside / place.name).stat().st_size},remove\n"
    )
    shell("restore", "back", "--from", depot)
    assert pictures(shell.folder / "back") == pictures(small)


def test_the_longest_names_come_back(shell: Shell, small: Path) -> None:
    """A file is written under another name first, for which these leave no room."""
    folder = small / "pictures/2024"
    for number, name in enumerate(
        ("a" * 251 + ".jpg", "b" * 246 + ".jpg", "\N{CJK UNIFIED IDEOGRAPH-9727}" * 83 + ".jpg")
    ):
        (folder / name).write_bytes(picture(f"long {number}"))
    whole = pictures(small)
    shell("backup", cwd=small)
    (folder / ("a" * 251 + ".jpg")).unlink()
    flip(shell.folder / "heron/data/pictures/2024" / ("b" * 246 + ".jpg"))
    shell("verify", cwd=small, code=1)
    shell("mend", cwd=small)
    assert pictures(small) == pictures(shell.folder / "heron/data") == whole
    shell("restore", "back", "--from", shell.folder / "otter")
    assert pictures(shell.folder / "back") == whole


def test_retiring_and_replacing_tell_what_is_left_too_thin(shell: Shell, small: Path) -> None:
    shell("depot", "retire", "heron", cwd=small)
    shell("depot", "retire", "dipper", cwd=small)
    retired = shell("depot", "retire", "otter", cwd=small, code=1)
    assert "fewer than 2 copies" in retired.err and "--undo" in retired.err
    shell("depot", "retire", "otter", "--undo", cwd=small)
    (shell.folder / "new").mkdir()
    replaced = shell("depot", "replace", "otter", shell.folder / "new", "--stand-in", "new", cwd=small)
    assert "Keep the former drive" in replaced.err


def test_a_list_of_an_album_that_somebody_changed_is_kept(shell: Shell, library: Path) -> None:
    album = next(path for path in sorted((library / "albums").glob("*.csv")) if path.name != "_albums.csv")
    ours = album.read_bytes()
    for number, note in enumerate(("a note of mine\n", "another\n"), 1):
        with album.open("a") as file:
            file.write(note)
        if number == 1:
            shell("stocktake", cwd=library)
        picture_of_it = library / album.read_text().splitlines()[1].partition(",")[0]
        picture_of_it.rename(picture_of_it.with_name(f"renamed {number}.jpg"))
        told = shell("stocktake", cwd=library)
        aside = library / f"set-aside/changed/albums/{album.stem}{'' if number == 1 else '-2'}.csv"
        assert str(aside.relative_to(library)) in told.err and aside.read_text().endswith(note)
        assert f"renamed {number}.jpg" in album.read_text() and note not in album.read_text()
    assert album.read_bytes() != ours and "somebody" not in shell("stocktake", cwd=library).err
