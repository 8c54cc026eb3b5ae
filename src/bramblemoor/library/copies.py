"""What the states of copies mean: conditions over rows of `copies`, under whatever name a query has for them."""

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
