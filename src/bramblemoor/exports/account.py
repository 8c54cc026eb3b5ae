"""The receipt of an unpacking: what came in, counted from the parts, against what is kept, counted from library and ledger."""

import json
import stat
import zipfile
from collections.abc import Iterator
from itertools import groupby
from sqlite3 import Row

from bramblemoor.disk.durable import status_of
from bramblemoor.disk.names import is_litter, safe_name
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.unpaired import Lone, candidates_of, listed, lone_records
from bramblemoor.exports.worksheet import Worksheet, digest_of_key
from bramblemoor.frames.claims import Claim, believed_moment
from bramblemoor.frames.kinds import PICTURES, UNKNOWN, family, family_by_name
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, next_number, stamp
from bramblemoor.running import Progress, Stage


def account(sheet: Worksheet, parcel: Parcel, library: Library, progress: Progress) -> Receipt:
    """The balanced account of a parcel, or one that shows that it does not balance.

    The two sides share no counting: what came in is read off the parts' directories and the service's statement; what
    was kept is read off the ledger and looked up on disk.
    """
    alone = list(lone_records(sheet))
    lone = [one for one in alone if not one.open]
    files, size = sheet.db.execute("SELECT count(*), coalesce(sum(size), 0) FROM entries").fetchone()
    frames = parcel.frames_said
    if frames is None:
        frames = sheet.db.execute("SELECT count(DISTINCT frame) FROM units").fetchone()[0] + len(lone)
    vanished: list[Finding] = []
    new, before = _kept(sheet, library, vanished, progress)
    left_out = [LeftOut(one.name, _MAY_BE_THERE if parcel.without else _NO_PICTURE, Amount(frames=1)) for one in lone]
    if parcel.without:
        gap = max(0, frames - sheet.db.execute("SELECT count(DISTINCT frame) FROM units").fetchone()[0] - len(lone))
        left_out.append(LeftOut(", ".join(parcel.without), _NOT_HERE, Amount(frames=gap)))
    left_out += _stored_once(sheet)
    kept = [
        Kept("new in the library", new),
        Kept("in the library already", before),
        Kept("sidecars and other data, as delivered", _delivered(parcel, library)),
    ]
    return Receipt(
        number=next_number(library.receipts),
        run="unpack",
        started=sheet.get("started") or stamp(now_utc()),
        finished=stamp(now_utc()),
        about=_about(sheet, parcel, library),
        came_in=Amount(frames, files, size),
        kept=[line for line in kept if line.amount != Amount()],
        left_out=left_out,
        findings=[
            *vanished,
            *(Finding(path, "it was missing or damaged here; this export has mended it") for path in _mended(sheet)),
            *(Finding(*one) for one in json.loads(sheet.get("seen") or "[]")),
            *_open(alone),
            *_findings(sheet, parcel, library),
            *_no_more(sheet, parcel, library),
        ],
    )


def _open(alone: list[Lone]) -> Iterator[Finding]:
    """Records that have no picture although some came that they might speak of, and why that is none of theirs."""
    for one in alone:
        if one.open:
            yield Finding(
                one.name,
                f"it may speak of {listed(one.candidates)}; nothing was guessed, and what it tells is kept in delivered/",
                attention=True,
            )
        elif one.candidates:
            yield Finding(one.name, f"it does not speak of {listed(one.candidates)}")


def _no_more(sheet: Worksheet, parcel: Parcel, library: Library) -> Iterator[Finding]:
    """Frames that came from the service before, and are not in this export; of many only how many."""
    if not parcel.is_whole:
        return
    came = {digest_of_key(row[0]) for row in sheet.db.execute("SELECT sha256 FROM units")}
    gone: dict[str, None] = {}
    for row in library.db.execute(
        "SELECT r.folder || '/' || r.name AS path, f.sha256 FROM frames r"
        " JOIN files f ON f.frame = r.id AND f.role = 'original'"
        " WHERE r.service = ? AND r.arrived NOT IN ('', ?) ORDER BY path",
        (parcel.service, parcel.order),
    ):
        if row["sha256"] not in came:
            gone[row["path"]] = None
    what = "it came from the service before, and is not in this export; here it stays"
    if len(gone) > _MOST_NAMED:
        yield Finding(f"{len(gone):,} frames", what)
    else:
        yield from (Finding(path, what) for path in gone)


def _mended(sheet: Worksheet) -> list[str]:
    paths: list[str] = json.loads(sheet.get("mended") or "[]")
    return paths


