"""The parcel protocol over HTTP (docs/service-protocol.md)."""

import ipaddress
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any, TypeVar
from urllib.parse import urljoin, urlsplit

import httpx
import msgspec
import stamina
import stamina.instrumentation

from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.services.interface import (
    ConnectionBroke,
    OrderList,
    OrderScope,
    Part,
    PartsLapsed,
    PartStream,
    PlacedOrder,
    Service,
    Survey,
    TooMuchAtOnce,
)

Answer = TypeVar("Answer")
Notice = Callable[[str], None]

stamina.instrumentation.set_on_retry_hooks([])  # retries are told through `notice`, in the user's words


class _Busy(Exception):
    """429 or 503; `wait` is what Retry-After asks for, in seconds, or None."""

    def __init__(self, status: int, wait: float | None) -> None:
        super().__init__(f"it answers {status}")
        self.wait = wait


class _Refused(Exception):
    """410 or 413: an answer that some callers can do something about."""


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


class ParcelHttp(Service):
    """A signed-in account reached over HTTP.

    `patience` bounds, in seconds, how long one request is tried again while no byte arrives.
    """

    def __init__(
        self,
        name: str,
        url: str,
        token: str,
        *,
        patience: float = 60.0,
        notice: Notice = lambda text: None,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self.name = name
        self.url = check_address(url)
        self.patience = patience
        self.notice = notice
        self._client = httpx.Client(
            headers={"Authorization": f"Bearer {token}", "Accept-Encoding": "identity"},
            timeout=httpx.Timeout(30.0, connect=10.0),
            transport=transport,
        )

    def survey(self) -> Survey:
        return self._ask("GET", "v1/account", Survey)

    def place_order(self, scope: OrderScope) -> PlacedOrder:
        return self._ask("POST", "v1/orders", PlacedOrder, msgspec.to_builtins(scope))

    def pick(self, scope: OrderScope) -> PlacedOrder:
        try:
            return self._ask("POST", "v1/picks", PlacedOrder, msgspec.to_builtins(scope))
        except _Refused as error:
            raise TooMuchAtOnce(str(error)) from error

    def order(self, order: str) -> PlacedOrder:
        return self._ask("GET", f"v1/orders/{order}", PlacedOrder)

    def orders(self) -> list[PlacedOrder]:
        return self._ask("GET", "v1/orders", OrderList).orders

    def withdraw(self, order: str) -> PlacedOrder:
        return self._ask("DELETE", f"v1/orders/{order}", PlacedOrder)

    def _ask(self, method: str, path: str, shape: type[Answer], body: Any = None) -> Answer:
        response = self._patiently(lambda: self._once(method, path, body))
        try:
            return msgspec.json.decode(response.content, type=shape)
        except msgspec.DecodeError as error:
            raise ServiceTrouble(
                f"{self.name} answered {path} with something else than the protocol says ({error}).",
                "Check the address with: bramblemoor service list.",
            ) from error

    def _once(self, method: str, path: str, body: Any) -> httpx.Response:
        response = self._client.request(method, urljoin(self.url, path), json=body)
        self._check(response)
        return response

    @contextmanager
    def open_part(self, part: Part, start: int, etag: str) -> Iterator[PartStream]:
        where = urljoin(self.url, part.href)
        if urlsplit(where)[:2] != urlsplit(self.url)[:2]:
            raise ServiceTrouble(
                f"{self.name} says that {part.name} lies at another address, {where}.",
                "The token is not sent there; ask the service.",
            )
        headers = {"Range": f"bytes={start}-", "If-Range": etag} if start and etag else {}

        def send() -> httpx.Response:
            response = self._client.send(self._client.build_request("GET", where, headers=headers), stream=True)
            try:
                self._check(response)
            except BaseException:
                response.close()
                raise
            return response

        try:
            response = self._patiently(send)
        except _Refused as error:
            raise PartsLapsed(str(error)) from error
        try:
            yield PartStream(_first_byte(response, part), response.headers.get("etag", ""), _pieces(response))
        finally:
            response.close()

    def _check(self, response: httpx.Response) -> None:
        """Sort answers into good, worth another try, and final."""
        status = response.status_code
        if status in (200, 201, 206):
            return
        if status in (429, 503):
            raise _Busy(status, _retry_after(response.headers.get("retry-after")))
        if status >= 500:
            raise _Busy(status, None)
        if status in (410, 413):
            response.read()
            raise _Refused(_detail(response))
        if status == 401:
            response.read()
            raise ServiceTrouble(
                f"{self.name} refuses the token: {_detail(response)}.",
                f"Get a new one there and run: bramblemoor service add {self.name} {self.url}",
            )
        response.read()
        raise ServiceTrouble(
            f"{self.name} answered {status}: {_detail(response)}.", "Correct the request and try again."
        )

    def _patiently(self, send: Callable[[], httpx.Response]) -> httpx.Response:
        def again(error: Exception) -> bool | float:
            if isinstance(error, _Busy):
                if error.wait is not None and error.wait > self.patience:
                    return False
                self.notice(f"{self.name}: {error}; trying again" + (f" in {error.wait:.0f} s" if error.wait else ""))
                return error.wait if error.wait is not None else True
            return isinstance(error, httpx.TransportError)

        try:
            for attempt in stamina.retry_context(on=again, attempts=None, timeout=self.patience, wait_jitter=0.2):
                with attempt:
                    return send()
        except _Busy as error:
            later = f" and asks to come back in {error.wait:.0f} s" if error.wait else ""
            raise ServiceTrouble(
                f"{self.name} is too busy ({error}{later}).", "Run the same command later: it goes on where it stopped."
            ) from error
        except httpx.TransportError as error:
            raise ServiceTrouble(
                f"{self.name} cannot be reached at {self.url} ({type(error).__name__}).",
                "Check the network, then run the same command again: it goes on where it stopped.",
            ) from error
        raise AssertionError("retry_context returns or raises")


def _pieces(response: httpx.Response) -> Iterator[bytes]:
    try:
        yield from response.iter_raw()
    except httpx.TransportError as error:
        raise ConnectionBroke from error


def _first_byte(response: httpx.Response, part: Part) -> int:
    """Where the answer begins (RFC 9110, 14.4). A 206 that cannot be placed is nonsense."""
    if response.status_code == 200:
        return 0
    span, _, size = response.headers.get("content-range", "").removeprefix("bytes ").partition("/")
    first = span.partition("-")[0]
    if not first.isdigit() or size != str(part.bytes):
        raise ServiceTrouble(
            f"The service sent a piece of {part.name} that fits nowhere.",
            "Run the same command again; if it stays, ask them.",
        )
    return int(first)


def _retry_after(value: str | None) -> float | None:
    """Seconds, or a date (RFC 9110, 10.2.3)."""
    if value is None:
        return None
    if value.isdigit():
        return float(value)
    try:
        return max(0.0, (parsedate_to_datetime(value) - datetime.now(UTC)).total_seconds())
    except (ValueError, TypeError):
        return None


def _detail(response: httpx.Response) -> str:
    """The sentence of an RFC 9457 problem, or nothing but the reason phrase."""
    try:
        return str(msgspec.json.decode(response.content, type=dict[str, Any])["detail"])[:200]
    except (msgspec.DecodeError, KeyError):
        return response.reason_phrase
