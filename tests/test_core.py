"""The core by itself: metadata, moments, names and archives, against independent writers and random input."""

import io
import struct
import zipfile
from datetime import datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from PIL.TiffImagePlugin import IFDRational

from bramblemoor.disk.names import AMBIGUOUS, collision_key, free_name, safe_name
from bramblemoor.errors import PartsAmiss
from bramblemoor.exports.containers.zip import ZipPart
from bramblemoor.frames.claims import Claim, Facts, believe
from bramblemoor.frames.exif import read_exif, taken, text
from bramblemoor.frames.moments import Moment, infer_offset, parse_moment
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import MemorySource
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import read_xmp
from bramblemoor.frames.xmp_writing import Belonging, read_packet, sidecar
from bramblemoor.standins.clips import movie

CLOCK = st.datetimes(datetime(1850, 1, 1), datetime(2150, 1, 1)).map(lambda moment: moment.replace(microsecond=0))
TEXT = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1).filter(lambda value: value.strip() == value)


@given(CLOCK, st.integers(-14 * 60, 14 * 60), st.floats(-89.9, 89.9), st.floats(-179.9, 179.9))
@settings(max_examples=60, deadline=None)
def test_exif_says_what_another_writer_wrote(clock: datetime, offset: int, latitude: float, longitude: float) -> None:
    exif = Image.Exif()
    shot, places = exif.get_ifd(0x8769), exif.get_ifd(0x8825)
    exif[0x0110] = "M7"
    shot[0x9003] = f"{clock.year:04}:{clock:%m:%d %H:%M:%S}"
    shot[0x9011] = str(Moment(local=clock, offset=offset))[-6:]
    for tag, value, sides in ((2, latitude, "NS"), (4, longitude, "EW")):
        places[tag - 1] = sides[value < 0]
        places[tag] = (
            IFDRational(int(abs(value))),
            IFDRational(0),
            IFDRational(round(abs(value) % 1 * 3600 * 10**4), 10**4),
        )
    target = io.BytesIO()
    Image.new("RGB", (40, 30)).save(target, "JPEG", exif=exif)
    found = read_picture(MemorySource(target.getvalue()))
    claims = {claim.field: claim.value for claim in found.claims}
    assert (found.width, found.height, found.troubles) == (40, 30, ())
    assert parse_moment(claims["taken"]) == Moment(local=clock, offset=offset) and claims["camera"] == "M7"
    at = [float(part) for part in claims.get("position", "0,0").split(",")]  # exactly 0/0 is "unknown"
    assert abs(at[0] - latitude) < 2e-6 and abs(at[1] - longitude) < 2e-6


def test_exif_of_both_byte_orders_in_utf8_and_broken() -> None:
    for order, mark in (("<", b"II*\0"), (">", b"MM\0*")):
        name = "Ölpapier".encode() + b"\0"
        head = mark + struct.pack(order + "I", 8)
        directory = struct.pack(order + "HHHII", 1, 0x0110, 129, len(name), 26) + struct.pack(order + "I", 0)
        found = read_exif(MemorySource(head + directory + name))
        assert text(found.main, 0x0110) == "Ölpapier" and taken(found) is None
        for cut in range(len(head + directory + name)):
            read_exif(MemorySource((head + directory + name)[:cut]))  # whatever breaks off, nothing is raised
        assert read_exif(MemorySource(head[:4] + struct.pack(order + "I", 1 << 30))).troubles


@given(st.binary(max_size=400))
@settings(max_examples=200, deadline=None)
def test_no_bytes_make_reading_fail(noise: bytes) -> None:
    for start in (
        b"",
        b"\xff\xd8\xff\xe1\x00\x40Exif\0\0II*\0\x08\0\0\0",
        b"\0\0\0\x18ftypisom",
        b"\xff\xd8\xff\xe1\x01\0http://ns.",
    ):
        read_picture(MemorySource(start + noise))


def test_a_movie_tells_its_date_and_size() -> None:
    content = movie([b"x" * 10, b"y" * 10], (320, 214), datetime(2026, 5, 2, 20, 30, 10))
    found = read_picture(MemorySource(content))
    assert (found.kind, found.width, found.height) == ("video", 320, 214)
    assert found.claims == (Claim("taken", "2026-05-02T20:30:10Z", "camera"),)


