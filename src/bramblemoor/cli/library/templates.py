"""template: list, show, set, remove."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, group, holding, library_here, whose
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.library.home import Library

app = group("template", "What is said of many frames alike, under a name: creator, rights, contact, keywords, a look.")
Name = Annotated[str, typer.Argument(metavar="NAME", help="What it is called, as studio.")]
Text = Annotated[str | None, typer.Option(metavar="TEXT", show_default=False)]


@app.command("list")
def list_templates(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the templates of the library."""
    from bramblemoor.library.metadata_templates import read_template, template_names

    library = library_here(library_dir)
    names = template_names(library)
    if json:
        say.as_json({"templates": names})
    elif not names:
        say.line(f"{whose(library)} has no templates. To make one: bramblemoor template set NAME --creator TEXT")
    else:
        rows = [
            (name, "; ".join(f"{what}: {text}" for what, text in _told(read_template(library, name)))) for name in names
        ]
        say.table(("template", "says"), rows, wraps=1)
        say.line("To apply one: bramblemoor tell FRAME --template NAME, or bramblemoor intake CARD --template NAME.")


@app.command("show")
def show_template(name: Name, library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Show all that a template says."""
    import msgspec

    from bramblemoor.library.metadata_templates import FOLDER, read_template

    library = library_here(library_dir)
    template = read_template(library, name)
    if json:
        say.as_json({"template": name, "says": msgspec.to_builtins(template)})
        return
    say.table(("", f"the template {name}"), _told(template), wraps=1)
    say.line(f"It stands in {FOLDER}/{name}.toml, and may be edited there.")


@app.command("set")
def set_template(
    name: Name,
    creator: Text = None,
    rights: Annotated[
        str | None, typer.Option(metavar="TEXT", help="{year} is the year of the taking.", show_default=False)
    ] = None,
    terms: Annotated[
        str | None, typer.Option(metavar="TEXT", help="The terms on which they may be used.", show_default=False)
    ] = None,
    email: Text = None,
    url: Text = None,
    phone: Text = None,
    keyword: Annotated[list[str] | None, typer.Option(metavar="TEXT", help="May be given again.")] = None,
    title: Text = None,
    caption: Text = None,
    location: Text = None,
    label: Text = None,
    field: Annotated[
        list[str] | None, typer.Option(metavar="PROPERTY=TEXT", help="Any XMP property, as photoshop:Credit=TEXT.")
    ] = None,
    look: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE", help="An XMP file, as of an editor: all that it says is added.", show_default=False
        ),
    ] = None,
    library_dir: LibraryDir = None,
) -> None:
    """Make a template, or change what is given here; an empty text takes a thing away."""
    import msgspec

    from bramblemoor.library.metadata_templates import (
        Template,
        read_template,
        template_names,
        write_template,
    )

    library = library_here(library_dir)
    told = {
        "creator": creator, "rights": rights, "terms": terms, "title": title, "caption": caption, "location": location,
        "label": label, "keywords": [one for one in keyword if one] if keyword is not None else None,
    }  # fmt: skip
    contact = {"email": email, "url": url, "phone": phone}
    with holding(library):
        before = read_template(library, name) if name in template_names(library) else Template()
        changed: dict[str, Any] = {key: value for key, value in told.items() if value is not None}
        changed["contact"] = msgspec.structs.replace(
            before.contact, **{key: value for key, value in contact.items() if value is not None}
        )
        changed["fields"] = _fields(before.fields, field or [])
        if look is not None:
            changed["look"] = _keep_look(library, name, look)
        path = write_template(library, name, msgspec.structs.replace(before, **changed))
    say.line(f"The template {name} stands in {path.relative_to(library.root).as_posix()}.")
    say.line(f"To apply it: bramblemoor tell FRAME --template {name}, or bramblemoor intake CARD --template {name}.")


def _fields(before: dict[str, str], told: list[str]) -> dict[str, str]:
    fields = dict(before)
    for one in told:
        name, is_given, text = one.partition("=")
        if not is_given:
            raise WrongUse(f"{one!r} is no property with a text.", "Write it as photoshop:Credit=TEXT.")
        fields[name] = text
    return {name: text for name, text in fields.items() if text}


def _keep_look(library: "Library", name: str, look: Path) -> str:
    """Copy an editor's XMP beside the template."""
    from bramblemoor.frames.xmp_model import BrokenXmp, parse_packet
    from bramblemoor.library.metadata_templates import FOLDER
    from bramblemoor.library.own_companions import write_companion

    try:
        packet = look.read_bytes()
        parse_packet(packet)
    except (OSError, BrokenXmp) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise WrongUse(
            f"{look} is no XMP that can be read ({why}).", "Name a sidecar that an editor has written."
        ) from error
    kept = f"{name}.look.xmp"
    write_companion(library, f"{FOLDER}/{kept}", packet)
    return kept


@app.command("remove")
def remove_template(name: Name, library_dir: LibraryDir = None) -> None:
    """Remove a template. What it was applied to stays as it is."""
    from bramblemoor.library.metadata_templates import FOLDER, read_template

    library = library_here(library_dir)
    with holding(library):
        template = read_template(library, name)
        (library.root / FOLDER / f"{name}.toml").unlink()
        if template.look:
            (library.root / FOLDER / template.look).unlink(missing_ok=True)
    say.line(f"The template {name} is removed. What it was applied to stays as it is.")


def _told(template: Any) -> list[tuple[str, str]]:
    """What a template says, as rows."""
    import msgspec

    rows = []
    for key, value in msgspec.to_builtins(template).items():
        if isinstance(value, dict):
            rows += [(inner, text) for inner, text in value.items() if text]
        elif isinstance(value, list):
            rows += [(key, ", ".join(value))] if value else []
        elif value:
            rows.append((key, value))
    return rows


COMMANDS = {"template": app}
