"""The depots that a library knows and the drives that are attached, as `depot list` prints them."""

from bramblemoor.cli import say
from bramblemoor.cli.common import whose
from bramblemoor.depots.bag.terms import said
from bramblemoor.depots.kinds import store_at
from bramblemoor.depots.register.attached import AttachedDrive, attached_drives, find_depot
from bramblemoor.depots.register.known import amount_at, known_depots
from bramblemoor.errors import DepotTrouble
from bramblemoor.library.home import Library


def print_depots(library: Library, *, json: bool) -> None:
    """Whether they are within reach, what they get, and how much room they have."""
    rows = []
    for known in known_depots(library):
        try:
            where, told = find_depot(known.id, known.where), "not within reach"
        except DepotTrouble:
            where, told = None, f"{known.where}, with a damaged depot.toml"
        held = amount_at(library, known.number)
        rows.append((known, where, told, held, store_at(where).room() if where else None))
    if json:
        say.as_json(
            {
                "depots": [
                    {
                        "depot": known.name, "id": known.id, "site": known.site, "medium": known.medium, "device": known.device,
                        "folder": where or known.where, "present": where is not None, "files": held.files,
                        "bytes": held.bytes,
                        "free_bytes": free, "gets": said(known.terms), "retired": known.retired,
                    }
                    for known, where, _, held, free in rows
                ],
            }
        )  # fmt: skip
        return
    if not rows:
        say.line(
            f"{whose(library)} has no depots yet. Add one: bramblemoor depot add NAME FOLDER --site SITE --medium MEDIUM."
        )
        return
    say.table(
        ("depot", "site", "medium", "device", "holds", "free", "where"),
        [
            (
                known.name, known.site, known.medium, known.device, f"{say.many(held.files, 'file')}, {say.size(held.bytes)}",
                say.size(free) if free is not None else "-",
                f"retired {known.retired[:10]}" if known.retired else say.place(where) if where else told,
            )
            for known, where, told, held, free in rows
        ],
        right=(5,), wraps=6,
    )  # fmt: skip
    for known, *_ in rows:
        if known.terms.chooses or known.terms.keep_for != "ever" or known.terms.leave_free:
            say.line(f"{known.name} gets: {said(known.terms)}", inward=2)
    say.line(f"{say.many(len(rows), 'depot')} of {whose(library)}.")


def print_drives(library: str, *, json: bool) -> None:
    drives = list(attached_drives())
    if json:
        say.as_json(
            {"drives": [
                {
                    "mount": str(one.drive.mount), "file_system": one.drive.file_system, "bytes": one.drive.bytes,
                    "free_bytes": one.drive.free,
                    "depots": [{"depot": depot.name, "id": depot.id, "folder": where} for where, depot in one.depots],
                }
                for one in drives
            ]}
        )  # fmt: skip
        return
    if not drives:
        say.line("No drive is attached but the system's own.")
        return
    say.table(
        ("drive", "file system", "size", "free", "depots"),
        [
            (
                str(one.drive.mount), one.drive.file_system or "-", say.size(one.drive.bytes), say.size(one.drive.free),
                _whose_depots(one, library),
            )
            for one in drives
        ],
        right=(2, 3),
    )  # fmt: skip


def _whose_depots(drive: AttachedDrive, library: str) -> str:
    return (
        ", ".join(one.name if one.library == library else f"{one.name} (of another library)" for _, one in drive.depots)
        or "-"
    )
