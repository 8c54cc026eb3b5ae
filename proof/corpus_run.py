"""Parcels in random dialects, with known truth, unpacked by the installed program and compared.

usage: corpus_run.py [--dialects 200] [--frames 240] [--seed N] [--only N] [--in DIR] [--keep]

Writes archives by itself and shares no code with the product. Each run takes a new seed, and prints it.
"""

import argparse
import json
import os
import random
import secrets
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from corpus.by_hand import LAYOUTS
from corpus.judge import Score, judge, judge_toolkit
from corpus.layout import Layout, dialect, random_layout
from corpus.world import Frame, make_account, write_parcel
from preloaded import Preloaded

_served = threading.local()


def _program(folder: Path, *arguments: str) -> "subprocess.CompletedProcess[str]":
    """Run the program in a folder; each thread has its own server."""
    if not hasattr(_served, "program"):
        _served.program = Preloaded()
    program: Preloaded = _served.program
    return program.run(arguments, folder, os.environ)


def run(layout: Layout, frames: int, seed: int, first: int, root: Path, keep: bool, drafts: bool, later: int) -> Score:
    folder = root / layout.name
    account = make_account(layout, frames, seed, first)
    write_parcel(layout, account, folder / "parcel", random.Random(seed))
    (folder / "dialect.toml").write_text(dialect(layout), encoding="utf-8")
    _program(folder, "new", "library").check_returncode()
    done = _program(folder, "--library", "library", "unpack", "--from", "parcel", "--dialect", "dialect.toml", "--json")
    score = Score()
    try:
        receipt = json.loads(done.stdout)
    except ValueError:
        score.note("runs wrong", f"{layout.name}: exit {done.returncode}: {done.stderr.strip()[-600:]}")
        return score
    score.note("receipts right" if receipt["balanced"] else "receipts wrong", f"{layout.name} does not balance")
    found = judge(layout, account, folder / "library", _open(receipt))
    found.words = [f"{layout.name}: {words}" for words in found.words]
    score.add(found)
    if shutil.which("exempi"):
        score.add(judge_toolkit(folder / "library"))
    if later and seed % later == 0:
        score.add(_again(layout, account, folder, seed))
    if drafts:
        score.add(_drafted(layout, account, folder))
    if not keep:
        shutil.rmtree(folder)
    return score


def _open(receipt: dict[str, Any]) -> set[str]:
    return {one["name"] for one in (*receipt["left_out"], *receipt["findings"])}


def _again(layout: Layout, account: list[Frame], folder: Path, seed: int) -> Score:
    """The same account in an export that lost a fifth, into a new library; then whole, its parts in another order; then
    lossy again.
    """
    score = Score()
    chance = random.Random(seed + 7)
    for name, lost in (("lossy", 0.2), ("whole", 0.0), ("lossy again", 0.2)):
        write_parcel(layout, account, folder / name, chance, lost=lost)
    _program(folder, "new", "later").check_returncode()
    receipt: dict[str, Any] = {}
    for name in ("lossy", "whole", "lossy again"):
        done = _program(folder, "--library", "later", "unpack", "--from", name, "--dialect", "dialect.toml", "--json")
        if not done.stdout:
            score.note("runs wrong", f"{layout.name}, {name}: {done.stderr.strip()[-300:]}")
            return score
        told = json.loads(done.stdout)
        score.note(
            "later receipts right" if told["balanced"] else "later receipts wrong",
            f"{layout.name}, {name} does not balance",
        )
        receipt = told if name == "whole" else receipt
    for frame in account:  # what a lossy export has lost may hide which of two a nameless record is of
        frame.decided = "sure" if frame.decided == "sure" else "hidden"
    found = judge(layout, account, folder / "later", _open(receipt))
    score.counts.update({f"later {what}": count for what, count in found.counts.items() if what.split()[0] != "ghosts"})
    score.words += [f"{layout.name}, later: {words}" for words in found.words if " wrong" in words.split(":")[0]]
    return score


