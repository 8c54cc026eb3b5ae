"""What a run did at a depot, as files there: runs/RUN.csv, and earlier/RUN/why.csv."""

import csv
import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from io import BufferedReader, TextIOWrapper
from typing import Self

from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.kinds.interface import PAYLOAD, Store
from bramblemoor.disk.told import Inside, inside_or_none


def earlier(run: str, path: str) -> Inside:
    """Where what lay at data/`path` is kept once a run has replaced or removed it."""
    return Inside(f"earlier/{run}/{PAYLOAD}/{path}")


RUN_COLUMNS = ("what", "path", "sha256", "bytes", "when", "was", "why")
WHY_COLUMNS = ("path", "why", "when", "sha256", "bytes", "what")
_MENDED_BEFORE = ("it was damaged", "it was missing")  # how lists said it that have no better word for it


class Sums:
    """Changes of a manifest by path: a digest, or None for a path that goes. Kept outside memory, read in order."""

    def __init__(self) -> None:
        self._db = sqlite3.connect("", isolation_level=None)
        self._db.execute("CREATE TABLE sums (path TEXT PRIMARY KEY, sha256 TEXT) WITHOUT ROWID")
        self._db.execute("BEGIN")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._db.close()

    def set(self, path: str, sha256: str | None) -> None:
        self._db.execute("INSERT OR REPLACE INTO sums VALUES (?, ?)", (path, sha256))

    def update(self, changes: Iterable[tuple[str, str | None]]) -> None:
        self._db.executemany("INSERT OR REPLACE INTO sums VALUES (?, ?)", changes)

    def __contains__(self, path: str) -> bool:
        return self._db.execute("SELECT 1 FROM sums WHERE path = ?", (path,)).fetchone() is not None

    def items(self) -> Iterator[tuple[str, str]]:
        """The paths with digests, in order."""
        yield from self._db.cursor().execute("SELECT path, sha256 FROM sums WHERE sha256 IS NOT NULL ORDER BY path")


def write_run(store: Store, run: str, placed: Iterable[Intent]) -> list[str]:
    """Write the lists of a run; returns the paths of the tag files that they are."""
    written = [f"runs/{run}.csv"]
    _write(
        store,
        written[0],
        RUN_COLUMNS,
        (
            (
                "mend" if intent.mends else intent.what,
                intent.path,
                intent.sha256,
                intent.bytes,
                intent.read_at,
                intent.was,
                intent.why,
            )
            for intent in placed
        ),
    )
    if run in store.folders("earlier"):
        written.append(f"earlier/{run}/why.csv")
        _write(store, written[1], WHY_COLUMNS, _reasons(store, run))
    return written


def write_reasons(store: Store, run: str) -> None:
    """Write earlier/RUN/why.csv anew, from what lies there and what the run's own list says of it."""
    told = {row.path: row for row in read_run(store, run)}
    top = earlier(run, "")

    def rows() -> Iterator[tuple[object, ...]]:
        for lies in sorted(store.listed(top.rstrip("/"))):
            former, path = store.stat(lies), Inside(lies.removeprefix(top))
            if former is None:
                continue
            row = told.get(path)
            why = (row.why or "replaced by a newer version") if row is not None else "not known any more"
            when, what = (row.when, row.what) if row is not None else ("", "")
            yield path, why, when, store.digest(lies), former.bytes, what

    _write(store, f"earlier/{run}/why.csv", WHY_COLUMNS, rows())


def _reasons(store: Store, run: str) -> Iterator[tuple[object, ...]]:
    """One row a file that was set aside; where a file was moved and then replaced, the replacing is the reason."""
    db = sqlite3.connect("", isolation_level=None)
    db.executescript("CREATE TABLE reasons (path TEXT PRIMARY KEY, why TEXT, at TEXT, what TEXT) WITHOUT ROWID; BEGIN;")
    for row in read_run(store, run):
        told = (row.path, row.why or "replaced by a newer version", row.when, row.what)
        db.execute("INSERT OR REPLACE INTO reasons VALUES (?, ?, ?, ?)", told)
    for path, why, at, what in db.execute("SELECT * FROM reasons ORDER BY path"):
        former = store.stat(earlier(run, path))
        if former is not None:
            # What is set aside is read once, so that it can be told from rot later.
            yield path, why, at, store.digest(former.path), former.bytes, what


def _write(store: Store, path: str, columns: tuple[str, ...], rows: Iterator[tuple[object, ...]]) -> None:
    with store.replacing(path) as file:
        text = TextIOWrapper(file, encoding="utf-8", newline="")
        writer = csv.writer(text)
        writer.writerow(columns)
        writer.writerows(rows)
        text.detach()


@dataclass(frozen=True)
class Done:
    """A row of runs/RUN.csv: `what` was done (put, mend, move, remove) to data/`path`; `was` is where a moved file lay."""

    what: str
    path: Inside
    sha256: str
    bytes: int
    when: str
    was: Inside | None
    why: str


@dataclass(frozen=True)
class Reason:
    """A row of earlier/RUN/why.csv. `mended` says that it was damaged, and a good one took its place."""

    path: Inside
    why: str
    sha256: str
    bytes: int
    mended: bool


def read_run(store: Store, run: str) -> Iterator[Done]:
    """What a run did at a depot. Rows that cannot be are passed over: the tag manifest finds the damage."""
    for row in _rows(store, f"runs/{run}.csv"):
        path, size = inside_or_none(row.get("path")), _number(row.get("bytes"))
        if path is not None and size is not None:
            what, why = row.get("what") or "", row.get("why") or ""
            what = "mend" if what == "put" and why in _MENDED_BEFORE else what
            yield Done(
                what, path, row.get("sha256") or "", size, row.get("when") or "", inside_or_none(row.get("was")), why
            )


def read_reasons(store: Store, run: str) -> Iterator[Reason]:
    """Why files lie in earlier/RUN. Rows that cannot be are passed over, as above."""
    for row in _rows(store, f"earlier/{run}/why.csv"):
        path, size = inside_or_none(row.get("path")), _number(row.get("bytes"))
        if path is not None and size is not None:
            why = row.get("why") or ""
            mended = row.get("what") == "mend" or (row.get("what") is None and why in _MENDED_BEFORE)
            yield Reason(path, why, row.get("sha256") or "", size, mended)


def _number(told: str | None) -> int | None:
    return int(told) if told is not None and told.isascii() and told.isdecimal() and len(told) < 19 else None


def _rows(store: Store, path: str) -> Iterator[dict[str, str | None]]:
    """The rows of a list, whatever was done to it; nothing where there is none."""
    if store.stat(path) is None:
        return
    with TextIOWrapper(BufferedReader(store.open(path)), "utf-8", "replace", newline="") as file:
        rows = csv.DictReader(_without_nul(file))
        try:
            for row in rows:
                yield {str(key): value for key, value in row.items() if key is not None and not isinstance(value, list)}
        except csv.Error:
            return  # not a list any more from here on


def _without_nul(lines: Iterable[str]) -> Iterator[str]:
    for line in lines:
        yield line.replace("\0", "\ufffd")
