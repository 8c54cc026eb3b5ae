"""service add, list, survey."""

import sys
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
            f"Sign in: bramblemoor service add {known.name} {known.url}.",
        )
    return _open(library, known, token, patience)


def exporting(library: Library, known: "KnownService", patience: float) -> "Exports":
    """The same of an account that makes exports. Raises WrongUse where it makes none."""
    from bramblemoor.services.interface import exports_of

    return exports_of(sign_in(library, known, patience), known.name)


def _open(library: Library, known: "KnownService", token: str, patience: float) -> "Account":
    from bramblemoor.services.kinds import open_account

    proxy = library.settings.network.proxy
    return open_account(
        known.kind, known.name, known.url, token, known.options, patience=patience, notice=say.note, proxy=proxy
    )


@app.command("add")
def add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What to call it here.")],
    url: Annotated[str, typer.Argument(metavar="URL", help="Its address, as https://...")],
    token_file: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE",
            help="Read the token from a file, or - for standard input; asked for otherwise.",
            show_default=False,
        ),
    ] = None,
    dialect: Annotated[
        str,
        typer.Option(metavar="NAME|FILE", help="How it writes its exports; the service's name if not given."),
    ] = "",
    patience: Patience = 30,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Add a service to the library, or sign in to it anew. The token is tried before it is kept."""
    from bramblemoor.exports.dialect import load_dialect
    from bramblemoor.services.book import KnownService, account_key, add_service
    from bramblemoor.services.kinds import PARCELS, kind_named
    from bramblemoor.wire import secrets

    library = library_here(library_dir)
    library.require_writable()
    written = load_dialect(dialect or name, library.dialects)
    known = KnownService(plain_name("service", name), kind_named(PARCELS).checked_address(url), written.name, PARCELS)
    token = _token(name, token_file)
    survey = _open(library, known, token, patience).survey()
    with holding(library):
        if Path(dialect).is_file():
            write_atomically(library.dialects / f"{written.name}.toml", written.source.encode())
        secrets.keep(account_key(library, name), token)
        add_service(library, known)
    if json:
        say.as_json({"service": name, "url": known.url, "dialect": known.dialect, "frames": survey.statement.frames})
        return
    say.line(f"Signed in to {survey.service} at {known.url}: it holds {say.many(survey.statement.frames, 'frame')}.")
    say.line("Next: bramblemoor service survey, or bramblemoor order.")


def _token(name: str, token_file: Path | None) -> str:
    if token_file is None:
        if not sys.stdin.isatty():
            raise WrongUse(
                "No token was given, and there is nobody to ask.",
                "Give it with --token-file FILE (or - to pipe it in).",
            )
        token = str(typer.prompt(f"Token for {name}", hide_input=True))
    elif str(token_file) == "-":
        token = sys.stdin.readline()
    else:
        token = token_file.read_text(encoding="utf-8")
    token = token.strip()
    if not token or not token.isascii() or not token.isprintable() or " " in token:
        raise WrongUse(
            "That is no token: it is empty, or has spaces or line breaks in it.", "Copy it from the service again."
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
            one.url,
            one.dialect,
            ", ".join(f"{order.id} {order.state}" for order in placed if order.service == one.name) or "none",
        )
        for one in known
    ]
    say.table(("service", "address", "dialect", "orders"), rows, wraps=3)
    say.line(f"{say.many(len(known), 'service')} of {whose(library)}.")


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

    library = library_here(library_dir)
    known = service_named(library, name)
    found = sign_in(library, known, patience).survey()
    if json:
        import msgspec

        held: dict[str, Any] = msgspec.to_builtins(found.statement)
        held["reduced_copies"] = held.pop("reduced")
        years = [{"year": int(year) if year else None, "frames": count} for year, count in held.pop("years").items()]
        albums = [{"title": one.title, "frames": one.frames} for one in found.albums]
        say.as_json({"service": known.name, "called": found.service} | held | {"years": years, "albums": albums})
        return
    _print_survey(found)
    say.line("Next: bramblemoor order (everything), or order --album TITLE, --since DATE, --kind photo.")


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


def _date(written: str | None) -> str:
    return f"{written[:10]} {written[11:16]} UTC" if written else "unknown"


COMMANDS = {"service": app}
