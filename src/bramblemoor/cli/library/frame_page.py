"""The page about one frame that `show` prints."""

from dataclasses import asdict
from typing import Any

from bramblemoor.cli import say
from bramblemoor.frames.claims import MARKED
from bramblemoor.frames.fields import FIELDS
from bramblemoor.library.dossier import OneCopy, dossier
from bramblemoor.library.home import Library

_NAMES = {
    "you": "you",
    "sidecar": "its sidecar",
    "xmp": "its XMP",
    "iptc": "its IPTC",
    "camera": "the camera",
    "service": "the service",
    "map": "the map",
    "name": "its name",
    "file": "its file",
    "pixels": "what it shows",
}
_FIELDS = {
    "no_template": "not a template",
    "offset": "time zone",
    "no_keyword": "not a keyword",
    "no_person": "not a person",
}


def frame_document(library: Library, frame: int) -> dict[str, Any]:
    """Everything about a frame, as `show --json` prints it."""
    known = dossier(library, frame)
    facts = known.facts
    believed = {field.name: _plain(field.of(facts)) for field in FIELDS if field.name != "faces"}
    believed["taken"] = str(facts.taken) if facts.taken else ""
    return {
        "frame": frame,
        "path": known.path,
        "kind": known.kind,
        "from": {"service": known.service, "reference": known.reference, "order": known.order},
        "believed": believed,
        "taken_by": facts.taken_by,
        "conflicts": list(facts.conflicts),
        "albums": [{"title": title} for title in known.albums],
        "came_as": known.apart["came_as"],
        "reduced_copy_of": known.apart["reduced_of"],
        "faces": known.apart["region"],
        "made_of": [asdict(file) for file in known.files],
        "claims": [
            {"field": one.claim.field, "value": one.claim.value, "source": one.claim.source, "told": one.told, "believed":
            one.believed} for one in known.claims ], "copies": [_copy_document(copy) for copy in known.copies], "put_away_at":
            list(known.put_away_at), }  # fmt: skip


def _plain(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def _copy_document(copy: OneCopy) -> dict[str, Any]:
    document = asdict(copy)
    return {"depot": document.pop("name")} | document


def _file_row(file: dict[str, Any]) -> tuple[str, ...]:
    name = file["path"].rpartition("/")[2] + (f" (came as {file['former_name']})" if file["former_name"] else "")
    pixels = f"{file['width']} x {file['height']}" if file["width"] else ""
    return name, file["role"], file["media"], pixels, say.size(file["bytes"])


def _believed_rows(document: dict[str, Any]) -> list[tuple[str, str]]:
    believed = document["believed"]
    rows = []
    for name in (
        field.name for field in FIELDS if field.form in ("text", "list", "date", "position") and field.name in believed
    ):
        value = believed[name]
        if isinstance(value, list):
            value = ", ".join(f"{part:.6f}" if isinstance(part, float) else part for part in value)
        if value:
            rows.append((name, value))
    if document["albums"]:
        rows.append(("albums", ", ".join(one["title"] for one in document["albums"])))
    if believed["rating"] == MARKED:
        rows.append(("marked", "to be culled"))
    elif believed["rating"] is not None:
        rows.append(("rating", f"{believed['rating']} of 5"))
    if document["faces"]:
        rows.append(("faces", "; ".join(document["faces"])))
    if document["reduced_copy_of"]:
        rows.append(("reduced copy of", document["reduced_copy_of"][-1]))
    flags = [word for word, on in (("favourite", believed["favourite"]), ("a reduced copy", believed["reduced"])) if on]
    if flags:
        rows.append(("marked", ", ".join(flags)))
    return rows


def print_frame(document: dict[str, Any], whose: str) -> None:
    say.line(document["path"])
    origin = " ".join(part for part in document["from"].values() if part)
    say.line(f"a {document['kind']} in {whose}" + (f", from {origin}" if origin else ""))
    if document["put_away_at"]:
        say.line(f"It is put away; to see it, fetch the drive of {' or '.join(document['put_away_at'])}.")
    say.line()
    say.table(("", "what is believed"), _believed_rows(document), wraps=1)
    for conflict in document["conflicts"]:
        say.line(f"In doubt: {conflict}.")
    say.line()
    say.table(("file", "role", "what", "pixels", "size"), [_file_row(file) for file in document["made_of"]], right=(4,))
    say.line()
    say.table(
        ("who says what", "", "", "believed"),
        [
            (
                _NAMES[claim["source"]],
                _FIELDS.get(claim["field"], claim["field"]),
                claim["value"] or "(nothing)",
                "yes" if claim["believed"] else "no",
            )
            for claim in document["claims"]
        ],
        wraps=2,
    )
    if document["came_as"]:
        say.line()
        say.line("It came as:")
        for name in document["came_as"]:
            say.line(f"  {name}")
    if document["copies"]:
        say.line()
        say.table(
            ("copy at", "site", "medium", "files", "state", "last read"),
            [
                (
                    copy["depot"],
                    copy["site"],
                    copy["medium"],
                    str(copy["files"]),
                    copy["state"],
                    copy["read_at"] or "never",
                )
                for copy in document["copies"]
            ],
            right=(3,),
        )
