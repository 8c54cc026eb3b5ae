"""depot add, list."""

from pathlib import Path
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, group, know_stand_ins, library_here, whose

app = group("depot", "Add and list the places where copies are held.")


@app.command("add")
def add(
    name: Annotated[str, typer.Argument(help="What to call it.")],
    folder: Annotated[
        Path,
        typer.Argument(metavar="FOLDER", help="An existing, empty folder on its drive; or where a known depot is now."),
    ],
    site: Annotated[str, typer.Option(help="Where the drive is kept: studio, cottage, ...")] = "",
    medium: Annotated[str, typer.Option(help="What it is: ssd, hdd, nas, ...")] = "",
    stand_in: Annotated[
        str,
        typer.Option(
            "--stand-in", metavar="DEVICE", help="Pretend that the folder is a drive of its own, for trying things out."
        ),
    ] = "",
    stand_in_flips: Annotated[str, typer.Option("--stand-in-flips", metavar="FILE", hidden=True)] = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Add a depot, tell where a known one is now, or adopt one that another copy of this library wrote."""
    from bramblemoor.depots.register import add_depot
    from bramblemoor.standins.drives import StandInDrive

    know_stand_ins()
    library = library_here(library_dir)
    options = {"device": stand_in} | ({"flips": stand_in_flips} if stand_in_flips else {}) if stand_in else {}
    with library.held():
        depot, adopted = add_depot(
            library,
            folder,
            name=name,
            site=site,
            medium=medium,
            kind=StandInDrive.kind if stand_in else "folder",
            options=options,
        )
    identity = depot.identity
    if json:
        say.as_json(
            {
                "depot": identity.name,
                "id": identity.id,
                "site": identity.site,
                "medium": identity.medium,
                "adopted": adopted,
            }
        )
        return
    where = f"at {identity.site}, on {identity.medium} ({depot.drive.device})"
    if adopted:
        say.line(
            f"Found the depot {identity.name} {where}. What lies there counts once it was read: bramblemoor verify."
        )
    else:
        say.line(f"Made the depot {identity.name} {where}.")
        if stand_in:
            say.line("Its device is a pretence: in truth it lies on the same disk as everything else here.")


@app.command("list")
def list_depots(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the depots, whether they are within reach, and how much room they have."""
    from bramblemoor.depots.register import known_depots
    from bramblemoor.library.durable import free_bytes

    library = library_here(library_dir)
    rows = []
    for known in known_depots(library):
        present = known.present
        held, size = library.db.execute(
            "SELECT count(*), coalesce(sum(bytes), 0) FROM copies JOIN files ON id = file WHERE depot = ?"
            " AND state IN ('good', 'written')",
            (known.id,),
        ).fetchone()
        rows.append((known, present, held, size, free_bytes(known.root) if present else None))
    if json:
        say.as_json(
            {
                "library": library.name,
                "depots": [
                    {
                        "name": known.name, "id": known.id, "site": known.site, "medium": known.medium, "device": known.device,
                        "folder": str(known.root), "present": present, "files": held, "bytes": size, "free_bytes": free,
                    }
                    for known, present, held, size, free in rows
                ],
            }
        )  # fmt: skip
        return
    if not rows:
        say.line(
            f"{whose(library)} has no depots yet. Add one: bramblemoor depot add NAME FOLDER --site SITE --medium MEDIUM."
        )
        return
    say.table(
        ("depot", "site", "medium", "device", "holds", "free", "where"),
        [
            (
                known.name, known.site, known.medium, known.device, f"{say.many(held, 'file')}, {say.size(size)}",
                say.size(free) if free is not None else "-", str(known.root) if present else "not within reach",
            )
            for known, present, held, size, free in rows
        ],
        right=(5,),
    )  # fmt: skip
    say.line(f"{say.many(len(rows), 'depot')} of {whose(library)}.")


COMMANDS = {"depot": app}
