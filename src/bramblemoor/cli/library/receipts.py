"""receipt, and how receipts are printed after a run."""

from typing import Annotated, Any, NoReturn

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single, whose
from bramblemoor.cli.failing import INTERRUPTED
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Receipt, encode, listing, number_in_name, read_receipt, total

_FEW = 3
# What the two sides of the books are called, by run.
_SIDES = {
    "intake": ("found there", "left out"),
    "merge": ("found there", "left out"),
    "lend": ("came back", "left out"),
    "unpack": ("came in", "left out"),
    "migrate": ("the source has", "not there"),
    "backup": ("to be held", "not copied"),
    "verify": ("to be read", "not good"),
    "mend": ("to be mended", "not mended"),
    "restore": ("to be restored", "not restored"),
    "bind": ("to be identical", "not identical"),
    "free": ("to be freed", "not freed"),
    "unbind": ("at the depots", "not brought back"),
    "reopen": ("at the depots", "not brought back"),  # as unbind was called before
    "purge": ("earlier versions", "deleted"),
    "level": ("to be held", "not copied"),
    "pack": ("to be packed", "not packed"),
    "tell": ("to be told", "not told"),
    "shoot": ("to be moved", "left as they are"),
    "cull": ("to be taken out", "not taken out"),
    "uncull": ("to come back", "not brought back"),
    "discard": ("culled before", "not deleted"),
    "takeback": ("to be taken back", "left as it is"),
}


