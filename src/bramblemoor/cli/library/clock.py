"""clock."""

from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single, whose


def clock(
    right: Annotated[bool, typer.Option("--right", help="Say that the clock is right as it is now.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Compare the system's clock with the last run. By it readings grow old, and what was kept long enough is deleted."""
    from bramblemoor.library.clock import believe, day

    library = library_here(library_dir)
    if right:
        with holding(library):
            with library.ledger.changing() as db:
                believe(db)
            library.clock = library.read_clock()
    found = library.read_clock()
    if json:
        say.as_json({"now": day(found.now), "last_run": day(found.last), "in_doubt": found.in_doubt})
    elif found.in_doubt:
        say.line(f"{whose(library)}: {found.said()}.")
    else:
        last = f"the last run was on {day(found.last)}" if found.last else "there was no run yet"
        say.line(f"{whose(library)}: the clock says {day(found.now)}, and {last}. Nothing speaks against it.")
    if found.in_doubt:
        raise typer.Exit(1)


COMMANDS = {"clock": single("clock", clock)}
