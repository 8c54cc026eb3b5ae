"""What comes from outside is not believed: services, drives that a stranger filled, damaged tag files, told names and texts."""

import hashlib
import http.server
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from bramblemoor.disk.told import Inside
from bramblemoor.errors import ServiceTrouble
from bramblemoor.services.interface import Part
from bramblemoor.services.kinds.parcel_http import ParcelHttp
from bramblemoor.wire.http import Watch
from conftest import CHECKER, Shell, run_changed, serving
from test_trust import flip, picture, small  # noqa: F401 - a fixture

sys.path.insert(0, str(CHECKER.parent))
import lab

OUTSIDE = (
    "../canary.txt",
    "../../canary.txt",
    "../../../ledger/ledger.sqlite",
    "/tmp/canary.txt",
    "..",
    "a/../../canary.txt",
    "C:\\canary",
)


@pytest.fixture
def canaries(shell: Shell) -> Iterator[None]:
    """Files all around the library and its depots; whatever is tried, none is touched, and none is added."""
    around = [shell.folder / name for name in ("canary.txt", "heron.txt", "below/canary.txt")]
    for path in around:
        path.parent.mkdir(exist_ok=True)
        path.write_text(f"canary {path.name}")
    before = {path.name for path in shell.folder.iterdir()}
    yield
    assert [path.read_text() for path in around] == [f"canary {path.name}" for path in around]
    assert {path.name for path in shell.folder.iterdir()} - before <= {
        "library",
        "heron",
        "otter",
        "dipper",
        "tokens.json",
        "tokens.json.lock",
        "back",
    }
    assert not Path("/tmp/canary.txt").exists()


COUNTS = {"frames": 1, "photos": 1, "videos": 0, "bytes": 1}
ACCOUNT = {"service": "x", "statement": COUNTS, "albums": []}
STATEMENT = COUNTS | {"account_frames": 1, "albums": []}


def sign_up(shell: Shell, address: str) -> Path:
    library = shell.folder / "library"
    (shell.folder / "below/token").write_text("secret-token-123")
    shell("service", "add", "thrushfield", address, "--token-file", shell.folder / "below/token", cwd=library)
    return library


@pytest.mark.parametrize("what", ["id", "part"])
def test_a_service_that_tells_names_outside_is_refused(shell: Shell, canaries: None, what: str) -> None:
    shell("new", "library")
    placed: dict[str, Any] = {}
    with lab.answering(
        {"/v1/account": ACCOUNT, "POST /v1/orders": placed, "GET /v1/orders": {"orders": []}}
    ) as address:
        library = sign_up(shell, address)
        for name in OUTSIDE:
            part = {
                "number": 1,
                "name": name if what == "part" else "a.zip",
                "bytes": 3,
                "sha256": "00" * 32,
                "href": "/v1/p",
            }
            placed.clear()
            placed.update(id=name if what == "id" else "AB", state="ready", statement=STATEMENT, parts=[part])
            refused = shell("order", cwd=library, code=3).err
            assert "leads out of its folder" in refused
        placed["parts"] = [part | {"name": "a.zip", "sha256": "no digest"}]
        placed["id"] = "AB"
        assert "cannot be" in shell("order", cwd=library, code=3).err
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        assert db.execute("SELECT count(*) FROM orders").fetchone() == (0,)


