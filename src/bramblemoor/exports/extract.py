"""From parts to staged pictures, read sidecars and packed delivered data. Nothing reaches the library yet."""

import hashlib
import json
import zipfile
from collections.abc import Callable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from sqlite3 import Row

import msgspec

from bramblemoor.exports.archive import ZipEntry, ZipPart
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.sidecars import MOST_BYTES, SidecarReading, read_sidecar
from bramblemoor.exports.worksheet import Worksheet
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.reading import PictureReading, read_picture
from bramblemoor.frames.source import FileSource
from bramblemoor.library.durable import flush_many
from bramblemoor.library.home import require_room
from bramblemoor.library.volumes import volume_of

Progress = Callable[[str, int, int], None]
_BATCH_FILES, _BATCH_BYTES = 256, 256 << 20
_WORKERS = 2


def list_entries(sheet: Worksheet, parcel: Parcel) -> None:
    """Write down every entry of every part, once all of them have passed the safety checks."""
    if sheet.get("listed"):
        return
    dialect = parcel.dialect
    with sheet.changing() as db:
        for number, path in enumerate(parcel.parts):
            part = ZipPart(path)
            try:
                for entry in part.entries():
                    kind = dialect.kind_of(entry.name)
                    picture = kind == "picture"
                    stem, rendition = dialect.frame_stem(entry.name) if picture else (None, None)
                    db.execute(
                        "INSERT INTO entries (part, name, kind, method, crc32, packed, size, at, is_copy, sidecar_name,"
                        " stem, rendition) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                        (
                            number, entry.name, kind, entry.method, entry.crc32, entry.packed, entry.size, entry.offset,
                            dialect.is_copy(entry.name), dialect.sidecar_of(entry.name) if picture else None, stem, rendition,
                        ),
                    )  # fmt: skip
            finally:
                part.close()
        sheet.put("listed", "yes")


def extract(sheet: Worksheet, parcel: Parcel, progress: Progress) -> None:
    """Stage every picture and read every sidecar that is not done yet.

    Raises PartsAmiss or HostileArchive; what was staged stays for the next run.
    """
    total, done = sheet.db.execute("SELECT sum(size), sum(size * done) FROM entries").fetchone()
    for row in sheet.db.execute("SELECT id FROM entries WHERE kind = 'picture' AND NOT done"):
        sheet.staged(row["id"]).unlink(missing_ok=True)  # half written by a run that was killed
    # What was delivered several times is written once.
    left = sheet.db.execute(
        "SELECT coalesce(sum(size), 0) FROM (SELECT size FROM entries GROUP BY crc32, size HAVING NOT max(done))"
    ).fetchone()[0]
    require_room(sheet.work, left, "Unpacking")
    so_far = done or 0
    whole = volume_of(sheet.work).flushes_whole
    with ThreadPoolExecutor(1) as flusher:
        for number, path in enumerate(parcel.parts):
            part = ZipPart(path)
            try:
                pictures = sheet.db.execute(
                    "SELECT * FROM entries WHERE part = ? AND kind = 'picture' AND NOT done ORDER BY at", (number,)
                ).fetchall()
                # While one batch is flushed the next is extracted; a batch counts as done once it is flushed.
                flushing: Future[list[_Staged]] | None = None
                for batch in _batches(pictures):
                    staged = _stage_batch(sheet, part, batch)
                    _note_done(sheet, flushing)
                    flushing = flusher.submit(_flushed, sheet, staged, whole)
                    so_far += sum(row["size"] for row in batch)
                    progress("unpacking", so_far, total or 0)
                _note_done(sheet, flushing)
                so_far += _pack_delivered(sheet, part, number, parcel)
                progress("unpacking", so_far, total or 0)
            finally:
                part.close()


def _batches(rows: Iterable[Row]) -> Iterable[list[Row]]:
    batch: list[Row] = []
    filled = 0
    for row in rows:
        batch.append(row)
        filled += row["size"]
        if len(batch) == _BATCH_FILES or filled > _BATCH_BYTES:
            yield batch
            batch, filled = [], 0
    if batch:
        yield batch


@dataclass(frozen=True)
class _Staged:
    entry: int
    sha256: str
    written: bool
    reading: PictureReading | None


def _stage_batch(sheet: Worksheet, part: ZipPart, batch: list[Row]) -> list[_Staged]:
    """Extract some pictures in threads."""

    def twins(row: Row) -> list[str]:
        found = sheet.db.execute(
            "SELECT sha256 FROM entries WHERE crc32 = ? AND size = ? AND staged", (row["crc32"], row["size"])
        )
        return [twin[0] for twin in found]

    jobs = [(row, twins(row)) for row in batch]
    with ThreadPoolExecutor(_WORKERS) as pool:
        return list(pool.map(lambda job: _stage(part, sheet.staged(job[0]["id"]), *job), jobs))


