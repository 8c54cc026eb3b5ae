"""What a run writes about itself: the receipt in the library, and receipt and reading as tag files at the depots."""

import secrets
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import msgspec

from bramblemoor.depots.kinds.interface import Store
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, encode, next_number, stamp

_LARGEST = 1 << 28
Run = Literal[
    "backup",
    "verify",
    "mend",
    "restore",
    "bind",
    "free",
    "unbind",
    "purge",
    "level",
    "drill",
    "stocktake",
    "pack",
    "intake",
    "merge",
    "lend",
]


class ReadingRecord(msgspec.Struct, frozen=True):
    """readings/NUMBER-RUN-DATE.json: what was read from a depot's medium, when, and what was wrong.

    `scope` is "everything"; or "written": the files of runs/`listed_in`; or "some": the files of the list beside it.
    docs/formats.md describes it.
    """

    run: str
    began: str
    ended: str
    grade: str
    files: int
    bytes: int
    scope: Literal["everything", "written", "some"]
    listed_in: str
    amiss: list[Finding]


def record_tags(reading: ReadingRecord, receipt: Receipt) -> dict[str, bytes]:
    """The tag files that a run leaves at a depot, by path: its reading and its receipt, both named after the receipt."""
    document = msgspec.json.format(msgspec.json.encode(reading), indent=1) + b"\n"
    return {f"readings/{receipt.file_name}": document, f"receipts/{receipt.file_name}": encode(receipt)}


def read_reading(store: Store, path: str) -> ReadingRecord | None:
    """A reading as it lies at a depot; None where it is damaged, or no plain file."""
    with suppress(OSError, ValueError, RecursionError):  # what cannot be decoded is a ValueError
        lies = store.stat(path)
        if lies is not None and lies.bytes <= _LARGEST:
            return msgspec.json.decode(store.content(path), type=ReadingRecord)
    return None


def name_run(number: int, started: str) -> str:
    return f"{number:04}-{started.replace('-', '').replace(':', '')}-{secrets.token_hex(2)}"


@dataclass(frozen=True)
class Books:
    """The books of a run that is going on: which one it is, and when it began."""

    library: Library
    run: Run
    started: str

    @cached_property
    def name(self) -> str:
        """A name for the run, after the number of its coming receipt and its moment.

        With a bit of chance: two copies of a library may count alike, and reach a depot within one second.
        """
        return name_run(next_number(self.library.receipts), self.started)

    def receipt(
        self,
        depots: Sequence[str],
        came_in: Amount,
        kept: Sequence[Kept],
        left_out: Sequence[LeftOut] = (),
        findings: Sequence[Finding] = (),
        more: Mapping[str, str] | None = None,
    ) -> Receipt:
        """The account as it stands now; `more` is what is to be said of the run besides."""
        return Receipt(
            number=int(self.name.partition("-")[0]),
            run=self.run,
            started=self.started,
            finished=stamp(now_utc()),
            about={
                "library": self.library.name,
                **({"depots": ", ".join(depots)} if depots else {}),
                **(more or {}),
            },
            came_in=came_in,
            kept=[line for line in kept if line.amount != Amount()],
            left_out=list(left_out),
            findings=list(findings),
        )


def open_books(library: Library, run: Run) -> Books:
    return Books(library, run, stamp(now_utc()))


def common_grade(grades: set[str]) -> str:
    return "medium" if grades <= {"medium"} else "maybe-cache"
