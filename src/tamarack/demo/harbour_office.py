"""The harbour office's identity provider: a stand-in that signs tokens and publishes its keys (RFC 7517, 6749 4.4).

Its page hands out tokens for people to try; it can make a new key, as issuers do, to see the gateway follow.
"""

import hmac
import html
import time
from base64 import b64decode
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import orjson
from joserfc import jwt
from joserfc.jwk import RSAKey

ISSUER = "https://id.harbour-office.example"
AUDIENCE = "https://berths.skerry.example"
LIVES_S = 600
PAGE = (Path(__file__).parent / "pages" / "harbour_office.html").read_text()
CLIENTS: dict[str, dict[str, Any]] = {
    "berth-board": {"groups": ["harbour-staff"], "scope": "berths:read berths:hold", "sub": "duty.master"},
    "quay-display": {"groups": ["harbour-display"], "scope": "berths:read", "sub": "display-2"},
}
"""What the tokens of each client say."""


class HarbourOffice:
    """An ASGI application. `secret` is what its clients sign in with."""

    def __init__(self, secret: str, gateway: str) -> None:
        self._secret = secret
        self._gateway = gateway
        self._number = 0
        self._keys: list[RSAKey] = []
        self.new_key()

    def new_key(self) -> None:
        """Sign with a new key from now on; the one before stays in the set."""
        self._number += 1
        parameters: Any = {"kid": f"harbour-{int(time.time())}-{self._number}", "use": "sig", "alg": "RS256"}
        self._keys = [RSAKey.generate_key(2048, parameters, private=True), *self._keys[:1]]

    def token(self, client: str, lives_s: float = LIVES_S) -> str:
        """A token for one of the clients."""
        now = int(time.time())
        said = CLIENTS[client]
        claims = {"iss": ISSUER, "aud": AUDIENCE, "azp": client, "iat": now, "exp": now + int(lives_s), **said}
        key = self._keys[0]
        return jwt.encode({"alg": "RS256", "kid": key.kid or ""}, claims, key)

    def key_set(self) -> dict[str, Any]:
        """The public keys as a JWK Set."""
        return {"keys": [key.as_dict(private=False) for key in self._keys]}

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        body = b""
        while True:
            message = await receive()
            body += message.get("body", b"")[:10_000]
            if not message.get("more_body"):
                break
        status, media, content = self._answer(scope, {name: values[-1] for name, values in
                                              parse_qs(body.decode("latin-1")).items()})  # fmt: skip
        fields = [(b"content-type", media), (b"content-length", b"%d" % len(content)), (b"cache-control", b"no-store")]
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": content})

    def _answer(self, scope: Any, form: dict[str, str]) -> tuple[int, bytes, bytes]:
        match scope["method"], scope["path"]:
            case "GET", "/jwks.json":
                return 200, b"application/jwk-set+json", orjson.dumps(self.key_set())
            case "GET", "/":
                return 200, b"text/html; charset=utf-8", self._page("")
            case "POST", "/":
                client = form.get("client", "")
                if form.get("act") == "new key":
                    self.new_key()
                    return 200, b"text/html; charset=utf-8", self._page("")
                if client not in CLIENTS:
                    return 400, b"text/plain", b"there is no such client"
                lives_s = -120 if form.get("lives") == "expired" else LIVES_S
                return 200, b"text/html; charset=utf-8", self._page(self.token(client, lives_s))
            case "POST", "/token":
                found = self._client(dict(scope["headers"]).get(b"authorization", b""))
                if not found or form.get("grant_type") != "client_credentials":
                    return 401, b"application/json", b'{"error": "invalid_client"}'
                answer = {"access_token": self.token(found), "token_type": "Bearer", "expires_in": LIVES_S}
                return 200, b"application/json", orjson.dumps(answer)
        return 404, b"text/plain", b"there is no such page"

    def _client(self, authorization: bytes) -> str:
        scheme, _, value = authorization.partition(b" ")
        try:
            name, _, secret = b64decode(value, validate=True).decode().partition(":")
        except ValueError:
            return ""
        known = scheme.lower() == b"basic" and name in CLIENTS
        return name if known and hmac.compare_digest(secret, self._secret) else ""

    def _page(self, token: str) -> bytes:
        made = ""
        if token:
            line = f"curl -i -H 'Authorization: Bearer {token}' {self._gateway}/berths/v1/berths"
            made = f"<h2>Token</h2><textarea rows=9 id=token>{token}</textarea>"
            made += f"<h2>Try it</h2><pre>{html.escape(line)}</pre>"
        parts = {
            "OPTIONS": "".join(f"<option>{name}</option>" for name in CLIENTS),
            "MADE": made,
            "KEYS": "".join(f"<li><code>{key.kid}</code></li>" for key in self._keys),
        }
        page = PAGE
        for place, text in parts.items():
            page = page.replace(place, text)
        return page.encode()
