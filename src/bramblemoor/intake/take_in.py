"""Carrying out an intake: each file is read once, written to the library and to depots at once, and read back from each."""

import errno
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from io import FileIO
from pathlib import Path

from bramblemoor.depots.backup import close_journals, members_of
from bramblemoor.depots.bag.depot import Depot
from bramblemoor.depots.bag.placing import Placing
from bramblemoor.depots.bag.terms import LACKING
from bramblemoor.depots.engine.copying import CopyRun, Outcome
from bramblemoor.depots.engine.feeding import HASHERS
from bramblemoor.depots.engine.lane import open_lanes
from bramblemoor.depots.engine.sources import from_library
from bramblemoor.depots.engine.work import Member, Work
from bramblemoor.depots.register.records import Books, open_books
from bramblemoor.depots.register.register import finish_all, require_room_there
from bramblemoor.depots.standing.tally import settle_apart
from bramblemoor.disk.durable import digest_of, is_taken
from bramblemoor.disk.told import is_plain_file
from bramblemoor.errors import WrongUse
from bramblemoor.intake.account import account
from bramblemoor.intake.entering import Came, enter_frames, landing_path
from bramblemoor.intake.interface import Plan
from bramblemoor.intake.kept_plan import forget, keep
from bramblemoor.intake.landing import landed, open_landing, place_of
from bramblemoor.intake.leftovers import keep_albums, keep_sidecars
from bramblemoor.intake.merging import open_other
from bramblemoor.intake.passing import PassOn, State
from bramblemoor.library import copies, taken_in
from bramblemoor.library.copies import LIBRARY
from bramblemoor.library.home import Library, require_room
from bramblemoor.library.merging import join
from bramblemoor.library.receipts import Amount, Finding, Receipt, write_receipt
from bramblemoor.library.receiving import each_here, is_right, mend_here
from bramblemoor.library.stocktake.stock import renew_snapshot
from bramblemoor.running import Pace, Progress, Stage, silent

_SLACK = 16 << 20
_STOPPED = "it was stopped"


@dataclass(frozen=True)
class Ended:
    """How an intake ended: its receipt; and why it is not done, where it is not: then the same command goes on."""

    receipt: Receipt
    unfinished: str = ""
    stopped: bool = False
    """It was the user who stopped it."""


def take_in(
    library: Library, plan: Plan, depots: Sequence[Depot], progress: Progress, pace: Pace, *, resumed: bool = False
) -> Ended:
    """Carry out a plan; the caller holds the library and the depots. The receipt is also written.

    May be killed at any moment: `resumed` says that the plan is that of an intake which was. Raises NotPossible, before
    anything is done, where there is too little room.
    """
    state = State(plan)
    landing = open_landing(library)
    if resumed:
        _take_up(library, state, landing)
    else:
        keep(library, plan)
    before = _entered_so_far(state)
    _enter_ready(library, state, landing)  # before depots are finished: what lies there is then known
    depots, wrong = finish_all(library, depots)
    _require_room(library, state, depots)
    books = open_books(library, plan.run)
    members = members_of(library, depots)
    run = CopyRun(library, members, books.name, progress, pace)
    failure = _pass_on(library, state, landing, run, pace)
    findings = [*wrong, *run.findings, *_that_failed(state)]
    if failure:
        stopped = failure == _STOPPED
        return Ended(_unfinished(library, state, run, books, before, findings, failure), failure, stopped=stopped)
    _keep_the_rest(library, state, landing)
    findings += _mend(library, plan, progress)
    if plan.wishes.merge:
        plan.joined = join(library, open_other(library, plan.wishes), progress, changing=True)
    settle_apart(library)
    _bring_the_rest(run, state)
    findings += _at_depots(run, state)
    receipt = account(library, state, run, books, before, findings, "")
    write_receipt(library.receipts, receipt)
    close_journals(run, receipt)
    forget(library)
    return Ended(receipt)


def _mend(library: Library, plan: Plan, progress: Progress) -> Iterator[Finding]:
    """Put what is missing or damaged here right by what lies at the source; yields what came of each."""
    for number, one in enumerate(plan.hurt, 1):
        opened = partial(FileIO, Path(plan.wishes.source, one.source))
        try:
            for here in each_here(library, one.sha256):
                if not here.hurt:
                    continue
                if not mend_here(library, here, one.sha256, opened, f"{plan.run} {plan.started}"):
                    raise OSError(errno.EIO, "there it does not read as it did")
                with library.ledger.changing() as db:
                    is_right(db, here.file)
                yield Finding(here.path, f"it was {here.hurt} here, and is mended by {one.source}")
        except OSError as error:
            why = error.strerror or str(error)
            yield Finding(
                one.path, f"it is {one.why} here, and could not be mended by {one.source} ({why})", attention=True
            )
        progress(Stage("mending", "files"), number, len(plan.hurt))


