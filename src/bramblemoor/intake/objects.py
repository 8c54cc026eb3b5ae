"""Which files of a card are one frame: those of one name in one folder, as cameras write them (JEITA CP-3461, DCF objects)."""

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime

from bramblemoor.frames.claims import Claim, believe, believed_moment
from bramblemoor.frames.moments import CONTRADICTS, Moment, agreement, moment_in_name, written_offset
from bramblemoor.frames.pixels import Misfire
from bramblemoor.frames.kinds import RAWS, ending_of
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
        judged = [looked.misfire for _, looked in self.files if looked.kind == "photo"]
        if self.original.kind != "photo" or not judged or None in judged:
            return None
        return judged[-1]  # of raw and JPEG the JPEG's

    @property
    def place(self) -> tuple[str, int, str]:
        """Where the camera's counter has it: its folder, its number, its name."""
        lying = self.original.lying
        match = _NUMBER.search(stem_of(lying.name))
        return lying.folder, int(match[1]) if match else 0, lying.name


def stem_of(name: str) -> str:
    """A name without its ending; of a sidecar, without that of the picture, too (A.jpg.xmp)."""
    stem, dot, ending = name.rpartition(".")
    if not stem:
        return name
    if ending.lower() == "xmp" and (inner := ending_of(stem)):
        return stem[: -len(inner)]
    return stem if dot else name


def together(lying: Lying) -> tuple[str, str]:
    """What files of one frame have in common: their folder, and their name without its ending."""
    return lying.folder, stem_of(lying.name).casefold()


def to_shots(files: Iterable[Looked]) -> tuple[list[Shot], list[tuple[Looked, str]]]:
    """Frames, in no order; and the files that belong to none, each with why."""
    groups: dict[tuple[str, str], list[Looked]] = {}
    left: list[tuple[Looked, str]] = []
    for one in files:
        if one.trouble:
            left.append((one, f"it cannot be read ({one.trouble})"))
        elif one.kind == "other" and not ending_of(one.lying.name):
            left.append((one, "it is no picture, film, sound or sidecar that is known here"))
        else:
            groups.setdefault(together(one.lying), []).append(one)
    shots: list[Shot] = []
    for group in groups.values():
        made, alone = _grouped(group)
        shots += made
        left += alone
    return shots, left


def _grouped(group: list[Looked]) -> tuple[list[Shot], list[tuple[Looked, str]]]:
    """The frames of files of one name: a raw has its JPEG as rendition, a still its film as clip."""
    pictures = [one for one in group if one.kind not in ("sound", "sidecar", "thumbnail")]
    pictures.sort(key=lambda one: (one.kind == "video", one.media not in RAWS, one.lying.name))
    shots: list[Shot] = []
    for one in pictures:
        home = next((shot for shot in shots if _belongs(one, shot)), None)
        if home is None:
            shots.append(Shot(one))
        else:
            home.others.append(("clip" if one.kind == "video" else "rendition", one))
    alone = []
    for one in group:
        if one in pictures:
            continue
        if one.kind == "thumbnail":
            alone.append((one, "it is a camera's small picture of a film, which has all that it shows"))
        elif not shots:
            what = "a voice note" if one.kind == "sound" else "a sidecar"
            alone.append((one, f"it is {what} without its picture"))
        else:
            home = next((shot for shot in shots if _is_beside(one, shot)), shots[0])
            home.others.append(("voice note" if one.kind == "sound" else "sidecar", one))
    for shot in shots:
        named = moment_in_name(shot.original.lying.name)
        shot.claims = [*shot.original.claims, *_further(shot), *([Claim("taken", str(named), "name")] if named else [])]
        shot.taken = believed_moment(shot.claims)[0]
    return shots, alone


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
    """Whether a picture or film is another file of a frame: a second raw, a second film, or one of another moment is none."""
    if any(other.media == one.media for _, other in shot.files):
        return False
    if one.kind == "video":
        return shot.original.kind != "video" and not any(role == "clip" for role, _ in shot.others)
    if one.media in RAWS:
        return False
    times = [believed_moment(each.claims)[0] for each in (one, shot.original)]
    return None in times or agreement(*times) != CONTRADICTS  # type: ignore[arg-type]


def _is_beside(one: Looked, shot: Shot) -> bool:
    """Whether a sidecar is named after one of a frame's files (A.jpg.xmp)."""
    return any(one.lying.name.casefold() == f"{other.lying.name}.xmp".casefold() for _, other in shot.files)


def at(shot: Shot) -> datetime | None:
    """The local clock of its taking."""
    return shot.taken.shown if shot.taken is not None else None
