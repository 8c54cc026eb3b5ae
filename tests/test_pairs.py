"""Small exports that went wrong once: no wrong pair, no exact match lost, edits and clips by evidence, and what later
exports mend.
"""

import io
import itertools
import json
import zipfile
from datetime import datetime
from hashlib import sha256
from typing import Any

import pytest
from PIL import Image
from pillow_heif import register_heif_opener

from conftest import Shell
from corpus.pictures import exif_block, jpeg, mp4

MINI = "[dialect]\nname = \"mini\"\npart_name = 'x-(?P<number>\\d)\\.zip|(?P<order>x)\\.zip'\n"
FIELDS = 'title = { at = "/t" }\ntaken = { at = "/d", form = "epoch-seconds" }\n'
INDEX = (
    MINI.replace("x-(?P<number>", "(?P<order>x)-(?P<number>").replace("|(?P<order>x)\\.zip", "")
    + '[entries]\nindex = ["**/index.json"]\npictures = ["p/**"]\n[names]\nrenditions = ["~touched"]\n[index]\nitems = "/i"\n'
    'path = "/p"\nfile_name = "/n"\nsize = "/s"\nreference = "/k"\n[album]\nitems = "/albums"\ntitle = "/t"\norder = "/o"\n'
    "[index.fields]\n" + FIELDS
)  # fmt: skip
CARDS = (
    INDEX.partition("[entries]")[0] + '[entries]\nsidecars = ["p/**/*.card.json"]\n'
    'pictures = ["p/**"]\n[names]\nrenditions = ["~touched"]\n'
    'sidecar = ["{folder}{name}.card.json"]\n[sidecar]\nfile_name = "/n"\nsize = "/s"\n[sidecar.fields]\n' + FIELDS
)  # fmt: skip
APART = (
    CARDS.replace("p/**/*.card.json", "m/**").replace("{folder}{name}.card.json", "m/{stem + counter + ending | upper}.card.json")
    .replace("[names]", "[names]\npicture = \"{stem | replace ' ' '+'}{counter}{suffix}{ending}\"\ncounter = '~{n}'"
    "\nsidecar_counter = '.{n}'")
)  # fmt: skip
NUMBERED = INDEX.replace("[names]", "[names]\ncounter = '~{n}'")
BESIDE = CARDS.replace("*.card.json", "*.xmp").replace("{name}.card.json", "{stem}.xmp").partition("[sidecar]")[0]
Y2019, Y2018, Y1956 = datetime(2019, 7, 3, 13), datetime(2018, 2, 2, 10, 30), -431352000
EPOCH = datetime(1970, 1, 1)
XMP = (
    b'<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" '
    b'xmlns:dc="http://purl.org/dc/elements/1.1/" dc:title="XMP title"/></rdf:RDF>'
)


def heic(moment: datetime) -> bytes:
    register_heif_opener()
    content = io.BytesIO()
    Image.new("RGB", (64, 48), "teal").save(content, "HEIF", exif=b"Exif\0\0" + exif_block(moment, None))
    return content.getvalue()


def at(moment: datetime) -> int:
    return int((moment - EPOCH).total_seconds())


A, B, C = jpeg(1, Y2019), jpeg(2, Y2018), jpeg(3, Y2019)
B2 = jpeg(2)  # without a date
B2_DIGEST = sha256(B2).hexdigest().encode()
H = heic(Y2018)


def card(name: str, title: str, when: "int | datetime") -> bytes:
    return json.dumps({"n": name, "t": title, "d": at(when) if isinstance(when, datetime) else when}).encode()


def line(title: str, when: "int | datetime", **more: Any) -> dict[str, Any]:
    return more | {"t": title, "d": at(when) if isinstance(when, datetime) else when}


def index(*lines: dict[str, Any], **more: Any) -> bytes:
    return json.dumps({"i": list(lines)} | more).encode()


def unpack(
    shell: Shell, dialect: str, *parts: dict[str, bytes], order: str = "x", code: int | None = 0
) -> dict[str, Any]:
    """The receipt of an export of these parts, in the library `library`, which is made where there is none."""
    folder = shell.folder / f"export-{order}"
    folder.mkdir()
    for number, entries in enumerate(parts, 1):
        with zipfile.ZipFile(folder / f"{order}-{number}.zip", "w") as archive:
            for name, content in entries.items():
                archive.writestr(name, content)
    (shell.folder / "mini.toml").write_text(dialect.replace("(?P<order>x)", f"(?P<order>{order})"))
    if not (shell.folder / "library").exists():
        shell("new", "library")
    done = shell("unpack", "--from", folder, "--dialect", "mini.toml", "--library", "library", "--json", code=code)
    receipt: dict[str, Any] = json.loads(done.out)
    assert receipt["balanced"], receipt
    return receipt


def titles(shell: Shell) -> dict[str, str]:
    found = shell("find", "--json", "--library", "library").json["hits"]
    assert len({frame["path"] for frame in found}) == len(found)
    names = [frame["path"].rpartition("/")[2] for frame in found]
    # Namesakes lie in other months: told apart by them.
    return {
        name if names.count(name) == 1 else f"{frame['shoot']}/{name}": frame["title"] or ""
        for name, frame in zip(names, found, strict=True)
    }


