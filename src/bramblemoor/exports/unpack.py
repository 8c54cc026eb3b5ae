"""Unpacking a parcel into the library: check everything, stage, plan, put in place, enter, account."""

import hashlib
import json
import os
import re
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from io import FileIO
from pathlib import Path

from bramblemoor.disk.durable import digest_of, flush_file, flush_folder
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.disk.names import safe_name
from bramblemoor.exports import worksheet as worksheets
from bramblemoor.exports.account import account
from bramblemoor.exports.albums import albums_in
from bramblemoor.exports.earlier_exports import Earlier, export_mark, told_by, withdraw
from bramblemoor.exports.extract import extract, list_entries
from bramblemoor.exports.joining import bring_together, frame_for, is_original
from bramblemoor.exports.new_frames import delivered_packet, enter_new, new_file, number_new
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.planning import (
    AT_ONCE,
    FRAMES,
    PLANNED,
    came_as,
    names_of,
    original_of,
    own_claims,
    plan,
    records_of,
    told_reference,
    units_of,
)
from bramblemoor.exports.worksheet import ENTERING, Worksheet, decode_claims, digest_of_key
from bramblemoor.frames.claims import HAND, Claim
from bramblemoor.frames.heard import SINGLE
from bramblemoor.frames.kinds import sidecar_of
from bramblemoor.library.albums import extend_album, frames_of_album, write_albums
from bramblemoor.library.catalogue import NewFile, add_claims, add_frame, claims_of, enter_file
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding, Receipt, write_receipt
from bramblemoor.library.receiving import Filing, each_here, is_right, mend_here, was_read
from bramblemoor.library.reduced import mark_reduced, mark_undated
from bramblemoor.library.renewing import take_up_all
from bramblemoor.library.sidecars import is_new_packet, take_up_edits, write_sidecar
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions

_FLUSHED = 4000  # sidecars that are flushed together
_BY_HAND = ("title", "caption", "location", "position", "rating")


def unpack(library: Library, parcel: Parcel, progress: Progress) -> Receipt:
    """Unpack a parcel whose parts are known to be complete and sound; returns its receipt, which is also written.

    May be killed at any moment: the next call goes on from the worksheet. Raises PartsAmiss or HostileArchive before
    anything has reached the library. Where the books do not balance the order does not count as unpacked.
    """
    sheet = Worksheet(parcel.work, worksheets.fingerprint(parcel))
    with Helpers() as helping:
        list_entries(sheet, parcel, helping, progress)
        return _unpack(sheet, parcel, library, helping, progress)


def _unpack(sheet: Worksheet, parcel: Parcel, library: Library, helping: Helpers, progress: Progress) -> Receipt:
    extract(sheet, parcel, helping, progress)
    mark = f"entered {parcel.service} {parcel.order}"
    if not sheet.get(PLANNED):  # a mark that is there is that of another version's worksheet
        with library.ledger.changing() as db:
            db.execute("DELETE FROM meta WHERE key = ?", (mark,))
        with library.ledger.unchanged():
            plan(sheet, parcel, library, progress)
    if library.db.execute("SELECT 1 FROM meta WHERE key = ?", (mark,)).fetchone() is None:
        touched = _put_in_place(sheet, library, progress)
        # What a run that broke off while it entered wrote beside the pictures, the ledger does not know yet.
        resumed = sheet.get(ENTERING) is not None
        known = (
            row[0] for row in sheet.db.execute("SELECT DISTINCT here FROM units WHERE here NOT NULL ORDER BY here")
        )
        edited = take_up_all(library, known, resumed=resumed)
        with library.ledger.changing(facts=True) as db:
            _look_at_known(sheet, parcel, library)
            _enter(sheet, parcel, library, touched, edited, resumed, helping, progress)
            sheet.put("seen", json.dumps([[one.name, one.what, one.attention] for one in library.seen]))
            library.seen.clear()
            db.execute("INSERT INTO meta VALUES (?, '')", (mark,))
    with library.ledger.unchanged():
        receipt = account(sheet, parcel, library, progress)
    write_receipt(library.receipts, receipt)
    # In this order: a worksheet must never outlive its mark, or its frames would be entered again.
    sheet.discard()
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (mark,))
        db.execute(
            "INSERT OR REPLACE INTO meta VALUES (?, ?)",
            (export_mark(parcel.service, parcel.order), json.dumps(known_marks(library, parcel) | parcel.marks)),
        )
        if receipt.balanced and not parcel.without:
            db.execute("UPDATE orders SET state = 'unpacked' WHERE id = ?", (parcel.order,))
    return receipt


