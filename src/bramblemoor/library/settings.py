"""bramblemoor.toml: the settings of one library."""

import tomllib
from pathlib import Path
from typing import Annotated

import msgspec

from bramblemoor.disk.durable import write_atomically
from bramblemoor.errors import NotPossible

FILE = "bramblemoor.toml"
AtLeastOne = Annotated[int, msgspec.Meta(ge=1)]


class Rule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """When a frame is sound: so many copies, on so many kinds of medium, at so many sites, each read within `fresh_days`."""

    copies: AtLeastOne = 3
    media: AtLeastOne = 2
    sites: AtLeastOne = 2
    fresh_days: AtLeastOne = 180


class Guard(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How much may have been changed or removed by others before a run stops and asks: a share, or a number of frames."""

    share: Annotated[float, msgspec.Meta(ge=0, le=1)] = 0.05
    frames: Annotated[int, msgspec.Meta(ge=0)] = 500


class Erase(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What must hold before a copy is given up anywhere: so many others on other drives, read back and fresh.

    A drive that is not within reach counts for `away_days` after it was read.
    """

    copies: AtLeastOne = 2
    away_days: AtLeastOne = 30


class Home(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The working library itself. `stand_in` names a pretend device, for demonstrations on a single disk."""

    id: str
    name: str
    site: str
    medium: str
    stand_in: str = ""


class Naming(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Templates of folders below pictures/, and of the names of a shoot's frames; docs/formats.md tells their language."""

    flat: str = "{year}/{year}-{month}"
    shoot: str = "{year}/{date} {subject}[ ({location})]"
    frame: str = "{stamp}-{slug}-{number}"


class Network(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`proxy` is the address of a proxy, for services that are reached over TLS; those of the environment are not used."""

    proxy: str = ""


class Settings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    library: Home
    rule: Rule = Rule()
    guard: Guard = Guard()
    erase: Erase = Erase()
    naming: Naming = Naming()
    network: Network = Network()


_HEAD = """\
The settings of a Bramblemoor library. Change them with any editor.
A frame is sound when it has [rule] copies, the library counting as one, on so many kinds
of medium and at so many sites, each read back from its medium within fresh_days.
When others have changed or removed more than [guard] share of the frames, or more than
so many frames, a backup stops and asks. A copy is given up, wherever that is, only when [erase] copies
on other drives were read lately; a drive that is not attached counts for away_days after that."""


def write_settings(folder: Path, settings: Settings) -> None:
    import tomlkit

    document = tomlkit.document()
    for line in _HEAD.splitlines():
        document.add(tomlkit.comment(line))
    document.add(tomlkit.nl())
    for title, table in msgspec.to_builtins(settings).items():
        document.add(title, tomlkit.item({key: value for key, value in table.items() if value != ""}))
    write_atomically(folder / FILE, tomlkit.dumps(document).encode())


def read_settings(folder: Path) -> Settings:
    """Raises NotPossible for settings that are not TOML or not these."""
    path = folder / FILE
    try:
        return msgspec.convert(tomllib.loads(path.read_text(encoding="utf-8")), Settings)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, msgspec.ValidationError) as error:
        raise NotPossible(f"{path} cannot be read: {error}.", "Put it right with an editor and try again.") from error
