"""Address ranges: let calls in, or keep them out, by the address they come from."""

from typing import Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.http.addresses import Networks, NetworkText
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.types import Name


class AddressRanges(Policy):
    """Permit by address."""

    kind: Literal["addresses"] = "addresses"
    name: Name = Field(default="addresses", title="Name", description=NAME_HELP)
    allow: tuple[NetworkText, ...] = Field(
        default=(), title="Let in", description="Addresses or networks, one in a line; empty lets all in."
    )
    deny: tuple[NetworkText, ...] = Field(
        default=(), title="Keep out", description="Kept out even if they lie in a range that is let in."
    )

    @model_validator(mode="after")
    def _some(self) -> "AddressRanges":
        if not self.allow and not self.deny:
            raise ValueError("name at least one network to let in or to keep out")
        return self


def _compile(policy: AddressRanges, surroundings: Surroundings) -> list[Part]:
    allow, deny = Networks(policy.allow), Networks(policy.deny)
    some = bool(policy.allow)
    outside = Refusal(
        REASONS["address-refused"], policy=policy.name, note=f"in none of the ranges let in: {few(list(policy.allow))}"
    )
    kept_out = [
        (Networks([one]), Refusal(REASONS["address-refused"], policy=policy.name, note=f"in {one}, which is kept out"))
        for one in policy.deny
    ]

    def step(call: Call) -> Refusal | None:
        if call.address in deny:
            return next(refusal for network, refusal in kept_out if call.address in network)
        return outside if some and call.address not in allow else None

    return [Check(stage=Stage.PERMIT, run=step, reads=lambda call: [("address", call.address)])]


def _brief(policy: AddressRanges) -> str:
    return few([*policy.allow, *(f"not {name}" for name in policy.deny)])


def _sentence(policy: AddressRanges) -> str:
    words = [f"come from `{'`, `'.join(policy.allow)}`"] if policy.allow else []
    words += [f"do not come from `{'`, `'.join(policy.deny)}`"] if policy.deny else []
    return f"Calls {' and '.join(words)}."


KIND = PolicyKind(
    kind="addresses",
    title="Address ranges",
    stage=Stage.PERMIT,
    purpose="Let calls in or keep them out by the address they come from",
    model=AddressRanges,
    compile=_compile,
    reasons=("address-refused",),
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: "Calls come from addresses that the platform team lets in.",
    on_fields=True,
)
