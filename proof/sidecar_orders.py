"""An editor's words in many notations, and everything that may happen to a sidecar, in every order: no word may be lost.

usage: sidecar_orders.py [--share 1.0] [--seed N] [--only NOTATION]

Each case unpacks one picture, then does in some order: tell, an editor's change, stocktake, a later delivery, tell again.
After each step the sidecar is read by the reference toolkit's program and by an RDF library, and compared with what must
stand in it.
"""

import argparse
import itertools
import json
import os
import random
import secrets
import shutil
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import rdflib
from rdflib.compare import to_canonical_graph

from preloaded import Preloaded
from sidecar.notations import EDITOR, Notation, Words, notations, read, tree, write

PICTURE = bytes.fromhex("ffd8ffe000104a46494600010100000100010000ffdb004300") + b"\x01" * 64 + b"\xff\xd9"
STEPS = ("tell", "edit", "stocktake", "later", "again")
_GONE = "rushes"
# The pause in which stocktake waits for other writers to end would be most of the time.
NO_PAUSE = "import time; time.sleep = lambda seconds: None"
Run = Callable[[Sequence[str], Path], "subprocess.CompletedProcess[str]"]


class Lost(AssertionError):
    """Something that was said is not there any more, or something that was not said is."""


def case(run: Run, folder: Path, how: Notation, order: Sequence[str], delivered: bool) -> None:
    """One notation, one order; `delivered` says that the service sends XMP in that notation, too. Raises Lost."""
    said = _Said()
    _deliver(folder / "one", "TFA", how, said, title="Service 1", keyword="reeds", more=(_GONE,), delivered=delivered)
    _do(run, folder, "new", "library")
    _do(run, folder, "--library", "library", "unpack", "--from", "one", codes=(0, 1))
    library = folder / "library"
    beside = next(library.rglob("A.jpg")).with_name("A.jpg.xmp")
    for number, step in enumerate(order):
        where = f"{how.name}, {'delivered, ' if delivered else ''}{' '.join(order[: number + 1])}"
        if step == "tell":
            _do(run, library, "tell", "A.jpg", "--title", "Told", "--keyword", "told")
            said.title, said.by_service = "Told", False
            said.keywords.add("told")
        elif step == "again":
            _do(run, library, "tell", "A.jpg", "--caption", "Told again", "--person", "Ada", "--keyword", "again")
            said.caption, said.people = "Told again", {"Ada"}
            said.keywords.add("again")
        elif step == "edit":
            _edit(beside, how, said)
        elif step == "stocktake":
            _do(run, library, "stocktake")
        else:
            _deliver(folder / "two", "TFB", how, said, title="Service 2", keyword="fog", more=(), delivered=delivered)
            _do(run, library, "unpack", "--from", "../two", codes=(0, 1))
        _check(beside, said, where)
        if step != "edit":
            shown = json.loads(_do(run, library, "show", "A.jpg", "--json"))["believed"]
            lacks = said.keywords - set(shown["keywords"])
            _require(shown["title"] == said.title, f"{where}: show says {shown['title']!r}, not {said.title!r}")
            _require(not lacks, f"{where}: show lacks {lacks}")
            _require(_GONE not in shown["keywords"] or not said.edited, f"{where}: what the editor took out is back")


class _Said:
    """What must stand in the sidecar."""

    def __init__(self) -> None:
        self.title, self.by_service = "Service 1", True
        self.caption, self.people = "", set[str]()
        self.keywords: set[str] = set()
        self.edited = False
        self.instructions: set[str] | None = None
        self.toolkit_reads = True


def _deliver(
    folder: Path,
    order: str,
    how: Notation,
    said: _Said,
    *,
    title: str,
    keyword: str,
    more: Sequence[str],
    delivered: bool,
) -> None:
    folder.mkdir()
    slip = {
        "item": {"ref": "R1", "filename": "A.jpg"},
        "words": {"heading": title},
        "subjects": ";".join((keyword, *more)),
    }
    with zipfile.ZipFile(folder / f"thrushfield-{order}-1of1.zip", "w") as archive:
        archive.writestr("stream/A.jpg", PICTURE)
        archive.writestr("slips/A_jpg.slip", json.dumps(slip))
        if delivered:
            words = Words({"photoshop:Credit": "Fen"}, {}, {}, instructions=True)
            packet = write(words, how)
            archive.writestr("stream/A.jpg.xmp", packet)
            said.toolkit_reads = _toolkit_reads(packet, folder)
            if not said.edited:
                said.instructions = _instructions(packet)
    said.keywords.add(keyword)
    if not said.edited:
        said.keywords |= set(more)
    if said.by_service:
        said.title = title


def _edit(beside: Path, how: Notation, said: _Said) -> None:
    """An editor opens the sidecar, changes the title, adds a language, a keyword and instructions, takes a keyword out."""
    words = read(beside.read_bytes())
    words.texts["dc:title"] = {"x-default": "Edited", "de": "Bearbeitet"}
    words.lists["dc:subject"] = [word for word in words.lists["dc:subject"] if word != _GONE] + ["edited"]
    words.single["xmp:Rating"] = "4"
    words.instructions = True
    beside.write_bytes(write(words, how))
    said.title, said.by_service, said.edited = "Edited", False, True
    said.keywords = (said.keywords - {_GONE}) | {"edited"}
    said.instructions = _instructions(beside.read_bytes())
    said.toolkit_reads = _toolkit_reads(beside.read_bytes(), beside.parent)


