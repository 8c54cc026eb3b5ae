"""Where a collection goes: into folders, with what is known in sidecars beside the pictures, or to a flat service, in its
fields.
"""

import csv
import hashlib
import io
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial

import msgspec

from bramblemoor.disk.names import collision_key, free_name, safe_name
from bramblemoor.disk.told import Inside, inside
from bramblemoor.errors import WrongUse
from bramblemoor.frames.chunks import read_png
from bramblemoor.frames.claims import Facts, believe
from bramblemoor.frames.embedding import with_packet
from bramblemoor.frames.jpeg import read_jpeg
from bramblemoor.frames.moments import parse_moment
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import MemorySource
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_writing import Belonging, read_packet, sidecar, without_own
from bramblemoor.library.albums import harmless
from bramblemoor.library.layout import folder_for
from bramblemoor.migrate.fidelity import EMBEDDED, can_embed, fitted, is_told
from bramblemoor.migrate.sources import Gone, Source, told_of
from bramblemoor.running import PIECE
from bramblemoor.services.interface import (
    Account,
    Content,
    Entry,
    FrameUploads,
    Listing,
    NameTaken,
    NotTaken,
    Tree,
    TreeUploads,
)
from bramblemoor.services.moving import (
    NOTHING_TOLD,
    Arrived,
    Changed,
    Fidelity,
    Outgoing,
    Shown,
    ShownAlbum,
    ShownFile,
    Told,
)
from bramblemoor.wire.http import Answered, ConnectionBroke

_BREAKS = 3
LISTS = "albums"


class SentFile(msgspec.Struct, frozen=True, omit_defaults=True):
    """A file as it was sent: of which content at the source, what became of it, and where it is to be there. What was not read
    back must be listed with the `etag`.
    """

    role: str
    name: str
    bytes: int
    sha256: str
    source_bytes: int
    source_sha256: str
    at: str = ""
    read_back: bool = False
    etag: str = ""


class Sent(msgspec.Struct, frozen=True, omit_defaults=True):
    """A frame as it was sent: what the destination calls it, its files, what it was told, which fields are inside of copies.

    `already` says that the same lay there before.
    """

    there: str
    files: tuple[SentFile, ...]
    told: Told = NOTHING_TOLD
    inside: tuple[str, ...] = ()
    already: bool = False


@dataclass(frozen=True)
class Try:
    """One try to send a frame. `begun` are the places where an earlier one began to put something, and may have left it half;
    `begin` notes another.
    """

    begun: Collection[str]
    begin: Callable[[str], None]


class Destination(ABC):
    """Where frames are sent. `keeps` is what it said of itself; `into` the folder that all goes below, "" for its topmost."""

    name: str
    keeps: Fidelity
    into: str = ""

    def lying(self) -> Iterator[tuple[str, int]]:
        """What lies there below `into`, where it has folders: paths and sizes."""
        return iter(())

    def held(self) -> Iterator[tuple[str, str]]:
        """What it shows by digest, where it has no folders: the SHA-256 of an original, and what that frame is called there."""
        return iter(())

    def place_of(self, frame: Shown, source: Source) -> str:
        """Where a frame's original would lie by itself, where it has folders."""
        return ""

    @abstractmethod
    def send(self, key: str, place: str, frame: Shown, albums: Sequence[str], source: Source, try_: "Try") -> Sent:
        """Send a frame, which is in albums of these titles, its original to its place.

        Raises NotTaken where it is refused, Gone where the source has it no more, ServiceTrouble where one of them is down.
        """

    @abstractmethod
    def put_albums(self, key: str, albums: Iterable[tuple[ShownAlbum, Sequence[tuple[str, Shown]]]]) -> list[str]:
        """Make albums and put frames into them, in order: each as the destination calls it, with what it is.

        Returns where those stand that are lists.
        """


