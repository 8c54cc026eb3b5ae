"""Templates of file names in dialects: how a sidecar's name comes from its picture's. docs/dialects.md tells the language.

`{stem + '-facts' | replace '.' '_' | cut 30 bytes}{counter}.txt`: words and quoted texts joined by `+`, then steps.
"""

import html
import re
import unicodedata
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from urllib.parse import quote

from bramblemoor.frames.kinds import ending_of, is_of_another_kind

WORDS = ("folder", "parent", "stem", "ending", "name", "suffix", "counter", "number", "position")
_TOKEN = re.compile(r"\s*(?:'([^']*)'|([A-Za-z]+)|(\d+)|([+|]))")
_UNITS = ("characters", "bytes", "units")
_PLAIN_STEPS = ("lower", "upper", "html", "percent", "composed", "decomposed")


class BadTemplate(ValueError):
    """A template that does not follow the language; the message says where."""


@dataclass(frozen=True)
class _Step:
    name: str
    arguments: tuple[str, ...] = ()

    def run(self, text: str) -> str:
        if self.name == "replace":
            return text.replace(self.arguments[0], self.arguments[1])
        if self.name == "cut":
            return cut(text, int(self.arguments[0]), self.arguments[1])
        if self.name == "pad":
            return text.rjust(int(self.arguments[0]), "0")
        return _PLAIN[self.name](text)


_PLAIN: dict[str, Callable[[str], str]] = {
    "lower": str.lower,
    "upper": str.upper,
    "html": lambda text: html.escape(text, quote=True),
    "percent": lambda text: quote(text, safe=""),
    "composed": lambda text: unicodedata.normalize("NFC", text),
    "decomposed": lambda text: unicodedata.normalize("NFD", text),
}


@dataclass(frozen=True)
class _Piece:
    """Words (in braces in the source) or quoted texts, and what is done to them joined."""

    terms: tuple[tuple[bool, str], ...]
    steps: tuple[_Step, ...] = ()

    def render(self, words: Mapping[str, str]) -> str:
        text = "".join(words.get(term, "") if is_word else term for is_word, term in self.terms)
        for step in self.steps:
            text = step.run(text)
        return text


class Template:
    """A parsed template. Raises BadTemplate."""

    def __init__(self, source: str) -> None:
        self.source = source
        self._pieces: list[_Piece] = []
        for number, text in enumerate(re.split(r"\{([^{}]*)\}", source)):
            if number % 2:
                self._pieces.append(_piece(text))
            elif "{" in text or "}" in text:
                raise BadTemplate(f"a brace has no partner in {source!r}")
            elif text:
                self._pieces.append(_Piece(((False, text),)))

    def render(self, words: Mapping[str, str]) -> str:
        return "".join(piece.render(words) for piece in self._pieces)

    def has_word(self, word: str) -> bool:
        return any((True, word) in piece.terms for piece in self._pieces)

    def parser(self, suffixes: Iterable[str], counter: str) -> re.Pattern[str]:
        """A pattern that takes a name apart into the groups stem, suffix, counter (with its digits in n) and ending.

        `counter` is written like "~{n}", and "" where the service has none. Steps play no part in it.
        """
        groups = {
            "stem": "(?P<stem>.+?)",
            "suffix": f"(?P<suffix>(?:{'|'.join(map(re.escape, suffixes))})?)",
            "counter": f"(?P<counter>(?:{re.escape(counter).replace(re.escape('{n}'), '(?P<n>[0-9]+)')})?)"
            if counter
            else "(?P<counter>)(?P<n>)",
            "ending": r"(?P<ending>(?:\.[^.]*?)?)",
        }
        terms = [term for piece in self._pieces for term in piece.terms]
        if (True, "stem") not in terms:
            raise BadTemplate(f"{self.source!r} must have the stem")
        try:
            return re.compile("".join(groups[term] if word else re.escape(term) for word, term in terms), re.DOTALL)
        except (KeyError, re.error):
            raise BadTemplate(f"{self.source!r} must have stem, suffix, counter and ending at most once each") from None


