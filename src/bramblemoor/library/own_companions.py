"""What the library itself keeps among the companions, as templates and lists: written and entered at once, so that nobody else
seems to have changed it."""

import hashlib
from pathlib import Path

from bramblemoor.disk.durable import write_atomically
from bramblemoor.library.catalogue import NewFile, enter_file
from bramblemoor.library.home import Library


def write_companion(library: Library, relative: str, content: bytes) -> Path:
    """Write a whole file below companions/, durably; the caller holds the library."""
    place = library.root / relative
    write_atomically(place, content)
    digest = hashlib.sha256(content).hexdigest()
    with library.ledger.changing(facts=True) as db:
        enter_file(db, None, NewFile("companion", relative, len(content), digest, place.stat().st_mtime_ns))
    return place
