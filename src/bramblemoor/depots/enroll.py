"""Making depots, taking known ones over, and changing what is agreed with them."""

import json
from pathlib import Path

import msgspec

from bramblemoor.depots import bag
from bramblemoor.depots.depot import Depot, Identity, make_depot, new_id, open_depot, read_identity, write_identity
from bramblemoor.depots.journal import refresh_tags
from bramblemoor.depots.known import KnownDepot, known_depots
from bramblemoor.depots.line import LINE, read_line, write_line
from bramblemoor.depots.register import change_identity, enter_depot, number_of, remember_line
from bramblemoor.depots.run_lists import Sums
from bramblemoor.depots.terms import Terms
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import DEPOT_MARK, Library
from bramblemoor.library.receipts import stamp
from bramblemoor.library.walk import LITTER

_ADOPTED = """
    CREATE TEMP TABLE IF NOT EXISTS listed (path TEXT PRIMARY KEY, sha256 TEXT) WITHOUT ROWID;
    DELETE FROM temp.listed;
"""


def _require_name(library: Library, name: str, own: str = "") -> None:
    """Raise WrongUse for a new name that no depot can have, or that another one has."""
    if (
        not name.strip()
        or name.casefold() == "library"
        or name.startswith("-")
        or not name.isprintable()
        or set(name) & set("/\\")
    ):
        raise WrongUse(f"A depot cannot be called {name!r}.", "Give it a name of its own, as otter or 'red drive'.")
    _require_free(library, name, own, "Choose another name.")


def _require_free(library: Library, name: str, own: str, remedy: str) -> None:
    """Raise WrongUse for a name that another depot than that with the id `own` has."""
    for known in known_depots(library):
        if known.name == name and known.id != own:
            raise WrongUse(f"There is a depot {name!r} already, at {known.root}.", remedy)


def add_depot(
    library: Library, root: Path, *, name: str, site: str, medium: str, kind: str, options: dict[str, str], terms: Terms
) -> tuple[Depot, bool]:
    """Make a depot in an existing empty folder, or take in one of this library that lies there (True).

    The files of one that was taken in do not count until they were read. Raises DepotTrouble for a missing folder, another
    library's depot or foreign content, WrongUse for a name that is taken or cannot be one.
    """
    identity = _identity_at(library, root)
    if identity is not None:
        return _take_in(library, root, identity), True
    _require_name(library, name)
    if not site or not medium:
        raise WrongUse("A new depot needs a site and a medium.", "Say them, as in: --site cottage --medium hdd.")
    _require_empty(root)
    depot = _make(
        library, root, Identity(new_id(), name, library.settings.library.id, site, medium, kind, options, terms)
    )
    enter_depot(library, depot, stamp(now_utc()))
    remember_line(library, depot)
    return depot, False


def _identity_at(library: Library, root: Path) -> Identity | None:
    """What a folder says it is. Raises DepotTrouble where it is not there, WrongUse where it is no place for a depot."""
    if not root.is_dir():
        raise DepotTrouble(
            f"{root} is not there, and Bramblemoor makes no folder that may be an unmounted drive.",
            "Mount the drive, or make the folder yourself, then try again.",
        )
    if root.resolve().is_relative_to(library.root) or library.root.is_relative_to(root.resolve()):
        raise WrongUse(
            f"{root} and the library lie within each other.", "Give the depot a folder of its own, on another drive."
        )
    return read_identity(root)


def _require_empty(root: Path) -> None:
    strangers = [path.name for path in root.iterdir() if path.name not in LITTER and path.name not in _BELONG_TO_DRIVES]
    if strangers:
        raise DepotTrouble(
            f"{root} holds other things, {sorted(strangers)[0]} among them.", "Give the depot an empty folder."
        )


def _make(library: Library, root: Path, identity: Identity) -> Depot:
    """Write an empty depot to a folder. The ledger does not know of it yet."""
    depot = make_depot(root, identity)
    (root / "data").mkdir(exist_ok=True)
    with Sums() as sums:
        bag.write_manifest(root, sums)
    refresh_tags(depot, library.name)
    return depot


