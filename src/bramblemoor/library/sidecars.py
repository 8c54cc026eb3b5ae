"""The XMP sidecar beside a frame: written where its file does not say all, and read where somebody changed it."""

import hashlib
import os
import sqlite3
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.disk.durable import flush_file, set_time, temporary_name
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.frames.claims import Claim, Facts
from bramblemoor.frames.kinds import SIDECAR, sidecar_of
from bramblemoor.frames.xmp_edits import edits
from bramblemoor.frames.xmp_model import SAYS_NOTHING, BrokenXmp, values
from bramblemoor.frames.xmp_reading import ALBUMS, FORMER_NAME, ORIGIN, packet_in
from bramblemoor.frames.xmp_writing import Belonging, Packet, read_packet, rewritten, sidecar
from bramblemoor.library.albums import extend_album, write_albums
from bramblemoor.library.catalogue import NewFile, add_claims, claims_of, enter_file, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.known import Known, choose_shown, known_of
from bramblemoor.library.metadata_templates import fragments
from bramblemoor.library.receipts import Finding
from bramblemoor.library.schema import FORMER_SIDECARS

_MEDIA = "application/rdf+xml"
_WAITS = "sidecar waits"
_OF_FILE = ("camera", "iptc", "map", "name", "file")
_NAMED_ALONE = """
    SELECT DISTINCT frame FROM claims c WHERE source = 'map' AND field = 'location'
    AND NOT EXISTS (SELECT 1 FROM files f WHERE f.frame = c.frame AND f.role = 'sidecar') ORDER BY frame
"""


@dataclass(frozen=True)
class Renewed:
    """What became of a sidecar: the file to enter, where one was written, and what a person is to be told. `waits` says that
    it could not be added to.
    """

    file: NewFile | None = None
    findings: tuple[Finding, ...] = ()
    waits: bool = False


def write_sidecar(
    library: Library, frame: int, delivered: bytes | None = None, *, new: bool = False, where_different: bool = False,
    also: Sequence[bytes] = (),
) -> Path | None:  # fmt: skip
    """Write or renew a frame's sidecar, inside a transaction of the ledger; returns its path, None where nothing was written.

    A `new` frame gets its own even in a year that is bound. See `renew_sidecar` for the rest. The file is not flushed: the
    caller flushes many.
    """
    db = library.db
    facts = choose_shown(db, frame)
    known = known_of(db, [frame])[frame]
    if is_bound(db, frame) and not new:
        return None  # what is newly known stands in the ledger; the files of a year that was put away stay as they are
    done = renew_sidecar(str(library.root), known, facts, delivered, where_different=where_different, also=also)
    if done.file is not None:
        enter_file(db, frame, done.file)
    note_renewed(library, frame, done)
    return library.root / done.file.path if done.file is not None else None


