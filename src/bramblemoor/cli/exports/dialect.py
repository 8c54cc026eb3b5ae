"""dialect list, show, draft, try."""

from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, group
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.exports.drafting.trial import Trial
    from bramblemoor.exports.unpaired import Lone

app = group("dialect", "How services write their exports: list and show dialects, draft one for yours, try it.")
_MOST = 10

Parcel = Annotated[Path, typer.Argument(metavar="PARCEL", help="A folder of parts, one part, or an unpacked export.")]


@app.command("list")
def list_dialects(json: AsJson = False) -> None:
    """List the dialects that ship with Bramblemoor."""
    from bramblemoor.exports.dialect import known_dialects, load_dialect

    known = [(name, load_dialect(name).about) for name in known_dialects()]
    if json:
        say.as_json({"dialects": [{"dialect": name, "about": about} for name, about in known]})
        return
    say.table(("dialect", "about"), known, wraps=1)
    say.line("For another service: bramblemoor dialect draft PARCEL writes the beginning of one.")


@app.command("show")
def show(
    name: Annotated[str, typer.Argument(metavar="NAME|FILE", help="A dialect's name, or a file.")], json: AsJson = False
) -> None:
    """Print a dialect, as the beginning of one of your own."""
    from bramblemoor.exports.dialect import load_dialect

    known = load_dialect(name)
    if json:
        say.as_json({"dialect": known.name, "about": known.about, "toml": known.source})
        return
    say.verbatim(known.source.rstrip())


@app.command("draft")
def draft(
    parcel: Parcel,
    name: Annotated[str, typer.Option(metavar="NAME", help="What to call the dialect.")] = "",
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="Write it here, not to the screen.", show_default=False)
    ] = None,
    json: AsJson = False,
) -> None:
    """Look at an export that no dialect describes, and propose one: how sidecars are named, and where each fact stands."""
    from bramblemoor.exports.dialect import read_dialect
    from bramblemoor.exports.drafting.draft import draft_dialect

    if out is not None and out.exists():
        raise WrongUse(f"{out} is there already.", "Name another file; nothing was written.")
    made = draft_dialect(parcel, name or (out.stem if out is not None else "my-service"))
    read_dialect(made.text, "the draft")
    if out is not None:
        out.write_text(made.text, encoding="utf-8")
    if json:
        say.as_json(
            {
                "pictures": made.pictures, "other_entries": made.documents, "sidecar": made.sidecar,
                "sidecar_share": round(made.sidecar_share, 4), "toml": made.text,
                "proposals": [
                    {"for": one.what, "toml": one.toml, "share": round(one.share, 4), "example": one.example, "why": one.why}
                    for one in made.proposals
                ],
            }
        )  # fmt: skip
        return
    if out is None:
        say.verbatim(made.text.rstrip())
        return
    say.line(
        f"{say.many(made.pictures, 'picture')} and {say.many(made.documents, 'other entry', 'other entries')} in {parcel}."
    )
    if made.sidecar and made.sidecar_share >= 0.2:
        say.line(f"Sidecars are named {made.sidecar}: so {made.sidecar_share:.0%} of the pictures have one.")
    say.line()
    if not made.proposals:
        say.line("No field was found that the pictures confirm.")
    rows = [(one.toml.partition(" =")[0], f"{one.share:.0%}", one.example[:44], one.why) for one in made.proposals]
    if rows:
        say.table(("proposed for", "found in", "as in", "because"), rows, right=(1,), wraps=3)
    say.line()
    say.line(
        f"Written to {out}. Read every line of it, then: bramblemoor dialect try {quote(str(parcel))} --dialect {quote(str(out))}"
    )


