"""HTTP as the program speaks it to anybody: bounded in time and size, patient with what is busy, and silent about tokens."""

import base64
import ipaddress
import re
import threading
import time
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any, Self, TypeVar
from urllib.parse import urljoin, urlsplit

import httpx
import msgspec
import stamina
import stamina.instrumentation

from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.wire.connections import Connections
from bramblemoor.wire.reaching import trusting, why_unreachable
from bramblemoor.wire.signing import Bearer, Signature

Answer = TypeVar("Answer")
Notice = Callable[[str], None]

stamina.instrumentation.set_on_retry_hooks([])  # retries are told through `notice`, in the user's words


_SHORT = 0.1
"""Seconds before the second try."""
_FOR_GOOD = (501, 505, 507)
"""Of a server's own troubles, those that the next try meets again."""


class ConnectionBroke(Exception):
    """The transfer ended early; what came so far is good, and it may be resumed."""


class _Busy(Exception):
    """429 or 503; `wait` is what Retry-After asks for, in seconds, or None."""

    def __init__(self, status: int, wait: float | None) -> None:
        super().__init__(f"it answers {status}")
        self.wait = wait


class Answered(ServiceTrouble):
    """A final answer that was not hoped for; `status` is its number (RFC 9110, 15)."""

    status = 0

    @classmethod
    def with_status(cls, status: int, happened: str, remedy: str) -> Self:
        error = cls(happened, remedy)
        error.status = status
        return error


class Refused(Answered):
    """410 or 413: an answer that some callers can do something about; `detail` is what the service says of it."""

    detail = ""


