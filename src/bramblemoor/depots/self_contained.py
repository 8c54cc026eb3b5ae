"""Whether a depot stands alone: it opens by itself, and reading its frames touches nothing outside its drive."""

import hashlib
import os
import sys
import sysconfig
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.kinds import PAYLOAD
from bramblemoor.disk.told import inside_or_none
from bramblemoor.errors import WrongUse
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import NOTHING, Amount, Finding
from bramblemoor.running import Progress, Stage


@dataclass(frozen=True)
class SelfContained:
    """What was read, what was wrong, and which files outside the depot were opened meanwhile (there should be none)."""

    read: Amount
    opened: int
    amiss: tuple[Finding, ...]
    outside: tuple[str, ...]


class _Watch:
    """Notes every file that this process opens, by the interpreter's own audit events. A hook stays; it is switched off."""

    def __init__(self, root: Path) -> None:
        self._root = root.resolve()
        self._on = False
        self.opened = 0
        self.outside: dict[str, None] = {}
        places = (*sysconfig.get_paths().values(), sys.prefix, sys.base_prefix, str(Path(__file__).parents[2]))
        # The program's own code, and what the system tells of drives and caches.
        code = [str(Path(place).resolve()) + os.sep for place in places if place]
        self._own = (*code, "/proc/", "/sys/", "/dev/")
        sys.addaudithook(self._hear)

    def _hear(self, event: str, arguments: tuple[object, ...]) -> None:
        if not self._on or event not in ("open", "sqlite3.connect") or not isinstance(arguments[0], str | bytes):
            return
        name = os.fsdecode(arguments[0])
        if name in ("", ":memory:"):  # SQLite's own temporary databases
            return
        path = os.path.realpath(name.removeprefix("file://").partition("?")[0])
        self.opened += 1
        if not path.startswith(str(self._root) + os.sep) and not path.startswith(self._own):
            self.outside[path] = None

    def during(self, work: Callable[[], None]) -> None:
        self._on = True
        try:
            work()
        finally:
            self._on = False


def check_self_contained(depot: Depot, year: int | None, progress: Progress) -> SelfContained:
    """Open a depot as the library that it holds, and read every file of a year's frames, or of all, from its medium."""
    if not depot.store.traits.opens_in_place:
        raise WrongUse(
            f"The depot {depot.name} at {depot.where} is nothing that other programs can open where it lies.",
            "To prove that it can be read: bramblemoor drill, or verify.",
        )
    watch = _Watch(depot.store.at_hand(PAYLOAD).parent)
    amiss: list[Finding] = []
    read = NOTHING

    def look() -> None:
        nonlocal read
        library = Library(depot.store.at_hand(PAYLOAD))
        where = "WHERE r.year = ?" if year is not None else ""
        rows = library.db.execute(
            f"SELECT f.path, f.bytes, f.sha256, f.role FROM files f JOIN frames r ON r.id = f.frame {where} ORDER BY f.path",
            (year,) if year is not None else (),
        ).fetchall()
        whole, done = sum(row["bytes"] for row in rows), 0
        for row in rows:
            digest = hashlib.sha256()
            if inside_or_none(row["path"]) is None:
                amiss.append(Finding(row["path"], "its ledger names a file outside the depot"))
                continue
            try:
                with depot.store.read(f"{PAYLOAD}/{row['path']}") as reading:
                    for piece in reading.pieces:
                        digest.update(piece)
            except OSError as error:
                amiss.append(Finding(row["path"], error.strerror or "unreadable"))
                continue
            if digest.hexdigest() != row["sha256"]:
                amiss.append(Finding(row["path"], "damaged"))
                continue
            read += Amount(int(row["role"] == "original"), 1, row["bytes"])
            done += row["bytes"]
            progress(Stage("reading"), done, whole)
        library.ledger.close()

    watch.during(look)
    return SelfContained(read, watch.opened, tuple(amiss), tuple(watch.outside))
