"""cull: mark, unmark, marks, list, remove, undo, purge."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent, some_meant
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, stoppable, whose
from bramblemoor.cli.library.receipts import end_stopped, finish, finish_told, moment
from bramblemoor.cli.options import selecting
from bramblemoor.errors import NotPossible, WrongUse

if TYPE_CHECKING:
    from bramblemoor.library.culling import Removal
    from bramblemoor.library.home import Library
    from bramblemoor.library.sayings import Word
    from bramblemoor.library.selection import Selected, Selection

app = group(
    "cull", "Mark frames that are not worth keeping, look once more, and take them out; until purged they come back."
)
Frames = Annotated[
    list[str] | None,
    typer.Argument(metavar="[FRAME]...", help="Paths, file names, numbers, or globs.", show_default=False),
]
Yes = Annotated[bool, typer.Option("--yes", help="Do it without asking.")]
Number = Annotated[
    int | None, typer.Argument(metavar="[NUMBER]", help="The receipt of the culling; the latest if not given.")
]
_FEW = 5
_WHICH = "Name some; or say which, as --shoot '2026-05*' --number 12-40, or --marked."


@app.command("mark")
@selecting()
def mark(
    frames: Frames = None,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Mark frames to be culled. Nothing leaves yet. A mark is the XMP rating -1, which other programs know as a reject."""
    from bramblemoor.library.sayings import MARK

    _say(some_meant(frames, selection, _WHICH), MARK, library_dir, yes=yes, json=json)


@app.command("unmark")
@selecting()
def unmark(
    frames: Frames = None,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Take the mark off frames. They have again the rating that they had before."""
    from bramblemoor.library.sayings import UNMARK

    _say(some_meant(frames, selection, _WHICH), UNMARK, library_dir, yes=yes, json=json)


@app.command("marks")
def take_marks(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A marks file, as a page for culling saves it.")],
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Take in a marks file: what was marked, rated and written while looking through a page."""
    from bramblemoor.library.marks import read_marks
    from bramblemoor.library.telling import tell_each
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace()
    with holding(library):
        words, unknown = read_marks(library, file)
        if not words:
            raise WrongUse(f"{file} says nothing of any frame here.", "Nothing was changed.")
        with stoppable(pace), say.meter() as progress:
            receipt = tell_each(library, words, f"the marks file {file.name}", progress, pace)
    if pace.stopped:
        end_stopped("What was told is told; the same command goes on with the rest.", receipt, json=json)
    if unknown and not json:
        say.note(f"{say.many(len(unknown), 'frame')} of the file are not here any more, as {unknown[0]}.")
    finish_told(receipt, json=json, attention=bool(unknown))


@app.command("page")
@selecting()
def page(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="A new or empty folder for the page.")],
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Write a page to cull by eye, as of a shoot: it opens in any browser, and saves a marks file for cull marks.

    Keys mark, rate and caption; two frames can stand side by side. Raws and films are shown by their previews.
    """
    from bramblemoor.library.giving import new_folder
    from bramblemoor.library.selection import select
    from bramblemoor.looking.cull_page import write_cull_page

    library = library_here(library_dir)
    selected = select(library, some_meant(None, selection, _WHICH))
    with say.meter() as progress:
        try:
            with new_folder(folder) as fresh:
                size = write_cull_page(selected, fresh, progress)
        except OSError as error:
            raise NotPossible(
                f"The page cannot be written to {folder} ({error.strerror}).",
                "Make room there, or name another folder.",
            ) from error
    if json:
        say.as_json({"folder": str(folder.resolve()), "frames": selected.count, "bytes": size})
        return
    say.line(f"{say.many(selected.count, 'frame')}, {say.size(size)}: {folder / 'index.html'}")
    say.line("Open it in a browser; what you save there is taken in by: bramblemoor cull marks FILE")


@app.command("list")
def list_culled(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List what is marked, and what was taken out and can still come back."""
    from bramblemoor.library.culled import batches
    from bramblemoor.library.find import count
    from bramblemoor.library.selection import Selection, located_in

    library = library_here(library_dir)
    marked = count(library, located_in(library, Selection(marked=True)))
    set_aside = batches(library)
    if json:
        say.as_json({
            "marked": marked,
            "culled": [
                {"receipt": one.number, "finished": one.at or None, "frames": one.amount.frames, "files": one.amount.files,
                 "bytes": one.amount.bytes, "frames_alone": one.alone}
                for one in set_aside
            ],
        })  # fmt: skip
        return
    say.line(f"{say.many(marked, 'frame')} of {whose(library)} {'is' if marked == 1 else 'are'} marked to be culled.")
    if marked:
        say.line("To look at them: bramblemoor find --marked. To take them out: bramblemoor cull remove --marked")
    if set_aside:
        say.line()
        say.table(
            ("receipt", "culled", "frames", "size", "nowhere else"),
            [
                (f"{one.number}", moment(one.at) if one.at else "", f"{one.amount.frames:,}", say.size(one.amount.bytes),
                 say.dash(one.alone))
                for one in set_aside
            ],
            right=(0, 2, 3, 4),
        )  # fmt: skip
        say.line(
            "To bring a batch back: bramblemoor cull undo NUMBER. To delete it for good: bramblemoor cull purge NUMBER"
        )


