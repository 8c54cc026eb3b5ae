"""What lies on a card or in a folder: every file, with what is read in it; and the device that it lies on."""

import os
import stat
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from bramblemoor.disk.durable import digest_of
from bramblemoor.disk.file_systems import file_system_of, volume_of
from bramblemoor.disk.names import is_litter
from bramblemoor.disk.told import inside_or_none
from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.kinds import XMP, Family, Kind, family, family_by_name, is_sidecar
from bramblemoor.frames.pixels import Misfire, misfire_in
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import FileSource
from bramblemoor.library.globs import fits
from bramblemoor.library.receipts import Finding
from bramblemoor.library.stocktake.walk import shown
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions

_AT_ONCE = 24  # files that a helper looks at before it answers


@dataclass(frozen=True, slots=True)
class Lying:
    """A file that lies there: its path below the source, its size, and its time in ns since 1970."""

    path: str
    bytes: int
    mtime_ns: int

    @property
    def folder(self) -> str:
        return self.path.rpartition("/")[0]

    @property
    def name(self) -> str:
        return self.path.rpartition("/")[2]

    @property
    def ending(self) -> str:
        """With its dot, in small letters; "" where there is none."""
        _, dot, ending = self.name.rpartition(".")
        return (dot + ending).lower() if dot else ""


@dataclass(frozen=True, slots=True)
class Looked:
    """A file, and what was found in it: its family, how a frame of it is read, and what it says of itself.

    `trouble` says why it could not be read, and then nothing else is known.
    """

    lying: Lying
    family: Family
    kind: Kind = "other"
    media: str = ""
    width: int = 0
    height: int = 0
    claims: tuple[Claim, ...] = ()
    content_ids: tuple[str, ...] = ()
    misfire: Misfire | None = None
    troubles: tuple[str, ...] = ()
    trouble: str = ""


@dataclass
class Listing:
    """What was found below a source: files to look at, and what lies there and is none."""

    root: Path
    device: str
    files: list[Lying] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def device_of(root: Path, named: str = "") -> str:
    """What a device is known by: the name that the user gave it, else its file system's own identifier, else where it lies."""
    return named or volume_of(root) or f"{file_system_of(root).device} {root.resolve().as_posix()}"


def list_source(root: Path, folders: Sequence[str], device: str = "") -> Listing:
    """Every file below a source, or below those of its folders that fit a glob. Raises WrongUse where there is no such folder."""
    if not root.is_dir():
        raise WrongUse(
            f"There is no folder {root}.", "Name a folder that there is; a card is mounted as /media/you/CARD, say."
        )
    found = Listing(root, device_of(root, device))
    for path, status in _below(found, root, ""):
        if folders and not any(_is_in(glob, path) for glob in folders):
            continue
        found.files.append(Lying(path, status.st_size, status.st_mtime_ns))
    if folders and not found.files:
        raise WrongUse(
            f"No file below {root} lies in {' or '.join(folders)}.", f"Its folders: {_folders_said(root) or 'none'}."
        )
    found.files.sort(key=lambda one: one.path)
    return found


def _is_in(glob: str, path: str) -> bool:
    glob = glob.strip("/")
    return any(fits(glob, folder) for folder in _folders_above(path))


def _folders_above(path: str) -> Iterator[str]:
    while path := path.rpartition("/")[0]:
        yield path


def _folders_said(root: Path) -> str:
    names = sorted(
        f"{one.name}/{below.name}"
        for one in root.iterdir()
        if one.is_dir()
        for below in (one, *filter(Path.is_dir, one.iterdir()))
    )
    return ", ".join(name.partition("/")[0] if len(set(name.split("/"))) == 1 else name for name in names[:12])


def _below(found: Listing, root: Path, prefix: str) -> Iterator[tuple[str, os.stat_result]]:
    """Files with what the drive tells of them, in no order; what is none, or cannot be reached, is named."""
    waiting = [prefix]
    device = root.stat().st_dev
    while waiting:
        prefix = waiting.pop()
        try:
            with os.scandir(root / prefix) as entries:
                listed = list(entries)
        except OSError as error:
            found.findings.append(
                Finding(
                    prefix or ".",
                    f"its folder cannot be listed ({error.strerror}), so what lies in it was not seen",
                    True,
                )
            )
            continue
        for entry in listed:
            path = prefix + entry.name
            if is_litter(entry.name):
                continue
            try:
                status = entry.stat(follow_symlinks=False)
            except OSError as error:
                found.findings.append(Finding(shown(path), f"it cannot be looked at ({error.strerror})", True))
                continue
            if stat.S_ISDIR(status.st_mode) and status.st_dev == device:
                waiting.append(path + "/")
            elif not stat.S_ISREG(status.st_mode) or inside_or_none(path) is None:
                found.findings.append(
                    Finding(
                        shown(path), "it is no plain file here, as a link or another drive, and was left alone", True
                    )
                )
            elif shown(path) != path:
                found.findings.append(
                    Finding(shown(path), "its name is not valid UTF-8, so it was left alone; rename it", True)
                )
            else:
                yield path, status


def digest_there(path: Path) -> str:
    """The digest of a file; "" of what cannot be read: looking at it tells why."""
    try:
        return digest_of(path)
    except OSError:
        return ""


def look(listing: Listing, files: Sequence[Lying], here: Collection[str], progress: Progress) -> Iterator[Looked]:
    """Look into files, some at a time, in their order; at the pixels of those that are not `here` already, by their paths."""
    done = 0
    with Helpers() as helping:
        wanted = ((one, one.path not in here) for one in files)
        for some in helping.map(partial(_look_into, str(listing.root)), portions(wanted, _AT_ONCE)):
            yield from some
            done += len(some)
            progress(Stage("looking at the pictures", "files"), done, len(files))


def _look_into(root: str, files: Iterable[tuple[Lying, bool]]) -> list[Looked]:
    return [_looked_at(Path(root, one.path), one, pixels=pixels) for one, pixels in files]


def _looked_at(path: Path, lying: Lying, *, pixels: bool) -> Looked:
    try:
        if is_sidecar(lying.name):
            return Looked(lying, "sidecar", media=XMP)
        with FileSource(path) as source:
            reading = read_picture(source)
        found = family(lying.name, reading.media)
        misfire = misfire_in(path) if pixels and found in ("photo", "raw") and reading.kind == "photo" else None
        return Looked(
            lying, found, reading.kind, reading.media, reading.width, reading.height, reading.claims, reading.content_ids,
            misfire, reading.troubles,
        )  # fmt: skip
    except OSError as error:
        return Looked(lying, family_by_name(lying.name), trouble=error.strerror or str(error))
