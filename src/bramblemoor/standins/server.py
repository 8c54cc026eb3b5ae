"""The stand-in services as HTTP servers: docs/service-protocol.md, served from a world's folder, with faults to order."""

import base64
import hashlib
import hmac
import json
import secrets
import shutil
import socket
import threading
import time
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import asdict, dataclass
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from bramblemoor.standins.exporter import CONTAINERS, Account, Scope, write_parts
from bramblemoor.standins.faults import Ordered
from bramblemoor.standins.inbox import Inbox, InboxFaults
from bramblemoor.standins.sign_in import SignIn

PIECE = 1 << 18
DEFAULT_PART_BYTES = 6_000_000
PICK_BYTES = 1_500_000


@dataclass
class Faults(Ordered):
    """What goes wrong, each so many times: `busy` answers (503 with Retry-After), parts broken off halfway (`drop`),
    parts sent with one byte flipped (`flip`), and orders that are taken, and their answer is lost (`lose`). With `keyless` it
    keeps no keys of orders."""

    busy: int = 0
    lose: int = 0
    keyless: int = 0
    drop: int = 0
    flip: int = 0


@dataclass(frozen=True)
class Pace:
    """How fast the service's time goes, in seconds: to prepare an order, until its links lapse, until a sign-in lapses (0 is
    never), and how long a day takes where an order is repeated."""

    prepare: float = 1.5
    links: float = 0.0
    sign_in: float = 0.0
    day: float = 86_400.0


