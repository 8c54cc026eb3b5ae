"""Packing a library, or some of it, into an archive: volumes of a given size, each read back before it counts."""

import hashlib
import io
import json
import re
import shutil
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from glob import escape
from pathlib import Path
from typing import IO

from bramblemoor.depots.archives.container import WRITERS, Form, VolumeWriter, flush, written
from bramblemoor.depots.archives.filling import Filling, fill
from bramblemoor.depots.archives.opened import DATA, amiss, open_volume
from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.engine.sources import Source, from_anywhere
from bramblemoor.disk.durable import TEMPORARY, flush_folder, write_atomically
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.home import Library, require_apart, require_room
from bramblemoor.library.receipts import (
    NOTHING,
    Amount,
    Finding,
    Kept,
    LeftOut,
    Receipt,
    encode,
    listing,
    next_number,
    read_receipt,
    stamp,
    write_receipt,
)
from bramblemoor.library.selection import Selection
from bramblemoor.library.settings import FILE as SETTINGS
from bramblemoor.library.stocktake.stock import take_stock
from bramblemoor.running import Pace, Progress, Stage

_FINISHED = "finished.json"
_AT_HAND = 128 << 20  # a larger file is read twice: once to see whether it is right, once to pack it


@dataclass
class PackedVolume:
    """One volume that is whole: its file, and what is in it."""

    path: Path
    amount: Amount = NOTHING
    grade: str = ""
    first: str = ""
    last: str = ""
    already: bool = False


@dataclass
class Packing:
    """What came of a run. `left` volumes are still to be written: it was stopped; without any volume it was finished before."""

    archive: str
    folder: Path
    volumes: list[PackedVolume] = field(default_factory=list)
    left: int = 0
    receipt: Receipt | None = None


@dataclass(frozen=True)
class Wish:
    """What to pack, into what: `size` is the most bytes of a volume."""

    selection: Selection
    form: Form
    size: int
    name: str


def default_name(library: Library, selection: Selection) -> str:
    words = [
        library.name,
        *selection.years,
        *selection.shoots,
        *selection.albums,
        *selection.keywords,
        *selection.frames[:3],
    ]
    return re.sub(r"[^\w.]+", "-", " ".join(words)).strip("-.")[:80]


def plan(library: Library, wish: Wish, place: Path, progress: Progress, size_said: Callable[[int], str]) -> Filling:
    take_stock(library, progress)
    return fill(library, wish.selection, wish.form, wish.size, place, size_said)


def pack(
    library: Library, depots: Sequence[Depot], wish: Wish, folder: Path, progress: Progress, pace: Pace,
    size_said: Callable[[int], str],
) -> Packing:  # fmt: skip
    """Write an archive into `folder`; what an interrupted run has finished of the same archive there stays.

    Files are taken from the library, else from `depots`. Raises WrongUse where another archive of that name is begun there, or
    lies there.
    """
    started = stamp(now_utc())
    require_apart(folder, "an archive")
    work = folder / f"{wish.name}.unfinished"
    if (finished := _finished(library, work, folder, wish)) is not None:
        return finished
    folder.mkdir(parents=True, exist_ok=True)
    work.mkdir(exist_ok=True)
    try:
        filling = plan(library, wish, work, progress, size_said)
        archive = _begun(work, folder, wish, filling)
        run = _Run(library, depots, wish, folder, filling, archive, progress, pace)
        for left_over in folder.glob(f"{escape(wish.name)}-*-of-*{TEMPORARY}"):
            left_over.unlink()
        run.require_room()
        run.write()
    except BaseException:
        if work.is_dir() and not (work / "archive.json").exists():
            shutil.rmtree(work)
        raise
    result = Packing(archive, folder, run.done, filling.count - len(run.done))
    if not result.left:
        result.receipt = run.receipt(started)
        write_atomically(work / _FINISHED, encode(result.receipt))
        _close(library, work, result.receipt)
    return result


def _close(library: Library, work: Path, receipt: Receipt) -> None:
    """End a run whose volumes are all there: its receipt, then its folder. What tells that it is finished goes last."""
    if not (library.receipts / receipt.file_name).exists():
        write_receipt(library.receipts, receipt)
    for path in work.iterdir():
        if path.name != _FINISHED:
            path.unlink()
    (work / _FINISHED).unlink()
    work.rmdir()
    flush_folder(work.parent)


