"""What services hold, as transfers have proven it; and whether an account may go: by each frame's other copies."""

from collections.abc import Iterator
from dataclasses import replace

from bramblemoor.depots.standing.standing import Holder
from bramblemoor.intake.erasable import Answer, Item, erasing_of
from bramblemoor.library.home import Library
from bramblemoor.migrate.sending import Sent
from bramblemoor.migrate.sources import Source
from bramblemoor.migrate.transfers import look_into, transfers
from bramblemoor.migrate.worksheet import Worksheet
from bramblemoor.running import Progress, Stage
from bramblemoor.services.moving import Shown, ShownFile

_TABLES = """
    DROP TABLE IF EXISTS temp.moved;
    CREATE TEMP TABLE moved (sha256 TEXT NOT NULL, service TEXT NOT NULL, PRIMARY KEY (sha256, service)) WITHOUT ROWID;
    DROP TABLE IF EXISTS temp.known_there;
    CREATE TEMP TABLE known_there (
        service TEXT NOT NULL, at TEXT NOT NULL, bytes INTEGER NOT NULL, etag TEXT NOT NULL, sha256 TEXT NOT NULL,
        PRIMARY KEY (service, at)
    ) WITHOUT ROWID;
"""


def _gather(library: Library) -> None:
    """What was proven where, byte for byte; and the digests of what sources had, as it was read there."""
    library.db.executescript(_TABLES)
    for transfer in transfers(library):
        sheet = look_into(library, transfer)
        if sheet is None:
            continue
        try:
            for shown, sent, is_proven in _sent(sheet):
                for file, there in zip(_files_sent(shown, sent), sent.files, strict=False):
                    if is_proven and there.sha256 == there.source_sha256:
                        library.db.execute(
                            "INSERT OR IGNORE INTO temp.moved VALUES (?, ?)", (there.sha256, transfer.destination)
                        )
                    library.db.execute(
                        "INSERT OR REPLACE INTO temp.known_there VALUES (?, ?, ?, ?, ?)",
                        (transfer.source, file.at, file.bytes, file.etag, there.source_sha256),
                    )
        finally:
            sheet.close()


def _sent(sheet: Worksheet) -> Iterator[tuple[Shown, Sent, bool]]:
    keeps = sheet.get("stores") != "reduced"
    for line in sheet.lines("sent", "proven", "amiss"):
        if line.sent is not None:
            yield line.shown, line.sent, line.state == "proven" and keeps


def _files_sent(shown: Shown, sent: Sent) -> list[ShownFile]:
    """The files of a frame that were sent, in order; sidecars that were made are not among them."""
    roles = {file.role for file in sent.files}
    return [file for file in shown.files if file.role in roles]


def check_account(library: Library, source: Source, progress: Progress) -> tuple[Answer, dict[int, Holder]]:
    """For each frame that an account shows: how many other copies are proven, here and at other services.

    A service that a transfer has proven to hold the very bytes counts as one; services are among the holders, by negative
    numbers.
    """
    _gather(library)
    erasing = erasing_of(library)
    answer = Answer(erasing.least)
    numbers: dict[str, int] = {}
    for count, offered in enumerate(source.frames(read=False), 1):
        frame = offered.frame
        progress(Stage("asking", "frames"), count, 0)
        if frame.kind == "other":
            continue
        files = [file for file in frame.files if file.role != "sidecar"]
        here: list[set[int]] = []
        there: list[set[int]] = []
        why = ""
        for file in files:
            digest = _digest(library, source.name, file)
            here.append(set(erasing.holding(digest)) if digest else set())
            services = {
                row[0] for row in library.db.execute("SELECT service FROM temp.moved WHERE sha256 = ?", (digest,))
            }
            there.append({numbers.setdefault(one, -1 - len(numbers)) for one in services - {source.name}})
            if not digest:
                why = "it was neither brought home nor sent anywhere, as it is now"
            elif not here[-1] and not there[-1]:
                why = "no other copy of it was read back lately"
        places, moved = set.intersection(*here), set.intersection(*there)
        copies = erasing.copies(places) + len(moved)
        item = Item(
            frame.name, len(files), sum(file.bytes for file in files), copies, (*sorted(places), *sorted(moved))
        )
        answer.items.append(item if copies >= erasing.least else replace(item, why=why))
    return answer, {number: Holder(number, name, "elsewhere", "cloud", name) for name, number in numbers.items()}


def _digest(library: Library, service: str, file: ShownFile) -> str:
    """The digest of what a service has: as it tells it, or as it was read when the file was what it is now; else ""."""
    if file.sha256:
        return file.sha256
    for table, path in (("brought", "path"), ("temp.known_there", "at")):
        row = library.db.execute(
            f"SELECT sha256 FROM {table} WHERE service = ? AND {path} = ? AND bytes = ? AND etag = ? AND etag != ''",
            (service, file.at, file.bytes, file.etag),
        ).fetchone()
        if row is not None:
            return str(row[0])
    return ""
