"""The ways to identify that the gateway bench compares: policies, the headers of a call, and what a node must hold."""

import json
import time
from base64 import b64encode
from pathlib import Path
from typing import Any

from joserfc import jwt
from joserfc.jwk import RSAKey

from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import client_value, digest, outside_value
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.identity.signed_keys import make_signed_key, new_signing_key, public_part
from tamarack.core.sign_in.tokens import AccessToken, audience_of, claims_of, make_access_token, new_token_key

KEY = "tmk_bench-key-that-opens-nothing-at-all"
PEPPER = bytes(32)
ISSUER = "https://id.harbour-office.example"
KEY_SET = "http://127.0.0.1:1/jwks.json"
API_KEY = {"kind": "api-key", "header": "x-skerry-key"}
CLIENT = {"kind": "client-secret"}
JWT = {"kind": "jwt", "algorithms": ["RS256"], "key_set": KEY_SET, "issuer": ISSUER}
TOKEN = {"kind": "access-token", "directory": "passengers"}
DIRECTORY = "https://id.skerry.example/passengers"
OPAQUE_TOKEN = "at_bench-token-that-opens-nothing-at-all-but-this"
SIGNED = {"kind": "signed-key", "header": "x-signed-key"}
PERMIT = [
    {"kind": "groups", "allow": ["harbour"]},
    {"kind": "scopes", "scopes": ["berths:hold"]},
    {"kind": "claims", "require": ["groups contains harbour-staff"]},
    {"kind": "addresses", "allow": ["127.0.0.0/8"]},
]
BROWSER = {"kind": "browser-access", "origins": ["https://www.lantern-bay.example"], "headers": ["x-skerry-key"]}
POLICIES: dict[str, list[dict[str, Any]]] = {
    "key": [API_KEY],
    "client-secret": [CLIENT],
    "jwt": [JWT],
    "signed-key": [SIGNED],
    "access-token": [TOKEN],
    "opaque-token": [TOKEN],
    "any-of-four": [API_KEY, CLIENT, JWT, SIGNED],
    "jwt-permit": [JWT, *PERMIT],
    "key-browser": [BROWSER, API_KEY],
}
TITLES = {
    "key": "API key",
    "client-secret": "client id and secret, Basic",
    "jwt": "JWT, RS256, seen before",
    "signed-key": "signed key, seen before",
    "access-token": "access token, signed, seen before",
    "opaque-token": "access token, opaque, seen before",
    "any-of-four": "API key, any of four ways",
    "jwt-permit": "JWT and four permit rules",
    "key-browser": "API key, from a page (CORS)",
}


def write_keys(folder: Path) -> None:
    """Make the keys that both the load and the node use."""
    private = RSAKey.generate_key(2048, {"kid": "k1"}, private=True)  # type: ignore[arg-type]
    kept = {"rsa": private.as_dict(private=True), "signing": new_signing_key("s1"), "token": new_token_key("t1")}
    (folder / "keys.json").write_text(json.dumps(kept))


def headers(variant: str, folder: Path) -> list[str]:
    """The header lines that a caller of a variant sends."""
    kept = json.loads((folder / "keys.json").read_text())
    now = time.time()
    if variant.startswith("jwt"):
        claims = {"iss": ISSUER, "azp": "berth-board", "exp": now + 3600, "scope": "berths:hold",
                  "groups": ["harbour-staff"]}  # fmt: skip
        token = jwt.encode({"alg": "RS256", "kid": "k1"}, claims, RSAKey.import_key(kept["rsa"]))
        return [f"authorization: Bearer {token}"]
    if variant == "client-secret":
        return [f"authorization: Basic {b64encode(b'tmc_bench:tms_bench').decode()}"]
    if variant == "access-token":
        return [f"authorization: Bearer {make_access_token(_access_token(now), kept['token'])}"]
    if variant == "opaque-token":
        return [f"authorization: Bearer {OPAQUE_TOKEN}"]
    if variant == "signed-key":
        return [f"x-signed-key: {make_signed_key(kept['signing'], 'sk', 'a', 'production', now, now + 3600)}"]
    origin = ["origin: https://www.lantern-bay.example"] if variant == "key-browser" else []
    return [f"x-skerry-key: {KEY}", *origin]


def _access_token(now: float) -> AccessToken:
    audience = [audience_of(DIRECTORY, "production")]
    return AccessToken(DIRECTORY, "u1", "c1", "a", "production", "g1", ["openid"], audience,
                       int(now) - 1, int(now) + 3600, "t1", True, int(now) - 1)  # fmt: skip


def fill(directory: CallerDirectory, folder: Path) -> Material:
    """Give a node one application with a credential of every kind; returns what else it must hold."""
    body = {"name": "berth-board", "organization": "harbour-control", "paused": False, "groups": ["harbour"]}
    directory.apply("application", "a", body)
    directory.apply("subscription", "s", {"application": "a", "product": "passage", "plan": "a", "state": "active"})
    values: dict[str, tuple[Any, bytes]] = {
        "key": ("api-key", KEY.encode()),
        "cs": ("client-secret", client_value(b"tmc_bench", b"tms_bench")),
        "out": ("outside-identity", outside_value(ISSUER, "berth-board", "production")),
        "sk": ("signed-key", b"sk"),
    }
    for id, (kind, value) in values.items():
        directory.apply("credential", id, {"application": "a", "digest": digest(value, PEPPER, kind)})
    material = Material("production", nothing_sealed)
    if (folder / "keys.json").exists():
        kept = json.loads((folder / "keys.json").read_text())
        public = RSAKey.import_key(kept["rsa"]).as_dict(private=False)
        material.apply("key-set", KEY_SET, {"jwks": {"keys": [public]}, "fetched_at": time.time()})
        material.apply("token-key", "t1", {"jwk": public_part(kept["token"])})
        material.opaque.put(OPAQUE_TOKEN.encode(), claims_of(_access_token(time.time())), time.time())
        material.apply("signing-key", "s1", {"jwk": public_part(kept["signing"])})
    return material
