"""A folder service over WebDAV: a tree to read from, and to put files into."""

import hashlib
import threading
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property, partial
from typing import Any

from bramblemoor.disk.told import Inside
from bramblemoor.errors import ServiceTrouble
from bramblemoor.services.interface import (
    Account,
    Content,
    Entry,
    NameTaken,
    NotTaken,
    PartStream,
    Survey,
    Tree,
    TreeUploads,
)
from bramblemoor.services.moving import Arrived, Changed, Fidelity, Outgoing, Powers
from bramblemoor.services.tree_survey import NAME_BYTES, digest_there, is_unfinished, survey_of, unfinished
from bramblemoor.wire.http import Answered, Http, check_address, first_byte, told_digest
from bramblemoor.wire.signing import Login
from bramblemoor.wire.webdav import Honours, Lying, WebDav

_TRIES = 3
_RESUMES = {True: "", False: "a file that breaks off is fetched anew", None: "it is seen once a file is fetched"}
_WHOLE = 243  # bytes of a name that can be put beside its place first
_FULL = 507  # RFC 4918, 11.5
_THERE = 412


class WebDavFolders(Account, Tree, TreeUploads):
    """A signed-in account that shows folders.

    `user` and a password open it; `lists` is a folder that only lists what lies elsewhere; `uploads` is where it takes new
    files, "" for anywhere. `mark` is in the names of files while they are sent: whoever goes on with what was begun sets the
    same.
    """

    def __init__(
        self, name: str, url: str, secret: str, *, user: str = "", lists: str = "", uploads: str = "", **more: Any
    ) -> None:
        self.name = name
        self._lists, self._uploads = lists, uploads
        self._http = Http(name, url, Login(user, secret) if user else secret, **more)
        self.odd: list[str] = []
        self._dav = WebDav(self._http, self.odd.append)
        self.mark = uuid.uuid4().hex[:8]
        self._folders: set[str] = {""}
        self._making = threading.Lock()

    @classmethod
    def checked_address(cls, url: str) -> str:
        return check_address(url)

    def survey(self) -> Survey:
        return survey_of(self.name, self.entries(), self._lists, self.room())

    @cached_property
    def _honours(self) -> Honours:
        return self._dav.tried(self._uploads)

    def powers(self) -> Powers:
        found, quota = self._honours, self._dav.quota()
        where = f"in {self._uploads}" if self._uploads else "anywhere"
        longest, refused = self._dav.names_tried(self._uploads) if found.makes_folders else (-1, "")
        return Powers([
            ("read its tree", True, "folder by folder"),
            ("resume a fetch that broke off", found.resumes is not False, _RESUMES[found.resumes]),
            ("make folders", found.makes_folders, where if found.makes_folders else "only what lies there already can be filled"),
            ("move files", found.moves, "" if found.moves else "a file is put where it belongs, and read back there"),
            ("refuse to overwrite", found.keeps_from_overwriting,
             "" if found.keeps_from_overwriting else "each name is looked up before anything is put there"),
            ("take any name", longest >= _WHOLE and not refused, _names(longest, refused)),
            ("tell digests", False, "what arrived is proven by reading it back"),
            ("keep file times", False, "times are told in sidecars and lists"),
            ("say how much room is left", quota.free is not None, ""),
        ])  # fmt: skip

    def entries(self, below: str = "") -> Iterator[Entry]:
        return (_entry(one) for one in self._dav.walked(below) if not is_unfinished(one.path))

    @contextmanager
    def open(self, path: Inside, start: int, etag: str) -> Iterator[PartStream]:
        response = self._dav.opened(path, start, etag)
        try:
            first, told = first_byte(response, path, None), response.headers.get("etag", "")
            yield PartStream(first, told, self._http.pieces(response), told_digest(response.headers))
        finally:
            response.close()

    def peek(self, path: Inside, start: int, length: int) -> bytes:
        return self._http.peek(self._dav.where(path), start, length, path)

    def fidelity(self) -> Fidelity:
        return Fidelity(tree=True, sidecars=True, name_bytes=NAME_BYTES)

    def room(self) -> int | None:
        return self._dav.quota().free

    def put(
        self, path: Inside, outgoing: Outgoing, content: Content, begin: Callable[[str], None], *, mine: bool
    ) -> Arrived:
        """Put it beside its place, read it back, and move it there; where the server moves nothing, put it there at once."""
        moves = self._honours.moves and not set(self._honours.garbled) & set(path)
        if not (moves and self._honours.keeps_from_overwriting) and not mine and self._dav.at(path) is not None:
            raise NameTaken(path)
        self._make(path.rpartition("/")[0])
        if not moves:
            begin(path)
        beside = unfinished(path, self.mark) if moves else path
        for _ in range(_TRIES):
            try:
                arrived = self._put_once(beside, outgoing, content)
            except (NotTaken, Changed):
                self._clear(beside)
                raise
            if arrived is not None:
                break
            stays = not self._clear(beside) and not moves
        else:
            raise NotTaken(
                "what arrived was not what was sent, three times"
                + (f"; what lies there as {path} is not it, and the service lets nothing be removed" if stays else "")
            )
        if moves:
            if mine:
                self._clear(path)  # an earlier try of ours, which is amiss
            self._move(beside, path, outgoing)
        return Arrived(path, arrived.bytes, arrived.sha256, path, read_back=True)

    def _put_once(self, beside: str, outgoing: Outgoing, content: Content) -> Arrived | None:
        """Put it and read it back; None where something else came back."""
        sent = hashlib.sha256()

        def body() -> Iterator[bytes]:
            nonlocal sent
            sent = hashlib.sha256()
            with content() as pieces:
                for piece in pieces:
                    sent.update(piece)
                    yield piece

        status = self._dav.put(beside, body, outgoing.bytes)
        if status in (500, 502):
            return None  # some answer so where they are only busy
        if status not in (200, 201, 204):
            why = "it is full" if status in (_FULL, 413) else f"it answers {status}"
            raise NotTaken(why)
        outgoing.require(sent.hexdigest())
        if digest_there(partial(self.open, Inside(beside), 0, ""), outgoing.bytes) != sent.hexdigest():
            return None
        return Arrived(beside, outgoing.bytes, sent.hexdigest())

    def _move(self, beside: str, path: Inside, outgoing: Outgoing) -> None:
        status = self._dav.move(beside, path)
        if status in (200, 201, 204):
            return
        there = self._dav.at(path)
        if status == _THERE or there is not None:
            if there is not None and there.bytes == outgoing.bytes and self._dav.at(beside) is None:
                return  # the answer to an earlier try was lost, and not the move
            self._clear(beside)
            raise NameTaken(path)
        self._clear(beside)
        raise NotTaken(f"it does not let it be moved to its name (it answers {status})")

    def _clear(self, path: str) -> bool:
        """Remove what came wrong; says whether the service lets it. Under a name of ours it is replaced at the next try."""
        try:
            self._dav.remove(path)
        except ServiceTrouble:
            return False
        return True

    def _make(self, folder: str) -> None:
        with self._making:
            if folder in self._folders:
                return
            try:
                self._dav.make_folder(folder)
            except Answered as error:
                if error.status == 401:
                    raise
                raise NotTaken(f"it makes no folder {folder} (it answers {error.status})") from error
            while folder and folder not in self._folders:
                self._folders.add(folder)
                folder = folder.rpartition("/")[0]


def _names(longest: int, refused: str) -> str:
    if longest < 0:
        return "it is seen once files are sent"
    return f"up to {longest} bytes" + (f", without any of {' '.join(refused)}" if refused else "")


def _entry(lying: Lying) -> Entry:
    return Entry(lying.path, lying.is_folder, lying.bytes, lying.etag, "", lying.modified, lying.same)