def receipt(
    number: Annotated[
        int | None, typer.Argument(metavar="[NUMBER]", help="Which one; the latest if not given.", show_default=False)
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Name every item, not just a few of each kind.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Read the balanced account of a run: what came in, what was kept, what was left out and why."""
    library = library_here(library_dir)
    one = named_receipt(library, number)
    if json:
        say.as_json(receipt_document(one))
        return
    print_receipt(one, every=every)


def list_receipts(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List the receipts of all runs: what each was, when, how much it was about, and whether its books balance."""
    library = library_here(library_dir)
    receipts, damaged = [], []
    for name in listing(library.receipts):
        try:
            receipts.append(read_receipt(library.receipts / name))
        except NotPossible:
            damaged.append(name)
    if json:
        documents = [
            {
                "number": one.number, "run": one.run, "finished": one.finished, "balanced": one.balanced,
            }
            for one in receipts
        ]  # fmt: skip
        say.as_json({"receipts": documents, "unreadable": damaged})
    elif not receipts and not damaged:
        say.line(f"{whose(library)} has no receipts yet: runs that move pictures write them.")
    else:
        rows = [
            (f"{one.number}", one.run, moment(one.finished), amount_text(one.came_in), verdict(one)) for one in receipts
        ]
        say.table(("receipt", "run", "finished", "came in", ""), rows, right=(0,), wraps=3)
        say.line(f"{say.many(len(rows), 'receipt')} of {whose(library)}. To read one: bramblemoor receipt NUMBER")
        if damaged:
            say.line(f"Not readable: {', '.join(damaged)}; a depot's receipts/ may hold a copy.")
    if damaged:
        raise typer.Exit(1)


def named_receipt(library: Library, number: int | None) -> Receipt:
    """The receipt of that number, or the latest. Raises WrongUse where there is none, NotPossible where it cannot be read."""
    names = listing(library.receipts)
    if not names:
        raise WrongUse(f"{whose(library)} has no receipts yet.", "Runs that move pictures write them.")
    matching = [name for name in names if number is None or number_in_name(name) == number]
    if not matching:
        raise WrongUse(
            f"There is no receipt {number}.",
            f"There are {number_in_name(names[0])} to {number_in_name(names[-1])}.",
        )
    return read_receipt(library.receipts / matching[-1])


def moment(written: str) -> str:
    """2026-11-23 07:44 UTC, from how receipts write it."""
    return f"{written[:10]} {written[11:16]} UTC"


def amount_text(amount: Amount) -> str:
    parts = [say.many(amount.frames, "frame")] if amount.frames else []
    if amount.files or not amount.frames:  # what is told of frames moves no files
        parts += [say.many(amount.files, "file"), say.size(amount.bytes)]
    return ", ".join(parts)


def verdict(one: Receipt) -> str:
    if not one.balanced:
        return "DOES NOT BALANCE"
    return f"balanced, {len(one.left_out)} left out" if one.left_out else "balanced"


def print_receipt(one: Receipt, *, every: bool = False) -> None:
    """The whole account. Items left out and findings are grouped by reason, a few named of each unless `every`."""
    say.line(f"Receipt {one.number}: {one.run}, {moment(one.finished)}")
    for key, value in one.about.items():
        say.line(f"{key}: {value}", inward=2)
    whole, rest = _SIDES.get(one.run, ("came in", "left out"))
    left = total(item.amount for item in one.left_out)
    rows = [_row(whole, one.came_in), *(_row(f"  {line.what}", line.amount) for line in one.kept)]
    if one.left_out:
        rows.append(_row(f"  {rest}", left))
    say.table(("", "frames", "files", "size"), rows, right=(1, 2, 3))
    if one.balanced:
        named = f": all is accounted for, and what was {rest} is named below" if one.left_out else ""
        say.line(f"The books balance{named}.", "good" if not one.left_out else "")
    else:
        gap = one.came_in, one.accounted
        say.line(
            f"THE BOOKS DO NOT BALANCE: {amount_text(gap[0])} came in, {amount_text(gap[1])} are accounted for. Nothing was"
            " deleted; run it again, and if this stays, do not rely on this run.",
            "amiss",
        )
    if one.changes:
        say.line(f"To take it back: bramblemoor takeback {one.number}")
    more = f"bramblemoor receipt {one.number} --all"
    _print_named(rest.capitalize(), [(item.reason, item.name) for item in one.left_out], every, more)
    print_findings(one, every=every, more=more)


def print_findings(one: Receipt, *, every: bool = False, more: str) -> None:
    """What a person should know; `more` is the command that names them all."""
    for title, attention in (("To see to", True), ("Worth knowing", False)):
        named = [(item.what, item.name) for item in one.findings if item.attention is attention]
        _print_named(title, named, every, more)


def _row(what: str, amount: Amount) -> tuple[str, str, str, str]:
    return what, say.dash(amount.frames), say.dash(amount.files), say.size(amount.bytes) if amount.bytes else "-"


def _print_named(title: str, items: list[tuple[str, str]], every: bool, more: str) -> None:
    if not items:
        return
    say.line()
    say.line(f"{title}:")
    groups: dict[str, list[str]] = {}
    for reason, name in items:
        groups.setdefault(reason, []).append(name)
    hidden = False
    for reason, names in groups.items():
        say.line(f"{len(names):,} x {reason}", inward=2)
        shown = names if every else names[:_FEW]
        for name in shown:
            say.line(f"      {name}")
        if len(shown) < len(names):
            say.line(f"      ... and {len(names) - len(shown):,} more")
            hidden = True
    if hidden:
        say.line(f"All by name: {more}")


def receipt_document(one: Receipt) -> dict[str, Any]:
    import msgspec

    document: dict[str, Any] = msgspec.json.decode(encode(one))
    for change in document.get("changes", ()):  # elsewhere frames are a number
        change["told_of"] = [{"frame": frame, "path": path} for frame, path in change.pop("frames")]
    return document


def end_stopped(note: str, receipt: Receipt, *, json: bool) -> NoReturn:
    """What a run that was stopped in good order leaves, and what it did."""
    say.note(f"Stopped. {note}")
    if json:
        say.as_json(run_document(receipt) | {"stopped": True})
    else:
        print_receipt(receipt)
    raise typer.Exit(INTERRUPTED)


def run_document(one: Receipt, *, did_nothing: bool = False) -> dict[str, Any]:
    """What a run prints for --json: its receipt, and how it ended. A run that did nothing has written no receipt."""
    document = receipt_document(one) | {"nothing_to_do": did_nothing, "stopped": False}
    return document | ({"number": None} if did_nothing else {})


def finish(one: Receipt, *, json: bool, attention: bool, more: dict[str, object] | None = None) -> None:
    """Print a run's receipt (`more` goes into its JSON, too) and leave with the exit code that it deserves."""
    if json:
        say.as_json(run_document(one) | (more or {}))
    else:
        print_receipt(one)
    if attention or not one.balanced:
        raise typer.Exit(1)


def finish_told(one: Receipt, *, json: bool, attention: bool = False) -> None:
    """The same of a run that tells: what was left as it was deserves attention, and a sidecar that cannot be written."""
    unwritten = any(finding.attention for finding in one.findings)
    finish(one, json=json, attention=attention or bool(one.left_out) or unwritten)


COMMANDS = {"receipt": single("receipt", receipt), "receipt list": single("receipt list", list_receipts)}