OTHERS = {"n": "IMG_1.JPG", "s": 111}
CASES: dict[str, tuple[str, list[dict[str, bytes]], dict[str, str]]] = {
    "an exact path and a date corrected by hand": (
        INDEX, [{"p/aa.jpg": A, "index.json": index(line("Gran", Y1956, p="p/aa.jpg", n="Gran.jpg", s=len(A)))}],
        {"Gran.jpg": "Gran"}),
    "a picture that was delivered in another format than it is called": (
        INDEX, [{"p/aa.jpg": A, "index.json": index(line("Gran", Y2019, p="p/aa.jpg", n="Gran.HEIC"))}], {"Gran.jpg": "Gran"}),
    "a film's header tells another year": (
        INDEX, [{"p/aa.mp4": mp4(1, Y2018), "index.json": index(line("Film", Y2019, p="p/aa.mp4", n="F.mp4"))}],
        {"F.mp4": "Film"}),
    "a sign in the told name was replaced": (
        CARDS, [{"p/Gran_ma.jpg": A, "p/Gran_ma.jpg.card.json": card("Gran*ma.jpg", "Gran", Y1956)}], {"Gran_ma.jpg": "Gran"}),
    "told by a bare name and a size": (
        INDEX, [{"p/G.jpg": A, "index.json": index(line("Gran", Y1956, n="G.jpg", s=len(A)))}], {"G.jpg": "Gran"}),
    "one sidecar in two parts": (
        CARDS, [{"p/A.jpg": A, "p/A.jpg.card.json": card("A.jpg", "a", Y2019)}, {"p/A.jpg.card.json": card("A.jpg", "a", Y2019)}],
        {"A.jpg": "a"}),
    "the whole index in each part": (
        INDEX, [{name: content, "index.json": index(line("a", Y2019, p="p/A.jpg", k="1"), line("b", Y2018, p="p/B.jpg", k="2"))}
                for name, content in (("p/A.jpg", A), ("p/B.jpg", B))], {"A.jpg": "a", "B.jpg": "b"}),
    "an XMP in other capitals": (BESIDE, [{"p/IMG_1.JPG": A, "p/img_1.xmp": XMP}], {"IMG_1.JPG": "XMP title"}),
    "an XMP in another composition": (BESIDE, [{"p/Été/A.jpg": A, "p/E\u0301te\u0301/A.xmp": XMP}], {"A.jpg": "XMP title"}),
    "an edit beside a HEIC and a JPEG": (
        CARDS, [{"p/I.HEIC": H, "p/I.HEIC.card.json": card("I.HEIC", "heic", Y2018), "p/I.JPG": A,
                 "p/I.JPG.card.json": card("I.JPG", "jpg", Y2019), "p/I~touched.JPG": C}], {"I.HEIC": "heic", "I.JPG": "jpg"}),
    "a clip of the HEIC's second": (
        CARDS, [{"p/I.JPG": A, "p/I.JPG.card.json": card("I.JPG", "jpg", Y2019), "p/I.HEIC": H,
                 "p/I.HEIC.card.json": card("I.HEIC", "heic", Y2018), "p/I.MP4": mp4(2, Y2018)}], {"I.HEIC": "heic",
                 "I.JPG": "jpg"}),
    "a picture named like an edit": (
        INDEX, [{"p/T.jpg": A, "p/T~touched.jpg": B, "index.json": index(
            line("trip", Y2019, p="p/T.jpg", k="1"), line("another", Y2018, p="p/T~touched.jpg", k="2"))}],
        {"T.jpg": "trip", "T~touched.jpg": "another"}),
    "an edit with a record, of the same moment": (
        INDEX, [{"p/T.jpg": A, "p/T~touched.jpg": C, "index.json": index(
            line("plain", Y2019, p="p/T.jpg", k="1"), line("grey", Y2019, p="p/T~touched.jpg", k="2"))}], {"T.jpg": "plain"}),
    "a record of a picture that did not come, called as an edit is but for its ending": (
        CARDS.replace("{name}", "{stem}"), [{
            "p/T.jpeg": jpeg(1), "p/T!.card.json": card("T.jpeg", "trip", Y2019).replace(b"{", b'{"s": %d, ' % len(jpeg(1))),
            "p/T~touched.jpeg": jpeg(2), "p/T~touched.card.json": card("T~touched.jpg", "not here", Y2018)}],
        {"T.jpeg": "trip"}),
    "an edit with a line of its own, by a name that was cut": (
        INDEX.replace("[names]", "[names]\npicture = '{stem | cut 12 characters}{suffix}{ending}'"), [{
            "p/Cuttings.jpg": A, "p/Cuttings~touched.jpg": C, "p/index.json": index(
                line("", Y2019, n="Cuttings.jpg"), line("grey", Y2019, n="Cuttings~touched.jpg"))}], {"Cuttings.jpg": "grey"}),
    "a namesake that did not come, by its number": (
        APART, [{"p/A.jpg": jpeg(1), "m/A.JPG.card.json": card("A.jpg", "a", Y2019),
                 "m/A.3.JPG.card.json": card("A.jpg", "another", Y2018)}], {"A.jpg": "a"}),
    "a namesake that did not come, where folders have their own numbers": (
        APART, [{"p/a/A.jpg": jpeg(1), "p/b/B.jpg": B, "m/A.JPG.card.json": card("A.jpg", "a", Y2019),
                 "m/A.3.JPG.card.json": card("A.jpg", "another", Y2018)}], {"A.jpg": "", "B.jpg": ""}),
    "a namesake that did not come, and the very second": (
        APART, [{"p/a/A.jpg": A, "p/b/B.jpg": B, "m/A.JPG.card.json": card("A.jpg", "another", Y2018),
                 "m/A.JPG!.card.json": card("A.jpg", "a", Y2019)}], {"A.jpg": "a", "B.jpg": ""}),
    "a name that ends in a number, and a date corrected by hand": (
        CARDS.replace("[names]", "[names]\ncounter = ' {n}'").replace('"/n"', '"/none"'),
        [{"p/Cutting 3403.jpg": A, "p/Cutting 3403.jpg.card.json": card("", "reeds", Y1956)}], {"Cutting 3403.jpg": "reeds"}),
    "the same, in other capitals": (
        CARDS.replace("[names]", "[names]\ncounter = ' {n}'").replace('"/n"', '"/none"'),
        [{"p/Cutting 3403.jpg": A, "p/CUTTING 3403.JPG.card.json": card("", "reeds", Y1956)}], {"Cutting 3403.jpg": "reeds"}),
    "an edit alone, and a record of another day in other capitals": (
        CARDS.replace("{name}", "{stem}").replace('"/n"', '"/none"'),
        [{"p/t~touched.jpg": A, "p/T.card.json": card("", "of another picture", Y2018)}], {"t~touched.jpg": ""}),
    "a sidecar in other capitals, a replaced sign, and a date corrected by hand": (
        APART.replace(" | upper", ""), [{"p/O+w.jpg": A, "m/O+W.JPG.card.json": card("O w.jpg", "owl", Y1956)}],
        {"O w.jpg": "owl"}),
    "a list above one that has a list of its own": (
        INDEX, [{"p/b/A.jpg": jpeg(1), "p/b/B.jpg": B, "p/b/index.json": index(line("b", Y2018, n="B.jpg")), "p/C.jpg": C,
                 "p/index.json": index(line("gone", Y2019, n="A.jpeg"), line("c", Y2019, n="C.jpg"))}],
        {"A.jpg": "", "B.jpg": "b", "C.jpg": "c"}),
    "two of one name in a list, told as they are delivered": (
        NUMBERED, [{"p/A.JPG": jpeg(1), "p/A~2.jpg": jpeg(2), "p/index.json": index(
            line("first", Y2019, n="A.JPG"), line("second", Y2018, n="A~2.jpg"))}], {"A.JPG": "first", "A~2.jpg": "second"}),
    "a list that is an object, by names": (
        INDEX.replace('"/n"', '"#"'), [{"p/A.JPG": A, "p/B.JPG": B, "p/index.json": json.dumps(
            {"i": {"A.JPG": line("first", Y2019), "B.JPG": line("second", Y2018)}}).encode()}],
        {"A.JPG": "first", "B.JPG": "second"}),
    "a numbered picture of which nothing is told": (
        NUMBERED, [{"p/A~2.jpg": jpeg(2), "p/index.json": index(line("of the one without a number", Y2019, n="A.jpg"))}],
        {"A~2.jpg": ""}),
    "the same, and its ending is told otherwise": (
        NUMBERED, [{"p/A~2.jpeg": jpeg(2), "p/index.json": index(line("of the one without a number", Y2019, n="A.JPG"))}],
        {"A~2.jpeg": ""}),
    "a list that tells names without endings": (
        NUMBERED, [{"p/A.jpeg": jpeg(2), "p/index.json": index(line("a", Y2019, n="A"))}], {"A.jpeg": "a"}),
    "a numbered picture whose second is told, beside one that tells none": (
        NUMBERED, [{"p/A.jpg": jpeg(1), "p/A~2.jpg": B, "p/index.json": index(line("second", Y2018, n="A.jpg"))}],
        {"undated/A.jpg": "", "2018-02/A.jpg": "second"}),
    "two of one name, known by their second": (
        NUMBERED, [{"p/A.jpg": A, "p/A~2.jpg": B, "p/index.json": index(
            line("second", Y2018, n="A.jpg"), line("first", Y2019, n="A.jpg"))}],
        {"2019-07/A.jpg": "first", "2018-02/A.jpg": "second"}),
    "an edit and a clip of a picture that is named like an edit": (
        INDEX, [{"p/T.jpg": A, "p/T~touched.jpg": B, "p/T~touched~touched.jpg": jpeg(9, Y2018),
                 "p/T~touched.mp4": mp4(9, Y2018), "index.json": index(
                     line("trip", Y2019, p="p/T.jpg", k="1"), line("another", Y2018, p="p/T~touched.jpg", k="2"))}],
        {"T.jpg": "trip", "T~touched.jpg": "another"}),
    "a picture named like an edit, whose clip has its name": (
        CARDS.replace("{name}", "{stem}").replace('"/n"', '"/none"'), [{
            "p/T.jpg": A, "p/T.card.json": card("", "trip", Y2019), "p/T~touched.png": B2, "p/T~touched.mp4": mp4(2, Y2018),
            "p/T~touched.card.json": card("", "another", Y2018)}], {"T.jpg": "trip", "T~touched.png": "another"}),
    "a picture named like an edit, whose edit's sidecar would have the same cut name": (
        CARDS.replace("{name}", "{name | cut 4 characters}").replace('"/n"', '"/none"'), [{
            "p/T.jpg": jpeg(1), "p/T.jp.card.json": card("", "trip", Y2019), "p/T~touched.jpg": jpeg(2),
            "p/T~to.card.json": card("", "another", Y2018), "p/T~touched~touched.jpg": jpeg(3)}],
        {"T.jpg": "trip", "T~touched.jpg": "another"}),
    "the same, where sidecars are named by the stem alone": (
        CARDS.replace("{name}", "{stem}"), [{
            "p/T.jpg": jpeg(1), "p/T.card.json": card("T.jpg", "trip", Y2019), "p/T~touched.jpg": jpeg(2),
            "p/T~touched.card.json": card("T~touched.jpg", "another", Y2018), "p/T~touched~touched.jpg": jpeg(3)}],
        {"T.jpg": "trip", "T~touched.jpg": "another"}),
    "what looks like a number is part of a name": (
        CARDS.replace("[names]", "[names]\ncounter = ' {n}'"), [{
            "p/Cut 65.jpg": A, "p/Cut 65.jpg.card.json": card("Cut 65.jpg", "cut", Y2019), "p/Cut 65~touched.png": jpeg(2),
            "p/Cut 65~touched.png.card.json": card("Cut 65~touched.png", "another", Y2018),
            "p/Cut 65~touched~touched.png": jpeg(3)}],
        {"Cut 65.jpg": "cut", "Cut 65~touched.png": "another"}),
    "an edit beside a picture of its name, which has a record": (
        CARDS, [{"p/T.png": jpeg(1), "p/T.png.card.json": card("T.png", "trip", Y2019), "p/T~touched.png": jpeg(2),
                 "p/T~touched.jpg": jpeg(3), "p/T~touched.jpg.card.json": card("T~touched.jpg", "another", Y2018)}],
        {"T.png": "trip", "T~touched.jpg": "another"}),
    "a record that fits an edit here, and a picture of that name elsewhere": (
        APART, [{"p/a/T.jpg": jpeg(1), "m/T.JPG.card.json": card("T.jpg", "trip", Y2019), "p/a/T~touched.jpg": jpeg(2),
                 "p/b/T~touched.jpg": jpeg(3), "m/T~TOUCHED.JPG.card.json": card("T~touched.jpg", "whose?", Y2018)}],
        {"T.jpg": "trip", "T~touched.jpg": "whose?"}),
    "a name that begins with a space": (
        NUMBERED, [{"p/ A.jpg": A, "p/index.json": index(line("a", Y1956, n="A.jpg"))}], {"A.jpg": "a"}),
    "an XMP in other capitals, with a corrected date": (
        BESIDE, [{"p/IMG_1.JPG": A, "p/img_1.xmp": XMP.replace(b"dc:title", b'xmlns:p="http://ns.adobe.com/photoshop/1.0/" '
                  b'p:DateCreated="1956-05-01T12:00:00" dc:title')}], {"IMG_1.JPG": "XMP title"}),
    "a record in other capitals, of a service that keeps them": (
        APART.replace(" | upper", ""), [{"p/a/X.jpg": jpeg(1), "m/X.JPG.card.json": card("X.JPG", "not here", Y2019)} | {
            name: content for n in range(12) for name, content in (
                (f"p/b/{n}.jpg", jpeg(10 + n)), (f"m/{n}.jpg.card.json", card(f"{n}.jpg", "b", Y2018)))}],
        {"X.jpg": ""} | {f"{n}.jpg": "b" for n in range(12)}),
    "an edit that a list tells of, of a picture that lies elsewhere": (
        INDEX.replace('"/k"', '"/k"\nedit_of = "/e"'), [{
            "p/index.json": index(line("gone", Y2019, n="A.jpg"), line("grey", Y2019, n="x 1.jpg", e="A.jpg")), "p/x 1.jpg": C,
            "p/b/A.jpg": B, "p/b/index.json": index(line("b", Y2018, n="A.jpg"))}], {"x 1.jpg": "grey", "A.jpg": "b"}),
    "a picture named like an edit, with a digest of its own": (
        CARDS.replace('"/s"', '"/s"\nsha256 = "/h"').replace('"/n"', '"/none"').replace("{name}", "{stem}"), [{
            "p/T.jpg": jpeg(1), "p/T.card.json": card("", "trip", Y2019), "p/T~touched.jpg": B2,
            "p/T~touched!.card.json": card("", "another", Y2018).replace(b"{", b'{"h": "%s", ' % B2_DIGEST)}],
        {"T.jpg": "trip", "T~touched.jpg": "another"}),
    "a size that another record tells": (
        CARDS, [{"p/A.png": jpeg(1), "p/A.png.card.json": card("", "not here", Y2019),
                 "p/A.png!.card.json": card("", "a", Y2018).replace(b"{", b'{"s": %d, ' % len(jpeg(1)))}], {"A.png": ""}),
    "by size and second": (
        APART, [{"p/a/A.jpg": A, "p/b/B.jpg": B, "m/A.JPG.card.json": card("", "another", Y2018),
                 "m/A.JPG!.card.json": card("", "a", Y2019).replace(b"{", b'{"s": %d, ' % len(A))}], {"A.jpg": "a", "B.jpg": ""}),
    "named exactly after one with another date, and in other capitals after one without": (
        APART.replace(" | upper", ""), [{"p/a/o.JPG": A, "p/b/O.jpg": jpeg(1), "m/o.JPG.card.json": card("", "whose?", Y2018)}],
        {"o.JPG": "", "O.jpg": ""}),
    "two of one name, in different capitals, where all sidecars are in capitals": (
        APART.replace(" | upper", ""), [{"p/a/X.JPG": jpeg(1), "p/b/X.jpg": jpeg(2), "p/c/y.jpg": jpeg(3),
                 "m/X.JPG.card.json": card("", "one", Y2019), "m/X.JPG!.card.json": card("", "other", Y2018),
                 "m/Y.JPG.card.json": card("", "y", Y2019)}], {"X.JPG": "", "X-2.jpg": "", "y.jpg": "y"}),
    "a record named exactly like an edit, which others elsewhere may be, of another day": (
        APART, [{"p/a/T.jpg": A, "p/a/T~touched.jpg": C, "p/B.jpg": B,
                 "m/T~TOUCHED.JPG.card.json": card("T~touched.jpg", "not here", Y2018)}], {"T.jpg": "", "B.jpg": ""}),
    "the same, and the picture's own record has that day": (
        APART, [{"p/a/T.jpg": A, "m/T.JPG.card.json": card("T.jpg", "", Y1956), "p/a/T~touched.jpg": C, "p/B.jpg": B,
                 "m/T~TOUCHED.JPG.card.json": card("T~touched.jpg", "the edit's", Y1956)}], {"T.jpg": "the edit's", "B.jpg": ""}),
    "the same, beside the edit": (
        CARDS, [{"p/T.jpg": A, "p/T~touched.jpg": C, "p/T~touched.jpg.card.json": card("T~touched.jpg", "the edit's", Y2018)}],
        {"T.jpg": "the edit's"}),
    "two pictures of one stem, and a date corrected by hand": (
        CARDS.replace("{name}", "{stem}").replace('"/n"', '"/none"'), [{
            "p/I.jpeg": A, "p/I.png": jpeg(2), "p/I.card.json": card("", "whose?", Y1956)}], {"I.jpeg": "", "I.png": ""}),
    "two compositions of one name, and sidecars that do not tell": (
        CARDS, [{"p/\u00e9.jpg": jpeg(1), "p/e\u0301.jpg": jpeg(2), "p/e\u0301.jpg.card.json": card("\u00e9.jpg", "one", Y2019),
                 "p/e\u0301.jpg!.card.json": card("\u00e9.jpg", "other", Y2018)}], {"\u00e9.jpg": "", "\u00e9-2.jpg": ""}),
    "a picture whose line is not here, beside one with another ending that did not come": (
        INDEX, [{"p/X.jpeg": jpeg(1), "p/index.json": index(
            line("not here", Y2018, n="X.jpg"), *(line("y", Y2019, n=f"{n}.jpg") for n in range(12)))} | {
                f"p/{n}.jpg": jpeg(2 + n) for n in range(12)}], {"X.jpeg": ""} | {f"{n}.jpg": "y" for n in range(12)}),
    "an edit that a list tells of, beside a numbered one of its original's name": (
        NUMBERED.replace('"/k"', '"/k"\nedit_of = "/e"'), [{"p/made 1.jpg": jpeg(1), "p/X~2.jpg": B, "p/index.json": index(
            line("not here", Y2019, n="X.jpg"), line("made", Y2019, n="made 1.jpg", e="X.jpg"), line("x", Y2018, n="X~2.jpg"))}],
        {"made 1.jpg": "made", "X~2.jpg": "x"}),
    "an edit that a list tells of, beside one called as its original is but for the ending": (
        INDEX.replace('"/k"', '"/k"\nedit_of = "/e"'), [{"p/made 1.jpg": jpeg(1), "p/X.jpg": B, "p/index.json": index(
            line("not here", Y2019, n="X.jpeg"), line("made", Y2019, n="made 1.jpg", e="X.jpeg"), line("x", Y2018, n="X.jpg"))}],
        {"made 1.jpg": "made", "X.jpg": "x"}),
    "a clip that a list tells of, whose still has a cut name that others have but for their numbers": (
        NUMBERED.replace('"/k"', '"/k"\nclips = "/c"').replace(
            "[names]", "[names]\npicture = '{stem | cut 8 characters}{counter}{ending}'"), [{
                "p/Cuttings.jpg": jpeg(1), "p/Cuttings~2.jpg": jpeg(2), "p/film 1.mp4": mp4(3, Y2019), "p/index.json": index(
                    line("first", Y2018, n="Cuttings.jpg", c=["film 1.mp4"]), line("second", Y2018, n="Cuttings~2.jpg"))}],
        {"Cuttings.jpg": "first", "Cuttings~2.jpg": "second"}),
    "a film beside a picture of another year that is named like an edit of it": (
        BESIDE, [{"p/T.mp4": mp4(1, Y2018), "p/T~touched.jpg": C, "p/T~touched.xmp": XMP}],
        {"T.mp4": "", "T~touched.jpg": "XMP title"}),
    "a record of another day named like an edit's, beside a numbered picture that is called so": (
        APART.replace(" | upper", " | cut 5 characters"), [{
            "p/Trip.jpg": A, "p/Trip~touched.jpg": C, "p/Trip~touched~1.jpg": jpeg(4),
            "m/Trip~.card.json": card("Trip~touched.jpg", "numbered", Y2018)}],
        {"Trip.jpg": "", "Trip~touched.jpg": "numbered"}),
    "a record of another day whose cut name an edit of a numbered picture might have": (
        CARDS.replace("[names]", "[names]\ncounter = '~{n}'\npicture = '{stem}{counter}{suffix}{ending}'").replace(
            "{name}", "{name | cut 5 characters}{counter}").replace('"/n"', '"/none"'), [{
                "p/Cuttings~1.jpg": A, "p/Cuttings~1~touched.jpg": C, "p/Cutti.card.json": card("", "not here", Y2018)}],
        {"Cuttings~1.jpg": ""}),
    "a sidecar in other capitals that tells a size, beside one of a picture that did not come": (
        APART.replace(" | upper", ""), [{"p/T~touched.jpg": jpeg(1), "m/T.jpg.card.json": card("", "not here", Y2018),
                 "m/T~TOUCHED.JPG.card.json": card("", "own", Y2019).replace(b"{", b'{"s": %d, ' % len(jpeg(1)))}],
        {"T~touched.jpg": "own"}),
    "an edit of one named like an edit, beside one named like an edit of it": (
        CARDS, [{"p/T.png": jpeg(1), "p/T.png.card.json": card("T.png", "t", Y2018),
                 "p/T~touched.jpg": A, "p/T~touched.jpg.card.json": card("T~touched.jpg", "another", Y2019),
                 "p/T~touched~touched.jpg": C, "p/T~touched~touched~touched.jpg": B,
                 "p/T~touched~touched~touched.jpg.card.json": card("T~touched~touched~touched.jpg", "a third", Y2018)}],
        {"T.png": "t", "T~touched.jpg": "another", "T~touched~touched~touched.jpg": "a third"}),
    "an edit of one that is named like an edit of an edit": (
        CARDS, [{"p/T.png": A, "p/T.png.card.json": card("T.png", "t", Y2019), "p/T~touched.png": C,
                 "p/T~touched~touched.png": B, "p/T~touched~touched~touched.png": jpeg(6, Y2018),
                 "p/T~touched~touched.png.card.json": card("T~touched~touched.png", "another", Y2018)}],
        {"T.png": "t", "T~touched~touched.png": "another"}),
    "a list that tells another ending of each picture": (
        INDEX, [{"p/X.jpeg": jpeg(1), "p/Y.jpeg": jpeg(2), "p/index.json": index(
            line("x", Y2018, n="X.jpg"), line("y", Y2019, n="Y.jpg"))}], {"X.jpg": "x", "Y.jpg": "y"}),
    "a list in a folder whose picture did not come": (
        INDEX, [{"p/a/index.json": index(line("a's", Y2018, **OTHERS)), "p/a/O.JPG": A, "p/b/IMG_1.JPG": B}],
        {"O.JPG": "", "IMG_1.JPG": ""}),
    "the same, without a size": (
        INDEX, [{"p/a/index.json": index(line("a's", Y2018.replace(year=2011), n="IMG_1.JPG")), "p/a/O.JPG": A,
        "p/b/IMG_1.JPG": B}],
        {"O.JPG": "", "IMG_1.JPG": ""}),
    "a list that tells another ending": (
        INDEX, [{"p/a/index.json": index(line("a's", Y2018, n="IMG_1.HEIC")), "p/a/O.JPG": A, "p/b/IMG_1.JPG": B}],
        {"O.JPG": "", "IMG_1.JPG": ""}),
    "a date corrected beside a namesake": (
        INDEX, [{"p/a/index.json": index(line("a's", Y1956, n="IMG_1.JPG", s=len(A))), "p/a/IMG_1.JPG": A,
        "p/b/IMG_1.JPG": B + b"!"}],
        {"2019-07/IMG_1.JPG": "a's", "2018-02/IMG_1.JPG": ""}),
    "a sidecar of another folder": (
        CARDS, [{"p/a/IMG_1.JPG.card.json": card("IMG_1.JPG", "a's", Y2019), "p/b/IMG_1.JPG": B}], {"IMG_1.JPG": ""}),
    "a bare name that two pictures have": (
        INDEX, [{"index.json": index(line("whose?", 0, n="I.JPG")), "p/a/I.JPG": A, "p/b/I.JPG": B}],
        {"2019-07/I.JPG": "", "2018-02/I.JPG": ""}),
}  # fmt: skip


