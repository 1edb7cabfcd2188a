"""Scopes: what the caller's token must have been granted (RFC 6749, section 3.3)."""

import re
from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.identity.claims import scopes_of
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

_SCOPE = re.compile(r"^[\x21\x23-\x5b\x5d-\x7e]+$")


class Scopes(Policy):
    """Permit by the scopes of the caller's token."""

    kind: Literal["scopes"] = "scopes"
    name: Name = Field(default="scopes", title="Name", description=NAME_HELP)
    scopes: tuple[str, ...] = Field(title="Scopes", description="One in a line, like berths:hold.")
    needs: Literal["all", "any"] = Field(default="all", title="Needs", description="All of them, or any one.")

    @field_validator("scopes")
    @classmethod
    def _valid(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if not value:
            raise ValueError("name at least one scope")
        wrong = next((one for one in value if not _SCOPE.match(one)), None)
        if wrong is not None:
            raise ValueError(f"{wrong!r} is not a scope; it has no spaces, quotes or backslashes (RFC 6749, 3.3)")
        return value


def _compile(policy: Scopes, surroundings: Surroundings) -> list[Part]:
    wanted = frozenset(policy.scopes)
    every = policy.needs == "all"
    listed = " ".join(policy.scopes)
    challenge = f'Bearer realm={surroundings.realm}, error="insufficient_scope", scope="{listed}"'
    fields = ((b"www-authenticate", challenge.encode("latin-1", "replace")),)
    needed = "the scope " + (" and " if every else " or ").join(policy.scopes)
    told = f"The caller's token must carry {needed}."  # the challenge says it too (RFC 6750, section 3)
    missing = Refusal(REASONS["scope-missing"], fields, policy.name, f"{needed} is asked for", told)

    def step(call: Call) -> Refusal | None:
        claims = call.claims
        held = scopes_of(claims) if claims is not None else frozenset()
        if every:
            return None if wanted <= held else missing
        return missing if wanted.isdisjoint(held) else None

    def reads(call: Call) -> list[tuple[str, str]]:
        held = scopes_of(call.claims) if call.claims is not None else ()
        return [("scopes", " ".join(sorted(held)) or "none")]

    return [Check(stage=Stage.PERMIT, run=step, reads=reads)]


KIND = PolicyKind(
    kind="scopes",
    title="Scopes",
    stage=Stage.PERMIT,
    purpose="Ask for scopes in the caller's token",
    model=Scopes,
    compile=_compile,
    reasons=("scope-missing",),
    reads_token=True,
    scopes=lambda policy: policy.scopes,
    brief=lambda policy: (" and " if policy.needs == "all" else " or ").join(policy.scopes),
    sentence=lambda policy: (
        f"The caller's token was granted the scope{'s' if len(policy.scopes) > 1 else ''}"
        f" `{(' and ' if policy.needs == 'all' else ' or ').join(policy.scopes)}`."
    ),
    on_fields=True,
)
