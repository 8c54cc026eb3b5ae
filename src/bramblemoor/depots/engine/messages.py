"""What a run tells the writing process of a depot, and what it is told: messages over two pipes.

Each message is msgpack behind its length in four bytes. Content never passes through the pipes: it lies in the slots of a
buffer that both processes see, and messages name the slot.
"""

import struct
from collections.abc import Iterator
from typing import BinaryIO

import msgspec

_LENGTH = struct.Struct("<I")


class Task(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """A file to write. `number` is what the results call it."""

    number: int
    path: str
    bytes: int
    sha256: str
    mtime_ns: int
    why: str
    mends: bool


class Setup(msgspec.Struct, tag="setup", array_like=True):
    """The first message: where the depot lies and which place that was (`Store.seen`), its run, its kind (module and class), the
    buffer, and whether large files are written and read back by turns."""

    where: str
    seen: tuple[int, ...]
    run: str
    kind: tuple[str, str]
    options: dict[str, str]
    buffer: str
    most_held: int
    by_turns: bool
    parent: int


class Small(msgspec.Struct, tag="small", array_like=True):
    """Whole files that lie in one slot: (file, where it begins) of each."""

    slot: int
    files: list[tuple[Task, int]]


class Begin(msgspec.Struct, tag="begin", array_like=True):
    """A file that comes in pieces."""

    task: Task


class Piece(msgspec.Struct, tag="piece", array_like=True):
    slot: int
    length: int


class End(msgspec.Struct, tag="end", array_like=True):
    """The file is whole, and that is its digest; or (`worthless`) its source was not what it should be."""

    sha256: str
    worthless: bool = False


class Finish(msgspec.Struct, tag="finish", array_like=True):
    """Read back and put in place what is still held."""


class Freed(msgspec.Struct, tag="freed", array_like=True):
    """Slots that the writing process has done with."""

    slots: list[int]


class Came(msgspec.Struct, tag="came", array_like=True):
    """What came of files: (number, grade of the reading back, trouble) of each."""

    read_at: str
    files: list[tuple[int, str, str]]


class Failed(msgspec.Struct, tag="failed", array_like=True):
    """The drive failed."""

    errno: int | None
    reason: str


class Finished(msgspec.Struct, tag="finished", array_like=True):
    pass


Told = Setup | Small | Begin | Piece | End | Finish
Answer = Freed | Came | Failed | Finished

_encode = msgspec.msgpack.Encoder().encode
_decode_told = msgspec.msgpack.Decoder(Told)
_answer = msgspec.msgpack.Decoder(Answer)


def send(pipe: BinaryIO, message: Told | Answer) -> None:
    """Raises OSError where the other process is gone."""
    content = _encode(message)
    pipe.write(_LENGTH.pack(len(content)) + content)
    pipe.flush()


def told(pipe: BinaryIO) -> Iterator[Told]:
    """What comes until the other process is gone."""
    for content in _contents(pipe):
        yield _decode_told.decode(content)


def answers(pipe: BinaryIO) -> Iterator[Answer]:
    """What comes until the other process is gone."""
    for content in _contents(pipe):
        yield _answer.decode(content)


def _contents(pipe: BinaryIO) -> Iterator[bytes]:
    while len(head := pipe.read(_LENGTH.size)) == _LENGTH.size:
        (length,) = _LENGTH.unpack(head)
        content = pipe.read(length)
        if len(content) < length:
            return
        yield content
