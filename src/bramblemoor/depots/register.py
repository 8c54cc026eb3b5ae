"""The depots that a library knows: adding and adopting them, finding them, and what lies at each."""

import json
import os
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.depot import Depot, make_depot, open_depot, read_identity
from bramblemoor.depots.journal import Intent, finish_interrupted, refresh_tags
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import stamp

LIBRARY = "library"
"""How the ledger's copies name the working library itself; a row there means trouble, for by default its files are good."""


@dataclass(frozen=True)
class KnownDepot:
    id: str
    name: str
    kind: str
    site: str
    medium: str
    root: Path
    device: str

    @property
    def present(self) -> bool:
        identity = read_identity(self.root)
        return identity is not None and identity.id == self.id


def known_depots(library: Library) -> list[KnownDepot]:
    return [
        KnownDepot(
            row["id"], row["name"], row["kind"], row["site"], row["medium"],
            Path(os.path.normpath(library.root / row["whereabouts"])), row["device"],
        )
        for row in library.db.execute("SELECT * FROM depots ORDER BY rowid")
    ]  # fmt: skip


def depots_named(library: Library, names: Iterable[str]) -> list[KnownDepot]:
    """The depots of those names, or all. Raises WrongUse for none at all, or an unknown name with the nearest right one."""
    known = {depot.name: depot for depot in known_depots(library)}
    if not known:
        raise WrongUse(
            "This library has no depot yet.", "Add one: bramblemoor depot add NAME FOLDER --site SITE --medium MEDIUM."
        )
    chosen = []
    for name in dict.fromkeys(names):
        if name not in known:
            raise WrongUse(
                f"There is no depot {name!r} here.", f"Did you mean {get_close_matches(name, known, 1, 0.0)[0]}?"
            )
        chosen.append(known[name])
    return chosen or list(known.values())


def open_known(known: KnownDepot) -> Depot:
    """Open a depot that the library knows. Raises DepotTrouble, before anything is written, if something else is in its place."""
    if not known.root.is_dir():
        raise DepotTrouble(
            f"The depot {known.name} is not there: no folder {known.root}.",
            "Plug its drive in; if it has moved, tell where: bramblemoor depot add NAME FOLDER.",
        )
    identity = read_identity(known.root)
    if identity is None:
        raise DepotTrouble(
            f"{known.root} is there, but the depot {known.name} is not in it: its drive may not be mounted.",
            "Mount the drive, or tell where it is now: bramblemoor depot add NAME FOLDER.",
        )
    if identity.id != known.id:
        raise DepotTrouble(
            f"{known.root} holds another depot, {identity.name} ({identity.id[:8]}), not {known.name} ({known.id[:8]}).",
            "Plug in the right drive; nothing was written to this one.",
        )
    return open_depot(known.root)


def add_depot(
    library: Library, root: Path, *, name: str, site: str, medium: str, kind: str, options: dict[str, str]
) -> tuple[Depot, bool]:
    """Make a depot in an existing empty folder, or adopt one of this library that lies there (True: adopted).

    An adopted depot's files do not count until they were read. Raises DepotTrouble for a missing folder, another library's
    depot or foreign content, WrongUse for a name that is taken.
    """
    if not root.is_dir():
        raise DepotTrouble(
            f"{root} is not there, and Bramblemoor makes no folder that may be an unmounted drive.",
            "Mount the drive, or make the folder yourself, then try again.",
        )
    if root.resolve().is_relative_to(library.root) or library.root.is_relative_to(root.resolve()):
        raise WrongUse(
            f"{root} and the library lie within each other.", "Give the depot a folder of its own, on another drive."
        )
    identity = read_identity(root)
    for known in known_depots(library):
        if known.name == name and (identity is None or identity.id != known.id):
            raise WrongUse(f"There is a depot {name!r} already, at {known.root}.", "Choose another name.")
    if identity is not None:
        if identity.library != library.settings.library.id:
            raise DepotTrouble(
                f"{root} holds the depot {identity.name} of another library.",
                "Use another folder; nothing was written.",
            )
        depot = open_depot(root)
        _enter(library, depot)
        adopt_manifest(library, depot)
        return depot, True
    strangers = [path.name for path in root.iterdir() if path.name not in bag.STRAYS and path.name != "lost+found"]
    if strangers:
        raise DepotTrouble(
            f"{root} holds other things, {sorted(strangers)[0]} among them.", "Give the depot an empty folder."
        )
    if not site or not medium:
        raise WrongUse("A new depot needs a site and a medium.", "Say them, as in: --site cottage --medium hdd.")
    depot = make_depot(
        root, name=name, library=library.settings.library.id, site=site, medium=medium, kind=kind, options=options
    )
    (root / "data").mkdir(exist_ok=True)
    bag.write_manifest(root, {})
    refresh_tags(depot, library.name)
    _enter(library, depot)
    return depot, False


def _whereabouts(library: Library, root: Path) -> str:
    """Where a depot is, seen from the library; on Windows another drive can only be named in full."""
    try:
        return Path(os.path.relpath(root.resolve(), library.root)).as_posix()
    except ValueError:
        return root.resolve().as_posix()


def _enter(library: Library, depot: Depot) -> None:
    identity = depot.identity
    with library.ledger.changing() as db:
        db.execute(
            "INSERT INTO depots VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET"
            " whereabouts = excluded.whereabouts, device = excluded.device",
            (
                identity.id, identity.name, identity.kind, identity.site, identity.medium,
                _whereabouts(library, depot.root), depot.drive.device,
                json.dumps(identity.options), stamp(now_utc()),
            ),
        )  # fmt: skip


def adopt_manifest(library: Library, depot: Depot) -> None:
    """Enter what a depot's manifest lists as copies that were written, and not read yet; known readings stay."""
    with library.ledger.changing() as db:
        for path, digest in bag.read_manifest(depot.root / bag.MANIFEST):
            db.execute(
                "INSERT OR IGNORE INTO copies (depot, file, state, sha256) SELECT ?, id, 'written', ? FROM files WHERE path = ?",
                (depot.id, digest, path.removeprefix("data/")),
            )


def finish_at(library: Library, depot: Depot) -> int:
    """Finish what an interrupted run left at a depot, and enter what it had put in place; returns how many files."""
    placed = finish_interrupted(depot, library.name)
    if placed:
        with library.ledger.changing() as db:
            for intent in placed:
                enter_intent(db, depot, intent)
    return len(placed)


def enter_intent(db: sqlite3.Connection, depot: Depot, intent: Intent) -> None:
    db.execute(
        "INSERT OR REPLACE INTO copies SELECT ?, id, 'good', ?, ?, ? FROM files WHERE path = ?",
        (depot.id, intent.sha256, intent.read_at, intent.grade, intent.path),
    )


def remember_device(library: Library, depot: Depot) -> None:
    """The physical device a depot is on, as seen now."""
    with library.ledger.changing() as db:
        db.execute("UPDATE depots SET device = ? WHERE id = ?", (depot.drive.device, depot.id))


def mark_copy(db: sqlite3.Connection, depot: str, file: int, state: str, sha256: str) -> None:
    """Set the state of a copy that is not good; what was read of it before no longer counts."""
    db.execute("INSERT OR REPLACE INTO copies VALUES (?, ?, ?, ?, NULL, NULL)", (depot, file, state, sha256))
