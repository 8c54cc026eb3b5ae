"""Reading ZIP parts (PKWARE APPNOTE 6.3) without trusting them: directory, safety checks, and content."""

import os
import re
import stat
import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from bramblemoor.errors import HostileArchive, PartsAmiss

_EOCD, _EOCD64, _LOCATOR64 = b"PK\5\6", b"PK\6\6", b"PK\6\7"
_CENTRAL, _LOCAL = b"PK\1\2", b"PK\3\4"
_METHODS = {0: "stored", 8: "deflate", 9: "deflate64", 12: "bzip2", 14: "LZMA", 93: "Zstandard", 95: "XZ", 98: "PPMd"}
_DRIVE = re.compile(r"[A-Za-z]:")
_MOST_RATIO = 1100  # deflate cannot expand more than 1032 times
CHUNK = 1 << 20


@dataclass(frozen=True)
class ZipEntry:
    """One file of an archive. Sizes in bytes; `offset` is that of its local header."""

    name: str
    method: int
    crc32: int
    packed: int
    size: int
    offset: int


class ZipPart:
    """An open archive. `entries()` checks everything that can be told from the directory before yielding."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._descriptor = os.open(path, os.O_RDONLY | getattr(os, "O_BINARY", 0))
        self._size = os.fstat(self._descriptor).st_size

    def close(self) -> None:
        os.close(self._descriptor)

    def _read(self, offset: int, length: int) -> bytes:
        if hasattr(os, "pread"):
            return os.pread(self._descriptor, length, offset)
        with self.path.open("rb") as file:
            file.seek(offset)
            return file.read(length)

    def entries(self) -> Iterator[ZipEntry]:
        """All files, in directory order. Raises PartsAmiss for a broken archive, HostileArchive for one that means harm."""
        start, length, count = self._directory()
        spans: list[tuple[int, int]] = []
        offset, end, seen = start, start + length, 0
        while offset < end:
            head = self._read(offset, 46)
            if head[:4] != _CENTRAL or len(head) < 46:
                raise self._broken("its directory breaks off")
            (
                made_by,
                flags,
                method,
                crc,
                packed,
                size,
                name_length,
                extra_length,
                comment_length,
                attributes,
                local,
            ) = struct.unpack("<4xHxxHHxxxxIIIHHHxxxxII", head)
            tail = self._read(offset + 46, name_length + extra_length)
            raw_name, extra = tail[:name_length], tail[name_length:]
            size, packed, local = _zip64(extra, size, packed, local)
            name = _decoded(raw_name, extra, flags)
            offset += 46 + name_length + extra_length + comment_length
            seen += 1
            entry = ZipEntry(name, method, crc, packed, size, local)
            self._refuse_hostile(entry, flags, attributes >> 16 if made_by >> 8 == 3 else 0)
            spans.append((local, local + 30 + name_length + packed))
            if not name.endswith("/"):
                yield entry
        if seen != count:
            raise self._broken(f"its directory lists {seen} entries, not {count}")
        self._refuse_overlaps(spans, start)

    def _directory(self) -> tuple[int, int, int]:
        """Offset, length and entry count of the central directory (4.3.14 to 4.3.16)."""
        reach = min(self._size, 65_557)
        tail = self._read(self._size - reach, reach)
        at = tail.rfind(_EOCD)
        if at < 0 or len(tail) - at < 22:
            raise self._broken("it has no directory; it is cut off or no ZIP archive")
        count, length, start = struct.unpack("<10xHII2x", tail[at : at + 22])
        if 0xFFFFFFFF in (length, start) or count == 0xFFFF:
            if tail[at - 20 : at - 16] != _LOCATOR64:
                raise self._broken("its ZIP64 directory is missing")
            where = struct.unpack("<8xQ4x", tail[at - 20 : at])[0]
            record = self._read(where, 56)
            if record[:4] != _EOCD64 or len(record) < 56:
                raise self._broken("its ZIP64 directory is missing")
            count, length, start = struct.unpack("<32xQQQ", record)
        if start + length > self._size:
            raise self._broken("its directory lies outside the file")
        return start, length, count

    def _refuse_hostile(self, entry: ZipEntry, flags: int, mode: int) -> None:
        name = entry.name
        steps = name.replace("\\", "/").split("/")
        reason = ""
        if "\0" in name or not name:
            reason = "has no usable name"
        elif name.startswith(("/", "\\")) or _DRIVE.match(name):
            reason = "names an absolute place"
        elif ".." in steps:
            reason = "leaves its folder"
        elif stat.S_ISLNK(mode):
            reason = "is a link"
        elif mode and stat.S_IFMT(mode) not in (0, stat.S_IFREG, stat.S_IFDIR):
            reason = "is a device or pipe"
        elif entry.size > CHUNK and entry.size > entry.packed * _MOST_RATIO:
            reason = f"claims to grow from {entry.packed} to {entry.size} bytes"
        elif entry.method == 0 and entry.size != entry.packed:
            reason = "lies about its size"
        if reason:
            raise HostileArchive(
                f"{self.path.name}: the entry {name!r} {reason}.",
                "Nothing was unpacked; ask the service for a new export, and do not open this one by other means.",
            )
        if flags & 1 or entry.method not in (0, 8):
            how = "encrypted" if flags & 1 else f"packed with {_METHODS.get(entry.method, f'method {entry.method}')}"
            raise PartsAmiss(
                f"{self.path.name}: the entry {name!r} is {how}, which Bramblemoor cannot read.",
                "Nothing was unpacked; order the export without that.",
            )

    def _refuse_overlaps(self, spans: list[tuple[int, int]], end: int) -> None:
        spans.sort()
        for (_, stop), (begin, _) in pairwise([*spans, (end, end)]):
            if stop > begin:
                raise HostileArchive(
                    f"{self.path.name}: its entries overlap (at byte {begin}).",
                    "Nothing was unpacked; ask the service for a new export.",
                )

    def content(self, entry: ZipEntry) -> Iterator[bytes]:
        """An entry's content in pieces; raises PartsAmiss at the end where length or CRC-32 are wrong."""
        head = self._read(entry.offset, 30)
        if head[:4] != _LOCAL or len(head) < 30:
            raise self._broken(f"the entry {entry.name!r} is not where the directory says")
        name_length, extra_length = struct.unpack("<26xHH", head)
        offset, end = entry.offset + 30 + name_length + extra_length, entry.offset + 30 + name_length + extra_length
        end += entry.packed
        crc = came = 0
        inflate = zlib.decompressobj(-15) if entry.method == 8 else None
        while offset < end:
            piece = self._read(offset, min(CHUNK, end - offset))
            if not piece:
                break
            offset += len(piece)
            for out in _inflated(inflate, piece, self, entry) if inflate else (piece,):
                crc = zlib.crc32(out, crc)
                came += len(out)
                if came > entry.size:
                    raise HostileArchive(
                        f"{self.path.name}: the entry {entry.name!r} holds more than the {entry.size} bytes it claims.",
                        "Nothing was unpacked; ask the service for a new export.",
                    )
                yield out
        if came != entry.size or crc != entry.crc32:
            raise self._broken(f"the entry {entry.name!r} does not match its checksum")

    def _broken(self, reason: str) -> PartsAmiss:
        return PartsAmiss(
            f"{self.path.name} is damaged: {reason}.",
            "Nothing was unpacked; fetch just that part again with: bramblemoor collect.",
        )


