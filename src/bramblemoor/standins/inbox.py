"""What the flat stand-ins list and take (docs/service-protocol.md, "Frames" and "Sending"): uploads that resume, frames,
albums.
"""

import base64
import hashlib
import json
import re
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, Response
from starlette.routing import Route

from bramblemoor.standins.exporter import Account, Record

_PAGE = 200
_AFTER = 8  # frames, after which somebody else has filled the account, or the sign-in lapses
Answer = Callable[[Request], Response]


class Refusal(Exception):
    """What is answered instead, as an RFC 9457 problem."""

    def __init__(self, status: int, detail: str, headers: dict[str, str] | None = None) -> None:
        super().__init__(detail)
        self.status, self.detail, self.headers = status, detail, headers or {}


@dataclass
class InboxFaults:
    """`quota` in bytes, 0 for none; `refuse` refuses each frame of that number.

    `swap` stores another's bytes, `cut` less than it says, `lose_frame` takes a frame and loses the answer, each so many times;
    `daily` is how many frames it takes before 429; with `fills` the account is full in the middle, with `lapses` the sign-in
    ends there; `slow` is how many seconds it takes over a frame.
    """

    quota: int = 0
    refuse: int = 0
    swap: int = 0
    cut: int = 0
    lose_frame: int = 0
    daily: int = 0
    fills: int = 0
    lapses: int = 0
    slow: float = 0.0