def test_a_service_that_sends_too_much_too_slowly_or_encoded(shell: Shell, canaries: None) -> None:
    shell("new", "library")

    def pours(handler: http.server.BaseHTTPRequestHandler) -> None:
        handler.send_response(200)
        handler.end_headers()
        for _ in range(64):
            handler.wfile.write(bytes(1 << 20))

    def packed(handler: http.server.BaseHTTPRequestHandler) -> None:
        handler.send_response(200)
        handler.send_header("Content-Encoding", "gzip")
        handler.end_headers()
        handler.wfile.write(b"\x1f\x8b")

    def moved(handler: http.server.BaseHTTPRequestHandler) -> None:
        handler.send_response(302)
        handler.send_header("Location", "http://127.0.0.1:1/v1/account?secret-token-123")
        handler.end_headers()

    def echoes(handler: http.server.BaseHTTPRequestHandler) -> None:
        body = json.dumps({"detail": f"bad {handler.headers['Authorization']} \x1b[2J"}).encode()
        handler.send_response(403)
        handler.send_header("Content-Length", str(len(body)))
        handler.end_headers()
        handler.wfile.write(body)

    part = {"number": 1, "name": "thrushfield-AB-1of1.zip", "bytes": 1000, "sha256": "00" * 32, "href": "/v1/p"}
    placed = {"id": "AB", "state": "ready", "statement": STATEMENT, "parts": [part]}
    answers: dict[str, Any] = {"/v1/account": ACCOUNT, "POST /v1/orders": placed, "GET /v1/orders": {"orders": []}}
    answers |= {"/v1/orders/AB": placed, "/v1/p": pours}
    with lab.answering(answers) as address:
        library = sign_up(shell, address)
        shell("order", cwd=library)
        assert "did not arrive as the service described it" in shell("collect", cwd=library, code=3).err
        assert sum(path.stat().st_size for path in (library / "incoming").rglob("*") if path.is_file()) <= 1000
        for answer, word in ((packed, "encoded answer"), (moved, "points to another address"), (echoes, "(the token)")):
            answers["/v1/account"] = answer
            told = shell("service", "survey", cwd=library, code=3)
            assert word in told.err and "secret-token-123" not in told.err + told.out and "\x1b" not in told.err
        # A proxy of the environment sees nothing; a broken file of tokens is one sentence.
        answers["/v1/account"] = ACCOUNT
        shell("service", "survey", cwd=library, HTTP_PROXY="http://127.0.0.1:9", http_proxy="http://127.0.0.1:9")
        (shell.folder / "tokens.json").write_text('{"broken')
        assert "cannot be read" in shell("service", "survey", cwd=library, code=3).err

    def account(stream: Iterator[bytes], **watch: Any) -> ParcelHttp:
        class Slow(httpx.SyncByteStream):
            def __iter__(self) -> Iterator[bytes]:
                yield from stream

        transport = httpx.MockTransport(lambda _: httpx.Response(200, stream=Slow()))
        return ParcelHttp("x", "https://x.example", "t", transport=transport, watch=Watch(**watch))

    import time

    def drops() -> Iterator[bytes]:
        while True:
            time.sleep(0.02)
            yield b" "

    with pytest.raises(ServiceTrouble, match="next to nothing"):
        account(drops(), seconds=0.1, least=1000).survey()
    with pytest.raises(ServiceTrouble, match="short one"):
        account(iter([bytes(2000)]), document=1000).survey()
    fetched = Part(1, Inside("a"), 10, "0" * 64, "p")
    slow = account(drops(), seconds=0.1, least=1000)
    with pytest.raises(ServiceTrouble, match="next to nothing"), slow.open_part(fetched, 0, "") as stream:
        list(stream.pieces)


@pytest.mark.parametrize("keys", [(), ("--keyless",)])
def test_an_order_whose_answer_is_lost_is_placed_once(shell: Shell, world: Path, keys: tuple[str, ...]) -> None:
    shell("new", "library")
    with serving(world, "--lose", "1", *keys) as address:
        library = shell.folder / "library"
        shell("service", "add", "thrushfield", address, "--token-file", world.parent / "token.txt", cwd=library)
        shell("order", "--since", "2026-05-01", "--until", "2026-05-03", cwd=library)
        told = httpx.get(
            f"{address}/v1/orders",
            headers={"Authorization": f"Bearer {(world.parent / 'token.txt').read_text().strip()}"},
        )
        assert (
            len(told.json()["orders"]) == 1 and len(shell("order", "list", "--json", cwd=library).json["orders"]) == 1
        )


