"""Signing in at the stand-ins with a code on a page (RFC 8628), tokens that are renewed and can be revoked."""

import html
import json
import secrets
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, Response
from starlette.routing import Route

_LETTERS = "BCDFGHJKLMNPQRSTVWXZ"
_LIVES = 600.0  # seconds in which a code may be typed
_HOUR = 3600.0
_PAGE = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{name}: sign in a device</title><style>
body {{ font: 18px/1.5 sans-serif; max-width: 34em; margin: 8vh auto; padding: 0 1em; background: #f4f1e8; color: #23302b }}
h1 {{ font-size: 1.4em }} input {{ font: inherit; letter-spacing: .2em; padding: .4em; width: 9em }}
button {{ font: inherit; padding: .4em 1em }} p.said {{ background: #fff; padding: 1em; border-left: .3em solid #5b8c5a }}
</style></head><body><h1>{name}</h1>{body}</body></html>"""
_FORM = """<p>A program asks to be let in. Type the code that it shows:</p><form method="post" action="/device">
<input name="code" value="{code}" autofocus aria-label="Code"> <button name="allow" value="yes">Allow</button>
<button name="allow" value="no">Refuse</button></form>"""


@dataclass
class _Asked:
    """A code that was given out: for what, when, when it was last asked for, and what the user said."""

    user_code: str
    scope: str
    at: float
    asked: float = 0.0
    said: str = ""


@dataclass
class SignIn:
    """Codes and tokens of one service. `lives` is how many seconds an access token is good, 0 for an hour; `interval` how far
    apart two questions must be.
    """

    name: str
    folder: Path
    lives: float = 0.0
    interval: float = 1.0
    codes: dict[str, _Asked] = field(default_factory=dict)
    lock: threading.RLock = field(default_factory=threading.RLock, repr=False)

    def __post_init__(self) -> None:
        path = self.folder / "signed-in.json"
        self.tokens: dict[str, dict[str, Any]] = json.loads(path.read_text()) if path.is_file() else {}

    def _save(self) -> None:
        fresh = self.folder / "signed-in.json.new"
        fresh.write_text(json.dumps(self.tokens))
        fresh.replace(self.folder / "signed-in.json")

    def routes(self) -> list[Route]:
        return [
            Route("/.well-known/oauth-authorization-server", self.metadata),
            Route("/device/code", self.give_code, methods=["POST"]),
            Route("/device", self.page, methods=["GET"]),
            Route("/device", self.take_code, methods=["POST"]),
            Route("/token", self.give_token, methods=["POST"]),
            Route("/revoke", self.revoke, methods=["POST"]),
        ]

    def scope_of(self, access: str) -> str | None:
        """What an access token is for; None for one that is none, or has lapsed."""
        with self.lock:
            known = self.tokens.get(access)
        return str(known["scope"]) if known and known["kind"] == "access" and known["until"] > time.time() else None

    async def metadata(self, request: Request) -> Response:
        base = str(request.base_url).rstrip("/")
        return JSONResponse({
            "issuer": base, "token_endpoint": f"{base}/token", "device_authorization_endpoint": f"{base}/device/code",
            "revocation_endpoint": f"{base}/revoke", "scopes_supported": ["read", "send"],
            "grant_types_supported": ["urn:ietf:params:oauth:grant-type:device_code", "refresh_token"],
        })  # fmt: skip

    async def give_code(self, request: Request) -> Response:
        asked = await _form(request)
        code = "".join(secrets.choice(_LETTERS) for _ in range(8))
        device = secrets.token_urlsafe(24)
        with self.lock:
            self.codes[device] = _Asked(f"{code[:4]}-{code[4:]}", asked.get("scope", "read"), time.time())
        return JSONResponse({
            "device_code": device, "user_code": self.codes[device].user_code, "verification_uri": f"{request.base_url}device",
            "expires_in": _LIVES, "interval": self.interval,
        })  # fmt: skip

    async def page(self, request: Request) -> Response:
        form = _FORM.format(code=html.escape(request.query_params.get("code", "")))
        return HTMLResponse(_PAGE.format(name=html.escape(self.name), body=form))

    async def take_code(self, request: Request) -> Response:
        asked = await _form(request)
        typed = asked.get("code", "").strip().upper()
        with self.lock:
            found = next((one for one in self.codes.values() if one.user_code == typed and not one.said), None)
            if found is not None:
                found.said = asked.get("allow", "no")
        said = "That code is not known, or was used." if found is None else (
            f"The program may now {_may(found.scope)}. You can close this page." if found.said == "yes" else "It was refused."
        )  # fmt: skip
        body = f'<p class="said">{html.escape(said)}</p>'
        return HTMLResponse(_PAGE.format(name=html.escape(self.name), body=body), 404 if found is None else 200)

    async def give_token(self, request: Request) -> Response:
        asked = await _form(request)
        with self.lock:
            if asked.get("grant_type") == "refresh_token":
                return self._renew(asked.get("refresh_token", ""))
            found = self.codes.get(asked.get("device_code", ""))
            if found is None or time.time() - found.at > _LIVES:
                return _error("expired_token")
            hurried = time.time() - found.asked < self.interval * 0.8
            found.asked = time.time()
            if found.said == "yes":
                del self.codes[asked["device_code"]]
                return self._given(found.scope)
            return _error("access_denied" if found.said else "slow_down" if hurried else "authorization_pending")

    def _renew(self, refresh: str) -> Response:
        known = self.tokens.get(refresh)
        if known is None or known["kind"] != "refresh":
            return _error("invalid_grant")
        del self.tokens[refresh]
        return self._given(str(known["scope"]))

    def _given(self, scope: str) -> Response:
        lives = self.lives or _HOUR
        access, refresh = secrets.token_urlsafe(24), secrets.token_urlsafe(24)
        self.tokens[access] = {"kind": "access", "scope": scope, "until": time.time() + lives}
        self.tokens[refresh] = {"kind": "refresh", "scope": scope, "until": 0.0}
        self._save()
        return JSONResponse(
            {
                "access_token": access,
                "token_type": "Bearer",
                "expires_in": lives,
                "refresh_token": refresh,
                "scope": scope,
            }
        )

    async def revoke(self, request: Request) -> Response:
        asked = await _form(request)
        with self.lock:
            self.tokens.pop(asked.get("token", ""), None)
            self._save()
        return Response(status_code=200)


def _may(scope: str) -> str:
    more = ", and send new ones" if "send" in scope.split() else ""
    return f"look at your pictures and export them{more}"


async def _form(request: Request) -> dict[str, str]:
    return {name: values[0] for name, values in parse_qs((await request.body()).decode()).items()}


def _error(what: str) -> Response:
    return JSONResponse({"error": what}, 400)
