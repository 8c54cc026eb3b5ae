"""Each bad input of services, many times: wrong and narrow keys, a clock that is off, certificates, redirects, lists that lag,
servers without ranges, ETags or preconditions, uploads that are cut short, lost, swapped or refused, accounts that fill, and
sign-ins that lapse.

    python proof/services_amiss.py [--times 20] [--only WORD,WORD]

Nothing here imports Bramblemoor: it runs the program against the stand-ins and servers of its own, and looks where these keep
what arrived. Each trial must end with one sentence and its exit code, and leave nothing half, nothing lost and nothing twice;
where a second run can put it right, it does.
"""

import argparse
import json
import random
import ssl
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from bad_servers import listening, noting, plain, pointing
from moves import PROGRAM, Bucket, End, Flat, Frame, InLibrary, Lab, OnDisk, frames, moved, standing_in, unlike
from real import free_port

Done = subprocess.CompletedProcess[str]
_KINDS = {"stonewharf": ("folders", "keeper"), "coldbarrow": ("bucket", "VALLEYKEY"), "thrushfield": ("flat", "")}
_SERVICES = tuple(_KINDS)


class Tree(OnDisk):
    """The stand-in with folders, which keeps them on disk."""

    def top(self, below: str) -> Path:
        return Path(self.where["folder"], "tree", below)


class Field:
    """A library with pictures, as a source; and stand-ins that begin as they are wanted."""

    def __init__(self, scratch: Path, count: int) -> None:
        self.scratch, self.number = scratch, 0
        self.lab = Lab(scratch)
        self.truth = frames(count, 5)
        self.library = InLibrary("library", "library", {"folder": str(self.lab.home)})
        self.library.fill(self.truth)
        assert self.lab.run("stocktake").returncode == 0
        self.before = self.library.lying("")

    def fresh(self, name: str) -> Path:
        self.number += 1
        return self.scratch / f"{name}-{self.number}"

    @contextmanager
    def begun(self, service: str, folder: Path, *faults: str, known: bool = True) -> Iterator[End]:
        """A stand-in with its account in a folder, which may be there already; `known` to the library under its own name."""
        kind, user = _KINDS[service]
        if kind == "flat" and not folder.exists():
            Flat(service, kind, {"folder": str(folder)}).fill([])
        with standing_in(service, folder, *faults) as where:
            end = {"folders": Tree, "bucket": Bucket, "flat": Flat}[kind](service, kind, where | {"user": user})
            if known:
                self.lab.add(end)
            yield end

    def send(self, end: End, into: str, *more: str) -> Done:
        return self.lab.run(*moved(self.library, end, into, "--patience", "4", *more))

    def add(
        self, name: str, url: str, kind: str, secret: str, *more: str, user: str = "", home: Path | None = None
    ) -> Done:
        """Add a service, with a secret that is nowhere else."""
        file = self.fresh("secret")
        file.write_text(secret)
        how = ["--dialect", "thrushfield"] if kind == "flat" else ["--kind", kind, "--user", user or "keeper"]
        return self.lab.run(
            "service", "add", name, url, *how, "--token-file", str(file), "--patience", "1", "--json", *more, cwd=home
        )

    def unharmed(self) -> list[str]:
        return [] if self.library.lying("") == self.before else ["the library is not as it was"]


Trial = Callable[[Field, int], list[str]]
"""One trial of a fault, the nth; what did not hold of it."""


def ended(done: Done, codes: tuple[int, ...], words: str = "") -> list[str]:
    """Whether it ended as it should: with one of these codes; not well, with one sentence and what to do, and no traceback."""
    wrong = []
    if done.returncode not in codes:
        wrong.append(f"it ended with {done.returncode}: {(done.stderr or done.stdout)[-300:]}")
    if "Traceback" in done.stderr + done.stdout:
        wrong.append("a traceback")
    if done.returncode not in (0, 1):
        said = json.loads(done.stdout)
        if not said.get("error") or not said.get("remedy") or said["error"].count("\n"):
            wrong.append(f"it says {said}")
        if words not in said["error"]:
            wrong.append(f"it says {said['error']!r}")
    return wrong


def not_once(names: Iterable[str], wanted: Iterable[str]) -> list[str]:
    """What of the wanted is not there just once."""
    counts = Counter(names)
    return [f"{name} is there {counts[name]} times" for name in wanted if counts[name] != 1]


def name_of(frame: Frame) -> str:
    return Path(frame.path).name


def left(done: Done) -> set[str]:
    return {Path(one["name"]).name for one in json.loads(done.stdout)["left_out"]}


