"""What pictures say of themselves, in every format; and XMP that others understand."""

import ctypes
import ctypes.util
import io
import os
import struct
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from PIL.PngImagePlugin import PngInfo

from bramblemoor.frames.boxes import point
from bramblemoor.frames.claims import Claim, Facts, believe
from bramblemoor.frames.moments import Moment
from bramblemoor.frames.reading import PictureReading, read_picture
from bramblemoor.frames.source import MemorySource
from bramblemoor.frames.xmp_reading import read_xmp
from bramblemoor.frames.xmp_writing import Belonging, read_packet, sidecar
from bramblemoor.standins.clips import movie
from bramblemoor.standins.drawing import draw, jpeg
from conftest import Shell

PICTURE = draw("reeds", "dawn", 1, (96, 64))
PACKET = b"""<x:xmpmeta xmlns:x="urn:any"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmp:Rating="4"
 xmlns:mwg-rs="http://www.metadataworkinggroup.com/schemas/regions/" xmlns:stArea="http://ns.adobe.com/xmp/sType/Area#">
<dc:title><rdf:Alt><rdf:li xml:lang="de">Schilf</rdf:li><rdf:li xml:lang="x-default">Reeds</rdf:li></rdf:Alt></dc:title>
<mwg-rs:Regions rdf:parseType="Resource"><mwg-rs:RegionList><rdf:Bag>
<rdf:li><rdf:Description mwg-rs:Name="Ada Fenwright" mwg-rs:Type="Face"><mwg-rs:Area stArea:x="0.5" stArea:y="0.4" stArea:w="0.1"
 stArea:h="0.2"/></rdf:Description></rdf:li>
<rdf:li rdf:parseType="Resource"><mwg-rs:Name>The dog</mwg-rs:Name><mwg-rs:Type>Pet</mwg-rs:Type></rdf:li>
</rdf:Bag></mwg-rs:RegionList></mwg-rs:Regions></rdf:Description></rdf:RDF></x:xmpmeta>"""


def exif() -> Image.Exif:
    tags = Image.Exif()
    tags[0x010F], tags[0x0110] = "Alderholt", "Alderholt M7"
    shot = tags.get_ifd(0x8769)
    shot[0x9003], shot[0x9011], shot[0x9291] = "2026:05:02 20:44:07", "+01:00", "25"
    places = tags.get_ifd(0x8825)
    places[1], places[2], places[3], places[4] = "N", (52.0, 54.0, 9.0), "W", (1.0, 27.0, 57.6)
    return tags


def said(content: bytes) -> tuple[PictureReading, dict[str, list[str]]]:
    reading = read_picture(MemorySource(content))
    values: dict[str, list[str]] = {}
    for claim in reading.claims:
        values.setdefault(claim.field, []).append(claim.value)
    return reading, values


def saved(kind: str, **more: object) -> bytes:
    target = io.BytesIO()
    PICTURE.save(target, kind, **more)
    return target.getvalue()


@pytest.mark.parametrize(
    ("kind", "media"),
    [("JPEG", "image/jpeg"), ("PNG", "image/png"), ("WEBP", "image/webp"), ("TIFF", "image/tiff"),
     ("AVIF", "image/avif"), ("HEIF", "image/heic")],
)  # fmt: skip
def test_every_format_tells_the_same(kind: str, media: str) -> None:
    from pillow_heif import register_heif_opener

    register_heif_opener()
    more: dict[str, object] = {"exif": exif().tobytes()}
    if kind == "PNG":
        info = PngInfo()
        info.add_itxt("XML:com.\x61dobe.xmp", PACKET.decode())
        more["pnginfo"] = info
    elif kind == "TIFF":
        more = {"tiffinfo": {700: PACKET, 0x010F: "Alderholt", 0x0110: "Alderholt M7"}, "exif": exif()}
    else:
        more["xmp"] = PACKET
    reading, values = said(saved(kind, **more))
    assert (reading.media, reading.width, reading.height, reading.troubles) == (media, 96, 64, ())
    assert values["title"] == ["Reeds"] and values["person"] == ["Ada Fenwright"] and values["rating"] == ["4"]
    assert values["region"] == ["Ada Fenwright: 0.5 0.4 0.1 0.2"]
    if kind != "TIFF":  # Pillow does not write Exif directories into a TIFF that has other tags given
        assert values["taken"] == ["2026-05-02T20:44:07.250000+01:00"] and values["camera"] == ["Alderholt M7"]
        assert values["position"] == ["52.902500,-1.466000"]