def end_interrupted(library: Library, plan: Plan) -> int:
    """End an intake that was interrupted, and will not be gone on with: what has landed is entered, and accounted for.

    Returns how many of its frames are in the library.
    """
    state = State(plan)
    landing = open_landing(library)
    _take_up(library, state, landing)
    before = _entered_so_far(state)
    _enter_ready(library, state, landing)
    _keep_the_rest(library, state, landing)
    settle_apart(library)
    run = CopyRun(library, [], "", silent)
    receipt = account(library, state, run, open_books(library, plan.run), before, [], "it was interrupted")
    write_receipt(library.receipts, receipt)
    forget(library)
    return len(state.done)


def _keep_the_rest(library: Library, state: State, landing: Placing) -> None:
    """What a source leaves besides frames: what was read of it, its sidecars as they came, and its folders as albums."""
    if state.plan.wishes.merge:
        return  # the other library keeps all that by itself
    _remember(library, state)
    keep_sidecars(library, state, landing)
    keep_albums(library, state)


def refuse_choosy(depots: Sequence[Depot]) -> None:
    """Raise WrongUse for a depot that does not take everything: whether it takes these is known only once they are here."""
    for depot in depots:
        if depot.identity.terms.chooses:
            raise WrongUse(
                f"The depot {depot.name} takes only some frames, and not in the reading of a card.",
                f"Leave it out, and bring it level afterwards: bramblemoor backup {depot.name}.",
            )


def _entered_so_far(state: State) -> Amount:
    """What an earlier, interrupted run of the same intake has brought in."""
    before = Amount()
    for frame in state.done:
        before += state.plan.frames[frame].amount
    return before


def _take_up(library: Library, state: State, landing: Placing) -> None:
    """Learn what an interrupted run of this plan had done: what is entered, and what has landed and was read back."""
    there = {intent.path: intent for intent in landed(landing)}
    for number, (frame, _, file) in enumerate(state.files):
        intent = there.get(landing_path(file))
        sha256 = intent.sha256 if intent is not None else ""
        known = file.path and library.db.execute("SELECT sha256 FROM files WHERE path = ?", (file.path,)).fetchone()
        target = library.root / file.path if file.path else None
        if known and known["sha256"] == sha256:
            state.landed[number] = Came(number, file, sha256)
            state.done.add(frame)
        elif known or (target is not None and is_taken(target) and not _holds(target, sha256)):
            state.failed[number] = f"{file.path}, where it was to go, is another file now"
        elif sha256 and (is_plain_file(place_of(landing, landing_path(file))) or (target and _holds(target, sha256))):
            state.landed[number] = Came(number, file, sha256)


def _holds(path: Path, sha256: str) -> bool:
    return is_plain_file(path) and digest_of(path) == sha256


def _require_room(library: Library, state: State, depots: Sequence[Depot]) -> None:
    lacking = sum(
        file.bytes for number, (frame, _, file) in enumerate(state.files)
        if frame not in state.done and number not in state.landed
    )  # fmt: skip
    if not lacking:
        return
    require_room(library.root, lacking + _SLACK, "Taking these in")
    for depot in depots:
        require_room_there(depot, lacking + _SLACK, f"A second copy at the depot {depot.name}")


def _enter_ready(library: Library, state: State, landing: Placing) -> None:
    """Enter the frames that have landed, and the copies of their files at depots."""
    arrived = state.ready()
    if arrived:
        files = enter_frames(library, landing, arrived)
        state.entered |= files
        state.done |= {one.number for one in arrived}
    known = [number for number in state.held if number in state.entered]
    if not known:
        return
    counts = not library.clock.in_doubt
    with library.ledger.changing() as db:
        for number in known:
            for depot, copied in state.held.pop(number):
                copies.enter(db, depot, [(state.entered[number], copied.read_at, copied.grade)], counts=counts)