def put_right(service: str, fault: str, codes: tuple[int, ...], words: str = "") -> Trial:
    """Send everything to a stand-in with a fault (so many times: N); then to the same without. All is there, once, as it was."""

    def trial(field: Field, number: int) -> list[str]:
        folder = field.fresh(service)
        with field.begun(service, folder, "--fault", fault.replace("N", str(1 + number % 5))) as end:
            wrong = ended(field.send(end, "sent", "--prove", "all"), codes, words)
            if isinstance(end, Flat):
                names = [item["filename"] for item in end.taken()]
                wrong += not_once(names, set(names))
        with field.begun(service, folder) as end:
            wrong += ended(field.send(end, "sent", "--prove", "all"), (0, 1))
            if isinstance(end, Flat):
                wrong += not_once((item["filename"] for item in end.taken()), map(name_of, field.truth))
            else:
                wrong += unlike(field.library, end, field.truth, "sent", {})
        return wrong + field.unharmed()

    return trial


def stored_amiss(fault: str) -> Trial:
    """A flat service stores something else than it was sent: just those frames are named, and no other frame comes twice."""

    def trial(field: Field, number: int) -> list[str]:
        original = {name_of(one): one.content for one in field.truth}
        with field.begun("thrushfield", field.fresh("field"), "--fault", f"{fault}={1 + number % 4}") as end:
            assert isinstance(end, Flat)
            done = field.send(end, "", "--as-they-are")
            found = end.lying("")
            bad = {item["filename"] for item in end.taken() if found[item["ref"]] != original[item["filename"]]}
            wrong = ended(done, (1,)) + (
                [] if left(done) == bad and bad else [f"{bad} are amiss, {left(done)} are named"]
            )
            if not json.loads(done.stdout)["balanced"]:
                wrong.append("the books do not balance")
            wrong += ended(field.send(end, "", "--as-they-are"), (0, 1))
            wrong += not_once((item["filename"] for item in end.taken()), original.keys() - bad)
        return wrong + field.unharmed()

    return trial


def one_in_many_refused(field: Field, number: int) -> list[str]:
    with field.begun("thrushfield", field.fresh("field"), "--fault", f"refuse={5 + number % 7}") as end:
        assert isinstance(end, Flat)
        done = field.send(end, "")
        names = [item["filename"] for item in end.taken()]
        missing = {name_of(one) for one in field.truth} - set(names)
        wrong = ended(done, (1,)) + not_once(names, set(names))
        return wrong + (
            [] if left(done) == missing and missing else [f"{missing} are not there, {left(done)} are named"]
        )


def wrong_key(field: Field, number: int) -> list[str]:
    service = _SERVICES[number % 3]
    with field.begun(service, field.fresh(service), known=False) as end:
        before, secret = end.lying(""), f"wrong-{number}-sesame"
        done = field.add(service, end.where["url"], end.kind, secret, user=end.where["user"])
        wrong = ended(done, (2, 3)) + (["the secret is shown"] if secret in done.stdout + done.stderr else [])
        return wrong + ([] if end.lying("") == before else ["something lies there"])


def narrow_key(field: Field, number: int) -> list[str]:
    folder = field.fresh("coldbarrow")
    with field.begun("coldbarrow", folder, known=False) as end:
        before, all_may = end.lying("put-by"), dict(end.where)
        end.where |= {"user": "READERKEY", "secret": (folder / "reader.txt").read_text().strip()}
        field.lab.add(end)
        wrong = ended(field.send(end, f"sent-{number}"), (3,), "does not let this key do that")
        end.where |= all_may
        return wrong + (
            [] if end.lying("put-by") == before and not end.lying(f"sent-{number}") else ["something lies there"]
        )


def no_bucket(field: Field, number: int) -> list[str]:
    with field.begun("coldbarrow", field.fresh("coldbarrow"), known=False) as end:
        url = end.where["url"].replace("/valley", f"/vale-{number}")
        return ended(field.add("vale", url, "bucket", end.where["secret"], user="VALLEYKEY"), (2, 3), "no bucket")


def clock_off(field: Field, number: int) -> list[str]:
    skew = (3600, -3600, 1000, -5000)[number % 4]
    with field.begun("coldbarrow", field.fresh("coldbarrow"), "--fault", f"skew={skew}", known=False) as end:
        return ended(
            field.add("cold", end.where["url"], "bucket", end.where["secret"], user="VALLEYKEY"), (3,), "clock"
        )


def no_way_there(field: Field, number: int) -> list[str]:
    """A name that is not resolved, a port that nobody listens on, and a proxy that is down."""
    kind, way = ("folders", "bucket", "flat")[number % 3], number // 3 % 3
    settings = field.lab.home / "bramblemoor.toml"
    former = settings.read_text()
    url = f"http://127.0.0.1:{free_port()}/desk/a" if way == 1 else f"https://nowhere-{number}.invalid/desk/a"
    if way == 2:
        address = f'proxy = "http://127.0.0.1:{free_port()}"\n'
        settings.write_text(
            former.replace("[network]\n", f"[network]\n{address}")
            if "[network]" in former
            else f"{former}\n[network]\n{address}"
        )
    try:
        done = field.add("nobody", url, kind, "sesame")
    finally:
        settings.write_text(former)
    return ended(done, (3,), "proxy" if way == 2 else "cannot be reached")


