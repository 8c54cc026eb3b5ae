"""Why another machine could not be reached, told by what lies below a client's error; the same for every client."""

import socket
import ssl
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import certifi
from urllib3.util.ssl_match_hostname import CertificateError

from bramblemoor.errors import ServiceTrouble, WrongUse

_OF_ANOTHER_HOST = 62  # X509_V_ERR_HOSTNAME_MISMATCH, and 64 of an address
_OF_ANOTHER_ADDRESS = 64
_OUT_OF_DATE = (9, 10)  # X509_V_ERR_CERT_NOT_YET_VALID, X509_V_ERR_CERT_HAS_EXPIRED


@dataclass(frozen=True)
class Unreachable:
    """Why, as a sentence's end, and what to do; `for_good` says that it is the same at the next try."""

    why: str
    remedy: str
    for_good: bool = False

    def trouble(self, name: str, url: str) -> ServiceTrouble:
        return ServiceTrouble(f"{name} cannot be reached at {url}: {self.why}.", self.remedy)


_ANOTHER_HOST = Unreachable("its certificate is of another host", "Check the address; nothing was sent.", True)
_LATER = "Check the network, then run the same command again: it goes on where it stopped."


def why_unreachable(error: BaseException, proxy: str = "") -> Unreachable:
    """`proxy` is the address of one that was to be used."""
    for cause in _causes(error):
        if isinstance(cause, ssl.SSLCertVerificationError):
            return _of_certificate(cause)
        if isinstance(cause, CertificateError):
            return _ANOTHER_HOST
        if isinstance(cause, ssl.SSLError):
            return Unreachable(
                f"it does not speak TLS as it should ({cause.reason or type(cause).__name__})",
                "Check that the address begins with https:// only where the service speaks it.",
            )
        if isinstance(cause, socket.gaierror):
            what = "the proxy's name" if proxy else "its name"
            return Unreachable(
                f"{what} is not known to this network (DNS)",
                _LATER.replace("the network", "the address and the network"),
            )
    told = next((one.strerror for one in _causes(error) if isinstance(one, OSError) and one.strerror), "")
    if proxy:
        return Unreachable(
            f"the proxy {proxy} does not let it through ({told or error or type(error).__name__})",
            "Check [network] proxy in bramblemoor.toml. " + _LATER,
        )
    return Unreachable(told.lower() or _named(error), _LATER)


def _named(error: BaseException) -> str:
    name = type(error).__name__
    if name.removesuffix("Error") in ("ReadTimeout", "ConnectTimeout", "PoolTimeout"):
        return "it does not answer in time"
    if name in ("RemoteProtocolError", "ConnectionClosedError", "ProtocolError", "IncompleteRead"):
        return "it ends the connection in the middle of an answer"
    return "it does not take what is sent" if name == "WriteTimeout" else name


def _of_certificate(error: ssl.SSLCertVerificationError) -> Unreachable:
    if error.verify_code in (_OF_ANOTHER_HOST, _OF_ANOTHER_ADDRESS):
        return _ANOTHER_HOST
    if error.verify_code in _OUT_OF_DATE:
        return Unreachable(
            f"its certificate is not good today ({error.verify_message})",
            "Compare this machine's clock with a right one; else ask the service. Nothing was sent.",
            True,
        )
    return Unreachable(
        f"its certificate is not trusted here ({error.verify_message})",
        "If it is your own server's, give its authority's certificate when you add it: --authority FILE. Nothing was sent.",
        True,
    )


def _causes(error: BaseException) -> Iterator[BaseException]:
    """The error and what lies below it, however the client wrapped it."""
    seen: set[int] = set()
    waiting: list[object] = [error]
    while waiting:
        one = waiting.pop(0)
        if isinstance(one, BaseException) and id(one) not in seen:
            seen.add(id(one))
            yield one
            waiting += [one.__cause__, one.__context__, getattr(one, "reason", None), *one.args, *one.__dict__.values()]


def trusting(authority: str) -> ssl.SSLContext:
    """Whom to trust: the system's authorities, and the one in that file. Raises WrongUse for a file that holds none."""
    context = ssl.create_default_context()
    context.load_verify_locations(cafile=certifi.where())  # not every system has a list of its own
    if authority:
        try:
            context.load_verify_locations(cafile=str(Path(authority)))
        except (OSError, ssl.SSLError) as error:
            raise WrongUse(
                f"{authority} holds no certificate that can be read ({error.strerror or error}).",
                "Give a file in PEM form: -----BEGIN CERTIFICATE-----.",
            ) from error
    return context