def test_iptc_counts_where_the_xmp_was_not_made_from_it() -> None:
    def dataset(record: int, number: int, value: bytes) -> bytes:
        return b"\x1c" + struct.pack(">BBH", record, number, len(value)) + value

    block = (
        dataset(1, 90, b"\x1b%G") + dataset(2, 5, "Größe".encode()) + dataset(2, 25, b"reeds") + dataset(2, 25, b"fen")
    )
    block += dataset(2, 55, b"20260502") + dataset(2, 60, b"204407+0100") + dataset(2, 120, b"Caption by IPTC")

    def resource(number: int, content: bytes) -> bytes:
        return b"8BIM" + struct.pack(">HxxI", number, len(content)) + content + b"\0" * (len(content) % 2)

    def picture(digest: bytes, packet: bool) -> bytes:
        segment = b"Photoshop 3.0\0" + resource(0x0404, block) + (resource(0x0425, digest) if digest else b"")
        plain = saved("JPEG", **({"xmp": PACKET} if packet else {}))
        return plain[:2] + b"\xff\xed" + struct.pack(">H", len(segment) + 2) + segment + plain[2:]

    import hashlib

    _, alone = said(picture(b"", False))
    assert (
        alone["title"] == ["Größe"]
        and alone["keyword"] == ["reeds", "fen"]
        and alone["taken"] == ["2026-05-02T20:44:07+01:00"]
    )
    _, in_step = said(picture(hashlib.md5(block).digest(), True))
    assert in_step["title"] == ["Reeds"] and "caption" not in in_step
    _, changed = said(picture(b"x" * 16, True))
    assert (
        changed["title"] == ["Reeds"]
        and changed["caption"] == ["Caption by IPTC"]
        and changed["keyword"] == ["reeds", "fen"]
    )


def box(kind: bytes, *content: bytes) -> bytes:
    body = b"".join(content)
    return struct.pack(">I", len(body) + 8) + kind + body


def test_films_tell_their_clock_and_place() -> None:
    utc = datetime(2026, 5, 2, 19, 44, 7)
    plain = movie([jpeg(PICTURE)], (96, 64), utc)
    _, values = said(plain)
    assert values["taken"] == ["2026-05-02T19:44:07Z"]
    names = ("com.apple.quicktime.creationdate", "com.apple.quicktime.location.ISO6709")
    keys = box(b"keys", struct.pack(">4xI", 2), *(box(b"mdta", name.encode()) for name in names))
    texts = ("2026-05-02T20:44:07+0100", "+52.9025-001.4660+040.000/")
    data = [
        box(struct.pack(">I", n), box(b"data", b"\0\0\0\1\0\0\0\0", text.encode())) for n, text in enumerate(texts, 1)
    ]
    handler = box(b"hdlr", b"\0" * 24)
    header = box(b"mvhd", struct.pack(">4xIIII", 3_860_595_847, 0, 1000, 0), b"\0" * 80)
    film = box(b"ftyp", b"qt  \0\0\0\0qt  ") + box(b"moov", header, box(b"meta", handler, keys, box(b"ilst", *data)))
    reading, values = said(film)
    assert reading.media == "video/quicktime" and values["position"] == ["52.902500,-1.466000"]
    assert values["taken"][0] == "2026-05-02T20:44:07+01:00"
    old = box(
        b"moov", box(b"mvhd", b"\0" * 100), box(b"udta", box(b"\xa9xyz", b"\0\x12\x15\xc7", b"+5254.15-00127.96/"))
    )
    _, values = said(box(b"ftyp", b"isom\0\0\0\0mp42") + old)
    assert values == {"position": ["52.902500,-1.466000"]}
    assert point("+27.5916+086.5640+8850/") == (27.5916, 86.564) and point("-90+180/") == (-90.0, 180.0)
    assert (
        point("+400+10/") is None
        and point("nowhere") is None
        and point("+525409.0-0012757.6/") == pytest.approx((52.9025, -1.466))
    )


