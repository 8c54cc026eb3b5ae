"""stocktake."""

from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single, whose
from bramblemoor.errors import WrongUse
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.library.stocktake.stock import Stock

_WORDS = {
    "changed": "changed by others", "moved": "moved or renamed", "new": "new", "vanished": "vanished",
    "touched": "touched, with the same content", "displaced": "overwritten by another that was moved there",
}  # fmt: skip
_FEW = 5
_SHOWN = 40


def stocktake(
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what has changed.")] = False,
    let_go: Annotated[
        list[str] | None,
        typer.Option(
            "--let-go",
            metavar="NAME",
            help="This was deleted on purpose: a path, a file name or a glob; may be repeated. Shown first, and asked.",
        ),
    ] = None,
    accept: Annotated[
        list[str] | None,
        typer.Option(
            "--accept", metavar="NAME", help="This was changed on purpose; what it was stays as an earlier version."
        ),
    ] = None,
    yes: Annotated[
        bool, typer.Option("--yes", help="Go on although much was changed or removed, and do not ask.")
    ] = False,
    every: Annotated[bool, typer.Option("--all", help="Name every file, not just a few of each kind.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Look the library over for what you and other programs did in its folders, and take it into the ledger.

    Moves and new names are recognised by content; what a sidecar newly says is claimed. Every backup begins with this. What
    vanished or changed stays a finding until mend puts it right, or you decide: --let-go NAME, --accept NAME.
    """
    from bramblemoor.library.sidecars import renew_former
    from bramblemoor.library.stocktake.stock import found, take_stock

    library = library_here(library_dir)
    if dry_run and (let_go or accept):
        raise WrongUse("Nothing can be decided while only looking.", "Leave --dry-run out.")
    decided: list[str] = []
    with holding(library):
        with say.meter() as progress:
            stock = take_stock(library, progress, yes=yes, enter=not dry_run)
        if not dry_run:
            renew_former(library)
        decided += _decide(library, let_go or [], accept or [], yes=yes)
    stock.findings = [finding for finding in stock.findings if finding.name not in decided]
    most = -1 if json or every else _FEW  # there may be a million of a kind
    named = {kind: found(library, kind, most) for kind in _WORDS}
    if json:
        findings = [{"name": finding.name, "what": finding.what} for finding in stock.findings]
        say.as_json({"files": stock.files, **named, "findings": findings, "decided": decided})
    else:
        _print(library, stock, named, decided, dry_run=dry_run, every=every)
    if stock.findings:
        raise typer.Exit(1)


def _print(
    library: Library, stock: "Stock", named: dict[str, list[str]], decided: list[str], *, dry_run: bool, every: bool
) -> None:
    for kind, paths in named.items():
        if paths:
            say.line(f"{say.many(stock.counts[kind], 'file')} {_WORDS[kind]}:")
            _list(paths, stock.counts[kind])
    groups: dict[str, list[str]] = {}
    for finding in stock.findings:
        groups.setdefault(finding.what, []).append(finding.name)
    for what, names in groups.items():
        say.line(f"To see to, {say.many(len(names), 'file')}: {what}")
        _list(names if every else names[:_FEW], len(names))
    for path in decided:
        say.line(f"Decided: {path}")
    verdict = "all as it was"
    if any(named.values()):
        verdict = "not entered (--dry-run)" if dry_run else "the ledger is in step"
    say.line(f"{say.many(stock.files, 'file')} of {whose(library)} looked over; {verdict}.")


def _decide(library: Library, let_go: list[str], accept: list[str], *, yes: bool) -> list[str]:
    """Show what is to be let go or accepted, ask, and do it; returns the paths."""
    from bramblemoor.library.stocktake import deciding

    going, changed = deciding.vanished(library, let_go), deciding.changed(library, accept)
    decided: list[str] = []
    for files, what, act in (
        (
            going,
            "let go: out of the library, and out of the depots as their terms say",
            deciding.let_go,
        ),
        (
            changed,
            "accepted as now: what was there before stays at the depots as an earlier version",
            deciding.accept_changed,
        ),
    ):
        if not files:
            continue
        for one in files if len(files) <= _SHOWN else files[:_FEW]:
            say.note(f"    {one.path} ({say.size(one.bytes)})")
        if len(files) > _SHOWN:
            say.note(f"    ... and {len(files) - _FEW:,} more")
        if not yes and not say.confirmed(f"{say.many(len(files), 'file')} to be {what}. Go on?"):
            say.note("Nothing was decided.")
            raise typer.Exit(1)
        act(library, files)
        decided += [one.path for one in files]
    return decided


def _list(names: list[str], count: int) -> None:
    for name in names:
        say.line(f"    {name}")
    if len(names) < count:
        say.line(f"    ... and {count - len(names):,} more (--all)")


COMMANDS = {"stocktake": single("stocktake", stocktake)}
