"""Taking up what others did in the library's folders, once it was recognised (see stock.py)."""

import hashlib
import sqlite3
from collections.abc import Collection, Iterator

from bramblemoor.disk.durable import chunks
from bramblemoor.disk.names import collision_key
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.kinds import SIDECAR, UNKNOWN, XMP, is_sidecar
from bramblemoor.frames.moments import moment_in_name
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import FileSource
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import packet_in
from bramblemoor.frames.xmp_writing import read_packet
from bramblemoor.library import copies
from bramblemoor.library.albums import write_album, write_albums
from bramblemoor.library.catalogue import NewFile, add_claims, add_frame, drop_frame, enter_file, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.known import choose_shown
from bramblemoor.library.receipts import Finding
from bramblemoor.library.settings import FILE as SETTINGS_FILE
from bramblemoor.library.sidecars import claims_from
from bramblemoor.library.stocktake.companions import tied_to_this_machine
from bramblemoor.library.stocktake.versions import join_versions, may_be_version

_CHANGED = """
    SELECT * FROM temp.stock s WHERE kind = 'changed'
    OR (kind = 'moved' AND sha256 != (SELECT f.sha256 FROM files f WHERE f.id = s.file)) ORDER BY path
"""

_MOVED = """
    SELECT file, path, role, frame FROM temp.stock WHERE kind IN ('moved', 'displaced') AND path > ? ORDER BY path LIMIT 500
"""
_MOVED_BOUND = """
    SELECT r.year, count(*) FROM temp.stock s JOIN frames r ON r.id = s.frame JOIN bound b ON b.year = r.year
    WHERE s.kind = 'moved' GROUP BY r.year ORDER BY r.year
"""
_NEW = (
    f"SELECT * FROM temp.stock WHERE kind = 'new' AND path > ? AND path LIKE '%{SIDECAR}' = ? ORDER BY path LIMIT 500"
)

_LATE = "it is new in a year that is bound; to bind it with the rest: unbind, backup, then bind again"


def take_up(library: Library, loose: Collection[str]) -> Iterator[Finding]:
    """Enter what changed, moved or is new, inside a transaction; yields what a person should know.

    Of files whose role is not `loose` a change is a finding, and the library's copy counts as damaged.
    """
    db = library.db
    albums: set[int] = set()
    _moved(library)
    for year, count in db.execute(_MOVED_BOUND).fetchall():
        yield Finding(
            str(year),
            f"{count:,} of its files were moved or renamed, and it is bound: its receipt has the former names",
        )
    for row in db.execute(_CHANGED).fetchall():
        bound = row["frame"] is not None and is_bound(db, row["frame"])
        if row["role"] not in loose and not bound and _has_grown(library, row):
            accept(library, row)
            yield Finding(
                row["path"], "it was taken up before it was whole; what it was then is kept as an earlier version"
            )
            continue
        if row["role"] not in loose or bound:
            copies.mark(db, copies.LIBRARY, row["file"], "damaged")
            why = ", and its year is bound" if bound else ""
            moved = f" when it was moved from {row['was']}" if row["kind"] == "moved" else ""
            yield Finding(
                row["path"],
                f"its content changed{moved}{why}; it is not copied, and mend brings back what it was"
                + ("" if bound else "; if you changed it: stocktake --accept NAME"),
            )
            continue
        file = enter_file(db, None, _file(row, row["role"]))  # a known file keeps its frame
        copies.is_here_again(db, file)  # whatever was amiss with what it was
        yield from tied_to_this_machine(library, row["path"])
        if row["role"] == "sidecar" and row["frame"] is not None:
            yield from _claims_of_sidecar(library, row["frame"], row["path"], albums, was_written=True)
    pictures: list[int] = []
    for sidecars in (False, True):  # pictures before what stands beside them
        if sidecars:
            yield from join_versions(library, pictures)
        last = ""
        while page := db.execute(_NEW, (last, sidecars)).fetchall():
            for row in page:
                yield from _enter_new(library, row, albums, pictures)
            last = page[-1]["path"]
    write_albums(library, albums)


def _has_grown(library: Library, row: sqlite3.Row) -> bool:
    """Whether a file begins with all that it was, and goes on: then it was still being written when it was taken up."""
    former = library.db.execute("SELECT bytes, sha256 FROM files WHERE id = ?", (row["file"],)).fetchone()
    if not former["bytes"] or row["bytes"] <= former["bytes"]:
        return False
    digest, left = hashlib.sha256(), former["bytes"]
    try:
        for piece in chunks(library.root / row["path"]):
            digest.update(piece[:left])
            left -= min(left, len(piece))
            if not left:
                break
    except OSError:
        return False
    return bool(digest.hexdigest() == former["sha256"])


def accept(library: Library, row: sqlite3.Row) -> None:
    """Take a changed picture as it is now (a row with its path, bytes, digest and time); what it was becomes an earlier one."""
    db = library.db
    file = enter_file(db, None, _file(row, row["role"]))  # a known file keeps its frame
    copies.is_here_again(db, file)
    frame = db.execute("SELECT frame FROM files WHERE id = ?", (file,)).fetchone()["frame"]
    if frame is None or row["role"] != "original":
        return
    with FileSource(library.root / row["path"]) as source:
        reading = read_picture(source)
    db.execute(
        "UPDATE files SET media = ?, width = ?, height = ? WHERE id = ?",
        (reading.media, reading.width, reading.height, file),
    )
    add_claims(db, frame, row["path"], reading.claims)
    choose_shown(db, frame)


