"""intake."""

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, open_depots, single, stoppable
from bramblemoor.cli.failing import INTERRUPTED
from bramblemoor.cli.library.receipts import amount_text, print_receipt, run_document

if TYPE_CHECKING:
    from bramblemoor.depots.bag.depot import Depot
    from bramblemoor.intake.interface import Plan, Wishes
    from bramblemoor.intake.take_in import Ended
    from bramblemoor.library.home import Library
    from bramblemoor.library.receipts import Finding, LeftOut

_FEW = 12


Subjects = Annotated[
    list[str] | None,
    typer.Option(
        "--subject", metavar="TEXT", help="What the shoot is of; of several shoots one for each, in their order."
    ),
]
Locations = Annotated[
    list[str] | None,
    typer.Option("--location", metavar="TEXT", help="Where it was, if that is worth telling; of several likewise."),
]
Day = Annotated[
    str, typer.Option("--date", metavar="DATE", help="Its day, as 2026-05-09; that of its first frame if not given.")
]
Split = Annotated[
    str, typer.Option("--split", metavar="day|GAP", help="Several shoots: a new one each day, or after a gap, as 3h.")
]
ByMonth = Annotated[bool, typer.Option("--by-month", help="No shoot: into folders by month of capture, names kept.")]
Clocks = Annotated[
    list[str] | None,
    typer.Option(
        "--clock", metavar="CAMERA=SHIFT",
        help="Correct a camera's clock: +1h, -30m; or when its first frame was really taken.",
    ),
]  # fmt: skip
Folders = Annotated[
    list[str] | None,
    typer.Option("--folder", metavar="GLOB", help="Only what lies in this folder there; may be given again."),
]
AsAlbums = Annotated[bool, typer.Option("--albums", help="Its folders become albums.")]
OnlyNew = Annotated[bool, typer.Option("--only-new", help="Pass by, unread, what was read on this device before.")]
Device = Annotated[
    str,
    typer.Option("--device", metavar="NAME", help="What to know the device by, where its file system does not tell."),
]
Leave = Annotated[
    list[str] | None,
    typer.Option("--leave", metavar="GLOB", help="Leave these frames out, by name or path there; may be given again."),
]
Templates = Annotated[
    list[str] | None,
    typer.Option("--template", metavar="NAME", help="Say all that a template says; may be given again."),
]
SecondCopies = Annotated[
    list[str] | None,
    typer.Option("--second-copy", metavar="DEPOT", help="Copy to this depot in the same reading; may be given again."),
]


