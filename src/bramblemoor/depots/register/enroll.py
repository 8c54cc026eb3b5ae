"""Making depots, taking known ones over, and changing what is agreed with them."""

import re
from dataclasses import dataclass
from difflib import SequenceMatcher
from pathlib import Path
from typing import Literal

import msgspec

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import (
    Depot,
    Identity,
    make_depot,
    may_be_called,
    new_id,
    open_depot,
    read_identity,
    write_identity,
)
from bramblemoor.depots.bag.journal import refresh_tags
from bramblemoor.depots.bag.line import LINE, read_line, write_line
from bramblemoor.depots.bag.run_lists import Sums
from bramblemoor.depots.bag.terms import Terms
from bramblemoor.depots.kinds import PAYLOAD, open_store, store_at
from bramblemoor.depots.register.known import KnownDepot, known_depots
from bramblemoor.depots.register.learning import learn_contents
from bramblemoor.depots.register.register import (
    change_identity,
    enter_depot,
    identity_of,
    open_known,
    remember_line,
    whereabouts,
)
from bramblemoor.disk.names import DEPOT_MARK, LITTER, folded
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.copies import good
from bramblemoor.library.erasing import Erasing, Within
from bramblemoor.library.home import Library, require_apart
from bramblemoor.library.lineage import descends_from
from bramblemoor.library.receipts import Finding, stamp
from bramblemoor.library.settings import FILE as SETTINGS_FILE


def _require_name(library: Library, name: str, own: str = "") -> None:
    """Raise WrongUse for a new name that no depot can have, or that another one has."""
    if not may_be_called(name):
        raise WrongUse(f"A depot cannot be called {name!r}.", "Give it a name of its own, as otter or 'red drive'.")
    _require_free(library, name, own, "Choose another name.")


def _require_free(library: Library, name: str, own: str, remedy: str) -> None:
    """Raise WrongUse for a name that another depot than that with the id `own` has."""
    for known in known_depots(library):
        if known.name == name and known.id != own:
            raise WrongUse(f"There is a depot {name!r} already, at {known.where}.", remedy)


@dataclass(frozen=True)
class Spelled:
    """A site's or a medium's name as it is known here already, or a new one: then `near` is a known one that it resembles."""

    word: str
    known: tuple[str, ...]
    is_new: bool = False
    near: str = ""


def spelled(library: Library, what: Literal["site", "medium"], word: str) -> Spelled:
    """How a site or a medium is spelled here: capitals, spaces and stops make no new one."""
    home = library.settings.library
    every = [home.site if what == "site" else home.medium]
    every += [known.site if what == "site" else known.medium for known in known_depots(library)]
    known = {folded(one): one for one in reversed(every)}
    names = tuple(dict.fromkeys(every))
    if folded(word) in known:
        return Spelled(known[folded(word)], names)
    near = next((own for key, own in known.items() if _resembles(folded(word), key)), "")
    return Spelled(word.strip(), names, True, near)


def _resembles(word: str, other: str) -> bool:
    """Whether one may be a slip of the pen for the other; here and there, house-a and house-b, or shelf 1 and shelf 2 are not."""
    ones, twos = re.split(r"[\s_-]+", word), re.split(r"[\s_-]+", other)
    return len(ones) == len(twos) and all(map(_is_slip, ones, twos))


def _is_slip(one: str, two: str) -> bool:
    if one == two or (sorted(one) == sorted(two) and not re.search(r"\d", one)):
        return True
    long_enough = min(len(one), len(two)) >= _LONG and one[0] == two[0] and not re.search(r"\d", one + two)
    return long_enough and SequenceMatcher(None, one, two).ratio() >= _NEAR


def too_few_without(library: Library, known: KnownDepot, within: Within) -> tuple[int, str]:
    """How many files would have too few fresh copies if a depot counted no more, and one of them."""
    erasing = Erasing(library, within)
    library.db.execute(
        "INSERT OR IGNORE INTO temp.leaving (depot, path, sha256, bytes, why)"
        " SELECT c.depot, coalesce(c.path, f.path), f.sha256, f.bytes, '' FROM copies c JOIN files f ON f.id = c.file"
        f" WHERE c.depot = ? AND c.sha256 IS NULL AND {good()}",
        (known.number,),
    )
    erasing.weigh(for_good=False)
    worst = next(erasing.staying(1), None)
    return erasing.count_staying(), worst["path"] if worst is not None else ""