def check_address(url: str) -> str:
    """The address, in order. A token is never sent in the clear (RFC 6750, 5.3), except on the loopback interface."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username or parts.query:
        raise WrongUse(f"{url} is not a service's address.", "Give one like https://service.example.")
    if parts.scheme == "http" and not _is_loopback(parts.hostname):
        raise WrongUse(
            f"{url} would send your token unencrypted.", "Use its https:// address; http:// is for this machine only."
        )
    return url.rstrip("/") + "/"


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


@dataclass(frozen=True)
class Watch:
    """The least that a service must send: `least` bytes in each `seconds`; and the most that a document may have."""

    least: int = 60_000
    seconds: float = 120.0
    document: int = 64 << 20


@dataclass(frozen=True)
class Reply:
    """A whole answer: its status, its headers by name in any spelling, and its content."""

    status: int
    headers: Mapping[str, str]
    content: bytes


Body = bytes | Callable[[], Iterator[bytes]]
"""What a request carries: bytes, or what makes them anew for each try."""


class Http:
    """A signed-in client of one service.

    `signature` is a bearer token, or another way to sign; `patience` bounds, in seconds, how long one request is tried again
    while no byte arrives; `proxy` is the address of one, for services that are reached over TLS; `authority` a file with a
    certificate to trust besides the system's. Its methods raise ServiceTrouble when the service stays down, refuses, or talks
    nonsense.
    """

    def __init__(
        self,
        name: str,
        url: str,
        signature: str | Signature,
        *,
        patience: float = 60.0,
        notice: Notice = lambda text: None,
        proxy: str = "",
        authority: str = "",
        watch: "Watch | None" = None,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self.name = name
        self.url = check_address(url)
        self.patience = patience
        self.notice = notice
        self._signature = Bearer(signature) if isinstance(signature, str) else signature
        self._watch = watch or Watch()
        # Proxies are taken from the library's settings only: one from the environment would see a token that is sent over plain
        # HTTP, as to this machine itself. Over TLS a proxy sees nothing but the address.
        secure = urlsplit(self.url).scheme == "https"
        self._proxy = proxy if proxy and secure else ""
        trust = trusting(authority) if secure and transport is None else None

        def client() -> httpx.Client:
            return httpx.Client(
                auth=self._signature,
                headers={"Accept-Encoding": "identity"},
                follow_redirects=False,
                trust_env=False,
                transport=transport or Connections(trust, self._proxy),
            )

        self._new_client, self._own = client, threading.local()

    @property
    def _client(self) -> httpx.Client:
        """Each thread has a client of its own: they would wait for each other's turn to choose a connection."""
        if not hasattr(self._own, "client"):
            self._own.client = self._new_client()
        client: httpx.Client = self._own.client
        return client

    def ask(self, method: str, path: str, shape: type[Answer], body: Any = None) -> Answer:
        """One request, tried again as long as one is patient; its answer as JSON of that shape."""
        return self.decoded(self.patiently(lambda: self.once(method, path, body)), path, shape)

    def decoded(self, content: bytes, path: str, shape: type[Answer]) -> Answer:
        try:
            return msgspec.json.decode(content, type=shape)
        except (msgspec.DecodeError, RecursionError) as error:
            raise ServiceTrouble(
                f"{self.name} answered {path} with something else than the protocol says ({self._hushed(str(error))}).",
                "Check the address with: bramblemoor service list.",
            ) from error

    def open(self, href: str, headers: dict[str, str], what: str) -> httpx.Response:
        """Begin to fetch `what` the caller closes. Raises ServiceTrouble where it lies elsewhere, Refused for 410 and 413."""
        try:
            where = urljoin(self.url, href)
            elsewhere = urlsplit(where)[:2] != urlsplit(self.url)[:2]
        except ValueError:
            where, elsewhere = "one that is none", True
        if elsewhere:
            raise ServiceTrouble(
                f"{self.name} says that {what} lies at another address, {self._hushed(where)}.",
                "The token is not sent there; ask the service.",
            )

        def send() -> httpx.Response:
            response = self._client.send(self._client.build_request("GET", where, headers=headers), stream=True)
            try:
                self._check(response)
                self._require_plain(response)
            except BaseException:
                response.close()
                raise
            return response

        return self.patiently(send)

    def pieces(self, response: httpx.Response) -> Iterator[bytes]:
        """What an open answer sends. Raises ConnectionBroke where it ends early."""
        try:
            yield from self._paced(response.iter_raw())
        except httpx.TransportError as error:
            raise ConnectionBroke from error

    def peek(self, href: str, start: int, length: int, what: str) -> bytes:
        """At most so many bytes from `start` on, of a server that knows ranges or not; none where they cannot be had."""
        try:
            with closing(self.open(href, {"Range": f"bytes={start}-{start + length - 1}"}, what)) as response:
                skip, found = start if response.status_code != 206 else 0, bytearray()
                for piece in self.pieces(response):
                    found += piece[skip:]
                    skip = max(0, skip - len(piece))
                    if len(found) >= length:
                        break
                return bytes(found[:length])
        except (Answered, ConnectionBroke):
            return b""

    def once(self, method: str, path: str, body: Any, headers: dict[str, str] | None = None) -> bytes:
        """One request, tried once; the content of its answer. Raises Refused for 410 and 413."""
        request = self._client.build_request(method, urljoin(self.url, path), json=body, headers=headers)
        with closing(self._client.send(request, stream=True)) as response:
            self._check(response)
            return self._document(response)

    def _document(self, response: httpx.Response) -> bytes:
        """The content of an answer that is a document: unencoded, and of a size that documents have."""
        self._require_plain(response)
        content = bytearray()
        # What came whole, as from a transport of a test, cannot be read piece by piece again.
        pieces = iter((response.content,)) if response.is_stream_consumed else response.iter_raw()
        for piece in self._paced(pieces):
            content += piece
            if len(content) > self._watch.document:
                raise ServiceTrouble(
                    f"{self.name} sent an answer of more than {self._watch.document >> 20} MiB where a short one was due.",
                    "Nothing was taken of it; ask the service.",
                )
        return bytes(content)

    def _require_plain(self, response: httpx.Response) -> None:
        """Raise ServiceTrouble for a content encoding: nobody asked for one, and it may hide any amount (RFC 9110, 8.4)."""
        if response.headers.get("content-encoding", "identity").strip().lower() not in ("", "identity"):
            raise ServiceTrouble(
                f"{self.name} sent an encoded answer, which was not asked for.",
                "Nothing was taken of it; ask the service.",
            )

    def _paced(self, pieces: Iterator[bytes]) -> Iterator[bytes]:
        """The pieces, as long as they come at the least rate; raises ServiceTrouble for a service that keeps one waiting."""
        began, came = time.monotonic(), 0
        for piece in pieces:
            came += len(piece)
            now = time.monotonic()
            if now - began > self._watch.seconds:
                if came < self._watch.least:
                    raise ServiceTrouble(
                        f"{self.name} sends next to nothing: {came:,} bytes in {now - began:.0f} seconds.",
                        "What came is kept; run the same command later: it goes on where it stopped.",
                    )
                began, came = now, 0
            yield piece

    def _hushed(self, text: str) -> str:
        """What a service says, without the token or password, should it echo it."""
        for hidden in self._signature.hidden:
            text = text.replace(hidden, "(the token)")
        return text

    def exchange(
        self,
        method: str,
        path: str,
        *,
        headers: Mapping[str, str] | None = None,
        body: Body = b"",
        takes: Collection[int] = (200, 201, 204),
    ) -> Reply:
        """One request, tried again as long as one is patient; answers with a status of `takes` are the caller's to judge."""

        def send() -> Reply:
            content = body if isinstance(body, bytes) else body()
            request = self._client.build_request(
                method, urljoin(self.url, path), headers=dict(headers or {}), content=content or None
            )
            with closing(self._client.send(request, stream=True)) as response:
                self._check(response, takes)
                return Reply(response.status_code, response.headers, self._document(response))

        return self.patiently(send)

    def _check(self, response: httpx.Response, takes: Collection[int] = (200, 201, 206)) -> None:
        """Sort answers into good, worth another try, and final."""
        status = response.status_code
        if status in takes:
            return
        if status in (429, 503):
            raise _Busy(status, _retry_after(response.headers.get("retry-after")))
        if status >= 500 and status not in _FOR_GOOD:
            raise _Busy(status, None)
        detail = self._hushed(_detail(self._document(response), response.reason_phrase))
        if status in (410, 413):
            refused = Refused.with_status(
                status, f"{self.name} answered {status}: {detail}.", "Look there for what it has, and try again."
            )
            refused.detail = detail
            raise refused
        if status == 401:
            raise Answered.with_status(
                401,
                f"{self.name} refuses the {self._signature.called}: {detail}.",
                f"Get a new one there and run: bramblemoor service add {self.name} {self.url}",
            )
        if status == 403 and "insufficient_scope" in response.headers.get("www-authenticate", ""):  # RFC 6750, 3.1
            raise Answered.with_status(
                403,
                f"The sign-in at {self.name} is not for this: {detail}.",
                f"Sign in for sending, too: bramblemoor service sign-in {self.name} --may-send",
            )
        if 300 <= status < 400:
            raise Answered.with_status(
                status,
                f"{self.name} answered {status}: it points to another address, to which the {self._signature.called}"
                " is not sent.",
                "If the service has moved, add it anew with its new address: bramblemoor service add.",
            )
        raise Answered.with_status(
            status, f"{self.name} answered {status}: {detail}.", "Correct the request and try again."
        )

    def patiently(self, send: Callable[[], Answer]) -> Answer:
        """Do something, and do it again where the service is busy or the connection breaks, for as long as one is patient."""

        def again(error: Exception) -> bool | float:
            if isinstance(error, _Busy):
                if error.wait is not None and error.wait > self.patience:
                    return False
                self.notice(f"{self.name}: {error}; trying again" + (f" in {error.wait:.0f} s" if error.wait else ""))
                return error.wait if error.wait is not None else True
            # A body that was sent before the server asked for another signature is made anew.
            return isinstance(error, httpx.StreamConsumed) or (
                isinstance(error, httpx.TransportError) and not why_unreachable(error, self._proxy).for_good
            )

        try:
            return send()  # as nearly always: what tries again takes a while to set up
        except (_Busy, httpx.TransportError, httpx.StreamConsumed) as error:
            pause = again(error)
            if pause is False or not self.patience:
                raise self._given_up(error) from error
            time.sleep(_SHORT if pause is True else min(pause, self.patience))
        try:
            for attempt in stamina.retry_context(on=again, attempts=None, timeout=self.patience, wait_jitter=0.2):
                with attempt:
                    return send()
        except (_Busy, httpx.TransportError) as error:
            raise self._given_up(error) from error
        raise AssertionError("retry_context returns or raises")

    def _given_up(self, error: Exception) -> ServiceTrouble:
        if isinstance(error, _Busy):
            later = f" and asks to come back in {error.wait:.0f} s" if error.wait else ""
            return ServiceTrouble(
                f"{self.name} is too busy ({error}{later}).", "Run the same command later: it goes on where it stopped."
            )
        return why_unreachable(error, self._proxy).trouble(self.name, self.url)