def intake(
    source: Annotated[
        Path, typer.Argument(metavar="SOURCE", help="A card, a phone's folders, or any folder with pictures.")
    ],
    subject: Subjects = None,
    location: Locations = None,
    date: Day = "",
    split: Split = "",
    by_month: ByMonth = False,
    clock: Clocks = None,
    folder: Folders = None,
    albums: AsAlbums = False,
    only_new: OnlyNew = False,
    device: Device = "",
    leave: Leave = None,
    template: Templates = None,
    again: Annotated[bool, typer.Option("--again", help="Take in once more what you have culled.")] = False,
    second_copy: SecondCopies = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only look, and show the plan.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Carry the plan out without asking.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Take in what lies on a card, a phone or in a folder: looked at, planned, and, once you agree, read once and checked.

    A card becomes a shoot: bramblemoor intake /media/you/CARD --subject 'Reed cutting' --location 'Saltby Fen'. Its folder and
    its frames' names are made by templates in bramblemoor.toml: [naming] shoot and frame. Raws and their JPEG, clips, voice
    notes and sidecars stay together under one number; a second card of the same shoot continues the numbers.

    Whatever lies there is taken in, of a kind that is known or not, unless you --leave it. What is in the library already, under
    whatever name, is not taken in again; what of it is missing or damaged here is mended. Frames in which nothing is to be seen
    are named, and marked to be culled. Nothing is changed or deleted at the source. Ctrl-C stops in good order; the same command
    goes on.
    """
    from bramblemoor.intake.interface import Wishes

    library = library_here(library_dir)
    wishes = Wishes(
        source=str(source.resolve()), date=date,
        subjects=[one.strip() for one in subject or []], locations=[one.strip() for one in location or []],
        by_month=by_month, split=split, clocks=clock or [], folders=folder or [], albums=albums, only_new=only_new,
        leave=leave or [], again=again, device=device, templates=template or [], depots=second_copy or [],
    )  # fmt: skip
    with ExitStack() as stack:
        stack.enter_context(holding(library))
        if dry_run:
            print_plan(library, _planned(library, wishes), (), json=json)
            if not json:
                say.line("Nothing was taken in (--dry-run).")
            return
        depots = _depots(library, wishes, stack)
        plan, resumed = agreed(library, wishes, _planned, depots, yes=yes, json=json)
        if plan is None:
            return
        ended = carry_out(library, plan, depots, resumed=resumed)
    finish(ended, json=json)
    if not json and not ended.unfinished:
        say.line()
        say.line(f"Nothing was changed at the source. Before it is erased: bramblemoor erasable {_typed(source)}")
    exit_by(ended)


def _typed(source: Path) -> str:
    import shlex

    return shlex.quote(str(source))


def _depots(library: "Library", wishes: "Wishes", stack: ExitStack) -> "Sequence[Depot]":
    from bramblemoor.intake.take_in import refuse_choosy

    if not wishes.depots:
        return ()
    depots, _ = stack.enter_context(open_depots(library, wishes.depots))
    refuse_choosy(depots)
    return depots


def _planned(library: "Library", wishes: "Wishes") -> "Plan":
    from bramblemoor.intake.plan import make_plan

    with say.meter() as progress:
        return make_plan(library, wishes, progress)


def agreed(
    library: "Library", wishes: "Wishes", planned: "Callable[[Library, Wishes], Plan]", depots: "Sequence[Depot]", *,
    yes: bool, json: bool,
) -> "tuple[Plan | None, bool]":  # fmt: skip
    """The plan to carry out, and whether it is that of an intake that was interrupted, which was agreed to then."""
    from bramblemoor.intake.kept_plan import is_for, kept_plan

    begun = kept_plan(library)
    if begun is not None and is_for(begun, wishes):
        say.note(f"Going on with the intake that was begun on {begun.started[:10]} and interrupted.")
        return begun, True
    if begun is not None:
        _end_other(library, begun)
    plan = planned(library, wishes)
    if plan.changes_nothing:
        _print_nothing(library, plan, json=json)
        return None, False
    if not json:
        print_plan(library, plan, depots, json=False)
    require_consent(
        "Merge it?" if wishes.merge else "Take these in?",
        f"{say.many(plan.taken.frames, 'frame')}, {say.many(plan.taken.files, 'file')}, would be taken in"
        + (f", and {say.many(len(plan.hurt), 'file')} here mended" if plan.hurt else ""),
        yes=yes,
        undone="Nothing was taken in.",
    )
    return plan, False


def _end_other(library: "Library", begun: "Plan") -> None:
    """Another intake was interrupted, and is not gone on with: what has come of it is entered, the rest is at its source."""
    from bramblemoor.intake.take_in import end_interrupted

    count = end_interrupted(library, begun)
    say.note(
        f"An intake of {begun.wishes.source} was interrupted before: {count:,} of its {len(begun.frames):,} frames are in the"
        " library. The others are taken in by the same command as then."
    )


def carry_out(library: "Library", plan: "Plan", depots: "Sequence[Depot]", *, resumed: bool) -> "Ended":
    from bramblemoor.intake.take_in import take_in
    from bramblemoor.running import Pace

    pace = Pace()
    with stoppable(pace), say.meter() as progress:
        return take_in(library, plan, depots, progress, pace, resumed=resumed)


def finish(ended: "Ended", *, json: bool) -> None:
    """Show what came of it."""
    receipt = ended.receipt
    if json:
        say.as_json(run_document(receipt) | {"stopped": ended.stopped, "unfinished": ended.unfinished})
    else:
        print_receipt(receipt)
        if ended.unfinished:
            say.line()
            say.line(
                f"Not done: {ended.unfinished}. Put that right, and give the same command again: it goes on.", "amiss"
            )


def exit_by(ended: "Ended") -> None:
    """End with the code that says how it went."""
    receipt = ended.receipt
    if ended.stopped:
        raise typer.Exit(INTERRUPTED)
    if ended.unfinished:
        raise typer.Exit(3)
    troubled = [one for one in receipt.findings if one.attention]
    if troubled or not receipt.balanced:
        raise typer.Exit(1)


def _print_nothing(library: "Library", plan: "Plan", *, json: bool) -> None:
    if json:
        say.as_json(_document(library, plan, dry_run=False) | {"nothing_to_do": True})
    else:
        if plan.came_in.files:
            print_plan(library, plan, (), json=False)
        say.line(f"There is nothing new to {'merge' if plan.wishes.merge else 'take in'}.")
    if any(one.attention for one in plan.findings):
        raise typer.Exit(1)


def print_plan(library: "Library", plan: "Plan", depots: "Sequence[Depot]", *, json: bool) -> None:
    """What an intake is going to do."""
    from bramblemoor.library.receipts import total

    if json:
        say.as_json(_document(library, plan, dry_run=True))
        return
    source = say.place(Path(plan.wishes.source))
    say.line(f"{source} holds {amount_text(plan.came_in)}.")
    rows = [
        ("to be taken in", plan.taken), ("in the library already", total(one.amount for one in plan.known)),
        ("left: twice there", total(one.amount for one in plan.twice)),
        ("left: you said so", total(one.amount for one in plan.drops)),
        ("left: you culled them", total(one.amount for one in plan.culled)),
        ("left: new beside pictures that are here", total(one.amount for one in plan.beside)),
        ("left: cannot be read", total(one.amount for one in plan.left)),
    ]  # fmt: skip
    say.table(
        ("", "frames", "files", "size"),
        [(what, say.dash(one.frames), say.dash(one.files), say.size(one.bytes)) for what, one in rows if one.files],
        right=(1, 2, 3),
    )
    if plan.shoots:
        say.line()
        say.table(
            ("into", "frames", "taken", "named"),
            [
                (
                    _folder(one.folder, one.there), say.dash(one.frames), _span(one.begins, one.ends),
                    one.first if one.frames == 1 else f"{one.first} to {one.last}",
                )
                for one in plan.shoots
            ],
            right=(1,), wraps=3,
        )  # fmt: skip
    _print_named(
        "Nothing is to be seen in these; they come in marked to be culled (--leave NAME leaves one out)", plan.misfires
    )
    _print_named("You said to leave these out", plan.drops)
    _print_named("You culled these (--again takes them in once more)", plan.culled)
    _print_named("These are there twice", plan.twice)
    _print_joining(plan)
    _print_hurt(plan)
    _print_named("These are new beside pictures that are here, and not taken in", plan.beside)
    _print_named("These are not taken in", plan.left)
    _print_findings([*plan.findings, *plan.joined.findings])
    _print_joined(plan)
    if plan.frames:
        say.line()
        _print_room(library, plan, depots)


def _print_joining(plan: "Plan") -> None:
    joining = [(file, frame.joins) for frame in plan.frames if frame.joins for file in frame.files]
    if not joining:
        return
    say.line()
    say.line("These come to frames that are here:")
    for file, path in joining[:_FEW]:
        say.line(f"{file.source}: to {path.removeprefix('pictures/')}", inward=2)
    if len(joining) > _FEW:
        say.line(f"... and {len(joining) - _FEW:,} more; all by name: --dry-run --json", inward=2)


def _print_hurt(plan: "Plan") -> None:
    if not plan.hurt:
        return
    say.line()
    say.line("These are missing or damaged here, and will be mended by what lies there:", "amiss")
    for one in plan.hurt[:_FEW]:
        say.line(f"{one.path.removeprefix('pictures/')} ({one.why}): by {one.source}", inward=2)
    if len(plan.hurt) > _FEW:
        say.line(f"... and {len(plan.hurt) - _FEW:,} more; all by name: --dry-run --json", inward=2)


def _print_joined(plan: "Plan") -> None:
    """What the ledger of a library to be merged tells besides its frames."""
    joined = plan.joined
    if joined.frames or joined.albums:
        say.line()
    if joined.frames:
        are = "is" if joined.frames == 1 else "are"
        say.line(
            f"What that library knows of {say.many(joined.frames, 'frame')} that {are} here is added; nothing is replaced."
        )
    if joined.albums:
        say.line(f"{say.many(joined.albums, 'album')} {'comes' if joined.albums == 1 else 'come'} along, or grow.")


def _folder(folder: str, there: int) -> str:
    inside = folder.removeprefix("pictures/")
    return f"{inside} (there: {there:,})" if there else inside


def _span(begins: str, ends: str) -> str:
    if not begins:
        return "undated"
    if begins[:10] == ends[:10]:
        return f"{begins} to {ends[11:]}" if begins != ends else begins
    return f"{begins[:10]} to {ends[:10]}"


def _print_named(title: str, left: "Sequence[LeftOut]") -> None:
    if not left:
        return
    say.line()
    say.line(f"{title}:")
    for one in left[:_FEW]:
        say.line(f"{one.name}: {one.reason}", inward=2)
    if len(left) > _FEW:
        say.line(f"... and {len(left) - _FEW:,} more; all by name: --dry-run --json", inward=2)


def _print_findings(findings: "Sequence[Finding]") -> None:
    if not findings:
        return
    say.line()
    say.line("Worth knowing:")
    for one in sorted(findings, key=lambda one: not one.attention)[:_FEW]:
        say.line(f"{one.name}: {one.what}.", inward=2)
    if len(findings) > _FEW:
        say.line(f"... and {len(findings) - _FEW:,} more; all by name: --dry-run --json", inward=2)


def _print_room(library: "Library", plan: "Plan", depots: "Sequence[Depot]") -> None:
    from bramblemoor.disk.durable import free_bytes

    free = [f"the library's drive has {say.size(free_bytes(library.root))} free"]
    for depot in depots:
        room = depot.store.room()
        free.append(f"{depot.name} {say.size(room)}" if room is not None else f"{depot.name} does not tell")
    say.line(f"They need {say.size(plan.taken.bytes)}; {', '.join(free)}.")


def _document(library: "Library", plan: "Plan", *, dry_run: bool) -> dict[str, Any]:
    import msgspec

    from bramblemoor.disk.durable import free_bytes

    left = {
        "twice": plan.twice, "told to leave": plan.drops, "culled": plan.culled, "beside": plan.beside,
        "unreadable": plan.left,
    }  # fmt: skip
    return {
        "dry_run": dry_run, "device": plan.device, "came_in": msgspec.to_builtins(plan.came_in),
        "to_come": msgspec.to_builtins(plan.taken), "free_bytes": free_bytes(library.root),
        "shoots": [
            {
                "path": one.folder, "frames": one.frames, "bytes": one.bytes, "frames_already": one.there, "first": one.first,
                "last": one.last, "begins": one.begins or None, "ends": one.ends or None,
            }
            for one in plan.shoots
        ],
        "misfires": msgspec.to_builtins(plan.misfires),
        "takes": [
            {"path": file.path or None, "was": file.source, "role": file.role, "bytes": file.bytes}
            for _, file in plan.files()
        ],
        "already": [{"path": one.path or None, "was": one.source} for one in plan.known],
        "mends": [{"path": one.path, "was": one.source, "state": one.why} for one in plan.hurt],
        "left_out": [
            {"state": state, **msgspec.to_builtins(one)} for state, several in left.items() for one in several
        ],
        "frames_joined": plan.joined.frames, "albums_joined": plan.joined.albums,
        "findings": msgspec.to_builtins([*plan.findings, *plan.joined.findings]),
    }  # fmt: skip


COMMANDS = {"intake": single("intake", intake)}
