"""What the commands share: the library they work on, and their common options."""

import re
import signal
import sys
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.group import Commands
from bramblemoor.disk.told import Inside, Outside, one_name
from bramblemoor.errors import DepotTrouble, NoLibrary, WrongUse
from bramblemoor.library.home import Library, find_library
from bramblemoor.standins import CHEST, DRIVE

if TYPE_CHECKING:
    from bramblemoor.depots.bag.depot import Depot
    from bramblemoor.depots.kinds import Store
    from bramblemoor.library.receipts import Receipt
    from bramblemoor.running import Pace

LibraryDir = Annotated[
    Path | None,
    typer.Option(
        "--library", metavar="DIR", envvar="BRAMBLEMOOR_LIBRARY", help="The library to use.", show_default=False
    ),
]
_UNITS = {"": 1, "b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}
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
        cls=Commands,
        help=text,
        rich_markup_mode=None,
        add_completion=False,
        pretty_exceptions_enable=False,
        no_args_is_help=True,
        context_settings={"help_option_names": ["-h", "--help"]},
    )


def library_here(named: Path | None) -> Library:
    """Raises NoLibrary where there is none. Documents are about it from now on."""
    library = find_library(named, Path.cwd())
    say.about(library.name, library.root)
    return library


@contextmanager
def holding(library: Library) -> "Iterator[Receipt | None]":
    """Hold the library for a run that changes it, and tell at the end, at the latest, what came to light on the way.

    What killed runs had left open is ended first. Where one was this very command, its receipt is yielded: then all is done.
    """
    library.asked = _asked()
    with library.held():
        mine: Receipt | None = None
        for one in library.finished:
            if one.asked == library.asked:
                mine = one.receipt
            else:
                say.note(f"A run that was interrupted before is done now: bramblemoor receipt {one.receipt.number}.")
        try:
            yield mine
        finally:
            say_seen(library)


_HOW = ("--yes", "--json", "--dry-run")
"""What a command is told of how it is to go about it, and not of what it is to do."""


def _asked() -> str:
    """The command that is given, as its words: by these a run that was killed is known again, in whichever folder one is."""
    words = list(sys.argv[1:])
    while "--library" in words[:-1]:
        at = words.index("--library")
        del words[at : at + 2]
    return "\0".join(word for word in words if word not in _HOW and not word.startswith("--library="))


def whose(library: Library) -> str:
    """Every report says which library it is about; where it lies only to somebody who is not in it."""
    inside = Path.cwd().is_relative_to(library.root)
    told = [*(["a copy"] if library.at_depot else []), *([] if inside else [say.place(library.root)])]
    return f"{library.name} ({', '.join(told)})" if told else library.name


def know_stand_ins() -> None:
    """Make the simulated drives known; only the command line does so."""
    from bramblemoor.depots.kinds import add_kind

    add_kind(DRIVE, _stand_in_drive)
    add_kind(CHEST, _stand_in_chest)


def _stand_in_drive() -> type["Store"]:
    from bramblemoor.standins.drives import StandInDrive

    return StandInDrive


def _stand_in_chest() -> type["Store"]:
    from bramblemoor.standins.chest import Chest

    return Chest


StandIn = Annotated[
    str,
    typer.Option("--stand-in", metavar="DEVICE", help="Pretend that the folder is a drive, for trying things out."),
]
StandInChest = Annotated[bool, typer.Option("--stand-in-chest", hidden=True)]
StandInFaults = Annotated[list[str] | None, typer.Option("--stand-in-fault", metavar="WHAT=HOW", hidden=True)]


def kind_of_depot(stand_in: str, faults: list[str] | None = None, *, chest: bool = False) -> tuple[str, dict[str, str]]:
    """The kind of a new depot, and its options."""
    if not stand_in:
        from bramblemoor.depots.kinds import FOLDER

        return FOLDER, {}
    options = {"device": stand_in} | dict(fault.split("=", 1) for fault in faults or () if "=" in fault)
    return CHEST if chest else DRIVE, options


