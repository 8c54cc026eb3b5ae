"""Cards and a phone of the made-up world, as folders: what a photographer brings home, with all that goes wrong on the way.

A card follows DCF (JEITA CP-3461): DCIM/, folders of three digits and five letters, counters that go from 9999 to 0001.
"""

import io
import math
import os
import random
import struct
import wave
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from PIL import Image

from bramblemoor.standins.clips import movie
from bramblemoor.standins.drawing import draw, jpeg
from bramblemoor.standins.raws import dng

_FEN = ("Alderholt", "Alderholt M7", "Alderholt 35mm f/2")
_POCKET = ("Kestrelway", "Pocket 4", "Kestrelway 24-70mm")
_SIZE = (960, 640)
_ROLLOVER = 9999


@dataclass(frozen=True)
class Press:
    """One press of a shutter: what it shows (a scene and a sky, or a misfire), and what is written of it besides the JPEG."""

    at: datetime
    scene: str
    sky: str = ""
    raw: bool = False
    clip: bool = False
    note: bool = False
    edited: bool = False


CARD_MISFIRES = ("ALD_9992.JPG", "ALD_9997.JPG", "ALD_0006.JPG")
"""What of the first card shows nothing."""
CARD_INDEX = "ALDERHOLT.IDX"
"""The list that its camera keeps there, of a kind that nobody else knows."""


def card(folder: Path) -> None:
    """The first card: a morning in the fen with raws, and the lanterns of that night; three misfires, one picture twice."""
    presses = list(_morning()) + list(_night())
    _write_card(folder, presses, _FEN, "ALDER", "ALD_", first=9988, offset=60)
    copy = folder / "DCIM/101ALDER/COPY0003.JPG"
    copy.write_bytes((folder / "DCIM/100ALDER/ALD_9991.JPG").read_bytes())
    (folder / "MISC").mkdir()
    (folder / "MISC" / CARD_INDEX).write_bytes(b"index of an Alderholt camera\0" * 40)


