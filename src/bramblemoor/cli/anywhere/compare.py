"""compare."""

from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single
from bramblemoor.cli.exports.signed_in import Patience, sign_in
from bramblemoor.errors import WrongUse
from bramblemoor.library.folding import suggestion
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.services.comparing import Comparison, Side, State

LIBRARY = "library"
_MOST = 20
_SIDE = "A service, library, or a folder; with a folder in it, as stonewharf/Valley."


def compare(
    first: Annotated[str, typer.Argument(metavar="ONE", help=_SIDE)],
    second: Annotated[str, typer.Argument(metavar="OTHER", help="The same.")],
    read: Annotated[
        bool, typer.Option("--read", help="Fetch and read what only its size tells; else that is said of it.")
    ] = False,
    sidecars: Annotated[bool, typer.Option("--sidecars/--no-sidecars", help="Compare sidecars, too.")] = True,
    every: Annotated[
        bool, typer.Option("--all", help=f"Name all files that are not the same, not {_MOST} at most.")
    ] = False,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Compare two trees side by side: only here, only there, different, the same.

    Ends with 1 where they are not the same.
    """
    from bramblemoor.services.comparing import Comparison

    library = library_here(library_dir)
    sides = [_side(library, said, patience) for said in (first, second)]
    with say.meter() as progress:
        comparison = Comparison(sides[0], sides[1], progress, sidecars=sidecars)
    with closing(comparison):
        unread: list[tuple[str, str]] = []
        if read:
            with say.meter() as progress:
                unread = comparison.read_undecided(progress)
        counts = comparison.counts()
        if json:
            _as_json(comparison, every)
        else:
            _print(comparison, unread, every=every)
    if unread or any(counts.get(state, (0, 0))[0] for state in ("differs", "only first", "only second")):
        raise typer.Exit(1)


def _side(library: Library, said: str, patience: float) -> "Side":
    from bramblemoor.services.book import service_named, services
    from bramblemoor.services.comparing import side_of_folder, side_of_library, side_of_service
    from bramblemoor.services.interface import Tree

    name, _, below = said.strip("/").partition("/")
    if name == LIBRARY and not said.startswith(("/", ".")):
        return side_of_library(library, below)
    known = {one.name for one in services(library)}
    if name in known and not said.startswith(("/", ".")):
        service = service_named(library, name)
        account = sign_in(library, service, patience)
        if not isinstance(account, Tree):
            raise WrongUse(f"{name} shows no folders.", f"See what it holds: bramblemoor service survey {name}.")
        return side_of_service(library, name, account, below, service.options.get("lists", ""))
    if Path(said).is_dir():
        return side_of_folder(Path(said))
    raise WrongUse(f"{said!r} is no service here, and no folder.", suggestion(name, [LIBRARY, *known]))


def _titles(comparison: "Comparison") -> "dict[State, str]":
    one, other = (side.name for side in comparison.sides)
    return {
        "same": "the same, by digest",
        "same size": "of the same size, not read",
        "differs": "different",
        "only first": f"only in {one}",
        "only second": f"only in {other}",
    }


def _print(comparison: "Comparison", unread: list[tuple[str, str]], *, every: bool) -> None:
    one, other = (side.name for side in comparison.sides)
    (files, size), (more_files, more_size) = comparison.totals()
    say.line(f"{one} has {say.many(files, 'file')}, {say.size(size)}; {other} {more_files:,}, {say.size(more_size)}.")
    say.line()
    folders, counts = list(comparison.folders()), comparison.counts()
    heads = dict(zip(_titles(comparison), ("same", "same size", "differ", "only left", "only right"), strict=True))
    shown = [state for state in heads if counts.get(state, (0, 0))[0]]
    say.table(
        ("folder", one, other, *(heads[state] for state in shown)),
        [
            (pair.path or "(not in a folder)", *map(_amount, pair.files, pair.bytes),
             *(say.dash(pair.states.get(state, 0)) for state in shown))
            for pair in folders
        ],
        right=tuple(range(1, 3 + len(shown))),
    )  # fmt: skip
    say.line()
    for state, title in _titles(comparison).items():
        count, amount = counts.get(state, (0, 0))
        if not count:
            continue
        say.line(f"{count:,} {title} ({say.size(amount)})" + (":" if state not in ("same", "same size") else "."))
        if state in ("same", "same size"):
            continue
        for pair in comparison.pairs(state, -1 if every else _MOST):
            sizes = (
                f"  ({say.size(pair.bytes[0] or 0)} and {say.size(pair.bytes[1] or 0)})" if state == "differs" else ""
            )
            say.line(f"  {pair.path}{sizes}")
        if count > _MOST and not every:
            say.line(f"  and {count - _MOST:,} more; name them with --all")
    for path, why in unread:
        say.line(f"Not read: {path}: {why}.")
    if counts.get("same size", (0, 0))[0]:
        say.line("To read those of which only the size is known: the same command with --read.")
    elif not any(counts.get(state, (0, 0))[0] for state in ("differs", "only first", "only second")):
        say.line("Both are the same.")
    if LIBRARY in (one.partition("/")[0], other.partition("/")[0]) and counts.get("differs", (0, 0))[0]:
        say.line("Sidecars in the library grow with what is known of a picture; --no-sidecars leaves them out.")


def _amount(files: int, size: int) -> str:
    return f"{files:,}, {say.size(size)}" if files else "-"


def _as_json(comparison: "Comparison", every: bool) -> None:
    totals = comparison.totals()
    counts = comparison.counts()
    told: dict[str, Any] = {
        "sides": [
            {"side": side.name, "files": files, "bytes": size}
            for side, (files, size) in zip(comparison.sides, totals, strict=True)
        ],
        "compared": [
            {"state": state, "files": counts.get(state, (0, 0))[0], "bytes": counts.get(state, (0, 0))[1],
             "named": [pair.path for pair in comparison.pairs(state, -1 if every else _MOST)] if "same" not in state else []}
            for state in _titles(comparison)
        ],
    }  # fmt: skip
    say.as_json(told)


COMMANDS = {"compare": single("compare", compare)}
