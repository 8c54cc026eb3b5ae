"""restore."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import (
    AsJson,
    LibraryDir,
    holding,
    know_stand_ins,
    library_here,
    single,
    whose,
)
from bramblemoor.cli.library.receipts import finish
from bramblemoor.cli.options import selecting
from bramblemoor.errors import BramblemoorError, DepotTrouble, WrongUse

if TYPE_CHECKING:
    from bramblemoor.depots.restore import Holder
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selection

_OTHERS = "Other depots become known again with: bramblemoor depot add NAME FOLDER."


@selecting()
def restore(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="Where to; for a whole library a new folder.")],
    depots: Annotated[
        list[str] | None,
        typer.Option(
            "--from",
            metavar="DEPOT",
            help="A depot's folder or name, or an archive's folder; give more to fall back on, best first.",
        ),
    ] = None,
    as_of: Annotated[
        str,
        typer.Option(
            "--as-of",
            metavar="DATE",
            help="As it stood at the depot at the end of that day, or at 2026-05-09T14:30 (UTC).",
        ),
    ] = "",
    ledger_only: Annotated[
        bool, typer.Option("--ledger-only", help="Only give the library in DIR the ledger that lies at a depot.")
    ] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Bring a whole library back from depots or an archive, or some of it. Overwrites nothing.

    Whole: restore DIR --from DEPOT; it needs nothing but the depots. Some: restore DIR --year 2024, from the nearest good
    copies of the library you are in, or --from a depot. What is damaged at one depot is taken from the next.
    """
    from bramblemoor.depots.restore import is_restored
    from bramblemoor.depots.restore import restore as run

    know_stand_ins()
    if not selection.everything or as_of:
        _some(folder, depots or [], selection, as_of, library_dir, json=json)
        return
    if not depots:
        raise WrongUse("Say from which depot.", "Give its folder: --from DEPOT; or say what you want, as --year 2024.")
    sources = _sources(depots, _library_if_any(library_dir))
    if ledger_only:
        _ledger(folder, sources, json=json)
        return
    if is_restored(folder, sources[0]):
        if json:
            say.as_json({"folder": str(folder), "nothing_to_do": True})
        else:
            say.line(f"{folder} is that library already; nothing was changed.")
            say.line(f"To see whether every file in it is sound: bramblemoor --library {folder} verify library.")
        return
    with say.meter() as progress:
        library, receipt = run(folder, sources, progress)
    say.about(library.name, library.root)
    if not json:
        say.line(f"Restored {whose(library)}.")
        say.line(_OTHERS)
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out or receipt.findings))


def _ledger(folder: Path, sources: "list[Holder]", *, json: bool) -> None:
    """Give a library the ledger that lies at depots. Raises WrongUse for volumes of an archive."""
    from bramblemoor.depots.bag.depot import Depot
    from bramblemoor.depots.restore import restore_ledger

    depots = [source for source in sources if isinstance(source, Depot)]
    if len(depots) < len(sources):
        raise WrongUse("The whole ledger lies at depots only; a volume has its share.", "Name a depot.")
    library = restore_ledger(folder, depots)
    say.about(library.name, library.root)
    if json:
        say.as_json({"ledger_only": True, "at": [depot.name for depot in depots]})
        return
    say.line(f"{whose(library)} has the ledger of {', '.join(depot.name for depot in depots)} again.")
    say.line(_OTHERS)
    say.line("Next: bramblemoor stocktake, to see what has happened since; then bramblemoor verify.")


def _some(
    folder: Path, names: list[str], selection: "Selection", as_of: str, library_dir: Path | None, *, json: bool
) -> None:
    from contextlib import nullcontext

    from bramblemoor.depots.bag.contents import NOW
    from bramblemoor.depots.restore_some import restore_some
    from bramblemoor.library.dates import moment_named

    moment = moment_named(as_of) if as_of else NOW
    library = _library_if_any(library_dir)
    if library is None and not names:
        library = library_here(library_dir)  # says what is wrong
    sources = _sources(names, library)
    with say.meter() as progress, holding(library) if library else nullcontext():
        receipt = restore_some(folder, sources, selection, library, progress, moment, as_they_hold=bool(names))
    if not json:
        say.line(f"Restored to {folder}, under the paths of the library.")
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out or receipt.findings))


def _library_if_any(library_dir: Path | None) -> "Library | None":
    """The library here, which knows depots by name; there may be none left that can be opened."""
    try:
        library = library_here(library_dir)
    except BramblemoorError:
        return None
    return None if library.read_only else library


def _sources(names: list[str], library: "Library | None") -> "list[Holder]":
    """The depots of those folders or names; without any, all that are within reach, those at the library's site first."""
    from bramblemoor.depots.register.known import depots_named, known_depots
    from bramblemoor.depots.register.register import open_known
    from bramblemoor.depots.restore import sources_at

    if library is None:
        return sources_at([Path(name) for name in names])
    known = {one.name for one in known_depots(library)}
    if names:
        return [
            open_known(library, depots_named(library, [name])[0]) if name in known else sources_at([Path(name)])[0]
            for name in names
        ]
    opened: list[Holder] = []
    missed: list[tuple[str, str]] = []
    home = library.settings.library.site
    for one in sorted(depots_named(library, []), key=lambda depot: (depot.site != home, depot.number)):
        try:
            opened.append(open_known(library, one))
        except DepotTrouble as trouble:
            missed.append((one.name, trouble.happened))
    say.passed_over(missed)
    if not opened:
        raise DepotTrouble("No depot is within reach.", "Plug a drive in, and run the same command again.")
    return opened


COMMANDS = {"restore": single("restore", restore)}
