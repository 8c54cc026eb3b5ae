"""File names that survive exFAT, NTFS, APFS and ext4, and their collisions."""

import os
import re
import unicodedata
from collections.abc import Callable

_FORBIDDEN = {ord(character): "_" for character in '<>:"/\\|?*'} | dict.fromkeys((*range(32), *range(127, 160)))
_DEVICES = {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
_PLAIN = re.compile(r"[A-Za-z0-9_-][A-Za-z0-9_ .-]{0,98}[A-Za-z0-9_-]")
"""Most names: nothing in them is refused anywhere, unless a device is called so."""
AMBIGUOUS = re.compile("%(?=0D|0A|25)", re.IGNORECASE)
"""A percent sign that could be mistaken for the encoding of a list of checksums."""
_MOST = 255
_LONG = 140  # bytes; encrypted folders, say, hold no longer names
_ROOM = len(".xmp") + len(".bm-new")
"""What every name must leave free: its sidecar's suffix and that of a file being written."""

DEPOT_MARK = "depot.toml"
"""By this file a folder is known to be a depot."""
LITTER = frozenset((".DS_Store", "Thumbs.db", "desktop.ini", ".Spotlight-V100", ".Trashes", ".fseventsd"))
"""What operating systems leave in folders: nobody's work, and nothing to be alarmed at."""


def is_litter(path: str) -> bool:
    """Whether a file, or a folder that it lies in, is such; and what one system keeps beside each file on drives of another."""
    return any(step in LITTER or step.startswith("._") for step in path.split("/"))


def safe_name(name: str) -> str:
    """The name itself where every file system takes it, else the nearest that they take.

    NFC; no reserved or control character, no `%` that could be mistaken; no trailing dot or space; no device name; room for the
    suffixes that are put behind it, in UTF-8 bytes and in UTF-16 units.
    """
    if _PLAIN.fullmatch(name) and not is_device_name(name):
        return name
    name = unicodedata.normalize("NFC", name.encode("utf-8", "replace").decode())
    name = _trimmed(AMBIGUOUS.sub("_", name.translate(_FORBIDDEN)).lstrip())
    stem, dot, ending = name.rpartition(".")
    if not stem:
        stem, dot, ending = name, "", ""
    if is_device_name(stem):
        stem = "_" + stem
    while stem and _too_long(stem + dot + ending):
        stem = _trimmed(stem[:-1])
    while ending and _too_long(stem + dot + ending):
        ending = ending[:-1]
    return _trimmed(stem + dot + ending) or "_"


_NOT_EVERYWHERE = re.compile(
    f"[{re.escape(''.join(chr(code) for code in _FORBIDDEN if chr(code) != '/'))}]|[. ](?=/|$)"
    f"|(?:^|/)(?:{'|'.join(sorted(_DEVICES))})(?=[./]|$)",
    re.IGNORECASE,
)


def may_be_refused(path: str) -> bool:
    """Whether there are file systems that do not take the names of a path: exFAT and NTFS not all, and some no long ones."""
    if _NOT_EVERYWHERE.search(path) is not None:
        return True
    return len(path) * 4 > _LONG and any(len(os.fsencode(step)) > _LONG for step in path.split("/"))


def listable(path: str) -> str:
    """The path itself where lists of checksums can hold it, which programs other than ours read; else the nearest that they can.

    Control characters and line ends go, as in names that are made here; and percent signs that could be mistaken.
    """
    steps = (
        AMBIGUOUS.sub("_", "".join("_" if ord(letter) < 32 or 127 <= ord(letter) < 160 else letter for letter in step))
        for step in path.split("/")
    )
    return "/".join(steps)


def is_device_name(name: str) -> bool:
    """Whether Windows takes a name for a device, whatever its ending."""
    return name.split(".")[0].rstrip().lower() in _DEVICES


def _trimmed(name: str) -> str:
    return re.sub(r"[.\s]+$", "", name)


def _too_long(name: str) -> bool:
    return max(len(name.encode()), len(name.encode("utf-16-le")) // 2) > _MOST - _ROOM


def collision_key(path: str) -> str:
    """Two paths with the same key cannot both exist on every file system (case and normalisation folded)."""
    if path.isascii():
        return path.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", path).casefold())


def folded(word: str) -> str:
    """A site's or a medium's name as it counts: however it is spelled, with capitals, spaces or a stop behind it, it is one."""
    return " ".join(unicodedata.normalize("NFKC", word).casefold().split()).strip(" .,;:!'\"()-_")


def free_name(name: str, taken: Callable[[str], bool]) -> str:
    """`name`, or the first of name-2, name-3, ... that `taken` does not object to."""
    candidate, number = name, 1
    while taken(candidate):
        number += 1
        stem, dot, ending = name.rpartition(".")
        if not stem:
            stem, dot, ending = name, "", ""
        tail = f"-{number}{dot}{ending}"
        while stem and _too_long(stem + tail):
            stem = stem[:-1]
        candidate = stem + tail
    return candidate
