"""Which destination an account is."""

from bramblemoor.errors import WrongUse
from bramblemoor.migrate.flat_destination import FlatDestination
from bramblemoor.migrate.sending import Destination
from bramblemoor.migrate.tree_destination import TreeDestination
from bramblemoor.services.interface import Account, FrameUploads, TreeUploads


def destination_of(name: str, account: Account, into: str, template: str, mark: str, *, embed: bool) -> Destination:
    """The destination that an account is; `mark` is the same at each run of a transfer. Raises WrongUse for one that takes
    nothing.
    """
    if isinstance(account, TreeUploads):
        account.mark = mark
        return TreeDestination(name, account, into, template)
    if isinstance(account, FrameUploads):
        if into:
            raise WrongUse(
                f"{name} has no folders.", "Leave --into out; --arrival TITLE makes an album of what arrives."
            )
        return FlatDestination(name, account, embed=embed)
    raise WrongUse(f"Nothing can be sent to {name}.", f"See what it can do: bramblemoor service powers {name}.")
