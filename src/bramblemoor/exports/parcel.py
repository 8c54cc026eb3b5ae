"""A parcel: all the parts of one order, and whether they are complete and sound."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from bramblemoor.errors import PartsAmiss, WrongUse
from bramblemoor.exports.dialect import Dialect


@dataclass(frozen=True)
class Parcel:
    """Parts in order. `frames_said` is how many frames the service said it would hold, None where nobody said."""

    service: str
    order: str
    dialect: Dialect
    parts: tuple[Path, ...]
    work: Path
    frames_said: int | None = None
    about: tuple[tuple[str, str], ...] = ()


def require_sound(parts: list[tuple[str, bool]]) -> None:
    """Raise PartsAmiss, naming every part that is missing or wrong, given (name, sound) of each."""
    amiss = [name for name, sound in parts if not sound]
    if amiss:
        raise PartsAmiss(
            f"{len(amiss)} of {len(parts)} parts missing or damaged: {', '.join(amiss)}.",
            "Nothing was unpacked; fetch just what is wrong with: bramblemoor collect.",
        )


def parcel_in_folder(folder: Path, service: str, dialect: Dialect, work: Callable[[str], Path]) -> Parcel:
    """A parcel fetched by other means: its parts lie in `folder`, and their names say how many there are.

    Raises WrongUse where no part is there or several orders are mixed, PartsAmiss where a number is missing.
    """
    if not folder.is_dir():
        raise WrongUse(f"{folder} is not a folder.", "Name the folder that holds the parts.")
    found: dict[int, Path] = {}
    orders: set[str] = set()
    totals: set[int] = set()
    for path in sorted(folder.iterdir()):
        match = dialect.part_pattern.fullmatch(path.name)
        if match:
            orders.add(match["order"])
            totals.add(int(match["total"]))
            found[int(match["number"])] = path
    if not found:
        raise WrongUse(
            f"No file in {folder} is named like a part of a {dialect.name} export.", "Check the folder and --dialect."
        )
    if len(orders) > 1 or len(totals) > 1:
        raise WrongUse(
            f"{folder} holds parts of several orders: {', '.join(sorted(orders))}.",
            "Give each order a folder of its own.",
        )
    total = totals.pop()
    missing = [str(number) for number in range(1, total + 1) if number not in found]
    if missing:
        raise PartsAmiss(
            f"Of {total} parts, {', '.join(missing)} {'is' if len(missing) == 1 else 'are'} not in {folder}.",
            "Nothing was unpacked; fetch the rest and try again.",
        )
    order = orders.pop()
    return Parcel(service, order, dialect, tuple(found[number] for number in range(1, total + 1)), work(order))
