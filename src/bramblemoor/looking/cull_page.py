"""The page for culling: large previews, keys to mark, rate and caption, and a marks file that one command takes in."""

import base64
from importlib.resources import files
from pathlib import Path
from typing import Any

from bramblemoor.disk.durable import write_atomically
from bramblemoor.frames.claims import MARKED, believe
from bramblemoor.frames.moments import now_utc
from bramblemoor.frames.showing import as_jpeg, shown
from bramblemoor.library.catalogue import claims_of, shown_by
from bramblemoor.library.naming import slug
from bramblemoor.library.receipts import stamp
from bramblemoor.library.selection import Selected
from bramblemoor.looking.page import as_script
from bramblemoor.looking.thumbnails import Thumbnails
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions

_LONGEST, _QUALITY = 1600, 85
_AT_ONCE = 6


def write_cull_page(selected: Selected, folder: Path, progress: Progress) -> int:
    """Write the page into a new folder: index.html and previews/; returns their bytes. Raises OSError where it cannot be."""
    library = selected.library
    thumbnails = Thumbnails(library)
    thumbnails.ensure(selected.frames(), progress, selected.count)
    (folder / "previews").mkdir(parents=True, exist_ok=True)
    frames: list[dict[str, Any]] = []
    jobs = []
    for frame in selected.frames():
        by = shown_by(library.db, frame)
        jobs.append((str(library.root / by.path), str(folder / "previews" / f"{frame}.jpg")))
        frames.append(_told(selected, frame, thumbnails.get(by.sha256)))
    whole, done = 0, 0
    with Helpers() as helping:
        for sizes in helping.map(_make, portions(jobs, _AT_ONCE)):
            for size in sizes:
                if not size:
                    frames[done]["shown"] = ""
                whole += size
                done += 1
            progress(Stage("making previews", "frames"), done, selected.count)
    thumbnails.close()
    page = _html(selected, frames).encode()
    write_atomically(folder / "index.html", page)
    return whole + len(page)


def _told(selected: Selected, frame: int, thumbnail: Any) -> dict[str, Any]:
    db = selected.library.db
    facts = believe(claims_of(db, frame))
    path, size = db.execute(
        "SELECT (SELECT path FROM files WHERE frame = ?1 AND role = 'original'), sum(bytes) FROM files WHERE frame = ?1",
        (frame,),
    ).fetchone()
    small = f"data:image/jpeg;base64,{base64.b64encode(thumbnail.jpeg).decode()}" if thumbnail is not None else ""
    return {
        "path": path, "name": path.rpartition("/")[2], "bytes": size, "shown": f"previews/{frame}.jpg", "small": small,
        "taken": f"{facts.taken.shown:%Y-%m-%d %H:%M:%S}" if facts.taken else "", "camera": facts.camera,
        "marked": facts.rating == MARKED, "rating": max(0, facts.rating or 0), "caption": facts.caption,
    }  # fmt: skip


def _make(jobs: list[tuple[str, str]]) -> list[int]:
    """Write previews; returns their bytes, 0 where nothing can be shown."""
    sizes = []
    for source, target in jobs:
        image = shown(Path(source), _LONGEST)
        content = as_jpeg(image, _QUALITY) if image is not None else b""
        if content:
            Path(target).write_bytes(content)
        sizes.append(len(content))
    return sizes


def _html(selected: Selected, frames: list[dict[str, Any]]) -> str:
    from jinja2 import Environment, select_autoescape

    library = selected.library
    made = stamp(now_utc())
    told = {
        "library": library.settings.library.id, "made": made, "frames": frames,
        "file": f"marks-{slug(library.name) or 'library'}-{made[:10]}.json",
    }  # fmt: skip
    text = files("bramblemoor.looking").joinpath("pages/cull.html").read_text(encoding="utf-8")
    page = Environment(autoescape=select_autoescape(default=True)).from_string(text)
    return page.render(title=f"{library.name}: {selected.said}", told=as_script(told))
