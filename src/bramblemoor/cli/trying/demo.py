"""demo: the whole journey on a made-up world in chapters, each step the command that a user would type."""

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import textwrap
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import single
from bramblemoor.cli.trying.chapters import CHAPTERS, DEPOTS, Chapter
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.library.folding import suggestion

_MARK = "made-by-demo.txt"
_HEAD = "The made-up world of the Bramblemoor demo. Everything here may be deleted."
_MADE = (
    "library", "lost", "depots", "card", "second-card", "at the cottage", "archive", "thrushfield", "pipit-lane", "emberlow",
    "stonewharf", "pipit-draft.toml", "tokens.json", "years-on-drives.png", _MARK,
)  # fmt: skip
_WIDEST = 110
_INDENT = "  "
_FAR = 8  # columns further to the right than what a line belongs to
_NARROW = 60  # columns, in which tables seldom find room
_HEADS = "frames   files"
_STACKED = re.compile(r"\s+[a-z][a-z ]*: ")
# What works when it is typed in the library of the finished world, and what it answers.
TRY = (
    ("bramblemoor find owl --since 2025", "find by word and date"),
    ("bramblemoor show ALD_0457.jpg", "all that is known of a picture, and where its copies are"),
    ("bramblemoor tell ALD_0457.jpg --keyword 'box seven'", "say something yourself"),
    ("bramblemoor receipt list", "every run, with its account"),
    ("bramblemoor standing --if-lost heron", "what if a drive were gone"),
)


def demo(
    into: Annotated[Path, typer.Option("--into", metavar="DIR", help="A new folder for the made-up world.")] = Path(
        "bramblemoor-demo"
    ),
    chapter: Annotated[
        str, typer.Option("--chapter", metavar="NAME", help="Tell only this one; what it needs is prepared first.")
    ] = "",
    list_them: Annotated[bool, typer.Option("--list", help="List the chapters.")] = False,
    whole: Annotated[
        bool, typer.Option("--whole", help="Show all that each command prints, not only what matters.")
    ] = False,
    pause: Annotated[bool, typer.Option("--pause", help="Wait for Enter after each chapter.")] = False,
    afresh: Annotated[bool, typer.Option("--afresh", help="Remove the world of an earlier demo first.")] = False,
) -> None:
    """Watch the whole journey: out of a made-up cloud, into a library, to three verified copies and back."""
    if list_them:
        say.table(("chapter", "what it tells"), [(one.name, f"{one.title}. {one.why}") for one in CHAPTERS], wraps=1)
        say.line("To watch one: bramblemoor demo --chapter NAME. To watch all: bramblemoor demo.")
        return
    names = [one.name for one in CHAPTERS]
    if chapter and chapter not in names:
        raise WrongUse(f"There is no chapter {chapter!r}.", suggestion(chapter, names, listed=len(names)))
    world = _World(into, into.resolve())
    world.prepare(afresh=afresh)
    if not chapter and world.told == len(CHAPTERS):
        say.line(f"{into} holds the made-up world of an earlier demo, and it was left as it is.")
        _say_where(into)
        say.line(f"To watch the demo again from the start: bramblemoor demo --into {shlex.quote(str(into))} --afresh")
        return
    began = time.monotonic()
    with _Tour(world.root, whole=whole) as tour:
        if chapter:
            _one(world, tour, names.index(chapter))
        else:
            for number in range(len(CHAPTERS)):
                _tell(world, tour, number)
                if pause and number + 1 < len(CHAPTERS):
                    _wait()
            _sum_up(into, tour, time.monotonic() - began)


def _one(world: "_World", tour: "_Tour", number: int) -> None:
    """One chapter, in a world that is as it was before it, or that it can be told in again."""
    if world.told > number and not CHAPTERS[number].again:
        world.remove()
        world.prepare(afresh=False)
    for before in range(world.told, number):
        say.note(f"Preparing the made-up world: {CHAPTERS[before].title} ...")
        tour.quiet = True
        _tell(world, tour, before)
    tour.quiet = False
    _tell(world, tour, number)


def _tell(world: "_World", tour: "_Tour", number: int) -> None:
    world.begin()
    tour.begin(CHAPTERS[number], number + 1)
    CHAPTERS[number].tell(tour)
    world.note(max(world.told, number + 1))


