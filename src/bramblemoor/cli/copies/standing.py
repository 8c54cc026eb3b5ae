"""standing."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, know_stand_ins, library_here, single, whose
from bramblemoor.cli.options import selecting
from bramblemoor.depots.register.known import known_depots
from bramblemoor.disk.names import folded
from bramblemoor.errors import NotPossible, WrongUse
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.folding import suggestion
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.depots.standing.standing import HolderStanding, Standing
    from bramblemoor.library.selection import Selection

_MEANING = {
    "sound": "satisfies the rule",
    "short": "some copies, but less than the rule asks for",
    "single": "one copy only; copies on the same physical device count as one",
    "lost": "no good copy known",
}
_FEW = 10


@selecting()
def standing(
    by_shoot: Annotated[bool, typer.Option("--by-shoot", help="Count by shoot instead of by year.")] = False,
    if_lost: Annotated[
        list[str] | None,
        typer.Option(
            "--if-lost", metavar="WHAT", help="Suppose this depot, site or kind of medium were gone; may be repeated."
        ),
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Name every frame that would be lost, short or single.")] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Is everything safe? Frames by year and depot against the rule, and what to do next.

    What if the studio burns down: bramblemoor standing --if-lost studio.
    """
    from bramblemoor.depots.standing.standing import STATES, frames_standing
    from bramblemoor.depots.standing.standing import standing as weigh
    from bramblemoor.library.selection import as_document

    know_stand_ins()
    library = library_here(library_dir)
    if library.at_depot:
        raise NotPossible(
            f"{library.root} is one copy, and knows nothing of the others.",
            "Ask the working library: bramblemoor --library DIR standing.",
        )
    gone = if_lost or []
    _require_known(library, gone)
    by: Literal["shoot", "year"] = "shoot" if by_shoot else "year"
    with say.meter() as progress:
        weighed = weigh(library, by=by, lost=gone, selection=selection, progress=progress)
    named: list[tuple[str, str]] = []
    if gone or every:
        for path, state in frames_standing(library, STATES[1:], gone, selection):
            named.append((path, state))
            if len(named) > _FEW and not every:
                break
    if json:
        document = _document(library, weighed, by) | ({} if selection.everything else {"of": as_document(selection)})
        if gone or every:
            document |= {
                "if_lost": gone,
                "short_of_the_rule": [{"path": path, "state": state} for path, state in named],
            }
        say.as_json(document)
    elif gone:
        _print_what_if(library, weighed, weigh(library, selection=selection), gone, named, every)
    else:
        _print(library, weighed, by, selection)
        _print_named(named, every)
    if not weighed.sound:
        raise typer.Exit(1)


def _require_known(library: Library, gone: Sequence[str]) -> None:
    from bramblemoor.depots.standing.standing import holders_of

    known = {word for holder in holders_of(library) for word in (holder.name, holder.site, holder.medium)}
    places = {folded(word) for holder in holders_of(library) for word in (holder.site, holder.medium)}
    for word in gone:
        if word not in known and folded(word) not in places:
            raise WrongUse(f"There is no depot, site or medium {word!r} here.", suggestion(word, sorted(known)))


def _document(library: Library, weighed: "Standing", by: str) -> dict[str, Any]:
    rule = library.settings.rule
    return {
        "safe": weighed.sound,
        "rule": {
            "least_copies": rule.copies, "least_media": rule.media, "least_sites": rule.sites, "fresh_days": rule.fresh_days,
        },
        "frames": weighed.frames,
        "states": dict(weighed.total()),
        "other_files": dict(weighed.other_states),
        f"{by}s": [
            {
                by: group or None,
                "states": dict(states),
                "held": [
                    {"depot": own.holder.name, "frames": weighed.held[group][own.holder.number]} for own in weighed.holders
                ],
            }
            for group, states in weighed.groups.items()
        ],
        "copies": [
            {
                "depot": own.holder.name, "site": own.holder.site, "medium": own.holder.medium, "device": own.holder.device,
                "frames": own.frames, "other_files": own.others, "oldest_reading": own.oldest,
                "damaged_or_missing": own.amiss, "unread": own.unread, "stale": own.stale, "stale_since": own.stale_since,
                "future": own.future, "absent": own.absent,
            }
            for own in weighed.holders
        ],
        "next": _advice(library, weighed),
    }  # fmt: skip


