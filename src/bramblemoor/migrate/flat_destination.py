"""Where a collection goes: to a flat service, in its fields, and inside of copies where it has none."""

import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial

from bramblemoor.disk.told import Inside
from bramblemoor.frames.chunks import read_png
from bramblemoor.frames.claims import believe
from bramblemoor.frames.embedding import with_packet
from bramblemoor.frames.jpeg import read_jpeg
from bramblemoor.frames.reading import read_picture
from bramblemoor.frames.source import MemorySource
from bramblemoor.frames.xmp_model import BrokenXmp
from bramblemoor.frames.xmp_writing import without_own
from bramblemoor.migrate.fidelity import EMBEDDED, can_embed, fitted, is_told
from bramblemoor.migrate.sending import BREAKS, Destination, Filled, Sent, SentFile, Try, broken, of_bytes, packet_of
from bramblemoor.migrate.sources import Gone, Source, told_of
from bramblemoor.services.interface import Content, FrameUploads, Listing
from bramblemoor.services.moving import Changed, Outgoing, Shown, ShownFile, Told
from bramblemoor.wire.http import ConnectionBroke


class _Counted:
    """A file's content on its way: hashed, and begun anew where its source broke off."""

    def __init__(self, source: Source, file: ShownFile) -> None:
        self._source, self._file = source, file
        self.digest = hashlib.sha256()

    @contextmanager
    def pieces(self) -> Iterator[Iterator[bytes]]:
        self.digest = hashlib.sha256()
        with self._source.content(self._file) as pieces:
            yield self._seen(pieces)

    def _seen(self, pieces: Iterator[bytes]) -> Iterator[bytes]:
        for piece in pieces:
            self.digest.update(piece)
            yield piece

    def read_through(self) -> None:
        with self.pieces() as pieces:
            for _ in pieces:
                pass

    def require_same(self) -> None:
        """Raise Gone where what came is not what the source said that it is."""
        if self._file.sha256 and self.digest.hexdigest() != self._file.sha256:
            raise Gone(f"{self._file.name} is not what the source says: its digest is another one")

    @property
    def sha256(self) -> str:
        self.require_same()
        return self.digest.hexdigest()


class FlatDestination(Destination):
    """A service without folders: what is known goes into its fields, and the rest inside of copies where it can."""

    def __init__(self, name: str, account: FrameUploads, *, embed: bool) -> None:
        self.name, self._account, self._embed = name, account, embed
        self.keeps = account.fidelity()

    def held(self) -> Iterator[tuple[str, str]] | None:
        if not isinstance(self._account, Listing):
            return None
        original = self.keeps.stores == "original"
        return (
            (shown.id, shown.files[0].sha256 if original and not shown.reduced else "")
            for shown in self._account.frames()
        )

    def send(self, key: str, place: str, frame: Shown, albums: Sequence[str], source: Source, try_: Try) -> Sent:
        files = [file for file in frame.files if file.role == "original" or file.role in self.keeps.roles]
        told = fitted(frame.told, self.keeps)
        # Of an earlier try perhaps only the answer was lost.
        known = self._account.sent(key) if try_.begun else None
        try_.begin(key)
        for _ in range(BREAKS):
            try:
                return self._send(key, frame, files, told, source, known)
            except (ConnectionBroke, Changed) as error:
                why = broken(frame.files[0], error)
        raise Gone(why)

    def _send(
        self, key: str, frame: Shown, files: Sequence[ShownFile], told: Told, source: Source, known: Shown | None
    ) -> Sent:
        """Send it, or where it is `known` there only work out what was sent."""
        counted = [_Counted(source, file) for file in files]
        altered, inside = self._altered(frame, counted[0])
        outgoing: list[tuple[Outgoing, Content]] = [
            (Outgoing(file.role, Inside(file.name), file.bytes, file.sha256), one.pieces)
            for file, one in zip(files, counted, strict=True)
        ]
        if altered is not None:
            outgoing[0] = (Outgoing("original", Inside(files[0].name), len(altered)), partial(of_bytes, altered))
        if known is None:
            shown = self._account.send(key, frame, outgoing, told)
        else:
            shown = known
            for one in counted:
                one.read_through()
        sent = []
        for number, (file, one) in enumerate(zip(files, counted, strict=True)):
            whole, size = one.sha256, file.bytes
            if number == 0 and altered is not None:
                whole, size = hashlib.sha256(altered).hexdigest(), len(altered)
            there = shown.files[number] if number < len(shown.files) else None
            name, at = (there.name, there.at) if there else ("", "")
            sent.append(SentFile(file.role, name, size, whole, file.bytes, one.sha256, at))
        return Sent(shown.id, tuple(sent), told, inside)

    def _altered(self, frame: Shown, original: _Counted) -> tuple[bytes | None, tuple[str, ...]]:
        """A copy of the original with what the destination has no field for inside, and which fields; None where none is made."""
        wanted = [field for field in EMBEDDED if field not in self.keeps.fields and is_told(frame.told, field)]
        if not (wanted and self._embed and self.keeps.embedded and can_embed(frame)):
            return None, ()
        with original.pieces() as pieces:
            content = b"".join(pieces)
        original.require_same()
        return _with_known(content, frame, wanted)

    def put_albums(self, key: str, albums: Iterable[Filled], former: Mapping[str, SentFile]) -> dict[str, SentFile]:
        for album, frames in albums:
            if not frames:
                continue
            made = self._account.make_album(f"{key}:{album.id}", album)
            self._account.put_in_album(made.id, [there for there, _ in frames])
        return {}


def _with_known(content: bytes, frame: Shown, wanted: Sequence[str]) -> tuple[bytes | None, tuple[str, ...]]:
    """A copy with what the destination has no field for inside, and which fields those are; None where the file says it all."""
    said = told_of(believe(read_picture(MemorySource(content)).claims))
    lacking = tuple(field for field in wanted if getattr(said, field) != getattr(frame.told, field))
    if not lacking:
        return None, ()
    there = read_jpeg(MemorySource(content)) if content.startswith(b"\xff\xd8") else read_png(MemorySource(content))
    try:
        packet = packet_of(frame, (), there.xmp[0] if there.xmp else None)
    except BrokenXmp:
        return None, ()  # nobody's words are taken out, whatever they are
    altered = with_packet(content, without_own(packet)) if packet is not None else None
    return (altered, lacking) if altered is not None else (None, ())
