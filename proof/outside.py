"""Hostile drives, volumes and services; a flipped bit in every file of a depot; renames that change only capitals; lazy unmounts.

Around everything lie canaries: whatever is tried, none is changed, and nothing appears beside them.

usage: outside.py [--flips N] [--only told,volumes,services,flips,capitals,unmounts]
"""

import argparse
import hashlib
import io
import json
import os
import random
import shutil
import sqlite3
import subprocess
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from lab import (
    PROGRAM,
    Lab,
    Tally,
    amiss_in_bag,
    answering,
    attach,
    available,
    contents,
    make_image,
    mount,
    mounted,
    run_parts,
    unmount,
)

BAD = (
    "../canary", "../../canary", "../../../library/ledger/ledger.sqlite", "/tmp/bm-canary", "..", ".", "", "a/../../canary",
    "a//b", "./a", "C:\\canary", "\\canary", "..\\canary", "a\0b", "a/./b", "~/canary", "x" * 5000,
)  # fmt: skip
COMMANDS = (
    ("verify", "d"), ("backup", "--yes"), ("mend",), ("earlier", "d"), ("purge", "d", "--older-than", "0", "--yes"),
    ("depot", "look", "d"), ("drill", "d"), ("depot", "alone", "d"), ("depot", "repair", "d", "d"), ("verify",),
)  # fmt: skip


class Canaries:
    """Files all around; and what of the library nobody but itself may change."""

    def __init__(self, lab: Lab) -> None:
        self.lab = lab
        for name in ("canary", "beside/canary"):
            path = lab.root / name
            path.parent.mkdir(exist_ok=True)
            path.write_text("canary")
        self.names = {path.name for path in lab.root.iterdir()}
        self.pictures = contents(lab.library)

    def problems(self) -> list[str]:
        wrong = [] if (self.lab.root / "canary").read_text() == "canary" else ["a canary was changed"]
        wrong += [] if (self.lab.root / "beside/canary").read_text() == "canary" else ["a canary was changed"]
        new = {path.name for path in self.lab.root.iterdir()} - self.names - {"back"}
        wrong += [f"{name} appeared" for name in sorted(new)]
        wrong += ["/tmp/bm-canary appeared"] if Path("/tmp/bm-canary").exists() else []
        wrong += [] if self.pictures <= contents(self.lab.library) else ["a picture of the library was changed"]
        return wrong


def _level(lab: Lab, chance: random.Random) -> Path:
    lab.root.mkdir()
    lab.make_library(6, 4_000, chance)
    for name in ("d", "e"):
        (lab.root / name).mkdir()
        lab.must("depot", "add", name, str(lab.root / name), "--site", name, "--medium", "hdd", "--stand-in", name)
    lab.must("backup")
    lab.change_things(chance)
    lab.must("backup", "--yes", codes=(0, 1))
    return lab.root / "d"


