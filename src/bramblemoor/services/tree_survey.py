"""What a tree of files amounts to: its frames by folder, each thing counted once however many paths lead to it; and the digest
of one of them, as it is read there.
"""

import hashlib
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager

from bramblemoor.disk.durable import TEMPORARY
from bramblemoor.frames.kinds import family_by_name
from bramblemoor.services.interface import Entry, FolderCount, PartStream, Statement, Survey
from bramblemoor.wire.http import Answered, ConnectionBroke

_TRIES = 3
_UNFINISHED = ".bm-"
NAME_BYTES = 255 - len(_UNFINISHED) - len(".12345678") - len(TEMPORARY)
"""How long a name may be, so that it can be put beside its place first."""


def unfinished(path: str, mark: str) -> str:
    """The name that a file has in its folder while it is sent; `mark` tells who sends it."""
    folder, _, name = path.rpartition("/")
    return f"{folder}/{_UNFINISHED}{name}.{mark}{TEMPORARY}".removeprefix("/")


def is_unfinished(path: str) -> bool:
    name = path.rpartition("/")[2]
    return name.startswith(_UNFINISHED) and name.endswith(TEMPORARY)


def once(entries: Iterable[Entry], lists: str = "") -> tuple[list[Entry], list[Entry]]:
    """The files, each thing once; and those that are shown at another path once more.

    A thing is told by `Entry.same`, and stays where it lies deepest, of equals where the name comes first. `lists` is a folder
    that only lists what lies elsewhere: of it nothing is taken.
    """
    files = [one for one in entries if not one.is_folder]
    inside = f"{lists}/" if lists else ""
    again = [one for one in files if inside and one.path.startswith(inside)]
    left = [one for one in files if not (inside and one.path.startswith(inside))]
    best: dict[str, Entry] = {}
    for one in left:
        if one.same and (one.same not in best or _order(one) < _order(best[one.same])):
            best[one.same] = one
    taken = [one for one in left if not one.same or best[one.same] is one]
    return taken, again + [one for one in left if one.same and best[one.same] is not one]


def _order(one: Entry) -> tuple[int, str]:
    return -one.path.count("/"), one.path


def survey_of(name: str, entries: Iterable[Entry], lists: str, room: int | None) -> Survey:
    taken, again = once(entries, lists)
    families = [family_by_name(one.path) for one in taken]
    folders: dict[str, list[int]] = {}
    for one, family in zip(taken, families, strict=True):
        top = one.path.partition("/")[0] if "/" in one.path else ""
        count = folders.setdefault(top, [0, 0, 0])
        for place, more in enumerate((family in ("photo", "raw", "film"), 1, one.bytes)):
            count[place] += more
    photos, videos = sum(family in ("photo", "raw") for family in families), families.count("film")
    return Survey(
        service=name,
        statement=Statement(photos + videos, photos, videos, sum(one.bytes for one in taken)),
        folders=[FolderCount(path, *count) for path, count in sorted(folders.items())],
        files=len(taken),
        sidecars=families.count("sidecar"),
        twice=len(again),
        room=room,
    )


def digest_there(begin: Callable[[], AbstractContextManager[PartStream]], size: int) -> str | None:
    """The SHA-256 of a file at a service, read from its first byte; "" where it does not have that size, or breaks off again
    and again, None where nothing is there.
    """
    for _ in range(_TRIES):
        digest, came = hashlib.sha256(), 0
        try:
            with begin() as stream:
                for piece in stream.pieces:
                    digest.update(piece)
                    came += len(piece)
                    if came > size:
                        break
            return digest.hexdigest() if came == size else ""
        except ConnectionBroke:
            continue
        except Answered as error:
            if error.status in (404, 410):
                return None
            raise
    return ""
