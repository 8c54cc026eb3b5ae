"""What users type by mistake."""

from pathlib import Path

import pytest

from conftest import Shell, pictures


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["find", "owl"], 3, ("is not inside a library", "bramblemoor new DIR")),
        (["find", "--library", "nowhere"], 3, ("no library at nowhere",)),
        (["fnid"], 2, ("no command 'fnid'", "Did you mean find?")),
        (["find", "--sinse", "2025"], 2, ("--sinse", "--since")),
        (["find", "--most", "many"], 2, ("--most", "many")),
        (["receipt", "first", "--library", "lib"], 2, ("first",)),
        (["receipt", "9", "--library", "lib"], 2, ("no receipts yet",)),
        (["order", "--library", "lib"], 2, ("knows no service yet", "service add")),
        (["order", "--since", "May", "--library", "lib"], 2, ("'May' is no date", "2026-05-09")),
        (["order", "--size", "huge", "--library", "lib"], 2, ("'huge' is no size", "500MB")),
        (["order", "--kind", "films", "--library", "lib"], 2, ("photo or video",)),
        (["collect", "--library", "lib"], 2, ("Nothing was ordered yet",)),
        (["unpack", "--library", "lib"], 2, ("Nothing was ordered yet",)),
        (["unpack", "--from", "nowhere", "--library", "lib"], 2, ("There is no nowhere",)),
        (
            ["unpack", "--from", ".", "--dialect", "thrush", "--library", "lib"],
            2,
            ("no dialect 'thrush'", "thrushfield"),
        ),
        (["backup", "--library", "lib"], 2, ("no depot yet", "depot add")),
        (["show", "x.jpg", "--library", "lib"], 2, ("No frame is called 'x.jpg'",)),
        (["new", "lib"], 2, ("is a library already",)),
        (["restore", "back", "--from", "lib"], 3, ("no depot at lib",)),
        (
            ["service", "add", "thrushfield", "ftp://x", "--token-file", "t", "--library", "lib"],
            2,
            ("not a service's address",),
        ),
        (
            ["service", "add", "thrushfield", "https://x.example", "--library", "lib"],
            2,
            ("No token was given", "--token-file"),
        ),
    ],
)
def test_mistakes_get_two_sentences(shell: Shell, arguments: list[str], code: int, words: tuple[str, ...]) -> None:
    shell("new", "lib")
    error = shell(*arguments, code=code).err
    assert all(word in error for word in words), error


def test_help_and_versions(shell: Shell) -> None:
    text = shell("--help").out
    for command in (
        "new",
        "service",
        "order",
        "collect",
        "unpack",
        "depot",
        "backup",
        "verify",
        "mend",
        "standing",
        "restore",
    ):
        assert command in text
        assert "Usage: bramblemoor " + command in shell(command, "--help").out
    assert shell("--version").out.startswith("Bramblemoor ")


def test_a_name_is_shown_as_it_is(shell: Shell, library: Path, depots: dict[str, Path]) -> None:
    """Brackets, colons and letters twice as wide are part of a name, not a way to write it."""
    old = next(name for name in pictures(library) if name.endswith(".jpg"))
    shell("backup", cwd=library)
    name = ":owl: [bold]猫[red].jpg"
    for end in ("", ".xmp"):
        (library / (old + end)).rename((library / old).with_name(name + end))
    shell("backup", cwd=library)
    assert name in shell("show", name, cwd=library).out
    folder = Path(old).parent.as_posix()
    assert name in shell("depot", "look", next(iter(depots)), "--below", folder, cwd=library).out
    (library / folder / name).unlink()
    shell("stocktake", cwd=library, code=1)
    shell("stocktake", "--let-go", name, "--yes", cwd=library)
    shell("backup", cwd=library, code=None)
    assert f"{folder}/{name}" in shell("earlier", next(iter(depots)), cwd=library).out.replace("\n", "")


@pytest.mark.parametrize(("right", "wrong"), [("[erase]\ncopies = 2", "[erase]\ncopies = 0"), ("= 180", '= "long"')])
def test_settings_that_cannot_be_meant_stop_every_run(shell: Shell, right: str, wrong: str) -> None:
    shell("new", "lib")
    settings = shell.folder / "lib/bramblemoor.toml"
    settings.write_text(settings.read_text().replace(right, wrong))
    assert "Put it right with an editor" in shell("free", "2024", "--yes", "--library", "lib", code=3).err


def test_reports_are_told_in_any_encoding_and_despite_a_damaged_receipt(shell: Shell, library: Path) -> None:
    assert "\\u03a6" in shell("find", "owl", cwd=library, PYTHONIOENCODING="cp1252").out
    frames = shell("find", "owl", "--json", cwd=library, PYTHONIOENCODING="cp1252").json["hits"]
    assert any("Φωλιά" in str(one) for one in frames)
    (library / "ledger/receipts/0009-unpack-20260101T000000Z.json").write_bytes(b"\xffgarbage")
    listed = shell("receipt", "list", cwd=library, code=1).out
    assert "1 receipt of" in listed and "Not readable: 0009-unpack" in listed
