"""A command with commands of its own, and what it says of a word that is none of them."""

from typing import Any

import typer
from typer.core import TyperGroup

from bramblemoor.errors import WrongUse
from bramblemoor.library.folding import suggestion


class Commands(TyperGroup):
    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        if not args and self.no_args_is_help and not ctx.resilient_parsing:
            print(ctx.get_help())
            raise typer.Exit(2)
        return list(super().parse_args(ctx, args))

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        word = args[0]
        if not word.startswith("-") and self.get_command(ctx, word) is None and not ctx.resilient_parsing:
            path = ctx.command_path
            known = self.list_commands(ctx)
            found = self.instead_of(word) or suggestion(word, known, listed=0).strip()
            what = "command" if ctx.parent is None else f"command {path.partition(' ')[2]}"
            raise WrongUse(f"There is no {what} {word!r}.", f"{found} All of them: {path} --help.".strip())
        return super().resolve_command(ctx, args)

    def instead_of(self, word: str) -> str:
        """A sentence that leads whoever types this word to the right command; empty where none is known."""
        return ""
