"""album: list, make, add, take, order, rename, delete, export."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import meant, some_meant
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, whose
from bramblemoor.cli.options import selecting
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from collections.abc import Callable

    from bramblemoor.library.album_edits import Album
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selected, Selection
    from bramblemoor.running import Progress

app = group("album", "Ordered labels over frames; a frame may be in several, and no picture is copied or moved.")
Title = Annotated[str, typer.Argument(metavar="ALBUM", help="Its title, or a part of it.")]
_WHICH = "Name some; or say which, as --keyword owls ('*' is every frame)."
Frames = Annotated[list[str] | None, typer.Argument(metavar="[FRAME]...", show_default=False)]


@app.command("list")
def list_albums(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the albums."""
    from bramblemoor.library.album_edits import albums

    library = library_here(library_dir)
    found = albums(library)
    if json:
        say.as_json({"albums": [
            {"title": one.title, "caption": one.description or None, "path": one.path, "frames": one.frames,
             "service": one.service or None}
            for one in found
        ]})  # fmt: skip
    elif not found:
        say.line(f"{whose(library)} has no albums. To make one: bramblemoor album make TITLE")
    else:
        say.table(
            ("album", "frames", "from", "what it is about"),
            [(one.title, f"{one.frames:,}", one.service or "you", one.description) for one in found], right=(1,), wraps=3,
        )  # fmt: skip
        say.line(f"{say.many(len(found), 'album')} of {whose(library)}. What is in one: bramblemoor find --album TITLE")


@app.command("make")
@selecting(leave_out=("word",))
def make(
    title: Annotated[str, typer.Argument(metavar="TITLE")],
    frames: Frames = None,
    about: Annotated[str, typer.Option("--about", metavar="TEXT", help="What it is about.")] = "",
    library_dir: LibraryDir = None,
    *,
    selection: "Selection",
) -> None:
    """Make an album; of the frames that are named, if any."""
    from bramblemoor.library.album_edits import add_frames, album_called, make_album
    from bramblemoor.library.selection import select

    library = library_here(library_dir)
    chosen = meant(frames, selection)
    with holding(library), say.meter() as progress:
        selected = None if chosen.everything else select(library, chosen)
        make_album(library, title, about)
        count = add_frames(library, album_called(library, title), selected, progress) if selected is not None else 0
    say.line(f"Made the album {title} with {say.many(count, 'frame')}.")
    if not count:
        say.line(f"To add some: bramblemoor album add {title!r} FRAME.")


@app.command("add")
@selecting()
def add(
    album: Title,
    frames: Frames = None,
    library_dir: LibraryDir = None,
    *,
    selection: "Selection",
) -> None:
    """Add frames to an album, behind those that are in it, in order of taking."""
    from bramblemoor.library.album_edits import add_frames

    known, selected, new = _changed(library_dir, album, frames, selection, add_frames)
    there = f"; {selected.count - new:,} were in it already" if selected.count > new else ""
    say.line(f"{say.many(new, 'frame')} came into {known.title}{there}.")


@app.command("take")
@selecting()
def take(
    album: Title,
    frames: Frames = None,
    library_dir: LibraryDir = None,
    *,
    selection: "Selection",
) -> None:
    """Take frames out of an album. They stay in the library."""
    from bramblemoor.library.album_edits import take_frames

    known, selected, gone = _changed(library_dir, album, frames, selection, take_frames)
    if not gone:
        raise WrongUse(f"None of {selected.said} is in {known.title}.", "Nothing was changed.")
    say.line(f"{say.many(gone, 'frame')} left {known.title}.")


