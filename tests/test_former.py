"""Libraries and depots as each former version of the ledger left them: they open, go on, and come back from their drives.

tests/former/schema-N.tar.xz was written by the program of its time: three frames unpacked, backed up to two depots, and (from 3
on) one told a title.
"""

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import Shell, pictures

FORMER = Path(__file__).parent / "former"
VERSIONS = sorted(int(path.name.split("-")[1].split(".")[0]) for path in FORMER.glob("schema-*.tar.xz"))


@pytest.fixture(params=VERSIONS, ids=lambda version: f"schema {version}")
def former(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    """The folder with a library and its depots heron and otter, of one former version."""
    shutil.unpack_archive(FORMER / f"schema-{request.param}.tar.xz", tmp_path)
    with closing(sqlite3.connect(tmp_path / "library/ledger/ledger.sqlite")) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == request.param
    return tmp_path


def test_every_former_version_is_there() -> None:
    from bramblemoor.library.schema import VERSION

    assert list(range(1, VERSION)) == VERSIONS


def test_a_former_library_goes_on(shell: Shell, former: Path) -> None:
    library = former / "library"
    before = {path: content for path, content in pictures(library).items() if path.endswith(".jpg")}
    assert shell("find", "--json", cwd=library).json["found"] == 3
    titles = {frame["title"] for frame in shell("find", "--json", cwd=library).json["hits"]}
    assert titles in ({"Owl boxes", "Reeds", "Barge wash"}, {"Owl boxes", "The old lock", "Barge wash"})
    shell("tell", "OLD_0002.jpg", "--title", "Reed cutting", cwd=library)
    shell("backup", cwd=library, code=None)
    shell("verify", cwd=library)
    for depot in (former / "heron", former / "otter"):
        held = pictures(depot / "data")
        assert {path: held[path] for path in before} == before and held == pictures(library)
    assert shell("standing", "--json", cwd=library, code=None).json["frames"] == 3
    assert "Reed cutting" in shell("show", "OLD_0002.jpg", cwd=former / "heron/data").out


def test_a_former_depot_gives_everything_back(shell: Shell, former: Path) -> None:
    before = {path: content for path, content in pictures(former / "heron/data").items() if path.endswith(".jpg")}
    shell("depot", "look", former / "heron")
    shell("find", "owl", cwd=former / "heron/data")
    shell("restore", "back", "--from", former / "heron", "--from", former / "otter")
    back = pictures(former / "back")
    assert {path: back[path] for path in before} == before
    assert shell("find", "--json", cwd=former / "back").json["found"] == 3
    shell("backup", "heron", cwd=former / "back", code=None)