def _about(sheet: Worksheet, parcel: Parcel, library: Library) -> dict[str, str]:
    about = {"service": parcel.service, "order": parcel.order, "parts": str(len(parcel.parts))} | dict(parcel.about)
    edited, plain = sheet.db.execute(
        "SELECT count(*) FILTER (WHERE edited), count(*) FILTER (WHERE NOT edited) FROM (SELECT max(role = 'rendition' OR EXISTS"
        " (SELECT 1 FROM entries e JOIN pairs ON picture = e.id JOIN records r ON r.id = record AND r.edits"
        "  WHERE e.sha256 = u.sha256) OR (SELECT max(edits) FROM entries e WHERE e.sha256 = u.sha256)) AS edited"
        " FROM units u GROUP BY frame)"
    ).fetchone()
    about["frames"] = f"{edited:,} with edits, beside or inside the file; {plain:,} without"
    albums, lone = library.db.execute(
        "SELECT (SELECT count(*) FROM albums WHERE service = ?), (SELECT count(*) FROM frames WHERE arrived = ? AND id NOT IN"
        " (SELECT frame FROM album_frames))",
        (parcel.service, parcel.order),
    ).fetchone()
    if albums:
        about["albums"] = f"{albums:,} of this service; of the new frames, {lone:,} are in none"
    updated = int(sheet.get("updated") or 0)
    if updated:
        about["updated"] = f"{updated:,} that were here already: something new is told of them"
    return about


_NO_PICTURE = "the service tells of it, but no picture came; what it tells is kept in delivered/"
_MAY_BE_THERE = "the service tells of it; its picture may be in a part that is not here"
_NOT_HERE = "it is not here, and what it holds is missing: unpack again when it is"
_MOST_NAMED = 500
_PICTURES = "role != 'sidecar'"
_FOUND = f"""
    SELECT path, bytes FROM files WHERE sha256 = ? AND frame NOT NULL AND {_PICTURES} AND (path = ? OR ? IS NULL) ORDER BY
    path LIMIT 1
"""


def _kept(sheet: Worksheet, library: Library, vanished: list[Finding], progress: Progress) -> tuple[Amount, Amount]:
    """What is new in the library and what was in it already: each content looked up in the ledger, and what is new on disk.

    A frame counts where its files are; one that has grown counts as here already.
    """
    files, size = {True: 0, False: 0}, {True: 0, False: 0}  # by whether they are new
    grown: set[int] = set()
    frames: set[int] = set()
    whole = sheet.db.execute("SELECT count(*) FROM units").fetchone()[0]
    for count, unit in enumerate(sheet.db.execute("SELECT frame, sha256, here, path FROM units ORDER BY entry"), 1):
        progress(Stage("accounting", "files"), count, whole)
        is_new = unit["here"] is None
        place = unit["path"] if is_new else None
        row = library.db.execute(_FOUND, (digest_of_key(unit["sha256"]), place, place)).fetchone()
        if row is None:
            continue
        if is_new:
            there = status_of(f"{library.root}/{row['path']}")
            if there is None or not stat.S_ISREG(there.st_mode) or there.st_size != row["bytes"]:
                vanished.append(Finding(row["path"], "it was put in place and is not there now", attention=True))
                continue
        else:
            grown.add(unit["frame"])
        files[is_new] += 1
        size[is_new] += row["bytes"]
        frames.add(unit["frame"])
    return Amount(len(frames - grown), files[True], size[True]), Amount(len(grown), files[False], size[False])


