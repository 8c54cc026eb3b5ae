"""The program: which commands there are, and what a failure looks like. Each command's code is loaded when it is asked for."""

import errno
import os
import sqlite3
import sys
from collections.abc import Sequence
from difflib import get_close_matches
from importlib import import_module
from io import TextIOWrapper
from pathlib import Path
from typing import Annotated, Any, TextIO

import typer
from typer.core import TyperGroup

from bramblemoor.errors import BramblemoorError, WrongUse

# Heading, then (command, module under cli/, one line of help).
_SECTIONS: tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...] = (
    (
        "The library",
        (
            ("new", "library.frames", "Make a library."),
            ("find", "library.frames", "Find frames by words, dates, albums, keywords, people, locations."),
            ("show", "library.frames", "Show all that is known of one frame, and who says it."),
            ("tell", "library.tell", "Say what you know of frames: title, date, people, location."),
            ("unsay", "library.tell", "Take keywords and people away from frames."),
            ("takeback", "library.tell", "Take back what a run has told, by its receipt."),
            ("stocktake", "library.stocktake", "Take up what you and other programs did in its folders."),
            ("receipt", "library.receipts", "Read the balanced account of a run."),
            ("clock", "library.clock", "Compare the system's clock with the last run."),
        ),
    ),
    (
        "Out of a service",
        (
            ("service", "exports.service", "Add, list and survey cloud accounts."),
            ("order", "exports.orders", "Ask a service to prepare an export."),
            ("orders", "exports.orders", "List orders and their states."),
            ("withdraw", "exports.orders", "Withdraw an order."),
            ("fetch", "exports.collecting", "Bring a small selection home at once."),
            ("collect", "exports.collecting", "Fetch the parts of an export, resuming what broke."),
            ("dialect", "exports.dialect", "Describe how a service writes its exports: draft, try, list."),
            ("unpack", "exports.unpack", "File the pictures of an export, with everything known about them."),
        ),
    ),
    (
        "Copies",
        (
            ("depot", "copies.depots", "The places where copies are held: add, list, change, look through."),
            ("backup", "copies.keeping", "Copy the library to its depots and read every copy back."),
            ("verify", "copies.keeping", "Read copies from their media and find what is damaged or missing."),
            ("mend", "copies.keeping", "Put damaged and missing files right from good copies."),
            ("standing", "copies.standing", "Is everything safe? By year and depot; and what if one were lost."),
            ("drill", "copies.drill", "Practise a restore, and learn what it proves."),
            ("bind", "copies.bind", "Put a year away, proven identical on its depots; list the bound years."),
            ("free", "copies.bind", "Delete a bound year from the working drive."),
            ("reopen", "copies.bind", "Open a bound year for work."),
            ("shelve", "copies.shelve", "Propose which years go on which drives, with their twins."),
            ("earlier", "copies.earlier", "List earlier versions and removed files at a depot."),
            ("purge", "copies.earlier", "Delete earlier versions at a depot for good."),
            ("restore", "copies.restore", "Bring a library back from a depot, or some of it, or an earlier state."),
            ("pack", "copies.pack", "Write an archive: volumes of a given size, each complete in itself."),
            ("volumes", "copies.pack", "Read an archive's volumes, and say what is damaged or missing."),
        ),
    ),
    (
        "Try it",
        (
            ("demo", "trying.demo", "Watch the whole journey on a made-up world."),
            ("stand-in", "trying.standin", "Run a simulated service."),
        ),
    ),
)
MODULES = {name: module for _, commands in _SECTIONS for name, module, _ in commands}


