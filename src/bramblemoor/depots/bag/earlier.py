"""Earlier versions at a depot: what lies in earlier/, what stood where at a date, and purging."""

import json
import os
import re
import shutil
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.journal import refresh_tags
from bramblemoor.depots.bag.run_lists import read_reasons, read_run
from bramblemoor.depots.register.known import number_in
from bramblemoor.disk.durable import flush_folder, write_atomically
from bramblemoor.disk.told import Inside, Root, inside_or_none, is_plain_file
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.clock import DAY, Clock
from bramblemoor.library.erasing import Erasing, Within
from bramblemoor.library.home import Library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.receipts import Amount, LeftOut, Receipt, next_number, seconds, stamp, total, write_receipt

_PURGING = "purging.txt"
"""Lists what is being deleted of earlier/: whole runs, or RUN/data/PATH."""
_LEDGERS_KEPT = 30  # days
_RUN = re.compile(r"\d{4,}-(\d{8}T\d{6}Z)(?:-[0-9a-f]{4})?")


@dataclass(frozen=True)
class Version:
    """A file that a run set aside: where it was in data/, why, when the run began, and where it lies now.

    `mended` says that it was damaged, and a good one took its place.
    """

    run: str
    path: Inside
    why: str
    when: str
    sha256: str
    bytes: int
    file: Path
    mended: bool = False

    @property
    def lies(self) -> Inside:
        """Where it lies, seen from the depot."""
        return Inside(f"earlier/{self.run}/data/{self.path}")


def moment_of(run: str) -> str:
    """When a run began, as receipts write moments; "" for a name that is no run's."""
    match = _RUN.fullmatch(run)
    with suppress(ValueError):
        return datetime.strptime(match[1], "%Y%m%dT%H%M%SZ").strftime("%Y-%m-%dT%H:%M:%SZ") if match else ""
    return ""


def runs_with_earlier(root: Path) -> list[str]:
    """The runs of which something lies in earlier/, oldest first."""
    folder = root / "earlier"
    names = [path.name for path in folder.iterdir() if path.is_dir()] if folder.is_dir() else []
    return sorted((name for name in names if moment_of(name)), key=moment_of)


def versions(root: Path) -> Iterator[Version]:
    """Everything in earlier/, oldest first."""
    for run in runs_with_earlier(root):
        yield from _versions_of(root, run)


def _versions_of(root: Path, run: str) -> Iterator[Version]:
    when = moment_of(run)
    for row in read_reasons(root, run):
        file = root / "earlier" / run / "data" / row.path
        if is_plain_file(file):
            yield Version(run, row.path, row.why, when, row.sha256, row.bytes, file, row.mended)


class StateThen:
    """What stood in a depot's data/ at a moment (as receipts write it), found by undoing the runs since, the latest first."""

    def __init__(self, root: Path, moment: str) -> None:
        self._root = root
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE state (path TEXT PRIMARY KEY, sha256 TEXT) WITHOUT ROWID;"
            "CREATE TABLE contents (sha256 TEXT, lies TEXT, PRIMARY KEY (sha256, lies)) WITHOUT ROWID; BEGIN;"
        )
        for path, digest in bag.payload(root / bag.MANIFEST):
            self._set(path, digest)
            self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (digest, f"data/{path}"))
        for version in versions(root):
            self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (version.sha256, version.lies))
        runs = sorted((path.stem for path in (root / "runs").glob("*.csv") if moment_of(path.stem)), key=moment_of)
        for run in reversed(runs):
            if moment_of(run) > moment:
                self._undo(run)

    def _undo(self, run: str) -> None:
        mended = set()
        for row in read_run(self._root, run):
            if row.what == "mend":  # what took the place of a damaged or missing file is what stood there
                mended.add(row.path)
            elif row.what in ("put", "move"):
                self._db.execute("DELETE FROM state WHERE path = ?", (row.path,))
        for row in read_run(self._root, run):
            if row.what == "move" and row.was is not None:
                self._set(row.was, row.sha256)
            elif row.what == "remove":
                self._set(row.path, row.sha256)
        for reason in read_reasons(self._root, run):
            if reason.path not in mended:
                self._set(reason.path, reason.sha256)

    def _set(self, path: str, sha256: str) -> None:
        self._db.execute("INSERT OR REPLACE INTO state VALUES (?, ?)", (path, sha256))

    def files(self) -> Iterator[tuple[Inside, str]]:
        """(path, digest), in order of path."""
        yield from self._db.cursor().execute("SELECT path, sha256 FROM state ORDER BY path")

    def contents(self) -> Iterator[tuple[str, Inside]]:
        """(digest, where such a content lies, seen from the depot), of all that lies there, earlier versions too."""
        yield from self._db.cursor().execute("SELECT sha256, lies FROM contents")


