"""Where a run reads a file from: the library, or a depot that has a good copy of it."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from io import FileIO, RawIOBase

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.kinds.interface import PAYLOAD
from bramblemoor.depots.register.register import number_of
from bramblemoor.library.copies import FREED, LIBRARY, good
from bramblemoor.library.home import Library
from bramblemoor.library.stocktake.stock import source_of


@dataclass(frozen=True, slots=True)
class Source:
    """A place a file may be read from; `number` is the depot's in the ledger, 0 for the library. `path` is the file's there.

    `open` raises FileNotFoundError, or another OSError, as opening a file does.
    """

    number: int
    name: str
    path: str
    open: Callable[[], RawIOBase]

    @property
    def key(self) -> tuple[int, str]:
        """What tells it from others."""
        return self.number, self.path


def in_library(library: Library, path: str) -> Source:
    """The library's own file."""
    lies = source_of(library, path)
    return Source(LIBRARY, "library", lies, partial(FileIO, lies))


def from_library(library: Library, depots: Sequence[Depot]) -> Callable[[Item], Iterable[Source]]:
    """Backups read the library, and only for what was freed there a depot of theirs that has it."""

    def source(item: Item) -> list[Source]:
        return [in_library(library, item.path)]

    if library.db.execute(f"{FREED} LIMIT 1").fetchone() is None:
        return source
    anywhere = from_anywhere(library, depots, LIBRARY)

    def sources(item: Item) -> Iterable[Source]:
        freed = library.db.execute(f"{FREED} AND file = ?", (item.file,)).fetchone()
        return anywhere(item) if freed else source(item)

    return sources


def from_anywhere(library: Library, depots: Sequence[Depot], target: int) -> Callable[[Item], Iterable[Source]]:
    """Mending reads the library, unless it was freed there, or any depot but `target` whose copy was good when last seen."""
    numbers = {number_of(library, depot): depot for depot in depots}

    def sources(item: Item) -> Iterator[Source]:
        bad = library.db.execute("SELECT 1 FROM copies WHERE depot = 0 AND file = ?", (item.file,)).fetchone()
        if bad is None and target != LIBRARY:
            yield in_library(library, item.path)
        for number, depot in numbers.items():
            row = library.db.execute(
                "SELECT coalesce(path, ?) AS path FROM copies WHERE depot = ? AND file = ? AND sha256 IS NULL"
                f" AND {good('copies')}",
                (item.path, number, item.file),
            ).fetchone()
            if row is not None and number != target:
                lies = f"{PAYLOAD}/{row['path']}"
                yield Source(number, f"depot {depot.name}", lies, partial(depot.store.open, lies))

    return sources
