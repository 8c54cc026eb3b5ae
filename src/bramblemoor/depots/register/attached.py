"""The depots on the drives that are attached now."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.bag.depot import Identity, read_identity
from bramblemoor.disk.drives import Drive, drives, folders_on, mounted
from bramblemoor.errors import DepotTrouble


@dataclass(frozen=True)
class AttachedDrive:
    """A drive, and the depots at its root or one folder below: where, and what it says it is."""

    drive: Drive
    depots: tuple[tuple[str, Identity], ...]


def attached_drives() -> Iterator[AttachedDrive]:
    """Every mounted drive, in order of mount point."""
    for drive in drives():
        yield AttachedDrive(drive, tuple(_depots_on(drive.mount)))


def find_depot(wanted: str, last: str) -> str | None:
    """Where the depot of that id is now: where it was last, or on whatever attached drive carries it."""
    try:
        identity = read_identity(last)
    except OSError:  # nothing can be read there; perhaps its drive came back on another mount
        identity = None
    if identity is not None and identity.id == wanted:
        return last
    for mount, _ in sorted(mounted()):
        for where, identity in _depots_on(mount):
            if identity.id == wanted:
                return where
    return None


def _depots_on(mount: Path) -> Iterator[tuple[str, Identity]]:
    for folder in folders_on(mount):
        try:
            identity = read_identity(str(folder))
        except (OSError, DepotTrouble):
            continue
        if identity is not None:
            yield str(folder), identity