def _toolkit_reads(packet: bytes, folder: Path) -> bool:
    """Whether the reference toolkit can read an editor's packet at all, once it is in UTF-8 and wrapped."""
    from xml.etree import ElementTree

    place = folder / "tried.xmp"
    body = ElementTree.tostring(tree(packet), encoding="unicode")
    place.write_text(f'<x:xmpmeta xmlns:x="adobe:ns:meta/">{body}</x:xmpmeta>', encoding="utf-8")
    dumped = subprocess.run(["exempi", "-X", "-x", str(place)], capture_output=True, text=True, check=False).stdout
    place.unlink()
    return "Fen" in dumped


def _check(beside: Path, said: _Said, where: str) -> None:
    packet = beside.read_bytes()
    try:
        words = read(packet)
    except AssertionError as error:
        raise Lost(f"{where}: {error}") from error
    title = words.texts["dc:title"]
    _require(title["x-default"] == said.title, f"{where}: the title is {title['x-default']!r}, not {said.title!r}")
    keywords = words.lists["dc:subject"]
    _require(
        said.keywords <= set(keywords) and len(keywords) == len(set(keywords)), f"{where}: keywords are {keywords}"
    )
    if said.edited:
        _require(title.get("de") == "Bearbeitet", f"{where}: the German title is gone")
        _require(_GONE not in keywords, f"{where}: {_GONE} is back")
        _require(words.single.get("xmp:Rating") == "4", f"{where}: the rating is gone")
    _require(
        not said.caption or words.texts["dc:description"]["x-default"] == said.caption, f"{where}: the caption is gone"
    )
    _require(said.people <= set(words.lists.get("Iptc4xmpExt:PersonInImage", [])), f"{where}: a person is gone")
    if said.instructions is not None:
        now = _instructions(packet)
        _require(now == said.instructions, f"{where}: the editor's instructions are not what they were")
    if said.toolkit_reads and where.rpartition(" ")[2] in ("tell", "again", "later"):  # it has been written here since
        dumped = subprocess.run(["exempi", "-X", "-x", str(beside)], capture_output=True, text=True, check=False).stdout
        _require(f">{said.title}<" in dumped, f"{where}: the reference toolkit does not read the title")


def _instructions(packet: bytes) -> set[str]:
    """The triples of an editor's namespace and all that hangs on them, in a form that compares."""
    from xml.etree import ElementTree

    graph = rdflib.Graph()
    graph.parse(data=ElementTree.tostring(tree(packet), encoding="unicode"), format="xml", publicID="urn:picture")
    picture = rdflib.URIRef("urn:picture")
    subjects = {subject for subject in graph.subjects() if isinstance(subject, rdflib.URIRef)}
    kept = rdflib.Graph()
    todo: list[Any] = []
    for subject in subjects:
        for _, predicate, value in graph.triples((subject, None, None)):
            if str(predicate).startswith(EDITOR):
                kept.add((picture, predicate, value))
                todo.append(value)
    done = set()
    while todo:
        node = todo.pop()
        if isinstance(node, rdflib.BNode) and node not in done:
            done.add(node)
            for triple in graph.triples((node, None, None)):
                kept.add(triple)
                todo.append(triple[2])
    return {" ".join(term.n3() for term in triple) for triple in to_canonical_graph(kept)}


def _require(holds: bool, words: str) -> None:
    if not holds:
        raise Lost(words)


def _do(run: Run, cwd: Path, *arguments: str, codes: tuple[int, ...] = (0,)) -> str:
    done = run(arguments, cwd)
    if done.returncode not in codes:
        raise Lost(f"{' '.join(arguments)} ended with {done.returncode}: {done.stderr[-500:]}")
    return done.stdout


def cases(share: float, seed: int, only: str = "") -> list[tuple[Notation, tuple[str, ...], bool]]:
    """Every notation in every order, with the service's XMP and without; or a share of them."""
    every = [
        (how, order, delivered)
        for how in notations()
        for order in itertools.permutations(STEPS)
        for delivered in (False, True)
        if only in ("", how.name)
    ]
    return random.Random(seed).sample(every, max(1, round(share * len(every))))


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--share", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=secrets.randbelow(10**6))
    parser.add_argument("--only", default="")
    parser.add_argument("--jobs", type=int, default=2)
    given = parser.parse_args()
    chosen = cases(given.share, given.seed, given.only)
    print(f"sidecar orders: seed {given.seed}, {len(notations())} notations, {len(chosen):,} cases", flush=True)
    root = Path(tempfile.mkdtemp(dir="/dev/shm" if os.access("/dev/shm", os.W_OK) else None))
    environment: Mapping[str, str] = os.environ | {"HOME": str(root), "BRAMBLEMOOR_SECRETS": str(root / "tokens.json")}
    programs = [Preloaded(NO_PAUSE) for _ in range(given.jobs)]

    def one(job: int) -> int:
        lost = 0
        for number in range(job, len(chosen), given.jobs):
            folder = root / str(number)
            folder.mkdir()
            try:
                case(lambda arguments, cwd: programs[job].run(arguments, cwd, environment), folder, *chosen[number])
            except Lost as error:
                lost += 1
                print(f"  {error}", flush=True)
            shutil.rmtree(folder)
        return lost

    with ThreadPoolExecutor(given.jobs) as pool:
        lost = sum(pool.map(one, range(given.jobs)))
    shutil.rmtree(root)
    print(f"{len(chosen) - lost:,} of {len(chosen):,} held")
    return int(lost > 0)


if __name__ == "__main__":
    sys.exit(main())
