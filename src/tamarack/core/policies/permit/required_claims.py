"""Required claims: what the caller's token must say."""

import json
from typing import Literal

from pydantic import Field, field_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.identity.claims import MISSING, Requirement, claim_at
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.types import Name, Text


class RequiredClaims(Policy):
    """Permit by the claims of the caller's token."""

    kind: Literal["claims"] = "claims"
    name: Name = Field(default="claims", title="Name", description=NAME_HELP)
    require: tuple[Requirement, ...] = Field(
        title="Requirements",
        description="All of them hold. Like: role equals skipper · port is one of corran, dunmoor · groups contains"
        " crew · email is present. A name with / first is a JSON Pointer.",
        json_schema_extra=hints(suggests="claims"),
    )
    message: Text = Field(
        default="",
        title="Message",
        description="What a refused caller is told; empty for the usual words.",
        json_schema_extra=hints(rare=True),
    )
    tell: bool = Field(
        default=False,
        title="Tell callers",
        description="A refused caller is told what its token must say, where no message says it.",
        json_schema_extra=hints(rare=True),
    )

    @field_validator("require")
    @classmethod
    def _some(cls, value: tuple[Requirement, ...]) -> tuple[Requirement, ...]:
        if not value:
            raise ValueError("write at least one requirement, like 'role equals skipper'")
        return value


def _compile(policy: RequiredClaims, surroundings: Surroundings) -> list[Part]:
    reason = REASONS["claim-missing"]

    def told(needed: str) -> str:
        return policy.message or (f"The caller's token must say {needed}." if policy.tell else "")

    checks = tuple(
        (one.holds, Refusal(reason, policy=policy.name, note=f"the token must say {one}", detail=told(str(one))))
        for one in policy.require
    )
    every = " and ".join(map(str, policy.require))
    bare = Refusal(reason, policy=policy.name, note="the caller showed no token", detail=told(every))

    def step(call: Call) -> Refusal | None:
        claims = call.claims
        if claims is None:
            return bare
        for holds, refusal in checks:
            if not holds(claims):
                return refusal
        return None

    def reads(call: Call) -> list[tuple[str, str]]:
        found = []
        for one in policy.require:
            value = claim_at(call.claims, one.claim) if call.claims is not None else MISSING
            shown = value if isinstance(value, str) else "not there" if value is MISSING else json.dumps(value)
            found.append((one.claim, shown[:200]))
        return found

    return [Check(stage=Stage.PERMIT, run=step, reads=reads)]


def _sentence(policy: RequiredClaims) -> str:
    return f"In the caller's token, `{'` and `'.join(str(one) for one in policy.require)}`."


def _sentence_outside(policy: RequiredClaims) -> str:
    return _sentence(policy) if policy.tell else policy.message or "The caller's token has to say more about its user."


KIND = PolicyKind(
    kind="claims",
    title="Required claims",
    stage=Stage.PERMIT,
    purpose="Ask for claims in the caller's token, with a message of your own",
    model=RequiredClaims,
    compile=_compile,
    reasons=("claim-missing",),
    reads_token=True,
    brief=lambda policy: few([str(one) for one in policy.require]),
    sentence=_sentence,
    sentence_outside=_sentence_outside,
    on_fields=True,
)
