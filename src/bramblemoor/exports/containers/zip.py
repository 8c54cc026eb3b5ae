"""Reading ZIP parts (PKWARE APPNOTE 6.3) without trusting them: directory, safety checks, and content."""

import os
import stat
import struct
import zlib
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

from bramblemoor.errors import HostileArchive, PartsAmiss
from bramblemoor.exports.containers.interface import CHUNK, MOST, Container, Entry

_EOCD, _EOCD64, _LOCATOR64 = b"PK\5\6", b"PK\6\6", b"PK\6\7"
_CENTRAL, _LOCAL = b"PK\1\2", b"PK\3\4"
_METHODS = {0: "stored", 8: "deflate", 9: "deflate64", 12: "bzip2", 14: "LZMA", 93: "Zstandard", 95: "XZ", 98: "PPMd"}
_MOST_RATIO = 1100  # deflate cannot expand more than 1032 times
_WINDOW = 1 << 20
_GUESS = 200  # bytes of name and extra fields in a local header, mostly


class ZipPart(Container):
    """An open archive; an entry's `at` is its local header."""

    def __init__(self, path: Path) -> None:
        super().__init__(path)
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

    def entries(self) -> Iterator[Entry]:
        start, length, count = self._directory()
        spans: list[int] = []  # start and end in one number each, which takes a third of the memory
        offset, end, seen = start, start + length, 0
        window, base = b"", start
        while offset < end:
            if offset - base + 46 + 3 * 65_535 > len(window) and base + len(window) < end:
                window, base = self._read(offset, min(_WINDOW, end - offset)), offset
            at = offset - base
            if window[at : at + 4] != _CENTRAL or len(window) - at < 46:
                raise self.broken("its directory breaks off")
            made_by, flags, method, crc, packed, size, name_length, extra_length, comment_length, attributes, local = (
                struct.unpack_from("<4xHxxHHxxxxIIIHHHxxxxII", window, at)
            )
            tail = window[at + 46 : at + 46 + name_length + extra_length]
            raw_name, extra = tail[:name_length], tail[name_length:]
            size, packed, local = _zip64(extra, size, packed, local)
            name = _decoded(raw_name, extra, flags)
            offset += 46 + name_length + extra_length + comment_length
            seen += 1
            entry = Entry(name, size, local, packed, crc, method)
            self._refuse_hostile(entry, flags, attributes >> 16 if made_by >> 8 == 3 else 0)
            spans.append(local << 64 | (local + 30 + name_length + packed))
            if not name.endswith("/"):
                yield entry
        if seen != count:
            raise self.broken(f"its directory lists {seen} entries, not {count}")
        self._refuse_overlaps(spans, start)

    def _directory(self) -> tuple[int, int, int]:
        """Offset, length and entry count of the central directory (4.3.14 to 4.3.16)."""
        reach = min(self._size, 65_557)
        tail = self._read(self._size - reach, reach)
        at = tail.rfind(_EOCD)
        if at < 0 or len(tail) - at < 22:
            raise self.broken("it has no directory; it is cut off or no ZIP archive")
        count, length, start = struct.unpack("<10xHII2x", tail[at : at + 22])
        if 0xFFFFFFFF in (length, start) or count == 0xFFFF:
            if tail[at - 20 : at - 16] != _LOCATOR64:
                raise self.broken("its ZIP64 directory is missing")
            where = struct.unpack("<8xQ4x", tail[at - 20 : at])[0]
            record = self._read(where, 56)
            if record[:4] != _EOCD64 or len(record) < 56:
                raise self.broken("its ZIP64 directory is missing")
            count, length, start = struct.unpack("<32xQQQ", record)
        if start + length > self._size:
            raise self.broken("its directory lies outside the file")
        return start, length, count

    def _refuse_hostile(self, entry: Entry, flags: int, mode: int) -> None:
        self.refuse_name(entry.name)
        packed = entry.packed or 0
        reason = ""
        if stat.S_ISLNK(mode):
            reason = "is a link"
        elif mode and stat.S_IFMT(mode) not in (0, stat.S_IFREG, stat.S_IFDIR):
            reason = "is a device or pipe"
        elif entry.size > CHUNK and entry.size > packed * _MOST_RATIO:
            reason = f"claims to grow from {packed} to {entry.size} bytes"
        elif entry.method == 0 and entry.size != packed:
            reason = "lies about its size"
        elif max(entry.size, packed, entry.at) >= MOST:
            reason = f"claims {entry.size} bytes, which no archive can hold"
        if reason:
            raise self.hostile(entry.name, reason)
        if flags & 1 or entry.method not in (0, 8):
            how = "encrypted" if flags & 1 else f"packed with {_METHODS.get(entry.method, f'method {entry.method}')}"
            raise PartsAmiss(
                f"{self.path.name}: the entry {entry.name!r} is {how}, which Bramblemoor cannot read.",
                "Nothing was unpacked; order the export without that.",
            )

    def _refuse_overlaps(self, spans: list[int], end: int) -> None:
        spans.sort()
        spans.append(end << 64 | end)
        for before, after in pairwise(spans):
            begin = after >> 64
            if before & (1 << 64) - 1 > begin:
                raise HostileArchive(
                    f"{self.path.name}: its entries overlap (at byte {begin}).",
                    "Nothing was unpacked; ask the service for a new export.",
                )

    def content(self, entry: Entry) -> Iterator[bytes]:
        """In pieces; at the end raises PartsAmiss where length or CRC-32 are wrong."""
        packed = entry.packed or 0
        first = self._read(entry.at, 30 + _GUESS + min(CHUNK, packed))  # one call is enough for a small file
        if first[:4] != _LOCAL or len(first) < 30:
            raise self.broken(f"the entry {entry.name!r} is not where the directory says")
        name_length, extra_length = struct.unpack_from("<26xHH", first)
        skip = 30 + name_length + extra_length
        offset, end = entry.at + skip, entry.at + skip + packed
        crc = came = 0
        inflate = zlib.decompressobj(-15) if entry.method == 8 else None
        while offset < end:
            piece, first = first[skip : skip + packed], b""
            if not piece:
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
            raise self.broken(f"the entry {entry.name!r} does not match its checksum")


def _inflated(inflate: "zlib._Decompress", piece: bytes, part: ZipPart, entry: Entry) -> Iterator[bytes]:
    try:
        out = b""
        while piece or len(out) == CHUNK:  # a full piece may leave some behind though all input was taken
            out = inflate.decompress(piece, CHUNK)
            yield out
            piece = inflate.unconsumed_tail
    except zlib.error:
        raise part.broken(f"the entry {entry.name!r} cannot be inflated") from None


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