def _wait() -> None:
    """For Enter, on a terminal."""
    if sys.stdin.isatty():
        typer.prompt("Enter goes on", default="", show_default=False, prompt_suffix=" ...", err=True)


@dataclass
class _World:
    """The folder of the made-up world. Its mark says how many chapters were told in it."""

    shown: Path
    root: Path

    @property
    def told(self) -> int:
        lines = (self.root / _MARK).read_text(encoding="utf-8").splitlines()
        return int(lines[1].split()[0]) if len(lines) > 1 else 0

    def note(self, told: int) -> None:
        (self.root / _MARK).write_text(f"{_HEAD}\n{told} chapters were told in it.\n", encoding="utf-8")

    def prepare(self, *, afresh: bool) -> None:
        """Make the folder, or take that of an earlier demo; one that broke off in a chapter begins anew."""
        mark = self.root / _MARK
        if mark.is_file():
            if afresh or self._is_broken_off():
                self.remove()
            else:
                return
        elif self.root.exists() and (not self.root.is_dir() or any(self.root.iterdir())):
            raise WrongUse(f"{self.shown} holds other things.", "Name a new folder: bramblemoor demo --into DIR.")
        self.root.mkdir(parents=True, exist_ok=True)
        self.note(0)

    def begin(self) -> None:
        """Note that a chapter is being told."""
        with (self.root / _MARK).open("a", encoding="utf-8") as mark:
            mark.write("Another is being told.\n")

    def _is_broken_off(self) -> bool:
        return len((self.root / _MARK).read_text(encoding="utf-8").splitlines()) != 2

    def remove(self) -> None:
        for name in _MADE:
            path = self.root / name
            if path.is_dir():
                shutil.rmtree(path)
            else:
                path.unlink(missing_ok=True)


def _sum_up(into: Path, tour: "_Tour", seconds: float) -> None:
    say.line()
    say.line(f"What was shown, in {seconds:.0f} seconds:", "good")
    for what in tour.proven:
        for number, line in enumerate(textwrap.wrap(what, tour.columns - 4)):
            say.line(f"{'  - ' if not number else '    '}{line}")
    say.line()
    _say_where(into)


def _say_where(into: Path) -> None:
    names = ", ".join(name for name, _, _ in DEPOTS)
    say.line(
        f"The made-up world lies in {into}: library/, and depots/ {names}; docs/formats.md tells what the files are."
    )
    say.line("Try next:")
    rows = [(f"cd {shlex.quote(str(into / 'library'))}", ""), *TRY]
    say.table(("type", "to see"), rows, wraps=1, indent=2)
    say.line("And a chapter again, as it is told here: bramblemoor demo --list.")


