"""Writes docs/commands.md, the reference of all commands, from the program itself.

usage: commands.py [FILE]
"""

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "bramblemoor"
HEAD = """# Commands

Written by `make commands` from what each command says of itself with `--help`. `bramblemoor COMMAND --help` tells the same.
"""


def _told(*command: str) -> str:
    told = subprocess.run(
        [PROGRAM, *command, "--help"], env=os.environ | {"COLUMNS": "100"}, check=True,
        capture_output=True, encoding="utf-8",
    )  # fmt: skip
    return told.stdout


def _commands_of(told: str) -> list[str]:
    """The commands that a page of help lists, for a command that has some."""
    lines = told.partition("\nCommands:\n")[2].splitlines()
    return [line.split()[0] for line in lines if line.startswith("  ") and not line.startswith("   ")]


def page(ask: Callable[..., str] = _told) -> str:
    """The whole page; `ask` is called with the words of a command and returns its help."""
    from bramblemoor.cli.main import MODULES

    parts = [HEAD, "```", ask().strip("\n"), "```"]
    for name in MODULES:
        told = ask(*name.split()).strip("\n")
        parts += ["", f"## {name}", "", "```", told, "```"]
        for sub in _commands_of(told):
            parts += ["", f"### {name} {sub}", "", "```", ask(name, sub).strip("\n"), "```"]
    return "\n".join(parts) + "\n"


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).with_name("commands.md")
    target.write_text(page(), encoding="utf-8")
