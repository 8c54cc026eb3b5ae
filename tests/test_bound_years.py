"""Years that are put away: bound, freed, kept safe, brought back."""

import shutil
import sqlite3
import subprocess
from pathlib import Path
from typing import Any

from conftest import Shell, pictures
from test_copies import flip


def year_of(standing: dict[str, Any], year: int) -> dict[str, Any]:
    found: dict[str, Any] = next(one for one in standing["years"] if one["year"] == year)
    return found | {"held": {one["depot"]: one["frames"] for one in found["held"]}}


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
    assert "heron, otter" in shell("bind", "list", cwd=library).out
    shell("backup", cwd=library)
    assert list((depots["heron"] / "data/ledger/receipts").glob("*-bind-*.json"))
    # What is bound does not change.
    name = next(name for name in year if name.endswith(".jpg"))
    assert "is bound" in shell("tell", name, "--title", "x", cwd=library, code=2).err
    for there, back in ((".moved", ""), ("", ".moved")):  # a picture and its sidecar, and back
        for end in ("", ".xmp"):
            (library / (name + back + end)).rename(library / (name + there + end))
        assert "2 of its files were moved or renamed" in shell("stocktake", cwd=library, code=1).out
    assert "none come in" in shell("tell", "ALD_0457.jpg", "--taken", "2024-05-05", cwd=library, code=2).err
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
    assert year_of(weighed, 2024)["states"] == {"sound": year_of(weighed, 2024)["held"]["heron"]}
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
    opened = shell("unbind", "2024", "--json", cwd=library).json
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
    assert year_of(shell("standing", "--json", cwd=library, code=1).json, 2024)["held"]["library"] == 0
    shell("restore", tmp_path / "again", "--from", depots["heron"])
    assert "Nothing was deleted" in shell("free", "2024", "--yes", cwd=tmp_path / "again", code=3).err
    assert "freed on" not in shell("bind", "list", cwd=tmp_path / "again").out
    # A drive that is not sound at the first try does not upset the books.
    rotten.write_bytes(rotten.read_bytes() + b"longer")
    for name in ("otter", "wren"):
        shell("depot", "add", name, tmp_path / name, cwd=library)
    opened = shell("unbind", "2024", "--json", cwd=library, code=None).json
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
    assert "freed on" in shell("bind", "list", cwd=shell.folder / "part").out
    held = year_of(shell("standing", "--json", cwd=shell.folder / "part", code=1).json, 2024)["held"]
    assert held["library"] == 0
    shell("unbind", "2024", cwd=library)
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
    assert "freed on" in shell("bind", "list", cwd=library).out
    assert year_of(shell("standing", "--json", cwd=library, code=None).json, 2024)["held"]["library"] == 1
    shell("restore", ".", "--year", "2024", cwd=library)
    assert pictures(library) == whole and "freed on" not in shell("bind", "list", cwd=library).out
    shell("backup", cwd=library)
    freed = shell("free", "2024", "--yes", "--json", cwd=library).json["came_in"]["files"]
    assert freed == len(whole) - len(pictures(library))
    # What somebody wrote there meanwhile does not keep the year from being opened; stocktake judges it.
    sidecar = next(name for name in whole if name.startswith("pictures/2024/") and name.endswith(".xmp"))
    (library / sidecar).parent.mkdir(parents=True)
    (library / sidecar).write_bytes(whole[sidecar].replace(b"<rdf:RDF", b"<rdf:RDF "))
    assert "a different file" in shell("unbind", "2024", cwd=library, code=1).out
    assert "No year" in shell("bind", "list", cwd=library).out
    assert "1 file changed by others" in shell("stocktake", cwd=library).out
    assert len(pictures(library)) == len(whole) and pictures(library)[sidecar] != whole[sidecar]
