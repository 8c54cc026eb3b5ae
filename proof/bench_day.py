"""Speed of daily work, as ratios to the system's own programs on the same data in one run: from a card to what is found and seen.

usage: bench_day.py [--runs 5] [--megabytes 2000] [--frames 1000000] [--told 10000] [--prints 1000000] [--in FOLDER]

0 leaves that part out. Card, library and depot lie on three drives, as in bench_copies.py. Of `find` the time to start is taken
off, as the bare query in SQLite has none.
"""

import argparse
import io
import shutil
import sqlite3
import statistics
import sys
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
from PIL import Image, ImageFilter

from bench import compare, peak_megabytes, timed
from bench_copies import HERE, HOMES, LIBRARY, PROGRAM, drop_caches, one_disk, program, shell, three_drives
from bramblemoor.standins.cards import with_preview

SIZE = (5200, 3467)
FIRST = datetime(2026, 5, 9, 6)
MOMENT = "%Y:%m:%d %H:%M:%S"


def camera_picture(seed: int) -> bytes:
    """A JPEG of about 5 MB as cameras write them: fine detail, its preview in the Exif."""
    chance = np.random.default_rng(seed)
    coarse = Image.fromarray(chance.integers(20, 235, (27, 40, 3), np.uint8)).resize(SIZE, Image.Resampling.BICUBIC)
    grain = Image.fromarray(chance.integers(0, 256, (SIZE[1], SIZE[0]), np.uint8)).filter(ImageFilter.GaussianBlur(0.8))
    image = Image.blend(coarse, grain.convert("RGB"), 0.16)
    exif = Image.Exif()
    exif[0x010F], exif[0x0110] = "Alderholt", "Alderholt M7"
    exif.get_ifd(0x8769)[0x9003] = FIRST.strftime(MOMENT)
    small = io.BytesIO()
    image.resize((160, 107)).save(small, "JPEG", quality=75)
    target = io.BytesIO()
    block = with_preview(exif.tobytes().removeprefix(b"Exif\0\0"), small.getvalue())
    image.save(target, "JPEG", quality=84, exif=block)
    return target.getvalue()


def make_card(card: Path, megabytes: int) -> int:
    """So much of such pictures, each of another second; returns how many."""
    kinds = [camera_picture(seed) for seed in range(8)]
    written, number = 0, 0
    while written < megabytes * 1_000_000:
        content = kinds[number % len(kinds)].replace(
            FIRST.strftime(MOMENT).encode(), (FIRST + timedelta(seconds=20 * number)).strftime(MOMENT).encode()
        )
        place = card / f"DCIM/{100 + number // 999}ALDER/ALD_{number % 9999 + 1:04}.jpg"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
        written, number = written + len(content), number + 1
    return number


def from_a_card(root: Path, runs: int, megabytes: int) -> None:
    """Intake with a second copy, the card being on a drive of its own; then thumbnails of what came."""
    card, library, one = root / HOMES["two"], root / HOMES["library"], root / HOMES["one"]
    count = make_card(card, megabytes)
    copies = [library.with_name("copy"), one.with_name("copy")]

    def clear() -> None:
        for place in (library, one, *copies):
            shutil.rmtree(place, ignore_errors=True)

    def ours() -> float:
        clear()
        timed([*PROGRAM, "new", HOMES["library"]], root)
        one.mkdir()
        timed([*LIBRARY, "depot", "add", "one", HOMES["one"], "--site", "studio", "--medium", "ssd"], root)
        drop_caches()
        return program(root, "intake", str(card), "--subject", "Bench", "--second-copy", "one", "--yes")

    def theirs() -> float:
        clear()
        drop_caches()
        return shell(root, "intake", str(card), *map(str, copies), str(root / "sums"))

    print(f"{count} pictures, {megabytes} MB on a card", flush=True)
    compare("intake, second copy / 2 cp + sums", 0.6, runs, ours, theirs)
    ours()

    def thumbnails() -> float:
        shutil.rmtree(library / "looking", ignore_errors=True)
        shutil.rmtree(root / "page", ignore_errors=True)
        return program(root, "page", str(root / "page"))

    def pillow() -> float:
        return timed([sys.executable, str(HERE / "baselines/thumbnails.py"), str(library / "pictures")], root)

    compare("page with thumbnails / Pillow", 1 / 0.8, runs, thumbnails, pillow)


def make_ledger(root: Path, frames: int) -> None:
    """A library of so many frames in the ledger alone, of 25 years; each has a camera, and every eighth a keyword."""
    year = f"(2000 + i * 25 / {frames + 1})"
    timed([*PROGRAM, "new", HOMES["library"]], root)
    db = sqlite3.connect(root / HOMES["library"] / "ledger/ledger.sqlite", isolation_level=None)
    db.executescript(f"""
        PRAGMA synchronous = OFF; BEGIN;
        CREATE TEMP TABLE n AS
            WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {frames}) SELECT i FROM n;
        INSERT INTO frames (id, folder, name, kind, shown, year, title, taken)
            SELECT i, 'pictures/' || {year} || '/' || (i / 500),
            'B' || i || '.jpg', 'photo', {year} || '-06-15T10:00:00', {year}, iif(i % 10, '', 'Heron at the weir'),
            '2000-06-15T10:00:00' FROM n;
        INSERT INTO files (frame, role, path, collision, bytes, sha256, mtime_ns)
            SELECT id, 'original', folder || '/' || name, folder || '/' || name, 5000000, printf('%064x', id), 0 FROM frames;
        INSERT INTO claims (frame, field, value, source) SELECT i, 'camera', 'Alderholt M' || (i % 9), 'camera' FROM n;
        INSERT INTO claims (frame, field, value, source) SELECT i, 'keyword', 'reeds', 'you' FROM n WHERE i % 8 = 0;
        INSERT INTO words (rowid, name, title, caption, keywords, people, location, albums, folder)
            SELECT id, name, lower(title), '', iif(id % 8, '', 'reeds'), '', '', '', folder FROM frames;
        COMMIT; ANALYZE;""")
    db.close()


