"""Depots on real file systems, each on a loop device: what each of them cannot hold, and drives that come and go."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import CHECKER, Shell, pictures

sys.path.insert(0, str(CHECKER.parent))
import lab

FOLDS = ("ntfs-ignore-case", "exfat")
FORBIDS = ("ntfs-ignore-case", "exfat")


def flip_and_mend(shell: Shell, library: Path, depot: Path) -> None:
    """A bit flips in what tells of the depot; good copies lie on another drive."""
    listed = depot / "tagmanifest-sha256.txt"
    letter = next(byte for byte in listed.read_bytes() if chr(byte) in "abcdef")
    receipt = sorted((depot / "receipts").iterdir())[0]
    # The first two say the same to whoever reads them carelessly: a digest in capitals, a line that is none.
    for path, old, new in (
        (listed, bytes((letter,)), bytes((letter,)).upper()), (listed, b"  ", b"\x22 "), (receipt, b"library", b"librarx"),
    ):  # fmt: skip
        content = path.read_bytes()
        path.write_bytes(content.replace(old, new, 1))
        assert path.name in shell("verify", "red", cwd=library, code=1).out
        assert path.name in shell("mend", cwd=library).out
        shell("verify", "red", cwd=library)
    mark = depot / "depot.toml"
    content = mark.read_bytes()
    mark.write_bytes(content.replace(b'kind = "f', b'kind = "g'))
    if mark.read_bytes() != content:
        assert "depot repair" in shell("verify", "red", cwd=library, code=3).err
        shell("depot", "repair", "red", depot, cwd=library)
        assert mark.read_bytes() == content
        shell("verify", "red", cwd=library)


@pytest.mark.parametrize("kind", ["ext4", "btrfs", "exfat", "ntfs-ignore-case"])
def test_a_depot_on_a_real_file_system(shell: Shell, library: Path, tmp_path: Path, kind: str) -> None:
    if not lab.available(kind):
        pytest.skip(f"{kind} cannot be made or mounted here")
    work = library / "pictures/by hand"
    work.mkdir()
    content = {
        name: lab.HEAD + os.urandom(9000 + number)
        for number, name in enumerate(("A.jpg", "a.jpg", "what?.jpg", "ß é.jpg"))
    }
    for year, (name, picture) in zip((1950, 1975, 2026, 2110), content.items(), strict=True):
        (work / name).write_bytes(picture)
        os.utime(work / name, (0, (year - 1970) * 31_556_952))
    times = {picture: (work / name).stat().st_mtime_ns for name, picture in content.items()}
    shell("stocktake", "--yes", cwd=library, code=None)
    image, here, there = tmp_path / "drive.img", tmp_path / "here", tmp_path / "there"
    lab.make_image(image, kind)
    with lab.mounted(image, here, kind):
        (here / "copy").mkdir()
        shell("depot", "add", "red", here / "copy", "--site", "studio", "--medium", "ssd", cwd=library)
        lost = {"pictures/by hand/a.jpg"} if kind in FOLDS else set()
        lost |= {"pictures/by hand/what?.jpg"} if kind in FORBIDS else set()
        told = shell("backup", cwd=library, code=1 if lost else 0).out
        assert ("does not tell capitals apart" in told) is (kind in FOLDS)
        assert all(name in told for name in lost)
        whole = {path: picture for path, picture in pictures(library).items() if path not in lost}
        for path, picture in whole.items():
            assert (here / "copy/data" / path).read_bytes() == picture
        shell("verify", "red", cwd=library)
        flip_and_mend(shell, library, here / "copy")
    # Plugged in again elsewhere it is found by its id, and nothing is copied anew; a change of case in a name is a move.
    (work / "A.jpg").rename(work / "B.jpg")
    (work / "a.jpg").rename(work / "b2.jpg")
    with lab.mounted(image, there, kind):
        told = shell("backup", "red", cwd=library, code=None).out
        assert "moved there as in the library" in told
        assert (there / "copy/data/pictures/by hand/B.jpg").read_bytes() == content["A.jpg"]
        assert (there / "copy/data/pictures/by hand/b2.jpg").read_bytes() == content["a.jpg"]
        shell("restore", "back", "--from", there / "copy")
        for path, picture in whole.items():
            if "by hand" not in path:
                assert (tmp_path / "back" / path).read_bytes() == picture
        for lies in (tmp_path / "back/pictures/by hand").glob("*.jpg"):  # whatever the drive can hold of a time
            assert lies.stat().st_mtime_ns == times[lies.read_bytes()]
        if kind in FOLDS:
            # A name that is another one's there but for its capitals: the one that is there is not replaced.
            held = (there / "copy/data/pictures/by hand/B.jpg").read_bytes()
            (work / "b2.jpg").rename(work / "b.JPG")
            shell("backup", "red", cwd=library, code=None)
            (work / "B2.jpg").write_bytes(lab.HEAD + b"new, where the renamed one lies still")
            told = shell("backup", "red", cwd=library, code=1).out
            assert (there / "copy/data/pictures/by hand/B.jpg").read_bytes() == held and "B2.jpg" in told
            shell("verify", "red", cwd=library)
            (work / "B2.jpg").unlink()
            shell("stocktake", "--let-go", "B2.jpg", "--yes", cwd=library, code=None)
        if kind in FORBIDS:
            # A folder of such a name, however full, holds nothing else up; what has one now stays under the former one.
            full, kept = library / "pictures/who? me", library / "pictures/kept"
            full.mkdir()
            kept.mkdir()
            (kept / "k.jpg").write_bytes(lab.HEAD + b"kept")
            shell("backup", "red", cwd=library, code=None)
            kept.rename(kept.with_name("kept: so"))
            for number in range(30):
                (full / f"{number}.jpg").write_bytes(lab.HEAD + bytes((number,)))
            (library / "pictures/plain.jpg").write_bytes(lab.HEAD + b"plain")
            for _ in range(2):
                told = shell("backup", "red", cwd=library, code=1).out
                assert "cannot hold such a name" in told and "the drive failed" not in told
                data = there / "copy/data/pictures"
                assert (data / "plain.jpg").is_file() and (data / "kept/k.jpg").read_bytes() == lab.HEAD + b"kept"
            shell("verify", "red", cwd=library)
            full.rename(full.with_name("who me"))
            kept.with_name("kept: so").rename(kept.with_name("kept so"))
            assert "who" not in shell("backup", "red", cwd=library, code=None).out
            assert (data / "kept so/k.jpg").is_file() and len(list((data / "who me").iterdir())) == 30
    device = lab.attach(image)
    try:
        assert lab.mount(device, here, kind, "ro")
        (work / "C.jpg").write_bytes(lab.HEAD + b"c")
        refused = shell("backup", "red", cwd=library, code=3).err
        assert "write protection" in refused or "read-only" in refused.lower()
        shell("verify", "red", cwd=library, code=None)
    finally:
        lab.unmount(here)
        os.system(f"losetup --detach {device}")


def test_a_library_is_restored_to_a_drive_that_refuses_some_names(shell: Shell, tmp_path: Path) -> None:
    if not lab.available("exfat"):
        pytest.skip("exFAT cannot be made or mounted here")
    shell("new", "library")
    library = tmp_path / "library"
    for name in ("plain", "what? now"):
        (library / "pictures" / name).mkdir()
        (library / f"pictures/{name}/a.jpg").write_bytes(lab.HEAD + name.encode())
    (tmp_path / "heron").mkdir()
    shell("depot", "add", "heron", tmp_path / "heron", "--site", "studio", "--medium", "ssd", cwd=library)
    shell("backup", cwd=library, code=None)
    lab.make_image(tmp_path / "drive.img", "exfat")
    with lab.mounted(tmp_path / "drive.img", tmp_path / "drive", "exfat"):
        back = tmp_path / "drive/back"
        told = shell("restore", back, "--from", tmp_path / "heron", "--json", code=1).json
        assert [one["name"] for one in told["left_out"]] == ["pictures/what? now/a.jpg"]
        assert list(pictures(back)) == ["pictures/plain/a.jpg"]
        shell("backup", "--yes", cwd=back, code=None)  # and what did not come stays where it is
        # Names that this drive holds, and the other one does not, hold up nothing there: neither new nor by a move.
        for name, content in (("葦" * 90, b"long"), ("short", b"short")):
            (back / f"pictures/plain/{name}.jpg").write_bytes(lab.HEAD + content)
        shell("backup", "--yes", cwd=back, code=1)
        (back / "pictures/plain/short.jpg").rename(back / f"pictures/plain/{'葭' * 90}.jpg")
        for _ in range(2):
            assert "cannot hold such a name" in shell("backup", "--yes", cwd=back, code=1).out
        assert (tmp_path / "heron/data/pictures/plain/short.jpg").is_file()
        assert (tmp_path / "heron/data/pictures/what? now/a.jpg").is_file()


def test_a_drive_that_hangs_half_unplugged_holds_up_no_other(shell: Shell, library: Path, tmp_path: Path) -> None:
    """The program that serves a FUSE drive dies; what is mounted there then refuses every call."""
    if not lab.available("exfat"):
        pytest.skip("exfat cannot be made or mounted here")
    image, red, blue = tmp_path / "drive.img", tmp_path / "red drive", tmp_path / "blue"
    lab.make_image(image, "exfat")
    with lab.mounted(image, red, "exfat"):
        for name, folder in (("red", red / "copy"), ("blue", blue)):
            folder.mkdir()
            shell("depot", "add", name, folder, "--site", "home", "--medium", "ssd", cwd=library)
        shell("backup", cwd=library)
        subprocess.run(["pkill", "-KILL", "-f", f"exfat-fuse .*{red}"], check=True)
        (library / "pictures/new.jpg").write_bytes(lab.HEAD + b"new")
        told = shell("backup", cwd=library, code=1)
        assert "nothing can be read there" in told.out + told.err
        assert (blue / "data/pictures/new.jpg").is_file()
        assert "not within reach" in shell("depot", "list", cwd=library).out
        assert "plug it in again" in shell("verify", "red", cwd=library, code=3).err
    with lab.mounted(image, tmp_path / "again", "exfat"):
        shell("backup", "red", cwd=library)
        assert (tmp_path / "again/copy/data/pictures/new.jpg").is_file()