def apart(library: Library, parcel: Parcel, work: Callable[[str], Path]) -> Parcel:
    """The parcel under a name of its own, where another export that was unpacked had its name: told by what the parts hold.

    `work` is the folder in which an order is worked on.
    """
    known, marks = known_marks(library, parcel), parcel.marks
    shared = known.keys() & marks.keys()
    delivered = library.root / "delivered" / parcel.service / parcel.order
    if (not known and not delivered.exists()) or (shared and all(known[name] == marks[name] for name in shared)):
        return parcel
    digest = hashlib.sha256("".join(f"{name}\0{mark}\0" for name, mark in sorted(marks.items())).encode()).hexdigest()
    order = f"{parcel.order}-{digest[:8]}"
    return replace(parcel, order=order, work=work(order))


def known_marks(library: Library, parcel: Parcel) -> dict[str, str]:
    """The marks of the parts of an export that was unpacked under this name; none where none was."""
    row = library.db.execute(
        "SELECT value FROM meta WHERE key = ?", (export_mark(parcel.service, parcel.order),)
    ).fetchone()
    found: dict[str, str] = json.loads(row["value"]) if row else {}
    return found


def _put_in_place(sheet: Worksheet, library: Library, progress: Progress) -> list[Path]:
    """Move staged pictures to where the plan says; returns the folders that got new names."""
    rows = sheet.db.execute(
        "SELECT entry, staged_as, sha256, role, path, mtime_ns FROM units WHERE here IS NULL ORDER BY role != 'twin', path"
    ).fetchall()
    filing = Filing(library)
    for number, row in enumerate(rows, 1):
        staged = sheet.staged(row["staged_as"])
        if row["role"] == "twin" and staged.is_file():  # the same content in another folder: before the first is moved
            copy = sheet.staging / f"twin-{row['entry']}"
            shutil.copyfile(staged, copy)
            flush_file(copy)
            staged = copy
        filing.put(str(staged), row["path"], row["mtime_ns"])
        progress(Stage("filing", "files"), number, len(rows))
    filing.flush()
    return list(filing.folders)


def _look_at_known(sheet: Worksheet, parcel: Parcel, library: Library) -> None:
    """Look at what is in the library already; where it is missing or damaged, what has come takes its place."""
    mended = []
    by = f"{parcel.service} {parcel.order}"
    for unit in sheet.db.execute(
        "SELECT entry, staged_as, sha256 FROM units WHERE here NOT NULL ORDER BY entry"
    ).fetchall():
        digest = digest_of_key(unit["sha256"])
        for here in each_here(library, digest, read=True):
            if here.away:
                continue
            if not here.hurt:
                was_read(library.db, here.file)
            elif mend_here(library, here, digest, partial(FileIO, sheet.staged(unit["staged_as"])), by):
                is_right(library.db, here.file)
                mended.append(here.path)
    sheet.put("mended", json.dumps(mended))


