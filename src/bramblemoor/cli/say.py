"""How Bramblemoor says things: sizes, counts, tables, JSON, progress."""

import json
import os
import re
import shutil
import sys
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from threading import Lock
from typing import Any, Literal

from bramblemoor.running import Progress, Stage, portions, silent

Tone = Literal["", "good", "amiss"]
_COLOURS = {"good": "32", "amiss": "1;31"}
_NARROWEST, _WIDEST = 20, 10_000  # columns
HANGING = 2  # columns
_GAP = "   "  # between the columns of a table
_LEAST_WRAPPED = 16  # columns that a cell of several lines has at least
# Words; but a command that somebody may copy stays whole, up to a word that ends in a stop or a comma.
_UNPARTED = re.compile(r"bramblemoor(?= )(?:\s+\S*[^\s,;:.)](?=\s|$))*(?:\s+\S+)?|\S+")
_AT_ONCE = 1000  # lines that are printed together
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


def width() -> int | None:
    """How many columns a report may take; None where nothing says so, as in a pipe."""
    told = os.environ.get("COLUMNS", "")
    if told.isascii() and told.isdecimal() and 0 < int(told) < _WIDEST:
        return max(_NARROWEST, int(told))
    if sys.stdout.isatty():
        return max(_NARROWEST, shutil.get_terminal_size((80, 24)).columns)
    return None


def line(text: str = "", tone: Tone = "", *, inward: int = 0) -> None:
    """One sentence or more, broken between words where the terminal is narrower. What begins with a space is listed as it is.

    `inward` columns stand free before it, and HANGING more before what is broken off.
    """
    room = width()
    lines = wrapped(shown(text), room and room - inward)
    if inward and len(lines) > 1:
        lines = wrapped(shown(text), room and room - inward - HANGING)
    for number, one in enumerate(lines):
        print(" " * (inward + HANGING if inward and number else inward) + _coloured(one, tone))


def verbatim(text: str) -> None:
    """Lines for a file, or for another program: as they are, however wide the terminal is."""
    for one in text.split("\n"):
        print(shown(one))


def verbatim_lines(lines: Iterable[str]) -> None:
    """Many of them, each in a line of its own."""
    for some in portions(lines, _AT_ONCE):
        print("\n".join(shown(one) for line in some for one in line.split("\n")))


def verbatim0(names: Iterable[str]) -> None:
    """Names for another program, just as they are, each with NUL behind it."""
    for some in portions(names, _AT_ONCE):
        print("\0".join(some), end="\0")


def wrapped(text: str, columns: int | None) -> list[str]:
    """A text in lines of so many columns; a command to type is not parted, and ends a line where it is too long for one."""
    if columns is None or cells(text) <= columns or text.startswith(" "):
        return [text]
    lines, now = [], ""
    for word in _UNPARTED.findall(text):
        if now and cells(now) + 1 + cells(word) > columns:
            lines.append(now)
            now = word
        else:
            now = f"{now} {word}" if now else word
    return [*lines, now]


def _coloured(text: str, tone: Tone) -> str:
    """Colour where it says something, on a terminal that has it; the words say the same."""
    plain = not sys.stdout.isatty() or "NO_COLOR" in os.environ or os.environ.get("TERM", "dumb") == "dumb"
    return text if plain or not tone else f"\x1b[{_COLOURS[tone]}m{text}\x1b[0m"


def cells(text: str) -> int:
    """How many columns a text takes on a terminal: letters of some scripts take two, marks above others none."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def place(path: Path | str) -> str:
    """A folder as it is shortest from where one is: relative, from one's home, or whole."""
    whole, home = Path(path).absolute(), Path.home()
    ways = [str(whole)]
    if whole.is_relative_to(home):
        ways.append(str(Path("~") / whole.relative_to(home)))
    with suppress(ValueError, OSError):  # on another drive, or the folder where one was is gone
        ways.insert(0, os.path.relpath(whole))
    return min(ways, key=len)


def table(
    columns: Sequence[str],
    rows: Sequence[Sequence[str]],
    *,
    right: Sequence[int] = (),
    wraps: int | None = 0,
    indent: int = 0,
) -> None:
    """A plain table; `right` are the columns with numbers, `wraps` is the only one that may take several lines.

    Where even so it is wider than the terminal, each row is told in lines of its own: nothing is ever cut.
    """
    lines = [[shown(cell) for cell in row] for row in (columns, *rows)]
    widths = [max(cells(row[number]) for row in lines) for number in range(len(columns))]
    room = width()
    lacking = 0 if room is None else indent + sum(widths) + len(_GAP) * (len(widths) - 1) - room
    if lacking > 0 and wraps is not None and widths[wraps] - lacking >= _least([row[wraps] for row in lines]):
        widths[wraps] -= lacking
    elif lacking > 0:
        _stack(lines, room or _WIDEST, numbered=0 in right)
        return
    for row in lines:
        folds = [_folded(cell, widths[number]) for number, cell in enumerate(row)]
        for level in range(max(map(len, folds))):
            parts = [
                _padded(fold[level] if level < len(fold) else "", widths[number], right=number in right)
                for number, fold in enumerate(folds)
            ]
            print((" " * indent + _GAP.join(parts)).rstrip())