def _print(library: Library, weighed: "Standing", by: str, selection: "Selection") -> None:
    from bramblemoor.library.selection import counted

    total = weighed.total()
    rule = library.settings.rule
    if not weighed.frames:
        say.line(f"{whose(library)} holds no frames yet.")
    elif weighed.sound:
        safe = "Everything is safe" if selection.everything else "These are safe"
        say.line(f"{safe}: all {counted(weighed.frames, selection)} of {whose(library)} are sound.", "good")
    else:
        worst = _worst(weighed)
        if weighed.alarm:
            worst = f"{weighed.alarm}; before that, {worst}"
        elif total["sound"] == weighed.frames:
            worst = "all are sound, but "
            if weighed.other_states["sound"] == weighed.others:
                worst += "some of their copies are damaged or missing"
            else:
                worst += "other files (albums, companions, delivered data) are not"
        say.line(
            f"NOT everything is safe: of {counted(weighed.frames, selection)} of {whose(library)}, {worst}.", "amiss"
        )
    say.line(
        f"Rule: {rule.copies} copies, {rule.media} kinds of medium, {rule.sites} sites, read back within {rule.fresh_days} days."
    )
    say.line()
    _print_groups(weighed, by)
    say.line()
    say.table(
        ("copy", "site", "medium", "device", "read", "does not count", "amiss"),
        [
            (
                own.holder.name,
                own.holder.site,
                own.holder.medium,
                own.holder.device,
                _age(own),
                _not_counted(own),
                say.dash(own.amiss),
            )
            for own in weighed.holders
        ],
        right=(6,),
    )
    if weighed.frames:
        say.line(f"Sites: {', '.join(weighed.sites) or 'none'}. Media: {', '.join(weighed.media) or 'none'}.")
    if any(own.holder.device.startswith("pretend ") for own in weighed.holders):
        say.line("Devices called pretend are stand-ins on one disk: good for a demonstration, no protection.")
    say.line()
    for step in _advice(library, weighed):
        say.line(f"Next: {step}")


def _worst(weighed: "Standing") -> str:
    from bramblemoor.depots.standing.standing import STATES

    total = weighed.total()
    return ", ".join(f"{total[state]:,} {state}" for state in STATES if total[state])


def _print_groups(weighed: "Standing", by: str, *, explained: bool = False) -> None:
    from bramblemoor.depots.standing.standing import STATES

    total = weighed.total()
    rows = [
        (
            str(group).removeprefix("pictures/") if group else "undated",
            *(say.dash(states[s]) for s in STATES),
            *(say.dash(weighed.held[group][own.holder.number]) for own in weighed.holders),
        )
        for group, states in weighed.groups.items()
    ]
    rows.append(("all", *(say.dash(total[s]) for s in STATES), *(say.dash(own.frames) for own in weighed.holders)))
    if weighed.others:
        others = (say.dash(weighed.other_states[state]) for state in STATES)
        rows.append(("other files", *others, *(say.dash(own.others) for own in weighed.holders)))
    names = [own.holder.name for own in weighed.holders]
    say.table(("frames" if by == "year" else "shoot", *STATES, *names), rows, right=tuple(range(1, 5 + len(names))))
    for state in STATES[1:]:
        if total[state] and not explained:
            say.line(f"{state}: {_MEANING[state]}", inward=2)


def _print_what_if(
    library: Library, then: "Standing", now: "Standing", gone: list[str], named: list[tuple[str, str]], every: bool
) -> None:
    """What would be left, and which frames would suffer."""
    from bramblemoor.depots.standing.standing import STATES

    total, before = then.total(), now.total()
    what = ", ".join(f"{holder.name} ({holder.site}, {holder.medium})" for holder in then.gone)
    say.line(f"If {' and '.join(gone)} were lost, with {what}:")
    if not total["lost"]:
        say.line(f"no frame of {whose(library)} would be lost; of {then.frames:,} frames, {_worst(then)}.", inward=2)
    else:
        say.line(
            f"{total['lost']:,} OF {say.many(then.frames, 'FRAME')} OF {whose(library)} WOULD BE LOST; {_worst(then)}.",
            inward=2,
        )
    say.line()
    rows = [
        (state, say.dash(before[state]), say.dash(total[state]), say.dash(then.other_states[state]), _MEANING[state])
        for state in STATES
    ]
    say.table(("frames", "now", "then", "other files then", ""), rows, right=(1, 2, 3))
    say.line()
    if len(then.groups) <= 40:
        _print_groups(then, "year", explained=True)
        say.line()
    if every or not any(total[state] == then.frames for state in STATES):  # where all are alike, no name says more
        _print_named(named, every)
    left = [own for own in then.holders if own.frames and own.holder.number]
    if left:
        say.line(
            f"What is left would come back from: {', '.join(f'{own.holder.name} at {own.holder.site}' for own in left)}."
        )
    else:
        say.line("No depot would be left to bring anything back from.")


