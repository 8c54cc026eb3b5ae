"""What is copied, one by one, and what came of it."""

import msgspec


class Item(msgspec.Struct, frozen=True, gc=False):
    """A file to copy: its number in the ledger, its path in library and depot, and what is expected of it."""

    file: int
    path: str
    bytes: int
    sha256: str
    mtime_ns: int
    frames: int = 0  # 1 for the original of a frame, which stands for it in counts
    why: str = ""
    mends: bool = False  # whether it takes the place of one that is damaged or missing
    held: bool = False  # whether some depot has a version of it


class Copied(msgspec.Struct, frozen=True, gc=False):
    """A file that was put in place, or (`trouble`) was not, and why."""

    item: Item
    read_at: str = ""
    grade: str = ""
    trouble: str = ""
