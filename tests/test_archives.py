"""Archives: volumes that need none of the others, restored as a depot is, and what is said when they are not whole."""

import json
import os
import shutil
import subprocess
from pathlib import Path

import pytest

from conftest import Shell, check, pictures


def take_apart(volume: Path, target: Path) -> Path:
    """Unpack a volume with the system's own programs; the bag that it is must hold."""
    target.mkdir(parents=True)
    command = (
        ["tar", "-xf", str(volume)] if volume.suffix == ".tar" else ["python3", "-m", "zipfile", "-e", str(volume), "."]
    )
    subprocess.run(command, cwd=target, check=True)
    (bag,) = target.iterdir()
    for manifest in ("manifest-sha256.txt", "tagmanifest-sha256.txt"):
        subprocess.run(["sha256sum", "-c", "--quiet", manifest], cwd=bag, check=True)
    listed = {line.split("  ", 1)[1] for line in (bag / "manifest-sha256.txt").read_text().splitlines()}
    assert listed == {path.relative_to(bag).as_posix() for path in (bag / "data").rglob("*") if path.is_file()}
    info = (bag / "bag-info.txt").read_text()
    sizes = [path.stat().st_size for path in (bag / "data").rglob("*") if path.is_file()]
    assert f"Payload-Oxum: {sum(sizes)}.{len(sizes)}\n" in info and "Bag-Group-Identifier: " in info
    return bag


@pytest.mark.parametrize("form", ["zip", "tar"])
def test_each_volume_is_complete_and_all_are_the_library(
    shell: Shell, world: Path, library: Path, tmp_path: Path, form: str
) -> None:
    size = 2_400_000
    planned = shell(
        "pack", tmp_path / "away", "--size", "2.4MB", "--form", form, "--dry-run", "--json", cwd=library
    ).json
    assert not (tmp_path / "away").exists()
    told = shell("pack", tmp_path / "away", "--size", "2.4MB", "--form", form, cwd=library).out
    volumes = sorted((tmp_path / "away").iterdir())
    assert len(volumes) == planned["volumes"] >= 3 and all(volume.stat().st_size <= size for volume in volumes)
    assert volumes[0].name in told
    assert "are sound" in shell("volumes", tmp_path / "away").out
    seen: dict[str, bytes] = {}
    for number, volume in enumerate(volumes, 1):
        bag = take_apart(volume, tmp_path / f"apart-{number}")
        assert f"Bag-Count: {number} of {len(volumes)}\n" in (bag / "bag-info.txt").read_text()
        mine = pictures(bag / "data")
        assert not seen.keys() & mine.keys()
        seen |= mine
        # A volume opens by itself, and knows its own frames and no others.
        found = shell("find", "--json", "--most", "999", cwd=bag / "data").json["hits"]
        assert {frame["path"] for frame in found} == {path for path in mine if not path.endswith(".xmp")} & {
            frame["path"] for frame in shell("find", "--json", "--most", "999", cwd=library).json["hits"]
        }
        assert "opens read-only" in shell("tell", found[0]["path"], "--title", "No", cwd=bag / "data", code=3).err
        for sidecar in (bag / "data").rglob("*.xmp"):
            assert sidecar.with_suffix("").is_file(), "a frame was torn apart"
    assert seen == pictures(library)
    # In two places, and with the library gone.
    (tmp_path / "elsewhere").mkdir()
    volumes[1].rename(tmp_path / "elsewhere" / volumes[1].name)
    shutil.rmtree(library)
    refused = shell("restore", "back", "--from", tmp_path / "away", code=2).err
    assert f"volume 2 of {len(volumes)} is not here" in refused and not (tmp_path / "back").exists()
    shell("restore", "back", "--from", tmp_path / "away", "--from", tmp_path / "elsewhere")
    assert pictures(tmp_path / "back") == seen
    check(world, "--library", tmp_path / "back")
    assert "already; nothing was changed" in shell("restore", "back", "--from", tmp_path / "away").out


