"""Where a collection comes from: the library, a service that shows folders, or one that lists its frames."""

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import get_args

import msgspec

from bramblemoor.disk.told import Inside
from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import Claim, Facts, believe
from bramblemoor.frames.fields import TOLD
from bramblemoor.frames.kinds import PICTURES, RAWS, SIDECAR, ending_of, family_by_name, is_sidecar
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import ByteSource, FileSource
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import has_edits, read_xmp
from bramblemoor.library.catalogue import claims_of
from bramblemoor.library.folding import suggestion
from bramblemoor.library.home import Library
from bramblemoor.library.selection import Selected, Selection
from bramblemoor.running import PIECE, portions
from bramblemoor.services.interface import Account, Entry, Listing, PartStream, Tree
from bramblemoor.services.moving import NOTHING_TOLD, Kind, Role, Shown, ShownAlbum, ShownFile, Told
from bramblemoor.services.tree_survey import once
from bramblemoor.wire.http import Answered, ConnectionBroke

_READERS = 8
_AT_ONCE = 256
_BLOCK = 64 << 10
_MOST_SIDECAR = 16 << 20
_PICTURES = "pictures/"


@dataclass(frozen=True)
class Offered:
    """A frame as its source shows it; `inside` is what its original says itself, where that was read."""

    frame: Shown
    inside: Told = NOTHING_TOLD


class Gone(Exception):
    """A file is not at the source any more, or is another one by now."""


class Source(ABC):
    """A collection to be carried. `name` is the service's, or library; `has_tree` says whether its files lie in folders."""

    name: str
    has_tree = True

    @abstractmethod
    def frames(self, *, read: bool) -> Iterator[Offered]:
        """All of it. With `read`, what lies inside of files and sidecars is read and told, too."""

    @abstractmethod
    def albums(self) -> Iterator[ShownAlbum]: ...

    def path_of(self, frame: Shown, file: ShownFile) -> str:
        """Where a file lies in the source's tree, as a path; of a source without one its name alone."""
        return f"{frame.folder}/{file.name}" if frame.folder else file.name

    @abstractmethod
    def content(self, file: ShownFile) -> AbstractContextManager[Iterator[bytes]]:
        """The pieces of a file. Reading raises Gone where it is not what was shown, ConnectionBroke where it ends early."""


def told_of(facts: Facts) -> Told:
    """What is believed of a frame, as it is told to others."""
    told = {field.name: field.of(facts) for field in TOLD}
    return Told(**told | {"taken": str(facts.taken) if facts.taken else ""})


class LibrarySource(Source):
    """Frames of the library, as the ledger knows them."""

    name = "library"

    def __init__(self, library: Library, selected: Selected) -> None:
        self._library, self._selected = library, selected

    def frames(self, *, read: bool) -> Iterator[Offered]:
        for frame in self._selected.frames():
            shown = self._shown(frame)
            yield Offered(shown, self._inside(shown) if read else Told())

    def _shown(self, frame: int) -> Shown:
        db = self._library.db
        row = db.execute("SELECT folder, kind FROM frames WHERE id = ?", (frame,)).fetchone()
        facts = believe(claims_of(db, frame))
        files = db.execute(
            "SELECT role, path, bytes, sha256, media FROM files WHERE frame = ?"
            " ORDER BY role != 'original', role = 'sidecar', id",
            (frame,),
        ).fetchall()
        return Shown(
            id=str(frame),
            kind="raw" if files[0]["media"] in RAWS else _kind(row["kind"]),
            files=tuple(
                ShownFile(_role(one["role"]), one["path"].rpartition("/")[2], one["bytes"], one["path"], one["sha256"])
                for one in files
            ),
            told=told_of(facts),
            folder=row["folder"].removeprefix(_PICTURES.rstrip("/")).strip("/"),
            reduced=facts.reduced,
            edits=any(one["role"] == "sidecar" and _edited(self._library.root / one["path"]) for one in files),
        )

    def _inside(self, shown: Shown) -> Told:
        try:
            with FileSource(self._library.root / shown.files[0].at) as source:
                return told_of(believe(read_picture(source).claims))
        except OSError:
            return Told()

    def albums(self) -> Iterator[ShownAlbum]:
        """Albums with at least one of the frames; the others of an album are passed over."""
        db = self._library.db
        for row in db.execute("SELECT id, title, description FROM albums ORDER BY id").fetchall():
            frames = db.execute(
                "SELECT frame FROM album_frames WHERE album = ? AND frame IN (SELECT frame FROM temp.selected) ORDER BY position",
                (row["id"],),
            )
            found = tuple(str(one[0]) for one in frames)
            if found:
                yield ShownAlbum(str(row["id"]), row["title"], found, row["description"])

    def path_of(self, frame: Shown, file: ShownFile) -> str:
        return file.at.removeprefix(_PICTURES)

    @contextmanager
    def content(self, file: ShownFile) -> Iterator[Iterator[bytes]]:
        try:
            with (self._library.root / file.at).open("rb", buffering=0) as opened:
                yield iter(lambda: opened.read(PIECE), b"")
        except FileNotFoundError as error:
            raise Gone(f"{file.at} is not in the library any more") from error