def renew_sidecar(
    root: str, known: Known, facts: Facts, delivered: bytes | None = None, *, was: Facts | None = None,
    here: bytes | None = None, where_different: bool = True, also: Sequence[bytes] = (), resumed: bool = False,
) -> Renewed:  # fmt: skip
    """Write or renew the sidecar of a frame, of which that is `known` and believed; nothing is entered yet, and not flushed.

    `delivered` is a sidecar that came with the picture. What others wrote is only ever added to: what somebody changed
    since it was last written must have been taken up (`take_up_edits`) before anything new is entered. One that cannot be
    read is left as it is; what is known waits in the ledger, which is told. `where_different` leaves one alone that says
    all already; `also` are packets whose properties are to stand in it where none of their names does. `was` is what was
    believed before, where that is at hand: then most need not be parsed, but only compared. `here` is what lies there, where
    it has been read. `resumed` says that a run which broke off may have written it without its being entered.
    """
    claims = [claim for claim, _ in known.told]
    is_told = known.has_sidecar or bool(also) or is_wanted(claims, known.albums, known.former_name, delivered)
    if known.path is None or not is_told:
        return Renewed()
    relative = sidecar_of(known.path)
    belonging = Belonging(
        known.albums, origin_of(known.service, known.reference), known.former_name,
        [*fragments(root, facts.templates), *also],
        fragments(root, tuple(name for field, name in facts.gone if field == "template")),
    )  # fmt: skip
    content: bytes | None = None
    findings: tuple[Finding, ...] = ()
    try:
        here = here or packet_beside(root, known.path)
        if here is not None and was is not None and delivered is None:
            content = rewritten(here, was, facts, belonging)
        packet = read_packet(here) if here is not None and content is None else None
    except BrokenXmp as error:
        return Renewed(None, (Finding(
            relative, f"it cannot be read ({error}), so nothing was added to it, and it was left as it is; what is known of"
            " the frame waits in the ledger: mend the file, or move it away, then run: bramblemoor stocktake", attention=True,
        ),), waits=True)  # fmt: skip
    if packet is not None:
        content, findings = _brought_up_to_date(known, relative, packet, _readable(delivered), facts, belonging)
    elif content is None:
        content = new_sidecar(facts, belonging, delivered)
    if where_different and here == content:
        lying = _as_file(relative, content, known.mtime_ns)
        return Renewed(lying if resumed and lying.sha256 != known.sidecar else None, findings)
    return Renewed(put_sidecar(root, relative, content, known.mtime_ns), findings)


def packet_beside(root: str, original: str) -> bytes | None:
    """The content of the sidecar that lies beside an original, None where none does. Raises BrokenXmp."""
    try:
        return packet_in(f"{root}/{sidecar_of(original)}")
    except (FileNotFoundError, IsADirectoryError):
        return None


def note_renewed(library: Library, frame: int, done: Renewed) -> None:
    """Note whether what is known of a frame waits for its sidecar, and what a person is to be told."""
    library.seen += done.findings
    key = f"{_WAITS} {frame}"
    if done.waits:
        library.db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, done.findings[0].name))
    elif done.file is not None:
        library.db.execute("DELETE FROM meta WHERE key = ?", (key,))


def is_wanted(
    claims: Iterable[Claim], albums: Collection[str], former_name: str, delivered: bytes | None = None
) -> bool:
    """Whether a frame is to have a sidecar: where anything is known of it that its file does not say itself, or one came with it
    that says what nobody here has a word for, as an editor's instructions.
    """
    came = _readable(delivered)
    return (
        bool(albums or former_name)
        or (came is not None and came.rest != SAYS_NOTHING)
        or any(
            claim.field not in ("came_as", "reduced_of")
            and (claim.source not in _OF_FILE or (claim.source, claim.field) == ("map", "location"))
            for claim in claims
        )
    )


def is_new_packet(library: Library, frame: int, delivered: bytes) -> bool:
    """Whether a sidecar that came says what we have no word for, and neither stands beside the frame nor came before."""
    came = _readable(delivered)
    if came is None or came.rest == SAYS_NOTHING:
        return False
    there = _readable(packet_of_frame(library, frame))
    return there is None or came.rest not in (there.rest, there.base)


def origin_of(service: str | None, reference: str | None) -> str:
    """How a sidecar tells where its frame came from."""
    return " ".join(part for part in (service, reference) if part)


def new_sidecar(facts: Facts, belonging: Belonging, delivered: bytes | None) -> bytes:
    """What a sidecar says where none lies yet; `delivered` is one that came with the picture."""
    came = _readable(delivered)
    return sidecar(facts, belonging, came, base=came.rest if came else None)


def put_sidecar(root: str, relative: str, content: bytes, mtime_ns: int) -> NewFile:
    """Write a sidecar, with the time of its picture; it is not flushed."""
    # Texts, not path objects: where there are many small files, making those takes longer than writing.
    folder, _, name = f"{root}/{relative}".rpartition("/")
    fresh = f"{folder}/{temporary_name(name)}"
    with open(fresh, "wb") as file:
        file.write(content)
    set_time(fresh, mtime_ns)
    os.replace(fresh, f"{folder}/{name}")
    return _as_file(relative, content, mtime_ns)


