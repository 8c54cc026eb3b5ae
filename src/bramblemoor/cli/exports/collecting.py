"""collect, fetch."""

import shutil
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single, stoppable
from bramblemoor.cli.exports.orders import Album, Kind, Since, Until, check_albums, scope_of
from bramblemoor.cli.exports.signed_in import Patience, WhichService, exporting, sign_in
from bramblemoor.cli.exports.unpack import to_see_to, unpack_folder, unpack_order
from bramblemoor.cli.library.receipts import finish
from bramblemoor.errors import NotPossible, ServiceTrouble, WrongUse
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding

if TYPE_CHECKING:
    from bramblemoor.library.receipts import Receipt
    from bramblemoor.services.book import KnownOrder, KnownService
    from bramblemoor.services.collect import Giving, PartCollected
    from bramblemoor.services.interface import Exports, OrderScope, Tree

_OPEN = ("asked", "preparing", "ready", "collected")


def collect(
    order: Annotated[
        str | None, typer.Argument(metavar="[ORDER]", help="Which order; the latest if not given.", show_default=False)
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="All orders that are not collected yet, one after another.")
    ] = False,
    wait: Annotated[
        float, typer.Option(metavar="SECONDS", min=0, help="How long to wait for the service to prepare it.")
    ] = 3600,
    at: Annotated[
        str,
        typer.Option(
            "--at",
            metavar="SERVICE/FOLDER",
            help="Where the service has put the parts: a folder service or bucket of yours.",
        ),
    ] = "",
    bell: Annotated[bool, typer.Option("--bell", help="Ring the terminal's bell when everything is here.")] = False,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Fetch every part of an export, check length and digest, and resume what broke.

    Waits while the service prepares it; or leave, and run it again at any time: it goes on where it stopped.
    """
    from bramblemoor.services.book import order_named, orders, service_named

    library = library_here(library_dir)
    done: list[dict[str, Any]] = []
    with holding(library):
        if every and order is None:
            chosen = [one for one in orders(library) if one.state in _OPEN and one.state != "collected"]
        else:
            chosen = [order_named(library, order, _OPEN)]
        for one in chosen:
            account = exporting(library, service_named(library, one.service), patience)
            ready = _wait_until_ready(library, one, account, wait, quiet=json)
            results = _collect(library, ready, _giving(library, ready, account, at, patience), quiet=json)
            rows = [
                {"part": part.part.name, "bytes": part.part.bytes, "fetched": part.fetched, "resumed_at": part.resumed}
                for part in results
            ]
            done.append({"order": one.id, "state": "collected", "parts": rows})
    if bell:
        say.ring()
    if json:
        say.as_json({"orders": done, "nothing_to_do": not done})
        return
    if not chosen:
        say.line("No order waits to be collected. See all: bramblemoor order list.")
        return
    say.line("Next: bramblemoor unpack.")


def _wait_until_ready(
    library: Library, chosen: "KnownOrder", account: "Exports", wait: float, *, quiet: bool
) -> "KnownOrder":
    """The order with its parts, once the service has prepared it. Raises ServiceTrouble where it takes too long or is gone."""
    from bramblemoor.services.book import order_named, record_order

    _refuse_gone(chosen.id, chosen.state)
    began, pause, told = time.monotonic(), 0.4, ""
    while not chosen.parts:
        placed = account.order(chosen.id)
        record_order(library, chosen.service, chosen.scope, placed)
        if placed.state != told and not quiet:
            say.line(f"{chosen.id}: {placed.state}")
        told = placed.state
        _refuse_gone(chosen.id, placed.state)
        chosen = order_named(library, chosen.id, ())
        if placed.state != "ready":
            if time.monotonic() - began > wait:
                raise ServiceTrouble(
                    f"{chosen.service} is still preparing {chosen.id}.",
                    "Come back later: bramblemoor collect goes on.",
                )
            time.sleep(pause)
            pause = min(30.0, pause * 1.5)
    return chosen


def _refuse_gone(order: str, state: str) -> None:
    if state in ("lapsed", "withdrawn"):
        raise ServiceTrouble(
            f"The order {order} is {state}.", f"Order the same again: bramblemoor order --again {order}."
        )


def _giving(library: Library, chosen: "KnownOrder", account: "Exports", at: str, patience: float) -> "Giving":
    """What the parts are had from. Raises WrongUse where they were delivered, and it was not said where to."""
    from bramblemoor.services.book import service_named
    from bramblemoor.services.collect import Delivered
    from bramblemoor.services.interface import Tree

    if not at:
        if any(not part.href for part in chosen.parts):
            where = f" to {chosen.scope.deliver}" if chosen.scope.deliver else ""
            raise WrongUse(
                f"{chosen.service} has delivered the parts of {chosen.id}{where}.",
                f"Say where they lie: bramblemoor collect {chosen.id} --at SERVICE/FOLDER.",
            )
        return account
    name, _, folder = at.strip("/").partition("/")
    known = service_named(library, name)
    tree = sign_in(library, known, patience)
    if not isinstance(tree, Tree):
        raise WrongUse(f"{name} shows no folders.", "Name a folder service or a bucket.")
    return Delivered(tree, folder)


def _collect(library: Library, chosen: "KnownOrder", account: "Giving", *, quiet: bool) -> "list[PartCollected]":
    from bramblemoor.services.collect import collect as fetch_parts

    results = []
    with say.meter() as report:
        for result in fetch_parts(library, chosen, account, report):
            results.append(result)
            if not quiet:
                how = _how(result.fetched, result.resumed)
                say.line(f"  {result.part.name}  {say.size(result.part.bytes):>8}  {how}")
    if not quiet:
        parts = "The part" if len(results) == 1 else f"All {len(results)} parts"
        verb = "is" if len(results) == 1 else "are"
        say.line(
            f"{parts} of {chosen.id} {verb} here, {say.size(chosen.bytes)}, with the digests that the service gave."
        )
    return results


def fetch(
    service: WhichService = None,
    below: Annotated[
        list[str] | None,
        typer.Option("--folder", metavar="FOLDER", help="Of a service with folders only this one; may be given again."),
    ] = None,
    album: Album = None,
    since: Since = "",
    until: Until = "",
    kind: Kind = "",
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Bring home at once, without an order: all that a service shows in folders, or a small selection of one that makes exports.

    Of folders the tree is kept; what was brought before, and has not changed, is not fetched again.
    """
    from bramblemoor.services.book import service_named
    from bramblemoor.services.interface import Tree, exports_of

    scope = scope_of(album, since, until, kind)
    library = library_here(library_dir)
    known = service_named(library, service)
    with holding(library):
        account = sign_in(library, known, patience)
        if isinstance(account, Tree):
            if album or since or until or kind:
                raise WrongUse(
                    f"{known.name} shows folders: what it holds is chosen by folder.", "Choose with --folder FOLDER."
                )
            receipt = _fetch_tree(library, known, account, below or (), quiet=json)
        elif below:
            raise WrongUse(f"{known.name} shows no folders.", "Choose with --album, --since, --until or --kind.")
        else:
            receipt = _fetch_pick(library, known, exports_of(account, known.name), scope, quiet=json)
    if receipt is None:
        if json:
            say.as_json({"service": known.name, "nothing_to_do": True})
        else:
            say.line("Nothing to do: all of it is in the library.")
        return
    finish(receipt, json=json, attention=to_see_to(receipt))


