"""The house as docs/architecture.md draws it: arrows point down only, and what a room may not do it does not do.

The arrows are drawn from the imports themselves, the lazy ones inside functions included.
"""

import ast
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from bramblemoor.frames.claims import Facts
from bramblemoor.frames.fields import FIELDS, TOLD
from bramblemoor.services.moving import Told

SOURCE = Path(__file__).parents[1] / "src/bramblemoor"
FLOORS = (
    ("cli",),
    ("migrate",),
    ("intake",),
    ("exports", "depots", "services", "looking"),
    ("library", "wire"),
    ("frames", "disk", "planning", "running", "processes", "errors"),
)
"""From the top down. A room takes from lower floors only, and from none on its own floor, but for what BESIDE says."""
BESIDE = {("frames", "running"), ("disk", "errors"), ("disk", "running"), ("frames", "errors"), ("processes", "errors")}
MOST_LINES, MOST_OF_A_FUNCTION = 450, 70


@dataclass(frozen=True)
class Arrow:
    """One import: by which file, of which module, and what is taken from it."""

    file: str
    module: str
    taken: str

    def __str__(self) -> str:
        return f"{self.file} takes {self.taken} of {self.module}"


@cache
def parsed() -> dict[str, ast.Module]:
    return {path.relative_to(SOURCE).as_posix(): ast.parse(path.read_text()) for path in sorted(SOURCE.rglob("*.py"))}


@cache
def modules() -> set[str]:
    return {name.removesuffix(".py").removesuffix("/__init__").replace("/", ".") for name in parsed()}


def arrows() -> Iterator[Arrow]:
    for file, tree in parsed().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom):
                assert node.level == 0, f"{file} imports by dots: name the room"
                module = (node.module or "").removeprefix("bramblemoor").removeprefix(".")
                if (node.module or "").partition(".")[0] == "bramblemoor":
                    for name in node.names:
                        whole = f"{module}.{name.name}" if f"{module}.{name.name}" in modules() else module
                        yield Arrow(file, whole, name.name)
            elif isinstance(node, ast.Import):
                for name in node.names:
                    if name.name.partition(".")[0] == "bramblemoor":
                        yield Arrow(file, name.name.removeprefix("bramblemoor."), name.name)


def room(name: str) -> str:
    """The room of a file or of a module."""
    return re.split(r"[/.]", name)[0]


def floor(name: str) -> int:
    return next(number for number, rooms in enumerate(FLOORS) if name in rooms)


def test_arrows_point_down() -> None:
    known = {one for rooms in FLOORS for one in rooms}
    wrong = []
    for arrow in arrows():
        here, there = room(arrow.file), room(arrow.module)
        if here in ("__main__", "__init__") or here == there or not there:
            continue
        if there == "standins":
            wrong += [] if here == "cli" else [arrow]
        elif here == "standins":
            # The simulated drives are drives: they take nothing of the house but the seam that they fill.
            wrong += [] if arrow.module.startswith("depots.kinds") or floor(there) == len(FLOORS) - 1 else [arrow]
        else:
            assert {here, there} <= known, f"{arrow}: no floor was given to that room"
            wrong += [] if floor(here) < floor(there) or (here, there) in BESIDE else [arrow]
    assert not wrong, "\n".join(map(str, wrong))


