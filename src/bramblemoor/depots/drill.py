"""A drill: a random sample is restored to a scratch folder and compared, as one would on the day it is needed."""

import shutil
import sqlite3
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.bag.contents import DepotContents
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bringing import bring
from bramblemoor.depots.register.register import number_of
from bramblemoor.depots.standing.tally import settle
from bramblemoor.disk.durable import beside, digest_of, free_bytes
from bramblemoor.library import copies
from bramblemoor.library.home import Library, require_room
from bramblemoor.library.receipts import Finding
from bramblemoor.library.troubles import Trouble
from bramblemoor.running import Pace, Progress, Stage

_AT_ONCE = 1 << 30


@dataclass(frozen=True)
class Drilled:
    """What a drill found. `seconds` is the time that restoring the sample took, `whole` the bytes of the whole depot."""

    depot: str
    held: int
    whole: int
    files: int
    bytes: int
    seconds: float
    unreadable: tuple[Finding, ...]
    read_from_medium: int

    @property
    def whole_seconds(self) -> float:
        """How long restoring everything would take, at the rate of the sample by bytes or by files, the slower one."""
        by_bytes = self.seconds * self.whole / self.bytes if self.bytes else 0.0
        by_files = self.seconds * self.held / self.files if self.files else 0.0
        return max(by_bytes, by_files)


def drill(
    library: Library, depot: Depot, *, files: int, scratch: Path | None, progress: Progress, pace: Pace
) -> Drilled:
    """Restore `files` files, chosen by chance, from a depot to a scratch folder that is removed afterwards.

    What cannot be restored is entered as damaged. Raises NotPossible where the scratch folder has too little room.
    """
    number = number_of(library, depot)
    held = copies.amount(
        library.db, "copies c JOIN files f ON f.id = c.file WHERE c.depot = ? AND c.state != 'missing'", (number,)
    )
    rows = library.db.execute(
        "SELECT f.id, coalesce(c.path, f.path) AS path, coalesce(c.sha256, f.sha256) AS sha256, f.bytes, f.mtime_ns"
        " FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = ? AND c.state != 'missing' ORDER BY random() LIMIT ?",
        (number, files),
    ).fetchall()
    contents = DepotContents(depot)
    bad: list[Finding] = []
    done = size = proven = 0
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="bramblemoor-drill-", dir=scratch) as name:
        folder = Path(name)
        require_room(folder, max((row["bytes"] for row in rows), default=0), "The drill")
        for row in _until_stopped(rows, pace):
            place = folder / row["path"]
            result = bring([contents], row["path"], row["sha256"], place, row["mtime_ns"])
            restored = beside(place)
            # Compared once more as it lies in the scratch folder: that is what one would work with.
            if result.trouble or digest_of(restored) != row["sha256"]:
                bad.append(Finding(row["path"], result.trouble or "it was not restored as it was read"))
                with library.ledger.changing() as db:
                    copies.mark(db, number, row["id"], _state(result.troubles))
                    settle(db)
            proven += result.grade == "medium"
            done += 1
            size += row["bytes"]
            progress(Stage("restoring to a scratch folder", "files"), done, len(rows))
            if free_bytes(folder) < _AT_ONCE:
                shutil.rmtree(folder)
                folder.mkdir()
    return Drilled(depot.name, held.files, held.bytes, done, size, time.monotonic() - began, tuple(bad), proven)


def _state(troubles: Sequence[Trouble]) -> copies.State:
    """What that says of the copy."""
    gone = bool(troubles) and all(trouble.kind in ("missing", "unlisted") for trouble in troubles)
    return "missing" if gone else "damaged"


def _until_stopped(rows: list[sqlite3.Row], pace: Pace) -> Iterator[sqlite3.Row]:
    for row in rows:
        if pace.stopped:
            return
        yield row
