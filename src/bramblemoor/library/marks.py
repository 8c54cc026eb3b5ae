"""Marks files: what somebody marked, rated and wrote while looking through a page, to be taken in by one command.

JSON; docs/formats.md describes it. A page in a browser writes one, and so may any other program.
"""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.library.home import Library
from bramblemoor.library.sayings import MARK, UNMARK, Word

_MOST_BYTES = 64 << 20


class Mark(msgspec.Struct, frozen=True):
    """What is said of one frame; null or absent: nothing. `path` is the frame's in the library."""

    path: str
    marked: bool | None = None
    rating: int | None = None
    title: str | None = None
    caption: str | None = None
    keywords: list[str] = []

    def words(self) -> list[Word]:
        found: list[Word] = []
        if self.marked is False:
            found.append(UNMARK)
        if self.rating is not None:
            found.append(Word("rating", str(self.rating) if self.rating else ""))
        if self.marked:
            found.append(MARK)
        found += [Word("title", self.title.strip())] if self.title is not None else []
        found += [Word("caption", self.caption.strip())] if self.caption is not None else []
        return found + [Word("keyword", word.strip()) for word in self.keywords if word.strip()]


class Marks(msgspec.Struct, frozen=True):
    """A marks file: of which library (its id), and what is said of frames."""

    marks: list[Mark]
    library: str = ""


def read_marks(library: Library, file: Path) -> tuple[dict[int, Sequence[Word]], list[str]]:
    """What is said of each frame, by its number; and the paths that no frame here has.

    Raises NotPossible for a file that is no such, WrongUse for one of another library.
    """
    try:
        if file.stat().st_size > _MOST_BYTES:
            raise NotPossible(f"{file} is too large for a marks file.", "Name the file that the page has saved.")
        told = msgspec.json.decode(file.read_bytes(), type=Marks)
    except (OSError, msgspec.DecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise NotPossible(
            f"{file} cannot be read as marks ({why}).", "Name the file that the page has saved."
        ) from error
    if told.library not in ("", library.settings.library.id):
        raise WrongUse(
            f"{file} was made by a page of another library.", "Use it there; nothing was changed in this one."
        )
    found: dict[int, Sequence[Word]] = {}
    unknown = []
    for mark in told.marks:
        if mark.rating is not None and not 0 <= mark.rating <= 5:
            raise NotPossible(
                f"{file} rates {mark.path} with {mark.rating}.", "Ratings are 0 to 5; nothing was changed."
            )
        row = library.db.execute("SELECT frame FROM files WHERE path = ? AND frame NOT NULL", (mark.path,)).fetchone()
        if row is None:
            unknown.append(mark.path)
        elif words := mark.words():
            found[row["frame"]] = words
    return found, unknown
