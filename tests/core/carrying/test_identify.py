"""Identify: every way to know a caller, several at once, and what each does with what is wrong."""

from typing import Any

import pytest
from joserfc.jwk import RSAKey

from core.carried import run
from core.protected import (
    API_KEY,
    BASIC,
    BEARER_KEY,
    CLIENT,
    ISSUER,
    JWT,
    KEY,
    KEY_SET,
    NOW,
    SHARED_JWT,
    SIGNED,
    bearer,
    call_on,
    decided,
    directory,
    material,
    protected,
    shared_token,
    signed_key,
    token,
)
from tamarack.core.identity.lookups import FetchKeys
from tamarack.core.identity.signed_keys import public_part
from tamarack.core.policies.identify.token import JwtPolicy

EVERY = (BEARER_KEY, CLIENT, JWT, SHARED_JWT, SIGNED)
Shown = tuple[tuple[tuple[str, str | bytes], ...], bytes, bytes | None]


def headers(*pairs: tuple[str, str | bytes]) -> Shown:
    return pairs, b"", None


GOOD: dict[str, tuple[dict[str, Any], Shown]] = {
    "a key in the header": (API_KEY, headers(("x-skerry-key", "tmk_good"))),
    "a key in the query": (API_KEY, ((), b"day=1&key=tmk_good", None)),
    "a key as Bearer": (BEARER_KEY, headers(bearer(b"tmk_good"))),
    "a key as a bearer, alone": (
        BEARER_KEY | {"header": "", "query": ""},
        headers(("authorization", "bearer tmk_good")),
    ),
    "id and secret by Basic": (CLIENT, headers(("authorization", BASIC))),
    "id and secret by basic, in lower case": (CLIENT, headers(("authorization", b"basic" + BASIC[5:]))),
    "id and secret in headers": (CLIENT, headers(("x-id", "tmc_good"), ("x-secret", "tms_good"))),
    "id and secret in the query": (CLIENT, ((), b"id=tmc_good&secret=tms%5Fgood", None)),
    "id and secret in a form": (CLIENT, ((), b"", b"client_id=tmc_good&client_secret=tms_good&a=1")),
    "a token as Bearer": (JWT, headers(bearer(token()))),
    "a token in a cookie": (JWT, headers(("cookie", b"theme=dark; session=" + token()))),
    "a token signed with a shared secret": (SHARED_JWT, headers(bearer(shared_token()))),
    "a signed key": (SIGNED, headers(bearer(signed_key()))),
}


@pytest.mark.parametrize("name", GOOD)
@pytest.mark.parametrize("ways", ["alone", "among all"])
def test_a_caller_is_known_and_what_it_showed_is_taken_off(name: str, ways: str) -> None:
    policy, (shown, query, form) = GOOD[name]
    made = protected(policy) if ways == "alone" else protected(*EVERY)
    call = call_on(made, *shown, ("accept", "text/plain"), query=query, form=form)
    assert decided(call) == ""
    assert call.caller is not None
    assert (call.caller.organization, call.caller.application) == ("harbour-control", "berth-board")
    assert call.way == policy.get("name", policy["kind"])
    left = b"\n".join(value for _, value in call.headers) + call.query + (call.body or b"")
    assert b"tm" not in left.replace(b"text", b"")
    assert b"eyJ" not in left
    assert (b"accept", b"text/plain") in call.headers
    assert call.body in (None, b"a=1")


@pytest.mark.parametrize("name", GOOD)
def test_an_outside_token_stays_where_that_is_asked_for_and_a_credential_of_our_own_never(name: str) -> None:
    policy, (shown, query, form) = GOOD[name]
    call = call_on(protected(policy | {"pass_on": True}), *shown, query=query, form=form)
    before = (list(call.headers), call.query, form)
    assert decided(call) == ""
    assert ((call.headers, call.query, call.body) == before) is (policy["kind"] == "jwt")


