"""A library around pictures that lie on a disk already: they stay as they lie among each other, and nothing is copied.

Where they do not lie in pictures/ they move into it, which whoever asked for it must have agreed to.
"""

import os
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path
from shlex import quote

from bramblemoor.disk.durable import TEMPORARY, flush_folder, is_taken
from bramblemoor.disk.names import LITTER
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.kinds import ending_of
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import FOLDERS, SET_ASIDE, Library, create_library, is_library, require_apart
from bramblemoor.library.receipts import Amount, Kept, LeftOut, Receipt, listing, next_number, stamp, write_receipt
from bramblemoor.library.settings import FILE as SETTINGS_FILE
from bramblemoor.library.stocktake.stock import Stock, take_stock
from bramblemoor.library.stocktake.walk import shown
from bramblemoor.running import Progress

_PICTURES = FOLDERS[0]
_COLLECTING = "pictures being collected"
"""What the folder is called while everything that lies in the library's folder moves into it."""
_OWN = {folder.partition("/")[0] for folder in FOLDERS} | {SETTINGS_FILE, SET_ASIDE, "incoming"}
_MOST_COUNTED = 100_000  # entries below a folder: how many pictures there are in all would take long to learn
_MOST_BESIDE, _MOST_ENTRIES = 50, 2000  # folders, and entries of each, that are looked at for a hint
_OF_THE_DRIVE = LITTER | {"lost+found", "System Volume Information", "$RECYCLE.BIN", ".TemporaryItems", _COLLECTING}


@dataclass(frozen=True)
class Lying:
    """Pictures and films, told by their endings, below a folder; `whole` where all of it was looked at."""

    pictures: int = 0
    folders: int = 0
    whole: bool = True


def pictures_below(folder: Path, most: int | None = None) -> Lying:
    """What lies below a folder; looks at no more than `most` entries. Libraries and depots below it are not looked into."""
    pictures = folders = seen = 0
    for entries in _levels(folder):
        seen += len(entries)
        here = sum(bool(ending_of(name)) for name in entries)
        pictures += here
        folders += here > 0
        if most is not None and seen > most:
            return Lying(pictures, folders, whole=False)
    return Lying(pictures, folders)


def _levels(folder: Path) -> Iterator[list[str]]:
    """The names of the files in each folder below one; what cannot be looked into is passed by."""
    for place, folders, files in os.walk(folder):
        if place != str(folder) and is_library(Path(place)):
            folders.clear()
            continue
        yield files


def keeps_its_place(root: Path) -> bool:
    """Whether pictures lie where a library has them already, so that nothing need be moved to make one around them."""
    return (root / _PICTURES).is_dir() and not any(
        ending_of(entry.name) or (entry.is_dir(follow_symlinks=False) and pictures_below(Path(entry.path)).pictures)
        for entry in os.scandir(root)
        if entry.name not in _OWN
    )


def moving(root: Path) -> list[str]:
    """What would move into pictures/, by name; nothing where pictures lie there, or a run that was killed has begun it."""
    if is_library(root) or (root / _COLLECTING).is_dir() or not root.is_dir() or keeps_its_place(root):
        return []
    return _to_move(root)


def _to_move(root: Path) -> list[str]:
    with os.scandir(root) as entries:
        return sorted(entry.name for entry in entries if entry.name not in _OF_THE_DRIVE)


def make_around(
    root: Path, *, name: str, site: str, medium: str, stand_in: str, progress: Progress
) -> tuple[Library, Receipt]:
    """Make a library of a folder that holds pictures, and take them in; returns it with the receipt, which is also written.

    Where they do not lie in pictures/ already, all that is in the folder moves into it, by renaming. May be killed at any
    moment: the same call goes on. Raises WrongUse where a library's own names are taken, or nothing lies there.
    """
    library = _begun(root)
    if library is None:
        require_apart(root, "a new library")
        if not (root / _COLLECTING).is_dir() and not pictures_below(root).pictures:
            raise WrongUse(f"No pictures lie in {root}.", "Name the folder that holds them, or leave --around out.")
        _collect(root)
        library = create_library(root, name=name, site=site, medium=medium, stand_in=stand_in, around=True)
    started = stamp(now_utc())
    with library.held():
        stock = take_stock(library, progress)
        receipt = _account(library, stock, started)
        write_receipt(library.receipts, receipt)
    return library, receipt


def _begun(root: Path) -> Library | None:
    """The library that a call that broke off has made already. Raises WrongUse for one that was taken in, or is another's."""
    if not is_library(root):
        return None
    library = Library(root)
    if library.read_only or listing(library.receipts):
        raise WrongUse(
            f"{root} is a library already.", "What is new in its folders is taken up by: bramblemoor stocktake."
        )
    return library


def _collect(root: Path) -> None:
    """Move all that lies in the folder into its pictures/, where it is not there already."""
    collecting, pictures = root / _COLLECTING, root / _PICTURES
    if not collecting.is_dir() and keeps_its_place(root):
        _refuse_own(root)
        return
    try:
        collecting.mkdir(exist_ok=True)
        for name in _to_move(root):
            if is_taken(collecting / name):
                raise NotPossible(
                    f"{collecting / name} is there already, and so is {root / name}.",
                    "Rename one of them, and run the same command again.",
                )
            (root / name).rename(collecting / name)
        collecting.rename(pictures)
        flush_folder(root)
    except OSError as error:
        raise NotPossible(
            f"{error.filename} could not be moved into pictures/ ({error.strerror}).",
            "Put that right, and run the same command again: it goes on. Nothing is lost.",
        ) from error


