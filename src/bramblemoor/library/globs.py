"""Globs over paths: the one way to say which files by their names."""

import re
from functools import lru_cache

from bramblemoor.errors import WrongUse
from bramblemoor.library.folding import plain

_MOST_STARS = 12
_LONGEST = 500


def fits(glob: str, path: str) -> bool:
    """Whether a path fits a glob.

    `*` and `?` stay within one step of a path, `**` passes over steps. Without a slash a glob is for the last step, at any
    depth; with one behind it, for everything below a folder. Case and accents do not count.
    """
    return _pattern(plain(glob)).fullmatch(plain(path)) is not None


def is_glob(name: str) -> bool:
    """Whether a name is a glob and not just a name."""
    return "*" in name or "?" in name or name.endswith("/")


def checked_glob(glob: str) -> str:
    """The glob itself. Raises WrongUse for one that would take very long to compare, or is none."""
    if len(glob) > _LONGEST or glob.count("*") > _MOST_STARS or "\0" in glob:
        raise WrongUse(
            f"The glob {glob[:60]!r} has too many stars, or is too long.",
            f"Use at most {_MOST_STARS} stars; give several globs.",
        )
    return glob


@lru_cache(256)
def _pattern(glob: str) -> re.Pattern[str]:
    if glob.endswith("/"):
        glob += "**"
    if "/" not in glob:
        glob = "**/" + glob
    glob = re.sub(r"\*{3,}", "**", glob)
    glob = re.sub(r"(\*\*/)+", "**/", glob)
    text = ""
    for part in re.split(r"(\*\*/|\*\*|\*|\?)", glob):
        text += {"**/": "(?:.*/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}.get(part) or re.escape(part)
    return re.compile(text, re.DOTALL)
