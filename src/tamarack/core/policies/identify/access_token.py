"""Access token: of the own sign-in service, signed (RFC 9068) or opaque. Its application is the caller, its user the
end user."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.jose import BadToken, UnknownKey, peek
from tamarack.core.identity.lookups import FindToken
from tamarack.core.policies.identify.places import of_scheme, take_one, take_scheme
from tamarack.core.policies.kind import NAME_HELP, TOKEN_REASONS, Policy, PolicyKind, Shown, Surroundings
from tamarack.core.sign_in.protected import metadata_address
from tamarack.core.sign_in.scopes import ScopeName
from tamarack.core.sign_in.tokens import OPAQUE, Taken, check_access_claims, check_signed
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Name

MOST_CACHED = 10_000
HEADER = b"authorization"
_OPAQUE = OPAQUE.encode()
Fields = tuple[tuple[bytes, bytes], ...]


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
    tokens: Literal["signed", "opaque"] = Field(
        default="signed",
        title="Tokens are",
        description="Signed: whoever holds one can read it. Opaque: they say nothing, and nodes look them up.",
    )
    id_tokens: bool = Field(
        default=False,
        title="Takes ID tokens too",
        description="For applications that have nothing else of the user to show. An ID token grants no scopes.",
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


class _Reader:
    """Reads tokens that were not seen before."""

    def __init__(self, policy: AccessTokenPolicy, surroundings: Surroundings, invalid: Fields) -> None:
        self._policy = policy
        self._material = surroundings.material
        self._invalid = invalid
        self._taken = Taken(policy.directory, surroundings.environment, surroundings.resource, policy.id_tokens)
        resource = surroundings.resource
        self._mend = f"; ask for one with resource={resource}" if resource else ""

    def read(self, token: bytes, now: float) -> _Good | Refusal:
        """What a token says, or why it is not taken."""
        keys = self._material.token_keys
        try:
            if token.startswith(_OPAQUE):
                known = self._material.opaque.known(token, now)
                if known is None:
                    return Refusal(REASONS["token-unseen"], ((b"retry-after", b"1"),), self._policy.name,
                                   "the token could not be looked up", need=FindToken(token))  # fmt: skip
                if known.claims is None:
                    raise BadToken("bad-token", "there is no such opaque token, or it is over")
                return _Good(check_access_claims(known.claims, self._taken, now), keys.generation, known.claims)
            until, claims = check_signed(token, keys.keys, self._taken, now)
            if self._policy.tokens == "opaque":
                raise BadToken("wrong-audience", f"is signed, and opaque tokens alone are taken here{self._mend}")
            return _Good(until, keys.generation, claims)
        except BadToken as error:
            yields = error.reason in ("bad-token", "wrong-issuer") or isinstance(error, UnknownKey)
            return Refusal(REASONS[error.reason], self._invalid, self._policy.name, str(error), yields=yields)


def _compile(policy: AccessTokenPolicy, surroundings: Surroundings) -> list[Part]:
    keys = surroundings.material.token_keys
    found_at = surroundings.material.opaque
    ended = surroundings.material.ended_grants
    application = surroundings.directory.application
    wanted = frozenset(policy.scopes)
    asked = f', scope="{" ".join(policy.scopes)}"' if policy.scopes else ""
    if surroundings.resource:
        asked += f', resource_metadata="{metadata_address(surroundings.resource)}"'
    challenge = f"Bearer realm={surroundings.realm}{asked}".encode("latin-1", "replace")
    invalid = ((b"www-authenticate", challenge + b', error="invalid_token"'),)
    too_little = ((b"www-authenticate", challenge + b', error="insufficient_scope"'),)
    doubled = Refusal(REASONS["doubled-credential"], policy=policy.name)
    cached: dict[bytes, _Good] = {}
    reader = _Reader(policy, surroundings, invalid)

    def identify(call: Call) -> Caller | Refusal | None:
        token, many = take_one(call, HEADER, b"bearer ", True)
        if not many:
            return None
        if many > 1:
            return doubled
        found = cached.get(token)
        if found is None or found.until <= call.now or found.generation != keys.generation:
            fresh = reader.read(token, call.now)
            if isinstance(fresh, Refusal):
                return fresh
            while len(cached) >= MOST_CACHED:
                del cached[next(iter(cached))]
            found = cached[token] = fresh
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
            if token.startswith(_OPAQUE):
                known = found_at.known(token, call.now)
                found.append(("token", "opaque" if known is not None and known.claims else "opaque, not known here"))
                continue
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
             "doubled-credential", "token-unseen"),
    issuer=lambda policy, sign_in: f"{sign_in}/{policy.directory}" if sign_in else "",
    scopes=lambda policy: policy.scopes,
    names_resource=True,
    opaque=lambda policy: policy.tokens == "opaque",
    reads_token=True,
    shown=lambda policy: Shown("bearer"),
    source=lambda policy: "Tokens come from the sign-in service, for a client of your application.",
)  # fmt: skip