def redirect(field: Field, number: int) -> list[str]:
    """Pointed to another host: nobody goes there, and no key is shown there."""
    seen: list[str] = []
    with listening(noting(seen)) as other, listening(pointing((301, 302, 307, 308)[number % 4], other)) as port:
        done = field.add(
            "pointing", f"http://127.0.0.1:{port}/desk/", ("folders", "bucket", "flat")[number % 3], "sesame"
        )
    return ended(done, (2, 3), "another address") + [f"it went there: {one[:60]}" for one in seen]


def certificate(field: Field, number: int) -> list[str]:
    """Of nobody who is trusted here, or of another host: nothing is said to it."""
    import trustme

    seen: list[str] = []
    authority, file, of_another = trustme.CA(), field.fresh("authority.pem"), number % 2 == 1
    authority.cert_pem.write_to_path(str(file))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("other.example" if of_another else "localhost").configure_cert(context)
    more = ["--authority", str(file)] if of_another else []
    with listening(noting(seen), context) as port:
        done = field.add(
            "secure", f"https://localhost:{port}/desk/a", ("folders", "bucket", "flat")[number % 3], "sesame", *more
        )
    return ended(done, (3,), "another host" if of_another else "not trusted") + [
        f"it was asked: {one[:60]}" for one in seen
    ]


def nobody_is_overwritten(field: Field, number: int) -> list[str]:
    """A store that overwrites whatever it is asked for, or not: what somebody else has there stays."""
    theirs = field.truth[number % len(field.truth)].path
    with field.begun("coldbarrow", field.fresh("coldbarrow"), "--fault", f"blind={number % 2}") as end:
        assert isinstance(end, Bucket)
        client, bucket, prefix = end.client()
        client.put_object(Bucket=bucket, Key=f"{prefix}shared/{theirs}", Body=b"somebody else's")
        wrong = ended(field.send(end, "shared"), (0,))
        found = end.lying("shared")
    if found.pop(theirs) != b"somebody else's":
        wrong.append("somebody else's is overwritten")
    counts = Counter(found.values())
    return wrong + [
        f"{one.path} is there {counts[one.content]} times" for one in field.truth if counts[one.content] != 1
    ]


def without_ranges(field: Field, number: int) -> list[str]:
    """Home from a server that knows no ranges and tells no ETags, and breaks off downloads."""
    with field.begun("stonewharf", field.fresh("stonewharf"), known=False) as end:
        end.fill(field.truth)
        host, _, port = end.where["url"].split("/")[2].partition(":")
        home = field.fresh("home")
        field.lab.run("new", home.name, cwd=field.scratch)
        with listening(plain(host, int(port), 3, random.Random(number))) as through:
            url = end.where["url"].replace(f":{port}", f":{through}")
            field.add("plain", url, "folders", end.where["secret"], home=home)
            wrong = ended(field.lab.run("fetch", "plain", "--folder", "from", "--json", cwd=home), (0,))
            wrong += ended(field.lab.run("fetch", "plain", "--folder", "from", "--json", cwd=home), (0,))
    found = {path.name: path.read_bytes() for path in (home / "pictures").rglob("*.jpg")}
    wrong += [f"{one.path} is not as it was" for one in field.truth if found.get(name_of(one)) != one.content]
    return wrong + ([] if len(found) == len(field.truth) else [f"{len(found)} pictures came of {len(field.truth)}"])


def odd_names(field: Field, number: int) -> list[str]:
    """Names that some systems take for one, and such as are too long: each arrives, under a name of its own."""
    rand = random.Random(number)
    stem = "".join(rand.choice("abcdefgh") for _ in range(5))
    names = (f"{stem}.jpg", f"{stem.upper()}.jpg", f"{stem}.JPG", f"Ł{stem}.jpg", f"{stem * 60}.jpg", f"{stem}:?*.jpg")
    told = list(zip(names, field.truth, strict=False))
    with (
        field.begun("coldbarrow", field.fresh("coldbarrow")) as source,
        field.begun("stonewharf", field.fresh("stonewharf")) as end,
    ):
        assert isinstance(source, Bucket)
        client, bucket, prefix = source.client()
        for name, one in told:
            client.put_object(Bucket=bucket, Key=f"{prefix}odd/{name}", Body=one.content)
        move = ("migrate", "coldbarrow", "stonewharf", "--folder", "odd", "--into", "names", "--yes", "--json")
        wrong = ended(field.lab.run(*move), (0, 1)) + ended(field.lab.run(*move), (0,))
        found = end.lying("names")
    counts = Counter(found.values())
    wrong += [f"{name} is there {counts[one.content]} times" for name, one in told if counts[one.content] != 1]
    return wrong + (
        [] if len({path.casefold() for path in found}) == len(found) else ["two are one where case does not count"]
    )


