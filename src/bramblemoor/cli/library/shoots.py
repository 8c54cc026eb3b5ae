"""shoot: list, rename, by-date, merge, split."""

from datetime import date
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent, some_meant
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, whose
from bramblemoor.cli.library.receipts import finish
from bramblemoor.cli.options import selecting
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.library.home import Library
    from bramblemoor.library.rearranging import Rearrangement
    from bramblemoor.library.selection import Selection

app = group(
    "shoot", "The folders of sessions: list, rename, merge and split them. Depots follow by moving, not by copying."
)
Name = Annotated[str, typer.Argument(metavar="SHOOT", help="Its folder, or a part of its name.")]
Text = Annotated[str | None, typer.Option(metavar="TEXT", show_default=False)]
Day = Annotated[str | None, typer.Option("--date", metavar="DATE", help="As 2026-05-09.", show_default=False)]
DryRun = Annotated[bool, typer.Option("--dry-run", help="Only show the plan.")]
Yes = Annotated[bool, typer.Option("--yes", help="Carry the plan out without asking.")]
_FEW = 4


@app.command("list")
def list_shoots(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the shoots, with their frames, sizes and times."""
    from bramblemoor.library.shoots import shoots

    library = library_here(library_dir)
    found = shoots(library)
    if json:
        say.as_json({"shoots": [
            {"path": one.folder, "frames": one.frames, "files": one.files, "bytes": one.bytes, "begins": one.begins or None,
             "ends": one.ends or None, "marked": one.marked}
            for one in found
        ]})  # fmt: skip
        return
    if not found:
        say.line(f"{whose(library)} holds no frames yet.")
        return
    say.table(
        ("shoot", "frames", "size", "taken", "marked"),
        [(one.name, f"{one.frames:,}", say.size(one.bytes), _span(one.begins, one.ends), say.dash(one.marked)) for one in found],
        right=(1, 2, 4), wraps=0,
    )  # fmt: skip
    say.line(f"{say.many(len(found), 'shoot')} of {whose(library)}.")


def _span(begins: str, ends: str) -> str:
    if not begins:
        return "undated"
    if begins[:10] == ends[:10]:
        return f"{begins[:16].replace('T', ' ')} to {ends[11:16]}"
    return f"{begins[:10]} to {ends[:10]}"


@app.command("rename")
def rename(
    shoot: Name,
    subject: Text = None,
    location: Text = None,
    day: Day = None,
    dry_run: DryRun = False,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Call a shoot otherwise: its folder, and its frames that are named after it. An empty --location takes it away."""
    from bramblemoor.library.shoots import plan_rename, shoot_called

    if subject is None and location is None and day is None:
        raise WrongUse("No new name was given.", "Say what is to change: --subject, --location or --date.")
    if subject is not None and not subject.strip():
        raise WrongUse("A subject is empty.", "Say what the shoot is of.")
    library = library_here(library_dir)
    with holding(library) as ended:
        if ended is not None:
            finish(ended, json=json, attention=bool(ended.left_out))
            return
        plan = plan_rename(
            library, shoot_called(library, shoot), day=_day(day), subject=subject and subject.strip(),
            location=None if location is None else location.strip(),
        )  # fmt: skip
        _carry_out(library, plan, dry_run=dry_run, yes=yes, json=json)


@app.command("by-date")
def by_date(dry_run: DryRun = False, yes: Yes = False, library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Bring frames from pictures/undated, which have a date by now, to the folders of their dates.

    A later delivery may have told it, or you. They are called as they came, where that name is free there. To take it back:
    takeback.
    """
    from bramblemoor.library.dated import plan_by_date

    library = library_here(library_dir)
    with holding(library) as ended:
        if ended is not None:
            finish(ended, json=json, attention=bool(ended.left_out))
            return
        plan = plan_by_date(library)
        if not plan.moves and not plan.left:
            say.as_json({"nothing_to_do": True}) if json else say.line(
                "No frame in pictures/undated has a date by now."
            )
            return
        _carry_out(library, plan, dry_run=dry_run, yes=yes, json=json)


@app.command("merge")
def merge(
    into: Annotated[str, typer.Argument(metavar="INTO", help="The shoot that gets the frames.")],
    others: Annotated[list[str], typer.Argument(metavar="SHOOT...", help="The shoots that they come from.")],
    dry_run: DryRun = False,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Bring shoots together into one. What comes is numbered behind what is there, in order of taking."""
    from bramblemoor.library.shoots import plan_merge, shoot_called

    library = library_here(library_dir)
    with holding(library) as ended:
        if ended is not None:
            finish(ended, json=json, attention=bool(ended.left_out))
            return
        plan = plan_merge(library, shoot_called(library, into), [shoot_called(library, one) for one in others])
        _carry_out(library, plan, dry_run=dry_run, yes=yes, json=json)


@app.command("split")
@selecting()
def split(
    subject: Annotated[str, typer.Option("--subject", metavar="TEXT", help="What the new shoot is of.")],
    frames: Annotated[list[str] | None, typer.Argument(metavar="[FRAME]...", show_default=False)] = None,
    new_location: Annotated[
        str, typer.Option("--called-location", metavar="TEXT", help="The location in the new shoot's name.")
    ] = "",
    day: Day = None,
    dry_run: DryRun = False,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Bring some frames into a shoot of their own, as: shoot split --shoot '*Reed*' --number 9-12 --subject 'Otters'."""
    from bramblemoor.library.naming import ShootName
    from bramblemoor.library.selection import select
    from bramblemoor.library.shoots import first_day, plan_split

    chosen = some_meant(frames, selection, "Name some; or say which, as --shoot '*Reed*' --number 9-12.")
    library = library_here(library_dir)
    with holding(library) as ended:
        if ended is not None:
            finish(ended, json=json, attention=bool(ended.left_out))
            return
        selected = select(library, chosen)
        when = _day(day) or first_day(library, selected)
        if when is None:
            raise WrongUse(
                "The first of the frames has no date.", "Say the day of the new shoot, as --date 2026-05-09."
            )
        plan = plan_split(library, selected, ShootName(when, subject.strip(), new_location.strip()))
        _carry_out(library, plan, dry_run=dry_run, yes=yes, json=json)


def _day(written: str | None) -> date | None:
    from bramblemoor.library.dates import first_day

    if written is None:
        return None
    if len(written) != len("2026-05-09"):
        raise WrongUse(f"{written!r} is no day.", "Write it as 2026-05-09.")
    return first_day(written)


def _carry_out(library: "Library", plan: "Rearrangement", *, dry_run: bool, yes: bool, json: bool) -> None:
    from bramblemoor.library.rearranging import carry_out

    if json and dry_run:
        say.as_json({"dry_run": True, "takes": [{"was": one.old, "path": one.new} for one in plan.moves]})
        return
    if not json:
        _print_plan(plan)
    if dry_run:
        say.line("Nothing was moved (--dry-run).")
        return
    if not plan.moves:
        raise WrongUse("There is nothing to move.", plan.left[0].reason.capitalize() + "." if plan.left else "")
    require_consent(
        "Move them?", f"{say.many(len(plan.moves), 'file')} would be moved", yes=yes, undone="Nothing was moved."
    )
    with say.meter() as progress:
        receipt = carry_out(library, plan, progress)
    if not json:
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out))


def _print_plan(plan: "Rearrangement") -> None:
    originals = [one for one in plan.moves if one.role == "original"]
    amount = plan.amount
    say.line(f"{say.many(amount.frames, 'frame')}, {say.many(amount.files, 'file')} will be moved or renamed:")
    for one in originals[:_FEW]:
        say.line(f"{one.old.removeprefix('pictures/')}", inward=2)
        say.line(f"-> {one.new.removeprefix('pictures/')}", inward=4)
    if len(originals) > _FEW:
        say.line(f"... and {len(originals) - _FEW:,} more", inward=2)
    for left in plan.left[:_FEW]:
        say.line(f"{left.name} stays: {left.reason}.", inward=2)
    say.line("Depots follow at the next backup, by moving what they have.")


COMMANDS = {"shoot": app}
