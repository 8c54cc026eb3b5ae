"""How requests are signed: with a bearer token (RFC 6750), or with a name and password (RFC 7617 and RFC 7616)."""

import threading
from collections.abc import Generator

import httpx


class Signature(httpx.Auth):
    """What signs requests. `hidden` are the texts that nobody may be shown; `called` is what a person has of it."""

    hidden: tuple[str, ...] = ()
    called = "token"


class Bearer(Signature):
    def __init__(self, token: str) -> None:
        self._token = token
        self.hidden = (token,) if token else ()

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        request.headers["Authorization"] = f"Bearer {self._token}"
        yield request


class Login(Signature):
    """A name and password, sent in the way that the server asks for: as a digest where it takes one, else as they are.

    A digest counts its uses, so that each thread has one of its own.
    """

    called = "password"

    def __init__(self, user: str, password: str) -> None:
        self._user, self._password = user, password
        self.hidden = (password,) if password else ()
        self._basic = False
        self._own = threading.local()

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        if self._basic:
            yield from httpx.BasicAuth(self._user, self._password).auth_flow(request)
            return
        if not hasattr(self._own, "digest"):
            self._own.digest = httpx.DigestAuth(self._user, self._password)
        signing = self._own.digest.auth_flow(request)
        response = yield next(signing)
        if response.status_code == 401 and not _asks_for(response, "digest") and _asks_for(response, "basic"):
            self._basic = True
            yield from httpx.BasicAuth(self._user, self._password).auth_flow(request)
            return
        try:
            while True:
                response = yield signing.send(response)
        except StopIteration:
            return


def _asks_for(response: httpx.Response, scheme: str) -> bool:
    return any(one.strip().lower().startswith(scheme) for one in response.headers.get_list("www-authenticate"))