def _piece(source: str) -> _Piece:
    tokens: list[tuple[str, str]] = []
    at = 0
    source = source.rstrip()
    while at < len(source):
        match = _TOKEN.match(source, at)
        if match is None:
            raise BadTemplate(f"{source[at:]!r} was not understood")
        kind = ("text", "word", "number", "sign")[(match.lastindex or 1) - 1]
        tokens.append((kind, match[match.lastindex or 1]))
        at = match.end()
    groups: list[list[tuple[str, str]]] = [[]]
    for token in tokens:
        if token == ("sign", "|"):
            groups.append([])
        else:
            groups[-1].append(token)
    terms = []
    for place, (kind, value) in enumerate(groups[0]):
        if place % 2 != (kind == "sign") or kind == "number":
            raise BadTemplate(f"in {{{source}}}, words and quoted texts are joined by +")
        if kind == "word" and value not in WORDS:
            raise BadTemplate(f"{value!r} is no word of the language; they are {', '.join(WORDS)}")
        if kind != "sign":
            terms.append((kind == "word", value))
    if not terms or groups[0][-1][0] == "sign":
        raise BadTemplate("there is nothing between the braces")
    return _Piece(tuple(terms), tuple(_step(group, source) for group in groups[1:]))


def _step(tokens: list[tuple[str, str]], source: str) -> _Step:
    name, arguments = (tokens[0][1] if tokens else ""), tuple(value for _, value in tokens[1:])
    kinds = [kind for kind, _ in tokens[1:]]
    if name == "replace" and kinds == ["text", "text"] and arguments[0]:
        return _Step(name, arguments)
    if name == "cut" and kinds == ["number", "word"] and arguments[1] in _UNITS:
        return _Step(name, arguments)
    if name == "pad" and kinds == ["number"] and int(arguments[0]) <= 20:
        return _Step(name, arguments)
    if name in _PLAIN_STEPS and not kinds:
        return _Step(name)
    raise BadTemplate(
        f"in {{{source}}}, the step {' '.join(value for _, value in tokens)!r} was not understood; steps are"
        f" replace 'a' 'b', cut N characters|bytes|units, pad N, {', '.join(_PLAIN_STEPS)}"
    )


def cut(text: str, most: int, unit: str) -> str:
    """The beginning of a text, at most so many characters, UTF-8 bytes or UTF-16 units; half a character is left out."""
    if unit == "characters":
        return text[:most]
    coding = "utf-8" if unit == "bytes" else "utf-16-le"
    return text.encode(coding)[: most * (1 if unit == "bytes" else 2)].decode(coding, "ignore")


def folded(name: str) -> str:
    """What two spellings of a name have in common.

    Case, composition, HTML entities, what stands for half a character, spaces around a step, and dots at its end do not count.
    """
    plain = html.unescape(unicodedata.normalize("NFC", name)).replace("�", "").replace("?", "")
    plain = plain.lower() if plain.isascii() else _caseless(plain)
    return "/".join(step.rstrip(". ").lstrip(" ") for step in plain.split("/"))


def _caseless(text: str) -> str:
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", text).casefold())


def last_step(told: str) -> str:
    """The name at the end of what a record tells, which may be a path of some computer."""
    return told.replace("\\", "/").rpartition("/")[2]


def loose(name: str) -> str:
    """What is left of a name whatever a service put in place of signs."""
    return "".join(filter(str.isalnum, name))


def true_name(told: str, delivered: str, ending: str) -> str:
    """The name that a record tells: its last step, but where slashes are part of the name itself, as the delivered name shows.

    It ends as the picture that was delivered does, `ending`, where it has no such ending, or that of another format.
    """
    last = last_step(told)
    name = told if last != told and loose(told) == loose(delivered) != loose(last) else last
    if not ending_of(name):
        return name + ending_of("_" + ending)
    return name.removesuffix(ending_of(name)) + ending if is_of_another_kind(name, "_" + ending) else name
