"""Make the screenshots in this folder from the demo data: each what stands in a terminal 1280 wide under Xvfb.

Needs Xvfb, xterm, ImageMagick's `import`, and fonts for the scripts of the made-up titles: DejaVu Sans Mono, Noto CJK, Symbola.
"""

import os
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from PIL import Image, ImageChops

HERE = Path(__file__).parent
DISPLAY = ":97"
PAPER, MARGIN = "#fbfaf5", 12
TERMINAL = [
    "xterm", "-fa", "DejaVu Sans Mono", "-fs", "13", "-geometry", "116x60+0+0", "-bg", PAPER,
    "-fg", "#22262a", "+sb", "-b", "10", "-xrm", "*color2: #1a7f37", "-xrm", "*color9: #b3261e", "-xrm", "*color1: #b3261e",
]  # fmt: skip
# A terminal draws no bitmaps in colours: letters that only such a font has come from one that is drawn.
FONTS = """<fontconfig><selectfont><rejectfont><pattern><patelt name="family"><string>Noto Color Emoji</string></patelt>
</pattern></rejectfont></selectfont></fontconfig>"""
HIDE_CURSOR = "printf '\\033[?25l'"


@contextmanager
def screen() -> Iterator[None]:
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x1300x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        yield
    finally:
        server.terminate()
        server.wait()


def shoot(name: str, script: str, folder: Path, environment: dict[str, str], *, after: float = 60) -> None:
    """Run a shell script in a terminal, and take the picture once it has ended, or `after` so many seconds."""
    done = folder / f".{name}.done"
    done.unlink(missing_ok=True)
    wrapped = f"{HIDE_CURSOR}\n{script}\ntouch {shlex.quote(str(done))}; sleep 60"
    terminal = subprocess.Popen(
        [*TERMINAL, "-e", "sh", "-c", wrapped], cwd=folder, env=environment | {"DISPLAY": DISPLAY}
    )
    for _ in range(int(after * 10)):
        if done.exists():
            break
        time.sleep(0.1)
    time.sleep(0.7)
    subprocess.run(["import", "-display", DISPLAY, "-window", "root", str(HERE / f"{name}.png")], check=True)
    crop(HERE / f"{name}.png")
    terminal.terminate()
    terminal.wait()
    done.unlink(missing_ok=True)


def crop(path: Path) -> None:
    """Take away what is no terminal, and the lines at its end in which nothing stands."""
    image = Image.open(path).convert("RGB")
    paper = (
        ImageChops.difference(image, Image.new("RGB", image.size, PAPER))
        .convert("L")
        .point(lambda one: 255 * (one == 0))
    )
    terminal = image.crop(paper.getbbox())
    written = ImageChops.difference(terminal, Image.new("RGB", terminal.size, PAPER)).getbbox()
    lowest = written[3] if written is not None else terminal.height
    terminal.crop((0, 0, terminal.width, min(terminal.height, lowest + MARGIN))).save(path, optimize=True)


def typed(*commands: str) -> str:
    """A script that shows each command as if somebody had typed it, and runs it."""
    return "\n".join(f"printf '%s\\n' {shlex.quote('$ ' + command)}; {command}; echo" for command in commands)


@contextmanager
def signed_in(name: str, root: Path, library: Path, environment: dict[str, str]) -> Iterator[None]:
    """A stand-in service that runs, and is known to a library."""
    service = subprocess.Popen(
        ["bramblemoor", "stand-in", name, str(root / name)], env=environment, stdout=subprocess.PIPE, text=True
    )
    assert service.stdout is not None and "listens" in service.stdout.readline()
    address = (root / name / "address.txt").read_text().strip()
    adding = ["bramblemoor", "service", "add", name, address, "--token-file", str(root / name / "token.txt")]
    subprocess.run(adding, cwd=library, env=environment, check=True, stdout=subprocess.DEVNULL)
    try:
        yield
    finally:
        service.terminate()
        service.wait()


def browsed(page: Path, to: Path, size: tuple[int, int], *, dark: bool = False) -> Image.Image:
    """A page as a browser shows it. Without a screen its clock may run ahead of the drive: again, until pictures show."""
    scheme = ["--blink-settings=preferredColorScheme=0"] if dark else []
    command = [
        "chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--virtual-time-budget=6000",
        f"--window-size={size[0]},{size[1]}", *scheme, f"--screenshot={to}", page.as_uri(),
    ]  # fmt: skip
    for _ in range(12):
        subprocess.run(command, check=True, stderr=subprocess.DEVNULL)
        with Image.open(to) as image:
            if image.convert("RGB").getcolors(4096) is None:
                return image.convert("RGB")
    raise SystemExit(f"{page} showed no pictures in twelve attempts.")


