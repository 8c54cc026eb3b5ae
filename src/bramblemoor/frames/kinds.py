"""What a file is: the one registry of kinds. Its first bytes tell first, its name only where they do not.

Nothing else in the house compares endings or first bytes. A kind has a family: what is read of it, and what may stand beside it,
go by that. A file of no kind that is known here is of the family "other", and is kept like all else.
"""

from dataclasses import dataclass
from typing import Literal

Kind = Literal["photo", "video", "other"]
"""How a frame is read and shown."""
Family = Literal["photo", "raw", "film", "sound", "sidecar", "document", "other"]
"""A document is what cameras and editors write beside a picture: small pictures of films, clip lists, instructions."""


@dataclass(frozen=True)
class FileKind:
    """A kind of file: its media type (RFC 6838), its family, and the endings that stand for it, the usual one first."""

    media: str
    family: Family
    endings: tuple[str, ...]


RAW, DNG = "image/x-raw", "image/dng"
RAWS = (RAW, DNG)
"""The media types of raw pictures."""
JPEG = "image/jpeg"
XMP = "application/rdf+xml"
SIDECAR = ".xmp"
"""What the name of a sidecar ends with, behind its picture's."""
UNKNOWN = "application/octet-stream"

KINDS = (
    FileKind(JPEG, "photo", ("jpg", "jpeg", "jpe", "jfif")),
    FileKind("image/mpo", "photo", ("mpo",)),  # several JPEGs in one; by its first bytes it is one
    FileKind("image/heic", "photo", ("heic", "heif", "hif")),
    FileKind("image/avif", "photo", ("avif",)),
    FileKind("image/png", "photo", ("png",)),
    FileKind("image/tiff", "photo", ("tif", "tiff")),
    FileKind("image/webp", "photo", ("webp",)),
    FileKind("image/gif", "photo", ("gif",)),
    FileKind("image/bmp", "photo", ("bmp",)),
    FileKind("image/jxl", "photo", ("jxl",)),
    FileKind("image/jp2", "photo", ("jp2", "j2k", "jpf", "jpx")),
    FileKind("image/x-layers", "photo", ("psd", "psb")),
    FileKind("image/x-exr", "photo", ("exr",)),
    FileKind(DNG, "raw", ("dng",)),
    *(FileKind(RAW, "raw", (ending,)) for ending in (
        "cr2", "cr3", "crw", "nef", "nrw", "arw", "sr2", "srf", "raf", "orf", "rw2", "pef", "srw", "iiq", "3fr", "fff", "gpr",
        "x3f", "mrw", "rwl", "kdc", "dcr", "erf", "mef", "mos",
    )),
    FileKind("video/mp4", "film", ("mp4", "m4v")),
    FileKind("video/mp4", "film", ("insv",)),
    FileKind("video/quicktime", "film", ("mov", "qt")),
    FileKind("video/3gpp", "film", ("3gp", "3g2")),
    FileKind("video/x-msvideo", "film", ("avi",)),
    FileKind("video/mp2t", "film", ("mts", "m2ts")),
    FileKind("video/mpeg", "film", ("mpg", "mpeg")),
    FileKind("video/x-matroska", "film", ("mkv",)),
    FileKind("video/webm", "film", ("webm",)),
    FileKind("video/x-ms-asf", "film", ("wmv", "asf")),
    FileKind("video/ogg", "film", ("ogv",)),
    FileKind("video/x-flv", "film", ("flv",)),
    FileKind("video/mxf", "film", ("mxf",)),
    FileKind("video/x-raw", "film", ("r3d",)),
    FileKind("audio/wav", "sound", ("wav",)),
    FileKind("audio/mp4", "sound", ("m4a",)),
    FileKind("audio/mpeg", "sound", ("mp3",)),
    FileKind("audio/aac", "sound", ("aac",)),
    FileKind("audio/amr", "sound", ("amr",)),
    FileKind("audio/flac", "sound", ("flac",)),
    FileKind("audio/ogg", "sound", ("ogg", "opus")),
    FileKind("audio/aiff", "sound", ("aif", "aiff")),
    FileKind(XMP, "sidecar", ("xmp",)),
    FileKind(JPEG, "document", ("thm",)),  # a camera's small picture of a film; its bytes alone would be a photo's
)  # fmt: skip
_BY_ENDING = {ending: kind for kind in KINDS for ending in kind.endings}
PICTURES: tuple[Family, ...] = ("photo", "raw", "film")
"""The families of which a frame is made; the others stand beside one, or are kept by themselves."""

