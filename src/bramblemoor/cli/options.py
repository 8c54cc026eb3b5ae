"""The one group of options that says which frames. A command takes it by the decorator `selecting`, and gets a Selection.

The same conditions can be said as WHAT=VALUE: where a command has options of these names for something else, and to leave
frames out.
"""

import inspect
import sys
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from bramblemoor.cli.common import bytes_of, know_stand_ins
from bramblemoor.errors import WrongUse

if TYPE_CHECKING:
    from bramblemoor.library.selection import Selection

_Words = list[str] | None


@dataclass(frozen=True)
class _Condition:
    """One condition: the option's name, the field of a Selection, what its value is called (none for a mark), and its help."""

    option: str
    field: str
    value: str
    help: str
    single: bool = False


_CONDITIONS = (
    _Condition("frame", "frames", "NAME", "These frames: names, paths, numbers, or globs."),
    _Condition("word", "words", "TEXT", "With this word, or one that begins so, in any of their texts."),
    _Condition("shoot", "shoots", "GLOB", "Of shoots whose folder fits, as '2026-05*'."),
    _Condition("album", "albums", "TEXT", "In an album with this in its title."),
    _Condition("year", "years", "YEARS", "Of these years: 2019, 2015-2019 or undated."),
    _Condition("since", "since", "DATE", "Taken on or after: 2026, 2026-05 or 2026-05-09.", single=True),
    _Condition("until", "until", "DATE", "Taken on or before.", single=True),
    _Condition("added-since", "added_since", "DATE", "That came into the library on or after.", single=True),
    _Condition("added-until", "added_until", "DATE", "That came into the library on or before.", single=True),
    _Condition("number", "numbers", "N[-N]", "Whose names end with this number: 12, or 12-40."),
    _Condition("near", "near", "LAT,LON,KM", "Taken within a circle: 54.65,2.13,5 is 5 km around.", single=True),
    _Condition("keyword", "keywords", "TEXT", "With a keyword like this."),
    _Condition("person", "people", "NAME", "Showing somebody of this name."),
    _Condition("location", "locations", "TEXT", "Taken at a location of this name."),
    _Condition("kind", "kinds", "KIND", "photo, video, or other."),
    _Condition("rating", "rating", "STARS", "Rated so or better.", single=True),
    _Condition("marked", "marked", "", "Marked to be culled."),
    _Condition("label", "labels", "TEXT", "With a label like this."),
    _Condition("creator", "creators", "TEXT", "By a creator like this."),
    _Condition("standing", "standings", "STATE", "Whose copies are sound, short, single, or lost."),
    _Condition("favourite", "favourite", "", "Favourites."),
    _Condition("reduced", "reduced", "", "Reduced copies."),
    _Condition("service", "services", "NAME", "That came from this service."),
    _Condition("camera", "cameras", "TEXT", "Taken by a camera like this."),
    _Condition("lens", "lenses", "TEXT", "Taken through a lens like this."),
    _Condition(
        "lacking", "lacking", "WHAT", "Lacking a title, caption, keyword, person, location, position, date, ..."
    ),
    _Condition("at-least", "at_least", "SIZE", "Originals of this size or more.", single=True),
    _Condition("at-most", "at_most", "SIZE", "Originals of this size or less.", single=True),
)
_OF_FILES = (
    _Condition("only", "only", "GLOB", "Only frames and files that fit."),
    _Condition("without", "without", "GLOB", "Not those that fit, as .* or companions/previews/"),
)
_BY_OPTION = {one.option: one for one in _CONDITIONS}
_PARAMETER = "{}_"
"""How a condition's parameter is called: a command may have one of the option's own name."""


def selecting(*, leave_out: tuple[str, ...] = (), by_where: bool = False) -> Callable[..., Any]:
    """Give a command the options; it is called with `selection`, and not with them.

    `leave_out` are conditions that it says otherwise; `by_where` says that all are told as WHAT=VALUE, since it has options of
    these names for what it does.
    """
    conditions = [one for one in _CONDITIONS if one.option not in leave_out and not by_where]
    more = [_told("where", "Only frames of which this holds, as keyword=reeds.")] if by_where else []
    more += [_told("not", "Not those of which this holds, as keyword=draft or favourite."), _LISTED]
    return _giving(conditions, more, "selection", _selection)


def choosing() -> Callable[..., Any]:
    """The same for what a depot gets: the command is called with `chosen`, the fields of its terms that were told, by name.

    Globs for files come to them, and frames are not named one by one. An empty word empties a field.
    """
    conditions = [one for one in _CONDITIONS if one.option != "frame"] + list(_OF_FILES)
    return _giving(conditions, [_told("not", "Not frames of which this holds, as keyword=draft.")], "chosen", _chosen)


