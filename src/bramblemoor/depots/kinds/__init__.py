"""The kinds of drive a depot can lie on, by the name that the ledger and depot.toml give them."""

from pathlib import Path

from bramblemoor.depots.kinds.folder import FolderDrive
from bramblemoor.depots.kinds.interface import Drive, Grade, Reading
from bramblemoor.errors import DepotTrouble

_KINDS: dict[str, type[Drive]] = {FolderDrive.kind: FolderDrive}


def add_kind(kind: type[Drive]) -> None:
    """Make another kind known; the simulated drives that ship with Bramblemoor come in this way."""
    _KINDS[kind.kind] = kind


def knows(kind: str) -> bool:
    return kind in _KINDS


def open_drive(kind: str, root: Path, options: dict[str, str]) -> Drive:
    """Raises DepotTrouble for a kind that this program does not know."""
    if not knows(kind):
        raise DepotTrouble(
            f"{root} is a depot of the unknown kind {kind!r}.", "Use the Bramblemoor that made it, or a newer one."
        )
    return _KINDS[kind](root, options)


__all__ = ["Drive", "Grade", "Reading", "add_kind", "knows", "open_drive"]
