"""lend: out, back, list."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent, some_meant
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, stoppable, whose
from bramblemoor.cli.library.receipts import print_receipt, run_document
from bramblemoor.cli.options import selecting

if TYPE_CHECKING:
    from collections.abc import Sequence

    from bramblemoor.intake.lending import Lent
    from bramblemoor.intake.lent_back import Back
    from bramblemoor.library.selection import Selection

app = group("lend", "Out and back: small copies for somebody to work on, and what comes back joined to its frames.")
Name = Annotated[str, typer.Argument(metavar="NAME", help="To whom, or for what: to know it by when it comes back.")]
Frames = Annotated[list[str] | None, typer.Argument(metavar="[FRAME]...", show_default=False)]
Longest = Annotated[int, typer.Option("--longest", metavar="PIXELS", help="Of the longer side.", min=200, max=20_000)]
Quality = Annotated[int, typer.Option("--quality", metavar="1-95", help="Of the JPEGs.", min=1, max=95)]
Every = Annotated[bool, typer.Option("--all", help="Name every one, not just a few.")]
_FEW = 12


@app.command("out")
@selecting()
def out(
    name: Name,
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="A new or empty folder.")],
    frames: Frames = None,
    longest: Longest = 2400,
    quality: Quality = 88,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Write small copies of frames for somebody to work on.

    They are JPEGs with what is known inside, and it is noted that they are lent, as by: bramblemoor lend out ada ~/for-ada
    --shoot '*Reed cutting*'. Films are not lent. Whoever works on them may write XMP, save pictures anew, or in other formats,
    and add to their names: by these, what comes back is known.
    """
    from bramblemoor.intake.lending import lend
    from bramblemoor.library.selection import select

    library = library_here(library_dir)
    chosen = some_meant(frames, selection, "Name some; or say which, as --rating 4 ('*' is every frame).")
    with holding(library), say.meter() as progress:
        lending, left = lend(select(library, chosen), name, folder, longest, quality, progress)
    size = sum((folder / one.name).stat().st_size for one in lending.frames)
    if json:
        say.as_json(
            {"lent": name, "folder": lending.folder, "frames": len(lending.frames), "bytes": size, "left_out": left}
        )
        return
    say.line(
        f"{say.many(len(lending.frames), 'small copy', 'small copies')}, {say.size(size)}, for {name} in {folder}."
    )
    if left:
        say.line(f"Not lent, as films, or as nothing can be shown of them: {', '.join(left[:_FEW])}" + _more(len(left)))
    say.line(f"When they are back: bramblemoor lend back {name!r} DIR")


def _more(count: int) -> str:
    return f" and {count - _FEW:,} more" if count > _FEW else ""


@app.command("back")
def back(
    name: Name,
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="Where what came back lies.")],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only look what came back.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Join it without asking.")] = False,
    every: Every = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Join what came back to its frames.

    Words become yours, an editor's instructions come into the sidecar, and pictures that were worked on beside their originals,
    as renditions. Nothing is replaced: where you have said something else meanwhile, that stays, and is told. The folder is
    only read.
    """
    from bramblemoor.intake.lending import lending_called
    from bramblemoor.intake.lent_back import look_back, take_back_in
    from bramblemoor.library.telling_runs import goes_on
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace()
    with holding(library):
        lending = lending_called(library, name)
        with say.meter() as progress:
            found = look_back(library, lending, folder, progress)
        if not json:
            _print_back(found, every)
        if dry_run:
            if json:
                say.as_json(_document(found) | {"dry_run": True})
            else:
                say.line("Nothing was joined (--dry-run).")
            return
        if found.nothing_new and not found.newly_back and not goes_on(library):
            if json:
                say.as_json(_document(found) | {"nothing_to_do": True})
            else:
                say.line("There is nothing new in it.")
            return
        if not found.nothing_new:
            require_consent(
                "Join these?",
                f"{say.many(_touched(found), 'frame')} would be added to",
                yes=yes,
                undone="Nothing was joined.",
            )
        with stoppable(pace), say.meter() as progress:
            receipt, told = take_back_in(library, found, folder, progress, pace)
    if json:
        say.as_json(run_document(receipt) | _document(found) | {"words_receipt": told.number if told else None})
    else:
        say.line()
        print_receipt(receipt)
        if told is not None:
            say.line(f"What was told by it is taken back by: bramblemoor takeback {told.number}")
    if any(one.attention for one in receipt.findings) or not receipt.balanced:
        raise typer.Exit(1)


def _touched(found: "Back") -> int:
    return len({*found.words, *found.looks, *(frame for frame, *_ in found.renditions)})


def _print_back(found: "Back", every: bool) -> None:
    count = len(found.lending.frames)
    say.line(f"Of {say.many(count, 'copy', 'copies')} lent as {found.lending.name} on {found.lending.lent[:10]}:")
    rows = [
        ("came back now", len(found.returned)), ("with new words", len(found.words)),
        ("with an editor's instructions", len(found.looks)), ("pictures that were worked on", len(found.renditions)),
        ("still out", len(found.still_out)),
    ]  # fmt: skip
    say.table(("", "frames"), [(what, say.dash(number)) for what, number in rows], right=(1,))
    _print_out(found.still_out, every)
    if found.left:
        say.line()
        say.line("These are not joined:")
        for one in found.left[: None if every else _FEW]:
            say.line(f"{one.name}: {one.reason}", inward=2)
        if not every and len(found.left) > _FEW:
            say.line(f"... and {len(found.left) - _FEW:,} more (--all)", inward=2)


def _print_out(still: "Sequence[Lent]", every: bool) -> None:
    if not still:
        return
    say.line()
    say.line("Not back yet:")
    for one in still[: None if every else _FEW]:
        say.line(f"{one.name}, of {one.path}", inward=2)
    if not every and len(still) > _FEW:
        say.line(f"... and {len(still) - _FEW:,} more (--all)", inward=2)


def _document(found: "Back") -> "dict[str, object]":
    return {
        "lent": found.lending.name, "returned": sorted(found.returned), "still_out": [one.name for one in found.still_out],
        "with_words": len(found.words), "with_instructions": len(found.looks),
        "renditions": [path for *_, path in found.renditions],
        "not_joined": [{"name": one.name, "reason": one.reason} for one in found.left],
    }  # fmt: skip


@app.command("list")
def list_lent(
    name: Annotated[
        str, typer.Argument(metavar="[NAME]", help="Only this, with all that is out.", show_default=False)
    ] = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """List what was lent, and what of it is not back."""
    from bramblemoor.intake.lending import lending_called, lendings

    library = library_here(library_dir)
    found = [lending_called(library, name)] if name else lendings(library)
    if json:
        say.as_json({"lent": [
            {"name": one.name, "lent": one.lent, "folder": one.folder, "frames": len(one.frames),
             "still_out": [each.name for each in one.out]}
            for one in found
        ]})  # fmt: skip
    elif not found:
        say.line(f"{whose(library)} has lent nothing. To lend some frames: bramblemoor lend out NAME DIR FRAME")
    else:
        say.table(
            ("lent as", "on", "frames", "still out", "to"),
            [(one.name, one.lent[:10], f"{len(one.frames):,}", say.dash(len(one.out)), one.folder) for one in found],
            right=(2, 3), wraps=4,
        )  # fmt: skip
        if name:
            _print_out(found[0].out, True)


COMMANDS = {"lend": app}
