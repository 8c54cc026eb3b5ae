"""Thumbnails: made once of each content, by two processes, and kept in looking/thumbnails.sqlite; they are not backed up."""

import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from bramblemoor.frames.showing import as_jpeg, shown
from bramblemoor.library.catalogue import shown_by, versions_of
from bramblemoor.library.home import Library
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions

LONGEST = 320
_QUALITY, _LOWER = 72, 50
_MOST_BYTES = 22_000  # of one; what is larger is written once more, coarser
_AT_ONCE = 24
_SCHEMA = """
    CREATE TABLE IF NOT EXISTS thumbnails (
        sha256 TEXT PRIMARY KEY, width INTEGER NOT NULL, height INTEGER NOT NULL,
        jpeg BLOB NOT NULL                      -- empty: nothing can be shown
    ) WITHOUT ROWID;
"""


@dataclass(frozen=True)
class Thumbnail:
    width: int
    height: int
    jpeg: bytes


class Thumbnails:
    """The store of a library's thumbnails. Where the library cannot be written, they are kept in memory."""

    def __init__(self, library: Library) -> None:
        self._library = library
        place: Path | str = ":memory:"
        if not library.read_only:
            folder = library.root / "looking"
            folder.mkdir(exist_ok=True)
            place = folder / "thumbnails.sqlite"
        self._db = _opened(place)

    def get(self, sha256: str) -> Thumbnail | None:
        """One that was made; None where there is none, or nothing can be shown."""
        row = self._db.execute("SELECT width, height, jpeg FROM thumbnails WHERE sha256 = ?", (sha256,)).fetchone()
        return Thumbnail(*row) if row is not None and row[0] else None

    def jpeg(self, sha256: str) -> bytes:
        """The picture of one; empty where there is none."""
        found = self.get(sha256)
        return found.jpeg if found is not None else b""

    def ensure(self, frames: Iterable[int], progress: Progress, whole: int, *, versions: bool = False) -> None:
        """Make those of some frames that are lacking; with `versions`, also of what was made of them."""
        done = 0
        with Helpers(for_much=whole > 4 * _AT_ONCE) as helping:
            jobs = portions(self._lacking(frames, versions=versions), _AT_ONCE)
            for made in helping.map(partial(_make, str(self._library.root)), jobs):
                with self._db:
                    self._db.executemany("INSERT OR REPLACE INTO thumbnails VALUES (?, ?, ?, ?)", made)
                done += len(made)
                progress(Stage("making thumbnails", "frames"), done, whole)

    def _lacking(self, frames: Iterable[int], *, versions: bool) -> Iterator[tuple[str, str]]:
        asked: set[str] = set()
        db = self._library.db
        for frame in frames:
            for one in versions_of(db, frame) if versions else [shown_by(db, frame)]:
                known = self._db.execute("SELECT 1 FROM thumbnails WHERE sha256 = ?", (one.sha256,)).fetchone()
                if known is None and one.sha256 not in asked:
                    asked.add(one.sha256)
                    yield one.path, one.sha256

    def close(self) -> None:
        self._db.close()


def _opened(place: Path | str) -> sqlite3.Connection:
    """The store; one that is damaged is begun anew, as all in it can be made again."""
    db = sqlite3.connect(place)
    try:
        db.executescript(_SCHEMA)
        return db
    except sqlite3.DatabaseError:
        db.close()
        Path(place).unlink(missing_ok=True)
        db = sqlite3.connect(place)
        db.executescript(_SCHEMA)
        return db


def _make(root: str, jobs: list[tuple[str, str]]) -> list[tuple[str, int, int, bytes]]:
    return [(sha256, *thumbnail_of(Path(root, path))) for path, sha256 in jobs]


def thumbnail_of(path: Path) -> tuple[int, int, bytes]:
    """Width, height and JPEG of a thumbnail; 0, 0 and nothing where nothing can be shown."""
    image = shown(path, LONGEST)
    if image is None:
        return 0, 0, b""
    jpeg = as_jpeg(image, _QUALITY)
    if len(jpeg) > _MOST_BYTES:
        jpeg = as_jpeg(image, _LOWER)
    return image.width, image.height, jpeg
