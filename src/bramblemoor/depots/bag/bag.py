"""BagIt bags (RFC 8493): manifests and tag files of a depot."""

import io
import re
from collections.abc import Collection, Iterable, Iterator
from contextlib import suppress
from heapq import merge
from unicodedata import normalize

from bramblemoor import __version__
from bramblemoor.depots.bag.line import LINE
from bramblemoor.depots.bag.run_lists import Sums
from bramblemoor.depots.kinds.interface import PAYLOAD, Store
from bramblemoor.disk.durable import TEMPORARY
from bramblemoor.disk.names import AMBIGUOUS, DEPOT_MARK, LITTER, collision_key
from bramblemoor.disk.told import Inside, inside_or_none

MANIFEST, TAG_MANIFEST, INFO = "manifest-sha256.txt", "tagmanifest-sha256.txt", "bag-info.txt"
_ENCODED = re.compile("%(0D|0A|25)", re.IGNORECASE)
DECLARATION = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
TAG_FOLDERS = ("readings", "receipts", "runs", "earlier")


def manifest_line(digest: str, path: str) -> bytes:
    """A line of a manifest; 2.1.3: CR and LF in paths are percent-encoded, and so is a percent sign that could be mistaken.

    Others stay as they are: `sha256sum -c` knows no such encoding, and readers of bags undo only these three.
    """
    encoded = AMBIGUOUS.sub("%25", path).replace("\r", "%0D").replace("\n", "%0A")
    return f"{digest}  {encoded}\n".encode()


def read_manifest(store: Store, name: str = MANIFEST) -> Iterator[tuple[Inside, str]]:
    """(path, digest) of each line, in file order; lines that cannot be one are skipped (the tag manifest finds them)."""
    if store.stat(name) is not None:
        with io.BufferedReader(store.open(name)) as file:
            yield from parsed(file)


def parsed(lines: Iterable[bytes]) -> Iterator[tuple[Inside, str]]:
    """The same of a manifest's lines. A path that leads out of the bag is nobody's, and skipped like any other bad line."""
    for raw in lines:
        digest, _, name = raw.decode("utf-8", "replace").rstrip("\n").partition("  ")
        if len(digest) == 64 and name:
            path = inside_or_none(_ENCODED.sub(lambda found: chr(int(found[1], 16)), name) if "%" in name else name)
            if path is not None:
                yield path, digest.lower()


def payload(store: Store) -> Iterator[tuple[Inside, str]]:
    """(path in data/, digest) of each line of the payload manifest."""
    for path, digest in read_manifest(store):
        if path.startswith(f"{PAYLOAD}/"):
            yield Inside(path.removeprefix(f"{PAYLOAD}/")), digest


def write_manifest(store: Store, sums: Sums, *, afresh: bool = False) -> int:
    """Write the payload manifest anew: its lines with the changes of `sums`, or (`afresh`) nothing but those.

    Returns how many lines it has.
    """
    kept = () if afresh else ((path, digest) for path, digest in read_manifest(store) if path not in sums)
    lines = 0
    with store.replacing(MANIFEST) as file:
        for path, digest in merge(kept, sums.items()):
            file.write(manifest_line(digest, path))
            lines += 1
    return lines


def read_oxum(store: Store) -> tuple[int, int] | None:
    """Bytes and files of the payload as bag-info.txt has them; None where it does not say, or is damaged."""
    with suppress(OSError, ValueError):
        for line in store.content(INFO).decode().splitlines() if fits(store, INFO) else ():
            if line.startswith("Payload-Oxum: "):
                size, _, count = line.partition(": ")[2].partition(".")
                return int(size), int(count)
    return None


def info(library: str, description: str, oxum: tuple[int, int], date: str, more: str = "") -> bytes:
    """bag-info.txt (2.2.2); `more` are further lines."""
    return (
        f"Bag-Software-Agent: Bramblemoor {__version__}\nBagging-Date: {date}\n"
        f"External-Identifier: {_one_line(library)}\nExternal-Description: {_one_line(description)}\n"
        f"Payload-Oxum: {oxum[0]}.{oxum[1]}\n{more}"
    ).encode()


def _one_line(text: str) -> str:
    """A value as a line of bag-info.txt can hold it."""
    return " ".join("".join(letter if letter.isprintable() else " " for letter in text).split())