def _changed(
    library_dir: LibraryDir, title: str, frames: list[str] | None, selection: "Selection",
    change: "Callable[[Library, Album, Selected, Progress], int]",
) -> "tuple[Album, Selected, int]":  # fmt: skip
    """Change which frames an album has; returns it, the frames that were meant, and how many of them it made a difference to."""
    from bramblemoor.library.album_edits import album_called
    from bramblemoor.library.selection import select

    library = library_here(library_dir)
    with holding(library), say.meter() as progress:
        chosen = some_meant(frames, selection, _WHICH)
        known = album_called(library, title)
        selected = select(library, chosen)
        return known, selected, change(library, known, selected, progress)


@app.command("order")
@selecting()
def order(
    album: Title,
    frames: Frames = None,
    by: Annotated[str, typer.Option("--by", metavar="KEY", help="By taken, path, or title.", show_default=False)] = "",
    library_dir: LibraryDir = None,
    *,
    selection: "Selection",
) -> None:
    """Order an album by a key; or put the frames that are named before all others."""
    from bramblemoor.library.album_edits import album_called, order_by, put_first
    from bramblemoor.library.selection import select

    library = library_here(library_dir)
    chosen = meant(frames, selection)
    if bool(by) == (not chosen.everything):
        raise WrongUse(
            "An album is ordered in one way at a time.", "Give --by taken, path or title; or name frames to come first."
        )
    with holding(library):
        known = album_called(library, album)
        if by:
            order_by(library, known, by)
        else:
            put_first(library, known, select(library, chosen))
    say.line(f"{known.title} is ordered anew: {known.path}")


@app.command("rename")
def rename(
    album: Title,
    title: Annotated[str, typer.Argument(metavar="TITLE", help="Its new title.")],
    library_dir: LibraryDir = None,
) -> None:
    """Call an album otherwise."""
    from bramblemoor.library.album_edits import album_called, rename_album

    if not title.strip() or not title.isprintable():
        raise WrongUse(f"An album cannot be called {title!r}.", "Give it a title, as 'Best of 2026'.")
    library = library_here(library_dir)
    with holding(library), say.meter() as progress:
        known = album_called(library, album)
        rename_album(library, known, title, progress)
    say.line(f"{known.title} is called {title} now.")


@app.command("delete")
def delete(album: Title, library_dir: LibraryDir = None) -> None:
    """Delete an album. Its frames stay; its list stays at depots as an earlier version."""
    from bramblemoor.library.album_edits import album_called, delete_album

    library = library_here(library_dir)
    with holding(library), say.meter() as progress:
        known = album_called(library, album)
        delete_album(library, known, progress)
    say.line(f"The album {known.title} is deleted; its {say.many(known.frames, 'frame')} stay.")


@app.command("export")
def export(
    album: Title,
    folder: Annotated[
        Path, typer.Argument(metavar="DIR", help="A new or empty folder; or FILE.csv for its list alone.")
    ],
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Write an album's pictures to a folder as copies, in its order, with what is known of them inside; or its list as CSV."""
    from bramblemoor.library.album_edits import album_called, frames_in
    from bramblemoor.library.giving import give, new_folder
    from bramblemoor.library.receipts import total

    library = library_here(library_dir)
    known = album_called(library, album)
    if folder.suffix.lower() == ".csv":
        if folder.exists():
            raise WrongUse(f"{folder} is there already.", "Name a new file.")
        folder.write_bytes((library.root / known.path).read_bytes())
        say.line(f"The list of {known.title} is in {folder}.")
        return
    with new_folder(folder) as fresh:
        given = list(give(library, iter(frames_in(library, known)), fresh, numbered=True))
    beside = sum(not one.embedded for one in given)
    size = total(one.amount for one in given)
    if json:
        say.as_json({"folder": str(folder.resolve()), "frames": size.frames, "bytes": size.bytes, "beside": beside})
        return
    say.line(f"{say.many(size.frames, 'frame')} of {known.title}, {say.size(size.bytes)}, lie in {folder}.")
    if beside:
        say.line(f"What is known of {say.many(beside, 'frame')} lies beside as XMP, as their files cannot hold it.")


COMMANDS = {"album": app}