class _Counted:
    """A file's content on its way: hashed, and begun anew where its source broke off."""

    def __init__(self, source: Source, file: ShownFile) -> None:
        self._source, self._file = source, file
        self.digest = hashlib.sha256()

    @contextmanager
    def pieces(self) -> Iterator[Iterator[bytes]]:
        self.digest = hashlib.sha256()
        with self._source.content(self._file) as pieces:
            yield self._seen(pieces)

    def _seen(self, pieces: Iterator[bytes]) -> Iterator[bytes]:
        for piece in pieces:
            self.digest.update(piece)
            yield piece

    def read_through(self) -> None:
        with self.pieces() as pieces:
            for _ in pieces:
                pass

    def require_same(self) -> None:
        """Raise Gone where what came is not what the source said that it is."""
        if self._file.sha256 and self.digest.hexdigest() != self._file.sha256:
            raise Gone(f"{self._file.name} is not what the source says: its digest is another one")

    @property
    def sha256(self) -> str:
        self.require_same()
        return self.digest.hexdigest()


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

    def place_of(self, frame: Shown, source: Source) -> str:
        return self._path(frame, frame.files[0], source)

    def send(self, key: str, place: str, frame: Shown, albums: Sequence[str], source: Source, try_: Try) -> Sent:
        sent, already, path = list[SentFile](), True, ""
        own = self.place_of(frame, source)
        for file in frame.files:
            where = _along(self._path(frame, file, source), own, path or place)
            found, was_there = self._send_file(key, where, file, source, try_)
            path = path or found.at
            sent.append(found)
            already &= was_there
        if not source.has_tree and (packet := packet_of(frame, albums)) is not None:
            sent.append(self._put_bytes(key, f"{path}.xmp", packet, try_))
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
        for _ in range(_BREAKS):
            try:
                arrived, already = self._put(key, path, outgoing, partial(source.content, file), try_)
                break
            except (ConnectionBroke, Changed) as error:
                why = _broken(file, error)
        else:
            raise Gone(why)
        return _sent(arrived, file), already

    def _put_bytes(self, key: str, path: str, content: bytes, try_: Try) -> SentFile:
        name = path.rpartition("/")[2]
        outgoing = Outgoing("sidecar", Inside(name), len(content))
        arrived, _ = self._put(key, path, outgoing, partial(_of_bytes, content), try_)
        file = ShownFile("sidecar", name, len(content), path)
        return _sent(arrived, file)

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

    def _there(self, path: Inside, outgoing: Outgoing, content: Content) -> Arrived | None:
        """What lies at a path, where it is the same as what is to be sent."""
        theirs, came = hashlib.sha256(), 0
        assert isinstance(self._account, Tree)
        with self._account.open(path, 0, "") as stream:
            for piece in stream.pieces:
                theirs.update(piece)
                came += len(piece)
                if came > outgoing.bytes:
                    return None
        if came != outgoing.bytes:
            return None
        ours = hashlib.sha256()
        with content() as pieces:
            for piece in pieces:
                ours.update(piece)
        outgoing.require(ours.hexdigest())
        return Arrived(path, came, ours.hexdigest(), path, True) if ours.digest() == theirs.digest() else None

    def put_albums(self, key: str, albums: Iterable[tuple[ShownAlbum, Sequence[tuple[str, Shown]]]]) -> list[str]:
        """A list for each, as the library writes them, with the album's title: path, title, taken, position, album."""
        made = []
        for album, frames in albums:
            text = io.StringIO(newline="")
            writer = csv.writer(text)
            writer.writerow(["path", "title", "taken", "position", "album"])
            for position, (path, frame) in enumerate(frames, 1):
                row = (path, frame.told.title, frame.told.taken, position, album.title)
                writer.writerow([harmless(cell) for cell in row])
            name = f"{self.into}/" if self.into else ""
            path = f"{name}{LISTS}/{self._named(safe_name(album.title))}.csv"
            made.append(self._put_bytes(f"{key}:{album.id}", path, text.getvalue().encode(), _FIRST).at)
        return made


def _broken(file: ShownFile, error: Exception) -> str:
    if isinstance(error, Changed):
        return f"{file.name} comes from the source as something else than its digest says, {_BREAKS} times"
    return f"{file.name} breaks off at the source, {_BREAKS} times"


_FIRST = Try((), lambda path: None)


def lying_below(tree: Tree, folder: str) -> Iterator[Entry]:
    """The files below a folder; none where it is not there."""
    try:
        yield from (one for one in tree.entries(folder) if not one.is_folder)
    except Answered as error:
        if error.status not in (404, 410) or not folder:
            raise


def _sent(arrived: Arrived, file: ShownFile) -> SentFile:
    """A file that lies in a folder: what was sent of it is what the source has."""
    name = arrived.name.rpartition("/")[2]
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
    )


def _along(path: str, original: str, place: str) -> str:
    """Where a file of a frame goes whose original goes to another place than its own: it is renamed in the same way."""
    if place == original:
        return path
    if path.startswith(original):
        return place + path[len(original) :]
    stem, to = original.rpartition(".")[0], place.rpartition(".")[0]
    return to + path[len(stem) :] if stem and path.startswith(stem) else path


