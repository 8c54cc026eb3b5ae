"""What stood there before: earlier states, some of a library, readings within a budget, and what if something were lost."""

from pathlib import Path

from conftest import Shell, pictures, valid
from test_copies import flip


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
    purged = [one for one in shell("receipt", "list", "--json", cwd=library).json["receipts"] if one["run"] == "purge"]
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
    assert drilled["files_tried"] == 60 and drilled["unreadable"] >= 1
    assert drilled["unreadable"] / 60 < drilled["at_most_unreadable"] < 1
    sound = shell("drill", "otter", "--files", "20", cwd=library).out
    assert "At 95 % confidence" in sound and "Restoring everything" in sound
    assert len(shell("verify", "heron", "--json", cwd=library, code=1).json["left_out"]) == 40
    shell("mend", cwd=library)
    assert shell("standing", "--json", cwd=library).json["safe"]


def test_what_if_something_were_lost(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", "heron", "otter", cwd=library)
    studio = shell("standing", "--if-lost", "studio", "--json", cwd=library, code=1).json
    assert studio["states"] == {"lost": 96} and studio["short_of_the_rule"]
    shell("backup", "dipper", cwd=library)
    studio = shell("standing", "--if-lost", "studio", cwd=library, code=1).out
    assert "no frame of" in studio and "96 single" in studio and "dipper at cottage" in studio
    both = shell("standing", "--if-lost", "hdd", "--if-lost", "library", "--json", cwd=library, code=1).json
    assert both["states"] == {"single": 96}
    assert "Did you mean studio?" in shell("standing", "--if-lost", "studo", cwd=library, code=2).err
    by_shoot = shell("standing", "--by-shoot", "--json", cwd=library).json["shoots"]
    assert sum(one["states"]["sound"] for one in by_shoot) == 96
