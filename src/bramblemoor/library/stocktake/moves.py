"""Recognising what moved: a file in another place with the content, or else the marks, of one that is gone from its own.

It works on the table of the stock that is being taken (`library.stock`), and on nothing else.
"""

import os
import sqlite3

from bramblemoor.disk.names import collision_key, free_name
from bramblemoor.library.home import Library

_INDEXES = """
    CREATE INDEX temp.stock_file ON stock (file);
    CREATE INDEX temp.stock_frame ON stock (frame);
"""
# Where the content of a file that is not in its place any more may have gone; those that kept their name are chosen first,
# and of what is left each file, and each place, once.
_MOVES = """
    INSERT OR IGNORE INTO temp.moves
    SELECT gone.file, now.path, gone.path, now.kind, now.file FROM temp.stock now
    JOIN files f ON f.sha256 = now.sha256 JOIN temp.stock gone ON gone.file = f.id AND gone.kind IN ('vanished', 'changed')
    WHERE now.kind IN ('new', 'changed') AND gone.path != now.path
    ORDER BY replace(now.path, rtrim(now.path, replace(now.path, '/', '')), '')
        != replace(gone.path, rtrim(gone.path, replace(gone.path, '/', '')), ''), now.path, gone.path
"""
# A sidecar that went with its picture, and was changed besides: its content tells nothing, but its name does.
_FOLLOWED = """
    INSERT OR IGNORE INTO temp.moves
    SELECT gone.file, now.path, gone.path, now.kind, now.file FROM temp.stock gone
    JOIN temp.stock picture ON picture.frame = gone.frame AND picture.kind = 'moved' AND picture.role = 'original'
    JOIN temp.stock now ON now.kind = 'new' AND now.path = picture.path || substr(gone.path, length(picture.was) + 1)
    WHERE gone.kind = 'vanished' AND gone.role = 'sidecar' AND substr(gone.path, 1, length(picture.was)) = picture.was
"""
# What went with its neighbours, or is by name, size and time the file that is gone, is that one, whatever is in it now. The
# surest first; each by an index, as a mass of either may be left.
_LONE = """
    DROP TABLE IF EXISTS temp.ways; DROP TABLE IF EXISTS temp.came; DROP TABLE IF EXISTS temp.gone;
    CREATE TEMP TABLE ways AS SELECT DISTINCT bm_folder(was) AS old, bm_folder(path) AS new FROM temp.stock
        WHERE kind = 'moved';
    CREATE TEMP TABLE came AS SELECT path, kind, file AS own, bytes, mtime_ns, inode, bm_name(path) AS name,
        bm_folder(path) AS folder FROM temp.stock WHERE kind = 'new';
    CREATE INDEX temp.came_name ON came (name);
    CREATE INDEX temp.came_like ON came (bytes, mtime_ns);
    CREATE INDEX temp.came_inode ON came (inode);
    CREATE TEMP TABLE gone AS SELECT s.path, s.file, f.bytes, f.seen_ns, f.inode, bm_name(s.path) AS name,
        bm_folder(s.path) AS folder FROM temp.stock s JOIN files f ON f.id = s.file
        WHERE s.kind = 'vanished' AND s.role NOT IN {loose};
    DELETE FROM temp.moves;
"""
_SAME_WAY = "(g.folder, n.folder) IN (SELECT old, new FROM temp.ways)"
_CHANGED_ON_THE_WAY = (
    "n.name = g.name AND n.bytes = g.bytes AND n.mtime_ns = g.seen_ns",
    f"n.name = g.name AND {_SAME_WAY}",
    f"n.bytes = g.bytes AND n.mtime_ns = g.seen_ns AND {_SAME_WAY}",
)
_SAME_INODE = "n.inode = g.inode AND (n.bytes = g.bytes OR n.mtime_ns = g.seen_ns)"
_LEFT = "(SELECT was FROM temp.moves WHERE was NOT IN (SELECT path FROM temp.moves))"
"""Places that moved files left, and where nothing has moved to."""


def recognise_moves(library: Library, loose: tuple[str, ...]) -> None:
    """A file elsewhere with the content of one that is not in its place any more is that one, moved.

    Files may have changed places. A picture that was overwritten by another one, and is nowhere else, is displaced: it is missing
    from now on, under a name beside. All is done in tables: somebody may have renamed the folder that everything is in.
    """
    db = library.db
    db.executescript(_INDEXES)
    db.execute(_MOVES)
    overwriting = (
        f"DELETE FROM temp.moves WHERE kind = 'changed' AND own NOT IN (SELECT file FROM temp.moves)"
        f" AND own IN (SELECT file FROM temp.stock WHERE role IN {loose})"
    )
    while db.execute(overwriting).rowcount:
        pass
    displaced = db.execute(
        "SELECT own AS file, path FROM temp.moves WHERE kind = 'changed' AND own NOT IN (SELECT file FROM temp.moves)"
    ).fetchall()
    _enter_moves(db)
    for row in displaced:
        _displace(library, row["file"], row["path"])
    db.execute("DELETE FROM temp.moves")
    db.execute(_FOLLOWED)
    _enter_moves(db)
    if db.execute("SELECT 1 FROM temp.stock WHERE kind = 'vanished' LIMIT 1").fetchone():
        db.create_function("bm_name", 1, lambda path: path.rpartition("/")[2], deterministic=True)
        db.create_function("bm_folder", 1, lambda path: path.rpartition("/")[0], deterministic=True)
        db.executescript(_LONE.format(loose=loose))
        inodes = library.keeps_inodes
        for alike in (*_CHANGED_ON_THE_WAY, *((_SAME_INODE,) if inodes else ())):
            db.execute(
                "INSERT OR IGNORE INTO temp.moves SELECT g.file, n.path, g.path, n.kind, n.own FROM temp.gone g JOIN temp.came n"
                f" ON {alike} ORDER BY n.path, g.path"
            )
        _enter_moves(db)


def _displace(library: Library, file: int, path: str) -> None:
    """A picture whose place another one has taken gets a name beside, under which it is missing."""
    folder, _, name = path.rpartition("/")

    def taken(candidate: str) -> bool:
        there = f"{folder}/{candidate}"
        known = library.db.execute(
            "SELECT 1 FROM files WHERE collision = ? UNION SELECT 1 FROM temp.stock WHERE path = ?",
            (collision_key(there), there),
        )
        return known.fetchone() is not None or os.path.lexists(library.root / there)

    fresh = f"{folder}/{free_name(name, taken)}"
    library.db.execute(
        "INSERT INTO temp.stock (path, kind, file, frame, role, sha256, bytes, mtime_ns, inode, ctime_ns, was)"
        " SELECT ?, 'displaced', id, frame, role, sha256, bytes, mtime_ns, 0, 0, path FROM files WHERE id = ?",
        (fresh, file),
    )


def _enter_moves(db: sqlite3.Connection) -> None:
    db.execute(f"DELETE FROM temp.stock WHERE kind = 'vanished' AND path IN {_LEFT}")
    # What is there now, if anything, is another file.
    db.execute(f"UPDATE temp.stock SET kind = 'new', file = NULL, frame = NULL, role = NULL WHERE path IN {_LEFT}")
    db.execute(
        "UPDATE temp.stock SET kind = 'moved', was = m.was, file = f.id, role = f.role, frame = f.frame"
        " FROM temp.moves m JOIN files f ON f.id = m.file WHERE stock.path = m.path"
    )
