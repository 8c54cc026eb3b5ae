"""From parts to staged pictures, read sidecars and packed delivered data. Nothing reaches the library yet."""

import hashlib
import json
import warnings
import zipfile
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass
from sqlite3 import Connection, Row

import msgspec

from bramblemoor.disk.durable import flush_many
from bramblemoor.disk.file_systems import file_system_of
from bramblemoor.errors import PartsAmiss
from bramblemoor.exports.containers import open_part
from bramblemoor.exports.containers.interface import CHUNK, Container, Entry
from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.documents import MOST_BYTES, BrokenDocument
from bramblemoor.exports.parcel import Parcel, nearest_names
from bramblemoor.exports.records import Record, parts_listed, read_albums, read_records, read_sidecar
from bramblemoor.exports.templates import folded, last_step
from bramblemoor.exports.worksheet import Worksheet, content_key
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.reading import PictureReading, read_picture
from bramblemoor.frames.source import FileSource, MemorySource
from bramblemoor.library.home import require_room
from bramblemoor.running import Progress, Stage

_BATCH_FILES, _BATCH_BYTES = 256, 256 << 20
_WORKERS = 2
_PLAIN = 1 << 30  # bytes; what is packed larger needs ZIP64 for certain
_MOST_HEAD = 32 << 20  # bytes of a picture that is only looked at
MOST_PACKED = 20_000
"""Entries of one delivered ZIP: a writer of ZIP files remembers each of them."""


def list_entries(sheet: Worksheet, parcel: Parcel) -> None:
    """Write down every entry of every part, once all of them have passed the safety checks.

    Raises PartsAmiss where the dialect fits none of them.
    """
    if sheet.get("listed"):
        return
    with sheet.changing() as db:
        for number, path in enumerate(parcel.parts):
            with closing(open_part(path)) as part:
                for entry in part.entries():
                    _list_entry(db, number, entry, parcel.dialect)
        _want_by_position(db, parcel.dialect)
        sheet.put("listed", "yes")
        if db.execute("SELECT 1 FROM entries WHERE kind IN ('picture', 'sidecar', 'index')").fetchone() is None:
            names = (row[0] for row in db.execute("SELECT name FROM entries ORDER BY id"))
            nearest = nearest_names(parcel.dialect, names)
            raise PartsAmiss(
                f"The dialect {parcel.dialect.name} fits nothing in {parcel.parts[0].name}; nearest are"
                f" {', '.join(nearest) or 'none: it is empty'}.",
                "Nothing was unpacked; check the dialect with: bramblemoor dialect try.",
            )


def _list_entry(db: Connection, number: int, entry: Entry, dialect: Dialect) -> None:
    kind, plain = dialect.kind_of(entry.name), folded(entry.name)
    readings = dialect.readings(entry.name) if kind == "picture" else []
    first = readings[0] if readings else None
    cursor = db.execute(
        "INSERT INTO entries (part, name, kind, method, crc32, packed, size, at, raw, folded, base, is_copy, frame_key,"
        " suffix, ending) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            number, entry.name, kind, entry.method, entry.crc32, entry.packed, entry.size, entry.at, entry.raw,
            plain, plain.rpartition("/")[2], kind == "picture" and dialect.is_copy(entry.name),
            first.frame if first else None, first.suffix if first else None, first.ending if first else None,
        ),
    )  # fmt: skip
    if kind != "picture":
        return
    picture = cursor.lastrowid
    names = dialect.sidecar_names(entry.name)
    db.executemany(
        "INSERT OR IGNORE INTO wanted VALUES (?, ?, ?, ?)",
        [(picture, name, folded(name), rank) for rank, name in enumerate(names)],
    )
    keys = {folded(text) for one in readings for text in (one.stem, one.stem + one.ending)}
    keys.add(plain.rpartition("/")[2])  # a list may tell it as it was delivered
    db.executemany("INSERT OR IGNORE INTO called VALUES (?, ?)", [(picture, key) for key in keys])


