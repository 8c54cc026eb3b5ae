"""Dialects: mistakes in them, drafts, trials, names and values; and parcels of made-up services in numbers."""

import io
import json
import re
import subprocess
import sys
import tarfile
import zipfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Literal, get_args

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bramblemoor.disk.names import AMBIGUOUS, safe_name
from bramblemoor.exports import forms
from bramblemoor.exports.dialect import BadDialect, read_dialect
from bramblemoor.exports.dialect_rules import (
    AlbumRules,
    EntryGlobs,
    FieldName,
    FieldRule,
    Folders,
    Heading,
    Names,
    PositionRule,
    RecordRules,
)
from bramblemoor.exports.forms import Form
from bramblemoor.exports.templates import WORDS, BadTemplate, Template, cut, folded
from bramblemoor.frames.moments import parse_moment
from bramblemoor.standins.drawing import draw, jpeg
from conftest import ROOT, Shell, pictures

PICTURE = jpeg(draw("owls", "dusk", 3, (96, 64)))
GOOD = """[dialect]
name = "own"
part_name = 'own-(?P<order>\\w+)-(?P<number>\\d+)\\.zip'
[entries]
sidecars = ["**/*.facts"]
pictures = ["**/*.jpg"]
[names]
sidecar = ["{folder}{stem + counter | cut 20 characters}.facts"]
counter = " {n}"
[sidecar]
file_name = "/called"
[sidecar.fields]
title = { at = "/title" }
taken = { at = "/when", form = "date", pattern = "%d.%m.%Y %H:%M" }
"""


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ('name = "own"', "name = own", ("line 2", "no TOML")),
        ('name = "own"', "name = 7", ("line 2, dialect.name", "expected `str`, got `int`")),
        ("[entries]", "[entrys]", ("line 4, entrys", "unknown field")),
        ('title = { at = "/title" }', 'title = { at = "title" }',
         ("line 13, sidecar.fields.title.at", "JSON pointer was expected")),
        ('title = { at = "/title" }', 'titel = { at = "/title" }', ("line 13, sidecar.fields", "titel")),
        ("%d.%m.%Y %H:%M", "DD.MM", ("line 14", "a date pattern like")),
        ('form = "date"', 'form = "dates"', ("line 14, sidecar.fields.taken.form", "dates")),
        ("(?P<order>\\w+)", "(\\w+", ("line 3, dialect.part_name", "regular expression was expected")),
        ("(?P<order>\\w+)", "(\\w+)", ("line 3", "(?P<order>...)")),
        ("cut 20 characters", "cut 20", ("line 8, names.sidecar", "steps are")),
        ("{folder}", "{place}", ("line 8", "'place' is no word of the language")),
        ('counter = " {n}"', 'counter = "n"', ("line 9, names.counter", "{n} was expected")),
        ('pictures = ["**/*.jpg"]', "", ("line 4, entries", "at least one pattern")),
        ('file_name = "/called"', 'file_name = "/called"\nformat = "xml"', ("sidecar.fields.title.at", "an XPath was expected")),
    ],
)  # fmt: skip
def test_a_mistake_in_a_dialect_is_named(
    shell: Shell, tmp_path: Path, old: str, new: str, words: tuple[str, ...]
) -> None:
    assert old in GOOD
    text = GOOD.replace(old, new)
    if "XPath" in words[1]:
        text = text.replace('at = "/title"', 'at = "//["')
    (tmp_path / "own.toml").write_text(text)
    error = shell("dialect", "show", "own.toml", code=2).err
    assert "own.toml" in error and all(word in error for word in words), error
    with pytest.raises(BadDialect):
        read_dialect(text, "own.toml")


