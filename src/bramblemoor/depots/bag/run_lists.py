"""What a run did at a depot, as files there: runs/RUN.csv, and earlier/RUN/why.csv."""

import csv
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, Self

from bramblemoor.disk.durable import digest_of, replacing
from bramblemoor.disk.told import Inside, inside_or_none, is_plain_file

if TYPE_CHECKING:
    from bramblemoor.depots.bag.placing import Intent

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


def write_run(root: Path, run: str, placed: "Iterable[Intent]", earlier: Callable[[str], Path]) -> list[str]:
    """Write the lists of a run; returns the paths of the tag files that they are."""
    written = [f"runs/{run}.csv"]
    _write(
        root / written[0],
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
    if (root / "earlier" / run).is_dir():
        written.append(f"earlier/{run}/why.csv")
        _write(root / written[1], WHY_COLUMNS, _reasons(read_run(root, run), earlier))
    return written


def write_reasons(root: Path, run: str) -> None:
    """Write earlier/RUN/why.csv anew, from what lies there and what the run's own list says of it."""
    told = {row.path: row for row in read_run(root, run)}
    top = root / "earlier" / run / "data"

    def rows() -> Iterator[tuple[object, ...]]:
        for file in sorted(path for path in top.rglob("*") if is_plain_file(path)):
            path = Inside(file.relative_to(top).as_posix())
            row = told.get(path)
            why = (row.why or "replaced by a newer version") if row is not None else "not known any more"
            when, what = (row.when, row.what) if row is not None else ("", "")
            yield path, why, when, digest_of(file), file.stat().st_size, what

    _write(root / "earlier" / run / "why.csv", WHY_COLUMNS, rows())


def _reasons(placed: "Iterable[Done]", earlier: Callable[[str], Path]) -> Iterator[tuple[object, ...]]:
    """One row a file that was set aside; where a file was moved and then replaced, the replacing is the reason."""
    db = sqlite3.connect("", isolation_level=None)
    db.executescript("CREATE TABLE reasons (path TEXT PRIMARY KEY, why TEXT, at TEXT, what TEXT) WITHOUT ROWID; BEGIN;")
    for row in placed:
        told = (row.path, row.why or "replaced by a newer version", row.when, row.what)
        db.execute("INSERT OR REPLACE INTO reasons VALUES (?, ?, ?, ?)", told)
    for path, why, at, what in db.execute("SELECT * FROM reasons ORDER BY path"):
        former = earlier(path)
        if is_plain_file(former):
            # What is set aside is read once, so that it can be told from rot later.
            yield path, why, at, digest_of(former), former.stat().st_size, what


def _write(path: Path, columns: tuple[str, ...], rows: Iterator[tuple[object, ...]]) -> None:
    with replacing(path) as file:
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


def read_run(root: Path, run: str) -> Iterator[Done]:
    """What a run did at a depot. Rows that cannot be are passed over: the tag manifest finds the damage."""
    for row in _rows(root / "runs" / f"{run}.csv"):
        path, size = inside_or_none(row.get("path")), _number(row.get("bytes"))
        if path is not None and size is not None:
            what, why = row.get("what") or "", row.get("why") or ""
            what = "mend" if what == "put" and why in _MENDED_BEFORE else what
            yield Done(
                what, path, row.get("sha256") or "", size, row.get("when") or "", inside_or_none(row.get("was")), why
            )


def read_reasons(root: Path, run: str) -> Iterator[Reason]:
    """Why files lie in earlier/RUN. Rows that cannot be are passed over, as above."""
    for row in _rows(root / "earlier" / run / "why.csv"):
        path, size = inside_or_none(row.get("path")), _number(row.get("bytes"))
        if path is not None and size is not None:
            why = row.get("why") or ""
            mended = row.get("what") == "mend" or (row.get("what") is None and why in _MENDED_BEFORE)
            yield Reason(path, why, row.get("sha256") or "", size, mended)


def _number(told: str | None) -> int | None:
    return int(told) if told is not None and told.isascii() and told.isdecimal() and len(told) < 19 else None


def _rows(path: Path) -> Iterator[dict[str, str | None]]:
    """The rows of a list, whatever was done to it; nothing where there is none."""
    if not is_plain_file(path):
        return
    with path.open(encoding="utf-8", errors="replace", newline="") as file:
        rows = csv.DictReader(_without_nul(file))
        try:
            for row in rows:
                yield {str(key): value for key, value in row.items() if key is not None and not isinstance(value, list)}
        except csv.Error:
            return  # not a list any more from here on


def _without_nul(lines: Iterable[str]) -> Iterator[str]:
    for line in lines:
        yield line.replace("\0", "\ufffd")
