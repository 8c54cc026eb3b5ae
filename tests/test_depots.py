"""Depots over the years: what is chosen for them, what moves and goes, drives that are cloned, swapped, retired and replaced."""

import os
import shutil
import sqlite3
import subprocess
from pathlib import Path

import pytest

from conftest import Shell, check, pictures, run_changed
from test_copies import flip


def data_of(root: Path) -> dict[str, bytes]:
    return pictures(root / "data")


def valid(root: Path) -> None:
    """A depot is a bag that checks without us, whose manifest lists all that is there."""
    done = subprocess.run(
        ["sha256sum", "-c", "--quiet", "manifest-sha256.txt"], cwd=root, capture_output=True, text=True
    )
    tags = subprocess.run(
        ["sha256sum", "-c", "--quiet", "tagmanifest-sha256.txt"], cwd=root, capture_output=True, text=True
    )
    assert done.returncode == tags.returncode == 0, done.stdout + done.stderr + tags.stdout + tags.stderr
    listed = {line.split("  ", 1)[1] for line in (root / "manifest-sha256.txt").read_text().splitlines()}
    found = {path.relative_to(root).as_posix() for path in (root / "data").rglob("*") if path.is_file()}
    assert listed == found and not (root / "incoming").exists()


def test_moves_in_the_library_become_moves_at_depots(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    inode = next((depots["heron"] / "data/pictures/2026").rglob("ALD_0669.jpg")).stat().st_ino
    (library / "pictures/2026").rename(library / "pictures/the year 2026")
    first, second = sorted((library / "pictures/2024").rglob("*.jpg"))[:2]
    for one, other in ((first, second), (Path(f"{first}.xmp"), Path(f"{second}.xmp"))):  # two frames change places
        one.rename(library / "swap")
        other.rename(one)
        (library / "swap").rename(other)
    told = shell("stocktake", "--json", cwd=library).json
    assert len(told["moved"]) > 40 and not told["changed"] and not told["vanished"] and not told["new"]
    assert (
        shell("find", "--since", "2026", "--json", cwd=library)
        .json["frames"][0]["path"]
        .startswith("pictures/the year")
    )
    plan = shell("backup", "--dry-run", "--json", cwd=library).json["heron"]
    assert plan["moved"] == len(told["moved"])
    receipt = shell("backup", "--json", cwd=library).json
    assert receipt["balanced"] and not receipt["left_out"]
    assert next((depots["heron"] / "data").rglob("ALD_0669.jpg")).stat().st_ino == inode
    for root in depots.values():
        assert data_of(root) == pictures(library)
        valid(root)
    assert shell("standing", "--json", cwd=library).json["safe"]


def test_sidecars_follow_pictures_that_were_moved_alone(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    plain, edited, taken = sorted((library / "pictures/2024").rglob("ALD_*.jpg"))[:3]
    sidecar = Path(f"{edited}.xmp")
    sidecar.write_bytes(sidecar.read_bytes().replace(b"<rdf:RDF", b"<rdf:RDF "))
    written = sidecar.read_bytes()
    (library / "pictures/elsewhere").mkdir()
    for picture in (plain, edited, taken):
        picture.rename(library / "pictures/elsewhere" / picture.name)
    other = library / f"pictures/elsewhere/{taken.name}.xmp"
    other.write_bytes(written)
    planned = shell("stocktake", "--dry-run", "--json", cwd=library, code=1).json
    assert len(planned["moved"]) == 5 and sidecar.exists()
    told = shell("stocktake", "--json", cwd=library, code=1).json
    assert told["moved"] == planned["moved"]
    assert [(one["name"], "another sidecar" in one["what"]) for one in told["findings"]] == [
        (f"{taken.relative_to(library)}.xmp", True)
    ]
    assert (library / f"pictures/elsewhere/{edited.name}.xmp").read_bytes() == written and not sidecar.exists()
    assert "all as it was" in shell("stocktake", cwd=library).out
    assert Path(f"{taken}.xmp").exists() and other.read_bytes() == written  # nothing was overwritten
    shell("tell", edited.name, "--title", "Still one sidecar", cwd=library)
    assert len(list(library.rglob(f"{edited.name}.xmp"))) == 1
    shell("backup", cwd=library)
    assert data_of(depots["otter"]) == pictures(library)


def test_what_others_write_and_bring_is_taken_up(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    sidecar = next((library / "pictures/2026").rglob("ALD_0669.jpg.xmp"))
    block = (
        "<rdf:Description rdf:about='' xmlns:dc='http://purl.org/dc/elements/1.1/'><dc:title><rdf:Alt>"
        "<rdf:li xml:lang='x-default'>By an editor</rdf:li></rdf:Alt></dc:title><dc:subject><rdf:Bag><rdf:li>dusk</rdf:li>"
        "</rdf:Bag></dc:subject></rdf:Description></rdf:RDF>"
    )
    sidecar.write_text(sidecar.read_text().replace("</rdf:RDF>", block))
    new = library / "pictures/2026/2026-09/IMG_20260901_101112.jpg"
    new.parent.mkdir()
    shutil.copy(next((library / "pictures/2025").rglob("*.jpg")), new)
    new.write_bytes(new.read_bytes() + b"another picture")
    (library / "pictures/2026/notes.txt").write_text("not a picture")
    (library / "companions/catalogue.db").write_bytes(b"catalogue")
    told = shell("stocktake", cwd=library, code=1).out
    assert "1 file changed by others" in told and "3 files new" in told and "of a kind that is not known here" in told
    shown = shell("show", "ALD_0669.jpg", "--json", cwd=library).json
    assert shown["believed"]["title"] == "By an editor" and "dusk" in shown["believed"]["keywords"]
    assert {"sidecar"} <= {claim["source"] for claim in shown["claims"]}
    assert "By an editor" in shell("find", "editor", cwd=library).out
    assert shell("show", new.name, "--json", cwd=library).json["path"].endswith(new.name)
    assert "all as it was" in shell("stocktake", cwd=library).out
    shell("backup", cwd=library)
    assert data_of(depots["otter"]) == pictures(library)
    # What the user says afterwards stands above the editor, and the editor's own words stay in the file.
    shell("tell", "ALD_0669.jpg", "--title", "My own", cwd=library)
    assert shell("show", "ALD_0669.jpg", "--json", cwd=library).json["believed"]["title"] == "My own"
    assert "dusk" in sidecar.read_text()


def test_what_vanishes_is_named_brought_back_or_let_go(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    gone = [path for path in sorted((library / "pictures/2024").rglob("*")) if path.is_file()][:4]
    before = [path.read_bytes() for path in gone]
    for path in gone:
        path.unlink()
    assert "it has vanished" in shell("stocktake", cwd=library, code=1).out
    assert not shell("standing", "--json", cwd=library, code=1).json["safe"]
    shell("mend", cwd=library)
    assert [path.read_bytes() for path in gone] == before
    for path in gone:
        path.unlink()
    spared = next(path for path in sorted((library / "pictures/2025").rglob("*.xmp")))
    kept = spared.read_bytes()
    spared.unlink()  # an accident beside it is not let go along with it
    asked = shell("stocktake", *(word for path in gone for word in ("--let-go", path.name)), cwd=library, code=1).err
    assert all(path.name in asked for path in gone) and "Go on?" in asked and spared.name not in asked
    shell("stocktake", "--let-go", "pictures/2024/", "--yes", cwd=library, code=1)
    assert "called 'nothing'" in shell("stocktake", "--let-go", "nothing", cwd=library, code=2).err
    shell("mend", cwd=library)
    assert spared.read_bytes() == kept
    left = shell("find", "--json", cwd=library).json["found"]
    assert left < 96
    receipt = shell("backup", "--json", cwd=library).json
    assert receipt["balanced"] and any("moved to earlier/" in line["what"] for line in receipt["kept"])
    for root in depots.values():
        valid(root)
        assert data_of(root) == pictures(library)
        assert sorted(
            path.read_bytes() for path in (root / "earlier").rglob("*") if path.suffix in (".jpg", ".xmp")
        ) == sorted(
            [
                *before,
                *(path.read_bytes() for path in (root / "earlier").rglob("*.xmp") if path.read_bytes() not in before),
            ]
        )
    # Put back by hand, it is moved back at the depots, not copied.
    for path, content in zip(gone, before, strict=True):
        path.write_bytes(content)
    shell("backup", cwd=library)
    assert data_of(depots["otter"]) == pictures(library)


def test_the_guard_stops_a_mass_of_changes(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    held = data_of(depots["heron"])
    for path in (library / "pictures").rglob("*.jpg"):  # as malware does
        path.write_bytes(bytes(byte ^ 0x5A for byte in path.read_bytes()[:1000]))
    refused = shell("backup", cwd=library, code=3).err
    assert "more than the guard lets pass" in refused and "--yes" in refused and "changed: pictures/" in refused
    shell("backup", "--yes", cwd=library, code=1)  # even then no original is copied over a good one
    assert {name: content for name, content in data_of(depots["heron"]).items() if name.endswith(".jpg")} == {
        name: content for name, content in held.items() if name.endswith(".jpg")
    }
    shell("mend", cwd=library)
    assert pictures(library) == held
    shell("backup", cwd=library)
    shutil.rmtree(library / "pictures/2025")
    refused = shell("stocktake", cwd=library, code=3).err
    assert "vanished: pictures/2025" in refused and "5% of the frames" in refused and "--let-go NAME" in refused
    shell("stocktake", "--let-go", "pictures/2025/", "--yes", cwd=library)
    # At a depot, too, and in its own words.
    shell("depot", "change", "heron", "--keep-for", "none", cwd=library)
    assert "would be DELETED" in shell("backup", "heron", cwd=library, code=3).err
    assert "would be moved to earlier/" in shell("backup", "otter", cwd=library, code=3).err
    assert data_of(depots["heron"]) == held
    shell("backup", "--yes", cwd=library)
    assert all(data_of(root) == pictures(library) != held for root in depots.values())


def test_a_depot_gets_what_is_chosen_for_it(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    (tmp_path / "small").mkdir()
    shell(
        "depot", "add", "small", tmp_path / "small", "--site", "boathouse", "--medium", "usb", "--stand-in", "small",
        "--year", "2025", "--without", "delivered/", cwd=library,
    )  # fmt: skip
    (library / "companions/previews").mkdir()
    (library / "companions/previews/a.jpg").write_bytes(b"preview")
    (library / "companions/.hidden").write_bytes(b"hidden")
    shell("backup", cwd=library)
    data = tmp_path / "small/data"
    whole = pictures(library)
    assert pictures(data) == {name: content for name, content in whole.items() if name.startswith("pictures/2025/")}
    assert (
        not (data / "delivered").exists()
        and (data / "companions/.hidden").exists()
        and list((data / "albums").iterdir())
    )
    assert shell("--library", tmp_path / "small", "find", "--since", "2025", "--until", "2025", "--json").json["found"]
    changed = shell(
        "depot", "change", "small", "--year", "2024", "--without", ".*", "--without", "companions/previews/", cwd=library
    )  # fmt: skip
    assert "gets" not in changed.out and "frames of 2024 that do not fit" in changed.out
    receipt = shell("backup", "--yes", "--json", cwd=library).json
    assert receipt["balanced"]
    assert {name.split("/")[1] for name in pictures(data)} == {"2024"} and (data / "delivered").exists()
    assert (
        not (data / "companions/.hidden").exists() and (data / "companions/previews").glob("*.jpg").__next__ is not None
    )
    valid(tmp_path / "small")
    assert shell("standing", "--json", cwd=library).json["safe"]
    assert "Nothing to do" in shell("backup", cwd=library).out
    for wrong, told in (
        ("--year", "no year"),
        ("--kind", "no kind"),
        ("--since", "no date"),
        ("--keep-for", "no time to keep"),
    ):
        assert told in shell("depot", "change", "small", wrong, "x-y", cwd=library, code=2).err


def test_mirrors_and_purging(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    shell("depot", "change", "heron", "--keep-for", "none", cwd=library)
    shell("tell", "ALD_0669.jpg", "--title", "Second", cwd=library)
    shell("backup", cwd=library)
    assert not list(depots["heron"].glob("earlier/*")) and list(depots["otter"].glob("earlier/*"))
    purges = [one for one in shell("receipt", "--list", "--json", cwd=library).json if one["run"] == "purge"]
    assert len(purges) == 1
    listed = shell("earlier", "otter", "--json", cwd=library).json["earlier"]
    assert any(one["path"].endswith("ALD_0669.jpg.xmp") for one in listed)
    assert "no earlier versions" in shell("purge", "otter", "--older-than", "30", cwd=library).err
    assert "Delete" in shell("purge", "otter", "--before", "2100", cwd=library, code=1).err  # nobody there to say yes
    assert list(depots["otter"].glob("earlier/*"))
    purged = shell("purge", "otter", "--before", "2100", "--yes", "--json", cwd=library).json
    assert len(purged["left_out"]) == len(listed)
    assert not list(depots["otter"].glob("earlier/*"))
    for root in depots.values():
        valid(root)
    assert shell("verify", "--json", cwd=library).json["findings"] == []


def test_a_cloned_drive_and_a_revived_library_are_refused(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    shutil.copytree(depots["heron"], tmp_path / "clone", copy_function=shutil.copy2)
    shutil.copytree(library, tmp_path / "old", copy_function=shutil.copy2)
    shell("tell", "ALD_0669.jpg", "--title", "Later", cwd=library)
    shell("backup", cwd=library)
    # The clone stands where the drive was.
    depots["heron"].rename(tmp_path / "true")
    (tmp_path / "clone").rename(depots["heron"])
    refused = shell("backup", "heron", cwd=library, code=3).err
    assert "a clone, or a drive that was put back" in refused and "depot adopt heron" in refused
    before = data_of(depots["heron"])
    shell("depot", "adopt", depots["heron"], "--as", "spare", cwd=library)
    shell("depot", "add", "heron", tmp_path / "true", cwd=library)
    shell("backup", cwd=library)
    assert data_of(depots["heron"]) != before and data_of(depots["heron"]) == data_of(tmp_path / "true")
    assert "Nothing to do" in shell("backup", "spare", "heron", cwd=library).out
    # A library that was revived from an old copy has another future than the drives.
    refused = shell("backup", "otter", cwd=tmp_path / "old", code=3).err
    assert "has never had" in refused and "revived" in refused
    shell("tell", "ALD_0669.jpg", "--title", "Another future", cwd=tmp_path / "old")
    assert "has never had" in shell("backup", "otter", cwd=tmp_path / "old", code=3).err
    shell("depot", "adopt", "otter", cwd=tmp_path / "old")
    shell("backup", "otter", cwd=tmp_path / "old", code=None)
    valid(depots["otter"])
    assert "Another future" in "".join(
        path.read_text() for path in (depots["otter"] / "data").rglob("ALD_0669.jpg.xmp")
    )
    assert "Later" in "".join(path.read_text() for path in (depots["otter"] / "earlier").rglob("ALD_0669.jpg.xmp"))
    assert "has never had" in shell("backup", "otter", cwd=library, code=3).err


def test_drives_are_retired_replaced_repaired(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    shell("depot", "retire", "dipper", cwd=library)
    weighed = shell("standing", "--json", cwd=library, code=1).json
    assert weighed["states"] == {"short": 96} and "dipper" not in {one["name"] for one in weighed["holders"]}
    assert "was retired" in shell("backup", "dipper", cwd=library, code=3).err
    shell("depot", "retire", "dipper", "--undo", cwd=library)
    assert shell("standing", "--json", cwd=library).json["safe"]
    (tmp_path / "newer").mkdir()
    replace = ("depot", "replace", "otter", tmp_path / "newer", "--stand-in", "newer")
    assert "holds other things" in shell("depot", "replace", "otter", depots["heron"], cwd=library, code=3).err
    killed = (
        "import os, bramblemoor.depots.register.enroll as e; e.enter_depot = lambda *_, **__: os.kill(os.getpid(), 9)"
    )
    assert run_changed(shell, library, killed, {}, *replace).returncode == -9
    assert "otter until" not in shell("depot", "list", cwd=library).out
    shell(*replace, cwd=library)
    # The former drive is a depot again under a name of its own, and only under one that tells it apart.
    assert "depot adopt" in shell("depot", "add", "former", depots["otter"], cwd=library, code=2).err
    for name in ("library", "heron", "a/b"):
        refused = shell("depot", "adopt", depots["otter"], "--as", name, cwd=library, code=2).err
        assert "cannot be called" in refused or "already" in refused
    shell("depot", "adopt", depots["otter"], "--as", "[former] drive", cwd=library)
    assert "[former] drive" in shell("standing", cwd=library).out
    shell("depot", "retire", "[former] drive", cwd=library)
    shell("depot", "level", depots["heron"], tmp_path / "newer")
    assert data_of(tmp_path / "newer") == data_of(depots["heron"])
    valid(tmp_path / "newer")
    shell("backup", cwd=library)
    shell("verify", "otter", cwd=library)
    assert shell("standing", "--json", cwd=library).json["safe"]
    listed = shell("depot", "list", cwd=library).out
    assert "otter until" in listed and "retired" in listed
    (depots["heron"] / "depot.toml").write_bytes(b"\x00garbage")
    assert "depot repair" in shell("backup", "heron", cwd=library, code=3).err
    # It hides none of the others.
    listed = shell("depot", "list", cwd=library, COLUMNS="300").out
    assert "damaged depot.toml" in listed and str(tmp_path / "newer") in listed
    passed = shell("backup", cwd=library, code=1)
    assert "depot repair" in passed.err and passed.out.startswith("Nothing to do: dipper, otter are level")
    shell("depot", "repair", "heron", depots["heron"], cwd=library)
    shell("verify", "heron", cwd=library)
    valid(depots["heron"])
    line = depots["heron"] / "line.json"
    for rotten in (b"\xff{", line.read_bytes().replace(b'"digest": "', b'"digest": "0', 1), None):
        line.unlink() if rotten is None else line.write_bytes(rotten)
        assert "depot repair heron" in shell("backup", "heron", cwd=library, code=3).err
        assert "is damaged or missing" in shell("mend", cwd=library, code=None).err
        shell("depot", "repair", "heron", depots["heron"], cwd=library)
        assert "nothing to repair" in shell("depot", "repair", "heron", depots["heron"], cwd=library, code=2).err
        shell("verify", "heron", cwd=library)
        valid(depots["heron"])
    # By name the whole library comes back too, and so does a ledger that nobody can read, from a folder.
    shell("restore", tmp_path / "again", "--from", "heron", cwd=library)
    assert pictures(tmp_path / "again") == pictures(library)
    (library / "ledger/ledger.sqlite").write_bytes(b"garbage")
    assert "depot add" in shell("restore", ".", "--ledger-only", "--from", depots["heron"], cwd=library).out
    assert shell("standing", "--json", cwd=library, code=1).json["frames"] == 96


def test_two_depots_are_brought_level_without_the_library(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    shell("backup", cwd=library)
    (library / "pictures/2026").rename(library / "pictures/moved")
    shell("tell", "ALD_0457.jpg", "--title", "Level", cwd=library)
    shell("backup", "heron", cwd=library)
    library.rename(tmp_path / "away")
    assert "is newer than" in shell("depot", "level", depots["otter"], depots["heron"], code=3).err
    receipt = shell("depot", "level", depots["heron"], depots["otter"], "--json").json
    assert receipt["balanced"] and any(line["what"] == "moved there" for line in receipt["kept"])
    assert data_of(depots["otter"]) == data_of(depots["heron"])
    valid(depots["otter"])
    assert not any(
        "copied" in line["what"]
        for line in shell("depot", "level", depots["heron"], depots["otter"], "--json").json["kept"]
    )
    (tmp_path / "away").rename(library)
    assert shell("backup", cwd=library).out
    assert data_of(depots["dipper"]) == data_of(depots["otter"]) == pictures(library)
    # What is listed at the second and is not there, or not as long, is lacking as well.
    shutil.rmtree(depots["otter"] / "data/pictures/2025/2025-11")
    longer = next((depots["otter"] / "data/pictures/2024").rglob("*.jpg"))
    longer.write_bytes(longer.read_bytes() + b"longer")
    shell("depot", "level", "heron", "otter", cwd=library)
    assert data_of(depots["otter"]) == data_of(depots["heron"])
    valid(depots["otter"])
    # A depot that gets less takes nothing away from one that gets more.
    (tmp_path / "few").mkdir()
    shell("depot", "add", "few", tmp_path / "few", "--site", "attic", "--medium", "ssd", "--year", "2025", cwd=library)
    shell("backup", "few", cwd=library)
    shell("depot", "level", tmp_path / "few", depots["otter"])
    assert data_of(depots["otter"]) == pictures(library)
    looked = shell("depot", "look", depots["otter"])
    assert "pictures/" in looked.out and "runs changed it" in looked.out
    assert "ALD_" in shell("depot", "look", depots["otter"], "--below", "pictures/2025/2025-11").out


def test_an_earlier_state_comes_back(shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path) -> None:
    shell("backup", "heron", cwd=library)
    whole = pictures(library)
    # A day passes: the first run is dated back, at the depot alone, as a drive from long ago would be.
    run = next((depots["heron"] / "runs").glob("*.csv"))
    tags = depots["heron"] / "tagmanifest-sha256.txt"
    tags.write_text(tags.read_text().replace(run.name, "0001-20200101T000000Z.csv"))
    run.rename(run.with_name("0001-20200101T000000Z.csv"))
    (library / "pictures/2024").rename(library / "pictures/other")
    shell("tell", "ALD_0669.jpg", "--title", "Changed", cwd=library)
    rotten = next((depots["heron"] / "data/pictures/2025").rglob("*.jpg"))
    flip(rotten)
    shell("verify", "heron", cwd=library, code=1)
    shell("mend", "heron", cwd=library)
    shell("backup", "heron", cwd=library)
    receipt = shell("restore", tmp_path / "then", "--from", "heron", "--as-of", "2021", "--json", cwd=library).json
    assert receipt["balanced"] and not receipt["left_out"]
    assert pictures(tmp_path / "then") == whole
    shell("restore", tmp_path / "now", "--from", "heron", "--as-of", "2100", cwd=library)
    assert pictures(tmp_path / "now") == pictures(library)
    shell("restore", tmp_path / "some", "--from", "heron", "--as-of", "2021", "--year", "2024", cwd=library)
    assert pictures(tmp_path / "some") == {
        name: one for name, one in whole.items() if name.startswith("pictures/2024/")
    }


def test_former_ledgers_thin_out_and_earlier_states_come_back_without_them(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    heron = depots["heron"]
    shell("backup", "heron", cwd=library)
    tags = heron / "tagmanifest-sha256.txt"

    def date_back(date: str) -> None:
        """The last run, at the depot alone, as a drive from long ago would be."""
        run = max(path.stem for path in (heron / "runs").glob("*-202[1-9]*.csv"))
        long_ago = f"{run[:5]}{date}T000000Z"
        for path in (heron / f"runs/{run}.csv", heron / f"earlier/{run}"):
            if path.exists():
                path.rename(str(path).replace(run, long_ago))
        tags.write_text(tags.read_text().replace(run, long_ago))

    date_back("20200101")
    states = [pictures(library)]
    for title, date in (("First", "20200105"), ("Second", "20200120"), ("Third", "20200302")):
        shell("tell", "ALD_0669.jpg", "--title", title, cwd=library)
        if title == "Second":
            (library / "pictures/2024").rename(library / "pictures/other")
            (library / "pictures/2025/new.jpg").write_bytes(
                next((library / "pictures/2025").rglob("*.jpg")).read_bytes() + b"0"
            )
        shell("backup", "heron", cwd=library)
        date_back(date)
        states.append(pictures(library))
    # The last one of each month stays, and what was set aside a moment ago.
    shell("tell", "ALD_0669.jpg", "--title", "Fourth", cwd=library)
    shell("backup", "heron", cwd=library)
    kept = sorted(path.parts[-4][5:13] for path in heron.glob("earlier/*/data/ledger/ledger.sqlite"))
    assert kept[:2] == ["20200120", "20200302"] and len(kept) == 3
    purged = [one for one in shell("receipt", "--list", "--json", cwd=library).json if one["run"] == "purge"]
    assert len(purged) == 1
    assert "ledger/ledger.sqlite" in shell("receipt", purged[0]["number"], cwd=library).out
    valid(heron)
    assert shell("verify", "heron", "--json", cwd=library).json["findings"] == []
    for number, moment in enumerate(("2020-01-02", "2020-01-10", "2020-02", "2021")):
        shell("restore", tmp_path / moment, "--from", "heron", "--as-of", moment, cwd=library)
        assert pictures(tmp_path / moment) == states[number]


def test_some_of_a_library_is_restored(shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path) -> None:
    shell("backup", cwd=library)
    whole = pictures(library)
    flip(next((depots["heron"] / "data/pictures/2025").rglob("ALD_0457.jpg")))
    target = tmp_path / "out"
    receipt = shell("restore", target, "--year", "2025", "--json", cwd=library, code=1).json
    assert pictures(target) == {name: one for name, one in whole.items() if name.startswith("pictures/2025/")}
    assert receipt["balanced"] and "was not sound at heron" in receipt["findings"][0]["what"]
    again = shell("restore", target, "--year", "2025", "--json", cwd=library).json
    assert [line["what"] for line in again["kept"]] == ["there already"]
    other = next(target.rglob("*.jpg"))
    other.write_bytes(b"my own")
    kept = shell("restore", target, "--year", "2025", "--json", cwd=library, code=1).json
    assert len(kept["left_out"]) == 1 and other.read_bytes() == b"my own"
    shell("restore", tmp_path / "one", "--frame", "ALD_0669.jpg", "--from", depots["otter"], cwd=tmp_path)
    assert {Path(name).name for name in pictures(tmp_path / "one")} >= {"ALD_0669.jpg", "ALD_0669.jpg.xmp"}
    assert list((tmp_path / "one").glob("restored-*.json"))
    shell("restore", tmp_path / "album", "--album", "best of the valley", cwd=library, code=None)
    assert len(list((tmp_path / "album").rglob("*.jpg"))) > 3
    assert (
        "There are no frames of 1901" in shell("restore", tmp_path / "none", "--year", "1901", cwd=library, code=2).err
    )
    missing = next((library / "pictures/2026").rglob("ALD_0669.jpg"))
    missing.unlink()
    shell("restore", library, "--frame", "ALD_0669.jpg", cwd=library)
    assert pictures(library) == whole
    (library / "ledger/ledger.sqlite").write_bytes(b"garbage" * 1000)
    assert "--ledger-only" in shell("find", cwd=library, code=3).err
    shell("restore", library, "--ledger-only", "--from", depots["heron"], "--from", depots["otter"], cwd=tmp_path)
    since = shell("stocktake", "--json", cwd=library).json
    assert (
        since["new"] and all("receipts/" in path for path in since["new"]) and not since["vanished"] + since["changed"]
    )
    shell("backup", "heron", "otter", cwd=library)


def test_readings_within_a_budget(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    held = shell("depot", "list", "--json", cwd=library).json["depots"][0]["files"]
    sample = shell("verify", "heron", "--sample", "7", "--json", cwd=library).json
    assert sample["kept"][0]["amount"]["files"] == 7 and sample["came_in"]["files"] == held and sample["balanced"]
    read: list[int] = []
    while sum(read) < held:  # works through the drive, a bit each night
        one = shell("verify", "heron", "--longest-unread", "--up-to", "2MB", "--json", cwd=library).json
        read.append(one["kept"][0]["amount"]["files"])
        assert len(read) < 12 and one["balanced"]
    assert len(read) > 2
    shell("verify", "heron", "--minutes", "0.5", cwd=library)
    for path in sorted((depots["heron"] / "data/pictures").rglob("*.jpg"))[:40]:
        flip(path)
    drilled = shell("drill", "heron", "--files", "60", "--json", cwd=library, code=1).json
    assert drilled["tried"] == 60 and drilled["unreadable"] >= 1
    assert drilled["unreadable"] / 60 < drilled["at_most_unreadable"] < 1
    sound = shell("drill", "otter", "--files", "20", cwd=library).out
    assert "At 95 % confidence" in sound and "Restoring everything" in sound
    assert len(shell("verify", "heron", "--json", cwd=library, code=1).json["left_out"]) == 40
    shell("mend", cwd=library)
    assert shell("standing", "--json", cwd=library).json["safe"]


def test_what_if_something_were_lost(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "heron", "otter", cwd=library)
    studio = shell("standing", "--if-lost", "studio", "--json", cwd=library, code=1).json
    assert studio["states"] == {"lost": 96} and studio["named"]
    shell("backup", "dipper", cwd=library)
    studio = shell("standing", "--if-lost", "studio", cwd=library, code=1).out
    assert "no frame of" in studio and "96 single" in studio and "dipper at cottage" in studio
    both = shell("standing", "--if-lost", "hdd", "--if-lost", "library", "--json", cwd=library, code=1).json
    assert both["states"] == {"single": 96}
    assert "Did you mean studio?" in shell("standing", "--if-lost", "studo", cwd=library, code=2).err
    by_shoot = shell("standing", "--by-shoot", "--json", cwd=library).json["shoots"]
    assert sum(one["states"]["sound"] for one in by_shoot.values()) == 96


@pytest.mark.skipif(os.geteuid() != 0, reason="only the owner of the machine can mount file systems")
def test_a_depot_is_found_by_its_id_on_any_mount(shell: Shell, world: Path, library: Path, tmp_path: Path) -> None:
    image, first, second = tmp_path / "drive.img", tmp_path / "sdb", tmp_path / "sdc"
    with image.open("wb") as file:
        file.truncate(40 << 20)
    make = [shutil.which("mkfs.ext4") or "false", "-q", "-m0", str(image)]
    made = subprocess.run(make, check=False, capture_output=True).returncode == 0
    for folder in (first, second):
        folder.mkdir()
    if not made or subprocess.run(["mount", "-o", "loop", image, first], check=False, capture_output=True).returncode:
        pytest.skip("this machine lets nobody mount a small file system")
    try:
        (first / "copies").mkdir()
        shell("depot", "add", "usb", first / "copies", "--site", "cottage", "--medium", "hdd", cwd=library)
        shell("backup", cwd=library)
        subprocess.run(["umount", first], check=True)
        assert "no attached drive carries it" in shell("backup", "usb", cwd=library, code=3).err
        subprocess.run(["mount", "-o", "loop", image, second], check=True)
        assert str(second) in shell("depot", "list", "--attached", cwd=library).out
        assert "Nothing to do" in shell("backup", "usb", cwd=library).out
        assert shell("depot", "list", "--json", cwd=library).json["depots"][0]["folder"] == str(second / "copies")
        subprocess.run(["mount", "-o", "remount,ro", second], check=True)
        assert "cannot be written" in shell("backup", "usb", cwd=library, code=3).err
        shell("verify", "usb", cwd=library)  # reading is another matter
        check(world, "--library", library, "--depot", second / "copies")
    finally:
        for mount in (first, second):
            subprocess.run(["umount", mount], check=False, capture_output=True)


def test_a_year_is_put_away_and_opened_again(
    shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path
) -> None:
    whole = pictures(library)
    year = {name: one for name, one in whole.items() if name.startswith("pictures/2024/")}
    assert "lacks" in shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library, code=3).err
    shell("backup", cwd=library)
    rotten = next((depots["otter"] / "data/pictures/2024").rglob("*.jpg"))
    flip(rotten)
    assert "NOT bound" in shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library, code=1).out
    shell("mend", cwd=library)
    receipt = shell("bind", "2024", "--at", "heron", "--at", "otter", "--json", cwd=library).json
    assert receipt["balanced"] and receipt["about"]["bound"] == "yes" and receipt["came_in"]["files"] == 3 * len(year)
    assert "is bound already" in shell("bind", "2024", "--at", "heron", cwd=library, code=2).err
    assert "heron, otter" in shell("bind", cwd=library).out
    shell("backup", cwd=library)
    assert list((depots["heron"] / "data/ledger/receipts").glob("*-bind-*.json"))
    # What is bound does not change.
    name = next(name for name in year if name.endswith(".jpg"))
    assert "is bound" in shell("tell", name, "--title", "x", cwd=library, code=2).err
    for there, back in ((".moved", ""), ("", ".moved")):  # a picture and its sidecar, and back
        for end in ("", ".xmp"):
            (library / (name + back + end)).rename(library / (name + there + end))
        assert "2 of its files were moved or renamed" in shell("stocktake", cwd=library, code=1).out
    assert "which is bound" in shell("tell", "ALD_0457.jpg", "--taken", "2024-05-05", cwd=library, code=2).err
    assert "2025-11-08" in shell("show", "ALD_0457.jpg", cwd=library).out
    sidecar = library / next(name for name in year if name.endswith(".xmp"))
    before = sidecar.read_bytes()
    sidecar.write_bytes(before.replace(b"<rdf:RDF", b"<rdf:RDF "))
    assert "its year is bound" in shell("stocktake", cwd=library, code=1).out
    assert "Put that right first" in shell("free", "2024", "--yes", cwd=library, code=3).err
    shell("mend", cwd=library)
    assert sidecar.read_bytes() == before
    # It leaves the working drive only when enough copies elsewhere were read.
    (library / "bramblemoor.toml").write_text(
        (library / "bramblemoor.toml").read_text().replace("[erase]\ncopies = 2", "[erase]\ncopies = 4")
    )
    assert "fewer than 4 fresh copies" in shell("free", "2024", "--yes", cwd=library, code=3).err
    (library / "bramblemoor.toml").write_text(
        (library / "bramblemoor.toml").read_text().replace("[erase]\ncopies = 4", "[erase]\ncopies = 2")
    )
    assert "Delete 2024 from" in shell("free", "2024", cwd=library, code=1).err
    freed = shell("free", "2024", "--yes", "--json", cwd=library).json
    assert freed["balanced"] and freed["came_in"]["files"] == len(year) and not (library / "pictures/2024").exists()
    assert "all as it was" in shell("stocktake", cwd=library).out.replace("1 file new", "all as it was")
    hit = shell("find", "--since", "2024", "--until", "2024", cwd=library).out
    assert "put away" in hit and "heron" in hit and "otter" in hit
    assert "put away" in shell("show", name, cwd=library).out
    shell("backup", cwd=library)
    assert all(pictures(root / "data") == whole for root in depots.values())
    weighed = shell("standing", "--json", cwd=library, code=None).json
    assert weighed["years"]["2024"]["states"] == {"sound": weighed["years"]["2024"]["held"]["heron"]}
    # Years later, under any name, with the library away.
    library.rename(tmp_path / "away")
    depots["otter"].rename(tmp_path / "found in a drawer")
    alone = shell("depot", "alone", tmp_path / "found in a drawer", "--year", "2024", "--json").json
    assert alone["outside"] == [] and alone["files"] == len(year) and alone["opened"] >= len(year)
    trace = tmp_path / "trace"
    if shutil.which("strace"):  # the system's own word for it
        command = ["strace", "-f", "-qq", "-e", "trace=openat,open", "-o", str(trace)]
        command += shell.command("depot", "alone", tmp_path / "found in a drawer", "--year", "2024")
        assert subprocess.run(command, env=shell.environment, capture_output=True).returncode == 0
        read = [line for line in trace.read_text(errors="replace").splitlines() if ".jpg" in line]
        assert (
            read
            and all("found in a drawer" in line for line in read)
            and str(tmp_path / "away") not in trace.read_text()
        )
    (tmp_path / "found in a drawer").rename(depots["otter"])
    (tmp_path / "away").rename(library)
    # What a service told of its frames meanwhile is written beside them.
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        frame = db.execute("SELECT frame FROM files WHERE path = ?", (f"{name}.xmp",)).fetchone()[0]
        db.execute("INSERT INTO claims VALUES (?, 'keyword', 'seen by the weir', 'service', '')", (frame,))
    opened = shell("reopen", "2024", "--json", cwd=library).json
    assert opened["balanced"]
    assert {path for path, one in pictures(library).items() if one != whole[path]} == {f"{name}.xmp"}
    assert b"seen by the weir" in (library / f"{name}.xmp").read_bytes()
    shell("tell", name, "--title", "Opened again", cwd=library)
    shell("backup", cwd=library)  # the twins are brought level
    assert pictures(depots["heron"] / "data") == pictures(depots["otter"] / "data") == pictures(library) != whole


def test_a_year_that_is_away_is_kept_safe(shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path) -> None:
    whole = pictures(library)
    shell("backup", cwd=library)
    shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library)
    shell("free", "2024", "--yes", cwd=library)
    # A new drive gets it from one that has it; and where none takes part, that is said.
    wren = tmp_path / "wren"
    wren.mkdir()
    shell("depot", "add", "wren", wren, "--site", "attic", "--medium", "hdd", "--stand-in", "wren", cwd=library)
    assert "put away" in shell("backup", "wren", cwd=library, code=1).out
    assert "put away" in shell("backup", "wren", cwd=library, code=1).out  # and again, though nothing is left to copy
    shell("backup", cwd=library)
    assert pictures(wren / "data") == whole
    # So does one that is mounted where its predecessor was.
    assert "is where the depot wren lies" in shell("depot", "replace", "wren", wren, cwd=library, code=2).err
    wren.rename(tmp_path / "dead")
    wren.mkdir()
    shell("depot", "replace", "wren", wren, "--stand-in", "wren too", cwd=library)
    shell("backup", cwd=library)
    assert pictures(wren / "data") == whole
    # What rots there is mended from another drive, or replaced by the next backup.
    rotten, gone = sorted((depots["heron"] / "data/pictures/2024").rglob("*.jpg"))[:2]
    rotten.write_bytes(rotten.read_bytes() + b"longer")
    gone.unlink()
    shell("verify", "heron", cwd=library, code=1)
    assert "no good copy" in shell("mend", "heron", cwd=library, code=1).out
    shell("mend", cwd=library)
    assert pictures(depots["heron"] / "data") == whole
    flip(rotten)
    shell("verify", "heron", cwd=library, code=1)
    shell("backup", cwd=library)
    assert pictures(depots["heron"] / "data") == whole
    # What comes to the year later is not let go before it has its copies.
    late = library / "pictures/2024/late.jpg"
    late.parent.mkdir(parents=True)
    late.write_bytes(rotten.read_bytes() + b"another")
    assert "new in a year that is bound" in shell("stocktake", cwd=library, code=1).out
    assert "1 file has fewer than 2" in shell("free", "2024", "--yes", cwd=library, code=3).err
    shell("backup", cwd=library)
    shell("free", "2024", "--yes", cwd=library)
    assert not late.exists() and (wren / "data/pictures/2024/late.jpg").read_bytes() == rotten.read_bytes() + b"another"
    shell("backup", cwd=library)
    # A ledger that comes back from a depot knows what is away; a library that comes back has it all, and lets none go.
    (library / "ledger/ledger.sqlite").write_bytes(b"garbage")
    shell("restore", ".", "--ledger-only", "--from", depots["heron"], cwd=library)
    assert "vanished" not in shell("stocktake", cwd=library).out
    assert shell("standing", "--json", cwd=library, code=1).json["years"]["2024"]["held"]["library"] == 0
    shell("restore", tmp_path / "again", "--from", depots["heron"])
    assert "Nothing was deleted" in shell("free", "2024", "--yes", cwd=tmp_path / "again", code=3).err
    assert "freed on" not in shell("bind", cwd=tmp_path / "again").out
    # A drive that is not sound at the first try does not upset the books.
    rotten.write_bytes(rotten.read_bytes() + b"longer")
    for name in ("otter", "wren"):
        shell("depot", "add", name, tmp_path / name, cwd=library)
    opened = shell("reopen", "2024", "--json", cwd=library, code=None).json
    assert opened["balanced"] and pictures(library) == pictures(wren / "data")


def test_the_last_copies_of_a_freed_year_stay(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    """Whatever the depots are said to get: a mirror would delete them for good."""
    of_year = {name for name in pictures(library) if name.startswith("pictures/2024/")}
    shell("backup", cwd=library)
    shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library)
    shell("free", "2024", "--yes", cwd=library)
    for name in depots:
        shell("depot", "change", name, "--year", "2025-2026", "--keep-for", "none", cwd=library)
    for _ in range(2):
        told = shell("backup", "--yes", cwd=library, code=1).out
        assert "too few other drives" in told and told.count(f": {len(of_year)} files") == 2
        assert [of_year <= set(pictures(root / "data")) for root in depots.values()].count(True) == 2
    assert "let more have them" in shell("standing", cwd=library, code=1).out
    # A library that comes back from a drive without the year knows that it is away still.
    few = next(root for root in depots.values() if not of_year & set(pictures(root / "data")))
    shell("restore", "part", "--from", few)
    assert "vanished" not in shell("stocktake", cwd=shell.folder / "part").out
    assert "freed on" in shell("bind", cwd=shell.folder / "part").out
    held = shell("standing", "--json", cwd=shell.folder / "part", code=1).json["years"]["2024"]["held"]
    assert held["library"] == 0
    shell("reopen", "2024", cwd=library)
    # The library's copy counts like another; of what two depots would give up, one must stay for that.
    for _ in range(2):
        shell("backup", "--yes", cwd=library, code=None)
        assert [of_year <= set(pictures(root / "data")) for root in depots.values()].count(True) == 1
    assert of_year < set(pictures(library))


def test_some_of_a_freed_year_is_restored_to_its_library(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    whole = pictures(library)
    shell("backup", cwd=library)
    shell("bind", "2024", "--at", "heron", "--at", "otter", cwd=library)
    shell("free", "2024", "--yes", cwd=library)
    # What was put back by hand is named, for it is not copied.
    shutil.copytree(depots["heron"] / "data/pictures/2024", library / "pictures/2024")
    told = shell("backup", cwd=library, code=1).out
    assert "free the year again" in told and f"{sum(name.startswith('pictures/2024/') for name in whole)} x" in told
    shell("free", "2024", "--yes", cwd=library)
    shell("restore", ".", "--frame", "ALD_0030.jpg", cwd=library)
    shell("stocktake", cwd=library)
    assert "freed on" in shell("bind", cwd=library).out
    assert shell("standing", "--json", cwd=library, code=None).json["years"]["2024"]["held"]["library"] == 1
    shell("restore", ".", "--year", "2024", cwd=library)
    assert pictures(library) == whole and "freed on" not in shell("bind", cwd=library).out
    shell("backup", cwd=library)
    freed = shell("free", "2024", "--yes", "--json", cwd=library).json["came_in"]["files"]
    assert freed == len(whole) - len(pictures(library))
    # What somebody wrote there meanwhile does not keep the year from being opened; stocktake judges it.
    sidecar = next(name for name in whole if name.startswith("pictures/2024/") and name.endswith(".xmp"))
    (library / sidecar).parent.mkdir(parents=True)
    (library / sidecar).write_bytes(whole[sidecar].replace(b"<rdf:RDF", b"<rdf:RDF "))
    assert "a different file" in shell("reopen", "2024", cwd=library, code=1).out
    assert "No year" in shell("bind", cwd=library).out
    assert "1 file changed by others" in shell("stocktake", cwd=library).out
    assert len(pictures(library)) == len(whole) and pictures(library)[sidecar] != whole[sidecar]


# From the third file on, nothing can be put in its place at one depot.
STUCK = """
import errno, os
real, left = os.replace, [1]
def replace(old, new):
    if "/otter/data/" in str(new) and "/incoming/" in str(old):
        left[0] -= 1
        if left[0] < 0:
            raise OSError(errno.EIO, "Input/output error", str(new))
    real(old, new)
os.replace = replace
"""


def test_a_drive_that_cannot_rename_leaves_its_run_open(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    for number, path in enumerate(sorted((library / "pictures/2025").rglob("*.xmp"))[:4]):
        path.write_bytes(path.read_bytes().replace(b"<rdf:RDF", b"<rdf:RDF" + b" " * (number + 1)))
    (library / "companions/notes.db").write_bytes(b"notes")
    done = run_changed(shell, library, STUCK, {}, "backup", "--yes")
    assert done.returncode == 3 and "otter could not be closed" in done.stderr and "Traceback" not in done.stderr
    assert list((depots["otter"] / "incoming").glob("*/journal.jsonl"))
    valid(depots["heron"])  # the others are level, and closed
    assert data_of(depots["heron"]) == pictures(library)
    shell("backup", cwd=library)
    valid(depots["otter"])
    assert data_of(depots["otter"]) == pictures(library)
    shell("verify", cwd=library)
