"""Exports that come when their years were put away already."""

from collections.abc import Callable
from pathlib import Path

from conftest import Shell, pictures, serving


def test_what_comes_to_years_that_were_put_away(
    shell: Shell, world: Path, ordered: Callable[..., Path], tmp_path: Path
) -> None:
    with serving(world) as address:
        library = ordered(address, "--since", "2025-11-01")
        shell("collect", cwd=library)
        shell("unpack", cwd=library)
        for name, site in (("heron", "studio"), ("otter", "cottage")):
            (tmp_path / name).mkdir()
            shell("depot", "add", name, name, "--site", site, "--medium", "hdd", "--stand-in", name, cwd=shell.folder,
                  BRAMBLEMOOR_LIBRARY=str(library))  # fmt: skip
        shell("backup", cwd=library)
        for year in ("2025", "2026"):
            shell("bind", year, "--at", "heron", "--at", "otter", cwd=library)
        shell("free", "2026", "--yes", cwd=library)
        before = pictures(library)
        shell("order", "--size", "2MB", cwd=library)
        shell("collect", cwd=library)
        receipt = shell("unpack", "--json", cwd=library).json
    # What was freed is known, and does not come back; what is new of a bound year comes whole, with its sidecar.
    assert receipt["balanced"] and not (library / "pictures/2026").exists()
    after = pictures(library)
    assert {name: after[name] for name in before} == before
    late = [name for name in after if name.startswith("pictures/2025/") and name not in before]
    assert late and {name.removesuffix(".xmp") + ".xmp" for name in late} <= set(late)
    told = {one["name"]: one["what"] for one in receipt["findings"]}
    assert "which is bound" in told["2025"] and "2026" not in told
    assert "fewer than 2 fresh copies" in shell("free", "2025", "--yes", cwd=library, code=3).err
    shell("backup", cwd=library)
    shell("free", "2025", "--yes", cwd=library)
    assert not (library / "pictures/2025").exists()
    assert {name: one for name, one in pictures(tmp_path / "heron/data").items() if name in after} == after
