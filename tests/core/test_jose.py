"""Signed tokens: the published examples of the RFCs, and every way in which a token is not accepted."""

import hmac
import json
from base64 import urlsafe_b64encode
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from hypothesis import given
from hypothesis import strategies as st
from joserfc import jwt
from joserfc.jwk import ECKey, OctKey, OKPKey, RSAKey

from tamarack.core.identity.jose import (
    ALGORITHMS,
    BadToken,
    UnknownKey,
    VerifyingKey,
    check_claims,
    key_of_pem,
    key_of_secret,
    keys_of_set,
    signed_payload,
    verify,
)

JOE = "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ"
RFC_7515_RSA = (
    "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS-"
    "pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2Ca"
    "pHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9gb5"
    "4h4FRWyuXpoQ"
)
PUBLISHED: dict[str, tuple[str, dict[str, str], str, str, str]] = {
    "RFC 7515, A.1": (
        "HS256",
        {"kty": "oct", "k": "AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow"},
        "eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9",
        JOE,
        "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk",
    ),
    "RFC 7515, A.2": (
        "RS256",
        {"kty": "RSA", "n": RFC_7515_RSA, "e": "AQAB"},
        "eyJhbGciOiJSUzI1NiJ9",
        JOE,
        "cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9uJdbF9CU"
        "Ar7t1dnZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB_eSN9383LcOLn6_d"
        "O--xi12jzDwusC-eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rqVt5AXLIhWkWywlVmtVrBp0ig"
        "cN_IoypGlUPQGe77Rw",
    ),
    "RFC 7515, A.3": (
        "ES256",
        {
            "kty": "EC",
            "crv": "P-256",
            "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
            "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0",
        },
        "eyJhbGciOiJFUzI1NiJ9",
        JOE,
        "DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q",
    ),
    "RFC 8037, A.4": (
        "EdDSA",
        {"kty": "OKP", "crv": "Ed25519", "x": "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"},
        "eyJhbGciOiJFZERTQSJ9",
        "RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc",
        "hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg",
    ),
}


def keys_from(jwk: dict[str, str]) -> tuple[VerifyingKey, ...]:
    if jwk["kty"] == "oct":
        return (key_of_secret(OctKey.import_key(jwk).raw_value),)  # type: ignore[arg-type]
    return keys_of_set({"keys": [jwk]})


@pytest.mark.parametrize("name", PUBLISHED)
def test_the_published_examples_verify_and_a_changed_one_does_not(name: str) -> None:
    algorithm, jwk, header, payload, signature = PUBLISHED[name]
    keys = keys_from(jwk)
    token = f"{header}.{payload}.{signature}".encode()
    assert signed_payload(token, keys, [algorithm], named=False)
    for changed in (f"{header}.{payload[:-2]}AA.{signature}", f"{header}.{payload}.{'B' + signature[1:]}"):
        with pytest.raises(BadToken):
            signed_payload(changed.encode(), keys, [algorithm], named=False)
    with pytest.raises(BadToken, match="not one that the policy lists"):
        signed_payload(token, keys, [one for one in ALGORITHMS if one != algorithm], named=False)


RSA = RSAKey.generate_key(2048, {"kid": "one"}, private=True)  # type: ignore[arg-type]
EC = ECKey.generate_key("P-256", {"kid": "one"}, private=True)  # type: ignore[arg-type]
ED = OKPKey.generate_key("Ed25519", {"kid": "one"}, private=True)  # type: ignore[arg-type]
SECRET = b"a secret that is at least as long as sixty-four bytes, so that HS512 takes it"
SIGNERS: dict[str, Any] = {
    **{name: OctKey.import_key(SECRET) for name in ("HS256", "HS384", "HS512")},
    **dict.fromkeys(("RS256", "RS384", "RS512", "PS256", "PS384", "PS512"), RSA),
    "ES256": EC,
    "ES384": ECKey.generate_key("P-384"),
    "ES512": ECKey.generate_key("P-521"),
    "Ed25519": ED,
}
GOOD = {"iss": "https://id.example", "aud": "berths", "azp": "berth-board", "exp": 2_000_000_000}


