"""Access tokens of the sign-in service at the gateway: who calls, for whom, and everything that is refused."""

import json
from typing import Any

import pytest
from joserfc import jwt
from joserfc.jwk import ECKey

from core.carried import Bed, carry
from helpers import configuration, material
from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Reply
from tamarack.core.carrying.receiving import receive
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.jose import BadToken
from tamarack.core.identity.material import Material
from tamarack.core.identity.signed_keys import check_signed_key, new_signing_key, public_part
from tamarack.core.sign_in.tokens import (
    ALGORITHMS,
    AccessToken,
    audience_of,
    claims_of,
    make_access_token,
    new_token_key,
)
from tamarack.core.told.addresses import Addresses

NOW = 1_700_000_000.0
ISSUER = "https://id.skerry.example/passengers"
KEY = new_token_key("k1")
ADDRESSES = Addresses("https://portal.skerry.example", "https://api.skerry.example", "https://id.skerry.example")
RESOURCE = "https://api.skerry.example/sailings/v2"
APPLICATION = {"name": "tern-web", "organization": "tern-trips", "paused": False, "groups": []}
SUBSCRIPTION = {"application": "a1", "environment": "production", "product": "passage", "plan": "skiff", "state": "active",
                "since": 0.0, "quota_round": 0, "extra_start": 0, "extra_calls": 0}  # fmt: skip


def token(**changes: Any) -> str:
    said: dict[str, Any] = {
        "issuer": ISSUER, "subject": "u1", "client": "c1", "application": "a1", "environment": "production", "grant": "g1",
        "scopes": ["openid", "berths:hold"], "issued_at": int(NOW) - 10, "expires_at": int(NOW) + 600, "id": "t1",
        "audience": [audience_of(ISSUER, "production")], "user": True, "auth_time": int(NOW) - 20, "groups": ["crew"], "claims": (("loyalty", "gold"),),
    }  # fmt: skip
    return make_access_token(AccessToken(**said | changes), KEY)


def known() -> Material:
    held = material()
    held.apply("token-key", "k1", {"jwk": public_part(KEY)})
    return held


def called(
    shown: str, held: Material | None = None, now: float = NOW, find: Any = lambda token: False, **policy: Any
) -> tuple[Call, Refusal | None]:
    directory = CallerDirectory(bytes(32), "production")
    directory.apply("application", "a1", APPLICATION)
    directory.apply("subscription", "s1", SUBSCRIPTION)
    made = configuration(version={"policies": [{"kind": "access-token", "directory": "passengers"} | policy],
                                  "operations": [{"call": "get /a"}]})  # fmt: skip
    bed = Bed(made, directory, held or known(), addresses=ADDRESSES)
    directory.set_products({"passage": ("sailings",)})
    call = bed.call("GET", b"/sailings/v2/a", headers=[(b"authorization", f"Bearer {shown}".encode())], now=now)
    outcome = carry(call, find=find)
    return call, outcome if isinstance(outcome, Refusal) else None


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
        ({"audience": [audience_of(ISSUER, "test")]}, "wrong-audience"),
        ({"audience": ["https://api.skerry.example/fares/v1"]}, "wrong-audience"),
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


@pytest.mark.parametrize("algorithm", ALGORITHMS)
def test_tokens_of_every_algorithm_are_taken_and_no_private_part_is_published(algorithm: str) -> None:
    key = new_token_key("k3", algorithm)
    assert not {"d", "p", "q", "dp", "dq", "qi"} & set(public_part(key))
    held = known()
    held.apply("token-key", "k3", {"jwk": public_part(key)})
    made = AccessToken(ISSUER, "u1", "c1", "a1", "production", "g1", [], [RESOURCE], int(NOW), int(NOW) + 60, "t1")
    assert called(make_access_token(made, key), held)[1] is None


def test_a_token_for_one_resource_is_good_there_and_nowhere_else() -> None:
    assert called(token(audience=[RESOURCE]))[1] is None
    assert called(token(audience=["https://api.skerry.example/fares/v1", RESOURCE]))[1] is None
    for other in (RESOURCE + "/", RESOURCE + "0", "https://other.example/sailings/v2"):
        _, refusal = called(token(audience=[other]))
        assert refusal is not None and refusal.reason.code == "wrong-audience", other


def test_a_challenge_leads_to_where_the_api_says_who_makes_its_tokens() -> None:
    _, refusal = called("x.y.z", scopes=["berths:hold"])
    assert refusal is not None
    challenge = dict(refusal.headers)[b"www-authenticate"].decode()
    address = "https://api.skerry.example/.well-known/oauth-protected-resource/sailings/v2"
    assert f'resource_metadata="{address}"' in challenge and 'error="invalid_token"' in challenge
    said = json.loads(described().body)
    assert said["resource"] == RESOURCE and said["authorization_servers"] == [ISSUER]
    assert said["scopes_supported"] == ["berths:hold"] and said["bearer_methods_supported"] == ["header"]