def _fit_tags(depot: Path) -> None:
    lines = []
    for path in sorted(depot.rglob("*")):
        name = path.relative_to(depot).as_posix()
        if path.is_file() and not name.startswith(("data/", "tagmanifest", "in-use", "incoming/")):
            lines.append(f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {name}\n")
    (depot / "tagmanifest-sha256.txt").write_text("".join(lines))


def _spoilers(depot: Path) -> dict[str, Callable[[str], None]]:
    """Every field of a drive that tells a name, and how it is written there."""
    run = "0099-20261126T000000Z-abcd"
    digest = hashlib.sha256(b"canary").hexdigest()

    def aside(text: str, name: str = "why.csv") -> None:
        folder = depot / "earlier" / run / "data"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "x").write_text("x")
        (depot / "earlier" / run / name).write_text(text)

    def journal(what: str, field: str) -> Callable[[str], None]:
        def write(told: str) -> None:
            incoming = depot / "incoming" / run
            (incoming / "data").mkdir(parents=True, exist_ok=True)
            intent = {"path": "pictures/x.jpg", "was": "pictures/y.jpg", "sha256": digest, "bytes": 6, "what": what} | {
                field: told
            }
            lines: list[Any] = [{"run": run}, intent, {"mark": "removals are over"}, {"mark": "moves are over"}]
            (incoming / "journal.jsonl").write_text("\n".join(map(json.dumps, lines)) + "\n")

        return write

    def ledger(column: str, table: str) -> Callable[[str], None]:
        def write(told: str) -> None:
            path = depot / "data/ledger/ledger.sqlite"
            with sqlite3.connect(path) as db:
                for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
                    db.execute(f"DROP TRIGGER {trigger}")
                db.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = (SELECT min(rowid) FROM {table})", (told,))
            manifest = depot / "manifest-sha256.txt"
            kept = [
                line for line in manifest.read_text().splitlines() if not line.endswith("data/ledger/ledger.sqlite")
            ]
            kept.append(f"{hashlib.sha256(path.read_bytes()).hexdigest()}  data/ledger/ledger.sqlite")
            manifest.write_text("\n".join(kept) + "\n")

        return write

    def append(name: str, text: Callable[[str], str]) -> Callable[[str], None]:
        def write(told: str) -> None:
            with (depot / name).open("a", newline="") as file:
                file.write(text(told))

        return write

    def write(name: str, text: Callable[[str], str]) -> Callable[[str], None]:
        def put(told: str) -> None:
            (depot / name).write_text(text(told), newline="")

        return put

    def reading(told: str) -> None:
        document: dict[str, Any] = dict.fromkeys(("began", "ended", "listed_in"), "") | dict.fromkeys(
            ("files", "bytes"), 1
        )
        document |= {"run": "verify", "grade": "medium", "scope": "some", "amiss": [{"name": told, "what": told}]}
        name = time.strftime("0099-verify-%Y%m%dT%H%M%SZ.json", time.gmtime())
        (depot / "readings" / name).write_text(json.dumps(document))

    def broken_journal(told: str) -> None:
        journal("put", "path")(told)
        append(f"incoming/{run}/journal.jsonl", str)(told)

    head = "what,path,sha256,bytes,when,was,why\n"
    why = "path,why,when,sha256,bytes,what\n"
    fields = [(what, field) for what in ("remove", "move", "put") for field in ("path", "was")]
    return {
        "manifest": append("manifest-sha256.txt", lambda told: f"{digest}  data/{told}\n{digest}  {told}\n"),
        "tag manifest": append("tagmanifest-sha256.txt", lambda told: f"{digest}  {told}\n{digest}  earlier/{told}\n"),
        "why.csv path": lambda told: aside(f'{why}"{told}",x,,{digest},6,remove\n'),
        "why.csv bytes": lambda told: aside(f'{why}x,x,,{digest},"{told}",remove\n'),
        "runs path": write(f"runs/{run}.csv", lambda told: f'{head}put,"{told}",{digest},6,,,\n'),
        "runs was": write(f"runs/{run}.csv", lambda told: f'{head}move,x,{digest},6,,"{told}",\n'),
        "purging": write("purging.txt", lambda told: json.dumps([told, f"{run}/data/{told}", f"{run}/{told}"])),
        **{f"journal {what} {field}": journal(what, field) for what, field in fields},
        "journal text": broken_journal,
        "reading amiss": reading,
        "ledger files.path": ledger("path", "files"),
        "ledger frames.folder": ledger("folder", "frames"),
        "ledger frames.name": ledger("name", "frames"),
        "depot.toml name": lambda told: _swap(depot / "depot.toml", 'name = "d"', f"name = {json.dumps(told)}"),
        "line.json run": lambda told: _swap(depot / "line.json", '"run": "', f'"run": {json.dumps(told)[:-1]}'),
    }


def _swap(path: Path, old: str, new: str) -> None:
    path.write_text(path.read_text().replace(old, new))