@pytest.mark.parametrize("what", CASES)
def test_small_exports_that_went_wrong(shell: Shell, what: str) -> None:
    dialect, parts, wanted = CASES[what]
    unpack(shell, dialect, *parts)
    found = titles(shell)
    assert found == wanted


def test_a_clip_that_fits_two_stills_is_told(shell: Shell) -> None:
    pictures = {"p/I.JPG": jpeg(1), "p/I.PNG": jpeg(2), "p/I.MP4": mp4(3, Y2018)}
    told = [one["what"] for one in unpack(shell, CARDS, pictures)["findings"] if one["name"].endswith(".MP4")]
    assert told == ["it was kept with p/I.JPG; nothing tells whether it is of p/I.PNG"]
    pictures["p/I.PNG.card.json"] = card("I.PNG", "png", Y2018)
    again = unpack(shell, CARDS, pictures, order="y")
    assert titles(shell) == {"I.JPG": "", "I.PNG": "png"} and not any(
        ".MP4" in one["name"] for one in again["findings"]
    )
    files = shell("show", "I.PNG", "--json", "--library", "library").json["made_of"]
    assert "clip" in {file["role"] for file in files}


def test_a_clip_is_of_the_still_whose_record_tells_its_second(shell: Shell) -> None:
    told = index(line("jpg", Y2019, n="I.JPG"), line("jpeg", Y2018, n="I.jpeg"))
    unpack(shell, INDEX, {"p/I.JPG": jpeg(1), "p/I.jpeg": jpeg(2), "p/I.mp4": mp4(3, Y2018), "p/index.json": told})
    files = shell("show", "I.jpeg", "--json", "--library", "library").json["made_of"]
    assert {file["role"] for file in files} == {"original", "clip", "sidecar"}


