"""Collecting the parts of an order, resuming what broke, until every byte matches what the service said."""

import hashlib
import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.disk.durable import chunks, digest_of, flush_folder
from bramblemoor.errors import PartsAmiss, ServiceTrouble
from bramblemoor.library.home import Library, require_room
from bramblemoor.running import Meter, Progress, Stage
from bramblemoor.services.book import KnownOrder, set_state
from bramblemoor.services.interface import Exports, Part, PartsLapsed
from bramblemoor.wire.http import ConnectionBroke

_MOST_STALLS = 5


@dataclass(frozen=True)
class PartCollected:
    """`fetched` bytes came over the wire in this run; 0 means that the part was here already, and sound.

    `resumed` is the byte at which an interrupted transfer was last taken up again, 0 where there was none.
    """

    part: Part
    fetched: int
    resumed: int


def file_stamp(path: Path) -> str:
    """Size, time and inode: as long as they are the same, nobody wrote to the file by ordinary means."""
    status = path.stat()
    return f"{status.st_size} {status.st_mtime_ns} {status.st_ctime_ns} {status.st_ino}"


def part_is_sound(library: Library, order: str, part: Part, path: Path) -> bool:
    """Whether a part is here, whole, and has the digest the service gave; re-read only if it was touched since."""
    if not path.is_file() or path.stat().st_size != part.bytes:
        return False
    kept = library.db.execute(
        "SELECT stamp FROM parts WHERE order_id = ? AND number = ?", (order, part.number)
    ).fetchone()
    if kept is not None and kept["stamp"] == file_stamp(path):
        return True
    if digest_of(path) != part.sha256:
        return False
    _remember(library, order, part, stamp=file_stamp(path))
    return True


def collect(library: Library, order: KnownOrder, service: Exports, progress: Progress) -> Iterator[PartCollected]:
    """Fetch every part that is not here and sound; the order is then "collected".

    Raises ServiceTrouble, or PartsAmiss for a part that keeps arriving wrong.
    """
    folder = library.incoming(order.service, order.id)
    folder.mkdir(parents=True, exist_ok=True)
    missing = [part for part in order.parts if not part_is_sound(library, order.id, part, folder / part.name)]
    begun = sum(partial.stat().st_size for part in missing if (partial := _partial(folder, part)).is_file())
    require_room(folder, sum(part.bytes for part in missing) - begun, "Collecting the parts")
    try:
        yield from _collect_parts(library, order, missing, service, Meter(progress, Stage("collecting"), order.bytes))
    except PartsLapsed as error:
        set_state(library, order.id, "lapsed")
        raise ServiceTrouble(
            f"The links of {order.id} have lapsed; {len(missing)} of {len(order.parts)} parts had not come when this run began.",
            f"Order the same again: bramblemoor order --again {order.id}.",
        ) from error
    set_state(library, order.id, "collected")


def _collect_parts(
    library: Library, order: KnownOrder, missing: list[Part], service: Exports, meter: Meter
) -> Iterator[PartCollected]:
    folder = library.incoming(order.service, order.id)
    for part in order.parts:
        if part not in missing:
            yield PartCollected(part, 0, 0)
            meter.add(part.bytes)
            continue
        (folder / part.name).unlink(missing_ok=True)  # a download that came or became wrong
        yield _collect_part(library, order.id, part, folder, service, meter)


def _partial(folder: Path, part: Part) -> Path:
    return folder / f"{part.name}.partial"


def _collect_part(
    library: Library, order: str, part: Part, folder: Path, service: Exports, meter: Meter
) -> PartCollected:
    """Fetch one part, and once more from the start if it arrives whole but wrong."""
    partial = _partial(folder, part)
    fetched = 0
    for _ in range(2):
        transfer = _Transfer(library, order, part, partial, meter)
        transfer.run(service)
        fetched += transfer.fetched
        if not transfer.too_much and transfer.have == part.bytes and transfer.digest.hexdigest() == part.sha256:
            partial.replace(folder / part.name)
            flush_folder(folder)
            _remember(library, order, part, stamp=file_stamp(folder / part.name))
            return PartCollected(part, fetched, transfer.resumed)
        partial.unlink()
        meter.add(-transfer.have)
    raise PartsAmiss(
        f"{part.name} did not arrive as the service described it ({part.bytes} bytes, SHA-256 {part.sha256[:12]}...).",
        "Run the same command again; if it stays so, order the export anew: bramblemoor order.",
    )


class _Transfer:
    """The transfer of one part to its partial file, hashed on the way, taken up again where it broke."""

    def __init__(self, library: Library, order: str, part: Part, partial: Path, meter: Meter) -> None:
        self.library, self.order, self.part, self.partial, self.meter = library, order, part, partial, meter
        self.digest = hashlib.sha256()
        self.have = self.fetched = self.resumed = 0
        self.too_much = False
        if partial.is_file():
            for piece in chunks(partial):
                self._count(piece)
            self.resumed = self.have

    def run(self, service: Exports) -> None:
        """Raises ServiceTrouble where the connection breaks again and again without a byte."""
        stalled = 0
        while self.have < self.part.bytes:
            before = self.have
            if self._continue(service):
                return
            self.resumed = self.have
            stalled = 0 if self.have > before else stalled + 1
            if stalled == _MOST_STALLS:
                raise ServiceTrouble(
                    f"The connection broke {stalled} times over {self.part.name} without a byte.",
                    "Check the network, then run the same command again: it goes on where it stopped.",
                )
            time.sleep(0.1 * 2**stalled if stalled else 0)

    def _continue(self, service: Exports) -> bool:
        """Fetch on from where it stands; says whether the service sent all that it had, or more than it announced."""
        row = self.library.db.execute(
            "SELECT etag FROM parts WHERE order_id = ? AND number = ?", (self.order, self.part.number)
        ).fetchone()
        with service.open_part(self.part, self.have, row["etag"]) as stream, self.partial.open("ab") as file:
            if stream.start != self.have:  # the service starts again, perhaps with another file
                file.truncate(0)
                self.meter.add(-self.have)
                self.have, self.resumed, self.digest = 0, 0, hashlib.sha256()
            if stream.etag != row["etag"]:
                _remember(self.library, self.order, self.part, etag=stream.etag)
            try:
                for piece in stream.pieces:
                    if self.have + len(piece) > self.part.bytes:
                        self.too_much = True
                        return True
                    file.write(piece)
                    self._count(piece)
                    self.fetched += len(piece)
            except ConnectionBroke:
                return False
            finally:
                file.flush()
                os.fsync(file.fileno())
        return True

    def _count(self, piece: bytes) -> None:
        self.digest.update(piece)
        self.have += len(piece)
        self.meter.add(len(piece))


def _remember(library: Library, order: str, part: Part, **values: str) -> None:
    sets = ", ".join(f"{column} = ?" for column in values)
    with library.ledger.changing() as db:
        db.execute(f"UPDATE parts SET {sets} WHERE order_id = ? AND number = ?", (*values.values(), order, part.number))
