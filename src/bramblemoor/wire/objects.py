"""A bucket of an object store over the S3 protocol, by boto3: what it lists, gives and takes, and its errors as sentences.

Nothing rests on an ETag (of an object put in pieces it is no digest), on a checksum that the store says it compared, or on a
precondition: what was put is read back. 403 never means that something is missing.
"""

import base64
import hashlib
import io
import re
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import urlsplit

import msgspec

from bramblemoor.errors import ServiceTrouble, WrongUse
from bramblemoor.running import PIECE
from bramblemoor.wire.http import Answered, ConnectionBroke, check_address
from bramblemoor.wire.reaching import trusting, why_unreachable

PART = 8 << 20
"""Bytes of a piece of an object that is put in several."""
_AGAIN = {"SlowDown", "InternalError", "ServiceUnavailable", "RequestTimeout", "503", "500", "502", "504", "429"}
_WRONG = {"BadDigest", "XAmzContentSHA256Mismatch"}
_SKEW = 900  # seconds that a store lets a clock be off
_META = "sha256"


class CameWrong(Exception):
    """What came to the store is not what was sent, and it took none of it."""


class Object(msgspec.Struct, frozen=True):
    """An object as it is listed; `modified` in seconds since 1970."""

    key: str
    bytes: int
    etag: str
    modified: int


@dataclass(frozen=True)
class Opened:
    """An object from byte `start` on; `told` is the digest of the whole, as "sha256:HEX" or "md5:HEX", or ""."""

    start: int
    etag: str
    pieces: Iterator[bytes]
    told: str


def parted(url: str) -> tuple[str, str, str]:
    """The endpoint, bucket and prefix ("" or "a/b/") of an address like https://store.example/bucket/a/b. Raises WrongUse."""
    parts = urlsplit(check_address(url))
    bucket, _, prefix = parts.path.strip("/").partition("/")
    if not bucket:
        raise WrongUse(
            f"{url} names no bucket.", "Put its name behind the store's address: https://store.example/my-bucket."
        )
    return f"{parts.scheme}://{parts.netloc}", bucket, f"{prefix}/" if prefix else ""


