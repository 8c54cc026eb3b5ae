"""Reading Exif (CIPA DC-008 / Exif 3.0) from a TIFF block: image file directories, tags and their values."""

import re
import struct
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from bramblemoor.frames.moments import Moment, infer_offset, parse_offset
from bramblemoor.frames.source import ByteSource

Value = str | bytes | tuple[float, ...]

# Type number: (bytes a value, struct letter). 129 is the UTF-8 text of Exif 3.0, 4.6.2.
_TYPES = {
    1: (1, "B"), 2: (1, "s"), 3: (2, "H"), 4: (4, "I"), 5: (8, "II"), 6: (1, "b"), 7: (1, "s"),
    8: (2, "h"), 9: (4, "i"), 10: (8, "ii"), 11: (4, "f"), 12: (8, "d"), 13: (4, "I"), 16: (8, "Q"), 17: (8, "q"), 18: (8, "Q"),
    129: (1, "s"),
}  # fmt: skip
_MOST_TAGS = 1000
_MOST_DIRECTORIES = 8
_MOST_BYTES = 1 << 20

_IDENTIFIER = re.compile(rb"(?i)[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}")
_IFD_EXIF, _IFD_GPS, _IFD_SUB = 0x8769, 0x8825, 0x014A
_PACKET, _IPTC, _RESOURCES = 0x02BC, 0x83BB, 0x8649
_BLOCKS = {_PACKET, _IPTC, _RESOURCES}
"""Tags whose values are blocks of bytes, whatever type they are given."""
_MOST_BLOCK = 16 << 20

# TIFF 6.0, and what camera makers put in its stead.
HEADERS = {
    b"II*\0": "<",
    b"MM\0*": ">",
    b"IIRO": "<",
    b"IIRS": "<",
    b"MMOR": ">",
    b"IIU\0": "<",
    b"II+\0": "<",
    b"MM\0+": ">",
}
_LARGE = (b"II+\0", b"MM\0+")
"""BigTIFF: TIFF 6.0 with counts and offsets of eight bytes."""
_SENSOR = {32803, 34892}  # photometric interpretations of what came off a sensor: colour filter array, linear raw


@dataclass(frozen=True)
class Exif:
    """The tags of the main, Exif and GPS directories, by tag number. `troubles` says what could not be read."""

    main: dict[int, Value] = field(default_factory=dict)
    shot: dict[int, Value] = field(default_factory=dict)
    gps: dict[int, Value] = field(default_factory=dict)
    troubles: tuple[str, ...] = ()
    width: int = 0
    height: int = 0
    is_raw: bool = False

    def block(self, tag: int) -> bytes | None:
        value = self.main.get(tag)
        return value if isinstance(value, bytes) else None

    @property
    def packet(self) -> bytes | None:
        """The XMP packet of a TIFF file."""
        return self.block(_PACKET)

    @property
    def iptc(self) -> bytes | None:
        return self.block(_IPTC)

    @property
    def resources(self) -> bytes | None:
        return self.block(_RESOURCES)


def read_exif(block: ByteSource) -> Exif:
    """Read a TIFF block, or a whole TIFF file. Never raises: what is broken is left out and named in `troubles`."""
    head = block.read(0, 16)
    order = HEADERS.get(head[:4])
    if order is None or len(head) < 8:
        return Exif(troubles=("the Exif block has no TIFF header",))
    troubles: list[str] = []
    first = head[8:16].ljust(8, b"\0") if head[:4] in _LARGE else head[4:8]
    main = _directory(block, order, struct.unpack(order + ("Q" if len(first) == 8 else "I"), first)[0], troubles)
    inner = {}
    for pointer in (_IFD_EXIF, _IFD_GPS):
        where = main.get(pointer)
        inner[pointer] = _directory(block, order, int(where[0]), troubles) if isinstance(where, tuple) and where else {}
    pictures = [main]
    subs = main.get(_IFD_SUB)
    for offset in subs[:8] if isinstance(subs, tuple) else ():
        pictures.append(_directory(block, order, int(offset), []))
    width, height = max((_size(tags) for tags in pictures), key=lambda size: size[0] * size[1])
    kinds = {int(value[0]) for tags in pictures if isinstance(value := tags.get(0x0106), tuple) and value}
    is_raw = 0xC612 in main or bool(kinds & _SENSOR)
    return Exif(main, inner[_IFD_EXIF], inner[_IFD_GPS], tuple(troubles), width, height, is_raw)


