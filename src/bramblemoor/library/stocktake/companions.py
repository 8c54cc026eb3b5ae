"""Companions: what programs keep beside the pictures, as catalogues and sessions; which of them will not open elsewhere."""

from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

from bramblemoor.disk.durable import chunks
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding

FOLDER = "companions"
_OURS = ("companions/templates/", "companions/dialects/", "companions/lent/", "companions/locations.toml")
_TIED = "tied"
"""In the ledger's meta: a companion that was named."""
_LEAST = 3  # steps of a home folder's path, root included; a shorter one may stand anywhere by chance


def tied_to_this_machine(library: Library, path: str) -> Iterator[Finding]:
    """Name a companion that mentions where the library lies, or the user's own folder: elsewhere it will look there in vain.

    Inside a transaction. It is named once, not whenever its program writes it anew.
    """
    if not path.startswith(FOLDER + "/") or path.startswith(_OURS):
        return
    places = [library.root, *([Path.home()] if len(Path.home().parts) >= _LEAST else [])]
    try:
        place = _mentioned(library.root / path, places)
    except OSError:
        return  # for reading it to tell
    key = (f"{_TIED} {path}",)
    was = library.db.execute("SELECT 1 FROM meta WHERE key = ?", key).fetchone() is not None
    if place is None:
        library.db.execute("DELETE FROM meta WHERE key = ?", key)
    elif not was:
        library.db.execute("INSERT INTO meta VALUES (?, '')", key)
        yield Finding(
            path, f"it mentions {place}, a folder of this machine, so elsewhere it will not find what it looks for there; where"
            " its program can use relative paths, let it",
        )  # fmt: skip


def _mentioned(file: Path, places: list[Path]) -> Path | None:
    """The first of some folders that a file mentions, as text in UTF-8 or UTF-16, or as part of a URL."""
    forms = {form: place for place in places for form in _forms(place)}
    longest = max(map(len, forms))
    before = b""
    for piece in chunks(file):
        text = before + piece
        for form, place in forms.items():
            if form in text:
                return place
        before = text[-longest:]
    return None


def _forms(place: Path) -> Iterator[bytes]:
    for text in {str(place), place.as_posix(), quote(place.as_posix())}:
        for behind in ("/", "\\"):
            yield (text + behind).encode("utf-8")
            yield (text + behind).encode("utf-16-le")
        if "\\" in text:
            yield (text.replace("\\", "\\\\") + "\\\\").encode("utf-8")
