"""Albums of one's own, and changes to any: made, added to, taken from, ordered, renamed, deleted.

Each change is one transaction, with the album's list and the sidecars of the frames that it touches.
"""

import sqlite3
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from bramblemoor.errors import WrongUse
from bramblemoor.library.albums import extend_album, write_album_list, write_albums
from bramblemoor.library.folding import plain, suggestion
from bramblemoor.library.home import Library
from bramblemoor.library.renewing import renew_all, take_up_all
from bramblemoor.library.selection import Selected
from bramblemoor.running import Progress, silent

_ORDERS = {
    "taken": "shown IS NULL, shown, folder, name", "path": "folder, name", "title": "title = '', title, shown, name",
}  # fmt: skip


@dataclass(frozen=True)
class Album:
    number: int
    title: str
    description: str
    path: str
    frames: int
    service: str


def albums(library: Library) -> list[Album]:
    rows = library.db.execute(
        "SELECT id, title, description, path, (SELECT count(*) FROM album_frames WHERE album = albums.id), coalesce(service, '')"
        " FROM albums ORDER BY title COLLATE NOCASE, id"
    )
    return [Album(*row) for row in rows]


def album_called(library: Library, name: str) -> Album:
    """The one album of that title, or a part of it. Raises WrongUse, with the nearest, for none or several."""
    known = albums(library)
    wanted = plain(name)
    found = [one for one in known if plain(one.title) == wanted] or [
        one for one in known if wanted and wanted in plain(one.title)
    ]
    if not found:
        near = suggestion(name, [one.title for one in known], listed=0)
        raise WrongUse(f"There is no album {name!r}.", f"{near}To make one: bramblemoor album make TITLE.")
    if len(found) > 1:
        titles = ", ".join(f"{one.title} ({one.path})" for one in found[:4])
        raise WrongUse(f"{len(found):,} albums are called like {name!r}.", f"Name one of them whole: {titles}.")
    return found[0]


def make_album(library: Library, title: str, description: str) -> None:
    """Raises WrongUse for an empty title, or one that there is."""
    if not title.strip() or not title.isprintable():
        raise WrongUse(f"An album cannot be called {title!r}.", "Give it a title, as 'Best of 2026'.")
    if any(plain(one.title) == plain(title) for one in albums(library)):
        raise WrongUse(f"There is an album {title!r} already.", f"Add to it: bramblemoor album add {title!r} FRAME.")
    with library.ledger.changing(facts=True) as db:
        album, _ = extend_album(
            db, service="", reference=title.strip(), title=title.strip(), description=description, frames=[]
        )
        write_albums(library, [album])


def add_frames(library: Library, album: Album, selected: Selected, progress: Progress) -> int:
    """Add frames behind those that are in it; returns how many were new to it."""
    here = set(_order(library.db, album.number))
    new = [frame for frame in selected.frames() if frame not in here]
    _set(library, album, [*_order(library.db, album.number), *new], new, progress)
    return len(new)


def take_frames(library: Library, album: Album, selected: Selected, progress: Progress) -> int:
    """Take frames out of it; they stay in the library. Returns how many were in it."""
    gone = set(selected.frames())
    before = _order(library.db, album.number)
    _set(
        library,
        album,
        [frame for frame in before if frame not in gone],
        [one for one in before if one in gone],
        progress,
    )
    return sum(frame in gone for frame in before)


def order_by(library: Library, album: Album, order: str) -> None:
    """Raises WrongUse for an order that there is not."""
    if order not in _ORDERS:
        raise WrongUse(f"An album cannot be ordered by {order!r}.", f"Choose one of {', '.join(_ORDERS)}.")
    rows = library.db.execute(
        f"SELECT frame FROM album_frames JOIN frames ON frames.id = frame WHERE album = ? ORDER BY {_ORDERS[order]}",
        (album.number,),
    )
    _set(library, album, [row[0] for row in rows.fetchall()], [], silent)


def put_first(library: Library, album: Album, selected: Selected) -> None:
    """Put frames before all others, in the order in which they are given."""
    wanted = dict.fromkeys(selected.frames())
    before = _order(library.db, album.number)
    if missing := wanted.keys() - set(before):
        raise WrongUse(
            f"{len(missing):,} of these frames are not in {album.title}.", "Add them first: bramblemoor album add."
        )
    _set(library, album, [*wanted, *(frame for frame in before if frame not in wanted)], [], silent)


def rename_album(library: Library, album: Album, title: str, progress: Progress) -> None:
    """Call an album otherwise, here; its list keeps its file name, by which other programs may know it."""
    if any(plain(one.title) == plain(title) and one.number != album.number for one in albums(library)):
        raise WrongUse(f"There is an album {title!r} already.", "Choose another title; nothing was changed.")
    with library.ledger.changing(facts=True) as db:
        db.execute("UPDATE albums SET title = ? WHERE id = ?", (title.strip(), album.number))
    _set(library, album, _order(library.db, album.number), _order(library.db, album.number), progress)


def delete_album(library: Library, album: Album, progress: Progress) -> None:
    """Delete the label; its frames stay. Its list is deleted, too, and stays at depots as an earlier version."""
    frames = _order(library.db, album.number)
    take_up_all(library, frames)
    with library.ledger.changing(facts=True) as db:
        db.execute("DELETE FROM album_frames WHERE album = ?", (album.number,))
        db.execute("DELETE FROM albums WHERE id = ?", (album.number,))
        db.execute("DELETE FROM files WHERE path = ?", (album.path,))
        db.execute("DELETE FROM meta WHERE key = ?", (f"written {album.path}",))
        (library.root / album.path).unlink(missing_ok=True)
        write_album_list(library)
        renew_all(library, frames, progress)


def _order(db: sqlite3.Connection, album: int) -> list[int]:
    return [row[0] for row in db.execute("SELECT frame FROM album_frames WHERE album = ? ORDER BY position", (album,))]


def _set(library: Library, album: Album, frames: Sequence[int], touched: Collection[int], progress: Progress) -> None:
    take_up_all(library, touched)
    with library.ledger.changing(facts=True) as db:
        db.execute("DELETE FROM album_frames WHERE album = ?", (album.number,))
        db.executemany(
            "INSERT INTO album_frames VALUES (?, ?, ?)", [(album.number, n, one) for n, one in enumerate(frames, 1)]
        )
        db.execute(
            "UPDATE albums SET cover = NULL WHERE id = ?1 AND cover NOT IN (SELECT frame FROM album_frames WHERE album = ?1)",
            (album.number,),
        )
        write_albums(library, [album.number])
        renew_all(library, touched, progress)


def frames_in(library: Library, album: Album) -> list[int]:
    """The frames of an album, in its order."""
    return _order(library.db, album.number)
