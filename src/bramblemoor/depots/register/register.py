"""Finding and opening the depots that a library knows, and entering what is at them."""

import json
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import msgspec

from bramblemoor.depots.bag.bag import TAG_MANIFEST, fits
from bramblemoor.depots.bag.depot import Depot, Identity, depot_at, open_depot, read_identity
from bramblemoor.depots.bag.earlier import moment_of
from bramblemoor.depots.bag.journal import finish_interrupted, open_run
from bramblemoor.depots.bag.line import LINE, digest_after, read_line
from bramblemoor.depots.bag.purging import finish_purge
from bramblemoor.depots.kinds import open_store
from bramblemoor.depots.register.attached import find_depot
from bramblemoor.depots.register.known import KnownDepot, known_depots, number_in
from bramblemoor.depots.register.learning import (
    catch_up,
    enter_intent,
    forget_readings,
    learn_contents,
    learn_readings,
    size_of,
    unlearnt,
)
from bramblemoor.disk.names import DEPOT_MARK
from bramblemoor.errors import DepotTrouble
from bramblemoor.frames.moments import now_seconds
from bramblemoor.library.clock import DAY
from bramblemoor.library.copies import LIBRARY
from bramblemoor.library.erasing import Within, size_in_library
from bramblemoor.library.home import Library, require_free
from bramblemoor.library.lineage import descends_from
from bramblemoor.library.receipts import Finding, seconds


def open_known(library: Library, known: KnownDepot) -> Depot:
    """Open a depot that the library knows, wherever its drive is now. Raises DepotTrouble if something else is in its place.

    Where it lies on another drive than it was read on, or in another folder there, its readings are forgotten.
    """
    where = find_depot(known.id, known.where)
    if where is None:
        raise _absent(known)
    depot = open_depot(where)
    agreed = identity_of(library, known)
    if depot.identity != agreed:
        depot = depot_at(where, agreed)
        library.seen.append(Finding(
            f"depot {known.name}", f"its depot.toml does not say what was agreed here, which holds: bramblemoor depot repair"
            f" {known.name} {where}",
        ))  # fmt: skip
    if library.read_only:
        return depot
    if where != known.where:
        with library.ledger.changing() as db:
            db.execute("UPDATE depots SET whereabouts = ? WHERE id = ?", (whereabouts(library, where), known.id))
    if depot.store.seat != known.seat:
        forget_readings(library, known.number)
        with library.ledger.changing() as db:
            db.execute(
                "UPDATE depots SET seat = ?, device = ? WHERE id = ?", (depot.store.seat, depot.store.device, known.id)
            )
        if known.seat:
            library.seen.append(Finding(
                f"depot {known.name}", "it lies elsewhere than when it was read, so that its copies count again once they were"
                f" read there: bramblemoor verify {known.name}",
            ))  # fmt: skip
    return depot


def identity_of(library: Library, known: KnownDepot) -> Identity:
    """What a depot's depot.toml should say, by the ledger."""
    return Identity(
        known.id,
        known.name,
        library.settings.library.id,
        known.site,
        known.medium,
        known.kind,
        known.options,
        known.terms,
    )


@contextmanager
def open_to_write(library: Library, known: KnownDepot) -> Iterator[Depot]:
    """Open and hold a depot.

    Raises DepotTrouble, before anything is written, as open_known and follow_line do, and if it is retired or held by another
    run.
    """
    if known.retired:
        raise DepotTrouble(
            f"The depot {known.name} was retired on {known.retired[:10]}.",
            f"Take it back into use: bramblemoor depot retire {known.name} --undo.",
        )
    depot = open_known(library, known)
    with depot.held():
        follow_line(library, known, depot)
        yield depot


def within_reach(library: Library, opened: Iterable[Depot] = ()) -> Within:
    """Where the library and its depots can be looked at now, `opened` ones and others; writes nothing.

    What lies elsewhere than it was read, or was written by another since, is there but counts for nothing.
    """
    at_hand = {depot.id: depot for depot in opened}
    sizes: dict[int, Callable[[str], int | None]] = {LIBRARY: partial(size_in_library, library)}
    doubted = {LIBRARY} if library.doubted else set()
    for known in known_depots(library):
        try:
            depot = at_hand.get(known.id)
            if depot is None:
                where = find_depot(known.id, known.where) if not known.retired else None
                depot = open_depot(where) if where is not None else None
            if depot is None:
                continue
            sizes[known.number] = partial(size_of, depot.store)
            is_as_left = depot.store.seat == known.seat and read_line(depot.store).digest in (known.line, known.coming)
            if not is_as_left or unlearnt(library, depot.store, known.number):
                doubted.add(known.number)
        except (DepotTrouble, OSError):  # it is there, and cannot be made out
            doubted.add(known.number)
    return Within(sizes, doubted)


