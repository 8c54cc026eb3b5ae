"""The depots that a library knows and the drives that are attached, as `depot list` prints them."""

from bramblemoor.cli import say
from bramblemoor.cli.common import whose
from bramblemoor.depots.bag.terms import said
from bramblemoor.depots.register.attached import AttachedDrive, attached_drives, find_depot
from bramblemoor.depots.register.known import known_depots
from bramblemoor.disk.durable import free_bytes
from bramblemoor.errors import DepotTrouble
from bramblemoor.library.copies import good
from bramblemoor.library.home import Library


def print_depots(library: Library, *, json: bool) -> None:
    """Whether they are within reach, what they get, and how much room they have."""
    rows = []
    for known in known_depots(library):
        try:
            root, told = find_depot(known.id, known.root), "not within reach"
        except DepotTrouble:
            root, told = None, f"{known.root}, with a damaged depot.toml"
        held, size = library.db.execute(
            "SELECT count(*), coalesce(sum(bytes), 0) FROM copies JOIN files ON id = file WHERE depot = ?"
            f" AND {good('copies')}",
            (known.number,),
        ).fetchone()
        rows.append((known, root, told, held, size, free_bytes(root) if root else None))
    if json:
        say.as_json(
            {
                "library": library.name,
                "depots": [
                    {
                        "name": known.name, "id": known.id, "site": known.site, "medium": known.medium, "device": known.device,
                        "folder": str(root or known.root), "present": root is not None, "files": held, "bytes": size,
                        "free_bytes": free, "gets": said(known.terms), "retired": known.retired,
                    }
                    for known, root, _, held, size, free in rows
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
                known.name, known.site, known.medium, known.device, f"{say.many(held, 'file')}, {say.size(size)}",
                say.size(free) if free is not None else "-",
                f"retired {known.retired[:10]}" if known.retired else str(root) if root else told,
            )
            for known, root, told, held, size, free in rows
        ],
        right=(5,), wraps=6,
    )  # fmt: skip
    for known, *_ in rows:
        if known.terms.chooses or known.terms.keep_for != "ever" or known.terms.leave_free:
            say.line(f"  {known.name} gets: {said(known.terms)}")
    say.line(f"{say.many(len(rows), 'depot')} of {whose(library)}.")


def print_drives(library: str, *, json: bool) -> None:
    drives = list(attached_drives())
    if json:
        say.as_json(
            [
                {
                    "mount": str(drive.mount), "file_system": drive.file_system, "bytes": drive.bytes, "free_bytes": drive.free,
                    "depots": [{"name": one.name, "id": one.id, "folder": str(root)} for root, one in drive.depots],
                }
                for drive in drives
            ]
        )  # fmt: skip
        return
    if not drives:
        say.line("No drive is attached but the system's own.")
        return
    say.table(
        ("drive", "file system", "size", "free", "depots"),
        [
            (
                str(drive.mount), drive.file_system or "-", say.size(drive.bytes), say.size(drive.free),
                _whose_depots(drive, library),
            )
            for drive in drives
        ],
        right=(2, 3),
    )  # fmt: skip


def _whose_depots(drive: AttachedDrive, library: str) -> str:
    return (
        ", ".join(one.name if one.library == library else f"{one.name} (of another library)" for _, one in drive.depots)
        or "-"
    )