ROWS = """[dialect]
name = "own"
part_name = 'own-(?P<order>\\w+)-(?P<number>\\d+)\\.zip'
[entries]
albums = ["sets.csv"]
sidecars = ["NFD/*.json"]
pictures = ["p/*"]
[names]
sidecar = ["NFD/{number | pad 6}.json", "NFD/at-{position | pad 3}.json"]
[sidecar]
reference = "/k"
clips = "/moves"
[sidecar.fields]
title = { at = "/t" }
[album]
format = "csv"
separator = ";"
title = "set"
form = "html"
order = "shows"
order_separator = " "
"""


def entries_in(folder: Path, name: str, entries: list[tuple[str, bytes]]) -> None:
    folder.mkdir(exist_ok=True)
    with zipfile.ZipFile(folder / name, "w") as archive:
        for entry, content in entries:
            archive.writestr(entry, content)


def facts(number: int, called: str) -> bytes:
    return json.dumps({"called": called, "title": f"Title {number}", "when": f"02.05.2026 20:{number:02}"}).encode()


def test_a_dialect_of_ones_own_is_drafted_tried_and_used(shell: Shell, tmp_path: Path) -> None:
    entries = []
    for number in range(12):
        stem = f"Lanterns over the landing {number:02}"
        entries += [
            (f"out/{stem}.jpg", PICTURE + bytes([number])),
            (f"out/{stem}.jpg.facts", facts(number, f"{stem}.jpg")),
        ]
    entries_in(tmp_path / "parcel", "lane-X7-1of1.zip", entries)
    shell("dialect", "draft", "parcel", "--out", "lane.toml")
    text = (tmp_path / "lane.toml").read_text()
    assert 'sidecar = ["{folder}{name}.facts"]' in text and 'file_name = "/called"  # in 100%' in text
    assert 'form = "date", pattern = "%d.%m.%Y %H:%M"' in text
    assert "is there already" in shell("dialect", "draft", "parcel", "--out", "lane.toml", code=2).err
    tried = shell("dialect", "try", "parcel", "--dialect", "lane.toml", "--json").json
    assert (tried["frames"], tried["paired"], {"field": "taken", "records": 12} in tried["fields"]) == (
        12,
        12,
        True,
    ) and len(tried["examples"]) == 10
    shell("new", "library")
    assert not list((tmp_path / "library/pictures").rglob("*")), "trying writes nothing"
    receipt = shell("unpack", "--from", "parcel", "--dialect", "lane.toml", "--library", "library", "--json").json
    assert receipt["balanced"] and receipt["kept"][0]["amount"]["frames"] == 12
    shown = shell("show", "Lanterns over the landing 07.jpg", "--library", "library", "--json").json["believed"]
    assert (shown["title"], shown["taken"]) == ("Title 7", "2026-05-02T20:07:00")


def test_a_dialect_that_fits_nothing_names_what_is_nearest(shell: Shell, tmp_path: Path) -> None:
    entries_in(tmp_path / "parcel", "own-A-1.zip", [("album/one.jpeg", PICTURE), ("one.fact", b"{}"), ("x.bin", b"")])
    (tmp_path / "own.toml").write_text(GOOD)
    shell("new", "library")
    error = shell("unpack", "--from", "parcel", "--dialect", "own.toml", "--library", "library", code=3).err
    assert "fits nothing in own-A-1.zip" in error and "album/one.jpeg" in error and "one.fact" in error
    said = shell("dialect", "try", "parcel", "--dialect", "own.toml", code=3).err
    assert "dialect try" in said
    assert "cannot be told from its name" in shell("unpack", "--from", "parcel", "--library", "library", code=2).err


