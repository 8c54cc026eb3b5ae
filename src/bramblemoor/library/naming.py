"""What shoots and their pictures are called: the templates of an intake. docs/formats.md tells the template language."""

import re
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime

from bramblemoor.disk.names import safe_name
from bramblemoor.errors import NotPossible

_WORD = re.compile(r"\{(\w*)\}")
_OPTIONAL = re.compile(r"\[([^\[\]]*)\]")
_SHOOT_WORDS = ("year", "month", "day", "date", "stamp", "subject", "slug", "location")
_FRAME_WORDS = (*_SHOOT_WORDS, "time", "number", "name", "camera")
_DIGITS = 4


@dataclass(frozen=True)
class ShootName:
    """What is known of a shoot: its day, its subject, and the location where that is told."""

    day: date
    subject: str
    location: str = ""

    def words(self) -> dict[str, str]:
        return {
            "year": f"{self.day.year:04}", "month": f"{self.day:%m}", "day": f"{self.day:%d}",
            "date": self.day.isoformat(), "stamp": self.day.isoformat().replace("-", ""),
            "subject": self.subject, "slug": slug(self.subject), "location": self.location,
        }  # fmt: skip


def shoot_folder(template: str, shoot: ShootName) -> str:
    """The folder of a shoot, relative to the library. Raises NotPossible for a template that cannot be."""
    filled = _filled(template, shoot.words(), _SHOOT_WORDS, "shoot")
    steps = [safe_name(step) for step in filled.split("/") if step.strip()]
    if not steps:
        raise _unusable(template, "shoot", "gives no folder")
    return "/".join(["pictures", *steps])


def frame_stem(template: str, shoot: ShootName, number: int, *, name: str, camera: str, taken: datetime | None) -> str:
    """What the files of a frame are called before their endings. `name` is what the camera called it, without its ending."""
    words = shoot.words() | {
        "time": f"{taken:%H%M%S}" if taken else "", "number": f"{number:0{_DIGITS}}", "name": name, "camera": slug(camera),
    }  # fmt: skip
    filled = _filled(template, words, _FRAME_WORDS, "frame")
    if "/" in filled:
        raise _unusable(template, "frame", "leads into another folder")
    stem = safe_name(filled)
    if not filled.strip():
        raise _unusable(template, "frame", "gives no name")
    return stem


def is_numbered(template: str) -> bool:
    """Whether a frame's name has its number in it."""
    return "{number}" in template


def number_in(template: str, shoot: ShootName, stem: str) -> int:
    """The number that a template has put into a frame's name; 0 where it was not called by the template, or has none."""
    if not is_numbered(template):
        return 0
    marked = shoot.words() | {"time": "\1", "name": "\1", "camera": "\1", "number": "\2"}
    pattern = re.escape(_filled(template, marked, _FRAME_WORDS, "frame"))
    match = re.fullmatch(pattern.replace("\1", ".*?").replace("\2", r"(\d+)"), stem)
    return int(match[1]) if match else 0


def parse_shoot(template: str, folder: str) -> ShootName | None:
    """What a folder, below pictures/, tells of a shoot by the template; None where it was not made by it.

    One that was made before anybody said what the shoot is of has no subject.
    """
    bare = "/".join(_closed_up(step) for step in template.replace("{subject}", "").replace("{slug}", "").split("/"))
    return _parsed(template, folder) or _parsed(bare, folder)


def _parsed(template: str, folder: str) -> ShootName | None:
    pattern = ""
    for part in re.split(r"(\[[^\[\]]*\])", template):
        inside = part[1:-1] if part.startswith("[") else part
        told = "".join(_group(word) if at % 2 else re.escape(word) for at, word in enumerate(_WORD.split(inside)))
        pattern += f"(?:{told})?" if part.startswith("[") else told
    try:
        match = re.fullmatch(_once(pattern), folder)
        if match is None:
            return None
        found = match.groupdict()
        stamp = found.get("stamp") or (found.get("date") or "").replace("-", "")
        if not stamp:
            stamp = "".join(found.get(word) or "01" for word in ("year", "month", "day"))
        day = date(int(stamp[:4]), int(stamp[4:6]), int(stamp[6:8]))
    except (re.error, ValueError):
        return None
    return ShootName(day, found.get("subject") or found.get("slug") or "", found.get("location") or "")


_PATTERNS = {"year": r"\d{4}", "month": r"\d\d", "day": r"\d\d", "date": r"\d{4}-\d\d-\d\d", "stamp": r"\d{8}"}


def _group(word: str) -> str:
    return f"(?P<{word}>{_PATTERNS.get(word, '[^/]+?')})"


def _once(pattern: str) -> str:
    """A pattern in which each word is a group the first time, and the same text again afterwards."""
    seen: set[str] = set()

    def again(match: re.Match[str]) -> str:
        if match[1] in seen:
            return f"(?P={match[1]})"
        seen.add(match[1])
        return match[0]

    return re.sub(r"\(\?P<(\w+)>[^)]*\)", again, pattern)


def changed_in_names(shoot: ShootName) -> list[str]:
    """Of a subject and a location those that no file system takes as they are, as "'AC/DC' becomes 'AC_DC'"."""
    return [
        f"{told!r} becomes {_one_step(told)!r}" for told in (shoot.subject, shoot.location) if told != _one_step(told)
    ]


def slug(text: str) -> str:
    """A text as part of a name that needs no quoting anywhere: small letters and digits of any script, joined by hyphens."""
    bare = "".join(
        letter for letter in unicodedata.normalize("NFKD", text.casefold()) if not unicodedata.combining(letter)
    )
    return re.sub(r"[\W_]+", "-", unicodedata.normalize("NFC", bare)).strip("-")


def _one_step(text: str) -> str:
    """A told text as it can stand in one step of a path."""
    return safe_name(text.replace("/", "_")) if text else ""


def _filled(template: str, words: Mapping[str, str], known: tuple[str, ...], what: str) -> str:
    """The template with its words filled in; of what stands in square brackets nothing where a word in it is empty."""
    for match in _WORD.finditer(template):
        if match[1] not in known:
            raise _unusable(template, what, f"has {match[0]}, which means nothing", known)

    def fill(text: str) -> str:
        return _WORD.sub(lambda match: _word(words[match[1]]), text)

    def optional(match: re.Match[str]) -> str:
        return fill(match[1]) if all(words[one[1]] for one in _WORD.finditer(match[1])) else ""

    filled = fill(_OPTIONAL.sub(optional, template))
    return filled if words["subject"] else "/".join(map(_closed_up, filled.split("/")))


def _closed_up(step: str) -> str:
    """A step of which a word was left out, without the gap that it leaves."""
    return re.sub(r"([-_ ])\1+|[-_ ](?=\[)", r"\1", step).strip("-_ ")


def _word(text: str) -> str:
    return text if text in ("\1", "\2") else _one_step(text)


def _unusable(template: str, what: str, why: str, known: tuple[str, ...] = ()) -> NotPossible:
    words = f"Use {', '.join('{' + word + '}' for word in known)}. " if known else ""
    return NotPossible(
        f"The naming template {template!r} {why}.", f"{words}It stands in bramblemoor.toml: [naming] {what}."
    )
