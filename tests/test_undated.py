"""What pictures do not tell: the time zone, by the map; the original of a reduced copy without a date, by its looks."""

import io
import random
from datetime import datetime
from pathlib import Path

from PIL import Image

from bramblemoor.frames.claims import Claim, believe
from bramblemoor.frames.likeness import fingerprint
from bramblemoor.frames.zones import offset_at
from bramblemoor.standins.drawing import draw, jpeg
from conftest import Shell, pictures

TREE = '[dialect]\nname = "own"\n[entries]\npictures = ["**"]\n[folders]\ntree = ["**"]\n'


def exif(second: int, gps: tuple[float, float] | None = None) -> Image.Exif:
    made = Image.Exif()
    made[0x8769] = {0x9003: f"2026:05:02 20:{second // 60:02}:{second % 60:02}"}
    if gps is not None:
        made[0x8825] = {1: "N", 2: (gps[0], 0.0, 0.0), 3: "E", 4: (gps[1], 0.0, 0.0)}
    return made


def saved(image: Image.Image, **more: object) -> bytes:
    content = io.BytesIO()
    image.save(content, "JPEG", **more)
    return content.getvalue()


def test_reduced_copies_without_a_date_are_recognised_among_all(shell: Shell, tmp_path: Path) -> None:
    """Forty pictures, a burst among them; copies at half the size, without Exif: each finds its own, none another's."""
    chance = random.Random(5)
    folder = tmp_path / "come" / "originals"
    folder.mkdir(parents=True)
    kinds, skies = ("owls", "barge", "reeds", "lanterns"), ("dusk", "day", "dawn")
    scenes = [draw(kinds[n % 4], skies[n % 3], n * 7, (480, 320)) for n in range(37)]
    burst = draw("barge", "day", 999, (480, 320))
    for shift in range(4):  # the same barge, some pixels farther
        scenes.append(burst.transform(burst.size, Image.Transform.AFFINE, (1, 0, shift * 4, 0, 1, 0)))
    for number, scene in enumerate(scenes[:40]):  # the last of the burst is not there
        (folder / f"P{number:02}.jpg").write_bytes(saved(scene, quality=92, exif=exif(number * 3).tobytes()))
    (tmp_path / "own.toml").write_text(TREE)
    shell("new", "library")
    shell("unpack", "--from", "come", "--dialect", "own.toml", "--library", "library", code=None)
    later = tmp_path / "later" / "shown"
    later.mkdir(parents=True)
    chosen = [*chance.sample(range(37), 12), 37, 38, 40]
    for number in chosen:
        small = scenes[number].resize((240, 160))
        (later / f"{number * 31:x}.jpg").write_bytes(saved(small, quality=60))
    for size in ((480, 320), (240, 160)):  # the lens was covered: of one second, and alike as all such are
        black = saved(Image.new("RGB", size), exif=exif(3).tobytes())
        (later / f"black {size[0]}.jpg").write_bytes(black)
    (later / "other.jpg").write_bytes(saved(draw("roofers", "night", 4321, (240, 160)), quality=60))
    shell("unpack", "--from", "later", "--dialect", "own.toml", "--library", "library", code=None)
    for number in chosen:
        told = shell("show", f"{number * 31:x}.jpg", "--library", "library", "--json").json["reduced_copy_of"]
        own = [f"pictures/originals/P{number:02}.jpg"]
        assert told == own or (told == [] and number >= 37), (number, told)
        assert number != 40 or told == [], "its original is not there; the next of the burst is"
    for name in ("other.jpg", "black 240.jpg"):
        assert shell("show", name, "--library", "library", "--json").json["reduced_copy_of"] == []
    assert len([name for name in pictures(tmp_path / "library") if name.endswith(".jpg")]) == 40 + 18, "all are kept"


