"""What the tests of protection share: an issuer with keys, callers of every kind, and a call run through policies."""

import json
from typing import Any

from joserfc import jwt
from joserfc.jwk import OctKey, RSAKey

from core.carried import NOW, Bed, run
from helpers import configuration
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.configuration.model import Configuration
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import client_value, digest, outside_value
from tamarack.core.identity.material import Material
from tamarack.core.identity.signed_keys import make_signed_key, new_signing_key, public_part

PEPPER = bytes(range(32))
ISSUER = "https://id.harbour-office.example"
AUDIENCE = "https://berths.skerry.example"
KEY_SET = "http://127.0.0.1:7424/jwks.json"
SHARED = "the-shared-secret-of-the-tests-is-long-enough"
KEY = RSAKey.generate_key(2048, {"kid": "k1"}, private=True)  # type: ignore[arg-type]
SIGNING = new_signing_key("s1")
PATH = b"/sailings/v2/sailings"

API_KEY = {"kind": "api-key", "header": "x-skerry-key", "query": "key"}
BEARER_KEY = API_KEY | {"bearer": True}
CLIENT = {"kind": "client-secret", "id_header": "x-id", "secret_header": "x-secret", "id_query": "id",
          "secret_query": "secret", "id_form": "client_id", "secret_form": "client_secret"}  # fmt: skip
JWT = {"kind": "jwt", "name": "harbour-office", "algorithms": ["RS256"], "key_set": KEY_SET, "issuer": ISSUER,
       "audience": [AUDIENCE], "cookie": "session"}  # fmt: skip
SHARED_JWT = {"kind": "jwt", "name": "shared", "algorithms": ["HS256"], "secret": "shared",
              "issuer": "https://shared.example"}  # fmt: skip
SIGNED = {"kind": "signed-key"}
BASIC = b"Basic dG1jX2dvb2Q6dG1zX2dvb2Q="
"""`tmc_good:tms_good`, encoded."""


def token(claims: dict[str, Any] | None = None, key: RSAKey = KEY, **changes: Any) -> bytes:
    said = {"iss": ISSUER, "aud": AUDIENCE, "azp": "berth-board", "sub": "duty.master", "iat": NOW, "exp": NOW + 600,
            "groups": ["harbour-staff"], "scope": "berths:read berths:hold"}  # fmt: skip
    return jwt.encode({"alg": "RS256", "kid": key.kid or ""}, said | (claims or {}) | changes, key).encode()


def shared_token(**changes: Any) -> bytes:
    said = {"iss": "https://shared.example", "azp": "berth-board", "exp": NOW + 600} | changes
    return jwt.encode({"alg": "HS256"}, said, OctKey.import_key(SHARED)).encode()


def signed_key(id: str = "signed", environment: str = "production", ends: float = NOW + 600) -> bytes:
    return make_signed_key(SIGNING, id, "a", environment, NOW - 60, ends).encode()


def material() -> Material:
    made = Material("production", lambda sealed, about: sealed.encode())
    made.apply("key-set", KEY_SET, {"jwks": {"keys": [KEY.as_dict(private=False)]}, "fetched_at": NOW - 100})
    made.apply("secret", "shared", {"values": {"": [{"sealed": SHARED}]}})
    made.apply("signing-key", "s1", {"jwk": public_part(SIGNING)})
    return made


def directory(groups: tuple[str, ...] = ("harbour",), **restrictions: Any) -> CallerDirectory:
    """One application with a credential of every kind, subscribed to Sailings."""
    made = CallerDirectory(PEPPER, "production")
    made.set_products({"passage": ("sailings",)})
    body = {"name": "berth-board", "organization": "harbour-control", "paused": False, "groups": list(groups)}
    made.apply("application", "a", body)
    made.apply("subscription", "s", {"application": "a", "product": "passage", "plan": "skiff", "state": "active"})
    values: dict[str, tuple[str, bytes]] = {
        "key": ("api-key", b"tmk_good"),
        "client": ("client-secret", client_value(b"tmc_good", b"tms_good")),
        "outside": ("outside-identity", outside_value(ISSUER, "berth-board", "production")),
        "shared": ("outside-identity", outside_value("https://shared.example", "berth-board", "production")),
        "signed": ("signed-key", b"signed"),
    }
    for id, (kind, value) in values.items():
        hashed = digest(value, PEPPER, kind)  # type: ignore[arg-type]
        made.apply("credential", id, {"application": "a", "digest": hashed} | restrictions)
    return made


def protected(*policies: dict[str, Any], operation: tuple[dict[str, Any], ...] = ()) -> Configuration:
    """Sailings with these policies on the API, and some on the operation that is called."""
    calls: list[dict[str, Any]] = [{"call": f"{method} /sailings", "policies": list(operation)}
                                   for method in ("get", "post")]  # fmt: skip
    return configuration(version={"policies": list(policies), "operations": calls})


def call_on(
    made: Configuration,
    *headers: tuple[str, str | bytes],
    query: bytes = b"",
    method: str = "GET",
    address: str = "192.0.2.1",
    form: bytes | None = None,
    now: float = NOW,
    held: Material | None = None,
    known: CallerDirectory | None = None,
) -> Call:
    """A call on the first operation, ready to run."""
    fields = [(name.encode(), value if isinstance(value, bytes) else value.encode()) for name, value in headers]
    bed = Bed(made, known or directory(), held or material(), clock=lambda: 0)
    return bed.call(method, PATH, query, fields, address, now, form)


def decided(call: Call) -> str:
    """The reason that a call is refused for; empty where it passes."""
    refusal = run(call)
    return refusal.reason.code if isinstance(refusal, Refusal) else ""


def bearer(value: bytes) -> tuple[str, bytes]:
    return "authorization", b"Bearer " + value


def as_json(value: Any) -> str:
    return json.dumps(value)
