"""Unpacking a parcel into the library: check everything, stage, plan, put in place, enter, account."""

import json
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from bramblemoor.exports import worksheet as worksheets
from bramblemoor.exports.account import account
from bramblemoor.exports.extract import Progress, decode_claims, extract, list_entries
from bramblemoor.exports.pairing import own_claims, plan, sidecars_of
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.sidecars import BrokenSidecar, read_album
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.claims import Claim
from bramblemoor.library.albums import extend_album, write_album
from bramblemoor.library.catalogue import NewFile, add_claims, add_frame, enter_file
from bramblemoor.library.durable import digest_of, flush_folder, flush_many, set_time
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Receipt, write_receipt
from bramblemoor.library.sidecars import write_sidecar
from bramblemoor.library.volumes import volume_of


def unpack(library: Library, parcel: Parcel, progress: Progress) -> Receipt:
    """Unpack a parcel whose parts are known to be complete and sound; returns its receipt, which is also written.

    May be killed at any moment: the next call goes on from the worksheet. Raises PartsAmiss or HostileArchive before
    anything has reached the library. Where the books do not balance the order does not count as unpacked.
    """
    sheet = Worksheet(parcel.work, worksheets.fingerprint(parcel))
    list_entries(sheet, parcel)
    extract(sheet, parcel, progress)
    plan(sheet, parcel, library)
    mark = f"entered {parcel.service} {parcel.order}"
    if library.db.execute("SELECT 1 FROM meta WHERE key = ?", (mark,)).fetchone() is None:
        touched = _put_in_place(sheet, library, progress)
        with library.ledger.changing(facts=True) as db:
            _enter(sheet, parcel, library, touched, progress)
            db.execute("INSERT INTO meta VALUES (?, '')", (mark,))
    receipt = account(sheet, parcel, library)
    write_receipt(library.receipts, receipt)
    # In this order: a worksheet must never outlive its mark, or its frames would be entered again.
    sheet.discard()
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (mark,))
        if receipt.balanced:
            db.execute("UPDATE orders SET state = 'unpacked' WHERE id = ?", (parcel.order,))
    return receipt


def _put_in_place(sheet: Worksheet, library: Library, progress: Progress) -> list[Path]:
    """Move staged pictures to where the plan says; returns the folders that got new names."""
    rows = sheet.db.execute("SELECT staged_as, path, mtime_ns FROM units WHERE here IS NULL ORDER BY path").fetchall()
    folders: dict[Path, None] = {}
    for number, row in enumerate(rows, 1):
        staged, target = sheet.staged(row["staged_as"]), library.root / row["path"]
        if target.parent not in folders:
            target.parent.mkdir(parents=True, exist_ok=True)
            folders[target.parent] = None
        if staged.is_file():  # else an earlier run has put it there
            if row["mtime_ns"] is not None:
                set_time(staged, row["mtime_ns"])
            staged.replace(target)
        progress("filing", number, len(rows))
    for folder in folders:
        flush_folder(folder)
        flush_folder(folder.parent)
    return list(folders)


def _enter(sheet: Worksheet, parcel: Parcel, library: Library, folders: list[Path], progress: Progress) -> None:
    """Enter frames, files, claims and albums in the ledger, and write their sidecars and albums; one transaction."""
    references: dict[str, int] = {}
    numbers: dict[int, int] = {}
    packets: dict[int, bytes] = {}
    changed: dict[int, None] = {}
    frames = sheet.db.execute("SELECT frame, max(here) AS here FROM units GROUP BY frame ORDER BY frame").fetchall()
    for row in frames:
        frame, is_changed = _enter_frame(sheet, parcel, library, row["frame"], row["here"])
        numbers[row["frame"]] = frame
        if is_changed:
            changed[frame] = None
        for said in sidecars_of(sheet, row["frame"]):
            if said["reference"]:
                references[said["reference"]] = frame
            if said["content"] is not None:
                packets[frame] = said["content"]
    albums = list(_enter_albums(sheet, parcel, library.db, references, numbers))
    for _, added in albums:
        changed.update(dict.fromkeys(added))
    written: list[Path] = []
    for number, frame in enumerate(changed, 1):
        path = write_sidecar(library, frame, packets.get(frame))
        if path is not None:
            written.append(path)
        progress("writing sidecars", number, len(changed))
    for album, _ in albums:
        write_album(library, album)
    _keep_delivered(sheet, parcel, library)
    flush_many(written, library.root, whole_system=volume_of(library.root).flushes_whole)
    for folder in folders:
        flush_folder(folder)


