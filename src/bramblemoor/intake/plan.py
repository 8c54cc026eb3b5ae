"""Planning an intake: what would be taken in and under which names, what is here already, and what is better left."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from pathlib import Path

from bramblemoor.disk.names import collision_key
from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import MARKED, Claim, believe
from bramblemoor.frames.kinds import PICTURES, family_by_name, stem_of
from bramblemoor.frames.moments import Moment, moment_from_epoch, now_utc, parse_shift
from bramblemoor.intake.clocks import (
    correct,
    days_of,
    forget_reset,
    in_order,
    parse_shifts,
    parted_by_gap,
    reset_clocks,
    tell_offset,
)
from bramblemoor.intake.interface import Known, Plan, PlannedFile, PlannedFrame, Wishes
from bramblemoor.intake.joining_known import join_other_half, note_hurt, note_known, other_half_of
from bramblemoor.intake.listing import Listing, Looked, Lying, digest_there, list_source, look
from bramblemoor.intake.objects import Shot, at, to_shots
from bramblemoor.intake.summing import note_folders, note_what_stays, whole_of
from bramblemoor.library.dates import first_day
from bramblemoor.library.globs import fits
from bramblemoor.library.home import Library
from bramblemoor.library.layout import folder_for
from bramblemoor.library.metadata_templates import words_of_templates
from bramblemoor.library.naming import (
    ShootName,
    changed_in_names,
    frame_stem,
    is_numbered,
    number_in,
    shoot_folder,
)
from bramblemoor.library.receipts import NOTHING, Amount, Finding, LeftOut, stamp
from bramblemoor.library.receiving import find_here, free_paths
from bramblemoor.library.sayings import words_for
from bramblemoor.library.taken_in import culled_names, culled_on, frame_of, known_on, sizes_here, was_here, was_read
from bramblemoor.running import Progress, Stage

_READERS = 2


def make_plan(library: Library, wishes: Wishes, progress: Progress) -> Plan:
    """Look at a source, and plan what to take in of it; changes nothing.

    Raises WrongUse for wishes that cannot be, with what would be right, and OSError where the source is gone.
    """
    _check(library, wishes)
    root = Path(wishes.source)
    listing = list_source(root, wishes.folders, wishes.device)
    files = listing.files
    before = known_on(library.db, listing.device) if wishes.only_new else {}
    fresh = [one for one in files if before.get(one.path, ())[:2] != (one.bytes, one.mtime_ns)]
    digests = _read_contents(library, listing, fresh, progress)
    here = {path for path, sha256 in digests.items() if sha256 and frame_of(library.db, sha256) is not None}
    looked = list(look(listing, fresh, here, progress))
    plan = Plan(
        wishes=wishes, device=listing.device, started=stamp(now_utc()), came_in=NOTHING, findings=listing.findings
    )
    found = to_shots(looked)
    shifts = parse_shifts(wishes.clocks)
    lost = reset_clocks(found.shots)
    correct(found.shots, shifts, {shot.path for shot in lost})
    plan.findings += forget_reset(lost)
    tell_offset(found.shots)
    shots = in_order(found.shots)
    _note_unread(plan, found.unread)
    to_read = set(fresh)
    _note_seen_before(plan, library, [one for one in files if one not in to_read], before)
    planned: set[str] = set()  # the paths that are to be taken, as they collide
    wanted = list(_sort_out(plan, library, shots, digests, planned))
    _name(plan, library, wanted, planned)
    _note_lone(plan, library, found.lone, digests)
    for one in plan.frames:
        for file in one.files:
            file.sha256 = digests.get(file.source, "")
    note_what_stays(plan, len(found.unread))
    plan.came_in = whole_of(plan)
    return plan


def _check(library: Library, wishes: Wishes) -> None:
    words_of_templates(library, wishes.templates)
    root = Path(wishes.source).resolve()
    if root.is_relative_to(library.root):
        raise WrongUse(
            f"{wishes.source} lies in the library itself.",
            "What lies in its folders is taken up by: bramblemoor stocktake.",
        )
    if library.root.is_relative_to(root):
        raise WrongUse(f"The library lies in {wishes.source}.", "Name the card, or a folder beside the library.")
    if wishes.date:
        if len(wishes.date) != len("2026-05-09"):
            raise WrongUse(f"{wishes.date!r} is no day.", "Write it as 2026-05-09.")
        first_day(wishes.date)
    if wishes.by_month and (wishes.subjects or wishes.split or wishes.locations):
        raise WrongUse(
            "Frames that are filed by month are no shoot.",
            "Leave out --subject, --location and --split, or --by-month.",
        )
    if wishes.date and wishes.split:
        raise WrongUse("Several shoots have no one date.", "Leave out --date, or --split.")
    for subject in wishes.subjects:
        if not subject.strip():
            raise WrongUse("A subject is empty.", "Say what the shoot is of, as --subject 'Reed cutting'.")
    gap_of(wishes)


def gap_of(wishes: Wishes) -> timedelta | None:
    """The gap that parts shoots; None where days do, or nothing does. Raises WrongUse for what is neither."""
    if wishes.split in ("", "day"):
        return None
    gap = parse_shift("+" + wishes.split.lstrip("+"))
    if gap is None or gap <= timedelta(0):
        raise WrongUse(f"{wishes.split!r} parts no shoots.", "Write --split day, or a gap in time as --split 3h.")
    return gap


def _note_unread(plan: Plan, unread: Sequence[Looked]) -> None:
    """What could not be read is not taken in, and named."""
    for one in unread:
        amount = Amount(int(one.family in PICTURES), 1, one.lying.bytes)
        plan.left.append(LeftOut(one.lying.path, f"it cannot be read ({one.trouble})", amount))


def _note_lone(plan: Plan, library: Library, lone: Sequence[Looked], digests: dict[str, str]) -> None:
    """Sidecars whose pictures are not there: they are kept as they came, in delivered/."""
    for one in lone:
        lying = one.lying
        sha256 = digests.get(lying.path) or digest_there(Path(plan.wishes.source, lying.path))
        if sha256 and was_read(library.db, sha256):
            plan.known.append(Known(lying.path, "", Amount(0, 1, lying.bytes)))
            continue
        plan.findings.append(
            Finding(lying.path, "it is a sidecar without its picture; it is kept in delivered/ as it came")
        )
        file = PlannedFile(lying.path, "sidecar", lying.bytes, lying.mtime_ns, "")
        plan.frames.append(PlannedFrame("", "other", [file], [], lying.mtime_ns))


def _note_seen_before(
    plan: Plan, library: Library, files: Sequence[Lying], before: dict[str, tuple[int, int, str]]
) -> None:
    """What this device was read of before: it is here, or was culled, or has left the library since."""
    for one in files:
        sha256 = before[one.path][2]
        here = frame_of(library.db, sha256)
        amount = Amount(int(family_by_name(one.name) in PICTURES), 1, one.bytes)
        plan.known.append(Known(one.path, here[1] if here else "", amount))


def _read_contents(library: Library, listing: Listing, files: Sequence[Lying], progress: Progress) -> dict[str, str]:
    """Digests of those files that another one, here or on the card, has the size of: only these can be here already."""
    sizes: dict[int, int] = {}
    for one in files:
        sizes[one.bytes] = sizes.get(one.bytes, 0) + 1
    here = sizes_here(library.db, sizes.keys())
    doubtful = [one for one in files if sizes[one.bytes] > 1 or one.bytes in here]
    found: dict[str, str] = {}
    whole, done = sum(one.bytes for one in doubtful), 0
    with ThreadPoolExecutor(_READERS) as readers:
        for one, sha256 in zip(
            doubtful, readers.map(lambda one: digest_there(listing.root / one.path), doubtful), strict=True
        ):
            found[one.path] = sha256
            done += one.bytes
            progress(Stage("comparing with the library"), done, whole)
    return found


def _sort_out(
    plan: Plan, library: Library, shots: Sequence[Shot], digests: dict[str, str], planned: set[str]
) -> Iterator[Shot]:
    """The frames to take in; the others are noted, each with why it is left."""
    first: dict[str, str] = {}
    used = set()
    for shot in shots:
        lying = shot.original.lying
        sha256 = digests.get(lying.path, "")
        amount = Amount(1, len(shot.files), shot.bytes)
        here = find_here(library, sha256) if sha256 else None
        if here is not None:
            note_known(plan, library, shot, here, digests, planned)
            continue
        if sha256 and sha256 in first:
            plan.twice.append(LeftOut(shot.path, f"the same picture as {first[sha256]} there", amount))
            continue
        if sha256:
            first[sha256] = lying.path
        culled = culled_on(library.db, sha256) if sha256 and not plan.wishes.again else ""
        if culled and was_here(library.db, sha256):
            plan.culled.append(LeftOut(shot.path, f"you culled it on {culled}", amount))
            plan.seen.append((lying.path, lying.bytes, lying.mtime_ns, sha256))
            continue
        shot = _without_known(plan, library, shot, digests)
        told = [glob for glob in plan.wishes.leave if fits(glob, shot.path) or fits(glob, lying.name)]
        used |= set(told)
        if told:
            plan.drops.append(LeftOut(shot.path, "you said to leave it out", amount))
            plan.seen += [(one.lying.path, one.lying.bytes, one.lying.mtime_ns, "") for _, one in shot.files]
            continue
        if shot.misfire is not None:
            plan.misfires.append(LeftOut(shot.path, shot.misfire.said(), amount))
            shot.claims.append(Claim("rating", str(MARKED), "pixels"))
        other_half = other_half_of(library, shot)
        if other_half is not None:
            join_other_half(plan, library, other_half, shot, digests, planned)
            continue
        for trouble in shot.original.troubles:
            plan.findings.append(Finding(shot.path, f"{trouble}; it is taken in as it is", attention=True))
        yield shot
    for glob in set(plan.wishes.leave) - used:
        raise WrongUse(f"No frame there fits {glob!r}.", "Name frames as the plan does, or by a glob.")


def _without_known(plan: Plan, library: Library, shot: Shot, digests: dict[str, str]) -> Shot:
    """A frame less those of its files that are in the library already, as parts of another one."""
    for role, looked in list(shot.others):
        sha256 = digests.get(looked.lying.path, "")
        here = find_here(library, sha256) if sha256 and role != "sidecar" else None
        if here is not None:
            shot.others.remove((role, looked))
            plan.known.append(Known(looked.lying.path, here.path, Amount(0, 1, looked.lying.bytes)))
            note_hurt(plan, here, looked.lying.path, sha256)
    return shot


def _name(plan: Plan, library: Library, shots: Sequence[Shot], planned: set[str]) -> None:
    def is_planned(key: str) -> bool:
        return key in planned

    if plan.wishes.by_month:
        for shot in shots:
            folder = folder_for(library.settings.naming.flat, shot.taken, "")
            frame = _planned(library, shot, folder, None, is_planned, plan.wishes, "")
            planned |= {collision_key(file.path) for file in frame.files}
            plan.frames.append(frame)
        note_folders(plan, library)
        return
    groups = _parted(plan.wishes, shots)
    subjects = _one_each(plan.wishes, "subject", plan.wishes.subjects or [""], groups)
    locations = _one_each(plan.wishes, "location", plan.wishes.locations or [""], groups)
    for group, subject, location in zip(groups, subjects, locations, strict=True):
        shoot = ShootName(_day_of(plan.wishes, group), subject, location)
        for change in changed_in_names(shoot):
            plan.findings.append(Finding("names", f"{change}, as no file system takes it as it is"))
        folder = _existing(library, shoot_folder(library.settings.naming.shoot, shoot))
        number = _last_number(library, folder, shoot, planned)
        for shot in group:
            stem = None  # what is no picture keeps its name
            if shot.original.family in PICTURES:
                number += 1
                stem = frame_stem(
                    library.settings.naming.frame, shoot, number, name=stem_of(shot.original.lying.name), camera=shot.camera,
                    taken=at(shot),
                )  # fmt: skip
            frame = _planned(library, shot, folder, stem, is_planned, plan.wishes, location)
            planned |= {collision_key(file.path) for file in frame.files}
            plan.frames.append(frame)
    note_folders(plan, library)
    for one in plan.shoots if not plan.wishes.subjects else ():
        name = one.folder.removeprefix("pictures/")
        way = f"it can be said later: bramblemoor shoot rename '{name}' --subject TEXT"
        plan.findings.append(Finding(name, f"it was not said what it is of; {way}"))


def _parted(wishes: Wishes, shots: Sequence[Shot]) -> list[list[Shot]]:
    """The frames by shoot."""
    gap = gap_of(wishes)
    if not shots or not wishes.split:
        return [list(shots)] if shots else []
    return days_of(shots) if gap is None else parted_by_gap(shots, gap)


def _one_each(wishes: Wishes, what: str, told: Sequence[str], groups: Sequence[Sequence[Shot]]) -> list[str]:
    """What was told of each shoot: once for all, or one by one. Raises WrongUse where there are others than shoots."""
    if len(told) == 1 or not groups:
        return [*told] * len(groups)
    if len(told) == len(groups):
        return [*told]
    many = f"{len(groups)} shoots" if len(groups) != 1 else "one shoot"
    raise WrongUse(
        f"There are {len(told)} {what}s, and {many} there.",
        f"Give one --{what} for all, or one for each, in their order:" if wishes.split else
        f"Give one --{what}; or part the frames by --split day, or by a gap in time as --split 3h:",
        [f"{_span(group)}: {len(group):,} frames" for group in groups],
    )  # fmt: skip


def _span(group: Sequence[Shot]) -> str:
    times = [local for shot in group if (local := at(shot)) is not None]
    return f"{min(times):%Y-%m-%d %H:%M} to {max(times):%Y-%m-%d %H:%M}" if times else "undated"


def _day_of(wishes: Wishes, group: Sequence[Shot]) -> date:
    if wishes.date:
        return first_day(wishes.date)
    times = [local for shot in group if (local := at(shot)) is not None]
    if not times:
        raise WrongUse(
            "None of the frames tells when it was taken.",
            "Say the day, as --date 2026-05-09; or when the first was taken, as --clock 'CAMERA=2026-05-09T14:30'.",
        )
    return min(times).date()


def _existing(library: Library, folder: str) -> str:
    """The folder, as it is spelled where it is here already."""
    row = library.db.execute("SELECT folder FROM frames WHERE folder = ? LIMIT 1", (folder,)).fetchone()
    if row is None:
        place = library.root / folder
        if not place.is_dir() and place.parent.is_dir():
            key = collision_key(place.name)
            for beside in place.parent.iterdir():
                if collision_key(beside.name) == key:
                    return f"{folder.rpartition('/')[0]}/{beside.name}"
    return folder


def _last_number(library: Library, folder: str, shoot: ShootName, planned: set[str]) -> int:
    """The highest number that a shoot's frames have: in the ledger, on the disk, or in this plan."""
    template = library.settings.naming.frame
    if not is_numbered(template):
        return 0
    place = library.root / folder
    names = {row[0] for row in library.db.execute("SELECT name FROM frames WHERE folder = ?", (folder,))}
    names |= {one.name for one in place.iterdir()} if place.is_dir() else set()
    names |= culled_names(library.db, folder)  # they may come back
    key = collision_key(folder) + "/"
    names |= {path.removeprefix(key) for path in planned if path.startswith(key)}
    return max((number_in(template, shoot, name.partition(".")[0]) for name in names), default=0)


