"""The plot of years on drives."""

from collections.abc import Sequence
from pathlib import Path

from bramblemoor.cli import say
from bramblemoor.errors import NotPossible
from bramblemoor.planning.packing import Drive, YearsOnDrives

_UNITS = ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1, "bytes"))


def draw(target: Path, drives: Sequence[Drive], packed: YearsOnDrives, reserve: float) -> None:
    """One bar a drive, as long as the drive is large: its years, what is free, and the reserve. Raises NotPossible."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import colormaps, pyplot

    years = sorted({year.year for placed in packed.on.values() for year in placed})
    tints = colormaps["YlGnBu"]
    figure, axes = pyplot.subplots(figsize=(11, 1.6 + 0.62 * len(drives)))
    largest = max(drive.bytes for drive in drives)
    unit, word = next((unit, word) for unit, word in _UNITS if largest >= 2 * unit or unit == 1)
    longest = largest / unit
    for row, drive in enumerate(drives):
        axes.barh(row, drive.bytes / unit, color="#f1f1ec", edgecolor="#8a8a80", height=0.62)
        axes.barh(
            row, drive.bytes * reserve / unit, left=drive.bytes * (1 - reserve) / unit, color="none", edgecolor="#b9b9ae",
            hatch="////", height=0.62, linewidth=0,
        )  # fmt: skip
        left = 0.0
        for year in packed.on.get(drive.name, ()):
            width = year.bytes / unit
            place = years.index(year.year) / max(1, len(years) - 1)
            axes.barh(row, width, left=left, color=tints(0.25 + 0.6 * place), edgecolor="white", height=0.62)
            if width > 0.035 * longest:
                axes.text(
                    left + width / 2, row, str(year.year), ha="center", va="center", fontsize=9,
                    color="white" if place > 0.45 else "#22303c",
                )  # fmt: skip
            left += width
    labels = [f"{drive.name}\n{drive.site or 'anywhere'}, {say.size(drive.bytes)}" for drive in drives]
    axes.set_yticks(range(len(drives)), labels)
    axes.invert_yaxis()
    axes.set_xlabel(f"{word}; hatched: kept free")
    axes.set_title(
        "Years on drives" + (f"; no room for {', '.join(str(y.year) for y in packed.left)}" if packed.left else "")
    )
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(axis="y", length=0)
    figure.tight_layout()
    try:
        figure.savefig(target, dpi=110)
    except (OSError, ValueError) as error:
        raise NotPossible(
            f"{target} cannot be written ({error}).", "Name a file ending in .png, .svg or .pdf."
        ) from error
    finally:
        pyplot.close(figure)
