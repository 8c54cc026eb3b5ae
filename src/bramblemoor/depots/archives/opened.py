"""An archive that is there: its volumes, what is whole of them, and what can be had from them."""

import hashlib
import io
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.archives.container import VolumeReader
from bramblemoor.depots.bag.bag import MANIFEST, TAG_MANIFEST, parsed
from bramblemoor.depots.bag.contents import Contents
from bramblemoor.depots.kinds import PAYLOAD, Reading, lies_at
from bramblemoor.depots.kinds.medium import MediumFile
from bramblemoor.disk.durable import digest_of
from bramblemoor.disk.told import Inside, inside_or_none
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.receipts import Finding

SUFFIXES = (".zip", ".tar")
DATA = f"{PAYLOAD}/"


@dataclass(frozen=True)
class Volume:
    """One volume, open. `archive` is the id that all volumes of an archive share, `library` that of the library."""

    reader: VolumeReader
    medium: MediumFile
    archive: str
    library: str
    description: str
    number: int
    count: int

    @property
    def path(self) -> Path:
        return self.reader.path

    def listed(self) -> Iterator[tuple[str, str]]:
        """(path, digest) of its payload, as its manifest says."""
        return parsed(io.BytesIO(self.reader.content(MANIFEST)))

    def digest(self, name: str) -> tuple[str, int]:
        """An entry's digest, and how many bytes were read. Raises OSError where it is missing or cannot be read."""
        digest, size = hashlib.sha256(), 0
        for piece in self.reader.pieces(name):
            digest.update(piece)
            size += len(piece)
        return digest.hexdigest(), size


@dataclass(frozen=True)
class Archive:
    """The volumes of one archive that are here; `unreadable` are files that pass for volumes, and why they are none."""

    id: str
    name: str
    library: str
    count: int
    volumes: tuple[Volume, ...]
    unreadable: tuple[Finding, ...] = ()

    @property
    def lacks(self) -> list[int]:
        here = {volume.number for volume in self.volumes}
        return [number for number in range(1, self.count + 1) if number not in here]

    @property
    def lacks_said(self) -> str:
        """ "volume 3 of 7 is", "volumes 3 and 5 of 7 are"."""
        numbers = [str(number) for number in self.lacks]
        if len(numbers) == 1:
            return f"volume {numbers[0]} of {self.count} is"
        return f"volumes {', '.join(numbers[:-1])} and {numbers[-1]} of {self.count} are"

    def contents(self) -> Contents:
        return _ArchiveContents(self)


def volumes_in(folder: Path) -> list[Path]:
    """Files in a folder that may be volumes, by name; none at a depot."""
    if lies_at(str(folder)) or not folder.is_dir():
        return []
    return sorted(path for path in folder.iterdir() if path.suffix.lower() in SUFFIXES and path.is_file())


def open_archive(paths: Sequence[Path]) -> Archive:
    """Open volumes of one archive. Raises WrongUse where they are of several, NotPossible where none can be opened."""
    volumes: dict[int, Volume] = {}
    unreadable = []
    for path in paths:
        try:
            volume = open_volume(path)
        except NotPossible as trouble:
            unreadable.append(Finding(path.name, trouble.happened))
            continue
        other = next(iter(volumes.values()), volume)
        if other.archive != volume.archive:
            raise WrongUse(
                f"{other.path.name} and {volume.path.name} belong to different archives.",
                "Name the volumes of one archive, or keep each in a folder of its own.",
            )
        volumes.setdefault(volume.number, volume)
    if not volumes:
        raise NotPossible(
            unreadable[0].what if unreadable else "There are no volumes there.",
            "Name a folder that holds volumes, or the volumes themselves.",
        )
    first = next(iter(volumes.values()))
    name = first.path.name.partition(f"-{first.number:02}-of-")[0]
    ordered = tuple(volumes[number] for number in sorted(volumes))
    return Archive(first.archive, name, first.library, first.count, ordered, tuple(unreadable))


