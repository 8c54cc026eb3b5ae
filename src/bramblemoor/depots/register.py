"""Finding and opening the depots that a library knows, and entering what is at them."""

import json
import os
import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import lru_cache
from pathlib import Path

import msgspec

from bramblemoor.depots.bag import TAG_MANIFEST, fits
from bramblemoor.depots.depot import Depot, Identity, open_depot, read_identity
from bramblemoor.depots.drives import find_depot
from bramblemoor.depots.earlier import finish_purge
from bramblemoor.depots.journal import finish_interrupted
from bramblemoor.depots.known import KnownDepot
from bramblemoor.depots.line import LINE, read_line
from bramblemoor.depots.placing import Intent
from bramblemoor.errors import DepotTrouble
from bramblemoor.library.durable import digest_of
from bramblemoor.library.home import DEPOT_MARK, Library
from bramblemoor.library.lineage import descends_from


def open_known(library: Library, known: KnownDepot) -> Depot:
    """Open a depot that the library knows, wherever its drive is now. Raises DepotTrouble if something else is in its place."""
    root = find_depot(known.id, known.root)
    if root is None:
        raise _absent(known)
    depot = open_depot(root)
    if root != known.root:
        with library.ledger.changing() as db:
            db.execute("UPDATE depots SET whereabouts = ? WHERE id = ?", (whereabouts(library, root), known.id))
    return depot


@contextmanager
def open_to_write(library: Library, known: KnownDepot) -> Iterator[Depot]:
    """Open and hold a depot.

    Raises DepotTrouble, before anything is written, as open_known does, and if it is retired, held by another run, or if its
    line or the library's shows that one of them is not what the other has known.
    """
    if known.retired:
        raise DepotTrouble(
            f"The depot {known.name} was retired on {known.retired[:10]}.",
            f"Take it back into use: bramblemoor depot retire {known.name} --undo.",
        )
    depot = open_known(library, known)
    with depot.held():
        _require_own_line(library, known, depot.root)
        yield depot


def _absent(known: KnownDepot) -> DepotTrouble:
    try:
        identity = read_identity(known.root)
    except OSError as error:
        return DepotTrouble(
            f"The depot {known.name} should be at {known.root}, but nothing can be read there ({error.strerror}).",
            "Unmount its drive and plug it in again.",
        )
    if not known.root.is_dir():
        return DepotTrouble(
            f"The depot {known.name} is not there: no folder {known.root}, and no attached drive carries it.",
            "Plug its drive in; if it is somewhere else, tell where: bramblemoor depot add NAME FOLDER.",
        )
    if not fits(known.root, DEPOT_MARK):
        return DepotTrouble(
            f"{known.root / DEPOT_MARK} is damaged: it is not what the tag manifest says.",
            f"If the depot {known.name} lies there, write it anew: bramblemoor depot repair {known.name} {known.root}.",
        )
    if identity is None:
        return DepotTrouble(
            f"{known.root} is there, but the depot {known.name} is not in it: its drive may not be mounted.",
            "Mount the drive, or tell where it is now: bramblemoor depot add NAME FOLDER.",
        )
    return DepotTrouble(
        f"{known.root} holds another depot, {identity.name} ({identity.id[:8]}), not {known.name} ({known.id[:8]}).",
        "Plug in the right drive; nothing was written to this one.",
    )


def _require_own_line(library: Library, known: KnownDepot, root: Path) -> None:
    """Raise DepotTrouble where a depot has seen a ledger that this one does not descend from, or is an old clone."""
    line = read_line(root)
    is_foreign = not descends_from(library, line.library)
    is_clone = bool(known.line) and line.runs <= known.runs and line.digest != known.line
    if (is_foreign or is_clone) and (not line.digest or not fits(root, LINE)):
        raise DepotTrouble(
            f"{root / LINE} is damaged or missing: it tells which runs the drive has seen. Nothing was written.",
            f"If this is the drive of {known.name} that was last used: bramblemoor depot repair {known.name} {root}.",
        )
    if is_foreign:
        raise DepotTrouble(
            f"The depot {known.name} was last written from a state of the library that this one has never had: this library"
            " was revived from an old copy, or another copy of it has gone its own way. Nothing was written.",
            "If the depot is newer, restore from it to a new folder and go on there. If this library is the one to keep:"
            f" bramblemoor depot adopt {known.name}; what differs then moves to earlier/ there.",
        )
    if is_clone:
        raise DepotTrouble(
            f"The drive at {known.root} is a copy of the depot {known.name} as it was {known.runs - line.runs + 1} or more runs"
            " ago: a clone, or a drive that was put back. Nothing was written.",
            f"Plug in the drive that was last used. If this one is to take its place: bramblemoor depot adopt {known.name}.",
        )


def whereabouts(library: Library, root: Path) -> str:
    """Where a depot is, seen from the library; on Windows another drive can only be named in full."""
    try:
        return Path(os.path.relpath(root.resolve(), library.root)).as_posix()
    except ValueError:
        return root.resolve().as_posix()


