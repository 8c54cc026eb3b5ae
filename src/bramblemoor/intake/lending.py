"""Out and back, the way out: small copies of frames written for somebody else to work on, and a list of what was lent.

The list stands in companions/lent/NAME.json; docs/formats.md describes it.
"""

import hashlib
import re
import shutil
from collections.abc import Sequence
from pathlib import Path

import msgspec

from bramblemoor.disk.durable import temporary_name
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.disk.names import free_name
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.embedding import image_data, with_packet
from bramblemoor.frames.kinds import SIDECAR, is_sidecar, stem_of
from bramblemoor.frames.moments import now_utc
from bramblemoor.frames.showing import as_jpeg, shown
from bramblemoor.frames.xmp_fragments import without
from bramblemoor.frames.xmp_model import packet_of, parse_packet
from bramblemoor.frames.xmp_names import DESCRIPTIVE
from bramblemoor.frames.xmp_reading import read_xmp
from bramblemoor.library.catalogue import shown_by
from bramblemoor.library.giving import packet_for, require_new_folder
from bramblemoor.library.home import Library
from bramblemoor.library.own_companions import write_companion
from bramblemoor.library.receipts import stamp
from bramblemoor.library.selection import Selected
from bramblemoor.running import Progress, Stage

FOLDER = "companions/lent"
_NAME = re.compile(r"\w[\w .-]{0,40}")


class Lent(msgspec.Struct):
    """A copy that was lent: its name, of which frame (the original's path and digest then), digests of the copy and of its image
    without metadata, what it says (field, value), and the day on which it came back, "" while it has not.
    """

    name: str
    path: str
    original: str
    sha256: str
    image: str
    says: list[tuple[str, str]]
    back: str = ""


class Lending(msgspec.Struct):
    """What was lent under a name: when, where the copies were written, and which."""

    name: str
    lent: str
    folder: str
    frames: list[Lent]

    @property
    def out(self) -> list[Lent]:
        return [one for one in self.frames if not one.back]


def lendings(library: Library) -> list[Lending]:
    """All of them, the oldest first. Raises NotPossible for a list that cannot be read."""
    folder = library.root / FOLDER
    return sorted(map(_read, folder.glob("*.json")), key=lambda one: one.lent) if folder.is_dir() else []


def lending_called(library: Library, name: str) -> Lending:
    """Raises WrongUse where nothing was lent under that name."""
    path = _list_of(library, name)
    if not _NAME.fullmatch(name) or not path.is_file():
        known = ", ".join(one.name for one in lendings(library)) or "none"
        raise WrongUse(f"Nothing was lent under the name {name!r}.", f"Names that there are: {known}.")
    return _read(path)


def keep_list(library: Library, lending: Lending) -> None:
    content = msgspec.json.format(msgspec.json.encode(lending), indent=1) + b"\n"
    write_companion(library, f"{FOLDER}/{lending.name}.json", content)


def _list_of(library: Library, name: str) -> Path:
    return library.root / FOLDER / f"{name}.json"


