"""What people and other programs do in the library's folders, and what depots make of it."""

import shutil
from pathlib import Path

from conftest import Shell, data_of, pictures, valid


def test_moves_in_the_library_become_moves_at_depots(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    inode = next((depots["heron"] / "data/pictures/2026").rglob("ALD_0669.jpg")).stat().st_ino
    (library / "pictures/2026").rename(library / "pictures/the year 2026")
    first, second = sorted((library / "pictures/2024").rglob("*.jpg"))[:2]
    for one, other in ((first, second), (Path(f"{first}.xmp"), Path(f"{second}.xmp"))):  # two frames change places
        one.rename(library / "swap")
        other.rename(one)
        (library / "swap").rename(other)
    told = shell("stocktake", "--json", cwd=library).json
    assert len(told["moved"]) > 40 and not told["changed"] and not told["vanished"] and not told["new"]
    assert (
        shell("find", "--since", "2026", "--json", cwd=library).json["hits"][0]["path"].startswith("pictures/the year")
    )
    plan = shell("backup", "--dry-run", "--json", cwd=library).json["depots"][0]
    assert plan["files_moved"] == len(told["moved"])
    receipt = shell("backup", "--json", cwd=library).json
    assert receipt["balanced"] and not receipt["left_out"]
    assert next((depots["heron"] / "data").rglob("ALD_0669.jpg")).stat().st_ino == inode
    for root in depots.values():
        assert data_of(root) == pictures(library)
        valid(root)
        assert not (root / "data/pictures/2026").exists(), "the folder that all has left is still there"
    assert shell("standing", "--json", cwd=library).json["safe"]


def test_sidecars_follow_pictures_that_were_moved_alone(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    plain, edited, taken = sorted((library / "pictures/2024").rglob("ALD_*.jpg"))[:3]
    sidecar = Path(f"{edited}.xmp")
    sidecar.write_bytes(sidecar.read_bytes().replace(b"<rdf:RDF", b"<rdf:RDF "))
    written = sidecar.read_bytes()
    (library / "pictures/elsewhere").mkdir()
    for picture in (plain, edited, taken):
        picture.rename(library / "pictures/elsewhere" / picture.name)
    other = library / f"pictures/elsewhere/{taken.name}.xmp"
    other.write_bytes(written)
    planned = shell("stocktake", "--dry-run", "--json", cwd=library, code=1).json
    assert len(planned["moved"]) == 5 and sidecar.exists()
    told = shell("stocktake", "--json", cwd=library, code=1).json
    assert told["moved"] == planned["moved"]
    assert [(one["name"], "another sidecar" in one["what"]) for one in told["findings"]] == [
        (f"{taken.relative_to(library)}.xmp", True)
    ]
    assert (library / f"pictures/elsewhere/{edited.name}.xmp").read_bytes() == written and not sidecar.exists()
    assert "all as it was" in shell("stocktake", cwd=library).out
    assert Path(f"{taken}.xmp").exists() and other.read_bytes() == written  # nothing was overwritten
    shell("tell", edited.name, "--title", "Still one sidecar", cwd=library)
    assert len(list(library.rglob(f"{edited.name}.xmp"))) == 1
    shell("backup", cwd=library)
    assert data_of(depots["otter"]) == pictures(library)


def test_what_others_write_and_bring_is_taken_up(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    sidecar = next((library / "pictures/2026").rglob("ALD_0669.jpg.xmp"))
    block = (
        "<rdf:Description rdf:about='' xmlns:dc='http://purl.org/dc/elements/1.1/'><dc:title><rdf:Alt>"
        "<rdf:li xml:lang='x-default'>By an editor</rdf:li></rdf:Alt></dc:title><dc:subject><rdf:Bag><rdf:li>dusk</rdf:li>"
        "</rdf:Bag></dc:subject></rdf:Description></rdf:RDF>"
    )
    sidecar.write_text(sidecar.read_text().replace("</rdf:RDF>", block))
    new = library / "pictures/2026/2026-09/IMG_20260901_101112.jpg"
    new.parent.mkdir()
    shutil.copy(next((library / "pictures/2025").rglob("*.jpg")), new)
    new.write_bytes(new.read_bytes() + b"another picture")
    (library / "pictures/2026/notes.txt").write_text("not a picture")
    (library / "companions/catalogue.db").write_bytes(b"catalogue")
    told = shell("stocktake", cwd=library, code=1).out
    assert "1 file changed by others" in told and "3 files new" in told and "of a kind that is not known here" in told
    shown = shell("show", "ALD_0669.jpg", "--json", cwd=library).json
    assert shown["believed"]["title"] == "By an editor" and "dusk" in shown["believed"]["keywords"]
    assert {"sidecar"} <= {claim["source"] for claim in shown["claims"]}
    assert "By an editor" in shell("find", "editor", cwd=library).out
    assert shell("show", new.name, "--json", cwd=library).json["path"].endswith(new.name)
    assert "all as it was" in shell("stocktake", cwd=library).out
    shell("backup", cwd=library)
    assert data_of(depots["otter"]) == pictures(library)
    # What the user says afterwards stands above the editor, and the editor's own words stay in the file.
    shell("tell", "ALD_0669.jpg", "--title", "My own", cwd=library)
    assert shell("show", "ALD_0669.jpg", "--json", cwd=library).json["believed"]["title"] == "My own"
    assert "dusk" in sidecar.read_text()


def test_what_vanishes_is_named_brought_back_or_let_go(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    gone = [path for path in sorted((library / "pictures/2024").rglob("*")) if path.is_file()][:4]
    before = [path.read_bytes() for path in gone]
    for path in gone:
        path.unlink()
    assert "it has vanished" in shell("stocktake", cwd=library, code=1).out
    assert not shell("standing", "--json", cwd=library, code=1).json["safe"]
    shell("mend", cwd=library)
    assert [path.read_bytes() for path in gone] == before
    for path in gone:
        path.unlink()
    spared = next(path for path in sorted((library / "pictures/2025").rglob("*.xmp")))
    kept = spared.read_bytes()
    spared.unlink()  # an accident beside it is not let go along with it
    asked = shell("stocktake", *(word for path in gone for word in ("--let-go", path.name)), cwd=library, code=1).err
    assert all(path.name in asked for path in gone) and "Go on?" in asked and spared.name not in asked
    shell("stocktake", "--let-go", "pictures/2024/", "--yes", cwd=library, code=1)
    assert "called 'nothing'" in shell("stocktake", "--let-go", "nothing", cwd=library, code=2).err
    shell("mend", cwd=library)
    assert spared.read_bytes() == kept
    left = shell("find", "--json", cwd=library).json["found"]
    assert left < 96
    receipt = shell("backup", "--json", cwd=library).json
    assert receipt["balanced"] and any("moved to earlier/" in line["what"] for line in receipt["kept"])
    for root in depots.values():
        valid(root)
        assert data_of(root) == pictures(library)
        assert sorted(
            path.read_bytes() for path in (root / "earlier").rglob("*") if path.suffix in (".jpg", ".xmp")
        ) == sorted(
            [
                *before,
                *(path.read_bytes() for path in (root / "earlier").rglob("*.xmp") if path.read_bytes() not in before),
            ]
        )
    # Put back by hand, it is moved back at the depots, not copied.
    for path, content in zip(gone, before, strict=True):
        path.write_bytes(content)
    shell("backup", cwd=library)
    assert data_of(depots["otter"]) == pictures(library)


def test_the_guard_stops_a_mass_of_changes(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    shell("backup", cwd=library)
    held = data_of(depots["heron"])
    for path in (library / "pictures").rglob("*.jpg"):  # as malware does
        path.write_bytes(bytes(byte ^ 0x5A for byte in path.read_bytes()[:1000]))
    refused = shell("backup", cwd=library, code=3).err
    assert "more than the guard lets pass" in refused and "--yes" in refused and "changed: pictures/" in refused
    shell("backup", "--yes", cwd=library, code=1)  # even then no original is copied over a good one
    assert {name: content for name, content in data_of(depots["heron"]).items() if name.endswith(".jpg")} == {
        name: content for name, content in held.items() if name.endswith(".jpg")
    }
    shell("mend", cwd=library)
    assert pictures(library) == held
    shell("backup", cwd=library)
    shutil.rmtree(library / "pictures/2025")
    refused = shell("stocktake", cwd=library, code=3).err
    assert "vanished: pictures/2025" in refused and "5% of the frames" in refused and "--let-go NAME" in refused
    shell("stocktake", "--let-go", "pictures/2025/", "--yes", cwd=library)
    # At a depot, too, and in its own words.
    shell("depot", "change", "heron", "--keep-for", "none", cwd=library)
    assert "would be DELETED" in shell("backup", "heron", cwd=library, code=3).err
    assert "would be moved to earlier/" in shell("backup", "otter", cwd=library, code=3).err
    assert data_of(depots["heron"]) == held
    shell("backup", "--yes", cwd=library)
    assert all(data_of(root) == pictures(library) != held for root in depots.values())
