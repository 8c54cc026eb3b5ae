"""From parts to staged pictures, read sidecars and packed delivered data. Nothing reaches the library yet."""

import json
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from functools import partial
from sqlite3 import Connection

from bramblemoor.errors import PartsAmiss
from bramblemoor.exports.containers import open_part
from bramblemoor.exports.containers.interface import Entry
from bramblemoor.exports.delivered import pack_delivered
from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.parcel import Parcel, nearest_names
from bramblemoor.exports.staging import stage_pictures
from bramblemoor.exports.templates import folded
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.library.home import require_room
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions

_AT_ONCE = 128
"""Entries that a helper is given."""
_LISTED = (
    "INSERT INTO entries (id, part, name, kind, method, crc32, packed, size, at, raw, folded, base, is_copy, frame_key, suffix,"
    " ending) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
    "INSERT OR IGNORE INTO wanted VALUES (?, ?, ?, ?)",
    "INSERT OR IGNORE INTO called VALUES (?, ?)",
)
_Rows = list[tuple[object, ...]]


def list_entries(sheet: Worksheet, parcel: Parcel, helping: Helpers, progress: Progress) -> None:
    """Write down every entry of every part, once all of them have passed the safety checks.

    Raises PartsAmiss where the dialect fits none of them.
    """
    if sheet.get("listed"):
        return
    with sheet.changing() as db:
        count = 0
        numbered = enumerate(_entries(parcel), 1)
        for found in helping.map(partial(_listed, parcel.dialect), portions(numbered, _AT_ONCE)):
            for statement, rows in zip(_LISTED, found, strict=True):
                db.executemany(statement, rows)
            count += len(found[0])
            progress(Stage("listing", "entries"), count, 0)
        _want_by_position(db, parcel.dialect)
        sheet.put("listed", "yes")
        if db.execute("SELECT 1 FROM entries WHERE kind IN ('picture', 'sidecar', 'index')").fetchone() is None:
            names = (row[0] for row in db.execute("SELECT name FROM entries ORDER BY id"))
            nearest = nearest_names(parcel.dialect, names)
            raise PartsAmiss(
                f"The dialect {parcel.dialect.name} fits nothing in {parcel.parts[0].name}; nearest are"
                f" {', '.join(nearest) or 'none: it is empty'}.",
                "Nothing was unpacked; check the dialect with: bramblemoor dialect try.",
            )


def _entries(parcel: Parcel) -> Iterator[tuple[int, Entry]]:
    """All entries, each with the number of its part."""
    for number, path in enumerate(parcel.parts):
        with closing(open_part(path)) as part:
            for entry in part.entries():
                yield number, entry


def _listed(dialect: Dialect, numbered: list[tuple[int, tuple[int, Entry]]]) -> tuple[_Rows, _Rows, _Rows]:
    """What is to be written down of some entries: themselves, how their sidecars may be called, and how they may be."""
    entries: _Rows = []
    wanted: _Rows = []
    called: _Rows = []
    for number, (part, entry) in numbered:
        kind, plain = dialect.kind_of(entry.name), folded(entry.name)
        readings = dialect.readings(entry.name) if kind == "picture" else []
        first = readings[0] if readings else None
        entries.append((
            number, part, entry.name, kind, entry.method, entry.crc32, entry.packed, entry.size, entry.at, entry.raw,
            plain, plain.rpartition("/")[2], kind == "picture" and dialect.is_copy(entry.name),
            first.frame if first else None, first.suffix if first else None, first.ending if first else None,
        ))  # fmt: skip
        if kind != "picture":
            continue
        names = dialect.sidecar_names(entry.name)
        wanted += [(number, name, folded(name), rank) for rank, name in enumerate(names)]
        keys = {folded(text) for one in readings for text in (one.stem, one.stem + one.ending)}
        keys.add(plain.rpartition("/")[2])  # a list may tell it as it was delivered
        called += [(number, key) for key in keys]
    return entries, wanted, called


def _want_by_position(db: Connection, dialect: Dialect) -> None:
    """The names that sidecars have by the places of their pictures, in the order of the archive, among those of one folder."""
    if not dialect.counts_positions:
        return
    places: dict[str, int] = {}
    for picture, name in db.execute("SELECT id, name FROM entries WHERE kind = 'picture' ORDER BY part, at").fetchall():
        folder = name.rpartition("/")[0]
        places[folder] = places.get(folder, 0) + 1
        names = dialect.sidecar_names(name, places[folder])
        db.executemany(
            "INSERT OR IGNORE INTO wanted VALUES (?, ?, ?, ?)",
            [(picture, wanted, folded(wanted), rank) for rank, wanted in enumerate(names)],
        )


def extract(sheet: Worksheet, parcel: Parcel, helping: Helpers, progress: Progress, *, keep: bool = True) -> None:
    """Stage every picture and read every sidecar that is not done yet; without `keep` only read them.

    Raises PartsAmiss or HostileArchive; what was staged stays for the next run.
    """
    total, done = sheet.db.execute("SELECT sum(size), sum(size * done) FROM entries").fetchone()
    for left in sheet.staging.iterdir():
        if left.name.isdecimal() and not _is_done(sheet, int(left.name)):
            left.unlink()  # half written by a run that was killed
    # What was delivered several times is written once.
    needed = sheet.db.execute(
        "SELECT coalesce(sum(size), 0) FROM"
        " (SELECT size FROM entries GROUP BY coalesce(crc32, -id), size HAVING NOT max(done))"
    ).fetchone()[0]
    if keep:
        require_room(sheet.work, needed, "Unpacking")
    so_far = done or 0
    with ThreadPoolExecutor(1) as flusher:
        for number, path in enumerate(parcel.parts):
            with closing(open_part(path)) as part:
                for size in stage_pictures(sheet, part, number, helping, flusher, parcel.digests, keep=keep):
                    so_far += size
                    progress(Stage("unpacking"), so_far, total or 0)
                for size in pack_delivered(sheet, part, number, parcel, helping, keep=keep):
                    so_far += size
                    progress(Stage("unpacking"), so_far, total or 0)
    _require_listed_parts(sheet, parcel)


def _is_done(sheet: Worksheet, number: int) -> bool:
    return sheet.db.execute("SELECT 1 FROM entries WHERE id = ? AND done", (number,)).fetchone() is not None


def _require_listed_parts(sheet: Worksheet, parcel: Parcel) -> None:
    """Raise PartsAmiss where an index lists parts that are not here."""
    listed = json.loads(sheet.get("parts listed") or "[]")
    here = {path.name for path in parcel.parts}
    if listed and all(name.isdecimal() for name in listed):
        missing = listed[len(here) :]
    else:
        missing = [name for name in listed if name.rpartition("/")[2] not in here]
    if missing and not parcel.without and not any(path.is_dir() for path in parcel.parts):
        raise PartsAmiss(
            f"The index of the export lists {len(listed)} parts; not here: {', '.join(missing[:20])}.",
            "Nothing was unpacked; fetch the rest and try again.",
        )