def first_byte(response: httpx.Response, what: str, size: int | None) -> int:
    """Where an answer begins (RFC 9110, 14.4), of a whole of so many bytes. A 206 that cannot be placed is nonsense."""
    if response.status_code != 206:
        return 0
    span, _, whole = response.headers.get("content-range", "").removeprefix("bytes ").partition("/")
    first = span.partition("-")[0]
    if not is_number(first) or (size is not None and whole != str(size)):
        raise ServiceTrouble(
            f"The service sent a piece of {what} that fits nowhere.",
            "Run the same command again; if it stays, ask them.",
        )
    return int(first)


def told_digest(headers: Mapping[str, str]) -> str:
    """The SHA-256 of the whole that an answer tells (RFC 9530, 3), as "sha256:HEX"; "" where it tells none."""
    match = re.search(r"(?:^|,)\s*sha-256=:([A-Za-z0-9+/=]+):", headers.get("repr-digest", ""))
    try:
        return f"sha256:{base64.b64decode(match[1], validate=True).hex()}" if match else ""
    except ValueError:
        return ""


def is_number(text: str) -> bool:
    """Whether a header says a whole number."""
    return text.isascii() and text.isdecimal() and len(text) < 19


def _retry_after(value: str | None) -> float | None:
    """Seconds, or a date (RFC 9110, 10.2.3)."""
    if value is None:
        return None
    if is_number(value):
        return float(value)
    try:
        return max(0.0, (parsedate_to_datetime(value) - datetime.now(UTC)).total_seconds())
    except (ValueError, TypeError):
        return None


def _detail(content: bytes, reason: str) -> str:
    """The sentence of an RFC 9457 problem, or nothing but the reason phrase."""
    try:
        return str(msgspec.json.decode(content, type=dict[str, Any])["detail"])[:200]
    except (msgspec.DecodeError, KeyError, RecursionError):
        return reason
