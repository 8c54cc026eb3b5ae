"""A parcel: all the parts of one order, and whether they are complete and sound."""

import hashlib
import os
import re
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from shlex import quote

from bramblemoor.disk.durable import digest_of
from bramblemoor.disk.names import safe_name
from bramblemoor.errors import PartsAmiss, WrongUse
from bramblemoor.exports.containers.folder import FolderPart, looks_unpacked
from bramblemoor.exports.dialect import Dialect, known_dialects, load_dialect
from bramblemoor.frames.kinds import ending_of

OWN_FOLDERS = "folders"
"""The dialect of pictures in folders of one's own."""
_OF_PARTS = (".zip", ".tar", ".tgz", ".gz")

# What browsers and file managers put behind a name that is taken: "part (1).zip", "part - Copy.zip", "part copy 2.zip".
_AGAIN = re.compile(r"(?: ?\(\d+\)| ?-? [Cc]opy(?: ?\(?\d+\)?)?)(?=(?:\.\w+)+$)")
_NEAREST = 3
_ENDS = 256 << 10  # bytes


@dataclass(frozen=True)
class Parcel:
    """Parts in order: archives, or folders that were unpacked by hand.

    `frames_said` is how many frames the service said it would hold, None where nobody said; `twice` are files that hold
    the same as a part. `is_whole` says that it is to hold everything that the service has; `without` names the parts that
    are not here, and are known not to be. `digests` are the SHA-256 of entries that were written here a moment ago, by their
    names: they need no reading again.
    """

    service: str
    order: str
    dialect: Dialect
    parts: tuple[Path, ...]
    work: Path
    frames_said: int | None = None
    about: tuple[tuple[str, str], ...] = ()
    twice: tuple[Path, ...] = ()
    is_whole: bool = True
    without: tuple[str, ...] = ()
    digests: Mapping[str, str] = field(default_factory=dict, compare=False, repr=False)

    @property
    def marks(self) -> dict[str, str]:
        """What tells this export from another whose parts have the same names: of each part a digest of its size, ends or
        listing.
        """
        return {part.name: _mark(part) for part in self.parts}


def _mark(part: Path) -> str:
    digest = hashlib.sha256()
    if part.is_dir():
        for entry in FolderPart(part).entries():
            digest.update(f"{entry.name}\0{entry.size}\0".encode())
    else:
        with part.open("rb") as file:
            size = part.stat().st_size
            digest.update(f"{size}\0".encode() + file.read(_ENDS))
            file.seek(max(0, size - _ENDS))  # where a ZIP tells the checksums of all its entries
            digest.update(file.read(_ENDS))
    return digest.hexdigest()[:16]


def require_sound(parts: list[tuple[str, bool]]) -> None:
    """Raise PartsAmiss, naming every part that is missing or wrong, given (name, sound) of each."""
    amiss = [name for name, sound in parts if not sound]
    if amiss:
        raise PartsAmiss(
            f"{len(amiss)} of {len(parts)} parts missing or damaged: {', '.join(amiss)}.",
            "Nothing was unpacked; fetch just what is wrong with: bramblemoor collect.",
        )