@given(CLOCK, st.integers(-48, 56), st.integers(-290, 290))
def test_offsets_lie_between_local_time_and_utc(utc: datetime, quarters: int, drift: int) -> None:
    local = utc + timedelta(minutes=15 * quarters, seconds=drift)
    assert infer_offset(local, utc) == 15 * quarters
    assert infer_offset(local + timedelta(minutes=7, seconds=-drift), utc) is None
    moment = Moment(local=local, offset=15 * quarters)
    assert parse_moment(str(moment)) == moment and moment.instant == utc + timedelta(seconds=drift)


def test_belief() -> None:
    claims = [
        Claim("taken", "2026-05-02T21:08:42", "camera"),
        Claim("taken", "2026-05-02T20:08:42Z", "service"),
        Claim("title", "service's", "service"),
        Claim("keyword", "b", "service"),
        Claim("keyword", "a", "xmp"),
        Claim("position", "1.0,1.0", "service"),
        Claim("position", "2.0,2.0", "camera"),
    ]
    facts = believe(claims)
    assert (str(facts.taken), facts.taken_by, facts.conflicts) == ("2026-05-02T21:08:42+01:00", "camera", ())
    assert (facts.title, facts.keywords, facts.position) == ("service's", ("a", "b"), (2.0, 2.0))
    assert believe([*claims, Claim("title", "mine", "you")]).title == "mine"
    assert believe([*claims, Claim("taken", "2020-01-01T00:00:00+00:00", "xmp")]).taken_by == "xmp"
    assert "service says" in believe([claims[0], Claim("taken", "2026-05-02T20:33:00Z", "service")]).conflicts[0]


FOREIGN = b"""<?xpacket begin='' id='W5M0MpCehiHzreSzNTczkc9d'?><x:xmpmeta xmlns:x="urn:any:wrapper"><rdf:RDF
 xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/"
 xmlns:ed="urn:editor:" ed:exposure="+0.3" ed:version="9">
 <ed:curve><rdf:Seq><rdf:li>0, 0</rdf:li><rdf:li>9, 7</rdf:li></rdf:Seq></ed:curve>
 <dc:title><rdf:Alt><rdf:li xml:lang="de">Laterne</rdf:li><rdf:li xml:lang="x-default">Lantern</rdf:li></rdf:Alt></dc:title>
 </rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end='w'?>"""


def test_a_foreign_sidecar_is_only_added_to() -> None:
    facts = Facts(title="not this one", caption="new", keywords=("reeds",), position=(-0.5, 179.999999))
    merged = sidecar(facts, Belonging(albums=["Owls & water"]), read_packet(FOREIGN))
    for kept in (b'ed:exposure="+0.3"', b'ed:version="9"', b"<rdf:li>9, 7</rdf:li>", b">Laterne<", b"Owls &amp; water"):
        assert kept in merged
    said = {claim.field: claim.value for claim in read_xmp(merged)}
    assert (said["title"], said["caption"], said["keyword"]) == ("Lantern", "new", "reeds")
    assert said["position"] == "-0.500000,179.999999" and b"not this one" not in merged
    assert sidecar(facts, Belonging(albums=["Owls & water"]), read_packet(merged)) == merged


@given(TEXT, st.lists(TEXT, unique=True, max_size=4), st.text(max_size=20))
@settings(max_examples=60, deadline=None)
def test_a_sidecar_says_again_what_was_put_in(title: str, keywords: list[str], caption: str) -> None:
    packet = sidecar(Facts(title=title, caption=caption, keywords=tuple(keywords)), Belonging())
    claims = read_xmp(packet)
    assert [claim.value for claim in claims if claim.field == "keyword"] == [word.strip() for word in keywords]
    assert packet == sidecar(Facts(title=title, caption=caption, keywords=tuple(keywords)), Belonging())


@pytest.mark.parametrize(
    "packet", [b"", b"<x/>", b"<!DOCTYPE x [<!ENTITY a 'b'>]><x>&a;</x>", b"<x", b"\xff\xfe", b"<a>" * 100_000]
)
def test_hostile_xmp_is_refused(packet: bytes) -> None:
    with pytest.raises(BrokenXmp):
        read_xmp(packet)


