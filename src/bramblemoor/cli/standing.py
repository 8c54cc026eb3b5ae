"""standing."""

from datetime import datetime
from typing import TYPE_CHECKING, Any

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here, single, whose
from bramblemoor.errors import NotPossible
from bramblemoor.frames.moments import now_utc
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.depots.standing import HolderStanding, Standing

_MEANING = {
    "sound": "satisfies the rule",
    "short": "some copies, but less than the rule asks for",
    "single": "one copy only; copies on the same physical device count as one",
    "lost": "no good copy known",
}


def standing(library_dir: LibraryDir = None, json: AsJson = False) -> None:
    """Is everything safe? Frames by year and depot against the rule, and what to do next."""
    from bramblemoor.depots.standing import standing as weigh

    library = library_here(library_dir)
    if library.at_depot:
        raise NotPossible(
            f"{library.root} is one copy, and knows nothing of the others.",
            "Ask the working library: bramblemoor --library DIR standing.",
        )
    weighed = weigh(library)
    if json:
        say.as_json(_document(library, weighed))
    else:
        _print(library, weighed)
    if not weighed.sound:
        raise typer.Exit(1)


def _document(library: Library, weighed: "Standing") -> dict[str, Any]:
    return {
        "library": library.name,
        "safe": weighed.sound,
        "rule": {
            "copies": library.settings.rule.copies,
            "media": library.settings.rule.media,
            "sites": library.settings.rule.sites,
            "fresh_days": library.settings.rule.fresh_days,
        },
        "frames": weighed.frames,
        "states": dict(weighed.total()),
        "other_files": dict(weighed.other_states),
        "years": {
            str(year or "undated"): {
                "states": dict(states),
                "held": {own.holder.name: weighed.held[year][own.holder.id] for own in weighed.holders},
            }
            for year, states in weighed.years.items()
        },
        "holders": [
            {
                "name": own.holder.name, "site": own.holder.site, "medium": own.holder.medium, "device": own.holder.device,
                "frames": own.frames, "other_files": own.others, "oldest_reading": own.oldest,
                "damaged_or_missing": own.amiss, "unproven": own.unproven, "stale": own.stale, "absent": own.absent,
            }
            for own in weighed.holders
        ],
        "next": _advice(library, weighed),
    }  # fmt: skip


def _print(library: Library, weighed: "Standing") -> None:
    from bramblemoor.depots.standing import STATES

    total = weighed.total()
    rule = library.settings.rule
    if not weighed.frames:
        say.line(f"{whose(library)} holds no frames yet.")
    elif weighed.sound:
        say.line(f"Everything is safe: all {say.many(weighed.frames, 'frame')} of {whose(library)} are sound.")
    else:
        worst = ", ".join(f"{total[state]:,} {state}" for state in STATES if total[state])
        if total["sound"] == weighed.frames:
            worst = "all are sound, but other files (albums, companions, delivered data) are not"
        say.line(f"NOT everything is safe: of {say.many(weighed.frames, 'frame')} of {whose(library)}, {worst}.")
    say.line(
        f"Rule: {rule.copies} copies, {rule.media} kinds of medium, {rule.sites} sites, read back within {rule.fresh_days} days."
    )
    say.line()
    names = [own.holder.name for own in weighed.holders]
    rows = []
    for year, states in weighed.years.items():
        held = weighed.held[year]
        rows.append(
            (
                str(year or "undated"),
                *(say.dash(states[s]) for s in STATES),
                *(say.dash(held[own.holder.id]) for own in weighed.holders),
            )
        )
    rows.append(("all", *(say.dash(total[s]) for s in STATES), *(say.dash(own.frames) for own in weighed.holders)))
    rows.append(
        (
            "other files",
            *(say.dash(weighed.other_states[state]) for state in STATES),
            *(say.dash(own.others) for own in weighed.holders),
        )
    )
    say.table(("frames", *STATES, *names), rows, right=tuple(range(1, 5 + len(names))))
    for state in STATES[1:]:
        if total[state]:
            say.line(f"  {state}: {_MEANING[state]}")
    say.line()
    say.table(
        ("copy", "site", "medium", "device", "last read", "amiss"),
        [
            (own.holder.name, own.holder.site, own.holder.medium, own.holder.device, _age(own), say.dash(own.amiss))
            for own in weighed.holders
        ],
        right=(5,),
    )
    if weighed.frames:
        say.line(f"Sites: {', '.join(weighed.sites) or 'none'}. Media: {', '.join(weighed.media) or 'none'}.")
    if any(own.holder.device.startswith("pretend ") for own in weighed.holders):
        say.line("Devices called pretend are stand-ins on one disk: good for a demonstration, no protection.")
    say.line()
    for step in _advice(library, weighed):
        say.line(f"Next: {step}")


def _age(own: "HolderStanding") -> str:
    if own.holder.id == "library":
        return "in use"
    if own.oldest is None:
        return "never"
    days = (now_utc() - datetime.fromisoformat(own.oldest.rstrip("Z"))).days
    return "today" if days == 0 else f"{say.many(days, 'day')} ago"


def _advice(library: Library, weighed: "Standing") -> list[str]:
    """What to do next, the most urgent first."""
    depots = [own for own in weighed.holders if own.holder.id != "library"]
    steps = []
    if not weighed.frames:
        return ["bring pictures in: bramblemoor service add NAME URL, then order, collect, unpack."]
    if not depots:
        return ["there is no depot; add one: bramblemoor depot add NAME FOLDER --site SITE --medium MEDIUM."]
    amiss = [own.holder.name for own in weighed.holders if own.amiss]
    if amiss:
        steps.append(f"files at {', '.join(amiss)} are damaged or missing: bramblemoor mend.")
    absent = [own.holder.name for own in depots if own.absent]
    if absent:
        steps.append(f"{', '.join(absent)} lack files: bramblemoor backup.")
    unread = [own.holder.name for own in depots if own.unproven or own.stale]
    if unread:
        steps.append(
            f"copies at {', '.join(unread)} were not read from the medium lately: remount, then bramblemoor verify."
        )
    rule = library.settings.rule
    devices = {own.holder.device for own in weighed.holders}
    if len({own.holder.site for own in weighed.holders}) < rule.sites:
        steps.append(f"all copies are at {weighed.holders[0].holder.site}: add a depot at another site.")
    if len({own.holder.medium for own in weighed.holders}) < rule.media:
        steps.append(f"all copies are on {weighed.holders[0].holder.medium}: add a depot on another kind of medium.")
    if len(devices) < rule.copies:
        lying = say.many(len(devices), "physical device")
        steps.append(f"copies lie on {lying}, and the rule asks for {rule.copies}: add a depot on a drive of its own.")
    return steps or ["nothing; come back after the next shoot, or read the copies again: bramblemoor verify."]


COMMANDS = {"standing": single("standing", standing)}