class FlatDestination(Destination):
    """A service without folders: what is known goes into its fields, and the rest inside of copies where it can."""

    def __init__(self, name: str, account: FrameUploads, *, embed: bool) -> None:
        self.name, self._account, self._embed = name, account, embed
        self.keeps = account.fidelity()

    def held(self) -> Iterator[tuple[str, str]]:
        if self.keeps.stores == "original" and isinstance(self._account, Listing):
            for shown in self._account.frames():
                if shown.files[0].sha256 and not shown.reduced:
                    yield shown.files[0].sha256, shown.id

    def send(self, key: str, place: str, frame: Shown, albums: Sequence[str], source: Source, try_: Try) -> Sent:
        files = [file for file in frame.files if file.role == "original" or file.role in self.keeps.roles]
        told = fitted(frame.told, self.keeps)
        # Of an earlier try perhaps only the answer was lost.
        known = self._account.sent(key) if try_.begun else None
        try_.begin(key)
        for _ in range(_BREAKS):
            try:
                return self._send(key, frame, files, told, source, known)
            except (ConnectionBroke, Changed) as error:
                why = _broken(frame.files[0], error)
        raise Gone(why)

    def _send(
        self, key: str, frame: Shown, files: Sequence[ShownFile], told: Told, source: Source, known: Shown | None
    ) -> Sent:
        """Send it, or where it is `known` there only work out what was sent."""
        counted = [_Counted(source, file) for file in files]
        altered, inside = self._altered(frame, counted[0])
        outgoing: list[tuple[Outgoing, Content]] = [
            (Outgoing(file.role, Inside(file.name), file.bytes, file.sha256), one.pieces)
            for file, one in zip(files, counted, strict=True)
        ]
        if altered is not None:
            outgoing[0] = (Outgoing("original", Inside(files[0].name), len(altered)), partial(_of_bytes, altered))
        if known is None:
            shown = self._account.send(key, frame, outgoing, told)
        else:
            shown = known
            for one in counted:
                one.read_through()
        sent = []
        for number, (file, one) in enumerate(zip(files, counted, strict=True)):
            whole, size = one.sha256, file.bytes
            if number == 0 and altered is not None:
                whole, size = hashlib.sha256(altered).hexdigest(), len(altered)
            there = shown.files[number] if number < len(shown.files) else None
            name, at = (there.name, there.at) if there else ("", "")
            sent.append(SentFile(file.role, name, size, whole, file.bytes, one.sha256, at))
        return Sent(shown.id, tuple(sent), told, inside)

    def _altered(self, frame: Shown, original: _Counted) -> tuple[bytes | None, tuple[str, ...]]:
        """A copy of the original with what the destination has no field for inside, and which fields; None where none is made."""
        wanted = [field for field in EMBEDDED if field not in self.keeps.fields and is_told(frame.told, field)]
        if not (wanted and self._embed and self.keeps.embedded and can_embed(frame)):
            return None, ()
        with original.pieces() as pieces:
            content = b"".join(pieces)
        original.require_same()
        return _with_known(content, frame, wanted)

    def put_albums(self, key: str, albums: Iterable[tuple[ShownAlbum, Sequence[tuple[str, Shown]]]]) -> list[str]:
        for album, frames in albums:
            if not frames:
                continue
            made = self._account.make_album(f"{key}:{album.id}", album)
            self._account.put_in_album(made.id, [there for there, _ in frames])
        return []


@contextmanager
def _of_bytes(content: bytes) -> Iterator[Iterator[bytes]]:
    yield (content[at : at + PIECE] for at in range(0, len(content), PIECE))


def _with_known(content: bytes, frame: Shown, wanted: Sequence[str]) -> tuple[bytes | None, tuple[str, ...]]:
    """A copy with what the destination has no field for inside, and which fields those are; None where the file says it all."""
    said = told_of(believe(read_picture(MemorySource(content)).claims))
    lacking = tuple(field for field in wanted if getattr(said, field) != getattr(frame.told, field))
    if not lacking:
        return None, ()
    there = read_jpeg(MemorySource(content)) if content.startswith(b"\xff\xd8") else read_png(MemorySource(content))
    try:
        packet = packet_of(frame, (), there.xmp[0] if there.xmp else None)
    except BrokenXmp:
        return None, ()  # nobody's words are taken out, whatever they are
    altered = with_packet(content, without_own(packet)) if packet is not None else None
    return (altered, lacking) if altered is not None else (None, ())


def packet_of(frame: Shown, albums: Sequence[str], there: bytes | None = None) -> bytes | None:
    """What is known of a frame as an XMP packet, `there` being one to add to; None where nothing is. Raises BrokenXmp."""
    told = frame.told
    if told == NOTHING_TOLD and not albums:
        return None
    facts = Facts(
        taken=parse_moment(told.taken) if told.taken else None, title=told.title, caption=told.caption, keywords=told.keywords,
        people=told.people, position=told.position, location=told.location, favourite=told.favourite, rating=told.rating,
        label=told.label, creator=told.creator, rights=told.rights,
    )  # fmt: skip
    return sidecar(facts, Belonging(albums=tuple(albums)), read_packet(there) if there is not None else None)


def destination_of(name: str, account: Account, into: str, template: str, mark: str, *, embed: bool) -> Destination:
    """The destination that an account is; `mark` is the same at each run of a transfer. Raises WrongUse for one that takes
    nothing.
    """
    if isinstance(account, TreeUploads):
        account.mark = mark
        return TreeDestination(name, account, into, template)
    if isinstance(account, FrameUploads):
        if into:
            raise WrongUse(
                f"{name} has no folders.", "Leave --into out; --arrival TITLE makes an album of what arrives."
            )
        return FlatDestination(name, account, embed=embed)
    raise WrongUse(f"Nothing can be sent to {name}.", f"See what it can do: bramblemoor service powers {name}.")
