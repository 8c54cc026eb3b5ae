"""What a destination keeps, and what a transfer will do, in words."""

from typing import TYPE_CHECKING

from bramblemoor.cli import say
from bramblemoor.services.moving import FIELDS, Fidelity, Limit

if TYPE_CHECKING:
    from bramblemoor.migrate.plan import Plan
    from bramblemoor.migrate.sending import Destination
    from bramblemoor.migrate.transfers import Transfer


def print_fidelity(name: str, keeps: Fidelity) -> None:
    """What it keeps of what it is sent."""
    say.line(f"What {name} keeps of what it is sent:")
    say.table(("what", "how it stays"), [(what, how) for what, how in said_of(keeps)], wraps=1, indent=2)


def said_of(keeps: Fidelity) -> list[tuple[str, str]]:
    """Line by line: what, and what becomes of it."""
    pictures = (
        "as they are, byte for byte"
        if keeps.stores == "original"
        else "only reduced copies: the originals are not kept"
    )
    lines = [("pictures", pictures)]
    limits = [f"{kind}s up to {say.size(most)}" for kind, most in keeps.most_bytes.items()]
    left = [kind for kind in ("raw", "video") if kind not in keeps.kinds]
    lines.append(("kinds", "; ".join([*(f"no {kind}s" for kind in left), *limits]) or "all, of any size"))
    lines.append(("folders", "the tree is kept" if keeps.tree else "none"))
    lines.append(
        (
            "names",
            "kept" + (f", up to {keeps.name_bytes} bytes" if keeps.name_bytes else "")
            if keeps.names
            else "new ones are given",
        )
    )
    if keeps.sidecars:
        lines.append(("what is known", "in sidecars beside the pictures: all of it"))
    else:
        has = [f"{field}{_limit(keeps.fields[field])}" for field in FIELDS if field in keeps.fields]
        lacks = [field for field in FIELDS if field not in keeps.fields]
        lines.append(("fields", ", ".join(has) or "none"))
        if lacks:
            inside = " (they go inside of copies, where their format has room)" if keeps.embedded else ""
            lines.append(("no field for", ", ".join(lacks) + inside))
    if keeps.albums:
        order = "in order" if keeps.album_order else "without their order"
        lines.append(("albums", order + ("" if keeps.albums_overlap else "; a frame is in one at most")))
    else:
        lines.append(("albums", "as lists in a folder albums/" if keeps.tree else "none"))
    return lines


def _limit(limit: Limit) -> str:
    parts = [f"{limit.letters} letters" if limit.letters else "", f"{limit.values} of them" if limit.values else ""]
    told = ", ".join(filter(None, parts))
    return f" (at most {told})" if told else ""


def print_plan(transfer: "Transfer", plan: "Plan", destination: "Destination") -> None:
    """What a transfer will do, and the fidelity table."""
    listed, sending = plan.listed, plan.to_send
    say.line(f"{transfer.id}: from {transfer.source} to {transfer.destination}")
    rows = [
        ("at the source", *_amounts(listed)),
        ("  there already, or sent before", *_amounts(plan.done)),
        ("  not taken there", *_amounts(plan.refused)),
        ("  to be sent", *_amounts(sending)),
    ]
    say.table(("", "frames", "files", "size"), rows, right=(1, 2, 3), indent=2)
    if plan.gone:
        what = "one frame of these" if plan.gone == 1 else f"{plan.gone:,} of these frames"
        say.line(f"  {what} had arrived, and {'is' if plan.gone == 1 else 'are'} not there any more, or changed")
    say.line(f"  room there: {say.size(plan.room) if plan.room is not None else 'it does not say'}")
    if plan.rate and sending[2]:
        say.line(f"  at the rate of the last run ({say.size(plan.rate)}/s): {say.duration(sending[2] / plan.rate)}")
    if destination.keeps.stores == "reduced":
        say.line(
            f"{destination.name} keeps only reduced copies of pictures: it is no place for the only copy.", "amiss"
        )
    say.line()
    say.line(f"What becomes of what is known, in frames ({destination.name}):")
    say.table(
        ("", "kept", "inside", "changed", "lost", "what happens", "for example"),
        [
            (_HEADS.get(row.what, row.what), *(say.dash(count) for count in (row.kept, row.inside, row.changed, row.lost)),
             row.how, row.example.rpartition("/")[2])
            for row in plan.table
        ],
        right=(1, 2, 3, 4), wraps=6, indent=2,
    )  # fmt: skip
    fate = plan.albums
    if fate.albums:
        lost = "; ".join(fate.how)
        say.line(
            f"{say.many(fate.albums, 'album')} with {fate.entries:,} entries, {fate.overlapping:,} frames in several"
            + (f": {lost}." if lost else ": kept, in order.")
        )
    if any(row.inside for row in plan.table):
        say.line("Inside: it has no field for it there; it lies in the file, or goes into the copy that is sent.")
    say.line()


_HEADS = {"picture": "pictures", "name": "names", "folder": "folders", "taken": "date taken", "rendition": "edited versions",
          "clip": "moving parts", "edits": "edits of an editor"}  # fmt: skip


def _amounts(three: tuple[int, int, int]) -> tuple[str, str, str]:
    return say.dash(three[0]), say.dash(three[1]), say.size(three[2]) if three[2] else "-"
