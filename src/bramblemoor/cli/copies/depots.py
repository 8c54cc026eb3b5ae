"""depot add, list, change, retire, replace, adopt, repair, look, level."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import (
    AsJson,
    LibraryDir,
    StandIn,
    StandInChest,
    StandInFaults,
    bytes_of,
    depot_at,
    group,
    holding,
    kind_of_depot,
    know_stand_ins,
    library_here,
    open_depots,
    stoppable,
)
from bramblemoor.cli.library.receipts import amount_text
from bramblemoor.cli.options import choosing
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.depots.bag.depot import Depot, Identity
    from bramblemoor.depots.bag.terms import Terms
    from bramblemoor.library.home import Library

app = group("depot", "The places where copies are held: add, list, change, replace, look through.")

Name = Annotated[str, typer.Argument(metavar="DEPOT", help="Which depot.")]
KeepFor = Annotated[
    str | None,
    typer.Option(
        "--keep-for", metavar="DAYS", help="How long earlier versions stay: ever, a number of days, none (a mirror)."
    ),
]
LeaveFree = Annotated[
    str | None, typer.Option("--leave-free", metavar="SIZE", help="Space that is to stay free there.")
]


@app.command("add")
@choosing()
def add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="What to call it.")],
    folder: Annotated[
        Path,
        typer.Argument(metavar="FOLDER", help="An existing, empty folder on its drive; or where a known depot is now."),
    ],
    site: Annotated[str, typer.Option(metavar="SITE", help="Where the drive is kept: studio, cottage, ...")] = "",
    medium: Annotated[str, typer.Option(metavar="MEDIUM", help="What it is: ssd, hdd, nas, ...")] = "",
    keep_for: KeepFor = None,
    leave_free: LeaveFree = None,
    yes: Annotated[bool, typer.Option("--yes", help="The site and the medium are new ones; do not ask.")] = False,
    stand_in: StandIn = "",
    stand_in_fault: StandInFaults = None,
    stand_in_chest: StandInChest = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    chosen: dict[str, Any],
) -> None:
    """Add a depot, tell where a known one is now, or take in one of this library that lies there already.

    Globs: * and ? within a name, ** for any folders; without a slash they are for names at any depth.
    """
    from bramblemoor.depots.bag.terms import Terms
    from bramblemoor.depots.register.enroll import add_depot
    from bramblemoor.depots.register.known import known_depots

    know_stand_ins()
    library = library_here(library_dir)
    terms = _changed(Terms(), chosen, keep_for, leave_free)
    site, medium = _spelled(library, site, medium, yes=yes)
    agreed, options = kind_of_depot(stand_in, stand_in_fault, chest=stand_in_chest)
    with holding(library):
        depot, known = add_depot(
            library, str(folder), name=name, site=site, medium=medium, kind=agreed,
            options=options, terms=terms,
        )  # fmt: skip
    attention = any(one.id == depot.id and one.stranger for one in known_depots(library))
    if json:
        say.as_json(_document(depot.identity) | {"taken_in": known})
    elif known:
        _print_found(depot, site, medium, terms)
    else:
        _print_made(depot, terms, stand_in=bool(stand_in))
    if attention:
        raise typer.Exit(1)


def _document(identity: "Identity") -> dict[str, Any]:
    return {
        "depot": identity.name, "id": identity.id, "site": identity.site, "medium": identity.medium,
        "gets": _said(identity.terms),
    }  # fmt: skip


def _where(depot: "Depot") -> str:
    return f"at {depot.identity.site}, on {depot.identity.medium} ({depot.store.device})"


def _print_made(depot: "Depot", terms: "Terms", *, stand_in: bool) -> None:
    say.line(f"Made the depot {depot.name} {_where(depot)}.")
    if terms != type(terms)():
        say.line(f"It gets: {_said(terms)}.")
    if stand_in:
        say.line("Its device is a pretence: in truth it lies on the same disk as everything else here.")


def _print_found(depot: "Depot", site: str, medium: str, terms: "Terms") -> None:
    """A depot that lay there already, and what of that which was said does not hold of it."""
    identity = depot.identity
    say.line(
        f"Found the depot {identity.name} {_where(depot)}. What lies there counts once it was read: bramblemoor verify"
        f" {identity.name}."
    )
    differs = [
        f"{what} {had!r}, not {said!r}"
        for what, had, said in (("site", identity.site, site), ("medium", identity.medium, medium))
        if said and said != had
    ]
    if terms != type(terms)():
        differs.append("its terms")
    if differs:
        say.line(
            f"It stays as it was agreed: {', '.join(differs)}. To change that: bramblemoor depot change {identity.name}."
        )


def _spelled(library: "Library", site: str, medium: str, *, yes: bool) -> tuple[str, str]:
    """Site and medium as they are known here. A new one is asked about on a terminal, else one like a known one is refused."""
    from bramblemoor.depots.register.enroll import spelled

    words = []
    for what, word in (("site", site), ("medium", medium)):
        found = spelled(library, "site" if what == "site" else "medium", word)
        if word and found.is_new and not yes:
            known = ", ".join(found.known)
            if sys.stdin.isatty():
                if not say.confirmed(f"{found.word} is a new {what}. Known: {known}. Is it another one?"):
                    raise WrongUse("Nothing was changed.", f"Write the {what} as it is known here: {known}.")
            elif found.near:
                raise WrongUse(
                    f"There is no {what} {found.word!r} yet; it is nearly {found.near!r}. Known: {known}.",
                    "If it is another one, say --yes.",
                )
            else:
                say.note(f"A new {what}: {found.word}. Known: {known}.")
        words.append(found.word if word else "")
    return words[0], words[1]


def _said(terms: "Terms") -> str:
    from bramblemoor.depots.bag.terms import said

    return said(terms)


def _changed(terms: "Terms", chosen: dict[str, Any], keep_for: str | None, leave_free: str | None) -> "Terms":
    """The terms with what was said of them; a list that is said replaces the former one, an empty word empties it."""
    import msgspec

    from bramblemoor.depots.bag.terms import checked

    said = dict(chosen)
    if keep_for is not None:
        said["keep_for"] = keep_for
    if leave_free is not None:
        said["leave_free"] = bytes_of(leave_free) if leave_free not in ("", "0") else 0
    return checked(msgspec.structs.replace(terms, **said))


@app.command("change")
@choosing()
def change(
    depot: Name,
    name: Annotated[str, typer.Option(metavar="NAME", help="Call it this.")] = "",
    site: Annotated[str, typer.Option(metavar="SITE", help="It is kept there now.")] = "",
    medium: Annotated[str, typer.Option(metavar="MEDIUM", help="What it is: ssd, hdd, nas, ...")] = "",
    keep_for: KeepFor = None,
    leave_free: LeaveFree = None,
    yes: Annotated[bool, typer.Option("--yes", help="The site and the medium are new ones; do not ask.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    chosen: dict[str, Any],
) -> None:
    """Change what a depot is called, where it is kept, or what it gets. The next backup acts upon it.

    What it should not have any more moves to earlier/ there. An empty word takes a condition back: --year "".
    """
    from bramblemoor.depots.register.enroll import change_depot

    library = library_here(library_dir)
    site, medium = _spelled(library, site, medium, yes=yes)
    with holding(library), open_depots(library, [depot]) as (opened, _):
        terms = _changed(opened[0].identity.terms, chosen, keep_for, leave_free)
        changed = change_depot(library, opened[0], name=name, site=site, medium=medium, terms=terms).identity
    if json:
        say.as_json(_document(changed))
        return
    say.line(f"The depot {changed.name} at {changed.site}, on {changed.medium}: {_said(changed.terms)}.")
    say.line("See what that means: bramblemoor backup --dry-run.")


@app.command("retire")
def retire(
    depot: Name,
    undo: Annotated[bool, typer.Option("--undo", help="Take it back into use.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do it without asking.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Count on a depot no more. Its drive is left as it is, and need not be there."""
    from bramblemoor.depots.register.enroll import retire as run
    from bramblemoor.depots.register.enroll import too_few_without
    from bramblemoor.depots.register.known import depots_named
    from bramblemoor.depots.register.register import within_reach

    know_stand_ins()
    library = library_here(library_dir)
    known = depots_named(library, [depot])[0]
    poor, sample = 0, ""
    with holding(library):
        if not undo and not known.retired:
            poor, sample = too_few_without(library, known, within_reach(library))
            asks = poor and not yes and sys.stdin.isatty()
            if asks and not say.confirmed(f"{_poor(library, poor, sample)} Retire {depot} all the same?"):
                raise typer.Abort
        run(library, known, undo=undo)
    if json:
        say.as_json({"depot": depot, "id": known.id, "in_use": undo, "too_few_without_it": poor})
        raise typer.Exit(1 if poor and not yes else 0)
    if undo:
        say.line(f"The depot {depot} is in use again. What it holds counts as far as it was read lately.")
        return
    say.line(f"The depot {depot} is retired: it counts for nothing now, and nothing is written to it.")
    say.line("See what is left: bramblemoor standing.")
    if poor:
        say.note(
            f"{_poor(library, poor, sample)} Keep its drive; to take it back: bramblemoor depot retire {depot} --undo."
        )
        raise typer.Exit(0 if yes else 1)


