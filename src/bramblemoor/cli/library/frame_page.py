"""The page about one frame that `show` prints."""

from typing import Any

from bramblemoor.cli import say
from bramblemoor.frames.claims import TAKEN_AWAY, Facts, believe, parse_position
from bramblemoor.frames.moments import parse_offset
from bramblemoor.library.catalogue import albums_of, claims_of
from bramblemoor.library.find import put_away
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
}
_FIELDS = {"offset": "time zone", "no_keyword": "not a keyword", "no_person": "not a person"}


def frame_document(library: Library, frame: int) -> dict[str, Any]:
    """Everything about a frame, as `show --json` prints it."""
    db = library.db
    row = db.execute("SELECT * FROM frames WHERE id = ?", (frame,)).fetchone()
    facts = believe(claims_of(db, frame))
    believed = {
        "taken": str(facts.taken) if facts.taken else "",
        "title": facts.title,
        "caption": facts.caption,
        "keywords": list(facts.keywords),
        "people": list(facts.people),
        "location": facts.location,
        "position": list(facts.position) if facts.position else None,
        "favourite": facts.favourite,
        "rating": facts.rating,
        "camera": facts.camera,
        "lens": facts.lens,
        "reduced": facts.reduced,
    }
    claims = [
        dict(claim)
        for claim in db.execute(
            "SELECT field, value, source, told FROM claims WHERE frame = ? ORDER BY rowid", (frame,)
        )
    ]
    told: dict[str, list[str]] = {"came_as": [], "reduced_of": [], "region": []}
    for claim in claims:
        if claim["field"] in told:
            told[claim["field"]].append(claim["value"])
    files = db.execute(
        "SELECT id, role, path, bytes, sha256, media, width, height, former_name FROM files WHERE frame = ? ORDER BY role, path",
        (frame,),
    ).fetchall()
    copies = db.execute(
        "SELECT name, site, medium, iif(c.sha256 IS NULL, c.state, 'an earlier version') AS state, count(*) AS files,"
        " strftime('%Y-%m-%dT%H:%M:%SZ', min(c.read_at), 'unixepoch') AS read_at"
        " FROM copies c JOIN files f ON f.id = file JOIN depots ON depots.number = c.depot WHERE frame = ?"
        " GROUP BY name, 4",
        (frame,),
    )
    return {
        "library": library.name,
        "frame": frame,
        "path": f"{row['folder']}/{row['name']}",
        "kind": row["kind"],
        "from": {"service": row["service"], "reference": row["reference"], "order": row["arrived"]},
        "believed": believed,
        "taken_by": facts.taken_by,
        "conflicts": list(facts.conflicts),
        "albums": albums_of(db, frame),
        "came_as": told["came_as"],
        "reduced_copy_of": told["reduced_of"],
        "faces": told["region"],
        "files": [{key: file[key] for key in file.keys() if key != "id"} for file in files],  # noqa: SIM118
        "claims": [claim | {"believed": _is_believed(claim, facts)} for claim in claims if claim["field"] not in told],
        "copies": [dict(copy) for copy in copies],
        "put_away_at": list(put_away(library, [frame]).get(frame, ())),
    }


def _is_believed(claim: dict[str, str], facts: Facts) -> bool:
    """Whether what is shown of a frame is, or rests on, this claim."""
    field, value = claim["field"], claim["value"]
    if field == "taken":
        return claim["source"] == facts.taken_by
    if field == "position":
        return parse_position(value) == facts.position
    if field in ("keyword", "person"):
        return value in (facts.keywords if field == "keyword" else facts.people)
    for away, kept in TAKEN_AWAY.items():
        if field == away:
            return (kept, value) in facts.gone
    if field in ("quality", "edited"):
        return True
    if field == "offset":
        return facts.taken is not None and facts.taken.offset == parse_offset(value)
    if field == "favourite":
        return (value == "yes") == facts.favourite
    return bool(value) and value == str(getattr(facts, field))


def _file_row(file: dict[str, Any]) -> tuple[str, ...]:
    name = file["path"].rpartition("/")[2] + (f" (came as {file['former_name']})" if file["former_name"] else "")
    pixels = f"{file['width']} x {file['height']}" if file["width"] else ""
    return name, file["role"], file["media"], pixels, say.size(file["bytes"])


def print_frame(document: dict[str, Any], whose: str) -> None:
    believed = document["believed"]
    say.line(document["path"])
    origin = " ".join(part for part in document["from"].values() if part)
    say.line(f"a {document['kind']} in {whose}" + (f", from {origin}" if origin else ""))
    if document["put_away_at"]:
        say.line(f"It is put away; to see it, fetch the drive of {' or '.join(document['put_away_at'])}.")
    say.line()
    rows = []
    for name in ("title", "caption", "taken", "location", "position", "people", "keywords", "camera", "lens"):
        value = believed[name]
        if isinstance(value, list):
            value = ", ".join(f"{part:.6f}" if isinstance(part, float) else part for part in value)
        if value:
            rows.append((name, value))
    if document["albums"]:
        rows.append(("albums", ", ".join(document["albums"])))
    if believed["rating"] is not None:
        rows.append(("rating", f"{believed['rating']} of 5"))
    if document["faces"]:
        rows.append(("faces", "; ".join(document["faces"])))
    if document["reduced_copy_of"]:
        rows.append(("reduced copy of", document["reduced_copy_of"][-1]))
    flags = [word for word, on in (("favourite", believed["favourite"]), ("a reduced copy", believed["reduced"])) if on]
    if flags:
        rows.append(("marked", ", ".join(flags)))
    say.table(("", "what is believed"), rows)
    for conflict in document["conflicts"]:
        say.line(f"In doubt: {conflict}.")
    say.line()
    say.table(("file", "role", "what", "pixels", "size"), [_file_row(file) for file in document["files"]], right=(4,))
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
                    copy["name"],
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
