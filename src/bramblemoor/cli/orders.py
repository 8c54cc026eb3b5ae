"""order, collect."""

import re
import time
from typing import Annotated, Literal, cast

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single
from bramblemoor.cli.service import Patience, sign_in
from bramblemoor.errors import ServiceTrouble, WrongUse

_UNITS = {"": 1, "b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9}


def order(
    service: Annotated[
        str | None, typer.Argument(help="Which service; the only one if not given.", show_default=False)
    ] = None,
    album: Annotated[
        list[str] | None, typer.Option(metavar="TITLE", help="Only this album; may be given again.")
    ] = None,
    since: Annotated[str, typer.Option(metavar="DATE", help="Only what was taken on or after, as 2026-05-09.")] = "",
    until: Annotated[str, typer.Option(metavar="DATE", help="Only what was taken on or before.")] = "",
    only: Annotated[str, typer.Option(metavar="KIND", help="Only photos, or only videos.")] = "both",
    part_size: Annotated[
        str, typer.Option(metavar="SIZE", help="Of the parts, as 2GB; the service decides if not given.")
    ] = "",
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Ask a service to prepare an export: everything, or what the options choose."""
    from bramblemoor.services.book import record_order, service_named
    from bramblemoor.services.interface import OrderScope

    if only not in ("photos", "videos", "both"):
        raise WrongUse(f"--only takes photos, videos or both, not {only!r}.", "Leave it out for both.")
    for day in filter(None, (since, until)):
        if not re.fullmatch(r"\d{4}-\d\d-\d\d", day):
            raise WrongUse(f"{day!r} is no date.", "Write it as 2026-05-09.")
    if since and until and since > until:
        raise WrongUse(f"Nothing lies between {since} and {until}.", "Give the earlier date with --since.")
    media = cast(Literal["photos", "videos", "both"], only)
    scope = OrderScope(album or [], since, until, media, _bytes(part_size))
    library = library_here(library_dir)
    known = service_named(library, service)
    with library.held():
        account = sign_in(library, known, patience)
        if scope.albums:
            _check_albums(scope.albums, [one.title for one in account.survey().albums])
        placed = account.place_order(scope)
        record_order(library, known.name, scope, placed)
    left = [one for one in placed.statement.albums if not one.ordered]
    if json:
        say.as_json(
            {
                "order": placed.id,
                "service": known.name,
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
    say.line(f"The service is preparing it (state: {placed.state}).")
    say.line("Next: bramblemoor collect, which waits until it is ready.")


def _check_albums(wanted: list[str], known: list[str]) -> None:
    from difflib import get_close_matches

    for title in wanted:
        if title not in known:
            near = get_close_matches(title, known, 1, 0.0)
            hint = f"Did you mean {near[0]!r}?" if near else "The account has no albums."
            raise WrongUse(f"The account has no album {title!r}.", hint)


def _bytes(written: str) -> int:
    if not written:
        return 0
    match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([kmg]?b?)", written.strip().lower())
    if match is None or float(match[1]) == 0:
        raise WrongUse(f"{written!r} is no size.", "Write it as 500MB or 2GB.")
    unit = match[2] if match[2].endswith("b") or not match[2] else match[2] + "b"
    return int(float(match[1]) * _UNITS[unit])


def collect(
    order: Annotated[
        str | None, typer.Argument(help="Which order; the latest if not given.", show_default=False)
    ] = None,
    wait: Annotated[
        float, typer.Option(metavar="SECONDS", min=0, help="How long to wait for the service to prepare it.")
    ] = 3600,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Fetch every part of an export, check length and digest, and resume what broke. Run it again at any time."""
    from bramblemoor.services.book import order_named, record_order, service_named
    from bramblemoor.services.collect import collect as fetch

    library = library_here(library_dir)
    with library.held():
        chosen = order_named(library, order, ("asked", "preparing", "ready", "collected"))
        account = sign_in(library, service_named(library, chosen.service), patience)
        began, pause, told = time.monotonic(), 0.4, ""
        while not chosen.parts:
            placed = account.order(chosen.id)
            record_order(library, chosen.service, chosen.scope, placed)
            if placed.state != told and not json:
                say.line(f"{chosen.id}: {placed.state}")
            told = placed.state
            if placed.state in ("lapsed", "withdrawn"):
                raise ServiceTrouble(f"The order {chosen.id} is {placed.state}.", "Order again: bramblemoor order.")
            chosen = order_named(library, chosen.id, ())
            if placed.state != "ready":
                if time.monotonic() - began > wait:
                    raise ServiceTrouble(
                        f"{chosen.service} is still preparing {chosen.id}.",
                        "Come back later: bramblemoor collect goes on.",
                    )
                time.sleep(pause)
                pause = min(30.0, pause * 1.5)
        results = []
        with say.meter() as report:
            done = 0

            def came(count: int) -> None:
                nonlocal done
                done += count
                report("collecting", done, chosen.bytes)

            for result in fetch(library, chosen, account, came):
                results.append(result)
                if not json:
                    say.line(
                        f"  {result.part.name}  {say.size(result.part.bytes):>8}  {_how(result.fetched, result.resumed)}"
                    )
    if json:
        rows = [
            {"part": one.part.name, "bytes": one.part.bytes, "fetched": one.fetched, "resumed_at": one.resumed}
            for one in results
        ]
        say.as_json({"order": chosen.id, "state": "collected", "parts": rows})
        return
    say.line(
        f"All {len(results)} parts of {chosen.id} are here, {say.size(chosen.bytes)}, each with the digest the service gave."
    )
    say.line("Next: bramblemoor unpack.")


def _how(fetched: int, resumed: int) -> str:
    if not fetched:
        return "here already, and sound"
    return f"fetched, resumed at {say.size(resumed)}" if resumed else "fetched"


COMMANDS = {"order": single("order", order), "collect": single("collect", collect)}