def _pass_on(library: Library, state: State, landing: Placing, run: CopyRun, pace: Pace) -> str:
    """Read the card; says why that ended before its end, "" where it did not."""
    if all(frame in state.done for frame in range(len(state.plan.frames))):
        return ""
    journals: dict[int, Placing] = {LIBRARY: landing} | {member.number: run.journal(member) for member in run.members}
    run.outcomes |= {member.number: Outcome() for member in run.members}
    there = {member.number: _lying_at(library, member) for member in run.members}
    with open_lanes(journals) as lanes, ThreadPoolExecutor(HASHERS) as hashers:
        feeder = PassOn(
            state, lanes, hashers, root=Path(state.plan.wishes.source), depots=there, pace=pace, progress=run.progress,
            outcomes=run.outcomes, enter=lambda: _enter_ready(library, state, landing),
        )  # fmt: skip
        feeder.one_pass()
        feeder.hand_over()
    feeder.enter()
    for member in run.members:
        outcome = run.outcomes[member.number]
        outcome.failure = lanes.by_key[member.number].failure
        outcome.failed.clear()  # what a depot lacks is brought to it once more, from the library
    failure = lanes.by_key[LIBRARY].failure
    if failure is not None:
        return f"the library's drive failed ({failure.strerror or failure})"
    if feeder.pulled:
        return "the card is not there any more"
    return _STOPPED if pace.stopped else ""


def _lying_at(library: Library, member: Member) -> set[str]:
    """What an interrupted run has put there, and the ledger did not know what for."""
    rows = library.db.execute("SELECT path FROM leftovers WHERE depot = ?", (member.number,))
    return {row[0] for row in rows}


def _remember(library: Library, state: State) -> None:
    """Note what was read of the device."""
    plan = state.plan
    seen = plan.seen + [
        (came.file.source, came.file.bytes, came.file.seen_ns, came.sha256)
        for came in state.landed.values()
        if came.file.role == "sidecar" or state.files[came.number][0] in state.done
    ]
    dropped = list(_left_out(plan))
    with library.ledger.changing() as db:
        taken_in.remember(db, plan.device, seen)
        taken_in.leave_out(db, dropped)


def _left_out(plan: Plan) -> Iterator[tuple[str, int]]:
    """Digest and bytes of what was left, with the user's consent, as nothing is to be seen in it."""
    for path, size, _, sha256 in plan.seen:
        if not sha256:
            with suppress(OSError):  # it is not known then, and told to be in no library
                yield digest_of(Path(plan.wishes.source, path)), size


def _bring_the_rest(run: CopyRun, state: State) -> None:
    """What was written beside the pictures, and the snapshot, come to the depots from the library; and what failed before."""
    alive = [member for member in run.members if run.outcomes.get(member.number, Outcome()).failure is None]
    if not alive:
        return
    db = run.library.db
    renew_snapshot(run.library)
    db.executescript("CREATE TEMP TABLE IF NOT EXISTS came (file INTEGER PRIMARY KEY); DELETE FROM temp.came;")
    paths = [file.path for frame in state.done for file in state.plan.frames[frame].files if file.path]
    db.executemany("INSERT OR IGNORE INTO temp.came SELECT id FROM files WHERE path = ?", ((path,) for path in paths))
    members = run.members
    run.members = alive
    work = Work(
        run.library, alive,
        f"{LACKING} AND (f.frame IN (SELECT frame FROM files WHERE id IN (SELECT file FROM temp.came))"
        " OR f.role IN ('ledger', 'delivered', 'album'))",
    )  # fmt: skip
    run.copy(work, from_library(run.library, [member.depot for member in alive]))
    run.members = members


def _that_failed(state: State) -> list[Finding]:
    if not state.failed:
        return []
    files = "1 file" if len(state.failed) == 1 else f"{len(state.failed):,} files"
    return [Finding("not taken in", f"{files} there; what was left names them, with why", attention=True)]


def _at_depots(run: CopyRun, state: State) -> list[Finding]:
    """What a person should know of the second copies."""
    findings = []
    for member in run.members:
        outcome = run.outcomes.get(member.number, Outcome())
        name = f"depot {member.depot.name}"
        way = f"bring it level: bramblemoor backup {member.depot.name}"
        if outcome.failure is not None:
            why = outcome.failure.strerror or str(outcome.failure)
            findings.append(
                Finding(name, f"its drive failed ({why}), and it has not all of these; {way}", attention=True)
            )
        elif outcome.failed:
            findings.append(
                Finding(name, f"{len(outcome.failed):,} files could not be copied there; {way}", attention=True)
            )
    return findings


def _unfinished(
    library: Library, state: State, run: CopyRun, books: Books, before: Amount, findings: list[Finding], why: str
) -> Receipt:
    """End in good order: what has come is accounted for, and the plan is kept for the same command."""
    settle_apart(library)
    findings += _at_depots(run, state)
    receipt = account(library, state, run, books, before, findings, why)
    write_receipt(library.receipts, receipt)
    alive = [member for member in run.members if run.outcomes.get(member.number, Outcome()).failure is None]
    run.members = alive
    close_journals(run, receipt)
    return receipt