def rewrite_tags(depot: Path) -> None:
    """As somebody would who means harm: whatever lies there, the tag manifest fits."""
    lines = []
    for path in sorted(depot.rglob("*")):
        relative = path.relative_to(depot).as_posix()
        if path.is_file() and not relative.startswith(("data/", "tagmanifest", "in-use", "incoming/")):
            lines.append(f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {relative}\n")
    (depot / "tagmanifest-sha256.txt").write_text("".join(lines))


@pytest.mark.parametrize("told", OUTSIDE)
def test_names_that_a_drive_tells_lead_nowhere_else(shell: Shell, small: Path, canaries: None, told: str) -> None:  # noqa: F811
    depot = shell.folder / "heron"
    victim = {path: path.read_bytes() for path in small.rglob("*") if path.is_file() and "lock" not in path.name}
    digest = hashlib.sha256(b"canary canary.txt").hexdigest()
    run = "0099-20261126T000000Z-abcd"
    aside = depot / "earlier" / run / "data"
    aside.mkdir(parents=True)
    (aside / "x").write_text("x")
    (depot / "earlier" / run / "why.csv").write_text(
        f"path,why,when,sha256,bytes,what\n{told},x,,{digest},5,remove\nx,x,,{digest},1,put\n"
    )
    (depot / "runs" / f"{run}.csv").write_text(
        f"what,path,sha256,bytes,when,was,why\nmove,{told},{digest},5,,{told},\n"
    )
    (depot / "purging.txt").write_text(json.dumps([f"{run}/data/{told}", f"{run}/{told}", told]))
    with (depot / "manifest-sha256.txt").open("a") as manifest:
        manifest.write(f"{digest}  data/{told}\n{digest}  {told}\n")
    incoming = depot / "incoming" / run
    (incoming / "data").mkdir(parents=True)
    intents = [
        {"path": told, "sha256": digest, "bytes": 5, "what": what, "was": told} for what in ("remove", "move", "put")
    ]
    marks = [{"mark": "removals are over"}, {"mark": "moves are over"}]
    (incoming / "journal.jsonl").write_text(
        "\n".join(json.dumps(one) for one in [{"run": run}, *intents, *marks]) + "\n"
    )
    rewrite_tags(depot)
    for command in (
        ("verify", "heron"), ("backup", "--yes"), ("mend",), ("earlier", "heron"),
        ("purge", "heron", "--older-than", "0", "--yes"),
        ("depot", "look", "heron"), ("restore", shell.folder / "back", "--from", depot), ("drill", "heron"),
        ("depot", "level", depot, shell.folder / "otter"), ("depot", "alone", depot),
    ):  # fmt: skip
        shell(*command, cwd=small, code=None)
    after = {path: path.read_bytes() for path in victim}
    changed = {path for path in victim if after[path] != victim[path]}
    assert all(path.is_relative_to(small / "ledger") for path in changed)


def test_a_ledger_that_a_drive_tells_is_looked_at(shell: Shell, small: Path, canaries: None) -> None:  # noqa: F811
    depot = shell.folder / "heron"
    ledger = depot / "data/ledger/ledger.sqlite"
    with sqlite3.connect(ledger) as db:
        db.execute("DROP TRIGGER IF EXISTS file_moved")
        db.execute(
            "UPDATE files SET path = '../../canary.txt' WHERE id = (SELECT min(id) FROM files WHERE role = 'original')"
        )
    manifest = depot / "manifest-sha256.txt"
    lines = [line for line in manifest.read_text().splitlines() if not line.endswith("data/ledger/ledger.sqlite")]
    manifest.write_text(
        "\n".join([*lines, f"{hashlib.sha256(ledger.read_bytes()).hexdigest()}  data/ledger/ledger.sqlite"]) + "\n"
    )
    rewrite_tags(depot)
    told = shell("restore", "back", "--from", depot, code=3).err
    assert "names a file outside the library" in told
    shutil.rmtree(shell.folder / "back", ignore_errors=True)
    whole = (small / "ledger/ledger.sqlite").read_bytes()
    assert "names a file outside" in shell("restore", ".", "--ledger-only", "--from", depot, cwd=small, code=3).err
    assert (small / "ledger/ledger.sqlite").read_bytes() == whole
    assert shell("depot", "alone", depot, code=1).err == ""


@pytest.mark.parametrize("folder", ["data", "earlier", "readings", "receipts", "runs"])
def test_links_at_a_depot_are_not_written_through(shell: Shell, small: Path, canaries: None, folder: str) -> None:  # noqa: F811
    depot, elsewhere = shell.folder / "heron", shell.folder / "below/elsewhere"
    if (depot / folder).exists():
        shutil.move(depot / folder, elsewhere)
    else:
        elsewhere.mkdir()
    (depot / folder).symlink_to(elsewhere)
    before = sorted(elsewhere.rglob("*"))
    shell("tell", "20260101_120000.jpg", "--title", "Changed", cwd=small)
    passed = shell("backup", cwd=small, code=1)
    assert "link or another mount" in passed.err and "heron" not in passed.out.partition("The books")[0].replace(
        "depot heron", ""
    )
    shell("verify", "heron", cwd=small, code=3)
    assert sorted(elsewhere.rglob("*")) == before


def test_a_linked_file_is_no_copy(shell: Shell, small: Path) -> None:  # noqa: F811
    depot = shell.folder / "heron/data/pictures"
    linked = depot / "2024/20240101_120000.jpg"
    linked.unlink()
    linked.symlink_to(small / "pictures/2024/20240101_120000.jpg")
    (shell.folder / "other").mkdir()
    shutil.move(depot / "2026", shell.folder / "other/2026")
    (depot / "2026").symlink_to(shell.folder / "other/2026")
    told = shell("verify", "heron", "--json", cwd=small, code=1).json
    assert len(told["left_out"]) == 7
    shell("mend", cwd=small, code=None)
    assert (small / "pictures/2024/20240101_120000.jpg").read_bytes() == picture("2024 1")


def tag_files(depot: Path) -> list[Path]:
    top = [path for path in depot.iterdir() if path.is_file() and path.name != "in-use.lock"]
    return sorted(
        top
        + [
            path
            for name in ("readings", "receipts", "runs", "earlier")
            for path in (depot / name).rglob("*")
            if path.is_file()
        ]
    )


def test_each_flip_in_what_tells_of_a_depot_is_found_told_and_put_right(shell: Shell, small: Path) -> None:  # noqa: F811
    """One bad drive stops none of the others, and no flip stops the commands that put it right."""
    shell("tell", "20260101_120000.jpg", "--title", "First", cwd=small)
    shell("backup", cwd=small)
    shell("tell", "20260101_120000.jpg", "--title", "Second", cwd=small)
    shell("backup", cwd=small)
    depot = shell.folder / "heron"
    names = [path.relative_to(depot).as_posix() for path in tag_files(depot)]
    kinds = {name.partition("/")[0] + Path(name).suffix: name for name in names if "/data/" not in name}
    assert len(kinds) >= 9
    for number, name in enumerate(kinds.values()):
        path = depot / name
        if not path.is_file():
            continue
        content = bytearray(path.read_bytes())
        at = (37 * (number + 3)) % len(content)
        content[at] ^= (1, 0x80)[number % 2]
        path.write_bytes(content)
        told = shell("verify", "heron", cwd=small, code=None)
        assert told.code in (1, 3) and (Path(name).name in told.out + told.err or "tag manifest" in told.out), name
        others = shell("verify", "otter", "dipper", cwd=small)
        assert others.code == 0
        if told.code == 3:
            assert "depot repair heron" in told.err
            shell("depot", "repair", "heron", depot, cwd=small)
        shell("mend", cwd=small, code=None)
        assert shell("verify", "heron", cwd=small, code=None).code == 0, (
            f"{name}\n{shell('verify', 'heron', cwd=small, code=None).out}"
        )


def test_terms_that_nobody_can_have_agreed_on(shell: Shell, small: Path) -> None:  # noqa: F811
    mark = shell.folder / "heron/depot.toml"
    before = mark.read_text()
    for terms in ('years = ["x"]', 'only = ["' + "*a" * 60 + '"]', 'keep_for = "soon"', "at_least = -1", 'since = "x"'):
        mark.write_text(before + f"\n[terms]\n{terms}\n")
        refused = shell("backup", "heron", cwd=small, code=3).err
        assert "is damaged" in refused and "depot repair" in refused
        shell("depot", "repair", "heron", shell.folder / "heron", cwd=small)
    # What is agreed is what the library says; a drive that became a mirror by itself is none.
    mark.write_text(before + '\n[terms]\nkeep_for = "none"\n')
    shell("tell", "20260101_120000.jpg", "--title", "x", cwd=small)
    assert "does not say what was agreed" in shell("backup", cwd=small).err


def test_texts_that_somebody_told_are_shown_and_not_obeyed(shell: Shell, small: Path) -> None:  # noqa: F811
    evil = "owl \x1b]0;pwned\x07\x1b[2J\u202e\x85 \nEverything is safe"
    shell("tell", "20260101_120000.jpg", "--title", evil, cwd=small)
    strange = small / "pictures/2026/a\x1b[31m\nb.jpg"
    strange.write_bytes(picture("strange"))
    obeyed = set(map(chr, range(32))) - {"\n"} | set(map(chr, range(127, 160))) | {"\u202e"}
    for command in (
        ("stocktake",), ("find",), ("show", "20260101_120000.jpg"), ("backup",), ("standing",), ("receipt",),
        ("depot", "look", "heron", "--below", "pictures/2026"), ("verify",), ("find", "owl", "--json"),
        ("show", "--", "no\x1bsuch"),
    ):  # fmt: skip
        told = shell(*command, cwd=small, code=None)
        for text in (told.out, told.err):
            assert not set(text) & obeyed, command
            assert "\nEverything is safe" not in text or command == ("standing",)
    assert "\\x1b" in shell("show", "20260101_120000.jpg", cwd=small).out
    done = subprocess.run(
        ["sha256sum", "-c", "--quiet", "manifest-sha256.txt"],
        cwd=shell.folder / "heron",
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stdout + done.stderr


def test_titles_that_a_spreadsheet_would_run(shell: Shell, library: Path) -> None:
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        frame = db.execute("SELECT frame FROM album_frames LIMIT 1").fetchone()[0]
        name = db.execute("SELECT name FROM frames WHERE id = ?", (frame,)).fetchone()[0]
    shell("tell", name, "--title", "=HYPERLINK(1)", cwd=library)
    gone = next(path for path in (library / "pictures").rglob("*.jpg") if path.name != name)
    gone.unlink()
    shell("stocktake", cwd=library, code=1)
    shell("stocktake", "--let-go", gone.name, "--yes", cwd=library, code=None)
    for path in (library / "albums").glob("*.csv"):
        cells = [cell for line in path.read_text().splitlines() for cell in line.split(",")]
        assert not any(cell.strip('"').startswith(("=", "@", "+")) for cell in cells) and "\0" not in path.read_text()


def test_limits_are_no_reason_to_fall_over(shell: Shell, small: Path) -> None:  # noqa: F811
    late = small / "pictures/2026/late.jpg"
    late.write_bytes(picture("late"))
    os.utime(late, ns=(0, 9_500_000_000 * 10**9))  # in 2271
    shell("backup", cwd=small, COLUMNS="abc")
    assert "late.jpg" in shell("find", cwd=small, COLUMNS="0").out
    assert "all as it was" in shell("stocktake", cwd=small).out
    closed = subprocess.run(
        ["sh", "-c", '"$@" >&- 2>&-', "sh", *shell.command("standing")],
        cwd=small,
        env=shell.environment,
        capture_output=True,
    )
    assert closed.returncode in (0, 1)
    full = subprocess.run(
        ["sh", "-c", '"$@" > /dev/full', "sh", *shell.command("standing")],
        cwd=small,
        env=shell.environment,
        capture_output=True,
        text=True,
    )
    assert full.returncode == 3 and "No space left" in full.stderr and "Traceback" not in full.stderr


def test_twenty_thousand_keywords_take_as_long_as_so_many_rows_should(shell: Shell, small: Path) -> None:  # noqa: F811
    items = "".join(f"<rdf:li>word {n}</rdf:li>" for n in range(20_000))
    (small / "pictures/2026/20260101_120000.jpg.xmp").write_text(
        '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about=""'
        f' xmlns:dc="http://purl.org/dc/elements/1.1/"><dc:subject><rdf:Bag>{items}</rdf:Bag></dc:subject></rdf:Description></rdf:RDF>'
    )
    import time

    began = time.monotonic()
    shell("stocktake", cwd=small)
    assert time.monotonic() - began < 30
    assert shell("find", "--keyword", "word 19999", "--json", cwd=small).json["found"] == 1


STOP_AT = """
import os, signal
left, real = [int(os.environ["STOP_AT"])], (os.unlink, os.rmdir)
def stopping(which):
    def call(path, *rest, **more):
        if ".unfinished" in str(path):
            left[0] -= 1
            if left[0] < 0:
                os.kill(os.getpid(), signal.SIGKILL)
        return which(path, *rest, **more)
    return call
os.unlink, os.rmdir = map(stopping, real)
"""


def test_packing_that_is_killed_while_it_tidies_up_completes(shell: Shell, small: Path) -> None:  # noqa: F811
    for at in range(5):
        away = shell.folder / f"away {at}"
        done = run_changed(shell, small, STOP_AT, {"STOP_AT": str(at)}, "pack", away, "--name", "all")
        if done.returncode == 0:
            break
        shell("pack", away, "--name", "all", cwd=small)
        assert not list(away.glob("*.unfinished")) and shell("volumes", away).code == 0
        runs = [one for one in shell("receipt", "list", "--json", cwd=small).json["receipts"] if one["run"] == "pack"]
        assert len(runs) == at + 1
    assert at >= 3


@pytest.mark.parametrize("moment", ["in-use.lock", "incoming/*/data/pictures/2026/*"])
def test_a_drive_that_is_unmounted_in_the_middle_of_a_run(shell: Shell, small: Path, moment: str) -> None:  # noqa: F811
    """Lazily, as desktops do, while the library is looked over or files are copied: nothing is written to the folder below."""
    if not lab.available("ext4"):
        pytest.skip("ext4 cannot be made or mounted here")
    image, place = shell.folder / "drive.img", shell.folder / "drive"
    lab.make_image(image, "ext4")
    for n in range(40):
        (small / f"pictures/2026/many {n}.jpg").write_bytes(os.urandom(150_000))
    with lab.mounted(image, place, "ext4"):
        (place / "copy").mkdir()
        shell("depot", "add", "red", place / "copy", "--site", "attic", "--medium", "usb", cwd=small)
        (place / "copy/in-use.lock").unlink(missing_ok=True)
        run = subprocess.Popen(
            shell.command("backup", "red", "--limit", "2MB"), cwd=small, env=shell.environment, stdout=subprocess.PIPE,
            stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        while run.poll() is None and not list((place / "copy").glob(moment)):
            pass
        subprocess.run(["umount", "--lazy", place], check=True)
        (place / "copy").mkdir()  # as somebody may have made it before there was a drive
        told = "".join(run.communicate(timeout=60))
        assert run.returncode in (1, 3) and "Traceback" not in told
        assert list((place / "copy").rglob("*")) == []