def _enter_frame(
    sheet: Worksheet, parcel: Parcel, library: Library, original: int, here: int | None
) -> tuple[int, bool]:
    """Enter one frame, or what is new of one that is here already; returns its number and whether anything was new."""
    db = library.db
    units = sheet.db.execute(
        "SELECT units.*, media, width, height, size, picture_kind FROM units JOIN entries ON id = entry WHERE frame = ?"
        " ORDER BY role = 'original' DESC, path",
        (original,),
    ).fetchall()
    sidecars = sidecars_of(sheet, original)
    frame, new = here, here is None
    if frame is None:
        folder, _, name = units[0]["path"].rpartition("/")
        frame = add_frame(
            db,
            folder=folder,
            name=name,
            kind="video" if units[0]["picture_kind"] == "video" else "photo",
            service=parcel.service,
            reference=next((said["reference"] for said in sidecars if said["reference"]), ""),
            arrived=parcel.order,
        )
    for unit in units:
        if unit["here"] is None:
            new = True
            mtime = unit["mtime_ns"]
            if mtime is None:
                mtime = (library.root / unit["path"]).stat().st_mtime_ns
            enter_file(
                db,
                frame,
                NewFile(
                    unit["role"], unit["path"], unit["size"], unit["sha256"], mtime, unit["media"] or "",
                    unit["width"] or 0, unit["height"] or 0, unit["former_name"],
                ),
            )  # fmt: skip
    new |= add_claims(db, frame, units[0]["path"] or "", own_claims(sheet, original))
    for said in sidecars:
        told: list[Claim] = decode_claims(said["claims"])
        new |= add_claims(db, frame, f"{parcel.service} {parcel.order} {said['name']}", told)
    return frame, new


def _enter_albums(
    sheet: Worksheet, parcel: Parcel, db: sqlite3.Connection, references: dict[str, int], numbers: dict[int, int]
) -> Iterator[tuple[int, list[int]]]:
    """Rebuild albums; yields each with the frames that are new in it. `numbers` leads from a frame's entry to its number."""
    for row in sheet.db.execute("SELECT id, name, content FROM entries WHERE kind = 'album' ORDER BY id"):
        try:
            album = read_album(row["content"], parcel.dialect)
        except BrokenSidecar as error:
            sheet.db.execute(
                "UPDATE entries SET troubles = ? WHERE id = ?",
                (json.dumps([f"the album description was not read: {error}"]), row["id"]),
            )
            continue
        listed = [references.get(reference) for reference in album.order]
        copies = (numbers[frame] for frame in _frames_beside(sheet, row["name"]))
        unlisted = iter([frame for frame in copies if frame not in listed])
        # A frame without a sidecar cannot be told by its reference: it is one of those that lie in the album's folder.
        members = [
            found for frame in listed if (found := frame if frame is not None else next(unlisted, None)) is not None
        ]
        members += unlisted
        yield extend_album(
            db,
            service=parcel.service,
            reference=album.reference or album.title,
            title=album.title,
            description=album.description,
            frames=members,
        )


def _frames_beside(sheet: Worksheet, description: str) -> list[int]:
    """The frames whose copies lie in the folder of an album's description, in the order of the archive."""
    folder = description.rpartition("/")[0] + "/"
    rows = sheet.db.execute(
        "SELECT units.frame FROM entries JOIN units USING (sha256) WHERE kind = 'picture' AND is_copy"
        " AND substr(name, 1, ?) = ? ORDER BY id",
        (len(folder), folder),
    )
    return list(dict.fromkeys(row[0] for row in rows))


def _keep_delivered(sheet: Worksheet, parcel: Parcel, library: Library) -> None:
    """Move the packed delivered data, one ZIP a part, to delivered/SERVICE/ORDER/."""
    folder = library.root / "delivered" / parcel.service / parcel.order
    for number, part in enumerate(parcel.parts):
        packed = sheet.staging / f"delivered-{number}.zip"
        target = folder / f"{part.stem}.zip"
        if packed.is_file():
            folder.mkdir(parents=True, exist_ok=True)
            packed.replace(target)
        if target.is_file():
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
