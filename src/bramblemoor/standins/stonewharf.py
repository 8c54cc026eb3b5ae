"""Stonewharf, a folder service over WebDAV, with its oddities: it makes and moves folders by one route and not by the other,
shows every picture once more in a flat list, gives no digests, keeps no file times, and has a quota.

By the route /desk/ folders can be made and files moved; by /web/ neither, and names are at most 60 letters. Both show one tree.
"""

import base64
import hmac
import socket
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from cheroot import wsgi
from lxml import etree
from wsgidav.dav_error import HTTP_FORBIDDEN, HTTP_NOT_FOUND, DAVError
from wsgidav.dav_provider import DAVCollection
from wsgidav.fs_dav_provider import FileResource, FilesystemProvider, FolderResource
from wsgidav.wsgidav_app import WsgiDAVApp

from bramblemoor.standins.faults import Ordered
from bramblemoor.standins.trees import STONEWHARF, draw_tree

USER = "keeper"
LIST = "Every picture"
_PICTURES = (".jpg", ".dng", ".mp4", ".png", ".heic")
_LONGEST_BY_WEB = 60
_ROUTES = ("/desk", "/web")
Start = Callable[..., Any]
Environ = dict[str, Any]


def draw_account(folder: Path) -> None:
    draw_tree(folder, STONEWHARF)


@dataclass
class DavFaults(Ordered):
    """What goes wrong, each so many times: `busy` answers, downloads broken off halfway (`drop`), a byte flipped (`flip`); and
    `stump`: so many uploads are cut short, and answered as if they had come whole. `quota` in bytes, 0 for none.
    """

    busy: int = 0
    drop: int = 0
    flip: int = 0
    stump: int = 0
    quota: int = 0


class _File(FileResource):  # type: ignore[misc]
    """A file knows itself at each of its paths (RFC 5842, 3.1)."""

    def get_property_value(self, name: str) -> Any:
        if name == "{DAV:}resource-id":
            element = etree.Element(name)
            status = Path(self._file_path).stat()
            etree.SubElement(element, "{DAV:}href").text = f"urn:x-stonewharf:{status.st_dev:x}-{status.st_ino:x}"
            return element
        return super().get_property_value(name)

    def get_last_modified(self) -> float:
        return float(self.file_stat.st_ctime)  # when it came here: it keeps no other time


class _Folder(FolderResource):  # type: ignore[misc]
    def get_used_bytes(self) -> int | None:
        return self.provider.used() if self.provider.faults.quota else None

    def get_available_bytes(self) -> int | None:
        return max(0, self.provider.faults.quota - self.provider.used()) if self.provider.faults.quota else None

    def get_member_names(self) -> list[str]:
        names: list[str] = sorted(super().get_member_names())
        return [*names, LIST] if self.path == "/" else names


class _List(DAVCollection):  # type: ignore[misc]
    """All pictures of the tree in one heap; nothing can be put there."""

    def get_member_names(self) -> list[str]:
        return sorted(self.provider.listed())

    def get_member(self, name: str) -> Any:
        return self.provider.get_resource_inst(f"/{LIST}/{name}", self.environ)

    def create_empty_resource(self, name: str) -> None:
        raise DAVError(HTTP_FORBIDDEN)

    def create_collection(self, name: str) -> None:
        raise DAVError(HTTP_FORBIDDEN)


class _Provider(FilesystemProvider):  # type: ignore[misc]
    def __init__(self, tree: Path, faults: DavFaults) -> None:
        super().__init__(str(tree), fs_opts={})
        self.tree, self.faults = tree, faults

    def used(self) -> int:
        return sum(path.stat().st_size for path in self.tree.rglob("*") if path.is_file())

    def listed(self) -> dict[str, Path]:
        """Names in the list: a name that occurs twice has its folder's before it."""
        found: dict[str, Path] = {}
        for path in sorted(self.tree.rglob("*")):
            if path.suffix.lower() in _PICTURES:
                found[path.name if path.name not in found else f"{path.parent.name} {path.name}"] = path
        return found

    def get_resource_inst(self, path: str, environ: Environ) -> Any:
        steps = path.strip("/").split("/")
        if steps[0] == LIST:
            if len(steps) == 1:
                return _List(f"/{LIST}", environ)
            place = self.listed().get("/".join(steps[1:]))
            if place is None or environ["REQUEST_METHOD"] not in ("GET", "HEAD", "PROPFIND", "OPTIONS"):
                if place is None:
                    return None
                raise DAVError(HTTP_FORBIDDEN)
            return _File(path, environ, str(place))
        try:
            place = Path(self._loc_to_file_path(path, environ))
            if place.is_dir():
                return _Folder(path, environ, str(place))
            return _File(path, environ, str(place)) if place.is_file() else None
        except (ValueError, OSError) as error:
            raise DAVError(HTTP_NOT_FOUND) from error


