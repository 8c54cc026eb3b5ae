"""Frames that show the same picture: the same file, or one made of the other by re-compressing, resizing, cropping or turning.

Candidates come from fingerprints of thumbnails, without comparing all pairs; each is then looked at, part by part, so that the
similar pictures of a burst are not taken for one. Nothing is changed here.
"""

import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from bramblemoor.frames.claims import Claim, believed_moment
from bramblemoor.frames.kinds import RAWS, ending_of
from bramblemoor.frames.likeness import Relation, prints_of, relation
from bramblemoor.frames.moments import Moment
from bramblemoor.library.catalogue import shown_by
from bramblemoor.library.home import Library
from bramblemoor.library.selection import Selected
from bramblemoor.looking.thumbnails import Thumbnails
from bramblemoor.planning.near import borne_out, groups_of, near_pairs
from bramblemoor.processes import Helpers
from bramblemoor.running import Progress, Stage, portions

_NEAR, _NEAR_TURNED = 6, 6  # bits
_AT_ONCE = 64
_MOST_OF_ONE = 60
"""So many candidates of one frame are looked at: of a burst of hundreds the nearest by number will do to find its copies."""
_LOSSLESS = ("image/png", "image/tiff", "image/bmp")


@dataclass(frozen=True)
class Member:
    """A frame of a group. `reason` says how it was made of the best one; "" for that one itself."""

    frame: int
    path: str
    bytes: int
    width: int
    height: int
    reason: str


@dataclass(frozen=True)
class _Frame:
    frame: int
    path: str
    sha256: str
    bytes: int
    media: str
    width: int
    height: int
    taken: Moment | None
    camera: bool

    @property
    def worth(self) -> tuple[Any, ...]:
        """What is the best original: a raw, then what is largest, tells its camera, and came first."""
        return (
            self.media in RAWS,
            self.width * self.height,
            self.camera,
            self.media in _LOSSLESS,
            self.bytes,
            -self.frame,
        )


def groups(selected: Selected, progress: Progress) -> Iterator[list[Member]]:
    """Groups of frames that show the same picture, the best original first, in order of that one's path."""
    library = selected.library
    thumbnails = Thumbnails(library)
    thumbnails.ensure(selected.frames(), progress, selected.count)
    frames = [_frame(library, number) for number in selected.frames()]
    links = _same_files(frames)
    shown = [shown_by(library.db, one.frame).sha256 for one in frames]
    pairs = _candidates(frames, shown, thumbnails, progress)
    related = _looked_at(pairs, frames, shown, thumbnails, progress)
    links |= {pair: related[pair] for pair in sorted(borne_out(related, pairs))}
    thumbnails.close()
    yield from _grouped(frames, links)


def _frame(library: Library, frame: int) -> _Frame:
    row = library.db.execute(
        "SELECT path, sha256, bytes, media, width, height FROM files WHERE frame = ? AND role = 'original'", (frame,)
    ).fetchone()
    claims = [
        Claim(*one)
        for one in library.db.execute(
            "SELECT field, value, source FROM claims WHERE frame = ? AND source IN ('camera', 'xmp')"
            " AND field IN ('taken', 'camera')",
            (frame,),
        )
    ]
    taken, _ = believed_moment(claims)
    camera = any(claim.field == "camera" for claim in claims)
    return _Frame(
        frame, row["path"], row["sha256"], row["bytes"], row["media"], row["width"], row["height"], taken, camera
    )


_Link = dict[tuple[int, int], Relation | None]
"""Pairs of places of frames, one below other, and how one was made of the other; None: they are the same file."""


def _same_files(frames: Sequence[_Frame]) -> _Link:
    first: dict[str, int] = {}
    found: _Link = {}
    for place, one in enumerate(frames):
        if one.sha256 in first:
            found[first[one.sha256], place] = None
        else:
            first[one.sha256] = place
    return found


def _candidates(
    frames: Sequence[_Frame], shown: Sequence[str], thumbnails: Thumbnails, progress: Progress
) -> list[tuple[int, int]]:
    """Pairs of places of frames that may show the same picture."""
    import numpy as np

    straight: list[int] = []
    owners: list[int] = []
    turned: list[int] = []
    turned_owners: list[int] = []
    done = 0
    with Helpers(for_much=len(frames) > 8 * _AT_ONCE) as helping:
        jobs = portions((thumbnails.jpeg(sha256) for sha256 in shown), _AT_ONCE)
        for some in helping.map(_prints, jobs):
            for place, prints in enumerate(some, done):
                if prints is not None:
                    straight += prints[0]
                    owners += [place] * len(prints[0])
                    turned.append(prints[1])
                    turned_owners.append(place)
            done += len(some)
            progress(Stage("taking fingerprints", "frames"), done, len(frames))
    apart: dict[tuple[int, int], int] = {}  # by how many bits two differ, the nearest of their fingerprints
    for told, whose, most in ((straight, owners, _NEAR), (turned, turned_owners, _NEAR_TURNED)):
        numbers, owner = np.array(told, np.uint64), np.array(whose, np.int64)
        ones, others = near_pairs(numbers, most)
        bits = np.bitwise_count(numbers[ones] ^ numbers[others])
        for one, other, differ in zip(owner[ones].tolist(), owner[others].tolist(), bits.tolist(), strict=True):
            pair = (min(one, other), max(one, other))
            if one != other and differ < apart.get(pair, most + 1):
                apart[pair] = differ
    counted: dict[int, int] = {}
    chosen = []
    # Of very many that are like one, the nearest are looked at; of equals those taken one after the other.
    for one, other in sorted(apart, key=lambda pair: (apart[pair], pair[1] - pair[0], pair)):
        if max(counted.get(one, 0), counted.get(other, 0)) < _MOST_OF_ONE and _may_be(frames[one], frames[other]):
            chosen.append((one, other))
            for place in (one, other):
                counted[place] = counted.get(place, 0) + 1
    return sorted(chosen)


