"""A byte proxy before a real server: it cuts, flips, delays and answers 503, so that signatures stay valid and the fault is on
the wire.

Used as a library: `with proxied(host, port, fault) as port:`; a fault is told how often, and of what.
"""

import random
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field

BUSY = b"HTTP/1.1 503 Slow Down\r\nRetry-After: 0\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
_PIECE = 16384


@dataclass
class Fault:
    """`kind` is cut-answer, cut-request, flip-answer, flip-request, busy, slow, or none; of `one_in` connections one has it.

    `done` counts. `rate` is how many bytes a second go to the server, of all connections together, 0 for any.
    """

    kind: str
    one_in: int = 3
    seed: int = 0
    done: int = 0
    rate: int = 0
    passed: int = 0
    free_at: float = 0.0
    lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        self.random = random.Random(self.seed)

    def wait(self, count: int) -> None:
        """Let so many bytes pass to the server when it is their turn."""
        if not self.rate:
            return
        with self.lock:
            now = time.monotonic()
            self.free_at = max(self.free_at, now) + count / self.rate
            self.passed += count
            pause = self.free_at - now
        time.sleep(pause)

    def strikes(self) -> bool:
        with self.lock:
            if self.random.randrange(self.one_in):
                return False
            self.done += 1
            return True


@contextmanager
def proxied(port: int, fault: Fault) -> Iterator[int]:
    """A port that leads to another one on this machine, through the fault."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind(("127.0.0.1", 0))
    listener.listen(64)
    ended = threading.Event()

    def accept() -> None:
        while not ended.is_set():
            try:
                client, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=_carry, args=(client, port, fault), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield listener.getsockname()[1]
    finally:
        ended.set()
        with suppress(OSError):
            listener.shutdown(socket.SHUT_RDWR)  # the thread that waits there would keep the port
        listener.close()


def _carry(client: socket.socket, port: int, fault: Fault) -> None:
    strikes = fault.kind != "none" and fault.strikes()
    with client:
        if strikes and fault.kind == "busy":
            client.recv(_PIECE)
            client.sendall(BUSY)
            return
        try:
            server = socket.create_connection(("127.0.0.1", port), 30)
        except OSError:
            return
        server.settimeout(None)
        with server:
            there = threading.Thread(
                target=_pipe,
                args=(client, server, fault if strikes and fault.kind.endswith("request") else None, fault),
                kwargs={"is_request": True},
                daemon=True,
            )
            there.start()
            if strikes and fault.kind == "slow":
                time.sleep(1.0)
            _pipe(server, client, fault if strikes and fault.kind.endswith("answer") else None, fault)


def _pipe(
    source: socket.socket, target: socket.socket, amiss: Fault | None, fault: Fault, *, is_request: bool = False
) -> None:
    """Hand on what comes; a fault strikes at a random byte of the first so many behind the headers."""
    at = fault.random.randrange(600, 40_000) if amiss else -1
    passed = 0
    try:
        while piece := source.recv(_PIECE):
            if amiss and passed <= at < passed + len(piece):
                place = at - passed
                if amiss.kind.startswith("cut"):
                    target.sendall(piece[:place])
                    return  # which shuts both down
                piece = piece[:place] + bytes((piece[place] ^ 1,)) + piece[place + 1 :]
            passed += len(piece)
            if is_request:
                fault.wait(len(piece))
            target.sendall(piece)
    except OSError:
        pass
    finally:
        for one in (source, target):
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
