"""Earlier versions at a depot: what lies in earlier/, and what stood where at a date."""

import re
import sqlite3
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.run_lists import earlier, read_reasons, read_run
from bramblemoor.depots.kinds.interface import Store
from bramblemoor.disk.told import Inside

_RUN = re.compile(r"\d{4,}-(\d{8}T\d{6}Z)(?:-[0-9a-f]{4})?")


@dataclass(frozen=True)
class Version:
    """A file that a run set aside: where it was in data/, why, and when the run began.

    `mended` says that it was damaged, and a good one took its place.
    """

    run: str
    path: Inside
    why: str
    when: str
    sha256: str
    bytes: int
    mended: bool = False

    @property
    def lies(self) -> Inside:
        """Where it lies at the depot."""
        return earlier(self.run, self.path)


def moment_of(run: str) -> str:
    """When a run began, as receipts write moments; "" for a name that is no run's."""
    match = _RUN.fullmatch(run)
    with suppress(ValueError):
        return datetime.strptime(match[1], "%Y%m%dT%H%M%SZ").strftime("%Y-%m-%dT%H:%M:%SZ") if match else ""
    return ""


def runs_with_earlier(store: Store) -> list[str]:
    """The runs of which something lies in earlier/, oldest first."""
    return sorted((name for name in store.folders("earlier") if moment_of(name)), key=moment_of)


def versions(store: Store) -> Iterator[Version]:
    """Everything in earlier/, oldest first."""
    for run in runs_with_earlier(store):
        yield from versions_of(store, run)


def versions_of(store: Store, run: str) -> Iterator[Version]:
    """What one run has set aside."""
    when = moment_of(run)
    for row in read_reasons(store, run):
        if store.stat(earlier(run, row.path)) is not None:
            yield Version(run, row.path, row.why, when, row.sha256, row.bytes, row.mended)


class StateThen:
    """What stood in a depot's data/ at a moment (as receipts write it), found by undoing the runs since, the latest first."""

    def __init__(self, store: Store, moment: str) -> None:
        self._store = store
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.executescript(
            "CREATE TABLE state (path TEXT PRIMARY KEY, sha256 TEXT) WITHOUT ROWID;"
            "CREATE TABLE contents (sha256 TEXT, lies TEXT, PRIMARY KEY (sha256, lies)) WITHOUT ROWID; BEGIN;"
        )
        for path, digest in bag.payload(store):
            self._set(path, digest)
            self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (digest, f"data/{path}"))
        for version in versions(store):
            self._db.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (version.sha256, version.lies))
        lists = (name.removesuffix(".csv") for name in store.names("runs") if name.endswith(".csv"))
        runs = sorted(filter(moment_of, lists), key=moment_of)
        for run in reversed(runs):
            if moment_of(run) > moment:
                self._undo(run)

    def _undo(self, run: str) -> None:
        mended = set()
        for row in read_run(self._store, run):
            if row.what == "mend":  # what took the place of a damaged or missing file is what stood there
                mended.add(row.path)
            elif row.what in ("put", "move"):
                self._db.execute("DELETE FROM state WHERE path = ?", (row.path,))
        for row in read_run(self._store, run):
            if row.what == "move" and row.was is not None:
                self._set(row.was, row.sha256)
            elif row.what == "remove":
                self._set(row.path, row.sha256)
        for reason in read_reasons(self._store, run):
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
