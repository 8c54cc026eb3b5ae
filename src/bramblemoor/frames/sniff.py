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
_STILL_BRANDS = {b"heic": "image/heic", b"heix": "image/heic", b"mif1": "image/heif", b"avif": "image/avif"}


def media_type(head: bytes) -> str:
    """The media type (RFC 6838 name) of a file whose first 32 or more bytes are `head`."""
    if head.startswith(b"\xff\xd8\xff"):
        return "image/jpeg"
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "image/png"
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
        return "video/mp4" if brand in _MOVIE_BRANDS else _STILL_BRANDS.get(brand, "video/mp4")
    return "application/octet-stream"


def kind_of(media: str) -> Kind:
    """Whether a media type is a photo, a video, or nothing that Bramblemoor shows."""
    family = media.partition("/")[0]
    return "photo" if family == "image" else "video" if family == "video" else "other"