def _absent(known: KnownDepot) -> DepotTrouble:
    try:
        identity = read_identity(known.where)
    except OSError as error:
        return DepotTrouble(
            f"The depot {known.name} should be at {known.where}, but nothing can be read there ({error.strerror}).",
            "Unmount its drive and plug it in again.",
        )
    store = open_store(known.kind, known.where, known.options)
    if not store.is_there:
        return DepotTrouble(
            f"The depot {known.name} is not there: no folder {known.where}, and no attached drive carries it.",
            f"Plug its drive in; if it is somewhere else, tell where: bramblemoor depot add {known.name} FOLDER.",
        )
    if not fits(store, DEPOT_MARK):
        return DepotTrouble(
            f"{known.where}/{DEPOT_MARK} is damaged: it is not what the tag manifest says.",
            f"If the depot {known.name} lies there, write it anew: bramblemoor depot repair {known.name} {known.where}.",
        )
    if identity is None:
        return DepotTrouble(
            f"{known.where} is there, but the depot {known.name} is not in it: its drive may not be mounted.",
            f"Mount the drive, or tell where it is now: bramblemoor depot add {known.name} FOLDER.",
        )
    return DepotTrouble(
        f"{known.where} holds another depot, {identity.name} ({identity.id[:8]}), not {known.name} ({known.id[:8]}).",
        "Plug in the right drive; nothing was written to this one.",
    )


def follow_line(library: Library, known: KnownDepot, depot: Depot) -> None:
    """Learn what lies at a depot where its line is not the one remembered: others have written there since.

    Raises DepotTrouble where a depot has seen a ledger that this one does not descend from, or is an old clone.
    """
    where, line = depot.where, read_line(depot.store)
    if line.run and (told := moment_of(line.run)) and seconds(told) > now_seconds() + DAY:
        library.seen.append(Finding(
            f"depot {known.name}", f"its last run was on {told[:10]}, which is in the future by this clock: one of the two"
            " clocks was wrong, and what was read then does not count",
        ))  # fmt: skip
    if line.digest == known.line and (line.digest or not known.runs):
        _note_stranger(library, known, "")
        if amiss := learn_readings(library, depot):
            library.seen.append(Finding(
                f"depot {known.name}", f"a reading that this library did not see, as it comes from an older copy, found"
                f" {'1 file' if amiss == 1 else f'{amiss:,} files'} amiss there: they do not"
                " count until a backup, or mend, has put them right",
            ))  # fmt: skip
        return
    if (
        line.digest and line.digest == known.coming
    ):  # by a run of ours that was killed, and ended by itself or by another machine
        catch_up(library, known, depot.store, line.run)
        remember_line(library, depot)
        return
    is_foreign = not descends_from(library, line.library)
    is_clone = bool(known.line) and line.runs <= known.runs
    if (is_foreign or is_clone) and (not line.digest or not fits(depot.store, LINE)):
        raise DepotTrouble(
            f"{where}/{LINE} is damaged or missing: it tells which runs the drive has seen. Nothing was written.",
            f"If this is the drive of {known.name} that was last used: bramblemoor depot repair {known.name} {where}.",
        )
    if is_foreign:
        forget_readings(library, known.number)
        _note_stranger(library, known, "foreign")
        raise DepotTrouble(
            f"The depot {known.name} was last written from a state of the library that this one has never had: this library"
            " was revived from an old copy, or another copy of it has gone its own way. Nothing was written.",
            "If the depot is newer, restore from it to a new folder and go on there. If this library is the one to keep:"
            f" bramblemoor depot adopt {known.name}; what differs is then set aside in earlier/ there, and stays.",
        )
    if is_clone:
        raise DepotTrouble(
            f"The drive at {known.where} is a copy of the depot {known.name} as it was {known.runs - line.runs + 1} or more runs"
            " ago: a clone, or a drive that was put back. Nothing was written.",
            f"Plug in the drive that was last used. If this one is to take its place: bramblemoor depot adopt {known.name}.",
        )
    learn_contents(library, depot)
    remember_line(library, depot)
    library.seen.append(Finding(
        f"depot {known.name}", "something was written there that this library did not see, so that its copies count again once"
        f" they were read: bramblemoor verify {known.name}",
    ))  # fmt: skip


def _note_stranger(library: Library, known: KnownDepot, why: str) -> None:
    if known.stranger != why:
        with library.ledger.changing() as db:
            db.execute("UPDATE depots SET stranger = ? WHERE id = ?", (why, known.id))


def whereabouts(library: Library, where: str) -> str:
    """Where a depot is, seen from the library; on Windows another drive can only be named in full."""
    place = Path(where).resolve()
    try:
        return Path(os.path.relpath(place, library.root)).as_posix()
    except ValueError:
        return place.as_posix()


def number_of(library: Library, depot: Depot) -> int:
    """A depot's number in the ledger."""
    return number_in(library, depot.id)