def number_of(library: Library, depot: Depot) -> int:
    """A depot's number in the ledger."""
    number: int = library.db.execute("SELECT number FROM depots WHERE id = ?", (depot.id,)).fetchone()[0]
    return number


def enter_depot(library: Library, depot: Depot, added: str, *, instead_of: str = "") -> None:
    """Enter a depot, or where a known one is now and what its depot.toml says.

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
            "INSERT INTO depots (id, name, kind, site, medium, whereabouts, device, options, added, terms)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET whereabouts = excluded.whereabouts,"
            " device = excluded.device, terms = excluded.terms, site = excluded.site, medium = excluded.medium,"
            " name = excluded.name, retired = ''",
            (
                identity.id, identity.name, identity.kind, identity.site, identity.medium,
                whereabouts(library, depot.root), depot.drive.device, json.dumps(identity.options), added, terms,
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


def finish_at(library: Library, depot: Depot) -> int:
    """Finish what an interrupted run left at a depot, and enter what it had done; returns how many files."""
    count = 0
    finish_purge(depot, library.name)
    number = number_of(library, depot)
    with library.ledger.changing() as db:
        for intent in finish_interrupted(depot, library.name):
            enter_intent(db, number, intent)
            count += 1
    if count:
        remember_line(library, depot)
    return count


def enter_intent(db: sqlite3.Connection, number: int, intent: Intent) -> None:
    """Enter what a run has done, by whatever library it was begun."""
    file = db.execute("SELECT id, sha256 FROM files WHERE path = ?", (intent.path,)).fetchone()
    if intent.what in ("remove", "move"):
        gone = intent.path if intent.what == "remove" else intent.was
        db.execute("DELETE FROM leftovers WHERE depot = ? AND path = ?", (number, gone))
        db.execute(
            "DELETE FROM copies WHERE depot = ? AND (path = ? OR path IS NULL AND file = (SELECT id FROM files WHERE path = ?))",
            (number, gone, gone),
        )
        if intent.what == "remove":
            return
    if file is not None:
        state = "proven" if intent.grade == "medium" else "cached" if intent.grade else "written"
        db.execute(
            "INSERT OR REPLACE INTO copies VALUES (?, ?, ?, ?, ?, NULL)",
            (
                number, file["id"], state, seconds(intent.read_at) if intent.read_at else None,
                None if file["sha256"] == intent.sha256 else intent.sha256,
            ),
        )  # fmt: skip
    else:
        db.execute(
            "INSERT OR REPLACE INTO leftovers VALUES (?, ?, ?, ?, 'written', NULL)",
            (number, intent.path, intent.sha256, intent.bytes),
        )


def remember_device(library: Library, depot: Depot) -> None:
    """The physical device a depot is on, as seen now."""
    with library.ledger.changing() as db:
        db.execute("UPDATE depots SET device = ? WHERE id = ?", (depot.drive.device, depot.id))


def remember_line(library: Library, depot: Depot) -> None:
    """The line and the tag manifest that a depot has now, once a run of this library has ended there."""
    line = read_line(depot.root)
    tags = depot.root / TAG_MANIFEST
    digest = digest_of(tags) if tags.is_file() else ""
    with library.ledger.changing() as db:
        db.execute(
            "UPDATE depots SET runs = ?, line = ?, tags = ? WHERE id = ?", (line.runs, line.digest, digest, depot.id)
        )


def tags_as_left(library: Library, depot: Depot) -> str:
    """The digest of a depot's tag manifest as this library left it; "" where another may have written it since."""
    row = library.db.execute("SELECT line, tags FROM depots WHERE id = ?", (depot.id,)).fetchone()
    return row["tags"] if row["line"] == read_line(depot.root).digest else ""


@lru_cache(16)
def seconds(stamp: str) -> int:
    """Seconds since 1970 of a moment as receipts write it."""
    return int(datetime.fromisoformat(stamp).timestamp())


def enter_copies(db: sqlite3.Connection, number: int, copies: Iterable[tuple[int, str, str]]) -> None:
    """Copies that were just written and read back: file, when, and the grade of the reading."""
    moments: dict[str, int] = {}  # there are few, of many files each
    db.executemany(
        "INSERT OR REPLACE INTO copies VALUES (?, ?, ?, ?, NULL, NULL)",
        (
            (
                number,
                file,
                "proven" if grade == "medium" else "cached",
                moments.get(at) or moments.setdefault(at, seconds(at)),
            )
            for file, at, grade in copies
        ),
    )


def mark_copy(db: sqlite3.Connection, number: int, file: int, state: str) -> None:
    """Set the state of a copy that is not well; what was read of it before no longer counts."""
    db.execute(
        "INSERT INTO copies (depot, file, state) VALUES (?, ?, ?)"
        " ON CONFLICT (depot, file) DO UPDATE SET state = excluded.state, read_at = NULL",
        (number, file, state),
    )
