"""What a failure looks like: one sentence what happened, one what to do; or, for --json, one document."""

import errno
import os
import sqlite3
import sys
from collections.abc import Sequence
from dataclasses import dataclass

import typer

from bramblemoor.cli import say
from bramblemoor.errors import BramblemoorError
from bramblemoor.library.folding import suggestion

INTERRUPTED = 130


@dataclass(frozen=True)
class Failure:
    """What happened, what to do, names that it is about, and the exit code."""

    error: str
    remedy: str
    exit: int
    named: Sequence[str] = ()


STOPPED = Failure(
    "Interrupted; nothing is lost.", "Run the same command again: it goes on where it stopped.", INTERRUPTED
)
_PLAIN = (
    ("a valid int range", "a whole number"), ("a valid integer", "a whole number"), ("a valid float range", "a number"),
    ("Got unexpected extra argument(s)", "One word too many:"), ("Got unexpected extra argument", "One word too many:"),
)  # fmt: skip
"""How the parser of command lines says it, and how we do."""
_NOT_CONFIRMED = Failure("It was not confirmed; nothing was done.", "Where nobody can be asked, say --yes.", 1)


def failure_of(error: BaseException) -> Failure | None:
    """How an error is told to a user; None for what is a mistake of ours."""
    if isinstance(error, BramblemoorError):
        return Failure(error.happened, error.remedy, error.exit_code, error.named)
    if isinstance(error, KeyboardInterrupt):
        return STOPPED
    if isinstance(error, typer.Abort):
        return _NOT_CONFIRMED
    if isinstance(error, typer.TyperException):
        return _mistyped(error)
    if isinstance(error, OSError):
        where = f"{error.filename}: " if error.filename else ""
        return Failure(f"{where}{error.strerror or error}.", _remedy(error), 3)
    if isinstance(error, sqlite3.OperationalError):
        return Failure(
            f"The library's books cannot be written ({error}).",
            "Make room on its drive, or wait for the other run to end.", 3,
        )  # fmt: skip
    if type(error) is sqlite3.DatabaseError:  # its subclasses are mistakes of ours, not a damaged file
        return Failure(
            f"The library's ledger is damaged ({error}).",
            "Write it anew from a depot: bramblemoor restore DIR --ledger-only --from DEPOT.", 3,
        )  # fmt: skip
    return None


def tell(failure: Failure) -> None:
    """To stderr; for --json as the one document that the command prints."""
    if wants_json():
        say.as_json(
            {"error": failure.error, "remedy": failure.remedy, "exit": failure.exit}
            | ({"named": list(failure.named)} if failure.named else {})
        )
        return
    for text in (failure.error, *(f"  {one}" for one in failure.named), failure.remedy):
        say.note(text)


def wants_json() -> bool:
    """Whether the command line asks for one document: what could not be understood must be told in one, too."""
    given = sys.argv[1:]
    return "--json" in (given[: given.index("--")] if "--" in given else given)


def _mistyped(error: typer.TyperException) -> Failure:
    """A command line that could not be understood."""
    context = getattr(error, "ctx", None)
    command = context.command_path if context is not None else "bramblemoor"
    wrong = getattr(error, "option_name", "")
    look = f"bramblemoor{command.removeprefix('bramblemoor')} --help"
    if hasattr(error, "possibilities"):
        known = (
            [name for one in context.command.params for name in one.opts if name.startswith("--")] if context else []
        )
        near = suggestion(wrong.partition("=")[0], known, listed=0)
        return Failure(f"{command} has no option {wrong}.", f"{near}All of them: {look}.", 2)
    parameter = getattr(error, "param", None)
    name = ""
    if parameter is not None:
        name = parameter.opts[0] if parameter.param_type_name == "option" else parameter.make_metavar(context)
    if not error.message and name:
        return Failure(f"{command} needs {name}.", f"How it is written: {look}.", 2)
    said = error.message.rstrip(".")
    for theirs, ours in _PLAIN:
        said = said.replace(theirs, ours)
    return Failure(f"{name + ': ' if name else ''}{said}.", f"How it is written: {look}.", 2)


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


def nobody_listens() -> None:
    """The reader of our output has seen enough, or is gone: what is still printed goes nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
