"""Who is signed in where: what opens a service, with a token, a password, or a code that is typed on its page."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.errors import ServiceTrouble
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.services.book import KnownService
    from bramblemoor.services.interface import Account, Exports
    from bramblemoor.wire.sign_in import Asking

Patience = Annotated[
    float, typer.Option(metavar="SECONDS", min=0, help="How long to go on trying while the service gives no answer.")
]


WhichService = Annotated[
    str | None,
    typer.Argument(metavar="[SERVICE]", help="Which service; the only one if not given.", show_default=False),
]


def sign_in(library: Library, known: "KnownService", patience: float) -> "Account":
    """The account, with the token that was kept for it. Raises ServiceTrouble where none was."""
    from bramblemoor.services.book import account_key
    from bramblemoor.wire import secrets

    token = secrets.recall(account_key(library, known.name))
    if token is None:
        raise ServiceTrouble(
            f"No token for {known.name} is kept on this machine.",
            f"Sign in: bramblemoor service sign-in {known.name}, or bramblemoor service add {known.name} {known.url}.",
        )
    return open_with(library, known, token, patience)


def exporting(library: Library, known: "KnownService", patience: float) -> "Exports":
    """The same of an account that makes exports. Raises WrongUse where it makes none."""
    from bramblemoor.services.interface import exports_of

    return exports_of(sign_in(library, known, patience), known.name)


def open_with(library: Library, known: "KnownService", token: str, patience: float) -> "Account":
    """The account; `token` is what is kept: one that was copied, a password, or what a sign-in with a code gave."""
    from bramblemoor.services.kinds import open_account
    from bramblemoor.wire import sign_in as signing_in

    tokens = signing_in.read(token)
    signature = token if tokens is None else signing_in.Renewing(
        asking(library, known), tokens, lambda fresh: keep(library, known.name, signing_in.written(fresh))
    )  # fmt: skip

    trusted = authority_of(library, known.name)
    return open_account(
        known.kind, known.name, known.url, signature, known.options, patience=patience, notice=say.note,
        proxy=library.settings.network.proxy, authority=str(trusted) if trusted.is_file() else "",
    )  # fmt: skip


def keep(library: Library, service: str, secret: str) -> None:
    from bramblemoor.services.book import account_key
    from bramblemoor.wire import secrets

    secrets.keep(account_key(library, service), secret)


def asking(library: Library, known: "KnownService") -> "Asking":
    """Who is asked to sign in."""
    from bramblemoor.wire.sign_in import Asking

    trusted = authority_of(library, known.name)
    authority = str(trusted) if trusted.is_file() else ""
    return Asking(known.name, known.url, authority, library.settings.network.proxy)


def authority_of(library: Library, service: str) -> Path:
    """Where a certificate is kept that is trusted for a service alone: it belongs to the library, and is backed up with it."""
    return library.root / "companions" / "authorities" / f"{service}.pem"


MaySend = Annotated[
    bool, typer.Option("--may-send", help="With a code: ask to send frames, too. Else only to look and to export.")
]


def typed(library: Library, known: "KnownService", *, may_send: bool) -> str:
    """Let the user type a code on the service's page, and wait for it; what is to be kept."""
    from bramblemoor.wire import sign_in as signing_in

    ask = asking(library, known)
    issuer = signing_in.issuer_of(ask)
    scope = f"{signing_in.READ} {signing_in.SEND}" if may_send else signing_in.READ
    code = signing_in.begin(ask, issuer, scope)
    say.note(f"Open {code.verification_uri} in any browser, and type: {code.user_code}")
    what = "looking, exporting and sending" if may_send else "looking and exporting only"
    say.note(f"It is asked for {what}. Waiting, {say.duration(code.expires_in)} at most; Ctrl-C gives up.")
    return signing_in.written(signing_in.wait(ask, issuer, code, scope))


def signed_in(library: Library, service: str) -> str:
    """How one is signed in there, and for what."""
    from bramblemoor.services.book import account_key
    from bramblemoor.wire import secrets
    from bramblemoor.wire import sign_in as signing_in

    kept = secrets.recall(account_key(library, service))
    if kept is None:
        return "no"
    tokens = signing_in.read(kept)
    if tokens is None:
        return "by what was given"
    return "to send, too" if signing_in.SEND in tokens.scope.split() else "to look and export"


def trust(library: Library, service: str, authority: Path) -> None:
    from bramblemoor.library.own_companions import write_companion
    from bramblemoor.wire.reaching import trusting

    trusting(str(authority))
    relative = authority_of(library, service).relative_to(library.root).as_posix()
    write_companion(library, relative, authority.read_bytes())
