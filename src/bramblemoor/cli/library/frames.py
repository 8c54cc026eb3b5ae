"""new, find, show."""

from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single, whose
from bramblemoor.cli.library.receipts import finish
from bramblemoor.cli.options import selecting

if TYPE_CHECKING:
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selection

_FEW = 3
_MOST = 100  # frames that are listed, unless somebody wants more


def new(
    folder: Annotated[
        Path, typer.Argument(metavar="DIR", help="A new or empty folder; with --around, one in which pictures lie.")
    ],
    name: Annotated[str, typer.Option(metavar="TEXT", help="What to call it; the folder's name if not given.")] = "",
    site: Annotated[str, typer.Option(metavar="SITE", help="Where the drive it lies on is kept.")] = "studio",
    medium: Annotated[str, typer.Option(metavar="MEDIUM", help="The kind of that drive: ssd, hdd, nas, ...")] = "ssd",
    around: Annotated[
        bool,
        typer.Option(
            "--around", help="Of a folder in which pictures lie: they are taken in as they lie, and nothing is copied."
        ),
    ] = False,
    stand_in: Annotated[str, typer.Option("--stand-in", metavar="DEVICE", hidden=True)] = "",
    json: AsJson = False,
) -> None:
    """Make a library: in a new folder, or around the pictures that lie in one (--around)."""
    from bramblemoor.library.around import make_around, refuse_pictures
    from bramblemoor.library.home import create_library

    called = name or folder.resolve().name
    if around:
        with say.meter() as progress:
            library, receipt = make_around(
                folder, name=called, site=site, medium=medium, stand_in=stand_in, progress=progress
            )
        say.about(library.name, library.root)
        if not json:
            _print_made(library)
            say.line(f"Next, in {say.place(library.root)}: bramblemoor depot add NAME FOLDER, then bramblemoor backup.")
            say.line()
        finish(receipt, json=json, attention=bool(receipt.left_out))
        return
    refuse_pictures(folder)
    library = create_library(folder, name=called, site=site, medium=medium, stand_in=stand_in)
    say.about(library.name, library.root)
    if json:
        say.as_json({"id": library.settings.library.id, "site": site, "medium": medium})
        return
    _print_made(library)
    _print_beside(folder)
    say.line("Next: bramblemoor service add NAME URL, or bramblemoor depot add NAME FOLDER.")


def _print_made(library: "Library") -> None:
    home = library.settings.library
    rule = library.settings.rule
    say.line(f"Made the library {whose(library)}; site {home.site}, medium {home.medium}.")
    say.line(
        f"Its rule: {rule.copies} copies on {rule.media} kinds of medium at {rule.sites} sites, each read back within"
        f" {rule.fresh_days} days. It stands in bramblemoor.toml."
    )


def _print_beside(folder: Path) -> None:
    """Pictures on a disk are how most collections begin."""
    from bramblemoor.library.around import beside

    for place, lying in beside(folder)[:_FEW]:
        many = f"{lying.pictures:,} pictures" if lying.whole else "pictures"
        say.line(f"In {say.place(place)} lie {many}. To copy them in, in their folders, from within the library:")
        say.line(f"  bramblemoor unpack --from {quote(str(place))} --dialect folders")


@selecting(leave_out=("word",))
def find(
    words: Annotated[
        list[str] | None,
        typer.Argument(metavar="[WORD]...", help="Words that must all occur; beginnings of words will do."),
    ] = None,
    most: Annotated[
        int | None,
        typer.Option(min=1, help=f"Show so many at most; if not given, {_MOST}, but --paths all.", show_default=False),
    ] = None,
    paths: Annotated[
        bool,
        typer.Option("--paths", help="Print nothing but their paths, one a line, as --frames-from takes them."),
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
        for hit in search(library, clause, most or -1):
            say.verbatim(hit.path)
        return
    most = most or _MOST
    found = list(search(library, clause, most))
    total = count(library, clause) if len(found) == most else len(found)
    away = put_away(library, [hit.frame for hit in found])
    if json:
        rows = [
            {
                "frame": hit.frame, "shoot": hit.shoot, "path": hit.path, "taken": hit.taken, "title": hit.title,
                "put_away_at": list(away.get(hit.frame, ())),
            }
            for hit in found
        ]  # fmt: skip
        say.as_json({"found": total, "hits": rows})
    elif not found:
        say.line(f"No frame matches in {whose(library)}.")
        say.line("Try fewer or shorter words: the beginning of a word is enough.")
    else:
        say.table(("path", "taken", "title"), [(hit.path, hit.taken, hit.title) for hit in found], wraps=2)
        shown = f" (the first {most}; --most shows more)" if total > len(found) else ""
        say.line(f"{counted(total, wanted)} in {whose(library)}{shown}.")
        if away:
            names = ", ".join(dict.fromkeys(name for where in away.values() for name in where))
            say.line(f"{say.many(len(away), 'frame')} of these are put away: fetch the drive of {names}.")


def show(
    frame: Annotated[
        str, typer.Argument(metavar="FRAME", help="A frame's path, file name or number (as find --json tells).")
    ],
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
