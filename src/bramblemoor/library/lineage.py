"""The line of a ledger: by it a library revived from an old copy, or a copy that went its own way, is recognised.

Whenever facts have changed and a snapshot is written, the line grows by a link: a generation, and a digest made from the
link before it and from chance. Two ledgers with a link in common were one up to there.
"""

import hashlib
import os
import sqlite3
from dataclasses import dataclass

from bramblemoor.library.home import Library


@dataclass(frozen=True)
class Link:
    generation: int = 0
    digest: str = ""


ORIGIN = Link()


def latest(library: Library) -> Link:
    """The last link of a library's line; an empty one before the first backup."""
    row = library.db.execute("SELECT * FROM history ORDER BY generation DESC LIMIT 1").fetchone()
    return Link(row["generation"], row["digest"]) if row else ORIGIN


def links(db: sqlite3.Connection) -> set[Link]:
    """All links of a ledger's line."""
    return {Link(row["generation"], row["digest"]) for row in db.execute("SELECT * FROM history")}


def continue_line(library: Library, generation: int) -> None:
    """Add a link for what the ledger is now. Chance goes into it, or two copies could grow alike."""
    parent = latest(library)
    digest = hashlib.sha256(parent.digest.encode() + os.urandom(16)).hexdigest()
    with library.ledger.changing() as db:
        db.execute("INSERT OR REPLACE INTO history VALUES (?, ?)", (max(generation, parent.generation + 1), digest))


def descends_from(library: Library, link: Link) -> bool:
    """Whether this ledger was, at some time, the one that `link` speaks of."""
    if link == ORIGIN:
        return True
    row = library.db.execute("SELECT digest FROM history WHERE generation = ?", (link.generation,)).fetchone()
    return row is not None and row["digest"] == link.digest
