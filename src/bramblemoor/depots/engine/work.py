"""The work of a run: which files each depot lacks, has elsewhere, or has no use for; in temporary tables, not in memory."""

import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import msgspec

from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.bag.terms import Terms, chosen
from bramblemoor.depots.engine.items import Item
from bramblemoor.depots.standing.tally import is_whole_at
from bramblemoor.disk.names import collision_key
from bramblemoor.library import copies
from bramblemoor.library.conditions import prepare
from bramblemoor.library.copies import FREED, good
from bramblemoor.library.erasing import Erasing
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount

_PAGE = 500


@dataclass(frozen=True)
class Member:
    """A depot of a run: its number in the ledger, its place in the run, what is chosen for it."""

    depot: Depot
    number: int
    place: int
    terms: Terms

    @property
    def bit(self) -> int:
        return 1 << self.place


def at_hand(members: Sequence[Member]) -> str:
    """SQL that holds of a file `f` that a run can get: it is in the library or, where it was freed, good at one of its depots."""
    numbers = ", ".join(str(member.number) for member in members)
    return (
        f"(f.id NOT IN ({FREED}) OR EXISTS (SELECT 1 FROM copies g WHERE g.file = f.id AND g.depot IN ({numbers})"
        f" AND g.sha256 IS NULL AND {good('g')}))"
    )


