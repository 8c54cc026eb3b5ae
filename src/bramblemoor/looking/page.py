"""The page to look through frames with no tool: HTML, and script files with data and thumbnails that load when scrolled to.

docs/formats.md describes its files. It is written to a folder; what is there already, and is as it should be, stays.
"""

import base64
import json
import shutil
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from importlib.resources import files
from pathlib import Path
from typing import Any

from bramblemoor.disk.durable import write_atomically
from bramblemoor.frames.claims import Facts, believe
from bramblemoor.frames.showing import as_jpeg, shown
from bramblemoor.library.catalogue import claims_of, versions_of
from bramblemoor.library.copies import good
from bramblemoor.library.home import Library
from bramblemoor.library.selection import Selected
from bramblemoor.looking.thumbnails import Thumbnails
from bramblemoor.running import Progress, Stage, portions

_CHUNK, _PACK = 1000, 50
"""Frames of one file of data, and of one file of thumbnails."""
_PREVIEW = 1600  # pixels


@dataclass(frozen=True)
class Wish:
    """What a page is to have: `originals` is where they lie, seen from the page (None: they are not to be opened), `holders` says
    whether it tells where copies lie, `previews` whether larger pictures are written. `expecting` are depots that are about to
    get all that they lack, as the page itself comes to them by the same run.
    """

    title: str
    originals: str | None = None
    holders: bool = False
    previews: bool = False
    expecting: frozenset[int] = frozenset()


@dataclass
class Page:
    """What was written: frames, files and bytes."""

    frames: int = 0
    files: int = 0
    bytes: int = 0


@dataclass
class _Index:
    """What is gathered on the way for the page's index: by name, the frames' places in the order of taking."""

    folders: dict[str, int] = field(default_factory=dict)
    names: list[str] = field(default_factory=list)
    """The folders again, by number."""
    years: list[list[Any]] = field(default_factory=list)
    months: list[list[Any]] = field(default_factory=list)
    shoots: dict[str, list[int]] = field(default_factory=dict)
    people: dict[str, list[int]] = field(default_factory=dict)
    places: dict[int, int] = field(default_factory=dict)
    positions: list[list[float]] = field(default_factory=list)


