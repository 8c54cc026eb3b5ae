"""What the containers of pictures hold besides pixels: the common shape that each format's reader returns."""

from dataclasses import dataclass

from bramblemoor.frames.moments import Moment


@dataclass(frozen=True)
class Embedded:
    """Metadata blocks as they lie in a file, not read yet, and pixels wide and high (0 where not found).

    `exif` is a TIFF block; `xmp` are packets, the main one first; `iptc` is an IPTC-IIM block, and `iptc_digest` what the file
    says its MD5 was when the XMP was made from it. `told` is when it was made, by the container's own word. `troubles` are
    sentences.
    """

    exif: bytes | None = None
    xmp: tuple[bytes, ...] = ()
    iptc: bytes | None = None
    iptc_digest: bytes | None = None
    width: int = 0
    height: int = 0
    troubles: tuple[str, ...] = ()
    told: Moment | None = None