def _as_file(relative: str, content: bytes, mtime_ns: int) -> NewFile:
    return NewFile("sidecar", relative, len(content), hashlib.sha256(content).hexdigest(), mtime_ns, _MEDIA)


def name_locations(library: Library, *, anew: bool) -> None:
    """Write what the user's own map of locations says into sidecars, inside a transaction; `anew` where the map was changed."""
    db = library.db
    frames = [row["frame"] for row in db.execute(_NAMED_ALONE)]
    for row in db.execute("SELECT id, location FROM frames WHERE latitude IS NOT NULL").fetchall() if anew else ():
        if choose_shown(db, row["id"]).location != row["location"]:
            frames.append(row["id"])
    written = [path for frame in dict.fromkeys(frames) if (path := write_sidecar(library, frame, where_different=True))]
    flush_files(written, library.root)


def renew_former(library: Library) -> int:
    """Write anew, once, the sidecars from before values were marked in them; returns how many. What others wrote stays."""
    db = library.db
    if db.execute("SELECT 1 FROM meta WHERE key = ?", (FORMER_SIDECARS,)).fetchone() is None:
        return 0
    renewed: list[Path] = []
    with library.ledger.changing(facts=True):
        for row in db.execute("SELECT frame, path FROM files WHERE role = 'sidecar' AND frame NOT NULL").fetchall():
            try:
                content = packet_in(library.root / row["path"])
                is_former = _is_as_entered(db, row["path"], content) and read_packet(content).is_former
            except (OSError, BrokenXmp):
                continue  # for taking stock to judge
            path = write_sidecar(library, row["frame"], where_different=True) if is_former else None
            renewed += [path] if path is not None else []
        flush_files(renewed, library.root)
        db.execute("DELETE FROM meta WHERE key = ?", (FORMER_SIDECARS,))
    if renewed:
        library.seen.append(Finding(
            "sidecars", f"{len(renewed):,} {'was' if len(renewed) == 1 else 'were'} written anew, once, so that every reader"
            " of XMP understands them;"
            " what others wrote in them is as it was",
        ))  # fmt: skip
    return len(renewed)


def packet_of_frame(library: Library, frame: int) -> bytes | None:
    """A frame's sidecar; None where it has none that can be read."""
    row = library.db.execute(
        "SELECT path FROM files WHERE frame = ? AND role = 'sidecar' ORDER BY id LIMIT 1", (frame,)
    ).fetchone()
    if row is None:
        return None
    try:
        packet = packet_in(library.root / row["path"])
        read_packet(packet)
    except (BrokenXmp, OSError):
        return None
    return packet


def write_what_waits(library: Library) -> None:
    """Write the sidecars that could not be added to when something was told, where they can be read now."""
    waiting = library.db.execute(
        "SELECT key FROM meta WHERE key >= ? AND key < ?", (f"{_WAITS} ", f"{_WAITS}!")
    ).fetchall()
    for (key,) in waiting:
        frame = int(key.removeprefix(_WAITS))
        if library.db.execute("SELECT 1 FROM frames WHERE id = ?", (frame,)).fetchone() is None:
            library.db.execute("DELETE FROM meta WHERE key = ?", (key,))
        elif (path := write_sidecar(library, frame)) is not None:
            flush_file(path)


def _readable(delivered: bytes | None) -> Packet | None:
    """A sidecar that came, where it can be read: a broken one stays as it came in delivered/."""
    try:
        return read_packet(delivered) if delivered is not None else None
    except BrokenXmp:
        return None


def _brought_up_to_date(
    known: Known, relative: str, packet: Packet, came: Packet | None, facts: Facts, belonging: Belonging
) -> tuple[bytes, tuple[Finding, ...]]:
    """The sidecar that is there, with what is new; one that comes anew takes its place where nobody has changed it here."""
    if came is None:
        return sidecar(facts, belonging, packet), ()
    rest, essence = packet.rest, came.rest
    by_hand = any(claim.source == "sidecar" for claim, _ in known.told)
    as_entered = hashlib.sha256(packet.content).hexdigest() == known.sidecar
    is_former = len(packet.base) == _LENGTH_OF_FORMER_BASE and as_entered
    if not by_hand and (is_former or packet.is_all_ours or rest == packet.base):
        return sidecar(facts, belonging, came, base=essence), ()
    findings: tuple[Finding, ...] = ()
    if essence not in (packet.base, rest):
        findings = (Finding(
            relative, "it was changed here, and the service has sent another one, too: yours stays beside the picture,"
            " the service's is kept in delivered/", attention=True,
        ),)  # fmt: skip
    return sidecar(facts, belonging, packet, base=essence), findings


