"""stand-in."""

import os
import secrets
import shutil
import sys
from collections.abc import Callable
from dataclasses import fields
from pathlib import Path
from threading import Thread
from typing import TYPE_CHECKING, Annotated, Any, TypeVar

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import single
from bramblemoor.disk.durable import beside
from bramblemoor.errors import WrongUse
from bramblemoor.library.folding import suggestion

if TYPE_CHECKING:
    from bramblemoor.standins.coldbarrow import StoreFaults
    from bramblemoor.standins.inbox import InboxFaults
    from bramblemoor.standins.stonewharf import DavFaults

    Shape = TypeVar("Shape", StoreFaults, DavFaults, InboxFaults)

TREES = ("stonewharf", "coldbarrow")
"""The stand-ins that keep files in folders."""


def stand_in(
    service: Annotated[
        str,
        typer.Argument(
            metavar="SERVICE",
            help="Which one: thrushfield, emberlow, pipit-lane, stonewharf, coldbarrow; or card, second-card, phone.",
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
    fault: Annotated[
        list[str] | None,
        typer.Option(metavar="WHAT=HOW", help="Another fault of that service, as quota=5000000, stump=1, skew=3600."),
    ] = None,
    delivers: Annotated[
        list[str] | None,
        typer.Option(
            "--delivers", metavar="NAME=DIR", help="A place of the user's, to which it delivers parts by that name."
        ),
    ] = None,
    until_input_ends: Annotated[bool, typer.Option("--until-input-ends", hidden=True)] = False,
) -> None:
    """Run a simulated service on this machine until interrupted, with faults to order; or write a card or phone as a folder."""
    from bramblemoor.standins import accounts
    from bramblemoor.standins.cards import CARDS
    from bramblemoor.standins.inbox import InboxFaults
    from bramblemoor.standins.server import Faults, Pace, StandIn, serve

    if service in CARDS:
        _write_card(service, CARDS[service], folder)
        return
    known = accounts()
    if service not in (*known, *TREES):
        raise WrongUse(f"There is no stand-in {service!r}.", suggestion(service, [*known, *TREES, *CARDS]))
    if until_input_ends:
        Thread(target=_end_with_input, daemon=True).start()
    if service in TREES:
        faults = {"busy": str(busy), "drop": str(drop), "flip": str(flip)} | dict(_fault(one) for one in fault or ())
        _serve_tree(service, folder, port, faults)
        return
    if not (folder / "account.json").is_file():
        if folder.exists() and any(folder.iterdir()):
            raise WrongUse(f"{folder} holds something else than an account.", "Name a new folder.")
        _draw(known[service].draw, folder)
    token_file = _secret_in(folder, "token.txt")
    account = known[service](folder)
    pace = Pace(prepare, links, sign_in, day)
    stand = StandIn(
        account,
        token_file.read_text().strip(),
        Faults(busy, drop=drop, flip=flip, lose=lose, keyless=int(keyless)),
        pace,
        _faults(dict(_fault(one) for one in fault or ()), InboxFaults),
        {name: Path(place) for name, place in map(_fault, delivers or ())},
    )

    serve(stand, port, lambda address: _listens(account.name, folder, address, f"its token is in {token_file}"))


def _listens(name: str, folder: Path, address: str, how: str) -> None:
    (folder / "address.txt").write_text(address + "\n")
    say.line(f"{name} (a stand-in) listens at {address}; {how}. Stop it with Ctrl-C.")
    sys.stdout.flush()


def _secret_in(folder: Path, name: str) -> Path:
    """A file with a secret, made when it is needed first."""
    path = folder / name
    if not path.is_file():
        path.touch(0o600)
        path.write_text(secrets.token_urlsafe(24) + "\n")
    return path


def _fault(said: str) -> tuple[str, str]:
    what, equals, how = said.partition("=")
    if not equals:
        raise WrongUse(f"{said!r} is no fault.", "Say it as WHAT=HOW, as quota=5000000.")
    return what, how


def _serve_tree(service: str, folder: Path, port: int, faults: dict[str, str]) -> None:
    """Serve a folder service or a bucket; its account is drawn first where there is none."""
    from bramblemoor.standins import coldbarrow, stonewharf
    from bramblemoor.standins.server import listen

    draw = stonewharf.draw_account if service == "stonewharf" else coldbarrow.draw_account
    if not (folder / "tree").is_dir():
        if folder.exists() and any(folder.iterdir()):
            raise WrongUse(f"{folder} holds something else than an account.", "Name a new folder.")
        _draw(draw, folder)
    token_file = _secret_in(folder, "token.txt")
    secret = token_file.read_text().strip()
    if service == "stonewharf":
        wharf = stonewharf.Stonewharf(folder, secret, _faults(faults, stonewharf.DavFaults))
        how = f"its user is {stonewharf.USER}, the password is in {token_file}"
        stonewharf.serve(wharf, port, lambda address: _listens("Stonewharf", folder, address, how))
        return
    reader = _secret_in(folder, "reader.txt")
    keys = {coldbarrow.KEY: secret, coldbarrow.READER: reader.read_text().strip()}
    barrow = coldbarrow.Coldbarrow(folder, keys, _faults(faults, coldbarrow.StoreFaults))
    how = f"the key is {coldbarrow.KEY}, its secret is in {token_file} (one that only reads: {coldbarrow.READER}, {reader})"
    listen(barrow.app(), port, lambda address: _listens("Coldbarrow", folder, f"{address}/{coldbarrow.BUCKET}", how))


def _faults(faults: dict[str, str], shape: "type[Shape]") -> "Shape":
    """Faults as a service takes them. Raises WrongUse for one that it has not, or a value that is none."""
    kinds: dict[str, Any] = {one.name: type(one.default) for one in fields(shape) if one.name != "lock"}
    for what in faults:
        if what not in kinds:
            raise WrongUse(f"There is no fault {what!r} there.", f"Faults are: {', '.join(kinds)}.")
    try:
        return shape(**{what: kinds[what](float(how)) for what, how in faults.items()})
    except ValueError as error:
        raise WrongUse(f"A fault's value is no number: {faults}.", "Say it as WHAT=HOW, as quota=5000000.") from error


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
