"""demo: the whole journey on a made-up world, each step the command it is."""

import os
import shlex
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import single
from bramblemoor.errors import NotPossible, WrongUse

_MARK = "made-by-demo.txt"
_DEPOTS = (("heron", "studio", "ssd"), ("otter", "studio", "hdd"), ("dipper", "cottage", "hdd"))


def demo(
    into: Annotated[Path, typer.Option("--into", metavar="DIR", help="A new folder for the made-up world.")] = Path(
        "bramblemoor-demo"
    ),
    afresh: Annotated[bool, typer.Option("--afresh", help="Remove the world of an earlier demo first.")] = False,
) -> None:
    """Watch the whole journey: out of a made-up cloud, into a library, to three verified copies and back."""
    root = into.resolve()
    mark = root / _MARK
    if mark.is_file():
        finished = "finished" in mark.read_text()
        if finished and not afresh:
            say.line(f"{into} holds the made-up world of an earlier demo, and it was left as it is.")
            _closing(into)
            say.line(f"To watch the demo again from the start: bramblemoor demo --into {into} --afresh")
            return
        _remove_world(root)
    elif root.exists() and (not root.is_dir() or any(root.iterdir())):
        raise WrongUse(f"{into} holds other things.", "Name a new folder: bramblemoor demo --into DIR.")
    root.mkdir(parents=True, exist_ok=True)
    mark.write_text("The made-up world of the Bramblemoor demo. Everything here may be deleted.\n")
    began = time.monotonic()
    _Tour(root).run()
    mark.write_text(mark.read_text() + "finished\n")
    say.line(f"That was the whole journey, in {time.monotonic() - began:.0f} seconds.")
    _closing(into)


def _remove_world(root: Path) -> None:
    made = (
        "library",
        "lost",
        "depots",
        "thrushfield",
        "pipit-lane",
        "emberlow",
        "pipit-draft.toml",
        "tokens.json",
        "at the cottage",
        "years-on-drives.png",
        _MARK,
    )
    for name in made:
        path = root / name
        if path.is_dir():
            shutil.rmtree(path)
        else:
            path.unlink(missing_ok=True)


def _closing(into: Path) -> None:
    say.line(f"The made-up world lies in {into}: library/, and depots/ {', '.join(name for name, _, _ in _DEPOTS)}.")
    say.line("Try next:")
    say.line(f"  cd {into / 'library'}")
    say.line("  bramblemoor find owl --since 2025")
    say.line("  bramblemoor show ALD_0457.jpg")
    say.line("  bramblemoor receipt --list")
    say.line("  bramblemoor standing")


