"""Comparing the library's folders with the ledger: by two processes, each of which has a half of all paths.

Threads would take three times as long: they pass the interpreter's lock on at each call to the system.
"""

import errno
import marshal
import os
import signal
import sqlite3
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import islice
from typing import BinaryIO

from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.copies import FREED
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding
from bramblemoor.library.stocktake.walk import EVERYTHING, Seen, Span, shown, walk

_COARSE = 2_000_000_000  # ns: some file systems keep every second second
_FEW = 2000  # files that one process has compared before another one would have begun
_AT_ONCE = 1000
_FREED_BUT_HERE = "its year was freed, so it is not copied: to work on it, unbind the year; else free the year again"

Row = tuple[str, str, int | None, int, int, int, int]
"""(path, kind, number of the file, bytes, mtime in ns, inode, ctime in ns) of what differs from the ledger."""
Note = Callable[[list[Row], int], None]
"""Takes rows, some at a time, and how many files were looked at since the last time."""


class _Expected:
    """The files that the ledger knows, in order of path, as the drive should tell of them."""

    def __init__(self, cursor: sqlite3.Cursor) -> None:
        self._cursor, self._rows, self._at = cursor, list[Seen](), 0

    def begins_with(self, seen: list[Seen]) -> bool:
        """Whether just these come next; if so, they are dropped."""
        del self._rows[: self._at]
        self._at = 0
        if (lacking := len(seen) - len(self._rows)) > 0:
            self._rows += self._cursor.fetchmany(lacking)
        same = self._rows[: len(seen)] == seen if len(self._rows) != len(seen) else self._rows == seen
        self._at = len(seen) if same else 0
        return same

    def first(self) -> Seen | None:
        if self._at == len(self._rows):
            self._rows, self._at = self._cursor.fetchmany(_AT_ONCE), 0
        return self._rows[self._at] if self._rows else None

    def drop(self) -> None:
        self._at += 1


@dataclass
class _Share:
    """A half of the paths, or all of them, and what was passed over there."""

    library: Library
    db: sqlite3.Connection
    span: Span = EVERYTHING
    passed_over: list[Finding] = field(default_factory=list)

    def compare(self, note: Note) -> None:
        """Kinds are new, vanished, differs, and stamped: there as it should be, but never looked at before."""
        inodes = self.library.keeps_inodes
        cursor = self.db.cursor()
        cursor.row_factory = None
        # Mostly there are none, and asking for each file is work.
        here = f"AND id NOT IN ({FREED})" if self.db.execute(f"{FREED} LIMIT 1").fetchone() else ""
        expected = _Expected(cursor.execute(
            "SELECT path, bytes, seen_ns, inode, ctime_ns FROM files"
            f" WHERE role != 'ledger' {here} AND path >= ? AND path < ? ORDER BY path",
            self.span,
        ))  # fmt: skip
        rows: list[Row] = []
        walked = walk(self.library.root, self.passed_over, self.span)
        while some := list(islice(walked, _AT_ONCE)):
            if not expected.begins_with(some):  # mostly it does, and looking at each file by itself is work
                for seen in some:
                    rows += self._judged(seen, expected, inodes=inodes)
            note(rows, len(some))
            rows = []
        while (due := expected.first()) is not None:
            rows.append(self._vanished(due))
            expected.drop()
            if len(rows) >= _AT_ONCE:
                note(rows, 0)
                rows = []
        note(rows, 0)

    def _judged(self, seen: Seen, expected: "_Expected", *, inodes: bool) -> Iterator[Row]:
        """What is to be said of a file that is there, and of those before it that are not."""
        path = seen[0]
        while (due := expected.first()) is not None and due[0] < path:
            yield self._vanished(due)
            expected.drop()
        if due is None or due[0] != path:
            if self._is_freed(path):
                self.passed_over.append(Finding(path, _FREED_BUT_HERE))
            else:
                yield (path, "new", None, *seen[1:])
            return
        expected.drop()
        if due != seen and (inodes or due[:3] != seen[:3]):
            number, time = self._known(path)
            first = due[2] == 0 and seen[1] == due[1] and abs(seen[2] - time) <= _COARSE
            yield (path, "stamped" if first else "differs", number, *seen[1:])

    def _known(self, path: str) -> tuple[int, int]:
        """The number of a file, and the time that it should have, in ns."""
        row = self.db.execute("SELECT id, mtime_ns FROM files WHERE path = ?", (path,)).fetchone()
        return int(row[0]), int(row[1])

    def _vanished(self, due: Seen) -> Row:
        number, time = self._known(due[0])
        return (due[0], "vanished", number, due[1], time, 0, 0)

    def _is_freed(self, path: str) -> bool:
        """Whether a file was said to be freed; it is there if freeing was interrupted, or somebody put one there."""
        row = self.db.execute(f"SELECT 1 FROM files WHERE path = ? AND id IN ({FREED})", (path,))
        return row.fetchone() is not None