def test_what_stays_open_is_said(shell: Shell, tmp_path: Path) -> None:
    """Two entries of one name, each with a sidecar of one name: nothing tells which is whose, and nothing is guessed."""
    entries = [
        ("a/twice.jpg", PICTURE + b"1"), ("a/twice.jpg", PICTURE + b"2"), ("a/twice.facts", facts(1, "twice.jpg")),
        ("a/twice.facts", facts(2, "twice.jpg")), ("a/alone.jpg", PICTURE + b"3"), ("a/gone.facts", facts(3, "gone.jpg")),
        ("a/odd.jpg", PICTURE + b"4"), ("a/odd.facts", b'{"called": "odd.jpg", "when": "yesterday"}'),
        ("a/dark.jpg", b""), ("a/dim.jpg", b""), ("a/dark.facts", facts(4, "dark.jpg")), ("a/dim.facts", facts(5, "dim.jpg")),
    ]  # fmt: skip
    with pytest.warns(UserWarning, match="Duplicate name"):
        entries_in(tmp_path / "parcel", "own-A-1.zip", entries)
    (tmp_path / "own.toml").write_text(GOOD)
    tried = shell("dialect", "try", "parcel", "--dialect", "own.toml", code=1)
    for words in (
        "Records without a picture: 3",
        "a/twice.jpg; candidates: a/twice.facts (fits as well as others)",
        "a/gone.facts",
        "a/alone.jpg",
        "'yesterday' is not written like",
    ):
        assert words in tried.out, tried.out
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--dialect", "own.toml", "--library", "library", "--json").json
    assert receipt["balanced"] and [left["name"] for left in receipt["left_out"]] == ["gone.jpg"]
    assert receipt["kept"][0]["amount"]["frames"] == 6, "both of one name, and both empty ones, are kept"
    found = "\n".join(f"{finding['name']}: {finding['what']}" for finding in receipt["findings"])
    assert (
        found.count("nothing was guessed") == 2 and found.count("it is empty") == 2 and "alone.jpg: no sidecar" in found
    )
    names = [path.rpartition("/")[2] for path in pictures(tmp_path / "library") if path.endswith(".jpg")]
    assert sorted(names) == ["alone.jpg", "dark.jpg", "dim.jpg", "odd.jpg", "twice-2.jpg", "twice.jpg"]
    for name, title in (("dark.jpg", "Title 4"), ("dim.jpg", "Title 5"), ("twice.jpg", "")):
        assert (shell("show", name, "--library", "library", "--json").json["believed"]["title"] or "") == title
    again = shell("unpack", "--from", "parcel", "--dialect", "own.toml", "--library", "library", "--json").json
    assert again["kept"][0] == receipt["kept"][0] | {"what": "in the library already"}, "nothing is doubled"
    assert again["balanced"] and again["left_out"] == receipt["left_out"]


def test_parts_in_every_container(shell: Shell, tmp_path: Path) -> None:
    shell("new", "library")
    text = GOOD.replace(".zip'", ".(?:zip|tar|tar.gz)'")
    (tmp_path / "own.toml").write_text(text)
    made = [("pics/A.jpg", PICTURE), ("pics/A.facts", facts(1, "A.jpg")), ("letters/to ada.txt", b"dear")]

    def unpacked(source: str, code: int = 0) -> str:
        done = shell("unpack", "--from", source, "--dialect", "own.toml", "--library", "library", "--json", code=code)
        return done.out or done.err

    modes: tuple[tuple[str, Literal["w", "w:gz"]], ...] = (("tar", "w"), ("tar.gz", "w:gz"))
    for kind, mode in modes:
        (tmp_path / kind).mkdir()
        with tarfile.open(tmp_path / kind / f"own-{kind.replace('.', '')}-1.{kind}", mode) as archive:
            for name, content in made:
                info = tarfile.TarInfo("./" + name)
                info.size = len(content)
                archive.addfile(info, io.BytesIO(content))
        assert json.loads(unpacked(kind))["came_in"]["files"] == 3
    by_hand = tmp_path / "by hand"
    for name, content in made:
        (by_hand / name).parent.mkdir(parents=True, exist_ok=True)
        (by_hand / name).write_bytes(content)
    (by_hand / "pics/link.jpg").symlink_to("A.jpg")
    receipt = json.loads(unpacked("by hand"))
    assert receipt["balanced"] and receipt["kept"][0]["what"] == "in the library already"
    assert (by_hand / "pics/A.jpg").read_bytes() == PICTURE, "a folder is read, and never changed"
    with zipfile.ZipFile(next((tmp_path / "library/delivered").rglob("by hand/*.zip"))) as delivered:
        assert delivered.read("letters/to ada.txt") == b"dear"
    whole = (tmp_path / "tar.gz/own-targz-1.tar.gz").read_bytes()
    for what, content in (("cut", whole[:-300]), ("flipped", whole[:200] + bytes([whole[200] ^ 1]) + whole[201:])):
        (tmp_path / what).mkdir()
        (tmp_path / what / f"own-{what}-1.tar.gz").write_bytes(content)
        assert "is damaged" in unpacked(what, 3)
    for what, tar_type, name in (
        ("link", tarfile.SYMTYPE, "pics/B.jpg"),
        ("up", tarfile.REGTYPE, "../up.jpg"),
        ("pipe", tarfile.FIFOTYPE, "p"),
    ):
        (tmp_path / what).mkdir()
        with tarfile.open(tmp_path / what / f"own-{what}-1.tar", "w") as archive:
            info = tarfile.TarInfo(name)
            info.type, info.linkname = tar_type, "/etc/passwd"
            archive.addfile(info, io.BytesIO())
        said = unpacked(what, 3)
        assert f"own-{what}-1.tar: the entry" in said and "Nothing was unpacked" in said
    assert not list((tmp_path).rglob("up.jpg"))


