"""A depot: a folder that holds a copy of the library as a bag, known by the id in its depot.toml."""

import errno
import tomllib
import uuid
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass

import msgspec

from bramblemoor.depots.bag.bag import fits
from bramblemoor.depots.bag.terms import Terms, checked
from bramblemoor.depots.kinds import FOLDER, INCOMING, PAYLOAD, Store, knows, lies_at, open_store, store_at
from bramblemoor.disk.names import DEPOT_MARK
from bramblemoor.errors import DepotTrouble, WrongUse

_LARGEST = 1 << 20
_FOLDERS = (PAYLOAD, "earlier", INCOMING, "readings", "receipts", "runs")


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
    kind: str = FOLDER
    options: dict[str, str] = {}
    terms: Terms = Terms()


@dataclass(frozen=True)
class Depot:
    """An open depot: what was agreed of it, and the place where it lies."""

    identity: Identity
    store: Store

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
    def where(self) -> str:
        return self.store.where

    @property
    def seeks(self) -> bool:
        """Whether it lies on a spinning disk: the system says so, and who added it did not say otherwise."""
        return self.store.traits.spins and self.identity.medium.lower() != "ssd"

    def require_there(self) -> None:
        """Raise OSError where the drive was unmounted meanwhile: what is at its path then is another folder."""
        self.store.require_there()
        if self.store.stat(DEPOT_MARK) is None:
            raise OSError(errno.ENODEV, "its drive is not mounted there any more", self.where)

    @contextmanager
    def held(self) -> Iterator[None]:
        """Hold the depot for a run that writes. Raises DepotTrouble where another run, of any library, does."""
        try:
            self.store.require_plain(_FOLDERS)
        except OSError as error:
            raise DepotTrouble(
                f"{error.filename}: {error.strerror}. Nothing was written.",
                "Put a real folder in its place, with what it is to hold; or use another drive.",
            ) from error
        with ExitStack() as stack:
            try:
                stack.enter_context(self.store.hold("in-use.lock"))
            except BlockingIOError as error:
                raise DepotTrouble(
                    f"Another run is working on the depot {self.name}.", "Wait until it has ended, then try again."
                ) from error
            except OSError as error:
                raise DepotTrouble(
                    f"The depot {self.name} at {self.where} cannot be written ({error.strerror}).",
                    "Remove the write protection, or use another drive.",
                ) from error
            self.store.clear_unfinished(("readings", "receipts", "runs"))
            yield


def read_identity(where: str) -> Identity | None:
    """What lies at `where` says it is; None where there is no depot. Raises DepotTrouble for a damaged depot.toml."""
    if not lies_at(where):
        return None
    store = store_at(where)
    lies = store.stat(DEPOT_MARK)
    if lies is None or lies.bytes > _LARGEST:
        raise _damaged(where, "it is a link, or far too large")
    try:
        document = tomllib.loads(store.content(DEPOT_MARK).decode())
        tables = {name: document.get(name, {}) for name in ("options", "terms")}
        identity = msgspec.convert(document["depot"] | tables, Identity)
        checked(identity.terms)
        if not may_be_called(identity.name):
            raise WrongUse("a depot cannot have its name", "")
        return identity
    except WrongUse as error:  # terms that nobody could have agreed on
        raise _damaged(where, error.happened) from error
    except (
        tomllib.TOMLDecodeError, UnicodeDecodeError, msgspec.ValidationError, KeyError, TypeError, RecursionError, ValueError,
    ) as error:  # fmt: skip
        raise _damaged(where, str(error)) from error


def _damaged(where: str, why: str) -> DepotTrouble:
    return DepotTrouble(
        f"{where}/{DEPOT_MARK} is damaged ({why}).",
        "If the library knows the depot, write it anew: bramblemoor depot repair NAME FOLDER.",
    )


def open_depot(where: str) -> Depot:
    """Open whatever depot lies at `where`. Raises DepotTrouble where there is none."""
    identity = read_identity(where)
    if identity is None:
        raise DepotTrouble(f"There is no depot at {where}.", "Name the folder that holds depot.toml.")
    if not knows(identity.kind) and not fits(store_at(where), DEPOT_MARK):
        raise _damaged(where, "it is not what the tag manifest says")
    return depot_at(where, identity)


def depot_at(where: str, identity: Identity) -> Depot:
    """The depot at `where`, as what was agreed of it says; from now on it is that place, whatever lies there later."""
    return Depot(identity, open_store(identity.kind, where, identity.options))


def make_depot(where: str, identity: Identity) -> Depot:
    """Make a depot in an existing place. The place itself is never made: it may be a mount point without its drive."""
    depot = depot_at(where, identity)
    write_identity(depot.store, identity)
    return depot


def new_id() -> str:
    return str(uuid.uuid4())


def write_identity(store: Store, identity: Identity) -> None:
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
    store.put_small(DEPOT_MARK, tomlkit.dumps(document).encode())