def _flushed(sheet: Worksheet, staged: list[_Staged], whole: bool) -> list[_Staged]:
    flush_many((sheet.staged(one.entry) for one in staged if one.written), sheet.staging, whole_system=whole)
    return staged


def _note_done(sheet: Worksheet, flushing: "Future[list[_Staged]] | None") -> None:
    """Write a batch down as done, once it is flushed."""
    results = flushing.result() if flushing is not None else []
    with sheet.changing() as db:
        for done in results:
            db.execute(
                "UPDATE entries SET done = 1, sha256 = ?, staged = ? WHERE id = ?",
                (done.sha256, done.written, done.entry),
            )
            if done.reading is not None:
                reading = done.reading
                db.execute(
                    "UPDATE entries SET media = ?, picture_kind = ?, width = ?, height = ?, claims = ?, troubles = ?"
                    " WHERE id = ?",
                    (
                        reading.media, reading.kind, reading.width, reading.height,
                        encode_claims(reading.claims), json.dumps(reading.troubles), done.entry,
                    ),
                )  # fmt: skip


def _stage(part: ZipPart, target: Path, row: Row, twins: list[str]) -> _Staged:
    """Extract one picture. Where one with the same CRC and size was staged before, write only if the digest differs."""
    entry = _entry(row)
    if twins:
        digest = hashlib.sha256()
        for piece in part.content(entry):
            digest.update(piece)
        if digest.hexdigest() in twins:
            return _Staged(row["id"], digest.hexdigest(), False, None)
    digest = hashlib.sha256()
    with target.open("wb", buffering=0) as file:
        for piece in part.content(entry):
            file.write(piece)
            digest.update(piece)
    with FileSource(target) as source:
        return _Staged(row["id"], digest.hexdigest(), True, read_picture(source))


def _entry(row: Row) -> ZipEntry:
    return ZipEntry(row["name"], row["method"], row["crc32"], row["packed"], row["size"], row["at"])


def _pack_delivered(sheet: Worksheet, part: ZipPart, number: int, parcel: Parcel) -> int:
    """Put everything of a part that is no picture into one ZIP, byte for byte, and read the sidecars on the way."""
    rows = sheet.db.execute(
        "SELECT * FROM entries WHERE part = ? AND kind != 'picture' ORDER BY at", (number,)
    ).fetchall()
    if not rows or all(row["done"] for row in rows):
        return 0
    target = sheet.staging / f"delivered-{number}.zip"
    with sheet.changing() as db:
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
            for row in rows:
                # One date for all: the ZIP's bytes depend on nothing but what was delivered.
                info = zipfile.ZipInfo(row["name"], (1980, 1, 1, 0, 0, 0))
                info.compress_type = zipfile.ZIP_DEFLATED
                kept = bytearray()
                with archive.open(info, "w", force_zip64=row["size"] > 1 << 31) as file:
                    for piece in part.content(_entry(row)):
                        file.write(piece)
                        if row["kind"] in ("sidecar", "album") and len(kept) <= MOST_BYTES:
                            kept += piece
                _note(sheet, row, bytes(kept), parcel)
                db.execute("UPDATE entries SET done = 1 WHERE id = ?", (row["id"],))
        flush_many([target], sheet.staging, whole_system=False)
    return sum(row["size"] for row in rows if not row["done"])


def _note(sheet: Worksheet, row: Row, content: bytes, parcel: Parcel) -> None:
    """Write down what a sidecar says, and keep what is needed again: XMP packets and album descriptions."""
    if row["kind"] == "sidecar":
        said: SidecarReading = read_sidecar(content, row["name"], parcel.dialect)
        sheet.db.execute(
            "UPDATE entries SET claims = ?, troubles = ?, reference = ?, file_name = ?, sha256_said = ? WHERE id = ?",
            (
                encode_claims(said.claims), json.dumps(said.troubles), said.reference, said.file_name, said.sha256, row["id"],
            ),
        )  # fmt: skip
    if row["kind"] == "album" or row["name"].lower().endswith(".xmp"):
        sheet.db.execute("UPDATE entries SET content = ? WHERE id = ?", (content, row["id"]))


def encode_claims(claims: Iterable[Claim]) -> str:
    return msgspec.json.encode(list(claims)).decode()


def decode_claims(text: str) -> list[Claim]:
    return msgspec.json.decode(text, type=list[Claim])
