"""Where what comes from a card lands: staged, flushed, read back and listed there, before it goes to its place in the library.

It is written by the same process, in the same way, as a depot is: incoming/intake/landing is laid out like one.
"""

import json
from collections.abc import Iterator
from pathlib import Path

import msgspec

from bramblemoor.depots.bag.intents import Intent
from bramblemoor.depots.bag.placing import Placing
from bramblemoor.depots.kinds.folder import FolderStore
from bramblemoor.depots.kinds.interface import PAYLOAD
from bramblemoor.disk.durable import flush_folder
from bramblemoor.disk.told import inside_or_none
from bramblemoor.frames.moments import now_utc
from bramblemoor.intake.kept_plan import folder_of
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import stamp

_RUN = "intake"
SIDECARS = "sidecars"
"""Where sidecars of the card land, by their paths there."""
_decode = msgspec.json.Decoder(Intent).decode


def open_landing(library: Library) -> Placing:
    """The landing of this library's intake; made where there is none."""
    where = folder_of(library) / "landing"
    where.mkdir(parents=True, exist_ok=True)
    flush_folder(where.parent)
    landing = Placing(FolderStore(str(where), {}), _RUN)
    if not landing.log.exists:
        landing.log.begin(json.dumps({"run": _RUN, "started": stamp(now_utc())}).encode() + b"\n")
    return landing


def landed(landing: Placing) -> Iterator[Intent]:
    """What had landed when a run was killed, as far as it was read back; what was on its way to its place there is put."""
    with landing.store.moving() as moves:
        for line in landing.log.lines():
            try:
                intent = _decode(line)
            except (msgspec.DecodeError, ValueError):
                continue  # the head, or a line that broke off
            if inside_or_none(intent.path):
                landing.put(intent, moves)
                yield intent


def place_of(landing: Placing, path: str) -> Path:
    """Where something that has landed lies."""
    return Path(landing.store.where, PAYLOAD, path)
