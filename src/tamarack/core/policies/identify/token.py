"""JWT: a token that an outside issuer signed (RFC 7519), verified with a secret, a PEM key, or a key set."""

import json
from collections.abc import Callable
from typing import Any, Literal, get_args
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import FirstChoice, hints
from tamarack.core.http.names import header_name, parameter_name
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.claims import MISSING, claim_at
from tamarack.core.identity.credentials import outside_value
from tamarack.core.identity.jose import (
    LEAST_SECRET_BYTES,
    Algorithm,
    BadToken,
    UnknownKey,
    VerifyingKey,
    check_claims,
    key_of_pem,
    key_of_secret,
    peek,
    verify,
)
from tamarack.core.identity.lookups import FetchKeys
from tamarack.core.identity.secret_names import SecretName
from tamarack.core.policies.identify.places import (
    in_cookie,
    in_header,
    of_scheme,
    take_cookie,
    take_header,
    take_one,
    take_scheme,
)
from tamarack.core.policies.kind import (
    CREDENTIAL_REASONS,
    NAME_HELP,
    TOKEN_REASONS,
    Policy,
    PolicyKind,
    Shown,
    Surroundings,
)
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_CACHED = 20_000
"""Verified tokens kept at hand, by policy; the oldest go first."""


KEY_SET, PUBLIC_KEY, SHARED_SECRET = "a key set", "a public key", "a shared secret"
"""Where the keys come from that tokens are verified with."""
ALGORITHMS: tuple[str, ...] = get_args(Algorithm)


