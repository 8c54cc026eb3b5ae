"""Restoring a whole library from depots to a new folder, with the library itself gone."""

import hashlib
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.copying import Progress
from bramblemoor.depots.depot import Depot, open_depot
from bramblemoor.depots.journal import Journal
from bramblemoor.depots.lane import PIECE
from bramblemoor.depots.register import add_depot
from bramblemoor.errors import DepotTrouble, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library import ledger as ledger_file
from bramblemoor.library.durable import TEMPORARY, digest_of, flush_folder, flush_many, set_time, write_atomically
from bramblemoor.library.home import FOLDERS, Library, require_room
from bramblemoor.library.ledger import Ledger
from bramblemoor.library.receipts import Amount, Finding, Kept, LeftOut, Receipt, next_number, stamp, write_receipt
from bramblemoor.library.settings import read_settings
from bramblemoor.library.volumes import volume_of

_UNFINISHED = "restore-unfinished.json"
_BATCH_FILES, _BATCH_BYTES = 200, 128 << 20


@dataclass(frozen=True)
class _Restored:
    """One file's way back: `from_depot` is None where it was at the target already, and `trouble` says why it is not there."""

    path: str
    bytes: int
    from_depot: Depot | None = None
    grade: str = ""
    trouble: str = ""


def depots_at(roots: Sequence[Path]) -> list[Depot]:
    """Open the depots to restore from; a depot's data/ stands for it. Raises WrongUse where they hold different libraries."""
    depots = [
        open_depot(root.parent if root.name == "data" and not (root / "depot.toml").exists() else root)
        for root in roots
    ]
    if len({depot.identity.library for depot in depots}) > 1:
        raise WrongUse("The depots hold copies of different libraries.", "Name depots of one library only.")
    return depots


def restore(target: Path, depots: Sequence[Depot], progress: Progress) -> tuple[Library, Receipt]:
    """Restore everything to `target`, which is new, empty, or an interrupted restore of the same library.

    Each file is read from the medium of the first depot that has it, compared with its manifest, and taken from the next
    where it is damaged. A different file at the target is never overwritten. Returns the library, open, and the receipt.
    """
    _claim(target, depots[0])
    wanted = _wanted(depots)
    # The ledger comes first, under another name, because it knows the files' times; it is put in place last, because a
    # folder with a ledger counts as a library.
    ledger_path = f"data/{ledger_file.FILE}"
    if ledger_path not in wanted:
        raise DepotTrouble(
            f"The depot {depots[0].name} holds no finished backup.", "Name another depot: --from FOLDER."
        )
    begun = target / _UNFINISHED
    started: str = json.loads(begun.read_text())["started"]
    sizes = {path: _size_at(depots, path) for path in wanted}
    present = sum(size for path, size in sizes.items() if (target / path.removeprefix("data/")).is_file())
    require_room(target, sum(sizes.values()) - present, "Restoring")
    final_ledger = target / ledger_file.FILE
    fresh_ledger = target / (ledger_file.FILE + TEMPORARY)
    if final_ledger.is_file():
        # An earlier run has begun to write to it: it must stay, as SQLite may have to roll its journal back.
        ledger_done, known = _Restored(ledger_file.FILE, sizes[ledger_path]), final_ledger
    else:
        ledger_done, known = _fetch(depots, ledger_path, wanted[ledger_path], fresh_ledger, None), fresh_ledger
    times: dict[str, int] = {}
    if not ledger_done.trouble:
        ledger = Ledger(known)
        times = {row[0]: row[1] for row in ledger.db.execute("SELECT path, mtime_ns FROM files")}
        ledger.close()
    del wanted[ledger_path]
    results = [ledger_done, *_bring_files(target, depots, wanted, sizes, times, progress)]
    if ledger_done.trouble:
        raise DepotTrouble(
            "No depot holds a sound copy of the ledger; the pictures were restored without it.",
            "Restore again with another depot: --from FOLDER.",
        )
    for folder in FOLDERS:
        (target / folder).mkdir(parents=True, exist_ok=True)
    if known is fresh_ledger:
        fresh_ledger.replace(final_ledger)
    flush_folder(target / "ledger")
    library = Library(target)
    receipt = _receipt(library, depots, results, sizes, started)
    _remember(library, depots, results)
    write_receipt(library.receipts, receipt)
    begun.unlink()
    return library, receipt


def _bring_files(
    target: Path,
    depots: Sequence[Depot],
    wanted: dict[str, str],
    sizes: dict[str, int],
    times: dict[str, int],
    progress: Progress,
) -> Iterator[_Restored]:
    """Bring every wanted file to `target`; each is put in place, with others, once it was flushed."""
    batch: list[Path] = []
    done, filled, total = 0, 0, sum(sizes.values())
    whole = volume_of(target).flushes_whole
    for path, digest in wanted.items():
        name = path.removeprefix("data/")
        result = _fetch(depots, path, digest, target / name, times.get(name))
        if result.from_depot is not None:
            batch.append(target / name)
            filled += sizes[path]
        done += sizes[path]
        progress("restoring", done, total)
        if len(batch) >= _BATCH_FILES or filled >= _BATCH_BYTES:
            _put_in_place(batch, target, whole)
            batch, filled = [], 0
        yield result
    _put_in_place(batch, target, whole)


def is_restored(target: Path, depot: Depot) -> bool:
    """Whether `target` is this library already, with no restore unfinished."""
    if (target / _UNFINISHED).exists() or not (target / ledger_file.FILE).is_file():
        return False
    return read_settings(target).library.id == depot.identity.library


