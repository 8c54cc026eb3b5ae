"""Putting frames that have landed into their places, and entering them in the ledger with all that is known of them."""

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.depots.bag.placing import Placing
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import packet_in, read_xmp
from bramblemoor.intake.interface import PlannedFile, PlannedFrame
from bramblemoor.intake.landing import SIDECARS, place_of
from bramblemoor.library.catalogue import NewFile, add_claims, add_frame, enter_file, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding
from bramblemoor.library.receiving import Filing
from bramblemoor.library.renewing import take_up_all
from bramblemoor.library.sidecars import take_up_edits, write_sidecar

_STANDING = ("original", "rendition", "clip")
"""The roles of files that can stand for a frame."""
_SAID = "intake"
"""By whom what the user said of a whole intake was told."""


@dataclass(frozen=True)
class Came:
    """A file that has landed, and what it was found to be on the way."""

    number: int
    file: PlannedFile
    sha256: str


@dataclass(frozen=True)
class Arrived:
    """A frame of which all has landed that can: its plan, and what came of it. `came` is not empty, and has an original."""

    number: int
    frame: PlannedFrame
    came: Sequence[Came]


def landing_path(file: PlannedFile) -> str:
    """Where a file lands: a picture at its path in the library, a sidecar under its path on the card."""
    return f"{SIDECARS}/{file.source}" if file.role == "sidecar" else file.path


def enter_frames(library: Library, landing: Placing, arrived: Sequence[Arrived]) -> dict[int, int]:
    """Enter frames; returns the ledger's number of each file, by its number in the plan (sidecars have none).

    First all are moved to their places, durably; then they are entered in one transaction. Killed between the two, the next
    run finds them there.
    """
    filing = Filing(library)
    for one in arrived:
        for came in one.came:
            if came.file.role != "sidecar":
                filing.put(str(place_of(landing, landing_path(came.file))), came.file.path, None)
    filing.flush()
    files: dict[int, int] = {}
    written: list[Path] = []
    joined = (_joined(library, one.frame.joins) for one in arrived if one.frame.joins)
    take_up_all(library, [row["frame"] for row in joined if row is not None])
    with library.ledger.changing(facts=True):
        for one in arrived:
            sidecar = _join(library, landing, one, files) if one.frame.joins else _enter(library, landing, one, files)
            written += [sidecar] if sidecar is not None else []
        flush_files(written, library.root)
    return files


def _enter(library: Library, landing: Placing, one: Arrived, files: dict[int, int]) -> Path | None:
    """Enter one frame; returns its sidecar, which is written and not flushed."""
    db, frame = library.db, one.frame
    pictures = [came for came in one.came if came.file.role != "sidecar"]
    if not pictures:
        return None  # a sidecar by itself is kept as it came
    path = original_of(one.came).file.path
    name = path.rpartition("/")[2]
    number = add_frame(
        db, folder=frame.folder, name=name, read_as=frame.read_as, service=frame.service, reference=frame.reference, arrived=""
    )  # fmt: skip
    for came in pictures:
        role = "original" if came.file.path == path else came.file.role
        files[came.number] = enter_file(db, number, _new_file(came, role, frame.mtime_ns))
    claims = [Claim(*claim) for claim in frame.claims]  # type: ignore[arg-type]
    if frame.as_told:
        add_claims(db, number, path, claims)
        packet = _packet(library, landing, one, number)
    else:
        add_claims(db, number, path, [claim for claim in claims if claim.source != "you"])
        packet = _packet(library, landing, one, number)
        add_claims(db, number, _SAID, [claim for claim in claims if claim.source == "you"])
    sidecar = write_sidecar(library, number, packet, new=True)
    if is_bound(db, number):
        library.seen.append(Finding(
            path, "it is new in a year that is bound; to bind it with the rest: unbind, backup, then bind again", attention=True
        ))  # fmt: skip
    return sidecar


def _new_file(came: Came, role: str, mtime_ns: int) -> NewFile:
    file, former = came.file, came.file.former_name or came.file.source.rpartition("/")[2]
    return NewFile(
        role=role, path=file.path, bytes=file.bytes, sha256=came.sha256, mtime_ns=mtime_ns, media=file.media, width=file.width,
        height=file.height, former_name=former if former != file.path.rpartition("/")[2] else "",
    )  # fmt: skip


def _joined(library: Library, path: str) -> sqlite3.Row | None:
    """The frame, and the time, of a picture that something joins; None where it has left the library meanwhile."""
    row: sqlite3.Row | None = library.db.execute(
        "SELECT frame, mtime_ns FROM files WHERE path = ? AND frame NOT NULL", (path,)
    ).fetchone()
    return row


def _join(library: Library, landing: Placing, one: Arrived, files: dict[int, int]) -> Path | None:
    """Enter files that belong to a frame which is here; its sidecar, if it is new or changed by that, is returned."""
    db = library.db
    row = _joined(library, one.frame.joins)
    if row is None:
        library.seen.append(Finding(
            one.frame.joins, "it has left the library meanwhile; what was to join it lies beside, for stocktake to take up", True
        ))  # fmt: skip
        return None
    take_up_edits(library, row["frame"])
    for came in one.came:
        if came.file.role != "sidecar":
            files[came.number] = enter_file(db, row["frame"], _new_file(came, came.file.role, row["mtime_ns"]))
    claims = [Claim(*claim) for claim in one.frame.claims]  # type: ignore[arg-type]
    add_claims(db, row["frame"], one.came[0].file.path, claims, beneath=True)
    packet = _packet(library, landing, one, row["frame"])
    return write_sidecar(library, row["frame"], packet, where_different=True)


def original_of(came: Sequence[Came]) -> Came:
    """The file that stands for the frame: its original, or where that did not come the first of the others."""
    able = [one for one in came if one.file.role in _STANDING]
    return next((one for one in able if one.file.role == "original"), able[0])


def _packet(library: Library, landing: Placing, arrived: Arrived, number: int) -> bytes | None:
    """The sidecar that came with a frame, what it says entered; one that cannot be read is kept as it came, and told."""
    first: bytes | None = None
    for one in arrived.came:
        if one.file.role != "sidecar":
            continue
        try:
            packet = packet_in(place_of(landing, landing_path(one.file)))
            said = read_xmp(packet)
            if not arrived.frame.as_told:
                add_claims(library.db, number, one.file.source, said)
            first = first or packet
        except BrokenXmp as error:
            library.seen.append(Finding(
                one.file.source, f"the sidecar cannot be read ({error}); it is kept in delivered/ as it came", attention=True
            ))  # fmt: skip
    return first


def is_frame(came: Sequence[Came]) -> bool:
    """Whether anything came that a frame can stand for."""
    return any(one.file.role in _STANDING for one in came)
