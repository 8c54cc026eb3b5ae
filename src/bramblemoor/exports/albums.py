"""Rebuilding albums: from their descriptions, from folders that are labels, and from what records of pictures say."""

import json
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass

from bramblemoor.exports.dialect import Dialect
from bramblemoor.exports.worksheet import Worksheet


@dataclass(frozen=True)
class FoundAlbum:
    """An album of the export. `frames` and `cover` are frames of the worksheet; the cover is None where none is told.

    `missing` is how the members are named that did not come; `is_listed` says that its members are told one by one.
    """

    title: str
    description: str
    reference: str
    frames: tuple[int, ...]
    cover: int | None
    missing: tuple[str, ...] = ()
    is_listed: bool = False


def albums_in(sheet: Worksheet, dialect: Dialect) -> Iterator[FoundAlbum]:
    """Every album: those that are described, then folders, then labels of single pictures."""
    sheet.db.create_function("bm_album", 1, dialect.album_folder, deterministic=True)
    described: set[str] = set()
    titles: dict[str, str] = {}
    for row in sheet.db.execute(
        "SELECT d.*, name FROM described d JOIN entries ON entries.id = entry ORDER BY d.id"
    ).fetchall():
        folder = row["name"].rpartition("/")[0]
        names = json.loads(row["members"])
        listed = [_frame_called(sheet, name) for name in names]
        beside = _frames_in(sheet, folder) if folder and dialect.kind_of(row["name"]) == "album" else []
        unlisted = iter([frame for frame in beside if frame not in listed])
        # A frame without a sidecar cannot be told by its reference: it is one of those that lie in the album's folder.
        filled = [frame if frame is not None else next(unlisted, None) for frame in listed]
        members = [*(frame for frame in filled if frame is not None), *unlisted]
        missing = tuple(name for name, frame in zip(names, filled, strict=True) if frame is None)
        described.add(folder)
        titles[row["title"]] = row["reference"]
        cover = _frame_called(sheet, row["cover"]) if row["cover"] else None
        frames = tuple(dict.fromkeys(members))
        yield FoundAlbum(row["title"], row["description"], row["reference"], frames, cover, missing, bool(names))
    yield from _folders(sheet, described)
    yield from _labels(sheet, titles)


def _frame_called(sheet: Worksheet, name: str) -> int | None:
    """The one frame that goes by this name: a record's reference, an entry's path, or the name a record tells; then folded."""
    for query in (
        "SELECT DISTINCT u.frame FROM records r JOIN pairs ON record = r.id JOIN entries p ON p.id = picture"
        " JOIN units u ON u.sha256 = p.sha256 WHERE r.reference = ? AND r.reference != ''",
        "SELECT DISTINCT u.frame FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.name = ? AND p.kind = 'picture'",
        "SELECT DISTINCT u.frame FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.kind = 'picture'"
        " AND substr(p.name, -length(?1) - 1) = '/' || ?1",
        "SELECT DISTINCT u.frame FROM records r JOIN pairs ON record = r.id JOIN entries p ON p.id = picture"
        " JOIN units u ON u.sha256 = p.sha256 WHERE r.file_name = ?",
        "SELECT DISTINCT u.frame FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.folded = bm_folded(?)"
        " AND p.kind = 'picture'",
        "SELECT DISTINCT u.frame FROM entries p JOIN units u ON u.sha256 = p.sha256 WHERE p.kind = 'picture'"
        " AND p.base = bm_base(bm_folded(?1)) AND substr('/' || p.folded, -length(bm_folded(?1)) - 1) = '/' || bm_folded(?1)",
        "SELECT DISTINCT u.frame FROM records r JOIN pairs ON record = r.id JOIN entries p ON p.id = picture"
        " JOIN units u ON u.sha256 = p.sha256 WHERE r.told = bm_folded(?)",
    ):
        found = sheet.db.execute(query, (name,)).fetchmany(2)
        if found:
            return int(found[0][0]) if len(found) == 1 else None
    return None


def _frames_in(sheet: Worksheet, folder: str) -> list[int]:
    """The frames of which a file lies in a folder, in the order of their names."""
    inside = folder + "/"
    rows = sheet.db.execute(
        "SELECT units.frame FROM entries JOIN units USING (sha256) WHERE kind = 'picture' AND name >= ? AND name < ?"
        " AND instr(substr(name, ?), '/') = 0 ORDER BY name, entries.id",
        (inside, inside[:-1] + "0", len(inside) + 1),
    )
    return list(dict.fromkeys(row[0] for row in rows))


def _folders(sheet: Worksheet, described: set[str]) -> Iterator[FoundAlbum]:
    """Folders that are labels and have no description."""
    rows: list[sqlite3.Row] = sheet.db.execute(
        "SELECT DISTINCT bm_album(name) AS folder FROM entries WHERE kind = 'picture' AND folder != '' ORDER BY folder"
    ).fetchall()
    for row in rows:
        if row["folder"] not in described:
            title = row["folder"].rpartition("/")[2]
            yield FoundAlbum(title, "", "", tuple(_frames_in(sheet, row["folder"])), None)


def _labels(sheet: Worksheet, references: dict[str, str]) -> Iterator[FoundAlbum]:
    """Titles of albums that records of pictures tell."""
    members: dict[str, dict[int, None]] = {}
    for row in sheet.db.execute(
        "SELECT r.albums, u.frame FROM records r JOIN pairs ON record = r.id JOIN entries p ON p.id = picture"
        " JOIN units u ON u.sha256 = p.sha256 WHERE r.albums != '[]' ORDER BY p.name, r.number, p.id"
    ):
        for title in json.loads(row["albums"]):
            members.setdefault(title, {})[row["frame"]] = None
    for title, frames in members.items():
        yield FoundAlbum(title, "", references.get(title, ""), tuple(frames), None)
