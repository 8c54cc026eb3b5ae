"""How selections compare texts: without regard to case, accents and composition, in every script alike."""

import unicodedata

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
