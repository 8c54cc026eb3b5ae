"""order, order list, withdraw."""

import re
from datetime import date
from typing import TYPE_CHECKING, Annotated, Any, Literal, cast

import typer
from msgspec import structs, to_builtins

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, bytes_of, holding, library_here, single
from bramblemoor.cli.exports.signed_in import Patience, WhichService, exporting, sign_in
from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.library.folding import suggestion

if TYPE_CHECKING:
    from bramblemoor.services.book import KnownOrder
    from bramblemoor.services.interface import OrderScope, PlacedOrder

_NEXT = {
    "ready": "bramblemoor collect", "collected": "bramblemoor unpack", "lapsed": "bramblemoor order --again",
}  # fmt: skip


Album = Annotated[list[str] | None, typer.Option(metavar="TITLE", help="Only this album; may be given again.")]
Since = Annotated[str, typer.Option(metavar="DATE", help="Only what was taken on or after, as 2026-05-09.")]
Until = Annotated[str, typer.Option(metavar="DATE", help="Only what was taken on or before.")]
Kind = Annotated[str, typer.Option(metavar="KIND", help="Only this kind: photo or video.")]


def order(
    service: WhichService = None,
    album: Album = None,
    since: Since = "",
    until: Until = "",
    kind: Kind = "",
    size: Annotated[
        str,
        typer.Option(
            metavar="SIZE", help="The most that a part may take up, as 2GB; the service decides if not given."
        ),
    ] = "",
    form: Annotated[
        str,
        typer.Option(
            metavar="FORM", help="What kind of file a part is: zip, tar or tar.gz; the service decides if not given."
        ),
    ] = "",
    every: Annotated[
        int, typer.Option(metavar="DAYS", min=0, help="Let the service make it again every so many days.")
    ] = 0,
    repeat_until: Annotated[str, typer.Option(metavar="DATE", help="With --every: the last day of it.")] = "",
    again: Annotated[str, typer.Option(metavar="ORDER", help="Order the same as this one did.")] = "",
    deliver: Annotated[
        str,
        typer.Option(
            metavar="PLACE", help="Let the service put the parts into a place of yours that it knows by this name."
        ),
    ] = "",
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Ask a service to prepare an export: everything, or what the options choose; once, or again and again."""
    from bramblemoor.services.book import answered, asking, order_named, record_order, service_named
    from bramblemoor.services.interface import exports_of

    library = library_here(library_dir)
    if again:
        former = order_named(library, again, ())
        scope, service = former.scope, former.service
    else:
        scope = scope_of(album, since, until, kind)
        if form not in ("", "zip", "tar", "tar.gz"):
            raise WrongUse(f"--form takes zip, tar or tar.gz, not {form!r}.", "Leave it out for the usual one.")
        _check_day(repeat_until)
        if repeat_until and not every:
            raise WrongUse("--repeat-until goes with --every.", "Say how often, as --every 30.")
        scope = structs.replace(
            scope,
            part_bytes=bytes_of(size),
            container=form,
            every_days=every,
            repeat_until=repeat_until,
            deliver=deliver,
        )
    known = service_named(library, service)
    with holding(library):
        account = sign_in(library, known, patience)
        exports = exports_of(account, known.name)
        if scope.albums:
            check_albums(scope.albums, [one.title for one in account.survey().albums])
        placed = exports.place_order(scope, asking(library, known.name, scope))
        record_order(library, known.name, scope, placed)
        answered(library, known.name)
    _print_placed(known.name, scope, placed, json=json)


def _print_placed(service: str, scope: "OrderScope", placed: "PlacedOrder", *, json: bool) -> None:
    left = [one for one in placed.statement.albums if not one.ordered]
    if json:
        say.as_json(
            {
                "order": placed.id,
                "service": service,
                "state": placed.state,
                "frames": placed.statement.frames,
                "albums_not_ordered": [one.title for one in left],
            }
        )
        return
    held = placed.statement
    say.line(
        f"Ordered as {placed.id}: {held.frames:,} of {held.account_frames:,} frames, {say.size(held.bytes)} of pictures."
    )
    if left:
        titles = ", ".join(one.title for one in left)
        say.line(f"Not ordered: {len(left)} of {len(held.albums)} albums ({titles}).")
    if scope.every_days:
        end = f" until {scope.repeat_until}" if scope.repeat_until else ""
        say.line(
            f"The service makes it again every {scope.every_days} days{end}; bramblemoor order list shows what came of it."
        )
    say.line(f"The service is preparing it (state: {placed.state}).")
    say.line("Next: bramblemoor collect, which waits until it is ready.")


def scope_of(album: list[str] | None, since: str, until: str, kind: str) -> "OrderScope":
    """What the options choose. Raises WrongUse for dates and kinds that make no sense."""
    from bramblemoor.services.interface import OrderScope

    media = {"": "both", "photo": "photos", "video": "videos"}.get(kind)
    if media is None:
        raise WrongUse(f"--kind takes photo or video, not {kind!r}.", "Leave it out for both.")
    _check_day(since)
    _check_day(until)
    if since and until and since > until:
        raise WrongUse(f"Nothing lies between {since} and {until}.", "Give the earlier date with --since.")
    return OrderScope(album or [], since, until, cast(Literal["photos", "videos", "both"], media))


def _check_day(day: str) -> None:
    try:
        if day:
            date.fromisoformat(day if re.fullmatch(r"\d{4}-\d\d-\d\d", day) else "")
    except ValueError:
        raise WrongUse(f"{day!r} is no date.", "Write it as 2026-05-09.") from None


def list_orders(
    ask: Annotated[bool, typer.Option("--ask/--no-ask", help="Ask the services how far they are.")] = True,
    patience: Patience = 3,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """List all orders with their states, and those that a repeated order has made since."""
    from bramblemoor.services.book import orders, refresh, services

    library = library_here(library_dir)
    if ask and not library.read_only and orders(library):
        with holding(library):
            for known in services(library):
                try:
                    told = exporting(library, known, patience).orders()
                except ServiceTrouble as error:
                    say.note(f"{error.happened} {error.remedy}")
                    continue
                for made in refresh(library, known.name, told):
                    say.note(f"{known.name} has made {made}.")
    placed = orders(library)
    if json:
        say.as_json({"orders": [_order_document(one) for one in placed]})
        return
    if not placed:
        say.line("Nothing was ordered yet. Order an export: bramblemoor order.")
        return
    rows = [
        (
            one.id,
            one.service,
            one.asked[:16].replace("T", " "),
            one.state,
            f"{one.statement.frames:,}",
            _scope_words(one.scope),
        )
        for one in placed
    ]
    say.table(("order", "service", "asked (UTC)", "state", "frames", "what"), rows, right=(4,), wraps=5)
    for state, words in _NEXT.items():
        waiting = [one.id for one in placed if one.state == state]
        if waiting:
            say.line(f"{', '.join(waiting)}: {state}. Next: {words} {waiting[0]}")


def _order_document(one: "KnownOrder") -> dict[str, Any]:
    scope: dict[str, Any] = to_builtins(one.scope)
    return {
        "order": one.id, "service": one.service, "asked": one.asked, "state": one.state, "frames": one.statement.frames,
        "bytes": one.statement.bytes, "parts": [{"part": part.name, "bytes": part.bytes} for part in one.parts],
        "scope": scope,
    }  # fmt: skip


def _scope_words(scope: "OrderScope") -> str:
    words = [", ".join(scope.albums) if scope.albums else "everything"]
    words += [f"since {scope.since}"] if scope.since else []
    words += [f"until {scope.until}"] if scope.until else []
    words += [f"{scope.media} only"] if scope.media != "both" else []
    words += [f"every {scope.every_days} days"] if scope.every_days else []
    return "; ".join(words)


def withdraw(
    order: Annotated[str, typer.Argument(metavar="ORDER", help="Which order.")],
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Withdraw an order: the service stops preparing it, and repeating it. What was collected stays."""
    from bramblemoor.services.book import order_named, record_order, service_named

    library = library_here(library_dir)
    with holding(library):
        chosen = order_named(library, order, ())
        if chosen.state == "withdrawn":
            raise WrongUse(f"{chosen.id} was withdrawn already.", "See all: bramblemoor order list.")
        placed = exporting(library, service_named(library, chosen.service), patience).withdraw(chosen.id)
        record_order(library, chosen.service, chosen.scope, placed)
    state = chosen.state if chosen.state in ("collected", "unpacked") else placed.state
    if json:
        say.as_json({"order": chosen.id, "state": state})
        return
    say.line(
        f"{chosen.id} is withdrawn at {chosen.service}." + (f" Here it stays {state}." if state != "withdrawn" else "")
    )


def check_albums(wanted: list[str], known: list[str]) -> None:
    for title in wanted:
        if title not in known:
            hint = suggestion(title, known) or "The account has no albums."
            raise WrongUse(f"The account has no album {title!r}.", hint)


COMMANDS = {
    "order": single("order", order),
    "order list": single("order list", list_orders),
    "withdraw": single("withdraw", withdraw),
}