def made(algorithm: str, claims: dict[str, Any] = GOOD, **header: Any) -> bytes:
    return jwt.encode({"alg": algorithm} | header, claims, SIGNERS[algorithm], algorithms=[algorithm]).encode()


def public(algorithm: str) -> tuple[VerifyingKey, ...]:
    key = SIGNERS[algorithm]
    if key.key_type == "oct":
        return (key_of_secret(SECRET),)
    return (key_of_pem(key.as_pem(private=False).decode()),)


@pytest.mark.parametrize("algorithm", SIGNERS)
def test_every_algorithm_verifies_with_its_own_key_only(algorithm: str) -> None:
    token = made(algorithm)
    assert verify(token, public(algorithm), [algorithm], named=False) == GOOD
    for other in SIGNERS:
        if SIGNERS[other] is not SIGNERS[algorithm] and SIGNERS[other].key_type != "oct":
            with pytest.raises(BadToken):
                verify(token, public(other), [algorithm], named=False)


def unsigned(header: dict[str, Any], body: Any = GOOD, signature: str = "AA") -> bytes:
    parts = [urlsafe_b64encode(json.dumps(part).encode()).rstrip(b"=") for part in (header, body)]
    return b".".join([*parts, signature.encode()])


def test_a_public_key_used_as_a_shared_secret_opens_nothing() -> None:
    """Key confusion: the attacker signs with HMAC and the public key's text as the secret (RFC 8725, 2.1)."""
    pem = RSA.as_pem(private=False)
    signed = unsigned({"alg": "HS256"}).rpartition(b".")[0]
    forged = signed + b"." + urlsafe_b64encode(hmac.new(pem, signed, "sha256").digest()).rstrip(b"=")
    for algorithms in (["RS256"], ["RS256", "HS256"]):
        with pytest.raises(BadToken):
            verify(forged, public("RS256"), algorithms, named=False)
    lent = keys_of_set({"keys": [{"kty": "oct", "k": "AAAA", "kid": "one"}]})
    assert lent == ()


@pytest.mark.parametrize(
    ("token", "said"),
    [
        (unsigned({"alg": "none"}, signature=""), "three parts"),
        (unsigned({"alg": "none"}), "not one that the policy lists"),
        (unsigned({"alg": "NONE"}), "not one that the policy lists"),
        (unsigned({"alg": ["RS256"]}), "not one that the policy lists"),
        (unsigned({}), "not one that the policy lists"),
        (unsigned({"alg": "RS256"}), "signature is not right"),
        (unsigned({"alg": "RS256", "crit": ["b64"], "b64": False}), "extensions"),
        (unsigned(["alg"], signature="AA"), "not an object"),  # type: ignore[arg-type]
        (b"", "three parts"), (b"a.b", "three parts"), (b"a.b.c.d", "three parts"), (b"..", "three parts"),
        (b"?.?.?", "three parts"), (b"AAAA.AAAA.AAAA", "not JSON"), ("ä.ö.ü".encode(), "three parts"),
        (b"A" * 9000, "more than"),
    ],
)  # fmt: skip
def test_what_is_no_good_token_is_refused_in_words(token: bytes, said: str) -> None:
    with pytest.raises(BadToken, match=said) as caught:
        verify(token, public("RS256"), ["RS256"], named=False)
    assert caught.value.reason == "bad-token"


