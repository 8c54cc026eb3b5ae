"""The stand-in service as an HTTP server: docs/service-protocol.md, served from a world's folder, with faults to order."""

import base64
import hashlib
import hmac
import json
import secrets
import socket
import threading
import time
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from bramblemoor.standins.thrushfield import Account, Scope, export_entries, write_parts

PIECE = 1 << 18
DEFAULT_PART_BYTES = 6_000_000


@dataclass
class Faults:
    """What goes wrong, each so many times: `busy` answers (503 with Retry-After), parts broken off halfway (`drop`),
    and parts sent with one byte flipped (`flip`)."""

    busy: int = 0
    drop: int = 0
    flip: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock, repr=False)

    def take(self, name: str) -> bool:
        with self.lock:
            left: int = getattr(self, name)
            setattr(self, name, max(0, left - 1))
            return left > 0


class Thrushfield:
    """The service's state: the account, the orders on disk, and the bearer token that opens it."""

    def __init__(self, folder: Path, token: str, faults: Faults, prepare_seconds: float) -> None:
        self.account = Account(folder)
        self.orders = folder / "orders"
        self.orders.mkdir(exist_ok=True)
        self.token = token
        self.faults = faults
        self.prepare_seconds = prepare_seconds

    def app(self) -> Starlette:
        def guarded(handler: Callable[[Request], Response]) -> Callable[[Request], Awaitable[Response]]:
            async def answer(request: Request) -> Response:
                given = request.headers.get("authorization", "")
                if not hmac.compare_digest(given.encode(), f"Bearer {self.token}".encode()):
                    return _problem(401, "the token is not known here", {"WWW-Authenticate": "Bearer"})
                if self.faults.take("busy"):
                    return _problem(503, "too busy", {"Retry-After": "1"})
                request.state.body = await request.body()
                return handler(request)

            return answer

        return Starlette(
            routes=[
                Route("/v1/account", guarded(self.show_account)),
                Route("/v1/orders", guarded(self.take_order), methods=["POST"]),
                Route("/v1/orders/{order}", guarded(self.show_order)),
                Route("/v1/orders/{order}/parts/{number:int}", guarded(self.send_part)),
            ]
        )

    def show_account(self, request: Request) -> Response:
        items = self.account.items
        return JSONResponse(
            {"service": "Thrushfield", "statement": self.account.counts(items), "albums": self.account.albums(items)}
        )

    def take_order(self, request: Request) -> Response:
        try:
            asked = json.loads(request.state.body)
            part_bytes = int(asked.pop("part_bytes", DEFAULT_PART_BYTES))
            scope = Scope(**asked | {"albums": tuple(asked.get("albums", ()))})
        except (ValueError, TypeError) as error:
            return _problem(400, f"the order makes no sense: {error}")
        unknown = set(scope.albums) - {label["title"] for label in self.account.labels}
        if unknown:
            return _problem(422, f"there is no album {sorted(unknown)[0]!r}")
        if not self.account.chosen(scope):
            return _problem(422, "nothing in the account matches")
        order = "TF" + "".join(secrets.choice("23456789BCDFGHJKMNPQRSTVWXZ") for _ in range(5))
        (self.orders / order).mkdir()
        items = self.account.chosen(scope)
        statement = self.account.counts(items) | {
            "account_frames": len(self.account.items),
            "albums": [
                album | {"ordered": not scope.albums or album["title"] in scope.albums}
                for album in self.account.albums(self.account.items)
            ],
        }
        self._save(
            order, {"id": order, "state": "preparing", "scope": asdict(scope), "statement": statement, "parts": []}
        )
        threading.Thread(target=self._prepare, args=(order, scope, part_bytes), daemon=True).start()
        return JSONResponse(self._load(order), 201, {"Location": f"/v1/orders/{order}"})

    def _prepare(self, order: str, scope: Scope, part_bytes: int) -> None:
        started = time.monotonic()
        paths = write_parts(export_entries(self.account, scope, order), self.orders / order, order, part_bytes)
        parts = []
        for number, path in enumerate(paths, 1):
            digest = hashlib.sha256(path.read_bytes()).hexdigest()
            href = f"/v1/orders/{order}/parts/{number}"
            parts.append(
                {"number": number, "name": path.name, "bytes": path.stat().st_size, "sha256": digest, "href": href}
            )
        time.sleep(max(0.0, self.prepare_seconds - (time.monotonic() - started)))
        self._save(order, self._load(order) | {"state": "ready", "parts": parts})

    def show_order(self, request: Request) -> Response:
        order = request.path_params["order"]
        if not (self.orders / order / "order.json").is_file():
            return _problem(404, "there is no such order")
        return JSONResponse(self._load(order))

    def send_part(self, request: Request) -> Response:
        """A part with a strong ETag and digests; a range where If-Range agrees (RFC 9110, 13.1.5 and 14; RFC 9530)."""
        order, number = request.path_params["order"], request.path_params["number"]
        listed = self._load(order)["parts"] if (self.orders / order / "order.json").is_file() else []
        part = next((part for part in listed if part["number"] == number), None)
        if part is None:
            return _problem(404, "there is no such part")
        size, etag = part["bytes"], f'"{part["sha256"][:32]}"'
        digest = base64.b64encode(bytes.fromhex(part["sha256"])).decode()
        headers = {"ETag": etag, "Accept-Ranges": "bytes", "Repr-Digest": f"sha-256=:{digest}:"}
        start, status = 0, 200
        wanted = request.headers.get("range", "")
        if wanted.startswith("bytes=") and request.headers.get("if-range", etag) == etag:
            first = wanted.removeprefix("bytes=").partition("-")[0]
            if not first.isdigit() or int(first) >= size:
                return Response(status_code=416, headers={"Content-Range": f"bytes */{size}"})
            start, status = int(first), 206
            headers["Content-Range"] = f"bytes {start}-{size - 1}/{size}"
        headers["Content-Length"] = str(size - start)
        path = self.orders / order / part["name"]
        return StreamingResponse(self._pieces(path, start, size), status, headers, "application/zip")

    def _pieces(self, path: Path, start: int, size: int) -> Iterator[bytes]:
        drop, flip = self.faults.take("drop"), self.faults.take("flip")
        with path.open("rb") as file:
            file.seek(start)
            while piece := file.read(PIECE):
                if drop and file.tell() > start + (size - start) // 2:
                    raise ConnectionError("dropped to order")
                if flip:
                    piece, flip = bytes((piece[0] ^ 1,)) + piece[1:], False
                yield piece

    def _load(self, order: str) -> dict[str, Any]:
        document: dict[str, Any] = json.loads((self.orders / order / "order.json").read_text(encoding="utf-8"))
        return document

    def _save(self, order: str, document: dict[str, Any]) -> None:
        path = self.orders / order / "order.json"
        fresh = path.with_suffix(".new")
        fresh.write_text(json.dumps(document, ensure_ascii=False), encoding="utf-8")
        fresh.replace(path)


def _problem(status: int, detail: str, headers: dict[str, str] | None = None) -> Response:
    """RFC 9457 problem details."""
    return JSONResponse({"status": status, "detail": detail}, status, headers, "application/problem+json")


def serve(service: Thrushfield, port: int, ready: Callable[[str], None]) -> None:
    """Serve on loopback until interrupted; port 0 takes a free one. `ready` is told the address once it listens."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind(("127.0.0.1", port))
    listener.listen(64)
    ready(f"http://127.0.0.1:{listener.getsockname()[1]}")
    config = uvicorn.Config(service.app(), log_level="critical", lifespan="off")
    uvicorn.Server(config).run(sockets=[listener])
