"""A picture to look at without decoding the whole file: the preview that a camera put into it, or a draft of the picture."""

import io
from pathlib import Path
from typing import TYPE_CHECKING

from bramblemoor.frames.boxes import boxes
from bramblemoor.frames.exif import preview_places
from bramblemoor.frames.jpeg import read_jpeg
from bramblemoor.frames.kinds import HEAD, RAWS, kind_of, media_type
from bramblemoor.frames.source import ByteSource, FileSource, MemorySource

if TYPE_CHECKING:
    from PIL.Image import Image

_RAW_JPEG_AT = 84  # where one maker's raw files say where their JPEG lies
_LARGEST = 64 << 20
_SOI = b"\xff\xd8\xff"


def embedded_previews(source: ByteSource) -> list[bytes]:
    """The JPEG pictures inside a picture or raw file, the smallest first. Never raises for what is in the file."""
    head = source.read(0, HEAD)
    media = media_type(head)
    found: list[bytes] = []
    if media == "image/jpeg":
        exif = read_jpeg(source).exif
        found = _at(MemorySource(exif), preview_places(MemorySource(exif))) if exif else []
    elif head.startswith(b"FUJI"):
        place = source.read(_RAW_JPEG_AT, 8)
        found = _at(source, [(int.from_bytes(place[:4], "big"), int.from_bytes(place[4:], "big"))])
    elif media == "image/x-raw" and head[4:8] == b"ftyp":
        found = _in_boxes(source)
    elif media in ("image/tiff", "image/x-raw"):
        found = _at(source, preview_places(source))
    return sorted(found, key=len)


def _at(source: ByteSource, places: list[tuple[int, int]]) -> list[bytes]:
    contents = (source.read(start, length) for start, length in places if 0 < length <= _LARGEST)
    return [content for content in contents if content.startswith(_SOI)]


def _in_boxes(source: ByteSource) -> list[bytes]:
    """Raw files built of boxes keep a small picture in THMB and a larger one in PRVW, each behind a head of its own."""
    found = []
    outer = [(start, end) for kind, start, end in boxes(source, 0, source.size) if kind in (b"moov", b"uuid")]
    for start, end in outer:
        inside = [(start + 16, end), (start + 24, end)]
        inside += [(at + 16, until) for kind, at, until in boxes(source, start, end) if kind == b"uuid"]
        for begin, stop in inside:
            for kind, at, until in boxes(source, begin, stop):
                if kind in (b"THMB", b"PRVW") and until - at <= _LARGEST:
                    content = source.read(at, until - at)
                    if (begins := content.find(_SOI)) >= 0:
                        found.append(content[begins:])
    return found


def glanced_at(path: Path, least: int) -> "Image | None":
    """A small version of a picture, at least `least` pixels on its longer side: an embedded preview will do.

    None where nothing decodes. Raises OSError where the drive does not give it.
    """
    with FileSource(path) as source:
        if kind_of(media_type(source.read(0, HEAD))) != "photo":
            return None
        for content in embedded_previews(source):
            if (image := _opened(io.BytesIO(content), least)) is not None and max(image.size) >= least:
                return image
    return decoded(path, least)


def decoded(path: Path, least: int) -> "Image | None":
    """The picture itself, a JPEG no finer than `least` pixels on its longer side need; of a raw its largest preview.

    None where it cannot be decoded. Raises OSError where the drive does not give it.
    """
    with FileSource(path) as source:
        media = media_type(source.read(0, HEAD))
        if kind_of(media) != "photo":
            return None
        previews = embedded_previews(source) if media in RAWS else []
    if previews:
        return _opened(io.BytesIO(previews[-1]), least)
    return _opened(path, least)


def _opened(file: io.BytesIO | Path, least: int) -> "Image | None":
    from PIL import Image
    from pillow_heif import register_heif_opener

    register_heif_opener()
    try:
        with Image.open(file) as image:
            image.draft("RGB", (least, least))
            return image.convert("RGB")
    except OSError as error:
        if error.errno is not None:  # the drive's, not the picture's
            raise
        return None
    except Exception:  # a damaged picture makes decoders raise whatever they like
        return None
