"""The options of tell and unsay: what can be said of frames."""

from pathlib import Path
from typing import Annotated

import typer

Frames = Annotated[
    list[str] | None,
    typer.Argument(metavar="[FRAME]...", help="Paths, file names, numbers, or globs.", show_default=False),
]
DryRun = Annotated[bool, typer.Option("--dry-run", help="Only say what would be told.")]
Yes = Annotated[bool, typer.Option("--yes", help="Of several frames: do it without asking.")]


Text = Annotated[str | None, typer.Option(metavar="TEXT", show_default=False)]
Taken = Annotated[
    str | None,
    typer.Option(metavar="DATE", help="As 2026-05-09T14:30:00, with +01:00 or Z where known.", show_default=False),
]
ClockOff = Annotated[
    str | None,
    typer.Option(
        "--clock", metavar="SHIFT", show_default=False,
        help="By how much the clock that they were taken by is off in all: +1h, -30m, +26d5h.",
    ),
]  # fmt: skip
TimeZone = Annotated[
    str | None,
    typer.Option(
        "--time-zone", metavar="OFFSET", show_default=False, help="The time zone, as +01:00; the clock stays."
    ),
]
Location = Annotated[str | None, typer.Option(metavar="TEXT", help="What the location is called.", show_default=False)]
Position = Annotated[
    str | None, typer.Option(metavar="LAT,LON", help="In degrees, as 54.652519,2.133957.", show_default=False)
]
AddWords = Annotated[list[str] | None, typer.Option(metavar="TEXT", help="Add one; may be given again.")]
AddNames = Annotated[list[str] | None, typer.Option(metavar="NAME", help="Add one; may be given again.")]
TakeWords = Annotated[list[str] | None, typer.Option(metavar="TEXT", help="Take one away, whoever said it.")]
TakeNames = Annotated[list[str] | None, typer.Option(metavar="NAME", help="Take one away, whoever said it.")]
Rating = Annotated[str | None, typer.Option(metavar="STARS", help="0 to 5.", show_default=False)]
Apply = Annotated[
    list[str] | None,
    typer.Option(metavar="NAME", help="All that a template says; may be given again (bramblemoor template list)."),
]
TakeTemplate = Annotated[
    list[str] | None,
    typer.Option(metavar="NAME", help="Take out of the sidecars what a template has put there as XMP."),
]


PlaceNames = Annotated[
    bool,
    typer.Option("--place-names", help="Of frames with a position and no location: the nearest place, within 10 km."),
]
TrackFile = Annotated[
    Path | None,
    typer.Option(
        "--track",
        metavar="GPX",
        help="Of frames without a position: where a track (GPX 1.1) was then.",
        show_default=False,
    ),
]