QUESTIONS = (
    (
        "a word, as paths", ("heron", "--paths"),
        "SELECT folder || '/' || name FROM frames r WHERE id IN (SELECT rowid FROM words WHERE words MATCH '\"heron\"*')"
        " ORDER BY shown, folder, name",
    ),
    (
        "a keyword and years, as paths", ("--keyword", "reeds", "--year", "2010-2012", "--paths"),
        "SELECT folder || '/' || name FROM frames r WHERE year BETWEEN 2010 AND 2012 AND id IN (SELECT frame FROM claims WHERE"
        " field = 'keyword' AND value LIKE '%reeds%') ORDER BY shown, folder, name",
    ),
    (
        "a camera, counted by year", ("--camera", "M7", "--count-by", "year"),
        "SELECT year, count(*) FROM frames r WHERE (SELECT value FROM claims WHERE frame = r.id AND field = 'camera' LIMIT 1)"
        " LIKE '%m7%' GROUP BY year",
    ),
)  # fmt: skip


def finding(root: Path, runs: int, frames: int) -> None:
    make_ledger(root, frames)
    ledger = root / HOMES["library"] / "ledger/ledger.sqlite"
    start = statistics.median(timed([*LIBRARY, "find", "--year", "1900"], root) for _ in range(5))
    print(f"find at {frames:,} frames; {start:.2f} s of start-up are taken off", flush=True)
    for what, asked, query in QUESTIONS:
        compare(
            what, 1.5, runs, lambda asked=asked: program(root, "find", *asked) - start,  # type: ignore[misc]
            lambda query=query: timed(["sqlite3", str(ledger), query], root),  # type: ignore[misc]
        )  # fmt: skip
    _, peak = peak_megabytes([*LIBRARY, "find", "heron", "--paths"], root)
    print(f"{'':<34} {peak:8.0f} MB at most  (at most 300)  {'ok' if peak <= 300 else 'TOO MUCH'}", flush=True)


def telling(root: Path, runs: int, frames: int, told: int) -> None:
    """A keyword for so many frames of a large library, whose sidecars lie on the disk."""
    if not (root / HOMES["library"]).exists():
        make_ledger(root, frames)
    library = root / HOMES["library"]
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        folders = [row[0] for row in db.execute("SELECT DISTINCT folder FROM frames WHERE id <= ?", (told,))]
    for folder in folders:
        (library / folder).mkdir(parents=True, exist_ok=True)
    names = root / "names.txt"
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        rows = db.execute("SELECT folder || '/' || name FROM frames WHERE id <= ?", (told,))
        names.write_text("\n".join(row[0] for row in rows))
    number = iter(range(1000))

    def ours() -> float:
        return program(root, "tell", "--frames-from", str(names), "--keyword", f"bench {next(number)}", "--yes")

    def theirs() -> float:
        shutil.rmtree(root / "written", ignore_errors=True)
        return timed(
            [sys.executable, str(HERE / "baselines/write_small.py"), str(library / "pictures"), str(root / "written")],
            root,
        )

    ours()  # the first writes them, the others renew them
    compare(f"a keyword for {told:,} / writing them", 3.0, runs, ours, theirs)
    _, peak = peak_megabytes([*LIBRARY, "tell", "--frames-from", str(names), "--keyword", "last", "--yes"], root)
    print(f"{'':<34} {peak:8.0f} MB at most  (at most 300)  {'ok' if peak <= 300 else 'TOO MUCH'}", flush=True)


NEAR = """
import sys, time, numpy as np
from bramblemoor.planning.near import near_pairs
chance = np.random.default_rng(1)
prints = chance.integers(0, 1 << 64, int(sys.argv[1]), np.uint64)
made = prints[: len(prints) // 50] ^ np.uint64(0b1011)
one, other = near_pairs(np.concatenate([prints, made]), 11)
assert len(one) >= len(made), "pairs that were planted are not found"
"""


def alike(prints: int) -> None:
    """Fingerprints alone, every fiftieth with another one near it."""
    seconds, peak = peak_megabytes([sys.executable, "-c", NEAR, str(prints)], HERE)
    verdict = "ok" if seconds <= 120 and peak <= 1000 else "TOO MUCH"
    print(
        f"near pairs of {prints:,} fingerprints: {seconds:.0f} s, {peak:.0f} MB  (at most 120 s, 1,000 MB)  {verdict}",
        flush=True,
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--megabytes", type=int, default=2000)
    parser.add_argument("--frames", type=int, default=1_000_000)
    parser.add_argument("--told", type=int, default=10_000)
    parser.add_argument("--prints", type=int, default=1_000_000)
    parser.add_argument("--in", dest="where", type=Path, default=None)
    given = parser.parse_args()
    if given.megabytes:
        with three_drives(given.megabytes, given.where) as root:
            from_a_card(root, given.runs, given.megabytes)
    if given.frames:
        with one_disk(given.where) as root:
            finding(root, given.runs, given.frames)
            if given.told:
                telling(root, given.runs, given.frames, given.told)
    if given.prints:
        alike(given.prints)


if __name__ == "__main__":
    main()
