"""The pictures of a part: extracted to the staging folder and read, several at once."""

import hashlib
import json
import os
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, suppress
from functools import partial
from pathlib import Path
from sqlite3 import Row
from typing import NamedTuple, TypeVar

from bramblemoor.disk.durable import flush_many
from bramblemoor.disk.file_systems import file_system_of
from bramblemoor.exports.containers import open_part
from bramblemoor.exports.containers.interface import CHUNK, Container, Entry
from bramblemoor.exports.worksheet import Worksheet, content_key, encode_claims, entry_of, rows_of_part, taken_of
from bramblemoor.frames.reading import PictureReading, read_picture
from bramblemoor.frames.source import FileSource, MemorySource
from bramblemoor.processes import Helpers
from bramblemoor.running import portions

JOB_FILES, JOB_BYTES = 64, 8 << 20
"""What a helper is given at once, at most."""
_BATCH_FILES, _BATCH_BYTES = 256, 256 << 20  # what is flushed at once
_MOST_HEAD = 32 << 20  # bytes of a picture that is only looked at
_READ = (
    "UPDATE entries SET media = ?, picture_kind = ?, width = ?, height = ?, taken = ?, claims = ?, troubles = ?, edits = ?,"
    " content_ids = ? WHERE id = ?"
)
Job = TypeVar("Job")
Result = TypeVar("Result")


class _Due(NamedTuple):
    """A picture to extract: the number of its entry, the digests of what was staged before and has its CRC and size, and its
    own, where it was taken when the file was written, else "".
    """

    number: int
    entry: Entry
    twins: list[str]
    sha256: str


class _Staged(NamedTuple):
    """A picture that was extracted; `read` is what stands in it, as `_READ` enters it, None where another has told that."""

    number: int
    size: int
    sha256: str
    written: bool
    read: tuple[object, ...] | None


def stage_pictures(
    sheet: Worksheet,
    part: Container,
    number: int,
    helping: Helpers,
    flusher: ThreadPoolExecutor,
    digests: Mapping[str, str],
    *,
    keep: bool,
) -> Iterator[int]:
    """Extract the pictures of a part that are not done; while some are flushed the next are extracted. A batch counts as done
    once it is flushed. Yields bytes. Without `keep` they are only read. `digests` are those that are known, by entries' names.
    """
    whole = file_system_of(sheet.work).flushes_whole

    def due() -> Iterator[list[_Due]]:
        rows = rows_of_part(sheet, number, "kind = 'picture' AND NOT done")
        for some in portions(rows, JOB_FILES, JOB_BYTES, _bytes_of_row):
            yield [_Due(row["id"], entry_of(row), _twins(sheet, row), digests.get(row["name"], "")) for row in some]

    def flushed(batch: list[_Staged]) -> list[_Staged]:
        if keep:
            written = (sheet.staged(one.number) for one in batch if one.written)
            flush_many(written, sheet.staging, whole_system=whole)
        return batch

    work = partial(_stage, str(sheet.staging), keep)
    # An archive that can only be read from front to back is read by one, here.
    staged = (
        helping.map(partial(_opened, work, part.path), due())
        if part.several_readers
        else map(partial(work, part), due())
    )
    flushing: Future[list[_Staged]] | None = None
    alone = (one for some in staged for one in some)
    for batch in portions(alone, _BATCH_FILES, _BATCH_BYTES, lambda one: one.size):
        _note(sheet, flushing)
        flushing = flusher.submit(flushed, batch)
        yield sum(one.size for one in batch)
    _note(sheet, flushing)


def _bytes_of_row(row: Row) -> int:
    return int(row["size"])


def _twins(sheet: Worksheet, row: Row) -> list[str]:
    found = sheet.db.execute(
        "SELECT sha256 FROM entries WHERE crc32 = ? AND size = ? AND staged", (row["crc32"], row["size"])
    )
    return [twin[0] for twin in found]


def _note(sheet: Worksheet, flushing: "Future[list[_Staged]] | None") -> None:
    """Write a batch down as done, once it is flushed."""
    batch = flushing.result() if flushing is not None else []
    with sheet.changing() as db:
        db.executemany(
            "UPDATE entries SET done = 1, sha256 = ?, staged = ? WHERE id = ?",
            [(content_key(one.sha256, one.number), one.written, one.number) for one in batch],
        )
        db.executemany(_READ, [one.read for one in batch if one.read is not None])


def _opened(work: Callable[[Container, Job], Result], path: Path, job: Job) -> Result:
    """Do something with a part that is opened for it alone."""
    with closing(open_part(path)) as part:
        return work(part, job)


def _stage(staging: str, keep: bool, part: Container, some: list[_Due]) -> list[_Staged]:
    return [_stage_one(f"{staging}/{one.number}" if keep else "", part, one) for one in some]


def _stage_one(target: str, part: Container, one: _Due) -> _Staged:
    """Extract one picture. Where one with the same CRC and size was staged before, write only if the digest differs.

    Without a target it is read and written nowhere; of a very large one the beginning.
    """
    entry, digest = one.entry, hashlib.sha256()
    if one.twins and entry.size:
        for piece in part.content(entry):
            digest.update(piece)
        if digest.hexdigest() in one.twins:
            return _Staged(one.number, entry.size, digest.hexdigest(), False, None)
        digest = hashlib.sha256()
    if not target:
        head = bytearray()
        for piece in part.content(entry):
            digest.update(piece)
            if len(head) < _MOST_HEAD:
                head += piece
        return _staged(one, digest.hexdigest(), read_picture(MemorySource(bytes(head))))
    last = b""
    is_linked = _is_linked(part, entry, target)
    if is_linked and one.sha256:
        with FileSource(Path(target)) as source:
            return _staged(one, one.sha256, read_picture(source))
    if is_linked:
        for piece in part.content(entry):
            digest.update(piece)
            last = piece
    else:
        with open(target, "wb", buffering=0) as file:  # noqa: PTH123 - of many small files, a path object takes longest
            for piece in part.content(entry):
                file.write(piece)
                digest.update(piece)
                last = piece
    if len(last) == entry.size <= CHUNK:
        return _staged(one, digest.hexdigest(), read_picture(MemorySource(last)))
    with FileSource(Path(target)) as source:
        return _staged(one, digest.hexdigest(), read_picture(source))


def _is_linked(part: Container, entry: Entry, target: str) -> bool:
    """Whether a file that was fetched into this very folder of work is staged by a second name, as nobody else has it.

    What somebody unpacked by hand is copied: it stays theirs. So is everything on a drive that knows no second names.
    """
    place = part.place(entry)
    if place is None or os.path.dirname(part.path) != os.path.dirname(os.path.dirname(target)):  # noqa: PTH120
        return False
    with suppress(FileNotFoundError):  # a second name must never be written through
        os.unlink(target)  # noqa: PTH108
    try:
        os.link(place, target)
    except OSError:
        return False
    return True


def _staged(one: _Due, sha256: str, reading: PictureReading) -> _Staged:
    read = (
        reading.media, reading.kind, reading.width, reading.height, taken_of(reading.claims), encode_claims(reading.claims),
        json.dumps(reading.troubles), reading.edits, " ".join(reading.content_ids), one.number,
    )  # fmt: skip
    return _Staged(one.number, one.entry.size, sha256, True, read)