def _want_by_position(db: Connection, dialect: Dialect) -> None:
    """The names that sidecars have by the places of their pictures, in the order of the archive, among those of one folder."""
    if not dialect.counts_positions:
        return
    places: dict[str, int] = {}
    for picture, name in db.execute("SELECT id, name FROM entries WHERE kind = 'picture' ORDER BY part, at").fetchall():
        folder = name.rpartition("/")[0]
        places[folder] = places.get(folder, 0) + 1
        names = dialect.sidecar_names(name, places[folder])
        db.executemany(
            "INSERT OR IGNORE INTO wanted VALUES (?, ?, ?, ?)",
            [(picture, wanted, folded(wanted), rank) for rank, wanted in enumerate(names)],
        )


def extract(sheet: Worksheet, parcel: Parcel, progress: Progress, *, keep: bool = True) -> None:
    """Stage every picture and read every sidecar that is not done yet; without `keep` only read them.

    Raises PartsAmiss or HostileArchive; what was staged stays for the next run.
    """
    total, done = sheet.db.execute("SELECT sum(size), sum(size * done) FROM entries").fetchone()
    for row in sheet.db.execute("SELECT id FROM entries WHERE kind = 'picture' AND NOT done"):
        sheet.staged(row["id"]).unlink(missing_ok=True)  # half written by a run that was killed
    # What was delivered several times is written once.
    left = sheet.db.execute(
        "SELECT coalesce(sum(size), 0) FROM"
        " (SELECT size FROM entries GROUP BY coalesce(crc32, -id), size HAVING NOT max(done))"
    ).fetchone()[0]
    if keep:
        require_room(sheet.work, left, "Unpacking")
    so_far = done or 0
    with ThreadPoolExecutor(1) as flusher, ThreadPoolExecutor(_WORKERS) as workers:
        for number, path in enumerate(parcel.parts):
            with closing(open_part(path)) as part:
                staging = _Staging(sheet, part, workers, flusher, keep=keep)
                for size in staging.pictures(number):
                    so_far += size
                    progress(Stage("unpacking"), so_far, total or 0)
                for size in _pack_delivered(sheet, part, number, parcel, keep=keep):
                    so_far += size
                    progress(Stage("unpacking"), so_far, total or 0)
    _require_listed_parts(sheet, parcel)


def _require_listed_parts(sheet: Worksheet, parcel: Parcel) -> None:
    """Raise PartsAmiss where an index lists parts that are not here."""
    listed = json.loads(sheet.get("parts listed") or "[]")
    here = {path.name for path in parcel.parts}
    if listed and all(name.isdecimal() for name in listed):
        missing = listed[len(here) :]
    else:
        missing = [name for name in listed if name.rpartition("/")[2] not in here]
    if missing and not parcel.without and not any(path.is_dir() for path in parcel.parts):
        raise PartsAmiss(
            f"The index of the export lists {len(listed)} parts; not here: {', '.join(missing[:20])}.",
            "Nothing was unpacked; fetch the rest and try again.",
        )


@dataclass(frozen=True)
class _Staged:
    entry: int
    sha256: str
    written: bool
    reading: PictureReading | None


