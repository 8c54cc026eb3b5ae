"""Frames brought in step with what is told of them: what is believed and searched by, and their sidecars.

Of very many frames it is done together: what is known of them is read and entered in bulk, and helpers weigh it and write the
sidecars. What somebody else changed in one is taken up before that, in a transaction of its own: once a sidecar is written anew,
a run that goes on where this one was killed could not tell any more what was taken out of it.
"""

import hashlib
import json
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Generic, TypeVar

from bramblemoor.disk.file_systems import flush_files
from bramblemoor.frames.claims import Facts, believe
from bramblemoor.frames.heard import Heard, settle
from bramblemoor.frames.kinds import SIDECAR
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.library.home import Library
from bramblemoor.library.known import Known, Rows, known_of
from bramblemoor.library.locations import Location, name_at, readable_locations
from bramblemoor.library.sidecars import Renewed, note_renewed, packet_beside, renew_sidecar, take_up_edits
from bramblemoor.running import Progress, Stage, portions, silent

What = TypeVar("What")
Done = TypeVar("Done")
Mapped = Callable[[Callable[[Any], Any], Iterable[Any]], Iterator[Any]]
"""As the `map` of Python."""
_ENTERED = f"""
    SELECT o.frame, o.path, s.sha256 FROM json_each(?) CROSS JOIN files o ON o.frame = value AND o.role = 'original'
    LEFT JOIN files s ON s.path = o.path || '{SIDECAR}' AND s.frame = o.frame
"""
_AT_ONCE = 128  # frames that are read, weighed and entered together
_MANY = 1000  # frames, from which on helpers are worth their start
_FLUSHED = 4096  # sidecars that are flushed together


class LeftAsItIs(Exception):
    """Why a frame is left as it is."""


@dataclass(frozen=True)
class Outcome(Generic[Done]):
    """What became of one frame: what its change returned, or why it was left as it is. `path` is that of its original, "" where
    it is not in the library any more.
    """

    frame: int
    path: str
    done: Done | None = None
    left: str = ""


@dataclass(frozen=True)
class _Setting:
    """What is the same for all frames. `shut` says that those of bound years, or that would come into one, are left alone."""

    root: str
    locations: list[Location] | None
    bound: frozenset[int]
    shut: bool
    resumed: bool
    change: Callable[[Heard, Facts, Any], Any]


@dataclass
class _Portion:
    """What came of some frames. `edited` are those whose sidecars hold what the ledger does not know."""

    rows: Rows = field(default_factory=Rows)
    outcomes: list[Outcome[Any]] = field(default_factory=list)
    renewed: list[tuple[int, Renewed]] = field(default_factory=list)
    edited: dict[int, Any] = field(default_factory=dict)


@contextmanager
def helped(count: int) -> Iterator[Mapped]:
    """How to go through so many frames: with processes that help, where there are many."""
    if count < _MANY:
        yield map
        return
    from bramblemoor.processes import Helpers

    with Helpers(for_much=True) as helping:
        yield helping.map


def renew(
    library: Library, jobs: Iterable[tuple[int, What]], change: Callable[[Heard, Facts, What], Done], mapped: Mapped, *,
    shut: bool = False, resumed: bool = False,
) -> Iterator[Outcome[Done]]:  # fmt: skip
    """Change what is told of frames, inside a transaction of the ledger, and bring all in step with that.

    Each frame comes once. `change` is given the claims of a frame, what is believed by them and what is meant for it, and may
    raise LeftAsItIs; it and what it returns can be pickled. Sidecars of bound years stay as they are; where it is `shut`, so do
    those years' frames. What was written is flushed at the end. `resumed`: see `take_up_edits`.
    """
    db = library.db
    bound = frozenset(row[0] for row in db.execute("SELECT year FROM bound"))
    setting = _Setting(str(library.root), readable_locations(library.root), bound, shut, resumed, change)
    written: list[str] = []

    def enter(portion: _Portion) -> None:
        portion.rows.enter(db)
        for frame, renewed in portion.renewed:
            note_renewed(library, frame, renewed)
            if renewed.file is not None:
                written.append(f"{library.root}/{renewed.file.path}")

    read = (_known(library, dict(some)) for some in portions(jobs, _AT_ONCE))
    for portion in mapped(partial(_change, setting), read):
        enter(portion)
        yield from portion.outcomes
        for frame, what in portion.edited.items():
            db.execute("SAVEPOINT edited")
            take_up_edits(library, frame, resumed=resumed)
            alone = _change(setting, _known(library, {frame: what}), edits_are_known=True)
            if alone.outcomes[0].left:
                db.execute("ROLLBACK TO edited")
            db.execute("RELEASE edited")
            enter(alone)
            yield from alone.outcomes
        if len(written) >= _FLUSHED:
            flush_files(written, library.root)
            written.clear()
    flush_files(written, library.root)


