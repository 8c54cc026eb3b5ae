"""drill."""

from pathlib import Path
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, open_depots, single, stoppable


def drill(
    depot: Annotated[str, typer.Argument(metavar="DEPOT", help="Which depot.")],
    files: Annotated[int, typer.Option("--files", min=1, help="How many files, chosen by chance.")] = 300,
    confidence: Annotated[float, typer.Option("--confidence", min=50, max=99.99, help="In percent.")] = 95,
    scratch: Annotated[
        Path | None,
        typer.Option("--scratch", metavar="DIR", help="Where to restore to; the system's temporary folder."),
    ] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Practise a restore: bring some files, chosen by chance, from a depot to a scratch folder, and compare them.

    Says what that proves of the whole depot, and how long restoring all of it would take. The scratch folder is removed.
    """
    from bramblemoor.depots.drill import drill as run
    from bramblemoor.planning.sampling import most_unreadable
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace()
    with (
        holding(library), open_depots(library, [depot], to_write=False) as (opened, _), stoppable(pace), say.meter() as progress,
    ):  # fmt: skip
        done = run(library, opened[0], files=files, scratch=scratch, progress=progress, pace=pace)
    bad = len(done.unreadable)
    bound = most_unreadable(bad, done.files, done.held, confidence / 100)
    if json:
        say.as_json(
            {
                "depot": done.depot, "files": done.held, "files_tried": done.files, "bytes": done.bytes, "unreadable": bad,
                "confidence": confidence, "at_most_unreadable": bound, "seconds": round(done.seconds, 2),
                "whole_restore_seconds": round(done.whole_seconds), "read_from_medium": done.read_from_medium,
                "findings": [{"name": finding.name, "what": finding.what} for finding in done.unreadable],
            }
        )  # fmt: skip
    else:
        say.line(
            f"Restored {done.files:,} of {say.many(done.held, 'file')} ({say.size(done.bytes)}) from the depot {done.depot} to a"
            f" scratch folder, in {say.duration(done.seconds)}."
        )
        for finding in done.unreadable:
            say.line(f"NOT RESTORED {finding.name}: {finding.what}", inward=2)
        say.line()
        if done.files >= done.held:
            say.line(f"That was all of it: {bad:,} of {say.many(done.held, 'file')} could not be restored.")
        elif done.files:
            worst = max(bad, int(bound * done.held))
            found = "All of them came back as they should" if not bad else f"{bad:,} of them did not come back"
            say.line(
                f"{found}. At {confidence:g} % confidence, fewer than {_percent(bound)} of the files at this depot are"
                f" unreadable: at most {worst:,} of {done.held:,} (Clopper-Pearson)."
            )
        if done.read_from_medium < done.files - bad:
            say.line(
                f"{done.files - bad - done.read_from_medium:,} may have come from the computer's cache, not from the drive."
            )
        about = "about " if done.whole_seconds >= 1 else ""
        say.line(f"Restoring everything ({say.size(done.whole)}) would take {about}{say.duration(done.whole_seconds)}.")
        if bad:
            say.line(f"Next: bramblemoor verify {done.depot}, then bramblemoor mend.")
    if pace.stopped:
        raise typer.Exit(130)
    if bad:
        raise typer.Exit(1)


def _percent(share: float) -> str:
    return f"{share * 100:.2g} %"


COMMANDS = {"drill": single("drill", drill)}
