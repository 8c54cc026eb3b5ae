"""tell and unsay."""

import re
from collections.abc import Callable
from pathlib import Path
from shlex import quote
from typing import Annotated, Literal

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single
from bramblemoor.cli.library.frame_page import frame_document
from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import Claim, Facts, Field


def tell(
    frame: Annotated[str, typer.Argument(help="Its path, file name or number.")],
    title: Annotated[str | None, typer.Option(metavar="TEXT", show_default=False)] = None,
    caption: Annotated[str | None, typer.Option(metavar="TEXT", show_default=False)] = None,
    taken: Annotated[
        str | None,
        typer.Option(metavar="DATE", help="As 2026-05-09T14:30:00, with +01:00 or Z where known.", show_default=False),
    ] = None,
    location: Annotated[
        str | None, typer.Option(metavar="TEXT", help="What the location is called.", show_default=False)
    ] = None,
    position: Annotated[
        str | None, typer.Option(metavar="LAT,LON", help="In degrees, as 52.902519,-1.466043.", show_default=False)
    ] = None,
    keyword: Annotated[list[str] | None, typer.Option(metavar="TEXT", help="Add one; may be given again.")] = None,
    person: Annotated[list[str] | None, typer.Option(metavar="NAME", help="Add one; may be given again.")] = None,
    rating: Annotated[int | None, typer.Option(min=0, max=5, show_default=False)] = None,
    favourite: Annotated[bool | None, typer.Option("--favourite/--no-favourite", show_default=False)] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Say what you know of a frame. Your word is believed before all others, and theirs are kept.

    An empty text takes a title, caption or location away. The picture itself is not touched: what you say goes into the XMP
    beside it.
    """
    said: list[tuple[Field, str | None]] = [
        ("title", title), ("caption", caption), ("location", location),
        ("taken", _moment(taken)), ("position", _position(position)),
        ("rating", None if rating is None else str(rating)),
        ("favourite", None if favourite is None else "yes" if favourite else ""),
        *_named(frame, "keyword", keyword), *_named(frame, "person", person),
    ]  # fmt: skip
    claims = [Claim(field, value.strip(), "you") for field, value in said if value is not None]
    if not claims:
        raise WrongUse(
            "Nothing was said.", "Say at least one thing, as --title TEXT; bramblemoor tell --help lists all."
        )
    for word in (word for word in keyword or [] if word.startswith("-")):
        say.note(
            f"The keyword {word!r} is added as it stands; to take one away:"
            f" bramblemoor unsay {quote(frame)} --keyword {quote(word[1:])}"
        )
    _enter(
        frame, library_dir, json, lambda _: claims, [f"{claim.field}: {claim.value or 'nothing'}" for claim in claims]
    )


def unsay(
    frame: Annotated[str, typer.Argument(help="Its path, file name or number.")],
    keyword: Annotated[
        list[str] | None, typer.Option(metavar="TEXT", help="Take one away; may be given again.")
    ] = None,
    person: Annotated[list[str] | None, typer.Option(metavar="NAME", help="Take one away; may be given again.")] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Take keywords and people away from a frame, whoever said them. They stay away, though a service says them again.

    To say one again: tell. What others said is kept in the ledger. To take a title, caption or location away: tell, with an
    empty text.
    """
    wanted = [*_named(frame, "keyword", keyword), *_named(frame, "person", person)]
    if not wanted:
        raise WrongUse("Nothing was named.", "Name what to take away, as --keyword TEXT or --person NAME.")

    def away(facts: Facts) -> list[Claim]:
        claims = []
        for field, value in wanted:
            there = facts.keywords if field == "keyword" else facts.people
            if value not in there:
                what = "keyword" if field == "keyword" else "person"
                listed = ", ".join(there) or "none"
                raise WrongUse(f"{frame} has no {what} {value!r}.", f"It has: {listed}. Nothing was changed.")
            claims.append(Claim("no_keyword" if field == "keyword" else "no_person", value, "you"))
        return claims

    _enter(frame, library_dir, json, away, [f"{field}: no {value!r} any more" for field, value in wanted])


def _named(frame: str, field: Literal["keyword", "person"], values: list[str] | None) -> list[tuple[Field, str]]:
    """Keywords or people as they were given. Raises WrongUse for an empty one."""
    found = [value.strip() for value in values or []]
    if "" in found:
        raise WrongUse(
            f"An empty {field} says nothing.",
            f"Give it a text; to take one away: bramblemoor unsay {quote(frame)} --{field} TEXT.",
        )
    return [(field, value) for value in found]


def _enter(
    frame: str, library_dir: Path | None, json: bool, claims_for: Callable[[Facts], list[Claim]], lines: list[str]
) -> None:
    """Enter what the user says of a frame, write it down beside the picture, and show what was said."""
    from bramblemoor.library.catalogue import add_claims, choose_shown, is_bound
    from bramblemoor.library.lookup import frame_named
    from bramblemoor.library.sidecars import take_up_edits, write_sidecar

    library = library_here(library_dir)
    with holding(library):
        number = frame_named(library, frame)
        if is_bound(library.db, number):
            year = library.db.execute("SELECT year FROM frames WHERE id = ?", (number,)).fetchone()[0]
            raise WrongUse(
                f"{year} is bound: its frames are not to change.", f"Open it first: bramblemoor reopen {year}."
            )
        with library.ledger.changing(facts=True) as db:
            take_up_edits(library, number)
            add_claims(db, number, "you", claims_for(choose_shown(db, number)))
            choose_shown(db, number)
            if is_bound(db, number):
                year = db.execute("SELECT year FROM frames WHERE id = ?", (number,)).fetchone()[0]
                raise WrongUse(
                    f"That would bring it into {year}, which is bound; nothing was entered.",
                    f"Open it first: bramblemoor reopen {year}.",
                )
            written = write_sidecar(library, number)
    document = frame_document(library, number)
    if json:
        say.as_json(document)
    else:
        say.line(f"{document['path']}:")
        for line in lines:
            say.line(f"  {line}")
        places = "the ledger" if written is None else f"the ledger and to {document['path'].rpartition('/')[2]}.xmp"
        say.line(f"Written to {places}. All that is known: bramblemoor show {number}")
    if written is None:
        raise typer.Exit(1)


def _moment(written: str | None) -> str | None:
    from bramblemoor.frames.moments import moment_told

    if written is None:
        return None
    moment = moment_told(re.sub(r"^(\d{4}-\d\d-\d\d)$", r"\1T12:00:00", written).replace(" ", "T"))
    if moment is None:
        raise WrongUse(
            f"{written!r} is no date.", "Write it as 2026-05-09T14:30:00, with +01:00 or Z behind it where known."
        )
    return str(moment)


def _position(written: str | None) -> str | None:
    from bramblemoor.frames.claims import parse_position, written_position

    if written is None:
        return None
    where = parse_position(written)
    result = written_position(*where) if where else None
    if result is None:
        raise WrongUse(
            f"{written!r} is no position.", "Write degrees of latitude and longitude, as 52.902519,-1.466043."
        )
    return result


COMMANDS = {"tell": single("tell", tell), "unsay": single("unsay", unsay)}