class StandIn:
    """A service's state: the account, the orders on disk, and the bearer token that opens it."""

    def __init__(
        self,
        account: Account,
        token: str,
        faults: Faults,
        pace: Pace,
        inbox: InboxFaults | None = None,
        delivers: dict[str, Path] | None = None,
    ) -> None:
        """`delivers` are folders that the user has told the service of, by their names there."""
        self.delivers = delivers or {}
        self.account = account
        self.orders = account.folder / "orders"
        self.orders.mkdir(exist_ok=True)
        self.token = token
        self.faults = faults
        self.pace = pace
        self.began = time.monotonic()
        self.lock = threading.RLock()
        self.sign_in = SignIn(account.name, account.folder, pace.sign_in)
        self.inbox = Inbox(account, inbox or InboxFaults()) if account.keeps() else None

    def app(self) -> Starlette:
        def guarded(handler: Callable[[Request], Response]) -> Callable[[Request], Awaitable[Response]]:
            async def answer(request: Request) -> Response:
                if (amiss := self._amiss(request)) is not None:
                    return amiss
                if self.faults.take("busy"):
                    return _problem(503, "too busy", {"Retry-After": "1"})
                request.state.body = await request.body()
                return await run_in_threadpool(handler, request)

            return answer

        return Starlette(
            routes=[
                Route("/v1/account", guarded(self.show_account)),
                Route("/v1/orders", guarded(self.take_order), methods=["POST"]),
                Route("/v1/orders", guarded(self.list_orders), methods=["GET"]),
                Route("/v1/picks", guarded(self.take_pick), methods=["POST"]),
                Route("/v1/orders/{order}", guarded(self.show_order), methods=["GET"]),
                Route("/v1/orders/{order}", guarded(self.withdraw), methods=["DELETE"]),
                Route("/v1/orders/{order}/parts/{number:int}", guarded(self.send_part)),
                *(self.inbox.routes(guarded) if self.inbox else ()),
                *self.sign_in.routes(),
            ]
        )

    def _amiss(self, request: Request) -> Response | None:
        """What is answered to whom is not signed in, or not for this; the token of the account's folder opens everything."""
        given = request.headers.get("authorization", "")
        if hmac.compare_digest(given.encode(), f"Bearer {self.token}".encode()):
            lapsed = self.pace.sign_in and time.monotonic() - self.began > self.pace.sign_in
            return _problem(401, "the sign-in has lapsed", {"WWW-Authenticate": "Bearer"}) if lapsed else None
        scope = self.sign_in.scope_of(given.removeprefix("Bearer "))
        if scope is None:
            return _problem(401, "the token is not known here", {"WWW-Authenticate": "Bearer"})
        sends = request.method in ("PUT", "POST") and not request.url.path.startswith(("/v1/orders", "/v1/picks"))
        if sends and "send" not in scope.split():
            return _problem(
                403, "this sign-in may only read", {"WWW-Authenticate": 'Bearer error="insufficient_scope"'}
            )
        return None

    def show_account(self, request: Request) -> Response:
        items = self.account.items
        statement = self.account.counts(items)
        told = {"service": self.account.name, "statement": statement, "albums": self.account.albums(items)}
        return JSONResponse(told | ({"room": self.inbox.room()} if self.inbox else {}))

    def take_order(self, request: Request) -> Response:
        """Orders that are asked for again with the key of one that was taken are that one."""
        key = "" if self.faults.keyless else request.headers.get("idempotency-key", "").strip('"')
        with self.lock:
            for path in sorted(self.orders.glob("*/order.json")) if key else ():
                if self._load(path.parent.name).get("key") == key:
                    return JSONResponse(self._told(path.parent.name), 201)
            answer = self._take(request, self.pace.prepare, key)
        if answer.status_code == 201 and self.faults.take("lose"):
            return _problem(502, "the answer was lost on its way")
        return answer

    def take_pick(self, request: Request) -> Response:
        """A selection small enough is ready at once."""
        return self._take(request, None)

    def _take(self, request: Request, prepare: float | None, key: str = "") -> Response:
        try:
            asked = json.loads(request.state.body)
            part_bytes = int(asked.pop("part_bytes", DEFAULT_PART_BYTES))
            every, until = int(asked.pop("every_days", 0)), str(asked.pop("repeat_until", ""))
            scope = Scope(**asked | {"albums": tuple(asked.get("albums", ()))})
        except (ValueError, TypeError) as error:
            return _problem(400, f"the order makes no sense: {error}")
        unknown = set(scope.albums) - {label["title"] for label in self.account.labels}
        if unknown:
            return _problem(422, f"there is no album {sorted(unknown)[0]!r}")
        if scope.container and scope.container not in CONTAINERS:
            return _problem(422, f"exports come as {', '.join(CONTAINERS)}, not as {scope.container}")
        if scope.deliver and scope.deliver not in self.delivers:
            return _problem(422, f"no place called {scope.deliver} is known here")
        items = self.account.chosen(scope)
        if not items:
            return _problem(422, "nothing in the account matches")
        if prepare is None and self.account.counts(items)["bytes"] > PICK_BYTES:
            return _problem(413, f"that is more than {PICK_BYTES} bytes: order it")
        series = {"every_days": every, "repeat_until": until} if every else {}
        order = self._new(scope, part_bytes, series | ({"key": key} if key else {}))
        if prepare is None:
            self._prepare(order, scope, part_bytes, 0.0)
        else:
            threading.Thread(target=self._prepare, args=(order, scope, part_bytes, prepare), daemon=True).start()
        return JSONResponse(self._told(order), 201, {"Location": f"/v1/orders/{order}"})

    def _new(self, scope: Scope, part_bytes: int, series: dict[str, Any]) -> str:
        order = self.account.prefix + "".join(secrets.choice("23456789BCDFGHJKMNPQRSTVWXZ") for _ in range(5))
        (self.orders / order).mkdir()
        statement = self.account.counts(self.account.chosen(scope)) | {
            "account_frames": len(self.account.items),
            "albums": [
                album | {"ordered": not scope.albums or album["title"] in scope.albums}
                for album in self.account.albums(self.account.items)
            ],
        }
        document = {
            "id": order, "state": "preparing", "scope": asdict(scope), "statement": statement, "parts": [],
            "series": order, "part_bytes": part_bytes, "asked_at": time.time(), "ready_at": 0.0,
        }  # fmt: skip
        self._save(order, document | series)
        return order

    def _prepare(self, order: str, scope: Scope, part_bytes: int, seconds: float) -> None:
        started = time.monotonic()
        paths = write_parts(self.account, scope, self.orders / order, order, part_bytes)
        parts = []
        for number, path in enumerate(paths, 1):
            digest = hashlib.sha256(path.read_bytes()).hexdigest()
            href = "" if scope.deliver else f"/v1/orders/{order}/parts/{number}"
            if scope.deliver:
                place = self.delivers[scope.deliver] / order
                place.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(path, place / path.name)
            parts.append(
                {"number": number, "name": path.name, "bytes": path.stat().st_size, "sha256": digest, "href": href}
            )
        time.sleep(max(0.0, seconds - (time.monotonic() - started)))
        with self.lock:
            document = self._load(order)
            if document["state"] == "preparing":
                self._save(order, document | {"state": "ready", "parts": parts, "ready_at": time.time()})

    def _repeat(self) -> None:
        """Make the orders that are due by now of those that repeat."""
        for path in sorted(self.orders.glob("*/order.json")):
            document = self._load(path.parent.name)
            every = document.get("every_days", 0) * self.pace.day
            if not every or document["series"] != document["id"] or document["state"] == "withdrawn":
                continue
            made = document.get("repeated", 0)
            limit = document["repeat_until"]
            while time.time() >= document["asked_at"] + every * (made + 1):
                made += 1
                if limit and str(date.today() + timedelta(days=document["every_days"] * made)) > limit:
                    break
                scope = Scope(**document["scope"] | {"albums": tuple(document["scope"]["albums"])})
                order = self._new(scope, document["part_bytes"], {})
                self._save(order, self._load(order) | {"series": document["id"]})
                self._prepare(order, scope, document["part_bytes"], 0.0)
            self._save(document["id"], self._load(document["id"]) | {"repeated": made})

    def list_orders(self, request: Request) -> Response:
        with self.lock:
            self._repeat()
            known = [self._told(path.parent.name) for path in sorted(self.orders.glob("*/order.json"))]
        return JSONResponse({"orders": known})

    def withdraw(self, request: Request) -> Response:
        order = request.path_params["order"]
        if not (self.orders / order / "order.json").is_file():
            return _problem(404, "there is no such order")
        with self.lock:
            self._save(order, self._load(order) | {"state": "withdrawn", "parts": []})
        return JSONResponse(self._told(order))

    def _told(self, order: str) -> dict[str, Any]:
        """An order as the protocol shows it, its links lapsed where they are old."""
        with self.lock:
            document = self._load(order)
            if (
                document["state"] == "ready"
                and self.pace.links
                and time.time() - document["ready_at"] > self.pace.links
            ):
                document = document | {"state": "lapsed", "parts": []}
                self._save(order, document)
        return {key: document[key] for key in ("id", "state", "statement", "parts", "series", "key") if key in document}

    def show_order(self, request: Request) -> Response:
        order = request.path_params["order"]
        if not (self.orders / order / "order.json").is_file():
            return _problem(404, "there is no such order")
        return JSONResponse(self._told(order))

    def send_part(self, request: Request) -> Response:
        """A part with a strong ETag and digests; a range where If-Range agrees (RFC 9110, 13.1.5 and 14; RFC 9530)."""
        order, number = request.path_params["order"], request.path_params["number"]
        known: dict[str, Any] = {"state": "", "parts": []}
        if (self.orders / order / "order.json").is_file():
            known = self._told(order)
        if known["state"] in ("lapsed", "withdrawn"):
            return _problem(410, f"the order is {known['state']}")
        listed = known["parts"]
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
        return StreamingResponse(self._pieces(path, start, size), status, headers, "application/octet-stream")

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


def serve(service: StandIn, port: int, ready: Callable[[str], None]) -> None:
    """Serve on loopback until interrupted; port 0 takes a free one. `ready` is told the address once it listens."""
    listen(service.app(), port, ready)


def listen(app: Starlette, port: int, ready: Callable[[str], None]) -> None:
    """The same of any application; it tells the time itself, where its clock is another."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind(("127.0.0.1", port))
    listener.listen(64)
    ready(f"http://127.0.0.1:{listener.getsockname()[1]}")
    config = uvicorn.Config(app, log_level="critical", lifespan="off", date_header=False)
    uvicorn.Server(config).run(sockets=[listener])