def test_what_stays_open_says_why(shell: Shell) -> None:
    dialect, parts, _ = CASES["a list in a folder whose picture did not come"]
    receipt = unpack(shell, dialect, *parts)
    assert [one["name"] for one in receipt["left_out"]] == ["IMG_1.JPG"] and "no picture came" in receipt["left_out"][
        0
    ]["reason"]
    assert "p/b/IMG_1.JPG (another size)" in json.dumps(receipt["findings"])
    open_one = unpack(shell, *_numbered("a bare name that two pictures have"), order="y")
    assert open_one["left_out"] == [] and "only a name speaks for it" in json.dumps(open_one["findings"])


def _numbered(what: str) -> "tuple[Any, ...]":
    dialect, parts, _ = CASES[what]
    return (dialect, *parts)


def test_no_order_of_parts_makes_another_library(shell: Shell) -> None:
    """Whatever part holds what: the same paths, contents and sidecars."""
    entries = {name: content for what in ("an edit beside a HEIC and a JPEG", "a clip of the HEIC's second")
               for name, content in CASES[what][1][0].items()}  # fmt: skip
    entries |= {f"p/{folder}/SAME.JPG": jpeg(number, Y2018) for number, folder in enumerate("abc", 10)}
    entries |= {f"p/{folder}/SAME.JPG.card.json": card("SAME.JPG", folder, Y2018) for folder in "abc"}
    names = sorted(entries)
    seen = []
    for number, order in enumerate(itertools.islice(itertools.permutations(range(3)), 6)):
        place = Shell(shell.folder / str(number))
        place.folder.mkdir()
        parts = [
            {name: entries[name] for at, name in enumerate(names) if (at * 7 + at // 3) % 3 == part} for part in order
        ]
        unpack(place, CARDS, *parts)
        root = place.folder / "library"
        seen.append(
            {path.relative_to(root).as_posix(): path.read_bytes() for path in sorted((root / "pictures").rglob("*.*"))}
        )
    assert all(one == seen[0] for one in seen) and len(seen[0]) == 12
    shown = shell.folder / "0"
    heic_frame = Shell(shown)("show", "I.HEIC", "--json", "--library", "library").json
    assert {file["role"] for file in heic_frame["made_of"]} == {"original", "clip", "sidecar"}


def test_later_exports_balance_and_mend(shell: Shell) -> None:
    """An edit that came alone joins its original; an export that lacks something forgets nothing; what is gone is told."""
    edit, original = {"p/I~touched.JPG": C}, {"p/I.JPG": A, "p/I.JPG.card.json": card("I.JPG", "jpg", Y2019)}
    more = {"p/I.HEIC": H, "p/I.HEIC.card.json": card("I.HEIC", "heic", Y2018), "p/I.MP4": mp4(2, Y2018)}
    unpack(shell, CARDS, edit, order="x")
    assert titles(shell) == {"I~touched.JPG": ""}
    unpack(shell, CARDS, original | edit, order="y")
    assert titles(shell) == {"I.JPG": "jpg"}
    receipt = unpack(shell, CARDS, original | edit | more, order="z")
    assert titles(shell) == {"I.JPG": "jpg", "I.HEIC": "heic"}
    assert [line["amount"]["files"] for line in receipt["kept"][:2]] == [2, 2]
    again = unpack(shell, CARDS, original, order="u")
    assert titles(shell) == {"I.JPG": "jpg", "I.HEIC": "heic"} and again["kept"][0]["what"] == "in the library already"
    assert any("I.HEIC" in one["name"] and "not in this export" in one["what"] for one in again["findings"])
    files = shell("show", "I.JPG", "--json", "--library", "library").json["made_of"]
    assert {file["role"] for file in files} == {"original", "rendition", "sidecar"}


def test_a_sidecar_is_no_edit_where_its_picture_is_one(shell: Shell) -> None:
    dialect = INDEX.replace("[index.fields]", "[folders]\nalbums = ['p/*']\n[index.fields]")
    edit, original = {"p/Best/T~touched.jpg": jpeg(9)}, {"p/Best/T.jpg": jpeg(8)}
    for order, entries in (("x", edit), ("y", original), ("z", edit | original)):
        unpack(shell, dialect, entries, order=order)
    files = shell("show", "T.jpg", "--json", "--library", "library").json["made_of"]
    assert {file["path"].rpartition("/")[2]: file["role"] for file in files} == {
        "T.jpg": "original", "T~touched.jpg": "rendition", "T.jpg.xmp": "sidecar", "T~touched.jpg.xmp": "sidecar"}  # fmt: skip


def test_a_later_export_tells_two_frames_apart(shell: Shell) -> None:
    pictures = {"p/T.jpg": A, "p/T~touched.jpg": jpeg(9)}
    unpack(shell, INDEX, pictures, order="x")
    assert titles(shell) == {"T.jpg": ""}
    told = index(line("trip", Y2019, p="p/T.jpg", k="1"), line("another", Y2018, p="p/T~touched.jpg", k="2"))
    unpack(shell, INDEX, pictures | {"index.json": told}, order="y")
    assert titles(shell) == {"T.jpg": "trip", "T~touched.jpg": "another"}


def test_a_record_that_is_known_to_be_anothers_is_not_taken_for_an_edits(shell: Shell) -> None:
    """A picture that is named like an edit came with its own sidecar; later only that of the other picture comes with it."""
    dialect = CARDS.replace("{name}", "{stem}").replace('"/n"', '"/none"')
    other = {"p/T.card.json": card("", "trip", Y2019), "p/T~touched.png": jpeg(2)}
    whole = other | {"p/T.jpg": A, "p/T~touched.card.json": card("", "another", Y2018)}
    for order, entries in (("x", whole), ("y", other), ("z", whole)):
        receipt = unpack(shell, dialect, entries, order=order)
        assert titles(shell) == {"T.jpg": "trip", "T~touched.png": "another"}
        told = "p/T~touched.png (an earlier export told which is its own)"
        assert (told in json.dumps(receipt["findings"] + receipt["left_out"])) == (order == "y")


def test_an_edit_stays_where_the_picture_of_its_name_did_not_come_again(shell: Shell) -> None:
    """Its record tells another ending than the edit's; and an empty picture gives up a clip that is another's."""
    less = {"p/T.jpg": jpeg(1), "p/T.card.json": card("T.jpg", "trip", Y2019), "p/T~touched.jpg": jpeg(2),
            "p/T~touched.card.json": card("T~touched.jpeg", "another", Y2018)}  # fmt: skip
    dialect = CARDS.replace("{name}", "{stem}")
    unpack(shell, dialect, less | {"p/T~touched.jpeg": jpeg(3), "p/E.png": b"", "p/E.mp4": mp4(4, Y2018)}, order="x")
    unpack(shell, dialect, less | {"p/E.png": b"", "p/E.jpg": jpeg(5), "p/E.mp4": mp4(4, Y2018)}, order="y")
    assert titles(shell) == {"T.jpg": "trip", "T~touched.jpeg": "another", "E.png": "", "E.jpg": ""}
    for name, role in (("T.jpg", "rendition"), ("E.jpg", "clip")):
        files = shell("show", name, "--json", "--library", "library").json["made_of"]
        assert role in {file["role"] for file in files}, name


def test_what_an_earlier_export_told_of_the_wrong_picture_is_taken_back(shell: Shell) -> None:
    """The picture's own sidecar was not in it, nor the picture that the namesake's sidecar is of."""
    less = {"p/b/I.JPG": jpeg(1), "m/I.JPG.card.json": card("", "a's", Y2019)}
    whole = less | {"p/a/I.JPG": A, "m/I.JPG!.card.json": card("I.JPG", "b's", Y2018)}
    unpack(shell, APART, less, order="x")
    assert titles(shell) == {"I.JPG": "a's"}
    receipt = unpack(shell, APART, whole, order="y")
    assert titles(shell) == {"I-2.JPG": "a's", "I.JPG": ""}
    assert "another picture's, as this one shows: taken back" in json.dumps(receipt["findings"])
    packets = {path.name: path.read_bytes() for path in (shell.folder / "library/pictures").rglob("*.xmp")}
    assert b"a's" in packets["I-2.JPG.xmp"] and b"a's" not in packets["I.JPG.xmp"]


def test_members_of_albums_that_are_missing_or_were_taken_out(shell: Shell) -> None:
    lines = [line("a", Y2019, p="p/A.jpg", k="1"), line("b", Y2018, p="p/B.jpg", k="2")]
    first = unpack(
        shell,
        INDEX,
        {"p/A.jpg": A, "p/B.jpg": B, "index.json": index(*lines, albums=[{"t": "Two", "o": ["1", "2", "77"]}])},
    )
    assert any(one["name"] == "77" and "did not come" in one["what"] for one in first["findings"])
    later = unpack(
        shell,
        INDEX,
        {"p/A.jpg": A, "p/B.jpg": B, "index.json": index(*lines, albums=[{"t": "Two", "o": ["2"]}])},
        order="y",
    )
    assert any("A.jpg" in one["name"] and "taken it out of the album 'Two'" in one["what"] for one in later["findings"])
    assert shell("find", "--album", "tWO", "--library", "library", "--json").json["found"] == 2
    tried = shell("dialect", "try", "export-x", "--dialect", "mini.toml", code=None)
    assert "Two (2 frames)" in tried.out.replace("y)", "y)") or "part" in tried.err


@pytest.mark.parametrize("sought", ("été", "ETE", "E\u0301TE\u0301"))
def test_selections_fold_case_and_accents(shell: Shell, sought: str) -> None:
    unpack(
        shell,
        INDEX,
        {
            "p/A.jpg": A,
            "index.json": index(line("Été à Łódź", Y2019, p="p/A.jpg", k="1"), albums=[{"t": "ÉTÉ", "o": ["1"]}]),
        },
    )
    shell("tell", "A.jpg", "--keyword", "Été", "--person", "Été", "--location", "Été", "--library", "library")
    for words in ((sought,), ("--keyword", sought), ("--person", sought), ("--location", sought), ("--album", sought)):
        assert shell("find", *words, "--library", "library", "--json").json["found"] == 1, words
    (shell.folder / "heron").mkdir()
    shell(
        "depot",
        "add",
        "heron",
        "heron",
        "--site",
        "studio",
        "--medium",
        "ssd",
        "--stand-in",
        "heron",
        "--library",
        "library",
    )
    shell("backup", "--library", "library", code=None)
    shell("restore", "some", "--from", "heron", "--album", sought)
    assert [path.name for path in (shell.folder / "some").rglob("*.jpg")] == ["A.jpg"]


def test_a_clip_is_known_by_the_identifier_that_its_still_has(shell: Shell) -> None:
    """Two stills of one name and second: the film's identifier is in the maker's note of one of them."""
    ident = b"1F2E3D4C-0000-4000-8000-0123456789AB"

    def still(number: int, note: bytes) -> bytes:
        made = Image.new("RGB", (32, 24), (number, 90, 90))
        exif = Image.Exif()
        exif[0x8769] = {0x9003: "2019:07:03 13:00:00", 0x927C: note}
        content = io.BytesIO()
        made.save(content, "JPEG", exif=exif)
        return content.getvalue()

    film = _with_identifier(mp4(7, Y2019), ident)
    unpack(
        shell,
        CARDS,
        {"p/I.JPG": still(1, b"note\0" * 3), "p/I.JPEG": still(2, b"note\0" + ident + b"\0"), "p/I.MP4": film},
    )
    files = shell("show", "I.JPEG", "--json", "--library", "library").json["made_of"]
    assert {file["role"] for file in files} == {"original", "clip"}


def _with_identifier(film: bytes, ident: bytes) -> bytes:
    """A film with a metadata atom that tells its content identifier."""

    def box(kind: bytes, content: bytes) -> bytes:
        return (len(content) + 8).to_bytes(4, "big") + kind + content

    key = b"x.quicktime.content.identifier"
    keys = box(b"keys", b"\0\0\0\0\0\0\0\1" + box(b"mdta", key))
    values = box(b"ilst", box(b"\0\0\0\1", box(b"data", b"\0\0\0\1\0\0\0\0" + ident)))
    meta = box(b"meta", box(b"hdlr", b"\0" * 8 + b"mdta" + b"\0" * 13) + keys + values)
    at_movie = film.index(b"moov") - 4
    return film[:at_movie] + box(b"moov", film[at_movie + 8 :] + meta)


def test_an_edits_own_words_are_kept_and_nothing_changes_with_the_same_export_again(shell: Shell) -> None:
    dialect, parts, _ = CASES["an edit with a record, of the same moment"]
    unpack(shell, dialect, *parts)
    before = shell("show", "T.jpg", "--library", "library", "--json").json
    assert {claim["value"] for claim in before["claims"] if claim["field"] == "title"} == {"plain", "grey"}
    again = unpack(shell, dialect, *parts, order="y")
    after = shell("show", "T.jpg", "--library", "library", "--json").json
    assert "updated" not in again["about"] and before == after and before["believed"]["title"] == "plain"


def test_an_export_that_lacks_an_original_knows_no_better(shell: Shell) -> None:
    """The edit's word stays beneath its original's, and a clip stays with the still that another export showed to be its own."""
    lines = [line("plain", Y2019, p="p/T.jpg", k="1"), line("grey", Y2019, p="p/T~touched.jpg", k="2")]
    whole = {
        "p/T.jpg": A,
        "p/T~touched.jpg": C,
        "p/T.png": jpeg(5),
        "p/T.mp4": mp4(5, Y2019),
        "index.json": index(*lines),
    }
    less = {name: content for name, content in whole.items() if name != "p/T.jpg"}
    for order, entries in (("x", less), ("y", whole), ("z", less)):
        unpack(shell, INDEX, entries, order=order)
        if order != "x":
            assert titles(shell) == {"T.jpg": "plain", "T.png": ""}
            files = shell("show", "T.jpg", "--json", "--library", "library").json["made_of"]
            assert {file["role"] for file in files} == {"original", "rendition", "clip", "sidecar"}


def test_an_export_that_lacks_a_record_brings_nothing_together(shell: Shell) -> None:
    """A record that another export had tells two frames apart; without it, one looks like an edit of the other."""
    dated = XMP.replace(b"dc:title", b'xmlns:p="http://ns.adobe.com/photoshop/1.0/" p:DateCreated="%s" dc:title')
    whole = {
        "p/T.jpg": A,
        "p/T.png": jpeg(5),
        "p/T.png.xmp": dated % b"2006-05-06T21:45:02",
        "p/T~touched.jpg": jpeg(6),
        "p/T~touched.jpg.xmp": dated % b"2025-01-25T19:58:26",
    }
    less = {name: content for name, content in whole.items() if name != "p/T.png.xmp"}
    for order, entries in (("x", whole), ("y", less), ("z", whole)):
        unpack(shell, BESIDE.replace("{stem}.xmp", "{name}.xmp"), entries, order=order)
        assert titles(shell) == {"T.jpg": "", "T.png": "XMP title", "T~touched.jpg": "XMP title"}, order
        told = shell("show", "T.png", "--json", "--library", "library").json["claims"]
        assert [one["value"] for one in told if one["field"] == "taken"] == ["2006-05-06T21:45:02"]


def test_an_export_that_lacks_the_original_of_an_edit_gives_the_edit_nothing(shell: Shell) -> None:
    dated = XMP.replace(b"dc:title", b'xmlns:p="http://ns.adobe.com/photoshop/1.0/" p:DateCreated="%s" dc:title')
    less = {
        "p/T.jpg.xmp": XMP,
        "p/T~touched.jpg": jpeg(7),
        "p/T~touched~touched.jpg": jpeg(8),
        "p/T~touched~touched.jpg.xmp": dated % b"2001-03-19T19:51:05",
    }
    for order, entries in (("x", less | {"p/T.jpg": jpeg(6)}), ("y", less)):
        unpack(shell, BESIDE.replace("{stem}.xmp", "{name}.xmp"), entries, order=order)
        assert titles(shell) == {"T.jpg": "XMP title", "T~touched~touched.jpg": "XMP title"}, order


def test_an_edit_and_its_clip_join_an_original_that_is_here_already(shell: Shell) -> None:
    others = {"p/T~touched.jpg": C, "p/T.mp4": mp4(5, Y2019)}
    unpack(shell, INDEX, others | {"p/Z.jpg": A}, order="x")
    assert titles(shell) == {"Z.jpg": "", "T.mp4": ""}
    unpack(shell, INDEX, others | {"p/T.jpg": A}, order="y")
    assert titles(shell) == {"Z.jpg": ""}
    files = shell("show", "Z.jpg", "--json", "--library", "library").json["made_of"]
    assert {file["role"] for file in files} == {"original", "rendition", "clip"}


def test_a_clip_that_came_with_an_edit_goes_to_its_own_still(shell: Shell) -> None:
    others = {"p/T~touched.jpg": jpeg(6), "p/T.live.mp4": mp4(5, Y2018)}
    dialect = INDEX.replace("[names]", "[names]\nclips = ['.live']")
    unpack(shell, dialect, others, order="x")
    assert titles(shell) == {"T~touched.jpg": ""}, "the film may be its clip: nothing says otherwise"
    unpack(shell, dialect, others | {"p/T.jpg": jpeg(7), "p/T.png": B}, order="y")
    roles = {
        name: {file["role"] for file in shell("show", name, "--json", "--library", "library").json["made_of"]}
        for name in ("T.jpg", "T.png")
    }
    assert roles == {"T.jpg": {"original", "rendition"}, "T.png": {"original", "clip"}}


def test_parts_that_are_not_here_may_come_later(shell: Shell) -> None:
    parts = [
        {f"p/{n}.jpg": jpeg(n, Y2019), f"p/{n}.jpg.card.json": card(f"{n}.jpg", f"no {n}", Y2019)} for n in range(1, 4)
    ]
    parts[0]["p/2.jpg.card.json"] = parts[1].pop("p/2.jpg.card.json")
    unpack(shell, CARDS, *parts, order="w")
    export, place = shell.folder / "export-w", Shell(shell.folder / "other")
    place.folder.mkdir()
    (export / "w-2.zip").rename(shell.folder / "w-2.zip")
    place("new", "library")
    dialect = str(shell.folder / "mini.toml")
    command = ["unpack", "--from", str(export), "--dialect", dialect, "--library", "library", "--json"]
    assert "or file what is here: --without 2" in place(*command, code=3).json["remedy"]
    for wrong, said in (("3", "Part 3 is here"), ("zz-2.part2.zip", "no part of w"), ("2nd", "no part of w")):
        assert said in place(*command, "--without", "2", "--without", wrong, code=2).json["error"]
    receipt = place(*command, "--without", "w-2.zip", code=1).json
    assert receipt["balanced"] and [(one["name"], "not here" in one["reason"]) for one in receipt["left_out"]] == [
        ("2.jpg", True), ("part 2", True)
    ]  # fmt: skip
    (shell.folder / "w-2.zip").rename(export / "w-2.zip")
    result = place(*command, code=None)
    whole = result.json
    assert result.code == 0, "where nothing is to be seen to"
    assert (
        whole["left_out"] == []
        and titles(place) == titles(shell)
        and whole["about"]["order"] == receipt["about"]["order"]
    )


def test_a_second_export_of_one_name_keeps_the_first_ones_delivered_data(shell: Shell) -> None:
    """And a name with a slash is kept as it was, and each new name says why."""
    true = "half / half.jpg"
    first = unpack(
        shell, INDEX, {"p/half _ half.jpg": A, "index.json": index(line("one", Y2019, p="p/half _ half.jpg", n=true))}
    )
    again = unpack_folder(shell)
    (shell.folder / "export-x").rename(shell.folder / "export-first")
    second = unpack(shell, INDEX, {"p/con.jpg": B, "p/con~1.jpg": jpeg(30, Y2018), "index.json": index(
        line("two", Y2018, p="p/con.jpg"), line("three", Y2018, p="p/con~1.jpg", n="con.jpg"))})  # fmt: skip
    assert again["about"]["order"] == first["about"]["order"] == "x" and second["about"]["order"].startswith("x-")
    assert len(list((shell.folder / "library/delivered/mini").iterdir())) == 2
    shown = shell("show", "half _ half.jpg", "--library", "library", "--json").json
    assert [file["former_name"] for file in shown["made_of"] if file["role"] == "original"] == [true]
    why = {one["name"].rpartition("/")[2]: one["what"] for one in second["findings"] if "came as" in one["what"]}
    assert why["_con.jpg"].endswith("; that name does not work on every drive")
    assert why["_con-2.jpg"].endswith("every drive, and the nearest one was taken")


def unpack_folder(shell: Shell) -> dict[str, Any]:
    done = shell("unpack", "--from", "export-x", "--dialect", "mini.toml", "--library", "library", "--json")
    receipt: dict[str, Any] = json.loads(done.out)
    return receipt


def test_a_path_may_begin_where_one_is(shell: Shell) -> None:
    unpack(shell, INDEX, {"p/A.jpg": A, "index.json": index(line("a", Y2019, p="p/A.jpg"))})
    place = next((shell.folder / "library").rglob("A.jpg"))
    for cwd, name in ((place.parent, "A.jpg"), (place.parent, "./A.jpg"), (shell.folder, place.relative_to(shell.folder)),
                      (shell.folder, place), (place.parent, "../2019-07/A.jpg.xmp")):  # fmt: skip
        library = shell.folder / "library"
        assert shell("show", name, "--library", library, "--json", cwd=cwd).json["believed"]["title"] == "a", name
    shell("tell", place.relative_to(shell.folder), "--title", "b", "--library", "library")
