"""Access token: of the own sign-in service (RFC 9068). Its application is the caller, its user the end user."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.jose import BadToken, UnknownKey, peek
from tamarack.core.policies.identify.places import of_scheme, take_one, take_scheme
from tamarack.core.policies.kind import NAME_HELP, TOKEN_REASONS, Policy, PolicyKind, Shown, Surroundings
from tamarack.core.sign_in.scopes import ScopeName
from tamarack.core.sign_in.tokens import check_access_token
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name

MOST_CACHED = 10_000
HEADER = b"authorization"


class AccessTokenPolicy(Policy):
    """Identify the caller by an access token of the sign-in service."""

    kind: Literal["access-token"] = "access-token"
    name: Name = Field(default="access-token", title="Name", description=NAME_HELP)
    directory: Name = Field(title="Directory", description="Whose users and clients are trusted, like passengers.")
    scopes: tuple[ScopeName, ...] = Field(
        default=(),
        max_length=20,
        title="Scopes",
        description="One a line: all of them have to be granted. Single operations ask for more by the kind Scopes.",
    )


class _Good:
    """A token that was checked: until when it is good, and what it said."""

    __slots__ = ("application", "claims", "generation", "grant", "scopes", "until", "user")

    def __init__(self, until: float, generation: int, claims: dict[str, Any]) -> None:
        self.until = until
        self.generation = generation
        self.claims = claims
        self.grant = str(claims.get("grant", ""))
        self.scopes = frozenset(str(claims.get("scope", "")).split())
        self.application = str(claims.get("application", ""))
        self.user = str(claims["sub"])[:200] if "auth_time" in claims else ""


def _compile(policy: AccessTokenPolicy, surroundings: Surroundings) -> list[Part]:
    keys = surroundings.material.token_keys
    ended = surroundings.material.ended_grants
    application = surroundings.directory.application
    environment = surroundings.environment
    wanted = frozenset(policy.scopes)
    asked = f', scope="{" ".join(policy.scopes)}"' if policy.scopes else ""
    challenge = f"Bearer realm={surroundings.realm}{asked}".encode("latin-1", "replace")
    invalid = ((b"www-authenticate", challenge + b', error="invalid_token"'),)
    too_little = ((b"www-authenticate", challenge + b', error="insufficient_scope"'),)
    doubled = Refusal(REASONS["doubled-credential"], policy=policy.name)
    cached: dict[bytes, _Good] = {}

    def refused(error: BadToken) -> Refusal:
        yields = error.reason in ("bad-token", "wrong-issuer") or isinstance(error, UnknownKey)
        return Refusal(REASONS[error.reason], invalid, policy.name, str(error), yields=yields)

    def identify(call: Call) -> Caller | Refusal | None:
        token, many = take_one(call, HEADER, b"bearer ", True)
        if not many:
            return None
        if many > 1:
            return doubled
        found = cached.get(token)
        if found is None or found.until <= call.now or found.generation != keys.generation:
            try:
                until, claims = check_access_token(token, keys.keys, policy.directory, environment, call.now)
            except BadToken as error:
                return refused(error)
            while len(cached) >= MOST_CACHED:
                del cached[next(iter(cached))]
            found = cached[token] = _Good(until, keys.generation, claims)
        if found.grant in ended:
            return Refusal(REASONS["revoked-credential"], invalid, policy.name, f"the grant {found.grant} has ended")
        if not wanted <= found.scopes:
            note = f"the token lacks {in_words(sorted(wanted - found.scopes))}"
            return Refusal(REASONS["scope-missing"], too_little, policy.name, note)
        caller = application(found.application)
        if caller is None:
            return Refusal(REASONS["unknown-caller"], policy=policy.name, note="the token's application is not here")
        call.claims = found.claims
        call.user = found.user
        return caller

    def reads(call: Call) -> list[tuple[str, str]]:
        found = []
        for token in of_scheme(call, HEADER, b"bearer"):
            try:
                head, claims = peek(token)
            except BadToken as error:
                found.append(("token", str(error)))
                continue
            found.append(("token", f"{head.get('alg')}, key {head.get('kid', 'without a name')}"))
            found += [
                (name, str(claims[name])[:200]) for name in ("iss", "client_id", "scope", "sub") if name in claims
            ]
        return found

    return [
        Way(
            stage=Stage.IDENTIFY,
            identify=identify,
            take_off=lambda call: take_scheme(call, HEADER, b"bearer"),
            challenge=challenge,
            reads=reads,
            secret=("authorization",),
            place="bearer",
            asks=f"an access token of the directory {policy.directory} as Authorization: Bearer",
        )
    ]


def _sentence(policy: AccessTokenPolicy) -> str:
    scopes = f" with {in_words([f'`{one}`' for one in policy.scopes])}" if policy.scopes else ""
    return f"The caller shows an access token of the sign-in service{scopes}, for the directory `{policy.directory}`."


KIND = PolicyKind(
    kind="access-token",
    title="Access token",
    stage=Stage.IDENTIFY,
    purpose="Know the caller, and its user, by a token of the sign-in service",
    model=AccessTokenPolicy,
    compile=_compile,
    brief=lambda policy: f"of {policy.directory}",
    sentence=_sentence,
    reasons=(*TOKEN_REASONS, "expired-credential", "revoked-credential", "unknown-caller", "scope-missing",
             "doubled-credential"),
    reads_token=True,
    shown=lambda policy: Shown("bearer"),
    source=lambda policy: "the sign-in service",
)  # fmt: skip
