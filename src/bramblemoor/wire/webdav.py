"""WebDAV (RFC 4918) as the program speaks it: folders walked one at a time, files put whole beside their place and moved there.

Servers differ dangerously in what they honour. So nothing here rests on a precondition or an ETag: what was put is read back,
under a name of its own, before it is moved to where it belongs.
"""

import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from urllib.parse import quote, unquote, urlsplit

import httpx
import msgspec
from lxml import etree

from bramblemoor.disk.told import Inside, Outside, inside
from bramblemoor.errors import ServiceTrouble
from bramblemoor.wire.http import Answered, Http

_DAV = "{DAV:}"
_ASKED = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/><getetag/>'
    b"<getlastmodified/><resource-id/></prop></propfind>"
)
_ROOM = (
    b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><quota-available-bytes/><quota-used-bytes/></prop>'
    b"</propfind>"
)


class Lying(msgspec.Struct, frozen=True):
    """What lies at a path, as the server tells it.

    `etag` is "" where it tells none, or a weak one; `same` names the thing itself, however many paths lead to it (RFC 5842,
    3.1), "" where it does not say; `modified` is in seconds since 1970, 0 where unknown.
    """

    path: Inside
    is_folder: bool
    bytes: int = 0
    etag: str = ""
    modified: int = 0
    same: str = ""


@dataclass(frozen=True)
class Quota:
    """Bytes still free and used (RFC 4331), None where the server does not say."""

    free: int | None
    used: int | None


@dataclass(frozen=True)
class Honours:
    """What a server was found to do when it was tried; `resumes` is None where nothing could be tried.

    `garbled` are letters with which a file that is moved comes to lie under another name.
    """

    makes_folders: bool
    moves: bool
    keeps_from_overwriting: bool
    resumes: bool | None
    garbled: str = ""


