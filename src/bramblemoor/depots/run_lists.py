"""What a run did at a depot, as files there: runs/RUN.csv, and earlier/RUN/why.csv."""

import csv
import sqlite3
from collections.abc import Callable, Iterable, Iterator
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, Self

from bramblemoor.library.durable import digest_of, replacing

if TYPE_CHECKING:
    from bramblemoor.depots.placing import Intent

RUN_COLUMNS = ("what", "path", "sha256", "bytes", "when", "was", "why")
WHY_COLUMNS = ("path", "why", "when", "sha256", "bytes")


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
            (intent.what, intent.path, intent.sha256, intent.bytes, intent.read_at, intent.was, intent.why)
            for intent in placed
        ),
    )
    if (root / "earlier" / run).is_dir():
        written.append(f"earlier/{run}/why.csv")
        _write(root / written[1], WHY_COLUMNS, _reasons(read_rows(root / written[0]), earlier))
    return written


def _reasons(placed: Iterable[dict[str, str]], earlier: Callable[[str], Path]) -> Iterator[tuple[object, ...]]:
    """One row a file that was set aside; where a file was moved and then replaced, the replacing is the reason."""
    db = sqlite3.connect("", isolation_level=None)
    db.executescript("CREATE TABLE reasons (path TEXT PRIMARY KEY, why TEXT, at TEXT) WITHOUT ROWID; BEGIN;")
    for row in placed:
        told = (row["path"], row["why"] or "replaced by a newer version", row["when"])
        db.execute("INSERT OR REPLACE INTO reasons VALUES (?, ?, ?)", told)
    for path, why, at in db.execute("SELECT * FROM reasons ORDER BY path"):
        former = earlier(path)
        if former.is_file():
            # What is set aside is read once, so that it can be told from rot later.
            yield path, why, at, digest_of(former), former.stat().st_size


def _write(path: Path, columns: tuple[str, ...], rows: Iterator[tuple[object, ...]]) -> None:
    with replacing(path) as file:
        text = TextIOWrapper(file, encoding="utf-8", newline="")
        writer = csv.writer(text)
        writer.writerow(columns)
        writer.writerows(rows)
        text.detach()


def read_rows(path: Path) -> Iterator[dict[str, str]]:
    """The rows of such a list; nothing where there is none."""
    if path.is_file():
        with path.open(encoding="utf-8", newline="") as file:
            yield from csv.DictReader(file)
