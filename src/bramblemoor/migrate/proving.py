"""The proof: what arrived is read back from the destination and compared with what was sent, and so are the books of all three
sides.
"""

import re
import sqlite3
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from typing import Literal

from bramblemoor.disk.told import Inside
from bramblemoor.errors import ServiceTrouble
from bramblemoor.library.receipts import Finding
from bramblemoor.migrate.fidelity import differences
from bramblemoor.migrate.sending import SentFile
from bramblemoor.migrate.tree_destination import lying_below
from bramblemoor.migrate.worksheet import Line, State, Worksheet
from bramblemoor.running import Progress, Stage, portions
from bramblemoor.services.interface import Account, Listing, Tree, Uploads
from bramblemoor.services.moving import Fidelity, Shown
from bramblemoor.services.tree_survey import digest_there

How = Literal["list", "sample", "all"]
SAMPLE = 20
"""Of so many frames one is fetched back, where only some are."""
_READERS = 8
_MD5 = re.compile('"[0-9a-f]{32}"')
"""An ETag that is the digest of an object, as stores give it to one that was put whole and is not encrypted with its own key."""
_ENTERED = 500
Proof = tuple[int, State, str]


@dataclass
class Proven:
    """What the destination showed: frames, files and bytes of what was sent, how many were fetched back, and what is not as it
    was sent. `theirs` are frames of which somebody has changed something there since they arrived, and what.
    """

    frames: int = 0
    files: int = 0
    bytes: int = 0
    read: int = 0
    findings: list[Finding] = field(default_factory=list)
    theirs: set[tuple[str, str]] = field(default_factory=set)


def prove(sheet: Worksheet, account: Account, into: str, how: How, progress: Progress) -> Proven:
    """Compare what the destination shows, below `into`, with what was sent. Raises ServiceTrouble where it is down."""
    found = Proven()
    if isinstance(account, Listing) and isinstance(account, Uploads):
        outcomes = _of_list(sheet, account, account.fidelity(), how, found)
    elif isinstance(account, Tree):
        outcomes = _of_tree(sheet, account, into, how, found)
    else:
        raise ServiceTrouble("The destination shows nothing of what it has.", "Look there yourself.")
    whole = sum(count[0] for state, count in sheet.counts().items() if state in ("sent", "proven", "missing", "amiss"))
    seen: set[int] = set()
    done = 0
    for some in portions(outcomes, _ENTERED):
        sheet.prove(some)
        seen.update(number for number, _, _ in some)
        done += len(some)
        progress(Stage("proving", "frames"), done, whole)
    lacking = [line for line in sheet.lines("sent", "proven", "amiss") if line.n not in seen]
    sheet.prove((line.n, "missing", "it was sent, and is not there") for line in lacking)
    found.findings += [
        Finding(frame, f"somebody has changed its {what} there since it arrived")
        for frame, what in sorted(found.theirs)
    ]
    return found


