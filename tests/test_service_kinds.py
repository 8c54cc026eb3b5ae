"""What every service with folders does, whatever its kind: one list of promises, kept by the stand-ins here, and by real
servers in `make real` (BRAMBLEMOOR_REAL names a file that tells where they are: see proof/real.py).
"""

import hashlib
import json
import os
import socket
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from bramblemoor.disk.told import Inside
from bramblemoor.errors import ServiceTrouble
from bramblemoor.services.interface import Account, Content, NameTaken, NotTaken, Tree, TreeUploads
from bramblemoor.services.kinds import open_account
from bramblemoor.services.moving import Arrived, Changed, Outgoing
from bramblemoor.wire.http import Answered, ConnectionBroke
from conftest import standing_in

_REAL = json.loads(Path(os.environ["BRAMBLEMOOR_REAL"]).read_text()) if "BRAMBLEMOOR_REAL" in os.environ else {}
NAMES = (
    "plain.jpg", "with space.jpg", "Łąka o świcie.jpg", "50% & more+plus=equal;semi.jpg", "a'quote\"less.jpg".replace('"', ""),
    "水面の灯り.jpg", "#hash.jpg", "tilde~.jpg", "UPPER.JPG",
)  # fmt: skip


@dataclass
class Place:
    """A service to try, opened; `again` opens it anew, as another run would; files go below a folder of its own."""

    account: Any
    again: Callable[[], Any]
    below: str
    kind: str
    where: dict[str, Any]


def _opened(kind: str, where: dict[str, Any]) -> Account:
    return open_account(
        kind, "tried", where["url"], where["secret"], {"user": where["user"]}, patience=20, notice=lambda text: None,
        proxy="", authority=where.get("authority", ""),
    )  # fmt: skip


@pytest.fixture(params=["stonewharf", "coldbarrow", *_REAL])
def place(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Place]:
    below = f"tried-{os.getpid()}-{abs(hash(request.node.name)) % 10**6}"
    if request.param in _REAL:
        where = _REAL[request.param]
        kind = where["kind"]
        yield Place(_opened(kind, where), lambda: _opened(kind, where), below, kind, where)
        return
    with standing_in(request.param, tmp_path / "account") as service:
        kind, where = service.kind, service.where
        yield Place(_opened(kind, where), lambda: _opened(kind, where), below, kind, where)


def given(content: bytes, *, piece: int = 100_000) -> Content:
    @contextmanager
    def pieces() -> Iterator[Iterator[bytes]]:
        yield (content[at : at + piece] for at in range(0, len(content), piece))

    return pieces


def put(place: Place, name: str, content: bytes, *, sha256: str = "", mine: bool = False, by: Any = None) -> Arrived:
    outgoing = Outgoing("original", Inside(name.rpartition("/")[2]), len(content), sha256)
    found: Arrived = (by or place.account).put(
        Inside(f"{place.below}/{name}"), outgoing, given(content), lambda path: None, mine=mine
    )
    return found


def got(account: Any, path: str, start: int = 0, etag: str = "") -> tuple[int, str, bytes]:
    with account.open(Inside(path), start, etag) as stream:
        return stream.start, stream.etag, b"".join(stream.pieces)


def lying(account: Tree, below: str) -> dict[str, int]:
    return {one.path: one.bytes for one in account.entries(below) if not one.is_folder}


def test_files_arrive_as_they_were(place: Place) -> None:
    sizes = {"nothing.jpg": 0, "one.jpg": 1, "many.jpg": 300_000, "deep/er/and/deeper.jpg": 12_345}
    for name in NAMES:
        sizes[f"names/{name}"] = 2000
    contents = {name: os.urandom(size) for name, size in sizes.items()}
    for name, content in contents.items():
        arrived = put(place, name, content)
        assert (arrived.read_back or arrived.etag) and arrived.sha256 == hashlib.sha256(content).hexdigest()
    fresh = place.again()
    assert lying(fresh, place.below) == {f"{place.below}/{name}": size for name, size in sizes.items()}
    for name, content in contents.items():
        assert got(fresh, f"{place.below}/{name}")[2] == content
    assert fresh.peek(Inside(f"{place.below}/many.jpg"), 1000, 500) == contents["many.jpg"][1000:1500]
    assert fresh.peek(Inside(f"{place.below}/none.jpg"), 0, 500) == b""


def test_a_large_file_goes_on_where_it_broke_off(place: Place) -> None:
    content = os.urandom(20_000_000)
    put(place, "film.mp4", content)
    path = f"{place.below}/film.mp4"
    start, etag, whole = got(place.account, path)
    assert start == 0 and whole == content
    start, _, rest = got(place.account, path, 15_000_000, etag)
    assert content[start:] == rest
    start, _, whole = got(place.account, path, 15_000_000, '"another"')
    assert start == 0 and whole == content  # it is another one by now: all of it comes


