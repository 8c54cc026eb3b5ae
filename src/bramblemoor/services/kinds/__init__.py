"""The kinds of service, by the name that the ledger gives them."""

from collections.abc import Callable
from importlib import import_module

from bramblemoor.errors import WrongUse
from bramblemoor.services.interface import Account
from bramblemoor.wire.signing import Signature

PARCELS, FLAT, FOLDERS, BUCKET = "parcels", "flat", "folders", "bucket"
KINDS = {
    PARCELS: "a service that makes exports, over the parcel protocol",
    FLAT: "a flat service that makes exports, lists its frames and takes new ones, over the same",
    FOLDERS: "a folder service over WebDAV",
    BUCKET: "a bucket of an object store",
}
_KINDS = {
    PARCELS: ("bramblemoor.services.kinds.parcel_http", "ParcelHttp"),
    FLAT: ("bramblemoor.services.kinds.flat_http", "FlatHttp"),
    FOLDERS: ("bramblemoor.services.kinds.webdav", "WebDavFolders"),
    BUCKET: ("bramblemoor.services.kinds.bucket", "BucketTree"),
}
"""Where each kind is; what speaks to other machines takes long to load, and is loaded when it is used."""


def kind_named(kind: str) -> type[Account]:
    """Raises WrongUse for a kind that this program does not know."""
    if kind not in _KINDS:
        raise WrongUse(f"A service of the kind {kind!r} is not known here.", "Use a newer Bramblemoor.")
    module, name = _KINDS[kind]
    found: type[Account] = getattr(import_module(module), name)
    return found


def open_account(
    kind: str,
    name: str,
    url: str,
    token: str | Signature,
    options: dict[str, str],
    *,
    patience: float,
    notice: Callable[[str], None],
    proxy: str,
    authority: str = "",
) -> Account:
    """Sign in. `options` are what was agreed for this service; `patience` is how many seconds to go on trying in silence;
    `authority` is a file with a certificate to trust besides the system's.
    """
    account: Callable[..., Account] = kind_named(kind)
    return account(name, url, token, patience=patience, notice=notice, proxy=proxy, authority=authority, **options)
