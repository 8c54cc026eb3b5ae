"""Drafts of dialects: what agrees with the pictures is found, in any language; nothing is invented."""

import io
import json
import time
import tomllib
import zipfile
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from bramblemoor.frames.claims import Facts
from bramblemoor.frames.xmp_writing import Belonging, sidecar
from conftest import Shell
from corpus.pictures import jpeg

START = datetime(2023, 5, 30, 8, 0)


def picture(number: int) -> bytes:
    """A picture that tells its date, position, title, keywords and a person itself."""
    when, north, east = START + timedelta(days=number, minutes=7 * number), 52 + number / 50, 1 + number / 40
    exif = Image.Exif()
    exif[0x8769] = {0x9003: when.strftime("%Y:%m:%d %H:%M:%S")}
    exif[0x8825] = {1: "N", 2: (north, 0.0, 0.0), 3: "W", 4: (east, 0.0, 0.0)}
    words = Facts(title=f"Titel {number}", keywords=("Schilf", f"Tag {number}"), people=("Ada",))
    content = io.BytesIO()
    Image.new("RGB", (32, 24), (number, 90, 90)).save(content, "JPEG", exif=exif, xmp=sidecar(words, Belonging()))
    return content.getvalue()


def record(number: int, name: str) -> dict[str, Any]:
    when = START + timedelta(days=number, minutes=7 * number)
    return {
        "kenn": f"K{number * 7:04}", "Datei": name, "Überschrift": f"Titel {number}", "Bemerkung": f"Nur hier {number}",
        "Aufnahme": {"Zeitpunkt": when.strftime("%d.%m.%Y %H:%M:%S"), "Ort": f"{52 + number / 50:.5f}; {-1 - number / 40:.5f}"},
        "Stichwörter": f"Schilf; Tag {number}", "Wer": [{"heißt": "Ada"}], "Zähler": 3,
    }  # fmt: skip


def export(folder: Path, *parts: dict[str, bytes], named: str = "aus {n}") -> Path:
    folder.mkdir()
    for number, entries in enumerate(parts, 1):
        with zipfile.ZipFile(folder / f"{named.replace('{n}', str(number))}.zip", "w") as archive:
            for name, content in entries.items():
                archive.writestr(name, content)
    return folder


def drafted(shell: Shell, parcel: Path) -> tuple[dict[str, Any], dict[str, Any]]:
    """The drafted dialect, and what trying it says."""
    shell("dialect", "draft", parcel, "--out", "draft.toml")
    tried = shell("dialect", "try", parcel, "--dialect", "draft.toml", "--json", code=None).json
    return tomllib.loads((shell.folder / "draft.toml").read_text()), tried


def test_fields_are_found_by_what_pictures_say(shell: Shell, tmp_path: Path) -> None:
    """Keys in another language, a list for each folder below its root, months that are dates, and copies that are an album."""
    entries: dict[str, bytes] = {}
    for month in (5, 6, 7):
        numbers = [n for n in range(40) if (START + timedelta(days=n)).month == month]
        lines = [record(n, f"B{n:02}.jpg") for n in numbers]
        entries |= {f"Bilder/2023-{month:02}/B{n:02}.jpg": picture(n) for n in numbers}
        entries[f"Bilder/2023-{month:02}/liste.json"] = json.dumps({"Inhalt": {"Aufnahmen": lines}}).encode()
    entries |= {f"Sammlungen/Fest am See/B{n:02}.jpg": picture(n) for n in (3, 8, 9)}
    entries |= {f"Sammlungen/2023-06/B{n:02}.jpg": picture(n) for n in (4, 5)}
    dialect, tried = drafted(shell, export(tmp_path / "parcel", entries))
    index, fields = dialect["index"], dialect["index"]["fields"]
    assert dialect["entries"]["index"] == ["**/liste.json"] and index["items"] == "/Inhalt/Aufnahmen"
    assert (index["file_name"], index["reference"]) == ("/Datei", "/kenn")
    assert fields["taken"] == {
        "at": "/Aufnahme/Zeitpunkt",
        "form": "date",
        "pattern": "%d.%m.%Y %H:%M:%S",
        "zone": "local",
    }
    assert fields["title"] == {"at": "/Überschrift"} and fields["person"] == {"at": "/Wer", "each": "/heißt"}
    assert fields["keyword"] == {"at": "/Stichwörter", "separator": ";"}
    assert set(fields) == {"taken", "title", "keyword", "person"}, "nothing is invented"
    assert index["position"] == {"pair": "/Aufnahme/Ort"}
    assert tried["paired"] == 40 and not tried["lone_records"]