def drop_file(library: Library, file: int) -> None:
    """Let a file leave the ledger; with its original a frame goes too. Its copies become leftovers of their depots."""
    db = library.db
    row = db.execute("SELECT frame, role FROM files WHERE id = ?", (file,)).fetchone()
    if row is None:
        return
    db.execute("DELETE FROM files WHERE id = ?", (file,))
    if row["role"] != "original":
        return
    frame = row["frame"]
    # What else belongs to the frame stays on disk; without its picture it is a file like any other.
    db.execute("UPDATE files SET frame = NULL WHERE frame = ?", (frame,))
    for album in drop_frame(db, frame):
        write_album(library, album)


def _moved(library: Library) -> None:
    db = library.db
    # By way of names that nobody has: two files may have changed places.
    db.execute(
        "UPDATE files SET path = path || char(0) || id"
        " WHERE id IN (SELECT file FROM temp.stock WHERE kind IN ('moved', 'displaced'))"
    )
    albums: set[int] = set()
    last = ""
    while page := db.execute(_MOVED, (last,)).fetchall():
        for row in page:
            db.execute(
                "UPDATE files SET path = ?, collision = ? WHERE id = ?",
                (row["path"], collision_key(row["path"]), row["file"]),
            )
            if row["role"] == "original":
                folder, _, name = row["path"].rpartition("/")
                db.execute("UPDATE frames SET folder = ?, name = ? WHERE id = ?", (folder, name, row["frame"]))
                choose_shown(db, row["frame"])
                found = db.execute("SELECT DISTINCT album FROM album_frames WHERE frame = ?", (row["frame"],))
                albums |= {album for (album,) in found}
        last = page[-1]["path"]
    for album in sorted(albums):
        write_album(library, album)


def _file(row: sqlite3.Row, role: str, media: str = "", width: int = 0, height: int = 0) -> NewFile:
    former = str(row["was"]).rpartition("/")[2] if "was" in row.keys() and row["was"] and row["kind"] == "new" else ""  # noqa: SIM118
    return NewFile(role, row["path"], row["bytes"], row["sha256"], row["mtime_ns"], media, width, height, former)


def _claims_of_sidecar(
    library: Library, frame: int, path: str, albums: set[int], *, was_written: bool
) -> Iterator[Finding]:
    """What somebody changed in a sidecar, or says in a new one, as claims."""
    try:
        packet = read_packet(packet_in(library.root / path))
    except BrokenXmp as error:
        yield Finding(path, f"it was changed and cannot be read: {error}; it is kept as it is")
        return
    new = claims_from(library, frame, path, packet, albums, was_written=was_written)
    if new and is_bound(library.db, frame):
        yield Finding(path, _LATE)  # by the date that it tells now


def _enter_new(library: Library, row: sqlite3.Row, albums: set[int], pictures: list[int]) -> Iterator[Finding]:
    db = library.db
    path: str = row["path"]
    if not row["sha256"]:
        yield Finding(path, "it cannot be read, and was not taken up")
        return
    top = path.partition("/")[0]
    if top != "pictures":
        roles = {
            "albums": "album", "companions": "companion", "delivered": "delivered", "ledger": "receipt", "looking": "page",
        }  # fmt: skip
        role = roles.get(top)
        enter_file(db, None, _file(row, "settings" if path == SETTINGS_FILE else role or "companion"))
        yield from tied_to_this_machine(library, path)
        return
    if is_sidecar(path):
        frame = _frame_beside(db, path)
        enter_file(db, frame, _file(row, "sidecar", XMP))
        if frame is None:
            yield Finding(path, "a sidecar without its picture; it is kept and copied")
        else:
            yield from _claims_of_sidecar(library, frame, path, albums, was_written=False)
        return
    yield from _enter_picture(library, row, pictures)


def _frame_beside(db: sqlite3.Connection, sidecar: str) -> int | None:
    """The frame of the picture that a sidecar stands beside, under either naming (A.jpg.xmp, A.xmp)."""
    bare = sidecar[: -len(SIDECAR)]
    found = db.execute("SELECT frame FROM files WHERE path = ? AND frame IS NOT NULL", (bare,)).fetchall()
    if not found:
        found = db.execute(
            "SELECT DISTINCT frame FROM files WHERE role = 'original' AND path >= ? AND path < ?"
            " AND instr(substr(path, ?), '.') = 0 AND instr(substr(path, ?), '/') = 0",
            (bare + ".", bare + "/", len(bare) + 2, len(bare) + 2),
        ).fetchall()
    return found[0][0] if len(found) == 1 else None


def _enter_picture(library: Library, row: sqlite3.Row, pictures: list[int]) -> Iterator[Finding]:
    """Whatever somebody put among the pictures becomes a frame, also where nothing can be read in it; `pictures` gets those of
    which the name may be that of an edited version.
    """
    db = library.db
    path: str = row["path"]
    folder, _, name = path.rpartition("/")
    with FileSource(library.root / path) as source:
        reading = read_picture(source)
    if reading.media == UNKNOWN:
        yield Finding(
            path,
            "it is of a kind that is not known here: it is kept and copied like any picture, but nothing is read in it",
        )
    frame = add_frame(db, folder=folder, name=name, read_as=reading.kind, service="", reference="", arrived="")
    enter_file(db, frame, _file(row, "original", reading.media, reading.width, reading.height))
    if reading.kind == "photo" and may_be_version(name):
        pictures.append(frame)
    named = moment_in_name(name)
    claims = [*reading.claims, *([Claim("taken", str(named), "name")] if named else [])]
    add_claims(db, frame, path, claims)
    choose_shown(db, frame)
    if is_bound(db, frame):
        yield Finding(path, _LATE)