_KINDS: dict[str, Kind] = {"photo": "photo", "raw": "raw", "video": "video", "film": "video"}


def _role(role: str) -> Role:
    return role if role in get_args(Role) else "rendition"  # type: ignore[return-value]


def _kind(kind: str) -> Kind:
    return _KINDS.get(kind, "other")


def _edited(path: Path) -> bool:
    try:
        return has_edits(path.read_bytes())
    except (OSError, BrokenXmp):
        return False


class TreeSource(Source):
    """Files of a service that shows folders: a picture with its sidecars is a frame, any other file one by itself."""

    def __init__(self, name: str, tree: Tree, below: str, lists: str) -> None:
        self.name, self._tree, self._below, self._lists = name, tree, below, lists

    def frames(self, *, read: bool) -> Iterator[Offered]:
        entries = sorted(once(self._tree.entries(self._below), self._lists)[0], key=lambda one: one.path)
        shown = (self._shown(group) for group in _grouped(entries))
        if not read:
            yield from (Offered(one) for one in shown)
            return
        with ThreadPoolExecutor(_READERS) as pool:
            for some in portions(shown, _AT_ONCE):
                yield from pool.map(self._read, some)

    def _shown(self, group: list[Entry]) -> Shown:
        first = group[0]
        folder, _, _ = _within(first.path, self._below).rpartition("/")
        return Shown(
            id=first.path,
            kind=_kind(family_by_name(first.path)),
            files=tuple(
                ShownFile(
                    "original" if one is first else "sidecar",
                    one.path.rpartition("/")[2],
                    one.bytes,
                    one.path,
                    one.sha256,
                    one.etag,
                    one.modified,
                )
                for one in group
            ),
            folder=folder,
        )

    def _read(self, shown: Shown) -> Offered:
        """What a picture and its sidecars say. What cannot be read says nothing: it is carried all the same."""
        if shown.kind == "other":
            return Offered(shown)
        inside: list[Claim] = list(read_picture(_Remote(self._tree, shown.files[0])).claims)
        beside: list[Claim] = []
        edits = False
        for file in shown.files[1:]:
            try:
                with self.content(file) as pieces:
                    packet = b"".join(pieces)
                beside += read_xmp(packet)
                edits = edits or has_edits(packet)
            except (BrokenXmp, Gone, ConnectionBroke):
                continue
        told = told_of(believe([*beside, *inside]))
        return Offered(msgspec.structs.replace(shown, told=told, edits=edits), told_of(believe(inside)))

    def albums(self) -> Iterator[ShownAlbum]:
        return iter(())

    def content(self, file: ShownFile) -> AbstractContextManager[Iterator[bytes]]:
        return _whole(file, lambda: self._tree.open(Inside(file.at), 0, file.etag))


class ListSource(Source):
    """Frames of a service that lists them."""

    has_tree = False

    def __init__(self, name: str, account: Listing) -> None:
        self.name, self._account = name, account

    def frames(self, *, read: bool) -> Iterator[Offered]:
        return (Offered(frame) for frame in self._account.frames())

    def albums(self) -> Iterator[ShownAlbum]:
        return self._account.albums()

    def content(self, file: ShownFile) -> AbstractContextManager[Iterator[bytes]]:
        return _whole(file, lambda: self._account.open_file(file, 0, file.etag))


@contextmanager
def _whole(file: ShownFile, begin: Callable[[], AbstractContextManager[PartStream]]) -> Iterator[Iterator[bytes]]:
    """A file from its beginning, and no other than was shown: by its ETag where both tell one, and by its size."""
    try:
        with begin() as stream:
            if file.etag and stream.etag and stream.etag != file.etag:
                raise Gone(f"{file.name} has changed since it was listed")
            yield _sized(file, stream)
    except Answered as error:
        if error.status in (404, 410, 412):
            raise Gone(f"{file.name} is not there any more") from error
        raise


def _sized(file: ShownFile, stream: PartStream) -> Iterator[bytes]:
    kind, _, told = stream.told.partition(":")
    came, digest = 0, hashlib.new(kind or "sha256", usedforsecurity=False)
    for piece in stream.pieces:
        came += len(piece)
        if came > file.bytes:
            break
        digest.update(piece)
        yield piece
    if came != file.bytes:
        raise Gone(f"{file.name} does not have the size that was listed")
    if told and told != digest.hexdigest():
        raise ConnectionBroke  # something else came than was sent


