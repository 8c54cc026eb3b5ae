"""Coldbarrow, an object store over the S3 protocol: one bucket, two keys, and what real stores do when they are not well."""

import base64
import hashlib
import hmac
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import format_datetime
from pathlib import Path
from urllib.parse import quote, unquote, unquote_plus
from xml.etree import ElementTree
from xml.sax.saxutils import escape

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse
from starlette.routing import Route

from bramblemoor.standins.faults import Ordered
from bramblemoor.standins.object_store import COLD, Held, ObjectStore, fill
from bramblemoor.standins.trees import COLDBARROW, draw_tree

BUCKET = "valley"
KEY, READER = "VALLEYKEY", "READERKEY"
"""The key that may do all in the bucket, and the one that may list and read."""
_PIECE = 1 << 18
_SKEW = 900  # seconds
_MOST = 1000


def draw_account(folder: Path) -> None:
    draw_tree(folder, COLDBARROW)


@dataclass
class StoreFaults(Ordered):
    """What goes wrong, each so many times: `busy` answers (SlowDown), downloads broken off (`drop`), a byte flipped on the way
    (`flip`), objects that are taken and gone (`lost`) or kept with a byte wrong (`rot`).

    `late` is for how many seconds a new object is not listed, `skew` how far its clock is ahead; `blind` overwrites whatever
    `If-None-Match` says, `plain` refuses trailing checksums.
    """

    busy: int = 0
    drop: int = 0
    flip: int = 0
    lost: int = 0
    rot: int = 0
    late: float = 0.0
    skew: float = 0.0
    blind: bool = False
    plain: bool = False


class _No(Exception):
    """What is answered instead."""

    def __init__(self, status: int, code: str, message: str = "", headers: dict[str, str] | None = None) -> None:
        self.status, self.code, self.message, self.headers = status, code, message or code, headers or {}