def test_the_original_may_come_later(shell: Shell, tmp_path: Path) -> None:
    scene = draw("owls", "dusk", 11, (480, 320))
    for folder, content in (
        ("small", saved(scene.resize((240, 160)), quality=60)),
        ("large", saved(scene, exif=exif(1).tobytes())),
    ):
        (tmp_path / folder / "p").mkdir(parents=True)
        (tmp_path / folder / "p" / f"{folder}.jpg").write_bytes(content)
    (tmp_path / "own.toml").write_text(TREE)
    shell("new", "library")
    for folder in ("small", "large"):
        shell("unpack", "--from", folder, "--dialect", "own.toml", "--library", "library", code=None)
    shown = shell("show", "small.jpg", "--library", "library", "--json").json
    assert shown["reduced_copy_of"] == ["pictures/p/large.jpg"] and shown["believed"]["reduced"]


def test_fingerprints_hold_through_versions_and_not_for_flat_pictures() -> None:
    scene = draw("lanterns", "dusk", 3, (480, 320))
    one, half, strong = (
        fingerprint(content) for content in (jpeg(scene), jpeg(scene.resize((240, 160))), jpeg(scene, 30))
    )
    assert one is not None and half is not None and strong is not None
    assert (one ^ half).bit_count() <= 4 and (one ^ strong).bit_count() <= 4
    assert fingerprint(jpeg(Image.new("RGB", (300, 200), "grey"))) is None and fingerprint(b"no picture") is None


def test_the_map_tells_the_offset_that_a_camera_did_not(shell: Shell, tmp_path: Path) -> None:
    (tmp_path / "come/p").mkdir(parents=True)
    image = Image.new("RGB", (32, 24), "teal")
    (tmp_path / "come/p/A.jpg").write_bytes(saved(image, exif=exif(5, (50.0, 11.0)).tobytes()))
    (tmp_path / "own.toml").write_text(TREE)
    shell("new", "library")
    shell("unpack", "--from", "come", "--dialect", "own.toml", "--library", "library", code=None)
    shown = shell("show", "A.jpg", "--library", "library", "--json").json
    assert shown["believed"]["taken"] == "2026-05-02T20:00:05+02:00" and shown["taken_by"] == "camera"
    assert {"field": "offset", "value": "+02:00", "source": "map"}.items() <= shown["claims"][-1].items()
    assert "the map" in shell("show", "A.jpg", "--library", "library").out
    shell("tell", "A.jpg", "--position", "51.0,-1.0", "--library", "library")
    assert (
        shell("show", "A.jpg", "--library", "library", "--json").json["believed"]["taken"]
        == "2026-05-02T20:00:05+01:00"
    )
    # Below the service's word, above none; where clocks were put back, nothing is said.
    camera, told = Claim("taken", "2026-05-02T20:00:05", "camera"), Claim("offset", "+01:00", "map")
    assert str(believe([camera, told]).taken) == "2026-05-02T20:00:05+01:00"
    service = Claim("taken", "2026-05-02T17:00:05Z", "service")
    assert str(believe([camera, told, service]).taken) == "2026-05-02T20:00:05+03:00"
    assert (
        offset_at(50.0, 11.0, datetime(2026, 10, 25, 2, 30)) is None
        and offset_at(50.0, 11.0, datetime(2026, 1, 1)) == 60
    )


def test_films_whose_zone_the_service_decides() -> None:
    header = Claim("taken", "2019-07-03T14:00:00Z", "camera")
    for told, wanted in (
        ("2019-07-03T14:00:00", "2019-07-03T14:00:00"), ("2019-07-03T14:00:00+02:00", "2019-07-03T14:00:00+02:00"),
        ("2019-07-03T16:00:00+02:00", "2019-07-03T16:00:00+02:00"), ("2019-07-03T12:00:00Z", "2019-07-03T14:00:00+02:00"),
        ("2019-07-03T14:00:00Z", "2019-07-03T14:00:00Z"),
    ):  # fmt: skip
        assert str(believe([header, Claim("taken", told, "service")]).taken) == wanted, told