class _Staging:
    """Extracts the pictures of one part in threads; while one batch is flushed the next is extracted."""

    def __init__(
        self,
        sheet: Worksheet,
        part: Container,
        workers: ThreadPoolExecutor,
        flusher: ThreadPoolExecutor,
        *,
        keep: bool,
    ) -> None:
        self.sheet, self.part, self.workers, self.flusher, self.keep = sheet, part, workers, flusher, keep
        self.whole = file_system_of(sheet.work).flushes_whole

    def pictures(self, number: int) -> Iterator[int]:
        """Stage all that are not done; yields sizes. A batch counts as done once it is flushed."""
        flushing: Future[list[_Staged]] | None = None
        for batch in _batches(rows_of_part(self.sheet, number, "kind = 'picture' AND NOT done")):
            jobs = [(row, self._twins(row)) for row in batch]
            spread = self.workers.map if self.part.several_readers else map
            staged = list(spread(self._stage, jobs))
            self._note(flushing)
            flushing = self.flusher.submit(self._flushed, staged)
            yield sum(row["size"] for row in batch)
        self._note(flushing)

    def _twins(self, row: Row) -> list[str]:
        found = self.sheet.db.execute(
            "SELECT sha256 FROM entries WHERE crc32 = ? AND size = ? AND staged", (row["crc32"], row["size"])
        )
        return [twin[0] for twin in found]

    def _flushed(self, staged: list[_Staged]) -> list[_Staged]:
        if not self.keep:
            return staged
        written = (self.sheet.staged(one.entry) for one in staged if one.written)
        flush_many(written, self.sheet.staging, whole_system=self.whole)
        return staged

    def _note(self, flushing: "Future[list[_Staged]] | None") -> None:
        """Write a batch down as done, once it is flushed."""
        results = flushing.result() if flushing is not None else []
        with self.sheet.changing() as db:
            for done in results:
                db.execute(
                    "UPDATE entries SET done = 1, sha256 = ?, staged = ? WHERE id = ?",
                    (content_key(done.sha256, done.entry), done.written, done.entry),
                )
                if done.reading is not None:
                    reading = done.reading
                    db.execute(
                        "UPDATE entries SET media = ?, picture_kind = ?, width = ?, height = ?, taken = ?, claims = ?,"
                        " troubles = ?, edits = ?, content_ids = ? WHERE id = ?",
                        (
                            reading.media, reading.kind, reading.width, reading.height, _taken(reading.claims),
                            encode_claims(reading.claims), json.dumps(reading.troubles), reading.edits,
                            " ".join(reading.content_ids), done.entry,
                        ),
                    )  # fmt: skip

    def _stage(self, job: tuple[Row, list[str]]) -> _Staged:
        """Extract one picture. Where one with the same CRC and size was staged before, write only if the digest differs."""
        row, twins = job
        entry = entry_of(row)
        if twins and row["size"]:
            digest = hashlib.sha256()
            for piece in self.part.content(entry):
                digest.update(piece)
            if digest.hexdigest() in twins:
                return _Staged(row["id"], digest.hexdigest(), False, None)
        if not self.keep:
            return self._read_only(row, entry)
        target = self.sheet.staged(row["id"])
        digest = hashlib.sha256()
        last = b""
        with target.open("wb", buffering=0) as file:
            for piece in self.part.content(entry):
                file.write(piece)
                digest.update(piece)
                last = piece
        if len(last) == row["size"] <= CHUNK:
            return _Staged(row["id"], digest.hexdigest(), True, read_picture(MemorySource(last)))
        with FileSource(target) as source:
            return _Staged(row["id"], digest.hexdigest(), True, read_picture(source))

    def _read_only(self, row: Row, entry: Entry) -> _Staged:
        """Read a picture without writing it anywhere; of a very large one the beginning."""
        digest, head = hashlib.sha256(), bytearray()
        for piece in self.part.content(entry):
            digest.update(piece)
            if len(head) < _MOST_HEAD:
                head += piece
        return _Staged(row["id"], digest.hexdigest(), True, read_picture(MemorySource(bytes(head))))


def rows_of_part(sheet: Worksheet, number: int, condition: str) -> Iterator[Row]:
    """Entries of a part in the order in which they are best read; a few at a time, so that they may be changed meanwhile."""
    last = -1
    while True:
        rows = sheet.db.execute(
            f"SELECT * FROM entries WHERE part = ? AND at > ? AND {condition} ORDER BY at LIMIT 512", (number, last)
        ).fetchall()
        yield from rows
        if len(rows) < 512:
            return
        last = rows[-1]["at"]


def _batches(rows: Iterable[Row]) -> Iterator[list[Row]]:
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


def entry_of(row: Row) -> Entry:
    return Entry(row["name"], row["size"], row["at"], row["packed"], row["crc32"], row["method"], row["raw"])


def _pack_delivered(sheet: Worksheet, part: Container, number: int, parcel: Parcel, *, keep: bool) -> Iterator[int]:
    """Put everything of a part that is no picture into ZIPs, byte for byte, and read the sidecars on the way; yields sizes."""
    warnings.filterwarnings("ignore", "Duplicate name")  # some services send two entries of one name
    with sheet.changing() as db:
        archive: zipfile.ZipFile | None = None
        packed = 0
        try:
            for row in rows_of_part(sheet, number, "kind != 'picture' AND NOT done"):
                if keep and packed % MOST_PACKED == 0:
                    if archive is not None:
                        archive.close()
                    target = sheet.staging / f"delivered-{number}-{packed // MOST_PACKED + 1}.zip"
                    archive = zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED)
                packed += 1
                content = _pack(archive, part, row) if archive is not None else b"".join(_document(part, row))
                _note_document(sheet, row, content, parcel.dialect)
                db.execute("UPDATE entries SET done = 1 WHERE id = ?", (row["id"],))
                yield row["size"]
        finally:
            if archive is not None:
                archive.close()
        if packed and keep:
            flush_many(sheet.staging.glob(f"delivered-{number}-*.zip"), sheet.staging, whole_system=False)