def test_parts_twice_missing_and_mixed(shell: Shell, tmp_path: Path) -> None:
    shell("new", "library")
    (tmp_path / "own.toml").write_text(GOOD)
    for number in (1, 2, 3):
        entries_in(tmp_path / "p", f"own-A-{number}.zip", [(f"{number}.jpg", PICTURE + bytes([number]))])
    (tmp_path / "p/own-A-2 (1).zip").write_bytes((tmp_path / "p/own-A-2.zip").read_bytes())
    entries_in(tmp_path / "p", "own-B-1.zip", [("9.jpg", PICTURE + b"9")])

    def unpack(*arguments: str, code: int = 0) -> str:
        done = shell(
            "unpack", *arguments, "--from", "p", "--dialect", "own.toml", "--library", "library", "--json", code=code
        )
        return done.out or done.err

    assert "bramblemoor unpack A --from p" in unpack(code=2)
    receipt = json.loads(unpack("A"))
    assert receipt["kept"][0]["amount"]["frames"] == 3
    assert receipt["findings"][0] == {
        "name": "own-A-2 (1).zip",
        "what": "the same part again, under another name; not read",
        "attention": False,
    }
    assert json.loads(unpack("B"))["kept"][0]["amount"]["frames"] == 1
    assert "no part of the order C" in unpack("C", code=2)
    (tmp_path / "p/own-A-2 (1).zip").write_bytes(b"PK other")
    assert "and they differ" in unpack("A", code=3)
    for path in (tmp_path / "p").glob("own-A-2*"):
        path.unlink()
    assert "Of 3 parts, 2 is not in p" in unpack("A", code=3)


def test_ten_thousand_entries_in_a_folder_and_names_of_every_length(shell: Shell, tmp_path: Path) -> None:
    text = GOOD.replace("{folder}{stem + counter | cut 20 characters}", "{folder}{stem}").replace(
        'counter = " {n}"\n', ""
    )
    (tmp_path / "own.toml").write_text(text)
    names = (
        ["🪵" * n for n in (1, 30, 61)]
        + ["x" * n for n in (1, 245)]
        + ["Wörter", "WÖRTER", "ends.", "ends ", "aux", "R&amp;D"]
    )
    entries = [(f"all/{name}.jpg", PICTURE + name.encode()) for name in names]
    entries += [(f"all/{name}.facts", facts(n, f"{name}.jpg")) for n, name in enumerate(names)]
    entries += [
        (f"all/{number:05}.jpg", b"\xff\xd8 no picture" + number.to_bytes(2, "big")) for number in range(10_000)
    ]
    entries_in(tmp_path / "parcel", "own-A-1.zip", entries)
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--dialect", "own.toml", "--library", "library", "--json").json
    assert receipt["balanced"] and receipt["kept"][0]["amount"]["frames"] == 10_000 + len(names)
    for number, name in enumerate(names):
        found = shell("find", f"Title {number}", "--library", "library", "--json").json["hits"]
        exact = [one for one in found if one["title"] == f"Title {number}"]
        assert len(exact) == 1, name
        assert (tmp_path / "library" / exact[0]["path"]).read_bytes() == PICTURE + name.encode()