def test_a_film_whose_clock_is_local() -> None:
    """Its header should count in UTC; the service's word, or its name, shows that it does not."""
    film = Claim("taken", "2026-05-02T20:44:07Z", "camera")
    facts = believe([film, Claim("taken", "2026-05-02T19:44:09Z", "service")])
    assert str(facts.taken) == "2026-05-02T20:44:07+01:00" and "reads like local time" in facts.conflicts[0]
    facts = believe([film, Claim("taken", "2026-05-02T20:44:07", "name")])
    assert str(facts.taken) == "2026-05-02T20:44:07" and "its name tells the same" in facts.conflicts[0]
    assert str(believe([film, Claim("taken", "2026-05-02T20:44:05Z", "service")]).taken) == "2026-05-02T20:44:07Z"


def test_broken_pictures_are_said_to_be() -> None:
    whole = {kind: saved(kind) for kind in ("JPEG", "PNG", "WEBP", "AVIF")}
    for kind, content in whole.items():
        assert not read_picture(MemorySource(content)).troubles, kind
        assert "breaks off" in read_picture(MemorySource(content[: len(content) * 2 // 3])).troubles[0], kind
    assert "no picture that could be decoded" in read_picture(MemorySource(whole["JPEG"][:20])).troubles[0]
    film = movie([jpeg(PICTURE)], (96, 64), datetime(2026, 1, 1))
    assert "breaks off" in read_picture(MemorySource(film[:-5])).troubles[0]


def test_no_bytes_make_the_readers_crash() -> None:
    """Every format, cut anywhere and with bytes changed anywhere."""
    import random

    chance = random.Random(4)
    seeds = [saved("JPEG", exif=exif(), xmp=PACKET), saved("PNG", exif=exif()), saved("WEBP", exif=exif(), xmp=PACKET),
             saved("TIFF"), saved("AVIF", exif=exif()), movie([jpeg(PICTURE)], (96, 64), datetime(2026, 1, 1))]  # fmt: skip
    for content in seeds:
        for _ in range(150):
            odd = bytearray(content[: chance.randrange(len(content)) if chance.random() < 0.3 else len(content)])
            for _ in range(chance.randrange(1, 30)):
                if odd:
                    odd[chance.randrange(min(len(odd), 2000))] = chance.randrange(256)
            read_picture(MemorySource(bytes(odd)))


def test_real_world_pictures() -> None:
    """The test images of an imaging library, where its sources are at hand: odd, broken and hostile files."""
    folder = os.environ.get("ODD_PICTURES")
    if not folder:
        pytest.skip("ODD_PICTURES names no folder of pictures")
    count = 0
    for path in Path(folder).rglob("*"):
        if path.is_file():
            read_picture(MemorySource(path.read_bytes()))
            count += 1
    assert count > 100


# The reference implementation of XMP, through its public interface.
_EXEMPI = ctypes.util.find_library("exempi")


class Reference:
    """Reads a packet as the reference toolkit does."""

    def __init__(self, packet: bytes) -> None:
        assert _EXEMPI is not None
        self.lib = ctypes.CDLL(_EXEMPI)
        for name in ("xmp_new", "xmp_string_new"):
            getattr(self.lib, name).restype = ctypes.c_void_p
        self.lib.xmp_string_cstr.restype = ctypes.c_char_p
        self.lib.xmp_init()
        self.xmp = self.lib.xmp_new(ctypes.c_char_p(packet), ctypes.c_size_t(len(packet)))

    def _asked(self, function: str, *arguments: object) -> str | None:
        text = ctypes.c_void_p(self.lib.xmp_string_new())
        found = getattr(self.lib, function)(ctypes.c_void_p(self.xmp), *arguments, text, None)
        return self.lib.xmp_string_cstr(text).decode() if found else None

    def simple(self, space: bytes, name: bytes) -> str | None:
        return self._asked("xmp_get_property", space, name)

    def items(self, space: bytes, name: bytes) -> Iterator[str]:
        number = 1
        while (item := self._asked("xmp_get_array_item", space, name, number)) is not None:
            yield item
            number += 1

    def localized(self, space: bytes, name: bytes) -> str | None:
        text = ctypes.c_void_p(self.lib.xmp_string_new())
        found = self.lib.xmp_get_localized_text(
            ctypes.c_void_p(self.xmp), space, name, b"", b"x-default", None, text, None
        )
        return self.lib.xmp_string_cstr(text).decode() if found else None


DC, PS, EXIF = (
    b"http://purl.org/dc/elements/1.1/",
    b"http://ns.adobe.com/photoshop/1.0/",
    b"http://ns.adobe.com/exif/1.0/",
)
words = st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=60).map(str.strip).filter(bool)


@pytest.mark.skipif(_EXEMPI is None, reason="the reference toolkit is not installed")
@settings(max_examples=60, deadline=None)
@given(words, words, st.lists(words, max_size=4, unique=True), st.datetimes(datetime(1800, 1, 1), datetime(2200, 1, 1)),
       st.none() | st.integers(-720, 840), st.floats(-89, 89), st.floats(-179, 179))  # fmt: skip
def test_the_reference_toolkit_reads_what_we_write(
    title: str,
    caption: str,
    keywords: list[str],
    clock: datetime,
    offset: int | None,
    latitude: float,
    longitude: float,
) -> None:
    facts = Facts(taken=Moment(local=clock.replace(microsecond=0), offset=offset), title=title, caption=caption,
                  keywords=tuple(keywords), people=("Ada & Joss",), position=(latitude, longitude), favourite=True,
                  rating=3)  # fmt: skip
    read = Reference(sidecar(facts, Belonging(["Best <of> all"], "thrushfield TF-1", "old.jpg")))
    assert read.xmp and read.localized(DC, b"title") == title and read.localized(DC, b"description") == caption
    assert list(read.items(DC, b"subject")) == keywords
    assert read.simple(PS, b"DateCreated") == str(facts.taken) == read.simple(EXIF, b"DateTimeOriginal")
    assert list(read.items(b"http://iptc.org/std/Iptc4xmpExt/2008-02-29/", b"PersonInImage")) == ["Ada & Joss"]
    assert list(read.items(b"http://ns.bramblemoor.example/1.0/", b"albums")) == ["Best <of> all"]
    assert read.simple(b"http://ns.adobe.com/xap/1.0/mm/", b"PreservedFileName") == "old.jpg"
    for name, value, sides in ((b"GPSLatitude", latitude, "NS"), (b"GPSLongitude", longitude, "EW")):
        written = read.simple(EXIF, name) or ""
        whole, _, minutes = written[:-1].partition(",")
        assert written[-1] == sides[value < 0] or abs(value) < 1e-6
        assert int(whole) + float(minutes) / 60 == pytest.approx(abs(value), abs=2e-6)


FOREIGN = b"""<?xpacket begin="" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="urn:any" x:toolkit="Editor 9">
<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" xmlns:ed="urn:editor:2/" xmlns:dc="http://purl.org/dc/elements/1.1/">
<rdf:Description rdf:about="" ed:Version="7.1" ed:Process="&lt;x&gt;">
<dc:creator><rdf:Seq><rdf:li>Tilde Roke</rdf:li></rdf:Seq></dc:creator>
<ed:Curve><rdf:Seq><rdf:li>0, 0</rdf:li><rdf:li>255, 255</rdf:li></rdf:Seq></ed:Curve>
<ed:Look rdf:parseType="Resource"><ed:Name>Fen</ed:Name><ed:Params ed:a="1" ed:b="2"/></ed:Look>
<ed:Masks><rdf:Bag><rdf:li rdf:parseType="Resource"><ed:Kind ed:q="z">brush</ed:Kind></rdf:li></rdf:Bag></ed:Masks>
<ed:Empty/></rdf:Description>
<rdf:Description rdf:about="" xmlns:o="urn:other"><o:unknown rdf:resource="urn:x"/>
<o:qualified><rdf:Description><rdf:value>v</rdf:value>
<o:note>n</o:note></rdf:Description></o:qualified></rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>"""


def test_merging_keeps_the_foreign_graph() -> None:
    import rdflib
    from rdflib.compare import isomorphic

    def graph(packet: bytes) -> rdflib.Graph:
        start, end = packet.index(b"<rdf:RDF"), packet.index(b"</rdf:RDF>") + len(b"</rdf:RDF>")
        made = rdflib.Graph()
        made.parse(data=packet[start:end].decode(), format="xml", publicID="urn:picture")
        return made

    facts = Facts(title="Ours", keywords=("reeds",), taken=Moment(local=datetime(2026, 5, 2, 20, 44)))
    merged = sidecar(facts, Belonging(["An album"]), read_packet(FOREIGN))
    before, after = graph(FOREIGN), graph(merged)
    ours = [uri for uri in {str(p) for _, p, _ in after} if uri not in {str(p) for _, p, _ in before}]
    assert {uri.rpartition("/")[2] for uri in ours} >= {"title", "subject", "DateCreated", "albums", "wrote"}
    for uri in ours:
        if not uri.startswith("http://www.w3.org/1999/02/22-rdf-syntax-ns#"):
            after.remove((None, rdflib.URIRef(uri), None))
    reachable = {o for _, _, o in after} | {rdflib.URIRef("urn:picture")}
    for subject in set(after.subjects()) - reachable:  # the arrays of what was just taken out
        after.remove((subject, None, None))
    assert isomorphic(before, after)
    assert read_packet(merged).rest == read_packet(FOREIGN).rest and not read_packet(merged).is_all_ours
    assert sidecar(facts, Belonging(["An album"]), read_packet(merged)) == merged, "a second merge changes no byte"
    assert [claim.value for claim in read_xmp(merged) if claim.field == "title"] == ["Ours"]


@pytest.mark.skipif(_EXEMPI is None, reason="the reference toolkit is not installed")
def test_the_reference_toolkit_reads_every_sidecar_of_a_library(library: Path) -> None:
    found = sorted((library / "pictures").rglob("*.xmp"))
    assert len(found) > 90
    for path in found:
        read = Reference(path.read_bytes())
        titles = [claim.value for claim in read_xmp(path.read_bytes()) if claim.field == "title"]
        assert read.xmp and read.localized(DC, b"title") == (titles[0] if titles else None), path


def test_a_transcoded_copy_is_recognised(shell: Shell, tmp_path: Path) -> None:
    """The same scene and moment as HEIC at full size and as a smaller JPEG; a picture of the same second is none of them."""
    from pillow_heif import register_heif_opener

    register_heif_opener()
    scene, burst = draw("barge", "day", 5, (480, 320)), draw("owls", "dusk", 6, (480, 320))
    made = {
        "a.jpg": (scene, "HEIF"),
        "b.jpg": (scene.resize((240, 160)), "JPEG"),
        "c.jpg": (burst.resize((240, 160)), "JPEG"),
    }
    parcel = tmp_path / "parcel/stream"
    parcel.mkdir(parents=True)
    for name, (image, kind) in made.items():
        image.save(parcel / name, kind, exif=exif().tobytes())
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--dialect", "thrushfield", "--library", "library", "--json").json
    reduced = [one["name"] for one in receipt["findings"] if "a reduced copy of an original" in one["what"]]
    assert [name.rpartition("/")[2] for name in reduced] == ["a.jpg)"] and "/b.jpg (of" in reduced[0], receipt[
        "findings"
    ]