def told(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """Each field that tells a name, with each bad spelling, under every command that reads it."""
    lab = Lab(root / "told")
    depot = _level(lab, chance)
    kept = root / "kept"
    shutil.copytree(lab.root, kept, copy_function=shutil.copy2)
    for field, spoil in _spoilers(depot).items():
        for number, bad in enumerate(BAD):
            shutil.rmtree(lab.root)
            shutil.copytree(kept, lab.root, copy_function=shutil.copy2)
            canaries = Canaries(lab)
            try:
                spoil(bad)
            except (OSError, ValueError):
                continue  # no file system and no list can hold it
            if number % 2 and not field.startswith("tag manifest"):
                _fit_tags(depot)
            problems = []
            commands = [*chance.sample(COMMANDS, 4), ("restore", str(lab.root / "back"), "--from", str(depot))]
            for command in commands:
                done = lab.run(*command)
                if "Traceback" in done.stderr or done.returncode not in (0, 1, 2, 3):
                    problems.append(f"{bad[:30]!r}, {command}: {done.returncode} {done.stderr[-300:]}")
            problems += [f"{bad[:30]!r}: {one}" for one in canaries.problems()]
            tally.enter(f"a drive tells: {field}", problems)


def volumes(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """Volumes of an archive whose manifest or entries tell names outside."""
    lab = Lab(root / "volumes")
    _level(lab, chance)
    lab.must("pack", str(lab.root / "away"), "--name", "all")
    (whole,) = (lab.root / "away").glob("*.zip")
    content = whole.read_bytes()
    top = whole.stem
    for bad in BAD:
        if "\0" in bad or len(bad) > 1000:
            continue
        canaries = Canaries(lab)
        buffer = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(buffer, "w") as new:
            for entry in old.infolist():
                data = old.read(entry)
                if entry.filename.endswith("/manifest-sha256.txt"):
                    data += f"{hashlib.sha256(b'canary!').hexdigest()}  data/{bad}\n".encode()
                new.writestr(entry.filename, data)
            new.writestr(f"{top}/data/{bad}", b"canary!")
        whole.write_bytes(buffer.getvalue())
        problems = []
        for command in (
            ("volumes", str(whole)), ("restore", str(lab.root / "back"), "--from", str(lab.root / "away")),
            ("restore", str(lab.root / "back/some"), "--year", "2021", "--from", str(lab.root / "away")),
        ):  # fmt: skip
            done = lab.run(*command)
            if "Traceback" in done.stderr:
                problems.append(f"{bad!r}, {command}: {done.stderr[-300:]}")
        shutil.rmtree(lab.root / "back", ignore_errors=True)
        tally.enter("a volume tells a name", problems + canaries.problems())


def services(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """A service's ids, names, links, sizes and digests, each with each bad spelling."""
    lab = Lab(root / "services")
    lab.root.mkdir()
    os.environ["BRAMBLEMOOR_SECRETS"] = str(root / "tokens")
    (root / "token").write_text("token")
    lab.make_library(3, 2000, chance)
    counts = {"frames": 1, "photos": 1, "videos": 0, "bytes": 1, "account_frames": 1, "albums": []}
    placed: dict[str, Any] = {}
    account = {"service": "x", "statement": counts, "albums": []}
    with answering({"/v1/account": account, "GET /v1/orders": {"orders": []}, "POST /v1/orders": placed}) as address:
        lab.must("service", "add", "thrushfield", address, "--token-file", str(root / "token"))
        for field in ("id", "name", "href", "sha256", "bytes", "series", "state"):
            for bad in BAD:
                canaries = Canaries(lab)
                part: dict[str, Any] = {"number": 1, "name": "a.zip", "bytes": 3, "sha256": "0" * 64, "href": "/v1/p"}
                order: dict[str, Any] = {"id": "AB", "state": "ready", "statement": counts}
                (part if field in part else order)[field] = bad
                placed.clear()
                placed.update(order | {"parts": [part]})
                problems = []
                for command in (("order",), ("collect", "--patience", "1"), ("unpack",)):
                    done = lab.run(*command)
                    if "Traceback" in done.stderr:
                        problems.append(f"{field} {bad[:30]!r}: {done.stderr[-300:]}")
                tally.enter(f"a service tells: {field}", problems + canaries.problems())


def flips(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """One flipped bit in every file of a depot, again and again: found, told, and put right; the other depot goes on."""
    lab = Lab(root / "flips")
    depot = _level(lab, chance)
    kept = root / "kept"
    shutil.copytree(lab.root, kept, copy_function=shutil.copy2)
    tried = 0
    while tried < given.flips:
        names = [p.relative_to(depot) for p in sorted(depot.rglob("*")) if p.is_file() and p.name != "in-use.lock"]
        for name in names:
            path = depot / name
            before = path.read_bytes() if path.is_file() else b""
            if not before:  # it is empty, or was set aside with what was flipped in it before
                continue
            at, bit = chance.randrange(len(before)), 1 << chance.randrange(8)
            path.write_bytes(before[:at] + bytes((before[at] ^ bit,)) + before[at + 1 :])
            problems = []
            found = lab.run("verify", "d")
            if found.returncode == 0:
                problems.append(f"{name} at {at}, bit {bit}: not found")
            if lab.run("verify", "e").returncode:
                problems.append(f"{name}: the other depot cannot be verified")
            said = found.stdout + found.stderr
            if "depot repair" in said:
                said += (done := lab.run("depot", "repair", "d", str(depot))).stdout + done.stderr
            mended = lab.run("mend")
            said += mended.stdout + mended.stderr
            if "Traceback" in said or (name.name not in said and "tag manifest" not in said):
                problems.append(f"{name} at {at}: not told: {said[-300:]}")
            again = lab.run("verify", "d")
            stays = name.parts[0] == "earlier" and name.name != "why.csv"
            if again.returncode and not stays:
                problems.append(f"{name} at {at}, bit {bit}: still amiss: {again.stdout[-200:]}{again.stderr[-200:]}")
            if not stays and not problems:
                problems += amiss_in_bag(depot)
            tally.enter(f"a flipped bit in {name.parts[0] if len(name.parts) > 1 else name.name}", problems)
            tried += 1
            if stays:
                path.write_bytes(before)
            if problems:
                shutil.rmtree(lab.root)
                shutil.copytree(kept, lab.root, copy_function=shutil.copy2)
                lab.run("verify")  # a copy lies in another seat, and counts once it was read there


def capitals(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """Renames that change only case or composition, of files and folders, on drives that fold them."""
    for kind in ("exfat", "ext4"):
        lab = Lab(root / f"capitals-{kind}")
        lab.root.mkdir()
        lab.make_library(8, 3000, chance)
        image, drive = lab.root / "image", lab.root / "drive"
        if not available(kind):
            print(f"renames on {kind}: skipped, it cannot be made or mounted here")
            continue
        if kind == "ext4":
            with image.open("wb") as file:
                file.truncate(48 << 20)
            fold = ("-O", "casefold", "-E", "encoding=utf8")
            made = subprocess.run(["mkfs.ext4", "-q", *fold, str(image)], check=False, capture_output=True)
            if made.returncode:
                print("renames on a folding ext4: skipped, it cannot be made here")
                continue
        else:
            make_image(image, kind)
        device = attach(image)
        if not mount(device, drive, kind):
            print(f"renames on {kind}: skipped, it cannot be mounted here")
            subprocess.run(["losetup", "--detach", device], check=False)
            continue
        try:
            copy = drive / "copy"
            copy.mkdir()
            if (
                kind == "ext4"
                and subprocess.run(["chattr", "+F", str(copy)], check=False, capture_output=True).returncode
            ):
                print("renames on a folding ext4: skipped, folders cannot be made to fold here")
                continue
            lab.must("depot", "add", "d", str(copy), "--site", "x", "--medium", "usb", "--keep-for", "none")
            lab.must("backup")
            for number in range(given.renames):
                paths = sorted(lab.library.glob("pictures/*/*/*.jpg")) + sorted(lab.library.glob("pictures/*/*"))
                path = chance.choice(paths)
                other = (f"É {number}.jpg", f"é {number}.jpg")
                name = chance.choice((path.name.swapcase(), path.name.title(), path.name.upper(), *other))
                if path.is_dir() and "jpg" in name:
                    name = path.name.swapcase()
                if not path.with_name(name).exists():
                    path.rename(path.with_name(name))
                done = lab.run("backup", "--yes")
                problems = (
                    [] if done.returncode == 0 else [f"{path.name} to {name}: {done.stdout[-300:]}{done.stderr[-200:]}"]
                )
                if contents(lab.library / "pictures") - contents(copy / "data/pictures"):
                    problems.append(f"{path.name} to {name}: gone from the mirror")
                if lab.run("verify", "d").returncode:
                    problems.append(f"{path.name} to {name}: verify finds something amiss")
                tally.enter(f"a rename of capitals or composition, {kind}", problems)
        finally:
            unmount(drive)
            subprocess.run(["losetup", "--detach", device], check=False)


def unmounts(root: Path, chance: random.Random, tally: Tally, given: argparse.Namespace) -> None:
    """A drive that is lazily unmounted in the middle of a run: nothing is written to the folder below."""
    if not available("ext4"):
        print("lazy unmounts: skipped, ext4 cannot be made or mounted here")
        return
    for _ in range(given.unmounts):
        lab = Lab(root / f"unmount-{chance.randrange(10**9)}")
        lab.root.mkdir()
        lab.make_library(40, 60_000, chance)
        image, drive = lab.root / "image", lab.root / "drive"
        make_image(image, "ext4")
        with mounted(image, drive, "ext4"):
            (drive / "copy").mkdir()
            lab.must("depot", "add", "d", str(drive / "copy"), "--site", "x", "--medium", "usb")
            command = [*PROGRAM, "--library", str(lab.library), chance.choice(("backup", "backup")), "--limit", "2MB"]
            run = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            time.sleep(chance.uniform(0.3, 1.6))
            subprocess.run(["umount", "--lazy", str(drive)], check=True)
            (drive / "copy").mkdir(parents=True, exist_ok=True)
            said = "".join(run.communicate(timeout=120))
            problems = ["a traceback"] if "Traceback" in said else []
            problems += [f"{path} was written below" for path in (drive / "copy").rglob("*")]
            shutil.rmtree(drive / "copy")
        with mounted(image, drive, "ext4"):
            again = lab.run("backup")
            problems += (
                [] if again.returncode == 0 else [f"the rerun ended with {again.returncode}: {again.stderr[-200:]}"]
            )
            problems += amiss_in_bag(drive / "copy")
        tally.enter("a lazy unmount in the middle of a run", problems)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--flips", type=int, default=300)
    parser.add_argument("--renames", type=int, default=40)
    parser.add_argument("--unmounts", type=int, default=15)
    every = (told, volumes, services, flips, capitals, unmounts)
    run_parts(parser, {part.__name__: part for part in every})


if __name__ == "__main__":
    main()
