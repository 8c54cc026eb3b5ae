"""Names that somebody else has told, as a drive, a service or an archive: made paths inside a root, or refused.

What was told is a `str`; what was looked at and lies inside is `Inside`, and only that is joined with a folder.
"""

import errno
import os
import re
import stat
from collections.abc import Iterable
from pathlib import Path
from typing import NewType

from bramblemoor.disk.names import is_device_name

Inside = NewType("Inside", str)
"""A path relative to some root: no step leads out of it, and none is a device's name."""
_MOST = 4096
_DRIVE = re.compile(r"[A-Za-z]:")
_PLAIN = os.sep == "/"


class Outside(OSError):
    """A told name that leads out of its root, or a way that a link or another mount crosses. Nothing was opened."""

    def __init__(self, told: str, why: str) -> None:
        super().__init__(errno.EPERM, why, told)


def inside(told: str) -> Inside:
    """The told name as a path inside whatever root it is for. Raises Outside for one that is absolute or leads out of it."""
    if (
        _PLAIN and told and told[0] not in "/." and told[-1] != "/" and len(told) <= _MOST
        and "//" not in told and "/." not in told and ":" not in told and "\\" not in told and "\0" not in told
    ):  # fmt: skip
        return Inside(told)  # as nearly all are; a regular expression takes five times as long
    if not told or len(told) > _MOST or "\0" in told:
        raise Outside(told[:80], "it is no name of a file")
    if told.startswith(("/", "\\")) or _DRIVE.match(told):
        raise Outside(told, "it is no path inside the folder")
    for step in told.split("/"):
        if step in ("", ".", ".."):
            raise Outside(told, "it leads out of the folder, or nowhere")
        # Where a backslash or a colon parts names, what looks like one name here would be another path.
        if os.sep != "/" and ("\\" in step or ":" in step or is_device_name(step)):
            raise Outside(told, "it is no name of a file on this system")
    return Inside(told)


def inside_or_none(told: object) -> Inside | None:
    """The same for lists of which a line that cannot be is passed over, and told by whoever keeps the list."""
    if not isinstance(told, str):
        return None
    try:
        return inside(told)
    except Outside:
        return None


def one_name(told: str) -> Inside:
    """A told name that must be one step, as the name of a part or of an order."""
    name = inside(told)
    if "/" in name or "\\" in name or ":" in name or is_device_name(name) or not name.isprintable():
        raise Outside(told, "it is no plain name")
    return name


class Root:
    """A folder that somebody else may have filled: paths in it are followed only where no link and no mount is on the way."""

    def __init__(self, folder: Path | str) -> None:
        self._folder = str(folder)
        self._device: int | None = None
        self._plain: set[str] = set()

    def path(self, name: Inside) -> str:
        """The path of a file, every folder above it looked at. Raises Outside where one of them is a link or another mount."""
        folder = name.rpartition("/")[0]
        if folder and folder not in self._plain:
            self._look(folder)
        return f"{self._folder}/{name}"

    def _look(self, folder: str) -> None:
        if self._device is None:
            self._device = os.stat(self._folder).st_dev
        way = ""
        for step in folder.split("/"):
            way = f"{way}/{step}" if way else step
            if way in self._plain:
                continue
            try:
                status = os.lstat(f"{self._folder}/{way}")
            except (FileNotFoundError, NotADirectoryError):
                return  # what is made there is made by us; it is looked at when it exists
            if stat.S_ISLNK(status.st_mode) or (status.st_dev != self._device and os.name != "nt"):
                raise Outside(f"{self._folder}/{way}", "a link or another mount lies on the way, and is not followed")
            self._plain.add(way)


class Anchor:
    """A folder as it is now: if its drive is unmounted in the middle of a run, what is at its path then is another folder."""

    def __init__(self, folder: Path | str, place: tuple[int, int] | None = None) -> None:
        """`place` is where it was (device, inode), if somebody looked before."""
        self._folder = str(folder)
        self.place = place or self._now()

    def _now(self) -> tuple[int, int]:
        status = os.stat(self._folder)
        return status.st_dev, status.st_ino

    def require(self) -> None:
        """Raise OSError where the path leads to another folder than at first. To be asked before each batch of changes."""
        if self._now() != self.place:
            raise OSError(errno.ENODEV, "its drive is not mounted there any more", self._folder)


def require_plain_folders(folder: Path, names: Iterable[str]) -> None:
    """Raise Outside where one of the folders in `folder` is a link or another mount."""
    device = folder.stat().st_dev
    for name in names:
        path = folder / name
        if not os.path.lexists(path):
            continue
        status = path.lstat()
        if not stat.S_ISDIR(status.st_mode) or (status.st_dev != device and os.name != "nt"):
            raise Outside(str(path), "it is a link or another mount, where a folder of the depot should be")


def is_plain_file(path: str | Path) -> bool:
    """Whether a file itself lies there, and no link to one."""
    try:
        return stat.S_ISREG(os.lstat(path).st_mode)
    except (OSError, ValueError):
        return False