class _Tour:
    """Runs the steps as commands, the way a user would type them, from inside the world's folders."""

    def __init__(self, root: Path, *, whole: bool) -> None:
        self.root = root
        self.here = root
        self.whole = whole
        self.quiet = False
        self.proven: list[str] = []
        self.columns = min(say.width() or _WIDEST, _WIDEST)
        self._services = ExitStack()
        self.environment = os.environ | {
            "BRAMBLEMOOR_SECRETS": str(root / "tokens.json"), "COLUMNS": str(self.columns - len(_INDENT)),
        }  # fmt: skip
        self.environment.pop("BRAMBLEMOOR_LIBRARY", None)

    def __enter__(self) -> "_Tour":
        return self

    def __exit__(self, *_: object) -> None:
        self._services.close()

    def begin(self, chapter: Chapter, number: int) -> None:
        self._services.close()
        if number == 1 and not self.whole:
            self._text("Of what each command prints the lines that matter are shown; all of them: --whole.")
        self._line()
        self._line(f"{number}. {chapter.title}")
        self._text(chapter.why)
        self._line()

    def say(self, text: str) -> None:
        self._line()
        self._text(text)
        self._line()

    def prove(self, what: str) -> None:
        self.proven.append(what)

    def enter(self, folder: str) -> None:
        self.here = self.root / folder

    def run(self, *arguments: str, shows: Sequence[str] = (), expect: int = 0) -> None:
        """Run a command and show its output; of it, only lines that have one of `shows` in them, unless all is wanted."""
        if arguments[:2] == ("depot", "add"):
            (self.here / arguments[3]).mkdir(parents=True, exist_ok=True)
        self._prompt(shlex.join(["bramblemoor", *arguments]))
        done = subprocess.run(
            [sys.executable, "-m", "bramblemoor", *arguments], cwd=self.here, env=self.environment, check=False,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, encoding="utf-8",
        )  # fmt: skip
        self._show(done.stdout, shows)
        if done.returncode != expect:
            for line in done.stdout.splitlines():
                say.note(line)
            raise NotPossible(
                f"The demo stopped: bramblemoor {shlex.join(arguments)} ended with exit code {done.returncode}, not {expect}.",
                f"Look at {self.root}, or run the demo again with --afresh.",
            )
        if expect:
            self._line(f"  (exit code {done.returncode}: something needs attention)")

    def ask(self, *arguments: str) -> Any:
        """What a command answers in JSON, without showing it."""
        done = subprocess.run(
            [sys.executable, "-m", "bramblemoor", *arguments, "--json"], cwd=self.here, env=self.environment, check=False,
            stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, encoding="utf-8",
        )  # fmt: skip
        return json.loads(done.stdout)

    def stopping(self, *arguments: str, after: int, shows: Sequence[str] = ()) -> None:
        """Run a transfer that is stopped, as from another window, once so many frames have arrived."""
        self._prompt(shlex.join(["bramblemoor", *arguments]))
        process = subprocess.Popen(
            [sys.executable, "-m", "bramblemoor", *arguments], cwd=self.here, env=self.environment, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, encoding="utf-8",
        )  # fmt: skip
        while process.poll() is None:
            time.sleep(0.2)
            known = self.ask("transfer", "list")["transfers"]
            if known and known[-1]["state"] == "under way" and known[-1]["frames_done"] >= after:
                self.run("transfer", "list", shows=("transfer", known[-1]["transfer"]))
                self.run("transfer", "stop", shows=("asked to stop",))
                break
        output, _ = process.communicate(timeout=120)
        self._show(output, shows)

    def _show(self, output: str, shows: Sequence[str]) -> None:
        passed, room = 0, self.columns - len(_INDENT)
        told = [part for line in output.rstrip("\n").split("\n") for part in say.wrapped(line, room)]
        heads: list[str] = []  # of the table whose rows come, and were not shown yet
        for lines in _sentences(told, room):
            if self.whole or not shows or any(_matters(word, " ".join(lines)) for word in shows):
                if heads and "   " in lines[0].strip():
                    lines, heads, passed = [*heads, *lines], [], passed - 1
                for text in lines:
                    self._line(f"{_INDENT}{text}" if text else "")
            elif any(lines):
                passed += len(lines)
                heads = lines if _HEADS in lines[0] and not self.whole else heads
        if passed:
            self._line(f"  ... {say.many(passed, 'more line')}")

    def shell(self, command: str, needs: str) -> None:
        """A step without Bramblemoor; passed over where the system lacks the program."""
        if shutil.which(needs) is None:
            return
        self._prompt(command)
        done = subprocess.run(
            ["sh", "-c", command], cwd=self.here, check=False, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            encoding="utf-8",
        )  # fmt: skip
        self._show(done.stdout, ())
        if done.returncode:
            raise NotPossible(f"The demo stopped: {command} found a difference.", f"Look at {self.root}.")

    def serve(self, service: str, *faults: str) -> str:
        """Start a stand-in service as a process of its own, until the next chapter begins; returns its address."""
        return self._services.enter_context(self._service(service, *faults))

    @contextmanager
    def _service(self, name: str, *faults: str) -> Iterator[str]:
        folder = self.root / name
        if not folder.exists() and name == "thrushfield":
            say.note("Drawing the made-up world (about ten seconds) ...")
        (folder / "address.txt").unlink(missing_ok=True)  # that of an earlier chapter
        process = subprocess.Popen(
            [sys.executable, "-m", "bramblemoor", "stand-in", name, str(folder), "--until-input-ends", *faults],
            stdin=subprocess.PIPE,  # which ends with this process, however that ends
            stdout=subprocess.DEVNULL,
            env=self.environment,
        )
        try:
            address = folder / "address.txt"
            for _ in range(1200):
                if address.is_file() and address.read_text().endswith("\n"):
                    break
                if process.poll() is not None:
                    raise NotPossible("The stand-in service did not start.", "Run the demo again with --afresh.")
                time.sleep(0.1)
            yield address.read_text().strip()
        finally:
            process.terminate()
            process.wait()

    def newest(self, folder: str) -> str:
        """The one folder in a folder, as it is called from where one is."""
        return next((self.here / folder).iterdir()).relative_to(self.here).as_posix()

    def first(self, folder: str, pattern: str) -> str:
        return min((self.here / folder).rglob(pattern)).name

    def rename(self, old: str, new: str) -> None:
        (self.here / old).rename(self.here / new)
        self._line(f"  (renamed: {old} to {new})")

    def write(self, name: str, text: str) -> None:
        (self.here / name).write_text(text, encoding="utf-8")
        self._line(f"  (written: {name})")

    def retitle(self, name: str, title: str) -> None:
        """As an editor would: the title in a sidecar becomes another one, where it stands."""
        sidecar = next((self.here / "pictures").rglob(name))
        here = re.compile(r'(<dc:title>.*?<rdf:li xml:lang="x-default">)[^<]*', re.DOTALL)
        told = here.sub(lambda found: found[1] + title, sidecar.read_text(encoding="utf-8"), count=1)
        sidecar.write_text(told, encoding="utf-8")
        self._line(f"  (edited: {name})")

    def rot(self, folder: str) -> None:
        """Flip a bit of one picture below a folder of the world, and delete another."""
        pictures = sorted((self.root / folder).rglob("*.jpg"))
        rotten, deleted = pictures[3], pictures[10]
        content = bytearray(rotten.read_bytes())
        content[len(content) // 2] ^= 0x10
        rotten.write_bytes(content)
        deleted.unlink()
        self._line(f"  (one bit is flipped: {rotten.relative_to(self.root)})")
        self._line(f"  (deleted: {deleted.relative_to(self.root)})")

    def remove(self, name: str) -> None:
        """What an earlier telling of the chapter has left."""
        path = self.root / name
        if path.is_dir():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)

    def _prompt(self, command: str) -> None:
        place = self.here.relative_to(self.root).as_posix()
        self._line(f"{'' if place == '.' else place}$ {command}")

    def _text(self, text: str) -> None:
        for line in textwrap.wrap(text, self.columns):
            self._line(line)

    def _line(self, text: str = "") -> None:
        if not self.quiet:
            print(say.shown(text), flush=True)


