"""backup, verify, mend."""

from collections.abc import Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import (
    AsJson,
    LibraryDir,
    PassedOver,
    bytes_of,
    holding,
    library_here,
    open_depots,
    single,
    stoppable,
    whose,
)
from bramblemoor.cli.library.receipts import end_stopped, finish, print_findings, run_document
from bramblemoor.cli.options import selecting
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.depots.backup import Planned
    from bramblemoor.depots.bag.depot import Depot
    from bramblemoor.depots.engine.copying import CopyRun
    from bramblemoor.depots.verify import Scope
    from bramblemoor.library.home import Library
    from bramblemoor.library.receipts import Receipt
    from bramblemoor.library.selection import Selection
    from bramblemoor.running import Pace, Progress

Depots = Annotated[
    list[str] | None, typer.Argument(metavar="[DEPOT]...", help="Which depots; all if not given.", show_default=False)
]
Limit = Annotated[str, typer.Option("--limit", metavar="SIZE", help="Read no more than this a second, as 20MB.")]


def backup(
    depots: Depots = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what would be copied.")] = False,
    yes: Annotated[
        bool,
        typer.Option(
            "--yes", help="Go on although much was changed or removed in the library, or would be removed at a depot."
        ),
    ] = False,
    limit: Limit = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Bring depots level with the library: each file is read once, written to all of them, and read back from each.

    Before, the library is looked over, as by stocktake. Ctrl-C stops in good order; the same command goes on.
    """
    from bramblemoor.depots.backup import plan_backup
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace(bytes_of(limit) if limit else 0)
    with holding(library), open_depots(library, depots or ()) as (opened, passed_over):
        with stoppable(pace), say.meter() as progress:
            if dry_run:
                plan = plan_backup(library, opened, progress)
            else:
                receipt, copying = _with_page(library, opened, progress, pace, yes=yes)
        if dry_run:
            _print_plan(plan, json=json)
            return
    attention = bool(receipt.left_out or receipt.findings or passed_over or library.clock.in_doubt)
    if pace.stopped:
        end_stopped(_left(copying), receipt, json=json)
    did_nothing = not copying.journals and not receipt.left_out  # and so no receipt was written
    if json and did_nothing:
        say.as_json(run_document(receipt, did_nothing=True))
        raise typer.Exit(1 if attention else 0)
    if did_nothing:
        names = [depot.name for depot in opened]
        if receipt.findings:
            say.line(f"Nothing was copied to {', '.join(names)}.")
        else:
            say.line(
                f"Nothing to do: {', '.join(names)} {'is' if len(names) == 1 else 'are'} level with {whose(library)}."
            )
        print_findings(receipt, more="bramblemoor stocktake --all")
        raise typer.Exit(1 if attention else 0)
    finish(receipt, json=json, attention=attention)


def _with_page(
    library: "Library", depots: "Sequence[Depot]", progress: "Progress", pace: "Pace", *, yes: bool
) -> "tuple[Receipt, CopyRun]":
    """Back up, with the library's own page brought up to date before, where it has one."""
    from bramblemoor.depots.backup import backup as run
    from bramblemoor.depots.register.known import number_in
    from bramblemoor.looking.own_page import is_current, is_to_be_renewed, renew_own_page

    renewed = renew_own_page(library, progress, [number_in(library, depot.id) for depot in depots])
    receipt, copying = run(library, depots, progress, yes=yes, pace=pace)
    if renewed and not receipt.left_out and not pace.stopped:
        is_current(library)
    elif renewed:
        is_to_be_renewed(library)
    return receipt, copying


def _print_plan(plan: "dict[str, Planned]", *, json: bool) -> None:
    if json:
        say.as_json({
            "dry_run": True,
            "depots": [
                {
                    "depot": name, "frames": one.copied.frames, "files": one.copied.files, "bytes": one.copied.bytes,
                    "files_moved": one.moved.files, "files_set_aside": 0 if one.deletes else one.removed.files,
                    "files_deleted": one.removed.files if one.deletes else 0,
                }
                for name, one in plan.items()
            ],
        })  # fmt: skip
        return
    say.table(
        ("depot", "frames to copy", "files", "size", "moved there", "to earlier/", "deleted"),
        [
            (
                name, say.dash(one.copied.frames), say.dash(one.copied.files), say.size(one.copied.bytes),
                say.dash(one.moved.files), say.dash(0 if one.deletes else one.removed.files),
                say.dash(one.removed.files if one.deletes else 0),
            )
            for name, one in plan.items()
        ],
        right=(1, 2, 3, 4, 5, 6),
    )  # fmt: skip
    say.line("Nothing was copied (--dry-run).")


def _left(copying: "CopyRun") -> str:
    """What is left, and how long it will take at the rate so far."""
    done = max((outcome.copied.bytes for outcome in copying.outcomes.values()), default=0)
    left = max((outcome.left.bytes for outcome in copying.outcomes.values()), default=0)
    files = max((outcome.left.files for outcome in copying.outcomes.values()), default=0)
    rate = done / copying.seconds if copying.seconds else 0
    time = f", about {say.duration(left / rate)} at the rate so far ({say.size(rate)}/s)" if rate else ""
    return f"Left to copy: {say.many(files, 'file')}, {say.size(left)}{time}. The same command goes on."


@selecting()
def verify(
    places: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DEPOT|library]...", help="Which depots; all, and the library, if not given.", show_default=False
        ),
    ] = None,
    sample: Annotated[
        int, typer.Option("--sample", metavar="N", min=0, show_default=False, help="Only N files of each, by chance.")
    ] = 0,
    longest_unread: Annotated[
        bool, typer.Option("--longest-unread", help="Those first that were not read for the longest time.")
    ] = False,
    minutes: Annotated[
        float, typer.Option("--minutes", metavar="N", min=0, show_default=False, help="Stop after N minutes a depot.")
    ] = 0,
    up_to: Annotated[str, typer.Option("--up-to", metavar="SIZE", help="Stop after so much at each, as 200GB.")] = "",
    limit: Limit = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Read every file of a copy from its medium and compare it with what it should be. Changes no copy.

    The library is looked over first, as before a backup: what you renamed or edited is no damage.

    Of some frames only those files are read: verify --year 2024.

    A nightly half hour that works through a drive: bramblemoor verify DEPOT --longest-unread --minutes 30.
    """
    from bramblemoor.depots.verify import verify as run
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    scope = _scope(sample, longest_unread, minutes, up_to, selection)
    names = [name for name in places or () if name != "library"]
    with_library = not places or "library" in places
    pace = Pace(bytes_of(limit) if limit else 0)
    with ExitStack() as stack:
        stack.enter_context(holding(library))
        opened: list[Depot] = []
        passed_over: list[PassedOver] = []
        if names or not places:
            opened, passed_over = stack.enter_context(open_depots(library, names, to_write=False, may_be_none=True))
        stack.enter_context(stoppable(pace))
        progress = stack.enter_context(say.meter())
        receipt, lists_amiss = run(
            library, opened, with_library=with_library, progress=progress, scope=scope, pace=pace
        )
    amiss = bool(receipt.left_out or receipt.findings)
    if not json and amiss:
        what = "What was read is sound, but there is something else to see to"
        if receipt.left_out:
            what = f"{len(receipt.left_out):,} of {say.many(receipt.came_in.files, 'file')} amiss"
        way = "to put it right: bramblemoor mend" if receipt.left_out or lists_amiss else "it is named below"
        say.line(f"{what}; {way}.")
        say.line()
    if pace.stopped:
        end_stopped("What was read counts; with --longest-unread the next run goes on.", receipt, json=json)
    finish(
        receipt,
        json=json,
        attention=amiss or bool(passed_over) or library.clock.in_doubt,
    )


def _scope(sample: int, longest_unread: bool, minutes: float, up_to: str, selection: "Selection") -> "Scope":
    from bramblemoor.depots.verify import Choice, Scope

    if sample and longest_unread:
        raise WrongUse("A sample is taken by chance, not by age.", "Choose --sample or --longest-unread.")
    size = bytes_of(up_to) if up_to else 0
    choice: Choice = "sample" if sample else "longest unread" if longest_unread or minutes or size else "everything"
    return Scope(choice, sample, size, minutes * 60, selection)


def mend(depots: Depots = None, library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Put right what verifying found, from any good copy; what was damaged is kept aside, not destroyed."""
    from bramblemoor.depots.mend import mend as run
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    if depots and "library" in depots:
        raise WrongUse("The library is mended along with any depot.", "Leave it out: bramblemoor mend.")
    pace = Pace()
    with (
        holding(library), open_depots(library, depots or ()) as (opened, passed_over), stoppable(pace), say.meter() as progress,
    ):  # fmt: skip
        receipt, still_amiss = run(library, opened, progress, pace)
    if pace.stopped:
        end_stopped("The same command goes on with what is still damaged or missing.", receipt, json=json)
    if not receipt.came_in.files and not receipt.findings:
        if json:
            say.as_json(run_document(receipt, did_nothing=True))
            return
        say.line(f"Nothing is known to be damaged or missing in {whose(library)}. To look: bramblemoor verify.")
        return
    finish(
        receipt,
        json=json,
        attention=bool(receipt.left_out or passed_over or still_amiss),
    )


COMMANDS = {"backup": single("backup", backup), "verify": single("verify", verify), "mend": single("mend", mend)}