def day_at_the_card(root: Path, environment: dict[str, str]) -> None:
    """From a card to what can be looked through: the plan, the question whether it may be erased, the page and the sheet."""

    def run(*command: str) -> None:
        subprocess.run(
            ["bramblemoor", *command], cwd=root / "fen", env=environment, check=True, stdout=subprocess.DEVNULL
        )

    (root / "fen").mkdir()
    for name in ("heron", "otter"):
        (root / "fen-depots" / name).mkdir(parents=True)
    run("stand-in", "card", str(root / "fen-card"))
    run("new", str(root / "fen"))
    for name, site, medium in (("heron", "studio", "ssd"), ("otter", "cottage", "hdd")):
        place = str(root / "fen-depots" / name)
        run("depot", "add", name, place, "--site", site, "--medium", medium, "--stand-in", f"fen-{name}")
    shoots = "--subject 'Reed cutting' --subject 'Lantern walk' --split 6h"
    shoot("intake", typed(f"bramblemoor intake ../fen-card {shoots} --dry-run"), root / "fen", environment)
    run("intake", "../fen-card", *shlex.split(shoots), "--second-copy", "heron", "--yes")
    asked = "bramblemoor erasable ../fen-card"
    shoot("erasable", typed(f"{asked} | head -12", "bramblemoor backup | tail -3", asked), root / "fen", environment)
    run("page", str(root / "page"))
    run("sheet", str(root / "sheet.jpg"), "--columns", "5")
    page, shot = root / "page/index.html", root / "shot.png"
    looks = Image.new("RGB", (1280, 1240), PAPER)
    looks.paste(browsed(page, shot, (1280, 800)).resize((640, 400)), (0, 0))
    looks.paste(browsed(page, shot, (1280, 800), dark=True).resize((640, 400)), (640, 0))
    looks.paste(browsed(page, shot, (500, 820)), (0, 410))
    with Image.open(root / "sheet.jpg") as sheet:
        sheet.thumbnail((760, 820))
        looks.paste(sheet, (510, 410))
    looks.save(HERE / "looking.png", optimize=True)


@contextmanager
def serving(name: str, root: Path, environment: dict[str, str], *faults: str) -> Iterator[str]:
    """A stand-in service with a new account; yields its address."""
    command = ["bramblemoor", "stand-in", name, str(root / f"moving-{name}"), *faults]
    service = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    assert service.stdout is not None and "listens" in service.stdout.readline()
    try:
        yield (root / f"moving-{name}/address.txt").read_text().strip()
    finally:
        service.terminate()
        service.wait()


def below_each_other(name: str, *parts: Image.Image) -> None:
    whole = Image.new("RGB", (max(one.width for one in parts), sum(one.height for one in parts)), PAPER)
    at = 0
    for one in parts:
        whole.paste(one, (0, at))
        at += one.height
    whole.save(HERE / f"{name}.png", optimize=True)


def shot(name: str) -> Image.Image:
    """A picture that was taken only to be put with others."""
    with Image.open(HERE / f"{name}.png") as image:
        found = image.convert("RGB")
    (HERE / f"{name}.png").unlink()
    return found


