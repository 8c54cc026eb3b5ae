"""A part that somebody unpacked by hand: a folder, read and never changed."""

import os
from collections.abc import Iterator
from pathlib import Path

from bramblemoor.exports.containers.interface import CHUNK, Container, Entry


class FolderPart(Container):
    """Entries are the files below the folder, in order of their names; links are passed over, and never followed."""

    def entries(self) -> Iterator[Entry]:
        for number, (raw, size) in enumerate(_files(os.fsencode(self.path), b"")):
            name = raw.decode("utf-8", "replace")
            yield Entry(name if os.sep == "/" else name.replace(os.sep, "/"), size, number, raw=raw)

    def content(self, entry: Entry) -> Iterator[bytes]:
        assert entry.raw is not None
        came = 0
        with (self.path / os.fsdecode(entry.raw)).open("rb", buffering=0) as file:
            while piece := file.read(CHUNK):
                came += len(piece)
                yield piece
        if came != entry.size:
            raise self.broken(f"{entry.name!r} changed while it was read")

    def place(self, entry: Entry) -> str | None:
        assert entry.raw is not None
        return os.path.join(self.path, os.fsdecode(entry.raw))  # noqa: PTH118 - names may be no text

    def close(self) -> None:
        pass


def _files(root: bytes, below: bytes) -> Iterator[tuple[bytes, int]]:
    """Relative paths and sizes, one folder's list at a time."""
    with os.scandir(os.path.join(root, below)) as found:  # noqa: PTH118 - names may be no text
        inside = sorted(found, key=lambda one: one.name)
    for one in inside:
        path = below + os.fsencode(os.sep) + one.name if below else one.name
        if one.is_dir(follow_symlinks=False):
            yield from _files(root, path)
        elif one.is_file(follow_symlinks=False):
            yield path, one.stat(follow_symlinks=False).st_size


def looks_unpacked(folder: Path) -> bool:
    """Whether a folder holds any file at all."""
    return folder.is_dir() and next(_files(os.fsencode(folder), b""), None) is not None
