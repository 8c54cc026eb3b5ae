"""What a destination keeps of a frame, changes, or cannot hold: judged before anything is sent, and what it must show afterwards.

Frames and what is said of a destination in, verdicts out; nothing is asked of anybody.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Literal

import msgspec

from bramblemoor.frames import kinds
from bramblemoor.frames.fields import TOLD
from bramblemoor.frames.moments import parse_moment
from bramblemoor.services.moving import FIELDS, NOTHING_TOLD, Fidelity, Limit, Shown, Told

Outcome = Literal["kept", "inside", "changed", "lost"]
"""`inside` is kept inside of the file, or of the copy that is made for the destination."""
MOST_EMBEDDED = 8 << 20
"""Bytes of a file that is held in memory to put into it what is known."""


@dataclass(frozen=True)
class Verdict:
    """What becomes of one thing that is known of a frame, or of a file of it; `how` says it where it is not just kept or lost."""

    what: str
    outcome: Outcome
    how: str = ""


_NOT_TAKEN = {
    "photo": "photos are not taken there", "raw": "raws are not taken there", "video": "films are not taken there",
    "other": "it is no picture or film, and nothing else is taken there",
}  # fmt: skip


def why_refused(frame: Shown, keeps: Fidelity) -> str:
    """Why a destination takes nothing of a frame; "" where it takes it."""
    if frame.kind not in keeps.kinds:
        return _NOT_TAKEN[frame.kind]
    most = keeps.most_bytes.get(frame.kind, 0)
    if most and frame.files[0].bytes > most:
        return f"a {frame.kind} of {frame.files[0].bytes:,} bytes is more than the {most:,} that are taken there"
    return ""


def is_told(told: Told, field: str) -> bool:
    """Whether anything is said of a field."""
    return bool(getattr(told, field) != getattr(NOTHING_TOLD, field))


def can_embed(frame: Shown) -> bool:
    """Whether what is known can be put into a copy of a frame's original."""
    first = frame.files[0]
    return kinds.can_embed(first.name) and first.bytes <= MOST_EMBEDDED


def weigh(
    frame: Shown, keeps: Fidelity, inside: Told = NOTHING_TOLD, *, embed: bool = True, as_albums: bool = False
) -> Iterator[Verdict]:
    """What becomes of a frame that is taken. `inside` is what its original says itself; `embed` that copies may be made for it;
    `as_albums` that its folder becomes an album where there are no folders.
    """
    yield (
        Verdict("picture", "kept")
        if keeps.stores == "original" or frame.kind == "video"
        else Verdict("picture", "changed", "only a reduced copy is kept")
    )
    if frame.folder:
        if keeps.tree:
            yield Verdict("folder", "kept")
        else:
            yield (
                Verdict("folder", "changed", "it becomes an album")
                if as_albums and keeps.albums
                else Verdict("folder", "lost", "there are no folders there")
            )
    if not keeps.names:
        yield Verdict("name", "changed", "it gets another name")
    elif keeps.name_bytes and len(frame.files[0].name.encode()) > keeps.name_bytes:
        yield Verdict("name", "changed", f"it is shortened to {keeps.name_bytes} bytes")
    else:
        yield Verdict("name", "kept")
    if frame.edits:
        yield Verdict(
            "edits", "kept" if keeps.sidecars else "lost", "" if keeps.sidecars else "sidecars are not kept there"
        )
    for file in frame.files[1:]:
        if file.role not in ("sidecar", "twin"):
            is_kept = keeps.tree or file.role in keeps.roles
            yield Verdict(file.role, "kept" if is_kept else "lost", "" if is_kept else "only the original is taken")
    for field in FIELDS:
        if is_told(frame.told, field):
            yield _of_field(field, frame, keeps, inside, embed=embed)
    if not frame.told.taken and keeps.undated == "arrival":
        yield Verdict("taken", "changed", "it gets the date of its arrival")


def _of_field(field: str, frame: Shown, keeps: Fidelity, inside: Told, *, embed: bool) -> Verdict:
    if keeps.sidecars:
        return Verdict(field, "kept")
    if field in keeps.fields:
        return _limited(field, getattr(frame.told, field), keeps)
    value = getattr(frame.told, field)
    if keeps.embedded and (getattr(inside, field) == value or (embed and can_embed(frame) and field in EMBEDDED)):
        return Verdict(field, "inside")
    return Verdict(field, "lost", "it has no field there, and no room inside")


EMBEDDED = tuple(field.name for field in TOLD if field.properties and field.name != "taken")
"""What is put into copies: not the date, which a picture says itself, or nobody inside of it would have said."""


def _limited(field: str, value: Any, keeps: Fidelity) -> Verdict:
    limit = keeps.fields[field]
    if field == "taken" and keeps.dates == "utc":
        moment = parse_moment(value)
        if moment is not None and moment.local is not None:
            how = (
                "the instant stays, the local clock goes"
                if moment.offset is not None
                else "its local time is taken for UTC"
            )
            return Verdict(field, "changed", how)
    if isinstance(value, str) and limit.letters and len(value) > limit.letters:
        return Verdict(field, "changed", f"it is shortened to {limit.letters} letters")
    if isinstance(value, tuple) and field != "position" and limit.values and len(value) > limit.values:
        return Verdict(field, "changed", f"only the first {limit.values} stay")
    return Verdict(field, "kept")


def fitted(told: Told, keeps: Fidelity) -> Told:
    """What is sent of what is told: the fields that the destination has, within its limits."""
    return Told(**{
        field: _cut(getattr(told, field), keeps.fields[field], field) for field in FIELDS if field in keeps.fields
    })  # fmt: skip


def _cut(value: Any, limit: Limit, field: str) -> Any:
    if isinstance(value, str) and limit.letters and len(value) > limit.letters and field != "taken":
        return value[: limit.letters - 1].rstrip() + "…"
    if isinstance(value, tuple) and field != "position" and limit.values:
        return value[: limit.values]
    return value


def differences(sent: Told, shown: Told, keeps: Fidelity) -> Iterator[str]:
    """The fields in which a destination shows something else than what it was sent, beyond what it said beforehand."""
    for field in keeps.fields:
        ours, theirs = getattr(sent, field), getattr(shown, field)
        if field == "taken":
            if ours and not _same_moment(ours, theirs, keeps):
                yield field
        elif field == "position":
            if ours and (theirs is None or max(abs(a - b) for a, b in zip(ours, theirs, strict=True)) > 1e-5):
                yield field
        elif isinstance(ours, tuple):
            if ours and set(ours) - set(theirs):
                yield field
        elif ours and ours != theirs:
            yield field


def _same_moment(ours: str, theirs: str, keeps: Fidelity) -> bool:
    one, other = parse_moment(ours), parse_moment(theirs)
    if one is None or other is None:
        return one == other
    if keeps.dates == "as told":
        return str(one) == str(other)
    return abs(one.instant - other.instant) < timedelta(seconds=1)


class Row(msgspec.Struct, frozen=True):
    """A line of the fidelity table: how many frames keep, change or lose something, with an example of what is not just kept."""

    what: str
    kept: int = 0
    inside: int = 0
    changed: int = 0
    lost: int = 0
    how: str = ""
    example: str = ""