_BELONG_TO_DRIVES = ("lost+found", "System Volume Information", "$RECYCLE.BIN")


def _take_in(library: Library, root: Path, identity: Identity) -> Depot:
    if identity.library != library.settings.library.id:
        raise DepotTrouble(
            f"{root} holds the depot {identity.name} of another library.",
            "Use another folder; nothing was written.",
        )
    _require_free(library, identity.name, identity.id, f"Take it in as: bramblemoor depot adopt {root} --as NAME.")
    depot = open_depot(root)
    is_new = all(known.id != depot.id for known in known_depots(library))
    enter_depot(library, depot, stamp(now_utc()))
    if is_new:
        learn_contents(library, depot)
        # What was written there by a ledger that this one does not descend from is for `adopt` to accept.
        remember_line(library, depot)
    return depot


def learn_contents(library: Library, depot: Depot) -> None:
    """Enter what a depot's manifest lists; what was known of a listed file before stays, the rest was not read yet."""
    number = number_of(library, depot)
    library.db.executescript(_ADOPTED)
    with library.ledger.changing() as db:
        db.executemany(
            "INSERT OR REPLACE INTO temp.listed VALUES (?, ?)",
            ((path.removeprefix("data/"), digest) for path, digest in bag.read_manifest(depot.root / bag.MANIFEST)),
        )
        db.execute(
            "DELETE FROM copies WHERE depot = ? AND file NOT IN (SELECT id FROM files JOIN temp.listed l ON l.path = files.path"
            " AND l.sha256 = coalesce(copies.sha256, files.sha256))",
            (number,),
        )
        db.execute(
            "INSERT OR IGNORE INTO copies SELECT ?, id, 'written', NULL, nullif(l.sha256, f.sha256), NULL"
            " FROM temp.listed l JOIN files f ON f.path = l.path",
            (number,),
        )
        db.execute("DELETE FROM leftovers WHERE depot = ?", (number,))
        db.execute(
            "INSERT INTO leftovers SELECT ?, path, sha256, 0, 'written', NULL FROM temp.listed"
            " WHERE path NOT IN (SELECT path FROM files)",
            (number,),
        )


def adopt(library: Library, depot: Depot, known: KnownDepot | None, new_name: str) -> Depot:
    """Accept a depot as it lies there, whatever line it has; under a new id and name, if one is given.

    What it holds beside or instead of the library's files moves to earlier/ at the next backup. The caller holds it.
    """
    if new_name:
        _require_name(library, new_name)
        depot = _renewed(library, depot, msgspec.structs.replace(depot.identity, id=new_id(), name=new_name))
        known = None
    if known is None:
        enter_depot(library, depot, stamp(now_utc()))
    learn_contents(library, depot)
    _accept_line(library, depot)
    return depot


def _accept_line(library: Library, depot: Depot) -> None:
    """The ledger may from now on count the depot's ledger among those that it descends from."""
    line = read_line(depot.root)
    remember_line(library, depot)
    if line.library.digest:
        with library.ledger.changing(facts=True) as db:
            generation = line.library.generation
            taken = db.execute("SELECT digest FROM history WHERE generation = ?", (generation,)).fetchone()
            if taken is None or taken["digest"] != line.library.digest:
                db.execute("INSERT OR REPLACE INTO history VALUES (?, ?)", (generation, line.library.digest))


def _renewed(library: Library, depot: Depot, identity: Identity) -> Depot:
    """Write a depot's changed depot.toml, with the bag's tag files."""
    write_identity(depot.root, identity)
    fresh = open_depot(depot.root)
    refresh_tags(fresh, library.name, oxum=bag.read_oxum(depot.root))
    return fresh


