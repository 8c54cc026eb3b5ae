"""service add, list, survey."""

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, plain_name, whose
from bramblemoor.disk.durable import write_atomically
from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.services.book import KnownService
    from bramblemoor.services.interface import Account, Exports, Survey
    from bramblemoor.wire.sign_in import Asking

app = group("service", "Add, list and survey cloud accounts.")

Patience = Annotated[
    float, typer.Option(metavar="SECONDS", min=0, help="How long to go on trying while the service gives no answer.")
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
    return _open(library, known, token, patience)


def exporting(library: Library, known: "KnownService", patience: float) -> "Exports":
    """The same of an account that makes exports. Raises WrongUse where it makes none."""
    from bramblemoor.services.interface import exports_of

    return exports_of(sign_in(library, known, patience), known.name)


def _open(library: Library, known: "KnownService", token: str, patience: float) -> "Account":
    """The account; `token` is what is kept: one that was copied, a password, or what a sign-in with a code gave."""
    from bramblemoor.services.kinds import open_account
    from bramblemoor.wire import sign_in as signing_in

    tokens = signing_in.read(token)
    signature = token if tokens is None else signing_in.Renewing(
        asking(library, known), tokens, lambda fresh: _keep(library, known.name, signing_in.written(fresh))
    )  # fmt: skip

    trusted = _authority_of(library, known.name)
    return open_account(
        known.kind, known.name, known.url, signature, known.options, patience=patience, notice=say.note,
        proxy=library.settings.network.proxy, authority=str(trusted) if trusted.is_file() else "",
    )  # fmt: skip


def _keep(library: Library, service: str, secret: str) -> None:
    from bramblemoor.services.book import account_key
    from bramblemoor.wire import secrets

    secrets.keep(account_key(library, service), secret)


def asking(library: Library, known: "KnownService") -> "Asking":
    """Who is asked to sign in."""
    from bramblemoor.wire.sign_in import Asking

    trusted = _authority_of(library, known.name)
    authority = str(trusted) if trusted.is_file() else ""
    return Asking(known.name, known.url, authority, library.settings.network.proxy)


def _authority_of(library: Library, service: str) -> Path:
    """Where a certificate is kept that is trusted for a service alone: it belongs to the library, and is backed up with it."""
    return library.root / "companions" / "authorities" / f"{service}.pem"


MaySend = Annotated[
    bool, typer.Option("--may-send", help="With a code: ask to send frames, too. Else only to look and to export.")
]


def _typed(library: Library, known: "KnownService", *, may_send: bool) -> str:
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


@app.command("sign-in")
def sign_in_again(
    name: Annotated[
        str | None,
        typer.Argument(metavar="[SERVICE]", help="Which service; the only one if not given.", show_default=False),
    ] = None,
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
    token = _typed(library, known, may_send=may_send)
    _keep(library, known.name, token)  # at once: what is renewed takes its place
    survey = _open(library, known, token, patience).survey()
    if json:
        say.as_json({"service": known.name, "url": known.url, "frames": survey.statement.frames})
        return
    say.line(f"Signed in to {known.name}: it holds {say.many(survey.statement.frames, 'frame')}.")


@app.command("sign-out")
def sign_out(
    name: Annotated[
        str | None,
        typer.Argument(metavar="[SERVICE]", help="Which service; the only one if not given.", show_default=False),
    ] = None,
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
    from bramblemoor.services.kinds import FLAT, PARCELS, kind_named
    from bramblemoor.services.kinds.parcel_http import ParcelHttp

    library = library_here(library_dir)
    library.require_writable()
    options = _agreed(kind, {"user": user, "lists": lists, "uploads": uploads, "region": region})
    written = load_dialect(dialect or (name if kind == PARCELS else _OWN_FOLDERS), library.dialects)
    known = KnownService(
        plain_name("service", name), kind_named(kind).checked_address(url), written.name, kind, options
    )
    if not code:
        token = _token(_SECRETS[kind], name, token_file)
    with holding(library):
        if authority is not None:
            _trust(library, known.name, authority)
        if code:  # kept at once: what is renewed takes its place
            token = _typed(library, known, may_send=may_send)
            _keep(library, known.name, token)
        account = _open(library, known, token, patience)
        survey = account.survey()
        if isinstance(account, ParcelHttp) and account.is_more():
            known = replace(known, kind=FLAT)
        if Path(dialect).is_file():
            write_atomically(library.dialects / f"{written.name}.toml", written.source.encode())
        if not code:
            _keep(library, known.name, token)
        add_service(library, known)
    if json:
        say.as_json({"service": name, "url": known.url, "dialect": known.dialect, "frames": survey.statement.frames})
        return
    held = say.many(survey.statement.frames, "frame")
    say.line(f"Signed in to {survey.service} at {known.url}: it holds {held}.")
    more = "bramblemoor order" if kind == PARCELS else f"bramblemoor fetch {name}"
    say.line(f"Next: bramblemoor service survey {name}, bramblemoor service powers {name}, or {more}.")


_SECRETS = {"parcels": "Token", "folders": "Password", "bucket": "Secret of the key"}
_OPTIONS = {"parcels": (), "folders": ("user", "lists", "uploads"), "bucket": ("user", "lists", "region")}
_OWN_FOLDERS = "folders"
"""The dialect of what lies in folders."""


def _agreed(kind: str, given: dict[str, str]) -> dict[str, str]:
    """What was said of a service of that kind. Raises WrongUse for what such a kind has not, or lacks."""
    if kind not in _OPTIONS:
        raise WrongUse(f"There is no kind {kind!r}.", f"Kinds are: {', '.join(_OPTIONS)}.")
    said = {option: value.strip("/") for option, value in given.items() if value}
    for option in said:
        if option not in _OPTIONS[kind]:
            raise WrongUse(f"A service of the kind {kind} has no --{option}.", "Leave it out, or say --kind.")
    if kind == "bucket" and "user" not in said:
        raise WrongUse("A bucket is opened with a key: its id is not given.", "Give it with --user KEY-ID.")
    return said


def _trust(library: Library, service: str, authority: Path) -> None:
    from bramblemoor.library.own_companions import write_companion
    from bramblemoor.wire.reaching import trusting

    trusting(str(authority))
    relative = _authority_of(library, service).relative_to(library.root).as_posix()
    write_companion(library, relative, authority.read_bytes())


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
                        "signed_in": _signed_in(library, one.name),
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
            _signed_in(library, one.name),
            ", ".join(f"{order.id} {order.state}" for order in placed if order.service == one.name) or "none",
        )
        for one in known
    ]
    say.table(("service", "kind", "address", "signed in", "orders"), rows, wraps=4)
    say.line(f"{say.many(len(known), 'service')} of {whose(library)}.")


def _signed_in(library: Library, service: str) -> str:
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


@app.command("survey")
def survey(
    name: Annotated[
        str | None,
        typer.Argument(metavar="[SERVICE]", help="Which service; the only one if not given.", show_default=False),
    ] = None,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """See what an account holds before ordering anything."""
    from bramblemoor.services.book import service_named
    from bramblemoor.services.interface import Tree

    library = library_here(library_dir)
    known = service_named(library, name)
    account = sign_in(library, known, patience)
    found = account.survey()
    if json:
        import msgspec

        held: dict[str, Any] = msgspec.to_builtins(found.statement)
        held["reduced_copies"] = held.pop("reduced")
        years = [{"year": int(year) if year else None, "frames": count} for year, count in held.pop("years").items()]
        albums = [{"title": one.title, "frames": one.frames} for one in found.albums]
        more = {"years": years, "albums": albums, "room": found.room}
        if isinstance(account, Tree):
            more |= {"folders": msgspec.to_builtins(found.folders), "files": found.files, "sidecars": found.sidecars,
                     "shown_twice": found.twice}  # fmt: skip
        say.as_json({"service": known.name, "called": found.service} | held | more)
        return
    if not isinstance(account, Tree):
        _print_survey(found)
        say.line("Next: bramblemoor order (everything), or order --album TITLE, --since DATE, --kind photo.")
        return
    _print_tree(known.name, found)
    say.line(f"Next: bramblemoor compare library {known.name}, or bring it home: bramblemoor fetch {known.name}.")


def _print_survey(found: "Survey") -> None:
    held = found.statement
    say.line(f"{found.service} holds {say.many(held.frames, 'frame')}, {say.size(held.bytes)}.")
    rows = [
        ("photos", f"{held.photos:,}"),
        ("videos", f"{held.videos:,}"),
        ("originals", f"{held.frames - held.reduced:,}"),
        ("reduced copies", f"{held.reduced:,}" + ("  (the service kept no original of these)" if held.reduced else "")),
        ("oldest", _date(held.oldest)),
        ("newest", _date(held.newest)),
    ]
    for what, value in rows:
        say.line(f"  {what:<15} {value}")
    say.line()
    say.table(
        ("year", "frames"),
        [(year or "undated", f"{count:,}") for year, count in held.years.items()],
        right=(1,),
        indent=2,
    )
    say.line()
    albums = [(album.title, f"{album.frames:,}") for album in found.albums]
    say.table(("album", "frames"), albums, right=(1,), indent=2)
    together = sum(album.frames for album in found.albums)
    say.line(f"{say.many(len(albums), 'album')}; a frame may be in several ({together:,} entries in all).")


def _print_tree(name: str, found: "Survey") -> None:
    held = found.statement
    say.line(
        f"{name} holds {say.many(held.frames, 'frame')} in {say.many(found.files, 'file')}, {say.size(held.bytes)}."
    )
    rows = [
        ("photos", f"{held.photos:,}"),
        ("videos", f"{held.videos:,}"),
        ("sidecars", f"{found.sidecars:,}"),
        ("other files", f"{found.files - held.frames - found.sidecars:,}"),
    ]
    if found.twice:
        rows.append(("shown twice", f"{found.twice:,}  (at another path once more, as in a list; counted once)"))
    rows.append(("room left", say.size(found.room) if found.room is not None else "it does not say"))
    for what, value in rows:
        say.line(f"  {what:<15} {value}")
    say.line()
    say.table(
        ("folder", "frames", "files", "size"),
        [
            (one.path or "(not in a folder)", f"{one.frames:,}", f"{one.files:,}", say.size(one.bytes))
            for one in found.folders
        ],
        right=(1, 2, 3),
        indent=2,
    )


@app.command("powers")
def powers_of(
    name: Annotated[
        str | None,
        typer.Argument(metavar="[SERVICE]", help="Which service; the only one if not given.", show_default=False),
    ] = None,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """See what a service can do, and what it keeps of what it is sent, before anything is done.

    Where that is not known beforehand it is tried, in a small folder that is removed again.
    """
    from bramblemoor.cli.anywhere.telling import print_fidelity, said_of
    from bramblemoor.services.book import service_named
    from bramblemoor.services.interface import Uploads

    library = library_here(library_dir)
    known = service_named(library, name)
    account = sign_in(library, known, patience)
    found = account.powers()
    keeps = account.fidelity() if isinstance(account, Uploads) else None
    if json:
        can = [{"power": what, "is_there": is_so, "how": how} for what, is_so, how in found.can]
        kept = [{"what": what, "how": how} for what, how in said_of(keeps)] if keeps is not None else []
        say.as_json({"service": known.name, "powers": can, "keeps": kept})
        return
    say.line(f"What {known.name} can do:")
    say.table(
        ("", "", ""), [(what, "yes" if is_so else "no", how) for what, is_so, how in found.can], wraps=2, indent=2
    )
    if keeps is None:
        say.line(f"Nothing can be sent to {known.name}.")
    else:
        print_fidelity(known.name, keeps)


def _date(written: str | None) -> str:
    return f"{written[:10]} {written[11:16]} UTC" if written else "unknown"


COMMANDS = {"service": app}
