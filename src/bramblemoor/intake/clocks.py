"""Cameras' clocks: corrected as the user says, and named where one was reset; and the order in which frames were taken."""

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.kinds import PICTURES
from bramblemoor.frames.moments import Moment, moment_told, parse_shift, written_shift
from bramblemoor.intake.objects import Shot, at
from bramblemoor.library.folding import plain
from bramblemoor.library.receipts import Finding

_EPOCHS = (1904, 1970, 1980, 2000)
"""Years at whose beginning clocks start that were never set; of later ones each camera has its own."""
_NEW = timedelta(days=2)  # so long after the beginning of a year a clock may have been running since it was reset
_FAR = timedelta(days=60)  # by so much a frame is dated before one that its camera's counter had first
_SOON = 100  # so many numbers further a counter is of the same camera
_HALF = 5000  # of 10,000: where a counter has begun again


@dataclass(frozen=True)
class Shift:
    """What a camera's clock is to be corrected by: an amount, or the true moment of its first frame."""

    camera: str
    by: timedelta | None = None
    first: Moment | None = None

    def said(self) -> str:
        return f"{self.camera} {written_shift(self.by)}" if self.by is not None else f"{self.camera} from {self.first}"


def parse_shifts(told: Sequence[str]) -> list[Shift]:
    """CAMERA=+1h, or CAMERA=2026-05-09T14:30 of its first frame. Raises WrongUse for what is neither."""
    found = []
    for one in told:
        camera, _, written = one.partition("=")
        by, first = parse_shift(written.strip()), moment_told(written.strip().replace(" ", "T"))
        if not camera.strip() or (by is None and first is None):
            raise WrongUse(
                f"{one!r} says of no camera's clock how far it is off.",
                "Write CAMERA=+1h (also -30m, +26d5h), or when its first frame was really taken: CAMERA=2026-05-09T14:30.",
            )
        found.append(Shift(camera.strip(), by, None if by is not None else first))
    return found


def correct(shots: Sequence[Shot], shifts: Sequence[Shift], reset: Collection[str]) -> None:
    """Correct the moments of frames by their cameras' shifts. `reset` are the paths of frames whose clock had been reset: to
    these go the moment of the first one, and shifts that lead out of the year they are in; to the others what is left of those.

    Raises WrongUse for a camera that took none of them.
    """
    for shift in shifts:
        mine = [shot for shot in shots if plain(shift.camera) in plain(shot.camera)]
        dated = [shot for shot in mine if at(shot) is not None]
        if not dated:
            cameras = ", ".join(sorted({shot.camera for shot in shots if shot.camera})) or "none that tells its name"
            raise WrongUse(f"No frame here was taken by {shift.camera!r}.", f"The cameras here: {cameras}.")
        lost = [shot for shot in dated if shot.path in reset]
        if lost and (shift.by is None or abs(shift.by) >= _FAR):
            dated = lost
        else:
            dated = [shot for shot in dated if shot.path not in reset]
        by = shift.by
        if by is None:
            assert shift.first is not None
            by = shift.first.shown - min(map(_local, dated))
        for shot in dated:
            try:
                moment = Moment(local=_local(shot) + by, offset=_offset(shot, shift))
            except OverflowError as error:
                raise WrongUse(
                    f"{shift.said()} leads out of the calendar.", "Correct it and run the same command again."
                ) from error
            shot.taken, shot.shifted = moment, True
            shot.claims.append(Claim("taken", str(moment), "you"))


def _local(shot: Shot) -> datetime:
    local = at(shot)
    assert local is not None
    return local


def _offset(shot: Shot, shift: Shift) -> int | None:
    """The offset that a corrected moment has: the one told with it, or the camera's."""
    if shift.first is not None and shift.first.offset is not None:
        return shift.first.offset
    return shot.taken.offset if shot.taken is not None else None


def reset_clocks(shots: Sequence[Shot]) -> list[Shot]:
    """The frames whose camera had lost its clock, by what the clock said, uncorrected.

    A clock that was reset begins anew at a New Year: of a year at which clocks begin, or long before the frame that the same
    counter had just before. What follows on it is of the same clock. A second camera of one model has a counter of its own.
    """
    found: list[Shot] = []
    before: dict[str, Shot] = {}
    lost: set[str] = set()
    for shot in sorted(shots, key=_counter(shots)):
        if at(shot) is None or shot.original.family not in PICTURES:
            continue
        local, last = _local(shot), before.get(shot.camera)
        since = local - _local(last) if last is not None else None
        begins_anew = local - datetime(local.year, 1, 1) <= _NEW
        goes_on = since is not None and timedelta(0) <= since <= _NEW
        if last is not None and goes_on:
            is_lost = last.path in lost
        elif begins_anew and local.year in _EPOCHS:
            is_lost = True
        else:
            is_lost = begins_anew and last is not None and since is not None and -since >= _FAR and _is_next(last, shot)
        if is_lost:
            lost.add(shot.path)
            found.append(shot)
        before[shot.camera] = shot
    return found