def test_some_of_a_library_is_packed_and_had_back(shell: Shell, library: Path, tmp_path: Path) -> None:
    shell("pack", tmp_path / "2025", "--year", "2025", "--size", "1.5MB", cwd=library)
    of_year = {path: content for path, content in pictures(library).items() if path.startswith("pictures/2025/")}
    shell("restore", "back", "--from", tmp_path / "2025")
    assert pictures(tmp_path / "back") == of_year
    frames = shell("find", "--json", "--most", "999", cwd=tmp_path / "back").json["hits"]
    before = shell("find", "--json", "--most", "999", cwd=library).json["hits"]
    assert {frame["path"] for frame in frames} == {frame["path"] for frame in before} & of_year.keys() != set()
    assert "single" in shell("standing", cwd=tmp_path / "back", code=1).out
    name = Path(frames[7]["path"]).name
    shell("restore", "one", "--frame", name, "--from", tmp_path / "2025")
    assert set(pictures(tmp_path / "one")) == {path for path in of_year if Path(path).name.startswith(name)}
    assert "holds no earlier" in shell("restore", "x", "--as-of", "2026-01-01", "--from", tmp_path / "2025", code=2).err
    assert "whole ledger lies at depots" in shell(
        "restore", library, "--ledger-only", "--from", tmp_path / "2025", code=2
    ).err  # fmt: skip


def test_what_is_not_right_is_said(shell: Shell, library: Path, depots: dict[str, Path], tmp_path: Path) -> None:
    away = tmp_path / "away"
    assert "holds no picture" in shell("pack", away, "--size", "10kB", cwd=library, code=2).err
    (library / "companions").mkdir(exist_ok=True)
    (library / "companions/large.bin").write_bytes(bytes(1_500_000))
    refused = shell("pack", away, "--size", "1MB", cwd=library, code=2).err
    assert "companions/large.bin needs a volume of 2" in refused and "--size" in refused
    (library / "companions/large.bin").unlink()
    assert "There are no frames of 1901" in shell("pack", away, "--year", "1901", cwd=library, code=2).err
    assert "no name for a file" in shell("pack", away, "--name", "../x", cwd=library, code=2).err
    assert not away.exists() or not list(away.iterdir())
    shell("backup", "heron", cwd=library)
    rotten = sorted((library / "pictures/2025").rglob("*.jpg"))[3]
    content = rotten.read_bytes()
    status = rotten.stat()
    rotten.write_bytes(content[:-1] + bytes((content[-1] ^ 1,)))
    os.utime(rotten, ns=(status.st_atime_ns, status.st_mtime_ns))
    # What is rotten in the library is taken from a depot, and told.
    told = shell("pack", away, "--size", "3MB", cwd=library, code=1).out
    assert "it was not packed from there" in told and "each was read back" in told
    assert "lies in" in shell("pack", away, "--size", "3MB", cwd=library, code=2).err
    odd = ("pack", tmp_path / "odd", "--year", "2025", "--name", "slides [1]")
    shell(*odd, cwd=library, code=1)
    assert "lies in" in shell(*odd, cwd=library, code=2).err
    # One bit in a picture: the volume says so, and a restore takes that picture from the depot.
    volumes = sorted(away.iterdir())
    name = rotten.relative_to(library).as_posix()
    (holder,) = [volume for volume in volumes if content in volume.read_bytes()]
    raw = bytearray(holder.read_bytes())
    raw[raw.index(content) + len(content) // 2] ^= 4
    holder.write_bytes(raw)
    found = shell("volumes", away, "--json", code=1).json
    assert found["amiss"] == [{"volume": holder.name, "entry": f"data/{name}", "trouble": "damaged"}]
    told = shell("restore", "back", "--from", away, code=1).out
    assert name in told and "damaged" in told and not (tmp_path / "back" / name).exists()
    shell("restore", "better", "--from", away, "--from", depots["heron"], code=1)
    assert (tmp_path / "better" / name).read_bytes() == content
    # A volume whose end is gone cannot be opened; what is in the others can be had.
    volumes[0].write_bytes(volumes[0].read_bytes()[:-3000])
    told = shell("volumes", away, code=1).out
    assert volumes[0].name in told and "NOT whole" in told and f"volume 1 of {len(volumes)} is not here" in told
    shell("restore", "some", "--year", "2026", "--from", away, code=None)
    assert any(path.startswith("pictures/2026/") for path in pictures(tmp_path / "some"))
    # Another archive's volume among them, no volume at all, no such folder.
    shell("pack", tmp_path / "other", "--year", "2025", cwd=library, code=1)
    shutil.copy(next((tmp_path / "other").iterdir()), away)
    assert "different archives" in shell("volumes", away, code=2).err
    (tmp_path / "plain.zip").write_bytes(b"PK\5\6" + bytes(18))
    assert "is no volume" in shell("volumes", tmp_path / "plain.zip", code=3).err
    assert "There are no volumes" in shell("volumes", depots["heron"], code=2).err
    assert json.loads(next(library.glob("ledger/receipts/*-pack-*.json")).read_text())["run"] == "pack"
