"""Out and back, the way back: what somebody made of lent copies is joined to their frames, and only ever added.

Words become the user's own, as `tell` enters them; an editor's instructions come into the sidecar; a picture that was worked on
comes beside its original, as a rendition. What did not come back is listed.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from io import FileIO
from pathlib import Path

from bramblemoor.depots.register.records import open_books
from bramblemoor.disk.durable import digest_of
from bramblemoor.disk.file_systems import flush_files
from bramblemoor.disk.names import collision_key
from bramblemoor.errors import NotPossible
from bramblemoor.frames.claims import SEVERAL, Claim, Facts, Field, believe
from bramblemoor.frames.fields import FIELDS
from bramblemoor.frames.kinds import ending_of, is_sidecar, stem_of
from bramblemoor.frames.moments import now_utc
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import FileSource
from bramblemoor.frames.xmp_edits import believed_text
from bramblemoor.frames.xmp_fragments import instructions
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_reading import packet_in, read_xmp
from bramblemoor.intake.lending import Lending, Lent, image_digest, keep_list, lent_as
from bramblemoor.intake.listing import Lying, list_source
from bramblemoor.library.catalogue import NewFile, claims_of, enter_file, is_bound
from bramblemoor.library.home import Library
from bramblemoor.library.receipts import NOTHING, Amount, Finding, Kept, LeftOut, Receipt, stamp, write_receipt
from bramblemoor.library.receiving import Here, copy_in, find_here, free_paths, is_right, mend_here
from bramblemoor.library.renewing import take_up_all
from bramblemoor.library.sayings import Word
from bramblemoor.library.sidecars import packet_of_frame, take_up_edits, write_sidecar
from bramblemoor.library.taken_in import frame_of
from bramblemoor.library.telling import tell_each
from bramblemoor.library.telling_runs import goes_on
from bramblemoor.running import Pace, Progress, Stage

_TOLD = tuple(field.claim for field in FIELDS if field.properties and field.form in ("text", "number"))
"""Single values that are taken up. Dates and positions are not: programs that write copies often change how those stand."""
_MOST_IN_MEMORY = 256 << 20


@dataclass
class Back:
    """What lies in a folder that came back, by what it is. `words` and `looks` are by frame, as are `renditions`."""

    lending: Lending
    came_in: Amount = NOTHING
    words: dict[int, list[Word]] = field(default_factory=dict)
    looks: dict[int, bytes] = field(default_factory=dict)
    renditions: list[tuple[int, Lying, str]] = field(default_factory=list)
    """Frame, what came, and the path that it is to have in the library."""
    hurt: list[tuple[Here, str, Lying]] = field(default_factory=list)
    """What is missing or damaged here, with its digest, and where a good one came back."""
    unchanged: Amount = NOTHING
    joined: Amount = NOTHING
    here: Amount = NOTHING
    left: list[LeftOut] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    returned: set[str] = field(default_factory=set)
    """Names of copies that came back."""

    @property
    def nothing_new(self) -> bool:
        return not (self.words or self.looks or self.renditions or self.hurt)

    @property
    def newly_back(self) -> list[Lent]:
        return [one for one in self.lending.out if one.name in self.returned]

    @property
    def still_out(self) -> list[Lent]:
        return [one for one in self.lending.out if one.name not in self.returned]


def look_back(library: Library, lending: Lending, folder: Path, progress: Progress) -> Back:
    """Look what came back, and what it is to become; changes nothing. Raises WrongUse where there is no such folder."""
    listing = list_source(folder, ())
    back = Back(lending)
    planned: set[str] = set()
    for number, lying in enumerate(listing.files, 1):
        back.came_in += Amount(0, 1, lying.bytes)
        try:
            _sort_in(library, back, folder, lying, planned)
        except OSError as error:
            _leave(back, lying, f"it cannot be read ({error.strerror})", attention=True)
        progress(Stage("looking at what came back", "files"), number, len(listing.files))
    back.findings += listing.findings
    return back


def take_back_in(
    library: Library, back: Back, folder: Path, progress: Progress, pace: Pace
) -> tuple[Receipt, Receipt | None]:
    """Join it; the caller holds the library. Returns the receipt, and that of what was told, if anything was.

    It may be killed at any moment, and begun again. Raises NotPossible where a picture cannot be copied.
    """
    books = open_books(library, "lend")
    added = _add_renditions(library, back, folder, progress)
    _mend(library, back, folder)
    _add_looks(library, back)
    told = None
    if back.words or goes_on(library):
        told = tell_each(library, back.words, f"what came back from {back.lending.name}", progress, pace)
    today = stamp(now_utc())[:10]
    out = back.still_out
    for one in back.newly_back:
        one.back = today
    keep_list(library, back.lending)
    about = {"lent as": back.lending.name, "from": folder.name}
    if told is not None:
        about["words"] = f"receipt {told.number}"
    kept = [
        Kept("joined as renditions", added), Kept("their words and instructions", back.joined),
        Kept("nothing new in them", back.unchanged), Kept("here already", back.here),
    ]  # fmt: skip
    seen, library.seen[:] = list(library.seen), []
    if out:
        back.findings.append(Finding("still out", f"{len(out):,} of {len(back.lending.frames):,} have not come back"))
    kept = [one for one in kept if one.amount.files]
    receipt = books.receipt([], back.came_in, kept, back.left, [*back.findings, *seen], about)
    write_receipt(library.receipts, receipt)
    return receipt, told


def _leave(back: Back, lying: Lying, why: str, *, attention: bool = False) -> None:
    back.left.append(LeftOut(lying.path, why, Amount(0, 1, lying.bytes)))
    if attention:
        back.findings.append(Finding(lying.path, why, attention=True))


def _sort_in(library: Library, back: Back, folder: Path, lying: Lying, planned: set[str]) -> None:
    place, amount = folder / lying.path, Amount(0, 1, lying.bytes)
    is_packet = is_sidecar(lying.name)
    if not is_packet and not ending_of(lying.name):
        _leave(back, lying, "it is neither a picture nor XMP")
        return
    of = lent_as(back.lending, lying.name)
    if len(of) != 1:
        what = "no copy that was lent is called so" if not of else f"it may be of {of[0].name} or of {of[1].name}"
        _leave(back, lying, what, attention=True)
        return
    lent = of[0]
    frame = frame_of(library.db, lent.original)
    if frame is None:
        _leave(back, lying, f"its frame, {lent.path}, is not in the library any more", attention=True)
        return
    if is_bound(library.db, frame[0]):
        _leave(back, lying, "its year is bound; to take it in: unbind, and then again", attention=True)
        return
    try:
        packet = packet_in(place) if is_packet else None
        said = [(claim.field, claim.value) for claim in (_said_in(place) if packet is None else read_xmp(packet))]
    except BrokenXmp as error:
        _leave(back, lying, f"it cannot be read ({error})", attention=True)
        return
    back.returned.add(lent.name)
    news = _note_words(library, back, frame[0], lent, said)
    if packet is not None:
        news |= _note_look(library, back, frame[0], lent, packet)
    if is_packet or _is_same_image(place, lying, lent):
        if news:
            back.joined += amount
        else:
            back.unchanged += amount
    elif (here := find_here(library, digest := digest_of(place))) is not None:
        back.here += amount
        if here.hurt:
            back.hurt.append((here, digest, lying))
    else:
        path = _path_for(
            library, frame[0], stem_of(lying.name)[len(stem_of(lent.name)) :] or f"-{back.lending.name}", place
        )
        if collision_key(path) in planned:
            _leave(back, lying, f"another file there is to be {path}, too", attention=True)
            return
        planned.add(collision_key(path))
        back.renditions.append((frame[0], lying, path))


def _said_in(place: Path) -> list[Claim]:
    """What a picture says of itself in its XMP."""
    with FileSource(place) as source:
        return [claim for claim in read_picture(source).claims if claim.source == "xmp"]


def _is_same_image(place: Path, lying: Lying, lent: Lent) -> bool:
    return lying.bytes <= _MOST_IN_MEMORY and image_digest(place.read_bytes()) == lent.image


def _note_words(library: Library, back: Back, frame: int, lent: Lent, said: Sequence[tuple[str, str]]) -> bool:
    """What was said anew of a frame; where it was told otherwise here meanwhile, that stays, and both are named."""
    facts = believe(claims_of(library.db, frame))
    words = back.words.setdefault(frame, [])
    before = len(words)
    for name in _TOLD:
        came = next((value for said_of, value in said if said_of == name), "")
        went = next((value for said_of, value in lent.says if said_of == name), "")
        now = believed_text(name, facts)
        if not came or came in (went, now) or (name, came) == ("rating", "0"):  # 0 is not rated (ISO 16684-1, 8.2.2.1)
            continue
        if now != went:
            back.findings.append(Finding(
                lent.path, f"{name}: {came!r} came back, but it was told otherwise here meanwhile: {now!r}, and that stays"
            ))  # fmt: skip
        else:
            words.append(Word(name, came))
    for name in ("keyword", "person"):
        _note_list(back, facts, lent, name, [value for said_of, value in said if said_of == name], words)
    words[:] = list(dict.fromkeys(words))
    if not words:
        del back.words[frame]
    return len(words) > before


def _note_list(back: Back, facts: Facts, lent: Lent, name: Field, came: list[str], words: list[Word]) -> None:
    here, went = SEVERAL[name](facts), [value for said_of, value in lent.says if said_of == name]
    for value in came:
        if value in here or value in went:
            continue
        words.append(Word(name, value))
    gone = [value for value in went if value not in came and value in here] if came else []
    if gone:
        back.findings.append(Finding(
            lent.path, f"{name}: {', '.join(map(repr, gone))} did not come back, and stays; to take it away: bramblemoor unsay"
        ))  # fmt: skip


def _note_look(library: Library, back: Back, frame: int, lent: Lent, packet: bytes) -> bool:
    look, otherwise = instructions(packet, beside=packet_of_frame(library, frame))
    for space in otherwise:
        back.findings.append(Finding(
            lent.path, f"an editor's instructions ({space}) came back, but others stand in its sidecar, and those stay",
            attention=True,
        ))  # fmt: skip
    if look is not None:
        back.looks[frame] = look
    return look is not None


def _path_for(library: Library, frame: int, added: str, place: Path) -> str:
    """Where a rendition goes: beside its original, called as that, with what was added to the name behind it."""
    folder, name = library.db.execute("SELECT folder, name FROM frames WHERE id = ?", (frame,)).fetchone()
    wanted = stem_of(name) + added + ending_of(place.name)
    return free_paths(library, folder, {0: wanted}, {0: digest_of(place)}, lambda _: False)[0]


def _add_renditions(library: Library, back: Back, folder: Path, progress: Progress) -> Amount:
    """Copy each picture to its place, read it back, and enter it."""
    added = NOTHING
    for number, (frame, lying, path) in enumerate(back.renditions, 1):
        source, target = folder / lying.path, library.root / path
        mtime_ns = library.db.execute(
            "SELECT mtime_ns FROM files WHERE frame = ? AND role = 'original'", (frame,)
        ).fetchone()[0]
        try:
            sha256 = copy_in(library, source, path, mtime_ns)
        except OSError as error:
            raise NotPossible(
                f"{lying.path} could not be copied to {path} ({error.strerror}).",
                "Put that right, and give the same command again: it goes on.",
            ) from error
        with FileSource(target) as opened:
            reading = read_picture(opened)
        with library.ledger.changing(facts=True) as db:
            enter_file(db, frame, NewFile(
                "clip" if reading.kind == "video" else "rendition", path, lying.bytes, sha256, mtime_ns, reading.media,
                reading.width, reading.height, lying.name if lying.name != target.name else "",
            ))  # fmt: skip
        added += Amount(0, 1, lying.bytes)
        progress(Stage("joining renditions", "files"), number, len(back.renditions))
    return added


def _mend(library: Library, back: Back, folder: Path) -> None:
    for here, sha256, lying in back.hurt:
        try:
            if not mend_here(library, here, sha256, partial(FileIO, folder / lying.path), f"lend {back.lending.name}"):
                raise OSError(0, "it has changed")
            with library.ledger.changing() as db:
                is_right(db, here.file)
            back.findings.append(Finding(here.path, f"it was {here.hurt} here, and is mended by {lying.path}"))
        except OSError as error:
            why = f"it is {here.hurt} here, and could not be mended by {lying.path} ({error.strerror})"
            back.findings.append(Finding(here.path, why, attention=True))


def _add_looks(library: Library, back: Back) -> None:
    if not back.looks:
        return
    written: list[Path] = []
    take_up_all(library, back.looks)
    with library.ledger.changing(facts=True):
        for frame, look in back.looks.items():
            take_up_edits(library, frame)
            path = write_sidecar(library, frame, where_different=True, also=[look])
            written += [path] if path is not None else []
        flush_files(written, library.root)
