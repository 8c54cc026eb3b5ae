"""Taking stock: what people and other programs have done in the library's folders since it was last looked at.

What has size, times and inode as recorded is not read. What others may change (sidecars, albums, companions, settings) is
taken up; a picture or delivered file whose content changed is a finding. What moved is recognised by its digest.
"""

import os
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from bramblemoor.disk.durable import digest_of, flush_folder, is_taken
from bramblemoor.disk.names import free_name, listable
from bramblemoor.errors import MassOfChanges
from bramblemoor.frames.kinds import SIDECAR, sidecar_of
from bramblemoor.library import copies
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.catalogue import NewFile, enter_file
from bramblemoor.library.copies import ALARM, UNBROUGHT
from bramblemoor.library.home import Library
from bramblemoor.library.locations import FILE as LOCATIONS
from bramblemoor.library.receipts import Finding
from bramblemoor.library.settings import FILE as SETTINGS_FILE
from bramblemoor.library.stocktake.comparing import Row, compare
from bramblemoor.library.stocktake.moves import recognise_moves
from bramblemoor.library.stocktake.walk import LATEST
from bramblemoor.running import Progress, Stage

SNAPSHOT = "ledger/snapshot.sqlite"

_LOOSE = ("sidecar", "album", "companion", "settings", "receipt", "page")  # roles that others may change
_MAY_GO = ("companion", "receipt", "page")  # and that come and go without anybody being asked
_QUIET = 2_000_000_000  # ns that a file must be left alone before it is taken up
_FEW = 20  # so many companions may always change
_TABLE = """
    DROP TABLE IF EXISTS temp.stock;
    CREATE TEMP TABLE stock (
        path TEXT PRIMARY KEY, kind TEXT NOT NULL, file INTEGER, frame INTEGER, role TEXT,
        sha256 TEXT, bytes INTEGER, mtime_ns INTEGER, inode INTEGER, ctime_ns INTEGER, was TEXT
    ) WITHOUT ROWID;
    DROP TABLE IF EXISTS temp.moves;
    CREATE TEMP TABLE moves (file INTEGER PRIMARY KEY, path TEXT UNIQUE, was TEXT, kind TEXT, own INTEGER);
    CREATE TEMP TABLE IF NOT EXISTS waiting (file INTEGER PRIMARY KEY);
    DELETE FROM temp.waiting;
"""
# What was amiss here, and is found to be as it should be.
_HERE_AGAIN = """
    SELECT file FROM copies WHERE depot = 0 AND (
        state = 'missing' AND file NOT IN (SELECT file FROM temp.stock WHERE kind IN ('vanished', 'displaced') AND file NOT NULL)
        OR state IN ('damaged', 'unbrought') AND file IN (SELECT file FROM temp.stock WHERE kind = 'touched')
        OR state = 'unbrought' AND file IN (SELECT file FROM temp.stock WHERE kind = 'stamped')
        OR state IN ('damaged', 'unbrought') AND file IN (
            SELECT s.file FROM temp.stock s JOIN files f ON f.id = s.file WHERE s.kind = 'moved' AND s.sha256 = f.sha256))
"""
_LEFT_BEHIND = f"""
    SELECT f.id, f.frame, f.path, coalesce(own.sha256, f.sha256) AS sha256, moved.path AS now FROM temp.stock moved
    CROSS JOIN files f ON f.frame = moved.frame AND f.role = 'sidecar' AND f.path = moved.was || '{SIDECAR}'
    LEFT JOIN temp.stock own ON own.path = f.path
    WHERE moved.kind = 'moved' AND moved.role = 'original' AND coalesce(own.kind, '') NOT IN ('vanished', 'new')
    AND f.path NOT IN (SELECT was FROM temp.stock WHERE was IS NOT NULL) ORDER BY f.path
"""


@dataclass
class Stock:
    """What was found, in files by kind, and what a person should know."""

    counts: dict[str, int] = field(default_factory=dict)
    files: int = 0
    findings: list[Finding] = field(default_factory=list)

    @property
    def anything(self) -> bool:
        return any(count for kind, count in self.counts.items() if kind not in ("stamped", "touched", "busy"))


