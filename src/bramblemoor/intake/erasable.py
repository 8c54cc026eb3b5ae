"""May it be erased? For every file of a card, a folder or a selection, by its frame: how many copies were read back, and where.

Nothing is erased here. Every file of a card is read whole: what was read before may have changed since.
"""

import hashlib
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

from bramblemoor.depots.register.register import within_reach
from bramblemoor.disk.durable import digest_of
from bramblemoor.disk.file_systems import file_system_of
from bramblemoor.intake.leftovers import PACKED
from bramblemoor.intake.listing import Listing, Lying, list_source
from bramblemoor.intake.objects import together
from bramblemoor.library.copies import LIBRARY
from bramblemoor.library.erasing import Erasing
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding
from bramblemoor.library.selection import Selected
from bramblemoor.library.taken_in import culled_on
from bramblemoor.running import Progress, Stage

_READERS = 2


@dataclass(frozen=True)
class Item:
    """A frame: what it is called there, its files and bytes, how many copies count and the places that hold all of it.

    `culled` is the day on which it was culled here; `why` what is wrong where no copy is known, or it could not be read;
    `absent` says that something of it is in no library.
    """

    name: str
    files: int
    bytes: int
    copies: int = 0
    places: tuple[int, ...] = ()
    culled: str = ""
    why: str = ""
    absent: bool = False


@dataclass
class Answer:
    """What the check found of every file there, by frames. `least` is how many copies the rule asks for."""

    least: int
    items: list[Item] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    @property
    def short(self) -> list[Item]:
        """What stands in the way: held too few times, and not culled."""
        return [one for one in self.items if one.copies < self.least and not one.culled]

    @property
    def culled(self) -> list[Item]:
        return [one for one in self.items if one.culled and one.copies < self.least]

    @property
    def may(self) -> bool:
        return not self.short and not any(one.attention for one in self.findings)


def check_source(library: Library, root: Path, folders: Sequence[str], progress: Progress) -> Answer:
    """Read a card or folder, and ask for each of its frames. Raises WrongUse where there is no such folder."""
    listing = list_source(root, folders)
    erasing = erasing_of(library)
    answer = Answer(erasing.least, findings=list(listing.findings))
    device = file_system_of(root).device
    digests = _read_all(listing, progress)
    groups: dict[tuple[str, str], list[Lying]] = {}
    for one in listing.files:
        groups.setdefault(together(one), []).append(one)
    packed = _packed(library)
    answer.items += (_item(library, erasing, group, digests, packed, device) for group in groups.values())
    return answer


def check_selection(library: Library, selected: Selected, *, to_leave: bool) -> Answer:
    """Ask for frames of the library. If they are `to_leave` the working drive, its own copy does not count."""
    erasing = erasing_of(library)
    answer = Answer(erasing.least)
    device = library.device if to_leave else ""
    for frame in selected.frames():
        rows = library.db.execute(
            "SELECT path, bytes, sha256, role FROM files WHERE frame = ? ORDER BY role != 'original', id", (frame,)
        ).fetchall()
        held = [[place for place in erasing.holding(row["sha256"]) if place != LIBRARY or not to_leave] for row in rows]
        answer.items.append(_of_held(
            erasing, rows[0]["path"], len(rows), sum(row["bytes"] for row in rows), held, device, ""
        ))  # fmt: skip
    return answer


def erasing_of(library: Library) -> Erasing:
    """The rule, with what is within reach now."""
    return Erasing(library, within_reach(library))


def _read_all(listing: Listing, progress: Progress) -> dict[str, str | OSError]:
    """The digest of every file, or what the card said instead."""
    found: dict[str, str | OSError] = {}
    whole, done = sum(one.bytes for one in listing.files), 0
    with ThreadPoolExecutor(_READERS) as readers:
        for one, digest in zip(
            listing.files, readers.map(lambda one: _digest(listing.root / one.path), listing.files), strict=True
        ):
            found[one.path] = digest
            done += one.bytes
            progress(Stage("reading"), done, whole)
    return found


def _digest(path: Path) -> str | OSError:
    try:
        return digest_of(path)
    except OSError as error:
        return error


def _packed(library: Library) -> dict[str, str]:
    """Sidecars of cards lie in delivered/ as they came: by the digest of each, that of the archive which holds it."""
    found: dict[str, str] = {}
    rows = library.db.execute(
        f"SELECT path, sha256 FROM files WHERE role = 'delivered' AND path GLOB '{PACKED}'"
    ).fetchall()
    for row in rows:
        with suppress(OSError, zipfile.BadZipFile), zipfile.ZipFile(library.root / row["path"]) as archive:
            for entry in archive.infolist():
                found[hashlib.sha256(archive.read(entry)).hexdigest()] = row["sha256"]
    return found


def _item(
    library: Library, erasing: Erasing, files: Sequence[Lying], digests: dict[str, str | OSError], packed: Mapping[str, str],
    device: str,
) -> Item:  # fmt: skip
    name, size = files[0].path, sum(one.bytes for one in files)
    held, culled, why, absent = list[list[int]](), list[str](), "", False
    for one in files:
        digest, which = digests[one.path], "it" if one is files[0] else one.name
        if isinstance(digest, OSError):
            why = f"{one.name} cannot be read ({digest.strerror})"
            held.append([])
            continue
        digest = packed.get(digest, digest)
        is_here = library.db.execute("SELECT 1 FROM files WHERE sha256 = ? LIMIT 1", (digest,)).fetchone() is not None
        if not is_here and (day := culled_on(library.db, digest)):
            culled.append(day)  # though a depot may still have it
            continue
        places = erasing.holding(digest)
        held.append(places)
        if not places:
            absent = absent or not is_here
            why = why or (f"no copy of {which} was read back lately" if is_here else f"{which} is in no library")
    if culled and not held:
        return Item(name, len(files), size, culled=max(culled))
    return replace(_of_held(erasing, name, len(files), size, held, device, why), absent=absent)


def _of_held(
    erasing: Erasing, name: str, files: int, size: int, held: Sequence[Sequence[int]], device: str, why: str
) -> Item:
    """A frame is held where each of its files is; the device that it is to leave counts for nothing."""
    everywhere = set(held[0]).intersection(*held[1:]) if held else set[int]()
    everywhere = {place for place in everywhere if erasing.copies([place], but=device)}
    copies = erasing.copies(everywhere)
    return Item(name, files, size, copies, tuple(sorted(everywhere)), why=why if copies < erasing.least else "")


def by_places(answer: Answer) -> Iterator[tuple[int, tuple[int, ...], int]]:
    """(copies, places, frames) of all that is held alike, the best held first."""
    groups: dict[tuple[int, tuple[int, ...]], int] = {}
    for one in answer.items:
        key = (one.copies, one.places)
        groups[key] = groups.get(key, 0) + (not one.culled or one.copies > 0)
    for (copies, places), frames in sorted(groups.items(), key=lambda one: (-one[0][0], one[0][1])):
        if frames:
            yield copies, places, frames
