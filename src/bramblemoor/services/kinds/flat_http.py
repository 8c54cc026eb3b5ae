"""A flat service that also lists its frames and takes new ones (docs/service-protocol.md, "Frames" and "Sending")."""

import base64
import hashlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from urllib.parse import quote

import msgspec

from bramblemoor.disk.told import Outside, one_name
from bramblemoor.errors import ServiceTrouble
from bramblemoor.services.interface import Content, FrameUploads, Listing, NotTaken, PartStream, leads_out
from bramblemoor.services.kinds.parcel_http import ParcelHttp
from bramblemoor.services.moving import Fidelity, Outgoing, Powers, Shown, ShownAlbum, ShownFile, Told
from bramblemoor.wire.http import Answered, Refused, first_byte, told_digest

_PIECE = 4 << 20
"""Bytes that are sent at once, and held meanwhile."""
_TRIES = 3
_ABOUT_ONE = (400, 404, 409, 413, 415, 422)
_FULL = 507
_ANEW = 409


class _Powers(msgspec.Struct, frozen=True):
    list: bool = False
    uploads: bool = False
    keeps: Fidelity = Fidelity()
    room: int | None = None


class _Page(msgspec.Struct, frozen=True):
    frames: list[Shown]
    next: str = ""


class _Albums(msgspec.Struct, frozen=True):
    albums: list[ShownAlbum]


class _Upload(msgspec.Struct, frozen=True):
    id: str
    href: str
    have: int


class AccountIsFull(ServiceTrouble):
    """Nothing more fits into it."""


class FlatHttp(ParcelHttp, Listing, FrameUploads):
    """An account whose frames are listed one by one, and that takes new ones."""

    def _told(self) -> _Powers:
        return self._http.ask("GET", "v1/powers", _Powers)

    def powers(self) -> Powers:
        told = self._told()
        keeps = told.keeps
        return Powers([
            ("make exports", True, "ordered, collected in parts, unpacked"),
            ("list its frames", told.list, "with what it knows of each, and a digest of every file"),
            ("take frames", told.uploads, "an upload that breaks off is gone on with"),
            ("tell digests", True, "what arrived is proven by them"),
            ("keep a tree", keeps.tree, "" if keeps.tree else "folders become albums where that is asked for"),
            ("delete frames", False, "nothing is deleted there from here"),
            ("say how much room is left", told.room is not None, ""),
        ])  # fmt: skip

    def fidelity(self) -> Fidelity:
        return self._told().keeps

    def room(self) -> int | None:
        return self._told().room

    def frames(self) -> Iterator[Shown]:
        after = ""
        while True:
            page = self._http.ask("GET", f"v1/frames?after={quote(after, safe='')}", _Page)
            for frame in page.frames:
                yield _checked(frame)
            if not page.next or page.next == after:
                return
            after = page.next

    def sent(self, key: str) -> Shown | None:
        found = self._http.ask("GET", f"v1/frames?key={quote(key, safe='')}", _Page).frames
        return _checked(found[0]) if found and found[0].key == key else None

    def albums(self) -> Iterator[ShownAlbum]:
        return iter(self._http.ask("GET", "v1/albums", _Albums).albums)

    @contextmanager
    def open_file(self, file: ShownFile, start: int, etag: str) -> Iterator[PartStream]:
        headers = {"Range": f"bytes={start}-", "If-Range": etag} if start and etag else {}
        response = self._http.open(file.at, headers, file.name)
        try:
            first = first_byte(response, file.name, file.bytes)
            told = told_digest(response.headers)
            yield PartStream(first, response.headers.get("etag", ""), self._http.pieces(response), told)
        finally:
            response.close()

    def send(self, key: str, frame: Shown, files: Sequence[tuple[Outgoing, Content]], told: Told) -> Shown:
        try:
            for _ in range(_TRIES):
                sent = [self._send_file(key, frame.kind, outgoing, content) for outgoing, content in files]
                asked = {"key": key, "kind": frame.kind, "files": sent, "told": msgspec.to_builtins(told)}
                try:
                    return _checked(self._http.ask("POST", "v1/frames", Shown, asked))
                except Answered as error:
                    if error.status != _ANEW:
                        raise
            raise NotTaken("what arrives there is not what is sent, three times")
        except Refused as error:
            raise NotTaken(error.detail) from error
        except Answered as error:
            if error.status == _FULL:
                raise AccountIsFull(
                    f"{self._http.name} is full: it takes no more.", "Make room there, and run the same command again."
                ) from error
            if error.status in _ABOUT_ONE:
                raise NotTaken(error.happened.rstrip(".")) from error
            raise

    def _send_file(self, key: str, kind: str, outgoing: Outgoing, content: Content) -> dict[str, str]:
        """Send a file, going on where an earlier try broke off; returns the number of its upload, and the digest of the whole."""
        asked = {"key": key, "kind": kind, "role": outgoing.role, "name": outgoing.name, "bytes": outgoing.bytes}
        upload, digest = self._http.ask("POST", "v1/uploads", _Upload, asked), hashlib.sha256()
        at, passed = upload.have, 0
        with content() as pieces:
            for piece in _held(pieces, digest.update):
                passed += len(piece)
                lacking = min(len(piece), passed - at)
                if lacking > 0 or not outgoing.bytes:
                    at = self._put_piece(upload, piece[len(piece) - lacking :], at, outgoing.bytes)
        outgoing.require(digest.hexdigest())
        return {"upload": upload.id, "sha256": digest.hexdigest()}

    def _put_piece(self, upload: _Upload, piece: bytes, at: int, whole: int) -> int:
        """Send a piece; where its answer was lost, and not the piece, it is not sent twice. Returns how much is there then."""
        digest = base64.b64encode(hashlib.sha256(piece).digest()).decode()
        headers = {"Content-Digest": f"sha-256=:{digest}:", "Content-Type": "application/octet-stream"}
        if whole:
            headers["Content-Range"] = f"bytes {at}-{at + len(piece) - 1}/{whole}"
        try:
            self._http.exchange("PUT", upload.href, headers=headers, body=piece)
        except Answered as error:
            if error.status != _ANEW or self._http.ask("GET", upload.href, _Upload).have != at + len(piece):
                raise
        return at + len(piece)

    def make_album(self, key: str, album: ShownAlbum) -> ShownAlbum:
        asked = {"key": key, "title": album.title, "description": album.description}
        return self._http.ask("POST", "v1/albums", ShownAlbum, asked)

    def put_in_album(self, album: str, frames: Sequence[str]) -> None:
        self._http.ask("POST", f"v1/albums/{quote(album, safe='')}/frames", ShownAlbum, {"frames": list(frames)})


def _held(pieces: Iterator[bytes], look: Callable[[bytes], None]) -> Iterator[bytes]:
    """The content in pieces as they are sent, one at least; `look` sees all of it."""
    held, is_any = bytearray(), False
    for piece in pieces:
        look(piece)
        held += piece
        while len(held) >= _PIECE:
            yield bytes(held[:_PIECE])
            del held[:_PIECE]
            is_any = True
    if held or not is_any:
        yield bytes(held)


def _checked(frame: Shown) -> Shown:
    """A frame as it is shown. Raises ServiceTrouble where a file has no plain name, or no file comes first: they become names
    here.
    """
    try:
        for file in frame.files:
            one_name(file.name)
    except Outside as error:
        raise leads_out(error) from error
    if not frame.files or frame.files[0].role != "original":
        raise ServiceTrouble(
            f"The service shows {frame.id} without an original.",
            "Ask the service; what else it shows cannot be relied on.",
        )
    return frame
