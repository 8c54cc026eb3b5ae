"""Reading what a picture says of itself, whatever its format."""

import hashlib
from dataclasses import dataclass, replace

from bramblemoor.frames import exif as exif_tags
from bramblemoor.frames.boxes import Movie, boxes
from bramblemoor.frames.chunks import read_png, read_webp
from bramblemoor.frames.claims import Claim, written_position
from bramblemoor.frames.embedded import Embedded
from bramblemoor.frames.exif import Exif, read_exif
from bramblemoor.frames.films import read_film
from bramblemoor.frames.heif import read_heif, read_jxl
from bramblemoor.frames.iptc import read_iptc, resources
from bramblemoor.frames.jpeg import read_jpeg
from bramblemoor.frames.kinds import HEAD, Kind, kind_of, media_type
from bramblemoor.frames.moments import written_offset
from bramblemoor.frames.source import ByteSource, MemorySource
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import has_edits, read_xmp

_PREVIEW_AT = 84  # where one maker's raw files say where their JPEG lies
_READERS = {
    "image/jpeg": read_jpeg, "image/png": read_png, "image/webp": read_webp,
    "image/heic": read_heif, "image/heif": read_heif, "image/avif": read_heif, "image/jxl": read_jxl,
}  # fmt: skip


@dataclass(frozen=True)
class PictureReading:
    """Pixels wide and high (0 where unknown), the claims found inside, and what could not be read, as sentences.

    `edits` says that an editor's instructions lie in the file; `content_ids` are what a still and its clip have in common.
    """

    media: str
    kind: Kind
    width: int = 0
    height: int = 0
    claims: tuple[Claim, ...] = ()
    troubles: tuple[str, ...] = ()
    edits: bool = False
    content_ids: tuple[str, ...] = ()


def read_picture(source: ByteSource) -> PictureReading:
    """Read a picture's own metadata. Never raises for what is in the file."""
    media = media_type(source.read(0, HEAD))
    kind = kind_of(media)
    if media in _READERS:
        found = _READERS[media](source)
        exif = read_exif(MemorySource(found.exif)) if found.exif is not None else Exif()
        return _reading(media, found, exif)
    if media in ("image/tiff", "image/x-raw"):
        return _read_tiff(media, source)
    if kind == "video":
        return _read_video(media, read_film(media, source))
    return PictureReading(media, kind)


def _read_tiff(media: str, source: ByteSource) -> PictureReading:
    """TIFF, and the raw formats that are built on it or that hold one."""
    head = source.read(0, 16)
    if head.startswith(b"FUJI"):
        place = source.read(_PREVIEW_AT, 8)
        start, length = int.from_bytes(place[:4], "big"), int.from_bytes(place[4:], "big")
        found = read_jpeg(MemorySource(source.read(start, min(length, 64 << 20))))
        return _reading(media, found, read_exif(MemorySource(found.exif)) if found.exif else Exif())
    if head[4:8] == b"ftyp":
        return _reading(media, Embedded(), _exif_in_boxes(source))
    if head[:4] not in exif_tags.HEADERS:
        return PictureReading(media, kind_of(media))  # a raw format of its own, of which nothing is read
    exif = read_exif(source)
    if exif.is_raw:
        media = "image/dng" if 0xC612 in exif.main else "image/x-raw"
    beside = resources(exif.resources or b"")
    troubles = () if exif.width or media == "image/x-raw" else ("it holds no picture that could be decoded",)
    inside = Embedded(
        xmp=(exif.packet,) if exif.packet else (), iptc=exif.iptc or beside.get(0x0404), iptc_digest=beside.get(0x0425),
        width=exif.width, height=exif.height, troubles=troubles,
    )  # fmt: skip
    return _reading(media, inside, exif)