def take_stock(library: Library, progress: Progress, *, yes: bool = False, enter: bool = True) -> Stock:
    """Bring the ledger in step with the library's folders.

    What vanished, and what changed that nobody should change, is a finding; `deciding` is the way to let it go or accept it. What
    is being written waits for the next run. Raises MassOfChanges, with nothing entered, where the guard is passed without `yes`.
    Without `enter` only looks.
    """
    stock, db = Stock(), library.db
    db.executescript(_TABLE)
    _compare(library, stock, progress)
    _await_writers(library)
    _read_what_differs(library, progress)
    _pass_over_busy(library, stock)
    if enter:
        _rename_unlistable(library, stock)
    recognise_moves(library, _LOOSE)
    # What a restore could not bring has not vanished: it never was here.
    library.db.execute(f"DELETE FROM temp.stock WHERE kind = 'vanished' AND file IN ({UNBROUGHT})")
    _judge(library, yes=yes)
    stock.findings += _bring_along(library, carry_out=enter)
    for kind, count in library.db.execute("SELECT kind, count(*) FROM temp.stock GROUP BY kind"):
        stock.counts[kind] = count
    if enter:
        _enter(library, stock)
        if db.execute("SELECT 1 FROM meta WHERE key = ?", (ALARM,)).fetchone():
            with library.ledger.changing():
                db.execute("DELETE FROM meta WHERE key = ?", (ALARM,))
    else:
        stock.findings += _vanished(library)
    return stock


def found(library: Library, kind: str, most: int) -> list[str]:
    """What of a kind the stock that was just taken has, in order;

    of what moved, from where to where. At most so many (-1: all).
    """
    return [
        f"{row['was']} -> {row['path']}" if row["was"] else row["path"]
        for row in library.db.execute(
            "SELECT path, was FROM temp.stock WHERE kind = ? ORDER BY path LIMIT ?", (kind, most)
        )
    ]


def take_stock_if_few(library: Library, progress: Progress) -> tuple[Stock, bool]:
    """Take stock for a run that can leave the library alone: whether the guard let it pass. If not, that is the only finding."""
    try:
        return take_stock(library, progress), True
    except MassOfChanges:
        told = "more was changed or removed there than the guard lets pass; it is left for you to look at: bramblemoor stocktake"
        return Stock(findings=[Finding("library", told)]), False


def _await_writers(library: Library) -> None:
    """Of what is new or differs, and was changed just now, wait until its last change is some moments ago."""
    row = library.db.execute(
        "SELECT max(max(mtime_ns, ctime_ns)) FROM temp.stock WHERE kind IN ('new', 'differs')"
        " AND max(mtime_ns, ctime_ns) <= :now AND max(mtime_ns, ctime_ns) > :now - :quiet",
        {"now": time.time_ns(), "quiet": _QUIET},
    ).fetchone()
    if row[0] is not None:
        time.sleep(max(0, min(_QUIET, row[0] + _QUIET - time.time_ns())) / 1e9)


def _pass_over_busy(library: Library, stock: Stock) -> None:
    """What is not any more as it was when it was first looked at is being written: it waits for the next run."""
    busy = []
    rows = library.db.execute(
        "SELECT path, bytes, mtime_ns FROM temp.stock WHERE kind IN ('new', 'changed', 'touched')"
    )
    for path, size, mtime_ns in map(tuple, rows):
        try:
            status = os.lstat(library.root / path)
        except OSError:
            busy.append(path)
            continue
        if (status.st_size, min(status.st_mtime_ns, LATEST)) != (size, mtime_ns):
            busy.append(path)
    for path in busy:
        library.db.execute("UPDATE temp.stock SET kind = 'busy' WHERE path = ?", (path,))
        stock.findings.append(Finding(path, "it is being written; it waits for the next run"))
    # Nor is it copied meanwhile, though a depot may lack what it was.
    library.db.execute(
        "INSERT OR IGNORE INTO temp.waiting SELECT file FROM temp.stock WHERE kind = 'busy' AND file NOT NULL"
    )


def _compare(library: Library, stock: Stock, progress: Progress) -> None:
    """Fill the table of what differs from the ledger, or was never looked at (stamped)."""
    whole = library.db.execute("SELECT count(*) FROM files").fetchone()[0]

    def note(rows: list[Row], files: int) -> None:
        library.db.executemany(
            "INSERT INTO temp.stock (path, kind, file, bytes, mtime_ns, inode, ctime_ns) VALUES (?, ?, ?, ?, ?, ?, ?)",
            rows,
        )
        stock.files += files
        progress(Stage("looking over the library", "files"), stock.files, whole)

    compare(library, note, stock.findings)
    library.db.execute(
        "UPDATE temp.stock SET frame = f.frame, role = f.role, sha256 = iif(kind = 'differs', NULL, f.sha256)"
        " FROM files f WHERE f.id = stock.file"
    )