def bytes_of(written: str) -> int:
    if not written:
        return 0
    match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([kmgt]?b?)", written.strip().lower())
    if match is None or float(match[1]) == 0:
        raise WrongUse(f"{written!r} is no size.", "Write it as 500MB, 2GB or 4TB.")
    unit = match[2] if match[2].endswith("b") or not match[2] else match[2] + "b"
    return int(float(match[1]) * _UNITS[unit])


@contextmanager
def stoppable(pace: "Pace") -> Iterator[None]:
    """Within it the first Ctrl-C asks a run to end in good order; the second ends it at once, which loses nothing either."""

    def stop(*_: object) -> None:
        if pace.stopped:
            raise KeyboardInterrupt
        pace.stopped = True
        print("Stopping: what is under way is finished first. Ctrl-C again stops at once.", file=sys.stderr)

    before = signal.signal(signal.SIGINT, stop)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def plain_name(what: str, name: str) -> Inside:
    """A name that becomes a folder's here. Raises WrongUse for one that cannot be."""
    try:
        return one_name(name)
    except Outside as error:
        raise WrongUse(f"A {what} cannot be called {name!r}.", "Use one plain word, as thrushfield.") from error


@dataclass(frozen=True)
class PassedOver:
    """A depot that a run did not reach, and why."""

    depot: str
    why: str


@contextmanager
def open_depots(
    library: Library, names: Sequence[str], *, to_write: bool = True, may_be_none: bool = False
) -> Iterator[tuple[list["Depot"], list[PassedOver]]]:
    """Open and hold the depots; says too which were passed over.

    A depot that was named must be there. Of all depots, those out of reach are passed over, but one must be there
    (unless there is something else to do: `may_be_none`).
    """
    from bramblemoor.depots.register.known import depots_named
    from bramblemoor.depots.register.register import drive_trouble, follow_line, open_known, open_to_write

    know_stand_ins()
    opened: list[Depot] = []
    missed: list[PassedOver] = []
    troubles: list[DepotTrouble] = []
    with ExitStack() as stack:
        for known in depots_named(library, names):
            try:
                if to_write:
                    opened.append(stack.enter_context(open_to_write(library, known)))
                    continue
                depot = open_known(library, known)
                if depot.store.writable:  # what is read there must not change meanwhile
                    stack.enter_context(depot.held())
                follow_line(library, known, depot)
                opened.append(depot)
            except (DepotTrouble, OSError) as error:
                trouble = error if isinstance(error, DepotTrouble) else drive_trouble(known.name, error)
                troubles.append(trouble)
                missed.append(PassedOver(known.name, f"{trouble.happened} {trouble.remedy}"))
        if troubles and (names or not (opened or may_be_none)):
            raise troubles[0]
        say.passed_over([(one.depot, one.why) for one in missed])
        say_seen(library)
        yield opened, missed


def say_seen(library: Library) -> None:
    """What came to light on the way: of the clock, and of depots that are not as they were left."""
    for finding in library.seen:
        say.note(f"{finding.name}: {finding.what}.")
    library.seen.clear()
    if library.clock.in_doubt:
        say.note_once(f"Beware: {library.clock.said()}.")


def depot_at(depot: str, library_dir: Path | None) -> "Depot":
    """A depot by its folder, or by the name that the library here knows."""
    from bramblemoor.depots.bag.depot import open_depot
    from bramblemoor.depots.kinds import lies_at
    from bramblemoor.depots.register.known import depots_named
    from bramblemoor.depots.register.register import open_known

    know_stand_ins()
    if lies_at(depot):
        return open_depot(depot)
    try:
        library = library_here(library_dir)
    except NoLibrary:
        return open_depot(depot)  # says what is wrong with it
    return open_known(library, depots_named(library, [depot])[0])