def _is_next(one: Shot, other: Shot) -> bool:
    """Whether a counter had one frame soon after another."""
    return 0 < (other.place[1] - one.place[1]) % (2 * _HALF) <= _SOON


def forget_reset(lost: Sequence[Shot]) -> list[Finding]:
    """Forget the moments of frames whose clock had been reset and was not corrected: they are told in no name or order.

    Returns what a person should know, camera by camera.
    """
    by_camera: dict[str, list[Shot]] = {}
    for shot in lost:
        if not shot.shifted:
            by_camera.setdefault(shot.camera or "a camera that tells no name", []).append(shot)
    findings = []
    for camera, mine in by_camera.items():
        told = min(_local(shot) for shot in mine)
        for shot in mine:
            shot.taken = None
        findings.append(
            Finding(
                camera,
                f"its clock had been reset: {len(mine):,} of its frames begin at {told:%Y-%m-%d %H:%M}. They follow its"
                f" counter; to date them, say when the first was taken: --clock '{camera}=2026-05-09T14:30'",
                attention=True,
            )
        )
    return findings


def tell_offset(shots: Sequence[Shot]) -> None:
    """Films tell UTC: where the stills beside them tell their offset, the films' local clock is known by it."""
    offsets = [shot.taken.offset for shot in shots if shot.taken is not None and shot.taken.offset is not None]
    if not offsets:
        return
    common = max(set(offsets), key=offsets.count)
    for shot in shots:
        if shot.taken is not None and shot.taken.local is None and shot.taken.utc is not None:
            shot.taken = Moment(local=shot.taken.utc + timedelta(minutes=common), offset=common)


def in_order(shots: Iterable[Shot]) -> list[Shot]:
    """Frames in the order of their taking; one that nobody can date stands behind the one before it on its card."""
    shots = list(shots)
    counted = sorted(shots, key=_counter(shots))
    last: datetime | None = None
    keys: list[tuple[datetime, int]] = []
    undated: list[int] = []
    for number, shot in enumerate(counted):
        local = at(shot)
        if local is None and last is None:
            undated.append(number)
        last = local or last
        keys.append((last or datetime.min, number))
    first = min((key for key, _ in keys if key != datetime.min), default=datetime.min)
    for number in undated:
        keys[number] = (first, number)
    return [shot for _, shot in sorted(zip(keys, counted, strict=True), key=lambda pair: pair[0])]


def _counter(shots: Sequence[Shot]) -> Callable[[Shot], tuple[str, int, str]]:
    """A key that follows the counters of cameras, which begin again at 1 behind 9999."""
    rolled: dict[str, bool] = {}
    by_folder: dict[str, list[Shot]] = {}
    for shot in shots:
        by_folder.setdefault(shot.place[0], []).append(shot)
    for folder, mine in by_folder.items():
        low = [at(shot) for shot in mine if shot.place[1] < _HALF and at(shot)]
        high = [at(shot) for shot in mine if shot.place[1] >= _HALF and at(shot)]
        rolled[folder] = bool(low and high and min(filter(None, low)) >= max(filter(None, high)))

    def key(shot: Shot) -> tuple[str, int, str]:
        folder, number, name = shot.place
        return folder, number + (2 * _HALF if rolled[folder] and number < _HALF else 0), name

    return key


def days_of(shots: Sequence[Shot]) -> list[list[Shot]]:
    """Frames, in order, parted where a new day begins; an undated one stays with the one before it."""
    return _parted(shots, lambda before, after: before.date() != after.date())


def parted_by_gap(shots: Sequence[Shot], gap: timedelta) -> list[list[Shot]]:
    """Frames, in order, parted where nothing was taken for so long."""
    return _parted(shots, lambda before, after: after - before >= gap)


def _parted(shots: Sequence[Shot], parts: Callable[[datetime, datetime], bool]) -> list[list[Shot]]:
    groups: list[list[Shot]] = []
    last: datetime | None = None
    for shot in shots:
        local = at(shot)
        if not groups or (local is not None and last is not None and parts(last, local)):
            groups.append([])
        groups[-1].append(shot)
        last = local or last
    return groups
