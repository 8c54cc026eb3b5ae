"""collect, fetch."""

import time
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single
from bramblemoor.cli.exports.orders import Album, Kind, Since, Until, WhichService, check_albums, scope_of
from bramblemoor.cli.exports.service import Patience, exporting, sign_in
from bramblemoor.errors import NotPossible, ServiceTrouble
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.services.book import KnownOrder
    from bramblemoor.services.collect import PartCollected
    from bramblemoor.services.interface import Exports

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
            results = _collect(library, ready, account, quiet=json)
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


def _collect(library: Library, chosen: "KnownOrder", account: "Exports", *, quiet: bool) -> "list[PartCollected]":
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
    album: Album = None,
    since: Since = "",
    until: Until = "",
    kind: Kind = "",
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Bring a small selection home at once, without an order: fetched and unpacked in one go."""
    from bramblemoor.cli.exports.unpack import to_see_to, unpack_order
    from bramblemoor.cli.library.receipts import finish
    from bramblemoor.services.book import order_named, record_order, service_named
    from bramblemoor.services.interface import TooMuchAtOnce, exports_of

    scope = scope_of(album, since, until, kind)
    library = library_here(library_dir)
    known = service_named(library, service)
    with holding(library):
        account = sign_in(library, known, patience)
        if scope.albums:
            check_albums(scope.albums, [one.title for one in account.survey().albums])
        try:
            placed = exports_of(account, known.name).pick(scope)
        except TooMuchAtOnce as error:
            raise NotPossible(
                f"{known.name} does not give that at once: {error}.",
                "Order it: bramblemoor order, with the same options.",
            ) from error
        record_order(library, known.name, scope, placed)
        chosen = order_named(library, placed.id, ())
        _collect(library, chosen, exports_of(account, known.name), quiet=json)
        receipt = unpack_order(library, order_named(library, placed.id, ()))
    finish(receipt, json=json, attention=to_see_to(receipt))


def _how(fetched: int, resumed: int) -> str:
    if not fetched:
        return "here already, and sound"
    return f"fetched, resumed at {say.size(resumed)}" if resumed else "fetched"


COMMANDS = {"collect": single("collect", collect), "fetch": single("fetch", fetch)}
