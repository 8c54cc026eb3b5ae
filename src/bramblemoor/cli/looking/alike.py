"""alike."""

from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single, whose
from bramblemoor.cli.library.receipts import finish_told
from bramblemoor.cli.options import selecting

if TYPE_CHECKING:
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selection
    from bramblemoor.looking.alike import Member

_FEW = 20


@selecting()
def alike(
    mark: Annotated[
        bool, typer.Option("--mark", help="Mark all but the best of each group to be culled; nothing is removed yet.")
    ] = False,
    every: Annotated[bool, typer.Option("--all", help="List every group, not just the first.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Mark without asking.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Find frames that show the same picture: the same file, or made of one another by compressing, resizing, cropping, turning.

    They are listed in groups, the best original first, each of the others with what it is. The similar pictures of a burst are
    not among them, nor are a raw and its JPEG. Nothing is removed; what you choose goes to the cull.
    """
    from bramblemoor.library.selection import select
    from bramblemoor.looking.alike import groups

    library = library_here(library_dir)
    selected = select(library, selection)
    with say.meter() as progress:
        found = list(groups(selected, progress))
    worse = [member for group in found for member in group[1:]]
    if json and not mark:
        say.as_json({
            "frames": selected.count, "frames_alike": len(worse), "bytes": sum(one.bytes for one in worse),
            "groups": [{"items": [
                {"path": one.path, "bytes": one.bytes, "width": one.width, "height": one.height, "why": one.reason or None}
                for one in group
            ]} for group in found],
        })  # fmt: skip
        return
    if not json:
        _print(library, found, selected.count, every=every)
    if mark and worse:
        _mark(library, worse, yes=yes, json=json)


def _print(library: "Library", found: "list[list[Member]]", count: int, *, every: bool) -> None:
    if not found:
        say.line(f"Of {say.many(count, 'frame')} of {whose(library)} no two show the same picture.")
        return
    for group in found if every else found[:_FEW]:
        say.line(f"{group[0].path}   {_size(group[0])}")
        for one in group[1:]:
            say.line(f"{one.path}   {_size(one)}: {one.reason}", inward=2)
    if len(found) > _FEW and not every:
        say.line(f"... and {len(found) - _FEW:,} more groups (--all)")
    worse = [one for group in found for one in group[1:]]
    say.line()
    say.line(f"{say.many(len(found), 'group')}, with {say.many(len(worse), 'frame')} besides the best of each:"
             f" {say.size(sum(one.bytes for one in worse))}.")  # fmt: skip
    say.line(
        "To mark these to be culled: bramblemoor alike --mark. To choose by eye: bramblemoor cull page DIR --frames-from FILE"
    )


def _size(one: "Member") -> str:
    pixels = f"{one.width} x {one.height}, " if one.width else ""
    return f"({pixels}{say.size(one.bytes)})"


def _mark(library: "Library", worse: "list[Member]", *, yes: bool, json: bool) -> None:
    from bramblemoor.library.sayings import MARK
    from bramblemoor.library.telling import tell_each
    from bramblemoor.running import Pace

    require_consent("Mark them?", f"{say.many(len(worse), 'frame')} would be marked", yes=yes, or_dry_run=False)
    with holding(library), say.meter() as progress:
        receipt = tell_each(library, {one.frame: [MARK] for one in worse}, "frames like others", progress, Pace())
    finish_told(receipt, json=json)


COMMANDS = {"alike": single("alike", alike)}