def test_a_corpus_of_made_up_dialects(tmp_path: Path) -> None:
    """A small run of the proof: nothing wrong in random dialects and in those made by hand; it fails where anything is."""
    command = [
        sys.executable,
        str(ROOT / "proof/corpus_run.py"),
        "--dialects",
        "5",
        "--frames",
        "40",
        "--seed",
        "34679",
        "--in",
        str(tmp_path),
    ]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr
    assert ", wrong 0, left open" in done.stdout and "fields   right" in done.stdout


@given(st.datetimes(datetime(1, 1, 3), datetime(9999, 12, 29)))
def test_dates_survive_every_form(moment: datetime) -> None:
    whole = moment.replace(microsecond=0)
    since = whole - datetime(1970, 1, 1)
    seconds = since // timedelta(seconds=1)
    if seconds == 0:
        return
    utc = f"{whole.isoformat()}Z"
    for value, form in ((seconds, "epoch-seconds"), (str(seconds), "epoch-seconds"), (seconds * 1000, "epoch-milliseconds"),
                        (f" {seconds * 10**6} ", "epoch-microseconds"),
                        (utc, "iso"), (f"{whole.isoformat(sep=' ')} UTC", "iso")):  # fmt: skip
        assert forms.written(value, form) == utc, (value, form)  # type: ignore[arg-type]
    assert forms.written(whole.isoformat(), "iso", zone="utc") == utc
    assert forms.written(f"{whole.isoformat()}+0530", "iso") == f"{whole.isoformat()}+05:30"
    assert parse_moment(forms.written(moment.isoformat(), "iso")).local == moment  # type: ignore[union-attr]
    pattern = "%d/%m/%Y at %I:%M:%S %p"
    written = whole.strftime(pattern.replace("%Y", f"{whole.year:04}"))
    assert forms.written(written, "date", pattern, "-03:00") == f"{whole.isoformat()}-03:00"


@given(st.floats(-180, 180).map(lambda value: round(value, 6)))
def test_degrees_survive_every_form(value: float) -> None:
    whole, rest = divmod(abs(value), 1)
    minutes, rest = divmod(rest * 60, 1)
    side = "W" if value < 0 else "E"
    for written in (value, str(value), f"{int(whole)}°{int(minutes)}'{rest * 60:.6f}\"{side}",
                    f"{side} {int(whole)} {int(minutes)} {rest * 60:.6f}",
                    f"{int(whole)}° {(abs(value) - whole) * 60:.8f}′ {side}"):  # fmt: skip
        assert abs(forms.degrees(written) - value) < 1e-6, written
    assert forms.degrees(round(value * 1e7), 1e-7) == pytest.approx(value, abs=1e-7)
    for nonsense in ("north", "52°N 1°W", "", "12 61 x", "N 5 S"):
        with pytest.raises(ValueError):
            forms.degrees(nonsense)


names = st.text(st.characters(exclude_characters="/\0"), min_size=1, max_size=260)


