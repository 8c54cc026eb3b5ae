"""Whether two pictures show the same, told from a small grey version of each."""

import io
from pathlib import Path

_SIDE = 24
_MOST_DIFFERENCE = 5.0
"""Mean difference, of 255, between two versions of one picture; two pictures of a burst are farther apart as a rule."""


def small_grey(source: Path | bytes) -> bytes | None:
    """The picture as 24 x 24 grey pixels, its contrast stretched; None where it cannot be decoded."""
    from PIL import Image, ImageOps
    from pillow_heif import register_heif_opener

    register_heif_opener()
    try:
        with Image.open(io.BytesIO(source) if isinstance(source, bytes) else source) as image:
            image.draft("L", (_SIDE * 4, _SIDE * 4))  # a JPEG is decoded at an eighth of its size, where that is enough
            upright = ImageOps.exif_transpose(image)
            small = upright.convert("L").resize((_SIDE, _SIDE), Image.Resampling.BOX)
            return ImageOps.autocontrast(small).tobytes()
    except Exception:  # a damaged picture makes decoders raise whatever they like
        return None


def difference(one: bytes, other: bytes) -> float:
    """The mean difference of two small grey versions, 0 to 255."""
    return sum(abs(a - b) for a, b in zip(one, other, strict=True)) / len(one)


def alike(one: bytes, other: bytes) -> bool:
    return difference(one, other) <= _MOST_DIFFERENCE