def second_card(folder: Path) -> None:
    """A second camera's card of the same morning. Its clock is an hour behind, and its last picture was cut short."""
    begins = datetime(2026, 5, 9, 5, 20)
    skies = ("dawn", "grey")
    presses = [Press(begins + timedelta(minutes=8 * number), "reeds", skies[number % 2]) for number in range(9)]
    _write_card(folder, presses, _POCKET, "KSTRL", "ALD_", first=9991, offset=None)
    last = sorted((folder / "DCIM").rglob("*.JPG"))[-1]
    content = last.read_bytes()
    last.write_bytes(content[: len(content) * 2 // 3])


def phone(folder: Path) -> None:
    """A phone as the system mounts it: pictures of three months in folders that are its albums."""
    camera = ("Merrow", "Merrow Nine", "")
    for place, begins, scene, sky, count in (
        ("DCIM/Camera", datetime(2026, 3, 21, 11, 4), "barge", "day", 5),
        ("DCIM/Camera", datetime(2026, 4, 18, 17, 32), "owls", "dusk", 4),
        ("Pictures/From Tilde", datetime(2026, 5, 9, 21, 3), "lanterns", "night", 3),
    ):
        for number in range(count):
            local = begins + timedelta(minutes=13 * number, seconds=7 * number)
            image = draw(scene, sky, 9000 + number + hash_of(place + scene), _SIZE)
            path = folder / place / f"{local:%Y%m%d_%H%M%S}.jpg"
            _write(path, _picture(image, local, camera, 60), local)


def hash_of(text: str) -> int:
    """A number that is the same on every run."""
    return sum(ord(letter) * place for place, letter in enumerate(text, 1)) % 1000


CARDS: dict[str, Callable[[Path], None]] = {"card": card, "second-card": second_card, "phone": phone}


def _morning() -> Iterator[Press]:
    begins = datetime(2026, 5, 9, 6, 12)
    skies = ("dawn", "grey", "day")
    for number in range(12):
        at = begins + timedelta(minutes=9 * number, seconds=number * 37 % 60)
        yield Press(at, "reeds", skies[number % 3], raw=number in (2, 5, 8), note=number == 5, edited=number == 8)
        if number == 3:
            yield Press(at + timedelta(seconds=40), "black")
        if number == 7:
            yield Press(at + timedelta(seconds=50), "blank")


def _night() -> Iterator[Press]:
    begins = datetime(2026, 5, 9, 21, 20)
    for number in range(9):
        at = begins + timedelta(minutes=6 * number, seconds=number * 41 % 60)
        yield Press(at, "lanterns", "night", clip=number == 4)
        if number == 2:
            yield Press(at + timedelta(seconds=30), "blown out")
    yield Press(begins + timedelta(minutes=58), "one lantern")
    yield Press(begins + timedelta(hours=1, minutes=4), "fog")


def _write_card(
    folder: Path, presses: list[Press], camera: tuple[str, str, str], letters: str, prefix: str, *, first: int,
    offset: int | None,
) -> None:  # fmt: skip
    counter, directory = first, 100
    for number, press in enumerate(presses):
        place = folder / f"DCIM/{directory}{letters}"
        stem = f"{prefix}{counter:04}"
        image = shown(press.scene, press.sky, 4000 + first + number)
        content = _picture(image, press.at, camera, offset)
        _write(place / f"{stem}.JPG", content, press.at)
        if press.raw:
            preview = jpeg(image.resize((480, 320)), 80)
            _write(place / f"{stem}.DNG", dng(image, press.at, camera[0], camera[1], preview), press.at)
        if press.note:
            _write(place / f"{stem}.WAV", _voice_note(number), press.at)
        if press.edited:
            _write(place / f"{stem}.XMP", _packet(), press.at)
        if press.clip:
            frames = [jpeg(draw("lanterns", "night", 6000 + one, (320, 214)), 60) for one in range(6)]
            utc = press.at - timedelta(minutes=offset or 0)
            _write(place / f"{stem}.MP4", movie(frames, (320, 214), utc), press.at)
        counter += 1
        if counter > _ROLLOVER:
            counter, directory = 1, directory + 1


def _write(path: Path, content: bytes, local: datetime) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    seconds = local.replace(tzinfo=UTC).timestamp()
    os.utime(path, (seconds, seconds))


def shown(scene: str, sky: str, seed: int, size: tuple[int, int] = _SIZE) -> Image.Image:
    """A picture of the made-up world; or a misfire (black, blown out, blank), or what is nearly one (one lantern, fog)."""
    chance = random.Random(seed)
    made = {"black": _black, "blown out": _blown_out, "blank": _blank, "one lantern": _one_lantern, "fog": _fog}
    return made[scene](chance, size) if scene in made else draw(scene, sky, seed, size)


def _noisy(ground: "np.ndarray[tuple[int, ...], np.dtype[np.float64]]", noise: float, seed: int) -> Image.Image:
    grain = np.random.default_rng(seed).normal(0, noise, ground.shape)
    return Image.fromarray(np.clip(ground + grain, 0, 255).astype(np.uint8))


def _ground(
    size: tuple[int, int], level: float, slope: float, fall: float
) -> "np.ndarray[tuple[int, ...], np.dtype[np.float64]]":
    """One tone, a little lighter to one side, and darker to the corners."""
    width, height = size
    y, x = np.mgrid[-1 : 1 : height * 1j, -1 : 1 : width * 1j]
    tone: np.ndarray[tuple[int, ...], np.dtype[np.float64]] = level * (1 - fall * (x * x + y * y) / 2) + slope * x
    return np.repeat(tone[..., None], 3, axis=2)


def _black(chance: random.Random, size: tuple[int, int]) -> Image.Image:
    """The lens cap was on."""
    return _noisy(
        _ground(size, chance.uniform(0, 7), chance.uniform(0, 3), 0), chance.uniform(0.5, 6), chance.randrange(9999)
    )


def _blown_out(chance: random.Random, size: tuple[int, int]) -> Image.Image:
    """The shutter stayed open in daylight."""
    return _noisy(
        _ground(size, chance.uniform(251, 262), 0, chance.uniform(0, 0.03)),
        chance.uniform(0, 2),
        chance.randrange(9999),
    )


def _blank(chance: random.Random, size: tuple[int, int]) -> Image.Image:
    """The inside of a pocket."""
    tint = np.array([chance.uniform(0.8, 1.2), 1, chance.uniform(0.8, 1.2)])
    ground = _ground(size, chance.uniform(40, 190), chance.uniform(-9, 9), chance.uniform(0, 0.5)) * tint
    return _noisy(ground, chance.uniform(0.5, 5), chance.randrange(9999))


def _one_lantern(chance: random.Random, size: tuple[int, int]) -> Image.Image:
    """One lantern far away in the night: nearly all of it is black."""
    ground = _ground(size, chance.uniform(0, 6), 0, 0)
    width, height = size
    x, y = chance.randrange(width // 10, width * 9 // 10), chance.randrange(height // 10, height * 9 // 10)
    radius = max(2, round(width * chance.choice((0.004, 0.006, 0.012))))
    rows, columns = np.ogrid[:height, :width]
    light = np.hypot(columns - x, rows - y) <= radius
    ground[light] = chance.choice(((255, 176, 84), (240, 120, 70), (150, 96, 40)))
    return _noisy(ground, chance.uniform(0, 3), chance.randrange(9999))


def _fog(chance: random.Random, size: tuple[int, int]) -> Image.Image:
    """A barge in thick fog: nearly all of it is one pale tone."""
    level = chance.uniform(185, 235)
    ground = _ground(size, level, chance.uniform(-2, 2), chance.uniform(0, 0.03))
    width, height = size
    x, y = chance.randrange(width // 10, width // 2), chance.randrange(height // 3, height * 2 // 3)
    long, tall = width // chance.choice((4, 6, 8)), max(6, height // chance.choice((12, 18)))
    rows, columns = np.mgrid[:height, :width]
    edge = width / 160
    hull = 1 / (1 + np.exp(-(columns - x) / edge)) - 1 / (1 + np.exp(-(columns - x - long) / edge))
    hull *= 1 / (1 + np.exp(-(rows - y) / edge)) - 1 / (1 + np.exp(-(rows - y - tall) / edge))
    return _noisy(ground - chance.uniform(6, 14) * hull[..., None], chance.uniform(0, 2), chance.randrange(9999))


def _picture(image: Image.Image, local: datetime, camera: tuple[str, str, str], offset: int | None) -> bytes:
    """A JPEG as cameras write them, with the small preview in its Exif (Exif 2.31, 4.5.5)."""
    exif = Image.Exif()
    exif[0x010F], exif[0x0110], exif[0x0112] = camera[0], camera[1], 1
    written = local.strftime("%Y:%m:%d %H:%M:%S")
    exif[0x0132] = written
    shot = exif.get_ifd(0x8769)
    shot[0x9003] = shot[0x9004] = written
    if offset is not None:
        shot[0x9011] = f"{'-' if offset < 0 else '+'}{abs(offset) // 60:02}:{abs(offset) % 60:02}"
    if camera[2]:
        shot[0xA434] = camera[2]
    block = exif.tobytes().removeprefix(b"Exif\0\0")
    target = io.BytesIO()
    image.save(target, "JPEG", quality=82, exif=with_preview(block, jpeg(image.resize((160, 107)), 70)))
    return target.getvalue()


def with_preview(block: bytes, preview: bytes) -> bytes:
    """An Exif block with a small JPEG in a second directory behind it."""
    order = "<" if block[:2] == b"II" else ">"
    first = struct.unpack(order + "I", block[4:8])[0]
    count = struct.unpack(order + "H", block[first : first + 2])[0]
    link = first + 2 + 12 * count
    block += b"\0" * (len(block) % 2)
    begins = len(block) + 2 + 3 * 12 + 4
    entries = ((0x0103, 3, 6), (0x0201, 4, begins), (0x0202, 4, len(preview)))
    second = struct.pack(order + "H", len(entries))
    for tag, kind, value in entries:
        shown_value = struct.pack(order + ("HH" if kind == 3 else "I"), *((value, 0) if kind == 3 else (value,)))
        second += struct.pack(order + "HHI", tag, kind, 1) + shown_value
    second += b"\0\0\0\0"
    return b"Exif\0\0" + block[:link] + struct.pack(order + "I", len(block)) + block[link + 4 :] + second + preview


def _voice_note(seed: int) -> bytes:
    """Half a second of something said (RIFF WAVE, 8 kHz, 16 bit)."""
    target = io.BytesIO()
    with wave.open(target, "wb") as note:
        note.setnchannels(1)
        note.setsampwidth(2)
        note.setframerate(8000)
        tones = (math.sin(at * (0.11 + seed / 200)) * math.sin(at / 900) * 9000 for at in range(4000))
        note.writeframes(b"".join(struct.pack("<h", int(tone)) for tone in tones))
    return target.getvalue()


def _packet() -> bytes:
    """A sidecar that an editor has left on the card."""
    return b"""<?xpacket begin="\xef\xbb\xbf" id="W5M0MpCehiHzreSzNTczkc9d"?>
<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
 <rdf:Description rdf:about="" xmlns:em="http://ns.emberlow.example/develop/2/" xmlns:xmp="http://ns.adobe.com/xap/1.0/"
  xmlns:dc="http://purl.org/dc/elements/1.1/" em:Exposure="+0.30" xmp:Rating="4">
  <dc:title><rdf:Alt><rdf:li xml:lang="x-default">Last swathe of the morning</rdf:li></rdf:Alt></dc:title>
 </rdf:Description>
</rdf:RDF></x:xmpmeta>
<?xpacket end="w"?>
"""
