"""The parcel protocol over HTTP (docs/service-protocol.md)."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any
from urllib.parse import quote

import msgspec

from bramblemoor.services.interface import (
    Account,
    Exports,
    OrderList,
    OrderScope,
    Part,
    PartsLapsed,
    PartStream,
    PlacedOrder,
    Survey,
    TooMuchAtOnce,
    checked,
)
from bramblemoor.services.moving import Powers
from bramblemoor.wire.http import Answered, Http, Refused, check_address, first_byte, told_digest
from bramblemoor.wire.signing import Signature


class ParcelHttp(Account, Exports):
    """A signed-in account that makes parcels. What is given besides name, address and token is the client's: see `Http`."""

    def __init__(self, name: str, url: str, token: str | Signature, **more: Any) -> None:
        self._http = Http(name, url, token, **more)

    @classmethod
    def checked_address(cls, url: str) -> str:
        """A token is never sent in the clear (RFC 6750, 5.3), except on the loopback interface."""
        return check_address(url)

    def survey(self) -> Survey:
        return self._http.ask("GET", "v1/account", Survey)

    def powers(self) -> Powers:
        return Powers([("make exports", True, "ordered, collected in parts, unpacked")])

    def is_more(self) -> bool:
        """Whether the service says of itself that it lists and takes frames, too."""
        try:
            told = self._http.ask("GET", "v1/powers", dict[str, Any])
        except Answered as error:
            if error.status in (404, 405):
                return False
            raise
        return bool(told.get("list")) and bool(told.get("uploads"))

    def place_order(self, scope: OrderScope, key: str = "") -> PlacedOrder:
        """A lost answer does not place it twice: the key says that it is the same; where no keys are kept, orders are listed."""
        before = {placed.id for placed in self.orders()} if key else set()
        asked, tried = msgspec.to_builtins(scope), False
        headers = {"Idempotency-Key": f'"{key}"'} if key else None

        def ask() -> PlacedOrder:
            nonlocal tried
            if tried and key:  # the answer may have been lost, and not the order
                for placed in self.orders():
                    if placed.key == key or (not placed.key and placed.id not in before):
                        return placed
            tried = True
            content = self._http.once("POST", "v1/orders", asked, headers)
            return checked(self._http.decoded(content, "v1/orders", PlacedOrder))

        return self._http.patiently(ask)

    def pick(self, scope: OrderScope) -> PlacedOrder:
        try:
            return checked(self._http.ask("POST", "v1/picks", PlacedOrder, msgspec.to_builtins(scope)))
        except Refused as error:
            raise TooMuchAtOnce(error.detail) from error

    def order(self, order: str) -> PlacedOrder:
        return checked(self._http.ask("GET", f"v1/orders/{quote(order, safe='')}", PlacedOrder))

    def orders(self) -> list[PlacedOrder]:
        return [checked(placed) for placed in self._http.ask("GET", "v1/orders", OrderList).orders]

    def withdraw(self, order: str) -> PlacedOrder:
        return checked(self._http.ask("DELETE", f"v1/orders/{quote(order, safe='')}", PlacedOrder))

    @contextmanager
    def open_part(self, part: Part, start: int, etag: str) -> Iterator[PartStream]:
        headers = {"Range": f"bytes={start}-", "If-Range": etag} if start and etag else {}
        try:
            response = self._http.open(part.href, headers, part.name)
        except Refused as error:
            raise PartsLapsed(error.detail) from error
        try:
            first, etag_now = first_byte(response, part.name, part.bytes), response.headers.get("etag", "")
            yield PartStream(first, etag_now, self._http.pieces(response), told_digest(response.headers))
        finally:
            response.close()
