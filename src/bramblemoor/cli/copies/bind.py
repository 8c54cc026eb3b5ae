"""bind, bind list, free, unbind."""

from contextlib import ExitStack
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import (
    AsJson,
    LibraryDir,
    holding,
    know_stand_ins,
    library_here,
    open_depots,
    single,
    stoppable,
    whose,
)
from bramblemoor.cli.library.receipts import finish, print_receipt, run_document
from bramblemoor.errors import WrongUse

Year = Annotated[int, typer.Argument(metavar="YEAR", help="Which year.")]


def bind(
    year: Annotated[int, typer.Argument(metavar="YEAR", help="Which year.")],
    at: Annotated[
        list[str] | None, typer.Option("--at", metavar="DEPOT", help="At which depots; may be repeated.")
    ] = None,
    yes: Annotated[bool, typer.Option("--yes", help="Go on although much was changed or removed by others.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Put a year away: prove by reading that library and depots hold the very same, then fix it.

    A later change of a bound year is a finding. The year stays on the working drive until it is freed.
    """
    from bramblemoor.depots.binding import bind as run
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    if not at:
        raise WrongUse("Say at which depots.", f"As in: bramblemoor bind {year} --at heron --at otter.")
    pace = Pace()
    with (
        holding(library), open_depots(library, at) as (opened, _), stoppable(pace), say.meter() as progress,
    ):  # fmt: skip
        receipt, bound = run(library, year, opened, progress, pace, yes=yes)
    if json:
        say.as_json(run_document(receipt) | {"is_bound": bound, "stopped": pace.stopped})
    else:
        names = ", ".join(depot.name for depot in opened)
        if bound:
            say.line(f"{year} is bound: {whose(library)} and the depots {names} hold the very same.")
        else:
            say.line(f"{year} was NOT bound: not everything was read and found identical.")
        say.line()
        print_receipt(receipt)
        if bound:
            say.line()
            say.line(f"Next: bring the receipt and the ledger to the depots: bramblemoor backup {' '.join(at)}.")
            say.line(f"When the working drive needs the room: bramblemoor free {year}.")
    if not bound:
        raise typer.Exit(130 if pace.stopped else 1)


def list_bound(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the bound years: since when, at which depots, and whether they are still on the working drive."""
    from bramblemoor.depots.binding import bound_years

    library = library_here(library_dir)
    years = bound_years(library)
    if json:
        say.as_json({"years": [
            {"year": one.year, "bound_on": one.at, "at": list(one.depots), "freed_on": one.freed, "receipt": one.receipt}
            for one in years
        ]})  # fmt: skip
        return
    if not years:
        say.line(f"No year of {whose(library)} is bound. To bind one: bramblemoor bind YEAR --at DEPOT --at DEPOT.")
        return
    say.table(
        ("year", "bound on", "at", "on the working drive"),
        [
            (str(one.year), one.at[:10], ", ".join(one.depots), f"freed on {one.freed[:10]}" if one.freed else "yes")
            for one in years
        ],
    )
    say.line(f"{say.many(len(years), 'year')} of {whose(library)}. To work on one: bramblemoor unbind YEAR.")


def free(
    year: Year,
    yes: Annotated[bool, typer.Option("--yes", help="Do it without asking.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Delete a bound year from the working drive, once enough copies elsewhere were read back. Asks first.

    The library still finds its frames, and says which drive to fetch.
    """
    from bramblemoor.depots.binding import bound_years
    from bramblemoor.depots.binding import free as run

    know_stand_ins()
    library = library_here(library_dir)
    bound = next((one for one in bound_years(library) if one.year == year), None)
    where = f", as it lies at {', '.join(bound.depots)}" if bound else ""
    if bound and not yes and not say.confirmed(f"Delete {year} from {library.root}{where}?"):
        say.note("Nothing was deleted.")
        raise typer.Exit(1)
    with holding(library), say.meter() as progress:
        receipt = run(library, year, progress)
    if not json and bound:
        say.line(f"{year} has left the working drive. It is at: {', '.join(bound.depots)}.")
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out))


def unbind(
    year: Year,
    depots: Annotated[
        list[str] | None,
        typer.Option("--from", metavar="DEPOT", help="From this depot; all within reach if not given."),
    ] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Open a bound year for work: bring it back to the working drive. Its depots follow with the next backup."""
    from bramblemoor.depots.binding import unbind as run

    library = library_here(library_dir)
    with ExitStack() as stack:
        stack.enter_context(holding(library))
        opened, _ = stack.enter_context(open_depots(library, depots or (), to_write=False))
        progress = stack.enter_context(say.meter())
        receipt, complete = run(library, year, opened, progress)
    if not json:
        if complete:
            say.line(
                f"{year} is open for work. When done: bramblemoor backup, then bramblemoor bind {year} --at DEPOT."
            )
        else:
            say.line(f"{year} stays bound: not all of it could be had. Attach a drive that has it, and run this again.")
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out))


COMMANDS = {
    "bind": single("bind", bind),
    "bind list": single("bind list", list_bound),
    "free": single("free", free),
    "unbind": single("unbind", unbind),
}
