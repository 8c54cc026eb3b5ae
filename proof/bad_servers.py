"""Small servers that do what no honest one does: they point elsewhere, are certified for another host, or know no ranges and tell
no ETags.
"""

import http.client
import random
import re
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import partial
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

_OWN = ("etag", "accept-ranges", "content-length", "connection", "date", "server", "transfer-encoding")


class Server(BaseHTTPRequestHandler):
    """Whatever the method, `answer` answers."""

    protocol_version = "HTTP/1.1"

    def log_message(self, *_: Any) -> None:
        pass

    def parse_request(self) -> bool:
        found = super().parse_request()
        self.__dict__[f"do_{self.command}"] = self.answer
        return found

    def answer(self) -> None:
        raise NotImplementedError

    def body(self) -> bytes:
        return self.rfile.read(int(self.headers.get("Content-Length") or 0))

    def empty(self, status: int, **headers: str) -> None:
        self.send_response(status)
        for name, value in (headers | {"Content-Length": "0"}).items():
            self.send_header(name, value)
        self.end_headers()


@contextmanager
def listening(server: type[Server], context: ssl.SSLContext | None = None) -> Iterator[int]:
    """Serve on loopback, over TLS with a `context`; yields the port."""
    there = ThreadingHTTPServer(("127.0.0.1", 0), server)
    there.daemon_threads = True
    there.handle_error = lambda *_: None  # type: ignore[method-assign]
    if context:
        there.socket = context.wrap_socket(there.socket, server_side=True)
    threading.Thread(target=partial(there.serve_forever, 0.05), daemon=True).start()
    try:
        yield there.server_address[1]
    finally:
        there.shutdown()
        there.server_close()


def noting(seen: list[str]) -> type[Server]:
    """A server that has nothing, and notes what it is asked and told."""

    class Noting(Server):
        def answer(self) -> None:
            seen.append(f"{self.path} {self.headers}")
            self.body()
            self.empty(404)

    return Noting


def pointing(status: int, port: int) -> type[Server]:
    """A server that points to another one for everything."""

    class Pointing(Server):
        def answer(self) -> None:
            self.body()
            self.empty(status, Location=f"http://localhost:{port}{self.path}")

    return Pointing


def plain(host: str, port: int, breaks: int, rand: random.Random) -> type[Server]:
    """A server before another one that knows no ranges and tells no ETags; so many downloads break off."""
    left = [breaks]

    class Plain(Server):
        def answer(self) -> None:
            wanted = {
                name: value for name, value in self.headers.items() if name.lower() not in ("range", "if-range", "host")
            }
            there = http.client.HTTPConnection(host, port, timeout=30)
            there.request(self.command, self.path, self.body(), wanted)
            answer = there.getresponse()
            content = answer.read()
            there.close()
            if self.command == "PROPFIND":
                content = re.sub(rb"<(\w+):getetag>.*?</\1:getetag>", b"", content)
            self.send_response(answer.status)
            for name, value in answer.getheaders():
                if name.lower() not in _OWN:
                    self.send_header(name, value)
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            if self.command == "GET" and left[0] and len(content) > 100 and rand.random() < 0.3:
                left[0] -= 1
                self.wfile.write(content[: rand.randrange(len(content))])
                self.close_connection = True
                with suppress(OSError):
                    self.connection.shutdown(socket.SHUT_RDWR)
            elif self.command != "HEAD":
                self.wfile.write(content)

    return Plain
