"""A model of a studio over the years: people, drives and accidents in any order, against a count made from disk alone.

It does what people and drives do (new pictures, renames, retouching, rot, unplugging, copying by hand, clones, clocks), and runs
real commands between. After each command every content that was there is still held by as many places as the rule asks,
unless a person let it go by name; and `standing` counts no frame at a place where it is not.

usage: model.py [--steps N] [--seed N] [--from N]
"""

import argparse
import hashlib
import json
import os
import random
import shutil
import sqlite3
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from preloaded import SHORT_PAUSE, Preloaded

HEAD = bytes.fromhex("ffd8ffe000104a46494600010100000100010000ffdb004300") + b"\x01" * 64
LEAST = 2  # copies elsewhere that the rule for erasing asks for
DEPOTS = {
    "heron": ("studio", "ssd", ()),
    "otter": ("studio", "hdd", ("--keep-for", "none")),
    "dipper": ("cottage", "hdd", ("--year", "2026", "--keep-for", "30")),
    "swift": ("boathouse", "usb", ("--stand-in-fault", "folds=yes")),
}


class Broken(AssertionError):
    """What should never be, with the steps that led there."""


class Studio:
    """One library and four depots on disk, and what people know of them."""

    program = Preloaded(SHORT_PAUSE)

    def __init__(self, folder: Path, chance: random.Random) -> None:
        self.folder, self.chance = folder, chance
        self.steps: list[str] = []
        self.days = 0.0
        self.made = 0
        self.away: set[str] = set()  # depots that are unplugged
        self.let_go: set[str] = set()  # digests of contents that a person gave up by name
        self.real: set[str] = set()  # digests of contents that people made; what rots into another one is nobody's work
        self.unnoticed: set[tuple[str, str]] = set()  # (place, digest) of what went wrong where, and was not read since
        self.library = folder / "library"
        self.run("new", folder / "library", "--stand-in", "desk", cwd=folder)
        for _ in range(4):
            self._new_picture()
        for name, (site, medium, more) in DEPOTS.items():
            (folder / name).mkdir()
            self.run(
                "depot", "add", name, folder / name, "--site", site, "--medium", medium, "--stand-in", name, *more, code=0,
            )  # fmt: skip
        self.run("backup", code=0)

    # What is on disk, by nothing but looking.

    def place(self, name: str) -> Path:
        if name == "library":
            return self.library
        return self.folder / (f"{name} (unplugged)" if name in self.away else name)

    def contents(self, name: str) -> dict[str, int]:
        """Digests of the pictures at a place, earlier versions too, and how often each lies there."""
        root = self.place(name)
        tops = (
            (root / "pictures", root / "set-aside") if name == "library" else (root / "data/pictures", root / "earlier")
        )
        paths = [path for top in tops if top.is_dir() for path in top.rglob("*.[jJ][pP][gG]")]
        paths += (root / "incoming/rearranging").glob("*[0-9]")  # on their way, where that was killed
        found: dict[str, int] = {}
        for path in paths:
            if path.is_file() and not path.is_symlink():
                digest = hashlib.sha256(path.read_bytes()).hexdigest()
                found[digest] = found.get(digest, 0) + 1
        return found

    def places(self) -> dict[str, set[str]]:
        """At which places each content lies now."""
        held: dict[str, set[str]] = {}
        for name in ("library", *DEPOTS):
            for digest in self.contents(name):
                held.setdefault(digest, set()).add(name)
        return held

    def frames(self) -> dict[str, str]:
        """Path and digest of each frame's original that the ledger has."""
        with sqlite3.connect(f"file:{self.library}/ledger/ledger.sqlite?mode=ro", uri=True) as db:
            return dict(db.execute("SELECT path, sha256 FROM files WHERE role = 'original'").fetchall())

    # Running commands, and what must hold after each.

    def run(
        self, *command: str | Path, code: int | None = None, kill_after: float = 0, cwd: Path | None = None
    ) -> subprocess.CompletedProcess[str]:
        environment = os.environ | {
            "DAYS_AHEAD": str(self.days), "COLUMNS": "200", "BRAMBLEMOOR_SECRETS": str(self.folder / "tokens"),
        }  # fmt: skip
        done = self.program.run(list(map(str, command)), cwd or self.library, environment, kill_after)
        if "Traceback" in done.stderr or (code is not None and done.returncode != code):
            raise Broken(f"{command} ended with {done.returncode}\n{done.stdout}\n{done.stderr}\n" + self.history())
        return done

    def history(self) -> str:
        return "\n".join(self.steps)

    def command(self, *command: str | Path, kill_after: float = 0) -> str:
        """A command, with the counts before and after."""
        before = {digest: len(held) for digest, held in self.places().items()}
        done = self.run(*command, kill_after=kill_after)
        after = self.places()
        for digest, count in before.items():
            left = len(after.get(digest, ()))
            if digest in self.real - self.let_go and left < count and left < LEAST:
                raise Broken(
                    f"{' '.join(map(str, command))} gave up a copy of {digest[:8]}: {count} places before, {left} after\n"
                    f"{done.stdout}\n{done.stderr}\n{self.history()}"
                )
        self._look_at_standing()
        return done.stdout + done.stderr

    def _look_at_standing(self) -> None:
        """No place counts for a frame that is not there as it was, unless that happened since it was read."""
        done = self.run("standing", "--json")
        if done.returncode not in (0, 1):
            raise Broken(f"standing: {done.stderr}\n{self.history()}")
        told: dict[str, Any] = json.loads(done.stdout)
        on_disk, frames = self.places(), self.frames()
        for holder in told["copies"]:
            name = holder["depot"]
            most = sum(
                name in on_disk.get(digest, ()) or (name, digest) in self.unnoticed for digest in frames.values()
            )
            if holder["frames"] > most:
                raise Broken(f"standing counts {holder['frames']} frames at {name}, where {most} are\n{self.history()}")
        sound = sum(
            len(on_disk.get(digest, set()) | {place for place, what in self.unnoticed if what == digest}) >= LEAST + 1
            for digest in frames.values()
        )
        if told["states"].get("sound", 0) > sound:
            raise Broken(f"standing calls {told['states']['sound']} frames sound, and {sound} are\n{self.history()}")

    # What people, drives and commands do.

    def _new_picture(self) -> None:
        self.made += 1
        year = self.chance.choice((2024, 2026))
        path = (
            self.library
            / f"pictures/{year}/{year}{self.made % 12 + 1:02}{self.made % 28 + 1:02}_12{self.made % 60:02}00.jpg"
        )
        path.parent.mkdir(parents=True, exist_ok=True)
        if not path.exists():
            self._write(path, f"picture {self.made} of {year} ")

    def _write(self, path: Path, words: str) -> None:
        content = HEAD + words.encode() * 60
        path.write_bytes(content)
        self.real.add(hashlib.sha256(content).hexdigest())

    def _mine(self) -> list[Path]:
        return sorted(path for path in (self.library / "pictures").rglob("*.[jJ][pP][gG]") if path.is_file())

    def _pick(self) -> Path | None:
        mine = self._mine()
        return self.chance.choice(mine) if mine else None

    def _gone_here(self, path: Path) -> None:
        self.unnoticed.add(("library", hashlib.sha256(path.read_bytes()).hexdigest()))

    def new_picture(self) -> None:
        self._new_picture()

    def rename(self) -> None:
        path = self._pick()
        if path is not None:
            name = self.chance.choice(
                (path.name.swapcase(), f"x{self.made}{path.name[-12:]}", path.name.replace("_", "-"))
            )
            target = path.with_name(name)
            if not target.exists():
                path.rename(target)

    def rename_folder(self) -> None:
        folders = sorted({path.parent for path in self._mine()})
        if folders:
            folder = self.chance.choice(folders)
            target = folder.with_name(self.chance.choice((folder.name.swapcase(), f"{folder.name} x", "Reed cutting")))
            if not target.exists():
                folder.rename(target)

    def move_over(self) -> None:
        mine = self._mine()
        if len(mine) > 3:
            one, other = self.chance.sample(mine, 2)
            self._gone_here(other)
            one.replace(other)

    def retouch(self) -> None:
        path = self._pick()
        if path is not None:
            self._gone_here(path)
            self._write(path, f"retouched {len(self.steps)} ")
            if self.chance.random() < 0.5:
                self.command("stocktake", "--yes")
                frames = self.frames()
                here = path.relative_to(self.library).as_posix()
                if here in frames:
                    self.let_go.add(frames[here])
                self.command("stocktake", "--accept", here, "--yes")

    def delete(self) -> None:
        path = self._pick()
        if path is not None:
            self._gone_here(path)
            digest, here = hashlib.sha256(path.read_bytes()).hexdigest(), path.relative_to(self.library).as_posix()
            path.unlink()
            if self.chance.random() < 0.5:
                self.command("stocktake", "--yes")
                # What had rotted there is not what is let go: that is the frame's content, as the ledger knows it.
                self.let_go |= {digest, self.frames().get(here, digest)}
                self.command("stocktake", "--let-go", here, "--yes")

    def rot(self) -> None:
        name = self.chance.choice(("library", *DEPOTS))
        top = self.place(name) / ("pictures" if name == "library" else "data/pictures")
        files = sorted(path for path in top.rglob("*.[jJ][pP][gG]") if path.is_file())
        if files:
            path = self.chance.choice(files)
            status, content = path.stat(), bytearray(path.read_bytes())
            digest = hashlib.sha256(content).hexdigest()
            # Of what is left of a content nobody can bring back the last: that is the drive's doing, not the program's.
            if len(self.places().get(digest, ())) > LEAST:
                self.unnoticed.add((name, digest))
                content[-5] ^= 1
                path.write_bytes(content)
                os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))

    def unplug(self) -> None:
        name = self.chance.choice([*DEPOTS])
        if name not in self.away:
            (self.folder / name).rename(self.folder / f"{name} (unplugged)")
            self.away.add(name)

    def plug_in(self) -> None:
        for name in sorted(self.away):
            self.away.discard(name)
            (self.folder / f"{name} (unplugged)").rename(self.folder / name)

    def copy_depot_by_hand(self) -> None:
        name = self.chance.choice([*DEPOTS])
        if name not in self.away:
            shutil.copytree(self.folder / name, self.folder / "copied", copy_function=shutil.copy2)
            shutil.rmtree(self.folder / name)
            (self.folder / "copied").rename(self.folder / name)
            told = json.loads(self.run("standing", "--json").stdout)
            held = next((one["frames"] for one in told["copies"] if one["depot"] == name), 0)
            if held:
                raise Broken(f"{name} was copied by hand, and counts for {held} frames unread\n{self.history()}")

    def another_library(self) -> None:
        """A clone of the library goes its own way at one drive, and is given up."""
        fork = self.folder / "fork"
        shutil.copytree(self.library, fork, copy_function=shutil.copy2)
        self._write(fork / "pictures/fork.jpg", f"only the fork has this {len(self.steps)} ")
        name = self.chance.choice([name for name in DEPOTS if name not in self.away] or [""])
        if name:
            self.run("backup", name, "--yes", cwd=fork)
            self.command("backup", name, "--yes")
            if self.chance.random() < 0.5:
                self.command("depot", "adopt", name)
        shutil.rmtree(fork)

    def old_library_comes_back(self) -> None:
        """The working drive dies, and a copy of it that somebody made before takes its place."""
        old = self.folder / "old"
        if not old.is_dir():
            shutil.copytree(self.library, old, copy_function=shutil.copy2)
            return
        self.unnoticed |= {("library", digest) for digest in self.contents("library").keys() - self._contents_in(old)}
        shutil.rmtree(self.library)
        old.rename(self.library)
        # What was noticed since lies in the readings at the depots: of those that are not at hand it is not known yet.
        held, frames = self.places(), set(self.frames().values())
        self.unnoticed |= {
            (place, digest) for place in self.away for digest in frames if place not in held.get(digest, ())
        }
        self.command("backup", "--yes")
        if self.chance.random() < 0.5:
            for name in sorted({*DEPOTS} - self.away):
                self.command("depot", "adopt", name)

    def _contents_in(self, library: Path) -> set[str]:
        return {
            hashlib.sha256(path.read_bytes()).hexdigest() for path in (library / "pictures").rglob("*.[jJ][pP][gG]")
        }

    def restore(self) -> None:
        """The working drive dies, and the library is made anew from a depot; the others are taken in."""
        name = self.chance.choice([*DEPOTS])
        if name in self.away:
            return
        fresh = self.folder / "fresh"
        self.command("restore", fresh, "--from", self.folder / name)
        if not (fresh / "bramblemoor.toml").is_file():
            shutil.rmtree(fresh, ignore_errors=True)
            return
        shutil.rmtree(self.library)
        fresh.rename(self.library)
        self.unnoticed = {(place, digest) for place, digest in self.unnoticed if place not in ("library", name)}
        for other in sorted({*DEPOTS} - self.away - {name}):
            self.command("depot", "add", other, self.folder / other)

    def narrow(self) -> None:
        name = self.chance.choice([*DEPOTS])
        self.command("depot", "change", name, "--year", self.chance.choice(("2026", "2024", "2204", "")))

    def keep_for(self) -> None:
        self.command(
            "depot", "change", self.chance.choice([*DEPOTS]), "--keep-for", self.chance.choice(("ever", "none", "20"))
        )

    def age(self) -> None:
        self.days += self.chance.choice((1, 20, 40, 100))

    def clock_jumps(self) -> None:
        before, self.days = self.days, self.days + self.chance.choice((-400, 4000))
        for command in self.chance.sample((("backup", "--yes"), ("verify",), ("stocktake", "--yes")), 2):
            self.command(*command)
        self.days = before
        self.command("standing")

    def backup(self) -> None:
        self.command("backup", *self.chance.choice(((), ("--yes",), ("--yes",))))

    def backup_is_killed(self) -> None:
        self.command("backup", "--yes", kill_after=self.chance.uniform(0.2, 0.9))

    # What comes from elsewhere: of contents that are known here, their copy at home hurt or not.

    def _some(self, most: int) -> dict[str, bytes]:
        """Good contents that lie somewhere, by digest."""
        found: dict[str, bytes] = {}
        for name in ("library", *DEPOTS):
            for path in sorted(self.place(name).rglob("*.[jJ][pP][gG]")):
                if path.is_file() and not path.is_symlink():
                    content = path.read_bytes()
                    digest = hashlib.sha256(content).hexdigest()
                    if digest in self.real:
                        found[digest] = content
        chosen = self.chance.sample(sorted(found), min(most, len(found)))
        return {digest: found[digest] for digest in chosen}

    def _must_be_here(self, came: dict[str, bytes], told: str) -> None:
        """Whatever was known here: behind such a run each content lies in the library, unless its year was put away."""
        if "balance" not in told and "nothing new" not in told:
            return  # the run did not come to that, as another was open or the guard stopped it
        here = self._contents_in(self.library)
        with sqlite3.connect(f"file:{self.library}/ledger/ledger.sqlite?mode=ro", uri=True) as db:
            away = {
                row[0] for row in db.execute("SELECT f.sha256 FROM files f JOIN copies c ON c.file = f.id WHERE c.depot = 0"
                                             " AND c.state = 'freed'")
            }  # fmt: skip
        if lost := set(came) - here - away:
            raise Broken(f"{[one[:8] for one in lost]} came, and are not here\n{told}\n{self.history()}")

    def card_comes(self) -> None:
        card = self.folder / "card"
        shutil.rmtree(card, ignore_errors=True)
        (card / "DCIM").mkdir(parents=True)
        came = self._some(3)
        for number, content in enumerate(came.values()):
            (card / f"DCIM/CARD{number:04}.JPG").write_bytes(content)
        if came:
            self._must_be_here(came, self.command("intake", card, "--by-month", "--yes"))

    def road_library_comes(self) -> None:
        road = self.folder / "road"
        shutil.rmtree(road, ignore_errors=True)
        self.run("new", road, cwd=self.folder)
        came = self._some(3)
        for number, content in enumerate(came.values()):
            (road / f"pictures/road-{number}.jpg").write_bytes(content)
        self.run("stocktake", cwd=road)
        if came:
            told = self.command("merge", road, "--yes", kill_after=self.chance.choice((0, 0, 0.5)))
            self._must_be_here(came, told if "balance" in told else self.command("merge", road, "--yes"))

    def something_is_told(self) -> None:
        self.command("tell", "*", "--keyword", self.chance.choice(("reeds", "owls")), "--yes",
                     kill_after=self.chance.choice((0, 0.3)))  # fmt: skip
        self.command("takeback")

    def shoot_is_renamed(self) -> None:
        folders = sorted({path.rpartition("/")[0] for path in self.frames()})
        if folders:
            chosen = self.chance.choice(folders).removeprefix("pictures/")
            told = ("shoot", "rename", chosen, "--subject", f"Fen {self.chance.randrange(1000)}", "--yes")
            self.command(*told, kill_after=self.chance.choice((0, 0.3)))
            self.command(*told)

    def another_run_is_killed(self) -> None:
        runs = (("mend",), ("verify",), ("free", "2024", "--yes"), ("unbind", "2024"), ("stocktake", "--yes"))
        self.command(*self.chance.choice(runs), kill_after=self.chance.uniform(0.1, 0.6))

    def verify(self) -> None:
        told = self.command("verify")
        if "Nothing speaks" in self.run("clock").stdout:
            known = {*DEPOTS} - self.away
            if "guard lets pass" not in told:  # else the library was left for a person to look at
                known.add("library")
            self.unnoticed = {(place, digest) for place, digest in self.unnoticed if place not in known}

    def mend(self) -> None:
        self.command("mend")

    def level(self) -> None:
        one, other = self.chance.sample([*DEPOTS], 2)
        if not {one, other} & self.away:
            self.command("depot", "level", self.folder / one, self.folder / other)

    def put_away(self) -> None:
        self.command("bind", "2024", "--at", "heron", "--at", "otter", "--yes")
        self.command("backup", "--yes")
        self.command("free", "2024", "--yes")

    def unbind(self) -> None:
        self.command("unbind", "2024")

    def purge(self) -> None:
        self.command("purge", self.chance.choice([*DEPOTS]), "--older-than", "0", "--yes")

    def retire(self) -> None:
        name = self.chance.choice([*DEPOTS])
        self.command("depot", "retire", name)
        self.command("backup", "--yes")
        self.command("depot", "retire", name, "--undo")

    def step(self) -> None:
        self.do(self.chance.choice([name for name, _ in self.actions()]))

    def do(self, name: str) -> None:
        self.steps.append(f"{len(self.steps) + 1}. {name} (day {self.days:.0f})")
        dict(self.actions())[name](self)

    @classmethod
    def actions(cls) -> "list[tuple[str, Callable[[Studio], None]]]":
        """What may happen, the usual things more often."""
        often = (cls.backup, cls.backup, cls.verify, cls.mend, cls.new_picture)
        rest = (
            cls.rename, cls.rename_folder, cls.move_over, cls.retouch, cls.delete, cls.rot, cls.unplug, cls.plug_in,
            cls.plug_in, cls.copy_depot_by_hand, cls.another_library, cls.old_library_comes_back, cls.restore, cls.narrow,
            cls.keep_for, cls.age, cls.clock_jumps, cls.backup_is_killed, cls.another_run_is_killed, cls.level,
            cls.put_away, cls.unbind, cls.purge, cls.retire, cls.card_comes, cls.card_comes, cls.road_library_comes,
            cls.road_library_comes, cls.something_is_told, cls.shoot_is_renamed,
        )  # fmt: skip
        return [(do.__name__, do) for do in (*often, *rest)]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--steps", type=int, default=3000)
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--each", type=int, default=40, help="steps of one studio before another begins")
    parser.add_argument("--from", dest="first", type=int, default=0, help="go on from this step of the seed's")
    given = parser.parse_args()
    seed = given.seed if given.seed is not None else random.SystemRandom().randrange(1 << 30)
    print(f"seed {seed}")
    memory = Path("/dev/shm")
    done: int = given.first
    while done < given.steps:
        chance = random.Random(f"{seed} {done}")
        with tempfile.TemporaryDirectory(dir=memory if memory.is_dir() else None) as place:
            studio = Studio(Path(place), chance)
            for _ in range(min(given.each, given.steps - done)):
                studio.step()
                done += 1
        print(f"{done} steps held", flush=True)


if __name__ == "__main__":
    main()