def parcel_at(
    path: Path,
    service: str,
    dialect: Dialect,
    work: Callable[[str], Path],
    order: str = "",
    without: Collection[str] = (),
) -> Parcel:
    """A parcel fetched by other means: a folder of parts, one archive, or what somebody unpacked by hand.

    `order` chooses one of several whose parts lie mixed; `without` names parts, by number or file name, that are not to be
    waited for. Raises WrongUse where no part is there, or `without` names none that is missing, PartsAmiss where another is.
    """
    if path.is_file():
        match = _match(dialect, path.name)
        total = (match.groupdict().get("total") or "1") if match else "1"
        if match and int(total) > 1:
            raise WrongUse(
                f"{path.name} is part {match['number']} of {total}: unpacking makes sense with all of them.",
                "Name the folder that holds them.",
            )
        _refuse_without(without, path)
        name = match["order"] if match else path.name.split(".")[0]
        return Parcel(service, safe_name(name), dialect, (path,), work(safe_name(name)))
    if not path.is_dir():
        raise WrongUse(f"There is no {path}.", "Name the folder that holds the parts, or a part.")
    orders: dict[str, list[tuple[Path, re.Match[str]]]] = {}
    for file in sorted(path.iterdir()):
        match = _match(dialect, file.name) if file.is_file() else None
        if match:
            orders.setdefault(match["order"], []).append((file, match))
    if order and order not in orders:
        raise WrongUse(
            f"{path} holds no part of the order {order}.",
            f"It holds parts of: {', '.join(orders) or 'none'}.",
        )
    if len(orders) > 1 and not order:
        raise WrongUse(
            f"{path} holds parts of several orders: {', '.join(orders)}.",
            f"Unpack one at a time, by name: bramblemoor unpack {next(iter(orders))} --from {path}.",
        )
    if not orders:
        _refuse_without(without, path)
        return _unpacked_by_hand(path, service, dialect, work)
    chosen = order or next(iter(orders))
    parts, twice, lacking = _numbered(path, dialect, orders[chosen], without)
    return Parcel(
        service, safe_name(chosen), dialect, tuple(parts), work(safe_name(chosen)), twice=tuple(twice), without=lacking
    )


def guess_dialect(path: Path) -> Dialect:
    """The one dialect that ships with Bramblemoor after which the parts at `path` are named. Raises WrongUse else."""
    names = [path.name] if path.is_file() else [file.name for file in path.iterdir()] if path.is_dir() else []
    known = [load_dialect(name) for name in known_dialects() if name != OWN_FOLDERS]
    fitting = [dialect for dialect in known if any(_match(dialect, name) for name in names)]
    if len(fitting) == 1:
        return fitting[0]
    if not path.exists():
        raise WrongUse(f"There is no {path}.", "Name the folder that holds the parts, or a part.")
    if not names:
        raise WrongUse(f"{path} is empty.", "Name the folder that holds the parts.")
    if path.is_dir() and is_own_folder(path):
        raise WrongUse(
            f"{path} is a folder of pictures, and no export that is known here.",
            f"To take it in with its folders: bramblemoor unpack --from {quote(str(path))} --dialect {OWN_FOLDERS}. If it is an"
            f" export of a service: bramblemoor dialect draft {quote(str(path))}.",
        )
    raise WrongUse(
        f"How {path} is written cannot be told from its name.",
        f"Say it with --dialect: {', '.join(known_dialects())}, or a file; bramblemoor dialect draft {path} drafts one.",
    )


def is_own_folder(path: Path) -> bool:
    """Whether pictures lie in a folder, or in folders below it, and no part of an export beside them."""
    for _, _, names in os.walk(path):
        if any(Path(name).suffix.lower() in _OF_PARTS for name in names):
            return False
        if any(ending_of(name) for name in names):
            return True
    return False


def _match(dialect: Dialect, name: str) -> re.Match[str] | None:
    return dialect.part_pattern.fullmatch(name) or dialect.part_pattern.fullmatch(_AGAIN.sub("", name))


