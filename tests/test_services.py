"""Signing in, ordering and collecting, from a service that is not always well."""

from collections.abc import Callable
from pathlib import Path

from conftest import Shell, check, serving

Ordered = Callable[..., Path]


def test_survey_and_a_partial_order(shell: Shell, world: Path, ordered: Ordered) -> None:
    with serving(world) as address:
        library = ordered(address, "--album", "Lantern nights", "--album", "Roof work: 2026", "--kind", "photo")
        survey = shell("service", "survey", "--json", cwd=library).json
        assert survey["frames"] == 97 and survey["reduced_copies"] == 3
        assert "Did you mean Lantern nights?" in shell("order", "--album", "Lantern night", cwd=library, code=2).err
        shell("collect", cwd=library)
        first = shell("unpack", cwd=library)
        assert "19 of the account's 97 frames" in first.out
        assert "3 of 5 albums were not ordered (Best of the valley, Owls & water, Für Großmutter 💛)" in first.out

        # Everything, later: only what is new comes in, and albums and sidecars of what was there grow.
        shell("order", cwd=library)
        shell("collect", cwd=library)
        second = shell("unpack", "--json", cwd=library).json
        kept = {line["what"]: line["amount"]["frames"] for line in second["kept"]}
        assert second["balanced"] and kept["new in the library"] == 77 and kept["in the library already"] == 19
        check(world, "--library", library)


def test_collecting_from_a_service_with_faults(shell: Shell, world: Path, ordered: Ordered) -> None:
    with serving(world, "--busy", "2", "--drop", "2", "--flip", "3") as address:
        library = ordered(address)
        collected = {
            part["part"][-8:]: part for part in shell("collect", "--json", cwd=library).json["orders"][0]["parts"]
        }
        # The first part breaks off twice and arrives wrong; fetched again from the start, it is right.
        assert collected["1of5.zip"]["fetched"] == 2 * collected["1of5.zip"]["bytes"]
        again = shell("collect", "--json", cwd=library).json["orders"][0]
        assert [part["fetched"] for part in again["parts"]] == [0] * len(again["parts"])
        parts = sorted((library / "incoming").rglob("*.zip"))
        content = bytearray(parts[2].read_bytes())
        content[1000] ^= 1
        parts[2].write_bytes(content)
        parts[0].unlink()
        mended = {
            part["part"]: part["fetched"] for part in shell("collect", "--json", cwd=library).json["orders"][0]["parts"]
        }
        assert [name for name, fetched in mended.items() if fetched] == [parts[0].name, parts[2].name]


def test_a_service_that_keeps_sending_wrong_bytes_or_is_away(shell: Shell, world: Path, ordered: Ordered) -> None:
    with serving(world, "--flip", "99") as address:
        library = ordered(address)
        refused = shell("collect", cwd=library, code=3)
        assert "1of5.zip did not arrive as the service described it" in refused.err
        assert not list((library / "incoming").rglob("*.zip"))
    away = shell("collect", "--patience", "0.5", cwd=library, code=3)
    assert "cannot be reached" in away.err and "goes on where it stopped" in away.err
    with serving(world, "--busy", "99") as address:
        busy = shell(
            "service", "add", "thrushfield", address, "--token-file", world.parent / "token.txt", "--patience", "0.5",
            cwd=library, code=3,
        )  # fmt: skip
        assert "too busy" in busy.err and "come back in 1 s" in busy.err


def test_tokens_are_guarded(shell: Shell, world: Path, tmp_path: Path) -> None:
    shell("new", "library")
    (tmp_path / "wrong.txt").write_text("sesame\n")
    with serving(world) as address:
        refused = shell(
            "service", "add", "thrushfield", address, "--token-file", "wrong.txt", "--library", "library", code=3
        )
        assert "refuses the token" in refused.err and "sesame" not in refused.err
    away = shell(
        "service",
        "add",
        "thrushfield",
        "http://pictures.example",
        "--token-file",
        "wrong.txt",
        "--library",
        "library",
        code=2,
    )
    assert "unencrypted" in away.err and "sesame" not in away.err
    assert shell("service", "list", "--json", "--library", "library").json["services"] == []
    assert not (tmp_path / "tokens.json").exists()
