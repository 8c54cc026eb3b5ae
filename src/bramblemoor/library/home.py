"""A library on disk: making one, finding one, opening one."""

import os
import sqlite3
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cached_property
from pathlib import Path

from bramblemoor.disk.durable import clear_unfinished, free_bytes
from bramblemoor.disk.file_systems import file_system_of, seat_of
from bramblemoor.disk.names import DEPOT_MARK, free_name
from bramblemoor.disk.told import Inside, Outside, require_plain_folders
from bramblemoor.errors import LibraryInUse, NoLibrary, NotPossible, WrongUse
from bramblemoor.frames.moments import now_seconds
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.clock import Clock, forget_doubtful_readings, read_clock, remember
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.locations import FILE as LOCATIONS
from bramblemoor.library.locations import make_known
from bramblemoor.library.open_runs import Finished, finish_open
from bramblemoor.library.receipts import Finding, listing, moment_in_name, run_in_name
from bramblemoor.library.settings import FILE as SETTINGS_FILE
from bramblemoor.library.settings import Home, Settings, read_settings, write_settings

PICTURES = "pictures"
FOLDERS = (PICTURES, "albums", "companions", "delivered", "ledger/receipts")
_SEAT = "seat"
"""In the ledger's meta: where the library's own copies were read."""
SET_ASIDE = "set-aside"
"""Where the library keeps what was replaced here and somebody else may want, as earlier/ does at a depot."""


class Library:
    """An open library. A depot's data/ opens as one too, `read_only`; `only_read` says that nothing of it is to be changed."""

    def __init__(self, root: Path, *, only_read: bool = False) -> None:
        self.root = root.resolve()
        self.settings: Settings = read_settings(self.root)
        # In a bag: at a depot, or in a volume of an archive that somebody has taken apart.
        self.at_depot = any((self.root.parent / mark).is_file() for mark in (DEPOT_MARK, "bagit.txt"))
        self.read_only = only_read or self.at_depot or not os.access(self.root / "ledger", os.W_OK)
        self.ledger = Ledger(self.root / ledger_file.FILE, read_only=self.read_only)
        self.db = self.ledger.db
        self.clock = Clock(now_seconds())
        """As it stood when the library was last held."""
        self.asked = ""
        """The command that is given now, with all that it was told, as text: what a killed run is known again by."""
        self.finished: list[Finished] = []
        """What killed runs had left open, and was ended when the library was held."""
        self.seen: list[Finding] = []
        """What came to light on the way, and a person should know."""

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

    def incoming(self, service: Inside, order: Inside) -> Path:
        """Where an order's parts wait until they are unpacked."""
        return self.root / "incoming" / service / order

    def keep_aside(self, relative: str, under: str) -> str:
        """Move a file that somebody else wrote out of the way of another, to set-aside/`under`/; returns where it lies now."""
        aside = self.root / SET_ASIDE / under / relative
        aside.parent.mkdir(parents=True, exist_ok=True)
        aside = aside.with_name(free_name(aside.name, lambda name: os.path.lexists(aside.with_name(name))))
        (self.root / relative).replace(aside)
        return aside.relative_to(self.root).as_posix()

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
        try:
            require_plain_folders(self.root, [folder.partition("/")[0] for folder in FOLDERS])
        except Outside as error:
            raise NotPossible(
                f"{error.filename} is a link, or another drive is mounted there; a library lies on one drive, whole.",
                "Put the folder itself there, or move the whole library to that drive. Nothing was changed.",
            ) from error
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
            if trouble := make_known(self.db, self.root):
                self.seen.append(Finding(LOCATIONS, trouble.rstrip("."), attention=True))
            with self._by_the_clock():
                self.finished = finish_open(self)
                yield
        finally:
            lock.release()

    @cached_property
    def device(self) -> str:
        """The physical device that it lies on."""
        home = self.settings.library
        return f"pretend {home.stand_in}" if home.stand_in else file_system_of(self.root).device

    @cached_property
    def keeps_inodes(self) -> bool:
        """Whether files keep their numbers where it lies."""
        return file_system_of(self.root).keeps_inodes

    @property
    def seat(self) -> str:
        """Where it lies, so closely that a copy of it lies in another seat."""
        return seat_of(self.root, FOLDERS[0])

    @property
    def moved(self) -> bool:
        """Whether it lies elsewhere than when it was last held, as it was copied there, say: there it was not read."""
        return self._seat_noted() not in (None, self.seat)

    @property
    def put_back(self) -> bool:
        """Whether its ledger is older than its last reading, as it was put back from a copy: it does not know what that found."""
        clock = self.read_clock()
        verified = (moment_in_name(name) for name in listing(self.receipts) if run_in_name(name) == "verify")
        return any(clock.last < moment <= clock.now for moment in verified)

    @property
    def doubted(self) -> bool:
        """Whether nothing of its own copy counts until it is read again."""
        return self.moved or self.put_back

    def _seat_noted(self) -> str | None:
        row = self.db.execute("SELECT value FROM meta WHERE key = ?", (_SEAT,)).fetchone()
        return None if row is None else str(row["value"])

    def take_seat(self, db: sqlite3.Connection) -> None:
        """Note in the ledger where the library lies: readings from now on are of that place."""
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (_SEAT, self.seat))

    def _doubt_itself(self) -> None:
        """Forget its own readings where they do not count any more, and tell why."""
        known = self._seat_noted() is not None
        if known and not self.doubted:
            return
        with self.ledger.changing() as db:
            if known:
                db.execute("UPDATE files SET read_at = NULL")
                why = "it lies elsewhere than before" if self.moved else "its ledger is older than its last reading"
                self.seen.append(Finding(
                    "library", f"{why}, so that its own copies count again once they were read: bramblemoor verify library",
                ))  # fmt: skip
            self.take_seat(db)

    @contextmanager
    def _by_the_clock(self) -> Iterator[None]:
        """Note the run; what it reads by a clock that is far ahead does not count, though it be killed."""
        self.clock = self.read_clock()
        self._doubt_itself()
        if self.clock.ahead:
            with self.ledger.changing() as db:
                forget_doubtful_readings(db, self.clock)
        try:
            yield
        finally:
            if not self.ledger.closed:
                with suppress(sqlite3.Error), self.ledger.changing() as db:  # whatever ends the run is worth more
                    forget_doubtful_readings(db, self.clock)
                    remember(db, self.clock)

    def read_clock(self) -> Clock:
        return read_clock(self.db, map(moment_in_name, listing(self.receipts)[-1:]))


