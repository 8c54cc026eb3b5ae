"""The receipt of an unpacking: what came in, counted from the parts, against what is kept, counted from library and ledger."""

import json
import zipfile
from collections.abc import Iterator

from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.claims import believe
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.catalogue import claims_of
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, next_number, stamp

_PICTURES = "role IN ('original', 'rendition', 'clip')"


def account(sheet: Worksheet, parcel: Parcel, library: Library) -> Receipt:
    """The balanced account of a parcel, or one that shows that it does not balance.

    The two sides share no counting: what came in is read off the parts' directories and the service's statement; what
    was kept is read off the ledger and looked up on disk.
    """
    lone = sheet.db.execute(
        "SELECT * FROM entries WHERE kind = 'sidecar' AND id NOT IN (SELECT sidecar FROM pairs) ORDER BY id"
    ).fetchall()
    files, size = sheet.db.execute("SELECT count(*), coalesce(sum(size), 0) FROM entries").fetchone()
    frames = parcel.frames_said
    if frames is None:
        frames = sheet.db.execute("SELECT count(DISTINCT frame) FROM units").fetchone()[0] + len(lone)
    vanished: list[Finding] = []
    left_out = [
        LeftOut(
            row["file_name"] or row["name"],
            "the service sent its sidecar but no picture; the sidecar is kept in delivered/",
            Amount(frames=1),
        )
        for row in lone
    ]
    left_out += _stored_once(sheet)
    kept = [
        Kept("new in the library", _new(parcel, library, vanished)),
        Kept("in the library already", _here_before(sheet, parcel, library)),
        Kept("sidecars and other data, as delivered", _delivered(parcel, library)),
    ]
    return Receipt(
        number=next_number(library.receipts),
        run="unpack",
        started=sheet.get("started") or stamp(now_utc()),
        finished=stamp(now_utc()),
        about={"service": parcel.service, "order": parcel.order, "parts": str(len(parcel.parts))} | dict(parcel.about),
        came_in=Amount(frames, files, size),
        kept=[line for line in kept if line.amount != Amount()],
        left_out=left_out,
        findings=vanished + list(_findings(sheet, parcel, library)),
    )


def _new(parcel: Parcel, library: Library, vanished: list[Finding]) -> Amount:
    """Pictures of this order that the ledger has and the disk holds at their full length."""
    amount, frames = Amount(), set()
    for row in library.db.execute(
        f"SELECT frame, path, bytes FROM files JOIN frames ON frames.id = frame WHERE arrived = ? AND {_PICTURES}",
        (parcel.order,),
    ):
        path = library.root / row["path"]
        if not path.is_file() or path.stat().st_size != row["bytes"]:
            vanished.append(Finding(row["path"], "it was put in place and is not there now"))
            continue
        frames.add(row["frame"])
        amount += Amount(files=1, bytes=row["bytes"])
    return Amount(len(frames), amount.files, amount.bytes)


def _here_before(sheet: Worksheet, parcel: Parcel, library: Library) -> Amount:
    amount, frames = Amount(), set()
    for unit in sheet.db.execute("SELECT sha256 FROM units"):
        row = library.db.execute(
            "SELECT frame, bytes FROM files JOIN frames ON frames.id = frame"
            f" WHERE sha256 = ? AND arrived != ? AND {_PICTURES}",
            (unit["sha256"], parcel.order),
        ).fetchone()
        if row is not None:
            frames.add(row["frame"])
            amount += Amount(files=1, bytes=row["bytes"])
    return Amount(len(frames), amount.files, amount.bytes)


def _stored_once(sheet: Worksheet) -> Iterator[LeftOut]:
    """Entries whose content another entry has too; one with a sidecar of its own counts as a frame at the service."""
    for row in sheet.db.execute(
        "SELECT e.name, e.size, first.name AS kept, EXISTS (SELECT 1 FROM pairs WHERE picture = e.id) AS counted"
        " FROM entries e JOIN units USING (sha256) JOIN entries first ON first.id = units.entry"
        " WHERE e.kind = 'picture' AND e.id != units.entry ORDER BY e.id"
    ):
        name = f"{row['name']} (as {row['kept']})"
        yield LeftOut(name, "the same picture was delivered again; stored once", Amount(row["counted"], 1, row["size"]))


def _delivered(parcel: Parcel, library: Library) -> Amount:
    """What the ZIPs in delivered/ hold now."""
    amount = Amount()
    folder = library.root / "delivered" / parcel.service / parcel.order
    for path in sorted(folder.glob("*.zip")):
        with zipfile.ZipFile(path) as archive:
            for entry in archive.infolist():
                amount += Amount(files=1, bytes=entry.file_size)
    return amount


def _findings(sheet: Worksheet, parcel: Parcel, library: Library) -> Iterator[Finding]:
    """What a person should know: unread sidecars, pictures without one or not recognised, changed names, contradictions."""
    for row in sheet.db.execute("SELECT name, troubles FROM entries WHERE troubles != '[]' ORDER BY id"):
        for trouble in json.loads(row["troubles"]):
            yield Finding(row["name"], trouble)
    for row in sheet.db.execute(
        "SELECT DISTINCT e.name, e.media, e.size, e.picture_kind, u.role, u.path, u.former_name,"
        " EXISTS (SELECT 1 FROM pairs WHERE picture = e.id) AS paired"
        " FROM units u JOIN entries e ON e.id = u.entry ORDER BY e.id"
    ):
        name = row["path"] or row["name"]
        if row["role"] == "original" and not row["paired"]:
            yield Finding(name, "no sidecar came with it")
        if row["picture_kind"] == "other":
            what = "it is empty" if row["size"] == 0 else "no picture that Bramblemoor can recognise"
            yield Finding(name, f"{what}; kept as it came")
        if row["former_name"]:
            yield Finding(name, f"came as {row['former_name']}; that name was taken or does not work on every drive")
    for row in library.db.execute(
        "SELECT id, folder, name, reduced FROM frames WHERE arrived = ? ORDER BY id", (parcel.order,)
    ):
        if row["reduced"]:
            yield Finding(f"{row['folder']}/{row['name']}", "a reduced copy: the service keeps no original of it")
        for conflict in believe(claims_of(library.db, row["id"])).conflicts:
            yield Finding(f"{row['folder']}/{row['name']}", conflict)