def _refuse_own(root: Path) -> None:
    """Raise WrongUse where something lies under a name that a library uses for what is its own."""
    taken = sorted(name for name in _OWN - {_PICTURES} if is_taken(root / name) and not _is_begun(root, name))
    if taken:
        raise WrongUse(
            f"{root} holds {', '.join(taken)}, which a library uses for what is its own.",
            "Rename it, or make the library in another folder.",
        )


def _is_begun(root: Path, name: str) -> bool:
    """Whether it is what a call that was killed has left of making the library."""
    place = root / name
    return place.is_dir() and (name == "ledger" or not any(place.iterdir()))


def _account(library: Library, stock: Stock, started: str) -> Receipt:
    """What lies in pictures/, counted from the disk, against what the ledger has of it."""
    below = f"{_PICTURES}/"
    not_entered = {
        finding.name: finding
        for finding in stock.findings
        if finding.name.startswith(below)
        and library.db.execute("SELECT 1 FROM files WHERE path = ?", (finding.name,)).fetchone() is None
    }
    there, left_out = _on_disk(library.root, not_entered)
    kept, frames = [], 0
    for what, roles in (("pictures and films, as they lie", "= 'original'"), ("sidecars beside them", "!= 'original'")):
        row = library.db.execute(
            f"SELECT count(DISTINCT frame), count(*), coalesce(sum(bytes), 0) FROM files WHERE role {roles} AND path LIKE ?",
            (f"{below}%",),
        ).fetchone()
        counted = Amount(row[0] if roles == "= 'original'" else 0, row[1], row[2])
        frames += counted.frames
        if counted.files:
            kept.append(Kept(what, counted))
    return Receipt(
        number=next_number(library.receipts), run="intake", started=started, finished=stamp(now_utc()),
        about={"library": library.name, "from": "pictures/, as they lie there; nothing was copied"},
        came_in=there + Amount(frames), kept=kept,
        left_out=[LeftOut(name, one.what, left_out.get(name, Amount())) for name, one in not_entered.items()],
        findings=[one for one in stock.findings if one.name not in not_entered],
    )  # fmt: skip


def _on_disk(root: Path, named: Collection[str]) -> tuple[Amount, dict[str, Amount]]:
    """How many files lie in pictures/, links and the like included; and how large those are that are `named`."""
    whole, own = Amount(), dict[str, Amount]()
    for place, folders, names in os.walk(root / _PICTURES):
        prefix = Path(place).relative_to(root).as_posix()
        links = [name for name in folders if (Path(place) / name).is_symlink()]
        # Not where another drive is mounted, which is named and not looked at.
        folders[:] = [name for name in folders if shown(f"{prefix}/{name}") not in named]
        for name in [*links, *names]:
            if name in LITTER or name.endswith(TEMPORARY):
                continue
            amount = Amount(0, 1, os.lstat(f"{place}/{name}").st_size)
            whole += amount
            path = shown(f"{prefix}/{name}")
            if path in named:
                own[path] = own.get(path, Amount()) + amount
    return whole, own


def refuse_pictures(root: Path) -> None:
    """Raise WrongUse, with the ways to go on, where pictures lie in the folder that a new library is to have for itself."""
    if not root.is_dir() or is_library(root):
        return
    require_apart(root, "a new library")
    this = f"bramblemoor new {quote(str(root))} --around"
    if (root / _COLLECTING).is_dir():
        raise WrongUse(f"A library is being made around the pictures in {root}.", f"Go on: {this}.")
    found = pictures_below(root, _MOST_COUNTED)
    if not found.pictures and not found.whole:
        found = pictures_below(root)
    if not found.pictures:
        return
    more = "" if found.whole else "more than "
    how = "they stay where they are"
    if not keeps_its_place(root):
        how = f"they move into {root.absolute().name}/pictures, and stay as they lie among each other"
    raise WrongUse(
        f"{root} holds {more}{found.pictures:,} {_plural(found.pictures, 'picture')} in {found.folders:,}"
        f" {_plural(found.folders, 'folder')}; nothing was changed.",
        f"To make a library around them ({how}; nothing is copied): {this}. To copy them into a library elsewhere:"
        " bramblemoor new DIR, and in it:"
        f" bramblemoor unpack --from {quote(str(root.absolute()))} --dialect folders.",
    )


def _plural(count: int, thing: str) -> str:
    return thing if count == 1 else f"{thing}s"


def beside(root: Path) -> list[tuple[Path, Lying]]:
    """The folders beside a library, or that it lies in, in which pictures lie; what takes long to look through is passed by."""
    found = []
    parent = root.absolute().parent
    try:
        with os.scandir(parent) as entries:
            here = list(entries)
    except OSError:
        return []
    own = sum(bool(ending_of(entry.name)) for entry in here)
    if own:
        found.append((parent, Lying(own, 1, whole=False)))
    for entry in sorted(here, key=lambda one: one.name)[:_MOST_BESIDE]:
        place = Path(entry.path)
        if (
            entry.name.startswith(".")
            or not entry.is_dir(follow_symlinks=False)
            or place == root.absolute()
            or is_library(place)
        ):
            continue
        lying = pictures_below(place, _MOST_ENTRIES)
        if lying.pictures:
            found.append((place, lying))
    return found