def _grouped(entries: Iterable[Entry]) -> Iterator[list[Entry]]:
    """Pictures with their sidecars (A.jpg.xmp; A.xmp goes to the raw of that name, else to the first), and other files alone."""
    folders: dict[str, list[Entry]] = {}
    for one in entries:
        folders.setdefault(one.path.rpartition("/")[0], []).append(one)
    for inside in folders.values():
        names = {one.path.casefold(): one for one in inside if family_by_name(one.path) in PICTURES}
        groups = {one.path: [one] for one in inside if not is_sidecar(one.path)}
        for one in inside:
            if not is_sidecar(one.path):
                continue
            stem = one.path[: -len(SIDECAR)].casefold()
            of = names.get(stem) or _of_stem(stem, names)
            if of is None:
                groups[one.path] = [one]
            else:
                groups[of.path].append(one)
        yield from groups.values()


def _of_stem(stem: str, names: dict[str, Entry]) -> Entry | None:
    found = [one for name, one in names.items() if name[: -len(ending_of(name))] == stem]
    return next((one for one in found if family_by_name(one.path) == "raw"), found[0] if found else None)


def _within(path: str, below: str) -> str:
    return path[len(below) + 1 :] if below else path


class _Remote(ByteSource):
    """A file at a service, read here and there in blocks, a few of which are held."""

    def __init__(self, tree: Tree, file: ShownFile) -> None:
        self._tree, self._file = tree, file
        self._blocks: dict[int, bytes] = {}

    @property
    def size(self) -> int:
        return self._file.bytes

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset >= self.size:
            return b""
        end = min(offset + length, self.size)
        found = bytearray()
        for number in range(offset // _BLOCK, (end - 1) // _BLOCK + 1):
            if number not in self._blocks:
                if len(self._blocks) > 32:
                    self._blocks.clear()
                self._blocks[number] = self._tree.peek(Inside(self._file.at), number * _BLOCK, _BLOCK)
            found += self._blocks[number]
        start = offset - offset // _BLOCK * _BLOCK
        return bytes(found[start : start + end - offset])


class _Chosen(Source):
    """Of a source only the frames of some kinds, and in some albums."""

    def __init__(self, source: Source, kinds: Collection[str], titles: Collection[str]) -> None:
        self.name, self.has_tree = source.name, source.has_tree
        self._source, self._kinds, self._titles = source, kinds, titles
        self._known = list(source.albums())
        known = {album.title for album in self._known}
        for title in titles:
            if title not in known:
                raise WrongUse(f"{source.name} has no album {title!r}.", suggestion(title, known))
        self._within = {ref for album in self._known if album.title in titles for ref in album.frames}

    def frames(self, *, read: bool) -> Iterator[Offered]:
        for one in self._source.frames(read=read):
            kind = "photo" if one.frame.kind == "raw" else one.frame.kind
            if (not self._kinds or kind in self._kinds) and (not self._titles or one.frame.id in self._within):
                yield one

    def albums(self) -> Iterator[ShownAlbum]:
        return (album for album in self._known if not self._titles or album.title in self._titles)

    def path_of(self, frame: Shown, file: ShownFile) -> str:
        return self._source.path_of(frame, file)

    def content(self, file: ShownFile) -> AbstractContextManager[Iterator[bytes]]:
        return self._source.content(file)


def chosen(source: Source, selection: Selection) -> Source:
    """Of a service what a selection means. Raises WrongUse for conditions that only the library knows to judge."""
    if selection.everything:
        return source
    if not msgspec.structs.replace(selection, kinds=[], albums=[]).everything:
        raise WrongUse(
            f"Of what {source.name} has, only --kind and --album can be asked for.",
            "Bring it home first to choose by anything else, then migrate from the library.",
        )
    return _Chosen(source, selection.kinds, selection.albums)


def source_of(name: str, account: Account, below: str, lists: str) -> Source:
    """The source that an account is. Raises WrongUse for one whose frames come in exports only."""
    if isinstance(account, Tree):
        return TreeSource(name, account, below, lists)
    if isinstance(account, Listing):
        if below:
            raise WrongUse(f"{name} shows no folders.", "Leave --folder out.")
        return ListSource(name, account)
    raise WrongUse(
        f"{name} gives its frames only in exports.",
        f"Bring it home first (bramblemoor order {name}, collect, unpack), then: bramblemoor migrate library OTHER"
        f" --service {name}.",
    )