def _read_what_differs(library: Library, progress: Progress) -> None:
    """Read what is new or looks different, and say which of it really is."""
    db = library.db
    total = db.execute("SELECT sum(bytes) FROM temp.stock WHERE kind IN ('new', 'differs')").fetchone()[0] or 0
    done, last = 0, ""
    page = "SELECT path, bytes FROM temp.stock WHERE kind IN ('new', 'differs') AND path > ? ORDER BY path LIMIT 64"
    with ThreadPoolExecutor(2) as readers:
        while group := db.execute(page, (last,)).fetchall():
            last = group[-1]["path"]
            digests = readers.map(lambda row: _digest(library.root / row["path"]), group)
            for row, digest in zip(group, digests, strict=True):
                db.execute("UPDATE temp.stock SET sha256 = ? WHERE path = ?", (digest, row["path"]))
                done += row["bytes"]
            progress(Stage("reading what changed"), done, total)
    db.execute(
        "UPDATE temp.stock SET kind = iif(sha256 = (SELECT sha256 FROM files WHERE id = file), 'touched', 'changed')"
        " WHERE kind = 'differs'"
    )


def _digest(path: Path) -> str:
    """ "" for a file that cannot be read: it is certainly not what it was."""
    try:
        return digest_of(path)
    except OSError:
        return ""


def _rename_unlistable(library: Library, stock: Stock) -> None:
    """What is new under a name with control characters, or that no list of checksums can hold, gets one near it, and is told."""
    rows = library.db.execute("SELECT path, ctime_ns FROM temp.stock WHERE kind = 'new'").fetchall()
    for row in rows:
        old, wanted = row["path"], listable(row["path"])
        if wanted == old:
            continue
        folder, _, name = wanted.rpartition("/")
        name = free_name(name, lambda candidate, folder=folder: os.path.lexists(library.root / folder / candidate))  # type: ignore[misc]
        fresh = f"{folder}/{name}" if folder else name
        try:
            (library.root / folder).mkdir(parents=True, exist_ok=True)
            (library.root / old).rename(library.root / fresh)
            flush_folder(library.root / folder)
        except OSError as error:
            stock.findings.append(
                Finding(old, f"its name cannot be listed, and it could not be renamed ({error.strerror})")
            )
            continue
        status = (library.root / fresh).stat()
        library.db.execute(
            "UPDATE temp.stock SET path = ?, was = ?, ctime_ns = ? WHERE path = ?",
            (fresh, old, status.st_ctime_ns, old),
        )
        stock.findings.append(
            Finding(fresh, "it was renamed: its name had characters that not every list and drive can hold")
        )


def _judge(library: Library, *, yes: bool) -> None:
    """Raise MassOfChanges where more was changed or removed than the guard lets pass."""
    db, guard = library.db, library.settings.guard
    gone = "kind IN ('changed', 'vanished', 'displaced')"
    # What was let pass once, and is not put right yet, does not stop every run from then on.
    touched = f"{gone} AND file NOT IN (SELECT file FROM main.copies WHERE depot = 0)"
    touched_frames = db.execute(f"SELECT count(DISTINCT frame) FROM temp.stock WHERE {touched}").fetchone()[0]
    others = db.execute(f"SELECT count(*) FROM temp.stock WHERE {touched} AND frame IS NULL").fetchone()[0]
    if yes or not (touched_frames or others):
        return
    frames, all_others = db.execute("SELECT count(DISTINCT frame), sum(frame IS NULL) FROM files").fetchone()
    too_many = touched_frames > guard.frames or touched_frames > max(1, guard.share * frames)
    too_many = too_many or others > max(_FEW, guard.share * (all_others or 0))
    if not too_many:
        return
    with library.ledger.changing():
        db.execute(
            "INSERT OR REPLACE INTO meta VALUES (?, ?)",
            (
                ALARM,
                f"{touched_frames:,} frames and {others:,} other files were changed or removed, and nobody has decided yet",
            ),
        )
    sample = db.execute(
        f"SELECT kind, path FROM temp.stock WHERE {touched} ORDER BY role != 'original', path LIMIT 5"
    ).fetchall()
    raise MassOfChanges(
        f"{touched_frames:,} of {frames:,} frames and {others:,} other files of {library.root} were changed or removed by"
        f" somebody else, more than the guard lets pass ({guard.share:.0%} of the frames, or {guard.frames:,}; [guard] in"
        f" {library.root / SETTINGS_FILE}). Nothing was entered or copied. Among them:",
        "If it was an accident: run the same command again with --yes, then bramblemoor mend, which brings them back. If it was"
        " meant: --yes, then bramblemoor stocktake --let-go NAME for what was deleted, --accept NAME for what was changed. With"
        " --yes nothing is let go by itself.",
        [f"{row['kind']}: {row['path']}" for row in sample],
    )