class Inbox:
    """The account's frames and albums, and uploads on their way to it, kept below its folder."""

    def __init__(self, account: Account, faults: InboxFaults) -> None:
        self.account, self.faults = account, faults
        self.folder = account.folder / "uploads"
        self.folder.mkdir(exist_ok=True)
        self.lock = threading.RLock()
        self.taken = self.tried = 0
        self.by_ref = {item["ref"]: item for item in account.items}
        self.by_key = {item["key"]: item for item in account.items if item.get("key")}
        self.used = sum(file["bytes"] for item in account.items for file in item["files"])

    def routes(self, guarded: Callable[[Answer], Any]) -> list[Route]:
        def plain(handler: Answer) -> Any:
            def answer(request: Request) -> Response:
                try:
                    return handler(request)
                except Refusal as no:
                    problem = {"status": no.status, "detail": no.detail}
                    return JSONResponse(problem, no.status, no.headers, "application/problem+json")
                except (KeyError, TypeError, ValueError) as error:
                    problem = {"status": 400, "detail": f"the request makes no sense: {error!r}"}
                    return JSONResponse(problem, 400, None, "application/problem+json")

            return guarded(answer)

        return [
            Route("/v1/powers", plain(self.powers)),
            Route("/v1/frames", plain(self.frames), methods=["GET"]),
            Route("/v1/frames", plain(self.take_frame), methods=["POST"]),
            Route("/v1/frames/{frame}/files/{number:int}", plain(self.send_file), methods=["GET"]),
            Route("/v1/albums", plain(self.albums), methods=["GET"]),
            Route("/v1/albums", plain(self.make_album), methods=["POST"]),
            Route("/v1/albums/{album}/frames", plain(self.put_in_album), methods=["POST"]),
            Route("/v1/uploads", plain(self.begin), methods=["POST"]),
            Route("/v1/uploads/{upload}", plain(self.show_upload), methods=["GET"]),
            Route("/v1/uploads/{upload}", plain(self.take_piece), methods=["PUT"]),
        ]

    def room(self) -> int | None:
        if not self.faults.quota:
            return None
        return max(0, self.faults.quota - int(self.used))

    def powers(self, request: Request) -> Response:
        return JSONResponse(
            {"exports": True, "list": True, "uploads": True, "keeps": self.account.keeps(), "room": self.room()}
        )

    def frames(self, request: Request) -> Response:
        """Pages of frames, in the order in which the account has them; those without a file are not listed."""
        if "key" in request.query_params:
            known = self.by_key.get(request.query_params["key"])
            return JSONResponse({"frames": [self._shown(known)] if known else []})
        after = request.query_params.get("after", "")
        with self.lock:
            items = [item for item in self.account.items if item["files"]]
        start = next((n + 1 for n, item in enumerate(items) if item["ref"] == after), 0) if after else 0
        page = items[start : start + _PAGE]
        more = start + _PAGE < len(items)
        return JSONResponse(
            {"frames": [self._shown(item) for item in page], "next": page[-1]["ref"] if page and more else ""}
        )

    def _shown(self, item: Record) -> Record:
        told = self.account.told(item)
        files = [
            {
                "role": file.get("role", "original"), "name": file.get("name", file["stored"]), "bytes": file["bytes"],
                "sha256": file["sha256"], "at": f"/v1/frames/{item['ref']}/files/{number}",
            }
            for number, file in enumerate(item["files"])
        ]  # fmt: skip
        return {
            "id": item["ref"], "kind": item["kind"], "files": files, "told": told, "key": item.get("key", ""),
            "reduced": item["quality"] == "reduced",
        }  # fmt: skip

    def send_file(self, request: Request) -> Response:
        item = self.by_ref.get(request.path_params["frame"])
        if item is None or request.path_params["number"] >= len(item["files"]):
            raise Refusal(404, "there is no such file")
        file = item["files"][request.path_params["number"]]
        path = self.account.stored(file)
        digest = hashlib.sha256(path.read_bytes()).digest()
        told = {"Repr-Digest": f"sha-256=:{base64.b64encode(digest).decode()}:", "ETag": f'"{digest.hex()[:32]}"'}
        return FileResponse(path, media_type="application/octet-stream", headers=told)

    def albums(self, request: Request) -> Response:
        with self.lock:
            return JSONResponse({"albums": [self._album(label) for label in self.account.labels]})

    def _album(self, label: Record) -> Record:
        members = label.get("members") or [one["ref"] for one in self.account.items if label["ref"] in one["labels"]]
        inside = [ref for ref in members if self.by_ref[ref]["files"]]
        if not self.account.keeps()["album_order"]:
            inside.sort(key=lambda ref: str(self.by_ref[ref]["shutter_utc"]))
        return {
            "id": label["ref"], "title": label["title"], "description": label.get("about", ""), "frames": inside,
            "key": label.get("key", ""),
        }  # fmt: skip

    def make_album(self, request: Request) -> Response:
        asked = json.loads(request.state.body)
        with self.lock:
            for label in self.account.labels:
                if label.get("key") == asked["key"]:
                    return JSONResponse(self._album(label))
            label = {
                "ref": f"A{secrets.token_hex(4)}", "title": str(asked["title"]), "about": str(asked.get("description", "")),
                "key": asked["key"], "members": [],
            }  # fmt: skip
            self.account.labels.append(label)
            self.account.keep_labels()
        return JSONResponse(self._album(label), 201)

    def put_in_album(self, request: Request) -> Response:
        asked = json.loads(request.state.body)
        with self.lock:
            label = next((one for one in self.account.labels if one["ref"] == request.path_params["album"]), None)
            if label is None:
                raise Refusal(404, "there is no such album")
            self.account.keep_labels()  # so that each has a list of its members
            for ref in asked["frames"]:
                item = self.by_ref[ref]
                if label["ref"] in item["labels"]:
                    continue
                if not self.account.keeps()["albums_overlap"]:
                    for other in self.account.labels:
                        other["members"] = [one for one in other["members"] if one != ref]
                    item["labels"] = []
                item["labels"].append(label["ref"])
                label["members"].append(ref)
            self.account.keep_labels()
            return JSONResponse(self._album(label))

    def begin(self, request: Request) -> Response:
        """Announce a file; one that was announced with this key is that one, with what has come of it."""
        asked = json.loads(request.state.body)
        name, size = str(asked["name"]), int(asked["bytes"])
        if size < 0 or not name or "/" in name:
            raise ValueError("a name and a size are wanted")
        keeps = self.account.keeps()
        most = keeps["most_bytes"].get(asked.get("kind", "photo"), 0)
        if asked.get("kind", "photo") not in keeps["kinds"]:
            raise Refusal(415, f"files of the kind {asked['kind']} are not taken here")
        if most and size > most:
            raise Refusal(413, f"a file of this kind has at most {most} bytes here")
        with self.lock:
            upload = hashlib.sha256(f"{asked['key']}\0{asked.get('role')}\0{name}\0{size}".encode()).hexdigest()[:24]
            told = self.folder / f"{upload}.json"
            if not told.is_file():
                room = self.room()
                if room is not None and size > room - self._under_way():
                    raise Refusal(507, "the account is full")
                told.write_text(json.dumps({"name": name, "bytes": size, "role": asked["role"]}))
                (self.folder / upload).touch()
        return JSONResponse(self._upload(upload), 201)

    def _under_way(self) -> int:
        return sum(path.stat().st_size for path in self.folder.iterdir() if path.suffix != ".json")

    def _upload(self, upload: str) -> Record:
        return {"id": upload, "href": f"/v1/uploads/{upload}", "have": (self.folder / upload).stat().st_size}

    def _known(self, request: Request) -> tuple[str, Record]:
        upload = str(request.path_params["upload"])
        path = self.folder / f"{upload}.json"
        if not re.fullmatch("[0-9a-f]{24}", upload) or not path.is_file():
            raise Refusal(404, "there is no such upload")
        told: Record = json.loads(path.read_text())
        return upload, told

    def show_upload(self, request: Request) -> Response:
        return JSONResponse(self._upload(self._known(request)[0]))

    def take_piece(self, request: Request) -> Response:
        """A piece with its place in the whole (RFC 9110, 14.5) and its digest (RFC 9530, 2)."""
        upload, told = self._known(request)
        body: bytes = request.state.body
        span = re.fullmatch(r"bytes (\d+)-(\d+)/(\d+)", request.headers.get("content-range", ""))
        if told["bytes"] and (span is None or int(span[3]) != told["bytes"]):
            raise Refusal(400, "a piece needs a Content-Range that fits")
        digest = request.headers.get("content-digest", "")
        wanted = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
        if digest != wanted:
            raise Refusal(400, "the piece is not what its digest says")
        with self.lock:
            path = self.folder / upload
            have = path.stat().st_size
            if span is not None and int(span[1]) != have:
                raise Refusal(409, f"{have} bytes are here: go on there")
            with path.open("ab") as file:
                file.write(body)
        return JSONResponse(self._upload(upload))

    def take_frame(self, request: Request) -> Response:
        """Make a frame of uploads that are whole; one that was made with this key is that one."""
        asked = json.loads(request.state.body)
        with self.lock:
            if asked["key"] in self.by_key:
                return JSONResponse(self._shown(self.by_key[asked["key"]]))
            self.tried += 1
            if self.faults.refuse and self.tried % self.faults.refuse == 0:
                raise Refusal(422, "this picture is not to the service's liking")
            time.sleep(self.faults.slow)
            if self.faults.fills and self.taken >= _AFTER:
                raise Refusal(507, "the account is full")
            if self.faults.lapses and self.taken >= _AFTER:
                raise Refusal(401, "the sign-in has lapsed", {"WWW-Authenticate": "Bearer"})
            if self.faults.daily and self.taken >= self.faults.daily:
                raise Refusal(429, "enough for today", {"Retry-After": "86400"})
            contents = []
            for one in asked["files"]:
                told = json.loads((self.folder / f"{one['upload']}.json").read_text())
                content = (self.folder / one["upload"]).read_bytes()
                if len(content) != told["bytes"]:
                    raise Refusal(409, f"{told['name']} is not whole")
                if hashlib.sha256(content).hexdigest() != one["sha256"]:
                    (self.folder / one["upload"]).write_bytes(b"")
                    raise Refusal(409, f"{told['name']} is not what its digest says; send it anew")
                contents.append((told["role"], told["name"], content))
            contents = self._amiss(contents)
            item = self.account.take(
                f"{self.account.prefix}-{secrets.token_hex(5)}", asked["kind"], contents, asked["told"]
            )
            item["key"] = asked["key"]
            self.account.keep_item(item)
            self.by_ref[item["ref"]] = self.by_key[item["key"]] = item
            self.used += sum(file["bytes"] for file in item["files"])
            self.taken += 1
            for one in asked["files"]:
                (self.folder / one["upload"]).unlink()
                (self.folder / f"{one['upload']}.json").unlink()
            if self.faults.lose_frame:
                self.faults.lose_frame -= 1
                raise Refusal(502, "the answer was lost on its way")
            return JSONResponse(self._shown(item), 201)

    def _amiss(self, contents: list[tuple[str, str, bytes]]) -> list[tuple[str, str, bytes]]:
        """What is stored instead, where that was ordered."""
        role, name, content = contents[0]
        if self.faults.swap and self.account.items:
            self.faults.swap -= 1
            other = next(item for item in self.account.items if item["files"])
            content = self.account.stored(other["files"][0]).read_bytes()
        elif self.faults.cut:
            self.faults.cut -= 1
            content = content[: len(content) // 2]
        return [(role, name, content), *contents[1:]]