def add_depot(
    library: Library, where: str, *, name: str, site: str, medium: str, kind: str, options: dict[str, str], terms: Terms
) -> tuple[Depot, bool]:
    """Make a depot in an existing empty folder, or take in one of this library that lies there (True).

    The files of one that was taken in do not count until they were read. Raises DepotTrouble for a missing folder, another
    library's depot or foreign content, WrongUse for a name that is taken or cannot be one.
    """
    identity = _identity_at(library, where)
    if identity is not None:
        if identity.library != library.settings.library.id:
            raise DepotTrouble(
                f"{where} holds the depot {identity.name} of another library.",
                "Use another folder; nothing was written.",
            )
        known = next((one for one in known_depots(library) if one.id == identity.id), None)
        own_name = known.name if known is not None else identity.name
        if name != own_name:
            raise WrongUse(
                f"{where} holds the depot {own_name} of this library, not {name}.",
                f"To take it as that: bramblemoor depot add {own_name!r} {where}; as a depot of its own: bramblemoor depot adopt"
                f" {where} --as {name!r}.",
            )
        return (_find_again(library, known, where) if known is not None else _take_in(library, where, identity)), True
    _require_name(library, name)
    if not site or not medium:
        raise WrongUse("A new depot needs a site and a medium.", "Say them, as in: --site cottage --medium hdd.")
    _require_empty(where)
    depot = _make(
        library, where, Identity(new_id(), name, library.settings.library.id, site, medium, kind, options, terms)
    )
    enter_depot(library, depot, stamp(now_utc()))
    remember_line(library, depot)
    return depot, False


def _identity_at(library: Library, where: str) -> Identity | None:
    """What a place says it is. Raises DepotTrouble where it is not there, WrongUse where it is no place for a depot."""
    store = store_at(where)
    if not store.is_there:
        raise DepotTrouble(
            f"{where} is not there, and Bramblemoor makes no folder that may be an unmounted drive.",
            "Mount the drive, or make the folder yourself, then try again.",
        )
    place = Path(where).resolve()
    if place.is_relative_to(library.root) or library.root.is_relative_to(place):
        raise WrongUse(
            f"{where} and the library lie within each other.", "Give the depot a folder of its own, on another drive."
        )
    require_apart(place.parent, "a depot")
    if store.stat(SETTINGS_FILE) is not None:
        raise WrongUse(f"{where} is a library itself.", "Give the depot an empty folder of its own, on another drive.")
    return read_identity(where)


def _require_empty(where: str) -> None:
    strangers = [name for name in store_at(where).names("") if name not in LITTER and name not in _BELONG_TO_DRIVES]
    if strangers:
        raise DepotTrouble(f"{where} holds other things, {strangers[0]} among them.", "Give the depot an empty folder.")


def _make(library: Library, where: str, identity: Identity) -> Depot:
    """Write an empty depot to a place. The ledger does not know of it yet."""
    depot = make_depot(where, identity)
    depot.store.make_folder(PAYLOAD)
    with Sums() as sums:
        bag.write_manifest(depot.store, sums)
    refresh_tags(depot, library.name)
    return depot


_NEAR, _LONG = 0.83, 6
_BELONG_TO_DRIVES = ("lost+found", "System Volume Information", "$RECYCLE.BIN")


def _take_in(library: Library, where: str, identity: Identity) -> Depot:
    """Take in a depot of this library that the ledger does not know."""
    _require_free(library, identity.name, identity.id, f"Take it in as: bramblemoor depot adopt {where} --as NAME.")
    depot = open_depot(where)
    enter_depot(library, depot, stamp(now_utc()))
    learn_contents(library, depot)
    line = read_line(depot.store)
    if descends_from(library, line.library):
        remember_line(library, depot)
    else:
        # What was written there by a ledger that this one does not descend from is for `adopt` to accept.
        with library.ledger.changing() as db:
            db.execute("UPDATE depots SET stranger = 'foreign' WHERE id = ?", (depot.id,))
        library.seen.append(Finding(
            f"depot {depot.name}", "it was written from a later or another state of this library, and may know more than it:"
            f" to go on from there, bramblemoor restore DIR --from {where}; to keep this one, bramblemoor depot adopt"
            f" {depot.name}",
        ))  # fmt: skip
    return depot


def _find_again(library: Library, known: KnownDepot, where: str) -> Depot:
    """Note where a known depot is now. What is agreed with it stays as the ledger has it."""
    depot = open_depot(where)
    with library.ledger.changing() as db:
        db.execute("UPDATE depots SET whereabouts = ? WHERE id = ?", (whereabouts(library, where), known.id))
    if known.retired:
        library.seen.append(
            Finding(
                f"depot {known.name}", f"it is retired; to use it again: bramblemoor depot retire {known.name} --undo"
            )
        )
    fresh = next(one for one in known_depots(library) if one.id == known.id)
    return open_known(library, fresh) if fresh.where in (where, str(Path(where).resolve())) else depot


