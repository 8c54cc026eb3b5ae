"""How Bramblemoor says things: sizes, counts, tables, JSON, progress."""

import json
import os
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from threading import Lock
from typing import TYPE_CHECKING, Any, Literal

from bramblemoor.running import Progress, Stage

if TYPE_CHECKING:
    from rich.console import Console

_WIDTH = 110
_PATIENCE = 1.5  # seconds before a progress line appears


def size(count: float) -> str:
    """1.5 MB for 1500000."""
    for unit in ("B", "kB", "MB", "GB", "TB"):
        if abs(count) < 999.5 or unit == "TB":
            return f"{count:.0f} B" if unit == "B" else f"{count:.{1 if count < 99.95 else 0}f} {unit}"
        count /= 1000
    raise AssertionError("unreachable")


def duration(seconds: float) -> str:
    """ "40 seconds", "12 minutes", "3.5 hours"."""
    if seconds < 1:
        return "less than a second"
    if seconds < 90:
        return many(round(seconds), "second")
    if seconds < 5400:
        return many(round(seconds / 60), "minute")
    return f"{seconds / 3600:.1f} hours" if seconds < 172_800 else f"{seconds / 86_400:.1f} days"


def many(count: int, thing: str, things: str = "") -> str:
    """ "1 frame", "1,200 frames"."""
    return f"{count:,} {thing if count == 1 else things or thing + 's'}"


def dash(count: int) -> str:
    return f"{count:,}" if count else "-"


# What moves the cursor, turns the direction of writing, or begins a line of its own: shown, not done.
_CONTROLS = {code: f"\\x{code:02x}" for code in (*range(32), *range(127, 160))}
_CONTROLS |= {ord("\n"): "\\n", ord("\t"): "\\t", ord("\r"): "\\r"}
_CONTROLS |= {
    code: f"\\u{code:04x}" for code in (0x200E, 0x200F, 0x2028, 0x2029, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
}


def shown(text: str) -> str:
    """A text that somebody may have told, as it can be printed: no part of it is obeyed by a terminal."""
    return text if text.isprintable() else text.translate(_CONTROLS)


def console() -> "Console":
    from rich.console import Console

    told = os.environ.get("COLUMNS", "")
    wide = int(told) if told.isascii() and told.isdecimal() and 0 < int(told) < 10_000 else _WIDTH
    width = None if sys.stdout.isatty() else wide
    return Console(width=width, highlight=False, soft_wrap=not sys.stdout.isatty())


def line(text: str = "") -> None:
    print(shown(text))


def table(
    columns: Sequence[str], rows: Sequence[Sequence[str]], *, right: Sequence[int] = (), wraps: int = 0, indent: int = 0
) -> None:
    """A plain table; `right` are the columns with numbers, `wraps` is the only one that may take several lines."""
    from rich.padding import Padding
    from rich.table import Table
    from rich.text import Text

    grid = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style="dim")
    for number, name in enumerate(columns):
        side: Literal["left", "right"] = "right" if number in right else "left"
        grid.add_column(Text(name), justify=side, no_wrap=number != wraps, overflow="fold")
    for row in rows:
        grid.add_row(*(Text(shown(cell)) for cell in row))  # as it is: brackets and colons in names are no markup
    printer = console()
    with printer.capture() as captured:
        printer.print(Padding(grid, (0, 0, 0, indent)) if indent else grid)
    for text in captured.get().splitlines():
        print(text.rstrip())


def as_json(document: Any) -> None:
    """One document on stdout; where that has not all letters, they are written as JSON can in any."""
    text = json.dumps(document, ensure_ascii=not sys.stdout.encoding.lower().startswith("utf"), indent=1)
    print(text.translate({code: f"\\u{code:04x}" for code in _CONTROLS if code >= 127}))


def note(text: str) -> None:
    """Something to know while a run goes on; not part of its answer."""
    print(shown(text), file=sys.stderr, flush=True)


@cache
def note_once(text: str) -> None:
    """The same, but only once, however often it is met."""
    note(text)


def ring() -> None:
    """The terminal's bell."""
    print("\a", file=sys.stderr, flush=True)


@contextmanager
def meter() -> Iterator[Progress]:
    """A progress line on stderr: rate, share and time left; only on a terminal, and only for what takes a while."""
    if not sys.stderr.isatty():
        yield lambda stage, done, total: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, ProgressColumn, Task, TextColumn
    from rich.progress import Progress as Bars
    from rich.text import Text

    class Figures(ProgressColumn):
        def render(self, task: Task) -> Text:
            speed, things = task.speed or 0, task.fields["things"]
            parts = [f"{task.percentage:.0f} %"] if task.total else []
            if things:
                parts += [f"{task.completed:,.0f} {things}", f"{speed:,.0f} {things} a second"]
            else:
                whole = f" of {size(task.total)}" if task.total else ""
                parts += [f"{size(task.completed)}{whole}", f"{size(speed)}/s"]
            if task.time_remaining is not None:
                parts.append(f"{duration(task.time_remaining)} left")
            return Text(", ".join(parts))

    began = time.monotonic()
    bar = BarColumn(complete_style="blue", finished_style="blue")
    shown = Bars(
        TextColumn("{task.description}", markup=False), bar, Figures(), console=Console(stderr=True), transient=True
    )
    tasks: dict[Stage, Any] = {}
    lock = Lock()  # files may be read by two threads

    def report(stage: Stage, done: int, total: int) -> None:
        if time.monotonic() - began < _PATIENCE:
            return
        with lock:
            shown.start()
            if stage not in tasks:
                for task in tasks.values():
                    shown.update(task, visible=False)
                tasks[stage] = shown.add_task(stage.name, things=stage.things)
            shown.update(tasks[stage], completed=done, total=total or None)

    try:
        yield report
    finally:
        shown.stop()