class _Tour:
    """Runs the steps as commands, the way a user would type them, from inside the world's folders."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.here = root
        self.step = 0
        self.environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(root / "tokens.json"), "COLUMNS": "110"}
        self.environment.pop("BRAMBLEMOOR_LIBRARY", None)

    def run(self) -> None:
        with self._service("thrushfield", "--drop", "1") as address:
            self._out_of_the_cloud(address)
        with self._service("pipit-lane") as address:
            self._an_unknown_service(address)
        with self._service("emberlow") as address:
            self._raws_with_edits(address)
        self._copies()
        self._a_day_later()
        self._damage()
        self._what_if()
        self._a_year_put_away()
        self._an_archive()
        self._loss()

    def _out_of_the_cloud(self, address: str) -> None:
        self._say("A library is made. It lies on the working drive, at the studio.")
        self._bramblemoor(
            "new", "library", "--name", "Withymere", "--site", "studio", "--medium", "ssd", "--stand-in", "work-ssd"
        )
        self._enter("library")
        self._say(
            "The pictures are in a cloud account at Thrushfield, a made-up service that runs on this machine as a real"
            " HTTP server. We sign in, and look at what the account holds."
        )
        self._bramblemoor("service", "add", "thrushfield", address, "--token-file", "../thrushfield/token.txt")
        self._bramblemoor("service", "survey")
        self._say(
            "We order everything, in small parts. The service takes a moment to prepare them; then they are fetched."
        )
        self._bramblemoor("order", "--part-size", "2MB")
        self._say("On purpose, the service breaks off one part halfway: it is resumed where it broke.")
        self._bramblemoor("collect")
        self._say(
            "All parts are unpacked as one. Sidecars find their pictures, pictures their true dates, and a picture that"
            " came once for each album is stored once. The receipt accounts for every file."
        )
        self._bramblemoor("unpack", expect=1)
        self._say("What came of it: a picture, and everything that is known of it.")
        self._bramblemoor("show", "ALD_0669.jpg")

    def _an_unknown_service(self, address: str) -> None:
        self._say(
            "Pipit Lane keeps no originals, only small copies without any date in them, and one list of everything. We order"
            " from it too."
        )
        self._bramblemoor("service", "add", "pipit-lane", address, "--token-file", "../pipit-lane/token.txt")
        self._bramblemoor("order", "pipit-lane")
        self._bramblemoor("collect")
        export = (
            next((self.root / "library/incoming/pipit-lane").iterdir()).relative_to(self.root / "library").as_posix()
        )
        self._say(
            "Suppose that nobody had described how Pipit Lane writes its exports. Then a description, a dialect, is drafted by"
            " looking at one. What agrees with the pictures themselves is believed first."
        )
        self._bramblemoor("dialect", "draft", export, "--out", "../pipit-draft.toml")
        self._say(
            "A dialect can be tried before anything is unpacked. What no picture can confirm, such as captions, is left to"
            " whoever reads the draft."
        )
        self._bramblemoor("dialect", "try", export, "--dialect", "../pipit-draft.toml")
        self._say(
            "In fact Bramblemoor ships with a finished dialect for it. Pictures of which the original is here are recognised"
            " as smaller copies; both are kept."
        )
        self._bramblemoor("unpack")
        copy = min((self.root / "library/pictures/2024").rglob("??????????.jpg"))
        self._say(
            "Who says what of such a copy, and what is believed; then our own word, which stands above all others."
        )
        self._bramblemoor("show", copy.name)
        self._bramblemoor("tell", copy.name, "--title", "Bundles, at last", "--keyword", "reeds")

    def _raws_with_edits(self, address: str) -> None:
        self._say(
            "Emberlow has raws in folders, and edits as XMP beside them. So small an account comes at once, without an order;"
            " its folders are kept, and so is every edit."
        )
        self._bramblemoor("service", "add", "emberlow", address, "--token-file", "../emberlow/token.txt")
        self._bramblemoor("fetch", "emberlow")
        self._bramblemoor("orders", "--no-ask")

    def _copies(self) -> None:
        self._say(
            "Three depots: two drives at the studio, one at the cottage. (All three are folders on this one disk, so they"
            " are declared as pretend devices; a real drive is recognised by itself.)"
        )
        (self.root / "depots").mkdir()
        for name, site, medium in _DEPOTS:
            (self.root / "depots" / name).mkdir()
            self._bramblemoor(
                "depot",
                "add",
                name,
                f"../depots/{name}",
                "--site",
                site,
                "--medium",
                medium,
                "--stand-in",
                f"{name}-{medium}",
            )
        self._say("One run copies to all three. Each file is read once, written to each, and read back from each.")
        self._bramblemoor("backup")
        self._say("A depot is plain files and a checksum list. No Bramblemoor is needed to check it:")
        self._shell(
            "cd ../depots/otter && sha256sum -c --quiet manifest-sha256.txt && echo every file matches", "sha256sum"
        )
        self._say("Is everything safe?")
        self._bramblemoor("standing")

    def _a_day_later(self) -> None:
        self._say(
            "Other programs work in the library's folders, too: here a folder gets a better name, and an editor gives a picture a"
            " title in its XMP. Meanwhile dipper is at the cottage, out of reach."
        )
        pictures = self.root / "library/pictures"
        (pictures / "2026/2026-05").rename(pictures / "2026/2026-05 Lantern fair")
        sidecar = next(pictures.rglob("ALD_0669.jpg.xmp"))
        block = (
            "<rdf:Description rdf:about='' xmlns:dc='http://purl.org/dc/elements/1.1/'><dc:title><rdf:Alt>"
            "<rdf:li xml:lang='x-default'>Lanterns, from the weir</rdf:li></rdf:Alt></dc:title></rdf:Description></rdf:RDF>"
        )
        sidecar.write_text(sidecar.read_text(encoding="utf-8").replace("</rdf:RDF>", block), encoding="utf-8")
        say.line("  (renamed: pictures/2026/2026-05 to pictures/2026/2026-05 Lantern fair)")
        say.line(f"  (edited: {sidecar.name})")
        (self.root / "depots/dipper").rename(self.root / "at the cottage")
        self._bramblemoor("stocktake")
        self._say(
            "At the depots what moved is moved, not copied anew; what was replaced is kept there as an earlier version."
        )
        self._bramblemoor("backup", expect=1)
        self._bramblemoor("earlier", "otter")
        self._say("Back from the cottage, the third drive catches up.")
        (self.root / "at the cottage").rename(self.root / "depots/dipper")
        self._bramblemoor("backup")

    def _what_if(self) -> None:
        self._say("What if the studio burned down, with the working drive and two of the depots?")
        self._bramblemoor("standing", "--if-lost", "studio", expect=1)
        self._say(
            "So the cottage's drive had better be readable. A drill restores some of it, to nowhere in particular."
        )
        self._bramblemoor("drill", "dipper", "--files", "100")

    def _a_year_put_away(self) -> None:
        self._say(
            "A year is put away: all of it is read, here and at two depots, and found identical; then it may leave the fast"
            " drive."
        )
        self._bramblemoor("bind", "2024", "--at", "heron", "--at", "otter")
        self._bramblemoor("free", "2024", "--yes")
        self._say("The library still finds its frames, and says which drive to fetch.")
        self._bramblemoor("find", "reed", "--until", "2024")
        self._say("Plugged in by itself, that drive opens; the proof is that nothing else was touched.")
        self._bramblemoor("depot", "alone", "otter", "--year", "2024")
        self._say("And which years would go on which drives, with their twins, if we bought these?")
        self._bramblemoor(
            "shelve", "--drive", "red=10MB@studio", "--drive", "blue=10MB@cottage", "--drive", "green=6MB@studio",
            "--drive", "grey=6MB@cottage", "--plot", "../years-on-drives.png",
        )  # fmt: skip
        self._say("The year is opened for work again, and everything is level.")
        self._bramblemoor("reopen", "2024")
        self._bramblemoor("backup")

    def _an_archive(self) -> None:
        self._say(
            "For discs, or to be uploaded: a year as an archive. Each of its volumes is a bag that needs none of the others."
        )
        self._bramblemoor("pack", "../archive", "--year", "2025", "--size", "2MB")
        self._bramblemoor("volumes", "../archive")

    def _damage(self) -> None:
        self._say("Behind Bramblemoor's back, one picture rots at heron, and another is deleted there.")
        pictures = sorted((self.root / "depots/heron/data/pictures/2026").rglob("*.jpg"))
        rotten, deleted = pictures[3], pictures[10]
        content = bytearray(rotten.read_bytes())
        content[len(content) // 2] ^= 0x10
        rotten.write_bytes(content)
        deleted.unlink()
        say.line(f"  (one bit of {rotten.relative_to(self.root)} is flipped)")
        say.line(f"  (deleted: {deleted.relative_to(self.root)})")
        self._say("Verifying reads every copy, and finds just those two.")
        self._bramblemoor("verify", expect=1)
        self._bramblemoor("mend")
        self._bramblemoor("standing")

    def _loss(self) -> None:
        self._say("Now the whole library is lost. A depot opens by itself, as it is, and can be searched:")
        (self.root / "library").rename(self.root / "lost")  # kept aside only to compare with
        self._enter("depots/dipper")
        self._bramblemoor("find", "lantern", "--album", "best of the valley")
        self._say("From the cottage's drive everything comes back, to a new folder.")
        self._enter("")
        self._bramblemoor("restore", "library", "--from", "depots/dipper")
        for folder in ("pictures", "albums", "delivered"):
            self._shell(f"diff -r lost/{folder} library/{folder} && echo {folder}: identical", "diff")
        self._enter("library")
        self._bramblemoor("find", "lantern", "--most", "5")
        self._say("The other two depots are made known again, and read: then everything is as safe as before.")
        for name in ("heron", "otter"):
            self._bramblemoor("depot", "add", name, f"../depots/{name}")
        self._bramblemoor("backup")
        self._bramblemoor("verify")
        self._bramblemoor("standing")
        shutil.rmtree(self.root / "lost")

    def _say(self, text: str) -> None:
        import textwrap

        self.step += 1
        say.line()
        for line in textwrap.wrap(f"{self.step}. {text}", 100, subsequent_indent="   "):
            say.line(line)
        sys.stdout.flush()

    def _enter(self, folder: str) -> None:
        self.here = self.root / folder

    def _prompt(self, command: str) -> None:
        place = self.here.relative_to(self.root).as_posix()
        say.line()
        say.line(f"{'' if place == '.' else place}$ {command}")
        sys.stdout.flush()

    def _bramblemoor(self, *arguments: str, expect: int = 0) -> None:
        self._prompt(shlex.join(["bramblemoor", *arguments]))
        done = subprocess.run(
            [sys.executable, "-m", "bramblemoor", *arguments], cwd=self.here, env=self.environment, check=False
        )
        if expect:
            say.line(f"(exit code {done.returncode}: something needs attention)")
        if done.returncode != expect:
            raise NotPossible(
                f"The demo stopped: that command ended with exit code {done.returncode}, not {expect}.",
                f"Look at {self.root}, or run the demo again with --afresh.",
            )

    def _shell(self, command: str, needs: str) -> None:
        """A step without Bramblemoor; passed over where the system lacks the program."""
        if shutil.which(needs) is None:
            return
        self._prompt(command)
        if subprocess.run(["sh", "-c", command], cwd=self.here, check=False).returncode:
            raise NotPossible(f"The demo stopped: {command} found a difference.", f"Look at {self.root}.")

    @contextmanager
    def _service(self, name: str, *faults: str) -> Iterator[str]:
        """A stand-in service as a process of its own; yields its address."""
        folder = self.root / name
        if name == "thrushfield":
            say.note("Drawing the made-up world (about ten seconds) ...")
        process = subprocess.Popen(
            [sys.executable, "-m", "bramblemoor", "stand-in", name, str(folder), *faults],
            stdout=subprocess.DEVNULL,
            env=self.environment,
        )
        try:
            address = folder / "address.txt"
            for _ in range(1200):
                if address.is_file() and address.read_text().endswith("\n"):
                    break
                if process.poll() is not None:
                    raise NotPossible("The stand-in service did not start.", "Run the demo again with --afresh.")
                time.sleep(0.1)
            yield address.read_text().strip()
        finally:
            process.terminate()
            process.wait()


COMMANDS = {"demo": single("demo", demo)}
