"""Body size: a request whose body is larger is refused, before it is read where its length is told."""

import re
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PlainSerializer

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

_UNITS = {"b": 1, "kb": 1000, "mb": 1000**2, "gb": 1000**3}
_FORM = re.compile(r"^\s*([0-9]+)\s*(b|kb|mb|gb)?\s*$", re.IGNORECASE)
MOST_BYTES = 10 * 1000**3


def parse_size(value: Any) -> Any:
    """Bytes from "2 MB", "512 kB" or a plain number of bytes; anything else is an error in words."""
    if isinstance(value, str):
        found = _FORM.match(value)
        if found is None:
            raise ValueError(f"{value!r} is not a size; write it like '2 MB' or '512 kB'")
        value = int(found[1]) * _UNITS[(found[2] or "b").lower()]
    if isinstance(value, int) and not 0 <= value <= MOST_BYTES:
        raise ValueError(f"{value} bytes: a body size limit lies between 0 and 10 GB")
    return value


def size_in_words(size: int) -> str:
    """Bytes as people write them: "2 MB", "1500 kB", "17 B"."""
    for unit in ("GB", "MB", "kB"):
        factor = _UNITS[unit.lower()]
        if size and size % factor == 0:
            return f"{size // factor} {unit}"
    return f"{size} B"


Size = Annotated[int, BeforeValidator(parse_size), PlainSerializer(size_in_words)]


class BodySize(Policy):
    """Refuse larger request bodies."""

    kind: Literal["body-size"] = "body-size"
    name: Name = Field(default="body-size", title="Name", description=NAME_HELP)
    at_most: Size = Field(title="At most", description="The largest body taken, like 2 MB or 512 kB.")


def _compile(policy: BodySize, surroundings: Surroundings) -> list[Part]:
    limit = policy.at_most
    refusal = Refusal(REASONS["too-large"], policy=policy.name)

    def step(call: Call) -> Refusal | None:
        return refusal if call.length > limit else None

    return [Check(stage=Stage.GUARD, run=step, body_limit=limit)]


KIND = PolicyKind(
    kind="body-size",
    title="Body size",
    stage=Stage.GUARD,
    purpose="Refuse request bodies that are too large",
    model=BodySize,
    compile=_compile,
    reasons=("too-large",),
    brief=lambda policy: f"at most {size_in_words(policy.at_most)}",
    sentence=lambda policy: f"A request's body may hold at most {size_in_words(policy.at_most)}.",
)
