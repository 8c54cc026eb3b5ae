"""Where a frame goes: folder templates below pictures/. docs/formats.md tells the template language."""

import re
from datetime import date
from functools import lru_cache

from bramblemoor.disk.names import safe_name
from bramblemoor.errors import NotPossible
from bramblemoor.frames.moments import Moment

_WORD = re.compile(r"\{(\w*)\}")


def folder_for(template: str, taken: Moment | None, service: str) -> str:
    """The folder, relative to the library; frames of unknown date go to pictures/undated.

    Raises NotPossible for a word that the template language does not have.
    """
    if taken is None:
        return "pictures/undated"
    return _folder(template, taken.shown.date(), service)


@lru_cache(1024)
def _folder(template: str, shown: date, service: str) -> str:
    words = {"year": f"{shown:%Y}".zfill(4), "month": f"{shown:%m}", "day": f"{shown:%d}", "service": service}

    def word(match: re.Match[str]) -> str:
        if match[1] not in words:
            raise NotPossible(
                f"The naming template {template!r} has {match[0]}, which means nothing.",
                f"Use {', '.join('{' + known + '}' for known in words)} in bramblemoor.toml.",
            )
        return words[match[1]]

    return "pictures/" + "/".join(safe_name(step) for step in _WORD.sub(word, template).split("/") if step)
