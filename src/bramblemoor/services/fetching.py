"""Fetching one file to a place on disk: hashed on the way, resumed where it broke off."""

import hashlib
import os
import time
from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

from bramblemoor.disk.durable import chunks
from bramblemoor.errors import ServiceTrouble
from bramblemoor.services.interface import PartStream
from bramblemoor.wire.http import ConnectionBroke

_MOST_STALLS = 5
OpenAt = Callable[[int, str], AbstractContextManager[PartStream]]
"""What begins to send a file from a byte on, given the ETag of what came before."""


class Transfer:
    """The transfer of one file to its partial file. `etag` is what an earlier run was told of it, and `remember` keeps another
    one.

    Afterwards `have` and `digest` say what came, `fetched` how much of it in this run, `resumed` the byte at which it was last
    taken up again; `too_much` that more came than was said, and `contradicted` that the service itself told another digest.
    """

    def __init__(
        self,
        what: str,
        size: int,
        partial: Path,
        add: Callable[[int], None],
        etag: str,
        remember: Callable[[str], None] = lambda etag: None,
        *,
        flush: bool = True,
    ) -> None:
        self._flush = flush
        self._what, self._size, self._partial = what, size, partial
        self._add, self.etag, self._remember = add, etag, remember
        self.digest = hashlib.sha256()
        self._other: Any = None
        self.have = self.fetched = self.resumed = 0
        self.too_much = self.contradicted = False
        if partial.is_file():
            for piece in chunks(partial):
                self._count(piece)
            self.resumed = self.have

    @property
    def is_whole(self) -> bool:
        return not self.too_much and not self.contradicted and self.have == self._size

    def run(self, open_at: OpenAt) -> None:
        """Raises ServiceTrouble where the connection breaks again and again without a byte."""
        stalled = 0
        while self.have < self._size or not self._partial.exists():
            before = self.have
            if self._continue(open_at):
                return
            self.resumed = self.have
            stalled = 0 if self.have > before else stalled + 1
            if stalled == _MOST_STALLS:
                raise ServiceTrouble(
                    f"The connection broke {stalled} times over {self._what} without a byte.",
                    "Check the network, then run the same command again: it goes on where it stopped.",
                )
            time.sleep(0.1 * 2**stalled if stalled else 0)

    def _continue(self, open_at: OpenAt) -> bool:
        """Fetch on from where it stands; says whether the service sent all that it had, or more than it announced."""
        with open_at(self.have, self.etag) as stream, self._partial.open("ab") as file:
            if stream.start != self.have:  # the service starts again, perhaps with another file
                file.truncate(0)
                self._add(-self.have)
                self.have, self.resumed = 0, 0
                self.digest = hashlib.sha256()
            kind = stream.told.partition(":")[0]
            if not self.have:
                self._other = hashlib.new(kind, usedforsecurity=False) if kind not in ("", "sha256") else None
            if stream.etag != self.etag:
                self._remember(stream.etag)
                self.etag = stream.etag
            try:
                for piece in stream.pieces:
                    if self.have + len(piece) > self._size:
                        self.too_much = True
                        return True
                    file.write(piece)
                    self._count(piece)
                    self.fetched += len(piece)
            except ConnectionBroke:
                return False
            finally:
                file.flush()
                if self._flush:
                    os.fsync(file.fileno())
        self.contradicted = bool(kind) and self._told(kind) != stream.told
        return True

    def _told(self, kind: str) -> str:
        """The digest of what came, as a service tells one."""
        if kind == "sha256":
            return f"sha256:{self.digest.hexdigest()}"
        if self._other is not None and self._other.name == kind:
            return f"{kind}:{self._other.hexdigest()}"
        with self._partial.open("rb") as file:
            return f"{kind}:{hashlib.file_digest(file, kind).hexdigest()}"

    def _count(self, piece: bytes) -> None:
        self.digest.update(piece)
        if self._other is not None:
            self._other.update(piece)
        self.have += len(piece)
        self._add(len(piece))
