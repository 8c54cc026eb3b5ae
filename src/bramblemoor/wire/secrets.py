"""Tokens: in the system's keyring where there is one, else in a file that only its owner can read."""

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from bramblemoor.errors import NotPossible

_RING = "bramblemoor"


def keep(account: str, token: str) -> None:
    """Keep a token for `account`, replacing an earlier one."""
    if not _ring_keeps(account, token):
        with _alone():
            _write(_read() | {account: token})


def forget(account: str) -> None:
    """Keep nothing for `account` any more."""
    with _alone():
        kept = _read()
        if kept.pop(account, None) is not None:
            _write(kept)
    if "BRAMBLEMOOR_SECRETS" not in os.environ:
        import keyring
        from keyring.errors import KeyringError

        with suppress(KeyringError):
            keyring.delete_password(_RING, account)


def recall(account: str) -> str | None:
    """The token kept for `account`, or None."""
    kept = _read().get(account)
    if kept is None and "BRAMBLEMOOR_SECRETS" not in os.environ:
        import keyring
        from keyring.errors import KeyringError

        try:
            kept = keyring.get_password(_RING, account)
        except KeyringError:
            return None
    return kept


def _ring_keeps(account: str, token: str) -> bool:
    if "BRAMBLEMOOR_SECRETS" in os.environ:  # the user wants a file, and says which
        return False
    import keyring
    from keyring.errors import KeyringError

    try:
        keyring.set_password(_RING, account, token)
    except KeyringError:
        return False
    return True


@contextmanager
def _alone() -> Iterator[None]:
    """Within it no other run changes the file."""
    from filelock import FileLock

    path = _path()
    path.parent.mkdir(parents=True, exist_ok=True)
    with FileLock(path.with_name(path.name + ".lock")):
        yield


def _path() -> Path:
    from platformdirs import user_config_path

    named = os.environ.get("BRAMBLEMOOR_SECRETS")
    return Path(named) if named else user_config_path("bramblemoor") / "secrets.json"


def _read() -> dict[str, str]:
    path = _path()
    if not path.is_file():
        return {}
    try:
        tokens = json.loads(path.read_text(encoding="utf-8"))
    except (ValueError, OSError, RecursionError):
        tokens = None
    if not isinstance(tokens, dict) or not all(isinstance(one, str) for one in tokens.values()):
        raise NotPossible(
            f"{path}, which keeps the tokens, cannot be read.",
            "Move it away, and sign in again: bramblemoor service add NAME URL.",
        )
    return tokens


def _write(tokens: dict[str, str]) -> None:
    path = _path()
    path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(path.name + ".new")
    fresh.unlink(missing_ok=True)
    descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as file:
        json.dump(tokens, file)
    fresh.replace(path)
