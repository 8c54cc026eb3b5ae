"""Albums: ordered labels over frames, in the ledger and as one CSV each."""

import csv
import hashlib
import io
import json
import sqlite3
from collections.abc import Iterable, Sequence

from bramblemoor.disk.durable import digest_of, write_atomically
from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.disk.told import is_plain_file
from bramblemoor.library.catalogue import NewFile, enter_file
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding

LIST = "albums/_albums.csv"


def extend_album(
    db: sqlite3.Connection,
    *,
    service: str,
    reference: str,
    title: str,
    description: str,
    frames: Sequence[int],
    cover: int | None = None,
    behind: bool = False,
) -> tuple[int, list[int]]:
    """Make an album, or bring one that is known by (service, reference) up to date.

    Frames get the order they are given in; those that were in it and are not given stay, behind them (before them, with
    `behind`). One that was known only by its title, as from sidecars, gets its reference. Returns the album's number and
    the frames added.
    """
    row = _known(db, service, reference, title)
    if row is None:
        path = "albums/" + free_name(f"{safe_name(title)}.csv", lambda name: _path_taken(db, f"albums/{name}"))
        cursor = db.execute(
            "INSERT INTO albums (title, description, path, service, reference) VALUES (?, ?, ?, ?, ?)",
            (title, description, path, service, reference),
        )
        assert cursor.lastrowid is not None
        album = cursor.lastrowid
    else:
        album = row["id"]
        db.execute(
            "UPDATE albums SET title = ?, reference = ?, description = iif(? = '', description, ?) WHERE id = ?",
            (title, reference, description, description, album),
        )
    if cover is not None:
        db.execute("UPDATE albums SET cover = ? WHERE id = ?", (cover, album))
    before = [
        row[0] for row in db.execute("SELECT frame FROM album_frames WHERE album = ? ORDER BY position", (album,))
    ]
    after = list(dict.fromkeys([*before, *frames] if behind else [*frames, *before]))
    within = set(before)
    if after != before:
        db.execute("DELETE FROM album_frames WHERE album = ?", (album,))
        db.executemany("INSERT INTO album_frames VALUES (?, ?, ?)", [(album, n, f) for n, f in enumerate(after, 1)])
    return album, [frame for frame in after if frame not in within]


def _known(db: sqlite3.Connection, service: str, reference: str, title: str) -> sqlite3.Row | None:
    """An album by what the service calls it; one that was known only by its title, as from sidecars, is it too."""
    row: sqlite3.Row | None = db.execute(
        "SELECT id FROM albums WHERE service = ? AND (reference = ? OR (reference = title AND title = ?))"
        " ORDER BY reference = ? DESC LIMIT 1",
        (service, reference, title, reference),
    ).fetchone()
    return row


def frames_of_album(db: sqlite3.Connection, service: str, reference: str, title: str) -> list[tuple[str, int]]:
    """The frames that an album has already: (path, number), in its order."""
    row = _known(db, service, reference, title)
    return [
        (found[0], found[1])
        for found in db.execute(
            "SELECT folder || '/' || name, frame FROM album_frames JOIN frames ON frames.id = frame WHERE album = ?"
            " ORDER BY position",
            (row["id"] if row else None,),
        )
    ]


def _path_taken(db: sqlite3.Connection, path: str) -> bool:
    wanted = collision_key(path)
    return wanted == collision_key(LIST) or any(
        collision_key(row[0]) == wanted for row in db.execute("SELECT path FROM albums")
    )


def write_album(library: Library, album: int) -> None:
    """Write an album's CSV (path, title, taken, position) and enter it as a file of the library."""
    db = library.db
    path = db.execute("SELECT path FROM albums WHERE id = ?", (album,)).fetchone()[0]
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(["path", "title", "taken", "position"])
    for row in db.execute(
        "SELECT folder || '/' || name, title, taken, position FROM album_frames JOIN frames ON frames.id = frame"
        " WHERE album = ? ORDER BY position",
        (album,),
    ):
        writer.writerow([harmless(cell) for cell in row])
    _write(library, path, text.getvalue())


def write_albums(library: Library, albums: Iterable[int]) -> None:
    """Write the lists of some albums, and the list of all."""
    changed = sorted(albums)
    for album in changed:
        write_album(library, album)
    if changed:
        write_album_list(library)


def write_albums_of(library: Library, frames: Iterable[int]) -> None:
    """Write the lists of the albums that some frames are in, inside a transaction: what a list tells of them has changed."""
    rows = library.db.execute(
        "SELECT DISTINCT album FROM album_frames WHERE frame IN (SELECT value FROM json_each(?))",
        (json.dumps(list(frames)),),
    )
    for (album,) in rows.fetchall():
        write_album(library, album)


def write_album_list(library: Library) -> None:
    """Write the list of all albums: what their own files have no column for."""
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow(["file", "title", "description", "frames", "cover", "service"])
    for row in library.db.execute(
        "SELECT substr(path, 8), albums.title, description,"
        " (SELECT count(*) FROM album_frames WHERE album = albums.id), folder || '/' || name, albums.service"
        " FROM albums LEFT JOIN frames ON frames.id = cover ORDER BY path"
    ):
        writer.writerow([harmless(cell) for cell in row])
    _write(library, LIST, text.getvalue())


def harmless(cell: object) -> object:
    """A cell that no spreadsheet runs: an apostrophe goes before what begins like a formula. NUL is never written."""
    if not isinstance(cell, str):
        return cell
    text = cell.replace("\0", "\ufffd")
    return f"'{text}" if text.startswith(("=", "+", "-", "@", "\t", "\r")) else text


def _write(library: Library, path: str, text: str) -> None:
    """Write a list of albums; one that somebody has changed since it was last written is kept beside, and told."""
    content = text.encode("utf-8")
    digest = hashlib.sha256(content).hexdigest()
    place, last = library.root / path, f"written {path}"
    if is_plain_file(place):
        row = library.db.execute(
            "SELECT coalesce((SELECT value FROM meta WHERE key = ?), (SELECT sha256 FROM files WHERE path = ?))",
            (last, path),
        ).fetchone()
        if digest_of(place) not in (row[0], digest):
            library.seen.append(Finding(
                path, f"somebody changed it; that lies in {library.keep_aside(path, 'changed')} now, and a new list in its place",
            ))  # fmt: skip
    write_atomically(place, content)
    written = place.stat()
    library.db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (last, digest))
    enter_file(library.db, None, NewFile("album", path, len(content), digest, written.st_mtime_ns, "text/csv"))