class Bucket:
    """One bucket, below a prefix: keys are told without it. Its methods raise ServiceTrouble, and Answered where the store
    answers; what puts something raises CameWrong, too.
    """

    def __init__(
        self,
        name: str,
        url: str,
        key: str,
        secret: str,
        *,
        region: str = "",
        patience: float = 60.0,
        notice: Callable[[str], None] = lambda text: None,
        proxy: str = "",
        authority: str = "",
        connections: int = 8,
    ) -> None:
        self.name, self.url = name, url
        self.endpoint, self.bucket, self.prefix = parted(url)
        self._key, self._secret = key, secret
        self._region, self._authority, self._connections = region or "us-east-1", authority, connections
        self.patience, self.notice = patience, notice
        self._proxy = proxy if urlsplit(self.endpoint).scheme == "https" else ""
        if authority:
            trusting(authority)  # says at once where there is none in it
        self._lock = threading.Lock()
        self._made: Any = None
        self._refuses = True

    @property
    def _client(self) -> Any:
        with self._lock:
            if self._made is None:
                import boto3
                from botocore.config import Config
                from botocore.session import get_session

                # No checksums of the client's own: older stores refuse them. What is put goes with its MD5, which is signed;
                # a signature of all its bytes would prove no more, and is half of the work. No proxies of the environment,
                # no other keys.
                config = Config(
                    signature_version="s3v4",
                    s3={"addressing_style": "path", "payload_signing_enabled": False},
                    request_checksum_calculation="when_required",
                    response_checksum_validation="when_required",
                    retries={"total_max_attempts": 1},
                    connect_timeout=10,
                    read_timeout=120,  # what is sent may wait in this machine's buffers for most of it
                    max_pool_connections=self._connections * 2,
                    proxies={"https": self._proxy} if self._proxy else {},
                )
                session = get_session()
                # The client's own reading of dates takes longer than all else that is done with a list.
                session.get_component("response_parser_factory").set_parser_defaults(timestamp_parser=_moment)
                self._made = boto3.session.Session(botocore_session=session).client(
                    "s3", endpoint_url=self.endpoint, region_name=self._region, aws_access_key_id=self._key,
                    aws_secret_access_key=self._secret, config=config, verify=self._authority or None,
                )  # fmt: skip
                self._made.meta.events.register_first("needs-retry.s3", _stay)
                self._made.meta.events.register_last("before-call.s3", _unasked)
            return self._made

    def listed(self, below: str = "") -> Iterator[Object]:
        """All objects below a prefix, in order of their keys' bytes."""
        token: dict[str, str] = {}
        while True:
            page = self._ask("list_objects_v2", Prefix=self.prefix + below, MaxKeys=1000, **token)
            for one in page.get("Contents", ()):
                yield Object(
                    one["Key"][len(self.prefix) :],
                    one["Size"],
                    one.get("ETag", ""),
                    int(one["LastModified"].timestamp()),
                )
            if not page.get("IsTruncated"):
                return
            token = {"ContinuationToken": page["NextContinuationToken"]}

    def at(self, key: str) -> Object | None:
        """The object under a key; None where there is none. A key that may not look raises Answered (403)."""
        try:
            one = self._ask("head_object", Key=self.prefix + key)
        except Answered as error:
            if error.status == 404:
                return None
            raise
        return Object(key, one["ContentLength"], one.get("ETag", ""), int(one["LastModified"].timestamp()))

    @contextmanager
    def opened(self, key: str, start: int, etag: str) -> Iterator["Opened"]:
        """Begin to fetch an object from a byte on.

        Where it is another one by now than `etag` says, it begins at 0. Reading raises ConnectionBroke when it ends early.
        """
        more = {"Range": f"bytes={start}-", "IfMatch": etag} if start and etag else {}
        try:
            answer = self._ask("get_object", Key=self.prefix + key, **more)
        except Answered as error:
            if error.status not in (412, 416):
                raise
            answer = self._ask("get_object", Key=self.prefix + key)
        body = answer["Body"]
        first = int(answer["ContentRange"].removeprefix("bytes ").partition("-")[0]) if "ContentRange" in answer else 0
        try:
            yield Opened(first, answer.get("ETag", ""), _pieces(body, answer["ContentLength"]), _told(answer))
        finally:
            body.close()

    def peek(self, key: str, start: int, length: int) -> bytes:
        """At most so many bytes of an object from `start` on; none where they cannot be had."""
        try:
            answer = self._ask("get_object", Key=self.prefix + key, Range=f"bytes={start}-{start + length - 1}")
            return b"".join(_pieces(answer["Body"], answer["ContentLength"]))
        except (Answered, ConnectionBroke):
            return b""

    def put(self, key: str, content: bytes, sha256: str, *, anew: bool) -> str:
        """Put an object whole, with its digest beside it, for those who look; returns the ETag that it must have, its MD5.

        With `anew` the store is asked to refuse where one is there (RFC 9110, 13.1.2), and answers 412; not every store knows
        that.
        """
        md5 = hashlib.md5(content, usedforsecurity=False)
        more: dict[str, Any] = {"IfNoneMatch": "*"} if anew and self._refuses else {}
        more |= {"ContentMD5": _told_md5(md5.digest()), "Metadata": {_META: sha256} if sha256 else {}}
        try:
            self._ask("put_object", Key=self.prefix + key, Body=io.BytesIO(content), **more)
        except Answered as error:
            if error.status != 501 or "IfNoneMatch" not in more:
                raise
            self._refuses = False
            return self.put(key, content, sha256, anew=False)
        return f'"{md5.hexdigest()}"'

    def refuses_wrong(self, key: str) -> bool:
        """Whether the store refuses an object that does not match its MD5. One that it takes is removed again."""
        of_other = _told_md5(hashlib.md5(b"another", usedforsecurity=False).digest())
        try:
            self._ask("put_object", Key=self.prefix + key, Body=b"one", ContentMD5=of_other)
        except CameWrong:
            return True
        except Answered as error:
            return error.status == 400
        self.remove(key)
        return False

    def keeps_from_overwriting(self, key: str, content: bytes) -> bool:
        """Whether an object that is there is refused where `If-None-Match` says so: what was just put is offered once more."""
        if not self._refuses:
            return False
        try:
            self.put(key, content, hashlib.sha256(content).hexdigest(), anew=True)
        except Answered as error:
            return error.status == 412
        except CameWrong:
            pass
        return False

    def put_in_pieces(self, key: str, pieces: Iterator[bytes]) -> None:
        """Put a large object in pieces of PART bytes; what was put of one that fails is given up, where the key may."""
        upload = {"Key": self.prefix + key}
        upload["UploadId"] = self._ask("create_multipart_upload", **upload)["UploadId"]
        try:
            done = []
            for number, piece in enumerate(pieces, 1):
                md5 = _told_md5(hashlib.md5(piece, usedforsecurity=False).digest())
                answer = self._ask("upload_part", PartNumber=number, Body=io.BytesIO(piece), ContentMD5=md5, **upload)
                done.append({"PartNumber": number, "ETag": answer["ETag"]})
            self._ask("complete_multipart_upload", MultipartUpload={"Parts": done}, **upload)
        except BaseException:
            try:
                self._once("abort_multipart_upload", upload)
            except (ServiceTrouble, _Again):
                self.notice(
                    f"{self.name}: pieces of {key} stay behind; a rule of the bucket or a fuller key can clear them"
                )
            raise

    def remove(self, key: str) -> None:
        """Remove an object of one's own that came wrong."""
        self._ask("delete_object", Key=self.prefix + key)

    def _ask(self, what: str, **arguments: Any) -> Any:
        """One request, tried again as long as one is patient."""
        began, pause = time.monotonic(), 0.1
        while True:
            try:
                return self._once(what, arguments)
            except _Again as error:
                pause = error.wait if error.wait is not None else pause
                if time.monotonic() - began + pause > self.patience:
                    raise error.trouble(self.name, self.endpoint, self._proxy) from error
                self.notice(f"{self.name}: {error}; trying again")
                time.sleep(pause)
                pause = min(20.0, pause * 2)

    def _once(self, what: str, arguments: dict[str, Any]) -> Any:
        from botocore.exceptions import BotoCoreError, ClientError
        from urllib3.exceptions import HTTPError

        try:
            return getattr(self._client, what)(Bucket=self.bucket, **arguments)
        except _Redirected as error:
            raise Answered.with_status(
                error.status,
                f"{self.name} answered {error.status}: it points to another address, to which the key is not shown.",
                "If the store has moved, add it anew with its new address: bramblemoor service add.",
            ) from error
        except ClientError as error:
            raise self._answered(error) from error
        except (BotoCoreError, HTTPError, OSError) as error:
            found = why_unreachable(error, self._proxy)
            if found.for_good:
                raise found.trouble(self.name, self.endpoint) from error
            raise _Again(found.why, None, error) from error

    def _answered(self, error: Any) -> Exception:
        """What the store says, in the user's terms."""
        answer, meta = error.response.get("Error", {}), error.response.get("ResponseMetadata", {})
        code, status = str(answer.get("Code", "")), int(meta.get("HTTPStatusCode", 0))
        headers = {name.lower(): value for name, value in meta.get("HTTPHeaders", {}).items()}
        if code in _AGAIN or status in (429, 500, 502, 503, 504):
            wait = headers.get("retry-after", "")
            return _Again(f"it answers {status} {code}", float(wait) if wait.isdecimal() else None, error)
        if code in _WRONG:
            return CameWrong(code)
        detail = str(answer.get("Message") or code)[:200].rstrip(".")
        for hidden in (self._secret, self._key):
            detail = detail.replace(hidden, "(the key)") if hidden else detail
        skew = _skew(headers.get("date", ""))
        if code == "RequestTimeTooSkewed" or (status == 403 and abs(skew) > _SKEW):
            way = "ahead of" if skew > 0 else "behind"
            far = (
                f"is {abs(skew) / 60:.0f} minutes {way} its own" if abs(skew) > _SKEW else "and its own differ too much"
            )
            return Answered.with_status(
                status,
                f"{self.name} takes no request, because this machine's clock {far}.",
                "Set the clock right, and run the same command again.",
            )
        if code == "NoSuchBucket":
            return Answered.with_status(
                404, f"{self.name} has no bucket {self.bucket}.", f"Check the address: {self.url}."
            )
        if code in ("InvalidAccessKeyId", "SignatureDoesNotMatch"):
            what = "does not know the key" if code == "InvalidAccessKeyId" else "refuses the secret of the key"
            return Answered.with_status(
                status, f"{self.name} {what}.", f"Give the right one: bramblemoor service add {self.name} {self.url}"
            )
        if status == 403:
            return Answered.with_status(
                403,
                f"{self.name} does not let this key do that ({code or 'AccessDenied'}).",
                "Use a key that may list, read and write in this bucket.",
            )
        return Answered.with_status(
            status,
            f"{self.name} answered {status}: {detail or code}.",
            "Check the address and the key: bramblemoor service list.",
        )


