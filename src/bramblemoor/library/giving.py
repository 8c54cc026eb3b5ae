"""Copies for others: frames written to a folder outside, with what is known of them inside the copies.

Originals are never altered: what is embedded is in the copy alone.
"""

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.disk.durable import replacing, set_time, temporary_name
from bramblemoor.disk.names import free_name
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.claims import believe
from bramblemoor.frames.embedding import with_packet
from bramblemoor.frames.kinds import sidecar_of
from bramblemoor.frames.xmp_writing import Belonging, read_packet, sidecar, without_own
from bramblemoor.library.catalogue import claims_of
from bramblemoor.library.home import Library, require_apart
from bramblemoor.library.receipts import Amount
from bramblemoor.library.sidecars import packet_of_frame

_MOST_EMBEDDED = 512 << 20  # bytes of a file that is held in memory for it


@dataclass(frozen=True)
class Given:
    """A copy that was written: of which path, under which name, its size, and whether what is known is inside it or beside."""

    path: str
    name: str
    amount: Amount
    embedded: bool


def require_new_folder(folder: Path) -> None:
    """Raises WrongUse where something lies there, or it lies in a library or depot."""
    require_apart(folder, "copies for others")
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise WrongUse(f"{folder} holds something already.", "Name a new or empty folder.")


@contextmanager
def new_folder(folder: Path) -> Iterator[Path]:
    """A folder to write into, that gets its name once all of it is written; what a killed run has left of it is removed.

    Raises WrongUse as `require_new_folder` does.
    """
    require_new_folder(folder)
    with working_folder(folder) as fresh:
        yield fresh
        if folder.is_dir():
            folder.rmdir()  # it is empty, and some systems rename no folder over another
        fresh.rename(folder)


@contextmanager
def new_archive(archive: Path) -> Iterator[Path]:
    """A folder to write into, of which a new ZIP is made once all is written. Raises WrongUse where something lies there."""
    require_apart(archive, "copies for others")
    if archive.exists() and not _working(archive).exists():  # else a run was killed just when it was done
        raise WrongUse(f"{archive} is there already.", "Name a new file.")
    with working_folder(archive) as fresh:
        yield fresh
        packed = _working(archive.with_suffix(""))
        Path(shutil.make_archive(str(packed), "zip", fresh)).replace(archive)


def _working(target: Path) -> Path:
    return target.with_name(temporary_name(target.name))


@contextmanager
def working_folder(target: Path) -> Iterator[Path]:
    """A folder beside a target, which is gone afterwards unless it was renamed; what a killed run has left of it is removed."""
    fresh = _working(target)
    shutil.rmtree(fresh, ignore_errors=True)
    try:
        fresh.mkdir(parents=True)
        yield fresh
    finally:
        shutil.rmtree(fresh, ignore_errors=True)


def give(library: Library, frames: Iterator[int], folder: Path, *, numbered: bool = False) -> Iterator[Given]:
    """Write copies of frames' originals into a folder; `numbered` puts their place in the order before their names.

    Raises NotPossible where a picture is not there, or the folder cannot be written.
    """
    taken: set[str] = set()
    folder.mkdir(parents=True, exist_ok=True)
    for place, frame in enumerate(frames, 1):
        row = library.db.execute(
            "SELECT path, bytes, mtime_ns FROM files WHERE frame = ? AND role = 'original'", (frame,)
        ).fetchone()
        name = row["path"].rpartition("/")[2]
        name = free_name(f"{place:04} {name}" if numbered else name, lambda one: one.casefold() in taken)
        taken.add(name.casefold())
        try:
            embedded = _copy(library, frame, library.root / row["path"], folder / name, row["mtime_ns"])
        except OSError as error:
            raise NotPossible(
                f"{row['path']} could not be copied to {folder} ({error.strerror}).",
                "Put that right, and give the same command again with a new folder.",
            ) from error
        yield Given(row["path"], name, Amount(1, 1, row["bytes"]), embedded)


def _copy(library: Library, frame: int, source: Path, target: Path, mtime_ns: int) -> bool:
    packet = packet_for(library, frame)
    if source.stat().st_size <= _MOST_EMBEDDED:
        content = with_packet(source.read_bytes(), packet)
        if content is not None:
            with replacing(target, mtime_ns) as file:
                file.write(content)
            return True
    shutil.copyfile(source, target)
    set_time(target, mtime_ns)
    target.with_name(sidecar_of(target.name)).write_bytes(packet)
    return False


def packet_for(library: Library, frame: int) -> bytes:
    """All that is known of a frame as an XMP packet, for others: without marks of our own, and with what editors wrote."""
    facts = believe(claims_of(library.db, frame))
    packet = packet_of_frame(library, frame)
    return without_own(sidecar(facts, Belonging(), read_packet(packet) if packet is not None else None))