def open_volume(path: Path) -> Volume:
    """Raises NotPossible where it is no volume, or too damaged to tell."""
    try:
        medium = MediumFile(path)
    except OSError as error:
        raise NotPossible(f"{path} cannot be read ({error.strerror}).", "Name a volume that is there.") from error
    reader = VolumeReader(path, io.BufferedReader(medium, 1 << 16))
    try:
        lines = reader.content("bag-info.txt").decode("utf-8", "replace").splitlines()
        info = dict(line.split(": ", 1) for line in lines if ": " in line)
        number, _, count = info["Bag-Count"].partition(" of ")
        return Volume(
            reader, medium, info["Bag-Group-Identifier"], info["External-Identifier"],
            info.get("External-Description", ""), int(number), int(count),
        )  # fmt: skip
    except (OSError, KeyError, ValueError) as error:
        raise NotPossible(f"{path} is no volume of an archive.", "Name volumes that bramblemoor pack wrote.") from error


def amiss(volume: Volume) -> Iterator[tuple[str, str, int]]:
    """(entry, what is wrong with it or "", bytes) of each entry that its manifests list; all of it is read."""
    for manifest in (TAG_MANIFEST, MANIFEST):
        try:
            listed = list(parsed(io.BytesIO(volume.reader.content(manifest))))
        except OSError:
            yield manifest, "missing or damaged", 0
            continue
        for name, digest in listed:
            try:
                found, size = volume.digest(name)
                yield name, "" if found == digest else "damaged", size
            except FileNotFoundError:
                yield name, "missing", 0
            except OSError:
                yield name, "damaged", 0


class _ArchiveContents(Contents):
    """The files of all volumes, and one ledger of the shares of all."""

    def __init__(self, archive: Archive) -> None:
        super().__init__(f"archive {archive.name}")
        self._archive = archive
        self._place = tempfile.TemporaryDirectory(prefix="bramblemoor-archive-")
        shares = []
        for number, volume in enumerate(archive.volumes):
            try:
                listed = list(volume.listed())
            except OSError:
                continue
            for name, digest in listed:
                path = inside_or_none(name.removeprefix(DATA)) if name.startswith(DATA) else None
                if path == ledger_file.FILE:
                    shares += self._take_share(volume, name, digest)
                elif path is not None:
                    if not self.digest(path):
                        self._put(path, digest)
                    self._put_content(digest, f"{number} {name}")
        if shares:
            self._whole = Path(self._place.name, "ledger.sqlite")
            ledger_file.merge(shares, self._whole)
            digest = digest_of(self._whole)
            self._put(Inside(ledger_file.FILE), digest)
            self._put_content(digest, f"- {self._whole}")

    def _take_share(self, volume: Volume, name: str, digest: str) -> list[Path]:
        share = Path(self._place.name, f"share-{volume.number}.sqlite")
        try:
            content = volume.reader.content(name)
        except OSError:
            return []
        if hashlib.sha256(content).hexdigest() != digest:
            return []
        share.write_bytes(content)
        try:
            ledger_file.require_inside(share)
        except NotPossible:
            return []
        return [share]

    def _find(self, sha256: str, path: str) -> tuple[Volume | None, str] | None:
        found = None
        for lies in self._lies(sha256, path):
            number, _, name = lies.partition(" ")
            volume = None if number == "-" else self._archive.volumes[int(number)]
            if volume is None or name in volume.reader:
                return volume, name
            found = found or (volume, name)
        return found

    def size(self, sha256: str, path: str) -> int:
        found = self._find(sha256, path)
        if found is None:
            return 0
        volume, name = found
        if volume is None:
            return Path(name).stat().st_size
        return volume.reader.size(name) if name in volume.reader else 0

    def read(self, sha256: str, path: str) -> AbstractContextManager[Reading] | None:
        found = self._find(sha256, path)
        return _reading(*found) if found is not None else None

    def ledger(self) -> tuple[Ledger, bool] | None:
        return (Ledger(self._whole, read_only=True), True) if self.digest(ledger_file.FILE) else None


@contextmanager
def _reading(volume: Volume | None, name: str) -> Iterator[Reading]:
    if volume is None:
        yield Reading("maybe-cache", iter([Path(name).read_bytes()]))
    else:
        yield Reading(volume.medium.grade, volume.reader.pieces(name))
