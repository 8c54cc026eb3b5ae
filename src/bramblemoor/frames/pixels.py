"""Misfires, told from their pixels: pictures that are black, blown out, or blank. A dark or a pale picture is none of these.

What tells them is that nothing stands out of their ground: from a small version, freed of single hot pixels, the ground (which
may slope, and fall off to the corners) is taken away, and what is left is compared with its own noise. A lantern in the night
stands out, and so does a barge in fog; the inside of a lens cap, of a pocket or of the sun does not.
"""

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from bramblemoor.frames.previews import decoded, glanced_at

if TYPE_CHECKING:
    from PIL.Image import Image

_GLANCE, _LOOK = 120, 480
"""Pixels that the longer side has at least, for a first glance and for looking at what that leaves in doubt."""
_SMALL = 240  # pixels that the longer side is reduced to
_DARK, _PALE, _FLAT = 48, 220, 30  # of 255; a picture with more in it than this is no misfire
_BLACK, _BLOWN = 24, 240  # of 255
_LEAST = 2.5  # of 255: what stands out less may be the work of the JPEG
_NOISES = 5.6  # so many times the deviation of all parts it must be
_NOISY = 9.0  # or so many times the noise the deviation of all parts: then they differ by more than chance
_COLOURS = 10.0  # of 255
_BROAD, _LEAST_BROAD = 20, 0.65  # pixels, and of 255: of a misfire, the noise of its broad parts is 0.4 at most
_SPECKS = 4  # pixels that may be lighter, or darker, than all others


@dataclass(frozen=True)
class Misfire:
    """What a picture was found to be, and the figure that led to it, of 255."""

    kind: Literal["black", "blown out", "blank"]
    figure: float

    def said(self) -> str:
        """ "black (its lightest part is 3 of 255)"."""
        told = {
            "black": f"its lightest part is {self.figure:.0f} of 255",
            "blown out": f"its darkest part is {self.figure:.0f} of 255",
            "blank": f"nothing in it stands out by more than {self.figure:.1f} of 255",
        }
        return f"{self.kind} ({told[self.kind]})"


def misfire_in(path: Path) -> Misfire | None:
    """What is wrong with a picture that shows nothing; None for one that shows something, or cannot be decoded.

    Most pictures are told by the preview that their camera put into them. Raises OSError where the drive does not give it.
    """
    glance = glanced_at(path, _GLANCE)
    if glance is None or not _may_be(glance):
        return None
    image = decoded(path, _LOOK)
    return None if image is None else misfire(image)


def _may_be(image: "Image") -> bool:
    """Whether a small picture is so dark, so pale, or so flat that it has to be looked at."""
    import numpy as np

    grey = _without_bars(np.asarray(image.convert("L"), dtype=np.float32))
    low, high = np.percentile(grey, (2, 98))
    if high <= _DARK or low >= _PALE:
        return True
    low, high = np.percentile(_above_ground(grey), (2, 98))
    return bool(high - low <= _FLAT)


def misfire(image: "Image") -> Misfire | None:
    """What is wrong with a decoded picture."""
    import numpy as np
    from PIL import ImageFilter

    picture = _reduced(image.convert("RGB"), 2 * _SMALL)
    pixels = np.asarray(_reduced(picture, _SMALL), dtype=np.float32)
    freed = _reduced(picture.convert("L").filter(ImageFilter.MedianFilter(3)), _SMALL)
    grey = np.asarray(freed, dtype=np.float32)
    apart, spread, noise = _standing_out(grey)
    stands_out = apart > _LEAST and (apart > _NOISES * spread or spread > _NOISY * noise)
    if stands_out or _colours(pixels) > _COLOURS or _broadly_apart(picture) > _LEAST_BROAD:
        return None
    ordered = np.sort(grey, axis=None)
    darkest, lightest = float(ordered[_SPECKS]), float(ordered[-1 - _SPECKS])
    if lightest <= _BLACK:
        return Misfire("black", lightest)
    if darkest >= _BLOWN:
        return Misfire("blown out", darkest)
    return Misfire("blank", apart)


def _reduced(image: "Image", longest: int) -> "Image":
    from PIL.Image import Resampling

    scale = max(image.size) / longest
    if scale <= 1:
        return image
    width, height = (max(8, round(side / scale)) for side in image.size)
    return image.resize((width, height), Resampling.BOX)


def _above_ground(grey: Any) -> Any:
    """A picture's greys less the smooth ground that fits them best: a slope, and a fall to the corners."""
    terms, solving = _smooth_grounds(*grey.shape)
    return grey - (terms @ (solving @ grey.reshape(-1)[::7])).reshape(grey.shape)


@lru_cache(maxsize=4)
def _smooth_grounds(height: int, width: int) -> tuple[Any, Any]:
    """What a smooth ground is put together from, for each pixel; and what gives, from every seventh pixel, how much of each."""
    import numpy as np

    y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j]
    terms = np.stack([np.ones_like(x), x, y, x * x, y * y, x * y, (x * x + y * y) ** 2], axis=-1).reshape(-1, 7)
    return terms, np.linalg.pinv(terms[::7])


def _standing_out(grey: Any) -> tuple[float, float, float]:
    """By how much the most conspicuous part of a picture differs from its ground, how far all its parts do as a rule, and how
    far neighbours differ from each other: of 255, the latter two as deviations.
    """
    import numpy as np

    parts = _boxes(_above_ground(grey), 3)
    apart = np.abs(parts)
    noise = float(np.median(np.abs(np.diff(parts, axis=1, n=1)[:, ::3]))) / 0.954
    return float(np.sort(apart, axis=None)[-1 - _SPECKS]), float(np.median(apart)) / 0.6745, noise


def _broadly_apart(picture: "Image") -> float:
    """By how much broad parts differ from the ground, of 255: in a noisy night their noise is gone, and what was there
    is not.
    """
    import numpy as np

    grey = np.asarray(_reduced(picture.convert("L"), _SMALL), dtype=np.float32)
    parts = _boxes(_above_ground(grey), _BROAD)[:: _BROAD // 2, :: _BROAD // 2]
    return float(np.percentile(np.abs(parts), 98))


def _boxes(values: Any, side: int) -> Any:
    """The means of all squares of so many pixels."""
    rows = sum(values[start : values.shape[0] - side + 1 + start] for start in range(side))
    return sum(rows[:, start : rows.shape[1] - side + 1 + start] for start in range(side)) / side**2


def _colours(pixels: Any) -> float:
    """How far the colours of a picture's parts lie from each other, of 255: a red sky and a blue one may be equally light."""
    import numpy as np

    tall, wide = (side // 12 for side in pixels.shape[:2])
    if not tall or not wide:
        return 0.0
    blocks = pixels[: tall * 12, : wide * 12].reshape(tall, 12, wide, 12, 3).mean(axis=(1, 3))
    light = blocks.mean(axis=2, keepdims=True) + 8
    tint = (blocks[..., [0, 2]] - blocks[..., [1]]) / light  # a tint that falls off with the light is one tint
    return float(np.ptp(tint.reshape(-1, 2), axis=0).max() * light.mean())


def _without_bars(grey: Any) -> Any:
    """A preview without the black bars that it has above and below, or beside, where its shape is not the picture's."""
    for axis in (1, 0):
        dark = grey.max(axis=axis) <= 16
        count = len(dark)
        begin = next((place for place in range(count) if not dark[place]), count)
        end = next((place for place in range(count) if not dark[count - 1 - place]), count)
        if 0 < begin <= count // 5 and abs(begin - end) <= 2:
            grey = grey[begin : count - end] if axis == 1 else grey[:, begin : count - end]
    return grey