def compare(library: Library, note: Note, passed_over: list[Finding]) -> None:
    """Note everything in the library's folders that differs from the ledger; what cannot be taken is `passed_over`.

    Raises OSError where a folder cannot be read.
    """
    whole = library.db.execute("SELECT count(*) FROM files").fetchone()[0]
    own = _Share(library, library.db, passed_over=passed_over)
    # macOS lets a forked process not use what the system's own libraries hold.
    if whole < _FEW or not hasattr(os, "fork") or sys.platform == "darwin" or (os.cpu_count() or 1) < 2:
        own.compare(note)
        return
    middle = library.db.execute("SELECT path FROM files ORDER BY path LIMIT 1 OFFSET ?", (whole // 2,)).fetchone()[0]
    own.span = Span(EVERYTHING.first, middle)
    with _by_another(library, Span(middle, EVERYTHING.end)) as result:
        own.compare(note)
        for part in result():
            if isinstance(part, tuple):
                note(*part)
            else:
                passed_over += [Finding(*one) for one in part]


@contextmanager
def _by_another(
    library: Library, span: Span
) -> "Iterator[Callable[[], Iterator[tuple[list[Row], int] | list[tuple[str, str]]]]]":
    """Let another process compare a span. What is yielded waits for it, and then gives what it noted, and what it passed over."""
    with tempfile.TemporaryFile(prefix="bramblemoor-") as file:
        child = os.fork()
        if not child:
            _compare_apart(library, span, file)
        running = True

        def result() -> "Iterator[tuple[list[Row], int] | list[tuple[str, str]]]":
            nonlocal running
            os.waitpid(child, 0)
            running = False
            file.seek(0)
            try:
                while isinstance(part := marshal.load(file), tuple):
                    yield part
            except EOFError:
                raise OSError(errno.EIO, "the process that looks over it was ended", str(library.root)) from None
            if isinstance(part, dict):
                raise OSError(part["errno"], part["why"], part["path"])
            yield part

        try:
            yield result
        finally:
            if running:
                os.kill(child, signal.SIGKILL)
                os.waitpid(child, 0)


def _compare_apart(library: Library, span: Span, file: BinaryIO) -> None:
    """In a process of its own: write (rows, files looked at), then what was passed over, or what went wrong. Never returns."""
    try:
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the run, which then ends this one
        # What the other process has open of the ledger is not for two.
        share = _Share(library, ledger_file.read_apart(library.root / ledger_file.FILE), span)
        try:
            share.compare(lambda rows, files: marshal.dump((rows, files), file))
        except OSError as error:
            path = shown(str(error.filename or library.root))
            marshal.dump({"errno": error.errno or 0, "why": error.strerror or "", "path": path}, file)
        else:
            marshal.dump([(one.name, one.what) for one in share.passed_over], file)
        file.flush()
    finally:
        os._exit(0)
