"""The drives that are attached now, by their mount points."""

import shutil
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.disk.file_systems import mounts

# File systems that are no drives.
_NO_DRIVES = {
    "proc", "sysfs", "devtmpfs", "devpts", "cgroup", "cgroup2", "mqueue", "tmpfs", "ramfs", "securityfs", "debugfs", "tracefs",
    "pstore", "bpf", "hugetlbfs", "autofs", "fusectl", "overlay", "squashfs", "configfs", "efivarfs", "binfmt_misc", "nsfs",
    "rpc_pipefs", "sockfs", "fuse.portal", "fuse.gvfsd-fuse", "selinuxfs",
}  # fmt: skip


@dataclass(frozen=True)
class Drive:
    """A mounted drive: where, its file system, its size and what is free of it in bytes."""

    mount: Path
    file_system: str
    bytes: int
    free: int


def drives() -> Iterator[Drive]:
    """Every mounted drive, in order of mount point; one that went meanwhile, or is not ours to read, is passed over."""
    for mount, file_system in sorted(mounted()):
        try:
            usage = shutil.disk_usage(mount)
        except OSError:
            continue
        yield Drive(mount, file_system, usage.total, usage.free)


def mounted() -> Iterator[tuple[Path, str]]:
    """(mount point, file system) of each drive that can be asked."""
    if sys.platform.startswith("linux"):
        for mount in mounts():
            if mount.file_system not in _NO_DRIVES and mount.point != Path("/") and _is_there(mount.point):
                yield mount.point, mount.file_system
    elif sys.platform == "darwin":
        yield from ((path, "") for path in Path("/Volumes").iterdir() if path.is_dir())
    else:
        yield from ((Path(f"{letter}:\\"), "") for letter in "DEFGHIJKLMNOPQRSTUVWXYZ" if Path(f"{letter}:\\").exists())


def _is_there(point: Path) -> bool:
    try:
        return point.is_dir()
    except OSError:
        return False  # what served it has ended: no other drive has to suffer for it


def folders_on(mount: Path) -> list[Path]:
    """A drive's own folder and those directly in it, where one looks for what it carries; none where it cannot be read."""
    try:
        return [mount, *sorted(path for path in mount.iterdir() if _is_there(path) and not path.is_symlink())]
    except OSError:
        return []