def _planned(
    library: Library, shot: Shot, folder: str, stem: str | None, is_planned: Callable[[str], bool], wishes: Wishes,
    location: str,
) -> PlannedFrame:  # fmt: skip
    """A frame with a path for each of its files: called by `stem`, or as on the card where that is None."""
    wanted: dict[int, str] = {}
    for number, (role, looked) in enumerate(shot.files):
        if role == "sidecar":
            continue
        name = looked.lying.name
        wanted[number] = name if stem is None else stem + looked.lying.ending
    paths = free_paths(library, folder, wanted, dict.fromkeys(wanted, ""), is_planned)
    files = []
    for number, (role, looked) in enumerate(shot.files):
        lying = looked.lying
        files.append(PlannedFile(
            lying.path, role, lying.bytes, lying.mtime_ns, paths.get(number, ""), looked.media, looked.width, looked.height
        ))  # fmt: skip
    claims = list(shot.claims)
    if shot.taken is None and not any(claim.field == "taken" for claim in claims):
        claims.append(Claim("taken", str(_of_file(shot.original.lying)), "file"))
    if location:
        claims.append(Claim("location", location, "you"))
    words = words_of_templates(library, wishes.templates)
    claims += [
        word.claim for word in words_for(words, claims, believe(claims)) if not (location and word.field == "location")
    ]
    mtime_ns = shot.taken.nanoseconds if shot.taken is not None else shot.original.lying.mtime_ns
    album = shot.original.lying.folder.rpartition("/")[2] if wishes.albums else ""
    told = [(claim.field, claim.value, claim.source) for claim in dict.fromkeys(claims)]
    local = at(shot)
    shown = f"{local:%Y-%m-%d %H:%M}" if local is not None else ""
    return PlannedFrame(folder, shot.original.kind, files, told, mtime_ns, shown, album)  # type: ignore[arg-type]


def _of_file(lying: Lying) -> Moment:
    return moment_from_epoch(lying.mtime_ns // 1_000_000_000) or Moment(utc=now_utc())