def _stored_once(sheet: Worksheet) -> Iterator[LeftOut]:
    """Entries whose content another entry has too."""
    for row in sheet.db.execute(
        "SELECT e.name, e.size, (SELECT k.name FROM units u JOIN entries k ON k.id = u.entry WHERE u.sha256 = e.sha256"
        " ORDER BY role = 'twin' LIMIT 1) AS kept"
        " FROM entries e WHERE e.kind = 'picture' AND e.id NOT IN (SELECT entry FROM units) ORDER BY e.id"
    ):
        name = f"{row['name']} (as {row['kept']})"
        yield LeftOut(name, "the same picture was delivered again; stored once", Amount(0, 1, row["size"]))


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
    for path in parcel.twice:
        yield Finding(path.name, "the same part again, under another name; not read")
    for row in sheet.db.execute(
        "SELECT name, troubles FROM entries WHERE troubles != '[]' UNION ALL SELECT name, records.troubles FROM records"
        " JOIN entries ON entries.id = entry WHERE records.troubles != '[]'"
    ):
        for trouble in json.loads(row["troubles"]):
            yield Finding(row["name"], trouble, attention=True)
    yield from _lost_edits(sheet)
    yield from _delivered_pictures(sheet)
    has_records = (
        parcel.dialect.tells_of_each and sheet.db.execute("SELECT 1 FROM records LIMIT 1").fetchone() is not None
    )
    for row in sheet.db.execute(
        "SELECT e.id, e.name, e.media, e.size, e.picture_kind, u.role, u.path, u.former_name, u.frame,"
        " u.rival, (SELECT name FROM entries o WHERE o.id = u.frame) AS original,"
        " EXISTS (SELECT 1 FROM units m JOIN entries o ON o.sha256 = m.sha256 JOIN pairs ON picture = o.id"
        "  WHERE m.frame = u.frame) AS paired"
        " FROM units u JOIN entries e ON e.id = u.entry ORDER BY e.id"
    ):
        name = row["path"] or row["name"]
        if row["role"] == "original" and not row["paired"] and has_records:
            candidates = candidates_of(sheet, row["id"])
            what = (
                f"none of these is its own for certain: {listed(candidates)}"
                if candidates
                else "no sidecar came with it"
            )
            yield Finding(name, what, attention=True)
        if row["picture_kind"] == "other":
            yield from _of_no_kind(row, name)
        if row["rival"] and row["path"]:
            yield Finding(name, f"it was kept with {row['original']}; nothing tells whether it is of {row['rival']}")
        if row["former_name"]:
            yield Finding(name, f"came as {row['former_name']}; {_why_renamed(row['former_name'], name)}")
    for year, count in library.db.execute(
        "SELECT year, count(*) FROM frames JOIN bound USING (year) WHERE arrived = ? GROUP BY year", (parcel.order,)
    ):
        what = f"{count:,} frames that came are of this year, which is bound; to bind them with the rest: unbind, backup, bind"
        yield Finding(str(year), what)
    arrived = library.db.execute(
        "SELECT r.id, r.folder || '/' || r.name AS path, r.reduced, c.field, c.value, c.source FROM frames r JOIN claims c"
        " ON c.frame = r.id WHERE r.arrived = ? AND c.field IN ('taken', 'offset', 'quality', 'reduced_of')"
        " ORDER BY r.id, c.rowid",
        (parcel.order,),
    )
    for _, rows in groupby(arrived, lambda row: row["id"]):
        claimed = list(rows)
        name = claimed[0]["path"]
        if claimed[0]["reduced"]:
            originals = [row["value"] for row in claimed if row["field"] == "reduced_of"]
            if originals:
                yield Finding(
                    f"{name} (of {originals[-1]})", "a reduced copy of an original that is here; both are kept"
                )
            else:
                yield Finding(name, "a reduced copy: no original of it came", attention=True)
        for conflict in believed_moment(Claim(row["field"], row["value"], row["source"]) for row in claimed)[1]:
            yield Finding(name, conflict, attention=True)


def _of_no_kind(row: Row, name: str) -> Iterator[Finding]:
    """What is to be said of a file in which nothing can be read: most where its name says that it is a picture."""
    found = family(row["name"], row["media"] or "")
    if row["size"] == 0:
        yield Finding(name, "it is empty; kept as it came", attention=True)
    elif found in PICTURES:
        yield Finding(name, "no picture that Bramblemoor can recognise; kept as it came", attention=True)
    elif row["media"] in (None, UNKNOWN):
        yield Finding(name, "it is of a kind that is not known here; kept as it came")


def _delivered_pictures(sheet: Worksheet) -> Iterator[Finding]:
    """What the dialect takes for no picture, and is one by its name."""
    for (name,) in sheet.db.execute("SELECT name FROM entries WHERE kind = 'other' ORDER BY id"):
        if family_by_name(name) in PICTURES and not is_litter(name):
            yield Finding(
                name, "the dialect takes it for no picture; it is kept in delivered/ as it came", attention=True
            )


def _why_renamed(former: str, path: str) -> str:
    """Why a file is not called what it was: its name was taken, or some file system would refuse it."""
    safe, name = safe_name(former), path.rpartition("/")[2]
    if safe == former:
        return "that name was taken"
    refused = "that name does not work on every drive"
    return refused if name == safe else f"{refused}, and the nearest one was taken"


def _lost_edits(sheet: Worksheet) -> Iterator[Finding]:
    """Frames that the service says were edited, and of which no edits came."""
    for row in sheet.db.execute(
        "SELECT DISTINCT u.frame, p.name FROM records r JOIN pairs ON record = r.id JOIN entries p ON p.id = picture"
        " JOIN units u ON u.entry = p.id WHERE instr(r.claims, '\"edited\"') ORDER BY u.frame"
    ):
        came = sheet.db.execute(
            "SELECT 1 FROM units u JOIN entries e ON e.sha256 = u.sha256 LEFT JOIN pairs ON picture = e.id"
            " LEFT JOIN records r ON r.id = record WHERE u.frame = ? AND (u.role = 'rendition' OR e.edits OR r.edits)",
            (row["frame"],),
        ).fetchone()
        if came is None:
            yield Finding(row["name"], "the service says that it was edited, but no edits came with it", attention=True)