def _enter(
    sheet: Worksheet, parcel: Parcel, library: Library, folders: list[Path], edited: set[int], resumed: bool, helping: Helpers,
    progress: Progress,
) -> None:  # fmt: skip
    """Enter frames, files, claims and albums in the ledger, and write their sidecars and albums; one transaction.

    `edited` are the frames of which edits were taken up for this.
    """
    sheet.db.execute(
        "CREATE TEMP TABLE entered"
        " (frame INTEGER PRIMARY KEY, number INTEGER, changed INTEGER, new INTEGER, in_bulk INTEGER)"
    )
    sheet.db.execute("CREATE INDEX temp.entered_number ON entered (number)")
    sheet.put(ENTERING, "yes")
    updated = 0
    earlier = Earlier(library.db, parcel.service)
    others: list[int] = []
    for rows in portions(sheet.db.execute(FRAMES), AT_ONCE):  # which is sorted before the first comes
        fresh = [
            row for row in rows if row["is_new"] and not os.path.lexists(f"{library.root}/{sidecar_of(row['path'])}")
        ]
        numbers = number_new(parcel, library, fresh)
        sheet.db.executemany("INSERT INTO entered VALUES (?, ?, 1, 1, 1)", numbers.items())
        others += [row["frame"] for row in rows if row["frame"] not in numbers]
    for some in portions(others, AT_ONCE):
        units, records, names = units_of(sheet, some), records_of(sheet, some), names_of(sheet, some)
        for frame in some:
            number, is_changed, is_new = _enter_frame(
                sheet, parcel, library, earlier, units[frame], records[frame], names[frame], resumed
            )
            is_changed |= number in edited
            updated += is_changed and not is_new
            sheet.db.execute("INSERT INTO entered VALUES (?, ?, ?, ?, 0)", (frame, number, is_changed, is_new))
    albums = list(dict.fromkeys(_enter_albums(sheet, parcel, library)))
    sheet.put("updated", str(updated))
    changed = sheet.db.execute(
        "SELECT number, min(frame) AS frame, max(new) AS new FROM entered WHERE changed AND NOT in_bulk GROUP BY number"
    ).fetchall()
    in_bulk = sheet.db.execute("SELECT frame, number FROM entered WHERE in_bulk ORDER BY number")
    all_of_them = sheet.db.execute("SELECT count(*) FROM entered WHERE in_bulk").fetchone()[0] + len(changed)
    count, written = 0, list[Path | str]()
    for frames, paths in enter_new(sheet, parcel, library, in_bulk, helping):
        written += paths
        if len(written) >= _FLUSHED:
            flush_files(written, library.root)
            written.clear()
        count += frames
        progress(Stage("writing sidecars", "frames"), count, all_of_them)
    for row in changed:
        packet = delivered_packet(records_of(sheet, [row["frame"]])[row["frame"]])
        path = write_sidecar(library, row["number"], packet, new=bool(row["new"]))
        if path is not None:
            written.append(path)
        count += 1
        progress(Stage("writing sidecars", "frames"), count, all_of_them)
    flush_files(written, library.root)
    mark_reduced(library, parcel.order)
    mark_undated(library, parcel.order, progress)
    write_albums(library, albums)
    _keep_delivered(sheet, parcel, library)
    for folder in folders:
        flush_folder(folder)


def _enter_frame(
    sheet: Worksheet,
    parcel: Parcel,
    library: Library,
    earlier: Earlier,
    units: list[sqlite3.Row],
    records: list[sqlite3.Row],
    names: list[str],
    resumed: bool,
) -> tuple[int, bool, bool]:
    """Enter one frame, or what is new of one that is here already; returns its number, whether anything was new, and whether
    all was.
    """
    db = library.db
    told_now = [claim for record in records for claim in decode_claims(record["claims"])]
    new = _take_back(sheet, library, earlier, units, records)
    frame = here = frame_for(sheet, db, units, told_now)
    new |= here is None or any(unit["here"] != here for unit in units)
    if here is not None:  # before anything new is told of it
        new |= take_up_edits(library, here, resumed=resumed)
    if frame is None:
        folder, _, name = units[0]["path"].rpartition("/")
        frame = add_frame(
            db,
            folder=folder,
            name=name,
            read_as=units[0]["picture_kind"],
            service=parcel.service,
            reference=told_reference(records),
            arrived=parcel.order,
        )
    bring_together(sheet, db, units, frame, told_now)
    for unit in units:
        if unit["here"] is None:
            new = True
            enter_file(db, frame, new_file(library, unit))
    before = claims_of(db, frame)
    only_edit = not is_original(db, frame, units[0])  # of what is here
    original = original_of(units)
    if not only_edit:
        new |= add_claims(db, frame, units[0]["path"] or "", own_claims(original["claims"], original["name"]))
    for record in records:
        told = told_by(parcel.service, parcel.order, record["name"])
        claims = [
            claim for claim in decode_claims(record["claims"]) if claim not in before or _is_last(claim, told_now)
        ]
        new |= add_claims(db, frame, told, claims, beneath=only_edit)
        if here is not None:
            _note_conflicts(library, frame, before, claims)
    add_claims(db, frame, f"{parcel.service} {parcel.order}", [came_as(parcel.service, name) for name in names])
    packet = delivered_packet(records)
    if here is not None and packet is not None:
        new |= is_new_packet(library, here, packet)
    if here is None:
        take_up_edits(library, frame, resumed=resumed)  # of a sidecar that lay there before its picture came
    return frame, new, here is None


