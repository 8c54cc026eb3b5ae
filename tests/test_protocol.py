"""The parcel protocol, from both ends: the stand-in as docs/service-protocol.md says, and the client against odd services."""

import base64
import hashlib
import json
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path

import httpx
import pytest

from bramblemoor.disk.told import Inside
from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.services.interface import OrderScope, Part
from bramblemoor.services.kinds.parcel_http import ParcelHttp
from bramblemoor.wire import secrets
from bramblemoor.wire.http import ConnectionBroke, check_address
from conftest import serving

SURVEY = {
    "service": "Odd",
    "statement": {"frames": 1, "photos": 1, "videos": 0, "bytes": 5},
    "albums": [],
    "new-field": 1,
}
PART = Part(1, Inside("part.zip"), 10, "00" * 32, "v1/orders/X/parts/1")


def test_the_stand_in_keeps_the_protocol(world: Path) -> None:
    with serving(world) as address:
        token = (world.parent / "token.txt").read_text().strip()
        plain = httpx.Client(base_url=address)
        for headers in ({}, {"Authorization": "Bearer wrong"}, {"Authorization": token}):
            refused = plain.get("/v1/account", headers=headers)
            assert refused.status_code == 401 and refused.headers["www-authenticate"] == "Bearer"
        client = httpx.Client(
            base_url=address, headers={"Authorization": f"Bearer {token}", "Accept-Encoding": "identity"}
        )
        for body in ({"albums": ["none such"]}, {"since": "2031-01-01"}):
            assert client.post("/v1/orders", json=body).status_code == 422
        for odd in ({"what": 1}, {"part_bytes": "many"}):
            assert client.post("/v1/orders", json=odd).status_code == 400
        placed = client.post("/v1/orders", json={"albums": ["Roof work: 2026"], "part_bytes": 200_000})
        assert placed.status_code == 201 and placed.json()["state"] == "preparing"
        where = placed.headers["location"]
        for _ in range(100):
            order = client.get(where).json()
            if order["state"] == "ready":
                break
            time.sleep(0.05)
        assert len(order["parts"]) > 1 and order["statement"]["frames"] == 4
        part = order["parts"][0]
        whole = client.get(part["href"])
        digest = hashlib.sha256(whole.content)
        assert whole.status_code == 200 and whole.headers["accept-ranges"] == "bytes"
        assert (len(whole.content), digest.hexdigest()) == (part["bytes"], part["sha256"])
        assert whole.headers["repr-digest"] == f"sha-256=:{base64.b64encode(digest.digest()).decode()}:"
        etag = whole.headers["etag"]
        assert etag.startswith('"')  # strong
        rest = client.get(part["href"], headers={"Range": "bytes=1000-", "If-Range": etag})
        assert rest.status_code == 206 and rest.content == whole.content[1000:]
        assert rest.headers["content-range"] == f"bytes 1000-{part['bytes'] - 1}/{part['bytes']}"
        other = client.get(part["href"], headers={"Range": "bytes=1000-", "If-Range": '"another"'})
        assert other.status_code == 200 and other.content == whole.content
        beyond = client.get(part["href"], headers={"Range": f"bytes={part['bytes']}-", "If-Range": etag})
        assert beyond.status_code == 416 and beyond.headers["content-range"] == f"bytes */{part['bytes']}"
        assert client.get("/v1/orders/none").status_code == client.get(where + "/parts/99").status_code == 404


def account(handler: Callable[[httpx.Request], httpx.Response], patience: float = 5.0) -> ParcelHttp:
    return ParcelHttp("odd", "https://odd.example", "sesame", patience=patience, transport=httpx.MockTransport(handler))


