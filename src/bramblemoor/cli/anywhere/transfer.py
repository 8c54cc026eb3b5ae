"""transfer list, show, watch, stop."""

import time
from contextlib import closing
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, group, library_here, whose
from bramblemoor.cli.library.receipts import moment
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.migrate.transfers import Transfer

app = group("transfer", "Collections on their way to another service: list, look, watch, stop.")

Which = Annotated[
    str | None,
    typer.Argument(metavar="[TRANSFER]", help="Which one, as move-1; the latest if not given.", show_default=False),
]
_PAUSE = 1.0  # seconds between two looks


@dataclass(frozen=True)
class _Far:
    """How far a transfer is: its state in a word; frames and bytes through, left out and in all; its rate in bytes/s."""

    state: str
    done: int
    left: int
    whole: int
    bytes: int
    whole_bytes: int
    rate: float

    @property
    def seconds_left(self) -> float | None:
        rest = self.whole_bytes - self.bytes
        return rest / self.rate if self.rate and rest > 0 and self.state == "under way" else None


def _far(library: Library, one: "Transfer") -> _Far:
    from bramblemoor.migrate.transfers import look_into

    sheet = look_into(library, one)
    if sheet is None:
        return _Far("asked", 0, 0, 0, 0, 0, 0.0)
    with closing(sheet):
        counts = sheet.counts(int(sheet.get("looks", "0")))
        frames = {state: count[0] for state, count in counts.items()}
        through = [counts[state] for state in ("sent", "proven", "amiss", "missing") if state in counts]
        left = counts.get("left", (0, 0, 0))
        if sheet.is_alive:
            state = "under way"
        elif frames.get("waiting"):
            state = "stopped" if through else "planned"
        elif frames.get("missing") or frames.get("amiss"):
            state = "amiss"
        else:
            state = "not proven" if frames.get("sent") else "proven"
        return _Far(
            state, sum(one[0] for one in through), left[0], sum(count[0] for count in counts.values()),
            sum(one[2] for one in through), sum(count[2] for count in counts.values()) - left[2], float(sheet.get("rate", "0")),
        )  # fmt: skip


@app.command("list")
def list_transfers(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """List transfers: when asked, from where to where, how far, and how long it takes still."""
    from bramblemoor.migrate.transfers import transfers

    library = library_here(library_dir)
    known = [(one, _far(library, one)) for one in transfers(library)]
    if json:
        say.as_json({"transfers": [_document(one, far) for one, far in known]})
        return
    if not known:
        say.line(f"{whose(library)} has moved nothing yet. Begin: bramblemoor migrate FROM TO.")
        return
    rows = [
        (one.id, moment(one.asked), one.source, one.destination, far.state, f"{far.done:,} of {far.whole:,}",
         _share(far), say.duration(far.seconds_left) if far.seconds_left is not None else "-")
        for one, far in known
    ]  # fmt: skip
    say.table(("transfer", "asked", "from", "to", "state", "frames", "share", "time left"), rows, right=(5, 6, 7))
    say.line(
        f"{say.many(len(rows), 'transfer')} of {whose(library)}. More: bramblemoor transfer show {known[-1][0].id}"
    )


def _share(far: _Far) -> str:
    return f"{far.bytes / far.whole_bytes:.0%}" if far.whole_bytes else "-"


def _document(one: "Transfer", far: _Far) -> dict[str, Any]:
    return {
        "transfer": one.id, "asked": one.asked, "source": one.source, "destination": one.destination, "state": far.state,
        "frames_done": far.done, "frames_left_out": far.left, "frames": far.whole, "bytes_done": far.bytes,
        "bytes": far.whole_bytes, "rate": far.rate or None, "seconds_left": far.seconds_left,
    }  # fmt: skip


@app.command("show")
def show(name: Which = None, library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Show how far a transfer is, and what of it was left out, by name."""
    from bramblemoor.migrate.transfers import look_into, transfer_named

    library = library_here(library_dir)
    one = transfer_named(library, name)
    far = _far(library, one)
    left: list[tuple[str, str]] = []
    sheet = look_into(library, one)
    if sheet is not None:
        with closing(sheet):
            look = int(sheet.get("looks", "0"))
            left = [
                (line.shown.name, line.why if line.state == "left" else sheet.found_of(line.n))
                for line in sheet.lines("left", "missing", "amiss", look=look)
            ]
    if json:
        say.as_json(_document(one, far) | {"left_out": [{"name": name, "why": why} for name, why in left]})
        return
    say.line(f"{one.id}: from {one.source} to {one.destination}, asked {moment(one.asked)}")
    if one.scope.said:
        say.line(f"  of {one.scope.said}")
    say.line(f"  {_told(far)}")
    for path, why in left:
        say.line(f"  {path}: {why}")
    if far.state in ("stopped", "planned", "not proven", "amiss"):
        say.line(f"Go on: bramblemoor migrate {one.source} {one.destination}, with what else was said the first time.")


def _told(far: _Far) -> str:
    left = f", {far.left:,} left out" if far.left else ""
    rest = f", {say.duration(far.seconds_left)} left" if far.seconds_left is not None else ""
    rate = f" at {say.size(far.rate)}/s" if far.rate and far.state == "under way" else ""
    return (
        f"{far.state}: {far.done:,} of {say.many(far.whole, 'frame')}{left}, {say.size(far.bytes)} of"
        f" {say.size(far.whole_bytes)} ({_share(far)}){rate}{rest}"
    )


@app.command("watch")
def watch(name: Which = None, library_dir: LibraryDir = None) -> None:
    """Watch a transfer that goes on, a line whenever it is further, until it ends. To leave: Ctrl-C; it goes on."""
    from bramblemoor.migrate.transfers import transfer_named

    library = library_here(library_dir)
    one = transfer_named(library, name)
    told = ""
    while True:
        far = _far(library, one)
        if (now := _told(far)) != told:
            say.line(now)
            told = now
        if far.state != "under way":
            return
        time.sleep(_PAUSE)


@app.command("stop")
def stop(name: Which = None, library_dir: LibraryDir = None) -> None:
    """Stop a transfer that goes on in another window: what is under way is finished first."""
    from bramblemoor.migrate.transfers import ask_to_stop, transfer_named

    library = library_here(library_dir)
    one = transfer_named(library, name)
    if ask_to_stop(library, one):
        say.line(
            f"{one.id} was asked to stop; it ends within a few seconds. Watch it: bramblemoor transfer watch {one.id}"
        )
    else:
        say.line(f"{one.id} does not go on now; there is nothing to stop.")


COMMANDS = {"transfer": app}
