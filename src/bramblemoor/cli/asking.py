"""What commands that change frames ask: which frames are meant, and whether to go on."""

import sys
from typing import TYPE_CHECKING

import typer

from bramblemoor.cli import say
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.library.selection import Selection


def meant(frames: list[str] | None, selection: "Selection") -> "Selection":
    """The frames that are named, and are what the options say."""
    import msgspec

    return msgspec.structs.replace(selection, frames=[*selection.frames, *(frames or [])]).checked()


def some_meant(frames: list[str] | None, selection: "Selection", way: str) -> "Selection":
    """The same. Raises WrongUse, with the `way` to say it, where neither says which: everything must be asked for."""
    chosen = meant(frames, selection)
    if chosen.everything:
        raise WrongUse("No frame was named.", way)
    return chosen


def require_consent(
    question: str, would: str, *, yes: bool, undone: str = "Nothing was done.", or_dry_run: bool = True
) -> None:
    """Ask, on a terminal, whether to go on; ends the command where the answer is no.

    Raises WrongUse, which says what `would` be done, where nobody can be asked and --yes was not said.
    """
    if yes:
        return
    if not sys.stdin.isatty():
        looking = ", or --dry-run to only see it" if or_dry_run else ""
        raise WrongUse(f"{would}; nothing was done.", f"Say --yes to do it{looking}.")
    if not say.confirmed(question):
        say.note(undone)
        raise typer.Exit(1)