def _finished(library: Library, work: Path, folder: Path, wish: Wish) -> Packing | None:
    """An archive that was whole when its run was killed at the very end: only tidying up was left."""
    if (work / _FINISHED).is_file():
        receipt = read_receipt(work / _FINISHED)
        _close(library, work, receipt)
        return Packing("", folder, receipt=receipt)
    if work.is_dir() and not any(work.iterdir()) and any(folder.glob(f"{escape(wish.name)}-*-of-*.{wish.form}")):
        for name in reversed(listing(library.receipts)):
            receipt = read_receipt(library.receipts / name)
            if receipt.run == "pack" and receipt.about.get("archive", "").startswith(f"{wish.name} ("):
                work.rmdir()
                return Packing("", folder, receipt=receipt)
    return None


def _begun(work: Path, folder: Path, wish: Wish, filling: Filling) -> str:
    """The id of the archive: that of the interrupted run that this one goes on with, or a new one."""
    marker = work / "archive.json"
    if marker.is_file():
        said: dict[str, str] = json.loads(marker.read_text())
        if said["filling"] != filling.fingerprint:
            raise WrongUse(
                f"An archive {wish.name} is begun in {folder}, of something else: the library or what is wanted has changed.",
                f"Delete {work.name} and the volumes of that name there, or give this one another name: --name.",
            )
        return said["archive"]
    if any(folder.glob(f"{escape(wish.name)}-*-of-*.{wish.form}")):
        raise WrongUse(
            f"An archive {wish.name} lies in {folder} already.",
            "Name another folder, or give this one another name: --name.",
        )
    archive = str(uuid.uuid4())
    write_atomically(marker, json.dumps({"archive": archive, "filling": filling.fingerprint}).encode())
    return archive