VERBS = r"depots\.(?!bag|engine|kinds|register|standing|archives)\w+$"
NEVER = (
    # What lies at a depot knows no ledger of a library, and not how it is copied there; the ledger that lies there is a file.
    (r"depots/bag/", r"depots\.(engine|register|standing|archives)"),
    (r"depots/bag/", VERBS),
    (r"depots/bag/(?!contents)", r"library\.(ledger|home|catalogue|erasing|stocktake)"),
    # A kind of place knows its interface, and no other kind.
    (r"depots/kinds/folder", r"depots\.(?!kinds\.(interface|medium|folder_stager))"),
    (r"depots/kinds/(interface|medium)", r"depots\.(?!kinds\.interface)"),
    (r"depots/(engine|register|standing)/", VERBS),
    (r"services/kinds/(?!__init__)", r"services\.(?!interface|moving|tree_survey|kinds\.parcel_http)"),
    (r"exports/containers/(?!__init__)", r"exports\.(?!containers\.interface)"),
    (r"exports/(?!drafting/)", r"exports\.drafting"),
    (r"cli/(say|common|options)\.py", r"cli\.[a-z]+\.[a-z_]+$"),
)
"""Within a room: files that begin so take nothing of modules that begin so."""
PLACES = r"depots/(bag|register|standing)/|depots/(backup|verify|level|purge)\.py"
TOUCHING = {"os", "shutil", "glob", "fcntl", "mmap"}


def test_each_room_of_a_room_has_its_place() -> None:
    wrong = [
        arrow
        for arrow in arrows()
        for here, there in NEVER
        if re.match(here, arrow.file) and re.match(there, arrow.module)
    ]
    assert not wrong, "\n".join(map(str, wrong))


def test_only_kinds_touch_the_place_where_a_depot_lies() -> None:
    """No work on depots knows folders: what is there is asked of the store, by paths that are text."""
    wrong = [str(arrow) for arrow in arrows() if re.match(PLACES, arrow.file) and arrow.module == "disk.durable"
             and arrow.taken not in ("TEMPORARY", "NAME_REFUSED")]  # fmt: skip
    for file, tree in parsed().items():
        if re.match(PLACES, file):
            wrong += [
                f"{file}:{node.lineno}: import {name.name}"
                for node in ast.walk(tree)
                if isinstance(node, ast.Import)
                for name in node.names
                if name.name in TOUCHING and file not in KNOW_THE_LIBRARYS_FOLDER
            ]
    assert not wrong, "\n".join(wrong)


KNOW_THE_LIBRARYS_FOLDER = ("depots/register/register.py", "depots/register/known.py")
"""Where a depot lies is told relative to the library: that is a matter of names."""


def test_one_file_writes_to_the_table_of_copies() -> None:
    writing = re.compile(r"(INSERT( OR \w+)? INTO|UPDATE|DELETE FROM) (main\.)?copies\b")
    found = {file for file in parsed() if writing.search((SOURCE / file).read_text())}
    assert found <= {"library/copies.py", "library/schema.py"}, found


def test_nothing_below_the_commands_talks() -> None:
    """Below `cli` nothing prints, asks, or imports what prints and asks. The writing process speaks to its run through pipes."""
    for file, tree in parsed().items():
        if room(file) in ("cli", "standins"):
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.Import | ast.ImportFrom):
                names = [node.module or ""] if isinstance(node, ast.ImportFrom) else [name.name for name in node.names]
                assert not {name.partition(".")[0] for name in names} & {"typer", "rich", "click"}, file
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                assert node.func.id not in ("print", "input"), f"{file}:{node.lineno}"


def test_commands_run_no_sql() -> None:
    begins = re.compile(r"\s*(SELECT|INSERT|UPDATE|DELETE|CREATE|DROP|WITH|PRAGMA|ATTACH)\s")
    wrong = []
    for file, tree in parsed().items():
        if room(file) != "cli":
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.Attribute) and node.attr in ("db", "execute", "executemany", "executescript"):
                wrong.append(f"{file}:{node.lineno}: {ast.unparse(node)}")
            elif isinstance(node, ast.Constant) and isinstance(node.value, str) and begins.match(node.value):
                wrong.append(f"{file}:{node.lineno}: {node.value[:60]!r}")
    assert not wrong, "\n".join(wrong)


