"""Reading IPTC-IIM (version 4.2) records, and the image resources in which JPEG and TIFF files keep them."""

import struct
from collections.abc import Iterator
from datetime import date, datetime, time

from bramblemoor.frames.claims import Claim
from bramblemoor.frames.moments import Moment

_MOST = 10_000
_TEXTS = (5, 25, 92, 105, 120)


def resources(block: bytes) -> dict[int, bytes]:
    """The image resources of a block, by number; the first of each. Stops quietly where the block breaks off."""
    found: dict[int, bytes] = {}
    at = 0
    while block[at : at + 4] == b"8BIM" and at + 8 <= len(block):
        number = int.from_bytes(block[at + 4 : at + 6], "big")
        name = block[at + 6] + 1 if at + 6 < len(block) else 1
        at += 6 + name + name % 2
        if at + 4 > len(block):
            break
        size = int.from_bytes(block[at : at + 4], "big")
        found.setdefault(number, block[at + 4 : at + 4 + size])
        at += 4 + size + size % 2
    return found


def _datasets(block: bytes) -> Iterator[tuple[int, int, bytes]]:
    """(record, dataset, value), in order (IIM 1.5)."""
    at = 0
    for _ in range(_MOST):
        if at + 5 > len(block) or block[at] != 0x1C:
            return
        record, number, size = struct.unpack_from(">BBH", block, at + 1)
        at += 5
        if size & 0x8000:  # the length's own length
            wide = size & 0x7FFF
            if wide > 4:
                return
            size = int.from_bytes(block[at : at + wide], "big")
            at += wide
        yield record, number, block[at : at + size]
        at += size


def read_iptc(block: bytes) -> list[Claim]:
    """Title (2:05), caption (2:120), keywords (2:25), sublocation (2:92), date and time created (2:55, 2:60)."""
    values: dict[tuple[int, int], list[bytes]] = {}
    for record, number, value in _datasets(block):
        values.setdefault((record, number), []).append(value)
    utf8 = values.get((1, 90), [b""])[0].startswith(b"\x1b%G")
    told = b"\n".join(raw for key in _TEXTS for raw in values.get((2, key), []))
    other = "utf-8" if utf8 else _encoding(told)

    def texts(number: int) -> list[str]:
        return [text for raw in values.get((2, number), []) if (text := _text(raw, other))]

    claims = [Claim("keyword", word, "iptc") for word in texts(25)]
    for field, number in (("title", 5), ("caption", 120), ("location", 92)):
        claims += [Claim(field, text, "iptc") for text in texts(number)[:1]]  # type: ignore[arg-type]
    moment = _moment("".join(texts(55)[:1]), "".join(texts(60)[:1]))
    return claims + ([Claim("taken", str(moment), "iptc")] if moment else [])


def _text(raw: bytes, other: str) -> str:
    try:
        text = raw.decode()
    except UnicodeDecodeError:
        text = raw.decode(other, "replace")
    return text.strip("\0 \t\r\n")


def _encoding(told: bytes) -> str:
    """In which of the encodings that were usual before Unicode texts stand that do not say: in the one by which the letters with
    marks stand where letters stand, small ones within words.
    """
    return max(("cp1252", "mac-roman"), key=lambda encoding: _sense(told.decode(encoding, "replace")))


def _sense(text: str) -> int:
    sense = 0
    for at, letter in enumerate(text):
        if letter.isascii():
            continue
        before = text[at - 1] if at else " "
        if letter == "\ufffd" or not letter.isalpha():
            sense -= before.isalpha()
        else:
            sense += 1 if letter.islower() or not before.isalpha() else -1
    return sense


def _moment(day: str, clock: str) -> Moment | None:
    """A moment from CCYYMMDD and HHMMSS+HHMM; a day alone is no moment."""
    if len(day) != 8 or not day.isdecimal() or len(clock) < 6 or not clock[:6].isdecimal():
        return None
    try:
        on = date(int(day[:4]), int(day[4:6]), int(day[6:]))
        at = time(int(clock[:2]), int(clock[2:4]), int(clock[4:6]))
    except ValueError:
        return None
    offset = None
    if len(clock) == 11 and clock[6] in "+-" and clock[7:].isdecimal():
        offset = (int(clock[7:9]) * 60 + int(clock[9:])) * (-1 if clock[6] == "-" else 1)
    return Moment(local=datetime.combine(on, at), offset=offset)
