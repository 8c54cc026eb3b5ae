"""The XMP sidecar beside a frame: written where something is known that its file does not say."""

import hashlib
from pathlib import Path

from bramblemoor.frames.xmp_reading import BrokenXmp
from bramblemoor.frames.xmp_writing import Belonging, sidecar
from bramblemoor.library.catalogue import NewFile, albums_of, enter_file, settle
from bramblemoor.library.durable import TEMPORARY, set_time
from bramblemoor.library.home import Library


def write_sidecar(library: Library, frame: int, delivered: bytes | None = None) -> Path | None:
    """Write or renew a frame's sidecar, inside a transaction of the ledger; returns its path, None where none is needed.

    `delivered` is a sidecar that came with the picture: it is only ever added to. So is one that somebody else has
    changed since Bramblemoor wrote it. The file is not flushed: the caller flushes many at once.
    """
    db = library.db
    facts = settle(db, frame)
    albums = albums_of(db, frame)
    told = db.execute(
        "SELECT count(*) FROM claims WHERE frame = ? AND source NOT IN ('camera', 'name', 'file')", (frame,)
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
    base = delivered if delivered is not None else _changed_by_others(library, target, relative)
    try:
        content = sidecar(facts, belonging, base)
    except BrokenXmp:
        content = sidecar(facts, belonging)  # the broken one stays as it came in delivered/
    digest = hashlib.sha256(content).hexdigest()
    fresh = target.with_name(target.name + TEMPORARY)
    fresh.write_bytes(content)
    set_time(fresh, row["mtime_ns"])
    fresh.replace(target)
    enter_file(db, frame, NewFile("sidecar", relative, len(content), digest, row["mtime_ns"], "application/rdf+xml"))
    return target


def _changed_by_others(library: Library, target: Path, relative: str) -> bytes | None:
    if not target.is_file():
        return None
    content = target.read_bytes()
    known = library.db.execute("SELECT sha256 FROM files WHERE path = ?", (relative,)).fetchone()
    ours = known is not None and known[0] == hashlib.sha256(content).hexdigest()
    return None if ours or known is None else content