def _giving(
    conditions: list[_Condition], more: list[inspect.Parameter], name: str,
    build: Callable[[Mapping[str, Any], Mapping[str, Any]], Any],
) -> Callable[..., Any]:  # fmt: skip
    """A decorator that gives a command the options of these conditions and `more`, and what is built of them as `name`."""

    def give(command: Callable[..., Any]) -> Callable[..., Any]:
        signature = inspect.signature(command)
        own = [one for one in signature.parameters.values() if one.name != name]
        added = [*(_parameter(one) for one in conditions), *more]

        @wraps(command)
        def run(*arguments: Any, **given: Any) -> Any:
            taken = {one.name: given.pop(one.name) for one in added}
            told = {one.option: taken.pop(_name(one)) for one in conditions}
            return command(*arguments, **given, **{name: build(told, taken)})

        run.__signature__ = signature.replace(parameters=[*own, *added])  # type: ignore[attr-defined]
        run.__annotations__ = {
            **{one: kind for one, kind in command.__annotations__.items() if one != name},
            **{one.name: one.annotation for one in added},
        }
        return run

    return give


def _name(condition: _Condition) -> str:
    return _PARAMETER.format(condition.option.replace("-", "_"))


def _parameter_of(name: str, kind: Any, option: Any, default: Any = None) -> inspect.Parameter:
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=Annotated[kind, option])


def _parameter(condition: _Condition) -> inspect.Parameter:
    name, option = _name(condition), f"--{condition.option}"
    if not condition.value:
        return _parameter_of(name, bool, typer.Option(option, help=condition.help), False)
    kind = str | None if condition.single else _Words
    return _parameter_of(
        name, kind, typer.Option(option, metavar=condition.value, help=condition.help, show_default=False)
    )


def _told(name: str, text: str) -> inspect.Parameter:
    return _parameter_of(
        f"{name}_", _Words, typer.Option(f"--{name}", metavar="WHAT=VALUE", help=text, show_default=False)
    )


_LISTED = _parameter_of(
    "frames_from",
    Path | None,
    typer.Option(
        "--frames-from", metavar="FILE", help="These frames: a list of paths, one a line; - reads it from a pipe.",
        show_default=False,
    ),
)  # fmt: skip


def _chosen(names: Mapping[str, Any], told: Mapping[str, Any]) -> dict[str, Any]:
    from bramblemoor.library.selection import Selection

    given = {option: _emptied(value) for option, value in names.items() if value is not None and value is not False}
    fields = _fields(given)
    if told["not_"] is not None:
        excepted = _parted([one for one in told["not_"] if one], "--not")
        fields["excepting"] = Selection(**_fields(excepted)) if excepted else None
    return fields


def _emptied(value: Any) -> Any:
    return [word for word in value if word] if isinstance(value, list) else value


def _selection(names: Mapping[str, Any], told: Mapping[str, Any]) -> "Selection":
    import msgspec

    from bramblemoor.library.selection import Selection, read_list

    given = {option: value for option, value in names.items() if value}
    for option, values in _parted(told.get("where_") or [], "--where").items():
        given[option] = values
    listed = told.get("frames_from")
    if listed is not None:
        text = sys.stdin.read() if str(listed) == "-" else listed.read_text(encoding="utf-8")
        names_there = read_list(text)
        if not names_there:
            raise WrongUse(
                "The list of frames is empty.", "Give paths, one a line, as bramblemoor find --paths prints them."
            )
        given["frame"] = [*(given.get("frame") or []), *names_there]
    selection = Selection(**_fields(given))
    excepted = _parted(told.get("not_") or [], "--not")
    if excepted:
        if "frame" in excepted:  # a name is a glob for the same name
            excepted["only"] = excepted.pop("frame")
        selection = msgspec.structs.replace(selection, excepting=Selection(**_fields(excepted)))
    _judged_by_depots(selection)
    return selection.checked()


def _judged_by_depots(selection: "Selection") -> None:
    """What copies amount to is known where depots are; the selection itself knows only the ledger."""
    if selection.standings or (selection.excepting is not None and selection.excepting.standings):
        from bramblemoor.depots.standing.standing import judge_all
        from bramblemoor.library.selection import judge_standings_by

        know_stand_ins()
        judge_standings_by(judge_all)


def _parted(told: list[str], option: str) -> dict[str, Any]:
    """WHAT=VALUE, parted. Raises WrongUse, with what can be said, for what is none."""
    found: dict[str, Any] = {}
    for one in told:
        what, is_given, value = one.partition("=")
        condition = _BY_OPTION.get(what)
        if condition is None or bool(condition.value) != bool(is_given and value):
            known = ", ".join(f"{each.option}={each.value}" if each.value else each.option for each in _CONDITIONS)
            raise WrongUse(f"{option} cannot take {one!r}.", f"Say one of {known}.")
        if condition.single and what in found:
            raise WrongUse(f"{option} was given {what} twice.", "Give it once.")
        found[what] = True if not condition.value else value if condition.single else [*found.get(what, []), value]
    return found


def _fields(given: Mapping[str, Any]) -> dict[str, Any]:
    """Options and their values as the fields of a selection."""
    fields: dict[str, Any] = {}
    for option, value in given.items():
        field = _BY_OPTION[option].field if option in _BY_OPTION else option
        if option in ("at-least", "at-most"):
            fields[field] = 0 if value in ("", "0") else bytes_of(value)
        elif option == "rating":
            fields[field] = _stars(value) if value else 0
        else:
            fields[field] = value
    return fields


def _stars(written: str) -> int:
    if written not in ("1", "2", "3", "4", "5"):
        raise WrongUse(f"{written!r} is no rating.", "Write 1 to 5.")
    return int(written)
