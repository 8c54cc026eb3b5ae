"""stocktake."""

from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single, whose

_WORDS = {
    "changed": "changed by others", "moved": "moved or renamed", "new": "new", "vanished": "vanished",
    "touched": "touched, with the same content",
}  # fmt: skip
_FEW = 5


def stocktake(
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what has changed.")] = False,
    let_go: Annotated[
        bool,
        typer.Option(
            "--let-go", help="What has vanished was removed on purpose: forget it; depots move it to earlier/."
        ),
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Go on although much was changed or removed.")] = False,
    every: Annotated[bool, typer.Option("--all", help="Name every file, not just a few of each kind.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Look the library over for what you and other programs did in its folders, and take it into the ledger.

    Moves and new names are recognised by content; what a sidecar newly says is claimed. Every backup begins with this.
    """
    from bramblemoor.library.stock import take_stock

    library = library_here(library_dir)
    with library.held(), say.meter() as progress:
        stock = take_stock(library, progress, yes=yes, let_go=let_go, enter=not dry_run)
    most = -1 if json or every else _FEW  # there may be a million of a kind
    named = {
        kind: [
            f"{row['was']} -> {row['path']}" if row["was"] else row["path"]
            for row in library.db.execute(
                "SELECT path, was FROM temp.stock WHERE kind = ? ORDER BY path LIMIT ?", (kind, most)
            )
        ]
        for kind in _WORDS
    }
    if json:
        findings = [{"name": finding.name, "what": finding.what} for finding in stock.findings]
        say.as_json({"library": library.name, "files": stock.files, **named, "findings": findings})
    else:
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
        verdict = "all as it was"
        if any(named.values()):
            verdict = "not entered (--dry-run)" if dry_run else "the ledger is in step"
        say.line(f"{say.many(stock.files, 'file')} of {whose(library)} looked over; {verdict}.")
    if stock.findings:
        raise typer.Exit(1)


def _list(names: list[str], count: int) -> None:
    for name in names:
        say.line(f"    {name}")
    if len(names) < count:
        say.line(f"    ... and {count - len(names):,} more (--all)")


COMMANDS = {"stocktake": single("stocktake", stocktake)}