def _numbered(
    folder: Path, dialect: Dialect, found: list[tuple[Path, re.Match[str]]], without: Collection[str]
) -> tuple[list[Path], list[Path], tuple[str, ...]]:
    """Parts in order, files that repeat one, and those that are missing and may be.

    Raises WrongUse where `without` names what is no part of this order, or is here; PartsAmiss where others are missing,
    or numbers contradict each other.
    """
    numbered = bool(found[0][1].groupdict().get("number"))
    parts: dict[int | str, Path] = {}
    twice = []
    for file, match in sorted(found, key=lambda one: (len(one[0].name), one[0].name)):
        key = int(match["number"]) if numbered else match.string
        if key not in parts:
            parts[key] = file
        elif file.stat().st_size == parts[key].stat().st_size and digest_of(file) == digest_of(parts[key]):
            twice.append(file)
        else:
            raise PartsAmiss(
                f"{file.name} and {parts[key].name} both say they are the same part, and they differ.",
                "Nothing was unpacked; remove the one that is wrong.",
            )
    if not numbered:
        _refuse_without(without, folder)
        return sorted(parts.values()), twice, ()
    by_number = {int(key): file for key, file in parts.items()}
    totals = {int(match["total"]) for _, match in found if match.groupdict().get("total")}
    if len(totals) > 1:
        raise PartsAmiss(
            f"The parts in {folder} disagree on how many there are: {', '.join(map(str, sorted(totals)))}.",
            "Nothing was unpacked; order the export again.",
        )
    first = min(by_number) if not totals and 0 in by_number else 1
    last = totals.pop() if totals else max(by_number)
    given = {_number_of(name, dialect, found[0][1]["order"]) for name in without}
    here = sorted(given & by_number.keys())
    if here:
        raise WrongUse(f"Part {here[0]} is here: {by_number[here[0]].name}.", "Leave it out of --without.")
    lacking = [number for number in range(first, max(last, *given, first) + 1) if number not in by_number]
    missing = [str(number) for number in lacking if number not in given]
    if missing:
        raise PartsAmiss(
            f"Of {last - first + 1} parts, {', '.join(missing)} {'is' if len(missing) == 1 else 'are'} not in {folder}.",
            "Nothing was unpacked; fetch the rest and try again, or file what is here: "
            + " ".join(f"--without {number}" for number in missing[:5])
            + ".",
        )
    return [by_number[number] for number in sorted(by_number)], twice, tuple(f"part {number}" for number in lacking)


def _number_of(name: str, dialect: Dialect, order: str) -> int:
    """The number of a part, told as such or by its file name."""
    if name.isascii() and name.isdigit():
        return int(name)
    match = _match(dialect, name)
    if match is None or match["order"] != order or not match["number"]:
        raise WrongUse(
            f"{name} is no part of {order}.", "Name a part that is not here by its number, or as its file was called."
        )
    return int(match["number"])


def _refuse_without(without: Collection[str], path: Path) -> None:
    """Raise WrongUse where parts are named as missing of what has no numbered parts: nothing shows that they are."""
    if without:
        raise WrongUse(f"{path} has no numbered parts that could be missing.", "Leave --without out.")


def _unpacked_by_hand(path: Path, service: str, dialect: Dialect, work: Callable[[str], Path]) -> Parcel:
    """The folder itself, or each folder in it where parts were unpacked beside each other."""
    order = safe_name(path.resolve().name)
    if fits(path, dialect):
        return Parcel(service, order, dialect, (path,), work(order))
    inside = [folder for folder in sorted(path.iterdir()) if folder.is_dir() and fits(folder, dialect)]
    if inside:
        return Parcel(service, order, dialect, tuple(inside), work(order))
    if not looks_unpacked(path):
        raise WrongUse(f"{path} is empty.", "Name the folder that holds the parts.")
    nearest = nearest_names(dialect, (entry.name for entry in FolderPart(path).entries()))
    raise WrongUse(
        f"No file in {path} is named like a part of a {dialect.name} export, or like something in one.",
        f"Nearest are {', '.join(nearest)}. Check the folder and --dialect; bramblemoor dialect draft writes a new one.",
    )


def fits(folder: Path, dialect: Dialect) -> bool:
    """Whether a folder holds anything that the dialect takes for a picture or its sidecar."""
    return any(dialect.kind_of(entry.name) in ("picture", "sidecar") for entry in FolderPart(folder).entries())


def nearest_names(dialect: Dialect, names: Iterable[str]) -> list[str]:
    """The entry names that look most like what the dialect describes."""
    from difflib import SequenceMatcher
    from heapq import nlargest
    from itertools import islice

    globs = [*dialect.entries.pictures, *dialect.entries.sidecars]

    def likeness(name: str) -> float:
        return max(SequenceMatcher(None, glob, name, autojunk=False).ratio() for glob in globs)

    return nlargest(_NEAREST, islice(names, 2000), key=likeness)
