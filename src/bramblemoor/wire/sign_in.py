"""Signing in at a service with a code on a page (RFC 8628), and keeping signed in: tokens that are renewed (RFC 6749, 6) and
can be revoked (RFC 7009).

A new refresh token is kept before it is used: the former one is worth nothing from then on.
"""

import threading
import time
from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import TypeVar
from urllib.parse import urlsplit

import httpx
import msgspec

from bramblemoor.errors import ServiceTrouble
from bramblemoor.wire.http import check_address
from bramblemoor.wire.reaching import trusting, why_unreachable
from bramblemoor.wire.signing import Signature

Answer = TypeVar("Answer")

CLIENT = "bramblemoor"
READ, SEND = "read", "send"
"""What a token may be for: looking and exporting, and sending frames."""
_WELL_KNOWN = "/.well-known/oauth-authorization-server"
_GRANT = "urn:ietf:params:oauth:grant-type:device_code"
_SLOWER = 5.0  # seconds more between two questions (RFC 8628, 3.5)
_EARLY = 5.0  # seconds before its end in which a token is renewed


class Issuer(msgspec.Struct, frozen=True):
    """What a service says of how one signs in (RFC 8414, 2, and RFC 8628, 4)."""

    issuer: str
    token_endpoint: str
    device_authorization_endpoint: str
    revocation_endpoint: str = ""


class DeviceCode(msgspec.Struct, frozen=True):
    """What the user is to type, and where (RFC 8628, 3.2). Times in seconds."""

    device_code: str
    user_code: str
    verification_uri: str
    expires_in: float
    interval: float = 5.0


class Tokens(msgspec.Struct, frozen=True):
    """What a signed-in account is opened with; `until` is when the access ends, in seconds since 1970, 0 where unknown."""

    issuer: str
    access: str
    refresh: str = ""
    scope: str = ""
    until: float = 0.0


class _Given(msgspec.Struct, frozen=True):
    access_token: str
    refresh_token: str = ""
    scope: str = ""
    expires_in: float = 0.0


class _Refused(msgspec.Struct, frozen=True):
    error: str
    error_description: str = ""


class SignInEnded(ServiceTrouble):
    """The sign-in is over: it has lapsed, was revoked, or was never given."""


@dataclass(frozen=True)
class Asking:
    """How a service is asked: its name here, its address, and the certificate and proxy of its client."""

    name: str
    url: str
    authority: str = ""
    proxy: str = ""

    def client(self) -> httpx.Client:
        secure = urlsplit(self.url).scheme == "https"
        return httpx.Client(
            verify=trusting(self.authority) if secure else True, timeout=30.0, trust_env=False, follow_redirects=False,
            proxy=self.proxy if self.proxy and secure else None,
        )  # fmt: skip

    def ask(self, method: str, url: str, form: dict[str, str] | None = None) -> httpx.Response:
        """Raises ServiceTrouble where the service cannot be reached."""
        try:
            with self.client() as client:
                return client.request(method, url, data=form, headers={"Accept": "application/json"})
        except httpx.TransportError as error:
            raise why_unreachable(error, self.proxy).trouble(self.name, self.url) from error


def issuer_of(asking: Asking) -> Issuer:
    """How one signs in there. Raises ServiceTrouble where it offers no such thing, or speaks for another (RFC 8414, 3.3)."""
    parts = urlsplit(asking.url)
    response = asking.ask("GET", f"{parts.scheme}://{parts.netloc}{_WELL_KNOWN}")
    try:
        found = msgspec.json.decode(response.content, type=Issuer) if response.status_code == 200 else None
    except msgspec.DecodeError:
        found = None
    if found is None:
        raise ServiceTrouble(
            f"{asking.name} offers no sign-in with a code.", "Get a token there, and give it with --token-file."
        )
    if found.issuer.rstrip("/") != f"{parts.scheme}://{parts.netloc}":
        raise ServiceTrouble(
            f"{asking.name} says that one signs in at {found.issuer}, which is not the address that was given.",
            "Nothing was sent there; check the address.",
        )
    for endpoint in (found.token_endpoint, found.device_authorization_endpoint, found.revocation_endpoint):
        if endpoint:
            check_address(endpoint)
    return found


def begin(asking: Asking, issuer: Issuer, scope: str) -> DeviceCode:
    """Ask for a code that the user types on the service's page."""
    response = asking.ask("POST", issuer.device_authorization_endpoint, {"client_id": CLIENT, "scope": scope})
    return _decoded(asking, response, DeviceCode)