@pytest.mark.parametrize(
    ("policy", "shown", "reason"),
    [
        (API_KEY, headers(("x-skerry-key", "")), "no-credential"),
        (API_KEY, headers(("x-skerry-key", "tmk_good"), ("x-skerry-key", "tmk_good")), "doubled-credential"),
        (API_KEY, ((("x-skerry-key", "tmk_good"),), b"key=tmk_good", None), "doubled-credential"),
        (API_KEY, headers(("x-skerry-key", "tmk_gööd")), "unknown-credential"),
        (API_KEY, headers(("x-skerry-key", "tmc_good\0tms_good")), "unknown-credential"),
        (BEARER_KEY, headers(bearer(b"tmk_bad")), "unknown-credential"),
        (BEARER_KEY, headers(bearer(b"")), "unknown-credential"),
        (BEARER_KEY, headers(bearer(b"tmk_good"), bearer(b"tmk_good")), "doubled-credential"),
        (BEARER_KEY, headers(bearer(b"tmk_good"), ("x-skerry-key", "tmk_good")), "doubled-credential"),
        (BEARER_KEY, headers(("authorization", "tmk_good")), "no-credential"),
        (API_KEY, headers(bearer(b"tmk_good")), "no-credential"),
        (CLIENT, headers(("authorization", "Basic !!!")), "unknown-credential"),
        (CLIENT, headers(("authorization", "Basic dG1jX2dvb2Q=")), "unknown-credential"),
        (CLIENT, headers(("authorization", "Basic dG1jX2dvb2Q6")), "unknown-credential"),
        (CLIENT, headers(("authorization", "Bearer x")), "no-credential"),
        (CLIENT, headers(("x-id", "tmc_good")), "unknown-credential"),
        (CLIENT, headers(("x-id", "tmc_good"), ("x-secret", "tms_bad")), "unknown-credential"),
        (CLIENT, headers(("x-id", "tmc_bad"), ("x-secret", "tms_good")), "unknown-credential"),
        (CLIENT, headers(("x-id", "tmc_good"), ("x-secret", "")), "unknown-credential"),
        (CLIENT, headers(("x-id", "tmc_good"), ("x-secret", "tms_good"), ("authorization", BASIC)),
         "doubled-credential"),
        (CLIENT, headers(("authorization", BASIC), ("authorization", BASIC)), "doubled-credential"),
        (CLIENT, ((), b"id=tmc_good&secret=tms_good&id=tmc_good", None), "doubled-credential"),
        (CLIENT, headers(("x-id", "x" * 600), ("x-secret", "y" * 600)), "unknown-credential"),
        (JWT, headers(("authorization", "")), "no-credential"),
        (JWT, headers(bearer(b"")), "bad-token"),
        (JWT, headers(bearer(b"rubbish")), "bad-token"),
        (JWT, headers(bearer("tökén".encode())), "bad-token"),
        (JWT, headers(bearer(token(iss="https://evil.example"))), "wrong-issuer"),
        (JWT, headers(bearer(token(aud="https://else.example"))), "wrong-audience"),
        (JWT, headers(bearer(token(exp=NOW - 60))), "expired-credential"),
        (JWT, headers(bearer(token(nbf=NOW + 60))), "early-token"),
        (JWT, headers(bearer(token(azp="someone-else"))), "unknown-caller"),
        (JWT, headers(bearer(token(azp=7))), "unknown-caller"),
        (JWT, headers(bearer(token(azp=None))), "unknown-caller"),
        (JWT, headers(bearer(token()), bearer(token())), "doubled-credential"),
        (JWT, headers(bearer(token()), ("cookie", b"session=" + token())), "doubled-credential"),
        (JWT, headers(bearer(shared_token())), "wrong-issuer"),
        (JWT, headers(bearer(shared_token(iss=ISSUER))), "bad-token"),
        (SHARED_JWT, headers(bearer(token(iss="https://shared.example"))), "bad-token"),
        (SIGNED, headers(bearer(signed_key("never-made"))), "unknown-credential"),
        (SIGNED, headers(bearer(signed_key(environment="test"))), "wrong-audience"),
        (SIGNED, headers(bearer(signed_key(ends=NOW - 1))), "expired-credential"),
        (SIGNED, headers(bearer(token(iss="tamarack"))), "bad-token"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_refused_with_its_reason(policy: dict[str, Any], shown: Shown, reason: str) -> None:
    fields, query, form = shown
    assert decided(call_on(protected(policy), *fields, query=query, form=form)) == reason


@pytest.mark.parametrize(
    ("shown", "reason"),
    [
        (headers(), "no-credential"),
        (headers(bearer(token()), ("x-skerry-key", "tmk_good")), "doubled-credential"),
        (headers(bearer(b"rubbish"), ("x-skerry-key", "tmk_good")), "doubled-credential"),
        (headers(bearer(token()), ("authorization", BASIC)), "doubled-credential"),
        (headers(bearer(token(exp=NOW - 60))), "expired-credential"),
        (headers(bearer(b"rubbish")), "bad-token"),
        (headers(bearer(token(iss="https://evil.example"))), "wrong-issuer"),
        (headers(("x-skerry-key", "tmk_bad")), "unknown-credential"),
    ],
)  # fmt: skip
def test_of_several_ways_one_credential_is_shown(shown: Shown, reason: str) -> None:
    call = call_on(protected(*EVERY), *shown[0])
    assert decided(call) == reason


def test_a_refusal_says_every_way_that_is_open() -> None:
    refusal = run(call_on(protected(*EVERY)))
    assert refusal is not None
    challenges = [value.partition(b" ")[0] for name, value in refusal.headers if name == b"www-authenticate"]
    assert challenges == [b"ApiKey", b"Bearer", b"Basic"]
    wrong = run(call_on(protected(JWT), bearer(b"rubbish")))
    assert wrong is not None
    assert b'error="invalid_token"' in wrong.headers[0][1]


def test_a_token_seen_again_is_not_verified_again_until_it_ends_or_the_keys_change(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    from tamarack.core.policies.identify import token as module

    verified: list[bytes] = []
    real = module.verify

    def counting(shown: bytes, *rest: Any, **more: Any) -> Any:
        verified.append(shown)
        return real(shown, *rest, **more)

    monkeypatch.setattr(module, "verify", counting)
    held, known = material(), directory()
    call = call_on(protected(JWT), bearer(token()), held=held, known=known)

    def again(now: float = NOW) -> str:
        call.headers, call.now = [(b"authorization", b"Bearer " + token_shown)], now
        return decided(call)

    token_shown = call.headers[0][1][7:]
    assert [again(), again(), again()] == ["", "", ""]
    assert len(verified) == 1
    known.apply("credential", "outside", None)  # the caller is looked up each time
    assert again() == "unknown-caller"
    assert len(verified) == 1
    assert again(NOW + 631) == "expired-credential"
    assert len(verified) == 2
    held.apply("key-set", KEY_SET, {"jwks": {"keys": []}, "fetched_at": NOW})
    assert again() == "bad-token"


def test_an_unknown_key_id_asks_for_the_set_and_a_known_one_does_not() -> None:
    other = RSAKey.generate_key(2048, {"kid": "k2"}, private=True)  # type: ignore[arg-type]
    refusal = run(call_on(protected(JWT), bearer(token(key=other))))
    assert refusal is not None
    need = refusal.need
    assert isinstance(need, FetchKeys)
    assert (refusal.reason.code, need.url, need.kid) == ("bad-token", KEY_SET, "k2")
    held = material()
    held.apply("key-set", KEY_SET, {"jwks": {"keys": [one.as_dict(private=False) for one in (KEY, other)]}})
    assert decided(call_on(protected(JWT), bearer(token(key=other)), held=held)) == ""
    wrong = run(call_on(protected(JWT), bearer(token()[:-4] + b"AAAA")))
    assert wrong is not None
    assert wrong.need is None


def test_a_rotated_secret_is_accepted_for_its_overlap() -> None:
    held = material()
    fresh = {"sealed": "another-secret-that-is-just-as-long-as-the-first"}
    old = {"sealed": "the-shared-secret-of-the-tests-is-long-enough", "until": NOW + 100}
    held.apply("secret", "shared", {"values": {"": [fresh, old]}})
    shown = bearer(shared_token(exp=NOW + 9000))
    assert decided(call_on(protected(SHARED_JWT), shown, held=held)) == ""
    assert decided(call_on(protected(SHARED_JWT), shown, held=held, now=NOW + 101)) == "bad-token"
    held.apply("secret", "shared", None)
    assert decided(call_on(protected(SHARED_JWT), shown, held=held)) == "bad-token"


def test_an_environments_own_secret_goes_before_the_common_one() -> None:
    held = material()
    values = {"": [{"sealed": "common"}], "test": [{"sealed": "of test"}], "production": [{"sealed": "of production"}]}
    held.apply("secret", "shared", {"values": values})
    assert held.secret("shared").value == b"of production"


def test_a_retired_signing_key_opens_nothing() -> None:
    held = material()
    shown = bearer(signed_key())
    held.apply("signing-key", "s1", None)
    assert decided(call_on(protected(SIGNED), shown, held=held)) == "bad-token"
    assert "d" not in public_part({"kty": "OKP", "d": "x"})


def test_every_token_of_an_issuer_may_count_as_one_application() -> None:
    fixed = JWT | {"application": "harbour-control/berth-board"}
    call = call_on(protected(fixed), bearer(token(azp="nobody", sub="eskil")))
    assert decided(call) == ""
    assert call.user == "eskil"
    missing = JWT | {"application": "harbour-control/no-such"}
    assert decided(call_on(protected(missing), bearer(token()))) == "unknown-caller"


@pytest.mark.parametrize(
    ("restrictions", "headers_", "address", "reason"),
    [
        ({"addresses": ["192.0.2.0/24"]}, (), "192.0.2.1", ""),
        ({"addresses": ["192.0.2.0/24"]}, (), "198.51.100.1", "credential-address"),
        ({"addresses": ["2001:db8::/32"]}, (), "2001:db8::7", ""),
        ({"sites": ["https://*.tern.example"]}, (("origin", "https://www.tern.example"),), "192.0.2.1", ""),
        ({"sites": ["https://*.tern.example"]}, (("referer", "https://www.tern.example/a?b"),), "192.0.2.1", ""),
        ({"sites": ["https://*.tern.example"]}, (("origin", "https://tern.example"),), "192.0.2.1", "credential-site"),
        ({"sites": ["https://*.tern.example"]}, (), "192.0.2.1", "credential-site"),
        ({"revoked": True}, (), "192.0.2.1", "revoked-credential"),
        ({"expires_at": NOW}, (), "192.0.2.1", "expired-credential"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("way", ["key", "token", "signed"])
def test_restrictions_hold_for_credentials_of_every_kind(
    restrictions: dict[str, Any], headers_: Any, address: str, reason: str, way: str
) -> None:
    policy, shown = {
        "key": (API_KEY, ("x-skerry-key", "tmk_good")), "token": (JWT, bearer(token())),
        "signed": (SIGNED, bearer(signed_key())),
    }[way]  # fmt: skip
    call = call_on(protected(policy), shown, *headers_, address=address, known=directory(**restrictions))
    assert decided(call) == reason


def test_a_key_of_the_outer_placement_does_not_reach_the_backend_of_an_operation_with_another_way() -> None:
    made = protected(API_KEY, operation=(JWT,))
    call = call_on(made, bearer(token()), ("x-skerry-key", "tmk_good"))
    assert decided(call) == ""
    assert call.headers == []
    opened = call_on(protected(API_KEY, JWT, operation=({"kind": "open"},)), bearer(token()), query=b"key=tmk_good")
    assert decided(opened) == ""
    assert (opened.headers, opened.query) == ([], b"")


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"algorithms": []}, "at least one algorithm"), ({"algorithms": ["none"]}, "Input should be"),
        ({"secret": "shared"}, "keys come from one place"), ({"key_set": ""}, "keys come from one place"),
        ({"algorithms": ["HS256"]}, "needs a shared secret"),
        ({"algorithms": ["RS256"], "key_set": "", "secret": "shared"}, "needs a public key"),
        ({"key_set": "", "pem": KEY.as_pem(private=False).decode(), "algorithms": ["ES256"]}, "does not fit ES256"),
        ({"key_set": "ftp://x"}, "is not an address"), ({"header": "", "cookie": ""}, "must come from somewhere"),
        ({"caller_claim": ""}, "which claim names the caller"), ({"application": "board"}, "organization/application"),
        ({"header": "Content-Length"}, "a meaning of its own"), ({"cookie": "a b"}, "not a name"),
    ],
)  # fmt: skip
def test_a_jwt_policy_that_could_not_work_is_not_saved(changes: dict[str, Any], said: str) -> None:
    with pytest.raises(ValueError, match=said):
        JwtPolicy.model_validate(JWT | changes)
