"""tell, unsay, takeback."""

import re
from collections.abc import Sequence
from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from bramblemoor.cli import say
from bramblemoor.cli.asking import require_consent, some_meant
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, single, stoppable, whose
from bramblemoor.cli.library.frame_page import frame_document
from bramblemoor.cli.library.receipts import end_stopped, finish, finish_told, named_receipt, run_document
from bramblemoor.cli.library.tell_options import (
    AddNames,
    AddWords,
    Apply,
    ClockOff,
    DryRun,
    Frames,
    Location,
    PlaceNames,
    Position,
    Rating,
    Taken,
    TakeNames,
    TakeTemplate,
    TakeWords,
    Text,
    TimeZone,
    TrackFile,
    Yes,
)  # fmt: skip
from bramblemoor.cli.options import selecting
from bramblemoor.errors import WrongUse
from bramblemoor.frames.kinds import sidecar_of

if TYPE_CHECKING:
    from bramblemoor.frames.claims import Field
    from bramblemoor.library.home import Library
    from bramblemoor.library.receipts import Receipt
    from bramblemoor.library.sayings import Word
    from bramblemoor.library.selection import Selected, Selection
    from bramblemoor.library.telling import Plan


_WHICH = "Name one; or say which, as --where shoot='2026-05*' (every frame is '*')."