@app.command("try")
def try_out(
    parcel: Parcel,
    dialect: Annotated[str, typer.Option(metavar="NAME|FILE", help="The dialect to try.")],
    every: Annotated[bool, typer.Option("--all", help="Name everything that is open, not only ten of each.")] = False,
    json: AsJson = False,
) -> None:
    """See what a dialect makes of an export: pairs, what stays unpaired, fields, refused values. Writes nothing."""
    from dataclasses import asdict

    from bramblemoor.exports.dialect import load_dialect
    from bramblemoor.exports.drafting.trial import try_dialect
    from bramblemoor.exports.parcel import parcel_at

    known = load_dialect(dialect)
    with say.meter() as progress:
        result = try_dialect(parcel_at(parcel, known.name, known, lambda order: parcel), progress)
    if json:
        document = asdict(result)
        document["fields"] = [{"field": field, "records": count} for field, count in result.fields.items()]
        document["others"] = [{"kind": kind, "entries": count} for kind, count in result.others.items()]
        say.as_json({"dialect": known.name, "parcel": str(parcel)} | document)
    else:
        _print_trial(result, known.name, None if every else _MOST)
        if _is_open(result):
            say.line(
                "Where that is as it should be, unpack it; else correct the dialect (docs/dialects.md) and try again."
            )
        else:
            say.line("Everything found its place. Unpack it:")
            say.line(f"  bramblemoor unpack --from {quote(str(parcel))} --dialect {quote(dialect)}")
    if _is_open(result):
        raise typer.Exit(1)


def _is_open(result: "Trial") -> bool:
    missing = any(album.missing for album in result.albums)
    return bool(result.lone_pictures or result.lone_records or result.refused or missing)


_KINDS = {
    "picture": ("picture", "pictures"), "sidecar": ("sidecar", "sidecars"), "index": ("index", "indexes"),
    "album": ("description of an album", "descriptions of albums"), "other": ("other file", "other files"),
}  # fmt: skip


def _print_trial(result: "Trial", name: str, most: int | None) -> None:
    say.line(f"{name} on {say.many(result.entries, 'entry', 'entries')}; nothing was written to any library.")
    say.line()
    kinds = ", ".join(say.many(count, *_KINDS[kind]) for kind, count in result.others.items())
    rows = [
        ("entries", kinds),
        ("frames", f"{result.frames:,}, with {say.many(result.renditions, 'rendition')} and {say.many(result.clips, 'clip')}"),
        ("records", f"{result.records:,}, of which {result.paired:,} found their picture"),
        ("albums", ", ".join(f"{one.title} ({say.many(one.members, 'frame')})" for one in result.albums) or "none described"),
    ]  # fmt: skip
    say.table(("", "what is there"), rows, wraps=1)
    say.line()
    if result.fields:
        share = [(field, f"{count:,}", f"{count / result.records:.0%}") for field, count in result.fields.items()]
        say.table(("field", "found", "of records"), share, right=(1, 2))
        say.line()
    _print_names("Pictures without a record", [_with_candidates(one) for one in result.lone_pictures], most)
    _print_names("Records without a picture", [_with_candidates(one) for one in result.lone_records], most)
    missing = [f"{name} (of {album.title})" for album in result.albums for name in album.missing]
    _print_names("Members of albums that are not there", missing, most)
    alike = Counter(what for _, what in result.refused)
    first = {what: where for where, what in reversed(result.refused)}
    refused = tuple(f"{count:,} x {what} (as in {first[what]})" for what, count in alike.most_common())
    _print_names("Kinds of values that were refused", refused, most)
    if result.examples:
        say.line(f"{say.many(len(result.examples), 'example')}:")
        for one in result.examples:
            say.line(f"  {one.picture}")
            say.line(f"    {one.sidecar}")
            say.line(f"    {'; '.join(one.facts)[:200] or 'nothing was understood'}")
        say.line()


def _with_candidates(one: "Lone") -> str:
    from bramblemoor.exports.unpaired import listed

    name = one.entry if one.name in one.entry else f"{one.entry}, of {one.name}"
    return f"{name}; candidates: {listed(one.candidates)}" if one.candidates else name


def _print_names(heading: str, names: Sequence[str], most: int | None) -> None:
    if not names:
        return
    say.line(f"{heading}: {len(names):,}")
    for name in names[:most]:
        say.line(f"  {name}")
    if most is not None and len(names) > most:
        say.line(f"  ... and {len(names) - most:,} more (--all names them)")
    say.line()


COMMANDS = {"dialect": app}
