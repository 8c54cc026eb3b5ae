"""Sidecars: read by somebody else's program, changed by editors and services in every order, and enough by themselves."""

import json
import os
import re
import shutil
import sqlite3
import subprocess
import zipfile
from collections.abc import Sequence
from pathlib import Path

import pytest

import sidecar_orders
from bramblemoor.frames.xmp_reading import read_xmp
from conftest import TOOLKIT, Shell, as_others_read, no_pause, others_read
from sidecar.notations import RDF, Notation, Words, notations, read, write

THEIRS = b"""<rdf:Description xmlns:ed="urn:editor:" rdf:about="" ed:crop="1"><ed:look>
 Fen</ed:look></rdf:Description>"""


def former(packet: bytes) -> bytes:
    """A sidecar as it was written before it was wrapped and single values were marked, with an editor's part before ours."""
    body = packet[packet.index(b"<rdf:RDF") : packet.index(b"</x:xmpmeta>")]
    body = re.sub(rb"\s*<bm:wrote>[^<]*</bm:wrote>", b"", body).replace(
        b'rdf:about=""', b'rdf:about="" bm:added="by Bramblemoor"'
    )
    return body.replace(b"<rdf:Description", THEIRS + b"<rdf:Description", 1)


@pytest.mark.skipif(TOOLKIT is None, reason="the reference toolkit is not installed")
def test_the_reference_toolkits_program_reads_every_sidecar_of_a_library(library: Path) -> None:
    found = sorted((library / "pictures").rglob("*.xmp"))
    assert len(found) > 90
    for path in found:
        told = as_others_read(path)
        assert told is not None
        seen = read(told.partition("\n")[2].encode())
        ours = read(path.read_bytes())
        assert (seen.single, seen.lists, seen.texts) == (ours.single, ours.lists, ours.texts) and ours.single, path


@pytest.mark.skipif(TOOLKIT is None, reason="the reference toolkit is not installed")
@pytest.mark.parametrize("part", range(4))
def test_no_order_of_edits_and_deliveries_loses_a_word(tmp_path: Path, part: int) -> None:
    """A share of the proof: it fails where a word is lost, a property stands twice, or an editor's graph changed."""
    program, environment = no_pause(), os.environ | {"BRAMBLEMOOR_SECRETS": str(tmp_path / "tokens.json")}

    def run(arguments: Sequence[str], cwd: Path) -> "subprocess.CompletedProcess[str]":
        return program.run(arguments, cwd, environment)

    every = notations()
    assert len(every) >= 30
    for number, (how, order, delivered) in enumerate(sidecar_orders.cases(0.004, 5)[part::4]):
        (tmp_path / str(number)).mkdir()
        sidecar_orders.case(run, tmp_path / str(number), how, order, delivered)


@pytest.mark.parametrize("how", notations(), ids=lambda how: how.name)
def test_every_notation_says_the_same(how: Notation) -> None:
    words = Words(
        {"xmp:Rating": "4", "exif:GPSLatitude": "52,54.000000N", "exif:GPSLongitude": "1,30.000000W"},
        {"dc:subject": ["reeds", "owl & fen"], "Iptc4xmpExt:PersonInImage": ["Ada"]},
        {"dc:title": {"de": "Laterne", "x-default": "Lantern"}}, instructions=True,
    )  # fmt: skip
    claims = {(claim.field, claim.value) for claim in read_xmp(write(words, how))}
    assert claims == {
        ("rating", "4"), ("position", "52.900000,-1.500000"), ("keyword", "reeds"), ("keyword", "owl & fen"), ("person", "Ada"),
        ("title", "Lantern"),
    }  # fmt: skip


def test_pictures_and_sidecars_alone_know_everything_again(shell: Shell, library: Path) -> None:
    """No ledger, no depots, no delivered data: what the sidecars say is known, albums and origin included."""
    shell("tell", "ALD_0669.jpg", "--person", "Tilde", "--caption", "By hand", "--rating", "4", cwd=library)
    shell("new", "again", "--name", "again")
    again = shell.folder / "again"
    shutil.rmtree(again / "pictures")
    shutil.copytree(library / "pictures", again / "pictures")
    shell("stocktake", "--yes", cwd=again, code=None)
    before, after = (
        {frame["path"]: frame for frame in shell("find", "--json", cwd=one).json["hits"]} for one in (library, again)
    )
    assert len(before) > 90 and before.keys() <= after.keys()
    with_sidecar = [path for path in before if (library / f"{path}.xmp").is_file()]
    for path in (*with_sidecar[::7], next(path for path in before if "ALD_0669" in path)):
        was, now = (shell("show", path, "--json", cwd=one).json for one in (library, again))
        for what in ("title", "caption", "taken", "location", "position", "favourite", "rating"):
            assert now["believed"][what] == was["believed"][what], (path, what)
        for what in ("keywords", "people"):
            assert sorted(now["believed"][what]) == sorted(was["believed"][what]), (path, what)
        assert now["albums"] == was["albums"] and now["from"]["reference"] == was["from"]["reference"], path
    lists = [
        {path.name: len(path.read_text().splitlines()) for path in (one / "albums").glob("*.csv")}
        for one in (library, again)
    ]
    assert lists[0] == lists[1] and len(lists[0]) > 3
    # The service's next export knows them by their content, and its albums are the same ones.
    shell("unpack", "--from", next((library / "incoming").rglob("*.zip")).parent, "--json", cwd=again)
    assert {path.name for path in (again / "albums").glob("*.csv")} == lists[0].keys()


