"""Whether two pictures show the same, told from a small grey version of each."""

import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from PIL.Image import Image

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


# Fingerprints of pictures and of what was made of them: see `prints_of`.
_CROP = 0.05
_CORNERS = ((0.5, 0.5), (0.0, 0.0), (1.0, 0.0), (0.0, 1.0), (1.0, 1.0))
_SIDE_OF_PRINT, _LOW, _TURNED = 32, 8, 16
_ALIGNED, _FINE = 40, 80  # pixels squared, at which two pictures are brought together, and compared
_MOST_CROPPED = 0.09  # of a side
_FAR_APART, _MISFIT = 0.65, 0.08
"""Mean differences, in deviations of a picture's greys, from which on two are not looked at more closely: as they stand, and
brought together. Of a crop of 5 % they are 0.5 and 0.04 at most.
"""
_MOST_APART, _MOST_CONSPICUOUS = 0.95, 3.6
"""The most that any part of two versions of one picture differs in lightness, measured against its detail; and how many times
the most that the calmer parts differ (all but some 15 %) that may be: compression differs everywhere, and something that moved
in one place.
"""
_CALMER = 0.85
_MOST_TINTED = 2.0
"""The most that any part may differ in colour, measured likewise."""
_LEAST_NOISE = 0.05


def prints_of(image: "Image") -> tuple[list[int], int] | None:
    """Fingerprints of 64 bits: of the picture and of five crops of it, and one that is the same however it is turned.

    The former are signs of the lowest 8 x 8 coefficients of a two-dimensional cosine transform against their median; the latter
    compares the sizes of coefficients (u, v) and (v, u) together, which a quarter turn or a mirror only exchanges or negates,
    with how they fall off. None for a picture so flat that they would be noise.
    """
    import numpy as np

    grey = image.convert("L")
    if np.ptp(np.asarray(grey)) < _LEAST_CONTRAST:
        return None
    width, height = grey.size
    whole = _transform(grey, None)
    if np.count_nonzero(np.abs(whole[:_LOW, :_LOW].flatten()[1:]) > _FLAT) < 8:
        return None
    boxes = [
        (width * _CROP * x, height * _CROP * y, width * (1 - _CROP + _CROP * x), height * (1 - _CROP + _CROP * y))
        for x, y in _CORNERS
    ]
    prints = [_signs(whole), *(_signs(_transform(grey, box)) for box in boxes)]
    return prints, _turned(whole)


def _transform(grey: "Image", box: tuple[float, float, float, float] | None) -> Any:
    import numpy as np
    from PIL import Image, ImageOps

    small = ImageOps.autocontrast(grey.resize((_SIDE_OF_PRINT, _SIDE_OF_PRINT), Image.Resampling.BOX, box=box))
    pixels = np.asarray(small, dtype=float)
    steps = np.arange(_SIDE_OF_PRINT)
    basis = np.cos(np.pi * (2 * steps[None, :] + 1) * steps[:_TURNED, None] / (2 * _SIDE_OF_PRINT))
    return basis @ pixels @ basis.T


def _signs(coefficients: Any) -> int:
    import numpy as np

    low = coefficients[:_LOW, :_LOW].flatten()
    return int(np.packbits(low > np.median(low[1:])).view(">u8")[0])


def _turned(coefficients: Any) -> int:
    import numpy as np

    pairs = sorted(
        ((u, v) for u in range(_TURNED) for v in range(u, _TURNED) if u + v),
        key=lambda pair: (pair[0] ** 2 + pair[1] ** 2, pair),
    )[:64]
    rows, columns = np.array(pairs).T
    sizes = np.abs(coefficients)
    told = np.log1p(((sizes + sizes.T) / 2)[rows, columns])
    distance = np.log(np.hypot(rows, columns) + 1)
    left = told - np.polyval(np.polyfit(distance, told, 1), distance)
    return int(np.packbits(left > np.median(left)).view(">u8")[0])


@dataclass(frozen=True)
class Relation:
    """How one picture was made of another: by how many degrees it is turned, and which share of a side was cut off at most."""

    turned: int
    cropped: float
    apart: float


def relation(one: "Image", other: "Image") -> Relation | None:
    """How one of two pictures was made of the other; None where they are two pictures, however similar.

    One must be the other, or lie within it, turned by quarters or not: it is brought to where it fits best, and then no part of
    it may differ by more than its own detail explains. A picture of a burst, in which the view has moved, has something at its
    edge that the other has not; one in which something else has moved differs there.
    """
    import numpy as np

    first, second = one.convert("L"), other.convert("L")
    target = _evened(_greys(first, 24, None))
    turns = {turn: second.rotate(turn, expand=True) if turn else second for turn in (0, 90, 180, 270)}
    costs = {turn: float(np.abs(_evened(_greys(image, 24, None)) - target).mean()) for turn, image in turns.items()}
    turn = min(costs, key=lambda each: costs[each])
    if costs[turn] > _FAR_APART:
        return None
    coloured = one.convert("YCbCr"), (other.rotate(turn, expand=True) if turn else other).convert("YCbCr")
    for inner, outer, tints in ((first, turns[turn], coloured), (turns[turn], first, coloured[::-1])):
        margins = _fitted(inner, outer)
        if margins is None:
            continue
        box = _box(outer, margins)
        apart, conspicuous = _apart(_softened(inner, None), _softened(outer, box))
        if apart <= _MOST_APART and conspicuous <= _MOST_CONSPICUOUS and _tints_apart(*tints, box) <= _MOST_TINTED:
            return Relation(turn, max(margins[0] + margins[2], margins[1] + margins[3]), apart)
    return None


