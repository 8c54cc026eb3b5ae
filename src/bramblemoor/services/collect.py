"""Collecting the parts of an order, resuming what broke, until every byte matches what the service said."""

from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Protocol

from bramblemoor.disk.durable import digest_of, flush_folder
from bramblemoor.disk.told import Inside
from bramblemoor.errors import PartsAmiss, ServiceTrouble
from bramblemoor.library.home import Library, require_room
from bramblemoor.running import Meter, Progress, Stage
from bramblemoor.services.book import KnownOrder, set_state
from bramblemoor.services.fetching import Transfer
from bramblemoor.services.interface import Part, PartsLapsed, PartStream, Tree


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


class Giving(Protocol):
    """What parts are had from."""

    def open_part(self, part: Part, start: int, etag: str) -> AbstractContextManager[PartStream]: ...


@dataclass(frozen=True)
class Delivered:
    """Parts that the service has put into a folder of the user's own, at a service that shows folders."""

    tree: Tree
    folder: str

    def open_part(self, part: Part, start: int, etag: str) -> AbstractContextManager[PartStream]:
        return self.tree.open(Inside(f"{self.folder}/{part.name}" if self.folder else part.name), start, etag)


def collect(library: Library, order: KnownOrder, service: Giving, progress: Progress) -> Iterator[PartCollected]:
    """Fetch every part that is not here and sound; the order is then "collected".

    Raises ServiceTrouble, or PartsAmiss for a part that keeps arriving wrong.
    """
    folder = library.incoming(order.service, order.id)
    folder.mkdir(parents=True, exist_ok=True)
    missing = [part for part in order.parts if not part_is_sound(library, order.id, part, folder / part.name)]
    begun = sum(left.stat().st_size for part in missing if (left := _partial(folder, part)).is_file())
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
    library: Library, order: KnownOrder, missing: list[Part], service: Giving, meter: Meter
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
    library: Library, order: str, part: Part, folder: Path, service: Giving, meter: Meter
) -> PartCollected:
    """Fetch one part, and once more from the start if it arrives whole but wrong."""
    unfinished = _partial(folder, part)
    fetched = 0
    for _ in range(2):
        row = library.db.execute(
            "SELECT etag FROM parts WHERE order_id = ? AND number = ?", (order, part.number)
        ).fetchone()

        def remember(etag: str) -> None:
            _remember(library, order, part, etag=etag)

        transfer = Transfer(part.name, part.bytes, unfinished, meter.add, row["etag"], remember)
        transfer.run(partial(service.open_part, part))
        fetched += transfer.fetched
        if transfer.is_whole and transfer.digest.hexdigest() == part.sha256:
            unfinished.replace(folder / part.name)
            flush_folder(folder)
            _remember(library, order, part, stamp=file_stamp(folder / part.name))
            return PartCollected(part, fetched, transfer.resumed)
        unfinished.unlink()
        meter.add(-transfer.have)
    raise PartsAmiss(
        f"{part.name} did not arrive as the service described it ({part.bytes} bytes, SHA-256 {part.sha256[:12]}...).",
        "Run the same command again; if it stays so, order the export anew: bramblemoor order.",
    )


def _remember(library: Library, order: str, part: Part, **values: str) -> None:
    sets = ", ".join(f"{column} = ?" for column in values)
    with library.ledger.changing() as db:
        db.execute(f"UPDATE parts SET {sets} WHERE order_id = ? AND number = ?", (*values.values(), order, part.number))
