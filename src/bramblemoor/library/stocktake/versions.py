"""Edited versions that somebody saved beside a picture, as x_retouched.jpg and x-Edit.tif: they are of its frame.

Two things must say so: the name begins as the picture's does, with a word behind it, and both show the same. What shows something
else, or cannot be shown, is a frame of its own.
"""

import re
import sqlite3
from collections.abc import Iterator

from bramblemoor.frames.kinds import stem_of
from bramblemoor.frames.likeness import fingerprint
from bramblemoor.frames.showing import as_jpeg, shown
from bramblemoor.library.catalogue import drop_frame, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding

_PARTS = " -_.~(+"
_WORD = re.compile(r"[ \-_.~(+]+[^\W\d_].*")
_MOST_LETTERS = 40  # behind the picture's own name
_NEAR_BITS = 10  # of 64: what a change of tones, or a crop of a few hundredths, leaves
_LONGEST = 480
_PICTURES = (
    "SELECT f.id, f.frame, f.path FROM files f JOIN frames r ON r.id = f.frame WHERE f.role = 'original' AND r.kind = 'photo'"
    " AND f.path >= ? AND f.path < ? AND f.frame != ?"
)


def may_be_version(name: str) -> bool:
    """Whether a name may be that of an edited version: a word stands behind what may be a picture's own."""
    return any(_cuts(stem_of(name)))


def _cuts(stem: str) -> Iterator[int]:
    """Where a picture's own name may end, the longest first."""
    for cut in range(len(stem) - 1, max(0, len(stem) - _MOST_LETTERS), -1):
        if stem[cut] in _PARTS and stem[cut - 1] not in _PARTS and _WORD.fullmatch(stem[cut:]):
            yield cut


def join_versions(library: Library, frames: list[int]) -> Iterator[Finding]:
    """Bring new frames that are edited versions of others to these, as renditions; inside a transaction. Yields each of them."""
    db = library.db
    for frame in frames:
        row = db.execute(
            "SELECT f.id, f.path FROM files f JOIN frames r ON r.id = f.frame WHERE f.frame = ? AND f.role = 'original'"
            " AND r.kind = 'photo'",
            (frame,),
        ).fetchone()
        home = _picture_of(library, frame, row["path"]) if row is not None else None
        if home is None or is_bound(db, home["frame"]):
            continue
        db.execute("UPDATE files SET frame = ?, role = 'rendition' WHERE id = ?", (home["frame"], row["id"]))
        db.execute("UPDATE files SET frame = ? WHERE frame = ?", (home["frame"], frame))
        drop_frame(db, frame)
        yield Finding(row["path"], f"it is an edited version of {home['path'].rpartition('/')[2]}, and is kept with it")


def _picture_of(library: Library, frame: int, path: str) -> sqlite3.Row | None:
    """The original that a picture is an edited version of: the one whose name is the longest beginning of its own."""
    folder, _, name = path.rpartition("/")
    stem = stem_of(name)
    mine: int | None = None
    for cut in _cuts(stem):
        base = f"{folder}/{stem[:cut]}"
        found = [
            row for row in library.db.execute(_PICTURES, (f"{base}.", f"{base}/", frame))
            if stem_of(row["path"]) == base
        ]  # fmt: skip
        if len(found) != 1:
            continue
        mine = _print(library, path) if mine is None else mine
        theirs = _print(library, found[0]["path"])
        if mine is None or theirs is None or (mine ^ theirs).bit_count() > _NEAR_BITS:
            return None
        return found[0]  # type: ignore[no-any-return]
    return None


def _print(library: Library, path: str) -> int | None:
    image = shown(library.root / path, _LONGEST)
    return None if image is None else fingerprint(as_jpeg(image, 90))