class JwtPolicy(Policy):
    """Identify the caller by a token that an outside issuer signed."""

    kind: Literal["jwt"] = "jwt"
    name: Name = Field(default="jwt", title="Name", description=NAME_HELP)
    algorithms: tuple[Algorithm, ...] = Field(
        title="Algorithms",
        description="Those that are accepted, and no other, whatever the token says.",
        json_schema_extra=hints(
            fits={name: SHARED_SECRET if name.startswith("HS") else f"{KEY_SET},{PUBLIC_KEY}" for name in ALGORITHMS}
        ),
    )
    key_set: str = Field(
        default="",
        title="Key set",
        description="Address of the issuer's JWK Set, fetched ahead of calls.",
        json_schema_extra=hints(only=("keys_from", (KEY_SET,))),
    )
    pem: str = Field(
        default="",
        title="Public key",
        description="PEM, where the issuer has no key set.",
        json_schema_extra=hints(only=("keys_from", (PUBLIC_KEY,)), rows=5),
    )
    secret: SecretName = Field(
        default="",
        title="Shared secret",
        description="From the secret store.",
        json_schema_extra=hints(only=("keys_from", (SHARED_SECRET,))),
    )
    issuer: str = Field(default="", title="Issuer", description="What `iss` must be; empty takes any.")
    audience: tuple[str, ...] = Field(
        default=(),
        title="Audience",
        description="One of these must be in `aud`; empty takes any.",
        json_schema_extra=hints(suggests="audiences"),
    )
    skew_s: int = Field(
        default=30,
        ge=0,
        le=600,
        title="Clock skew (s)",
        description="Seconds that clocks may differ by.",
        json_schema_extra=hints(rare=True),
    )
    header: str = Field(
        default="authorization",
        title="Header",
        description="authorization: after Bearer. Empty for none.",
        json_schema_extra=hints(rare=True),
    )
    cookie: str = Field(
        default="",
        title="Cookie",
        description="Cookie that carries the token; empty for none.",
        json_schema_extra=hints(rare=True),
    )
    caller_claim: str = Field(
        default="azp",
        title="Claim of the caller",
        description="Its value is the application's outside identity.",
        json_schema_extra=hints(suggests="claim-names"),
    )
    application: str = Field(
        default="",
        title="Or always the application",
        description="organization/application that every token of this issuer counts as; empty: by the claim.",
        json_schema_extra=hints(rare=True, suggests="applications"),
    )
    user_claim: str = Field(
        default="sub",
        title="Claim of the end user",
        description="Empty for none.",
        json_schema_extra=hints(rare=True, suggests="claim-names"),
    )
    pass_on: bool = Field(
        default=False,
        title="Pass the token on to the backend",
        description="Off: it is removed before.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("header")
    @classmethod
    def _header(cls, value: str) -> str:
        return header_name(value)

    @field_validator("cookie")
    @classmethod
    def _cookie(cls, value: str) -> str:
        return parameter_name(value)

    @field_validator("algorithms")
    @classmethod
    def _some(cls, value: tuple[Algorithm, ...]) -> tuple[Algorithm, ...]:
        if not value:
            raise ValueError("name at least one algorithm, like RS256; none is ever taken from the token itself")
        return tuple(dict.fromkeys(value))

    @field_validator("pem")
    @classmethod
    def _pem(cls, value: str) -> str:
        value = value.strip()
        if value:
            key_of_pem(value)
        return value

    @field_validator("key_set")
    @classmethod
    def _address(cls, value: str) -> str:
        value = value.strip()
        if value and (urlsplit(value).scheme not in ("http", "https") or not urlsplit(value).hostname):
            raise ValueError(f"{value!r} is not an address; it starts with https:// (or http://) and names a host")
        return value

    @field_validator("application")
    @classmethod
    def _named(cls, value: str) -> str:
        value = value.strip()
        if value and value.count("/") != 1:
            raise ValueError(f"{value!r} is not organization/application, like harbour-control/berth-board")
        return value

    @model_validator(mode="after")
    def _fits(self) -> "JwtPolicy":
        sources = [name for name in ("key_set", "pem", "secret") if getattr(self, name)]
        if len(sources) != 1:
            raise ValueError("keys come from one place: a key set, a public key, or a shared secret; fill in one")
        shared = [name for name in self.algorithms if name.startswith("HS")]
        if shared and not self.secret:
            raise ValueError(f"{shared[0]} needs a shared secret; with a public key it would let anyone sign")
        if self.secret and len(shared) < len(self.algorithms):
            other = next(name for name in self.algorithms if not name.startswith("HS"))
            raise ValueError(f"{other} needs a public key; a shared secret goes with HS256, HS384 and HS512 only")
        if self.pem:
            key = key_of_pem(self.pem)
            unfit = next((name for name in self.algorithms if not key.fits(name)), None)
            if unfit is not None:
                raise ValueError(f"the public key ({key.curve or key.type}) does not fit {unfit}")
        if not self.header and not self.cookie:
            raise ValueError("the token must come from somewhere: name a header, a cookie, or both")
        if not self.caller_claim and not self.application:
            raise ValueError("say which claim names the caller, or which application every token counts as")
        return self


class _Verified:
    """A token that was verified: what it said, and until when it is good."""

    __slots__ = ("caller", "claims", "generation", "until", "user")

    def __init__(
        self, until: float, generation: int, claims: dict[str, Any], user: str, caller: Callable[[], Caller | None]
    ) -> None:
        self.until = until
        self.generation = generation
        self.claims = claims
        self.user = user
        self.caller = caller


class _Keys:
    """Where a policy's keys come from. The generation changes when they do, and with it what is cached ends."""

    def __init__(self, policy: JwtPolicy, surroundings: Surroundings) -> None:
        self._fixed = (key_of_pem(policy.pem),) if policy.pem else ()
        self._set = surroundings.material.key_set(policy.key_set) if policy.key_set else None
        self._secret = surroundings.material.secret(policy.secret) if policy.secret else None
        self.named = self._set is not None
        self.holder = self._set or self._secret

    @property
    def generation(self) -> int:
        return self.holder.generation if self.holder is not None else 0

    def at(self, now: float) -> tuple[VerifyingKey, ...]:
        if self._set is not None:
            return self._set.keys
        if self._secret is not None:
            return tuple(key_of_secret(value) for value in self._secret.accepted(now))
        return self._fixed


def _compile(policy: JwtPolicy, surroundings: Surroundings) -> list[Part]:
    keys = _Keys(policy, surroundings)
    find = surroundings.directory.finder("outside-identity")
    application = surroundings.directory.application
    header, cookie, strip = policy.header.encode(), policy.cookie.encode(), not policy.pass_on
    bearer = header == b"authorization"
    cached: dict[bytes, _Verified] = {}
    challenge = f"Bearer realm={surroundings.realm}".encode("latin-1", "replace")
    fields = ((b"www-authenticate", challenge + b', error="invalid_token"'),)
    doubled = Refusal(REASONS["doubled-credential"], policy=policy.name)

    def refused(error: BadToken, yields: bool = False) -> Refusal:
        wanted = FetchKeys(policy.key_set, error.kid) if isinstance(error, UnknownKey) else None
        return Refusal(REASONS[error.reason], fields, policy.name, str(error), yields=yields, need=wanted)

    def shown_in(call: Call) -> list[bytes]:
        shown: list[bytes] = []
        if bearer:
            shown = of_scheme(call, header, b"bearer")
        elif header:
            shown = [value for value in in_header(call, header) if value]
        return shown + in_cookie(call, cookie) if cookie else shown

    def take_off(call: Call) -> None:
        if bearer:
            take_scheme(call, header, b"bearer")
        elif header:
            take_header(call, header)
        if cookie:
            take_cookie(call, cookie)

    def read(token: bytes, now: float) -> _Verified | Refusal:
        try:
            _, unverified = peek(token)
            if policy.issuer and unverified.get("iss") != policy.issuer:
                note = f"issued by {unverified.get('iss')!r}, expected {policy.issuer!r}"
                return refused(BadToken("wrong-issuer", note), yields=True)
            claims = verify(token, keys.at(now), policy.algorithms, keys.named)
            until = check_claims(claims, policy.issuer, policy.audience, policy.skew_s, now)
        except UnknownKey as error:
            return refused(error, yields=True)
        except BadToken as error:
            return refused(error, yields=error.reason == "bad-token")
        user = claim_at(claims, policy.user_claim) if policy.user_claim else ""
        if policy.application:
            return _Verified(until, keys.generation, claims, _word(user), lambda: application(policy.application))
        name = claim_at(claims, policy.caller_claim)
        if not isinstance(name, str) or not name:
            note = f"the claim {policy.caller_claim!r} names no caller"
            return Refusal(REASONS["unknown-caller"], policy=policy.name, note=note)
        value = outside_value(policy.issuer, name, surroundings.environment)
        return _Verified(until, keys.generation, claims, _word(user), lambda: find(value))

    start = b"bearer " if bearer else b""
    holder = keys.holder

    def identify(call: Call) -> Caller | Refusal | None:
        if cookie or not header:
            shown = shown_in(call)
            token, many = (shown[0], len(shown)) if shown else (b"", 0)
            if many and strip:
                take_off(call)
        else:
            token, many = take_one(call, header, start, strip)
        if not many:
            return None
        if many > 1:
            return doubled
        found = cached.get(token)
        if found is None or found.until <= call.now or (holder is not None and found.generation != holder.generation):
            fresh = read(token, call.now)
            if isinstance(fresh, Refusal):
                return fresh
            while len(cached) >= MOST_CACHED:
                del cached[next(iter(cached))]
            cached.pop(token, None)
            found = cached[token] = fresh
        call.claims = found.claims
        call.user = found.user
        caller = found.caller()
        if caller is None:
            named = policy.application or claim_at(found.claims, policy.caller_claim)
            return Refusal(REASONS["unknown-caller"], policy=policy.name, note=f"no application here is {named!r}")
        return caller

    def reads(call: Call) -> list[tuple[str, str]]:
        found = []
        for token in shown_in(call):
            try:
                head, claims = peek(token)
            except BadToken as error:
                found.append(("token", str(error)))
                continue
            found.append(("token", f"{head.get('alg')}, key {head.get('kid', 'without a name')}"))
            found += [(name, _word(claims[name])) for name in ("iss", "aud", policy.caller_claim) if name in claims]
        return found

    names = tuple(name for name in (policy.header, policy.cookie) if name)
    way = Way(
        stage=Stage.IDENTIFY,
        identify=identify,
        challenge=challenge,
        take_off=take_off,
        reads=reads,
        secret=names,
        place="bearer" if bearer else policy.header,
        strips=strip,
        asks=f"a token{_meant(policy)} {' or '.join(_in_words(policy))}",
    )
    return [way]


def _word(value: Any) -> str:
    if value is MISSING or value is None:
        return ""
    return value[:200] if isinstance(value, str) else json.dumps(value)[:200]


def _brief(policy: JwtPolicy) -> str:
    source = "key set" if policy.key_set else "public key" if policy.pem else "secret"
    return f"{'/'.join(policy.algorithms)}, {source}"


def _in_words(policy: JwtPolicy, mark: str = "") -> list[str]:
    places = [f"as {mark}Authorization: Bearer{mark}"] if policy.header == "authorization" else []
    places += [f"in the header {mark}{policy.header}{mark}"] if policy.header not in ("", "authorization") else []
    return places + ([f"in the cookie {mark}{policy.cookie}{mark}"] if policy.cookie else [])


def _meant(policy: JwtPolicy, mark: str = "") -> str:
    made = f" made by {mark}{policy.issuer}{mark}" if policy.issuer else ""
    return made + (f" for {mark}{' or '.join(policy.audience)}{mark}" if policy.audience else "")


def _shows(policy: JwtPolicy) -> str:
    places = " or ".join(_in_words(policy, "`"))
    return f"The caller shows a token{_meant(policy, '`')} {places}, signed with {' or '.join(policy.algorithms)}"


def _sentence(policy: JwtPolicy) -> str:
    source = "its key set" if policy.key_set else "a public key" if policy.pem else f"the secret `{policy.secret}`"
    who = f"counts as {policy.application}" if policy.application else f"is named by the claim `{policy.caller_claim}`"
    return (
        f"{_shows(policy)} and verified with {source}; the caller {who}"
        f"{'; the token is passed on' if policy.pass_on else ''}."
    )


def _sentence_outside(policy: JwtPolicy) -> str:
    who = "" if policy.application else f"; the claim `{policy.caller_claim}` names the caller"
    return f"{_shows(policy)}{who}."


def _source(policy: JwtPolicy) -> str:
    made = (
        f"comes from `{policy.issuer}`" if policy.issuer else "comes from the issuer that the API's owner named to you"
    )
    meant = f", and is made for `{' or '.join(policy.audience)}`" if policy.audience else ""
    return f"The token {made}{meant}."


def _keys_from(policy: JwtPolicy) -> str:
    return KEY_SET if policy.key_set else PUBLIC_KEY if policy.pem else SHARED_SECRET


def _shown(policy: JwtPolicy) -> Shown:
    return Shown("bearer") if policy.header in ("", "authorization") else Shown("header", (policy.header,))


KIND = PolicyKind(
    kind="jwt",
    title="JWT",
    stage=Stage.IDENTIFY,
    purpose="Know the caller by a token that an outside issuer signed",
    model=JwtPolicy,
    compile=_compile,
    reasons=(*CREDENTIAL_REASONS, *TOKEN_REASONS, "unknown-caller"),
    credential="outside-identity",
    reads_token=True,
    issuer=lambda policy, sign_in: policy.issuer,
    least_secret=lambda policy: max((LEAST_SECRET_BYTES.get(one, 0) for one in policy.algorithms), default=0),
    source=_source,
    key_set=lambda policy: policy.key_set,
    shown=_shown,
    asks_first=FirstChoice("keys_from", "Keys come from", (KEY_SET, PUBLIC_KEY, SHARED_SECRET), _keys_from),
    brief=_brief,
    sentence=_sentence,
    sentence_outside=_sentence_outside,
)