def _told_md5(digest: bytes) -> str:
    return base64.b64encode(digest).decode()


def _told(answer: Any) -> str:
    """The digest of the whole that an answer tells: what whoever put it left beside it, else its ETag, where that is an MD5.

    It is none of an object that was put in pieces, or is encrypted with a key of its own.
    """
    left, etag = answer.get("Metadata", {}).get(_META, ""), answer.get("ETag", "").strip('"')
    if re.fullmatch("[0-9a-f]{64}", left):
        return f"sha256:{left}"
    encrypted = answer.get("ServerSideEncryption", "AES256") != "AES256" or "SSECustomerAlgorithm" in answer
    return f"md5:{etag}" if re.fullmatch("[0-9a-f]{32}", etag) and not encrypted else ""


class _Redirected(Exception):
    def __init__(self, status: int) -> None:
        super().__init__(status)
        self.status = status


def _stay(response: Any = None, **_: Any) -> None:
    """Follow no redirect: what would be asked elsewhere is signed with the key."""
    if response is not None and 300 <= response[0].status_code < 400 and response[0].status_code != 304:
        raise _Redirected(response[0].status_code)


def _unasked(params: dict[str, Any], **_: Any) -> None:
    """Send the content with the request: the client reads a first answer (RFC 9110, 10.1.1) that is cut off for ever."""
    params["headers"].pop("Expect", None)


