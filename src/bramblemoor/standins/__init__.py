"""Simulated services and devices, and the made-up world that they hold."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bramblemoor.standins.exporter import Account

# The kinds of depots that are simulated, by name.
DRIVE = "stand-in drive"
CHEST = "stand-in chest"


def accounts() -> "dict[str, type[Account]]":
    """The services there are, by name."""
    from bramblemoor.standins.emberlow import Emberlow
    from bramblemoor.standins.pipit_lane import PipitLane
    from bramblemoor.standins.thrushfield import Thrushfield

    return {"thrushfield": Thrushfield, "emberlow": Emberlow, "pipit-lane": PipitLane}