def _vanished(library: Library) -> Iterator[Finding]:
    """What is not where the ledger has it."""
    for row in library.db.execute(
        "SELECT path, kind, role, was FROM temp.stock WHERE kind IN ('vanished', 'displaced') ORDER BY path"
    ):
        if row["kind"] == "displaced":
            yield Finding(
                row["was"],
                f"another picture was moved over it; mend brings it back as {row['path']}, or let it go by that name with"
                " stocktake --let-go",
            )
        elif row["role"] not in _MAY_GO:
            yield Finding(
                row["path"], "it has vanished; bring it back with mend, or let it go with stocktake --let-go NAME"
            )


def _bring_along(library: Library, *, carry_out: bool) -> Iterator[Finding]:
    """Let sidecars follow pictures that somebody moved without them; only what stands in the way is told."""
    touched: set[Path] = set()
    for row in library.db.execute(_LEFT_BEHIND).fetchall():
        old, new = library.root / row["path"], library.root / sidecar_of(row["now"])
        if is_taken(new):
            yield Finding(
                row["path"], f"its picture has moved to {row['now']}, where there is another sidecar; join the two"
            )
            continue
        if carry_out:
            try:
                old.rename(new)
            except OSError as error:
                yield Finding(
                    row["path"], f"its picture has moved to {row['now']}: move it there too ({error.strerror})"
                )
                continue
            touched |= {old.parent, new.parent}
        status = (new if carry_out else old).stat()
        library.db.execute("DELETE FROM temp.stock WHERE path = ?", (row["path"],))
        library.db.execute(
            "INSERT INTO temp.stock VALUES (?, 'moved', ?, ?, 'sidecar', ?, ?, ?, ?, ?, ?)",
            (
                sidecar_of(row["now"]), row["id"], row["frame"], row["sha256"], status.st_size, status.st_mtime_ns, status.st_ino,
                status.st_ctime_ns, row["path"],
            ),
        )  # fmt: skip
    for folder in touched:
        flush_folder(folder)


def _enter(library: Library, stock: Stock) -> None:
    db = library.db
    missing = db.execute(
        "SELECT 1 FROM copies WHERE depot = 0 AND state IN ('missing', 'unbrought') LIMIT 1"
    ).fetchone()
    if not stock.counts and missing is None:
        return
    # Most nightly runs find nothing, and what reads pictures takes a while to load.
    from bramblemoor.library.sidecars import name_locations, write_what_waits
    from bramblemoor.library.stocktake.entering import drop_file, take_up

    stock.findings += _vanished(library)
    with library.ledger.changing(facts=stock.anything):
        stock.findings += take_up(library, _LOOSE)
        for row in db.execute("SELECT file, role FROM temp.stock WHERE kind IN ('vanished', 'displaced')").fetchall():
            if row["role"] in _MAY_GO:
                drop_file(library, row["file"])
            else:
                copies.mark(db, copies.LIBRARY, row["file"], "missing")
        copies.here_again(db, _HERE_AGAIN)
        db.execute(
            "UPDATE files SET seen_ns = s.mtime_ns, inode = s.inode, ctime_ns = s.ctime_ns FROM temp.stock s"
            " WHERE s.kind NOT IN ('vanished', 'displaced', 'busy') AND files.path = s.path AND files.sha256 = s.sha256"
        )
        write_what_waits(library)
        told = db.execute(
            "SELECT max(? IN (path, was)) FROM temp.stock WHERE kind != 'stamped'", (LOCATIONS,)
        ).fetchone()[0]
        if told is not None:
            name_locations(library, anew=bool(told))


def renew_snapshot(library: Library) -> None:
    """Write the snapshot that depots carry, if facts about frames have changed since the last one."""
    from bramblemoor.library.lineage import continue_line

    generation = library.ledger.generation()
    row = library.db.execute("SELECT value FROM meta WHERE key = 'snapshot'").fetchone()
    target = library.root / SNAPSHOT
    if row is not None and row[0] == str(generation) and target.is_file():
        return
    continue_line(library, generation)
    with (
        library.ledger.changing() as db
    ):  # the one that this takes the place of: a library that comes from it must know that
        db.execute("INSERT OR IGNORE INTO given_up SELECT sha256 FROM files WHERE role = 'ledger'")
    library.ledger.write_snapshot(target)
    status = target.stat()
    file = NewFile("ledger", ledger_file.FILE, status.st_size, digest_of(target), status.st_mtime_ns)
    with library.ledger.changing() as db:
        enter_file(db, None, file)
        db.execute("INSERT OR REPLACE INTO meta VALUES ('snapshot', ?)", (str(generation),))


def content_of(path: str) -> str:
    """Under which path of the library a file's content lies: its own, but for the ledger, of which depots get the snapshot."""
    return SNAPSHOT if path == ledger_file.FILE else path


def source_of(library: Library, path: str) -> str:
    """Where that is on this machine."""
    return f"{library.root}/{content_of(path)}"
