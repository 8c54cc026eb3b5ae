"""A picture to show: upright, no larger than needed; of a raw its preview, of a film one of its pictures."""

import io
from pathlib import Path
from typing import TYPE_CHECKING

from bramblemoor.frames.exif import read_exif
from bramblemoor.frames.kinds import HEAD, RAWS, kind_of, media_type
from bramblemoor.frames.previews import embedded_previews
from bramblemoor.frames.source import FileSource

if TYPE_CHECKING:
    from PIL.Image import Image

_ORIENTATION = 0x0112
_INTO_FILM = 0.1  # of its length: most begin with a blur
_MOST_PIXELS = 400_000_000


def shown(path: Path, longest: int) -> "Image | None":
    """The picture at most so many pixels on its longer side; None where nothing can be shown. Never raises for what is in it."""
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = _MOST_PIXELS
    try:
        with FileSource(path) as source:
            media = media_type(source.read(0, HEAD))
            if media in RAWS or media == "image/tiff":
                previews = embedded_previews(source)
                if previews:
                    orientation = read_exif(source).main.get(_ORIENTATION)
                    return _fitted(io.BytesIO(_enough(previews, longest)), longest, orientation)
        if kind_of(media) == "video":
            return _of_film(path, longest)
        return _fitted(path, longest, None)
    except Exception:  # a damaged picture makes decoders raise whatever they like
        return None


def _enough(previews: list[bytes], longest: int) -> bytes:
    """The smallest preview that is large enough, else the largest."""
    from PIL import Image

    for preview in previews:
        with Image.open(io.BytesIO(preview)) as image:
            if max(image.size) >= longest:
                return preview
    return previews[-1]


def _fitted(file: Path | io.BytesIO, longest: int, orientation: object) -> "Image":
    from PIL import Image, ImageFile, ImageOps
    from pillow_heif import register_heif_opener

    register_heif_opener()
    ImageFile.LOAD_TRUNCATED_IMAGES = True  # of one that was cut short what is there is shown
    with Image.open(file) as image:
        image.draft("RGB", (longest, longest))
        if isinstance(orientation, tuple) and orientation and _ORIENTATION not in image.getexif():
            image.getexif()[_ORIENTATION] = int(orientation[0])
        if max(image.size) > longest:
            image.thumbnail((longest, longest), Image.Resampling.BICUBIC, reducing_gap=2.0)
        upright = ImageOps.exif_transpose(image)
        return upright.convert("RGB")


def _of_film(path: Path, longest: int) -> "Image | None":
    """The first whole picture behind the beginning of a film."""
    import av
    from PIL import Image

    with av.open(str(path)) as film:
        stream = film.streams.video[0]
        stream.codec_context.skip_frame = "NONKEY"
        if film.duration:
            film.seek(int(film.duration * _INTO_FILM))
        for frame in film.decode(stream):
            image: Image.Image = frame.to_image()  # type: ignore[no-untyped-call]
            image.thumbnail((longest, longest), Image.Resampling.BICUBIC)
            return image.convert("RGB")
    return None


def as_jpeg(image: "Image", quality: int) -> bytes:
    target = io.BytesIO()
    image.save(target, "JPEG", quality=quality, optimize=False)
    return target.getvalue()