def described() -> Reply:
    """What the API says of itself at its well-known address."""
    made = configuration(version={"policies": [{"kind": "access-token", "directory": "passengers",
                                                "scopes": ["berths:hold"]}], "operations": [{"call": "get /a"}]})  # fmt: skip
    bed = Bed(made, CallerDirectory(bytes(32), "production"), known(), addresses=ADDRESSES)
    call = Call(b"c1", NOW, 0, "192.0.2.1")
    call.method, call.path = "GET", b"/.well-known/oauth-protected-resource/sailings/v2"
    found = receive(bed.router, call)
    assert isinstance(found, Reply)
    return found


def test_an_id_token_stands_for_its_user_where_the_api_says_so() -> None:
    claims = {"iss": ISSUER, "sub": "u1", "aud": ["c1"], "exp": int(NOW) + 60, "iat": int(NOW), "auth_time": int(NOW),
              "application": "a1", "grant": "g1", "environment": "production"}  # fmt: skip

    def shown(**changes: Any) -> str:
        header = {"alg": "ES256", "typ": "JWT", "kid": "k1"}
        return jwt.encode(header, claims | changes, ECKey.import_key(KEY), algorithms=["ES256"])

    call, refusal = called(shown(), id_tokens=True)
    assert refusal is None and call.user == "u1"
    for changes, policy, reason in (
        ({}, {"id_tokens": False}, "bad-token"),
        ({"environment": "test"}, {"id_tokens": True}, "wrong-audience"),
        ({"exp": int(NOW) - 60}, {"id_tokens": True}, "expired-credential"),
        ({}, {"id_tokens": True, "scopes": ["berths:hold"]}, "scope-missing"),
    ):
        _, refusal = called(shown(**changes), **policy)
        assert refusal is not None and refusal.reason.code == reason, (changes, policy)


class Kept:
    """What the sign-in service keeps of opaque tokens, and how often it was asked."""

    def __init__(self, held: Material, **tokens: Any) -> None:
        self.held = held
        self.tokens = tokens
        self.asked: list[bytes] = []

    def find(self, shown: bytes) -> bool:
        self.asked.append(shown)
        self.held.opaque.put(shown, self.tokens.get(shown.decode()), NOW)
        return True


def said(**changes: Any) -> dict[str, Any]:
    made: dict[str, Any] = {
        "issuer": ISSUER, "subject": "u1", "client": "c1", "application": "a1", "environment": "production", "grant": "g1",
        "scopes": [], "audience": [RESOURCE], "issued_at": int(NOW), "expires_at": int(NOW) + 600, "id": "t1", "user": True,
    }  # fmt: skip
    return claims_of(AccessToken(**made | changes))


def test_an_opaque_token_is_looked_up_once_and_ends_with_its_grant() -> None:
    held = known()
    kept = Kept(held, at_good=said())
    for _ in range(3):
        call, refusal = called("at_good", held, find=kept.find, tokens="opaque")
        assert refusal is None and call.user == "u1"
    assert kept.asked == [b"at_good"]
    held.apply("ended-grant", "g1", {"until": NOW + 600})
    _, refusal = called("at_good", held, find=kept.find)
    assert refusal is not None and refusal.reason.code == "revoked-credential"
    assert called("at_good", held, now=NOW + 700, find=kept.find)[1] is not None, "it is over by itself"


def test_an_opaque_token_is_held_to_the_same_rules_and_one_that_nobody_made_is_not_asked_for_again() -> None:
    held = known()
    kept = Kept(held, at_other=said(audience=["https://api.skerry.example/fares/v1"]),
                at_staff=said(issuer="https://id.skerry.example/staff"))  # fmt: skip
    for shown, reason in (("at_other", "wrong-audience"), ("at_staff", "wrong-issuer"), ("at_none", "bad-token")):
        for _ in range(2):
            _, refusal = called(shown, held, find=kept.find)
            assert refusal is not None and refusal.reason.code == reason
    assert kept.asked == [b"at_other", b"at_staff", b"at_none"]


def test_where_nobody_can_be_asked_the_call_may_come_again_and_known_tokens_go_on() -> None:
    held = known()
    held.opaque.put(b"at_seen", said(), NOW)
    assert called("at_seen", held)[1] is None
    _, refusal = called("at_new", held)
    assert refusal is not None and (refusal.reason.code, refusal.reason.status) == ("token-unseen", 503)


def test_an_api_that_takes_opaque_tokens_alone_says_how_to_get_one() -> None:
    _, refusal = called(token(), tokens="opaque")
    assert refusal is not None and refusal.reason.code == "wrong-audience" and f"resource={RESOURCE}" in refusal.note
