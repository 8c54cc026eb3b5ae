"""What can go wrong, in the user's terms.

BramblemoorError            one sentence what happened, one what to do
├── WrongUse                the command was asked for something that makes no sense (exit 2)
└── NotPossible             it made sense, but could not be done (exit 3)
    ├── NoLibrary           no library here
    ├── LibraryInUse        another run holds it
    ├── ServiceTrouble      the service is down, refuses, or answers nonsense
    ├── PartsAmiss          a parcel is not complete and sound
    ├── HostileArchive      an archive entry that must not be written
    ├── MassOfChanges       more was changed or removed by others than the guard lets pass
    └── DepotTrouble        a depot is absent, another's, or full
"""

from collections.abc import Sequence


class BramblemoorError(Exception):
    """Carries the two sentences that the user reads, the exit code, and lines that name what it is about."""

    exit_code = 3

    def __init__(self, happened: str, remedy: str, named: Sequence[str] = ()) -> None:
        super().__init__(f"{happened} {remedy}")
        self.happened = happened
        self.remedy = remedy
        self.named = named

    def __reduce__(self) -> tuple[type["BramblemoorError"], tuple[str, str, Sequence[str]]]:
        return type(self), (self.happened, self.remedy, self.named)  # so that it comes whole from another process


class WrongUse(BramblemoorError):
    exit_code = 2


class NotPossible(BramblemoorError):
    pass


class NoLibrary(NotPossible):
    pass


class LibraryInUse(NotPossible):
    pass


class ServiceTrouble(NotPossible):
    pass


class PartsAmiss(NotPossible):
    pass


class HostileArchive(NotPossible):
    pass


class MassOfChanges(NotPossible):
    pass


class DepotTrouble(NotPossible):
    pass
