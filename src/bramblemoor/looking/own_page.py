"""The library's own page, in looking/page/: made when it is first asked for, and renewed before a backup, so that a depot that
lies on a shelf can be looked through on any computer.
"""

import json
from collections.abc import Collection

from bramblemoor.library.home import Library
from bramblemoor.library.selection import EVERYTHING, select
from bramblemoor.looking.page import Page, Wish, write_page
from bramblemoor.running import Progress

FOLDER = "looking/page"
_TO_LIBRARY = "../../"
_STATE = "page"
"""In the ledger's meta: of which state of the ledger, and of which depots, the page is."""


def has_page(library: Library) -> bool:
    return (library.root / FOLDER / "index.html").is_file()


def make_own_page(library: Library, progress: Progress, expecting: Collection[int] = ()) -> Page:
    """Write it; `expecting` are depots that are about to get what they lack.

    Raises WrongUse where the library has no frames, OSError where it cannot be written.
    """
    wish = Wish(library.name, _TO_LIBRARY, holders=True, expecting=frozenset(expecting))
    page = write_page(select(library, EVERYTHING), library.root / FOLDER, wish, progress)
    is_current(library)
    return page


def is_current(library: Library) -> None:
    """Note that the page says what the ledger says now: of a run that has just brought it to depots, for one."""
    with library.ledger.changing() as db:
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (_STATE, _state(library)))


def is_to_be_renewed(library: Library) -> None:
    """Note that a run did not do all that the page says of it."""
    with library.ledger.changing() as db:
        db.execute("DELETE FROM meta WHERE key = ?", (_STATE,))


def renew_own_page(library: Library, progress: Progress, expecting: Collection[int]) -> bool:
    """Write it anew where it has been made once, and the ledger says something else since; says whether it was."""
    if not has_page(library):
        return False
    row = library.db.execute("SELECT value FROM meta WHERE key = ?", (_STATE,)).fetchone()
    if row is not None and row["value"] == _state(library):
        return False
    if library.db.execute("SELECT 1 FROM frames LIMIT 1").fetchone() is None:
        return False
    make_own_page(library, progress, expecting)
    return True


def _state(library: Library) -> str:
    depots = library.db.execute("SELECT id, name, site, medium, retired FROM depots ORDER BY number").fetchall()
    return json.dumps([library.ledger.generation(), [list(row) for row in depots]])
