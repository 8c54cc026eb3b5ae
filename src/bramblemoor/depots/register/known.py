"""The depots that a library knows, as its ledger tells of them; their drives need not be there."""

import os
from collections.abc import Iterable
from dataclasses import dataclass

import msgspec

from bramblemoor.depots.bag.terms import Terms
from bramblemoor.errors import WrongUse
from bramblemoor.library.copies import amount, good
from bramblemoor.library.folding import suggestion
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount


@dataclass(frozen=True)
class KnownDepot:
    """What the ledger has of a depot: `where` it was last, `runs` and `line` its line as of the last run known here.

    `coming` is what its line becomes by a run of ours that did not end, `seat` where it was read, `stranger` tells that it was
    found to have gone its own way.
    """

    number: int
    id: str
    name: str
    kind: str
    site: str
    medium: str
    where: str
    device: str
    terms: Terms
    runs: int
    line: str
    retired: str
    coming: str
    seat: str
    stranger: str
    options: dict[str, str]


def known_depots(library: Library) -> list[KnownDepot]:
    return [
        KnownDepot(
            row["number"], row["id"], row["name"], row["kind"], row["site"], row["medium"],
            os.path.normpath(library.root / row["whereabouts"]), row["device"],
            msgspec.json.decode(row["terms"], type=Terms), row["runs"], row["line"], row["retired"],
            row["coming"], row["seat"], row["stranger"],
            msgspec.json.decode(row["options"], type=dict[str, str]),
        )
        for row in library.db.execute("SELECT * FROM depots ORDER BY number")
    ]  # fmt: skip


def number_in(library: Library, depot: str) -> int:
    """The number that the ledger has for a depot's id."""
    number: int = library.db.execute("SELECT number FROM depots WHERE id = ?", (depot,)).fetchone()[0]
    return number


def depots_named(library: Library, names: Iterable[str]) -> list[KnownDepot]:
    """The depots of those names, or all that are in use. Raises WrongUse for none at all, or for an unknown name."""
    known = {depot.name: depot for depot in known_depots(library)}
    if not known:
        raise WrongUse(
            "This library has no depot yet.", "Add one: bramblemoor depot add NAME FOLDER --site SITE --medium MEDIUM."
        )
    chosen = []
    for name in dict.fromkeys(names):
        if name not in known:
            raise WrongUse(f"There is no depot {name!r} here.", suggestion(name, known))
        chosen.append(known[name])
    return chosen or [depot for depot in known.values() if not depot.retired]


def amount_at(library: Library, number: int) -> Amount:
    """What is thought to be good at a depot."""
    return amount(library.db, f"copies c JOIN files f ON f.id = c.file WHERE c.depot = ? AND {good()}", (number,))
