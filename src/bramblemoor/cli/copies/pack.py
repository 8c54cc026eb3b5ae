"""pack, volumes."""

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import (
    AsJson,
    LibraryDir,
    bytes_of,
    holding,
    know_stand_ins,
    library_here,
    single,
    stoppable,
    whose,
)
from bramblemoor.cli.failing import INTERRUPTED
from bramblemoor.cli.library.receipts import finish
from bramblemoor.cli.options import selecting
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.running import Stage

if TYPE_CHECKING:
    from bramblemoor.depots.archives.pack import Packing, Wish
    from bramblemoor.depots.bag.depot import Depot
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selection

_LEAST = 1_000_000


@selecting()
def pack(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="Where the volumes are written.")],
    size: Annotated[str, typer.Option("--size", metavar="SIZE", help="The most that a volume may take up.")] = "25 GB",
    form: Annotated[Literal["zip", "tar"], typer.Option("--form", help="What kind of file a volume is.")] = "zip",
    name: Annotated[
        str, typer.Option("--name", metavar="TEXT", help="What the archive is called.", show_default="as its content")
    ] = "",
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what would be written.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Write a library, or some of it, as an archive: volumes for other media, or to be uploaded.

    Each volume is a ZIP or tar file that needs none of the others: a bag with its manifest, whole frames with all that belongs
    to them, and its share of the ledger. Each is read back before it counts. An interrupted run goes on with the next volume.
    Get frames back with: bramblemoor restore DIR --from ARCHIVE.
    """
    from bramblemoor.depots.archives.pack import Wish, default_name
    from bramblemoor.depots.archives.pack import pack as run
    from bramblemoor.running import Pace

    know_stand_ins()
    library = library_here(library_dir)
    most = bytes_of(size)
    if most < _LEAST:
        raise WrongUse(f"A volume of {say.size(most)} holds no picture.", "Give a larger size, as --size 4.3GB.")
    if name and (name.startswith(".") or set(name) & set('/\\:*?"<>|')):
        raise WrongUse(f"{name!r} is no name for a file.", "Use letters, digits, - and _.")
    wish = Wish(selection, form, most, name or default_name(library, selection))
    pace = Pace()
    with say.meter() as progress, holding(library), stoppable(pace):
        if dry_run:
            _dry_run(library, wish, folder, json=json)
            return
        packing = run(library, _within_reach(library), wish, folder, progress, pace, say.size)
    if packing.receipt is None:
        if json:
            say.as_json({"stopped": True, "volumes": len(packing.volumes), "left": packing.left})
            raise typer.Exit(INTERRUPTED)
        say.line(
            f"Stopped: {say.many(len(packing.volumes), 'volume')} of {len(packing.volumes) + packing.left} are written and read"
            " back. The same command goes on from there."
        )
        raise typer.Exit(INTERRUPTED)
    if json:
        finish(packing.receipt, json=True, attention=bool(packing.receipt.left_out or packing.receipt.findings))
        return
    if packing.volumes:
        _print(library, packing)
    else:
        say.line(f"The archive at {packing.folder} was whole already; only its account was to be closed.")
        say.line()
    finish(packing.receipt, json=False, attention=bool(packing.receipt.left_out or packing.receipt.findings))


def _within_reach(library: "Library") -> "list[Depot]":
    """What is not in the library any more, or damaged there, is taken from depots."""
    from bramblemoor.depots.register.known import known_depots
    from bramblemoor.depots.register.register import open_known

    opened = []
    for known in known_depots(library):
        try:
            opened.append(open_known(library, known))
        except DepotTrouble:
            continue  # told of the files that are lacking, if any
    return opened


def _dry_run(library: "Library", wish: "Wish", folder: Path, *, json: bool) -> None:
    from bramblemoor.depots.archives.pack import plan

    with TemporaryDirectory(prefix="bramblemoor-pack-") as place, say.meter() as progress:
        filling = plan(library, wish, Path(place), progress, say.size)
    frames, files = filling.frames, filling.files
    if json:
        say.as_json(
            {"dry_run": True, "volumes": filling.count, "frames": frames, "files": files, "bytes": filling.bytes}
        )
        return
    say.line(
        f"{say.many(frames, 'frame')} of {whose(library)} ({say.many(files, 'file')}) would go into"
        f" {say.many(filling.count, 'volume')} at {folder}, {say.size(filling.bytes)} together. Nothing was written."
    )


def _print(library: "Library", packing: "Packing") -> None:
    frames = sum(one.amount.frames for one in packing.volumes)
    say.line(
        f"Packed {say.many(frames, 'frame')} of {whose(library)} into {say.many(len(packing.volumes), 'volume')} at"
        f" {packing.folder}, {packing.volumes[0].path.name} and so on; each was read back."
    )
    say.line()
    say.table(
        ("volume", "frames", "files", "size", "from", "to"),
        [
            (
                str(number), f"{one.amount.frames:,}", f"{one.amount.files:,}", say.size(one.path.stat().st_size),
                str(Path(one.first).parent), str(Path(one.last).parent),
            )
            for number, one in enumerate(packing.volumes, 1)
        ],
        right=(0, 1, 2, 3),
    )  # fmt: skip
    say.line()
    say.line(f"To read them again, wherever they are: bramblemoor volumes {packing.folder}")
    say.line(f"To get frames back: bramblemoor restore DIR --from {packing.folder}")
    say.line()


def volumes(
    places: Annotated[
        list[Path], typer.Argument(metavar="PLACE...", help="Folders with an archive's volumes, or the volumes.")
    ],
    json: AsJson = False,
) -> None:
    """Read all volumes of an archive from their medium, and say what is damaged or missing. Needs no library."""
    from bramblemoor.depots.archives.opened import DATA, amiss, open_archive, volumes_in

    paths = [path for place in places for path in (volumes_in(place) if place.is_dir() else [place])]
    if not paths:
        raise WrongUse(
            f"There are no volumes in {', '.join(map(str, places))}.", "Name a folder that bramblemoor pack wrote to."
        )
    archive = open_archive(paths)
    total = sum(volume.path.stat().st_size for volume in archive.volumes)
    done, rows, wrong = 0, [], []
    with say.meter() as progress:
        for volume in archive.volumes:
            count = bad = 0
            for entry, trouble, size in amiss(volume):
                done += size
                progress(Stage("reading"), done, total)
                count += entry.startswith(DATA)
                if trouble:
                    bad += 1
                    wrong.append({"volume": volume.path.name, "entry": entry, "trouble": trouble})
            rows.append((volume, count, bad))
    lacks = archive.lacks
    if json:
        say.as_json({
            "archive": archive.name, "id": archive.id, "volumes": archive.count, "missing": lacks, "amiss": wrong,
            "unreadable": [one.name for one in archive.unreadable],
        })  # fmt: skip
    else:
        sound = not (lacks or wrong or archive.unreadable)
        whole = say.size(total)
        say.line(
            f"Archive {archive.name}: all of its {say.many(archive.count, 'volume')} ({whole}) were read, and are sound."
            if sound
            else f"Archive {archive.name} is NOT whole: {len(rows)} of {say.many(archive.count, 'volume')} ({whole}) were read."
        )
        say.line()
        say.table(
            ("volume", "of", "file", "files", "amiss"),
            [
                (str(volume.number), str(volume.count), volume.path.name, f"{count:,}", say.dash(bad))
                for volume, count, bad in rows
            ],
            right=(0, 1, 3, 4),
        )
        if any(volume.medium.grade != "medium" for volume, *_ in rows):
            say.line("What was read may have come from a cache: read again once the medium was taken out and put back.")
        for one in wrong:
            say.line(f"{one['volume']}: {one['entry']} is {one['trouble']}")
        for finding in archive.unreadable:
            say.line(finding.what)
        if lacks:
            say.line(f"Of {archive.name}, {archive.lacks_said} not here.")
        if not sound:
            say.line("Next: take another copy of these volumes, or pack anew what they held: bramblemoor pack.")
    if lacks or wrong or archive.unreadable:
        raise typer.Exit(1)


COMMANDS = {"pack": single("pack", pack), "volumes": single("volumes", volumes)}
