"""Which files of a card are one frame: those of one name in one folder, as cameras write them (JEITA CP-3461, DCF objects)."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from bramblemoor.disk.names import collision_key
from bramblemoor.frames.claims import Claim, believe, believed_moment
from bramblemoor.frames.kinds import PICTURES, Family, stem_of
from bramblemoor.frames.moments import AGREES, CONTRADICTS, Moment, agreement, moment_in_name, written_offset
from bramblemoor.frames.pixels import Misfire
from bramblemoor.intake.listing import Looked, Lying

_NUMBER = re.compile(r"(\d+)(?!.*\d)")


@dataclass
class Shot:
    """One frame of a card: its original, and what else belongs to it, by role.

    `taken` is when it was, by the camera's clock as corrected (`shift`), None where nobody can tell; `order` is what it is sorted
    by where that is so.
    """

    original: Looked
    others: list[tuple[str, Looked]] = field(default_factory=list)
    taken: Moment | None = None
    shifted: bool = False
    claims: list[Claim] = field(default_factory=list)

    @property
    def files(self) -> list[tuple[str, Looked]]:
        return [("original", self.original), *self.others]

    @property
    def path(self) -> str:
        return self.original.lying.path

    @property
    def bytes(self) -> int:
        return sum(looked.lying.bytes for _, looked in self.files)

    @property
    def camera(self) -> str:
        return believe(self.claims).camera

    @property
    def misfire(self) -> Misfire | None:
        """What is wrong with it, if every picture of it says so."""
        judged = [looked.misfire for _, looked in self.files if looked.family in ("photo", "raw")]
        if not judged or None in judged:
            return None
        return judged[-1]  # of raw and JPEG the JPEG's

    @property
    def place(self) -> tuple[str, int, str]:
        """Where the camera's counter has it: its folder, its number, its name."""
        lying = self.original.lying
        match = _NUMBER.search(stem_of(lying.name))
        return lying.folder, int(match[1]) if match else 0, lying.name


def together(lying: Lying) -> tuple[str, str]:
    """What files of one frame have in common: their folder, and their name without its ending, however it is spelled."""
    return collision_key(lying.folder), collision_key(stem_of(lying.name))


@dataclass
class Sorted:
    """What the files of a source are: frames, in no order; sidecars whose pictures did not come; and what could not be read."""

    shots: list[Shot] = field(default_factory=list)
    lone: list[Looked] = field(default_factory=list)
    unread: list[Looked] = field(default_factory=list)


def to_shots(files: Iterable[Looked]) -> Sorted:
    """Which files are one frame. Every file that was read is of one; what stands beside no picture is a frame of its own."""
    found = Sorted()
    groups: dict[tuple[str, str], list[Looked]] = {}
    for one in files:
        if one.trouble:
            found.unread.append(one)
        else:
            groups.setdefault(together(one.lying), []).append(one)
    for group in groups.values():
        shots, lone = _grouped(group)
        found.shots += shots
        found.lone += lone
    return found


def _grouped(group: list[Looked]) -> tuple[list[Shot], list[Looked]]:
    """The frames of files of one name: a raw has its JPEG as rendition, a still its film as clip. What belongs to several alike,
    as nothing tells of which it is, is a frame of its own.
    """
    pictures = [one for one in group if one.family in PICTURES]
    # Raws first, as their JPEGs join them, and films last; of stills the one that shows most is the original.
    pictures.sort(key=lambda one: (
        one.family == "film", one.family != "raw", -one.width * one.height, -one.lying.bytes, one.lying.name
    ))  # fmt: skip
    shots: list[Shot] = []
    for one in pictures:
        home = _nearest([shot for shot in shots if _belongs(one, shot)], one)
        if home is None:
            shots.append(Shot(one))
        else:
            home.others.append(("clip" if one.family == "film" else "rendition", one))
    lone = []
    frames = list(shots)
    for one in group:
        if one.family in PICTURES:
            continue
        home = _nearest(frames, one)
        if home is not None:
            home.others.append((_BESIDE[one.family], one))
        elif one.family == "sidecar":
            lone.append(one)
        else:
            shots.append(Shot(one))
    for shot in shots:
        named = moment_in_name(shot.original.lying.name)
        shot.claims = [*shot.original.claims, *_further(shot), *([Claim("taken", str(named), "name")] if named else [])]
        shot.taken = believed_moment(shot.claims)[0]
    return shots, lone


_BESIDE: dict[Family, str] = {"sound": "voice note", "sidecar": "sidecar", "document": "document", "other": "document"}
"""The role that a file which is no picture has beside one."""


def _nearest(shots: Sequence[Shot], one: Looked) -> Shot | None:
    """The one frame that a file is of, by what tells most; None where there is none, or nothing tells which."""
    for is_of in (_shares_id, _is_named_after, _is_of_its_moment, _is_spelled_alike, _is_raw, _is_any):
        found = [shot for shot in shots if is_of(one, shot)]
        if len(found) == 1:
            return found[0]
        shots = found or shots
    return None


def _shares_id(one: Looked, shot: Shot) -> bool:
    return bool(set(one.content_ids) & set(shot.original.content_ids))


def _is_named_after(one: Looked, shot: Shot) -> bool:
    """It is called as one of a frame's files, with an ending behind that (A.jpg.xmp)."""
    stem = one.lying.name[: -len(one.lying.ending)] if one.lying.ending else one.lying.name
    return any(other.lying.name == stem for _, other in shot.files) or any(
        collision_key(other.lying.name) == collision_key(stem) for _, other in shot.files
    )


def _is_of_its_moment(one: Looked, shot: Shot) -> bool:
    times = [believed_moment(each.claims)[0] for each in (one, shot.original)]
    return None not in times and agreement(*times) == AGREES  # type: ignore[arg-type]


def _is_spelled_alike(one: Looked, shot: Shot) -> bool:
    return stem_of(one.lying.name) == stem_of(shot.original.lying.name)


def _is_raw(one: Looked, shot: Shot) -> bool:
    """What an editor writes beside a raw and its JPEG is about the raw."""
    return one.family not in PICTURES and shot.original.family == "raw"


def _is_any(_: Looked, shot: Shot) -> bool:
    return True


def _further(shot: Shot) -> list[Claim]:
    """What the other picture of a frame tells besides, as the JPEG of a raw does of the time zone."""
    told = {claim.field for claim in shot.original.claims}
    own = believed_moment(shot.original.claims)[0]
    found = []
    for role, other in shot.others:
        if role != "rendition":
            continue
        found += [claim for claim in other.claims if claim.field not in told]
        moment = believed_moment(other.claims)[0]
        if own is not None and own.offset is None and moment is not None and moment.offset is not None:
            found.append(Claim("offset", written_offset(moment.offset), "camera"))
    return found


def _belongs(one: Looked, shot: Shot) -> bool:
    """Whether a picture or film may be another file of a frame: a second raw or film, or one of another moment, is none."""
    if any(other.media == one.media for _, other in shot.files):
        return False
    if one.family == "film":
        return shot.original.family != "film" and not any(role == "clip" for role, _ in shot.others)
    if one.family == "raw":
        return False
    times = [believed_moment(each.claims)[0] for each in (one, shot.original)]
    return None in times or agreement(*times) != CONTRADICTS  # type: ignore[arg-type]


def at(shot: Shot) -> datetime | None:
    """The local clock of its taking."""
    return shot.taken.shown if shot.taken is not None else None
