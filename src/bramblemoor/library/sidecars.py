"""The XMP sidecar beside a frame: written where something is known that its file does not say."""

import hashlib
from pathlib import Path

from bramblemoor.frames.xmp_reading import BrokenXmp, packet_in
from bramblemoor.frames.xmp_writing import PROPERTIES, Belonging, foreign_part, sidecar
from bramblemoor.library.catalogue import NewFile, albums_of, enter_file, is_bound, settle
from bramblemoor.library.durable import beside, set_time
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding


def write_sidecar(
    library: Library, frame: int, delivered: bytes | None = None, *, new: bool = False, where_different: bool = False
) -> Path | None:
    """Write or renew a frame's sidecar, inside a transaction of the ledger; returns its path, None where none is needed.

    `delivered` is a sidecar that came with the picture: it is only ever added to. So is one that somebody else has changed
    since Bramblemoor wrote it; one that cannot be read moves to set-aside/, which is told. A `new` frame gets its own even in
    a year that is bound. `where_different` leaves one alone that says all already. The file is not flushed: the caller flushes
    many at once.
    """
    db = library.db
    facts = settle(db, frame)
    if is_bound(db, frame) and not new:
        return None  # what is newly known stands in the ledger; the files of a year that was put away stay as they are
    albums = albums_of(db, frame)
    told = db.execute(
        "SELECT count(*) FROM claims WHERE frame = ? AND source NOT IN ('camera', 'iptc', 'name', 'file')"
        " AND field NOT IN ('came_as', 'reduced_of')",
        (frame,),
    ).fetchone()[0]
    if not told and not albums:
        return None
    row = db.execute(
        "SELECT service, reference, path, former_name, mtime_ns FROM frames JOIN files ON frame = frames.id"
        " WHERE frames.id = ? AND role = 'original'",
        (frame,),
    ).fetchone()
    relative: str = row["path"] + ".xmp"
    target: Path = library.root / relative
    origin = " ".join(part for part in (row["service"], row["reference"]) if part)
    belonging = Belonging(albums, origin, row["former_name"])
    foreign, base = _foreign(library, target, relative, delivered)
    fields = db.execute("SELECT DISTINCT field FROM claims WHERE frame = ? AND source = 'you'", (frame,))
    overruled = [name for (field,) in fields for name in PROPERTIES.get(field, ())] if foreign is not None else []
    try:
        content = sidecar(facts, belonging, foreign, base=base, overruled=overruled)
    except BrokenXmp:
        content = sidecar(facts, belonging)  # the broken one stays as it came in delivered/
    if where_different and target.is_file() and packet_in(target) == content:
        return None
    digest = hashlib.sha256(content).hexdigest()
    fresh = beside(target)
    fresh.write_bytes(content)
    set_time(fresh, row["mtime_ns"])
    fresh.replace(target)
    enter_file(db, frame, NewFile("sidecar", relative, len(content), digest, row["mtime_ns"], "application/rdf+xml"))
    return target


def _foreign(library: Library, target: Path, relative: str, delivered: bytes | None) -> tuple[bytes | None, str]:
    """What others wrote, to be added to, and the digest of the delivered packet where it is one.

    A packet that comes anew takes the place of the one that came before, but never of what somebody wrote here.
    """
    fresh = (delivered, hashlib.sha256(delivered).hexdigest()) if delivered is not None else (None, "")
    if not target.is_file():
        return fresh
    try:
        content = packet_in(target)
        told = foreign_part(content)
    except BrokenXmp as error:
        library.seen.append(Finding(
            relative, f"it cannot be read ({error}), so that nothing can be added to it; it lies in"
            f" {library.keep_aside(relative, 'sidecars')} now, and a new one in its place",
        ))  # fmt: skip
        return fresh
    known = library.db.execute("SELECT sha256 FROM files WHERE path = ?", (relative,)).fetchone()
    if known is None or known[0] != hashlib.sha256(content).hexdigest():
        return content, ""
    foreign, base = told
    return fresh if delivered is not None and (foreign is None or base) else told
