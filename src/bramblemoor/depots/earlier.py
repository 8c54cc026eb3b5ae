"""Earlier versions at a depot: what lies in earlier/, what stood where at a date, and purging."""

import re
import shutil
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.depot import Depot
from bramblemoor.depots.journal import refresh_tags
from bramblemoor.depots.run_lists import read_rows
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import flush_folder, write_atomically
from bramblemoor.library.home import Library
from bramblemoor.library.ledger import FILE as LEDGER
from bramblemoor.library.receipts import Amount, LeftOut, Receipt, next_number, stamp, total, write_receipt

_PURGING = "purging.txt"
"""Lists what is being deleted of earlier/: whole runs, or RUN/data/PATH."""
_LEDGERS_KEPT = 30  # days
_RUN = re.compile(r"\d{4,}-(\d{8}T\d{6}Z)(?:-[0-9a-f]{4})?")


@dataclass(frozen=True)
class Version:
    """A file that a run set aside: where it was in data/, why, when the run began, and where it lies now."""

    path: str
    why: str
    when: str
    sha256: str
    bytes: int
    file: Path


def moment_of(run: str) -> str:
    """When a run began, as receipts write moments; "" for a name that is no run's."""
    match = _RUN.fullmatch(run)
    return datetime.strptime(match[1], "%Y%m%dT%H%M%SZ").strftime("%Y-%m-%dT%H:%M:%SZ") if match else ""


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
    for row in read_rows(root / "earlier" / run / "why.csv"):
        file = root / "earlier" / run / "data" / row["path"]
        if file.is_file():
            yield Version(row["path"], row["why"], when, row["sha256"], int(row["bytes"]), file)


class StateThen:
    """What stood in a depot's data/ at a moment (as receipts write it), found by undoing the runs since, the latest first."""

    def __init__(self, root: Path, moment: str) -> None:
        self._root = root
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE state (path TEXT PRIMARY KEY, sha256 TEXT) WITHOUT ROWID;"
            "CREATE TABLE contents (sha256 TEXT PRIMARY KEY, lies TEXT) WITHOUT ROWID; BEGIN;"
        )
        for path, digest in bag.read_manifest(root / bag.MANIFEST):
            self._set(path.removeprefix("data/"), digest)
            self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (digest, path))
        for version in versions(root):
            lies = version.file.relative_to(root).as_posix()
            self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (version.sha256, lies))
        runs = sorted((path.stem for path in (root / "runs").glob("*.csv") if moment_of(path.stem)), key=moment_of)
        for run in reversed(runs):
            if moment_of(run) > moment:
                self._undo(run)

    def _undo(self, run: str) -> None:
        rows = self._root / "runs" / f"{run}.csv"
        mended = set()
        for row in read_rows(rows):
            if row["why"].startswith("it was "):  # damaged or missing: what took its place is what stood there
                mended.add(row["path"])
            elif row["what"] in ("put", "move"):
                self._db.execute("DELETE FROM state WHERE path = ?", (row["path"],))
        for row in read_rows(rows):
            if row["what"] == "move":
                self._set(row["was"], row["sha256"])
            elif row["what"] == "remove":
                self._set(row["path"], row["sha256"])
        for row in read_rows(self._root / "earlier" / run / "why.csv"):
            if row["path"] not in mended:
                self._set(row["path"], row["sha256"])

    def _set(self, path: str, sha256: str) -> None:
        self._db.execute("INSERT OR REPLACE INTO state VALUES (?, ?)", (path, sha256))

    def files(self) -> Iterator[tuple[str, str, Path | None]]:
        """(path, digest, where the content lies; None where it was purged), in order of path."""
        rows = self._db.cursor().execute(
            "SELECT path, state.sha256, lies FROM state LEFT JOIN contents ON contents.sha256 = state.sha256 ORDER BY path"
        )
        for path, sha256, lies in rows:
            yield path, sha256, self._root / lies if lies else None


def purge(depot: Depot, library_name: str, before: str) -> list[Version]:
    """Delete what runs before a moment have set aside; returns what was deleted. The caller has asked, and holds the depot."""
    runs = [run for run in runs_with_earlier(depot.root) if moment_of(run) < before]
    gone = [version for version in versions(depot.root) if version.when < before]
    _delete(depot, library_name, runs)
    return gone


def thin_ledgers(depot: Depot, library_name: str) -> list[Version]:
    """Delete former states of the ledger, but those of the last 30 days and the last of each month; returns what was deleted.

    Each is as large as the whole ledger, and every run that brings something new sets one aside. The caller holds the depot.
    """
    recent = stamp(now_utc() - timedelta(days=_LEDGERS_KEPT))
    runs = [run for run in runs_with_earlier(depot.root) if (depot.root / "earlier" / run / "data" / LEDGER).is_file()]
    of_month = {moment_of(run)[:7]: run for run in runs}
    going = [run for run in runs if moment_of(run) < recent and run not in of_month.values()]
    gone = [one for run in going for one in _versions_of(depot.root, run) if one.path == LEDGER]
    _delete(depot, library_name, [f"{run}/data/{LEDGER}" for run in going])
    return gone


def _delete(depot: Depot, library_name: str, going: Sequence[str]) -> None:
    if going:
        write_atomically(depot.root / _PURGING, "\n".join(going).encode())
        finish_purge(depot, library_name)


def finish_purge(depot: Depot, library_name: str) -> None:
    """Delete what a purge has written down to be deleted; one that was killed is gone on with."""
    begun = depot.root / _PURGING
    if not begun.is_file():
        return
    for line in begun.read_text().split("\n"):
        run, slash, path = line.partition("/")
        if moment_of(run) and (depot.root / "earlier" / run).is_dir():
            if slash:
                (depot.root / "earlier" / run / path).unlink(missing_ok=True)
            else:
                shutil.rmtree(depot.root / "earlier" / run)
    refresh_tags(depot, library_name, oxum=bag.read_oxum(depot.root))
    begun.unlink()
    flush_folder(depot.root)


def purge_expired(depot: Depot, library_name: str) -> list[Version]:
    """What the depot's own terms say: delete what was set aside longer ago than it keeps things."""
    days = depot.identity.terms.days_kept
    if days is None:
        return []
    moment = now_utc() - timedelta(days=days) + timedelta(seconds=1 if days == 0 else 0)
    return purge(depot, library_name, stamp(moment))


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