def _tints_apart(inner: "Image", outer: "Image", box: "_Margins") -> float:
    """The largest difference in colour of any part of two pictures: a green jacket and a grey wall may be equally light."""
    return max(
        _apart(_softened(inner.getchannel(tint), None), _softened(outer.getchannel(tint), box))[0]
        for tint in ("Cb", "Cr")
    )


_Margins = tuple[float, float, float, float]


def _box(image: "Image", margins: _Margins) -> _Margins:
    width, height = image.size
    return width * margins[0], height * margins[1], width * (1 - margins[2]), height * (1 - margins[3])


def _greys(image: "Image", side: int, box: _Margins | None) -> Any:
    import numpy as np
    from PIL.Image import Resampling

    return np.asarray(image.resize((side, side), Resampling.BOX, box=box), dtype=np.float32)


def _softened(image: "Image", box: _Margins | None) -> Any:
    """The picture as _FINE pixels squared, softened: fine detail comes out differently whenever a picture is made smaller."""
    import numpy as np
    from PIL.Image import Resampling

    greys: Any = np.asarray(image.resize((_FINE, _FINE), Resampling.BICUBIC, box=box), dtype=np.float32)
    for _ in range(2):
        greys = ((greys[:-2] + 2 * greys[1:-1] + greys[2:]) / 4).T
    return greys


def _evened(greys: Any) -> Any:
    deviation = float(greys.std())
    return (greys - greys.mean()) / max(deviation, 1.0)


def _fitted(inner: "Image", outer: "Image") -> _Margins | None:
    """Which margins of the outer picture the inner one lacks: roughly first, then finely. None where it fits nowhere."""
    import numpy as np

    target = _evened(_greys(inner, _ALIGNED, None))

    def rough(margins: _Margins) -> float:
        return float(np.abs(_evened(_greys(outer, _ALIGNED, _box(outer, margins))) - target).mean())

    half = _CROP / 2
    starts: list[_Margins] = [
        (0, 0, 0, 0), (half, half, half, half), (0, 0, _CROP, _CROP), (_CROP, _CROP, 0, 0), (_CROP, 0, 0, _CROP),
        (0, _CROP, _CROP, 0),
    ]  # fmt: skip
    start = min(starts, key=rough)
    margins = _descend(rough, start, (0.02, 0.01, 0.005, 0.0025))
    if rough(margins) > _MISFIT:
        return None
    whole = _softened(inner, None)

    def fine(margins: _Margins) -> float:
        return float(_difference(whole, _softened(outer, _box(outer, margins))).mean())

    return _descend(fine, margins, (0.003, 0.0015, 0.0007, 0.0004))


def _descend(cost: Callable[[_Margins], float], start: _Margins, steps: Sequence[float]) -> _Margins:
    """Change one margin after the other as long as that helps."""
    best, least = start, cost(start)
    for step in steps:
        for _ in range(8):
            before = least
            for side in range(4):
                for change in (-step, step):
                    changed = list(best)
                    changed[side] += change
                    moved = (changed[0], changed[1], changed[2], changed[3])
                    if 0 <= moved[side] <= _MOST_CROPPED and (now := cost(moved)) < least - 1e-5:
                        best, least = moved, now
            if least == before:
                break
    return best


def _difference(one: Any, other: Any) -> Any:
    """How far two pictures differ at each place, once their brightness and contrast are evened out."""
    import numpy as np

    mean, deviation = other.mean(), ((other - other.mean()) ** 2).mean()
    gain = ((other - mean) * (one - one.mean())).mean() / (deviation + 1e-6)
    return np.abs(one - ((other - mean) * gain + one.mean()))


def _apart(one: Any, other: Any) -> tuple[float, float]:
    """The largest difference of any part of two pictures, measured against the detail of that part; and how many times what the
    calmer parts differ that is.
    """
    import numpy as np

    different = _difference(one, other)[:-1, :-1]
    detail = (np.abs(np.diff(one, axis=0))[:, :-1] + np.abs(np.diff(one, axis=1))[:-1]) / 2
    count = different.shape[0] // 7

    def parts(values: Any) -> Any:
        return values[: count * 7, : count * 7].reshape(count, 7, count, 7).mean(axis=(1, 3))

    told = np.sort((parts(different) / (1 + 0.25 * parts(detail))).ravel())
    return float(told[-1]), float(told[-1] / max(told[int(len(told) * _CALMER)], _LEAST_NOISE))
