"""Albums: ordered labels over frames, in the ledger and as one CSV each."""

import csv
import hashlib
import io
import sqlite3
from collections.abc import Sequence

from bramblemoor.library.catalogue import NewFile, enter_file
from bramblemoor.library.durable import write_atomically
from bramblemoor.library.home import Library
from bramblemoor.library.names import collision_key, free_name, safe_name


def extend_album(
    db: sqlite3.Connection, *, service: str, reference: str, title: str, description: str, frames: Sequence[int]
) -> tuple[int, list[int]]:
    """Make an album, or add what is new to one that is known by (service, reference).

    Frames keep the order they are given in, behind those that were in it. Returns the album's number and the frames added.
    """
    row = db.execute("SELECT id FROM albums WHERE service = ? AND reference = ?", (service, reference)).fetchone()
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
        db.execute("UPDATE albums SET title = ?, description = ? WHERE id = ?", (title, description, album))
    within = {row[0] for row in db.execute("SELECT frame FROM album_frames WHERE album = ?", (album,))}
    added = [frame for frame in dict.fromkeys(frames) if frame not in within]
    last = db.execute("SELECT coalesce(max(position), 0) FROM album_frames WHERE album = ?", (album,)).fetchone()[0]
    db.executemany("INSERT INTO album_frames VALUES (?, ?, ?)", [(album, last + n, f) for n, f in enumerate(added, 1)])
    return album, added


def _path_taken(db: sqlite3.Connection, path: str) -> bool:
    wanted = collision_key(path)
    return any(collision_key(row[0]) == wanted for row in db.execute("SELECT path FROM albums"))


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
        writer.writerow(list(row))
    content = text.getvalue().encode("utf-8")
    write_atomically(library.root / path, content)
    written = (library.root / path).stat()
    digest = hashlib.sha256(content).hexdigest()
    enter_file(db, None, NewFile("album", path, len(content), digest, written.st_mtime_ns, "text/csv"))
