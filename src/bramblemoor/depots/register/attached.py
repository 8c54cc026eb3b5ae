"""The drives that are attached now, and the depots on them."""

import shutil
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.bag.depot import Identity, read_identity
from bramblemoor.disk.file_systems import mounts
from bramblemoor.errors import DepotTrouble
from bramblemoor.library.home import DEPOT_MARK

# File systems that are no drives.
_NO_DRIVES = {
    "proc", "sysfs", "devtmpfs", "devpts", "cgroup", "cgroup2", "mqueue", "tmpfs", "ramfs", "securityfs", "debugfs", "tracefs",
    "pstore", "bpf", "hugetlbfs", "autofs", "fusectl", "overlay", "squashfs", "configfs", "efivarfs", "binfmt_misc", "nsfs",
    "rpc_pipefs", "sockfs", "fuse.portal", "fuse.gvfsd-fuse", "selinuxfs",
}  # fmt: skip


@dataclass(frozen=True)
class AttachedDrive:
    """An attached drive: where it is mounted, its size in bytes, and the depots at its root or one folder below."""

    mount: Path
    file_system: str
    bytes: int
    free: int
    depots: tuple[tuple[Path, Identity], ...]


def attached_drives() -> Iterator[AttachedDrive]:
    """Every mounted drive, in order of mount point."""
    for mount, file_system in sorted(_mounts()):
        try:
            usage = shutil.disk_usage(mount)
            depots = tuple(_depots_on(mount))
        except OSError:
            continue  # gone meanwhile, or not ours to read
        yield AttachedDrive(mount, file_system, usage.total, usage.free, depots)


def find_depot(wanted: str, last: Path) -> Path | None:
    """Where the depot of that id is now: where it was last, or on whatever attached drive carries it."""
    try:
        identity = read_identity(last)
    except OSError:  # nothing can be read there; perhaps its drive came back on another mount
        identity = None
    if identity is not None and identity.id == wanted:
        return last
    for mount, _ in sorted(_mounts()):
        for root, identity in _depots_on(mount):
            if identity.id == wanted:
                return root
    return None


def _mounts() -> Iterator[tuple[Path, str]]:
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


def _depots_on(mount: Path) -> Iterator[tuple[Path, Identity]]:
    try:
        folders = [mount, *sorted(path for path in mount.iterdir() if _is_there(path) and not path.is_symlink())]
    except OSError:
        return
    for folder in folders:
        try:
            if (folder / DEPOT_MARK).is_file():
                identity = read_identity(folder)
                if identity is not None:
                    yield folder, identity
        except (OSError, DepotTrouble):
            continue