class Coldbarrow:
    """The service: its objects, and the secrets of its keys."""

    def __init__(self, folder: Path, secrets: dict[str, str], faults: StoreFaults) -> None:
        self.faults, self.secrets = faults, secrets
        is_new = not (folder / "objects.sqlite").exists()
        self.store = ObjectStore(folder, skew=faults.skew)
        if is_new:
            fill(self.store, folder / "tree")

    def app(self) -> Starlette:
        methods = ["GET", "HEAD", "PUT", "POST", "DELETE"]
        return Starlette(routes=[Route("/{path:path}", self.answer, methods=methods)])

    async def answer(self, request: Request) -> Response:
        body = await request.body()
        try:
            if self.faults.take("busy"):
                raise _No(503, "SlowDown", "Please reduce your request rate.", {"Retry-After": "1"})
            self._require_signed(request, body)
            response = self._dispatch(request, body)
        except _No as no:
            text = f"<Error><Code>{no.code}</Code><Message>{escape(no.message)}</Message></Error>"
            response = Response("" if request.method == "HEAD" else text, no.status, no.headers, "application/xml")
        response.headers["Date"] = format_datetime(datetime.fromtimestamp(self.store.now(), UTC), usegmt=True)
        return response

    def _dispatch(self, request: Request, body: bytes) -> Response:
        raw = request.scope["raw_path"].decode("ascii").split("?")[0]
        bucket, _, key = unquote(raw.lstrip("/")).partition("/")
        asked = dict(request.query_params)
        if bucket != BUCKET:
            raise _No(404, "NoSuchBucket", "The bucket does not exist.")
        method = request.method
        if not key:
            if method != "GET":
                raise _No(405, "MethodNotAllowed")
            return self._list(asked)
        if method in ("GET", "HEAD"):
            return self._give(request, key)
        if method == "DELETE":
            if "uploadId" in asked:
                self.store.give_up(asked["uploadId"])
            else:
                self.store.remove(key)
            return Response(status_code=204)
        if method == "POST":
            return self._post(request, key, asked, body)
        if "uploadId" in asked:
            if not self.store.knows(asked["uploadId"]):
                raise _No(404, "NoSuchUpload")
            etag = self.store.add_piece(asked["uploadId"], int(asked["partNumber"]), body, self._checked(request, body))
            return Response(status_code=200, headers={"ETag": f'"{etag}"'})
        return self._put(request, key, body)

    def _put(self, request: Request, key: str, body: bytes) -> Response:
        if request.headers.get("if-none-match") == "*" and not self.faults.blind and self.store.at(key) is not None:
            raise _No(412, "PreconditionFailed", "At least one of the preconditions did not hold.")
        check = self._checked(request, body)
        sums = {"type": "FULL_OBJECT", "sha256": check} if check else {}
        if self.faults.take("rot") and body:
            stored = bytes((body[0] ^ 1,)) + body[1:]
        else:
            stored = body
        etag = hashlib.md5(body, usedforsecurity=False).hexdigest()
        if not self.faults.take("lost"):
            self.store.put(
                key, stored, _meta(request), request.headers.get("x-amz-storage-class", "STANDARD"), sums, etag
            )
        return Response(status_code=200, headers={"ETag": f'"{etag}"'})

    def _checked(self, request: Request, body: bytes) -> str:
        """The SHA-256 that the client gave, in base64, or ""; a wrong one is refused."""
        if "x-amz-trailer" in request.headers and self.faults.plain:
            raise _No(400, "MissingContentLength", "Trailing checksums are not taken here.")
        given = request.headers.get("x-amz-checksum-sha256", "")
        if given and given != base64.b64encode(hashlib.sha256(body).digest()).decode():
            raise _No(400, "BadDigest", "The checksum does not match what was received.")
        md5 = request.headers.get("content-md5", "")
        if md5 and md5 != base64.b64encode(hashlib.md5(body, usedforsecurity=False).digest()).decode():
            raise _No(400, "BadDigest", "The Content-MD5 does not match what was received.")
        return given

    def _post(self, request: Request, key: str, asked: dict[str, str], body: bytes) -> Response:
        if "uploads" in asked:
            algorithm = request.headers.get("x-amz-checksum-algorithm", "")
            upload = self.store.begin(
                key, _meta(request), request.headers.get("x-amz-storage-class", "STANDARD"), algorithm
            )
            return _xml(
                f"<InitiateMultipartUploadResult><Bucket>{BUCKET}</Bucket><Key>{escape(key)}</Key><UploadId>{upload}</UploadId>"
                "</InitiateMultipartUploadResult>"
            )
        if "uploadId" in asked:
            if not self.store.knows(asked["uploadId"]):
                raise _No(404, "NoSuchUpload")
            numbers = [
                int(one.text or 0) for one in ElementTree.fromstring(body).iter() if one.tag.endswith("PartNumber")
            ]
            etag = self.store.complete(asked["uploadId"], numbers)
            return _xml(
                f"<CompleteMultipartUploadResult><ETag>&quot;{etag}&quot;</ETag></CompleteMultipartUploadResult>"
            )
        if "restore" in asked:
            held = self._held(key)
            if held.storage != COLD:
                raise _No(403, "InvalidObjectState", "The object is not cold.")
            days = re.search(rb"<Days>(\d+)</Days>", body)
            if not self.store.restore(key, int(days[1]) if days else 1):
                raise _No(409, "RestoreAlreadyInProgress", "It is being brought up already.")
            return Response(status_code=202)
        raise _No(400, "InvalidRequest")

    def _held(self, key: str) -> Held:
        held = self.store.at(key)
        if held is None:
            raise _No(404, "NoSuchKey", "There is no such key.")
        return held

    def _give(self, request: Request, key: str) -> Response:
        held = self._held(key)
        headers = {
            "ETag": f'"{held.etag}"', "Accept-Ranges": "bytes", "Last-Modified": _date(held.modified),
            **{f"x-amz-meta-{name}": value for name, value in held.meta.items()},
        }  # fmt: skip
        if held.storage != "STANDARD":
            headers["x-amz-storage-class"] = held.storage
        if held.wanted:
            headers["x-amz-restore"] = (
                'ongoing-request="true"' if held.ready > self.store.now()
                else f'ongoing-request="false", expiry-date="{_date(held.until)}"'
            )  # fmt: skip
        if request.headers.get("x-amz-checksum-mode") == "ENABLED" and "sha256" in held.sums:
            headers |= {"x-amz-checksum-sha256": held.sums["sha256"], "x-amz-checksum-type": held.sums["type"]}
        if request.headers.get("if-match", f'"{held.etag}"') != f'"{held.etag}"':
            raise _No(412, "PreconditionFailed")
        if request.method == "HEAD":
            return Response(status_code=200, headers=headers | {"Content-Length": str(held.bytes)})
        if not self.store.is_up(held):
            raise _No(403, "InvalidObjectState", "The object is cold: bring it up first.")
        start, status = 0, 200
        wanted = re.fullmatch(r"bytes=(\d+)-(\d*)", request.headers.get("range", ""))
        last = held.bytes - 1
        if wanted:
            start, status = int(wanted[1]), 206
            last = min(last, int(wanted[2])) if wanted[2] else last
            if start >= held.bytes:
                raise _No(416, "InvalidRange")
            headers["Content-Range"] = f"bytes {start}-{last}/{held.bytes}"
        headers["Content-Length"] = str(last - start + 1)
        return StreamingResponse(self._pieces(held, start, last + 1), status, headers, "application/octet-stream")

    def _pieces(self, held: Held, start: int, end: int) -> Iterator[bytes]:
        drop, flip = self.faults.take("drop"), self.faults.take("flip")
        with held.blob.open("rb") as file:
            file.seek(start)
            while (at := file.tell()) < end and (piece := file.read(min(_PIECE, end - at))):
                if drop:
                    yield piece[: len(piece) // 2]
                    raise ConnectionError("dropped to order")
                yield bytes((piece[0] ^ 1,)) + piece[1:] if flip else piece
                flip = False

    def _list(self, asked: dict[str, str]) -> Response:
        prefix, most = asked.get("prefix", ""), min(_MOST, int(asked.get("max-keys", _MOST)))
        after = base64.urlsafe_b64decode(asked["continuation-token"]).decode() if "continuation-token" in asked else ""
        found = self.store.listed(prefix, after or asked.get("start-after", ""), most + 1, late=self.faults.late)
        more, found = len(found) > most, found[:most]
        encoded = asked.get("encoding-type") == "url"
        lines = [
            f"<Contents><Key>{quote(one.key) if encoded else escape(one.key)}</Key>"
            f"<LastModified>{_iso(one.modified)}</LastModified><ETag>&quot;{one.etag}&quot;</ETag><Size>{one.bytes}</Size><StorageClass>{one.storage}</StorageClass></Contents>"
            for one in found
        ]
        token = base64.urlsafe_b64encode(found[-1].key.encode()).decode() if more else ""
        following = f"<NextContinuationToken>{token}</NextContinuationToken>" if more else ""
        return _xml(
            f"<ListBucketResult><Name>{BUCKET}</Name><Prefix>{escape(prefix)}</Prefix><KeyCount>{len(found)}</KeyCount>"
            f"<MaxKeys>{most}</MaxKeys>" + ("<EncodingType>url</EncodingType>" if encoded else "")
            + f"<IsTruncated>{str(more).lower()}</IsTruncated>{following}{''.join(lines)}</ListBucketResult>"
        )  # fmt: skip

    def _require_signed(self, request: Request, body: bytes) -> None:
        """Check the signature (version 4), the clock, and what the key may do."""
        match = re.fullmatch(
            r"AWS4-HMAC-SHA256 Credential=([^/]+)/(\d{8})/([^/]+)/s3/aws4_request, ?SignedHeaders=([^,]+), ?"
            r"Signature=([0-9a-f]{64})",
            request.headers.get("authorization", ""),
        )
        if match is None:
            raise _No(403, "AccessDenied", "No signature was given.")
        key, day, region, names, given = match.groups()
        if key not in self.secrets:
            raise _No(403, "InvalidAccessKeyId", "There is no such key.")
        moment = request.headers.get("x-amz-date", "")
        signed_at = datetime.strptime(moment, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC).timestamp() if moment else 0.0
        if abs(signed_at - self.store.now()) > _SKEW:
            raise _No(403, "RequestTimeTooSkewed", "The request's time and the store's differ too much.")
        digest = request.headers.get("x-amz-content-sha256", "")
        if re.fullmatch("[0-9a-f]{64}", digest) and digest != hashlib.sha256(body).hexdigest():
            raise _No(400, "XAmzContentSHA256Mismatch", "What came is not what was signed.")
        if not hmac.compare_digest(given, self._signature(request, key, day, region, names, moment, digest)):
            raise _No(403, "SignatureDoesNotMatch", "The signature is wrong.")
        if key == READER and request.method not in ("GET", "HEAD"):
            raise _No(403, "AccessDenied", "This key may only read.")

    def _signature(
        self, request: Request, key: str, day: str, region: str, names: str, moment: str, digest: str
    ) -> str:
        path, _, query = request.scope["raw_path"].decode(), "", request.scope["query_string"].decode()
        pairs = sorted(
            (quote(unquote_plus(name), safe="-_.~"), quote(unquote_plus(value), safe="-_.~"))
            for name, _, value in (one.partition("=") for one in query.split("&") if one)
        )
        headers = "".join(
            f"{name}:{re.sub(' +', ' ', ','.join(request.headers.getlist(name)).strip())}\n"
            for name in names.split(";")
        )
        canonical = "\n".join(
            (
                request.method,
                path.split("?")[0],
                "&".join(f"{name}={value}" for name, value in pairs),
                headers,
                names,
                digest,
            )
        )
        scope = f"{day}/{region}/s3/aws4_request"
        text = f"AWS4-HMAC-SHA256\n{moment}\n{scope}\n{hashlib.sha256(canonical.encode()).hexdigest()}"
        derived = f"AWS4{self.secrets[key]}".encode()
        for step in (day, region, "s3", "aws4_request"):
            derived = hmac.new(derived, step.encode(), hashlib.sha256).digest()
        return hmac.new(derived, text.encode(), hashlib.sha256).hexdigest()


def _meta(request: Request) -> dict[str, str]:
    start = "x-amz-meta-"
    return {name[len(start) :]: value for name, value in request.headers.items() if name.startswith(start)}


def _xml(inner: str) -> Response:
    return Response(f'<?xml version="1.0" encoding="UTF-8"?>\n{inner}', 200, media_type="application/xml")


def _date(seconds: float) -> str:
    return format_datetime(datetime.fromtimestamp(seconds, UTC), usegmt=True)


def _iso(seconds: float) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%S.000Z", time.gmtime(seconds))
