"""restore."""

from pathlib import Path
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, know_stand_ins, single, whose
from bramblemoor.cli.receipts import finish


def restore(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="A new or empty folder for the library.")],
    depots: Annotated[
        list[Path],
        typer.Option("--from", metavar="DEPOT", help="A depot's folder; give more to fall back on, best first."),
    ],
    json: AsJson = False,
) -> None:
    """Bring a whole library back from one or more depots. Needs nothing but the depots; overwrites nothing."""
    from bramblemoor.depots.restore import depots_at
    from bramblemoor.depots.restore import restore as run

    know_stand_ins()
    with say.meter() as progress:
        library, receipt = run(folder, depots_at(depots), progress)
    if not json:
        say.line(f"Restored {whose(library)}.")
        say.line("Other depots become known again with: bramblemoor depot add NAME FOLDER.")
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out or receipt.findings))


COMMANDS = {"restore": single("restore", restore)}
