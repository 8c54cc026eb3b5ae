"""Writes docs/commands.md, the reference of all commands, from the program itself.

usage: commands.py [FILE]
"""

import os
import subprocess
import sys
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "bramblemoor"
HEAD = """# Commands

Written by `make commands` from what each command says of itself with `--help`. `bramblemoor COMMAND --help` tells the same.
"""


def _told(*command: str) -> str:
    told = subprocess.run(
        [PROGRAM, *command, "--help"], env=os.environ | {"COLUMNS": "100", "TERMINAL_WIDTH": "100"}, check=True,
        capture_output=True, encoding="utf-8",
    )  # fmt: skip
    return told.stdout.strip("\n")


def _commands_of(told: str) -> list[str]:
    """The commands that a page of help lists, for a command that has some."""
    lines = told.partition("\nCommands:\n")[2].splitlines()
    return [line.split()[0] for line in lines if line.startswith("  ") and not line.startswith("   ")]


def page() -> str:
    from bramblemoor.cli.main import MODULES

    parts = [HEAD, "```", _told(), "```"]
    for name in MODULES:
        told = _told(*name.split())
        parts += ["", f"## {name}", "", "```", told, "```"]
        for sub in _commands_of(told):
            parts += ["", f"### {name} {sub}", "", "```", _told(name, sub), "```"]
    return "\n".join(parts) + "\n"


if __name__ == "__main__":
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).with_name("commands.md")
    target.write_text(page(), encoding="utf-8")
