"""allot."""

import re
from collections.abc import Iterable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, bytes_of, library_here, single, whose
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.planning.packing import Drive, Year, YearsOnDrives

_DRIVE = re.compile(r"([^=@]+)=([^=@]+)(?:@(.+))?")


def allot(
    drives: Annotated[
        list[str],
        typer.Option("--drive", metavar="NAME=SIZE[@SITE]", help="A drive, as red=4TB@cottage; may be repeated."),
    ],
    twins: Annotated[int, typer.Option("--twins", min=1, help="On how many drives each year is to lie.")] = 2,
    reserve: Annotated[
        float, typer.Option("--reserve", metavar="PERCENT", min=0, max=90, help="Room to leave on each.")
    ] = 10,
    growth: Annotated[
        float,
        typer.Option("--growth", metavar="PERCENT", help="How much larger each coming year is than the one before."),
    ] = 10,
    ahead: Annotated[int, typer.Option("--ahead", min=0, help="Make room for so many coming years.")] = 1,
    plot: Annotated[Path | None, typer.Option("--plot", metavar="FILE.png", help="Draw it, too.")] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Propose which years go on which drives: whole years, each with its twin, on the fewest drives, with room to grow.

    This year is taken as it will be at its end at the present pace. Nothing is written to any drive.
    """
    from bramblemoor.library.find import bytes_by_year
    from bramblemoor.planning.packing import grown, pack

    library = library_here(library_dir)
    given = [_drive(text) for text in drives]
    if len({drive.name for drive in given}) < len(given):
        raise WrongUse("Two drives have the same name.", "Give each a name of its own.")
    sizes = bytes_by_year(library)
    today = date.today()
    gone = (today - date(today.year, 1, 1)).days / 365
    years = grown(sizes, today.year, gone, growth / 100, ahead)
    if not years:
        raise WrongUse(f"{whose(library)} holds no dated frames yet.", "Bring pictures in first.")
    packed = pack(years, given, copies=twins, reserve=reserve / 100)
    if plot is not None:
        from bramblemoor.cli.copies.allot_plot import draw

        draw(plot, given, packed, reserve / 100)
    if json:
        say.as_json(
            {
                "years": _document(years),
                "drives": [
                    {
                        "drive": drive.name,
                        "years": _document(packed.on.get(drive.name, ())),
                    }
                    for drive in given
                ],
                "no_room_for": [year.year for year in packed.left],
            }
        )
    else:
        _print(given, packed, twins, reserve, today.year)
        if plot is not None:
            say.line(f"Drawn in {plot}.")
    if packed.left:
        raise typer.Exit(1)


def _document(years: "Iterable[Year]") -> list[dict[str, int]]:
    return [{"year": year.year, "bytes": year.bytes} for year in years]


def _drive(text: str) -> "Drive":
    from bramblemoor.planning.packing import Drive

    match = _DRIVE.fullmatch(text)
    if match is None:
        raise WrongUse(f"{text!r} is no drive.", "Write it as red=4TB, or red=4TB@cottage.")
    return Drive(match[1], bytes_of(match[2]), match[3] or "")


def _spans(years: list[int], this_year: int) -> str:
    """2012-2015, 2018, 2026*: what still grows has a star."""
    spans: list[list[int]] = []
    for year in years:
        if spans and year == spans[-1][-1] + 1:
            spans[-1].append(year)
        else:
            spans.append([year])
    texts = (f"{span[0]}-{span[-1]}" if len(span) > 1 else f"{span[0]}" for span in spans)
    return ", ".join(text + ("*" if int(text[-4:]) >= this_year else "") for text in texts)


def _print(drives: "list[Drive]", packed: "YearsOnDrives", twins: int, reserve: float, this_year: int) -> None:
    rows = []
    for drive in drives:
        placed = packed.on.get(drive.name, ())
        used = sum(year.bytes for year in placed)
        rows.append(
            (
                drive.name, drive.site or "-", say.size(drive.bytes),
                _spans([year.year for year in placed], this_year) or "not needed",
                say.size(used) if used else "-", say.size(drive.bytes - used),
            )
        )  # fmt: skip
    say.table(("drive", "site", "size", "years", "filled", "free"), rows, right=(2, 4, 5))
    if any("*" in row[3] for row in rows):
        say.line("* as large as it will be at its end, at the present pace and growth", inward=2)
    if packed.left:
        names = ", ".join(str(year.year) for year in packed.left)
        lacking = sum(year.bytes for year in packed.left) * twins
        say.line(
            f"NO ROOM for {names}: about {say.size(lacking / (1 - reserve / 100))} more are needed, on {twins} drives."
        )
    else:
        used = len(packed.on)
        say.line(
            f"Every year lies whole on {say.many(twins, 'drive')}; {used} of {len(drives)} drives are used, {reserve:g} % of"
            " each is kept free."
        )
        first = next(iter(packed.on))
        year = packed.on[first][0].year
        say.line(
            f"To do it: bramblemoor depot add {first} FOLDER --year {year} ..., backup, then bramblemoor bind {year}."
        )


COMMANDS = {"allot": single("allot", allot)}