def _least(column: Sequence[str]) -> int:
    """How narrow a column may become: no word of it is parted, for it may be a path that somebody copies."""
    return max(_LEAST_WRAPPED, *(cells(word) for cell in column for word in cell.split(" ")))


def _padded(text: str, columns: int, *, right: bool) -> str:
    space = " " * (columns - cells(text))
    return space + text if right else text + space


def _folded(text: str, columns: int) -> list[str]:
    """A cell in lines of so many columns, which hold each of its words."""
    if cells(text) <= columns:
        return [text]
    found, now = [], ""
    for word in text.split(" "):
        if now and cells(now) + 1 + cells(word) <= columns:
            now += " " + word
            continue
        if now:
            found.append(now)
        now = word
    return [*found, now]


def _stack(lines: Sequence[Sequence[str]], columns: int, *, numbered: bool) -> None:
    """A table that is too wide: each row's first cell, with its heading where that is a number; below it the others."""
    heads, *rows = lines
    for row in rows:
        first = f"{heads[0]} {row[0]}" if numbered else row[0] or heads[0]
        print(first)
        inner = " " * (len(first) - len(first.lstrip()) + 2)
        now = ""
        for head, cell in zip(heads[1:], row[1:], strict=True):
            told = f"{head}: {cell}" if head else cell
            if not cell or cell == "-":
                continue
            if now and cells(now) + 2 + cells(told) > columns - len(inner) - 1:  # a comma may follow
                print(f"{inner}{now},")
                now = told
            else:
                now = f"{now}, {told}" if now else told
        if now:
            print(f"{inner}{now}")


_about: dict[str, Any] = {"library": None, "root": None}
"""What every document of this run begins with."""


def about(name: str, root: Path) -> None:
    """From now on, documents are about this library."""
    _about.update(library=name, root=str(root))


def passed_over(depots: Sequence[tuple[str, str]]) -> None:
    """Tell which depots a run does not reach, and why; documents have them, too."""
    for _, why in depots:
        note(f"Passed over: {why}")
    _about["passed_over"] = [{"depot": depot, "why": why} for depot, why in depots]


def as_json(document: Mapping[str, Any]) -> None:
    """One document on stdout: an object that begins with the library it is about, in which what is unknown is null.

    Where stdout has not all letters, they are written as JSON can in any.
    """
    whole = _about | _unknown_as_null(document)
    text = json.dumps(whole, ensure_ascii=not sys.stdout.encoding.lower().startswith("utf"), indent=1)
    print(text.translate({code: f"\\u{code:04x}" for code in _CONTROLS if code >= 127}))


def _unknown_as_null(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {key: _unknown_as_null(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_unknown_as_null(one) for one in value]
    return None if value == "" else value


def note(text: str) -> None:
    """Something to know while a run goes on; not part of its answer."""
    for one in _for_stderr(text):
        print(one, file=sys.stderr, flush=True)


def _for_stderr(text: str) -> list[str]:
    """In lines of the terminal's width; where there is none, in one, which other programs look through."""
    return wrapped(shown(text), shutil.get_terminal_size((80, 24)).columns if sys.stderr.isatty() else None)


def confirmed(question: str) -> bool:
    """Ask whether to go on. Raises typer.Abort where nobody can be asked."""
    import typer

    *lines, last = _for_stderr(question)
    for one in lines:
        note(one)
    return typer.confirm(last, err=True)


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
        yield silent
        return
    began = time.monotonic()
    bars: Any = None
    tasks: dict[Stage, Any] = {}
    lock = Lock()  # files may be read by two threads

    def report(stage: Stage, done: int, total: int) -> None:
        nonlocal bars
        if time.monotonic() - began < _PATIENCE:
            return
        with lock:
            if bars is None:
                bars = _bars()
                bars.start()
            if stage not in tasks:
                for task in tasks.values():
                    bars.update(task, visible=False)
                tasks[stage] = bars.add_task(stage.name, things=stage.things)
            bars.update(tasks[stage], completed=done, total=total or None)

    try:
        yield report
    finally:
        if bars is not None:
            bars.stop()


def _bars() -> Any:
    """What draws the line; loading it takes as long as a short command."""
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

    bar = BarColumn(complete_style="blue", finished_style="blue")
    return Bars(
        TextColumn("{task.description}", markup=False), bar, Figures(), console=Console(stderr=True), transient=True
    )