_STILL_BRANDS = {
    b"heic": "image/heic", b"heix": "image/heic", b"heim": "image/heic", b"heis": "image/heic", b"hevc": "image/heic",
    b"mif1": "image/heif", b"msf1": "image/heif", b"avif": "image/avif", b"avis": "image/avif", b"crx ": RAW,
}  # fmt: skip
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
_SOUND_BRANDS = {b"M4A ", b"M4B "}
# What files begin with; of several that fit, the first here.
_BEGINNINGS: tuple[tuple[bytes, str], ...] = (
    (b"\xff\xd8\xff", JPEG),
    (b"\x89PNG\r\n\x1a\n", "image/png"),
    (b"IIRO", RAW), (b"IIRS", RAW), (b"MMOR", RAW), (b"IIU\0", RAW), (b"FUJIFILMCCD-RAW ", RAW),
    (b"II\x1a\0\0\0HEAP", RAW), (b"FOVb", RAW), (b"\0MRM", RAW),
    (b"II*\0", "image/tiff"), (b"MM\0*", "image/tiff"), (b"II+\0", "image/tiff"), (b"MM\0+", "image/tiff"),
    (b"GIF87a", "image/gif"), (b"GIF89a", "image/gif"),
    (b"8BPS", "image/x-layers"),
    (b"\xff\x0a", "image/jxl"), (b"\0\0\0\x0cJXL \r\n\x87\n", "image/jxl"),
    (b"\0\0\0\x0cjP  \r\n\x87\n", "image/jp2"), (b"\xff\x4f\xff\x51", "image/jp2"),
    (b"v/1\x01", "image/x-exr"),
    (b"\0\0\x01\xba", "video/mpeg"), (b"\0\0\x01\xb3", "video/mpeg"),
    (b"\x30\x26\xb2\x75\x8e\x66\xcf\x11", "video/x-ms-asf"),
    (b"\x06\x0e\x2b\x34\x02\x05\x01\x01\x0d\x01\x02", "video/mxf"),
    (b"FLV\x01", "video/x-flv"),
    (b"fLaC", "audio/flac"), (b"ID3", "audio/mpeg"), (b"\xff\xfb", "audio/mpeg"), (b"\xff\xf3", "audio/mpeg"),
    (b"\xff\xf1", "audio/aac"), (b"\xff\xf9", "audio/aac"), (b"#!AMR", "audio/amr"),
)  # fmt: skip
_IN_CHUNKS = {
    (b"RIFF", b"WEBP"): "image/webp", (b"RIFF", b"WAVE"): "audio/wav", (b"RIFF", b"AVI "): "video/x-msvideo",
    (b"FORM", b"AIFF"): "audio/aiff", (b"FORM", b"AIFC"): "audio/aiff",
}  # fmt: skip
_PACKET, _STAMPED_PACKET = (
    188,
    192,
)  # bytes of a packet of a transport stream (ISO/IEC 13818-1, 2.4.3.2); with a time before it

HEAD = 400
"""Bytes at the beginning of a file that tell what it is."""


def media_type(head: bytes) -> str:
    """The media type (RFC 6838 name) of a file whose first HEAD bytes are `head`; UNKNOWN where they do not tell."""
    if head[:4] == b"II*\0" and head[8:10] == b"CR":
        return RAW
    found = next((media for beginning, media in _BEGINNINGS if head.startswith(beginning)), "")
    found = found or _IN_CHUNKS.get((head[:4], head[8:12]), "")
    if found:
        return found
    if head[4:8] == b"ftyp":
        return _of_boxes(head)
    if head[4:8] in (b"moov", b"mdat", b"wide", b"free") and head[:2] == b"\0\0":
        return "video/quicktime"  # old movies have no file type
    if head[4:8] in (b"RED1", b"RED2"):
        return "video/x-raw"
    if head.startswith(b"\x1a\x45\xdf\xa3"):  # EBML (RFC 8794); its document type stands near the beginning
        return "video/webm" if b"webm" in head[:64] else "video/x-matroska"
    if head.startswith(b"OggS"):
        return "video/ogg" if b"theora" in head[:64] else "audio/ogg"
    if (
        head[:1] == head[_PACKET : _PACKET + 1] == b"G"
        or head[4:5] == head[4 + _STAMPED_PACKET : 5 + _STAMPED_PACKET] == b"G"
    ):
        return "video/mp2t"
    if head.startswith(b"BM") and head[6:10] == b"\0\0\0\0":
        return "image/bmp"
    return UNKNOWN


