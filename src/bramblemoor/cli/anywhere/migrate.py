"""migrate."""

import hashlib
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, Literal, cast

import typer

from bramblemoor.cli import say
from bramblemoor.cli.anywhere.telling import print_plan
from bramblemoor.cli.asking import require_consent
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single, stoppable
from bramblemoor.cli.exports.signed_in import Patience, sign_in
from bramblemoor.cli.library.receipts import amount_text, finish
from bramblemoor.cli.options import selecting
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.library.receipts import Receipt
    from bramblemoor.library.selection import Selection
    from bramblemoor.migrate.plan import Plan
    from bramblemoor.migrate.sending import Destination
    from bramblemoor.migrate.sources import Source
    from bramblemoor.migrate.transfers import Scope, Transfer
    from bramblemoor.migrate.worksheet import Worksheet
    from bramblemoor.services.interface import Account

_HOW = ("list", "sample", "all")


@dataclass(frozen=True)
class _Way:
    """From where to where, of what, and both ends opened."""

    transfer: "Transfer"
    is_new: bool
    source: "Source"
    destination: "Destination"
    account: "Account"


@selecting()
def migrate(
    source: Annotated[str, typer.Argument(metavar="FROM", help="A service, or library.")],
    destination: Annotated[str, typer.Argument(metavar="TO", help="A service.")],
    folder: Annotated[str, typer.Option(metavar="FOLDER", help="Only what lies in this folder of the source.")] = "",
    into: Annotated[str, typer.Option(metavar="FOLDER", help="Put it into this folder of the destination.")] = "",
    arrival: Annotated[
        str, typer.Option(metavar="TITLE", help="Put all that arrives into an album of this title, besides its own.")
    ] = "",
    folders_as_albums: Annotated[
        bool, typer.Option("--folders-as-albums", help="Make an album there of each folder of the source.")
    ] = False,
    as_they_are: Annotated[
        bool,
        typer.Option(
            "--as-they-are",
            help="Send pictures as they are, even where what is known of them could go only inside of a copy.",
        ),
    ] = False,
    prove: Annotated[
        str,
        typer.Option(
            metavar="HOW", help="How to prove it: by the destination's list, or fetch back a sample, or all of it."
        ),
    ] = "sample",
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show the plan.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Go on without asking.")] = False,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Move house: carry a collection from a service, or from the library, to another service.

    First a plan is shown: what the destination keeps, changes, or cannot hold. Then frames go from the one to the other without
    a copy here; of services only what --kind and --album say, of the library what any condition says. What arrived is proven.
    It may be stopped at any moment, and the same command goes on; given once more, it brings what is new, and what has gone
    there.
    """
    if prove not in _HOW:
        raise WrongUse(f"{prove!r} is no way to prove it.", f"Ways are: {', '.join(_HOW)}.")
    from bramblemoor.migrate.transfers import Scope, enter_transfer, worksheet_of

    library = library_here(library_dir)
    scope = Scope(
        said=selection.said() if not selection.everything else "",
        fields="" if selection.everything else _encoded(selection),
        below=folder.strip("/"), into=into.strip("/"), arrival=arrival, folders=folders_as_albums, embed=not as_they_are,
    )  # fmt: skip
    way = _way(library, source, destination, scope, selection, patience)
    if dry_run:
        _show(library, way, scope, json=json)
        return
    if way.is_new:
        with holding(library):
            enter_transfer(library, way.transfer)
    with worksheet_of(library, way.transfer) as sheet:
        plan = _planned(library, sheet, way, scope)
        sheet.put("stores", way.destination.keeps.stores)
        if not json:
            print_plan(way.transfer, plan, way.destination)
        _require_room(plan, way)
        waits = bool(plan.to_send[1] or sheet.counts(plan.look).get("sent"))
        if not waits and sheet.albums_mark() == sheet.get("albums"):
            _say_nothing(way, plan, sheet, json=json)
            return
        _require_consent(plan, destination, waits=waits, yes=yes)
        receipt = _run(library, sheet, way, plan, cast(Literal["list", "sample", "all"], prove), quiet=json)
    finish(receipt, json=json, attention=bool(receipt.left_out))


def _encoded(selection: "Selection") -> str:
    import msgspec

    return msgspec.json.encode(selection).decode()


def _way(
    library: Library, source: str, destination: str, scope: "Scope", selection: "Selection", patience: float
) -> _Way:
    """Both ends, signed in. Raises WrongUse where they are one, or one of them cannot be such an end."""
    from bramblemoor.library.selection import select
    from bramblemoor.migrate.destinations import destination_of
    from bramblemoor.migrate.sources import LibrarySource, chosen, source_of
    from bramblemoor.migrate.transfers import LIBRARY, transfer_for
    from bramblemoor.services.book import service_named

    if destination == LIBRARY:
        raise WrongUse(
            "What a service has comes into the library by other commands.",
            f"Of one that shows folders: bramblemoor fetch {source}; of others: bramblemoor order {source}.",
        )
    if source == destination and not scope.into:
        raise WrongUse(f"{source} would be moved to itself.", "Name another destination.")
    begin: Source
    if source == LIBRARY:
        if scope.below:
            raise WrongUse(
                "--folder is of services that show folders.", "Of the library choose with --shoot or --frame."
            )
        begin = LibrarySource(library, select(library, selection))
    else:
        known = service_named(library, source)
        opened = source_of(known.name, sign_in(library, known, patience), scope.below, known.options.get("lists", ""))
        begin = chosen(opened, selection)
    end = service_named(library, destination)
    account = sign_in(library, end, patience)
    template = library.settings.naming.flat
    into = scope.into or end.options.get("uploads", "")
    transfer, is_new = transfer_for(library, source, destination, scope)
    mark = hashlib.sha256(f"{library.settings.library.id} {transfer.id}".encode()).hexdigest()[:8]
    to = destination_of(end.name, account, into, template, mark, embed=scope.embed)
    return _Way(transfer, is_new, begin, to, account)


def _planned(library: Library, sheet: "Worksheet", way: _Way, scope: "Scope") -> "Plan":
    from bramblemoor.migrate.plan import make_plan
    from bramblemoor.migrate.transfers import brought_to
    from bramblemoor.services.interface import Uploads

    room = way.account.room() if isinstance(way.account, Uploads) else None
    with say.meter() as progress:
        earlier = brought_to(library, way.destination.name)
        return make_plan(sheet, way.source, way.destination, scope, room, earlier, progress)


def _show(library: Library, way: _Way, scope: "Scope", *, json: bool) -> None:
    """The plan alone; nothing of it is kept."""
    import tempfile
    from contextlib import closing
    from pathlib import Path

    from bramblemoor.migrate.transfers import copied

    with (
        tempfile.TemporaryDirectory(prefix="bramblemoor-") as scratch,
        closing(copied(library, way.transfer, Path(scratch, "plan.sqlite"))) as sheet,
    ):
        plan = _planned(library, sheet, way, scope)
    if json:
        say.as_json({"dry_run": True, **plan_document(way.transfer, plan)})
        return
    print_plan(way.transfer, plan, way.destination)
    say.line("Nothing was sent: this was only the plan.")


def plan_document(transfer: "Transfer", plan: "Plan") -> dict[str, Any]:
    def amount(three: tuple[int, int, int]) -> dict[str, int]:
        return dict(zip(("frames", "files", "bytes"), three, strict=True))

    return {
        "source": transfer.source, "destination": transfer.destination,
        "at_source": amount(plan.listed), "to_send": amount(plan.to_send),
        "not_taken": amount(plan.refused), "room": plan.room,
        "fidelity": [
            {"what": row.what, "frames_kept": row.kept, "frames_inside": row.inside, "frames_changed": row.changed,
             "frames_lost": row.lost, "how": row.how, "example": row.example} for row in plan.table
        ],
    }  # fmt: skip


def _require_room(plan: "Plan", way: _Way) -> None:
    if plan.room is not None and plan.to_send[2] > plan.room:
        raise NotPossible(
            f"{way.destination.name} has room for {say.size(plan.room)}, and {say.size(plan.to_send[2])} are to be sent.",
            "Make room there, or send less: choose with --kind, --album or other conditions.",
        )


def _require_consent(plan: "Plan", destination: str, *, waits: bool, yes: bool) -> None:
    frames, files, _ = plan.to_send
    what = say.many(frames, "frame") if frames else say.many(files, "file")
    asked = f"Send {what} to {destination}?" if waits else f"Nothing is to be sent. Put albums right at {destination}?"
    require_consent(asked, "It would be sent", yes=yes)


def _say_nothing(way: _Way, plan: "Plan", sheet: "Worksheet", *, json: bool) -> None:
    if json:
        say.as_json({"transfer": way.transfer.id, "nothing_to_do": True})
        return
    say.line(
        f"Nothing to do: {say.many(plan.done[0], 'frame')} arrived before"
        + (f", and {plan.refused[0]:,} are not taken there." if plan.refused[0] else ".")
    )
    if restated := sheet.restated(plan.look):
        say.line(f"What is said of {say.many(len(restated), 'frame')} has changed since; there it is as it was.")
    say.line(
        f"May the old account go? bramblemoor erasable --account {way.source.name}"
        if way.source.name != "library"
        else ""
    )


def _run(
    library: Library, sheet: "Worksheet", way: _Way, plan: "Plan", how: Literal["list", "sample", "all"], *, quiet: bool
) -> "Receipt":
    """Send, prove, and account for it. Ends the command where it is stopped on the way."""
    from bramblemoor.frames.moments import now_utc
    from bramblemoor.library.receipts import next_number, stamp, write_receipt
    from bramblemoor.migrate.account import receipt_of_transfer
    from bramblemoor.migrate.carry import carry
    from bramblemoor.migrate.proving import prove
    from bramblemoor.running import Pace

    run, pace, started = int(sheet.get("runs", "0")) + 1, Pace(), stamp(now_utc())
    key = f"{library.settings.library.id}:{way.transfer.id}"
    with say.meter() as progress, stoppable(pace):
        carried = carry(sheet, key, way.source, way.destination, plan.look, run, pace, progress)
    if carried.stopped:
        raise NotPossible(
            f"Stopped: {say.many(carried.frames, 'frame')} of {plan.to_send[0]:,} were sent, and are not proven yet.",
            "Go on with the same command; how far it is: bramblemoor transfer show " + way.transfer.id,
        )
    with say.meter() as progress:
        sheet.note_albums(way.destination.put_albums(key, sheet.albums(), sheet.lists))
        proven = prove(sheet, way.account, way.destination.into, how, progress)
    sheet.put("runs", str(run))
    with holding(library):
        number = next_number(library.receipts)
        receipt = receipt_of_transfer(sheet, way.transfer, plan, proven, number, run, started, amount_text)
        write_receipt(library.receipts, receipt)
    if not quiet and carried.frames:
        say.line(
            f"Sent {say.many(carried.frames, 'frame')}, {say.size(carried.bytes)}, in {say.duration(carried.seconds)}"
            f" ({say.size(carried.rate)}/s)."
        )
        say.line()
    return receipt


COMMANDS = {"migrate": single("migrate", migrate)}