_LENGTH_OF_FORMER_BASE = 64
"""Before it was an essence, `bm:base` was the digest of the delivered bytes."""


def _is_as_entered(db: sqlite3.Connection, relative: str, content: bytes) -> bool:
    known = db.execute("SELECT sha256 FROM files WHERE path = ?", (relative,)).fetchone()
    return known is not None and known["sha256"] == hashlib.sha256(content).hexdigest()


def take_up_edits(library: Library, frame: int, *, resumed: bool = False) -> bool:
    """Enter as claims what somebody changed in a frame's sidecar since it was last written or looked at; says if anything was.

    To be called before anything new is entered of the frame. Inside a transaction. A sidecar that cannot be read says nothing.
    """
    db = library.db
    row = db.execute(
        f"SELECT o.path || '{SIDECAR}' AS path, s.sha256, s.bytes, s.seen_ns, s.inode, s.ctime_ns FROM files o"
        f" LEFT JOIN files s ON s.path = o.path || '{SIDECAR}' AND s.frame = o.frame"
        " WHERE o.frame = ? AND o.role = 'original'",
        (frame,),
    ).fetchone()
    if row is None or not os.path.isfile(f"{library.root}/{row['path']}") or is_bound(db, frame):
        return False
    target = library.root / row["path"]
    seen = target.stat()
    if (seen.st_size, seen.st_mtime_ns, seen.st_ino, seen.st_ctime_ns) == tuple(row)[2:]:
        return False  # it has not been touched since it was looked over
    try:
        content = packet_in(target)
        if row["sha256"] == hashlib.sha256(content).hexdigest():
            return False
        packet = read_packet(content)
    except BrokenXmp:
        return False
    albums: set[int] = set()
    new = claims_from(
        library, frame, row["path"], packet, albums, was_written=row["sha256"] is not None, resumed=resumed
    )
    write_albums(library, albums)
    return new


def claims_from(
    library: Library,
    frame: int,
    path: str,
    packet: Packet,
    albums: set[int],
    *,
    was_written: bool,
    resumed: bool = False,
) -> bool:
    """Enter what a sidecar says that is not known yet; of a frame that came from nowhere also its origin, albums, former name.

    Adds the albums that have grown to `albums`, for the caller to write them.
    """
    db = library.db
    new = add_claims(db, frame, path, edits(packet, claims_of(db, frame), was_written=was_written, resumed=resumed))
    service = db.execute("SELECT service FROM frames WHERE id = ?", (frame,)).fetchone()["service"]
    if not was_written and not resumed and not service and (packet.is_marked or packet.is_former):
        albums |= _belonging_again(db, frame, packet)
        new = True
    if new:
        choose_shown(db, frame)
    return new


def _belonging_again(db: sqlite3.Connection, frame: int, packet: Packet) -> set[int]:
    """Enter where a frame came from, what it was called and which albums it was in, where the ledger knows nothing of it."""
    origin, former = ((values(packet.rdf, name) or [""])[0] for name in (ORIGIN, FORMER_NAME))
    service, _, reference = origin.partition(" ")
    db.execute("UPDATE frames SET service = ?, reference = ? WHERE id = ?", (service, reference, frame))
    db.execute("UPDATE files SET former_name = ? WHERE frame = ? AND role = 'original'", (former, frame))
    return {
        extend_album(db, service=service, reference=title, title=title, description="", frames=[frame], behind=True)[0]
        for title in values(packet.rdf, ALBUMS)
    }