def _print_named(named: list[tuple[str, str]], every: bool) -> None:
    shown = named if every else named[:_FEW]
    for path, state in shown:
        say.line(f"  {state}: {path}")
    if len(named) > len(shown):
        say.line("  ... and more (--all names them all)")
    if named:
        say.line()


def _age(own: "HolderStanding") -> str:
    """When its copies were last read: of those that count the longest ago, else of those that count no more."""
    if own.oldest is not None:
        return _ago(own.oldest)
    if own.stale_since is not None:
        return f"{_ago(own.stale_since)}: too long"
    return "by a clock ahead of this" if own.future else "never"


def _ago(moment: str) -> str:
    days = (now_utc().date() - datetime.fromisoformat(moment.rstrip("Z")).date()).days
    return "today" if days <= 0 else f"{say.many(days, 'day')} ago"


def _not_counted(own: "HolderStanding") -> str:
    """What of its copies does not count, and why."""
    parts = [(own.unread, "not yet read there"), (own.stale, "read too long ago"), (own.future, "read in the future")]
    return ", ".join(f"{count:,} {why}" for count, why in parts if count) or "-"


def _advice(library: Library, weighed: "Standing") -> list[str]:
    """What to do next, the most urgent first."""
    depots = [own for own in weighed.holders if own.holder.number]
    steps = []
    if not weighed.frames:
        return ["bring pictures in: bramblemoor service add NAME URL, then order, collect, unpack."]
    if not depots:
        return ["there is no depot; add one: bramblemoor depot add NAME FOLDER --site SITE --medium MEDIUM."]
    if weighed.alarm:
        steps.append("look at what was changed or removed in the library: bramblemoor stocktake.")
    doubt = library.read_clock().said()
    if doubt:
        steps.append(f"{doubt}.")
    steps += [
        f"the depot {known.name} was written by a later or another state of this library: do not rely on this one before you have"
        f" looked: bramblemoor depot look {known.name}."
        for known in known_depots(library)
        if known.stranger and not known.retired
    ]
    amiss = [own.holder.name for own in weighed.holders if own.amiss]
    if amiss:
        step = f"files at {', '.join(amiss)} are damaged or missing: bramblemoor mend."
        if "library" in amiss:
            step += (
                " What you deleted or changed on purpose: bramblemoor stocktake --let-go NAME, or --accept NAME (stocktake names"
                " them)."
            )
        steps.append(step)
    absent = [own.holder.name for own in depots if own.absent]
    if absent:
        steps.append(f"{', '.join(absent)} lack files: bramblemoor backup.")
    unread = [own.holder.name for own in weighed.holders if own.unread or own.stale or own.future]
    if unread:
        steps.append(
            f"some copies at {', '.join(unread)} do not count before they are read from the medium: bramblemoor verify"
            f" {' '.join(unread)} (a network drive: remount it first)."
        )
    rule = library.settings.rule
    devices = {own.holder.device for own in weighed.holders}
    if len({folded(own.holder.site) for own in weighed.holders}) < rule.sites:
        steps.append(f"all copies are at {weighed.holders[0].holder.site}: add a depot at another site.")
    if len({folded(own.holder.medium) for own in weighed.holders}) < rule.media:
        steps.append(f"all copies are on {weighed.holders[0].holder.medium}: add a depot on another kind of medium.")
    if len(devices) < rule.copies:
        lying = say.many(len(devices), "physical device")
        steps.append(f"copies lie on {lying}, and the rule asks for {rule.copies}: add a depot on a drive of its own.")
    if not steps and not weighed.sound:
        total = weighed.total()
        if total["lost"]:
            lost = say.many(total["lost"], "frame")
            steps.append(f"{lost} lost: attach every drive you have and verify; look into bramblemoor earlier DEPOT.")
        poor = say.many(total["short"] + total["single"], "frame")
        if weighed.frames > total["sound"] + total["lost"]:
            steps.append(f"{poor} at too few depots: let more have them (bramblemoor depot change), or add a depot.")
    return steps or ["nothing; come back after the next shoot, or read the copies again: bramblemoor verify."]


COMMANDS = {"standing": single("standing", standing)}
