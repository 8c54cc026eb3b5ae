"""What an intake is asked for, and what it plans: values that the steps hand on, and that an interrupted run is finished by."""

from collections.abc import Iterator
from typing import Literal

import msgspec

from bramblemoor.library.merging import Joined
from bramblemoor.library.receipts import NOTHING, Amount, Finding, LeftOut


class Wishes(msgspec.Struct, frozen=True):
    """What is asked for. `split` is "", "day", or a gap in seconds; `by_month` files by capture month, names kept.

    `leave` are globs of frames that are not wanted; `again` takes in what was culled here once.
    `merge` says that the source is another library, of which all is wanted as it is known there.
    """

    source: str
    subjects: list[str] = []
    locations: list[str] = []
    date: str = ""
    by_month: bool = False
    split: str = ""
    clocks: list[str] = []
    folders: list[str] = []
    albums: bool = False
    only_new: bool = False
    leave: list[str] = []
    again: bool = False
    device: str = ""
    templates: list[str] = []
    depots: list[str] = []
    merge: bool = False


class PlannedFile(msgspec.Struct, gc=False):
    """A file to take in: where it lies below the source, and where it goes in the library. `sha256` is "" until it is read."""

    source: str
    role: str
    bytes: int
    seen_ns: int
    path: str
    media: str = ""
    width: int = 0
    height: int = 0
    sha256: str = ""
    former_name: str = ""


class PlannedFrame(msgspec.Struct):
    """A frame to take in. `claims` are (field, value, source); `mtime_ns` is when it was taken, as its files get it, and `shown`
    the local clock of that, "" where nobody knows it. `as_told` says that the claims are another ledger's, in the order in which
    they were told, and that a sidecar says no more than they do; `service` and `reference` are where it once came from.
    `joins` is the path of a picture that is here, "" for none: these files come to its frame, and are none of their own.
    """

    folder: str
    read_as: str
    files: list[PlannedFile]
    claims: list[tuple[str, str, str]]
    mtime_ns: int
    shown: str = ""
    album: str = ""
    service: str = ""
    reference: str = ""
    as_told: bool = False
    joins: str = ""

    @property
    def amount(self) -> Amount:
        is_one = not self.joins and any(file.role != "sidecar" for file in self.files)
        return Amount(int(is_one), len(self.files), sum(file.bytes for file in self.files))


class PlannedShoot(msgspec.Struct):
    """A folder that gets frames; `there` is how many it has already, `first` and `last` are names of what comes."""

    folder: str
    frames: int
    bytes: int
    there: int
    first: str
    last: str
    begins: str
    ends: str


class Known(msgspec.Struct, frozen=True):
    """A frame that is in the library already, by its content: what it is called on the card, and here."""

    source: str
    path: str
    amount: Amount


class Hurt(msgspec.Struct, frozen=True):
    """A content that is here, and is missing or damaged (`why`) where it lies: its path here, and where a good one is there."""

    source: str
    path: str
    sha256: str
    why: str


class Plan(msgspec.Struct):
    """All that an intake is going to do; it is kept beside the library until that is done."""

    wishes: Wishes
    device: str
    started: str
    came_in: Amount
    shoots: list[PlannedShoot] = []
    frames: list[PlannedFrame] = []
    known: list[Known] = []
    hurt: list[Hurt] = []
    """Of these, what is to be mended by what lies at the source."""
    twice: list[LeftOut] = []
    drops: list[LeftOut] = []
    """What the user said to leave out."""
    misfires: list[LeftOut] = []
    """Frames in which nothing is to be seen, and why that is thought: they are taken in, and marked."""
    culled: list[LeftOut] = []
    beside: list[LeftOut] = []
    """Files beside a picture that is here, which came there since."""
    left: list[LeftOut] = []
    findings: list[Finding] = []
    seen: list[tuple[str, int, int, str]] = []
    """Of what is not taken in: (path, bytes, mtime in ns, digest) as it lies on the device, to know it by the next time."""
    joined: Joined = Joined()
    """Of a library to merge: what is known there of frames that are here."""

    @property
    def run(self) -> Literal["intake", "merge"]:
        """What the receipt calls it."""
        return "merge" if self.wishes.merge else "intake"

    @property
    def taken(self) -> Amount:
        whole = NOTHING
        for frame in self.frames:
            whole += frame.amount
        return whole

    @property
    def changes_nothing(self) -> bool:
        return not (self.frames or self.hurt or self.joined.frames or self.joined.albums)

    def files(self) -> Iterator[tuple[PlannedFrame, PlannedFile]]:
        for frame in self.frames:
            for file in frame.files:
                yield frame, file
