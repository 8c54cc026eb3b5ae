"""The plan of an intake that is under way, kept in the library until it is done: an interrupted one goes on by it."""

from pathlib import Path

import msgspec

from bramblemoor.disk.durable import flush_folder, write_atomically
from bramblemoor.intake.interface import Plan, Wishes
from bramblemoor.library.home import Library


def folder_of(library: Library) -> Path:
    """Where an intake works: its plan, and what has come and is not in its place yet. Nothing in it is backed up."""
    return library.root / "incoming" / "intake"


def keep(library: Library, plan: Plan) -> None:
    write_atomically(folder_of(library) / "plan.json", msgspec.json.encode(plan))


def kept_plan(library: Library) -> Plan | None:
    """The plan of an intake that was interrupted; None where there is none, or it is of another version of this program."""
    try:
        return msgspec.json.decode((folder_of(library) / "plan.json").read_bytes(), type=Plan)
    except (OSError, msgspec.DecodeError):
        return None


def is_for(plan: Plan, wishes: Wishes) -> bool:
    """Whether a plan was made for just these wishes; where the second copies go may be said anew."""
    return msgspec.structs.replace(plan.wishes, depots=[]) == msgspec.structs.replace(wishes, depots=[])


def forget(library: Library) -> None:
    """The intake is done, or will not be gone on with."""
    import shutil

    folder = folder_of(library)
    (folder / "plan.json").unlink(missing_ok=True)  # first: without it nobody goes on with the rest
    if folder.is_dir():
        flush_folder(folder)
        shutil.rmtree(folder)