def _exif_in_boxes(source: ByteSource) -> Exif:
    """Raw files built of boxes keep one TIFF block for each directory: CMT1 main, CMT2 Exif, CMT4 GPS."""
    blocks: dict[bytes, Exif] = {}
    for kind, start, end in boxes(source, 0, source.size):
        for inner, begin, stop in boxes(source, start, end) if kind == b"moov" else ():
            for leaf, at, until in boxes(source, begin + 16, stop) if inner == b"uuid" else ():
                if leaf.startswith(b"CMT") and until - at < 1 << 20:
                    blocks[leaf] = read_exif(MemorySource(source.read(at, until - at)))
    empty = Exif()
    main = blocks.get(b"CMT1", empty)
    return replace(main, shot=blocks.get(b"CMT2", empty).main, gps=blocks.get(b"CMT4", empty).main, is_raw=True)


def _reading(media: str, found: Embedded, exif: Exif) -> PictureReading:
    claims = _camera_claims(exif)
    troubles = [*found.troubles, *exif.troubles]
    if found.told is not None and not any(claim.field == "taken" for claim in claims):
        claims.append(Claim("taken", str(found.told), "camera"))
    inside: list[Claim] = []
    edits = False
    for packet in found.xmp:
        try:
            inside += read_xmp(packet)
            edits = edits or has_edits(packet)
        except BrokenXmp as error:
            troubles.append(f"the XMP inside the picture was not read: {error}")
    # IPTC and XMP say the same, unless somebody changed the IPTC alone: then its digest no longer fits (MWG 1.0, 5.1).
    if found.iptc and not (inside and found.iptc_digest == hashlib.md5(found.iptc, usedforsecurity=False).digest()):
        told = {claim.field for claim in inside if claim.field not in ("keyword", "person")}
        inside += [claim for claim in read_iptc(found.iptc) if claim.field not in told]
    # What lies inside the picture is the camera's own word: no person corrected a date there.
    mine = {claim.field for claim in claims}
    claims += [claim for claim in inside if claim.field not in mine]
    return PictureReading(
        media, kind_of(media), found.width, found.height, tuple(dict.fromkeys(claims)), tuple(troubles), edits,
        exif_tags.content_ids(exif),
    )  # fmt: skip


def _read_video(media: str, movie: Movie) -> PictureReading:
    claims = []
    for moment in (movie.told, movie.created):
        claims += [Claim("taken", str(moment), "camera")] if moment else []
    written = written_position(*movie.position) if movie.position else None
    claims += [Claim("position", written, "camera")] if written else []
    claims += [Claim("camera", movie.camera, "camera")] if movie.camera.strip() else []
    claims += [Claim("title", movie.title, "camera")] if movie.title else []
    ids = (movie.content_id,) if movie.content_id else ()
    reading = PictureReading(media, "video", movie.width, movie.height, tuple(claims), movie.troubles, content_ids=ids)
    if movie.xmp is None:
        return reading
    further = _reading(media, Embedded(xmp=(movie.xmp,)), Exif())
    mine = {claim.field for claim in claims}
    more = tuple(claim for claim in further.claims if claim.field not in mine)
    return replace(reading, claims=reading.claims + more, edits=further.edits)


def _camera_claims(found: Exif) -> list[Claim]:
    claims = []
    moment = exif_tags.taken(found)
    if moment is not None:
        claims.append(Claim("taken", str(moment), "camera"))
        offset = exif_tags.offset_by_satellite(found, moment)
        claims += [Claim("offset", written_offset(offset), "camera")] if offset is not None else []
    where = exif_tags.position(found)
    written = written_position(*where) if where else None
    if written:
        claims.append(Claim("position", written, "camera"))
    maker, model = exif_tags.text(found.main, 0x010F), exif_tags.text(found.main, 0x0110)
    if model:
        claims.append(Claim("camera", model if model.startswith(maker) else f"{maker} {model}", "camera"))
    lens = exif_tags.text(found.shot, 0xA434)
    if lens:
        claims.append(Claim("lens", lens, "camera"))
    return claims
