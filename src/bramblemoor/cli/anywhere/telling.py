"""What a destination keeps, in words."""

from bramblemoor.cli import say
from bramblemoor.services.moving import FIELDS, Fidelity, Limit


def print_fidelity(name: str, keeps: Fidelity) -> None:
    """What it keeps of what it is sent."""
    say.line(f"What {name} keeps of what it is sent:")
    say.table(("", ""), [(what, how) for what, how in said_of(keeps)], wraps=1, indent=2)


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
