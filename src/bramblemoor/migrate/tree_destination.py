"""Where a collection goes: into folders, with what is known in sidecars beside the pictures."""

import csv
import hashlib
import io
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial

from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.disk.told import Inside, inside
from bramblemoor.frames.kinds import sidecar_of
from bramblemoor.frames.moments import parse_moment
from bramblemoor.library.albums import harmless
from bramblemoor.library.layout import folder_for
from bramblemoor.migrate.sending import BREAKS, Destination, Filled, Sent, SentFile, Try, broken, of_bytes, packet_of
from bramblemoor.migrate.sources import Gone, Source
from bramblemoor.services.interface import Content, Entry, NameTaken, NotTaken, Tree, TreeUploads
from bramblemoor.services.moving import Arrived, Changed, Outgoing, Shown, ShownFile
from bramblemoor.services.tree_survey import digest_there
from bramblemoor.wire.http import Answered, ConnectionBroke

LISTS = "albums"


class TreeDestination(Destination):
    """A service that keeps folders. What is known goes beside a picture where the source has no sidecar of its own."""

    def __init__(self, name: str, account: TreeUploads, into: str, template: str) -> None:
        self.name, self._account, self.into, self._template = name, account, into, template
        self.keeps = account.fidelity()
        self._reserved: dict[str, str] = {}
        self._lock = threading.Lock()

    def _is_others(self, path: str, key: str) -> bool:
        """Whether a place, or one that some systems take for it, is another frame's of this transfer; else it is this one's
        now.
        """
        with self._lock:
            return self._reserved.setdefault(collision_key(path), key) != key

    def lying(self) -> Iterator[tuple[str, int]]:
        assert isinstance(self._account, Tree)
        return ((one.path, one.bytes) for one in lying_below(self._account, self.into))

    def has(self, path: str) -> bool:
        assert isinstance(self._account, Tree)
        return bool(self._account.peek(Inside(path), 0, 1))

    def place_of(self, frame: Shown, source: Source) -> str:
        return self._path(frame, frame.files[0], source)

    def send(self, key: str, place: str, frame: Shown, albums: Sequence[str], source: Source, try_: Try) -> Sent:
        sent, already, path = list[SentFile](), True, ""
        own = self.place_of(frame, source)
        there = {file.source_at: file for file in try_.there}
        for file in frame.files:
            former = there.get(file.at)
            if former is not None and not former.stale:
                sent.append(former)
                path = path or former.at
                continue
            where = _along(self._path(frame, file, source), own, path or place)
            again = try_
            if former is not None and self._is_still(former):
                again = replace(try_, begun=[*try_.begun, former.at])
            found, was_there = self._send_file(key, where, file, source, again)
            path = path or found.at
            sent.append(found)
            already &= was_there
        if not source.has_tree and (packet := packet_of(frame, albums)) is not None:
            sent.append(self._put_bytes(key, sidecar_of(path), packet, try_))
        return Sent(path, tuple(sent), frame.told, already=already)

    def _path(self, frame: Shown, file: ShownFile, source: Source) -> str:
        """Where a file goes by itself: as in the source's tree, else by its date."""
        path = source.path_of(frame, file)
        if not source.has_tree:
            moment = parse_moment(frame.told.taken) if frame.told.taken else None
            path = f"{folder_for(self._template, moment, source.name).removeprefix('pictures/')}/{path}"
        path = "/".join(self._named(step) for step in path.split("/"))
        return f"{self.into}/{path}" if self.into else path

    def _named(self, step: str) -> str:
        most = self.keeps.name_bytes
        if most and len(step.encode()) > most:
            stem, dot, ending = step.rpartition(".")
            room = most - len((dot + ending).encode())
            step = (stem or ending).encode()[:room].decode("utf-8", "ignore") + (dot + ending if stem else "")
        return "".join("_" if letter in self.keeps.refused_letters else letter for letter in step)

    def _send_file(self, key: str, path: str, file: ShownFile, source: Source, try_: Try) -> tuple[SentFile, bool]:
        outgoing = Outgoing(file.role, Inside(file.name), file.bytes, file.sha256)
        for _ in range(BREAKS):
            try:
                arrived, already = self._put(key, path, outgoing, partial(source.content, file), try_)
                break
            except (ConnectionBroke, Changed) as error:
                why = broken(file, error)
        else:
            raise Gone(why)
        return _sent(arrived, file, path), already

    def _put_bytes(self, key: str, path: str, content: bytes, try_: Try) -> SentFile:
        name = path.rpartition("/")[2]
        outgoing = Outgoing("sidecar", Inside(name), len(content))
        arrived, _ = self._put(key, path, outgoing, partial(of_bytes, content), try_)
        file = ShownFile("sidecar", name, len(content), path)
        return _sent(arrived, file, path)

    def _put(self, key: str, path: str, outgoing: Outgoing, content: Content, try_: Try) -> tuple[Arrived, bool]:
        """Put a file where it belongs, or under a free name where something else lies there; says whether it lay there."""
        tried: set[str] = set()
        folder, slash, name = path.rpartition("/")
        while True:
            where = inside(folder + slash + free_name(name, lambda one: collision_key(one) in tried))
            if self._is_others(where, f"{key} {outgoing.role} {path}"):
                tried.add(collision_key(where.rpartition("/")[2]))
                continue
            try:
                return self._account.put(where, outgoing, content, try_.begin, mine=where in try_.begun), False
            except NameTaken:
                found = self._there(where, outgoing, content)
                if found is not None:
                    return found, True
                if len(tried) > 50:
                    raise NotTaken("too many files of that name lie there") from None
                tried.add(collision_key(where.rpartition("/")[2]))

    def _is_still(self, sent: SentFile) -> bool:
        """Whether what lies there is what was sent, and nobody has changed it since."""
        return self._digest(sent.at, sent.bytes) == sent.sha256

    def _digest(self, path: str, size: int) -> str | None:
        assert isinstance(self._account, Tree)
        return digest_there(partial(self._account.open, Inside(path), 0, ""), size)

    def _there(self, path: Inside, outgoing: Outgoing, content: Content) -> Arrived | None:
        """What lies at a path, where it is the same as what is to be sent."""
        theirs = self._digest(path, outgoing.bytes)
        if not theirs:
            return None
        ours = hashlib.sha256()
        with content() as pieces:
            for piece in pieces:
                ours.update(piece)
        outgoing.require(ours.hexdigest())
        return Arrived(path, outgoing.bytes, theirs, path, True) if ours.hexdigest() == theirs else None

    def put_albums(self, key: str, albums: Iterable[Filled], former: Mapping[str, SentFile]) -> dict[str, SentFile]:
        """A list for each, as the library writes them, with the album's title: path, title, taken, position, album. One that has
        changed takes the place of its former one, unless somebody has changed that.
        """
        made = dict[str, SentFile]()
        for album, frames in albums:
            text = io.StringIO(newline="")
            writer = csv.writer(text)
            writer.writerow(["path", "title", "taken", "position", "album"])
            for position, (path, frame) in enumerate(frames, 1):
                row = (path, frame.told.title, frame.told.taken, position, album.title)
                writer.writerow([harmless(cell) for cell in row])
            content, was = text.getvalue().encode(), former.get(album.id)
            ours = was is not None and self._is_still(was)
            if was is not None and ours and was.sha256 == hashlib.sha256(content).hexdigest():
                made[album.id] = was
                continue
            name = f"{self.into}/" if self.into else ""
            path = f"{name}{LISTS}/{self._named(safe_name(album.title))}.csv"
            again = Try([was.at] if was is not None and ours else [], lambda path: None)
            made[album.id] = self._put_bytes(f"{key}:{album.id}", path, content, again)
        return made


def lying_below(tree: Tree, folder: str) -> Iterator[Entry]:
    """The files below a folder; none where it is not there."""
    try:
        yield from (one for one in tree.entries(folder) if not one.is_folder)
    except Answered as error:
        if error.status not in (404, 410) or not folder:
            raise


def _sent(arrived: Arrived, file: ShownFile, path: str) -> SentFile:
    """A file that lies in a folder, and was to lie at a path: what was sent of it is what the source has."""
    name, wanted = arrived.name.rpartition("/")[2], path.rpartition("/")[2]
    return SentFile(
        file.role,
        name,
        arrived.bytes,
        arrived.sha256,
        file.bytes,
        arrived.sha256,
        arrived.name,
        arrived.read_back,
        arrived.etag,
        wanted if wanted != name else "",
        file.at,
    )


def _along(path: str, original: str, place: str) -> str:
    """Where a file of a frame goes whose original goes to another place than its own: it is renamed in the same way."""
    if place == original:
        return path
    if path.startswith(original):
        return place + path[len(original) :]
    stem, to = original.rpartition(".")[0], place.rpartition(".")[0]
    return to + path[len(stem) :] if stem and path.startswith(stem) else path
