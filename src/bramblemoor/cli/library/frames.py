"""new, find, show."""

from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single, whose
from bramblemoor.cli.library.receipts import finish
from bramblemoor.cli.options import selecting
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from collections.abc import Iterator

    from bramblemoor.library.conditions import Clause
    from bramblemoor.library.find import Found
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selection

_FEW = 3
_FEW_MOVED = 8
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
    yes: Annotated[bool, typer.Option("--yes", help="With --around: move them into pictures/ without asking.")] = False,
    stand_in: Annotated[str, typer.Option("--stand-in", metavar="DEVICE", hidden=True)] = "",
    json: AsJson = False,
) -> None:
    """Make a library: in a new folder, or around the pictures that lie in one (--around).

    A library has its pictures in pictures/. Where they do not lie there yet, all that lies in the folder moves into it, by
    renaming; that is shown and asked first.
    """
    from bramblemoor.library.around import make_around, refuse_pictures
    from bramblemoor.library.home import create_library

    called = name or folder.resolve().name
    if around:
        _agree_to_move(folder, yes=yes, json=json)
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


def _agree_to_move(folder: Path, *, yes: bool, json: bool) -> None:
    """Say what would move, and ask."""
    from bramblemoor.library.around import moving, pictures_below
    from bramblemoor.library.home import is_library, require_apart

    if is_library(folder):
        return  # it is one already, or a run that was killed has agreed to it
    require_apart(folder, "a new library")
    names = moving(folder)
    if not names or not pictures_below(folder).pictures:
        return
    if not json:
        say.line(
            f"All that lies in {say.place(folder)} moves into {say.place(folder / 'pictures')}, and stays as it lies there:"
        )
        for name in names[:_FEW_MOVED]:
            say.line(f"{name} -> pictures/{name}", inward=2)
        if len(names) > _FEW_MOVED:
            say.line(f"... and {len(names) - _FEW_MOVED:,} more", inward=2)
        say.line(
            "Other programs that know these paths will not find them there any more. Nothing is copied or changed."
        )
    require_consent(
        "Move them?", f"{say.many(len(names), 'file or folder', 'files and folders')} would move into pictures/", yes=yes,
        or_dry_run=False,
    )  # fmt: skip


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


Sorted = Annotated[
    str, typer.Option("--sort", metavar="KEY", help="By taken, added, path, name, title, or size.", show_default=False)
]
CountBy = Annotated[
    str,
    typer.Option(
        "--count-by", metavar="KEY", show_default=False,
        help="Only count: by year, month, day, shoot, camera, lens, person, keyword, album, location, kind, rating, ...",
    ),
]  # fmt: skip


@selecting(leave_out=("word",))
def find(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[WORD]...", help="Words that must all occur; beginnings will do. A phrase: '\"first light\"'."
        ),
    ] = None,
    most: Annotated[
        int | None,
        typer.Option(
            min=1, show_default=False, help=f"Show so many at most; if not given, {_MOST}, but --paths and --csv all."
        ),
    ] = None,
    sort: Sorted = "taken",
    last_first: Annotated[bool, typer.Option("--last-first", help="Sort the other way round.")] = False,
    count_by: CountBy = "",
    paths: Annotated[
        bool,
        typer.Option("--paths", help="Print nothing but their paths, one a line, as --frames-from takes them."),
    ] = False,
    paths0: Annotated[
        bool, typer.Option("--paths0", help="The same, parted by NUL, for names with line ends in them.")
    ] = False,
    csv: Annotated[bool, typer.Option("--csv", help="Print a table for a spreadsheet.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Find frames. Of what is given several times any will do; of different things all must hold.

    What is found here is what other commands act on by the same options, or by a pipe: bramblemoor find owl --paths0 |
    bramblemoor tell --frames-from - --keyword owls.
    """
    import msgspec

    from bramblemoor.library.find import COUNTED, SORTS
    from bramblemoor.library.find import find as search
    from bramblemoor.library.find import paths as paths_of
    from bramblemoor.library.selection import located_in

    if sort not in SORTS:
        raise WrongUse(f"Frames cannot be sorted by {sort!r}.", f"Choose one of {', '.join(SORTS)}.")
    if count_by and count_by not in COUNTED:
        raise WrongUse(f"Frames cannot be counted by {count_by!r}.", f"Choose one of {', '.join(COUNTED)}.")
    library = library_here(library_dir)
    wanted = msgspec.structs.replace(selection, words=words or [])
    clause = located_in(library, wanted)
    if count_by:
        _print_counts(library, clause, wanted, count_by, json=json)
    elif csv:
        _print_csv(library, search(library, clause, most or -1, sort=sort, reverse=last_first))
    elif paths or paths0:
        found = paths_of(library, clause, most or -1, sort=sort, reverse=last_first)
        say.verbatim0(found) if paths0 else say.verbatim_lines(found)
    else:
        most = most or _MOST
        _print_found(
            library, clause, wanted, list(search(library, clause, most, sort=sort, reverse=last_first)), most, json=json
        )


def _print_found(
    library: "Library", clause: "Clause", wanted: "Selection", found: "list[Found]", most: int, *, json: bool
) -> None:
    from bramblemoor.library.find import count, put_away
    from bramblemoor.library.selection import counted

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


def _print_counts(library: "Library", clause: "Clause", wanted: "Selection", what: str, *, json: bool) -> None:
    from bramblemoor.library.find import count, count_by
    from bramblemoor.library.selection import counted

    found = count_by(library, clause, what)
    several = what in ("keyword", "person", "album")
    total = count(library, clause) if several else sum(number for _, number in found)
    if json:
        say.as_json({"found": total, "counted": [{"value": value, "frames": number} for value, number in found]})
        return
    say.table((what, "frames"), [(value or "(none)", f"{number:,}") for value, number in found], right=(1,), wraps=0)
    more = " A frame may be counted under several." if several else ""
    say.line(f"{counted(total, wanted)} in {whose(library)}.{more}")


def _print_csv(library: "Library", found: "Iterator[Found]") -> None:
    """One row a frame; cells that a spreadsheet would run are made harmless, as in albums/."""
    import csv
    import sys

    from bramblemoor.frames.fields import FIELDS
    from bramblemoor.library.albums import harmless
    from bramblemoor.library.find import facts_of

    writer = csv.writer(sys.stdout)
    fields = [field for field in FIELDS if field.name not in ("taken", "templates", "reduced")]
    writer.writerow(["path", "taken", *(heading for field in fields for heading in field.headings)])
    for hit in found:
        facts = facts_of(library, hit.frame)
        cells = (cell for field in fields for cell in field.cells(facts))
        writer.writerow([harmless(cell) for cell in (hit.path, hit.taken, *cells)])


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
