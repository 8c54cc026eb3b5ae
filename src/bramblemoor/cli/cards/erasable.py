"""erasable."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, know_stand_ins, library_here, single, whose
from bramblemoor.cli.options import selecting
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.depots.standing.standing import Holder
    from bramblemoor.intake.erasable import Answer, Item
    from bramblemoor.library.home import Library
    from bramblemoor.library.selection import Selection
    from bramblemoor.running import Progress

_FEW = 8


@selecting(leave_out=("frame",))
def erasable(
    source: Annotated[
        Path | None,
        typer.Argument(metavar="[SOURCE]", help="A card, a phone's folders, or any folder.", show_default=False),
    ] = None,
    folder: Annotated[
        list[str] | None, typer.Option(metavar="GLOB", help="Only what lies in this folder there; may be given again.")
    ] = None,
    account: Annotated[
        str, typer.Option("--account", metavar="SERVICE", help="What a service's account holds, which is asked for it.")
    ] = "",
    every: Annotated[bool, typer.Option("--all", help="Name every frame, not just a few.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """May it be erased? Each file of a card is read, and the copies of it that were read back are counted. Erases nothing.

    Of frames in the library, by what they have in common: may they leave the working drive? erasable --shoot '2026-05*'. Of an
    account: erasable --account thrushfield. The answer is yes if every frame has as many copies on other
    drives as the rule for erasing wants (bramblemoor.toml, [erase] copies); what you have culled yourself is named.
    """
    from bramblemoor.depots.standing.standing import holders_of
    from bramblemoor.intake.erasable import check_source

    if (source is not None) + (not selection.everything) + bool(account) != 1:
        raise WrongUse(
            "It was not said what might be erased.",
            "Name a card or folder, as bramblemoor erasable /media/you/CARD; or say which frames, as --shoot '2026-05*';"
            " or --account SERVICE.",
        )
    library = library_here(library_dir)
    know_stand_ins()
    holders = {one.number: one for one in holders_of(library)}
    with say.meter() as progress:
        if source is not None:
            answer = check_source(library, source, folder or [], progress)
            what = say.place(source.resolve())
        elif account:
            answer, what = _of_account(library, account, holders, progress)
        else:
            answer, what = _of_library(library, selection)
    if json:
        say.as_json(_document(answer, holders))
    else:
        _print(library, answer, holders, what, every=every)
    if not answer.may:
        raise typer.Exit(1)


def _of_library(library: "Library", selection: "Selection") -> "tuple[Answer, str]":
    """The answer for frames of the library, and what they are."""
    from bramblemoor.intake.erasable import check_selection
    from bramblemoor.library.selection import select

    selected = select(library, selection)
    return check_selection(library, selected, to_leave=True), selected.said.partition(" ")[2]


def _of_account(
    library: "Library", account: str, holders: "dict[int, Holder]", progress: "Progress"
) -> "tuple[Answer, str]":
    """The answer for an account: of one that shows its frames by each of them, else by what came of its exports."""
    from bramblemoor.cli.exports.signed_in import sign_in
    from bramblemoor.intake.erasable import check_selection
    from bramblemoor.library.receipts import Finding
    from bramblemoor.library.selection import Selection, select
    from bramblemoor.migrate.elsewhere import check_account
    from bramblemoor.migrate.sources import source_of
    from bramblemoor.services.book import service_named
    from bramblemoor.services.interface import Listing, Tree

    known = service_named(library, account)
    opened = sign_in(library, known, 60)
    if isinstance(opened, Tree | Listing):
        answer, services = check_account(
            library, source_of(known.name, opened, "", known.options.get("lists", "")), progress
        )
        holders.update(services)
        return answer, f"the account {known.name}"
    held = opened.survey().statement.frames
    selected = select(library, Selection(services=[known.name]))
    answer = check_selection(library, selected, to_leave=False)
    if held > selected.count:
        told = f"it holds {held:,} frames, and {selected.count:,} are here: {held - selected.count:,} are in no library"
        answer.findings.append(Finding(f"the account {known.name}", told, attention=True))
    return answer, f"the account {known.name}"


def _print(library: "Library", answer: "Answer", holders: "dict[int, Holder]", what: str, *, every: bool) -> None:
    from bramblemoor.intake.erasable import by_places

    frames, least = len(answer.items), answer.least
    if not answer.items:
        say.line(f"{what} holds nothing." if answer.may else f"No: nothing {_of(what)} could be read.")
        return
    held, culled = frames - len(answer.culled), len(answer.culled)
    if answer.may and culled:
        others = "the other" if culled == 1 else f"the other {culled:,}"
        say.line(f"Yes. Of {say.many(frames, 'frame')} {_of(what)} {held:,} {'is' if held == 1 else 'are'} held by {least} or"
                 f" more other copies that were read back; {others} you culled or left out.", "good")  # fmt: skip
    elif answer.may:
        say.line(f"Yes. Each of {say.many(frames, 'frame')} {_of(what)} is held by {least} or more other copies that were read"
                 " back.", "good")  # fmt: skip
    elif not answer.short:
        say.line(f"No: something {_of(what)} could not be looked at; it is named below.", "amiss")
    else:
        many = f"{len(answer.short):,} of {say.many(frames, 'frame')}"
        say.line(f"No: {many} {_of(what)} {'has' if len(answer.short) == 1 else 'have'} too few copies that were read back."
                 f" {whose(library)} wants {least}.", "amiss")  # fmt: skip
    say.line()
    say.table(
        ("copies", "frames", "held by"),
        [(f"{copies}", f"{count:,}", _said(places, holders)) for copies, places, count in by_places(answer)],
        right=(0, 1), wraps=2,
    )  # fmt: skip
    _print_items("Too few", [(one, one.why or f"{one.copies} of {least} copies") for one in answer.short], every)
    _print_items(
        "Not here, as you culled or left them out", [(one, f"on {one.culled}") for one in answer.culled], every
    )
    say.line()
    for finding in answer.findings:
        say.line(f"{finding.name}: {finding.what}.")
    if answer.short and what.startswith("the account"):
        say.line(
            "Next: bring it home (bramblemoor fetch, or order), then bramblemoor backup; or migrate it to another service."
            " Then ask again. Nothing was erased."
        )
    elif answer.short:
        absent = any(one.absent for one in answer.short)
        way = "bramblemoor intake, then " if absent else ""
        say.line(f"Next: {way}bramblemoor backup; then ask again. Nothing was erased.")
    elif not answer.may:
        say.line("Next: see to what is named above; then ask again. Nothing was erased.")
    else:
        say.line("Nothing was erased: do so in the camera, or with your system.")


def _of(what: str) -> str:
    """As it follows a count: what a selection says begins with "frames"."""
    return what.partition(" ")[2] if what.startswith(("frames ", "frame ")) else f"of {what}"


def _said(places: tuple[int, ...], holders: "dict[int, Holder]") -> str:
    known = [holders[place] for place in places if place in holders]
    return ", ".join(f"{one.name} ({one.medium}, {one.site})" for one in known) or "nothing that counts"


def _print_items(title: str, items: "list[tuple[Item, str]]", every: bool) -> None:
    if not items:
        return
    say.line()
    say.line(f"{title}:")
    shown = items if every else items[:_FEW]
    for one, why in shown:
        say.line(f"{one.name}: {why}", inward=2)
    if len(shown) < len(items):
        say.line(f"... and {len(items) - len(shown):,} more (--all)", inward=2)


def _document(answer: "Answer", holders: "dict[int, Holder]") -> dict[str, Any]:
    return {
        "erasable": answer.may, "copies_wanted": answer.least, "frames": len(answer.items), "frames_short": len(answer.short),
        "frames_culled": len(answer.culled),
        "items": [
            {
                "was": one.name, "files": one.files, "bytes": one.bytes, "copies_held": one.copies,
                "at": [holders[place].name for place in one.places if place in holders], "culled_on": one.culled or None,
                "why": one.why or None,
            }
            for one in answer.items
        ],
        "findings": [{"name": one.name, "what": one.what, "attention": one.attention} for one in answer.findings],
    }  # fmt: skip


COMMANDS = {"erasable": single("erasable", erasable)}
