"""A bucket of an object store: keys with slashes are a tree to read from, and to put files into."""

import hashlib
import threading
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property, partial
from typing import Any

from bramblemoor.disk.told import Inside, Outside, inside
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
from bramblemoor.services.moving import Arrived, Fidelity, Outgoing, Powers
from bramblemoor.services.tree_survey import digest_there, survey_of
from bramblemoor.wire.http import Answered
from bramblemoor.wire.objects import PART, Bucket, CameWrong, parted

_KEY_BYTES = 1024
_TRIES = 3
_THERE = 412
_ABOUT_ONE = (400, 405, 409, 413, 422)
"""Answers about one object; 403 is about the key."""


class BucketTree(Account, Tree, TreeUploads):
    """A bucket opened with a key (`user`) and its secret."""

    def __init__(
        self, name: str, url: str, secret: str, *, user: str = "", region: str = "", lists: str = "", **more: Any
    ) -> None:
        self.name, self._lists = name, lists
        self._bucket = Bucket(name, url, user, secret, region=region, **more)
        self.odd: list[str] = []
        self.mark = ""
        self._trying = threading.Lock()
        self._keeps_from_overwriting: bool | None = None

    @classmethod
    def checked_address(cls, url: str) -> str:
        parted(url)
        return url.rstrip("/")

    def survey(self) -> Survey:
        return survey_of(self.name, self.entries(), self._lists, None)

    def powers(self) -> Powers:
        return Powers([
            ("read its tree", True, "keys with slashes are folders"),
            ("resume a fetch that broke off", True, ""),
            ("make folders", True, "a key needs none"),
            ("move files", False, "an object is put whole where it belongs"),
            ("refuse to overwrite", False, "it is tried; where it does not refuse, each name is looked up first"),
            ("tell digests", True, "of what is put whole, where it refuses wrong ones; else what arrived is read back"),
            ("keep file times", False, "times are told in sidecars and lists"),
            ("say how much room is left", False, ""),
        ])  # fmt: skip

    def entries(self, below: str = "") -> Iterator[Entry]:
        for one in self._bucket.listed(f"{below}/" if below else ""):
            if one.key.endswith("/"):
                continue  # what some programs put to show an empty folder
            try:
                yield Entry(inside(one.key), False, one.bytes, one.etag, "", one.modified)
            except Outside:
                self.odd.append(one.key)

    @contextmanager
    def open(self, path: Inside, start: int, etag: str) -> Iterator[PartStream]:
        with self._bucket.opened(path, start, etag) as opened:
            yield PartStream(opened.start, opened.etag, opened.pieces, opened.told)

    def peek(self, path: Inside, start: int, length: int) -> bytes:
        return self._bucket.peek(path, start, length)

    def fidelity(self) -> Fidelity:
        return Fidelity(tree=True, sidecars=True)

    def room(self) -> int | None:
        return None

    def put(
        self, path: Inside, outgoing: Outgoing, content: Content, begin: Callable[[str], None], *, mine: bool
    ) -> Arrived:
        """Put it where it belongs, as an object appears whole or not at all.

        A store that was found to refuse what does not match its digest is not asked for it at once: it lists the digest
        afterwards.
        """
        if len(path.encode()) > _KEY_BYTES:
            raise NotTaken(f"its key has more than {_KEY_BYTES} bytes")
        try:
            # What is put in pieces is completed without a look at what is there, whatever it is asked for.
            is_refused = self._keeps_from_overwriting and outgoing.bytes <= PART
            if not mine and not is_refused and self._bucket.at(path) is not None:
                raise NameTaken(path)
            begin(path)
            for _ in range(_TRIES):
                try:
                    sent, etag = self._put_once(path, outgoing, content, anew=not mine)
                except CameWrong:
                    continue
                if etag:
                    return Arrived(path, outgoing.bytes, sent, path, etag=etag)
                if self._reads(path, sent, outgoing.bytes):
                    return Arrived(path, outgoing.bytes, sent, path, read_back=True)
                self._bucket.remove(path)
        except Answered as error:
            if error.status == _THERE:
                raise NameTaken(path) from error
            if error.status not in _ABOUT_ONE:
                raise
            raise NotTaken(error.happened) from error
        raise NotTaken("what arrived was not what was sent, three times")

    @cached_property
    def _refuses_wrong(self) -> bool:
        """Whether the store refuses an object that is not what its digest says: it is tried, with one that then is not there."""
        with self._trying:
            return self._bucket.refuses_wrong(f"bramblemoor-try-{uuid.uuid4().hex[:8]}")

    def _try_overwriting(self, path: Inside, content: bytes) -> None:
        """Find out, at an object that was just put, whether the store refuses to overwrite where it is asked to."""
        with self._trying:
            if self._keeps_from_overwriting is None:
                self._keeps_from_overwriting = self._bucket.keeps_from_overwriting(path, content)

    def _put_once(self, path: Inside, outgoing: Outgoing, content: Content, *, anew: bool) -> tuple[str, str]:
        """Put the object; returns the digest of what was sent, and the ETag that it must be listed with, "" where none proves
        it.
        """
        digest = hashlib.sha256()
        if outgoing.bytes <= PART:
            with content() as pieces:
                whole = b"".join(pieces)
            digest.update(whole)
            outgoing.require(digest.hexdigest())
            etag = self._bucket.put(path, whole, digest.hexdigest(), anew=anew)
            if self._keeps_from_overwriting is None:
                self._try_overwriting(path, whole)
            return digest.hexdigest(), etag if self._refuses_wrong else ""

        def parts() -> Iterator[bytes]:
            with content() as pieces:
                held = bytearray()
                for piece in pieces:
                    digest.update(piece)
                    held += piece
                    while len(held) >= PART:
                        yield bytes(held[:PART])
                        del held[:PART]
                outgoing.require(digest.hexdigest())
                if held:
                    yield bytes(held)

        self._bucket.put_in_pieces(path, parts())
        return digest.hexdigest(), ""

    def _reads(self, path: Inside, sha256: str, size: int) -> bool:
        return digest_there(partial(self.open, path, 0, ""), size) == sha256
