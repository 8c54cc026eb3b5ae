"""What of a part is no picture: packed as it came, and what its documents say written down."""

import json
import warnings
import zipfile
from collections.abc import Iterable, Iterator
from functools import partial
from itertools import groupby
from sqlite3 import Row
from types import TracebackType
from typing import Literal, NamedTuple

from bramblemoor.disk.durable import flush_many
from bramblemoor.exports.containers.interface import Container
from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.documents import MOST_BYTES, BrokenDocument
from bramblemoor.exports.parcel import Parcel
from bramblemoor.exports.records import Record, parts_listed, read_albums, read_records, read_sidecar
from bramblemoor.exports.staging import JOB_BYTES, JOB_FILES
from bramblemoor.exports.templates import folded, last_step
from bramblemoor.exports.worksheet import Worksheet, encode_claims, entry_of, rows_of_part, taken_of
from bramblemoor.frames.kinds import is_sidecar
from bramblemoor.processes import Helpers
from bramblemoor.running import portions

_PLAIN = 1 << 30  # bytes; what is packed larger needs ZIP64 for certain
_LARGE = 1 << 20  # bytes of a document that is not handed to a helper
_NOTED = 500  # what is said, written down at once
MOST_PACKED = 20_000
"""Entries of one delivered ZIP: a writer of ZIP files remembers each of them."""


class _Document(NamedTuple):
    """An entry that is no picture. `content` is empty where it is nothing to read."""

    entry: int
    name: str
    kind: str
    size: int
    content: bytes


_What = Literal["record", "album", "parts", "trouble", "done"]
# What a document says: where it is written down, and as which row.
_Said = tuple[_What, tuple[object, ...]]
_NOTING: dict[_What, str] = {
    "record": "INSERT INTO records (entry, number, family, path, file_name, told, as_told, reference, sha256_said, size_said,"
    " taken, claims, albums, troubles, edits, content, refers) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
    "album": "INSERT INTO described (entry, title, description, reference, members, cover) VALUES (?, ?, ?, ?, ?, ?)",
    "parts": "INSERT OR REPLACE INTO meta VALUES ('parts listed', ?)",
    "trouble": "UPDATE entries SET troubles = ? WHERE id = ?",
    "done": "UPDATE entries SET done = 1 WHERE id = ?",
}


def pack_delivered(
    sheet: Worksheet, part: Container, number: int, parcel: Parcel, helping: Helpers, *, keep: bool
) -> Iterator[int]:
    """Put everything of a part that is no picture into ZIPs, byte for byte, and read the sidecars on the way; yields bytes."""
    read = partial(_read_some, parcel.dialect)
    with sheet.changing(), _Packer(sheet, part, number, keep=keep) as packer:
        rows = rows_of_part(sheet, number, "kind != 'picture' AND NOT done")
        for is_large, some in groupby(rows, lambda row: bool(row["size"] > _LARGE)):
            if is_large:
                for row in some:
                    _note(sheet, _read(parcel.dialect, packer.pack(row)))
                    yield int(row["size"])
                continue
            packed = portions(map(packer.pack, some), JOB_FILES, JOB_BYTES, lambda one: one.size)
            for size, said in helping.map(read, packed):
                _note(sheet, said)
                yield size


class _Packer:
    """Writes the delivered ZIPs of a part into the staging folder; without `keep` it only reads."""

    def __init__(self, sheet: Worksheet, part: Container, number: int, *, keep: bool) -> None:
        self._staging, self._part, self._number, self._keep = sheet.staging, part, number, keep
        self._archive: zipfile.ZipFile | None = None
        self._packed = 0

    def __enter__(self) -> "_Packer":
        warnings.filterwarnings("ignore", "Duplicate name")  # some services send two entries of one name
        return self

    def pack(self, row: Row) -> _Document:
        """Pack an entry; it comes with its content where that is to be read."""
        if self._keep and self._packed % MOST_PACKED == 0:
            self._close()
            target = self._staging / f"delivered-{self._number}-{self._packed // MOST_PACKED + 1}.zip"
            self._archive = zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED)
        self._packed += 1
        is_read = row["kind"] != "other"
        content = bytearray()
        if self._archive is not None:
            # One date for all: the ZIP's bytes depend on nothing but what was delivered.
            info = zipfile.ZipInfo(row["name"], (1980, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            with self._archive.open(info, "w", force_zip64=row["size"] > _PLAIN) as file:
                for piece in self._part.content(entry_of(row)):
                    file.write(piece)
                    if is_read and len(content) <= MOST_BYTES:
                        content += piece
        elif is_read and row["size"] <= MOST_BYTES:
            for piece in self._part.content(entry_of(row)):
                content += piece
        return _Document(row["id"], row["name"], row["kind"], row["size"], bytes(content))

    def _close(self) -> None:
        if self._archive is not None:
            self._archive.close()
            self._archive = None

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._close()
        if kind is None and self._packed and self._keep:
            packed = self._staging.glob(f"delivered-{self._number}-*.zip")
            flush_many(packed, self._staging, whole_system=False)


def _note(sheet: Worksheet, said: Iterable[_Said]) -> None:
    """Write down what documents say, in its order within each table."""
    for some in portions(said, _NOTED):
        rows: dict[_What, list[tuple[object, ...]]] = {}
        for what, row in some:
            rows.setdefault(what, []).append(row)
        for what, of_it in rows.items():
            sheet.db.executemany(_NOTING[what], of_it)


def _read_some(dialect: Dialect, documents: list[_Document]) -> tuple[int, list[_Said]]:
    """What some documents say; and how many bytes they have."""
    return sum(one.size for one in documents), [said for one in documents for said in _read(dialect, one)]


def _read(dialect: Dialect, document: _Document) -> Iterator[_Said]:
    """What a sidecar, an index or the description of an album says."""
    entry, name, kind, content = document.entry, document.name, document.kind, document.content
    if kind == "sidecar":
        is_xmp = is_sidecar(name)
        for number, record in enumerate(read_sidecar(content, name, dialect)):
            family = "xmp" if is_xmp else "sidecar"
            yield "record", _record_row(entry, number, record, family, dialect, content if is_xmp else None)
    troubles = []
    if kind == "index" and dialect.index is not None:
        try:
            for number, record in enumerate(read_records(content, dialect.index)):
                yield "record", _record_row(entry, number, record, "index", dialect, None)
            listed = parts_listed(content, dialect.index)
            if listed:
                yield "parts", (json.dumps(listed),)
        except BrokenDocument as error:
            troubles.append(f"the index was not read: {error}")
    if kind == "album" or (kind == "index" and dialect.album is not None and dialect.album.items):
        try:
            for album in read_albums(content, dialect):
                row = (entry, album.title, album.description, album.reference, json.dumps(album.order), album.cover)
                yield "album", row
        except BrokenDocument as error:
            troubles.append(f"the album description was not read: {error}")
    if troubles:
        yield "trouble", (json.dumps(troubles), entry)
    yield "done", (entry,)


def _record_row(
    entry: int, number: int, record: Record, family: str, dialect: Dialect, packet: bytes | None
) -> tuple[object, ...]:
    name = last_step(record.file_name)
    told, as_told = folded(dialect.picture_name(name)) if name else "", folded(name)
    return (
        entry, number, family, record.path, record.file_name, told, as_told if as_told != told else "", record.reference,
        record.sha256, record.size, taken_of(record.claims), encode_claims(record.claims), json.dumps(record.albums),
        json.dumps(record.troubles), record.edits, packet, json.dumps(record.refers),
    )  # fmt: skip
