"""Whether two pictures show the same, told from a small grey version of each."""

import io
from pathlib import Path

_SIDE = 24
_FLAT = 40.0
_LEAST_CONTRAST = 4  # of 255
_MOST_DIFFERENCE = 5.0
"""Mean difference, of 255, between two versions of one picture; two pictures of a burst are farther apart as a rule."""


def small_grey(source: Path | bytes, side: int = _SIDE) -> bytes | None:
    """The picture as so many grey pixels squared, its contrast stretched.

    None where it cannot be decoded, or is all of one grey, as any other such picture is.
    """
    from PIL import Image, ImageOps
    from pillow_heif import register_heif_opener

    register_heif_opener()
    try:
        with Image.open(io.BytesIO(source) if isinstance(source, bytes) else source) as image:
            image.draft("L", (side * 4, side * 4))  # a JPEG is decoded at an eighth of its size, where that is enough
            upright = ImageOps.exif_transpose(image)
            small = upright.convert("L").resize((side, side), Image.Resampling.BOX)
            greys = small.tobytes()
            if max(greys) - min(greys) < _LEAST_CONTRAST:
                return None
            return ImageOps.autocontrast(small).tobytes()
    except Exception:  # a damaged picture makes decoders raise whatever they like
        return None


def fingerprint(source: Path | bytes) -> int | None:
    """64 bits that versions of one picture have nearly all in common, whatever their size: signs of its lowest frequencies.

    A two-dimensional discrete cosine transform of 32 x 32 grey pixels, the 8 x 8 lowest coefficients against their median. None
    where the picture cannot be decoded, or is so flat that the signs would be noise.
    """
    import numpy as np

    grey = small_grey(source, 32)
    if grey is None:
        return None
    pixels = np.frombuffer(grey, np.uint8).reshape(32, 32).astype(float)
    steps = np.arange(32)
    basis = np.cos(np.pi * (2 * steps[None, :] + 1) * steps[:8, None] / 64)
    low = (basis @ pixels @ basis.T).flatten()
    if np.count_nonzero(np.abs(low[1:]) > _FLAT) < 8:
        return None
    bits = low > np.median(low[1:])
    return int(np.packbits(bits).view(">i8")[0])


def difference(one: bytes, other: bytes) -> float:
    """The mean difference of two small grey versions, 0 to 255."""
    return sum(abs(a - b) for a, b in zip(one, other, strict=True)) / len(one)


def alike(one: bytes, other: bytes) -> bool:
    return difference(one, other) <= _MOST_DIFFERENCE