def _of_boxes(head: bytes) -> str:
    """What an ISO base media file is, by its brands (ISO/IEC 14496-12, 4.3)."""
    brand = head[8:12]
    if brand == b"qt  ":
        return "video/quicktime"
    if brand in _STILL_BRANDS:
        return _STILL_BRANDS[brand]
    if brand in _SOUND_BRANDS:
        return "audio/mp4"
    if brand not in _MOVIE_BRANDS:  # the brands it is compatible with may tell more
        for at in range(16, min(len(head), int.from_bytes(head[:4], "big")) - 3, 4):
            if head[at : at + 4] in _STILL_BRANDS:
                return _STILL_BRANDS[head[at : at + 4]]
    return "video/mp4"


def kind_of(media: str) -> Kind:
    """Whether a media type is a photo, a video, or nothing that Bramblemoor shows."""
    top = media.partition("/")[0]
    return "photo" if top == "image" else "video" if top == "video" else "other"


def family(name: str, media: str) -> Family:
    """What a file is by its first bytes (their media type), else by its name; a camera's small picture of a film by its name."""
    named = family_by_name(name)
    if named == "document" or media == UNKNOWN or not media:
        return named
    top = media.partition("/")[0]
    if media in RAWS or (named == "raw" and top == "image"):
        return "raw"
    families: dict[str, Family] = {"image": "photo", "video": "film", "audio": "sound"}
    found = families.get(top, named)
    # One container holds films and sounds alike: of those two the name tells more than the brand.
    return named if {found, named} == {"film", "sound"} else found


def family_by_name(name: str) -> Family:
    """What a file is as its name says, before anything was read of it."""
    kind = _BY_ENDING.get(_bare_ending(name))
    return kind.family if kind is not None else "other"


def is_sidecar(name: str) -> bool:
    """Whether a file is XMP, by its name."""
    return _bare_ending(name) == SIDECAR[1:]


def sidecar_of(path: str) -> str:
    """The path of the sidecar that is written for a picture."""
    return path + SIDECAR


def stem_of(name: str) -> str:
    """A name without its ending; of a sidecar, without that of the picture, too (A.jpg.xmp)."""
    stem = name.rpartition(".")[0]
    if not stem:
        return name
    if is_sidecar(name) and (inner := ending_of(stem)):
        return stem[: -len(inner)]
    return stem


def _bare_ending(name: str) -> str:
    """In small letters, without its dot; "" where there is none."""
    stem, _, ending = name.rpartition("/")[2].rpartition(".")
    return ending.lower() if stem else ""


def is_picture_ending(ending: str) -> bool:
    """Whether files with an ending (".JPG") are pictures or films, as their owners call them."""
    kind = _BY_ENDING.get(ending[1:].lower())
    return kind is not None and kind.family in PICTURES


def same_ending(one: str, other: str) -> bool:
    """Whether two endings stand for one format, as .jpg and .JPEG do."""
    one, other = one[1:].lower(), other[1:].lower()
    return one == other or (one in _BY_ENDING and _BY_ENDING[one] is _BY_ENDING.get(other))


def ending_of(name: str) -> str:
    """What a name ends with, its dot included, where that is the ending of a picture or film; else ""."""
    stem, dot, ending = name.rpartition(".")
    return dot + ending if stem and is_picture_ending(dot + ending) else ""


def is_of_another_kind(one: str, other: str) -> bool:
    """Whether two names have endings that stand for two formats."""
    ends = ending_of(one), ending_of(other)
    return all(ends) and not same_ending(*ends)


EMBEDDABLE = frozenset(("image/jpeg", "image/png"))
"""The media types of pictures into which what is known can be written, in a copy."""


def can_embed(name: str) -> bool:
    """Whether a copy of a picture of this name can hold what is known of it."""
    kind = _BY_ENDING.get(_bare_ending(name))
    return kind is not None and kind.family == "photo" and kind.media in EMBEDDABLE
