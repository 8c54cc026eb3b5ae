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
    from bramblemoor.depots.restore import depots_at, is_restored
    from bramblemoor.depots.restore import restore as run

    know_stand_ins()
    sources = depots_at(depots)
    if is_restored(folder, sources[0]):
        if json:
            say.as_json({"restored": str(folder), "already": True})
        else:
            say.line(f"{folder} is that library already; nothing was changed.")
            say.line(f"To see whether every file in it is sound: bramblemoor --library {folder} verify library.")
        return
    with say.meter() as progress:
        library, receipt = run(folder, sources, progress)
    if not json:
        say.line(f"Restored {whose(library)}.")
        say.line("Other depots become known again with: bramblemoor depot add NAME FOLDER.")
        say.line()
    finish(receipt, json=json, attention=bool(receipt.left_out or receipt.findings))


COMMANDS = {"restore": single("restore", restore)}
