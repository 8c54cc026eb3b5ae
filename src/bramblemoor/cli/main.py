"""The program: which commands there are, and what a failure looks like. Each command's code is loaded when it is asked for."""

import errno
import os
import signal
import sys
from importlib import import_module
from io import TextIOWrapper
from pathlib import Path
from typing import Annotated, Any, TextIO

import typer

from bramblemoor.cli import failing
from bramblemoor.cli.group import Commands
from bramblemoor.cli.words import INSTEAD

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
            ("template", "library.templates", "What is said of many frames alike, under a name."),
            ("shoot", "library.shoots", "The folders of sessions: list, rename, merge, split."),
            ("album", "library.albums", "Ordered labels over frames: make, add, order, rename, export."),
            ("merge", "cards.merge", "Take a library that was made elsewhere into this one."),
            ("stocktake", "library.stocktake", "Take up what you and other programs did in its folders."),
            ("receipt", "library.receipts", "Read the balanced account of a run."),
            ("receipt list", "library.receipts", "List the receipts of all runs."),
            ("clock", "library.clock", "Compare the system's clock with the last run."),
        ),
    ),
    (
        "From a camera",
        (
            ("intake", "cards.intake", "Take in a card, a phone's folders, or any folder of pictures."),
            ("cull", "cards.cull", "Mark frames not worth keeping, and take them out: mark, remove, undo, purge."),
            (
                "lend",
                "cards.lend",
                "Small copies out to somebody to work on, and what comes back joined to its frames.",
            ),
            (
                "erasable",
                "cards.erasable",
                "May a card, a phone's folder or a shoot be erased? By each frame's copies.",
            ),
        ),
    ),
    (
        "Looking",
        (
            ("page", "looking.page", "Write a page to look through frames in any browser, with no tool."),
            ("alike", "looking.alike", "Find frames that show the same picture, the best original first."),
            ("sheet", "looking.sheet", "Write a contact sheet of frames, as PDF or JPEG."),
        ),
    ),
    (
        "Out of a service",
        (
            ("service", "exports.service", "Add, list and survey cloud accounts, and see what they can do."),
            ("order", "exports.orders", "Ask a service to prepare an export."),
            ("order list", "exports.orders", "List orders and their states."),
            ("withdraw", "exports.orders", "Withdraw an order."),
            ("fetch", "exports.collecting", "Bring home at once: a small selection, or what lies in folders."),
            ("collect", "exports.collecting", "Fetch the parts of an export, resuming what broke."),
            ("dialect", "exports.dialect", "Describe how a service writes its exports: draft, try, list."),
            ("unpack", "exports.unpack", "File the pictures of an export, with everything known about them."),
        ),
    ),
    (
        "Moving house",
        (
            ("compare", "anywhere.compare", "Compare two trees side by side: services, the library, folders."),
            ("migrate", "anywhere.migrate", "Carry a collection from one service to another, proven on arrival."),
            ("transfer", "anywhere.transfer", "Collections on their way: list, look, watch, stop."),
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
            ("bind", "copies.bind", "Put a year away, proven identical on its depots."),
            ("bind list", "copies.bind", "List the bound years, and which of them are freed."),
            ("free", "copies.bind", "Delete a bound year from the working drive."),
            ("unbind", "copies.bind", "Open a bound year for work."),
            ("allot", "copies.allot", "Propose which years go on which drives, with their twins."),
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


class LazyCommands(Commands):
    """Commands that are imported when they are used, so that help and quick commands start at once."""

    def list_commands(self, ctx: Any) -> list[str]:
        return [name for name in MODULES if " " not in name]

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name not in MODULES:
            return None
        commands: dict[str, typer.Typer] = import_module(f"bramblemoor.cli.{MODULES[cmd_name]}").COMMANDS
        command = typer.main.get_command(commands[cmd_name])
        command.name = cmd_name
        return command

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        if args[0] == "help":
            args = [*args[1:], "--help"]
            if len(args) == 1:
                print(ctx.get_help())
                raise typer.Exit
        both = " ".join(args[:2])
        if both in MODULES:  # as "order list"
            return both, self.get_command(ctx, both), args[2:]
        return super().resolve_command(ctx, args)

    def instead_of(self, word: str) -> str:
        return INSTEAD.get(word.casefold(), "")

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        for heading, commands in _SECTIONS:
            with formatter.section(heading):
                formatter.write_dl([(name, text) for name, _, text in commands])

    def invoke(self, ctx: Any) -> Any:
        try:
            return super().invoke(ctx)
        except BrokenPipeError as error:
            failing.nobody_listens()
            raise typer.Exit(0) from error
        except (Exception, KeyboardInterrupt) as error:
            if isinstance(error, KeyboardInterrupt):  # it was understood; another one would only disturb the end
                signal.signal(signal.SIGINT, signal.SIG_IGN)
            failure = failing.failure_of(error)
            if failure is None:
                raise
            failing.tell(failure)
            raise typer.Exit(failure.exit) from error


def _version(wanted: bool) -> None:
    if wanted:
        from bramblemoor import __version__

        print(f"Bramblemoor {__version__}")
        raise typer.Exit


app = typer.Typer(
    cls=LazyCommands,
    name="bramblemoor",
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
    code = 0
    try:
        code = _run()
    finally:
        try:
            sys.stdout.flush()
        except OSError as error:
            failing.nobody_listens()
            if error.errno != errno.EPIPE:
                why = f"The answer could not be written ({error.strerror})."
                failing.tell(failing.Failure(why, "What the command did is done.", 3))
                sys.exit(3)
    sys.exit(code)


def _run() -> int:
    """Run the command line; returns the exit code."""
    try:
        code = app(standalone_mode=False)
    except (typer.TyperException, typer.Abort) as error:  # before any command was reached
        failure = failing.failure_of(error)
        assert failure is not None
        failing.tell(failure)
        return failure.exit
    return code if isinstance(code, int) else 0


if __name__ == "__main__":
    main()
