"""unpack."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bramblemoor.cli import say
from bramblemoor.cli.common import AsJson, LibraryDir, holding, library_here, plain_name, single
from bramblemoor.cli.library.receipts import finish
from bramblemoor.errors import WrongUse
from bramblemoor.library.home import Library

if TYPE_CHECKING:
    from bramblemoor.exports.parcel import Parcel
    from bramblemoor.library.receipts import Receipt
    from bramblemoor.services.book import KnownOrder, KnownService
    from bramblemoor.services.bringing_home import Brought


def unpack(
    order: Annotated[
        str | None,
        typer.Argument(metavar="[ORDER]", help="Which order; the latest collected if not given.", show_default=False),
    ] = None,
    folder: Annotated[
        Path | None,
        typer.Option(
            "--from", metavar="FOLDER", help="Unpack parts that were fetched by other means.", show_default=False
        ),
    ] = None,
    dialect: Annotated[
        str,
        typer.Option(
            metavar="NAME|FILE",
            help="With --from: how the parts are written, a name or a file; guessed from their names if not given.",
        ),
    ] = "",
    service: Annotated[
        str,
        typer.Option(metavar="NAME", help="With --from: the service they came from; the dialect's name if not given."),
    ] = "",
    without: Annotated[
        list[str] | None,
        typer.Option(
            metavar="PART",
            help="File what is here although this part is not, by number or name; unpack again when it is.",
        ),
    ] = None,
    remove_parts: Annotated[
        bool, typer.Option("--remove-parts", help="Remove collected parts once the books balance.")
    ] = False,
    library_dir: LibraryDir = None,
    json: AsJson = False,
) -> None:
    """File the pictures of an export by date, with titles, captions, people, locations and albums. All parts as one.

    Ends with 1 where something of it is to be seen to, although the books balance.
    """
    from bramblemoor.exports.dialect import load_dialect
    from bramblemoor.exports.parcel import guess_dialect, parcel_at
    from bramblemoor.exports.unpack import apart
    from bramblemoor.exports.unpack import unpack as file_parcel
    from bramblemoor.services.book import order_named, orders

    library = library_here(library_dir)
    with holding(library):
        if folder is not None:
            known = load_dialect(dialect, library.dialects) if dialect else guess_dialect(folder)
            name = plain_name("service", service or known.name)

            def work(order: str) -> Path:
                return library.incoming(name, plain_name("order", order))

            parcel = apart(library, parcel_at(folder, name, known, work, order or "", without or ()), work)
        else:
            waiting = {known.state for known in orders(library)} & {"collected", "ready", "preparing", "asked"}
            chosen = order_named(library, order, ("collected", "ready") if waiting else ("unpacked",))
            if chosen.state == "unpacked":
                _say_done(chosen, json=json)
                return
            parcel = _collected_parcel(library, chosen, without or ())
        with say.meter() as progress:
            receipt = file_parcel(library, parcel, progress)
        if receipt.balanced and folder is None and remove_parts and not parcel.without:
            remove_collected(parcel)
    if not json and receipt.balanced:
        _say_where(library, parcel, kept=folder is None and not remove_parts)
    finish(receipt, json=json, attention=to_see_to(receipt))


def _say_done(chosen: "KnownOrder", *, json: bool) -> None:
    if json:
        say.as_json({"order": chosen.id, "state": chosen.state, "nothing_to_do": True})
    else:
        say.line(f"{chosen.id} was unpacked already. Its account: bramblemoor receipt list.")


def unpack_order(library: Library, chosen: "KnownOrder") -> "Receipt":
    """Unpack a collected order, and remove its parts where the books balance."""
    from bramblemoor.exports.unpack import unpack as file_parcel

    parcel = _collected_parcel(library, chosen)
    with say.meter() as progress:
        receipt = file_parcel(library, parcel, progress)
    if receipt.balanced:
        remove_collected(parcel)
    return receipt


def unpack_folder(library: Library, known: "KnownService", found: "Brought", about: str) -> "Receipt":
    """Unpack a tree of files that was fetched."""
    from bramblemoor.exports.dialect import load_dialect
    from bramblemoor.exports.parcel import Parcel
    from bramblemoor.exports.unpack import unpack as file_parcel

    dialect = load_dialect(known.dialect, library.dialects)
    parcel = Parcel(
        known.name, found.fetch, dialect, (found.folder,), library.incoming(known.name, found.fetch),
        about=(("fetched", about),), is_whole=False, digests=found.digests,
    )  # fmt: skip
    with say.meter() as progress:
        return file_parcel(library, parcel, progress)


def to_see_to(receipt: "Receipt") -> bool:
    """Whether something of an unpacking needs attention: a frame that did not come, or a finding that somebody must judge."""
    return any(left.amount.frames or not left.amount.files for left in receipt.left_out) or any(
        one.attention for one in receipt.findings
    )


def remove_collected(parcel: "Parcel") -> None:
    for part in parcel.parts:
        part.unlink()
    parcel.work.rmdir()


def _collected_parcel(library: Library, chosen: "KnownOrder", without: Sequence[str] = ()) -> "Parcel":
    """The parcel of an order, once every part but those `without` is here and sound. Raises PartsAmiss naming those that are
    not.
    """
    from bramblemoor.errors import PartsAmiss
    from bramblemoor.exports.dialect import load_dialect
    from bramblemoor.exports.parcel import Parcel, require_sound
    from bramblemoor.services.book import service_named
    from bramblemoor.services.collect import part_is_sound

    if not chosen.parts:
        raise PartsAmiss(f"No part of {chosen.id} was collected yet.", "Fetch them: bramblemoor collect.")
    work = library.incoming(chosen.service, chosen.id)
    left_out = [part for part in chosen.parts if {part.name, str(part.number)} & set(without)]
    parts = [part for part in chosen.parts if part not in left_out]
    if len(left_out) < len(without) or not parts:
        raise WrongUse(
            f"{chosen.id} has no such part to leave out, or no other.",
            f"It has: {', '.join(part.name for part in chosen.parts)}.",
        )
    require_sound([(part.name, part_is_sound(library, chosen.id, part, work / part.name)) for part in parts])
    held = chosen.statement
    left = [album.title for album in held.albums if not album.ordered]
    scope = f"{held.frames:,} of the account's {held.account_frames:,} frames were ordered"
    if left:
        scope += f"; {len(left)} of {len(held.albums)} albums were not ordered ({', '.join(left)})"
    return Parcel(
        service=chosen.service,
        order=chosen.id,
        dialect=load_dialect(service_named(library, chosen.service).dialect, library.dialects),
        parts=tuple(work / part.name for part in parts),
        work=work,
        frames_said=held.frames,
        about=(("ordered", scope),),
        is_whole=held.frames == held.account_frames and not left_out,
        without=tuple(part.name for part in left_out),
    )


def _say_where(library: Library, parcel: "Parcel", *, kept: bool) -> None:
    say.line(
        f"Unpacked {parcel.order} into {library.root.name}/pictures, albums and delivered/{parcel.service}/{parcel.order}."
    )
    if kept:
        held = sum(part.stat().st_size for part in parcel.parts)
        where = parcel.work.relative_to(library.root)
        say.line(f"Its parts ({say.size(held)}) are still in {where}; they may be deleted once backups exist.")
    say.line()


COMMANDS = {"unpack": single("unpack", unpack)}