@given(st.text(max_size=300))
@settings(max_examples=300)
def test_names_survive_every_file_system(name: str) -> None:
    safe = safe_name(name)
    assert safe and safe == safe_name(safe)
    assert (
        not set(safe) & set('<>:"/\\|?*')
        and not AMBIGUOUS.search(safe)
        and not any(ord(character) < 32 for character in safe)
    )
    assert safe[-1] not in ". " and safe.split(".")[0].lower() not in ("con", "nul", "com1")
    assert len((safe + ".xmp.bm-new").encode()) <= 255
    taken = {collision_key(safe)}
    other = free_name(safe, lambda candidate: collision_key(candidate) in taken)
    assert collision_key(other) not in taken and len((other + ".xmp.bm-new").encode()) <= 255


ENTRY = st.text(st.characters(codec="utf-8", exclude_characters="/\\\0:"), min_size=1, max_size=20)


@given(st.dictionaries(ENTRY, st.binary(max_size=3000), max_size=6))
@settings(max_examples=60, deadline=None)
def test_archives_are_read_as_they_were_written(files: dict[str, bytes]) -> None:
    files = {name: content for name, content in files.items() if name not in (".", "..")}
    with TemporaryDirectory() as folder:
        path = Path(folder) / "part.zip"

        class Unseekable(io.FileIO):  # makes the writer use data descriptors
            def seekable(self) -> bool:
                return False

            def tell(self) -> int:
                raise OSError

        with Unseekable(path, "w") as target, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in files.items():
                with archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as file:
                    file.write(content)
        part = ZipPart(path)
        assert {entry.name: b"".join(part.content(entry)) for entry in part.entries()} == files
        part.close()
        for cut in (1, 10, 40):
            path.write_bytes(path.read_bytes()[:-cut])
            part = ZipPart(path)
            with pytest.raises(PartsAmiss):
                list(part.entries())
            part.close()


def test_years_are_packed_on_drives() -> None:
    from bramblemoor.planning.packing import Drive, Year, grown, pack

    years = [Year(2010 + number, 100 + 10 * number) for number in range(10)]
    drives = [
        Drive("a", 1000, "studio"),
        Drive("b", 1000, "cottage"),
        Drive("c", 1000, "studio"),
        Drive("d", 1000, "cottage"),
    ]
    packed = pack(years, drives, copies=2, reserve=0.1)
    assert not packed.left and len(packed.on) == 4
    site = {drive.name: drive.site for drive in drives}
    for year in years:
        where = [name for name, placed in packed.on.items() if year in placed]
        assert len(where) == 2 and {site[name] for name in where} == {"studio", "cottage"}
    for placed in packed.on.values():
        assert sum(year.bytes for year in placed) <= 900
        numbers = [year.year for year in placed]
        assert numbers == list(range(numbers[0], numbers[-1] + 1))  # years in a row, as that takes no more drives
    assert len(pack(years[:4], drives, copies=2, reserve=0.1).on) == 2
    short = pack(years, drives[:2], copies=2, reserve=0.1)
    assert short.left and sum(year.bytes for year in short.on["a"]) <= 900
    assert sum(year.bytes for year in short.left) <= sum(year.bytes for year in years) - 800
    assert pack(years, [], copies=2, reserve=0.1).left == tuple(years)
    coming = grown({2024: 100, 2025: 200, 2026: 150}, 2026, 0.5, 0.1, 2)
    assert [(year.year, year.bytes) for year in coming] == [
        (2024, 100),
        (2025, 200),
        (2026, 300),
        (2027, 330),
        (2028, 363),
    ]


def test_what_a_sample_proves() -> None:
    from bramblemoor.planning.sampling import most_unreadable

    # Clopper and Pearson's own closed form where nothing was found: 1 - (1 - confidence)^(1 / n).
    assert abs(most_unreadable(0, 300, 10**6, 0.95) - (1 - 0.05 ** (1 / 300))) < 1e-9
    assert most_unreadable(0, 1000, 10**6, 0.95) < 0.003 < most_unreadable(0, 900, 10**6, 0.95)
    assert most_unreadable(3, 3, 100, 0.95) == 1.0 and most_unreadable(2, 50, 50, 0.95) == 0.04
    bounds = [most_unreadable(found, 200, 10**5, 0.95) for found in range(5)]
    assert bounds == sorted(bounds) and all(bound > found / 200 for found, bound in enumerate(bounds))