@given(names, st.integers(1, 80), st.sampled_from(["characters", "bytes", "units"]))
def test_names_that_are_cut(name: str, most: int, unit: str) -> None:
    name = name.encode("utf-8", "replace").decode()
    short = cut(name, most, unit)
    size = {"characters": len(short), "bytes": len(short.encode()), "units": len(short.encode("utf-16-le")) // 2}[unit]
    assert name.startswith(short) and size <= most and (short == name or size > most - 4)
    assert folded(folded(name)) == folded(name)
    assert Template(f"{{stem | cut {most} {unit}}}-x").render({"stem": name}) == short + "-x"


@given(names)
def test_names_that_every_file_system_takes(name: str) -> None:
    safe = safe_name(name)
    assert safe and safe_name(safe) == safe and len(safe.encode()) <= 244 and safe[-1] not in ". "
    assert not set('<>:"/\\|?*') & set(safe) and not AMBIGUOUS.search(safe)


def test_templates_that_make_no_sense() -> None:
    for source in ("{", "a}b", "{}", "{stem + }", "{stem | cut}", "{stem 'a'}", "{stem | replace 'a'}", "{'a' + 7}"):
        with pytest.raises(BadTemplate):
            Template(source)
    steps = Template("{stem + '-x' | replace ' ' '_' | upper}{ending | lower}")
    assert steps.render({"stem": "a b", "ending": ".JPG"}) == "A_B-X.jpg"
    assert Template("{name | percent}|{name | html}").render({"name": "a&b"}) == "a%26b|a&amp;b"


def test_the_worked_example_of_the_manual(shell: Shell, tmp_path: Path) -> None:
    manual = (ROOT / "docs/dialects.md").read_text(encoding="utf-8")
    (tmp_path / "mine.toml").write_text(manual.partition("```toml\n")[2].partition("```")[0])
    listed = manual.partition("```xml\n")[2].partition("```")[0]
    second = listed.replace("Mist &amp;amp; reeds", "The second").partition(' <sheet file="Reeds')[0] + "</box>"
    entries = [
        ("boxes/7/list.xml", listed.encode()), ("boxes/7/Mist over the cut.png", PICTURE),
        ("boxes/7/Reeds, second try.png", PICTURE + b"r"), ("boxes/9/list.xml", second.encode()),
        ("boxes/9/Mist over the cut.png", PICTURE + b"1"),
    ]  # fmt: skip
    assert all(name in manual for name, _ in entries)
    entries_in(tmp_path / "parcel", "out-A-1of1.zip", entries)
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--dialect", "mine.toml", "--library", "library", "--json").json
    assert receipt["balanced"] and receipt["kept"][0]["amount"]["frames"] == 2 and receipt["left_out"] == []
    found = shell("find", "--library", "library", "--json").json["hits"]
    assert {one["title"] for one in found} == {"Mist & reeds", "The second"}
    shown = shell(
        "show", next(one["path"] for one in found if one["title"] == "Mist & reeds"), "--library", "library", "--json"
    ).json
    believed = shown["believed"]
    assert (believed["taken"], believed["people"], shown["albums"]) == (
        "2024-09-14T06:12:00+01:00",
        ["Ada"],
        [{"title": "Fen & lock"}],
    )
    assert believed["position"] == [54.663842, -12.482711]
    assert {file["role"] for file in shown["made_of"]} == {"original", "rendition", "sidecar"}


def test_the_manual_lists_every_key_that_dialects_take() -> None:
    """Of every table of the reader: each key stands in the manual's section for it, and no key that is none."""
    manual = (ROOT / "docs/dialects.md").read_text(encoding="utf-8")
    sections = {part.partition("\n")[0]: part for part in manual.split("\n### ")}
    tables = {
        "`[dialect]`": Heading, "`[entries]`": EntryGlobs, "`[names]`": Names, "`[folders]`": Folders,
        "`[sidecar]` and `[index]`": (RecordRules, FieldRule, PositionRule), "`[album]`": AlbumRules,
    }  # fmt: skip
    for heading, kinds in tables.items():
        taken = {
            field.name
            for kind in (kinds if isinstance(kinds, tuple) else (kinds,))
            for field in msgspec.structs.fields(kind)
        }
        rows = [line.split("|")[1] for line in sections[heading].splitlines() if line.startswith("| `")]
        told = {name for row in rows for name in re.findall(r"`(\w+)[^`]*`", row)}
        others = {*WORDS, "cut", "pad", "replace", "lower", "upper", "html", "percent", "composed", "decomposed"}
        assert taken - {"fields", "position"} - told == set(), heading
        assert told - taken - (others if heading == "`[names]`" else set()) == set(), heading
    assert all(f"`{name}`" in manual for name in (*get_args(FieldName), *get_args(Form)))


@pytest.mark.parametrize(("written", "zone", "wanted"), [
    ("2024-07-01T10:00:00Z", "+02:00", "2024-07-01T12:00:00+02:00"), ("2024-07-01T10:00:00Z", "Europe/Berlin",
    "2024-07-01T12:00:00+02:00"),
    ("2024-01-01T10:00:00", "Europe/Berlin", "2024-01-01T10:00:00+01:00"), ("2024-07-01T10:00:00Z", 2,
    "2024-07-01T12:00:00+02:00"),
    ("2024-07-01T10:00:00", "-330", "2024-07-01T10:00:00-05:30"), ("2024-07-01T10:00:00Z", 7200, "2024-07-01T12:00:00+02:00"),
    ("2024-07-01T10:00:00", "UTC+2", "2024-07-01T10:00:00+02:00"), ("2024-07-01T10:00:00+03:00", "+01:00",
    "2024-07-01T10:00:00+03:00"),
    ("2024-07-01T10:00:00", "Z", "2024-07-01T10:00:00+00:00"), ("2024-07-01T10:00:00", "", "2024-07-01T10:00:00"),
])  # fmt: skip
def test_time_zones_that_are_told_apart(written: str, zone: object, wanted: str) -> None:
    assert forms.with_zone(written, zone) == wanted
    with pytest.raises(ValueError, match="no time zone"):
        forms.with_zone("2024-07-01T10:00:00", "Nowhere/Fen")


def test_albums_in_rows_references_and_sidecars_by_number(shell: Shell, tmp_path: Path) -> None:
    (tmp_path / "own.toml").write_text(ROWS.replace("NFD", "Fa\u0301kta"), encoding="utf-8")
    film = b"\0\0\0\x18ftypisom\0\0\2\0isommp41"
    entries = [
        ("p/IMG_12.jpg", PICTURE), ("p/last.jpg", PICTURE + b"2"), ("p/quite another.mp4", film),
        ("F\u00e1kta/000012.json", json.dumps({"k": "R1", "t": "by number", "moves": ["p/quite another.mp4"]}).encode()),
        ("F\u00e1kta/at-002.json", json.dumps({"k": "R2", "t": "by place"}).encode()),
        ("sets.csv", b'set;shows\r\n"Fen &amp; lock";R2 R1\r\n"Fen &amp; lock";R9\r\nNight;R1\r\n'),
    ]  # fmt: skip
    entries_in(tmp_path / "parcel", "own-A-1.zip", entries)
    tried = shell("dialect", "try", "parcel", "--dialect", "own.toml", code=1).out
    assert "Fen & lock (2 frames), Night (1 frame)" in tried and "R9 (of Fen & lock)" in tried
    shell("new", "library")
    receipt = shell("unpack", "--from", "parcel", "--dialect", "own.toml", "--library", "library", "--json").json
    assert receipt["balanced"] and [one["name"] for one in receipt["findings"]].count("R9") == 1
    for name, title, roles in (
        ("IMG_12.jpg", "by number", {"original", "clip", "sidecar"}),
        ("last.jpg", "by place", {"original", "sidecar"}),
    ):
        shown = shell("show", name, "--library", "library", "--json").json
        assert shown["believed"]["title"] == title and {file["role"] for file in shown["made_of"]} == roles
    listed = (tmp_path / "library/albums/Fen & lock.csv").read_text()
    assert listed.index("last.jpg") < listed.index("IMG_12.jpg")
