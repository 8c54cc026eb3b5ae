"""A depot: a folder that holds a copy of the library as a bag, known by the id in its depot.toml."""

import errno
import tomllib
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import msgspec

from bramblemoor.depots.bag.bag import fits
from bramblemoor.depots.bag.terms import Terms, checked
from bramblemoor.depots.kinds import Drive, knows, open_drive
from bramblemoor.disk.durable import clear_unfinished, write_atomically
from bramblemoor.disk.told import Anchor, is_plain_file, require_plain_folders
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.library.home import DEPOT_MARK

_LARGEST = 1 << 20
_FOLDERS = ("data", "earlier", "incoming", "readings", "receipts", "runs")


def may_be_called(name: str) -> bool:
    """Whether a depot can have a name: one that commands can tell from options and folders, and from the library."""
    return (
        bool(name.strip())
        and name.casefold() != "library"
        and not name.startswith("-")
        and name.isprintable()
        and not set(name) & set("/\\")
        and name not in (".", "..")
    )


class Identity(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What depot.toml says. `library` is the id of the one library whose copy lies here."""

    id: str
    name: str
    library: str
    site: str
    medium: str
    kind: str = "folder"
    options: dict[str, str] = {}
    terms: Terms = Terms()


@dataclass(frozen=True)
class Depot:
    """An open depot."""

    root: Path
    identity: Identity
    drive: Drive
    anchor: Anchor

    @property
    def id(self) -> str:
        return self.identity.id

    @property
    def name(self) -> str:
        return self.identity.name

    @property
    def library(self) -> str:
        """The id of the library whose copy lies here."""
        return self.identity.library

    @property
    def seeks(self) -> bool:
        """Whether it lies on a spinning disk: the system says so, and who added it did not say otherwise."""
        return self.drive.spins and self.identity.medium.lower() != "ssd"

    @property
    def data(self) -> Path:
        return self.root / "data"

    def require_there(self) -> None:
        """Raise OSError where the drive was unmounted meanwhile: what is at its path then is another folder."""
        self.anchor.require()
        if not (self.root / DEPOT_MARK).is_file():
            raise OSError(errno.ENODEV, "its drive is not mounted there any more", str(self.root))

    @contextmanager
    def held(self) -> Iterator[None]:
        """Hold the depot for a run that writes. Raises DepotTrouble where another run, of any library, does."""
        from filelock import FileLock, Timeout  # takes long to load, and what only reads needs no lock

        try:
            require_plain_folders(self.root, _FOLDERS)
        except OSError as error:
            raise DepotTrouble(
                f"{error.filename}: {error.strerror}. Nothing was written.",
                "Put a real folder in its place, with what it is to hold; or use another drive.",
            ) from error
        lock = FileLock(self.root / "in-use.lock")
        try:
            lock.acquire(timeout=0)
        except Timeout as error:
            raise DepotTrouble(
                f"Another run is working on the depot {self.name}.", "Wait until it has ended, then try again."
            ) from error
        except OSError as error:
            raise DepotTrouble(
                f"The depot {self.name} at {self.root} cannot be written ({error.strerror}).",
                "Remove the write protection, or use another drive.",
            ) from error
        try:
            clear_unfinished(*(self.root / folder for folder in ("readings", "receipts", "runs")))
            yield
        finally:
            lock.release()


def read_identity(root: Path) -> Identity | None:
    """What lies at `root` says it is; None where there is no depot. Raises DepotTrouble for a damaged depot.toml."""
    path = root / DEPOT_MARK
    if not path.is_file():
        return None
    if not is_plain_file(path) or path.stat().st_size > _LARGEST:
        raise _damaged(path, "it is a link, or far too large")
    try:
        document = tomllib.loads(path.read_text(encoding="utf-8"))
        tables = {name: document.get(name, {}) for name in ("options", "terms")}
        identity = msgspec.convert(document["depot"] | tables, Identity)
        checked(identity.terms)
        if not may_be_called(identity.name):
            raise WrongUse("a depot cannot have its name", "")
        return identity
    except WrongUse as error:  # terms that nobody could have agreed on
        raise _damaged(path, error.happened) from error
    except (
        tomllib.TOMLDecodeError, UnicodeDecodeError, msgspec.ValidationError, KeyError, TypeError, RecursionError, ValueError,
    ) as error:  # fmt: skip
        raise _damaged(path, str(error)) from error


def _damaged(path: Path, why: str) -> DepotTrouble:
    return DepotTrouble(
        f"{path} is damaged ({why}).",
        "If the library knows the depot, write it anew: bramblemoor depot repair NAME FOLDER.",
    )


def open_depot(root: Path) -> Depot:
    """Open whatever depot lies at `root`. Raises DepotTrouble where there is none."""
    identity = read_identity(root)
    if identity is None:
        raise DepotTrouble(f"There is no depot at {root}.", "Name the folder that holds depot.toml.")
    if not knows(identity.kind) and not fits(root, DEPOT_MARK):
        raise _damaged(root / DEPOT_MARK, "it is not what the tag manifest says")
    return depot_at(root, identity)


def depot_at(root: Path, identity: Identity) -> Depot:
    """The depot at `root`, as what was agreed of it says; from now on it is that folder, whatever is at its path later."""
    return Depot(root, identity, open_drive(identity.kind, root, identity.options), Anchor(root))


def make_depot(root: Path, identity: Identity) -> Depot:
    """Make a depot in an existing folder. The folder itself is never made: it may be a mount point without its drive."""
    write_identity(root, identity)
    return depot_at(root, identity)


def new_id() -> str:
    return str(uuid.uuid4())


def write_identity(root: Path, identity: Identity) -> None:
    """Write depot.toml. The caller writes the bag's tag manifest anew where there is one."""
    import tomlkit  # takes longer to load than most runs need

    document = tomlkit.document()
    document.add(tomlkit.comment("This folder is a Bramblemoor depot: a copy of a picture library, as a BagIt bag."))
    document.add(tomlkit.comment("The pictures are in data/pictures. To check it without Bramblemoor, run here:"))
    document.add(tomlkit.comment("  sha256sum -c --quiet manifest-sha256.txt"))
    table = msgspec.to_builtins(identity)
    parts = {name: table.pop(name) for name in ("options", "terms")}
    document.add("depot", tomlkit.item(table))
    for name, part in parts.items():
        if part:
            document.add(name, tomlkit.item(part))
    write_atomically(root / DEPOT_MARK, tomlkit.dumps(document).encode())