@selecting(by_where=True)
def tell(
    frames: Frames = None,
    title: Text = None,
    caption: Text = None,
    taken: Taken = None,
    clock: ClockOff = None,
    time_zone: TimeZone = None,
    location: Location = None,
    position: Position = None,
    keyword: AddWords = None,
    person: AddNames = None,
    no_keyword: TakeWords = None,
    no_person: TakeNames = None,
    rating: Rating = None,
    favourite: Annotated[bool | None, typer.Option("--favourite/--no-favourite", show_default=False)] = None,
    label: Text = None,
    creator: Text = None,
    rights: Text = None,
    terms: Annotated[
        str | None, typer.Option(metavar="TEXT", help="The terms on which they may be used.", show_default=False)
    ] = None,
    place_names: PlaceNames = False,
    track: TrackFile = None,
    template: Apply = None,
    no_template: TakeTemplate = None,
    dry_run: DryRun = False,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Say what you know of frames. Your word is believed before all others, and theirs are kept.

    Of one frame, or of many: tell --where shoot='2026-05*' --keyword reeds. Of many a plan is shown first. An empty text takes
    what was said away: a title, caption, position, rating, ... and of --taken your own word, so that the camera's counts again.
    A clock that was off, for all of one camera: tell --where camera=M7 --clock +1h.

    The pictures themselves are not touched: what you say goes into the XMP beside them, and takeback takes it back.
    """
    said: list[tuple[Field, str | None]] = [
        ("title", title), ("caption", caption), ("location", location),
        ("taken", _moment(taken)), ("position", _position(position)), ("rating", _stars(rating)),
        ("label", label), ("creator", creator), ("rights", rights), ("terms", terms),
        ("favourite", None if favourite is None else "yes" if favourite else ""),
        *_named("keyword", keyword), *_named("person", person),
        *_away("keyword", no_keyword), *_away("person", no_person), *_away("template", no_template),
    ]  # fmt: skip
    if sum(one is not None for one in (taken, clock, time_zone)) > 1:
        raise WrongUse("A date is told in one way at a time.", "Give one of --taken, --clock and --time-zone.")
    words = _words([(field, value.strip()) for field, value in said if value is not None])
    words += [*_dating(clock, time_zone), *_placing(track, place_names=place_names)]
    if not words and not template:
        raise WrongUse(
            "Nothing was said.", "Say at least one thing, as --title TEXT; bramblemoor tell --help lists all."
        )
    for word in (word for word in keyword or [] if word.startswith("-")):
        say.note(
            f"The keyword {word!r} is added as it stands; to take one away:"
            f" bramblemoor unsay {' '.join(map(quote, frames or ['FRAME']))} --keyword {quote(word[1:])}"
        )
    words = [*_of_templates(template or [], library_dir), *words]
    _tell(some_meant(frames, selection, _WHICH), words, library_dir, dry_run=dry_run, yes=yes, json=json)


@selecting(by_where=True)
def unsay(
    frames: Frames = None,
    keyword: Annotated[
        list[str] | None, typer.Option(metavar="TEXT", help="Take one away; may be given again.")
    ] = None,
    person: Annotated[list[str] | None, typer.Option(metavar="NAME", help="Take one away; may be given again.")] = None,
    dry_run: DryRun = False,
    yes: Yes = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
    *,
    selection: "Selection",
) -> None:
    """Take keywords and people away from frames, whoever said them. They stay away, though a service says them again.

    To say one again: tell. What others said is kept in the ledger. To take a title, caption or location away: tell, with an
    empty text.
    """
    words = _words([*_away("keyword", keyword), *_away("person", person)])
    if not words:
        raise WrongUse("Nothing was named.", "Name what to take away, as --keyword TEXT or --person NAME.")
    _tell(
        some_meant(frames, selection, _WHICH),
        words,
        library_dir,
        dry_run=dry_run,
        yes=yes,
        json=json,
        must_be_there=True,
    )


def takeback(
    number: Annotated[
        int | None,
        typer.Argument(
            metavar="[NUMBER]", help="Which receipt's changes; the latest if not given.", show_default=False
        ),
    ] = None,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """Take back what a run has told of frames, or moved, by its receipt. What was told otherwise since stays so, and is named.

    It has a receipt of its own, by which the same can be done again.
    """
    from bramblemoor.library.dated import MOVED, plan_back
    from bramblemoor.library.rearranging import carry_out
    from bramblemoor.library.telling import take_back
    from bramblemoor.library.telling_runs import taken_back
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace()
    with holding(library) as ended, stoppable(pace), say.meter() as progress:
        if ended is not None:
            finish(ended, json=json, attention=bool(ended.left_out))
            return
        resumed = taken_back(library)
        taken = named_receipt(library, resumed or number)
        if taken.run == "takeback" and not (
            resumed or number
        ):  # given again, as behind a run that was killed when all was done
            _end_taken_back(taken, json=json)
            return
        if taken.run in MOVED:
            receipt = carry_out(library, plan_back(library, taken), progress)
        else:
            receipt = take_back(library, taken, progress, pace)
    if pace.stopped:
        end_stopped("What was done is accounted for; the same command goes on with the rest.", receipt, json=json)
    finish_told(receipt, json=json)


def _end_taken_back(receipt: "Receipt", *, json: bool) -> None:
    if json:
        say.as_json(run_document(receipt, did_nothing=True))
        return
    say.line(f"What was told last is taken back already, by receipt {receipt.number}: {receipt.about['taken back']}.")
    say.line(
        f"To have it told again: bramblemoor takeback {receipt.number}. To take back an earlier one, give its number."
    )


def _words(said: "Sequence[tuple[Field, str]]") -> "list[Word]":
    from bramblemoor.library.sayings import Word

    return [Word(field, value) for field, value in said]


def _tell(
    selection: "Selection", words: "list[Word]", library_dir: Path | None, *, dry_run: bool, yes: bool, json: bool,
    must_be_there: bool = False,
) -> None:  # fmt: skip
    """Tell one frame at once, several once they were looked at."""
    from bramblemoor.library.selection import select
    from bramblemoor.library.telling import go_on, plan, tell
    from bramblemoor.library.telling_runs import goes_on
    from bramblemoor.running import Pace

    library = library_here(library_dir)
    pace = Pace()
    with holding(library), stoppable(pace):
        if goes_on(library):
            with say.meter() as progress:
                receipt = go_on(library, selection, words, progress, pace)
            finish_told(receipt, json=json)
            return
        selected = select(library, selection)
        alone = selected.count == 1
        with say.meter() as progress:
            planned = plan(selected, words, progress)
        if must_be_there:
            _require_there(selected, planned, alone=alone)
        if alone and not dry_run:
            _require_open(planned)
        if not alone or dry_run:
            anything = not dry_run and any(one.new for one in planned.words)
            if not (json and anything):  # then the receipt is the one document
                _print_plan(library, selected, planned, json=json)
            if not anything:
                _end_of_looking(planned, dry_run=dry_run, json=json)
                return
            require_consent(
                "Go on?",
                f"That would be told of {say.many(selected.count, 'frame')}",
                yes=yes,
                undone="Nothing was told.",
            )
        number = next(selected.frames())
        with say.meter() as progress:
            receipt = tell(library, selected, words, progress, pace)
    if pace.stopped:
        end_stopped("What was told is told; the same command goes on with the rest.", receipt, json=json)
    if alone:
        _end_of_one(library, number, words, receipt, json=json)
    else:
        finish_told(receipt, json=json)


def _end_of_one(library: "Library", number: int, words: "list[Word]", receipt: "Receipt", *, json: bool) -> None:
    """What became of the one frame that was told. Raises WrongUse where it was left as it was."""
    if receipt.left_out:
        raise WrongUse(
            f"{receipt.left_out[0].name} was left as it is: {receipt.left_out[0].reason}.",
            "Open that year first: bramblemoor unbind YEAR.",
        )
    unwritten = [finding for finding in receipt.findings if finding.attention]
    document = frame_document(library, number)
    if json:
        say.as_json(document)
    else:
        say.line(f"{document['path']}:")
        for word in words:
            say.line(word.said(), inward=2)
        places = "the ledger" if unwritten else f"the ledger and to {sidecar_of(document['path'].rpartition('/')[2])}"
        say.line(f"Written to {places}. All that is known: bramblemoor show {number}")
        if receipt.changes:
            say.line(f"To take it back: bramblemoor takeback {receipt.number}")
    for finding in unwritten:
        say.note(f"{finding.name}: {finding.what}.")
    if unwritten:
        raise typer.Exit(1)


def _require_open(planned: "Plan") -> None:
    for year in planned.bound:
        raise WrongUse(
            f"{year} is bound: its frames do not change, and none come in.",
            f"Open it first: bramblemoor unbind {year}.",
        )


def _require_there(selected: "Selected", planned: "Plan", *, alone: bool) -> None:
    """Raise WrongUse for a word that no frame has: it may be misspelled."""
    from bramblemoor.frames.claims import TAKEN_AWAY
    from bramblemoor.library.dossier import dossier

    for one in planned.words:
        if one.new or planned.bound:
            continue
        what = TAKEN_AWAY[one.word.field]
        if not alone:
            raise WrongUse(f"None of {selected.said} has the {what} {one.word.value!r}.", "Nothing was changed.")
        facts = dossier(selected.library, next(selected.frames())).facts
        listed = ", ".join(facts.keywords if what == "keyword" else facts.people) or "none"
        name = selected.selection.frames[0] if selected.selection.frames else "The frame"
        raise WrongUse(f"{name} has no {what} {one.word.value!r}.", f"It has: {listed}. Nothing was changed.")


def _print_plan(library: "Library", selected: "Selected", planned: "Plan", *, json: bool) -> None:
    from bramblemoor.library.selection import as_document

    if json:
        say.as_json({
            "of": as_document(selected.selection), "frames": selected.count,
            "words": [
                {"field": one.word.field, "value": one.word.value, "frames_new": one.new, "frames_replaced": one.replaces,
                 "frames_already": one.there}
                for one in planned.words
            ],
            "bound_years": [{"year": year, "frames": count} for year, count in planned.bound.items()],
        })  # fmt: skip
        return
    say.line(f"{selected.said} in {whose(library)}:")
    say.table(
        ("to be told", "frames", "instead of another", "so already"),
        [(one.word.said(), say.dash(one.new), say.dash(one.replaces), say.dash(one.there)) for one in planned.words],
        right=(1, 2, 3),
        wraps=0,
    )
    if cannot := max((one.cannot for one in planned.words), default=0):
        say.line(
            f"{say.many(cannot, 'frame')} will stay as before in this: it is not known of them, or they need it not."
        )
    for year, count in sorted(planned.bound.items()):
        say.line(f"{say.many(count, 'frame')} will stay as before: {year} is bound (bramblemoor unbind {year}).")


def _end_of_looking(planned: "Plan", *, dry_run: bool, json: bool) -> None:
    """Nothing is told: it was only to be looked at, or all is so already, or may not be changed."""
    if not dry_run and not json:
        say.line("There is nothing to do.")
    if planned.bound and not dry_run:
        raise typer.Exit(1)


def _dating(clock: str | None, time_zone: str | None) -> "list[Word]":
    """What is said of dates that depends on the frame."""
    from bramblemoor.frames.moments import parse_offset, parse_shift, written_offset, written_shift
    from bramblemoor.library.sayings import Clock, Zone

    if clock is not None:
        by = parse_shift(clock)
        if by is None:
            raise WrongUse(f"{clock!r} is no amount of time.", "Write +1h, -30m, +26d5h or +01:00.")
        return [Clock("taken", written_shift(by), by)]
    if time_zone is not None:
        minutes = parse_offset(time_zone)
        if minutes is None or not -12 * 60 <= minutes <= 14 * 60:
            raise WrongUse(f"{time_zone!r} is no time zone.", "Write its offset from UTC, as +01:00 or Z.")
        return [Zone("taken", written_offset(minutes), minutes)]
    return []


def _placing(track: Path | None, *, place_names: bool) -> "list[Word]":
    """What is said of where frames were taken that depends on the frame."""
    from bramblemoor.library.sayings import OnTrack, PlaceName

    found: list[Word] = []
    if track is not None:
        from bramblemoor.frames.tracks import read_track

        found.append(OnTrack("position", track.name, read_track(track)))
    if place_names:
        found.append(PlaceName("location", ""))
    return found


def _of_templates(names: list[str], library_dir: Path | None) -> "list[Word]":
    """What templates say, and that they were applied."""
    from bramblemoor.library.metadata_templates import words_of_templates

    return words_of_templates(library_here(library_dir), names) if names else []


def _stars(written: str | None) -> str | None:
    if written is not None and written not in ("", "0", "1", "2", "3", "4", "5"):
        raise WrongUse(f"{written!r} is no rating.", "Write 0 to 5; an empty text takes it away.")
    return written


def _named(field: Literal["keyword", "person", "template"], values: list[str] | None) -> "list[tuple[Field, str]]":
    """Keywords or people as they were given. Raises WrongUse for an empty one."""
    found = [value.strip() for value in values or []]
    if "" in found:
        raise WrongUse(
            f"An empty {field} says nothing.",
            f"Give it a text; to take one away: bramblemoor unsay FRAME --{field} TEXT.",
        )
    return [(field, value) for value in found]


def _away(field: Literal["keyword", "person", "template"], values: list[str] | None) -> "list[tuple[Field, str]]":
    from bramblemoor.frames.claims import TAKEN_AWAY_BY

    return [(TAKEN_AWAY_BY[field], value) for _, value in _named(field, values)]


def _moment(written: str | None) -> str | None:
    from bramblemoor.frames.moments import moment_told

    if not written:
        return written
    moment = moment_told(re.sub(r"^(\d{4}-\d\d-\d\d)$", r"\1T12:00:00", written).replace(" ", "T"))
    if moment is None:
        raise WrongUse(
            f"{written!r} is no date.", "Write it as 2026-05-09T14:30:00, with +01:00 or Z behind it where known."
        )
    return str(moment)


def _position(written: str | None) -> str | None:
    from bramblemoor.frames.claims import parse_position, written_position

    if not written:
        return written
    where = parse_position(written)
    result = written_position(*where) if where else None
    if result is None:
        raise WrongUse(
            f"{written!r} is no position.", "Write degrees of latitude and longitude, as 54.652519,2.133957."
        )
    return result


COMMANDS = {"tell": single("tell", tell), "unsay": single("unsay", unsay), "takeback": single("takeback", takeback)}