def purge(
    library: Library, depot: Depot, due: Sequence[Version], within: Within, *, also_unknown: bool = False
) -> tuple[list[Version], list[Version]]:
    """Delete earlier versions for good; returns what was deleted, and what had to stay.

    The rule for giving up a copy is asked for each; one that was damaged is no copy of anything. With `also_unknown` what nobody
    here has ever had goes, too: a person has said so. The caller holds the depot.
    """
    erasing = Erasing(library, within)
    number = number_in(library, depot.id)
    library.db.executemany(
        "INSERT OR REPLACE INTO temp.leaving (depot, path, sha256, bytes, why) VALUES (?, ?, ?, ?, '')",
        ((number, one.lies, one.sha256, one.bytes) for one in due if not one.mended),
    )
    erasing.weigh(for_good=not also_unknown)
    staying = {row["path"] for row in erasing.staying()}
    gone = [one for one in due if one.lies not in staying]
    if gone:
        going = [f"{one.run}/data/{one.path}" for one in gone]
        write_atomically(depot.root / _PURGING, json.dumps(going).encode())
        finish_purge(depot, library.name)
    return gone, [one for one in due if one.lies in staying]


def set_aside_before(depot: Depot, moment: str) -> list[Version]:
    """What runs up to a moment (a day, or as receipts write it) have set aside; a day alone is its first moment."""
    return [version for version in versions(depot.root) if version.when <= moment]


def expired(depot: Depot, clock: Clock) -> list[Version]:
    """What was set aside longer ago than the depot's own terms keep it."""
    days = depot.identity.terms.days_kept
    if days is None:
        return []
    return [one for one in versions(depot.root) if clock.kept_for(seconds(one.when)) >= days * DAY]


def old_ledgers(depot: Depot, clock: Clock) -> list[Version]:
    """Former states of the ledger, but those of the last 30 days and the last of each month.

    Each is as large as the whole ledger, and every run that brings something new sets one aside.
    """
    if not clock.may_delete:
        return []
    runs = [
        run for run in runs_with_earlier(depot.root) if is_plain_file(depot.root / "earlier" / run / "data" / LEDGER)
    ]
    of_month = {moment_of(run)[:7]: run for run in runs}
    going = [
        run
        for run in runs
        if run not in of_month.values() and clock.kept_for(seconds(moment_of(run))) > _LEDGERS_KEPT * DAY
    ]
    return [one for run in going for one in _versions_of(depot.root, run) if one.path == LEDGER]


def finish_purge(depot: Depot, library_name: str) -> None:
    """Delete what a purge has written down to be deleted, also where that was interrupted."""
    begun = depot.root / _PURGING
    if not is_plain_file(begun):
        return
    root, folders = Root(depot.root), set()
    for told in _written_down(begun):
        run, _, path = told.partition("/")
        if moment_of(run) and path.startswith("data/"):
            with suppress(FileNotFoundError, NotADirectoryError):
                os.unlink(root.path(Inside(f"earlier/{told}")))
            folders.add(run)
    for run in folders:
        _tidy(depot.root / "earlier" / run)
    refresh_tags(depot, library_name, oxum=bag.read_oxum(depot.root))
    begun.unlink()
    flush_folder(depot.root)


def _written_down(begun: Path) -> list[Inside]:
    """The list of a purge; nothing of one that is damaged: then nothing more is deleted by it."""
    with suppress(ValueError, UnicodeDecodeError):
        told = json.loads(begun.read_bytes())
        if isinstance(told, list):
            return [name for one in told if (name := inside_or_none(one)) is not None]
    return []


def _tidy(run: Path) -> None:
    """Remove the folders that a purge has emptied, and the run's list once nothing of it is left."""
    for where, _, _ in os.walk(run / "data", topdown=False):
        with suppress(OSError):
            os.rmdir(where)
    if not (run / "data").exists():
        shutil.rmtree(run, ignore_errors=True)


def write_purge_receipt(library: Library, depot: Depot, gone: Sequence[Version], started: str) -> Receipt:
    """Account for what was deleted, each file by name."""
    amounts = [Amount(0, 1, version.bytes) for version in gone]
    number = next_number(library.receipts)
    left_out = [
        LeftOut(f"{depot.name}: {version.path}", f"deleted; set aside on {version.when[:10]}: {version.why}", amount)
        for version, amount in zip(gone, amounts, strict=True)
    ]
    about = {"library": library.name, "depots": depot.name}
    receipt = Receipt(number, "purge", started, stamp(now_utc()), about, total(amounts), [], left_out, [])
    write_receipt(library.receipts, receipt)
    return receipt
