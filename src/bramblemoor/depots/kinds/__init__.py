"""The kinds of place that a depot can lie in, by the name that the ledger and depot.toml give them."""

from collections.abc import Callable, Sequence

from bramblemoor.depots.kinds.folder import FolderStore
from bramblemoor.depots.kinds.interface import INCOMING, PAYLOAD, Grade, Reading, Store
from bramblemoor.errors import DepotTrouble

FOLDER = FolderStore.kind
_KINDS: dict[str, Callable[[], type[Store]]] = {FOLDER: lambda: FolderStore}


def add_kind(kind: str, load: Callable[[], type[Store]]) -> None:
    """Make another kind known, loaded once a depot is of it; the simulated ones that ship with Bramblemoor come in so."""
    _KINDS[kind] = load


def knows(kind: str) -> bool:
    return kind in _KINDS


def open_store(kind: str, where: str, options: dict[str, str], seen: Sequence[int] = ()) -> Store:
    """Raises DepotTrouble for a kind that this program does not know."""
    if not knows(kind):
        raise DepotTrouble(
            f"{where} is a depot of the unknown kind {kind!r}.", "Use the Bramblemoor that made it, or a newer one."
        )
    return _KINDS[kind]()(where, options, seen)


def _kind_at(where: str) -> type[Store] | None:
    return next((kind for load in _KINDS.values() if (kind := load()).lies_at(where)), None)


def lies_at(where: str) -> bool:
    """Whether a depot of any kind seems to lie there."""
    return _kind_at(where) is not None


def store_at(where: str) -> Store:
    """Whatever lies there, opened to see what it is; as a folder, where no kind knows it as its own."""
    return (_kind_at(where) or FolderStore)(where, {})


__all__ = [
    "FOLDER",
    "INCOMING",
    "PAYLOAD",
    "Grade",
    "Reading",
    "Store",
    "add_kind",
    "knows",
    "lies_at",
    "open_store",
    "store_at",
]