def _poor(library: "Library", count: int, sample: str) -> str:
    least = library.settings.erase.copies
    return (
        f"Without it {say.many(count, 'file')} have fewer than {least} copies on other drives that were read lately,"
        f" {sample} among them."
    )


@app.command("replace")
def replace(
    depot: Name,
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="An existing, empty folder on the new drive.")],
    stand_in: StandIn = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Let a new drive take a depot's place, with the same name, site and terms. The old one is retired, and left as it is."""
    from bramblemoor.depots.register.enroll import replace_depot, too_few_without
    from bramblemoor.depots.register.known import depots_named
    from bramblemoor.depots.register.register import within_reach

    know_stand_ins()
    library = library_here(library_dir)
    with holding(library):
        known = depots_named(library, [depot])[0]
        poor, sample = too_few_without(library, known, within_reach(library))
        agreed, options = kind_of_depot(stand_in)
        replace_depot(library, known, str(folder), kind=agreed, options=options)
    if json:
        say.as_json({"depot": depot, "folder": str(folder), "too_few_without_it": poor})
        return
    say.line(f"The depot {depot} is now at {folder}, and empty; the former drive is retired, and as it was.")
    say.line(f"To fill it: bramblemoor backup {depot}; or from another drive: bramblemoor depot level FROM {depot}.")
    if poor:
        say.note(f"{_poor(library, poor, sample)} Keep the former drive until the new one was filled.")


