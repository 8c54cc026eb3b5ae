"""What a run is about to do to one file of a depot, as its journal tells it and its list keeps it."""

from typing import Literal

import msgspec

What = Literal["put", "move", "remove"]


class Intent(msgspec.Struct, frozen=True, gc=False):
    """A change of data/`path`: a staged file is put there, the file at `was` moves there, or it is removed.

    `why` says what happens to the file that is there now, if any: it moves to earlier/. `mends` says that it is damaged.
    """

    path: str
    sha256: str
    bytes: int
    read_at: str = ""
    grade: str = ""
    why: str = ""
    was: str = ""
    what: What = "put"
    mends: bool = False