def _take_back(
    sheet: Worksheet, library: Library, earlier: Earlier, units: list[sqlite3.Row], records: list[sqlite3.Row]
) -> bool:
    """Take back of the frames that contents of one are here already what is shown to be another's; says if anything was."""
    taken_back = False
    for known in sorted({unit["here"] for unit in units if unit["here"] is not None}):
        if count := withdraw(sheet, earlier, units[0]["frame"], known, records):
            taken_back = True
            what = f"an earlier export seemed to tell {count} {'fact' if count == 1 else 'facts'} of it, by a record that is"
            library.seen.append(
                Finding(_path_of(library.db, known), f"{what} another picture's, as this one shows: taken back")
            )
    return taken_back


def _is_last(claim: Claim, told: list[Claim]) -> bool:
    """Whether a claim is the last word of an export on its field: what is said before it, as of an edit, is not said anew."""
    if claim.field not in SINGLE:
        return True
    return claim == [one for one in told if (one.field, one.source) == (claim.field, claim.source)][-1]


def _note_conflicts(library: Library, frame: int, before: list[Claim], told: list[Claim]) -> None:
    """Tell where a service says something new of what was changed here by hand: both are kept, and the hand's is believed."""
    for claim in told:
        by_hand = [one.value for one in before if one.field == claim.field and one.source in HAND]
        if claim.field not in _BY_HAND or not by_hand or by_hand[-1] == claim.value or claim in before:
            continue
        mine = f"changed to {by_hand[-1]!r}" if by_hand[-1] else "taken away"
        what = f"{claim.field}: here it was {mine}, the service says {claim.value!r} now;"
        kept = f"{by_hand[-1]!r} is kept" if by_hand[-1] else "it stays away"
        library.seen.append(Finding(_path_of(library.db, frame), f"{what} {kept}", attention=True))


def _path_of(db: sqlite3.Connection, frame: int) -> str:
    return str(db.execute("SELECT folder || '/' || name FROM frames WHERE id = ?", (frame,)).fetchone()[0])


def _enter_albums(sheet: Worksheet, parcel: Parcel, library: Library) -> Iterator[int]:
    """Rebuild albums; yields their numbers. Frames that are new in one count as changed."""

    def number(frame: int) -> int:
        return int(sheet.db.execute("SELECT number FROM entered WHERE frame = ?", (frame,)).fetchone()[0])

    came = {row[0] for row in sheet.db.execute("SELECT number FROM entered")}
    for album in albums_in(sheet, parcel.dialect):
        for name in album.missing:
            library.seen.append(Finding(name, f"it is in the album {album.title!r}, and did not come", attention=True))
        frames = [number(frame) for frame in album.frames]
        before = frames_of_album(library.db, parcel.service, album.reference or album.title, album.title)
        for path, frame in before:
            if frame not in frames and (frame in came or (album.is_listed and not album.missing)):
                what = f"the service has taken it out of the album {album.title!r}; here it stays in it"
                library.seen.append(Finding(path, what))
        entered, added = extend_album(
            library.db,
            service=parcel.service,
            reference=album.reference or album.title,
            title=album.title,
            description=album.description,
            frames=frames,
            cover=number(album.cover) if album.cover is not None else None,
        )
        sheet.db.executemany("UPDATE entered SET changed = 1 WHERE number = ?", [(frame,) for frame in added])
        yield entered


def _keep_delivered(sheet: Worksheet, parcel: Parcel, library: Library) -> None:
    """Move the packed delivered data, one ZIP a part, to delivered/SERVICE/ORDER/."""
    folder = library.root / "delivered" / parcel.service / parcel.order
    for packed in sorted(sheet.staging.glob("delivered-*.zip")):
        number, _, piece = packed.stem.removeprefix("delivered-").partition("-")
        stem = re.sub(r"\.(?:zip|tar|tgz|tar\.gz)$", "", parcel.parts[int(number)].name, flags=re.IGNORECASE)
        folder.mkdir(parents=True, exist_ok=True)
        packed.replace(folder / (safe_name(stem) + (f" ({piece})" if piece != "1" else "") + ".zip"))
    for target in sorted(folder.glob("*.zip")):
        written = target.stat()
        enter_file(
            library.db,
            None,
            NewFile(
                "delivered", target.relative_to(library.root).as_posix(), written.st_size, digest_of(target),
                written.st_mtime_ns, "application/zip",
            ),
        )  # fmt: skip
    if folder.is_dir():
        for level in (folder, folder.parent, folder.parent.parent):
            flush_folder(level)
