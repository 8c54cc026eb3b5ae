"""Which files go into which volume: whole frames, in order of folders, as many as there is room for."""

import hashlib
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.archives.container import WRITERS, Form
from bramblemoor.errors import WrongUse
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.copies import amount
from bramblemoor.library.home import Library
from bramblemoor.library.selection import NOTHING, Selection, located
from bramblemoor.library.settings import FILE as SETTINGS

_BASE = 400_000  # tag files, settings, and a ledger with nothing in it
_TRIES = 6
_COMMON = (SETTINGS, ledger_file.FILE)
"""What lies in each volume, so that each can be opened by itself."""


@dataclass(frozen=True)
class Filling:
    """A filling: volumes are 1 to `count`; temp.packing of the ledger's connection tells which files each gets.

    `frames` and `files` go into them. `fingerprint` is another one whenever anything in a volume would be; `ledgers` are
    their shares of the ledger.
    """

    count: int
    frames: int
    files: int
    bytes: int
    fingerprint: str
    ledgers: dict[int, Path]


def fill(
    library: Library, selection: Selection, form: Form, size: int, place: Path, size_said: Callable[[int], str]
) -> Filling:
    """Plan volumes of at most `size` bytes; the shares of the ledger are written to `place`.

    Raises WrongUse where nothing fits the selection, or a frame is larger than a volume (`size_said` words a size).
    """
    db = library.db
    clause = located(db, selection, library.root)
    where = "f.role != 'ledger'" if selection.everything else f"f.frame IS NOT NULL AND {clause.sql}"
    db.executescript(
        "DROP TABLE IF EXISTS temp.packing;"
        "CREATE TEMP TABLE packing (file INTEGER PRIMARY KEY, unit INTEGER, volume INTEGER);"
    )
    db.execute(
        "INSERT INTO temp.packing SELECT f.id, coalesce(f.frame, -f.id), 0 FROM files f LEFT JOIN frames r ON r.id = f.frame"
        f" WHERE {where} AND f.path NOT IN (?, ?)",
        (*clause.values, *_COMMON),
    )
    if db.execute("SELECT 1 FROM temp.packing LIMIT 1").fetchone() is None:
        raise WrongUse(f"There are no {selection.said()}.", NOTHING)
    overhead = WRITERS[form].overhead
    db.create_function("bm_overhead", 1, overhead, deterministic=True)
    per_unit = 4000.0
    for _ in range(_TRIES):
        count = _assign(db, size, per_unit, size_said)
        ledgers: dict[int, Path] = {}
        too_large = 0.0
        for volume in range(1, count + 1):
            ledgers[volume] = place / f"ledger-{volume}.sqlite"
            _write_share(library, volume, ledgers[volume])
            units, held = db.execute(
                "SELECT count(DISTINCT unit), coalesce(sum(f.bytes + bm_overhead(f.path)), 0) FROM temp.packing"
                " JOIN files f ON f.id = file WHERE volume = ?", (volume,)
            ).fetchone()  # fmt: skip
            share = ledgers[volume].stat().st_size
            if held + share + _BASE > size:
                too_large = max(too_large, share / units)
        if not too_large:
            break
        per_unit = max(per_unit * 1.5, too_large * 1.2)
    else:
        raise WrongUse(
            f"Volumes of {size_said(size)} are too small for their share of the ledger.", "Give a larger size: --size."
        )
    digest, whole = hashlib.sha256(f"{form} {size}".encode()), 0
    for volume, path, sha256, count_of in db.execute(
        "SELECT volume, f.path, f.sha256, f.bytes + bm_overhead(f.path) FROM temp.packing JOIN files f ON f.id = file"
        " ORDER BY f.path"
    ):
        digest.update(f"{volume} {sha256} {path}\n".encode())
        whole += count_of
    whole += sum(ledger.stat().st_size for ledger in ledgers.values()) + count * _BASE
    held = amount(db, "temp.packing JOIN files f ON f.id = file")
    return Filling(count, held.frames, held.files, whole, digest.hexdigest(), ledgers)


def _assign(db: sqlite3.Connection, size: int, per_unit: float, size_said: Callable[[int], str]) -> int:
    """Give each unit its volume; returns how many there are."""
    volume, filled = 1, 0.0
    assigned = []
    for unit, path, held in db.execute(
        "SELECT unit, coalesce(r.folder || '/' || r.name, min(f.path)), sum(f.bytes + bm_overhead(f.path))"
        " FROM temp.packing JOIN files f ON f.id = file LEFT JOIN frames r ON r.id = f.frame GROUP BY unit ORDER BY 2"
    ):
        needed = held + per_unit
        if _BASE + needed > size:
            raise WrongUse(
                f"{path} needs a volume of {size_said(int((_BASE + needed) * 1.05))}, and volumes are to be of"
                f" {size_said(size)}.",
                "Give a larger size: --size.",
            )
        if _BASE + filled + needed > size:
            volume, filled = volume + 1, 0.0
        filled += needed
        assigned.append((volume, unit))
    db.execute("CREATE INDEX IF NOT EXISTS temp.packing_unit ON packing (unit)")
    db.executemany("UPDATE temp.packing SET volume = ? WHERE unit = ?", assigned)
    return volume


def _write_share(library: Library, volume: int, target: Path) -> None:
    library.db.executescript("DROP TABLE IF EXISTS temp.share; CREATE TEMP TABLE share (file INTEGER PRIMARY KEY);")
    library.db.execute("INSERT INTO temp.share SELECT file FROM temp.packing WHERE volume = ?", (volume,))
    library.db.execute("INSERT OR IGNORE INTO temp.share SELECT id FROM files WHERE path = ?", (SETTINGS,))
    library.ledger.write_snapshot(target, only="temp.share")
