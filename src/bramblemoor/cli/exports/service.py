"""service add, list, survey."""

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, plain_name, whose
from bramblemoor.cli.exports.signed_in import (
    MaySend,
    Patience,
    WhichService,
    asking,
    keep,
    open_with,
    signed_in,
    trust,
    typed,
)
from bramblemoor.cli.exports.survey import powers_of, survey
from bramblemoor.disk.durable import write_atomically
from bramblemoor.errors import WrongUse
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.services.book import KnownService
    from bramblemoor.services.interface import Survey

app = group("service", "Add, list and survey cloud accounts.")


@app.command("sign-in")
def sign_in_again(
    name: WhichService = None,
    may_send: MaySend = False,
    patience: Patience = 30,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Sign in to a service with a code that is typed on its page, for looking and exporting only, or for sending, too."""
    from bramblemoor.services.book import service_named

    library = library_here(library_dir)
    library.require_writable()
    known = service_named(library, name)
    token = typed(library, known, may_send=may_send)
    keep(library, known.name, token)  # at once: what is renewed takes its place
    survey = open_with(library, known, token, patience).survey()
    if json:
        say.as_json({"service": known.name, "url": known.url, "frames": survey.statement.frames})
        return
    say.line(f"Signed in to {known.name}: it holds {say.many(survey.statement.frames, 'frame')}.")


@app.command("sign-out")
def sign_out(
    name: WhichService = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Sign out of a service: what opens it is taken back there, where it offers that, and forgotten here."""
    from bramblemoor.services.book import account_key, service_named
    from bramblemoor.wire import secrets
    from bramblemoor.wire import sign_in as signing_in

    library = library_here(library_dir)
    known = service_named(library, name)
    kept = secrets.recall(account_key(library, known.name))
    tokens = signing_in.read(kept or "")
    revoked = False
    if tokens is not None:
        ask = asking(library, known)
        revoked = signing_in.revoke(ask, signing_in.issuer_of(ask), tokens)
    secrets.forget(account_key(library, known.name))
    if json:
        say.as_json({"service": known.name, "signed_out": kept is not None, "revoked": revoked})
        return
    if kept is None:
        say.line(f"Nothing was kept that opens {known.name}.")
    elif revoked:
        say.line(f"Signed out of {known.name}: it takes what was kept here no more.")
    else:
        say.line(
            f"What opened {known.name} is forgotten here. The service still takes it: take it back on the service's own pages."
        )


@app.command("add")
def add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What to call it here.")],
    url: Annotated[
        str, typer.Argument(metavar="URL", help="Its address, as https://...; of a bucket with its name behind.")
    ],
    kind: Annotated[
        str,
        typer.Option(metavar="KIND", help="parcels: makes exports; folders: over WebDAV; bucket: of an object store."),
    ] = "parcels",
    user: Annotated[
        str, typer.Option(metavar="NAME", help="The name, or the key's id, that the password or secret belongs to.")
    ] = "",
    token_file: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="Read the token, password or secret from a file, or - for standard input; asked for otherwise.",
            show_default=False,
        ),
    ] = None,
    dialect: Annotated[
        str,
        typer.Option(metavar="NAME|FILE", help="How it writes its exports; the service's name if not given."),
    ] = "",
    code: Annotated[
        bool, typer.Option("--code", help="Sign in with a code that is typed on the service's page, not with a token.")
    ] = False,
    may_send: MaySend = False,
    lists: Annotated[
        str,
        typer.Option(metavar="FOLDER", help="A folder that only lists what lies in others: nothing is taken from it."),
    ] = "",
    uploads: Annotated[str, typer.Option(metavar="FOLDER", help="Where it takes new files, if not anywhere.")] = "",
    region: Annotated[str, typer.Option(metavar="NAME", help="The region of a bucket, where it has one.")] = "",
    authority: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="A certificate (PEM) to trust for this service.", show_default=False),
    ] = None,
    patience: Patience = 30,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Add a service to the library, or sign in to it anew. What opens it is tried before it is kept."""
    from bramblemoor.exports.dialect import load_dialect
    from bramblemoor.services.book import KnownService, add_service
    from bramblemoor.services.kinds import PARCELS, kind_named

    library = library_here(library_dir)
    library.require_writable()
    options = _agreed(name, kind, {"user": user, "lists": lists, "uploads": uploads, "region": region})
    written = load_dialect(dialect or (name if kind == PARCELS else _OWN_FOLDERS), library.dialects)
    known = KnownService(
        plain_name("service", name), kind_named(kind).checked_address(url), written.name, kind, options
    )
    secret = None if code else _token(_SECRETS[kind], name, token_file)
    with holding(library):
        if authority is not None:
            trust(library, known.name, authority)
        known, found = _tried(library, known, secret, patience, may_send=may_send)
        if Path(dialect).is_file():
            write_atomically(library.dialects / f"{written.name}.toml", written.source.encode())
        add_service(library, known)
    if json:
        say.as_json({"service": name, "url": known.url, "dialect": known.dialect, "frames": found.statement.frames})
        return
    say.line(f"Signed in to {found.service} at {known.url}: it holds {say.many(found.statement.frames, 'frame')}.")
    more = "bramblemoor order" if kind == PARCELS else f"bramblemoor fetch {name}"
    say.line(f"Next: bramblemoor service survey {name}, bramblemoor service powers {name}, or {more}.")


def _tried(
    library: Library, known: "KnownService", secret: str | None, patience: float, *, may_send: bool
) -> "tuple[KnownService, Survey]":
    """Sign in, with a secret or (None) with a code, look what is there, and keep what opens it; the service as it was found to
    be.
    """
    from bramblemoor.services.kinds import FLAT
    from bramblemoor.services.kinds.parcel_http import ParcelHttp

    token = typed(library, known, may_send=may_send) if secret is None else secret
    if secret is None:  # kept at once: what is renewed takes its place
        keep(library, known.name, token)
    account = open_with(library, known, token, patience)
    found = account.survey()
    if isinstance(account, ParcelHttp) and account.is_more():
        known = replace(known, kind=FLAT)
    if secret is not None:
        keep(library, known.name, token)
    return known, found


_SECRETS = {"parcels": "Token", "folders": "Password", "bucket": "Secret of the key"}
_OPTIONS = {"parcels": (), "folders": ("user", "lists", "uploads"), "bucket": ("user", "lists", "region")}
LIBRARY = "library"
_OWN_FOLDERS = "folders"
"""The dialect of what lies in folders."""


def _agreed(name: str, kind: str, given: dict[str, str]) -> dict[str, str]:
    """What was said of a service of that kind. Raises WrongUse for what such a kind has not, or lacks."""
    if name == LIBRARY:
        raise WrongUse("A service cannot be called library: that is the library itself.", "Choose another name.")
    if kind not in _OPTIONS:
        raise WrongUse(f"There is no kind {kind!r}.", f"Kinds are: {', '.join(_OPTIONS)}.")
    said = {option: value.strip("/") for option, value in given.items() if value}
    for option in said:
        if option not in _OPTIONS[kind]:
            raise WrongUse(f"A service of the kind {kind} has no --{option}.", "Leave it out, or say --kind.")
    if kind == "bucket" and "user" not in said:
        raise WrongUse("A bucket is opened with a key: its id is not given.", "Give it with --user KEY-ID.")
    return said


def _token(what: str, name: str, token_file: Path | None) -> str:
    if token_file is None:
        if not sys.stdin.isatty():
            raise WrongUse(
                f"No {what.lower()} was given, and there is nobody to ask.",
                "Give it with --token-file FILE (or - to pipe it in).",
            )
        token = str(typer.prompt(f"{what} for {name}", hide_input=True))
    elif str(token_file) == "-":
        token = sys.stdin.readline()
    else:
        token = token_file.read_text(encoding="utf-8")
    token = token.strip()
    if not token or not token.isprintable() or (what == "Token" and (" " in token or not token.isascii())):
        raise WrongUse(
            f"That is no {what.lower()}: it is empty, or has spaces or line breaks in it.",
            "Copy it from the service again.",
        )
    return token


@app.command("list")
def list_services(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the services of the library, and their orders."""
    from bramblemoor.services.book import orders, services
    from bramblemoor.services.interface import powers
    from bramblemoor.services.kinds import kind_named

    library = library_here(library_dir)
    known, placed = services(library), orders(library)
    if json:
        say.as_json(
            {
                "services": [
                    {
                        "service": one.name,
                        "url": one.url,
                        "dialect": one.dialect,
                        "kind": one.kind,
                        "can": powers(kind_named(one.kind)),
                        "signed_in": signed_in(library, one.name),
                        "orders": [
                            {"order": order.id, "state": order.state} for order in placed if order.service == one.name
                        ],
                    }
                    for one in known
                ],
            }
        )
        return
    if not known:
        say.line(f"{whose(library)} has no services yet. Add one: bramblemoor service add NAME URL.")
        return
    rows = [
        (
            one.name,
            one.kind,
            one.url,
            signed_in(library, one.name),
            ", ".join(f"{order.id} {order.state}" for order in placed if order.service == one.name) or "none",
        )
        for one in known
    ]
    say.table(("service", "kind", "address", "signed in", "orders"), rows, wraps=4)
    say.line(f"{say.many(len(known), 'service')} of {whose(library)}.")


app.command("survey")(survey)
app.command("powers")(powers_of)

COMMANDS = {"service": app}