def moving_house(root: Path, environment: dict[str, str]) -> None:
    """Signing in with a code; both trees; the plan; a move under way, and its receipt."""
    home = root / "moving"

    def run(*command: str) -> None:
        subprocess.run(["bramblemoor", *command], cwd=home, env=environment, check=False, stdout=subprocess.DEVNULL)

    subprocess.run(["bramblemoor", "new", str(home)], env=environment, check=True, stdout=subprocess.DEVNULL)
    with (
        serving("stonewharf", root, environment) as wharf,
        serving("thrushfield", root, environment, "--fault", "slow=0.3") as field,
    ):
        run("service", "add", "stonewharf", wharf, "--kind", "folders", "--user", "keeper", "--token-file",
            str(root / "moving-stonewharf/token.txt"))  # fmt: skip
        adding = f"bramblemoor service add thrushfield {field} --code --may-send"
        allow = (
            f"(sleep 9; curl -s -o /dev/null -d allow=yes -d code=$(grep -o '....-....$' code.txt) {field}/device) &"
        )
        shown = f"printf '$ %s\\n' {shlex.quote(adding)}; {adding} 2>&1 | tee code.txt"
        shoot("sign-in-terminal", f"{allow}\n{shown}", home, environment, after=6)
        page = root / "page.png"
        subprocess.run(
            ["chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--window-size=1279,360",
             f"--screenshot={page}", f"{field}/device"], check=True, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(6)
        with Image.open(page) as browser:
            below_each_other("sign-in", shot("sign-in-terminal"), browser.convert("RGB"))
        run("service", "add", "thrushfield", field, "--token-file", str(root / "moving-thrushfield/token.txt"))
        run("fetch", "stonewharf")
        tree = root / "moving-stonewharf/tree/Work/Chapel roofers"
        (tree / "KW4080.jpg").rename(tree / "KW4080 better.jpg")
        (home / "pictures/Work/Chapel roofers/KW4082.jpg").unlink()
        run("stocktake", "--let-go", "KW4082.jpg", "--yes")
        shoot("compare", typed("bramblemoor compare library stonewharf --no-sidecars"), home, environment)
        move = "bramblemoor migrate stonewharf thrushfield --folders-as-albums --arrival 'From Stonewharf'"
        shoot("migrate", typed(f"{move} --dry-run"), home, environment)
        shoot("migrating-now", typed(f"{move} --yes"), home, environment, after=9)
        run(*shlex.split(move)[1:], "--yes")
        shoot("migrating-then", typed("bramblemoor receipt"), home, environment)
        now = shot("migrating-now")
        below_each_other("migrating", now.crop((0, max(0, now.height - 144), *now.size)), shot("migrating-then"))


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="withymere-") as name, screen():
        root = Path(name) / "demo-world"
        fonts = Path(name) / ".config/fontconfig/fonts.conf"
        fonts.parent.mkdir(parents=True)
        fonts.write_text(FONTS)
        environment = os.environ | {"BRAMBLEMOOR_SECRETS": str(root / "tokens.json"), "LC_ALL": "C.UTF-8", "HOME": name}
        environment["PATH"] = f"{Path(sys.executable).parent}{os.pathsep}{environment['PATH']}"
        environment.pop("COLUMNS", None)
        told = subprocess.run(
            ["bramblemoor", "demo", "--into", str(root)],
            env=environment | {"COLUMNS": "112"},
            capture_output=True,
            text=True,
            check=True,
        )
        (Path(name) / "demo.txt").write_text(told.stdout.replace(str(root), "demo-world"))
        shoot("demo", "printf '$ make demo\\n  ...\\n'; tail -n 44 ../demo.txt", root, environment)
        day_at_the_card(root, environment)
        moving_house(root, environment)
        library = root / "library"
        with signed_in("thrushfield", root, library, environment):
            shoot("survey", typed("bramblemoor service survey"), library, environment)
        other = root / "other"
        subprocess.run(["bramblemoor", "new", str(other)], env=environment, check=True, stdout=subprocess.DEVNULL)
        with signed_in("pipit-lane", root, other, environment):
            for command in ("order", "collect"):
                subprocess.run(
                    ["bramblemoor", command], cwd=other, env=environment, check=True, stdout=subprocess.DEVNULL
                )
        export = next((other / "incoming/pipit-lane").iterdir())
        export.rename(other / "export")
        drafted = "bramblemoor dialect draft export --out pipit.toml"
        shoot("draft", typed(drafted, "tail -19 pipit.toml | cut -c1-114"), other, environment)
        shoot("receipt", typed("bramblemoor receipt 1"), library, environment)
        shoot("standing", typed("bramblemoor standing"), library, environment)
        shoot("what-if", typed("bramblemoor standing --if-lost studio"), library, environment)
        practised = ("bramblemoor drill dipper --files 120", "bramblemoor pack ../discs --size 3MB")
        shoot("drill", typed(*practised, "bramblemoor volumes ../discs"), library, environment)
        drives = "--drive red=18MB@studio --drive blue=18MB@cottage --drive green=14MB@studio --drive grey=14MB@cottage"
        allotted = f"bramblemoor allot {drives} --plot {shlex.quote(str(HERE / 'years-on-drives.png'))} | grep -v Drawn"
        subprocess.run(["sh", "-c", allotted], cwd=library, env=environment, check=True, stdout=subprocess.DEVNULL)
        searched = typed("bramblemoor find lantern --favourite", "bramblemoor find owl --since 2025 --album water")
        shoot("find", searched, library, environment)
        shoot("show", typed("bramblemoor show ALD_0457.jpg"), library, environment)
        own_word = (
            "bramblemoor tell EMB00044.DNG --title 'The ladder, again' --keyword owls --taken 2025-11-08T14:44:28+00:00"
        )
        shoot("tell", typed(own_word, "bramblemoor show EMB00044.DNG"), library, environment)
        pictures = sorted((root / "depots/heron/data/pictures/2026").rglob("*.jpg"))
        rotten = bytearray(pictures[3].read_bytes())
        rotten[len(rotten) // 2] ^= 0x10
        pictures[3].write_bytes(rotten)
        pictures[10].unlink()
        shoot("verify", typed("bramblemoor verify", "bramblemoor mend"), library, environment)


if __name__ == "__main__":
    main()