def _pack(archive: zipfile.ZipFile, part: Container, row: Row) -> bytes:
    """Pack one entry; returns its content where it is a document to read."""
    # One date for all: the ZIP's bytes depend on nothing but what was delivered.
    info = zipfile.ZipInfo(row["name"], (1980, 1, 1, 0, 0, 0))
    info.compress_type = zipfile.ZIP_DEFLATED
    kept = bytearray()
    with archive.open(info, "w", force_zip64=row["size"] > _PLAIN) as file:
        for piece in part.content(entry_of(row)):
            file.write(piece)
            if row["kind"] != "other" and len(kept) <= MOST_BYTES:
                kept += piece
    return bytes(kept)


def _document(part: Container, row: Row) -> Iterator[bytes]:
    """The content of an entry, where it is a document to read."""
    if row["kind"] != "other" and row["size"] <= MOST_BYTES:
        yield from part.content(entry_of(row))


def _note_document(sheet: Worksheet, row: Row, content: bytes, dialect: Dialect) -> None:
    """Write down what a sidecar, an index or the description of an album says."""
    name, kind = row["name"], row["kind"]
    if kind == "sidecar":
        is_xmp = name.lower().endswith(".xmp")
        for number, record in enumerate(read_sidecar(content, name, dialect)):
            _note_record(
                sheet, row["id"], number, record, "xmp" if is_xmp else "sidecar", dialect, content if is_xmp else None
            )
    troubles = []
    if kind == "index" and dialect.index is not None:
        try:
            for number, record in enumerate(read_records(content, dialect.index)):
                _note_record(sheet, row["id"], number, record, "index", dialect, None)
            listed = parts_listed(content, dialect.index)
            if listed:
                sheet.put("parts listed", json.dumps(listed))
        except BrokenDocument as error:
            troubles.append(f"the index was not read: {error}")
    if kind == "album" or (kind == "index" and dialect.album is not None and dialect.album.items):
        try:
            for album in read_albums(content, dialect):
                sheet.db.execute(
                    "INSERT INTO described (entry, title, description, reference, members, cover) VALUES (?, ?, ?, ?, ?, ?)",
                    (row["id"], album.title, album.description, album.reference, json.dumps(album.order), album.cover),
                )
        except BrokenDocument as error:
            troubles.append(f"the album description was not read: {error}")
    if troubles:
        sheet.db.execute("UPDATE entries SET troubles = ? WHERE id = ?", (json.dumps(troubles), row["id"]))


def _note_record(
    sheet: Worksheet, entry: int, number: int, record: Record, family: str, dialect: Dialect, packet: bytes | None
) -> None:
    name = last_step(record.file_name)
    told, as_told = folded(dialect.picture_name(name)) if name else "", folded(name)
    sheet.db.execute(
        "INSERT INTO records (entry, number, family, path, file_name, told, as_told, reference, sha256_said, size_said, taken,"
        " claims, albums, troubles, edits, content, refers) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            entry, number, family, record.path, record.file_name, told, as_told if as_told != told else "", record.reference,
            record.sha256, record.size, _taken(record.claims), encode_claims(record.claims), json.dumps(record.albums),
            json.dumps(record.troubles), record.edits, packet, json.dumps(record.refers),
        ),
    )  # fmt: skip


def _taken(claims: Iterable[Claim]) -> str | None:
    return next((claim.value for claim in claims if claim.field == "taken"), None)


def encode_claims(claims: Iterable[Claim]) -> str:
    return msgspec.json.encode(list(claims)).decode()


def decode_claims(text: str) -> list[Claim]:
    return msgspec.json.decode(text, type=list[Claim])
