"""How selections compare texts: without regard to case, accents and composition, in every script alike."""

import unicodedata
from collections.abc import Iterable
from difflib import get_close_matches

# Letters whose marks are no accents to Unicode, though people type them without.
_STROKES = str.maketrans({
    "ł": "l", "ø": "o", "đ": "d", "ħ": "h", "ı": "i", "ŧ": "t", "æ": "ae", "œ": "oe", "ð": "d", "þ": "th", "ς": "σ",
})  # fmt: skip


def plain(text: str) -> str:
    """What two spellings of a text have in common: "Ete" and "ÉTÉ" compare equal, and "Strasse" and "STRAßE"."""
    if text.isascii():
        return text.lower()
    parted = unicodedata.normalize("NFD", text.casefold())
    if any(unicodedata.combining(sign) for sign in parted):
        parted = "".join(sign for sign in parted if not unicodedata.combining(sign))
    return unicodedata.normalize("NFC", parted.translate(_STROKES))


_NEAR = 0.7
"""How much two words have to have in common for one to be taken for a slip of the other."""


def suggestion(word: str, known: Iterable[str], *, listed: int = 8) -> str:
    """What to say of a word that is not known: "Did you mean ...?" only where one is near, else what there is, if it is little.

    Ends with a space where nothing is listed in its place (`listed` 0), so that a sentence can follow.
    """
    names = {plain(name): name for name in known}
    near = get_close_matches(plain(word), names, 1, _NEAR)
    space = "" if listed else " "
    if near:
        return f"Did you mean {names[near[0]]}?{space}"
    if not listed or not names:
        return ""
    more = ", ..." if len(names) > listed else ""
    return f"There is: {', '.join(list(names.values())[:listed])}{more}."