def test_nobody_is_overwritten(place: Place) -> None:
    put(place, "a.jpg", b"mine" * 1000)
    with pytest.raises(NameTaken):
        put(place, "a.jpg", b"yours" * 1000)
    assert got(place.account, f"{place.below}/a.jpg")[2] == b"mine" * 1000
    # Some stores refuse to overwrite what is put whole, and not what is put in pieces.
    film = os.urandom(9_000_000)
    put(place, "film.mp4", film)
    with pytest.raises(NameTaken):
        put(place, "film.mp4", bytes(9_000_000))
    assert got(place.account, f"{place.below}/film.mp4")[2] == film


def test_content_goes_with_its_request() -> None:
    """Nothing is asked first of a store (RFC 9110, 10.1.1): where that answer is cut off, the client reads on for ever."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        where = {"url": f"http://127.0.0.1:{server.getsockname()[1]}/valley", "user": "KEY", "secret": "secret"}
        store: Any = open_account("bucket", "tried", where["url"], where["secret"], {"user": "KEY"}, patience=0,
                             notice=lambda text: None, proxy="", authority="")  # fmt: skip
        outgoing = Outgoing("original", Inside("a.jpg"), 9)
        with ThreadPoolExecutor(1) as pool:
            putting = pool.submit(
                store.put, Inside("a.jpg"), outgoing, given(b"a picture"), lambda path: None, mine=True
            )
            said, _ = server.accept()
            with said:
                request = b""
                while not request.endswith(b"a picture"):
                    request += said.recv(65536)
            with pytest.raises(ServiceTrouble):
                putting.result()
    assert b"content-md5" in request.lower() and b"expect" not in request.lower()


def test_what_breaks_off_leaves_nothing(place: Place) -> None:
    put(place, "before.jpg", b"x")

    @contextmanager
    def broken() -> Iterator[Iterator[bytes]]:
        def pieces() -> Iterator[bytes]:
            yield b"a" * 50_000
            raise ConnectionBroke

        yield pieces()

    outgoing = Outgoing("original", Inside("half.jpg"), 100_000)
    with pytest.raises(ConnectionBroke):
        place.account.put(Inside(f"{place.below}/half.jpg"), outgoing, broken, lambda path: None, mine=False)
    with pytest.raises(Changed):
        put(place, "half.jpg", b"b" * 100_000, sha256="00" * 32)
    assert lying(place.again(), place.below) == {f"{place.below}/before.jpg": 1}
    put(place, "half.jpg", b"c" * 100_000)
    assert got(place.account, f"{place.below}/half.jpg")[2] == b"c" * 100_000


def test_several_at_once(place: Place) -> None:
    """Also into folders that nobody has made yet, and one name by two who send: then one of the two is there, whole."""
    contents = {f"{n % 4}/{n % 3}/{n}.jpg": os.urandom(5_000 + n) for n in range(24)}
    twice = {"one.jpg": [b"first" * 999, b"second" * 999]}
    outcomes: list[str] = []
    lock = threading.Lock()

    def one(sent: tuple[str, bytes, Any]) -> None:
        try:
            put(place, sent[0], sent[1], by=sent[2])
            said = "put"
        except NameTaken:
            said = "taken"
        with lock:
            outcomes.append(said)

    with ThreadPoolExecutor(8) as pool:
        own = [(name, content, place.account) for name, content in contents.items()]
        list(pool.map(one, [*own, *(("one.jpg", content, place.again()) for content in twice["one.jpg"])]))
    fresh = place.again()
    assert len(lying(fresh, place.below)) == 25 and outcomes.count("put") >= 25
    for name, content in contents.items():
        assert got(fresh, f"{place.below}/{name}")[2] == content
    assert got(fresh, f"{place.below}/one.jpg")[2] in twice["one.jpg"]


def test_what_is_not_there_is_said(place: Place) -> None:
    with pytest.raises(Answered) as missing:
        got(place.account, f"{place.below}/none.jpg")
    assert missing.value.status == 404
    survey = place.account.survey()
    assert (survey.files >= 0 and place.account.room() is None) or place.account.room() > 0
    assert all(len(line) == 3 for line in place.account.powers().can)


def test_a_wrong_password_is_one_sentence(place: Place) -> None:
    where = place.where | {"secret": "sesame"}
    with pytest.raises(ServiceTrouble) as refused:
        next(iter(_opened(place.kind, where).entries()), None)  # type: ignore[attr-defined]
    assert "sesame" not in str(refused.value) and "refuses" in str(refused.value)


def test_a_name_that_is_too_long_is_refused_alone(place: Place) -> None:
    put(place, "good.jpg", b"good")
    with pytest.raises((NotTaken, NameTaken)):
        put(place, "x" * 1100 + ".jpg", b"bad")
    assert isinstance(place.account, TreeUploads) and lying(place.again(), place.below) == {
        f"{place.below}/good.jpg": 4
    }
