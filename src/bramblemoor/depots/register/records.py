"""What a run writes about itself: the receipt in the library, and receipt and reading as tag files at the depots."""

import secrets
from collections.abc import Sequence
from contextlib import suppress
from typing import Literal

import msgspec

from bramblemoor.depots.kinds.interface import Store
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, encode, next_number

_LARGEST = 1 << 28
Run = Literal[
    "backup", "verify", "mend", "restore", "bind", "free", "reopen", "purge", "level", "drill", "stocktake", "pack"
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


def run_name(library: Library, started: str) -> str:
    """A name for a run, after the number of its coming receipt and its moment.

    With a bit of chance: two copies of a library may count alike, and reach a depot within one second.
    """
    return name_run(next_number(library.receipts), started)


def name_run(number: int, started: str) -> str:
    return f"{number:04}-{started.replace('-', '').replace(':', '')}-{secrets.token_hex(2)}"


def make_receipt(
    library: Library,
    run: Run,
    name: str,
    started: str,
    finished: str,
    depots: Sequence[str],
    came_in: Amount,
    kept: list[Kept],
    left_out: list[LeftOut],
    findings: list[Finding],
) -> Receipt:
    return Receipt(
        number=int(name.partition("-")[0]),
        run=run,
        started=started,
        finished=finished,
        about={"library": library.name, "depots": ", ".join(depots)},
        came_in=came_in,
        kept=[line for line in kept if line.amount != Amount()],
        left_out=left_out,
        findings=findings,
    )


def common_grade(grades: set[str]) -> str:
    return "medium" if grades <= {"medium"} else "maybe-cache"
