"""Carrying a collection over: several frames at once, within a bound of memory, until all are there or somebody stops it."""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from bramblemoor.errors import ServiceTrouble
from bramblemoor.migrate.sending import Destination, Sent, Try
from bramblemoor.migrate.sources import Gone, Source
from bramblemoor.migrate.worksheet import Line, State, Worksheet
from bramblemoor.running import Meter, Pace, Progress, Stage, several
from bramblemoor.services.interface import NotTaken

AT_ONCE = 8
HELD = 40 << 20
"""Bytes of pictures that are held at once, of all that are on their way."""
_MOST_OF_ONE = 16 << 20
_LEAST_OF_ONE = 1 << 20
_BEAT = 2.0  # seconds
_ENTERED, _ENTER = 32, 0.3  # frames, or seconds, after which what became of them is written down
_ALL_REFUSED = 20
Outcome = tuple[int, State, str, Sent | None]


@dataclass
class Carried:
    """What a run has done; `stopped` says that it ended before all was sent."""

    frames: int = 0
    bytes: int = 0
    left: int = 0
    seconds: float = 0.0
    stopped: bool = False

    @property
    def rate(self) -> float:
        return self.bytes / self.seconds if self.seconds else 0.0


class _Budget:
    """So many bytes that may be held; whoever wants some waits until others have given theirs back."""

    def __init__(self, whole: int) -> None:
        self._left, self._changed = whole, threading.Condition()

    @contextmanager
    def of(self, size: int) -> Iterator[None]:
        wanted = min(_MOST_OF_ONE, max(_LEAST_OF_ONE, 2 * size))
        with self._changed:
            self._changed.wait_for(lambda: self._left >= wanted)
            self._left -= wanted
        try:
            yield
        finally:
            with self._changed:
                self._left += wanted
                self._changed.notify_all()


def carry(
    sheet: Worksheet,
    key: str,
    source: Source,
    destination: Destination,
    look: int,
    run: int,
    pace: Pace,
    progress: Progress,
) -> Carried:
    """Send what waits. Raises ServiceTrouble where a service is down or refuses everything; what was sent is written down."""
    carried, budget = Carried(), _Budget(HELD)
    meter = Meter(progress, Stage("sending"), sheet.due(look)[2])
    began = time.monotonic()

    def send(line: Line) -> Outcome:
        try:
            with budget.of(max(file.bytes for file in line.shown.files)):
                # What an earlier run put there, and arrived amiss, is this transfer's own: it may take its place again.
                sent = line.sent.files if line.sent is not None and line.place else ()
                own = [] if line.renewed or line.was_proven else [file.at for file in sent]
                tried = Try(
                    [*sheet.begun(line.n), *own],
                    lambda place: sheet.begin(line.n, place),
                    sent if line.renewed else (),
                )
                titles = sheet.titles_of(line.shown.id) if destination.keeps.sidecars else ()
                return (
                    line.n,
                    "sent",
                    "",
                    # One that was there and is gone is another one to a service that remembers keys.
                    destination.send(
                        f"{key}:{line.n}" + (f":{line.gone}" if line.gone else ""),
                        line.place,
                        line.shown,
                        titles,
                        source,
                        tried,
                    ),
                )
        except Gone as error:
            return line.n, "left", str(error), None
        except NotTaken as error:
            return line.n, "left", f"it is refused there: {error}", None
        except OSError as error:
            return line.n, "left", f"it cannot be read: {error.strerror or error}", None

    def enter(outcomes: list[tuple[Line, Outcome]]) -> None:
        sheet.note([outcome for _, outcome in outcomes], run)
        for line, outcome in outcomes:
            meter.add(line.due)
            pace.wait(line.due)
            if outcome[1] == "sent":
                carried.frames, carried.bytes = carried.frames + 1, carried.bytes + line.due
            else:
                carried.left += 1

    _all(sheet, look, send, enter, carried, pace, destination.name)
    carried.seconds = time.monotonic() - began
    if carried.bytes:
        sheet.put("rate", str(carried.rate))
    return carried


def _all(
    sheet: Worksheet,
    look: int,
    send: Callable[[Line], Outcome],
    enter: Callable[[list[tuple[Line, Outcome]]], None],
    carried: Carried,
    pace: Pace,
    name: str,
) -> None:
    """Keep AT_ONCE frames on their way, and enter what became of them, some together."""
    began = time.monotonic()
    beaten = entered = 0.0
    came: list[tuple[Line, Outcome]] = []

    def write_down() -> None:
        """Enter what came; where all was refused from the beginning, that is said instead of going on."""
        nonlocal came, entered
        some, came, entered = came, [], time.monotonic()
        if some:
            enter(some)
        if some and carried.left >= _ALL_REFUSED and not carried.frames:
            raise _refuses_all(name, some[-1][1][2])

    try:
        for outcomes in several(
            send, sheet.lines("waiting", "missing", look=look), AT_ONCE, lambda: pace.stopped, _BEAT
        ):
            came += outcomes
            now = time.monotonic()
            if len(came) >= _ENTERED or now - entered > _ENTER:
                write_down()
            if now - beaten > _BEAT:
                beaten = now
                sheet.beat(carried.bytes / max(0.001, now - began))
                pace.stopped = pace.stopped or bool(sheet.get("stop"))
    except BaseException:
        if came:
            enter(came)
        raise
    write_down()
    carried.stopped = pace.stopped


def _refuses_all(name: str, why: str) -> ServiceTrouble:
    return ServiceTrouble(
        f"Of {_ALL_REFUSED} frames none could be sent to {name}; the last: {why}.",
        "Put that right, then run the same command again: they are tried once more.",
    )