def source_changes(field: Field, number: int) -> list[str]:
    """While it is sent, one picture becomes another and one goes: what does not arrive is named, and then all arrives."""
    rand = random.Random(number)
    with field.begun("stonewharf", field.fresh("stonewharf")) as source:
        source.fill(field.truth)
        with field.begun("thrushfield", field.fresh("field"), "--fault", "slow=0.1") as end:
            assert isinstance(end, Flat)
            move = moved(source, end, "", "--as-they-are")
            process = subprocess.Popen(
                [str(PROGRAM), *move], cwd=field.lab.home, env=field.lab.environment, stdout=subprocess.PIPE,
                stderr=subprocess.PIPE, text=True,
            )  # fmt: skip
            while not end.taken() and process.poll() is None:
                time.sleep(0.02)
            changed, gone = rand.sample(field.truth[12:], 2)
            top = Path(source.where["folder"], "tree", "from")
            (top / changed.path).write_bytes(changed.content + b"changed")
            (top / gone.path).unlink()
            out, err = process.communicate(timeout=120)
            done = Done(move, process.returncode, out, err)
            now = {name_of(one): one.content for one in field.truth if one is not gone}
            now[name_of(changed)] += b"changed"
            found, there = end.lying(""), [item["filename"] for item in end.taken()]
            wrong = ended(done, (0, 1)) + not_once(there, set(there))
            wrong += [f"{name} is neither there nor named" for name in original(field) - set(there) - left(done)]
            wrong += [
                f"{item['filename']} is not as it was" for item in end.taken()
                if item["filename"] not in (name_of(changed), name_of(gone)) and found[item["ref"]] != now[item["filename"]]
            ]  # fmt: skip
            wrong += ended(field.lab.run(*move), (0, 1))
            found = end.lying("")
            last = {item["filename"]: found[item["ref"]] for item in end.taken()}
            return wrong + [f"{name} is not there as it is now" for name in now if last.get(name) != now[name]]


def original(field: Field) -> set[str]:
    return {name_of(one) for one in field.truth}


FAULTS: dict[str, Trial] = {
    "a wrong key": wrong_key,
    "a key that may only read": narrow_key,
    "no such bucket": no_bucket,
    "a clock that is off": clock_off,
    "a certificate that is not trusted, or of another host": certificate,
    "a name not resolved, nobody there, a proxy down": no_way_there,
    "a redirect to another host": redirect,
    "a list that lags": put_right("coldbarrow", "late=N", (0, 1)),
    "no ranges and no ETags, and downloads that break off": without_ranges,
    "a store that overwrites whatever it is asked": nobody_is_overwritten,
    "uploads cut short and answered as whole": put_right("stonewharf", "stump=N", (0, 1)),
    "objects that are lost": put_right("coldbarrow", "lost=N", (0, 1)),
    "objects that rot": put_right("coldbarrow", "rot=N", (0, 1)),
    "names that are refused or folded": odd_names,
    "a quota that is too small": put_right("stonewharf", "quota=N000", (3,), "room for"),
    "an account that fills in the middle": put_right("thrushfield", "fills=N", (3,), "is full"),
    "a sign-in that lapses in the middle": put_right("thrushfield", "lapses=N", (3,), "refuses the token"),
    "so many a day": put_right("thrushfield", "daily=N", (3,), "come back"),
    "answers that are lost": put_right("thrushfield", "lose_frame=N", (0, 1)),
    "one frame in so many refused": one_in_many_refused,
    "another's bytes stored": stored_amiss("swap"),
    "less stored than it says": stored_amiss("cut"),
    "a source that changes meanwhile": source_changes,
}


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--times", type=int, default=20)
    parser.add_argument("--only", default="")
    given = parser.parse_args()
    amiss = 0
    with tempfile.TemporaryDirectory(prefix="amiss-", dir="/tmp") as name:
        field = Field(Path(name), 30)
        for fault, trial in FAULTS.items():
            if not any(word in fault for word in given.only.split(",")):
                continue
            began, held = time.monotonic(), 0
            for number in range(given.times):
                wrong = trial(field, number)
                held += not wrong
                if wrong:
                    print(f"    {fault}, {number}: {wrong[:3]}", flush=True)
            amiss += given.times - held
            print(f"  {fault}: {held} of {given.times} held, {time.monotonic() - began:.0f} s", flush=True)
    print("all held" if not amiss else f"{amiss} did not hold")
    return 1 if amiss else 0


if __name__ == "__main__":
    sys.exit(main())
