"""merge."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.cards.intake import agreed, carry_out, exit_by, finish, print_plan
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single

if TYPE_CHECKING:
    from bramblemoor.intake.interface import Plan, Wishes
    from bramblemoor.library.home import Library


def merge(
    other: Annotated[
        Path, typer.Argument(metavar="LIBRARY", help="The folder of the library that was made elsewhere.")
    ],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only look, and show the plan.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Carry the plan out without asking.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Take another library into this one, as one that was made on the road: frames, all that is known of them, albums, marks.

    What both have stays once, and what is known of it there is added; where you said something here and something else there,
    what you said here stays, and both are told. The other library is only read. Ctrl-C stops in good order; the same command
    goes on, and a second run finds nothing to do.
    """
    from bramblemoor.intake.interface import Wishes

    library = library_here(library_dir)
    wishes = Wishes(source=str(other.resolve()), merge=True)
    with holding(library):
        if dry_run:
            print_plan(library, _planned(library, wishes), (), json=json)
            if not json:
                say.line("Nothing was merged (--dry-run).")
            return
        plan, resumed = agreed(library, wishes, _planned, (), yes=yes, json=json)
        if plan is None:
            return
        ended = carry_out(library, plan, (), resumed=resumed)
    finish(ended, json=json)
    if not json and not ended.unfinished:
        say.line()
        say.line("Nothing was changed in the other library. Copies follow: bramblemoor backup")
    exit_by(ended)


def _planned(library: "Library", wishes: "Wishes") -> "Plan":
    from bramblemoor.intake.merging import plan_merge

    with say.meter() as progress:
        return plan_merge(library, wishes, progress)


COMMANDS = {"merge": single("merge", merge)}