class LazyCommands(TyperGroup):
    """Commands that are imported when they are used, so that help and quick commands start at once."""

    def list_commands(self, ctx: Any) -> list[str]:
        return list(MODULES)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name not in MODULES:
            return None
        commands: dict[str, typer.Typer] = import_module(f"bramblemoor.cli.{MODULES[cmd_name]}").COMMANDS
        command = typer.main.get_command(commands[cmd_name])
        command.name = cmd_name
        return command

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        if args[0] not in MODULES and not args[0].startswith("-"):
            near = get_close_matches(args[0], MODULES, 1, 0.0)[0]
            raise WrongUse(
                f"There is no command {args[0]!r}.", f"Did you mean {near}? All of them: bramblemoor --help."
            )
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        for heading, commands in _SECTIONS:
            with formatter.section(heading):
                formatter.write_dl([(name, text) for name, _, text in commands])

    def invoke(self, ctx: Any) -> Any:
        try:
            return super().invoke(ctx)
        except BramblemoorError as error:
            _complain(error.happened, error.remedy, error.named)
            raise typer.Exit(error.exit_code) from error
        except KeyboardInterrupt as error:
            _complain("Interrupted; nothing is lost.", "Run the same command again: it goes on where it stopped.")
            raise typer.Exit(130) from error
        except BrokenPipeError as error:  # the reader of our output has seen enough
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise typer.Exit(0) from error
        except OSError as error:
            where = f"{error.filename}: " if error.filename else ""
            _complain(f"{where}{error.strerror or error}.", _remedy(error))
            raise typer.Exit(3) from error
        except sqlite3.OperationalError as error:
            _complain(
                f"The library's books cannot be written ({error}).",
                "Make room on its drive, or wait for the other run to end.",
            )
            raise typer.Exit(3) from error
        except sqlite3.DatabaseError as error:
            if type(error) is not sqlite3.DatabaseError:  # a mistake of ours, not a damaged file
                raise
            _complain(
                f"The library's ledger is damaged ({error}).",
                "Write it anew from a depot: bramblemoor restore DIR --ledger-only --from DEPOT.",
            )
            raise typer.Exit(3) from error


def _remedy(error: OSError) -> str:
    """What to do about a failure of the system's."""
    from bramblemoor.disk.durable import TEMPORARY

    broken = error.errno in (errno.EIO, getattr(errno, "EUCLEAN", None))
    if broken or (error.errno == errno.ENOENT and str(error.filename).endswith(TEMPORARY)):
        return (
            "Run the same command again. If that does not help, the drive or its file system is damaged: let the system check"
            " and repair it, or use another drive."
        )
    return "Put that right and run the same command again: it goes on where it stopped."


def _complain(happened: str, remedy: str, named: Sequence[str] = ()) -> None:
    from bramblemoor.cli.say import note

    for text in (happened, *(f"  {one}" for one in named), remedy):
        note(text)


def _version(wanted: bool) -> None:
    if wanted:
        from bramblemoor import __version__

        print(f"Bramblemoor {__version__}")
        raise typer.Exit


app = typer.Typer(
    cls=LazyCommands,
    name="bramblemoor",
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    no_args_is_help=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)


@app.callback()
def root(
    library: Annotated[
        Path | None,
        typer.Option("--library", metavar="DIR", help="The library to use, wherever you are.", show_default=False),
    ] = None,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version.")
    ] = False,
) -> None:
    """Get a whole picture collection out of wherever it is, keep everything that is known about it, and be able to prove
    that three sound copies exist.

    Commands find their library from the current folder upward, by --library, or by BRAMBLEMOOR_LIBRARY.
    Exit codes: 0 all well; 1 done, and something needs attention; 2 wrong usage; 3 could not do it; 130 interrupted.
    """
    if library is not None:
        os.environ["BRAMBLEMOOR_LIBRARY"] = str(library)


def _nowhere() -> TextIO:
    return os.fdopen(os.open(os.devnull, os.O_WRONLY), "w")


def main() -> None:
    # Where the one who started it has closed them, there is nobody to tell.
    sys.stdout, sys.stderr = sys.stdout or _nowhere(), sys.stderr or _nowhere()
    if isinstance(
        sys.stdout, TextIOWrapper
    ):  # a title in any script must not stop a report where the terminal has only one
        sys.stdout.reconfigure(errors="backslashreplace")
    try:
        app()
    finally:
        try:
            sys.stdout.flush()
        except OSError as error:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            if error.errno != errno.EPIPE:
                _complain(f"The answer could not be written ({error.strerror}).", "What the command did is done.")
                sys.exit(3)


if __name__ == "__main__":
    main()