class Stonewharf:
    """The service as a WSGI application."""

    def __init__(self, folder: Path, password: str, faults: DavFaults) -> None:
        self.folder, self.password, self.faults = folder, password, faults
        self.provider = _Provider(folder / "tree", faults)
        self._dav = WsgiDAVApp({
            "provider_mapping": {route: _Provider(folder / "tree", faults) for route in _ROUTES},
            "http_authenticator": {"accept_basic": True, "accept_digest": False},
            "simple_dc": {"user_mapping": {"*": True}}, "verbose": 0, "logging": {"enable": False},
            "lock_storage": False, "property_manager": False, "dir_browser": {"enable": False},
        })  # fmt: skip

    def __call__(self, environ: Environ, start: Start) -> Iterable[bytes]:
        wanted = base64.b64encode(f"{USER}:{self.password}".encode()).decode()
        given = environ.get("HTTP_AUTHORIZATION", "")
        if not hmac.compare_digest(given.encode(), f"Basic {wanted}".encode()):
            return _short(start, "401 Unauthorized", ("WWW-Authenticate", 'Basic realm="Stonewharf"'))
        if self.faults.take("busy"):
            return _short(start, "503 Service Unavailable", ("Retry-After", "1"))
        route = next((one for one in _ROUTES if environ["PATH_INFO"].startswith(one + "/")), None)
        if route is None:
            return _short(start, "404 Not Found")
        method = environ["REQUEST_METHOD"]
        name = unquote(environ["PATH_INFO"]).rstrip("/").rpartition("/")[2]
        if route == "/web" and method in ("MKCOL", "MOVE", "COPY", "DELETE"):
            return _short(start, "405 Method Not Allowed")
        if route == "/web" and method == "PUT" and len(name) > _LONGEST_BY_WEB:
            return _short(start, "400 Bad Request")
        if method == "PUT":
            size = int(environ.get("CONTENT_LENGTH") or 0)
            if self.faults.quota and self.provider.used() + size > self.faults.quota:
                return _short(start, "507 Insufficient Storage")
            if size > 1 and self.faults.take("stump"):
                environ["CONTENT_LENGTH"] = str(size // 2)
        if method == "GET":
            return self._sent(environ, start)
        return self._dav(environ, start)  # type: ignore[no-any-return]

    def _sent(self, environ: Environ, start: Start) -> Iterator[bytes]:
        drop, flip = self.faults.take("drop"), self.faults.take("flip")
        pieces = list(self._dav(environ, start)) if drop or flip else self._dav(environ, start)
        if drop:
            whole = b"".join(pieces)
            yield whole[: len(whole) // 2]
            raise ConnectionError("dropped to order")
        for number, piece in enumerate(pieces):
            yield bytes((piece[0] ^ 1,)) + piece[1:] if flip and not number and piece else piece


def _short(start: Start, status: str, *headers: tuple[str, str]) -> list[bytes]:
    start(status, [("Content-Length", "0"), *headers])
    return [b""]


def serve(service: Stonewharf, port: int, ready: Callable[[str], None]) -> None:
    """Serve on loopback until interrupted; `ready` is told the address once it listens."""
    server = wsgi.Server(("127.0.0.1", port), service, numthreads=10)
    server.prepare()
    listening: socket.socket = server.socket
    ready(f"http://127.0.0.1:{listening.getsockname()[1]}/desk/")
    try:
        server.serve()
    except KeyboardInterrupt:
        server.stop()