class _Again(Exception):
    """Worth another try; `wait` is what the store asks for, in seconds."""

    def __init__(self, why: str, wait: float | None, cause: BaseException) -> None:
        super().__init__(why)
        self.wait, self.cause = wait, cause

    def trouble(self, name: str, url: str, proxy: str) -> ServiceTrouble:
        from botocore.exceptions import ClientError

        if isinstance(self.cause, ClientError):
            return ServiceTrouble(
                f"{name} is too busy ({self}).", "Run the same command later: it goes on where it stopped."
            )
        return why_unreachable(self.cause, proxy).trouble(name, url)


def _pieces(body: Any, size: int) -> Iterator[bytes]:
    from botocore.exceptions import BotoCoreError
    from urllib3.exceptions import HTTPError

    came = 0
    try:
        while piece := body.read(PIECE):
            came += len(piece)
            yield piece
    except (BotoCoreError, HTTPError, OSError) as error:
        raise ConnectionBroke from error
    if came < size:
        raise ConnectionBroke


def _moment(text: str) -> datetime:
    """A moment of a list, as in RFC 3339, or of a header (RFC 9110, 5.6.7)."""
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        return parsedate_to_datetime(text)


def _skew(date: str) -> float:
    """How far this clock is ahead of the store's, in seconds; 0 where it does not say."""
    try:
        return (datetime.now(UTC) - parsedate_to_datetime(date)).total_seconds() if date else 0.0
    except (ValueError, TypeError):
        return 0.0
