"""What a copy is worth: its states and what they mean, as conditions over rows of `copies` under whatever name a query has for
them; amounts; and the only writer of that table."""

import sqlite3
from collections.abc import Sequence

from bramblemoor.library.receipts import Amount

AMOUNT = "coalesce(sum(f.role = 'original'), 0), count(*), coalesce(sum(f.bytes), 0)"
"""Frames, files and bytes of rows of `files f`."""

FREED = "SELECT file FROM copies WHERE depot = 0 AND state = 'freed'"
"""Files that were put away: they have left the working drive on purpose."""
UNBROUGHT = "SELECT file FROM copies WHERE depot = 0 AND state = 'unbrought'"
"""Files of a restored library that no depot could give when it was made. They are missing, and nobody has let them go."""


ALARM = "alarm"
"""In the ledger's meta: the guard has stopped a run, and what it saw is not entered."""


def good(copy: str = "c") -> str:
    """It is thought to be there as it should be, whether it was read or not."""
    return f"{copy}.state IN ('proven', 'cached', 'written')"


def amiss(copy: str = "c") -> str:
    """It should be there, and is known not to be, or not to be sound."""
    return f"{copy}.state IN ('damaged', 'missing', 'unbrought')"


def amount(db: sqlite3.Connection, of: str, values: Sequence[object] = ()) -> Amount:
    """The amount of what stands behind FROM, in which the files are called `f`."""
    return Amount(*db.execute(f"SELECT {AMOUNT} FROM {of}", values).fetchone())