def write_tags(
    store: Store, library: str, name: str, oxum: tuple[int, int], date: str, fresh: Collection[str] = ()
) -> None:
    """Write bagit.txt, bag-info.txt and the tag manifest. `oxum` is (bytes, files) of the payload (2.2.2, Payload-Oxum).

    `fresh` names tag files that were just written: what the tag manifest says of others stays, so that rot shows.
    """
    if store.stat("bagit.txt") is None or store.content("bagit.txt") != DECLARATION:
        store.put_small("bagit.txt", DECLARATION)
    store.put_small(INFO, info(library, f"Copy of the library {name}", oxum, date))
    known: dict[str, str] = dict(read_manifest(store, TAG_MANIFEST))
    lines = []
    for path in sorted(tag_files(store)):
        settled = path not in fresh and path.startswith(tuple(f"{folder}/" for folder in TAG_FOLDERS))
        digest = known[path] if settled and path in known else store.digest(path)
        lines.append(manifest_line(digest, path))
    store.put_small(TAG_MANIFEST, b"".join(lines))


def tag_files(store: Store) -> Iterator[str]:
    """Every tag file that the tag manifest lists: all but itself (2.2.1), earlier versions included."""
    for name in ("bagit.txt", INFO, MANIFEST, DEPOT_MARK, LINE):
        if _is_listed(store, name):
            yield name
    for folder in TAG_FOLDERS:
        for path in store.listed(folder):
            name = path.rpartition("/")[2]
            if name not in LITTER and not name.endswith(TEMPORARY) and _is_listed(store, path):
                yield path


def _is_listed(store: Store, path: str) -> bool:
    """Whether a tag file lies there; one that cannot be looked at stays in the list, so that verifying tells of it."""
    try:
        return store.stat(path) is not None
    except OSError:
        return True


def _as_written(store: Store, name: str) -> bool:
    """Whether each line of a manifest is as we write it: a flipped bit may make it say the same in other letters, or nothing."""
    with io.BufferedReader(store.open(name)) as file:
        return all([manifest_line(digest, name) for name, digest in parsed([raw])] == [raw] for raw in file)


SUSPECT = "it is not as it was left: what it says of the files that are named here may be wrong"


def amiss_tags(store: Store, as_left: str = "") -> Iterator[tuple[str, str]]:
    """(path, what is wrong) for each tag file that is missing or does not match the tag manifest.

    `as_left` is the digest of the tag manifest when it was last written, where that is known: where something does not fit and
    it is another now, the tag manifest is suspect itself.
    """
    listed = wrong = False
    for path, digest in read_manifest(store, TAG_MANIFEST):
        listed = True
        if (what := _amiss(store, path, digest)) is not None:
            yield path, what
            wrong = True
    if not listed or not _as_written(store, TAG_MANIFEST):
        yield TAG_MANIFEST, "missing or damaged"
    elif wrong and as_left and store.digest(TAG_MANIFEST) != as_left:
        yield TAG_MANIFEST, SUSPECT


def _amiss(store: Store, path: str, digest: str) -> str | None:
    try:
        if store.stat(path) is None:
            return "missing"
        return None if store.digest(path) == digest else "damaged"
    except OSError as error:
        return f"unreadable ({error.strerror or error})"


def fits(store: Store, name: str) -> bool:
    """Whether a tag file is what the tag manifest says, as far as that says anything of it."""
    listed: dict[str, str] = dict(read_manifest(store, TAG_MANIFEST))
    said = listed.get(name)
    return said is None or store.stat(name) is None or store.digest(name) == said


def payload_strays(store: Store) -> Iterator[str]:
    """Payload files that the manifest does not list (3: they make the bag incomplete), but for what systems leave there.

    Names are compared after normalisation (6.1.1.3), and where the drive does not tell case apart, without it.
    """

    def key(path: str) -> str:
        return collision_key(path) if folds_case else normalize("NFC", path)

    folds_case = store.traits.folds_case
    with Sums() as listed:
        for path, digest in read_manifest(store):
            listed.set(key(path), digest)
        yield from (
            lies for lies in store.listed(PAYLOAD) if lies.rpartition("/")[2] not in LITTER and key(lies) not in listed
        )
