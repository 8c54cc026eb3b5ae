"""Reading one picture file: what it is, how large, and what its maker says of it."""

from dataclasses import dataclass

from bramblemoor.frames import exif as exif_tags
from bramblemoor.frames.boxes import read_movie
from bramblemoor.frames.claims import Claim, written_position
from bramblemoor.frames.exif import Exif, read_exif
from bramblemoor.frames.jpeg import read_jpeg
from bramblemoor.frames.sniff import Kind, kind_of, media_type
from bramblemoor.frames.source import ByteSource, MemorySource
from bramblemoor.frames.xmp_reading import BrokenXmp, read_xmp


@dataclass(frozen=True)
class PictureReading:
    """Pixels wide and high (0 where unknown), the claims found inside, and what could not be read, as sentences."""

    media: str
    kind: Kind
    width: int = 0
    height: int = 0
    claims: tuple[Claim, ...] = ()
    troubles: tuple[str, ...] = ()


def read_picture(source: ByteSource) -> PictureReading:
    """Read a picture's own metadata. Never raises for what is in the file."""
    media = media_type(source.read(0, 64))
    kind = kind_of(media)
    if media == "image/jpeg":
        parts = read_jpeg(source)
        claims: list[Claim] = []
        troubles: list[str] = []
        if parts.exif is not None:
            found = read_exif(MemorySource(parts.exif))
            claims += _camera_claims(found)
            troubles += found.troubles
        if parts.xmp is not None:
            try:
                inside = read_xmp(parts.xmp)
                # A packet inside the picture is the camera's own word: no person corrected a date there.
                claims += [claim for claim in inside if claim.field not in {told.field for told in claims}]
            except BrokenXmp as error:
                troubles.append(f"the XMP inside the picture was not read: {error}")
        return PictureReading(media, kind, parts.width, parts.height, tuple(claims), tuple(troubles))
    if kind == "video":
        movie = read_movie(source)
        taken = (Claim("taken", str(movie.created), "camera"),) if movie.created else ()
        return PictureReading(media, kind, movie.width, movie.height, taken)
    return PictureReading(media, kind)


def _camera_claims(found: Exif) -> list[Claim]:
    claims = []
    moment = exif_tags.taken(found)
    if moment is not None:
        claims.append(Claim("taken", str(moment), "camera"))
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