class WebDav:
    """The files of one account. Paths are relative to its address, decoded; "" is the topmost folder."""

    def __init__(self, http: Http, odd: Callable[[str], None] = lambda name: None) -> None:
        """`odd` is told names that lead nowhere or out of the tree: those are passed over."""
        self.http = http
        self._odd = odd
        self._base = unquote(urlsplit(http.url).path).strip("/")

    def where(self, path: str, *, folder: bool = False) -> str:
        """The address of a path, absolute, as MOVE wants it (RFC 4918, 10.3)."""
        return self.http.url + quote(path, safe="/") + ("/" if folder and path else "")

    def listed(self, folder: str) -> list[Lying]:
        """What lies directly in a folder, by name. Raises Answered (404) where there is none."""
        return sorted(self._found(folder, "1", folder=True), key=lambda one: one.path)

    def walked(self, folder: str = "") -> Iterator[Lying]:
        """Everything below a folder, a folder's list at a time, in order of the names in each."""
        waiting = [folder]
        while waiting:
            within = self.listed(waiting.pop())
            yield from within
            waiting += [one.path for one in reversed(within) if one.is_folder]

    def at(self, path: str) -> Lying | None:
        """What lies at a path; None where nothing does."""
        try:
            return next((one for one in self._found(path, "0") if one.path == path), None)
        except Answered as error:
            if error.status in (404, 410):
                return None
            raise

    def _found(self, path: str, depth: str, *, folder: bool = False) -> Iterator[Lying]:
        headers = {"Depth": depth, "Content-Type": "application/xml; charset=utf-8"}
        reply = self.http.exchange(
            "PROPFIND", self.where(path, folder=folder), headers=headers, body=_ASKED, takes=(207,)
        )
        is_told = False
        for href, told in self._responses(reply.content):
            within = self._path(href)
            is_told |= within == path
            if within is None or (folder and within == path):
                continue
            try:
                yield _lying(inside(within), told)
            except Outside:
                self._odd(within)
        if not is_told:  # nothing of it could be taken for what was asked for, and a full folder would seem empty
            raise ServiceTrouble(
                f"{self.http.name} answers the listing of {path or 'its topmost folder'} with other addresses than that.",
                "Give the address under which the server itself knows its WebDAV folder: bramblemoor service add.",
            )

    def quota(self) -> Quota:
        try:
            reply = self.http.exchange(
                "PROPFIND",
                self.http.url,
                headers={"Depth": "0", "Content-Type": "application/xml"},
                body=_ROOM,
                takes=(207,),
            )
        except Answered as error:
            if error.status == 401:
                raise
            return Quota(None, None)
        for _, told in self._responses(reply.content):
            return Quota(_number(told.get("quota-available-bytes")), _number(told.get("quota-used-bytes")))
        return Quota(None, None)

    def _responses(self, content: bytes) -> Iterator[tuple[str, dict[str, str]]]:
        """Of each response its address, and the properties that were found (RFC 4918, 14.24): by name, as text."""
        try:
            root = etree.fromstring(
                content, etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
            )
        except (etree.XMLSyntaxError, ValueError) as error:
            raise ServiceTrouble(
                f"{self.http.name} answered a listing with something else than WebDAV.",
                "Check that the address is that of its WebDAV folder: bramblemoor service list.",
            ) from error
        for response in root.iterfind(f"{_DAV}response"):
            told: dict[str, str] = {}
            for found in response.iterfind(f"{_DAV}propstat"):
                if " 200" not in (found.findtext(f"{_DAV}status") or ""):
                    continue
                for one in found.iterfind(f"{_DAV}prop/*"):
                    name = etree.QName(one).localname
                    inner = next((etree.QName(child).localname for child in one if isinstance(child.tag, str)), "")
                    told[name] = inner if name == "resourcetype" else "".join(map(str, one.itertext())).strip()
            yield (response.findtext(f"{_DAV}href") or "").strip(), told

    def _path(self, href: str) -> str | None:
        """The path below the account's address; hrefs may be absolute or not, and encoded in any way (RFC 4918, 8.3)."""
        try:
            path = unquote(urlsplit(href).path, errors="surrogateescape").strip("/")
        except ValueError:
            return None
        if not self._base:
            return path
        if path == self._base:
            return ""
        return path[len(self._base) + 1 :] if path.startswith(self._base + "/") else None

    def opened(self, path: Inside, start: int, etag: str) -> httpx.Response:
        """Begin to fetch a file from a byte on (RFC 9110, 13.1.5); the caller closes it."""
        headers = {"Range": f"bytes={start}-", "If-Range": etag} if start and etag else {}
        return self.http.open(self.where(path), headers, path)

    def make_folder(self, path: str) -> None:
        """Make a folder, and those above it. Raises Answered where the server makes none."""
        above = path.rpartition("/")[0]
        for _ in range(2):
            reply = self.http.exchange("MKCOL", self.where(path, folder=True), takes=(201, 405, 409))
            if reply.status == 201 or ((found := self.at(path)) is not None and found.is_folder):
                return
            if reply.status != 409 or not above:
                break
            self.make_folder(above)
        raise Answered.with_status(
            reply.status,
            f"{self.http.name} does not make the folder {path} (it answers {reply.status}).",
            "Make it there by hand, or ask the service.",
        )

    def put(self, path: str, body: Callable[[], Iterator[bytes]], size: int) -> int:
        """Put a file at a path; returns the status, 201 or 204 where the server says that it has it."""
        return self.http.exchange(
            "PUT",
            self.where(path),
            headers={"Content-Length": str(size), "Content-Type": "application/octet-stream"},
            body=body,
            takes=(200, 201, 204, *_REFUSALS),
        ).status

    def move(self, old: str, new: str) -> int:
        """Move to a name that is free: `Overwrite: F` (RFC 4918, 10.6). Returns the status."""
        headers = {"Destination": self.where(new), "Overwrite": "F"}
        return self.http.exchange(
            "MOVE", self.where(old), headers=headers, takes=(200, 201, 204, 412, *_REFUSALS)
        ).status

    def remove(self, path: str) -> None:
        """Remove something of one's own; it may be gone."""
        self.http.exchange("DELETE", self.where(path), takes=(200, 202, 204, 404))

    def tried(self, folder: str) -> Honours:
        """Find out what the server honours, with a small folder of one's own that is removed again."""
        home = f"{folder}/bramblemoor-try-{uuid.uuid4().hex[:8]}".strip("/")
        try:
            self.make_folder(home)
        except Answered as error:
            if error.status == 401:
                raise
            return Honours(False, False, False, None)
        moves = keeps = resumes = False
        garbled = ""
        try:
            for name in ("one", "two"):
                self.put(f"{home}/{name}", lambda: iter((b"0123456789",)), 10)
            moves = self._moves(f"{home}/one", f"{home}/three")
            if moves:
                keeps = self.move(f"{home}/two", f"{home}/three") in (412, 409) and self.at(f"{home}/two") is not None
                now = f"{home}/three"
                for letter in _RISKY:
                    if self._moves(now, f"{home}/a{letter}b"):
                        now = f"{home}/a{letter}b"
                    else:
                        garbled += letter
                        self.put(now, lambda: iter((b"0123456789",)), 10)
            self.put(f"{home}/four", lambda: iter((b"0123456789",)), 10)
            resumes = self.http.peek(self.where(f"{home}/four"), 4, 2, "a try") == b"45"
        except Answered:
            moves = False
        finally:
            self.remove(home + "/")
        return Honours(True, moves, keeps, resumes, garbled)

    def names_tried(self, folder: str) -> tuple[int, str]:
        """How many bytes a name may have, of those that were tried, 0 for none of them; and the letters that it must not have."""
        home = f"{folder}/bramblemoor-try-{uuid.uuid4().hex[:8]}".strip("/")
        self.make_folder(home)
        try:
            longest = next((count for count in _LENGTHS if self._keeps(f"{home}/{'n' * (count - 4)}.jpg")), 0)
            return longest, "".join(letter for letter in _DOUBTED if not self._keeps(f"{home}/a{letter}b.jpg"))
        finally:
            self.remove(home + "/")

    def _keeps(self, path: str) -> bool:
        """Whether a file that is put is then there under that name."""
        try:
            return self.put(path, lambda: iter((b"1",)), 1) in (200, 201, 204) and self.at(path) is not None
        except Answered:
            return False

    def _moves(self, old: str, new: str) -> bool:
        """Whether a file that is moved is then where it was moved to."""
        return self.move(old, new) in (200, 201, 204) and self.at(new) is not None


_LENGTHS = (255, 243, 200, 143, 100, 60)
_DOUBTED = ':*?"<>|\\%'
"""Letters that some systems take in no name."""
_RISKY = ";+%#&?"
"""Letters at which servers have been seen to cut the name off that a file is moved to."""
_REFUSALS = (400, 403, 404, 405, 409, 413, 414, 415, 422, 423, 500, 502, 507)
"""Answers that are about one file, or one place."""


def _lying(path: Inside, told: dict[str, str]) -> Lying:
    etag = told.get("getetag", "")
    return Lying(
        path=path,
        is_folder=told.get("resourcetype") == "collection",
        bytes=_number(told.get("getcontentlength")) or 0,
        etag=etag if etag.startswith('"') else f'"{etag}"' if etag and not etag.startswith("W/") else "",
        modified=_moment(told.get("getlastmodified")),
        same=told.get("resource-id", ""),
    )


def _number(text: str | None) -> int | None:
    return int(text) if text and text.isascii() and text.isdecimal() and len(text) < 19 else None


def _moment(text: str | None) -> int:
    try:
        return int(parsedate_to_datetime(text).timestamp()) if text else 0
    except (ValueError, TypeError):
        return 0
