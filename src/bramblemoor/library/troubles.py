"""What is wrong with a file at some place: a value to decide by, of which a sentence is made at the end."""

from dataclasses import dataclass
from typing import Literal

Kind = Literal["missing", "unlisted", "damaged", "unreadable", "different", "nowhere", "unwritable"]
_SAID: dict[Kind, str] = {
    "missing": "it is missing",
    "unlisted": "it is not there",
    "damaged": "its content is not what it was",
    "unreadable": "it cannot be read",
    "different": "a different file is there; it was left as it is",
    "nowhere": "no good copy of it is within reach",
    "unwritable": "it could not be written",
}


@dataclass(frozen=True)
class Trouble:
    """`place` is where it was met, "" where that is clear; `detail` is what the system says of it."""

    kind: Kind
    place: str = ""
    detail: str = ""

    def said(self) -> str:
        where = f"at {self.place}, " if self.place else ""
        return f"{where}{_SAID[self.kind]}{f' ({self.detail})' if self.detail else ''}"