def is_library(folder: Path) -> bool:
    return (folder / SETTINGS_FILE).is_file() and (folder / "ledger").is_dir()


def create_library(
    root: Path, *, name: str, site: str, medium: str, stand_in: str = "", around: bool = False
) -> Library:
    """Make a new library in a folder that does not exist yet or is empty; or `around` what lies in its pictures/.

    Raises WrongUse where something else lies there, NotPossible where it cannot be written.
    """
    if not name.isprintable() or not name.strip():
        raise WrongUse(f"A library cannot be called {name!r}.", "Say what to call it: --name 'My pictures'.")
    if is_library(root):
        raise WrongUse(f"{root} is a library already.", "Use it as it is, or name another folder.")
    require_apart(root, "a new library")
    unfinished = (root / "ledger").is_dir() and not (root / SETTINGS_FILE).exists()
    if not around and root.exists() and (not root.is_dir() or (any(root.iterdir()) and not unfinished)):
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


def require_apart(folder: Path, what: str, *, but: Path | None = None) -> None:
    """Raise WrongUse where `folder`, or a folder above it, is a library or a depot already, other than `but`."""
    resolved = folder.resolve()
    for level in (resolved, *resolved.parents):
        if but is not None and level == but.resolve():
            if level == resolved:
                return
            continue
        if is_library(level) or (level / DEPOT_MARK).is_file():
            kind = "library" if is_library(level) else "depot"
            where = f"{folder} is a {kind}" if level == resolved else f"{folder} lies inside the {kind} {level}"
            raise WrongUse(
                f"{where}, and {what} there would mix the two.",
                f"Choose a folder outside, as {(level.parent if level.name == 'data' else level).parent / resolved.name}-new.",
            )


def find_library(named: Path | None, start: Path, *, only_read: bool = False) -> Library:
    """Open the library that was named, else the one that `start` lies in; a depot's root stands for its data/.

    Raises NoLibrary where there is none.
    """
    candidates = [named] if named is not None else [start, *start.parents]
    for folder in candidates:
        for root in (folder, folder / "data"):
            if (root / SETTINGS_FILE).is_file() and (root / ledger_file.FILE).is_file():
                return Library(root, only_read=only_read)
    if named is not None:
        raise NoLibrary(f"There is no library at {named}.", "Check the path, or make one with: bramblemoor new DIR.")
    raise NoLibrary(
        f"{start} is not inside a library.",
        "Change to a library's folder, name it with --library DIR, or make one with: bramblemoor new DIR.",
    )


def require_room(folder: Path, wanted: int, what: str) -> None:
    """Raise NotPossible, with the figures, where `wanted` bytes do not fit."""
    require_free(free_bytes(folder), str(folder), wanted, what)


def require_free(free: int, where: str, wanted: int, what: str, leave_free: int = 0) -> None:
    """The same of a place with `free` bytes, where some are to stay free."""
    if wanted > free - leave_free:
        kept = f", of which {leave_free / 1e6:,.1f} MB are to stay free" if leave_free else ""
        raise NotPossible(
            f"{what} needs {wanted / 1e6:,.1f} MB, and {where} has {free / 1e6:,.1f} MB free{kept}.",
            "Make room there and run the same command again.",
        )
