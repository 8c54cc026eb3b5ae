"""How the HTTP client's requests travel: over urllib3's connections, which take half the time of the client's own ones for each
request, and that is most of it where files are small.
"""

import ssl
from collections.abc import Iterable, Iterator

import httpx
import urllib3
from urllib3.exceptions import ConnectTimeoutError, HTTPError, NewConnectionError, ProtocolError, ReadTimeoutError
from urllib3.util import make_headers, parse_url

from bramblemoor.running import PIECE

_CONNECT, _READ = 10.0, 30.0  # seconds; reading is of one piece, and so is sending
_SENT = 64 << 10
"""Bytes that are sent at once: on a slow link a larger piece would not be through in time."""
_BUFFERED, _SLOW = 4 << 20, 40_000
"""Bytes that may wait in this machine's buffers when all seems sent, and bytes a second of a slow link: so long an answer may
take besides.
"""


class Connections(httpx.BaseTransport):
    """Connections of one thread: `trust` says whom over TLS, `proxy` is the address of one, "" for none."""

    def __init__(self, trust: ssl.SSLContext | None, proxy: str) -> None:
        if proxy:
            login = parse_url(proxy).auth
            self._pool: urllib3.PoolManager = urllib3.ProxyManager(
                proxy, ssl_context=trust, proxy_headers=make_headers(proxy_basic_auth=login) if login else None
            )
        else:
            self._pool = urllib3.PoolManager(ssl_context=trust)

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        assert isinstance(request.stream, httpx.SyncByteStream)
        size = int(request.headers.get("content-length", 0))
        try:
            answer = self._pool.urlopen(
                request.method,
                str(request.url),
                body=_sliced(request.stream) if "content-length" in request.headers else None,
                headers=urllib3.HTTPHeaderDict(request.headers.multi_items()),
                redirect=False,
                retries=False,
                timeout=urllib3.Timeout(connect=_CONNECT, read=_READ + min(size, _BUFFERED) / _SLOW),
                preload_content=False,
                decode_content=False,
            )
        except (HTTPError, OSError) as error:
            raise _as_told(error) from error
        return httpx.Response(
            answer.status,
            headers=list(answer.headers.iteritems()),
            stream=_Coming(answer),
            extensions={"reason_phrase": (answer.reason or "").encode("latin-1", "replace")},
        )

    def close(self) -> None:
        self._pool.clear()


def _sliced(pieces: Iterable[bytes]) -> Iterator[bytes]:
    for piece in pieces:
        if len(piece) <= _SENT:
            yield piece
        else:
            yield from (piece[at : at + _SENT] for at in range(0, len(piece), _SENT))


class _Coming(httpx.SyncByteStream):
    """The content of an answer. A connection whose answer was read to its end is used again."""

    def __init__(self, answer: urllib3.BaseHTTPResponse) -> None:
        self._answer = answer

    def __iter__(self) -> Iterator[bytes]:
        try:
            while piece := self._answer.read1(PIECE):
                yield piece
        except (HTTPError, OSError) as error:
            raise _as_told(error) from error

    def close(self) -> None:
        # What is not read to its end may be any amount: its connection is given up.
        if self._answer.closed or getattr(self._answer, "length_remaining", None) == 0:
            self._answer.release_conn()
        else:
            self._answer.close()


def _as_told(error: Exception) -> httpx.TransportError:
    """The client's own error for it, with what lies below."""
    if isinstance(error, ConnectTimeoutError):
        return httpx.ConnectTimeout(str(error))
    if isinstance(error, ReadTimeoutError):
        return httpx.ReadTimeout(str(error))
    if isinstance(error, NewConnectionError):
        return httpx.ConnectError(str(error))
    if isinstance(error, ProtocolError):
        return httpx.RemoteProtocolError(str(error))
    return httpx.NetworkError(str(error))
