"""Bringing home what a service shows in folders: each file once, resumed where it broke off, and only what is new since last
time.

What came lies in incoming/SERVICE/FETCH/files, a tree that is then unpacked as any folder of pictures is.
"""

import hashlib
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from bramblemoor.disk.durable import TEMPORARY, beside
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.disk.told import Inside
from bramblemoor.errors import ServiceTrouble
from bramblemoor.library.home import Library, require_room
from bramblemoor.running import Meter, Pace, Progress, Stage, several
from bramblemoor.services.fetching import Transfer
from bramblemoor.services.interface import Entry, Tree
from bramblemoor.services.tree_survey import once
from bramblemoor.wire.http import Answered

_AT_ONCE = 8
_ENTERED, _ENTERED_BYTES = 256, 64 << 20  # files, or bytes, that are flushed and entered together
_FOLDER = "files"


@dataclass
class Brought:
    """What a fetch has brought: under which name it waits, how much of it is new, and what was left, with why.

    `digests` are those of the files that came in this run, as they were written, by their paths below `folder`.
    """

    fetch: Inside
    folder: Path
    listed: int = 0
    twice: int = 0
    known: int = 0
    files: int = 0
    bytes: int = 0
    digests: dict[str, str] = field(default_factory=dict)
    renamed: list[tuple[str, str]] = field(default_factory=list)
    left: list[tuple[str, str]] = field(default_factory=list)
    stopped: bool = False


@dataclass(frozen=True)
class _Wanted:
    entry: Entry
    staged: str


def bring(
    library: Library, service: Inside, tree: Tree, below: Sequence[str], lists: str, pace: Pace, progress: Progress
) -> Brought:
    """Fetch what lies below some folders, or all, and was not brought before. The caller holds the library.

    Raises ServiceTrouble where the service is not there, NotPossible where there is no room.
    """
    listed = [entry for folder in below or ("",) for entry in tree.entries(folder)]
    entries, again = once(listed, lists)
    fetch = _fetch_under_way(library, service)
    folder = library.incoming(service, fetch) / _FOLDER
    found = Brought(fetch, folder, len(entries), len(again))
    found.left += [(name, "its name leads out of the tree, or nowhere") for name in tree.odd]
    wanted, waiting = _plan(library, service, fetch, entries, found)
    require_room(library.root, sum(one.entry.bytes for one in wanted), "Bringing it home")
    found.files, found.bytes = len(waiting), sum(one.bytes for one in waiting)
    if wanted:
        folder.mkdir(parents=True, exist_ok=True)
        _fetch_all(library, service, tree, wanted, found, pace, progress)
    if folder.is_dir() and not found.stopped:  # what was begun of contents that are others by now
        for left in folder.rglob(f"*{TEMPORARY}"):
            left.unlink()
    return found


def is_brought(library: Library, service: str, fetch: str) -> None:
    """What was fetched is in the library: the next fetch is another one."""
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (_mark(service),))
        db.execute("UPDATE brought SET staged = '' WHERE service = ? AND fetch = ?", (service, fetch))


def _mark(service: str) -> str:
    return f"fetching {service}"


def _fetch_under_way(library: Library, service: Inside) -> Inside:
    """The name of the fetch that was begun and not unpacked, or of a new one."""
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (_mark(service),)).fetchone()
    if row is not None:
        return Inside(row["value"])
    number = 1 + sum(1 for _ in library.db.execute("SELECT DISTINCT fetch FROM brought WHERE service = ?", (service,)))
    name = Inside(f"fetch-{number}")
    with library.ledger.changing() as db:
        db.execute("INSERT INTO meta VALUES (?, ?)", (_mark(service), name))
    return name


def _plan(
    library: Library, service: str, fetch: str, entries: Sequence[Entry], found: Brought
) -> tuple[list[_Wanted], list[Entry]]:
    """What is to be fetched, and what was, and waits to be unpacked."""
    known = {row["path"]: row for row in library.db.execute("SELECT * FROM brought WHERE service = ?", (service,))}
    taken = {collision_key(row["staged"]) for row in known.values() if row["staged"] and row["fetch"] == fetch}
    wanted, waiting = [], []
    for entry in sorted(entries, key=lambda one: one.path):
        row = known.get(entry.path)
        if row is not None and _is_same(entry, row["etag"], row["modified"], row["bytes"]):
            if row["staged"] and (found.folder / row["staged"]).is_file():
                waiting.append(entry)
                continue
            if not row["staged"]:
                found.known += 1
                continue
        staged = "/".join(map(safe_name, entry.path.split("/")))
        folder, slash, name = staged.rpartition("/")
        name = free_name(name, lambda one, at=folder + slash: collision_key(at + one) in taken)  # type: ignore[misc]
        staged = folder + slash + name
        taken.add(collision_key(staged))
        if staged != entry.path:
            found.renamed.append((entry.path, staged))
        wanted.append(_Wanted(entry, staged))
    return wanted, waiting