def test_files_and_functions_are_of_a_size_to_read() -> None:
    wrong = []
    for file, tree in parsed().items():
        lines = (SOURCE / file).read_text().count("\n")
        if lines > MOST_LINES:
            wrong.append(f"{file} has {lines} lines")
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                first = min([node.lineno, *(one.lineno for one in node.decorator_list)])
                length = (node.end_lineno or 0) - first + 1
                if length > MOST_OF_A_FUNCTION:
                    wrong.append(f"{file}:{node.lineno}: {node.name} has {length} lines")
    assert not wrong, "\n".join(wrong)


def test_rooms_keep_what_is_their_own() -> None:
    """An underscore name belongs to its file: nobody imports it, or reaches for it through a module."""
    wrong = [str(arrow) for arrow in arrows() if re.match(r"_[^_]", arrow.taken.rpartition(".")[2])]
    for file, tree in parsed().items():
        imported = {
            name.asname or name.name
            for node in ast.walk(tree)
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("bramblemoor")
            for name in node.names
        }
        wrong += [
            f"{file}:{node.lineno}: {ast.unparse(node)}"
            for node in ast.walk(tree)
            if isinstance(node, ast.Attribute) and re.match(r"_[^_]", node.attr)
            if isinstance(node.value, ast.Name) and node.value.id in imported
        ]
    assert not wrong, "\n".join(wrong)


def test_the_drawn_house_is_the_built_one() -> None:
    """Every room stands in docs/architecture.md, and so does every file in the room's own row."""
    told = (SOURCE.parents[1] / "docs/architecture.md").read_text()
    for file in parsed():
        if "/" in file and not file.endswith("__init__.py"):
            where, _, name = file.removesuffix(".py").rpartition("/")
            assert f"`{where}/`" in told, f"docs/architecture.md knows no room {where}/"
            assert re.search(rf"\b{name}\b", told), f"docs/architecture.md does not tell of {file}"


ENDINGS = re.compile(
    r"\.?(jpe?g|heic|tiff?|png|webp|dng|cr2|nef|arw|mp4|m4v|mov|avi|mkv|wav|mp3|xmp|psd|thm)", re.IGNORECASE
)
ENDING_IN_SQL = re.compile(r"'%?\.(jpe?g|heic|tiff?|png|dng|mp4|mov|xmp)'", re.IGNORECASE)
MAY_NAME_ENDINGS = {
    "frames/kinds.py": "the registry",
    "frames/xmp_names.py": "the prefix of a namespace",
    "frames/xmp_reading.py": "the source of claims",
    "frames/xmp_edits.py": "the source of claims",
    "frames/claims.py": "the source of claims",
    "frames/moments.py": "months and zones",
    "looking/sheets.py": "what a sheet is written as",
    "looking/page.py": "what thumbnails are written as",
    "looking/cull_page.py": "what thumbnails are written as",
    "frames/showing.py": "what is drawn is written as",
    "disk/names.py": "the room that a name leaves for its sidecar's",
    "wire/webdav.py": "the name of what a server is tried with",
    "intake/lending.py": "what small copies are written as",
    "exports/drafting/sampling.py": "documents of a service",
    "exports/drafting/draft.py": "the form of a service's documents",
    "exports/delivered.py": "the family of a record",
    "exports/dialect_rules.py": "the form of a service's documents",
    "exports/records.py": "the form of a service's documents",
    "exports/pairing.py": "the family of a record",
}
"""Files in which a text is an ending, or looks like one, and what it is there."""


def _texts(tree: ast.Module) -> Iterator[tuple[int, str]]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, node.value