def take_up_all(library: Library, frames: Iterable[int], mapped: Mapped = map, *, resumed: bool = False) -> set[int]:
    """Enter what others changed in the sidecars of frames (see `take_up_edits`), outside any transaction; returns of which frames
    anything was new. To be called before what is to write the sidecars begins.
    """
    jobs = (_entered(library, some) for some in portions(frames, _AT_ONCE))
    edited = [frame for found in mapped(partial(_edited, str(library.root)), jobs) for frame in found]
    if not edited:
        return set()
    with library.ledger.changing(facts=True):
        return {frame for frame in edited if take_up_edits(library, frame, resumed=resumed)}


def _entered(library: Library, frames: list[int]) -> list[tuple[int, str, str | None]]:
    """Frames with the paths of their originals, and the digests of their sidecars as they were entered."""
    return [tuple(row) for row in library.db.execute(_ENTERED, (json.dumps(frames),))]


def _edited(root: str, sidecars: Iterable[tuple[int, str, str | None]]) -> list[int]:
    return [frame for frame, original, sha256 in sidecars if _is_edited(_lying(root, original), sha256)]


def _lying(root: str, original: str) -> bytes | None:
    """The sidecar that lies beside an original; b"" for what is too large to be one, which is told where it is to be written."""
    try:
        return packet_beside(root, original)
    except BrokenXmp:
        return b""


def _is_edited(packet: bytes | None, sha256: str | None) -> bool:
    """Whether a sidecar that lies there is not what was entered."""
    return packet is not None and hashlib.sha256(packet).hexdigest() != sha256


def renew_all(library: Library, frames: Collection[int], progress: Progress = silent, *, resumed: bool = False) -> None:
    """Bring frames in step of which nothing new is told, inside a transaction: as their albums have changed, say."""
    jobs = ((frame, None) for frame in dict.fromkeys(frames))
    with helped(len(frames)) as mapped:
        for number, _ in enumerate(renew(library, jobs, _as_it_is, mapped, resumed=resumed), 1):
            progress(Stage("writing sidecars", "frames"), number, len(frames))


def _as_it_is(heard: Heard, was: Facts, what: None) -> None:
    """Nothing new is told of a frame."""


def _known(library: Library, jobs: dict[int, What]) -> list[tuple[int, Known | None, What]]:
    known = known_of(library.db, jobs)
    return [(frame, known.get(frame), what) for frame, what in jobs.items()]


def _change(setting: _Setting, jobs: list[tuple[int, Known | None, Any]], *, edits_are_known: bool = False) -> _Portion:
    """Weigh what is told of some frames, and write their sidecars; nothing is entered yet."""
    portion = _Portion()
    for frame, known, what in jobs:
        try:
            if known is None:
                raise LeftAsItIs("it is not in the library any more")
            if setting.shut and known.year in setting.bound:
                raise LeftAsItIs(f"its year, {known.year}, is bound")
            here = None
            if known.path is not None and known.year not in setting.bound:
                here = _lying(setting.root, known.path)
                if not edits_are_known and _is_edited(here, known.sidecar):
                    portion.edited[frame] = what
                    continue
            portion.outcomes.append(Outcome(frame, known.shown_path, _change_one(setting, known, here, what, portion)))
        except LeftAsItIs as why:
            portion.outcomes.append(Outcome(frame, known.shown_path if known is not None else "", left=str(why)))
    return portion


def _change_one(setting: _Setting, known: Known, here: bytes | None, what: Any, portion: _Portion) -> Any:
    """The same for one; returns what its change does. `here` is its sidecar, where that has been read."""
    heard = Heard(known.told)
    was = believe(heard.claims)
    done = setting.change(heard, was, what)
    facts = settle(heard, partial(name_at, setting.locations))
    year = facts.taken.shown.year if facts.taken else None
    if setting.shut and year in setting.bound:
        raise LeftAsItIs(f"that would bring it into {year}, which is bound")
    portion.rows.add(known.frame, known.folder, known.name, known.albums, heard, facts)
    if year not in setting.bound:
        known.told = heard.told
        renewed = renew_sidecar(setting.root, known, facts, was=was, here=here, resumed=setting.resumed)
        portion.rows.add_files(known.frame, [renewed.file] if renewed.file is not None else [])
        portion.renewed.append((known.frame, renewed))
    return done