def _matters(word: str, text: str) -> bool:
    """Whether a line has a word in it; with "^" before it, whether it begins so."""
    return text.startswith(word[1:]) if word.startswith("^") else word in text


def _sentences(lines: Sequence[str], columns: int) -> Iterator[list[str]]:
    """Lines of a report, those together into which one sentence, or one row of a table, was broken for want of room."""
    together: list[str] = []
    for line in lines:
        if together and not _goes_on(together, line, columns):
            yield together
            together = []
        together.append(line)
    if together:
        yield together


def _goes_on(begun: Sequence[str], line: str, columns: int) -> bool:
    """Whether a line is the next one of what was begun."""
    last = begun[-1]
    if not last or not line:
        return False
    inwards = _indent(line) - _indent(begun[0])
    if inwards >= _FAR:  # a cell of several lines, or the heads of a table whose first column has none
        return "   " not in line.strip()
    if inwards > 0 and columns < _NARROW:  # a row that is told in lines of its own
        return "   " not in begun[0].strip() and _STACKED.match(line) is not None
    hanging = say.HANGING if _indent(begun[0]) else 0
    texts = last.strip(), line.strip()
    if inwards != hanging or any("   " in text for text in texts):
        return False
    return say.wrapped(" ".join(texts), columns - _indent(begun[0]) - hanging)[0] == texts[0]


def _indent(line: str) -> int:
    return len(line) - len(line.lstrip())


COMMANDS = {"demo": single("demo", demo)}