def adopt(library: Library, depot: Depot, known: KnownDepot | None, new_name: str) -> Depot:
    """Accept this one depot as it lies there, whatever line it has; under a new id and name, if one is given.

    What it holds beside or instead of the library's files is set aside in earlier/ by the next backup, and what the library has
    never had stays there. Other depots of that line are not accepted by it. The caller holds it.
    """
    if new_name:
        _require_name(library, new_name)
        depot = _renewed(library, depot, msgspec.structs.replace(depot.identity, id=new_id(), name=new_name))
        known = None
    if known is None:
        enter_depot(library, depot, stamp(now_utc()))
    elif depot.identity != identity_of(library, known):
        depot = _renewed(library, depot, identity_of(library, known))
    unknown = learn_contents(library, depot)
    remember_line(library, depot)
    if unknown:
        library.seen.append(Finding(
            f"depot {depot.name}", f"{unknown:,} files there are nothing that this library has ever had: to have them here,"
            f" restore them to a folder first (bramblemoor restore DIR --from {depot.where})",
        ))  # fmt: skip
    return depot


def _renewed(library: Library, depot: Depot, identity: Identity) -> Depot:
    """Write a depot's changed depot.toml, with the bag's tag files."""
    write_identity(depot.store, identity)
    fresh = open_depot(depot.where)
    refresh_tags(fresh, library.name, oxum=bag.read_oxum(depot.store))
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


def replace_depot(library: Library, known: KnownDepot, where: str, *, kind: str, options: dict[str, str]) -> Depot:
    """Make a new drive take a depot's place: same name, site, medium and terms, another id. The old one is retired.

    The next backup fills the new one.
    """
    identity = _identity_at(library, where)
    if identity is not None and identity.id == known.id:  # a new drive may well be mounted where the former one was
        raise WrongUse(f"{where} is where the depot {known.name} lies.", "Name an empty folder on the new drive.")
    if identity is None or not _was_begun(library, where, identity, known):
        _require_empty(where)
        identity = Identity(
            new_id(), known.name, library.settings.library.id, known.site, known.medium, kind, options, known.terms
        )
    depot = _make(library, where, identity)
    enter_depot(library, depot, stamp(now_utc()), instead_of=known.id)
    remember_line(library, depot)
    return depot


def _was_begun(library: Library, where: str, identity: Identity, known: KnownDepot) -> bool:
    """Whether a folder was to take a depot's place when that was interrupted: it holds nothing, and nobody knows it."""
    return (
        identity.library == library.settings.library.id
        and identity.name == known.name
        and all(other.id != identity.id for other in known_depots(library))
        and next(bag.read_manifest(store_at(where)), None) is None
        and not store_at(where).names(PAYLOAD)
    )


def repair_depot(library: Library, known: KnownDepot, where: str) -> list[str]:
    """Write depot.toml and line.json anew where they are damaged or gone; returns which.

    Raises DepotTrouble where the place holds no bag of this library, WrongUse where both are sound, or another depot's.
    """
    store = open_store(known.kind, where, known.options)
    try:
        sound = read_identity(where) if bag.fits(store, DEPOT_MARK) else None
    except DepotTrouble:
        sound = None
    line = read_line(store)
    line_is_sound = bag.fits(store, LINE) and bool(line.digest or not known.line)
    is_as_agreed = sound == identity_of(library, known)
    if sound is not None and (sound.id != known.id or (line_is_sound and is_as_agreed)):
        raise WrongUse(f"{where}/{DEPOT_MARK} is sound, of the depot {sound.name}.", "There is nothing to repair.")
    if (
        store.stat(bag.INFO) is None
        or f"External-Identifier: {library.settings.library.id}\n" not in store.content(bag.INFO).decode("utf-8", "replace")
    ):  # fmt: skip
        raise DepotTrouble(
            f"{where} holds no copy of this library.", "Name the folder that the depot lies in, with its bag-info.txt."
        )
    fresh = []
    if not is_as_agreed:
        write_identity(store, identity_of(library, known))
        fresh.append(DEPOT_MARK)
    if not line_is_sound:
        write_line(store, known.runs, known.line)
        fresh.append(LINE)
    refresh_tags(open_depot(where), library.name, fresh, bag.read_oxum(store))
    remember_line(library, open_depot(where))
    return fresh