def _is_same(entry: Entry, etag: str, modified: int, size: int) -> bool:
    """Whether a file is what it was: by its ETag, or where none is told, by its size and time."""
    if entry.bytes != size:
        return False
    return entry.etag == etag if entry.etag else not etag and entry.modified == modified


def _fetch_all(
    library: Library,
    service: str,
    tree: Tree,
    wanted: Sequence[_Wanted],
    found: Brought,
    pace: Pace,
    progress: Progress,
) -> None:
    meter = Meter(progress, Stage("fetching"), sum(one.entry.bytes for one in wanted))
    lock = threading.Lock()

    def add(count: int) -> None:
        with lock:
            meter.add(count)
        pace.wait(max(0, count))

    def fetch(one: _Wanted) -> Transfer | str:
        return _fetch_one(tree, one, found.folder, add)

    def enter(came: list[tuple[_Wanted, Transfer]]) -> None:
        flush_files([found.folder / one.staged for one, _ in came], found.folder)
        with library.ledger.changing() as db:
            db.executemany(
                "INSERT OR REPLACE INTO brought VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                ((service, one.entry.path, one.entry.etag, one.entry.modified, transfer.have, transfer.digest.hexdigest(),
                  found.fetch, one.staged) for one, transfer in came),
            )  # fmt: skip
        found.digests.update((one.staged, transfer.digest.hexdigest()) for one, transfer in came)
        found.files, found.bytes = found.files + len(came), found.bytes + sum(transfer.have for _, transfer in came)

    came: list[tuple[_Wanted, Transfer]] = []
    try:
        for outcomes in several(fetch, wanted, _AT_ONCE, lambda: pace.stopped):
            found.left += [(one.entry.path, outcome) for one, outcome in outcomes if isinstance(outcome, str)]
            came += [(one, outcome) for one, outcome in outcomes if not isinstance(outcome, str)]
            if len(came) >= _ENTERED or sum(transfer.have for _, transfer in came) > _ENTERED_BYTES:
                enter(came)
                came = []
    finally:
        if came:
            enter(came)
    found.stopped = pace.stopped


def _fetch_one(tree: Tree, one: _Wanted, folder: Path, add: Callable[[int], None]) -> Transfer | str:
    """Fetch a file to its place below `folder`; where it cannot be had, why."""
    place = folder / one.staged
    place.parent.mkdir(parents=True, exist_ok=True)
    # What was begun in an earlier run is gone on with only where it was of this very content.
    version = hashlib.sha256(f"{one.entry.etag} {one.entry.modified} {one.entry.bytes}".encode()).hexdigest()[:12]
    unfinished = beside(place, f".{version}")
    if not one.entry.etag:
        unfinished.unlink(missing_ok=True)
    for _ in range(2):
        transfer = Transfer(one.entry.path, one.entry.bytes, unfinished, add, one.entry.etag, flush=False)
        try:
            transfer.run(partial(tree.open, one.entry.path))
        except Answered as error:
            if error.status in (401, 403):
                raise
            unfinished.unlink(missing_ok=True)
            return "it is not there any more" if error.status in (404, 410) else error.happened
        if transfer.is_whole:
            unfinished.replace(place)
            return transfer
        unfinished.unlink(missing_ok=True)
        add(-transfer.have)
    if transfer.contradicted:
        return "what arrives is not what the service's own digest says, twice"
    return "it changes while it is fetched: it does not have the size that the service lists"


def require_some(found: Brought, service: str) -> None:
    """Raise ServiceTrouble where nothing at all came of what was wanted."""
    if found.left and not found.files:
        path, why = found.left[0]
        raise ServiceTrouble(
            f"Nothing of what {service} lists could be fetched; {path}: {why}.",
            "Ask the service, or run the same command later.",
        )