def _drafted(layout: Layout, account: list[Frame], folder: Path) -> Score:
    """How an untouched draft fares: what it pairs and understands, and what it gets wrong."""
    score = Score()
    began = time.monotonic()
    _program(folder, "dialect", "draft", "parcel", "--out", "draft.toml")
    if time.monotonic() - began > 5:
        score.note("drafts wrong", f"{layout.name}: it took {time.monotonic() - began:.1f} s")
    _program(folder, "new", "drafted").check_returncode()
    done = _program(folder, "--library", "drafted", "unpack", "--from", "parcel", "--dialect", "draft.toml", "--json")
    if not done.stdout:
        score.note("drafts wrong", f"{layout.name}: {done.stderr.strip()[-200:]}")
        return score
    found = judge(layout, account, folder / "drafted", set())
    told = sum(count for what, count in found.counts.items() if what.startswith("pairs"))
    share = found.counts["pairs right"] / max(1, told)
    fields = sum(count for what, count in found.counts.items() if what.startswith("fields"))
    filled = found.counts["fields right"] / max(1, fields)
    for what in ("pairs right", "pairs wrong", "fields right", "fields wrong", "fields missing"):
        score.counts[f"draft {what.replace('wrong', 'amiss')}"] += found.counts[what]
    score.counts["draft pairs"] += told
    score.words.append(f"draft of {layout.name}: pairs {share:.0%} ({found.counts['pairs wrong']} wrong), fields {filled:.0%}"
                       f" ({found.counts['fields wrong']} wrong)")  # fmt: skip
    score.words += [f"  {words}" for words in found.words if words.startswith("fields wrong")][:3]
    return score


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--dialects", type=int, default=200)
    parser.add_argument("--frames", type=int, default=240)
    parser.add_argument("--seed", type=int, default=secrets.randbelow(10**6))
    parser.add_argument("--only", default="")
    parser.add_argument("--in", dest="where", type=Path, default=None)
    parser.add_argument("--keep", action="store_true")
    parser.add_argument("--later", type=int, default=3, help="of every so many layouts later exports are tried, too")
    parser.add_argument("--drafts", action="store_true", help="draft a dialect of each, too, and say how it fares")
    given = parser.parse_args()
    print(f"corpus: seed {given.seed}", flush=True)
    layouts = [*LAYOUTS, *(random_layout(given.seed * 1000 + n) for n in range(given.dialects))]
    root = Path(tempfile.mkdtemp(dir=given.where))
    began = time.monotonic()
    total = Score()

    def one(number: int) -> Score:
        layout = layouts[number]
        return run(
            layout, given.frames, given.seed + number, number * 10_000 + 1, root, given.keep, given.drafts, given.later
        )

    with ThreadPoolExecutor(2) as pool:
        for score in pool.map(one, [n for n, layout in enumerate(layouts) if given.only in ("", layout.name)]):
            total.add(score)
    counts = total.counts
    for line in sorted(total.words, key=lambda words: ": pairs open" in words or ": groups open" in words)[
        :60
    ]:  # what is wrong first
        print("  " + line)
    if not given.keep:
        shutil.rmtree(root, ignore_errors=True)
    else:
        print(f"kept in {root}")
    decided = counts["pairs right"] + counts["pairs missing"] + counts["pairs wrong"]
    fields = counts["fields right"] + counts["fields wrong"] + counts["fields missing"]
    spent = time.monotonic() - began
    print(f"{len(layouts)} layouts ({len(LAYOUTS)} by hand), {len(layouts) * given.frames:,} frames, {spent:.0f} s")
    share = counts["pairs right"] / max(1, decided)
    print(f"pairs    right {counts['pairs right']:,} of {decided:,} that can be decided ({share:.3%}),"
          f" wrong {counts['pairs wrong']}, left open {counts['pairs missing']:,}")  # fmt: skip
    print(f"         where there are hints only, left open {counts['pairs open, hints only']:,};"
          f" true ties: left open {counts['pairs open, true ties']:,}, guessed {counts['pairs guessed']}")  # fmt: skip
    hidden = counts["pairs misled"] + counts["pairs hidden"]
    print(f"         beside a nameless record of a picture that was not sent, which nothing shows: {hidden}, misled"
          f" {counts['pairs misled']}")  # fmt: skip
    share = counts["fields right"] / max(1, fields)
    print(f"fields   right {counts['fields right']:,} of {fields:,} ({share:.3%}),"
          f" wrong {counts['fields wrong']}, missing {counts['fields missing']:,}")  # fmt: skip
    for what in ("pictures", "groups", "albums", "ghosts", "receipts", "runs", "toolkit"):
        open_ones = f", open {counts[what + ' open']}" if counts[what + " open"] else ""
        print(f"{what:<8} right {counts[what + ' right']:,}, wrong {counts[what + ' wrong']}{open_ones}")
    later, draft = (
        {what.removeprefix(kind): n for what, n in counts.items() if what.startswith(kind)}
        for kind in ("later ", "draft ")
    )
    print(
        "later    (lossy, then whole, then lossy again) "
        + ", ".join(f"{what} {n:,}" for what, n in sorted(later.items()))
    )
    if given.drafts:
        print(
            "drafts   "
            + ", ".join(f"{what} {n:,}" for what, n in sorted(draft.items()))
            + f", failed {counts['drafts wrong']}"
        )
    wrong = sum(count for what, count in counts.items() if what.endswith("wrong")) + counts["pairs guessed"]
    good = not wrong and counts["pairs right"] >= 0.999 * decided and counts["fields right"] >= 0.999 * fields
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
