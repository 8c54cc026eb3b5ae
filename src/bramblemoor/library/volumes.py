"""What a folder lies on: the file system, and the physical device below it."""

import os
import re
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

# Never told apart from their cache: network and FUSE drives keep their own, and tmpfs is nothing but cache.
_UNPROVABLE = ("fuse", "nfs", "cifs", "smb", "9p", "tmpfs", "ramfs", "overlay", "virtiofs")


@dataclass(frozen=True)
class Volume:
    """`device` names the whole physical drive, as far as the system tells; equal names mean one drive."""

    file_system: str
    device: str
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


def volume_of(folder: Path) -> Volume:
    """The volume of an existing folder. Where the system does not tell (not Linux), only the device number is known."""
    number = folder.stat().st_dev
    if not sys.platform.startswith("linux"):
        return Volume("", f"device {number}")
    fallback = Volume("", f"device {os.major(number)}:{os.minor(number)}")
    resolved = folder.resolve()
    best: Mount | None = None
    for mount in mounts():
        # Of several mounts on one point, the last one listed is the one seen.
        if resolved.is_relative_to(mount.point) and (best is None or len(mount.point.parts) >= len(best.point.parts)):
            best = mount
    return Volume(best.file_system, _drive_of(best.number, best.source), _spins(best)) if best else fallback


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


def _drive_of(number: str, source: str) -> str:
    """The whole drive, by its serial where the system knows one; else the mount's source."""
    whole = _whole_drive(number, source)
    if whole is None:
        return source
    below = sorted((whole / "slaves").iterdir()) if (whole / "slaves").is_dir() else []
    if below:  # encrypted and combined volumes lie on others
        return "+".join(sorted({_drive_of((slave / "dev").read_text().strip(), "") for slave in below}))
    for serial in (whole / "device" / "serial", whole / "device" / "wwid", whole / "serial"):
        if serial.is_file() and (told := serial.read_text(errors="replace").strip()):
            return told  # the name may be another after the next plugging in
    return whole.name
