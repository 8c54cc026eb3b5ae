"""What a file is, told from its first bytes and never from its name."""

from typing import Literal

Kind = Literal["photo", "video", "other"]

_MOVIE_BRANDS = {
    b"isom",
    b"iso2",
    b"iso4",
    b"iso5",
    b"iso6",
    b"mp41",
    b"mp42",
    b"avc1",
    b"M4V ",
    b"3gp4",
    b"3gp5",
    b"3gp6",
}
_STILL_BRANDS = {
    b"heic": "image/heic", b"heix": "image/heic", b"heim": "image/heic", b"heis": "image/heic", b"hevc": "image/heic",
    b"mif1": "image/heif", b"msf1": "image/heif", b"avif": "image/avif", b"avis": "image/avif", b"crx ": "image/x-raw",
}  # fmt: skip
_RAW_HEADS = (b"IIRO", b"IIRS", b"MMOR", b"IIU\0", b"FUJIFILMCCD-RAW ")


HEAD = 64
"""Bytes at the beginning of a file that tell what it is."""


def media_type(head: bytes) -> str:
    """The media type (RFC 6838 name) of a file whose first HEAD bytes are `head`."""
    if head.startswith(b"\xff\xd8\xff"):
        return "image/jpeg"
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "image/png"
    if head.startswith(_RAW_HEADS) or (head[:4] == b"II*\0" and head[8:10] == b"CR"):
        return "image/x-raw"
    if head.startswith((b"II*\0", b"MM\0*")):
        return "image/tiff"
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "image/webp"
    if head[:6] in (b"GIF87a", b"GIF89a"):
        return "image/gif"
    if head[4:8] == b"ftyp":
        brand = head[8:12]
        if brand == b"qt  ":
            return "video/quicktime"
        if brand in _STILL_BRANDS:
            return _STILL_BRANDS[brand]
        if brand not in _MOVIE_BRANDS:  # the brands it is compatible with may tell more
            for at in range(16, len(head) - 3, 4):
                if head[at : at + 4] in _STILL_BRANDS:
                    return _STILL_BRANDS[head[at : at + 4]]
        return "video/mp4"
    if head[4:8] in (b"moov", b"mdat", b"wide", b"free") and head[:2] == b"\0\0":
        return "video/quicktime"  # old movies have no file type
    if head.startswith(b"BM") and head[6:10] == b"\0\0\0\0":
        return "image/bmp"
    return "application/octet-stream"


RAWS = ("image/x-raw", "image/dng")
"""The media types of raw pictures."""


def kind_of(media: str) -> Kind:
    """Whether a media type is a photo, a video, or nothing that Bramblemoor shows."""
    family = media.partition("/")[0]
    return "photo" if family == "image" else "video" if family == "video" else "other"


_ENDINGS = (
    ("jpg", "jpeg", "jpe", "jfif"), ("heic", "heif", "hif"), ("tif", "tiff"), ("png",), ("gif",), ("webp",), ("avif",), ("bmp",),
    ("mp4", "m4v"), ("mov", "qt"), ("3gp",), ("avi",), ("mts", "m2ts"), ("mpg", "mpeg"),
    ("dng",), ("cr2",), ("cr3",), ("nef",), ("arw",), ("raf",), ("orf",), ("rw2",), ("pef",), ("srw",),
)  # fmt: skip
_FORMAT = {ending: group[0] for group in _ENDINGS for ending in group}


def is_picture_ending(ending: str) -> bool:
    """Whether files with an ending (".JPG") are pictures or films, as their owners call them."""
    return ending[1:].lower() in _FORMAT


def same_ending(one: str, other: str) -> bool:
    """Whether two endings stand for one format, as .jpg and .JPEG do."""
    one, other = one[1:].lower(), other[1:].lower()
    return _FORMAT.get(one, one) == _FORMAT.get(other, other)


def ending_of(name: str) -> str:
    """What a name ends with, its dot included, where that is the ending of a picture or film; else ""."""
    stem, dot, ending = name.rpartition(".")
    return dot + ending if stem and is_picture_ending(dot + ending) else ""


def is_of_another_kind(one: str, other: str) -> bool:
    """Whether two names have endings that stand for two formats."""
    ends = ending_of(one), ending_of(other)
    return all(ends) and not same_ending(*ends)