def write_page(selected: Selected, folder: Path, wish: Wish, progress: Progress) -> Page:
    """Write the page of a selection into a folder; files that are not part of it any more are removed from its own folders.

    Raises OSError where it cannot be written.
    """
    library = selected.library
    thumbnails = Thumbnails(library)
    thumbnails.ensure(selected.frames(), progress, selected.count, versions=True)
    holders = _holders(library) if wish.holders else []
    index, writer = _Index(), _Writer(folder)
    packs: dict[int, list[tuple[str, str]]] = {}
    place = 0
    for number, some in enumerate(portions(selected.frames(), _CHUNK)):
        told = []
        for frame in some:
            shown_as = versions_of(library.db, frame)
            record, facts = _record(library, frame, index, holders, wish)
            record.append(shown_as[1].path.rpartition("/")[2] if shown_as[1:] else "")
            told.append(record)
            _note(index, place, record, facts)
            index.places[frame] = place
            members = packs.setdefault(frame // _PACK, [])
            members += [(key, one.sha256) for key, one in zip(_keys(frame), shown_as, strict=False)]
            place += 1
        writer.script(f"data/frames-{number}.js", f"look.frames({number},{as_script(told)})")
        progress(Stage("writing the page", "frames"), place, selected.count)
    for pack, members in packs.items():
        inside = {
            key: base64.b64encode(one.jpeg).decode()
            for key, sha256 in members if (one := thumbnails.get(sha256)) is not None
        }  # fmt: skip
        writer.script(f"thumbs/{pack}.js", f"look.thumbs({pack},{as_script(inside)})")
    if index.positions:
        writer.script("data/map.js", f"look.map({as_script(index.positions)})")
    writer.script("data/index.js", f"look.index({as_script(_document(library, index, holders, wish, place))})")
    writer.file("index.html", _html(wish.title).encode())
    if wish.previews:
        _write_previews(selected, writer, progress)
    thumbnails.close()
    writer.clear(("data", "thumbs", *(["previews"] if wish.previews else [])))
    return Page(place, len(writer.written), writer.bytes)


def as_script(value: object) -> str:
    """As JSON in a script: "</" would end one that stands in HTML."""
    return json.dumps(value, ensure_ascii=False, separators=(",", ":")).replace("</", "<\\/")


def _html(title: str) -> str:
    from jinja2 import Environment, select_autoescape

    text = files("bramblemoor.looking").joinpath("pages/album.html").read_text(encoding="utf-8")
    return Environment(autoescape=select_autoescape(default=True)).from_string(text).render(title=title)


def _record(
    library: Library, frame: int, index: _Index, holders: Sequence[tuple[int, str, str, str]], wish: Wish
) -> tuple[list[Any], Facts]:
    db = library.db
    facts = believe(claims_of(db, frame))
    row = db.execute("SELECT folder, name, kind FROM frames WHERE id = ?", (frame,)).fetchone()
    file = db.execute(
        "SELECT path, bytes, width, height FROM files WHERE frame = ? AND role = 'original'", (frame,)
    ).fetchone()
    name = row["folder"].removeprefix("pictures/")
    folder = index.folders.setdefault(name, len(index.folders))
    if folder == len(index.names):
        index.names.append(name)
    latitude, longitude = facts.position or (None, None)
    held = sum(
        1 << bit for bit, (number, *_) in enumerate(holders) if number in wish.expecting or _is_held(db, frame, number)
    )
    return [
        frame, row["name"], folder, str(facts.taken) if facts.taken else "", facts.title, facts.caption,
        "; ".join(facts.keywords), "; ".join(facts.people), facts.location, latitude, longitude, facts.rating, facts.camera,
        facts.lens, row["kind"], file["bytes"], file["width"], file["height"], held,
        file["path"] if wish.originals is not None else "", facts.creator,
    ], facts  # fmt: skip


def _keys(frame: int) -> tuple[str, str]:
    """What pictures of a frame are called: that by which it is shown, and another version."""
    return f"{frame}", f"{frame}b"


def _holders(library: Library) -> list[tuple[int, str, str, str]]:
    """(number, name, medium, site) of the library and its depots."""
    home = library.settings.library
    rows = library.db.execute("SELECT number, name, medium, site FROM depots WHERE retired = '' ORDER BY number")
    return [(0, "library", home.medium, home.site), *(tuple(row) for row in rows.fetchall())]


def _is_held(db: sqlite3.Connection, frame: int, number: int) -> bool:
    """Whether all files of a frame are there, as they should be."""
    if number == 0:
        return db.execute(
            "SELECT 1 FROM copies c JOIN files f ON f.id = c.file WHERE c.depot = 0 AND f.frame = ? LIMIT 1", (frame,)
        ).fetchone() is None  # fmt: skip
    return db.execute(
        f"SELECT 1 FROM files f LEFT JOIN copies c ON c.file = f.id AND c.depot = ? WHERE f.frame = ?"
        f" AND NOT coalesce({good()} AND c.sha256 IS NULL, 0) LIMIT 1",
        (number, frame),
    ).fetchone() is None  # fmt: skip


def _note(index: _Index, place: int, record: Sequence[Any], facts: Facts) -> None:
    taken = record[3]
    for groups, name in ((index.years, taken[:4] or "undated"), (index.months, taken[:7] or "undated")):
        if not groups or groups[-1][0] != name:
            groups.append([name, place, 0])
        groups[-1][2] += 1
    index.shoots.setdefault(index.names[record[2]], []).append(place)
    for person in facts.people:
        index.people.setdefault(person, []).append(place)
    if facts.position is not None:
        index.positions.append([place, round(facts.position[0], 6), round(facts.position[1], 6)])


def _steps(places: Sequence[int]) -> list[int]:
    """Rising numbers as steps from one to the next, which take less room."""
    return [place - before for before, place in zip([0, *places], places, strict=False)]


def _document(
    library: Library, index: _Index, holders: Sequence[tuple[int, str, str, str]], wish: Wish, count: int
) -> dict[str, Any]:
    return {
        "count": count, "chunk": _CHUNK, "pack": _PACK, "originals": wish.originals, "previews": wish.previews,
        "years": index.years, "months": [month[:2] for month in index.months], "folders": index.names,
        "shoots": [[name, _steps(places)] for name, places in index.shoots.items()],
        "albums": list(_albums(library, index)),
        "people": [[name, _steps(places)] for name, places in sorted(index.people.items())],
        "holders": [list(holder[1:]) for holder in holders], "mapped": bool(index.positions),
    }  # fmt: skip


def _albums(library: Library, index: _Index) -> Iterator[list[Any]]:
    """Albums with those of their frames that are on the page, in their order."""
    for row in library.db.execute("SELECT id, title FROM albums ORDER BY title COLLATE NOCASE").fetchall():
        rows = library.db.execute("SELECT frame FROM album_frames WHERE album = ? ORDER BY position", (row["id"],))
        members = [index.places[frame] for (frame,) in rows.fetchall() if frame in index.places]
        if members:
            yield [row["title"], members]


def _write_previews(selected: Selected, writer: "_Writer", progress: Progress) -> None:
    for number, frame in enumerate(selected.frames(), 1):
        for key, one in zip(_keys(frame), versions_of(selected.library.db, frame), strict=False):
            image = shown(selected.library.root / one.path, _PREVIEW)
            if image is not None:
                writer.file(f"previews/{key}.jpg", as_jpeg(image, 82))
        progress(Stage("making previews", "frames"), number, selected.count)


class _Writer:
    """Writes the files of a page, those that are not there just so; and removes what is no part of it any more."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.written: set[str] = set()
        self.bytes = 0

    def script(self, path: str, text: str) -> None:
        self.file(path, text.encode())

    def file(self, path: str, content: bytes) -> None:
        self.written.add(path)
        self.bytes += len(content)
        place = self._folder / path
        if not place.is_file() or place.stat().st_size != len(content) or place.read_bytes() != content:
            place.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(place, content)

    def clear(self, folders: Sequence[str]) -> None:
        for folder in folders:
            place = self._folder / folder
            for one in place.iterdir() if place.is_dir() else ():
                if f"{folder}/{one.name}" not in self.written and one.is_file():
                    one.unlink()


def copy_originals(selected: Selected, folder: Path, progress: Progress) -> int:
    """Copy the originals of a page's frames to originals/ beside it; returns their bytes."""
    whole = 0
    for number, frame in enumerate(selected.frames(), 1):
        row = selected.library.db.execute(
            "SELECT path, bytes FROM files WHERE frame = ? AND role = 'original'", (frame,)
        ).fetchone()
        target = folder / "originals" / row["path"]
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy2(selected.library.root / row["path"], target)
        whole += row["bytes"]
        progress(Stage("copying originals", "frames"), number, selected.count)
    return whole
