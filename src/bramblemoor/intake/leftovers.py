"""What an intake leaves beside the pictures: the card's sidecars as they came, and albums after its folders."""

import json
import zipfile
from pathlib import Path

from bramblemoor.depots.bag.placing import Placing
from bramblemoor.disk.durable import digest_of, replacing
from bramblemoor.intake.landing import SIDECARS, place_of
from bramblemoor.intake.passing import State
from bramblemoor.library.albums import extend_album, write_albums
from bramblemoor.library.catalogue import NewFile, enter_file
from bramblemoor.library.home import Library
from bramblemoor.library.sidecars import write_sidecar

PACKED = "delivered/intake/*/sidecars.zip"
"""Where the sidecars of cards lie as they came, by the moment of the intake."""
_EARLIEST = (1980, 1, 1, 0, 0, 0)  # that a ZIP can tell; the times of a card's sidecars tell nothing


def keep_sidecars(library: Library, state: State, landing: Placing) -> None:
    """Keep the sidecars of the card, byte for byte, in delivered/intake/MOMENT/sidecars.zip."""
    top = place_of(landing, SIDECARS)
    found = sorted(path for path in top.rglob("*") if path.is_file()) if top.is_dir() else []
    if not found:
        return
    moment = "".join(letter for letter in state.plan.started if letter.isalnum())
    relative = PACKED.replace("*", moment)
    target = library.root / relative
    with replacing(target) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as packed:
        for path in found:
            info = zipfile.ZipInfo(path.relative_to(top).as_posix(), _EARLIEST)
            info.compress_type = zipfile.ZIP_DEFLATED
            packed.writestr(info, path.read_bytes())
    _enter(library, relative, target)


def _enter(library: Library, relative: str, target: Path) -> None:
    written = target.stat()
    with library.ledger.changing(facts=True) as db:
        enter_file(db, None, NewFile(
            "delivered", relative, written.st_size, digest_of(target), written.st_mtime_ns, "application/zip"
        ))  # fmt: skip


def keep_albums(library: Library, state: State) -> None:
    """Frames of a folder that is an album come into the album of its name, behind those that are in it."""
    groups: dict[str, list[int]] = {}
    for frame, planned in enumerate(state.plan.frames):
        if planned.album and frame in state.done:
            row = library.db.execute(
                "SELECT frame FROM files WHERE path IN (SELECT value FROM json_each(?)) AND frame NOT NULL LIMIT 1",
                (json.dumps([file.path for file in planned.files if file.path]),),
            ).fetchone()
            if row is not None:
                groups.setdefault(planned.album, []).append(row[0])
    if not groups:
        return
    with library.ledger.changing(facts=True) as db:
        grown = [
            extend_album(db, service="", reference=title, title=title, description="", frames=frames, behind=True)
            for title, frames in groups.items()
        ]
        for _, frames in grown:
            for frame in frames:
                write_sidecar(library, frame, new=True)
        write_albums(library, [album for album, _ in grown])
