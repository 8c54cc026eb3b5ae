"""The intent journal of a run at a depot: written before files are put in place, so that any machine can finish the run.

incoming/RUN/journal.jsonl   first the run, then one line for each file that was read back and is about to be put in place
incoming/RUN/data/...        staged files, complete or not
"""

import csv
import io
import json
import os
import shutil
from collections.abc import Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path

from bramblemoor.depots import bag
from bramblemoor.depots.depot import Depot
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.durable import flush_folder, write_atomically
from bramblemoor.library.receipts import stamp


@dataclass(frozen=True)
class Intent:
    """A file that is about to appear at data/`path`; `why` says what happens to the one that is there now, if any."""

    path: str
    sha256: str
    bytes: int
    read_at: str
    grade: str
    why: str = ""


class Journal:
    """An open run at one depot."""

    def __init__(self, depot: Depot, run: str) -> None:
        self.depot = depot
        self.run = run
        self.folder = depot.root / "incoming" / run
        self.folder.mkdir(parents=True, exist_ok=True)
        self._path = self.folder / "journal.jsonl"
        if not self._path.exists():
            write_atomically(self._path, json.dumps({"run": run, "started": stamp(now_utc())}).encode() + b"\n")
            flush_folder(depot.root / "incoming")
            flush_folder(depot.root)

    def staged(self, path: str) -> Path:
        return self.folder / "data" / path

    def put_in_place(self, intents: Sequence[Intent]) -> None:
        """Write the intents down durably, then carry them out. The staged files are flushed and proven already."""
        with self._path.open("ab") as file:
            file.write(b"".join(json.dumps(asdict(intent), ensure_ascii=False).encode() + b"\n" for intent in intents))
            file.flush()
            os.fsync(file.fileno())
        folders: dict[Path, None] = {}
        for intent in intents:
            self._carry_out(intent, folders)
        for folder in folders:
            flush_folder(folder)

    def _carry_out(self, intent: Intent, folders: dict[Path, None]) -> None:
        """Put one file in place. As long as the staged file is there, what lies in its place is the former version."""
        staged, target = self.staged(intent.path), self.depot.data / intent.path
        if not staged.is_file():
            return
        if target.parent not in folders:
            for made in _make_folders(target.parent, self.depot.root):
                folders[made] = None
            folders[target.parent] = None
        if target.exists():
            former = self.depot.root / "earlier" / self.run / "data" / intent.path
            for made in _make_folders(former.parent, self.depot.root):
                folders[made] = None
            target.replace(former)
            folders[former.parent] = None
        staged.replace(target)

    def intents(self) -> Iterator[Intent]:
        """What was written down so far; a line that broke off was never acted upon."""
        with self._path.open("rb") as file:
            for number, raw in enumerate(file):
                with suppress(ValueError, TypeError):
                    if number:
                        yield Intent(**json.loads(raw))

    def roll_forward(self) -> None:
        folders: dict[Path, None] = {}
        for intent in self.intents():
            self._carry_out(intent, folders)
        for folder in folders:
            flush_folder(folder)

    def close(self, library_name: str, tags: dict[str, bytes]) -> list[Intent]:
        """End the run: manifest, list of earlier versions, tag files (`tags`, by path), tag manifest; returns what was placed."""
        root = self.depot.root
        placed = [intent for intent in self.intents() if (self.depot.data / intent.path).is_file()]
        earlier = root / "earlier" / self.run
        if earlier.is_dir():
            text = io.StringIO(newline="")
            writer = csv.writer(text)
            writer.writerow(["path", "why", "when"])
            for intent in placed:
                if (earlier / "data" / intent.path).exists():
                    writer.writerow(
                        [f"data/{intent.path}", intent.why or "replaced by a newer version", intent.read_at]
                    )
            write_atomically(earlier / "why.csv", text.getvalue().encode())
        for name, content in tags.items():
            write_atomically(root / name, content)
        if placed or not (root / bag.MANIFEST).is_file():
            bag.write_manifest(root, {f"data/{intent.path}": intent.sha256 for intent in placed})
        refresh_tags(self.depot, library_name, tags)
        shutil.rmtree(root / "incoming")
        flush_folder(root)
        return placed


def _make_folders(folder: Path, root: Path) -> Iterator[Path]:
    """Make a folder; yields the parents that got a new name by it."""
    missing = []
    while not folder.is_dir() and folder != root:
        missing.append(folder)
        folder = folder.parent
    for made in reversed(missing):
        made.mkdir(exist_ok=True)
        yield made.parent


def refresh_tags(depot: Depot, library_name: str, fresh: Collection[str] = ()) -> None:
    """Write the tag files anew after the payload or a tag file has changed; `fresh` names those just written."""
    size = count = 0
    for path, _ in bag.read_manifest(depot.root / bag.MANIFEST):
        with suppress(FileNotFoundError):
            size += (depot.root / path).stat().st_size
            count += 1
    bag.write_tags(depot.root, depot.identity.library, library_name, (size, count), stamp(now_utc())[:10], fresh)


def finish_interrupted(depot: Depot, library_name: str) -> list[Intent]:
    """Roll an interrupted run forward and close it; returns what it had put in place. Without one, does nothing."""
    incoming = depot.root / "incoming"
    placed: list[Intent] = []
    if not incoming.is_dir():
        return placed
    for folder in sorted(incoming.iterdir()):
        if (folder / "journal.jsonl").is_file():
            journal = Journal(depot, folder.name)
            journal.roll_forward()
            placed += journal.close(library_name, {})
            break  # close() ends whatever is in incoming/: a depot has one run at a time
    else:
        shutil.rmtree(incoming)
    return placed
