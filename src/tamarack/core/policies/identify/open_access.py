"""Open to anyone: said explicitly, for an API or one operation. Nobody is identified."""

from typing import Literal

from pydantic import Field

from tamarack.core.carrying.parts import Opening, Part
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name


class OpenAccess(Policy):
    """Let anyone call, without a credential and without a subscription."""

    kind: Literal["open"] = "open"
    name: Name = Field(default="open", title="Name", description=NAME_HELP)


def _compile(policy: OpenAccess, surroundings: Surroundings) -> list[Part]:
    return [Opening(stage=Stage.IDENTIFY)]


KIND = PolicyKind(
    kind="open",
    title="Open to anyone",
    stage=Stage.IDENTIFY,
    purpose="Ask for no credential and no subscription",
    model=OpenAccess,
    compile=_compile,
    brief=lambda policy: "no credential asked",
    sentence=lambda policy: "Anyone may call; no credential and no subscription is asked for.",
    only_inside=True,
    opens=True,
)