def preview_places(block: ByteSource) -> list[tuple[int, int]]:
    """Where JPEG pictures lie in a TIFF block or file: (start, length) of each.

    The thumbnail of the next directory (Exif 2.31, 4.5.5: JPEGInterchangeFormat), and in raw files the previews of further
    directories, there or in a strip of JPEG (TIFF 6.0, compression 6 and 7).
    """
    head = block.read(0, 8)
    order = HEADERS.get(head[:4])
    if order is None or len(head) < 8 or head[:4] in _LARGE:
        return []
    found: list[tuple[int, int]] = []
    at = struct.unpack(order + "I", head[4:8])[0]
    for _ in range(_MOST_DIRECTORIES):
        if not at:
            break
        tags = _directory(block, order, at, [])
        subs = tags.get(_IFD_SUB)
        for one in (
            tags,
            *(_directory(block, order, int(sub), []) for sub in (subs[:8] if isinstance(subs, tuple) else ())),
        ):
            found += _jpeg_in(one)
        count = block.read(at, 2)
        end = at + 2 + 12 * struct.unpack(order + "H", count)[0] if len(count) == 2 else 0
        further = block.read(end, 4) if end else b""
        at = struct.unpack(order + "I", further)[0] if len(further) == 4 else 0
    return list(dict.fromkeys(found))


def _jpeg_in(tags: dict[int, Value]) -> list[tuple[int, int]]:
    found = []
    for start, length in ((0x0201, 0x0202), (0x0111, 0x0117)):
        begins, lengths, packed = tags.get(start), tags.get(length), tags.get(0x0103)
        if not isinstance(begins, tuple) or not isinstance(lengths, tuple) or len(begins) != 1 or len(lengths) != 1:
            continue
        if start == 0x0201 or (isinstance(packed, tuple) and packed and int(packed[0]) in (6, 7)):
            found.append((int(begins[0]), int(lengths[0])))
    return found


def _size(tags: dict[int, Value]) -> tuple[int, int]:
    found = [int(value[0]) for tag in (0x0100, 0x0101) if isinstance(value := tags.get(tag), tuple) and value]
    return (found[0], found[1]) if len(found) == 2 else (0, 0)


def _directory(block: ByteSource, order: str, offset: int, troubles: list[str]) -> dict[int, Value]:
    tags: dict[int, Value] = {}
    # The letters of a number of entries, and of a count or an offset.
    many, wide = ("Q", "Q") if block.read(0, 4) in _LARGE else ("H", "I")
    counted, room = struct.calcsize(order + many), struct.calcsize(order + wide)
    raw_count = block.read(offset, counted)
    if len(raw_count) < counted:
        troubles.append(f"an Exif directory lies outside the block (at byte {offset})")
        return tags
    count = min(struct.unpack(order + many, raw_count)[0], _MOST_TAGS)
    size = 4 + 2 * room
    entries = block.read(offset + counted, count * size)
    for start in range(0, len(entries) - size + 1, size):
        tag, kind, number = struct.unpack(order + "HH" + wide, entries[start : start + 4 + room])
        if kind not in _TYPES:
            continue
        width, letters = _TYPES[kind]
        length = width * number
        if length > (_MOST_BLOCK if tag in _BLOCKS else _MOST_BYTES):
            troubles.append(f"Exif tag {tag:#06x} claims {length} bytes")
            continue
        raw = entries[start + 4 + room : start + size]
        if length > room:
            raw = block.read(struct.unpack(order + wide, raw)[0], length)
        if len(raw) < length:
            troubles.append(f"Exif tag {tag:#06x} lies outside the block")
            continue
        tags[tag] = raw[:length] if tag in _BLOCKS else _value(raw[:length], order, kind, letters, number)
    return tags


