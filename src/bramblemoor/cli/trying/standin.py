"""stand-in."""

import os
import secrets
import shutil
import sys
from collections.abc import Callable
from pathlib import Path
from threading import Thread
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import single
from bramblemoor.disk.durable import beside
from bramblemoor.errors import WrongUse
from bramblemoor.library.folding import suggestion


def stand_in(
    service: Annotated[
        str,
        typer.Argument(
            metavar="SERVICE", help="Which one: thrushfield, emberlow or pipit-lane; or card, second-card, phone."
        ),
    ],
    folder: Annotated[
        Path, typer.Argument(metavar="DIR", help="Where its made-up account lies; drawn there if the folder is new.")
    ],
    port: Annotated[int, typer.Option(min=0, max=65535, help="Port on loopback; a free one if 0.")] = 0,
    prepare: Annotated[float, typer.Option(metavar="SECONDS", min=0, help="How long preparing an order takes.")] = 1.5,
    links: Annotated[float, typer.Option(metavar="SECONDS", min=0, help="When links lapse; never if 0.")] = 0,
    sign_in: Annotated[float, typer.Option(metavar="SECONDS", min=0, help="When the token lapses; never if 0.")] = 0,
    day: Annotated[
        float, typer.Option(metavar="SECONDS", min=0, help="How long a day takes, for repeated orders.")
    ] = 86_400,
    busy: Annotated[int, typer.Option(min=0, help="Answer so many requests with 503.")] = 0,
    drop: Annotated[int, typer.Option(min=0, help="Break so many parts off halfway.")] = 0,
    flip: Annotated[int, typer.Option(min=0, help="Send so many parts with a byte flipped.")] = 0,
    lose: Annotated[int, typer.Option(min=0, help="Take so many orders, and lose the answer.")] = 0,
    keyless: Annotated[bool, typer.Option("--keyless", help="Keep no keys of orders.")] = False,
    until_input_ends: Annotated[bool, typer.Option("--until-input-ends", hidden=True)] = False,
) -> None:
    """Run a simulated service on this machine until interrupted, with faults to order; or write a card or phone as a folder."""
    from bramblemoor.standins import accounts
    from bramblemoor.standins.cards import CARDS
    from bramblemoor.standins.server import Faults, Pace, StandIn, serve

    if service in CARDS:
        _write_card(service, CARDS[service], folder)
        return
    known = accounts()
    if service not in known:
        raise WrongUse(f"There is no stand-in {service!r}.", suggestion(service, [*known, *CARDS]))
    if until_input_ends:
        Thread(target=_end_with_input, daemon=True).start()
    if not (folder / "account.json").is_file():
        if folder.exists() and any(folder.iterdir()):
            raise WrongUse(f"{folder} holds something else than an account.", "Name a new folder.")
        _draw(known[service].draw, folder)
    token_file = folder / "token.txt"
    if not token_file.is_file():
        token_file.touch(0o600)
        token_file.write_text(secrets.token_urlsafe(24) + "\n")
    account = known[service](folder)
    pace = Pace(prepare, links, sign_in, day)
    stand = StandIn(
        account,
        token_file.read_text().strip(),
        Faults(busy, drop=drop, flip=flip, lose=lose, keyless=int(keyless)),
        pace,
    )

    def ready(address: str) -> None:
        (folder / "address.txt").write_text(address + "\n")
        say.line(
            f"{account.name} (a stand-in) listens at {address}; its token is in {token_file}. Stop it with Ctrl-C."
        )
        sys.stdout.flush()

    serve(stand, port, ready)


def _write_card(name: str, write: Callable[[Path], None], folder: Path) -> None:
    if folder.exists() and any(folder.iterdir()):
        raise WrongUse(f"{folder} holds something already.", "Name a new folder.")
    if folder.exists():
        folder.rmdir()
    _draw(write, folder)
    count = sum(one.is_file() for one in folder.rglob("*"))
    what = "phone" if name == "phone" else "card"
    say.line(f"A made-up {what} with {count} files lies in {folder}. Take it in: bramblemoor intake {folder} --dry-run")


def _end_with_input() -> None:
    """End where the input does: whoever started this service is gone, and it must not write to the account any more."""
    sys.stdin.read()
    os._exit(0)


COMMANDS = {"stand-in": single("stand-in", stand_in)}


def _draw(draw: Callable[[Path], None], folder: Path) -> None:
    """Draw an account; a new folder appears when it is whole, so that one that was broken off is drawn anew."""
    if folder.exists():
        draw(folder)
        return
    fresh = beside(folder)
    shutil.rmtree(fresh, ignore_errors=True)
    draw(fresh)
    fresh.replace(folder)