def _prints(jpegs: Sequence[bytes]) -> list[tuple[list[int], int] | None]:
    from PIL import Image

    found: list[tuple[list[int], int] | None] = []
    for jpeg in jpegs:
        if not jpeg:
            found.append(None)
            continue
        with Image.open(io.BytesIO(jpeg)) as image:
            found.append(prints_of(image))
    return found


def _may_be(one: _Frame, other: _Frame) -> bool:
    """Whether two frames can be one picture: neither the same file, nor a raw and its JPEG, nor taken at two moments."""
    if one.sha256 == other.sha256 or _is_pair(one, other):
        return False
    if one.taken is None or other.taken is None:
        return True
    return one.taken.shown == other.taken.shown


def _is_pair(one: _Frame, other: _Frame) -> bool:
    """Whether one is a camera's raw, and the other its JPEG of the same press of the shutter."""
    stems = {
        each.path[: len(each.path) - len(ending_of(each.path))].rpartition("/")[2].casefold() for each in (one, other)
    }
    return (one.media in RAWS) != (other.media in RAWS) and len(stems) == 1 and one.taken == other.taken


def _looked_at(
    pairs: Sequence[tuple[int, int]],
    frames: Sequence[_Frame],
    shown: Sequence[str],
    thumbnails: Thumbnails,
    progress: Progress,
) -> _Link:
    """Of candidates those that are the same picture, and how one was made of the other."""
    found: _Link = {}
    done = 0
    with Helpers(for_much=len(pairs) > 2 * _AT_ONCE) as helping:
        jobs = portions(
            ((pair, thumbnails.jpeg(shown[pair[0]]), thumbnails.jpeg(shown[pair[1]])) for pair in pairs), _AT_ONCE // 2
        )
        for some in helping.map(_compare, jobs):
            found |= {pair: related for pair, related in some if related is not None}
            done += len(some)
            progress(Stage("looking at what is similar", "pairs"), done, len(pairs))
    return found


def _compare(jobs: Sequence[tuple[tuple[int, int], bytes, bytes]]) -> list[tuple[tuple[int, int], Relation | None]]:
    from PIL import Image

    found = []
    for pair, one, other in jobs:
        with Image.open(io.BytesIO(one)) as first, Image.open(io.BytesIO(other)) as second:
            found.append((pair, relation(first, second)))
    return found


def _grouped(frames: Sequence[_Frame], links: _Link) -> Iterator[list[Member]]:
    import numpy as np

    ones, others = (
        (np.array(side, np.int64) for side in zip(*links, strict=True)) if links else (np.zeros(0, np.int64),) * 2
    )
    members: dict[int, list[int]] = {}
    for place, group in enumerate(groups_of(len(frames), ones, others).tolist()):
        members.setdefault(group, []).append(place)
    for places in sorted(
        (one for one in members.values() if len(one) > 1), key=lambda one: frames[_best(frames, one)].path
    ):
        best = _best(frames, places)
        rest = sorted((place for place in places if place != best), key=lambda place: frames[place].worth, reverse=True)
        yield [
            _member(frames[best], ""),
            *(
                _member(frames[place], _reason(frames[best], frames[place], _link(links, best, place)))
                for place in rest
            ),
        ]


def _best(frames: Sequence[_Frame], places: Sequence[int]) -> int:
    return max(places, key=lambda place: frames[place].worth)


def _link(links: _Link, one: int, other: int) -> Relation | None:
    return links.get((min(one, other), max(one, other)))


def _member(one: _Frame, reason: str) -> Member:
    return Member(one.frame, one.path, one.bytes, one.width, one.height, reason)


def _reason(best: _Frame, one: _Frame, related: Relation | None) -> str:
    """How a frame differs from the best of its group."""
    if one.sha256 == best.sha256:
        return "the same file"
    told = []
    turned = related is not None and related.turned
    if turned:
        told.append(f"turned by {related.turned} degrees" if related is not None else "")
    sizes = (one.width, one.height), (best.width, best.height)
    if related is not None and related.cropped > 0.015:
        told.append("cropped")
    elif sizes[0] not in (sizes[1], sizes[1][::-1]) and one.width:
        told.append(f"{one.width} x {one.height} pixels, not {best.width} x {best.height}")
    if one.media != best.media:
        told.append(f"as {one.media.rpartition('/')[2]}, not {best.media.rpartition('/')[2]}")
    elif not told:
        told.append("compressed anew")
    return ", ".join(told)
