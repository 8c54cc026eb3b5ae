"""new, find, show."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single, whose
from bramblemoor.cli.options import selecting

if TYPE_CHECKING:
    from bramblemoor.library.selection import Selection


def new(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="A new or empty folder.")],
    name: Annotated[str, typer.Option(help="What to call it; the folder's name if not given.")] = "",
    site: Annotated[str, typer.Option(help="Where the drive it lies on is kept.")] = "studio",
    medium: Annotated[str, typer.Option(help="The kind of that drive: ssd, hdd, nas, ...")] = "ssd",
    stand_in: Annotated[str, typer.Option("--stand-in", metavar="DEVICE", hidden=True)] = "",
    json: AsJson = False,
) -> None:
    """Make a library."""
    from bramblemoor.library.home import create_library

    library = create_library(folder, name=name or folder.resolve().name, site=site, medium=medium, stand_in=stand_in)
    if json:
        say.as_json({"library": library.name, "id": library.settings.library.id, "root": str(library.root)})
        return
    rule = library.settings.rule
    say.line(f"Made the library {whose(library)}; site {site}, medium {medium}.")
    say.line(
        f"Its rule: {rule.copies} copies on {rule.media} kinds of medium at {rule.sites} sites, each read back within"
        f" {rule.fresh_days} days. It stands in bramblemoor.toml."
    )
    say.line("Next: bramblemoor service add NAME URL, or bramblemoor depot add NAME FOLDER.")


@selecting(leave_out=("word",))
def find(
    words: Annotated[
        list[str] | None, typer.Argument(help="Words that must all occur; beginnings of words will do.")
    ] = None,
    most: Annotated[int, typer.Option(min=1, help="Show so many at most.")] = 100,
    paths: Annotated[
        bool,
        typer.Option("--paths", help="Print nothing but all their paths, one a line, as --frames-from takes them."),
    ] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Find frames. Of what is given several times any will do; of different things all must hold."""
    import msgspec

    from bramblemoor.library.find import count, put_away
    from bramblemoor.library.find import find as search
    from bramblemoor.library.selection import counted, located_in

    library = library_here(library_dir)
    wanted = msgspec.structs.replace(selection, words=words or [])
    clause = located_in(library, wanted)
    if paths:
        for hit in search(library, clause):
            say.line(hit.path)
        return
    found = list(search(library, clause, most))
    total = count(library, clause) if len(found) == most else len(found)
    away = put_away(library, [hit.frame for hit in found])
    if json:
        rows = [
            {"frame": hit.frame, "shoot": hit.shoot, "path": hit.path, "taken": hit.taken, "title": hit.title}
            | ({"put_away_at": list(away[hit.frame])} if hit.frame in away else {})
            for hit in found
        ]
        say.as_json({"library": library.name, "root": str(library.root), "found": total, "frames": rows})
    elif not found:
        say.line(f"No frame matches in {whose(library)}.")
        say.line("Try fewer or shorter words: the beginning of a word is enough.")
    else:
        _print_found([(hit.shoot, hit.path, hit.taken, hit.title) for hit in found])
        shown = f" (the first {most}; --most shows more)" if total > len(found) else ""
        say.line(f"{counted(total, wanted)} in {whose(library)}{shown}.")
        if away:
            names = ", ".join(dict.fromkeys(name for where in away.values() for name in where))
            say.line(f"{say.many(len(away), 'frame')} of these are put away: fetch the drive of {names}.")


def _print_found(rows: list[tuple[str, str, str, str]]) -> None:
    """Plain aligned text: quick to start, and easy to cut apart by other programs."""
    heads = ("shoot", "path", "taken", "title")
    widths = [max(len(row[column]) for row in [heads, *rows]) for column in range(3)]
    for row in [heads, *rows]:
        say.line("  ".join([*(text.ljust(width) for text, width in zip(row, widths, strict=False)), row[3]]).rstrip())


def show(
    frame: Annotated[str, typer.Argument(help="A frame's path, file name or number (as find --json tells).")],
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Show all that is known of one frame: what is believed, who says it, its files, albums and copies."""
    from bramblemoor.cli.library.frame_page import frame_document, print_frame
    from bramblemoor.library.selection import frame_named

    library = library_here(library_dir)
    document = frame_document(library, frame_named(library, frame))
    if json:
        say.as_json(document)
    else:
        print_frame(document, whose(library))


COMMANDS = {"new": single("new", new), "find": single("find", find), "show": single("show", show)}