def enter_depot(library: Library, depot: Depot, added: str, *, instead_of: str = "") -> None:
    """Enter a depot that the ledger does not know yet.

    `instead_of` is the id of one whose name it takes; that one is retired in the same moment.
    """
    identity = depot.identity
    terms = msgspec.json.encode(identity.terms).decode()
    with library.ledger.changing() as db:
        if instead_of:
            former = f"{identity.name} until {added[:10]}"
            while db.execute("SELECT 1 FROM depots WHERE name = ?", (former,)).fetchone():
                former += "+"
            db.execute("UPDATE depots SET name = ?, retired = ? WHERE id = ?", (former, added, instead_of))
        db.execute(
            "INSERT INTO depots (id, name, kind, site, medium, whereabouts, device, options, added, terms, seat)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                identity.id, identity.name, identity.kind, identity.site, identity.medium,
                whereabouts(library, depot.where), depot.store.device, json.dumps(identity.options), added, terms,
                depot.store.seat,
            ),
        )  # fmt: skip


def change_identity(library: Library, depot: Depot, identity: Identity) -> None:
    """Let the ledger follow a changed depot.toml."""
    with library.ledger.changing() as db:
        db.execute(
            "UPDATE depots SET id = ?, name = ?, site = ?, medium = ?, terms = ? WHERE id = ?",
            (
                identity.id, identity.name, identity.site, identity.medium,
                msgspec.json.encode(identity.terms).decode(), depot.id,
            ),
        )  # fmt: skip


def expect_line(library: Library, depot: Depot, run: str) -> None:
    """Note what a depot's line becomes by a run of ours that begins there: by that it is known, whenever it ends."""
    with library.ledger.changing() as db:
        coming = digest_after(read_line(depot.store), run)
        db.execute("UPDATE depots SET coming = ? WHERE id = ?", (coming, depot.id))


def with_place(error: OSError) -> str:
    """What the system said, and of which file: "Input/output error (/media/heron/depot/incoming)"."""
    return f"{error.strerror or error}{f' ({error.filename})' if error.filename else ''}"


def drive_trouble(name: str, error: OSError) -> DepotTrouble:
    """What goes wrong at one drive, told of that depot: the others are not held up by it."""
    return DepotTrouble(
        f"The depot {name} cannot be used: {with_place(error)}.",
        "Let the system check its drive; if a file there is what is wrong: bramblemoor depot repair, or another drive.",
    )


def finish_all(library: Library, depots: Sequence[Depot]) -> tuple[list[Depot], list[Finding]]:
    """Finish interrupted runs at depots; returns those that are ready, and what is wrong with the others."""
    ready, wrong = [], []
    for depot in depots:
        try:
            if depot.store.writable:
                finish_at(library, depot)
            ready.append(depot)
        except (DepotTrouble, OSError) as error:
            trouble = error if isinstance(error, DepotTrouble) else drive_trouble(depot.name, error)
            wrong.append(Finding(f"depot {depot.name}", f"{trouble.happened} It was passed over: {trouble.remedy}"))
    return ready, wrong


def require_room_there(depot: Depot, wanted: int, what: str) -> None:
    """Raise NotPossible, with the figures, where `wanted` bytes do not fit beside those that are to stay free at a depot."""
    require_free(depot.store.room(), depot.where, wanted, what, depot.identity.terms.leave_free)


def finish_at(library: Library, depot: Depot) -> int:
    """Finish what an interrupted run left at a depot, and enter what it had done; returns how many files.

    What a run of ours has read counts; what another one, as of a depot's own levelling, says to have read does not.
    """
    count = 0
    finish_purge(depot, library.name)
    number = number_of(library, depot)
    run = open_run(depot)
    row = library.db.execute("SELECT coming FROM depots WHERE id = ?", (depot.id,)).fetchone()
    ours = run is not None and digest_after(read_line(depot.store), run.run) == row["coming"]
    with library.ledger.changing() as db:
        for intent in finish_interrupted(depot, library.name):
            enter_intent(db, number, intent, believed=ours)
            count += 1
    if count:
        remember_line(library, depot)
    return count


def remember_line(library: Library, depot: Depot) -> None:
    """The line and the tag manifest that a depot has now, once a run of this library has ended there."""
    line = read_line(depot.store)
    digest = depot.store.digest(TAG_MANIFEST) if depot.store.stat(TAG_MANIFEST) is not None else ""
    with library.ledger.changing() as db:
        db.execute(
            "UPDATE depots SET runs = ?, line = ?, tags = ?, stranger = '' WHERE id = ?",
            (line.runs, line.digest, digest, depot.id),
        )


def tags_as_left(library: Library, depot: Depot) -> str:
    """The digest of a depot's tag manifest as this library left it; "" where another may have written it since."""
    row = library.db.execute("SELECT line, tags FROM depots WHERE id = ?", (depot.id,)).fetchone()
    return row["tags"] if row["line"] == read_line(depot.store).digest else ""
