"""What a folder lies on: the file system, and the physical device below it."""

import os
import re
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from bramblemoor.disk.durable import flush_many

_NETWORKS = ("fuse", "nfs", "cifs", "smb", "9p")
# Never told apart from their cache: network and FUSE drives keep their own, and tmpfs is nothing but cache.
_UNPROVABLE = (*_NETWORKS, "tmpfs", "ramfs", "overlay", "virtiofs")


@dataclass(frozen=True)
class FileSystem:
    """`device` names the whole physical drive, as far as the system tells; equal names mean one drive.

    `seat` says more closely where a file system lies: on that drive, or in a container file there. A copy of the container
    lies in another seat.
    """

    file_system: str
    device: str
    seat: str = ""
    keeps_folders: bool = False
    """Whether a folder has one inode number for as long as it exists."""
    below: str = ""
    """The folder, seen from where its file system is mounted."""
    spins: bool = False
    """Whether the system takes it for a spinning disk. It does so of some that are not: virtual ones, and behind USB bridges."""

    @property
    def flushes_whole(self) -> bool:
        """Whether syncfs there reaches the device (FUSE drives return success without doing it)."""
        return bool(self.file_system) and not self.file_system.startswith("fuse")

    @property
    def can_prove_reading(self) -> bool:
        """Whether a reading there can be proven to come from the medium, once its pages were dropped."""
        return bool(self.file_system) and not self.file_system.startswith(_UNPROVABLE)

    @property
    def keeps_inodes(self) -> bool:
        """Whether a file keeps its inode number and change time as long as nobody touches it, also over a remount."""
        return bool(self.file_system) and not self.file_system.startswith((*_UNPROVABLE, "vfat", "exfat", "msdos"))


def file_system_of(folder: Path) -> FileSystem:
    """The volume of an existing folder. Where the system does not tell (not Linux), only the device number is known."""
    number = folder.stat().st_dev
    if not sys.platform.startswith("linux"):
        return FileSystem("", f"device {number}", f"device {number}")
    named = f"device {os.major(number)}:{os.minor(number)}"
    fallback = FileSystem("", named, named)
    resolved = folder.resolve()
    best: Mount | None = None
    for mount in mounts():
        # Of several mounts on one point, the last one listed is the one seen.
        if resolved.is_relative_to(mount.point) and (best is None or len(mount.point.parts) >= len(best.point.parts)):
            best = mount
    if best is None:
        return fallback
    drive = _drive_of(best.number, best.source)
    keeps_folders = not best.file_system.startswith((*_NETWORKS, "vfat", "exfat", "msdos"))
    below = resolved.relative_to(best.point).as_posix()
    return FileSystem(best.file_system, drive.device, drive.seat, keeps_folders, below, _spins(best))


def volume_of(folder: Path) -> str:
    """What a folder's file system is known by on any computer, and where in it the folder lies; "" where none tells it."""
    try:
        number = folder.stat().st_dev
        for link in sorted(Path("/dev/disk/by-uuid").iterdir()):
            if link.stat().st_rdev == number:
                return f"{link.name} {file_system_of(folder).below}"
    except OSError:
        pass
    return ""


def flush_files(paths: Iterable[Path | str], root: Path) -> None:
    """Make many files that were written below `root` durable, in the way that is fastest and honoured there."""
    flush_many(paths, root, whole_system=file_system_of(root).flushes_whole)


def seat_of(folder: Path, marked: str) -> str:
    """Where a folder lies, so closely that a copy of it lies in another seat; `marked` is a folder in it that is never made anew.

    A folder that was moved on its drive keeps its seat, as far as the file system can tell folders apart.
    """
    volume = file_system_of(folder)
    if not volume.keeps_folders:
        return f"{volume.seat}/{volume.below}"
    try:
        return f"{volume.seat}/{(folder / marked).lstat().st_ino}"
    except OSError:
        return f"{volume.seat}/nothing"


class Mount(NamedTuple):
    """A line of the kernel's list of what is mounted."""

    point: Path
    file_system: str
    number: str  # of the block device, "major:minor"
    source: str


def mounts() -> Iterator[Mount]:
    """What is mounted, in the order of mounting (Linux: proc(5), mountinfo)."""
    for line in Path("/proc/self/mountinfo").read_bytes().splitlines():
        left, _, right = line.partition(b" - ")
        fields = [_unescaped(field) for field in left.split(b" ")]
        file_system, source = (_unescaped(field) for field in right.split(b" ")[:2])
        yield Mount(Path(fields[4]), file_system, fields[2], source)


def _unescaped(field: bytes) -> str:
    """Spaces, tabs, line ends and backslashes stand there as octal numbers."""
    return os.fsdecode(re.sub(rb"\\([0-7]{3})", lambda found: bytes((int(found[1], 8),)), field))


def _whole_drive(number: str, source: str) -> Path | None:
    """Where the kernel tells of the whole drive below a block device number, or below a mount's source (sysfs)."""
    block = Path("/sys/dev/block") / number
    if not block.exists():
        name = Path(source).name if source.startswith("/dev/") else ""
        block = Path("/sys/class/block") / name if name else block
    if not block.exists():
        return None
    whole = block.resolve()
    return whole.parent if (whole / "partition").exists() else whole


def _spins(mount: Mount) -> bool:
    whole = _whole_drive(mount.number, mount.source)
    told = whole / "queue/rotational" if whole is not None else None
    return told is not None and told.is_file() and told.read_text().strip() == "1"


class _Drive(NamedTuple):
    device: str
    seat: str


def _drive_of(number: str, source: str) -> _Drive:
    """The whole drive, by its serial where the system knows one; else the mount's source.

    A container (an image, an encrypted file) that is attached by a loop device lies on the drive that its file lies on.
    """
    whole = _whole_drive(number, source)
    if whole is None:
        return _Drive(source, source)
    if (whole / "loop").is_dir():
        return _drive_of_container(whole)
    below = sorted((whole / "slaves").iterdir()) if (whole / "slaves").is_dir() else []
    if below:  # encrypted and combined volumes lie on others
        drives = sorted({_drive_of((slave / "dev").read_text().strip(), "") for slave in below})
        return _Drive("+".join(dict.fromkeys(drive.device for drive in drives)), "+".join(one.seat for one in drives))
    told = _serial(whole)
    return _Drive(told, told)


def _drive_of_container(whole: Path) -> _Drive:
    try:
        backing = Path(os.fsdecode((whole / "loop/backing_file").read_bytes().rstrip(b"\n")))
        inode = backing.stat().st_ino
        volume = file_system_of(backing.parent)
    except OSError:  # deleted, or not to be seen from here: all such count as one
        return _Drive("a container whose file is not to be seen", whole.name)
    return _Drive(volume.device, f"{volume.seat}/{inode}")


def _serial(whole: Path) -> str:
    """What tells a drive from others, best something that stays with it when it is plugged in again (sysfs)."""
    for serial in (whole / "device" / "serial", whole / "device" / "wwid", whole / "serial"):
        if serial.is_file() and (told := serial.read_text(errors="replace").strip()):
            return told
    for parent in whole.parents:  # what it is plugged in by, as a USB bridge
        if (parent / "serial").is_file() and (told := (parent / "serial").read_text(errors="replace").strip()):
            return f"{told} {whole.name[:2]}"
    return whole.name
