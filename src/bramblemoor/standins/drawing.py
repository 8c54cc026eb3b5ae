"""Pictures of the Withymere, drawn by program: skies, water, reeds, barges, owls, lanterns and roofs."""

import io
import math
import random
from collections.abc import Callable
from functools import cache

import numpy as np
from PIL import Image, ImageChops, ImageDraw, ImageFilter

Colour = tuple[int, int, int]
WIDTH, HEIGHT = 960, 640

_SKIES: dict[str, tuple[Colour, Colour]] = {
    "dawn": ((96, 120, 168), (246, 196, 150)),
    "day": ((92, 150, 206), (214, 232, 240)),
    "grey": ((128, 140, 150), (212, 216, 214)),
    "dusk": ((34, 36, 78), (214, 110, 84)),
    "night": ((10, 14, 36), (44, 46, 84)),
}


def draw(scene: str, sky: str, seed: int, size: tuple[int, int] = (WIDTH, HEIGHT)) -> Image.Image:
    """One picture, the same for the same arguments. `scene` is a key of SCENES, `sky` one of dawn, day, grey, dusk, night."""
    chance = random.Random(seed)
    image = _gradient(*_SKIES[sky])
    SCENES[scene](image, chance, sky)
    if size != (WIDTH, HEIGHT):
        return image.resize(size, Image.Resampling.BILINEAR)
    grained = np.asarray(image, dtype=np.int16) + np.roll(_grain(), seed * 37, axis=0)
    return Image.fromarray(np.clip(grained, 0, 255).astype(np.uint8))


def jpeg(image: Image.Image, quality: int = 82, exif: Image.Exif | None = None) -> bytes:
    """The picture as a JPEG file."""
    target = io.BytesIO()
    image.save(target, "JPEG", quality=quality, exif=exif if exif is not None else b"")
    return target.getvalue()


@cache
def _grain() -> "np.ndarray[tuple[int, ...], np.dtype[np.int16]]":
    return np.random.default_rng(1).normal(0, 2.2, (HEIGHT, WIDTH, 1)).round().astype(np.int16)


def _gradient(top: Colour, bottom: Colour, height: int = HEIGHT) -> Image.Image:
    ramp = np.linspace(0, 1, height)[:, None, None]
    column = np.array(top) * (1 - ramp) + np.array(bottom) * ramp
    return Image.fromarray(column.astype(np.uint8)).resize((WIDTH, height))


def _blurred(image: Image.Image, radius: int) -> Image.Image:
    """A soft version, made from a quarter of the pixels each way."""
    return image.reduce(4).filter(ImageFilter.GaussianBlur(radius / 4)).resize(image.size, Image.Resampling.BILINEAR)


def _water(image: Image.Image, horizon: int, chance: random.Random) -> None:
    """Mirror what stands above the horizon, darker and rippled."""
    depth = HEIGHT - horizon
    above = image.crop((0, max(0, horizon - depth), WIDTH, horizon)).transpose(Image.Transpose.FLIP_TOP_BOTTOM)
    above = above.resize((WIDTH, depth))
    image.paste(Image.blend(_blurred(above, 3), Image.new("RGB", above.size, (24, 44, 58)), 0.35), (0, horizon))
    pen = ImageDraw.Draw(image)
    for _ in range(90):
        y = horizon + int((chance.random() ** 1.6) * depth)
        x, length = chance.randrange(WIDTH), chance.randrange(20, 130)
        shade = image.getpixel((min(x, WIDTH - 1), min(y, HEIGHT - 1)))
        assert isinstance(shade, tuple)
        pen.line((x, y, x + length, y), fill=tuple(min(255, int(part * 1.18) + 6) for part in shade[:3]))


def _hills(image: Image.Image, horizon: int, colour: Colour, chance: random.Random) -> None:
    phase, height = chance.uniform(0, 6), chance.randrange(20, 60)
    ridge = [
        (x, horizon - height * (0.6 + 0.4 * math.sin(x / 130 + phase) + 0.2 * math.sin(x / 47)))
        for x in range(0, WIDTH + 8, 8)
    ]
    ImageDraw.Draw(image).polygon([(0, horizon), *ridge, (WIDTH, horizon)], fill=colour)


