"""What a plan comes to: by the folders that get frames, in all, and what of it a person has to see to."""

from bramblemoor.frames.kinds import family
from bramblemoor.intake.interface import Plan, PlannedFrame, PlannedShoot
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import Amount, Finding


def note_folders(plan: Plan, library: Library) -> None:
    """Sum the frames up by the folders that they come into."""
    groups: dict[str, list[PlannedFrame]] = {}
    for frame in plan.frames:
        if not frame.amount.frames:
            continue
        groups.setdefault(frame.folder, []).append(frame)
    for folder, frames in groups.items():
        there = library.db.execute("SELECT count(*) FROM frames WHERE folder = ?", (folder,)).fetchone()[0]
        times = sorted(frame.shown for frame in frames if frame.shown) or [""]
        pictures = [frame for frame in frames if frame.read_as != "other"]
        names = [frame.files[0].path.rpartition("/")[2] for frame in pictures or frames]
        plan.shoots.append(PlannedShoot(
            folder, len(frames), sum(frame.amount.bytes for frame in frames), there, names[0], names[-1],
            times[0], times[-1],
        ))  # fmt: skip


def note_what_stays(plan: Plan, unread: int) -> None:
    """What a person has to see to, as nothing else will: what is named among what is left is easily passed over."""
    for name, count in (("unreadable", unread), ("new beside pictures that are here", len(plan.beside))):
        if count:
            files = "1 file" if count == 1 else f"{count:,} files"
            plan.findings.append(Finding(name, f"{files} there; what is left names them", attention=True))
    known = {file.source for _, file in plan.files() if family(file.source, file.media) == "other"}
    for source in sorted(known):
        plan.findings.append(
            Finding(source, "it is of a kind that is not known here; it is kept, and nothing is read in it")
        )


def whole_of(plan: Plan) -> Amount:
    """All that lies at the source, taken in or not."""
    whole = plan.taken
    for known in plan.known:
        whole += known.amount
    for left in (*plan.twice, *plan.drops, *plan.culled, *plan.beside, *plan.left):
        whole += left.amount
    return whole
