"""A library on disk: making one, finding one, opening one."""

import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from bramblemoor.errors import LibraryInUse, NoLibrary, NotPossible, WrongUse
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.durable import clear_unfinished, free_bytes
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.settings import FILE as SETTINGS_FILE
from bramblemoor.library.settings import Home, Settings, read_settings, write_settings

FOLDERS = ("pictures", "albums", "companions", "delivered", "ledger/receipts")
DEPOT_MARK = "depot.toml"


class Library:
    """An open library. A depot's data/ opens as one too, `read_only`."""

    def __init__(self, root: Path) -> None:
        self.root = root.resolve()
        self.settings: Settings = read_settings(self.root)
        # In a bag: at a depot, or in a volume of an archive that somebody has taken apart.
        self.at_depot = any((self.root.parent / mark).is_file() for mark in (DEPOT_MARK, "bagit.txt"))
        self.read_only = self.at_depot or not os.access(self.root / "ledger", os.W_OK)
        self.ledger = Ledger(self.root / ledger_file.FILE, read_only=self.read_only)
        self.db = self.ledger.db

    @property
    def name(self) -> str:
        return self.settings.library.name

    @property
    def receipts(self) -> Path:
        return self.root / "ledger" / "receipts"

    @property
    def dialects(self) -> Path:
        """Where dialects of the user's own are kept: they belong to the library, and are backed up with it."""
        return self.root / "companions" / "dialects"

    def incoming(self, service: str, order: str) -> Path:
        """Where an order's parts wait until they are unpacked."""
        return self.root / "incoming" / service / order

    def require_writable(self) -> None:
        if self.read_only:
            what = (
                "a copy of the library at a depot or in an archive"
                if self.at_depot
                else "on a medium that cannot be written"
            )
            raise NotPossible(
                f"{self.root} is {what}: it opens read-only.",
                "Use the working library, or make one from this copy: bramblemoor restore DIR --from DEPOT.",
            )

    @contextmanager
    def held(self) -> Iterator[None]:
        """Hold the library for a run that changes it. Raises LibraryInUse where another run does."""

        self.require_writable()
        from filelock import FileLock, Timeout  # takes long to load, and what only reads needs no lock

        lock = FileLock(self.root / "ledger" / "in-use.lock")
        try:
            lock.acquire(timeout=0)
        except Timeout as error:
            raise LibraryInUse(
                f"Another run is working on the library {self.root}.", "Wait until it has ended, then try again."
            ) from error
        try:
            clear_unfinished(self.receipts)
            yield
        finally:
            lock.release()


def create_library(root: Path, *, name: str, site: str, medium: str, stand_in: str = "") -> Library:
    """Make a new library in a folder that does not exist yet or is empty.

    Raises WrongUse where something else lies there, NotPossible where it cannot be written.
    """
    if (root / SETTINGS_FILE).exists() and (root / ledger_file.FILE).exists():
        raise WrongUse(f"{root} is a library already.", "Use it as it is, or name another folder.")
    unfinished = (root / "ledger").is_dir() and not (root / SETTINGS_FILE).exists()
    if root.exists() and (not root.is_dir() or (any(root.iterdir()) and not unfinished)):
        raise WrongUse(f"{root} holds something else.", "Name a new or empty folder for the library.")
    try:
        for folder in FOLDERS:
            (root / folder).mkdir(parents=True, exist_ok=True)
        Ledger.create(root / ledger_file.FILE).close()
        home = Home(id=str(uuid.uuid4()), name=name, site=site, medium=medium, stand_in=stand_in)
        write_settings(root, Settings(library=home))
    except OSError as error:
        raise NotPossible(
            f"No library can be made at {root} ({error.strerror}).", "Name a folder you may write to."
        ) from error
    return Library(root)


def find_library(named: Path | None, start: Path) -> Library:
    """Open the library that was named, else the one that `start` lies in; a depot's root stands for its data/.

    Raises NoLibrary where there is none.
    """
    candidates = [named] if named is not None else [start, *start.parents]
    for folder in candidates:
        for root in (folder, folder / "data"):
            if (root / SETTINGS_FILE).is_file() and (root / ledger_file.FILE).is_file():
                return Library(root)
    if named is not None:
        raise NoLibrary(f"There is no library at {named}.", "Check the path, or make one with: bramblemoor new DIR.")
    raise NoLibrary(
        f"{start} is not inside a library.",
        "Change to a library's folder, name it with --library DIR, or make one with: bramblemoor new DIR.",
    )


def require_room(folder: Path, wanted: int, what: str, leave_free: int = 0) -> None:
    """Raise NotPossible, with the figures, where `wanted` bytes do not fit beside those that are to stay free."""
    free = free_bytes(folder)
    if wanted > free - leave_free:
        kept = f", of which {leave_free / 1e6:,.1f} MB are to stay free" if leave_free else ""
        raise NotPossible(
            f"{what} needs {wanted / 1e6:,.1f} MB, and {folder} has {free / 1e6:,.1f} MB free{kept}.",
            "Make room there and run the same command again.",
        )