def _reeds(image: Image.Image, base: int, count: int, chance: random.Random, tone: Colour = (120, 104, 52)) -> None:
    pen = ImageDraw.Draw(image)
    for _ in range(count):
        x, height = chance.randrange(-10, WIDTH + 10), chance.randrange(90, 270)
        lean = chance.randrange(-30, 44)
        shade = tuple(max(0, min(255, part + chance.randrange(-34, 34))) for part in tone)
        pen.line(
            (x, base, x + lean // 2, base - height // 2, x + lean, base - height),
            fill=shade,
            width=chance.choice((1, 2, 3)),
        )
        if chance.random() < 0.4:
            pen.ellipse((x + lean - 4, base - height - 26, x + lean + 4, base - height), fill=(84, 54, 30))


def _reed_cutting(image: Image.Image, chance: random.Random, sky: str) -> None:
    horizon = chance.randrange(300, 380)
    x, y = chance.randrange(120, WIDTH - 120), horizon - chance.randrange(40, 150)
    ImageDraw.Draw(image).ellipse((x - 34, y - 34, x + 34, y + 34), fill=(255, 236, 196))
    _hills(image, horizon, (70, 92, 92), chance)
    _water(image, horizon, chance)
    _reeds(image, HEIGHT, chance.randrange(160, 320), chance)
    pen = ImageDraw.Draw(image)
    for _ in range(chance.randrange(0, 4)):  # cut bundles on the bank
        x = chance.randrange(60, WIDTH - 160)
        pen.polygon(
            [(x, HEIGHT), (x + 20, HEIGHT - 130), (x + 90, HEIGHT - 130), (x + 110, HEIGHT)], fill=(176, 146, 78)
        )
        pen.rectangle((x + 14, HEIGHT - 76, x + 96, HEIGHT - 64), fill=(104, 76, 40))


def _barge_wash(image: Image.Image, chance: random.Random, sky: str) -> None:
    horizon = 330
    _hills(image, horizon, (86, 112, 84), chance)
    pen = ImageDraw.Draw(image)
    pen.rectangle((0, horizon - 34, 200, horizon + 6), fill=(112, 104, 98))
    pen.rectangle((WIDTH - 170, horizon - 34, WIDTH, horizon + 6), fill=(112, 104, 98))
    for x in (186, WIDTH - 170):
        pen.rectangle((x, horizon - 96, x + 14, horizon + 6), fill=(60, 52, 46))
        pen.line((x + 7, horizon - 80, x + (96 if x < 400 else -96), horizon - 92), fill=(238, 236, 228), width=9)
    _water(image, horizon, chance)
    hull = chance.choice(((150, 46, 40), (38, 84, 120), (44, 96, 66)))
    x, y = chance.randrange(180, 330), horizon + chance.randrange(20, 110)
    pen = ImageDraw.Draw(image)
    pen.polygon([(x, y), (x + 470, y), (x + 438, y + 66), (x + 26, y + 66)], fill=hull)
    pen.rectangle((x + 30, y - 58, x + 250, y), fill=(226, 206, 164))
    for window in range(4):
        pen.rectangle((x + 48 + window * 50, y - 44, x + 80 + window * 50, y - 18), fill=(70, 90, 104))
    for _ in range(70):  # soap
        a, b, r = x + chance.randrange(470), y + chance.randrange(30, 96), chance.randrange(3, 13)
        pen.ellipse((a - r, b - r, a + r, b + r), fill=(240, 244, 246))


def _owl_boxes(image: Image.Image, chance: random.Random, sky: str) -> None:
    pen = ImageDraw.Draw(image)
    for layer in range(3):
        for _ in range(16 - layer * 4):
            x, width = chance.randrange(WIDTH), 12 + layer * 14
            dark = 120 - layer * 36
            pen.rectangle((x, 0, x + width, HEIGHT), fill=(dark, dark - 10, dark - 24))
    pen.rectangle((0, HEIGHT - 90, WIDTH, HEIGHT), fill=(66, 70, 42))
    x = chance.randrange(300, 520)
    pen.rectangle((x + 40, 0, x + 130, HEIGHT), fill=(58, 44, 34))
    pen.rectangle((x, 200, x + 170, 440), fill=(142, 104, 64))
    pen.polygon([(x - 20, 204), (x + 85, 150), (x + 190, 204)], fill=(92, 66, 42))
    pen.ellipse((x + 40, 236, x + 130, 326), fill=(24, 18, 16))
    if chance.random() < 0.75:
        pen.ellipse((x + 46, 246, x + 124, 340), fill=(214, 190, 150))
        for eye in (x + 66, x + 104):
            pen.ellipse((eye - 13, 268, eye + 13, 294), fill=(250, 240, 214))
            pen.ellipse((eye - 6, 275, eye + 6, 287), fill=(20, 16, 14))
        pen.polygon([(x + 80, 292), (x + 90, 292), (x + 85, 308)], fill=(170, 120, 50))
    for _ in range(60):
        a, b = chance.randrange(WIDTH), HEIGHT - chance.randrange(100)
        pen.ellipse((a, b, a + 12, b + 7), fill=chance.choice(((168, 96, 40), (140, 120, 50), (96, 84, 40))))


def _lantern_fair(image: Image.Image, chance: random.Random, sky: str) -> None:
    horizon = 420
    _hills(image, horizon, (18, 20, 34), chance)
    glow = Image.new("RGB", image.size)
    light, pen = ImageDraw.Draw(glow), ImageDraw.Draw(image)
    for _ in range(chance.randrange(9, 22)):
        x, y, r = chance.randrange(30, WIDTH - 30), chance.randrange(30, horizon - 60), chance.randrange(14, 34)
        warm = chance.choice(((255, 176, 84), (255, 132, 92), (255, 214, 130), (240, 110, 130)))
        light.ellipse((x - 2 * r, y - 2 * r, x + 2 * r, y + 2 * r), fill=tuple(part // 2 for part in warm))
        pen.ellipse((x - r, y - int(r * 1.25), x + r, y + int(r * 1.25)), fill=warm)
        pen.rectangle((x - r // 2, y + r, x + r // 2, y + int(r * 1.35)), fill=(88, 44, 34))
    image.paste(ImageChops.add(image, _blurred(glow, 26)))
    _water(image, horizon, chance)
    pen = ImageDraw.Draw(image)
    for _ in range(chance.randrange(4, 12)):  # people on the landing
        x, tall = chance.randrange(WIDTH), chance.randrange(70, 120)
        pen.ellipse((x - 10, HEIGHT - tall - 20, x + 10, HEIGHT - tall), fill=(12, 10, 14))
        pen.rounded_rectangle((x - 18, HEIGHT - tall, x + 18, HEIGHT + 20), 12, fill=(12, 10, 14))


def _chapel_roofers(image: Image.Image, chance: random.Random, sky: str) -> None:
    _hills(image, 520, (120, 128, 96), chance)
    pen = ImageDraw.Draw(image)
    pen.rectangle((0, 520, WIDTH, HEIGHT), fill=(122, 128, 78))
    x = chance.randrange(150, 300)
    pen.rectangle((x, 330, x + 460, 560), fill=(206, 196, 176))
    pen.polygon([(x - 30, 334), (x + 60, 180), (x + 400, 180), (x + 490, 334)], fill=(128, 68, 52))
    for row in range(6):
        for column in range(22):
            a = x + 50 - row * 14 + column * (16 + row)
            if chance.random() < 0.8:
                pen.rectangle(
                    (a, 188 + row * 24, a + 13, 206 + row * 24), fill=(152 + chance.randrange(-20, 20), 82, 62)
                )
    pen.polygon([(x + 380, 184), (x + 420, 60), (x + 460, 184)], fill=(84, 88, 100))
    for window in range(4):
        pen.rounded_rectangle((x + 40 + window * 106, 390, x + 88 + window * 106, 500), 22, fill=(74, 92, 120))
    for pole in range(x - 40, x + 520, 110):
        pen.line((pole, 560, pole, 210), fill=(190, 176, 140), width=5)
    pen.line((x - 50, 330, x + 520, 330), fill=(190, 176, 140), width=6)
    for _ in range(chance.randrange(1, 4)):
        a = x + chance.randrange(420)
        pen.ellipse((a - 9, 268, a + 9, 286), fill=(210, 170, 60))
        pen.rounded_rectangle((a - 14, 286, a + 14, 328), 8, fill=(40, 58, 90))


SCENES: dict[str, Callable[[Image.Image, random.Random, str], None]] = {
    "reeds": _reed_cutting,
    "barge": _barge_wash,
    "owls": _owl_boxes,
    "lanterns": _lantern_fair,
    "roofers": _chapel_roofers,
}