class Work:
    """What is to be copied where, those files first that have the fewest proven copies."""

    def __init__(
        self, library: Library, members: Sequence[Member], lacking: str, *, before_moves: bool = False
    ) -> None:
        """`lacking` is LACKING, with what else must hold, or `amiss()`: what a depot should have and has not, or has amiss.

        `before_moves` says that leftovers at the depots will still be moved to where they are wanted.
        """
        self._library = library
        self._db = library.db
        self._members = members
        # By depot: what it cannot have, as another file has that name there.
        self.twins: dict[int, list[tuple[Item, str]]] = {}
        self._sets: dict[int, list[Member]] = {}
        prepare(self._db)
        self._db.executescript(
            "DROP TABLE IF EXISTS temp.lacks; DROP TABLE IF EXISTS temp.work;"
            "CREATE TEMP TABLE lacks (file INTEGER, bit INTEGER, held INTEGER);"
            "CREATE TEMP TABLE work (n INTEGER PRIMARY KEY, file INTEGER, takers INTEGER, held INTEGER);"
        )
        for member in members:
            if is_whole_at(self._db, member.number):
                continue  # which of very many files it lacks takes long to ask
            where, values = chosen(member.terms)
            self._db.execute(
                "INSERT INTO temp.lacks SELECT f.id, ?, c.file IS NOT NULL FROM files f"
                " LEFT JOIN copies c ON c.file = f.id AND c.depot = ?"
                f" LEFT JOIN frames r ON r.id = f.frame WHERE {lacking} AND {where}"
                f" AND NOT ({before_moves} AND c.file IS NULL AND EXISTS (SELECT 1 FROM leftovers l"
                " WHERE l.depot = ? AND l.sha256 = f.sha256 AND l.state != 'damaged'))",
                (member.bit, member.number, *values, member.number),
            )
            if member.depot.store.traits.folds_case:
                self.twins[member.number] = self._take_twins(member)
        self._db.execute(
            "INSERT INTO temp.work (file, takers, held) SELECT l.file, sum(l.bit), max(l.held) FROM temp.lacks l"
            " JOIN files f ON f.id = l.file GROUP BY l.file ORDER BY (SELECT count(*) FROM copies o"
            " WHERE o.file = l.file AND o.state = 'proven' AND o.sha256 IS NULL), f.path"
        )
        self._db.execute("DROP TABLE temp.lacks")

    def _take_twins(self, member: Member) -> list[tuple[Item, str]]:
        """Take from the work what differs only by case or normalisation from a file that is there, or will be."""
        self._db.execute("CREATE INDEX IF NOT EXISTS temp.lacks_file ON lacks (file)")
        self._db.create_function("bm_collision", 1, collision_key, deterministic=True)
        rows = self._db.execute(
            "SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role = 'original', o.path FROM temp.lacks l"
            " JOIN files f ON f.id = l.file JOIN files o ON o.collision = f.collision AND o.id != f.id"
            " LEFT JOIN copies c ON c.depot = ? AND c.file = o.id LEFT JOIN temp.lacks p ON p.file = o.id AND p.bit = l.bit"
            " WHERE l.bit = ? AND (c.state != 'missing' AND p.file IS NULL OR p.file < l.file) GROUP BY f.id"
            # Or what was renamed in the library, and lies there under its old name still.
            " UNION SELECT f.id, f.path, f.bytes, f.sha256, f.mtime_ns, f.role = 'original', c.path FROM copies c"
            " JOIN files f ON f.collision = bm_collision(c.path) AND f.id != c.file JOIN temp.lacks l ON l.file = f.id"
            " WHERE l.bit = ? AND c.depot = ? AND c.path IS NOT NULL AND c.state != 'missing'",
            (member.number, member.bit, member.bit, member.number),
        ).fetchall()
        self._db.executemany(
            "DELETE FROM temp.lacks WHERE file = ? AND bit = ?", ((row[0], member.bit) for row in rows)
        )
        why = "that drive does not tell capitals apart, and holds {} under that name; rename one of the two"
        return list({row[0]: (Item(*row[:6]), why.format(row[6])) for row in map(tuple, rows)}.values())

    def whole(self) -> Amount:
        """All that is still to be read."""
        return copies.amount(self._db, "temp.work JOIN files f ON f.id = file WHERE takers != 0")

    def left(self, member: Member) -> Amount:
        """What is still to be copied to a depot."""
        return copies.amount(self._db, "temp.work JOIN files f ON f.id = file WHERE takers & ?", (member.bit,))

    def items(self) -> Iterator[tuple[int, Item, list[Member]]]:
        """What is to be done, in order: its number here, the file, and the depots that lack it."""
        last = 0
        while True:
            rows = self._db.execute(
                "SELECT n, takers, held, f.role, f.id, f.path, f.bytes, f.sha256, f.mtime_ns FROM temp.work"
                " JOIN files f ON f.id = file WHERE n > ? AND takers != 0 ORDER BY n LIMIT ?",
                (last, _PAGE),
            ).fetchall()
            if not rows:
                return
            for n, takers, held, role, file, path, size, sha256, mtime_ns in rows:
                item = Item(file, path, size, sha256, mtime_ns, frames=role == "original", held=bool(held))
                yield n, item, self._takers(takers)
            last = n

    def _takers(self, bits: int) -> list[Member]:
        """The members of a set of bits; there are few sets."""
        if bits not in self._sets:
            self._sets[bits] = [member for member in self._members if bits & member.bit]
        return self._sets[bits]

    def for_depot(self, item: Item, member: Member) -> Item:
        """The item, with the reason why what lies at a depot now is replaced, if it is more than an older version."""
        if not item.held:
            return item
        row = self._db.execute(
            "SELECT state FROM copies WHERE depot = ? AND file = ?", (member.number, item.file)
        ).fetchone()
        amiss = row is not None and row["state"] in ("damaged", "missing")
        return msgspec.structs.replace(item, why=f"it was {row['state']}", mends=True) if amiss else item

    def done(self, numbers: Iterable[int], member: Member) -> None:
        """What a depot has, or cannot have."""
        self._db.executemany(
            "UPDATE temp.work SET takers = takers & ~? WHERE n = ?", ((member.bit, number) for number in numbers)
        )


def moves(db: sqlite3.Connection, member: Member) -> Iterator[Intent]:
    """Renames and moves in the library that the depot has not seen, and leftovers there that are wanted after all."""
    where, values = chosen(member.terms)
    # Where a drive does not tell capitals apart, a file whose new name is another one's there keeps the old one.
    free = "1"
    if member.depot.store.traits.folds_case:
        free = (
            "NOT EXISTS (SELECT 1 FROM files o JOIN copies h ON h.file = o.id AND h.depot = c.depot"
            " WHERE o.collision = f.collision AND o.id != f.id AND h.state != 'missing')"
        )
    for row in db.execute(
        # By the index of the few that have a path of their own; SQLite would go through all.
        "SELECT c.path AS was, f.path, f.bytes, coalesce(c.sha256, f.sha256) AS sha256 FROM copies c INDEXED BY copies_path"
        f" JOIN files f ON f.id = c.file WHERE c.depot = ? AND c.path IS NOT NULL AND c.state != 'missing' AND {free}",
        (member.number,),
    ):
        yield Intent(row["path"], row["sha256"], row["bytes"], was=row["was"], why="replaced by a move", what="move")
    for row in db.execute(
        "SELECT min(was) AS was, path, bytes, sha256 FROM (SELECT l.path AS was, min(f.path) AS path, f.bytes, f.sha256"
        " FROM leftovers l JOIN files f ON f.sha256 = l.sha256 LEFT JOIN frames r ON r.id = f.frame"
        " LEFT JOIN copies c ON c.file = f.id AND c.depot = l.depot"
        f" WHERE l.depot = ? AND c.file IS NULL AND l.state != 'damaged' AND {where} GROUP BY l.path) GROUP BY path",
        (member.number, *values),
    ):
        yield Intent(row["path"], row["sha256"], row["bytes"], was=row["was"], why="replaced by a move", what="move")


