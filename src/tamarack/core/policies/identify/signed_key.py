"""Signed key: a key that Tamarack itself signed for an application; it carries its own expiry (JWT, RFC 7519)."""

from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.names import header_name
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.jose import BadToken, peek
from tamarack.core.identity.signed_keys import ISSUER, check_signed_key
from tamarack.core.policies.identify.own_credential import OwnCredential
from tamarack.core.policies.identify.places import in_header, of_scheme, take_header, take_one, take_scheme
from tamarack.core.policies.kind import (
    CREDENTIAL_REASONS,
    NAME_HELP,
    TOKEN_REASONS,
    PolicyKind,
    Shown,
    Surroundings,
)
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_CACHED = 20_000


class SignedKey(OwnCredential):
    """Identify the caller by a key that Tamarack signed for it."""

    kind: Literal["signed-key"] = "signed-key"
    name: Name = Field(default="signed-key", title="Name", description=NAME_HELP)
    header: str = Field(
        default="authorization", title="Header", description="authorization: after Bearer; or a header of its own."
    )

    @field_validator("header")
    @classmethod
    def _header(cls, value: str) -> str:
        value = header_name(value)
        if not value:
            raise ValueError("the key must come from somewhere: name a header")
        return value


def _compile(policy: SignedKey, surroundings: Surroundings) -> list[Part]:
    header = policy.header.encode()
    bearer = header == b"authorization"
    find = surroundings.directory.finder("signed-key")
    signing = surroundings.material.signing
    cached: dict[bytes, tuple[float, int, bytes]] = {}
    challenge = f"Bearer realm={surroundings.realm}".encode("latin-1", "replace")
    fields = ((b"www-authenticate", challenge + b', error="invalid_token"'),)
    unknown = Refusal(REASONS["unknown-credential"], fields, policy.name)
    doubled = Refusal(REASONS["doubled-credential"], policy=policy.name)

    def shown_in(call: Call) -> list[bytes]:
        return of_scheme(call, header, b"bearer") if bearer else [one for one in in_header(call, header) if one]

    def take_off(call: Call) -> None:
        if bearer:
            take_scheme(call, header, b"bearer")
        else:
            take_header(call, header)

    start = b"bearer " if bearer else b""

    def identify(call: Call) -> Caller | Refusal | None:
        token, many = take_one(call, header, start, strip=True)
        if not many:
            return None
        if many > 1:
            return doubled
        known = cached.get(token)
        if known is None or known[0] <= call.now or known[1] != signing.generation:
            try:
                _, claims = peek(token)
                if claims.get("iss") != ISSUER:
                    note = f"issued by {claims.get('iss')!r}, not signed here"
                    return Refusal(REASONS["wrong-issuer"], fields, policy.name, note, yields=True)
                until, id = check_signed_key(token, signing.keys, surroundings.environment, call.now)
            except BadToken as error:
                yields = error.reason == "bad-token"
                return Refusal(REASONS[error.reason], fields, policy.name, str(error), yields=yields)
            while len(cached) >= MOST_CACHED:
                del cached[next(iter(cached))]
            cached.pop(token, None)
            known = cached[token] = (until, signing.generation, id)
        return find(known[2]) or unknown

    def reads(call: Call) -> list[tuple[str, str]]:
        found = []
        for token in shown_in(call):
            try:
                head, claims = peek(token)
            except BadToken as error:
                found.append(("key", str(error)))
                continue
            found.append(("key", f"{str(claims.get('jti'))[:40]}, signed with {str(head.get('kid'))[:40]}"))
        return found

    way = Way(
        stage=Stage.IDENTIFY,
        identify=identify,
        challenge=challenge,
        take_off=take_off,
        reads=reads,
        secret=(policy.header,),
        place="bearer" if bearer else policy.header,
        strips=True,
        asks=f"a signed key {'as' if bearer else 'in the header'} {_place(policy)}",
    )
    return [way]


def _place(policy: SignedKey) -> str:
    return "Authorization: Bearer" if policy.header == "authorization" else policy.header


def _shown(policy: SignedKey) -> Shown:
    return Shown("bearer") if policy.header == "authorization" else Shown("header", (policy.header,))


KIND = PolicyKind(
    kind="signed-key",
    title="Signed key",
    stage=Stage.IDENTIFY,
    purpose="Know the caller by a key that Tamarack signed, with its expiry in it",
    model=SignedKey,
    compile=_compile,
    reasons=(*CREDENTIAL_REASONS, *TOKEN_REASONS),
    credential="signed-key",
    shown=_shown,
    brief=lambda policy: "Bearer" if policy.header == "authorization" else policy.header,
    sentence=lambda policy: f"The caller shows a key that Tamarack signed for it, as `{_place(policy)}`.",
)
