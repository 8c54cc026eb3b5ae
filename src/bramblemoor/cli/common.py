"""What the commands share: the library they work on, and their common options."""

from pathlib import Path
from typing import Annotated

import typer

from bramblemoor.library.home import Library, find_library

LibraryDir = Annotated[
    Path | None,
    typer.Option(
        "--library", metavar="DIR", envvar="BRAMBLEMOOR_LIBRARY", help="The library to use.", show_default=False
    ),
]
AsJson = Annotated[bool, typer.Option("--json", help="Print one JSON document instead.")]


def single(name: str, function: object) -> typer.Typer:
    """One command, as the lazy command list wants it."""
    wrapped = typer.Typer(rich_markup_mode=None, add_completion=False, pretty_exceptions_enable=False)
    wrapped.command(name, context_settings={"help_option_names": ["-h", "--help"]})(function)  # type: ignore[type-var]
    return wrapped


def group(name: str, text: str) -> typer.Typer:
    """A command with commands of its own."""
    return typer.Typer(
        name=name,
        help=text,
        rich_markup_mode=None,
        add_completion=False,
        pretty_exceptions_enable=False,
        no_args_is_help=True,
        context_settings={"help_option_names": ["-h", "--help"]},
    )


def library_here(named: Path | None) -> Library:
    """Raises NoLibrary where there is none."""
    return find_library(named, Path.cwd())


def whose(library: Library) -> str:
    """Every report says which library it is about."""
    home = Path.home()
    where = str(Path("~") / library.root.relative_to(home)) if library.root.is_relative_to(home) else str(library.root)
    return f"{library.name} ({'a copy, ' if library.at_depot else ''}{where})"


def know_stand_ins() -> None:
    """Make the simulated drives known; only the command line does so."""
    from bramblemoor.depots.kinds import add_kind
    from bramblemoor.standins.drives import StandInDrive

    add_kind(StandInDrive)
