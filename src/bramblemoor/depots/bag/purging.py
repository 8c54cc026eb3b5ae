"""Deleting of earlier/ what was written down to be deleted, also where that was interrupted."""

import json
from collections.abc import Sequence
from contextlib import suppress

from bramblemoor.depots.bag import bag
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.earlier import moment_of
from bramblemoor.depots.bag.journal import refresh_tags
from bramblemoor.depots.kinds.interface import PAYLOAD
from bramblemoor.disk.told import Inside, inside_or_none

_PURGING = "purging.txt"
"""Lists what is being deleted of earlier/, as RUN/data/PATH."""


def purge_earlier(depot: Depot, lies: Sequence[Inside], library_name: str) -> None:
    """Delete files of earlier/ for good. The caller has asked whether they may go, and holds the depot."""
    depot.store.put_small(_PURGING, json.dumps([path.removeprefix("earlier/") for path in lies]).encode())
    finish_purge(depot, library_name)


def finish_purge(depot: Depot, library_name: str) -> None:
    """Delete what a purge has written down to be deleted, also where that was interrupted."""
    store = depot.store
    if store.stat(_PURGING) is None:
        return
    going = [told for told in _written_down(store.content(_PURGING)) if _is_earlier(told)]
    store.remove(f"earlier/{told}" for told in going)
    for run in {told.partition("/")[0] for told in going}:
        if PAYLOAD not in store.folders(f"earlier/{run}"):  # nothing but its list is left
            store.clear(f"earlier/{run}")
    refresh_tags(depot, library_name, oxum=bag.read_oxum(store))
    store.remove([_PURGING])


def _is_earlier(told: Inside) -> bool:
    run, _, path = told.partition("/")
    return bool(moment_of(run)) and path.startswith(f"{PAYLOAD}/")


def _written_down(content: bytes) -> list[Inside]:
    """The list of a purge; nothing of one that is damaged: then nothing more is deleted by it."""
    with suppress(ValueError, UnicodeDecodeError):
        told = json.loads(content)
        if isinstance(told, list):
            return [name for one in told if (name := inside_or_none(one)) is not None]
    return []
