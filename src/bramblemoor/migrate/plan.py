"""The plan of a transfer: what the source shows is listed in the worksheet, and what becomes of it there is weighed."""

import hashlib
import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from bramblemoor.migrate.fidelity import Row, weigh, why_refused
from bramblemoor.migrate.look import Look, Weighed
from bramblemoor.migrate.sending import Destination
from bramblemoor.migrate.sources import Offered, Source
from bramblemoor.migrate.transfers import Scope
from bramblemoor.migrate.worksheet import Worksheet
from bramblemoor.running import Progress, Stage, portions
from bramblemoor.services.moving import FIELDS, Fidelity, Shown, ShownAlbum

_ENTERED = 500
_ORDER = ("picture", "name", "folder", *FIELDS, "rendition", "clip", "voice note", "document", "edits")
ARRIVAL = "arrival"
_FOLDER = "folder "


@dataclass(frozen=True)
class AlbumsFate:
    """What becomes of albums: how many there are, entries in them, and what of it is lost, in words."""

    albums: int
    entries: int
    overlapping: int
    how: tuple[str, ...]


@dataclass(frozen=True)
class Plan:
    """What a transfer will do. Amounts are frames, files, bytes; `gone` are frames that were there, and are to be sent again."""

    look: int
    listed: tuple[int, int, int]
    to_send: tuple[int, int, int]
    done: tuple[int, int, int]
    refused: tuple[int, int, int]
    table: list[Row]
    albums: AlbumsFate
    room: int | None
    rate: float
    gone: int


def make_plan(
    sheet: Worksheet,
    source: Source,
    destination: Destination,
    scope: Scope,
    room: int | None,
    earlier: Iterable[tuple[str, str, str]],
    progress: Progress,
) -> Plan:
    """List the source, and weigh each frame. `earlier` is what other transfers have brought there: see `Look.enter_held`."""
    seen = Look(sheet)
    look = seen.number
    keeps, listed, folders = destination.keeps, 0, dict[str, list[str]]()
    seen.enter_lying(destination.lying())
    shown = destination.held()
    there = dict(shown or ())
    digests = [(sha256, called, sha256) for called, sha256 in there.items() if sha256]
    seen.enter_held([*digests, *(one for one in earlier if one[1] in there)])
    if shown is not None or keeps.tree:
        seen.note_gone(there.keys(), destination.has)
    for some in portions(source.frames(read=not keeps.sidecars), _ENTERED):
        seen.enter(_entry(one, source, destination, scope) for one in some)
        listed += len(some)
        progress(Stage(f"listing {source.name}", "frames"), listed, 0)
        if scope.folders:
            for one in some:
                if one.frame.folder:
                    folders.setdefault(one.frame.folder, []).append(one.frame.id)
    sheet.enter_albums(_albums(source, scope, sheet, folders))
    counts = sheet.counts(look)

    def of(*states: str) -> tuple[int, int, int]:
        found = [count for state, count in counts.items() if state in states]
        return sum(one[0] for one in found), sum(one[1] for one in found), sum(one[2] for one in found)

    seen.note_held()
    counts = sheet.counts(look)
    table = {row.what: row for row in sheet.table(look)}
    return Plan(
        look, of(*counts), sheet.due(look), of("sent", "proven", "amiss"), of("left"),
        [table[what] for what in _ORDER if what in table], _fate(sheet, keeps), room, float(sheet.get("rate", "0")),
        sheet.gone(look),
    )  # fmt: skip


def _entry(one: Offered, source: Source, destination: Destination, scope: Scope) -> Weighed:
    keeps = destination.keeps
    return (
        one.frame,
        _mark(one.frame),
        why_refused(one.frame, keeps),
        list(weigh(one.frame, keeps, one.inside, embed=scope.embed, as_albums=scope.folders)),
        destination.place_of(one.frame, source),
    )


def _mark(frame: Shown) -> str:
    """What tells a frame from another that is called the same: its pictures, not what is said of them."""
    files = [
        (file.role, file.name, file.bytes, file.sha256 or file.etag) for file in frame.files if file.role != "sidecar"
    ]
    return hashlib.sha256(json.dumps(files).encode()).hexdigest()[:24]


def _albums(source: Source, scope: Scope, sheet: Worksheet, folders: dict[str, list[str]]) -> Iterator[ShownAlbum]:
    yield from source.albums()
    for folder, frames in folders.items():
        yield ShownAlbum(_FOLDER + folder, folder, tuple(frames))
    if scope.arrival:
        yield ShownAlbum(
            ARRIVAL, scope.arrival, tuple(line.shown.id for line in sheet.lines("waiting", "sent", "proven", "missing"))
        )


def _fate(sheet: Worksheet, keeps: Fidelity) -> AlbumsFate:
    albums, entries, within, overlapping = sheet.album_counts()
    how = []
    if keeps.tree:
        how.append("each becomes a list in albums/, in its order")
    elif not keeps.albums:
        how.append("the destination has none: they are lost")
    else:
        if not keeps.album_order:
            how.append("their order is lost")
        if not keeps.albums_overlap and overlapping:
            how.append(f"{entries - within:,} of the entries are lost: a frame is in one album there")
    return AlbumsFate(albums, entries, overlapping, tuple(how))