def wait(
    asking: Asking, issuer: Issuer, code: DeviceCode, scope: str, pause: Callable[[float], None] = time.sleep
) -> Tokens:
    """Ask until the user has typed it (RFC 8628, 3.4 and 3.5). Raises SignInEnded where that is refused, or takes too long."""
    interval, until = code.interval, time.monotonic() + code.expires_in
    form = {"grant_type": _GRANT, "device_code": code.device_code, "client_id": CLIENT}
    while time.monotonic() < until:
        pause(interval)
        response = asking.ask("POST", issuer.token_endpoint, form)
        if response.status_code == 200:
            return _tokens(issuer, _decoded(asking, response, _Given), scope)
        error = _error(response)
        if error == "slow_down":
            interval += _SLOWER
        elif error == "access_denied":
            raise SignInEnded(f"{asking.name} was told no.", "Sign in again, and allow it on the page.")
        elif error == "expired_token":
            break
        elif error != "authorization_pending":
            raise SignInEnded(f"{asking.name} does not let us sign in ({error}).", "Ask the service.")
    raise SignInEnded("The code was not typed in time.", f"Sign in again: bramblemoor service sign-in {asking.name}.")


def renew(asking: Asking, issuer: Issuer, tokens: Tokens) -> Tokens:
    """New tokens for the old ones (RFC 6749, 6). Raises SignInEnded where they are worth nothing any more (5.2)."""
    form = {"grant_type": "refresh_token", "refresh_token": tokens.refresh, "client_id": CLIENT}
    response = asking.ask("POST", issuer.token_endpoint, form)
    if response.status_code == 200:
        fresh = _tokens(issuer, _decoded(asking, response, _Given), tokens.scope)
        return fresh if fresh.refresh else msgspec.structs.replace(fresh, refresh=tokens.refresh)
    if response.status_code in (400, 401):
        raise ended(asking.name)
    raise ServiceTrouble(
        f"{asking.name} does not renew the sign-in now (it answers {response.status_code}).",
        "Run the same command later: it goes on where it stopped.",
    )


def ended(name: str) -> SignInEnded:
    return SignInEnded(
        f"The sign-in at {name} has lapsed, or was revoked.",
        f"Sign in again: bramblemoor service sign-in {name}. Then the same command goes on where it stopped.",
    )


def revoke(asking: Asking, issuer: Issuer, tokens: Tokens) -> bool:
    """Take the tokens back at the service (RFC 7009, 2); says whether it offers that. It answers 200 of unknown ones, too."""
    if not issuer.revocation_endpoint:
        return False
    for token, hint in ((tokens.refresh, "refresh_token"), (tokens.access, "access_token")):
        if token:
            form = {"token": token, "token_type_hint": hint, "client_id": CLIENT}
            response = asking.ask("POST", issuer.revocation_endpoint, form)
            if response.status_code != 200:
                raise ServiceTrouble(
                    f"{asking.name} does not take the sign-in back (it answers {response.status_code}).",
                    "Take it back on the service's own pages.",
                )
    return True


class Renewing(Signature):
    """Signs with an access token that is renewed before it ends, or when it is refused. `keep` is told new ones before they are
    used.
    """

    called = "sign-in"

    def __init__(self, asking: Asking, tokens: Tokens, keep: Callable[[Tokens], None]) -> None:
        self._asking, self._tokens, self._keep = asking, tokens, keep
        self._lock = threading.Lock()
        self._issuer: Issuer | None = None

    @property
    def hidden(self) -> tuple[str, ...]:  # type: ignore[override]
        return tuple(filter(None, (self._tokens.access, self._tokens.refresh)))

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        tokens = self._tokens
        if tokens.until and tokens.until - time.time() < _EARLY and tokens.refresh:
            tokens = self._renewed(tokens)
        request.headers["Authorization"] = f"Bearer {tokens.access}"
        response = yield request
        if response.status_code == 401:
            tokens = self._renewed(tokens)
            request.headers["Authorization"] = f"Bearer {tokens.access}"
            yield request

    def _renewed(self, stale: Tokens) -> Tokens:
        """Tokens that are no longer these; of several threads one renews them for all."""
        with self._lock:
            if self._tokens is not stale:
                return self._tokens
            if not stale.refresh:
                raise ended(self._asking.name)
            self._issuer = self._issuer or issuer_of(self._asking)
            fresh = renew(self._asking, self._issuer, stale)
            self._keep(fresh)
            self._tokens = fresh
            return fresh


def written(tokens: Tokens) -> str:
    return msgspec.json.encode(tokens).decode()


def read(secret: str) -> Tokens | None:
    """Tokens, where what was kept is such; None where it is a token that somebody copied."""
    if not secret.startswith("{"):
        return None
    try:
        return msgspec.json.decode(secret, type=Tokens)
    except msgspec.DecodeError:
        return None


def _tokens(issuer: Issuer, given: _Given, scope: str) -> Tokens:
    until = time.time() + given.expires_in if given.expires_in else 0.0
    return Tokens(issuer.issuer, given.access_token, given.refresh_token, given.scope or scope, until)


def _error(response: httpx.Response) -> str:
    try:
        return msgspec.json.decode(response.content, type=_Refused).error
    except msgspec.DecodeError:
        return f"it answers {response.status_code}"


def _decoded(asking: Asking, response: httpx.Response, shape: type[Answer]) -> Answer:
    try:
        if response.status_code == 200:
            return msgspec.json.decode(response.content, type=shape)
    except msgspec.DecodeError:
        pass
    raise ServiceTrouble(
        f"{asking.name} answered the sign-in with something else than RFC 8628 says.",
        "Ask the service, or give a token.",
    )