class _Run:
    def __init__(
        self, library: Library, depots: Sequence[Depot], wish: Wish, folder: Path, filling: Filling, archive: str,
        progress: Progress, pace: Pace,
    ) -> None:  # fmt: skip
        self._library, self._wish, self._folder, self._filling, self._archive = library, wish, folder, filling, archive
        self._sources = from_anywhere(library, depots, -1)
        self._progress, self._pace = progress, pace
        self.done: list[PackedVolume] = []
        self._came_in, self._passed = NOTHING, 0
        self._left_out: list[LeftOut] = []
        self._findings: list[Finding] = []

    def _path(self, volume: int) -> Path:
        return self._folder / f"{self._wish.name}-{volume:02}-of-{self._filling.count:02}.{self._wish.form}"

    def require_room(self) -> None:
        there = sum(
            path.stat().st_size for path in map(self._path, range(1, self._filling.count + 1)) if path.is_file()
        )
        require_room(self._folder, max(0, self._filling.bytes - there), "Packing")

    def write(self) -> None:
        for volume in range(1, self._filling.count + 1):
            if self._pace.stopped:
                return
            packed = PackedVolume(self._path(volume))
            if packed.path.is_file():
                packed.already = True
                self._count(volume, packed)
            elif not self._write_volume(volume, packed):
                return
            self.done.append(packed)

    def _items(self, volume: int) -> list[Item]:
        rows = self._library.db.execute(
            "SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role = 'original' FROM temp.packing"
            " JOIN files f ON f.id = file WHERE volume = ? ORDER BY f.path",
            (volume,),
        )
        return [Item(*row) for row in rows.fetchall()]

    def _count(self, volume: int, packed: PackedVolume) -> None:
        """Enter a volume that an earlier run has finished."""
        opened = open_volume(packed.path)
        packed.grade = opened.medium.grade
        listed = dict(opened.listed())
        opened.medium.close()
        for item in self._items(volume):
            self._enter(packed, item, "" if DATA + item.path in listed else "it was not to be had then")

    def _enter(self, packed: PackedVolume, item: Item, trouble: str) -> None:
        amount = Amount(int(item.frames), 1, item.bytes)
        self._came_in += amount
        self._passed += item.bytes
        self._progress(Stage("packing"), self._passed, self._filling.bytes)
        if trouble:
            self._left_out.append(LeftOut(item.path, trouble, amount))
            return
        packed.amount += amount
        packed.first = packed.first or item.path
        packed.last = item.path

    def _write_volume(self, volume: int, packed: PackedVolume) -> bool:
        """Write one, read it back, and put it in place; says whether it is there."""
        fresh = packed.path.with_name(packed.path.name + TEMPORARY)
        try:
            with fresh.open("wb") as file:
                self._fill(volume, packed, WRITERS[self._wish.form](file))
                if self._pace.stopped:
                    fresh.unlink()
                    return False
                flush(file)
            self._read_back(fresh, packed)
        except OSError as error:
            fresh.unlink(missing_ok=True)
            raise NotPossible(
                f"{packed.path.name} could not be written to {self._folder} ({error.strerror or error}).",
                "Make room there or put the drive right, and run the same command again: finished volumes stay.",
            ) from error
        fresh.replace(packed.path)
        flush_folder(self._folder)
        return True

    def _fill(self, volume: int, packed: PackedVolume, writer: VolumeWriter) -> None:
        top = packed.path.stem
        sums: list[tuple[str, str]] = []

        def add(name: str, content: bytes) -> None:
            writer.add(f"{top}/{name}", io.BytesIO(content), len(content), written())

        def common(path: str, content: bytes) -> None:
            add(DATA + path, content)
            sums.append((DATA + path, hashlib.sha256(content).hexdigest()))

        settings = (self._library.root / SETTINGS).read_bytes()
        share = self._filling.ledgers[volume].read_bytes()
        common(SETTINGS, settings)
        common(ledger_file.FILE, share)
        for item in self._items(volume):
            if self._pace.stopped:
                return
            trouble = self._add(writer, f"{top}/{DATA}{item.path}", item)
            if not trouble:
                sums.append((DATA + item.path, item.sha256))
            self._enter(packed, item, trouble)
        manifest = b"".join(bag.manifest_line(digest, name) for name, digest in sorted(sums))
        oxum = (packed.amount.bytes + len(settings) + len(share), len(sums))
        description = f"Volume {volume} of {self._filling.count} of an archive of the library {self._library.name}"
        tags = {
            "bagit.txt": bag.DECLARATION,
            "bag-info.txt": bag.info(
                self._library.settings.library.id, description, oxum, stamp(now_utc())[:10],
                f"Bag-Group-Identifier: {self._archive}\nBag-Count: {volume} of {self._filling.count}\n",
            ),
            bag.MANIFEST: manifest,
        }  # fmt: skip
        tags[bag.TAG_MANIFEST] = b"".join(
            bag.manifest_line(hashlib.sha256(content).hexdigest(), name) for name, content in tags.items()
        )
        for name, content in tags.items():
            add(name, content)
        writer.close()

    def _add(self, writer: VolumeWriter, name: str, item: Item) -> str:
        """Pack a file from the first source where it is what the ledger says; says what is wrong where none has it."""
        trouble = "no good copy of it is within reach"
        for source in self._sources(item):
            wrong = _add_from(source, writer, name, item)
            if not wrong:
                return ""
            trouble = f"at the {source.name}, it {wrong}"
            self._findings.append(Finding(item.path, f"{trouble}; it was not packed from there"))
        return trouble

    def _read_back(self, fresh: Path, packed: PackedVolume) -> None:
        volume = open_volume(fresh)
        packed.grade = volume.medium.grade
        for name, wrong, _ in amiss(volume):
            if wrong:
                raise OSError(0, f"read back, {name} in it was {wrong}; the drive cannot be trusted")
        volume.medium.close()

    def receipt(self, started: str) -> Receipt:
        count = len(self.done)
        kept = NOTHING
        for packed in self.done:
            kept += packed.amount
        told = {left.name for left in self._left_out}
        doubt = "" if all(one.grade != "maybe-cache" for one in self.done) else ", but perhaps from a cache"
        return Receipt(
            number=next_number(self._library.receipts),
            run="pack",
            started=started,
            finished=stamp(now_utc()),
            about={
                "library": self._library.name, "archive": f"{self._wish.name} ({self._archive})",
                "volumes": str(count), "to": str(self._folder),
            },
            came_in=self._came_in,
            kept=[Kept(f"packed and read back{doubt}", kept)] if kept != NOTHING else [],
            left_out=self._left_out,
            findings=[finding for finding in self._findings if finding.name not in told],
        )  # fmt: skip


def _add_from(source: Source, writer: VolumeWriter, name: str, item: Item) -> str:
    try:
        with io.BufferedReader(source.open()) as file:
            content: IO[bytes] = file
            if item.bytes <= _AT_HAND:
                content = io.BytesIO(file.read(item.bytes + 1))
                digest = hashlib.sha256(content.getbuffer()).hexdigest()
            else:
                digest = hashlib.file_digest(file, "sha256").hexdigest()
    except FileNotFoundError:
        return "is missing"
    except OSError as error:
        return f"cannot be read ({error.strerror})"
    if digest != item.sha256:
        return "is not what the ledger says: its content changed"
    if isinstance(content, io.BytesIO):
        writer.add(name, content, item.bytes, item.mtime_ns)
    else:
        with io.BufferedReader(source.open()) as again:
            hashing = _Hashing(again)
            writer.add(name, hashing, item.bytes, item.mtime_ns)  # type: ignore[arg-type]
        if hashing.digest.hexdigest() != item.sha256:
            raise OSError(0, f"{item.path} changed while it was being packed")
    return ""


class _Hashing:
    """Reads a file and hashes what it reads."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self.digest = hashlib.sha256()

    def read(self, count: int = -1) -> bytes:
        content = self._file.read(count)
        self.digest.update(content)
        return content