def enter_moves(db: sqlite3.Connection, member: Member, intents: Iterator[Intent]) -> Amount:
    """Enter moves that were carried out; returns what moved."""
    moved = Amount()
    for intent in intents:
        file = db.execute("SELECT id, role FROM files WHERE path = ?", (intent.path,)).fetchone()
        if file is None:
            continue
        if not copies.is_in_its_place(db, member.number, file["id"], intent.was):
            copies.take_leftover(db, member.number, intent.was, file["id"])
        db.execute("DELETE FROM leftovers WHERE depot = ? AND path = ?", (member.number, intent.was))
        if db.execute(
            "SELECT 1 FROM copies WHERE depot = ? AND file = ? AND sha256 IS NULL", (member.number, file["id"])
        ).fetchone():
            moved += Amount(int(file["role"] == "original"), 1, intent.bytes)
    return moved


_LEAVING = "INSERT OR IGNORE INTO temp.leaving (depot, path, sha256, bytes, why)"
REMOVED, NOT_CHOSEN = "removed from the library", "no longer chosen for this depot"
NEVER_HAD = "not known to the library as it is now"
"""As what came to a depot by a library that was lost since, and came back from another depot that lacks it."""


def weigh_removals(erasing: Erasing, member: Member) -> None:
    """Put into the table of `erasing` what a depot has and should not have, and what of it must stay.

    That are leftovers that nobody wants there, and what is not chosen for it any more. A damaged one is no copy of anything.
    """
    db = erasing.library.db
    where, values = chosen(member.terms)
    db.execute(
        f"{_LEAVING} SELECT l.depot, l.path, iif(l.state = 'damaged', '', l.sha256), l.bytes,"
        " iif(l.sha256 IN (SELECT sha256 FROM given_up), ?, ?) FROM leftovers l"
        " WHERE l.depot = ? AND (l.state = 'damaged' OR NOT EXISTS (SELECT 1 FROM files f LEFT JOIN frames r ON r.id = f.frame"
        f" LEFT JOIN copies c ON c.file = f.id AND c.depot = l.depot WHERE f.sha256 = l.sha256 AND c.file IS NULL AND {where}))",
        (REMOVED, NEVER_HAD, member.number, *values),
    )
    if member.terms.chooses:
        db.execute(
            f"{_LEAVING} SELECT c.depot, coalesce(c.path, f.path), iif(c.state = 'damaged', '', coalesce(c.sha256, f.sha256)),"
            " f.bytes, ? FROM copies c JOIN files f ON f.id = c.file LEFT JOIN frames r ON r.id = f.frame"
            f" WHERE c.depot = ? AND c.state != 'missing' AND NOT coalesce({where}, 0)",
            (NOT_CHOSEN, member.number, *values),
        )
    erasing.weigh(for_good=False)


def removals(db: sqlite3.Connection) -> Iterator[Intent]:
    """What may leave a depot, once it was weighed."""
    for row in db.execute("SELECT * FROM temp.leaving WHERE NOT stays ORDER BY path"):
        yield Intent(row["path"], row["sha256"], row["bytes"], why=row["why"], what="remove")


def enter_removals(db: sqlite3.Connection, member: Member, intents: Iterator[Intent]) -> dict[str, Amount]:
    """Enter removals that were carried out; returns what was removed, by why."""
    removed: dict[str, Amount] = {}
    for intent in intents:
        db.execute("DELETE FROM leftovers WHERE depot = ? AND path = ?", (member.number, intent.path))
        copies.forget_at(db, member.number, intent.path)
        removed[intent.why] = removed.get(intent.why, Amount()) + Amount(0, 1, intent.bytes)
    return removed