def test_names_of_sidecars_with_counters_cuts_and_other_trees(shell: Shell, tmp_path: Path) -> None:
    cases = {
        "tree": [(f"fotos/2023/{n % 3}/B{n:02}.jpg", f"angaben/2023/{n % 3}/B{n:02}.jpg.xml.json", 0) for n in range(12)],
        "counter": [(f"f/Am See{f'~{n}' if n else ''}.jpg", f"f/Am See.jpg.info{f'~{n}' if n else ''}", n) for n in range(9)],
        "cut": [(f"f/Ein sehr langer Name am See {n:02}.jpg", f"f/{f'Ein sehr langer Name am See {n:02}.jpg'[:30]}.txt", 0)
                for n in range(12)] + [(f"f/Kurz {n:02}.jpg", f"f/Kurz {n:02}.jpg.txt", 0) for n in range(12)],
    }  # fmt: skip
    for what, names in cases.items():
        entries: dict[str, bytes] = {}
        for number, (name, beside, _) in enumerate(names):
            entries[name] = jpeg(number, START + timedelta(days=number))
            entries[beside] = json.dumps({"zeit": (START + timedelta(days=number)).isoformat(), "nr": number}).encode()
        dialect, tried = drafted(shell, export(tmp_path / what, entries))
        assert tried["paired"] == len(names), (what, dialect["names"], tried["lone_records"])
        (tmp_path / "draft.toml").unlink()


def test_sidecars_that_are_xmp_need_no_fields(shell: Shell, tmp_path: Path) -> None:
    entries = {f"p/{n % 2}/B{n}.jpg": jpeg(n, START) for n in range(8)}
    entries |= {f"p/{n % 2}/B{n}.xmp": sidecar(Facts(title=f"T{n}"), Belonging()) for n in range(8)}
    dialect, tried = drafted(shell, export(tmp_path / "parcel", entries))
    assert dialect["names"]["sidecar"] == ["{folder}{stem}.xmp"] and dialect["sidecar"]["format"] == "xmp"
    assert tried["paired"] == 8 and tried["fields"] == [{"field": "title", "records": 8}]


def test_twelve_parts_without_leading_noughts_are_one_order(shell: Shell, tmp_path: Path) -> None:
    parts = [
        {f"p/I{n}.jpg": jpeg(n, START), f"p/I{n}.jpg.card": json.dumps({"t": f"t{n}"}).encode()} for n in range(12)
    ]
    dialect, tried = drafted(shell, export(tmp_path / "parcel", *parts, named="zz-0311.part{n}"))
    assert tried["paired"] == 12, dialect["dialect"]["part_name"]
    shell("new", "library")
    receipt = shell(
        "unpack", "--from", "parcel", "--dialect", "draft.toml", "--library", "library", "--json", code=None
    ).json
    assert receipt["about"]["parts"] == "12" and receipt["about"]["order"].startswith("zz-0311.part")


@pytest.mark.parametrize("listed", (False, True))
def test_ten_thousand_entries_are_drafted_in_seconds(shell: Shell, tmp_path: Path, listed: bool) -> None:
    entries, lines = {}, []
    for number in range(5000):
        name, when = f"B{number:04}.jpg", START + timedelta(hours=number)
        entries[f"p/{when:%m}/{name}"] = jpeg(number, when)
        line = {"Datei": name, "Zeit": when.strftime("%d/%m/%Y %H:%M:%S"), "Nr": number}
        lines.append(line)
        if not listed:
            entries[f"q/{when:%m}/{name}.json"] = json.dumps(line).encode()
    if listed:
        entries |= {"list.json": json.dumps(lines).encode()} | {f"x/{n}": b"" for n in range(4999)}
    parcel = export(tmp_path / "parcel", entries)
    began = time.process_time()
    shell("dialect", "draft", parcel, "--out", "draft.toml")
    assert time.process_time() - began < 10  # of this process; the program itself is timed by hand
    assert 'pattern = "%d/%m/%Y %H:%M:%S"' in (tmp_path / "draft.toml").read_text()
