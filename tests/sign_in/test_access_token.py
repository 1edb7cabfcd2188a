"""Access tokens of the sign-in service at the gateway: who calls, for whom, and everything that is refused."""

import json
from typing import Any

import pytest
from joserfc import jwt
from joserfc.jwk import ECKey

from core.carried import Bed, CallOnBed, run
from helpers import configuration, material
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.jose import BadToken
from tamarack.core.identity.material import Material
from tamarack.core.identity.signed_keys import check_signed_key, new_signing_key, public_part
from tamarack.core.sign_in.tokens import AccessToken, audience_of, make_access_token, new_token_key

NOW = 1_700_000_000.0
ISSUER = "https://id.skerry.example/passengers"
KEY = new_token_key("k1")
APPLICATION = {"name": "tern-web", "organization": "tern-trips", "paused": False, "groups": []}
SUBSCRIPTION = {"application": "a1", "environment": "production", "product": "passage", "plan": "skiff", "state": "active",
                "since": 0.0, "quota_round": 0, "extra_start": 0, "extra_calls": 0}  # fmt: skip


def token(**changes: Any) -> str:
    said: dict[str, Any] = {
        "issuer": ISSUER, "subject": "u1", "client": "c1", "application": "a1", "environment": "production", "grant": "g1",
        "scopes": ["openid", "berths:hold"], "issued_at": int(NOW) - 10, "expires_at": int(NOW) + 600, "id": "t1",
        "user": True, "auth_time": int(NOW) - 20, "groups": ["crew"], "claims": (("loyalty", "gold"),),
    }  # fmt: skip
    return make_access_token(AccessToken(**said | changes), KEY)


def known() -> Material:
    held = material()
    held.apply("token-key", "k1", {"jwk": public_part(KEY)})
    return held


def called(
    shown: str, held: Material | None = None, now: float = NOW, **policy: Any
) -> tuple[CallOnBed, Refusal | None]:
    directory = CallerDirectory(bytes(32), "production")
    directory.apply("application", "a1", APPLICATION)
    directory.apply("subscription", "s1", SUBSCRIPTION)
    made = configuration(version={"policies": [{"kind": "access-token", "directory": "passengers"} | policy],
                                  "operations": [{"call": "get /a"}]})  # fmt: skip
    bed = Bed(made, directory, held or known())
    directory.set_products({"passage": ("sailings",)})
    call = bed.call("GET", b"/sailings/v2/a", headers=[(b"authorization", f"Bearer {shown}".encode())], now=now)
    return call, run(call)


def test_the_application_is_the_caller_and_its_user_the_end_user() -> None:
    call, refusal = called(token())
    assert refusal is None and call.caller is not None and call.caller.application == "tern-web"
    assert call.user == "u1" and call.claims is not None
    assert (call.claims["groups"], call.claims["loyalty"], call.claims["scope"]) == (
        ["crew"],
        "gold",
        "openid berths:hold",
    )
    assert all(name != b"authorization" for name, _ in call.headers), "it is not passed on"


def test_a_client_that_calls_for_itself_has_no_end_user() -> None:
    call, refusal = called(token(subject="c1", user=False))
    assert refusal is None and call.user == ""


@pytest.mark.parametrize(
    ("changes", "reason"),
    [
        ({"issuer": "https://id.skerry.example/staff"}, "wrong-issuer"),
        ({"environment": "test"}, "wrong-audience"),
        ({"expires_at": int(NOW) - 60}, "expired-credential"),
        ({"issued_at": int(NOW) + 600, "expires_at": int(NOW) + 900}, "early-token"),
        ({"application": "gone"}, "unknown-caller"),
    ],
)
def test_a_token_for_something_else_is_refused(changes: dict[str, Any], reason: str) -> None:
    _, refusal = called(token(**changes))
    assert refusal is not None and refusal.reason.code == reason


def test_a_token_that_another_key_signed_or_of_another_type_is_refused() -> None:
    for made in (forged({"kid": "k1"}, new_token_key("k1")), forged({"kid": "k2"}, KEY), forged({"typ": "JWT"}, KEY),
                 token()[:-8] + "AAAAAAAA", "x.y.z", "none"):  # fmt: skip
        _, refusal = called(made)
        assert refusal is not None and refusal.reason.code == "bad-token", made


def forged(header: dict[str, str], key: dict[str, Any]) -> str:
    claims = {"iss": ISSUER, "sub": "u1", "aud": audience_of(ISSUER, "production"), "exp": int(NOW) + 60, "application": "a1",
              "grant": "g1", "scope": ""}  # fmt: skip
    whole = {"alg": "ES256", "typ": "at+jwt", "kid": "k1"} | header
    return jwt.encode(whole, claims, ECKey.import_key(key), algorithms=["ES256"])


def test_a_grant_that_has_ended_is_refused_at_once_and_a_retired_key_too() -> None:
    held = known()
    assert called(token(), held)[1] is None
    held.apply("ended-grant", "g1", {"until": NOW + 600})
    _, refusal = called(token(), held)
    assert refusal is not None and refusal.reason.code == "revoked-credential"
    held.apply("ended-grant", "g2", {"until": NOW + 9_000, "at": NOW + 700})
    assert set(held.ended_grants) == {"g2"}, "what is over by itself is forgotten"
    held.apply("token-key", "k1", None)
    assert called(token(), held)[1] is not None


def test_scopes_that_were_not_granted_are_named_to_the_caller() -> None:
    assert called(token(), scopes=["berths:hold"])[1] is None
    _, refusal = called(token(), scopes=["berths:hold", "berths:sell"])
    assert refusal is not None and refusal.reason.code == "scope-missing"
    challenge = dict(refusal.headers)[b"www-authenticate"].decode()
    assert 'error="insufficient_scope"' in challenge and 'scope="berths:hold berths:sell"' in challenge


def test_no_kind_of_token_passes_for_another() -> None:
    signing = new_signing_key("s1")
    held = known()
    held.apply("signing-key", "s1", {"jwk": public_part(signing)})
    keys = held.signing.keys
    with pytest.raises(BadToken):
        check_signed_key(token().encode(), (*keys, *held.token_keys.keys), "production", NOW)
    assert json.dumps(public_part(KEY)).find('"d"') == -1
