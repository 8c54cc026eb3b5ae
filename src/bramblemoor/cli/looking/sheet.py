"""sheet."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single
from bramblemoor.cli.options import selecting

if TYPE_CHECKING:
    from bramblemoor.library.selection import Selection


@selecting()
def sheet(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A new file, FILE.pdf or FILE.jpg.")],
    columns: Annotated[int, typer.Option(min=1, max=10, help="Pictures beside each other.")] = 4,
    heading: Annotated[str, typer.Option(metavar="TEXT", help="What stands above; what was chosen if not given.")] = "",
    side_by_side: Annotated[
        bool,
        typer.Option("--side-by-side", help="Each original with its edited version, or the camera's JPEG, beside it."),
    ] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Write a contact sheet of frames: small pictures with names, dates, ratings and titles, on pages of A4.

    Raws and films are shown by their previews. What is marked to be culled, for a last look: sheet FILE.pdf --marked.
    """
    from bramblemoor.library.selection import select
    from bramblemoor.looking.sheets import write_sheet

    library = library_here(library_dir)
    selected = select(library, selection)
    above = heading or f"{library.name}: {selected.said}"
    with say.meter() as progress:
        done = write_sheet(selected, file, columns=columns, heading=above, side_by_side=side_by_side, progress=progress)
    if json:
        say.as_json({
            "named": [str(one) for one in done.files], "frames": done.frames, "pages": done.pages,
            "without_picture": done.without_picture,
        })  # fmt: skip
        return
    more = f" to {done.files[-1]}" if len(done.files) > 1 else ""
    say.line(f"{say.many(done.frames, 'frame')} on {say.many(done.pages, 'page')}: {done.files[0]}{more}")
    if done.without_picture:
        say.line(
            f"Of {say.many(done.without_picture, 'frame')} nothing can be shown: they are named without a picture."
        )


COMMANDS = {"sheet": single("sheet", sheet)}