def test_former_sidecars_are_renewed_and_no_foreign_byte_moves(shell: Shell, library: Path) -> None:
    frame = shell("show", "ALD_0669.jpg", "--json", cwd=library).json
    beside = library / f"{frame['path']}.xmp"
    beside.write_bytes(former(beside.read_bytes()))
    others_read(beside, lacks=("dc:title",))
    shell("stocktake", cwd=library)
    with sqlite3.connect(library / "ledger/ledger.sqlite") as db:
        db.execute("PRAGMA user_version = 5")
    assert "1 was written anew" in shell("stocktake", cwd=library).err
    renewed = beside.read_bytes()
    assert THEIRS in renewed and renewed.count(b"</dc:title>") == 1 and b'xmlns:x="adobe:ns:meta/"' in renewed
    others_read(beside, frame["believed"]["title"])
    assert "written anew" not in shell("stocktake", cwd=library).err and beside.read_bytes() == renewed
    assert shell("show", "ALD_0669.jpg", "--json", cwd=library).json["believed"] == frame["believed"]


def test_keywords_and_people_are_taken_away_by_a_command_of_its_own(shell: Shell, library: Path) -> None:
    def believed() -> dict[str, list[str]]:
        return shell("show", "ALD_0669.jpg", "--json", cwd=library).json["believed"]  # type: ignore[no-any-return]

    for words in (("--keyword", ""), ("--person", " "), ("--keyword", "fen", "--keyword", "")):
        assert "says nothing" in shell("tell", "ALD_0669.jpg", *words, cwd=library, code=2).err
    shell("tell", "ALD_0669.jpg", "--keyword", "fen", "--person", "Tilde", cwd=library)
    before = believed()
    assert "as it stands" in shell("tell", "ALD_0669.jpg", "--keyword", "-fen", cwd=library).err
    assert {"fen", "-fen"} <= set(believed()["keywords"])
    shell("unsay", "ALD_0669.jpg", "--keyword", "-fen", cwd=library)
    assert believed() == before
    gone = before["keywords"][0]  # the service's word
    shell("unsay", "ALD_0669.jpg", "--keyword", gone, "--person", "Tilde", cwd=library)
    beside = next((library / "pictures").rglob("ALD_0669.jpg.xmp"))
    assert gone not in believed()["keywords"] and gone not in read(beside.read_bytes()).lists.get("dc:subject", [])
    error = shell("unsay", "ALD_0669.jpg", "--keyword", gone, cwd=library, code=2).err
    assert f"no keyword '{gone}'" in error and "fen" in error
    assert "Nothing was named" in shell("unsay", "ALD_0669.jpg", cwd=library, code=2).err
    shell("tell", "ALD_0669.jpg", "--keyword", gone, cwd=library)
    assert gone in believed()["keywords"] and gone in read(beside.read_bytes()).lists["dc:subject"]


def test_what_an_editor_and_a_service_both_changed_is_a_conflict(shell: Shell, tmp_path: Path) -> None:
    def delivered(order: str, title: str, exposure: str) -> None:
        (tmp_path / order).mkdir()
        with zipfile.ZipFile(tmp_path / order / f"thrushfield-{order}-1of1.zip", "w") as archive:
            archive.writestr("stream/A.jpg", sidecar_orders.PICTURE)
            archive.writestr(
                "slips/A_jpg.slip", json.dumps({"item": {"filename": "A.jpg"}, "words": {"heading": title}})
            )
            archive.writestr(
                "stream/A.jpg.xmp",
                f'<rdf:RDF xmlns:rdf="{RDF}"><rdf:Description rdf:about="" xmlns:ed="urn:ed:"'
                f' ed:exposure="{exposure}"/></rdf:RDF>',
            )

    for order, title, exposure in (("TFA", "One", "+1"), ("TFB", "Two", "+2"), ("TFC", "Three", "+3")):
        delivered(order, title, exposure)
    shell("new", "library")
    library = tmp_path / "library"
    shell("unpack", "--from", "../TFA", cwd=library)
    beside = next(library.rglob("A.jpg.xmp"))
    shell("unpack", "--from", "../TFB", cwd=library)
    assert b'ed:exposure="+2"' in beside.read_bytes() and b">Two<" in beside.read_bytes(), "nobody had changed it"
    beside.write_bytes(beside.read_bytes().replace(b">Two<", b">Mine<").replace(b'"+2"', b'"+9"'))
    receipt = shell("unpack", "--from", "../TFC", "--json", cwd=library, code=1).json
    found = "\n".join(f"{one['name']}: {one['what']}" for one in receipt["findings"])
    assert "it was changed here, and the service has sent another one" in found
    assert "title: here it was changed to 'Mine', the service says 'Three' now; 'Mine' is kept" in found
    assert b'ed:exposure="+9"' in beside.read_bytes() and b">Mine<" in beside.read_bytes()
    shown = shell("show", "A.jpg", "--json", cwd=library).json
    assert shown["believed"]["title"] == "Mine"
    assert {"One", "Two", "Three", "Mine"} <= {claim["value"] for claim in shown["claims"] if claim["field"] == "title"}