def _of_list(sheet: Worksheet, account: Listing, keeps: Fidelity, how: How, found: Proven) -> Iterator[Proof]:
    with ThreadPoolExecutor(_READERS) as pool:
        known = ((line, shown) for shown in account.frames() if (line := sheet.line_of(shown.id)) is not None)
        for some in portions(known, _ENTERED // 5):
            yield from pool.map(partial(_one_of_list, account=account, keeps=keeps, how=how, found=found), some)


def _one_of_list(pair: tuple[Line, Shown], account: Listing, keeps: Fidelity, how: How, found: Proven) -> Proof:
    line, shown = pair
    assert line.sent is not None
    found.frames, found.files, found.bytes = found.frames + 1, found.files + len(shown.files), found.bytes + shown.bytes
    amiss = list(_amiss(line, shown, keeps, found))
    if not amiss and _is_read(line.n, how):
        for file in shown.files:
            found.read += 1
            if file.sha256 and digest_there(partial(account.open_file, file, 0, ""), file.bytes) != file.sha256:
                amiss.append(f"what is had of {file.name} there is not what the service says that it has")
    return line.n, "amiss" if amiss else "proven", "; ".join(amiss)


def _amiss(line: Line, shown: Shown, keeps: Fidelity, found: Proven) -> Iterator[str]:
    """What a destination shows otherwise than it was sent, and otherwise than it said beforehand."""
    assert line.sent is not None
    name = line.shown.files[0].name
    if line.sent.already:  # it is somebody's own there, with whatever that one said of it
        if shown.files[0].sha256 != line.sent.files[0].sha256:
            yield "it lay there, and is another one by now"
        return
    if len(shown.files) != len(line.sent.files):
        yield f"{len(line.sent.files)} files were sent, and {len(shown.files)} are there"
    is_reduced = keeps.stores == "reduced" and line.shown.kind != "video"
    for sent, there in zip(line.sent.files, shown.files, strict=False):
        if is_reduced:
            if there.sha256 != sent.sha256:
                found.findings.append(Finding(name, "it arrived reduced, as was foreseen"))
        elif shown.reduced and there.sha256 != sent.sha256:
            yield f"it arrived reduced ({there.bytes:,} bytes of {sent.bytes:,}), and that was not foreseen"
        elif there.bytes != sent.bytes or (there.sha256 and there.sha256 != sent.sha256):
            yield f"{there.bytes:,} bytes are there that are not the {sent.bytes:,} that were sent"
    there_called = shown.files[0].name
    changed = list(differences(line.sent.told, shown.told, keeps))
    if line.was_proven:  # what is said of it there since is somebody's own word
        found.theirs.update((name, what) for what in changed)
        return
    if keeps.names and there_called != name:
        yield f"it is called {there_called} there"
    for what in changed:
        if what == "taken":
            yield f"it is dated {shown.told.taken or 'not at all'} there, and was sent as {line.sent.told.taken}"
        else:
            yield f"its {what} did not arrive as it was sent"


def _why_amiss(file: SentFile, lying: tuple[int, str] | None) -> str:
    """What is wrong with a file by the list of what lies there; "" where nothing is."""
    if lying is None:
        return ""  # it is asked for
    if lying[0] != file.bytes:
        return f"{file.at} has {lying[0]:,} bytes of {file.bytes:,}"
    if not file.read_back and _MD5.fullmatch(lying[1]) and lying[1] != file.etag:
        return f"{file.at} is listed with another digest than was sent"
    return ""


def _is_theirs(line: Line, file: SentFile) -> bool:
    """Whether what is said of a frame there is somebody else's word by now: it had arrived as it was sent."""
    return line.was_proven and file.role == "sidecar"


def _is_read(number: int, how: How) -> bool:
    return how == "all" or (how == "sample" and number % SAMPLE == 1)


@dataclass(frozen=True)
class _Judged:
    """A frame as the list of what lies there has it, and whether it is to be fetched back."""

    line: Line
    proof: Proof
    to_read: bool


def _of_tree(sheet: Worksheet, account: Tree, into: str, how: How, found: Proven) -> Iterator[Proof]:
    """By a new list of all that lies there: sizes, and digests of what was not read back when it was put there."""
    scratch = sqlite3.connect("", check_same_thread=False)  # a table that outgrows memory goes to a file by itself
    scratch.execute("CREATE TABLE lying (path TEXT PRIMARY KEY, bytes INTEGER, etag TEXT) WITHOUT ROWID")
    for some in portions(lying_below(account, into), _ENTERED):
        scratch.executemany(
            "INSERT OR REPLACE INTO lying VALUES (?, ?, ?)", ((one.path, one.bytes, one.etag) for one in some)
        )

    def judged(line: Line) -> _Judged:
        assert line.sent is not None
        lying = [
            scratch.execute("SELECT bytes, etag FROM lying WHERE path = ?", (file.at,)).fetchone()
            for file in line.sent.files
        ]
        amiss = []
        for file, one in zip(line.sent.files, lying, strict=True):
            if why := _why_amiss(file, one):
                if _is_theirs(line, file):
                    found.theirs.add((line.shown.id, file.role))
                else:
                    amiss.append(why)
        found.frames += line.amount.frames
        found.files += sum(one is not None for one in lying)
        found.bytes += sum(one[0] for one in lying if one is not None)
        if line.sent.files[0].name != line.shown.files[0].name:
            found.findings.append(Finding(line.shown.id, f"it is called {line.sent.files[0].name} there"))
        found.findings += [
            Finding(line.shown.id, f"its {file.role} is {file.name} there, as another file is {file.instead}")
            for file in line.sent.files[1:]
            if file.instead
        ]
        unsure = any(
            one is None or (not file.read_back and not _MD5.fullmatch(one[1]))  # a list may lag behind
            for file, one in zip(line.sent.files, lying, strict=True)
        )
        return _Judged(
            line, (line.n, "amiss" if amiss else "proven", "; ".join(amiss)), unsure or _is_read(line.n, how)
        )

    def read(judged: _Judged) -> Proof:
        line, (number, state, why) = judged.line, judged.proof
        assert line.sent is not None
        if not judged.to_read or state != "proven":
            return number, state, why
        for file in line.sent.files:
            found.read += 1
            read = digest_there(partial(account.open, Inside(file.at), 0, ""), file.bytes)
            if read is None:
                return number, "missing", f"{file.at} is not there"
            if read == file.sha256:
                continue
            if not _is_theirs(line, file):
                return number, "amiss", f"{file.at} is not what was sent"
            found.theirs.add((line.shown.id, file.role))
        return number, state, why

    with ThreadPoolExecutor(_READERS) as pool:
        for some_judged in portions(map(judged, sheet.lines("sent", "proven", "amiss")), _ENTERED // 5):
            yield from pool.map(read, some_judged)
    scratch.close()
