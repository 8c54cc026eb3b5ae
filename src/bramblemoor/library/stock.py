"""Taking stock before a backup: files that people and other programs add or change beside the pictures."""

import os
from collections.abc import Iterator
from pathlib import Path

from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.catalogue import NewFile, enter_file
from bramblemoor.library.durable import digest_of
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Finding, listing
from bramblemoor.library.settings import FILE as SETTINGS_FILE

SNAPSHOT = "ledger/snapshot.sqlite"
# Receipts about depots lie at the depots; each backup would else need another backup for its own receipt.
_ABOUT_DEPOTS = ("-backup-", "-verify-", "-mend-")


def take_stock(library: Library) -> list[Finding]:
    """Bring settings, companions, receipts, albums and sidecars in the ledger in step with the disk.

    A file whose size and time are as recorded is not read. What vanished stays entered: a backup reports it. Returns what
    lies there and cannot be taken up.
    """
    changed: list[NewFile] = []
    passed_over: list[Finding] = []
    for role, relative in _loose(library, passed_over):
        status = (library.root / relative).stat()
        row = library.db.execute("SELECT bytes, mtime_ns FROM files WHERE path = ?", (relative,)).fetchone()
        if row is None or (row["bytes"], row["mtime_ns"]) != (status.st_size, status.st_mtime_ns):
            digest = digest_of(library.root / relative)
            known = library.db.execute(
                "SELECT 1 FROM files WHERE path = ? AND sha256 = ?", (relative, digest)
            ).fetchone()
            if known is None or role != "sidecar":
                changed.append(NewFile(role, relative, status.st_size, digest, status.st_mtime_ns))
    if changed:
        with library.ledger.changing(facts=True) as db:
            for file in changed:
                enter_file(db, None, file)  # a known file keeps its frame
    return passed_over


def _loose(library: Library, passed_over: list[Finding]) -> Iterator[tuple[str, str]]:
    yield "settings", SETTINGS_FILE
    for name in listing(library.receipts):
        if not any(word in name for word in _ABOUT_DEPOTS):
            yield "receipt", f"ledger/receipts/{name}"
    yield from (("companion", path) for path in _walk(library.root, library.root / "companions", passed_over))
    for row in library.db.execute("SELECT role, path FROM files WHERE role IN ('sidecar', 'album')").fetchall():
        if (library.root / row["path"]).is_file():
            yield row["role"], row["path"]


def _walk(root: Path, folder: Path, passed_over: list[Finding]) -> Iterator[str]:
    for where, folders, names in os.walk(folder):
        folders.sort()
        links = [name for name in folders if (Path(where) / name).is_symlink()]
        for name in sorted([*names, *links]):
            path = Path(where) / name
            relative = path.relative_to(root).as_posix()
            if not relative.isprintable() and relative != relative.encode("utf-8", "replace").decode():
                shown = relative.encode("utf-8", "replace").decode()
                passed_over.append(Finding(shown, "its name is not valid UTF-8, so it is not copied; rename it"))
            elif path.is_symlink():
                passed_over.append(Finding(relative, "it is a link, and links are not copied"))
            elif path.is_file():
                yield relative


def renew_snapshot(library: Library) -> None:
    """Write the snapshot that depots carry, if facts about frames have changed since the last one."""
    generation = str(library.ledger.generation())
    row = library.db.execute("SELECT value FROM meta WHERE key = 'snapshot'").fetchone()
    target = library.root / SNAPSHOT
    if row is not None and row[0] == generation and target.is_file():
        return
    library.ledger.write_snapshot(target)
    status = target.stat()
    file = NewFile("ledger", ledger_file.FILE, status.st_size, digest_of(target), status.st_mtime_ns)
    with library.ledger.changing() as db:
        enter_file(db, None, file)
        db.execute("INSERT OR REPLACE INTO meta VALUES ('snapshot', ?)", (generation,))


def source_of(library: Library, path: str) -> Path:
    """Where the content of a file lies in the library: its own path, but for the ledger, of which depots get the snapshot."""
    return library.root / (SNAPSHOT if path == ledger_file.FILE else path)