def test_a_key_id_chooses_among_a_set_and_an_unknown_one_is_told_apart() -> None:
    other = RSAKey.generate_key(2048)
    keys = keys_of_set({"keys": [other.as_dict(private=False) | {"kid": "two"}, RSA.as_dict(private=False)]})
    assert verify(made("RS256", kid="one"), keys, ["RS256"], named=True) == GOOD
    assert verify(made("RS256"), keys, ["RS256"], named=True) == GOOD  # no key id: each that fits is tried
    with pytest.raises(BadToken, match="signature"):
        verify(made("RS256", kid="two"), keys, ["RS256"], named=True)
    with pytest.raises(UnknownKey) as caught:
        verify(made("RS256", kid="three"), keys, ["RS256"], named=True)
    assert caught.value.kid == "three"


def test_a_set_gives_only_keys_that_verify_signatures() -> None:
    encrypting = RSA.as_dict(private=False) | {"use": "enc"}
    private = RSA.as_dict(private=True)
    broken = {"kty": "EC", "crv": "P-256", "x": "AA", "y": "AA"}
    (only,) = keys_of_set({"keys": [encrypting, broken, "x", private]})
    assert not only.key.is_private
    pinned = keys_of_set({"keys": [RSA.as_dict(private=False) | {"alg": "RS512"}]})
    with pytest.raises(BadToken, match="no key here fits RS256"):
        verify(made("RS256"), pinned, ["RS256"], named=True)
    for wrong in (None, [], {"keys": "x"}, {}):
        with pytest.raises(ValueError, match="JWK Set"):
            keys_of_set(wrong)


def test_pem_must_be_a_public_key_that_is_long_enough() -> None:
    weak = rsa.generate_private_key(65537, 1024).public_key()
    short = weak.public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode()
    for text, said in (
        (RSA.as_pem(private=True).decode(), "private key"), ("hello", "not PEM"), (short, "too short"),
        ("-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----", "no public key"),
    ):  # fmt: skip
        with pytest.raises(ValueError, match=said):
            key_of_pem(text)


NOW = 1_700_000_000.0


@pytest.mark.parametrize(
    ("changes", "reason"),
    [
        ({}, ""), ({"aud": ["x", "berths"]}, ""), ({"exp": NOW - 20}, ""), ({"nbf": NOW + 20, "iat": NOW + 20}, ""),
        ({"exp": NOW - 31}, "expired-credential"), ({"exp": NOW - 30}, "expired-credential"),
        ({"nbf": NOW + 31}, "early-token"), ({"iat": NOW + 3600}, "early-token"),
        ({"iss": "https://other.example"}, "wrong-issuer"), ({"iss": None}, "wrong-issuer"),
        ({"iss": ["https://id.example"]}, "wrong-issuer"), ({"aud": "x"}, "wrong-audience"),
        ({"aud": None}, "wrong-audience"), ({"aud": [1]}, "wrong-audience"), ({"aud": {}}, "wrong-audience"),
        ({"exp": None}, "bad-token"), ({"exp": "soon"}, "bad-token"), ({"exp": True}, "bad-token"),
        ({"nbf": "x"}, "bad-token"),
    ],
)  # fmt: skip
def test_issuer_audience_and_times_are_held_to_with_the_skew(changes: dict[str, Any], reason: str) -> None:
    claims = GOOD | {"exp": NOW + 60} | changes
    if not reason:
        assert check_claims(claims, "https://id.example", ["berths"], 30, NOW) > NOW
        return
    with pytest.raises(BadToken) as caught:
        check_claims(claims, "https://id.example", ["berths"], 30, NOW)
    assert caught.value.reason == reason


@given(st.binary(max_size=200))
def test_no_bytes_break_the_reading(token: bytes) -> None:
    with pytest.raises(BadToken):
        verify(token, public("HS256"), ["HS256"], named=False)


@given(st.integers(0, 400), st.integers(1, 255))
def test_a_token_with_any_byte_changed_is_refused_or_says_the_same(place: int, by: int) -> None:
    token = bytearray(made("HS256"))
    place %= len(token)
    token[place] = (token[place] + by) % 256
    try:
        assert verify(bytes(token), public("HS256"), ["HS256"], named=False) == GOOD
    except BadToken:
        return
