"""Groups: let in, or keep out, the applications that carry a group (their own or their organization's)."""

from typing import Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.types import Name


class Groups(Policy):
    """Permit by group."""

    kind: Literal["groups"] = "groups"
    name: Name = Field(default="groups", title="Name", description=NAME_HELP)
    allow: tuple[Name, ...] = Field(
        default=(),
        title="Let in",
        description="Groups, one in a line; empty lets every group in.",
        json_schema_extra=hints(suggests="groups"),
    )
    deny: tuple[Name, ...] = Field(
        default=(),
        title="Keep out",
        description="Groups kept out, even if another group of the application is let in.",
        json_schema_extra=hints(suggests="groups"),
    )
    tell: bool = Field(
        default=False,
        title="Tell callers",
        description="A refused caller is told which groups are let in.",
        json_schema_extra=hints(rare=True),
    )

    @model_validator(mode="after")
    def _some(self) -> "Groups":
        if not self.allow and not self.deny:
            raise ValueError("name at least one group to let in or to keep out")
        both = sorted(set(self.allow) & set(self.deny))
        if both:
            raise ValueError(f"{both[0]!r} is both let in and kept out; keep it in one list")
        return self


def _compile(policy: Groups, surroundings: Surroundings) -> list[Part]:
    allow, deny = frozenset(policy.allow), frozenset(policy.deny)
    asked_for = " or ".join(policy.allow)
    missing = Refusal(
        REASONS["not-in-group"],
        policy=policy.name,
        note=f"the group {asked_for} is asked for",
        detail=f"This operation is for applications of the group {asked_for}." if policy.tell else "",
    )
    denied = Refusal(
        REASONS["group-denied"], policy=policy.name, note=f"the group {' or '.join(policy.deny)} is kept out"
    )

    def step(call: Call) -> Refusal | None:
        caller = call.caller
        held = caller.groups if caller is not None else frozenset()
        if deny and not deny.isdisjoint(held):
            return denied
        return missing if allow and allow.isdisjoint(held) else None

    def reads(call: Call) -> list[tuple[str, str]]:
        return [("groups", ", ".join(sorted(call.caller.groups)) if call.caller and call.caller.groups else "none")]

    return [Check(stage=Stage.PERMIT, run=step, reads=reads)]


def _brief(policy: Groups) -> str:
    return few([*policy.allow, *(f"not {name}" for name in policy.deny)])


def _sentence(policy: Groups) -> str:
    words = [f"belongs to `{' or '.join(policy.allow)}`"] if policy.allow else []
    words += [f"does not belong to `{' or '.join(policy.deny)}`"] if policy.deny else []
    return f"The caller's application, or its organization, {' and '.join(words)}."


def _sentence_outside(policy: Groups) -> str:
    return _sentence(policy) if policy.tell else "The platform team chooses which applications may call."


KIND = PolicyKind(
    kind="groups",
    title="Groups",
    stage=Stage.PERMIT,
    purpose="Let in or keep out applications by the groups they carry",
    model=Groups,
    compile=_compile,
    reasons=("not-in-group", "group-denied"),
    brief=_brief,
    sentence=_sentence,
    sentence_outside=_sentence_outside,
    on_fields=True,
)
