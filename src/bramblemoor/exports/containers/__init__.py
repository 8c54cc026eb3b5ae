"""The kinds of parts: ZIP, tar, tar.gz, and folders that somebody unpacked by hand."""

from pathlib import Path

from bramblemoor.errors import PartsAmiss
from bramblemoor.exports.containers.interface import Container


def open_part(path: Path) -> Container:
    """Open a part, whatever its name says it is. Raises PartsAmiss where it is none that can be read."""
    from bramblemoor.exports.containers.folder import FolderPart
    from bramblemoor.exports.containers.tar import TarPart
    from bramblemoor.exports.containers.zip import ZipPart

    if path.is_dir():
        return FolderPart(path)
    with path.open("rb") as file:
        head = file.read(512)
    if head[:2] == b"\x1f\x8b" or head[257:262] == b"ustar":
        return TarPart(path)
    if head[:2] == b"PK" or path.suffix.lower() == ".zip":
        return ZipPart(path)
    if path.name.lower().endswith((".tar", ".tgz", ".tar.gz")):
        return TarPart(path)
    raise PartsAmiss(
        f"{path.name} is neither a ZIP nor a tar archive.", "Nothing was unpacked; fetch it again, or leave it out."
    )
