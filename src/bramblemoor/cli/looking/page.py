"""page."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single
from bramblemoor.cli.options import selecting
from bramblemoor.errors import NotPossible, WrongUse

if TYPE_CHECKING:
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selected, Selection
    from bramblemoor.looking.page import Page


@selecting()
def page(
    target: Annotated[
        Path | None,
        typer.Argument(
            metavar="[DIR]",
            help="A new or empty folder, or FILE.zip; the library's own page if not given.",
            show_default=False,
        ),
    ] = None,
    title: Annotated[
        str, typer.Option(metavar="TEXT", help="What stands above; the library's name if not given.")
    ] = "",
    originals: Annotated[bool, typer.Option("--originals", help="With copies of the originals.")] = False,
    previews: Annotated[bool, typer.Option("--previews", help="With pictures of 1,600 pixels, to look at.")] = False,
    copies: Annotated[bool, typer.Option("--copies", help="Tell where copies lie; not for a client.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Write a page that opens in any browser with no server and no tool: by year, shoot, album and person, searched by word.

    Without DIR it is the library's own page, in looking/page/: from then on each backup renews it and brings it to the depots,
    so that a drive on a shelf can be looked through on any computer.

    Of everything, or of what the options say: page for-them --album 'Lantern nights' --previews is what one hands to a client.
    """
    from bramblemoor.library.giving import new_archive, new_folder
    from bramblemoor.library.selection import select

    library = library_here(library_dir)
    if target is None:
        _own(library, selection, json=json)
        return
    zipped = target.suffix.lower() == ".zip"
    selected = select(library, selection)
    try:
        with (new_archive if zipped else new_folder)(target) as fresh:
            written, size = _write(
                selected, fresh, title or library.name, originals=originals, previews=previews, copies=copies
            )
    except OSError as error:
        raise NotPossible(
            f"The page cannot be written to {target} ({error.strerror or error}).",
            "Make room there, or name another folder.",
        ) from error
    opened = target if zipped else target / "index.html"
    if json:
        say.as_json({"folder": str(target.resolve()), "frames": written.frames, "files": written.files, "bytes": size})
        return
    say.line(f"{say.many(written.frames, 'frame')}, {say.size(size)}: {opened}")
    say.line("It opens in any browser, by itself; nothing is fetched from anywhere.")


def _own(library: "Library", selection: "Selection", *, json: bool) -> None:
    from bramblemoor.looking.own_page import FOLDER, make_own_page

    if not selection.everything:
        raise WrongUse("The library's own page is of everything.", "Name a folder for a page of some frames.")
    with holding(library), say.meter() as progress:
        written = make_own_page(library, progress)
    if json:
        say.as_json({"folder": str(library.root / FOLDER), "frames": written.frames, "files": written.files,
                     "bytes": written.bytes})  # fmt: skip
        return
    say.line(f"{say.many(written.frames, 'frame')}, {say.size(written.bytes)}: {FOLDER}/index.html")
    say.line(
        "It opens in any browser. Each backup renews it, and brings it to the depots: data/looking/page/index.html there."
    )


def _write(
    selected: "Selected", folder: Path, title: str, *, originals: bool, previews: bool, copies: bool
) -> "tuple[Page, int]":
    from bramblemoor.looking.page import Wish, copy_originals, write_page

    wish = Wish(title, "originals/" if originals else None, holders=copies, previews=previews)
    with say.meter() as progress:
        written = write_page(selected, folder, wish, progress)
        size = written.bytes + (copy_originals(selected, folder, progress) if originals else 0)
    return written, size


COMMANDS = {"page": single("page", page)}