def _claim(target: Path, depot: Depot) -> None:
    """Take `target` for this restore. Raises WrongUse where it holds anything else."""
    marker = target / _UNFINISHED
    if marker.is_file():
        if json.loads(marker.read_text())["library"] != depot.identity.library:
            raise WrongUse(f"{target} holds the unfinished restore of another library.", "Name another folder.")
        return
    if target.exists() and (
        not target.is_dir() or any(path.name != _UNFINISHED + TEMPORARY for path in target.iterdir())
    ):
        raise WrongUse(f"{target} is not empty, and a restore overwrites nothing.", "Name a new or empty folder.")
    target.mkdir(parents=True, exist_ok=True)
    document = {"library": depot.identity.library, "started": stamp(now_utc())}
    write_atomically(marker, json.dumps(document).encode())


def _wanted(depots: Sequence[Depot]) -> dict[str, str]:
    """Path to digest, by the depots' manifests; an interrupted run's journal says what else is in place already."""
    wanted: dict[str, str] = {}
    for depot in depots:
        listed = bag.read_manifest(depot.root / bag.MANIFEST)
        placed: Iterator[tuple[str, str]] = iter(())
        for folder in sorted((depot.root / "incoming").glob("*/journal.jsonl")):
            intents = Journal(depot, folder.parent.name).intents()
            placed = chain(placed, ((f"data/{i.path}", i.sha256) for i in intents if (depot.data / i.path).is_file()))
        mine = dict(chain(listed, placed))
        wanted = mine | wanted  # the depot named first is believed first
    return dict(sorted(wanted.items()))


def _size_at(depots: Sequence[Depot], path: str) -> int:
    for depot in depots:
        if (depot.root / path).is_file():
            return (depot.root / path).stat().st_size
    return 0


def _fetch(depots: Sequence[Depot], path: str, sha256: str, place: Path, mtime_ns: int | None) -> _Restored:
    """Bring one file to the temporary name beside `place`, unless it is there already."""
    name = path.removeprefix("data/")
    if place.is_file():
        if digest_of(place) == sha256:
            return _Restored(name, place.stat().st_size)
        if not place.name.endswith(TEMPORARY):
            return _Restored(name, 0, trouble="a different file is at the target; it was left as it is")
    place.parent.mkdir(parents=True, exist_ok=True)
    fresh = place if place.name.endswith(TEMPORARY) else place.with_name(place.name + TEMPORARY)
    troubles = []
    for depot in depots:
        digest = hashlib.sha256()
        size = 0
        try:
            with (
                depot.drive.read_from_medium(depot.root / path, PIECE) as reading,
                fresh.open("wb", buffering=0) as file,
            ):
                for piece in reading.pieces:
                    digest.update(piece)
                    file.write(piece)
                    size += len(piece)
                grade = reading.grade
        except FileNotFoundError:
            troubles.append(f"{depot.name}: missing")
            continue
        except OSError as error:
            if not (depot.root / path).is_file() or fresh.parent.exists() is False:
                raise
            if error.filename is None or str(fresh) == str(error.filename):
                raise  # the target, not the depot, is in trouble
            troubles.append(f"{depot.name}: {error.strerror}")
            continue
        if digest.hexdigest() == sha256:
            if mtime_ns is not None:
                set_time(fresh, mtime_ns)
            return _Restored(name, size, depot, grade, "")
        troubles.append(f"{depot.name}: damaged")
    fresh.unlink(missing_ok=True)
    return _Restored(name, 0, trouble="; ".join(troubles))


def _put_in_place(places: Sequence[Path], target: Path, whole: bool) -> None:
    fresh = [place.with_name(place.name + TEMPORARY) for place in places]
    flush_many(fresh, target, whole_system=whole)
    for written, place in zip(fresh, places, strict=True):
        written.replace(place)
    for folder in {place.parent for place in places}:
        flush_folder(folder)


def _receipt(
    library: Library, depots: Sequence[Depot], results: Sequence[_Restored], sizes: dict[str, int], started: str
) -> Receipt:
    originals = {row[0] for row in library.db.execute("SELECT path FROM files WHERE role = 'original'")}
    kept: dict[str, Amount] = {}
    left_out, findings = [], []
    for result in results:
        amount = Amount(int(result.path in originals), 1, sizes[f"data/{result.path}"])
        if result.trouble:
            left_out.append(LeftOut(result.path, result.trouble, amount))
            continue
        what = f"from {result.from_depot.name}" if result.from_depot else "restored by an earlier run"
        kept[what] = kept.get(what, Amount()) + amount
        if result.from_depot is not None and result.from_depot is not depots[0]:
            findings.append(
                Finding(result.path, f"was not sound at {depots[0].name}; taken from {result.from_depot.name}")
            )
    came_in = Amount(len(originals), len(sizes), sum(sizes.values()))
    return Receipt(
        number=next_number(library.receipts),
        run="restore",
        started=started,
        finished=stamp(now_utc()),
        about={"library": library.name, "from": ", ".join(depot.name for depot in depots)},
        came_in=came_in,
        kept=[Kept(what, amount) for what, amount in kept.items()],
        left_out=left_out,
        findings=findings,
    )


def _remember(library: Library, depots: Sequence[Depot], results: Sequence[_Restored]) -> None:
    """The new library knows the depots it came from; what was read and matched just now counts as read."""
    now = stamp(now_utc())
    for depot in depots:
        identity = depot.identity
        add_depot(
            library, depot.root, name=identity.name, site=identity.site, medium=identity.medium, kind=identity.kind,
            options=identity.options,
        )  # fmt: skip
        with library.ledger.changing() as db:
            for result in results:
                if result.from_depot is depot:
                    db.execute(
                        "UPDATE copies SET state = 'good', read_at = ?, grade = ?"
                        " WHERE depot = ? AND file = (SELECT id FROM files WHERE path = ?)",
                        (now, result.grade, depot.id, result.path),
                    )
