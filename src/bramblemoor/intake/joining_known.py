"""What comes to frames that are here: a voice note or a clip beside a picture that was taken in before, and the JPEG of a raw,
or the raw of a JPEG, that a camera with two slots has written to another card.
"""

import json
from collections.abc import Mapping, Sequence
from pathlib import Path

from bramblemoor.disk.names import collision_key
from bramblemoor.frames.claims import Claim
from bramblemoor.frames.kinds import JPEG, RAWS, stem_of
from bramblemoor.intake.interface import Hurt, Known, Plan, PlannedFile, PlannedFrame
from bramblemoor.intake.listing import Looked, digest_there
from bramblemoor.intake.objects import Shot
from bramblemoor.library.catalogue import claims_of, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, LeftOut
from bramblemoor.library.receiving import Here, find_here, free_paths
from bramblemoor.library.taken_in import was_read

_BOUND = "it is new beside {}, whose year is bound; to take it in: unbind, and then again"
# The originals of a moment of some media that have nothing of other media beside them yet.
_ALONE = """
    SELECT f.frame, f.path, f.former_name FROM files f JOIN frames r ON r.id = f.frame
    WHERE f.role = 'original' AND f.media IN (SELECT value FROM json_each(:media)) AND r.shown = :shown AND NOT EXISTS (
        SELECT 1 FROM files j
        WHERE j.frame = f.frame AND j.role = 'rendition' AND j.media IN (SELECT value FROM json_each(:others)))
"""


def note_known(
    plan: Plan, library: Library, shot: Shot, here: Here, digests: Mapping[str, str], planned: set[str]
) -> None:
    """A frame whose original is here. What lies beside it there and is not here joins it.

    `planned` gets the paths that are to be taken.
    """
    known, new = Amount(1), list[tuple[str, Looked]]()
    bound = is_bound(library.db, here.frame)
    for role, looked in shot.files:
        lying = looked.lying
        sha256 = digests.get(lying.path, "")
        if role == "sidecar":
            sha256 = sha256 or digest_there(Path(plan.wishes.source, lying.path))
            is_here = was_read(library.db, sha256)
        else:
            found = find_here(library, sha256) if sha256 else None
            is_here = found is not None
            if found is not None:
                note_hurt(plan, found, lying.path, sha256)
        if is_here:
            known += Amount(0, 1, lying.bytes)
            plan.seen.append((lying.path, lying.bytes, lying.mtime_ns, sha256))
        elif bound:
            plan.beside.append(LeftOut(lying.path, _BOUND.format(here.path), Amount(0, 1, lying.bytes)))
        else:
            new.append((role, looked))
    plan.known.append(Known(shot.path, here.path, known))
    if new:
        plan.frames.append(joining(library, here.path, _as_planned(new, digests), (), planned))


def note_hurt(plan: Plan, here: Here, source: str, sha256: str) -> None:
    """Note that what is here of a content is to be mended by what lies at the source."""
    if here.hurt:
        plan.hurt.append(Hurt(source, here.path, sha256, here.hurt))


def join_other_half(
    plan: Plan, library: Library, here: str, shot: Shot, digests: Mapping[str, str], planned: set[str]
) -> None:
    """The camera's own JPEG comes to its raw that is here, or a raw to its JPEG, with what belongs to it."""
    files = [("rendition", shot.original), *shot.others]
    plan.frames.append(joining(library, here, _as_planned(files, digests), shot.claims, planned))


def other_half_of(library: Library, shot: Shot) -> str | None:
    """The path of the one raw here that a JPEG is the camera's own of, or of the one JPEG that is a raw's: of its name, its
    camera and its second.
    """
    media = shot.original.media
    if media not in (JPEG, *RAWS) or shot.taken is None:
        return None
    wanted, others = (RAWS, (JPEG,)) if media == JPEG else ((JPEG,), RAWS)
    asked = {"media": json.dumps(wanted), "others": json.dumps(others), "shown": shot.taken.shown.isoformat()}
    stem = stem_of(shot.original.lying.name).casefold()
    found = []
    for row in library.db.execute(_ALONE, asked).fetchall():
        camera = next((claim.value for claim in claims_of(library.db, row["frame"]) if _is_cameras_name(claim)), None)
        name = row["former_name"] or row["path"].rpartition("/")[2]
        if stem_of(name).casefold() == stem and camera == shot.camera and not is_bound(library.db, row["frame"]):
            found.append(str(row["path"]))
    return found[0] if len(found) == 1 else None


def _is_cameras_name(claim: Claim) -> bool:
    return (claim.field, claim.source) == ("camera", "camera")


def _as_planned(files: Sequence[tuple[str, Looked]], digests: Mapping[str, str]) -> list[PlannedFile]:
    return [
        PlannedFile(
            one.lying.path, role, one.lying.bytes, one.lying.mtime_ns, "", one.media, one.width, one.height,
            digests.get(one.lying.path, ""),
        )
        for role, one in files
    ]  # fmt: skip


def joining(
    library: Library, path: str, files: Sequence[PlannedFile], claims: Sequence[Claim], planned: set[str]
) -> PlannedFrame:
    """Files that are to come to the frame of a picture, called as it is; those that are no sidecars get their paths."""
    folder, _, name = path.rpartition("/")
    for file in files:
        if file.role == "sidecar":
            continue
        came = file.source.rpartition("/")[2]
        wanted = {file.source: stem_of(name) + came[len(stem_of(came)) :].lower()}
        file.path = free_paths(library, folder, wanted, {file.source: file.sha256}, planned.__contains__)[file.source]
        planned.add(collision_key(file.path))
    told: list[tuple[str, str, str]] = [
        (claim.field, claim.value, claim.source) for claim in claims if claim.source == "camera"
    ]
    mtime_ns = library.db.execute("SELECT mtime_ns FROM files WHERE path = ?", (path,)).fetchone()[0]
    return PlannedFrame(folder, "photo", list(files), told, mtime_ns, joins=path)
