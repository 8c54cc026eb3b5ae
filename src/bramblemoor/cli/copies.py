"""backup, verify, mend."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, know_stand_ins, library_here, single, whose
from bramblemoor.cli.receipts import finish
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.depots.depot import Depot

Depots = Annotated[
    list[str] | None, typer.Argument(metavar="[DEPOT]...", help="Which depots; all if not given.", show_default=False)
]


@contextmanager
def _open_depots(
    library: Library, names: Sequence[str], *, to_write: bool = True, may_be_none: bool = False
) -> Iterator[tuple[list["Depot"], bool]]:
    """Open and hold the depots; says too whether any was passed over.

    A depot that was named must be there. Of all depots, those out of reach are passed over, but one must be there
    (unless there is something else to do: `may_be_none`).
    """
    from bramblemoor.depots.register import depots_named, open_known

    know_stand_ins()
    opened, troubles = [], []
    with ExitStack() as stack:
        for known in depots_named(library, names):
            try:
                depot = open_known(known)
                if to_write:
                    stack.enter_context(depot.held())
                opened.append(depot)
            except DepotTrouble as trouble:
                troubles.append(trouble)
        if troubles and (names or not (opened or may_be_none)):
            raise troubles[0]
        for missed in troubles:
            say.note(f"Passed over: {missed.happened} {missed.remedy}")
        yield opened, bool(troubles)


def backup(
    depots: Depots = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what would be copied.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Bring depots level with the library: each file is read once, written to all of them, and read back from each."""
    from bramblemoor.depots.backup import backup as run
    from bramblemoor.depots.backup import plan_backup
    from bramblemoor.library.receipts import Amount, total

    library = library_here(library_dir)
    with library.held(), _open_depots(library, depots or ()) as (opened, passed_over):
        if dry_run:
            wanted, _ = plan_backup(library, opened)
            plan = {
                depot.name: total(Amount(item.frames, 1, item.bytes) for item in wanted[depot.id]) for depot in opened
            }
            if json:
                say.as_json(
                    {name: {"frames": a.frames, "files": a.files, "bytes": a.bytes} for name, a in plan.items()}
                )
                return
            say.table(
                ("would be copied to", "frames", "files", "size"),
                [(name, say.dash(a.frames), say.dash(a.files), say.size(a.bytes)) for name, a in plan.items()],
                right=(1, 2, 3),
            )
            say.line("Nothing was copied (--dry-run).")
            return
        with say.meter() as progress:
            receipt = run(library, opened, progress)
    attention = bool(receipt.left_out or receipt.findings or passed_over)
    if not json and not attention and not any("copied" in line.what for line in receipt.kept):
        say.line(f"Nothing to do: {', '.join(depot.name for depot in opened)} are level with {whose(library)}.")
        return
    finish(receipt, json=json, attention=attention)


def verify(
    places: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[DEPOT|library]...", help="Which depots; all, and the library, if not given.", show_default=False
        ),
    ] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Read every file of a copy from its medium and compare it with what it should be. Changes no copy."""
    from bramblemoor.depots.verify import verify as run

    library = library_here(library_dir)
    names = [name for name in places or () if name != "library"]
    with_library = not places or "library" in places
    with ExitStack() as stack:
        stack.enter_context(library.held())
        opened: list[Depot] = []
        passed_over = False
        if names or not places:
            opened, passed_over = stack.enter_context(_open_depots(library, names, to_write=False, may_be_none=True))
        with say.meter() as progress:
            receipt = run(library, opened, with_library=with_library, progress=progress)
    amiss = bool(receipt.left_out or receipt.findings)
    if not json and amiss:
        what = "Every picture is sound, but something else is not"
        if receipt.left_out:
            what = f"{len(receipt.left_out):,} of {say.many(receipt.came_in.files, 'file')} amiss"
        say.line(f"{what}; to put it right: bramblemoor mend.")
        say.line()
    finish(receipt, json=json, attention=amiss or passed_over)


def mend(depots: Depots = None, library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Put right what verifying found, from any good copy; what was damaged is kept aside, not destroyed."""
    from bramblemoor.depots.mend import mend as run

    library = library_here(library_dir)
    if depots and "library" in depots:
        raise WrongUse("The library is mended along with any depot.", "Leave it out: bramblemoor mend.")
    with library.held(), _open_depots(library, depots or ()) as (opened, passed_over), say.meter() as progress:
        receipt = run(library, opened, progress)
    if not json and not receipt.came_in.files and not receipt.findings:
        say.line(f"Nothing is known to be damaged or missing in {whose(library)}. To look: bramblemoor verify.")
        return
    finish(receipt, json=json, attention=bool(receipt.left_out or passed_over))


COMMANDS = {"backup": single("backup", backup), "verify": single("verify", verify), "mend": single("mend", mend)}
