"""earlier, purge."""

from datetime import timedelta
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, depot_at, holding, library_here, open_depots, single, whose
from bramblemoor.cli.library.receipts import moment, print_receipt, run_document
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.receipts import stamp

_FEW = 10

Depot = Annotated[str, typer.Argument(metavar="DEPOT", help="Which depot.")]


def earlier(
    depot: Depot,
    of: Annotated[str, typer.Option("--of", metavar="TEXT", help="Only files with this in their path.")] = "",
    since: Annotated[str, typer.Option(metavar="DATE", help="Only what was set aside on or after.")] = "",
    most: Annotated[int, typer.Option(min=1, help="Show so many at most.")] = 100,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """List the earlier versions and removed files that a depot holds: when and why each was set aside, and where it lies."""
    from bramblemoor.depots.bag.earlier import versions
    from bramblemoor.library.dates import first_day

    library = library_here(library_dir)
    after = first_day(since).isoformat() if since else ""
    opened = depot_at(depot, library_dir)
    found = [one for one in versions(opened.store) if of.casefold() in one.path.casefold() and one.when >= after]
    if json:
        say.as_json(
            {
                "depot": opened.name,
                "earlier": [
                    {
                        "path": one.path, "set_aside": one.when, "why": one.why, "bytes": one.bytes, "sha256": one.sha256,
                        "lies": one.lies,
                    }
                    for one in found
                ],
            }
        )  # fmt: skip
        return
    if not found:
        say.line(
            f"The depot {depot} of {whose(library)} holds no earlier versions{' like that' if of or since else ''}."
        )
        return
    say.table(
        ("set aside", "size", "why", "file"),
        [(moment(one.when), say.size(one.bytes), one.why, one.path) for one in found[-most:]],
        right=(1,), wraps=3,
    )  # fmt: skip
    shown = f" (the latest {most}; --most shows more)" if len(found) > most else ""
    size = sum(one.bytes for one in found)
    say.line(
        f"{say.many(len(found), 'file')}, {say.size(size)}, in earlier/ at the depot {depot} of {whose(library)}{shown}."
    )
    say.line("To have what stood there before a date: bramblemoor restore DIR --from FOLDER --as-of DATE.")


def purge(
    depot: Depot,
    before: Annotated[
        str, typer.Option("--before", metavar="DATE", help="Delete what was set aside before this day.")
    ] = "",
    older_than: Annotated[
        int | None, typer.Option("--older-than", metavar="DAYS", min=0, help="Or: longer ago than this.")
    ] = None,
    also_unknown: Annotated[
        bool,
        typer.Option("--also-unknown", help="Also what this library has never had; it may be somebody's only copy."),
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do it without asking.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Delete earlier versions at a depot for good. Asks first; the receipt lists every file."""
    from bramblemoor.depots.purge import purge as run
    from bramblemoor.depots.purge import set_aside_before, write_purge_receipt
    from bramblemoor.depots.register.register import finish_at, within_reach
    from bramblemoor.library.dates import first_day

    if bool(before) == (older_than is not None):
        raise WrongUse("Say from when on earlier versions are kept.", "Use --before DATE, or --older-than DAYS.")
    limit = first_day(before).isoformat() if before else stamp(now_utc() - timedelta(days=older_than or 0))
    library = library_here(library_dir)
    started = stamp(now_utc())
    with holding(library), open_depots(library, [depot]) as (opened, _):
        finish_at(library, opened[0])
        if library.clock.in_doubt and not before:
            raise NotPossible(f"Nothing was deleted: {library.clock.said()}.", "Or say a day: --before DATE.")
        due = set_aside_before(opened[0], limit)
        if not due:
            say.note(
                f"The depot {depot} holds no earlier versions "
                + (f"from before {limit[:10]}." if before else f"that were set aside {older_than} days ago or longer.")
            )
            if json:
                say.as_json({"depot": opened[0].name, "nothing_to_do": True})
            return
        size = say.size(sum(one.bytes for one in due))
        if not yes and not say.confirmed(
            f"Delete {say.many(len(due), 'earlier version')} ({size}) at the depot {depot} for good?"
            + (" What this library has never had goes, too." if also_unknown else "")
        ):
            say.note("Nothing was deleted.")
            raise typer.Exit(1)
        gone, stay = run(library, opened[0], due, within_reach(library, opened), also_unknown=also_unknown)
        receipt = write_purge_receipt(library, opened[0], gone, started)
    if json:
        say.as_json(run_document(receipt) | {"stay": [one.path for one in stay]})
    else:
        print_receipt(receipt)
        for one in stay[:_FEW]:
            say.line(f"  stays: {one.path}, set aside on {one.when[:10]}")
        if stay:
            say.line(
                f"{say.many(len(stay), 'file')} stay there: too few other drives are known to hold the same, or nobody here has"
                " ever had them (--also-unknown). To have them in the library, restore them to a folder first."
            )
    if stay:
        raise typer.Exit(1)


COMMANDS = {"earlier": single("earlier", earlier), "purge": single("purge", purge)}