def _fetch_pick(
    library: Library, known: "KnownService", account: "Exports", scope: "OrderScope", *, quiet: bool
) -> "Receipt":
    from bramblemoor.services.book import order_named, record_order
    from bramblemoor.services.interface import TooMuchAtOnce

    if scope.albums:
        check_albums(scope.albums, [one.title for one in account.survey().albums])  # type: ignore[attr-defined]
    try:
        placed = account.pick(scope)
    except TooMuchAtOnce as error:
        raise NotPossible(
            f"{known.name} does not give that at once: {error}.",
            "Order it: bramblemoor order, with the same options.",
        ) from error
    record_order(library, known.name, scope, placed)
    _collect(library, order_named(library, placed.id, ()), account, quiet=quiet)
    return unpack_order(library, order_named(library, placed.id, ()))


def _fetch_tree(
    library: Library, known: "KnownService", tree: "Tree", below: "Sequence[str]", *, quiet: bool
) -> "Receipt | None":
    """Fetch what is new of a tree, and unpack it; None where nothing is."""
    from bramblemoor.running import Pace
    from bramblemoor.services.bringing_home import bring, is_brought, require_some

    pace = Pace()
    with say.meter() as progress, stoppable(pace):
        found = bring(
            library, known.name, tree, [one.strip("/") for one in below], known.options.get("lists", ""), pace, progress
        )
    if found.stopped:
        raise NotPossible(
            f"Stopped: {say.many(found.files, 'file')} of {known.name} {'is' if found.files == 1 else 'are'} here, not yet"
            " in the library.",
            f"Go on with the same command: bramblemoor fetch {known.name}.",
        )
    require_some(found, known.name)
    if not quiet:
        twice = f", {found.twice:,} of them shown twice" if found.twice else ""
        say.line(
            f"{known.name} lists {say.many(found.listed, 'file')}{twice}: {found.known:,} brought before,"
            f" {found.files:,} new ({say.size(found.bytes)})."
        )
    if not found.files and not found.left:
        return None
    for path, staged in found.renamed:
        library.seen.append(Finding(staged, f"it is called {path!r} at {known.name}"))
    for path, why in found.left:
        library.seen.append(Finding(path, f"it was not fetched: {why}", attention=True))
    receipt = unpack_folder(library, known, found, f"{found.files:,} of {found.listed:,} files")
    if receipt.balanced:
        is_brought(library, known.name, found.fetch)
        shutil.rmtree(library.incoming(known.name, found.fetch))
    return receipt


def _how(fetched: int, resumed: int) -> str:
    if not fetched:
        return "here already, and sound"
    return f"fetched, resumed at {say.size(resumed)}" if resumed else "fetched"


COMMANDS = {"collect": single("collect", collect), "fetch": single("fetch", fetch)}