@app.command("adopt")
def adopt(
    depot: Annotated[str, typer.Argument(metavar="DEPOT|FOLDER", help="A known depot, or the folder of one.")],
    new_name: Annotated[
        str, typer.Option("--as", metavar="NAME", help="Make it a depot of its own, as when a drive was cloned.")
    ] = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Accept this one depot, that another copy of this library has written, or a cloned drive, as it lies there.

    What it holds instead of the library's files is set aside in earlier/ there by the next backup. What this library has never
    had stays there, even at a mirror; what it gave up before goes as the depot's terms say.
    """
    from bramblemoor.depots.bag.depot import open_depot
    from bramblemoor.depots.register.attached import find_depot
    from bramblemoor.depots.register.enroll import adopt as run
    from bramblemoor.depots.register.known import known_depots

    know_stand_ins()
    library = library_here(library_dir)
    named = next((known for known in known_depots(library) if known.name == depot), None)
    where = find_depot(named.id, named.where) if named else depot
    if where is None:
        raise WrongUse(f"The depot {depot} is not attached.", "Plug its drive in, or name its folder.")
    opened = open_depot(where)
    if opened.identity.library != library.settings.library.id:
        raise WrongUse(f"{where} holds a depot of another library.", "Use that library; nothing was written.")
    known = next((known for known in known_depots(library) if known.id == opened.id), None)
    with holding(library), opened.held():
        adopted = run(library, opened, known, new_name)
    if json:
        say.as_json(_document(adopted.identity))
        return
    say.line(f"Adopted the depot {adopted.name} at {where}. What lies there counts once it was read.")
    say.line(f"Next: bramblemoor verify {adopted.name}, then bramblemoor backup {adopted.name}.")


@app.command("repair")
def repair(
    depot: Name,
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where it lies.")],
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Write a depot's damaged depot.toml or line.json anew, from what the ledger knows."""
    from bramblemoor.depots.register.enroll import repair_depot
    from bramblemoor.depots.register.known import depots_named

    know_stand_ins()
    library = library_here(library_dir)
    with holding(library):
        known = depots_named(library, [depot])[0]
        written = repair_depot(library, known, str(folder))
    if json:
        say.as_json({"depot": depot, "folder": str(folder), "written": list(written)})
        return
    say.line(f"Wrote {' and '.join(str(folder / name) for name in written)} anew. Next: bramblemoor verify {depot}.")


@app.command("list")
def list_depots(
    attached: Annotated[bool, typer.Option("--attached", help="List the drives that are attached instead.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """List the depots, whether they are within reach, what they get, and how much room they have."""
    from bramblemoor.cli.copies.depot_list import print_depots, print_drives

    know_stand_ins()
    library = library_here(library_dir)
    if attached:
        print_drives(library.settings.library.id, json=json)
        return
    print_depots(library, json=json)


@app.command("look")
def look(
    depot: Annotated[str, typer.Argument(metavar="DEPOT|FOLDER", help="A known depot, or any depot's folder.")],
    below: Annotated[str, typer.Option("--below", metavar="PATH", help="List what is there, as pictures/2024.")] = "",
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Look through a depot from its own side: what it holds, its runs and readings. Needs no library."""
    from bramblemoor.cli.copies.depot_page import print_depot, print_folder

    opened = depot_at(depot, library_dir)
    if below:
        print_folder(opened, below, json=json)
    else:
        print_depot(opened, json=json)


@app.command("alone")
def alone(
    depot: Annotated[str, typer.Argument(metavar="DEPOT|FOLDER", help="A known depot, or any depot's folder.")],
    year: Annotated[
        int | None,
        typer.Option("--year", metavar="YEAR", help="Read the frames of this year only.", show_default=False),
    ] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Prove that a depot opens and reads by itself: no file outside its folder is touched, the library's least of all."""
    from bramblemoor.depots.self_contained import check_self_contained

    opened = depot_at(depot, library_dir)
    with say.meter() as progress:
        found = check_self_contained(opened, year, progress)
    if json:
        say.as_json(
            {
                "depot": opened.name, "frames": found.read.frames, "files": found.read.files, "bytes": found.read.bytes,
                "opened": found.opened, "outside": list(found.outside),
                "amiss": [{"name": one.name, "what": one.what} for one in found.amiss],
            }
        )  # fmt: skip
    else:
        what = f" of {year}" if year is not None else ""
        say.line(f"The depot {opened.name} at {opened.where} opened as a library by itself.")
        say.line(f"Read and found right: {amount_text(found.read)}{what}; {found.opened:,} times a file was opened.")
        for one in found.amiss:
            say.line(f"{one.what}: {one.name}", inward=2)
        for path in found.outside:
            say.line(f"  OUTSIDE THE DEPOT: {path}")
        if not found.outside:
            say.line("Nothing outside that folder was opened, but the program itself.")
    if found.outside or found.amiss or not found.read.files:
        raise typer.Exit(1)


@app.command("level")
def level(
    source: Annotated[str, typer.Argument(metavar="FROM", help="The depot that is complete: its folder, or its name.")],
    target: Annotated[str, typer.Argument(metavar="TO", help="The depot to bring level with it.")],
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Bring one depot level with another of the same library, while the library itself is away.

    What differs at the second moves to earlier/ there. Both must follow the same line of backups.
    """
    from bramblemoor.cli.library.receipts import end_stopped, finish
    from bramblemoor.depots.level import level as run
    from bramblemoor.running import Pace

    first, second, pace = depot_at(source, library_dir), depot_at(target, library_dir), Pace()
    with second.held(), stoppable(pace), say.meter() as progress:
        receipt, strange = run(first, second, progress, pace)
    if pace.stopped:
        end_stopped("The same command goes on.", receipt, json=json)
    finish(receipt, json=json, attention=bool(receipt.left_out or strange))


COMMANDS = {"depot": app}