def answering(
    *answers: httpx.Response | Exception,
) -> tuple[Callable[[httpx.Request], httpx.Response], list[httpx.Request]]:
    """A service that gives these answers in turn, the last one for ever."""
    seen: list[httpx.Request] = []

    def handler(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        answer = answers[min(len(seen), len(answers)) - 1]
        if isinstance(answer, Exception):
            raise answer
        return answer

    return handler, seen


def test_the_client_waits_and_tries_again() -> None:
    soon = format_datetime(datetime.now(UTC) + timedelta(seconds=1), usegmt=True)
    handler, seen = answering(
        httpx.ConnectError("down"),
        httpx.Response(503, headers={"Retry-After": "0"}),
        httpx.Response(429, headers={"Retry-After": soon}),
        httpx.Response(500),
        httpx.Response(200, json=SURVEY),
    )
    assert account(handler).survey().statement.frames == 1
    assert len(seen) == 5 and seen[0].headers["authorization"] == "Bearer sesame"
    assert seen[0].headers["accept-encoding"] == "identity"


@pytest.mark.parametrize(
    ("answer", "words"),
    [
        (httpx.Response(503, headers={"Retry-After": "9000"}), ("too busy", "come back in 9000 s")),
        (httpx.Response(401), ("refuses the token", "service add odd")),
        (httpx.Response(302, headers={"Location": "https://elsewhere.example/"}), ("answered 302",)),
        (httpx.Response(404, json={"detail": "there is no such thing"}), ("404: there is no such thing",)),
        (httpx.Response(200, text="<html>"), ("something else than the protocol says",)),
        (
            httpx.Response(200, json=SURVEY | {"statement": {"frames": "many"}}),
            ("something else than the protocol says",),
        ),
        (httpx.ConnectError("down"), ("cannot be reached", "goes on where it stopped")),
        (httpx.ReadTimeout("slow"), ("cannot be reached",)),
    ],
)
def test_the_client_gives_up_in_two_sentences(answer: httpx.Response | Exception, words: tuple[str, ...]) -> None:
    handler, _ = answering(answer)
    with pytest.raises(ServiceTrouble) as trouble:
        account(handler, patience=0.3).survey()
    assert all(word in str(trouble.value) for word in words) and "sesame" not in str(trouble.value)


def test_orders_say_only_what_was_chosen() -> None:
    placed = {"id": "X", "state": "asked", "statement": SURVEY["statement"]}
    handler, seen = answering(httpx.Response(201, json=placed))
    account(handler).place_order(OrderScope(albums=["Owls & water"], media="photos"))
    assert json.loads(seen[0].content) == {"albums": ["Owls & water"], "media": "photos"}


def test_parts_are_resumed_only_where_they_fit() -> None:
    def opened(answer: httpx.Response, href: str = PART.href) -> tuple[int, bytes, httpx.Request]:
        handler, seen = answering(answer)
        part = Part(1, Inside("part.zip"), 10, "00" * 32, href)
        with account(handler, patience=0.3).open_part(part, 4, '"tag"') as stream:
            return stream.start, b"".join(stream.pieces), seen[0]

    def piece(span: str) -> httpx.Response:
        return httpx.Response(206, headers={"Content-Range": span}, stream=httpx.ByteStream(b"456789"))

    start, content, request = opened(piece("bytes 4-9/10"))
    assert (start, content) == (4, b"456789")
    assert request.headers["range"] == "bytes=4-" and request.headers["if-range"] == '"tag"'
    assert opened(httpx.Response(200, stream=httpx.ByteStream(b"0123456789")))[:2] == (0, b"0123456789")
    for odd in ("bytes 4-9/11", "bytes */10", "", "items 4-9/10"):
        with pytest.raises(ServiceTrouble, match="fits nowhere"):
            opened(piece(odd))
    for elsewhere in ("https://elsewhere.example/part", "http://odd.example/part", "//elsewhere.example/part"):
        with pytest.raises(ServiceTrouble, match="at another address"):
            opened(piece("bytes 4-9/10"), elsewhere)


def test_a_broken_transfer_is_told_apart_from_a_whole_one() -> None:
    class Breaking(httpx.SyncByteStream):
        def __iter__(self):  # type: ignore[no-untyped-def]
            yield b"0123"
            raise httpx.ReadError("gone")

    handler, _ = answering(httpx.Response(200, stream=Breaking()))
    came: list[bytes] = []
    with account(handler).open_part(PART, 0, "") as stream, pytest.raises(ConnectionBroke):
        came.extend(stream.pieces)
    with account(answering(httpx.Response(200, stream=Breaking()))[0]).open_part(PART, 0, "") as stream:
        assert next(stream.pieces) == b"0123"


def test_addresses() -> None:
    for good in (
        "https://a.example",
        "https://a.example:8443/base/",
        "http://127.0.0.1:80",
        "http://localhost:1",
        "http://[::1]:9",
    ):
        assert check_address(good).startswith(good.rstrip("/"))
    for bad in (
        "http://a.example",
        "http://192.168.1.2",
        "ftp://a.example",
        "a.example",
        "https://",
        "https://user:pw@a.example",
    ):
        with pytest.raises(WrongUse):
            check_address(bad)


def test_tokens_are_kept_for_their_owner_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("BRAMBLEMOOR_SECRETS", str(tmp_path / "deep/tokens.json"))
    assert secrets.recall("library/one") is None
    secrets.keep("library/one", "sesame")
    secrets.keep("library/two", "open")
    secrets.keep("library/one", "again")
    assert (secrets.recall("library/one"), secrets.recall("library/two")) == ("again", "open")
    assert (tmp_path / "deep/tokens.json").stat().st_mode & 0o777 == 0o600
    # Without that variable and without a keyring on the system, a file in the user's own folder.
    monkeypatch.delenv("BRAMBLEMOOR_SECRETS")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "keyring.backends.fail.Keyring")
    import keyring
    from keyring.backends.fail import Keyring

    keyring.set_keyring(Keyring())  # type: ignore[no-untyped-call]
    secrets.keep("library/one", "third")
    assert secrets.recall("library/one") == "third" and secrets.recall("library/none") is None
    kept = list((tmp_path / "config").rglob("secrets.json"))
    assert len(kept) == 1 and kept[0].stat().st_mode & 0o077 == 0


