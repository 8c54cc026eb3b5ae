"""service survey, and service powers."""

from typing import TYPE_CHECKING, Any

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, library_here
from bramblemoor.cli.exports.signed_in import Patience, WhichService, sign_in

if TYPE_CHECKING:
    from bramblemoor.services.interface import Survey


def survey(
    name: WhichService = None,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """See what an account holds before ordering anything."""
    from bramblemoor.services.book import service_named
    from bramblemoor.services.interface import Tree

    library = library_here(library_dir)
    known = service_named(library, name)
    account = sign_in(library, known, patience)
    found = account.survey()
    if json:
        import msgspec

        held: dict[str, Any] = msgspec.to_builtins(found.statement)
        held["reduced_copies"] = held.pop("reduced")
        years = [{"year": int(year) if year else None, "frames": count} for year, count in held.pop("years").items()]
        albums = [{"title": one.title, "frames": one.frames} for one in found.albums]
        more = {"years": years, "albums": albums, "room": found.room}
        if isinstance(account, Tree):
            more |= {"folders": msgspec.to_builtins(found.folders), "files": found.files, "sidecars": found.sidecars,
                     "shown_twice": found.twice}  # fmt: skip
        say.as_json({"service": known.name, "called": found.service} | held | more)
        return
    if not isinstance(account, Tree):
        _print_survey(found)
        say.line("Next: bramblemoor order (everything), or order --album TITLE, --since DATE, --kind photo.")
        return
    _print_tree(known.name, found)
    say.line(f"Next: bramblemoor compare library {known.name}, or bring it home: bramblemoor fetch {known.name}.")


def _print_survey(found: "Survey") -> None:
    held = found.statement
    say.line(f"{found.service} holds {say.many(held.frames, 'frame')}, {say.size(held.bytes)}.")
    rows = [
        ("photos", f"{held.photos:,}"),
        ("videos", f"{held.videos:,}"),
        ("originals", f"{held.frames - held.reduced:,}"),
        ("reduced copies", f"{held.reduced:,}" + ("  (the service kept no original of these)" if held.reduced else "")),
        ("oldest", _date(held.oldest)),
        ("newest", _date(held.newest)),
    ]
    for what, value in rows:
        say.line(f"  {what:<15} {value}")
    say.line()
    say.table(
        ("year", "frames"),
        [(year or "undated", f"{count:,}") for year, count in held.years.items()],
        right=(1,),
        indent=2,
    )
    say.line()
    albums = [(album.title, f"{album.frames:,}") for album in found.albums]
    say.table(("album", "frames"), albums, right=(1,), indent=2)
    together = sum(album.frames for album in found.albums)
    say.line(f"{say.many(len(albums), 'album')}; a frame may be in several ({together:,} entries in all).")


def _print_tree(name: str, found: "Survey") -> None:
    held = found.statement
    say.line(
        f"{name} holds {say.many(held.frames, 'frame')} in {say.many(found.files, 'file')}, {say.size(held.bytes)}."
    )
    rows = [
        ("photos", f"{held.photos:,}"),
        ("videos", f"{held.videos:,}"),
        ("sidecars", f"{found.sidecars:,}"),
        ("other files", f"{found.files - held.frames - found.sidecars:,}"),
    ]
    if found.twice:
        rows.append(("shown twice", f"{found.twice:,}  (at another path once more, as in a list; counted once)"))
    rows.append(("room left", say.size(found.room) if found.room is not None else "it does not say"))
    for what, value in rows:
        say.line(f"  {what:<15} {value}")
    say.line()
    say.table(
        ("folder", "frames", "files", "size"),
        [
            (one.path or "(not in a folder)", f"{one.frames:,}", f"{one.files:,}", say.size(one.bytes))
            for one in found.folders
        ],
        right=(1, 2, 3),
        indent=2,
    )


def powers_of(
    name: WhichService = None,
    patience: Patience = 60,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """See what a service can do, and what it keeps of what it is sent, before anything is done.

    Where that is not known beforehand it is tried, in a small folder that is removed again.
    """
    from bramblemoor.cli.anywhere.telling import print_fidelity, said_of
    from bramblemoor.services.book import service_named
    from bramblemoor.services.interface import Uploads

    library = library_here(library_dir)
    known = service_named(library, name)
    account = sign_in(library, known, patience)
    found = account.powers()
    keeps = account.fidelity() if isinstance(account, Uploads) else None
    if json:
        can = [{"power": what, "is_there": is_so, "how": how} for what, is_so, how in found.can]
        kept = [{"what": what, "how": how} for what, how in said_of(keeps)] if keeps is not None else []
        say.as_json({"service": known.name, "powers": can, "keeps": kept})
        return
    say.line(f"What {known.name} can do:")
    say.table(
        ("", "", ""), [(what, "yes" if is_so else "no", how) for what, is_so, how in found.can], wraps=2, indent=2
    )
    if keeps is None:
        say.line(f"Nothing can be sent to {known.name}.")
    else:
        print_fidelity(known.name, keeps)


def _date(written: str | None) -> str:
    return f"{written[:10]} {written[11:16]} UTC" if written else "unknown"