def _read(path: Path) -> Lending:
    try:
        # What it is called by is what the list is: a list may have been renamed, and its content comes from anywhere.
        return msgspec.structs.replace(msgspec.json.decode(path.read_bytes(), type=Lending), name=path.stem)
    except (OSError, msgspec.DecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise NotPossible(f"The list {path} cannot be read ({why}).", "Put it back from a copy at a depot.") from error


def lend(
    selected: Selected, name: str, folder: Path, longest: int, quality: int, progress: Progress
) -> tuple[Lending, list[str]]:
    """Write JPEGs of at most so many pixels into a new folder, what is known inside; the folder is there once all of them are.

    Returns what was lent, and the paths of frames of which nothing can be shown, or that are films. Raises WrongUse for a name
    that is none or is taken, or a folder in which something lies; NotPossible where it cannot be written.
    """
    library = selected.library
    fresh = folder.with_name(temporary_name(folder.name))
    _require_free(library, name, folder, killed=fresh.is_dir())
    shutil.rmtree(fresh, ignore_errors=True)  # what a killed run has left
    try:
        fresh.mkdir(parents=True)
        lending = Lending(name, stamp(now_utc()), str(folder.resolve()), [])
        left = _write(selected, lending, fresh, longest, quality, progress)
        if not lending.frames:
            shutil.rmtree(fresh)
            raise WrongUse("None of these frames can be lent.", "Films, and what cannot be shown here, are not lent.")
        flush_files([fresh / one.name for one in lending.frames], fresh)
        keep_list(library, lending)
        fresh.rename(folder)
    except OSError as error:
        shutil.rmtree(fresh, ignore_errors=True)
        raise NotPossible(
            f"{folder} cannot be written ({error.strerror}).", "Put that right, and give the same command again."
        ) from error
    return lending, left


def _require_free(library: Library, name: str, folder: Path, *, killed: bool) -> None:
    """`killed` says that a run left such copies on their way: then the list that it may have written is its own."""
    if not _NAME.fullmatch(name):
        raise WrongUse(f"{name!r} is no name to lend under.", "Use letters, digits and spaces, as ada.")
    require_new_folder(folder)
    if _list_of(library, name).exists():
        known = _read(_list_of(library, name))
        if not killed or known.folder != str(folder.resolve()) or folder.exists():
            raise WrongUse(
                f"Something was lent as {name!r} on {known.lent[:10]}.", f"Choose another name, as '{name} 2'."
            )


def _write(
    selected: Selected, lending: Lending, folder: Path, longest: int, quality: int, progress: Progress
) -> list[str]:
    """Write them, and list them; returns the paths of those of which nothing is written."""
    library, left = selected.library, list[str]()
    taken: set[str] = set()
    for number, frame in enumerate(selected.frames(), 1):
        path, sha256, kind = library.db.execute(
            "SELECT path, sha256, kind FROM files f JOIN frames r ON r.id = frame WHERE frame = ? AND role = 'original'",
            (frame,),
        ).fetchone()
        content = _small(library, frame, longest, quality) if kind == "photo" else b""
        if not content:
            left.append(path)
            continue
        name = free_name(stem_of(path.rpartition("/")[2]) + ".jpg", lambda one: one.casefold() in taken)
        taken.add(name.casefold())
        (folder / name).write_bytes(content)
        says: list[tuple[str, str]] = [(claim.field, claim.value) for claim in read_xmp(_packet(library, frame))]
        lending.frames.append(
            Lent(name, path, sha256, hashlib.sha256(content).hexdigest(), image_digest(content), says)
        )
        progress(Stage("writing small copies", "frames"), number, selected.count)
    return left


def _small(library: Library, frame: int, longest: int, quality: int) -> bytes:
    """A small copy; empty where nothing can be shown."""
    image = shown(library.root / shown_by(library.db, frame).path, longest)
    if image is None:
        return b""
    small = as_jpeg(image, quality)
    return with_packet(small, _packet(library, frame)) or small


def _packet(library: Library, frame: int) -> bytes:
    """What is known of a frame. An editor's instructions are for the original: on a small copy they would not look the same."""
    rdf = parse_packet(packet_for(library, frame))
    without(rdf, lambda space: space not in DESCRIPTIVE)
    return packet_of(rdf)


def image_digest(content: bytes) -> str:
    """What a picture looks like, whatever is embedded in it."""
    return hashlib.sha256(image_data(content)).hexdigest()


def lent_as(lending: Lending, name: str) -> Sequence[Lent]:
    """The copies that a file which came back may be of: those whose names its own begins with, the longest of them."""
    stem = stem_of(name[: -len(SIDECAR)] if is_sidecar(name) else name).casefold()
    found: list[tuple[int, Lent]] = []
    for one in lending.frames:
        lent = stem_of(one.name).casefold()
        if stem == lent or (stem.startswith(lent) and not stem[len(lent)].isalnum()):
            found.append((len(lent), one))
    best = max((length for length, _ in found), default=0)
    return [one for length, one in found if length == best]