def test_no_kind_of_service_follows_a_redirect() -> None:
    """What opens an account is shown to the address that it was given for, and to no other."""
    from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

    from bramblemoor.services.kinds import open_account

    asked: list[str] = []

    class Elsewhere(BaseHTTPRequestHandler):
        def answer(self) -> None:
            asked.append(self.path)
            self.send_response(307)
            self.send_header("Location", f"http://127.0.0.1:{other.server_port}/moved/")
            self.send_header("Content-Length", "0")
            self.end_headers()

        do_GET = do_HEAD = do_PROPFIND = answer

        def log_message(self, *_: object) -> None:
            pass

    class Other(Elsewhere):
        def answer(self) -> None:
            raise AssertionError("it was followed")

        do_GET = do_HEAD = do_PROPFIND = answer

    with (
        ThreadingHTTPServer(("127.0.0.1", 0), Elsewhere) as server,
        ThreadingHTTPServer(("127.0.0.1", 0), Other) as other,
    ):
        for one in (server, other):
            threading.Thread(target=one.serve_forever, daemon=True).start()
        for kind, options in (("parcels", {}), ("folders", {"user": "ann"}), ("bucket", {"user": "KEY"})):
            account = open_account(
                kind, "odd", f"http://127.0.0.1:{server.server_port}/valley", "sesame", options, patience=2,
                notice=lambda text: None, proxy="",
            )  # fmt: skip
            with pytest.raises(ServiceTrouble) as refused:
                account.survey()
            assert "points to another address" in str(refused.value) and "sesame" not in str(refused.value)
        for one in (server, other):
            one.shutdown()
    assert len(asked) >= 3
