"""One look at both ends of a transfer: what lies at the destination, and what the source shows, entered in the worksheet."""

from collections.abc import Callable, Collection, Iterable, Sequence

import msgspec

from bramblemoor.disk.names import collision_key, free_name
from bramblemoor.migrate.fidelity import Verdict
from bramblemoor.migrate.sending import Sent, SentFile
from bramblemoor.migrate.worksheet import State, Worksheet
from bramblemoor.services.moving import Shown, ShownFile

Weighed = tuple[Shown, str, str, Sequence[Verdict], str]
"""A frame with a mark of its content, why nothing of it is taken, what becomes of it, and where it is to lie."""


class Look:
    """The look with that `number`: first at the destination, then at the source."""

    def __init__(self, sheet: Worksheet) -> None:
        self._sheet, self.number = sheet, int(sheet.get("looks", "0")) + 1
        sheet.put("looks", str(self.number))

    def enter_lying(self, entries: Iterable[tuple[str, int]]) -> None:
        """What lies at the destination now: paths and sizes."""
        with self._sheet.changing() as db:
            db.execute("DELETE FROM lying")
            rows = ((collision_key(path), size) for path, size in entries)
            db.executemany("INSERT OR IGNORE INTO lying VALUES (?, ?)", rows)

    def enter_held(self, frames: Iterable[tuple[str, str, str]]) -> None:
        """What is at the destination now: digests of originals, what each is called there, and the digest that it has there."""
        with self._sheet.changing() as db:
            db.execute("DELETE FROM held")
            db.executemany("INSERT OR IGNORE INTO held VALUES (?, ?, ?)", frames)

    def note_held(self) -> None:
        """Frames whose originals are there already need not be sent: they are noted as if they had been."""
        found: list[tuple[int, State, str, Sent | None]] = []
        for line in self._sheet.lines("waiting", look=self.number):
            first = line.shown.files[0]
            row = self._sheet.db.execute("SELECT there, sent FROM held WHERE sha256 = ?", (first.sha256,)).fetchone()
            if row is not None and first.sha256:
                file = SentFile(first.role, first.name, first.bytes, row[1], first.bytes, first.sha256)
                found.append((line.n, "sent", "", Sent(row[0], (file,), already=True)))
        self._sheet.note(found, int(self._sheet.get("runs", "0")) + 1)

    def note_gone(self, ids: Collection[str], is_there: Callable[[str], bool]) -> None:
        """Frames that had arrived, and are not there any more, wait again. `ids` are what a service without folders shows; of
        a file that no list of folders has, `is_there` is asked.
        """

        def lies(file: SentFile) -> bool:
            row = self._sheet.db.execute("SELECT bytes FROM lying WHERE key = ?", (collision_key(file.at),)).fetchone()
            if row is None:
                return not file.bytes or is_there(file.at)
            return row[0] == file.bytes or file.role == "sidecar"  # what was said of it there since is theirs

        gone = [
            line.n
            for line in self._sheet.lines("proven", "amiss")
            if line.sent is not None and not (all(map(lies, line.sent.files)) if line.place else line.sent.there in ids)
        ]
        with self._sheet.changing() as db:
            db.executemany(
                "UPDATE frames SET state = 'missing', found = 'it was there, and is there no more', gone = gone + 1 WHERE n = ?",
                ((number,) for number in gone),
            )

    def enter(self, frames: Iterable[Weighed]) -> None:
        """Enter frames as they are shown now."""
        with self._sheet.changing() as db:
            for shown, mark, refused, verdicts, place in frames:
                row = db.execute(
                    "SELECT n, state, shown, sent, due_bytes NOT NULL FROM frames WHERE id = ? AND mark = ?",
                    (shown.id, mark),
                ).fetchone()
                if row is not None:
                    number, state, before, sent, renewed = row
                    former = msgspec.json.decode(before, type=Shown)
                    db.execute("UPDATE frames SET seen = ? WHERE n = ?", (self.number, number))
                    if place and (state == "proven" or renewed) and (changed := changed_sidecars(former, shown)):
                        self._renew(number, shown, msgspec.json.decode(sent, type=Sent), changed)
                        continue
                    if renewed:
                        db.execute("UPDATE frames SET state = 'waiting', why = '' WHERE n = ?", (number,))
                        continue
                    if state not in ("waiting", "left", "missing") and not (state == "amiss" and place):
                        if former.told != shown.told:
                            db.execute("UPDATE frames SET restated = ? WHERE n = ?", (self.number, number))
                        continue
                    db.execute(
                        "UPDATE frames SET shown = ?, state = ?, why = ? WHERE n = ?",
                        (msgspec.json.encode(shown), "left" if refused else "waiting", refused, number),
                    )
                else:
                    number = db.execute(
                        "INSERT INTO frames (id, name, mark, seen, kind, bytes, files, shown, state, why, place, place_key)"
                        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING n",
                        (shown.id, shown.name, mark, self.number, shown.kind, shown.bytes, len(shown.files),
                         msgspec.json.encode(shown), "left" if refused else "waiting", refused,
                         *self._free(place, shown.files[0].bytes)),
                    ).fetchone()[0]  # fmt: skip
                db.execute("DELETE FROM verdicts WHERE frame = ?", (number,))
                db.executemany(
                    "INSERT INTO verdicts VALUES (?, ?, ?, ?)",
                    ((number, one.what, one.outcome, one.how) for one in verdicts),
                )

    def _renew(self, number: int, shown: Shown, sent: Sent, changed: Sequence[ShownFile]) -> None:
        """A frame that is there has new sidecars, or such as have changed: these wait, and what else was sent of it stays."""
        paths = {file.at for file in changed}
        files = tuple(
            msgspec.structs.replace(file, stale=True) if file.source_at in paths else file for file in sent.files
        )
        there = {file.source_at for file in files if not file.stale}
        due = [file.bytes for file in shown.files if file.at not in there]
        self._sheet.db.execute(
            "UPDATE frames SET state = 'waiting', shown = ?, sent = ?, files = ?, bytes = ?, due_files = ?, due_bytes = ?"
            " WHERE n = ?",
            (msgspec.json.encode(shown), msgspec.json.encode(msgspec.structs.replace(sent, files=files)), len(shown.files),
             shown.bytes, len(due), sum(due), number),
        )  # fmt: skip

    def _free(self, place: str, size: int) -> tuple[str, str]:
        """The place itself, or the first beside it that is no other frame's, and where nothing of another size lies; and its key.

        It is chosen once: a later run finds there what an earlier one put.
        """
        if not place:
            return "", ""

        def taken(name: str) -> bool:
            key = collision_key(folder + name)
            lying = self._sheet.db.execute("SELECT bytes FROM lying WHERE key = ?", (key,)).fetchone()
            ours = self._sheet.db.execute("SELECT 1 FROM frames WHERE place_key = ?", (key,)).fetchone()
            return ours is not None or (lying is not None and lying[0] != size)

        folder = place[: len(place) - len(place.rpartition("/")[2])]
        free = folder + free_name(place[len(folder) :], taken)
        return free, collision_key(free)


def changed_sidecars(former: Shown, now: Shown) -> list[ShownFile]:
    """The sidecars of a frame that are new, or other ones than before."""
    before = {file.at: (file.bytes, file.sha256 or file.etag) for file in former.files}
    return [
        file
        for file in now.files
        if file.role == "sidecar" and before.get(file.at) != (file.bytes, file.sha256 or file.etag)
    ]