def _value(raw: bytes, order: str, kind: int, letters: str, number: int) -> Value:
    if kind == 7:
        return raw
    if letters == "s":
        return text_of(raw)
    numbers = struct.unpack(order + letters * number, raw)
    if kind in (5, 10):
        pairs = zip(numbers[::2], numbers[1::2], strict=True)
        return tuple(top / bottom if bottom else 0.0 for top, bottom in pairs)
    return numbers


def text_of(raw: bytes) -> str:
    """Text of a tag: UTF-8 where it is valid (cameras write it in ASCII tags too), else Latin-1; up to the first NUL."""
    raw = raw.split(b"\0", 1)[0]
    try:
        return raw.decode().strip()
    except UnicodeDecodeError:
        return raw.decode("latin-1").strip()


def text(tags: dict[int, Value], tag: int) -> str:
    """A tag's text, or "" where it is absent or no text."""
    value = tags.get(tag)
    return value if isinstance(value, str) else ""


def content_ids(exif: Exif) -> tuple[str, ...]:
    """The identifiers in a maker's note (0x927C, Exif 2.31, 4.6.5): one of them is that of a still's clip, where it has one."""
    note = exif.shot.get(0x927C)
    found = _IDENTIFIER.findall(note) if isinstance(note, bytes) else []
    return tuple(one.decode().upper() for one in found)


def taken(exif: Exif) -> Moment | None:
    """DateTimeOriginal (0x9003), else DateTimeDigitized (0x9004), with its sub-seconds and offset (Exif 2.31, 4.6.5)."""
    for date_tag, offset_tag, fraction_tag in ((0x9003, 0x9011, 0x9291), (0x9004, 0x9012, 0x9292)):
        written = text(exif.shot, date_tag)
        if not written or written.startswith("0000") or not written.strip(" :"):
            continue
        try:
            local = datetime.strptime(written[:19], "%Y:%m:%d %H:%M:%S")
        except ValueError:
            continue
        fraction = text(exif.shot, fraction_tag)
        if fraction.isascii() and fraction.isdigit():
            local = local.replace(microsecond=int(fraction[:6].ljust(6, "0")))
        return Moment(local=local, offset=parse_offset(text(exif.shot, offset_tag)))
    return None


def offset_by_satellite(exif: Exif, moment: Moment) -> int | None:
    """The offset of a camera's local clock, in minutes, by the clock of the satellites (GPSDateStamp and GPSTimeStamp, in UTC;
    Exif 2.31, 4.6.6); None where that is told already, or the two do not fit.
    """
    day, parts = text(exif.gps, 0x1D), exif.gps.get(7)
    if moment.offset is not None or moment.local is None or not isinstance(parts, tuple) or len(parts) != 3:
        return None
    try:
        midnight = datetime.strptime(day[:10].replace("-", ":"), "%Y:%m:%d")
        utc = midnight + timedelta(hours=parts[0], minutes=parts[1], seconds=parts[2])
    except (ValueError, OverflowError):
        return None
    return infer_offset(moment.local, utc)


def position(exif: Exif) -> tuple[float, float] | None:
    """Latitude and longitude in signed decimal degrees, or None where absent, out of range, or the 0/0 of an unset receiver."""
    found = []
    for value_tag, side_tag, negative, limit in ((2, 1, "S", 90.0), (4, 3, "W", 180.0)):
        parts, side = exif.gps.get(value_tag), text(exif.gps, side_tag).upper()
        if not isinstance(parts, tuple) or len(parts) != 3 or not side:
            return None
        degrees = parts[0] + parts[1] / 60 + parts[2] / 3600
        if degrees != degrees or not 0 <= degrees <= limit:
            return None
        found.append(-degrees if side == negative else degrees)
    return None if found == [0.0, 0.0] else (found[0], found[1])