def test_what_a_file_is_stands_in_one_registry() -> None:
    """Nothing outside `frames/kinds.py` has a list of endings, or compares a name with one."""
    wrong = [
        f"{file}:{line}: {text!r}"
        for file, tree in parsed().items()
        if room(file) != "standins" and file not in MAY_NAME_ENDINGS
        for line, text in _texts(tree)
        if ENDINGS.fullmatch(text) and text != "xmp"  # the source of claims
    ]
    wrong += [
        f"{file}:{line}: {text!r}"
        for file, tree in parsed().items()
        for line, text in _texts(tree)
        if ENDING_IN_SQL.search(text)
    ]
    beside = [
        f"{file}:{node.lineno}"
        for file, tree in parsed().items()
        if file not in MAY_NAME_ENDINGS and room(file) != "standins"
        for node in ast.walk(tree)
        if isinstance(node, ast.Call)
        and isinstance(node.func, ast.Attribute)
        and node.func.attr in ("endswith", "removesuffix")
        if any(isinstance(arg, ast.Constant) and ENDINGS.fullmatch(str(arg.value)) for arg in node.args)
    ]
    assert not wrong and not beside, "\n".join([*wrong, *beside])


FIELD_NAMES = {"title", "caption", "creator", "rights", "terms", "label", "rating", "keywords", "people"}
MAY_LIST_FIELDS = {
    "frames/fields.py": "the table",
    "frames/claims.py": "what is believed, by the names that the table checks",
    "services/moving.py": "what travels, which the table checks",
    "library/metadata_templates.py": "the keys of a preset's file",
    "cli/library/templates.py": "the options of a command",
    "cli/options.py": "the options of a selection",
    "exports/drafting/fields.py": "how services call them",
    "cli/library/tell.py": "the options of a command",
}


def test_what_can_be_known_stands_in_one_table() -> None:
    """No other file names as many fields in one list or dictionary; and whoever has a field of the table has all that it has."""
    wrong = []
    for file, tree in parsed().items():
        if room(file) == "standins" or file in MAY_LIST_FIELDS:
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.Tuple | ast.List | ast.Dict | ast.Set):
                texts = {
                    one.value for one in ast.walk(node) if isinstance(one, ast.Constant) and isinstance(one.value, str)
                }
                if len(texts & FIELD_NAMES) >= 5:
                    wrong.append(f"{file}:{node.lineno}")
    assert not wrong, "\n".join(sorted(set(wrong)))
    facts = set(Facts.__struct_fields__)
    assert {field.name for field in FIELDS} <= facts
    assert {field.name for field in TOLD} == set(Told.__struct_fields__)


WRITING = {"replace", "rename", "copyfile", "copy2", "copy", "link", "symlink"}
WRITE_IN_PICTURES = {
    "library/receiving.py": "the door",
    "library/sidecars.py": "what is known, beside a picture",
    "library/rearranging.py": "moves what is here",
    "library/culling.py": "takes out, and brings back, what is here",
    "library/stocktake/stock.py": "a sidecar follows its picture",
    "library/home.py": "sets aside what was in the way",
    "library/around.py": "makes a library of what lies there",
    "depots/bringing.py": "a restored library, which is new",
    "exports/unpack.py": "copies a twin within the folder of work",
    "exports/staging.py": "stages within the folder of work",
    "library/giving.py": "copies for others, outside",
}


def test_files_come_into_a_library_by_one_door() -> None:
    """Nothing in the rooms that take pictures in puts a file in place by itself: it is handed to `library/receiving.py`."""
    wrong = [
        f"{file}:{node.lineno}: {ast.unparse(node)[:90]}"
        for file, tree in parsed().items()
        if room(file) in ("intake", "exports", "services", "migrate", "library")
        and file not in WRITE_IN_PICTURES
        and not file.startswith(("exports/drafting", "services/", "migrate/"))
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in WRITING
        if (isinstance(node.func.value, ast.Name) and node.func.value.id in ("os", "shutil"))
        or any("library.root" in ast.unparse(arg) for arg in node.args)
    ]
    wrong += [
        str(arrow)
        for arrow in arrows()
        if arrow.taken in ("replacing", "write_atomically") and room(arrow.file) in ("intake", "exports")
        and arrow.file not in ("intake/kept_plan.py", "intake/leftovers.py")
    ]  # fmt: skip  # a plan, and what is kept in delivered/
    assert not wrong, "\n".join(wrong)
