"""The transfers that a library knows: from where to where, and of what; each with a worksheet of its own in ledger/transfers/."""

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

import msgspec
from filelock import FileLock, Timeout

from bramblemoor.errors import LibraryInUse, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.folding import suggestion
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import stamp
from bramblemoor.migrate.worksheet import Worksheet

LIBRARY = "library"


class Scope(msgspec.Struct, frozen=True, omit_defaults=True):
    """Of what a transfer is, and how it arrives: `said` is the selection of the library in words, `fields` what it is made of;
    `below` a folder of the source, `into` one of the destination; `arrival` an album of all that arrives; `folders` makes
    albums of the source's folders; without `embed` no copies are made with what is known inside.
    """

    said: str = ""
    fields: str = ""
    below: str = ""
    into: str = ""
    arrival: str = ""
    folders: bool = False
    embed: bool = True


@dataclass(frozen=True)
class Transfer:
    id: str
    source: str
    destination: str
    scope: Scope
    asked: str


def transfers(library: Library) -> list[Transfer]:
    """All of them, the oldest first."""
    rows = library.db.execute("SELECT id, source, destination, scope, asked FROM transfers ORDER BY length(id), id")
    return [
        Transfer(
            row["id"], row["source"], row["destination"], msgspec.json.decode(row["scope"], type=Scope), row["asked"]
        )
        for row in rows
    ]


def transfer_for(library: Library, source: str, destination: str, scope: Scope) -> tuple[Transfer, bool]:
    """The transfer of that; says whether it is new. One that was asked for before is that one: it brings what is new."""
    for known in transfers(library):
        if (known.source, known.destination, known.scope) == (source, destination, scope):
            return known, False
    taken = {known.id for known in transfers(library)}
    number = next(n for n in range(1, len(taken) + 2) if f"move-{n}" not in taken)
    made = Transfer(f"move-{number}", source, destination, scope, stamp(now_utc()))
    return made, True


def enter_transfer(library: Library, made: Transfer) -> None:
    """The caller holds the library."""
    with library.ledger.changing() as db:
        db.execute(
            "INSERT OR IGNORE INTO transfers VALUES (?, ?, ?, ?, ?)",
            (made.id, made.source, made.destination, msgspec.json.encode(made.scope).decode(), made.asked),
        )


def transfer_named(library: Library, name: str | None) -> Transfer:
    """The transfer of that name; without one, the latest. Raises WrongUse with the nearest right name."""
    known = transfers(library)
    if not known:
        raise WrongUse("Nothing was moved from or to a service yet.", "Begin: bramblemoor migrate FROM TO.")
    if name is None:
        return known[-1]
    found = next((one for one in known if one.id.casefold() == name.casefold()), None)
    if found is None:
        raise WrongUse(f"There is no transfer {name!r} here.", suggestion(name, [one.id for one in known]))
    return found


def folder_of(library: Library) -> Path:
    return library.root / "ledger" / "transfers"


def look_into(library: Library, one: Transfer) -> Worksheet | None:
    """Its worksheet, to look at; None where none was written yet."""
    path = folder_of(library) / f"{one.id}.sqlite"
    return Worksheet(path, only_look=True) if path.is_file() else None


def copied(library: Library, one: Transfer, path: Path) -> Worksheet:
    """A copy of its worksheet to try something in; an empty one where it has none yet."""
    known = look_into(library, one)
    if known is not None:
        with closing(known), closing(sqlite3.connect(path)) as copy:
            known.db.backup(copy)
    return Worksheet(path)


def brought_to(library: Library, destination: str) -> Iterator[tuple[str, str, str]]:
    """What transfers have proven at a destination: the digest of each original at its source, what the frame is called there,
    and the digest of what was sent.
    """
    for one in transfers(library):
        sheet = look_into(library, one) if one.destination == destination else None
        if sheet is not None:
            with closing(sheet):
                for line in sheet.lines("proven"):
                    if line.sent is not None:
                        first = line.sent.files[0]
                        yield first.source_sha256, line.sent.there, first.sha256


def ask_to_stop(library: Library, one: Transfer) -> bool:
    """Ask a run that goes on to end in good order; says whether one does."""
    path = folder_of(library) / f"{one.id}.sqlite"
    if not path.is_file():
        return False
    sheet = Worksheet(path)
    try:
        if not sheet.is_alive:
            return False
        sheet.put("stop", "yes")
        return True
    finally:
        sheet.close()


@contextmanager
def worksheet_of(library: Library, one: Transfer) -> Iterator[Worksheet]:
    """Its worksheet, to work on. Raises LibraryInUse where another run does."""
    folder = folder_of(library)
    folder.mkdir(parents=True, exist_ok=True)
    lock = FileLock(folder / f"{one.id}.lock")
    try:
        lock.acquire(timeout=0)
    except Timeout as error:
        raise LibraryInUse(
            f"{one.id} goes on already, in another window.",
            f"Watch it: bramblemoor transfer watch {one.id}; or stop it: bramblemoor transfer stop {one.id}.",
        ) from error
    try:
        sheet = Worksheet(folder / f"{one.id}.sqlite")
        try:
            sheet.put("stop", "")
            yield sheet
        finally:
            sheet.put("alive", "0")
            sheet.close()
    finally:
        lock.release()