def _inflated(inflate: "zlib._Decompress", piece: bytes, part: ZipPart, entry: ZipEntry) -> Iterator[bytes]:
    try:
        while piece:
            yield inflate.decompress(piece, CHUNK)
            piece = inflate.unconsumed_tail
    except zlib.error:
        raise part._broken(f"the entry {entry.name!r} cannot be inflated") from None


def _zip64(extra: bytes, size: int, packed: int, local: int) -> tuple[int, int, int]:
    """Sizes and offset, from the ZIP64 field (4.5.3) where the short ones are full."""
    wide = _extra(extra, 1)
    values = [value[0] for value in struct.iter_unpack("<Q", wide[: len(wide) // 8 * 8])] if wide else []
    result = []
    for short in (size, packed, local):
        result.append(values.pop(0) if short == 0xFFFFFFFF and values else short)
    return result[0], result[1], result[2]


def _extra(extra: bytes, wanted: int) -> bytes | None:
    at = 0
    while at + 4 <= len(extra):
        kind, length = struct.unpack_from("<HH", extra, at)
        if kind == wanted:
            return extra[at + 4 : at + 4 + length]
        at += 4 + length
    return None


def _decoded(raw: bytes, extra: bytes, flags: int) -> str:
    """UTF-8 where flagged or given in the Unicode path field (4.6.9) with the right CRC; else UTF-8 if valid, else CP437."""
    unicode_path = _extra(extra, 0x7075)
    if unicode_path and len(unicode_path) > 5 and struct.unpack_from("<I", unicode_path, 1)[0] == zlib.crc32(raw):
        raw, flags = unicode_path[5:], flags | 0x800
    try:
        return raw.decode()
    except UnicodeDecodeError:
        return raw.decode("utf-8", "replace") if flags & 0x800 else raw.decode("cp437")