def change_depot(
    library: Library, depot: Depot, *, name: str = "", site: str = "", medium: str = "", terms: Terms
) -> Depot:
    """Change what a depot is called, where it is, or its terms; at the depot and in the ledger. The caller holds it."""
    identity = msgspec.structs.replace(
        depot.identity,
        name=name or depot.identity.name,
        site=site or depot.identity.site,
        medium=medium or depot.identity.medium,
        terms=terms,
    )
    if name:
        _require_name(library, name, depot.id)
    fresh = _renewed(library, depot, identity)
    change_identity(library, depot, identity)
    remember_line(library, fresh)
    return fresh


def retire(library: Library, known: KnownDepot, *, undo: bool = False) -> None:
    """A retired depot counts for nothing and is not written to any more; its drive is left as it is."""
    with library.ledger.changing() as db:
        db.execute("UPDATE depots SET retired = ? WHERE id = ?", ("" if undo else stamp(now_utc()), known.id))


def replace_depot(library: Library, known: KnownDepot, root: Path, *, options: dict[str, str]) -> Depot:
    """Make a new drive take a depot's place: same name, site, medium and terms, another id. The old one is retired.

    The next backup fills the new one.
    """
    identity = _identity_at(library, root)
    if identity is not None and identity.id == known.id:  # a new drive may well be mounted where the former one was
        raise WrongUse(f"{root} is where the depot {known.name} lies.", "Name an empty folder on the new drive.")
    if identity is None or not _was_begun(library, root, identity, known):
        _require_empty(root)
        kind = "stand-in drive" if options else "folder"
        identity = Identity(
            new_id(), known.name, library.settings.library.id, known.site, known.medium, kind, options, known.terms
        )
    depot = _make(library, root, identity)
    enter_depot(library, depot, stamp(now_utc()), instead_of=known.id)
    remember_line(library, depot)
    return depot


def _was_begun(library: Library, root: Path, identity: Identity, known: KnownDepot) -> bool:
    """Whether a folder was to take a depot's place when that was interrupted: it holds nothing, and nobody knows it."""
    return (
        identity.library == library.settings.library.id
        and identity.name == known.name
        and all(other.id != identity.id for other in known_depots(library))
        and next(bag.read_manifest(root / bag.MANIFEST), None) is None
        and not any((root / "data").glob("*"))
    )


def repair_depot(library: Library, known: KnownDepot, root: Path) -> list[str]:
    """Write depot.toml and line.json anew where they are damaged or gone; returns which.

    Raises DepotTrouble where the folder holds no bag of this library, WrongUse where both are sound, or another depot's.
    """
    try:
        sound = read_identity(root) if bag.fits(root, DEPOT_MARK) else None
    except DepotTrouble:
        sound = None
    line = read_line(root)
    line_is_sound = bag.fits(root, LINE) and bool(line.digest or not known.line)
    if sound is not None and (line_is_sound or sound.id != known.id):
        raise WrongUse(f"{root / DEPOT_MARK} is sound, of the depot {sound.name}.", "There is nothing to repair.")
    info = root / bag.INFO
    if not info.is_file() or f"External-Identifier: {library.settings.library.id}\n" not in info.read_text(
        "utf-8", "replace"
    ):
        raise DepotTrouble(
            f"{root} holds no copy of this library.", "Name the folder that the depot lies in, with its bag-info.txt."
        )
    fresh = []
    if sound is None:
        write_identity(root, identity_of(library, known))
        fresh.append(DEPOT_MARK)
    if not line_is_sound:
        write_line(root, known.runs, known.line)
        fresh.append(LINE)
    refresh_tags(open_depot(root), library.name, fresh, bag.read_oxum(root))
    remember_line(library, open_depot(root))
    return fresh


def identity_of(library: Library, known: KnownDepot) -> Identity:
    """What a depot's depot.toml should say, by the ledger."""
    row = library.db.execute("SELECT options FROM depots WHERE id = ?", (known.id,)).fetchone()
    return Identity(
        known.id, known.name, library.settings.library.id, known.site, known.medium, known.kind,
        json.loads(row["options"]), known.terms,
    )  # fmt: skip
