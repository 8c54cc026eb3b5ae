"""Shoots: listing them, and renaming, merging and splitting them, with all their files."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from bramblemoor.disk.names import collision_key
from bramblemoor.errors import WrongUse
from bramblemoor.frames.claims import MARKED, believe
from bramblemoor.library.catalogue import believed, claims_of
from bramblemoor.library.folding import plain, suggestion
from bramblemoor.library.home import Library
from bramblemoor.library.naming import ShootName, frame_stem, is_numbered, number_in, parse_shoot, shoot_folder
from bramblemoor.library.rearranging import Rearrangement, Wanted, plan_moves
from bramblemoor.library.selection import Selected


@dataclass(frozen=True)
class Shoot:
    """A folder of frames: how many, their files and bytes, when they were taken, how many are marked to be culled."""

    folder: str
    frames: int
    files: int
    bytes: int
    begins: str
    ends: str
    marked: int

    @property
    def name(self) -> str:
        return self.folder.removeprefix("pictures/")


def shoots(library: Library, folder: str = "") -> list[Shoot]:
    """Every folder in which frames lie, or one; in order of its first frame."""
    rows = library.db.execute(
        "SELECT r.folder, count(*), (SELECT count(*) FROM files f JOIN frames o ON o.id = f.frame WHERE o.folder = r.folder),"
        " (SELECT coalesce(sum(f.bytes), 0) FROM files f JOIN frames o ON o.id = f.frame WHERE o.folder = r.folder),"
        " coalesce(min(r.shown), ''), coalesce(max(r.shown), ''),"
        f" sum(EXISTS (SELECT 1 FROM claims c WHERE c.frame = r.id AND c.field = 'rating' AND c.value = '{MARKED}')"
        f" AND {believed('rating')} = '{MARKED}') FROM frames r WHERE ?1 = '' OR r.folder = ?1"
        " GROUP BY r.folder ORDER BY min(r.shown) IS NULL, min(r.shown), r.folder",
        (folder,),
    )
    return [Shoot(*row) for row in rows]


def shoot_called(library: Library, name: str) -> str:
    """The folder of the one shoot of that name, or a part of it. Raises WrongUse, with the nearest, for none or several."""
    folders = [row[0] for row in library.db.execute("SELECT DISTINCT folder FROM frames ORDER BY folder")]
    wanted = plain(name.strip("/").removeprefix("pictures/"))
    exact = [
        one
        for one in folders
        if plain(one.removeprefix("pictures/")) == wanted or plain(one.rpartition("/")[2]) == wanted
    ]
    found = exact or [one for one in folders if wanted in plain(one.removeprefix("pictures/"))]
    names = [one.removeprefix("pictures/") for one in folders]
    if not found or not wanted:
        raise WrongUse(
            f"There is no shoot {name!r}.", f"{suggestion(name, names, listed=0)}See: bramblemoor shoot list."
        )
    if len(found) > 1:
        listed = ", ".join(one.removeprefix("pictures/") for one in found[:4])
        raise WrongUse(f"{len(found):,} shoots are called like {name!r}.", f"Name one of them: {listed}.")
    return str(found[0])


def name_of(library: Library, folder: str) -> ShootName:
    """What a shoot is called, as far as its folder tells; else the day of its first frame, and its last folder as subject."""
    template, last = library.settings.naming.shoot, folder.rpartition("/")[2]
    told = parse_shoot(template, folder.removeprefix("pictures/")) or parse_shoot(template.rpartition("/")[2], last)
    if told is not None:
        return told
    first = library.db.execute("SELECT min(shown) FROM frames WHERE folder = ?", (folder,)).fetchone()[0]
    day = date.fromisoformat(first[:10]) if first else date(1970, 1, 1)
    return ShootName(day, last)


def plan_rename(
    library: Library, folder: str, *, day: date | None, subject: str | None, location: str | None
) -> Rearrangement:
    """Plan to call a shoot otherwise: its folder, and those of its frames that are named after it.

    Raises WrongUse where nothing changes, or another shoot has that name.
    """
    old = name_of(library, folder)
    new = ShootName(
        old.day if day is None else day, old.subject if subject is None else subject,
        old.location if location is None else location,
    )  # fmt: skip
    target = _called(library.settings.naming.shoot, folder, new, by_template=day is not None)
    if target == folder:
        raise WrongUse(f"{folder.removeprefix('pictures/')} is called so already.", "Nothing was changed.")
    if collision_key(target) != collision_key(folder):
        _require_free(library, target)
    frames = _frames_of(library, folder)
    wanted = [_renamed(library, frame, name, target, old, new) for frame, name in frames]
    about = {"from": folder.removeprefix("pictures/"), "to": target.removeprefix("pictures/")}
    return plan_moves(library, "shoot", about, wanted)


def _called(template: str, folder: str, new: ShootName, *, by_template: bool) -> str:
    """The folder of a shoot that is called otherwise. One that the template has not made stays where it is, and gets a date only
    where one is told.
    """
    within, _, last = folder.rpartition("/")
    if parse_shoot(template, folder.removeprefix("pictures/")) is not None:
        return shoot_folder(template, new)
    step = template.rpartition("/")[2]
    if by_template or parse_shoot(step, last) is not None:
        return f"{within}/{shoot_folder(step, new).rpartition('/')[2]}"
    return f"{within}/{shoot_folder('{subject}[ ({location})]', new).rpartition('/')[2]}"


def plan_merge(library: Library, target: str, others: Sequence[str]) -> Rearrangement:
    """Plan to bring the frames of other shoots into one: their numbers go on behind those that are there."""
    if target in others:
        raise WrongUse("A shoot cannot be merged with itself.", "Name the others.")
    into = name_of(library, target)
    last = max(
        (number_in(library.settings.naming.frame, into, _stem(name)) for _, name in _frames_of(library, target)),
        default=0,
    )
    marks = ", ".join("?" for _ in others)
    rows = library.db.execute(
        f"SELECT id, name FROM frames WHERE folder IN ({marks}) ORDER BY shown IS NULL, shown, folder, name",
        tuple(others),
    ).fetchall()
    wanted = [_numbered(library, row["id"], target, into, last + place) for place, row in enumerate(rows, 1)]
    about = {"from": ", ".join(one.removeprefix("pictures/") for one in others), "to": target.removeprefix("pictures/")}
    return plan_moves(library, "shoot", about, wanted)


def plan_split(library: Library, selected: Selected, new: ShootName) -> Rearrangement:
    """Plan to bring some frames into a shoot of their own, numbered in order of taking."""
    target = shoot_folder(library.settings.naming.shoot, new)
    _require_free(library, target)
    wanted = [_numbered(library, frame, target, new, place) for place, frame in enumerate(selected.frames(), 1)]
    return plan_moves(library, "shoot", {"of": selected.said, "to": target.removeprefix("pictures/")}, wanted)


def first_day(library: Library, selected: Selected) -> date | None:
    """The day of the first of some frames."""
    row = library.db.execute("SELECT shown FROM frames WHERE id = ?", (next(selected.frames()),)).fetchone()
    return date.fromisoformat(row["shown"][:10]) if row["shown"] else None


def _require_free(library: Library, target: str) -> None:
    key = collision_key(target)
    taken = [row[0] for row in library.db.execute("SELECT DISTINCT folder FROM frames") if collision_key(row[0]) == key]
    if taken or (library.root / target).exists():
        raise WrongUse(
            f"There is a shoot {target.removeprefix('pictures/')} already.",
            "Choose another name; or bring the two together: bramblemoor shoot merge.",
        )


def _frames_of(library: Library, folder: str) -> list[tuple[int, str]]:
    return [
        (row["id"], row["name"])
        for row in library.db.execute("SELECT id, name FROM frames WHERE folder = ? ORDER BY name", (folder,))
    ]


def _stem(name: str) -> str:
    return name.partition(".")[0]


def _renamed(library: Library, frame: int, name: str, target: str, old: ShootName, new: ShootName) -> Wanted:
    """A frame in the renamed shoot: one that is named after it gets the new name with its number, another keeps its name."""
    number = number_in(library.settings.naming.frame, old, _stem(name))
    return _numbered(library, frame, target, new, number) if number else Wanted(frame, target)


def _numbered(library: Library, frame: int, target: str, shoot: ShootName, number: int) -> Wanted:
    template = library.settings.naming.frame
    if not is_numbered(template):
        return Wanted(frame, target)
    facts = believe(claims_of(library.db, frame))
    former = library.db.execute(
        "SELECT former_name, path FROM files WHERE frame = ? AND role = 'original'", (frame,)
    ).fetchone()
    name = _stem(former["former_name"] or former["path"].rpartition("/")[2])
    taken = facts.taken.shown if facts.taken is not None else None
    return Wanted(frame, target, frame_stem(template, shoot, number, name=name, camera=facts.camera, taken=taken))
