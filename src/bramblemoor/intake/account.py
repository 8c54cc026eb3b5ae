"""The receipt of an intake: what lay there, what is in the library now, and what was left, each by name with its reason."""

from pathlib import Path

from bramblemoor.depots.engine.copying import CopyRun, Outcome
from bramblemoor.depots.register.records import Books
from bramblemoor.intake.interface import Plan
from bramblemoor.intake.passing import State
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, total


def account(
    library: Library, state: State, run: CopyRun, books: Books, before: Amount, findings: list[Finding], unfinished: str
) -> Receipt:
    """The books as they stand; `before` is what an interrupted run of the same intake had brought in."""
    plan = state.plan
    here, left = _of_frames(state, unfinished)
    known = total(one.amount for one in plan.known)
    kept = [
        Kept("new in the library", here - before),
        Kept("taken in before this intake was interrupted", before),
        Kept("here already", known),
    ]
    seen, library.seen[:] = list(library.seen), []
    return books.receipt(
        [member.depot.name for member in run.members],
        plan.came_in,
        kept,
        [*left, *plan.twice, *plan.drops, *plan.culled, *plan.beside, *plan.left],
        [*_misfires(plan), *plan.findings, *plan.joined.findings, *findings, *seen],
        {"from": Path(plan.wishes.source).name, "into": _into(state), **_joined(plan), **_copied(run)},
    )


def _misfires(plan: Plan) -> list[Finding]:
    what = "nothing is to be seen in it; it is taken in, and marked to be culled"
    return [Finding(one.name, what) for one in plan.misfires]


def _of_frames(state: State, unfinished: str) -> tuple[Amount, list[LeftOut]]:
    """What of the planned frames is in the library, and what is not, with why."""
    here, left = NOTHING, list[LeftOut]()
    waiting = Amount()
    for frame, planned in enumerate(state.plan.frames):
        missing = [number for number in state.files_of(frame) if number in state.failed]
        if frame in state.done:
            here += planned.amount - Amount(0, len(missing), sum(state.files[number][2].bytes for number in missing))
        elif not unfinished or missing:
            missing = state.files_of(frame)
        else:
            waiting += planned.amount
            continue
        for place, number in enumerate(missing):
            file = state.files[number][2]
            why = state.failed.get(number, "its picture could not be read")
            left.append(
                LeftOut(
                    file.source,
                    why,
                    Amount(planned.amount.frames if frame not in state.done and not place else 0, 1, file.bytes),
                )
            )
    if waiting.frames:
        left.append(LeftOut(f"{waiting.frames:,} frames", f"not taken in yet: {unfinished}", waiting))
    return here, left


def _into(state: State) -> str:
    folders = [shoot.folder.removeprefix("pictures/") for shoot in state.plan.shoots]
    return ", ".join(folders[:3]) + (f" and {len(folders) - 3} more" if len(folders) > 3 else "") or "nothing"


def _joined(plan: Plan) -> dict[str, str]:
    """What a library that was merged told of frames that are here."""
    if not plan.wishes.merge:
        return {}
    told = [("frames that are here", plan.joined.frames), ("albums", plan.joined.albums)]
    return {f"joined: {what}": f"{count:,}" for what, count in told if count}


def _copied(run: CopyRun) -> dict[str, str]:
    """What each depot got in the same reading."""
    found = {}
    for member in run.members:
        outcome = run.outcomes.get(member.number, Outcome())
        files = outcome.copied
        doubt = ", perhaps from a cache" if outcome.unproven else ""
        found[f"second copy at {member.depot.name}"] = (
            f"{files.files:,} files, {files.bytes / 1e6:,.1f} MB, each read back{doubt}"
        )
    return found