@app.command("remove")
@selecting()
def remove(
    frames: Frames = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what would leave.")] = False,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Take frames out of the library, each with all its files; usually those that are marked: cull remove --marked.

    They are set aside, and come back as they were by cull undo, until cull purge deletes them. At depots they are moved to
    earlier/ by the next backup, and stay there as long as the depot keeps earlier versions.
    """
    from bramblemoor.library.culling import cull, plan_removal
    from bramblemoor.library.selection import select

    library = library_here(library_dir)
    with holding(library) as ended:
        if ended is not None:
            finish(ended, json=json, attention=bool(ended.left_out))
            return
        selected = select(library, some_meant(frames, selection, _WHICH))
        planned = plan_removal(selected)
        if json and dry_run:
            say.as_json({
                "dry_run": True, "frames": planned.amount.frames, "files": planned.amount.files, "bytes": planned.amount.bytes,
                "frames_alone": len(planned.alone),
            })  # fmt: skip
            return
        if not json:
            _print_removal(library, selected, planned)
        if dry_run:
            say.line("Nothing was taken out (--dry-run).")
            return
        if planned.amount.frames:
            require_consent("Take them out?", f"{say.many(planned.amount.frames, 'frame')} would be taken out", yes=yes)
        with say.meter() as progress:
            receipt = cull(library, selected, progress)
    if not json:
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out))


@app.command("undo")
def undo(number: Number = None, library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Bring back what was taken out, with all that was known of it."""
    from bramblemoor.library.culled import put_back

    library = library_here(library_dir)
    with holding(library) as ended:
        receipt = ended or put_back(library, number)
    finish(receipt, json=json, attention=bool(receipt.left_out))


@app.command("purge")
def purge(
    numbers: Annotated[
        list[int] | None, typer.Argument(metavar="[NUMBER]...", help="Receipts of cullings; all if not given.")
    ] = None,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Delete for good what was taken out of the library. Copies at depots stay as long as those keep earlier versions."""
    from bramblemoor.library.culled import batches, discard

    library = library_here(library_dir)
    with holding(library) as ended:
        if ended is not None:
            finish(ended, json=json, attention=False)
            return
        known = {one.number: one for one in batches(library)}
        wanted = [known[number] for number in numbers or known if number in known]
        if missing := [number for number in numbers or () if number not in known]:
            raise WrongUse(
                f"Receipt {missing[0]} has culled nothing that is still set aside.", "See: bramblemoor cull list."
            )
        if not wanted:
            raise WrongUse("Nothing that was culled is set aside.", "There is nothing to delete.")
        frames, alone = sum(one.amount.frames for one in wanted), sum(one.alone for one in wanted)
        size = sum(one.amount.bytes for one in wanted)
        if not json:
            say.line(
                f"{say.many(frames, 'frame')}, {say.size(size)}, will be deleted for good; nothing brings them back."
            )
            if alone:
                say.line(
                    f"Of {say.many(alone, 'frame')} of these no other copy is known anywhere: this is the last.",
                    "amiss",
                )
        require_consent(
            "Delete them?", f"{say.many(frames, 'frame')} would be deleted for good", yes=yes, or_dry_run=False
        )
        receipt = discard(library, [one.number for one in wanted])
    finish(receipt, json=json, attention=False)


def _say(selection: "Selection", word: "Word", library_dir: Path | None, *, yes: bool, json: bool) -> None:
    from bramblemoor.library.find import count
    from bramblemoor.library.selection import EVERYTHING, located_in, select
    from bramblemoor.library.telling import go_on, tell
    from bramblemoor.library.telling_runs import goes_on
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace()
    with holding(library), stoppable(pace), say.meter() as progress:
        if goes_on(library):
            finish_told(go_on(library, selection, [word], progress, pace), json=json)
            return
    with holding(library), stoppable(pace):
        selected = select(library, selection)
        if selected.count > 1 and selected.count == count(library, located_in(library, EVERYTHING)):
            every = f"That is every frame of the library ({selected.count:,})"
            require_consent(f"{every}. Go on?", every, yes=yes, or_dry_run=False)
        with say.meter() as progress:
            receipt = tell(library, selected, [word], progress, pace)
    if pace.stopped:
        end_stopped("What was told is told; the same command goes on with the rest.", receipt, json=json)
    finish_told(receipt, json=json)


def _print_removal(library: "Library", selected: "Selected", planned: "Removal") -> None:
    amount = planned.amount
    say.line(f"{selected.said} in {whose(library)}:")
    say.line(f"{say.many(amount.frames, 'frame')}, {say.many(amount.files, 'file')}, {say.size(amount.bytes)} will leave the"
             " library, and be set aside.", inward=2)  # fmt: skip
    for year, count in sorted(planned.bound.items()):
        say.line(f"{say.many(count, 'frame')} will stay: {year} is bound (bramblemoor unbind {year}).", inward=2)
    if planned.alone:
        say.line(
            f"Of {say.many(len(planned.alone), 'frame')} no depot has a good copy: what is set aside will be the last.", "amiss",
            inward=2,
        )  # fmt: skip
        for path in planned.alone[:_FEW]:
            say.line(path, inward=4)
        if len(planned.alone) > _FEW:
            say.line(f"... and {len(planned.alone) - _FEW:,} more", inward=4)


COMMANDS = {"cull": app}
