"""Dimensions: up to three properties of calls that a team wants to see its traffic by, from a header or a claim."""

import re
from typing import Annotated, Any, Literal

from pydantic import Field, PlainSerializer, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.http.names import header_name
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.policies.meter.keys import Key, claim_value, header_value
from tamarack.core.stages import Stage
from tamarack.core.text import in_words, one_line
from tamarack.core.traffic.record import LONGEST_OWN, MOST_OWN
from tamarack.core.types import Frozen, Name

_FORM = re.compile(r"([a-z][a-z0-9-]{0,39})\s*:\s*(header|claim)\s+(\S{1,100})")


class Dimension(Frozen):
    """One line: `cost-centre: header x-cost-centre`, or `crew: claim crew`."""

    name: str
    of: Literal["header", "claim"]
    source: str

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _FORM.fullmatch(value.strip())
        if found is None:
            raise ValueError(
                f"{value[:120]!r} is no dimension; write its name and where it comes from, like 'cost-centre: header"
                " x-cost-centre' or 'crew: claim crew'"
            )
        return {"name": found[1], "of": found[2], "source": found[3]}

    @model_validator(mode="after")
    def _header(self) -> "Dimension":
        if self.of == "header":
            header_name(self.source)
        return self

    def __str__(self) -> str:
        return f"{self.name}: {self.of} {self.source}"

    @property
    def key(self) -> Key:
        """What reads it off a call; empty where the call has none."""
        return header_value(header_name(self.source).encode()) if self.of == "header" else claim_value(self.source)


class Dimensions(Policy):
    """Record properties of calls."""

    kind: Literal["dimensions"] = "dimensions"
    name: Name = Field(default="dimensions", title="Name", description=NAME_HELP)
    of: tuple[Annotated[Dimension, PlainSerializer(str, return_type=str)], ...] = Field(
        min_length=1,
        max_length=MOST_OWN,
        title="Dimensions",
        description="One a line, at most three: a name and where it comes from, like `cost-centre: header"
        " x-cost-centre` or `crew: claim crew`. Traffic is split and filtered by them as own dimension 1 to 3. What a"
        " header says is the caller's own word.",
    )

    @field_validator("of")
    @classmethod
    def _one_each(cls, of: tuple[Dimension, ...]) -> tuple[Dimension, ...]:
        names = [one.name for one in of]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"two dimensions are called {twice!r}; give each its own name")
        return of


def _compile(policy: Dimensions, surroundings: Surroundings) -> list[Part]:
    readers = [(one.name, one.key) for one in policy.of]
    rest = ("",) * (MOST_OWN - len(readers))

    def run(call: Call) -> Refusal | None:
        found = [(name, key(call)) for name, key in readers]
        call.own = (*(f"{name}: {one_line(value)}"[:LONGEST_OWN] if value else "" for name, value in found), *rest)
        return None

    return [
        Check(stage=Stage.PERMIT, run=run, reads=lambda call: [(name, key(call) or "none") for name, key in readers])
    ]


KIND = PolicyKind(
    kind="dimensions",
    title="Dimensions",
    stage=Stage.PERMIT,
    purpose="Record up to three properties of calls, to see the traffic by",
    model=Dimensions,
    compile=_compile,
    brief=lambda policy: few([one.name for one in policy.of]),
    sentence=lambda policy: f"Of each call {in_words([f'`{one}`' for one in policy.of])} is recorded.",
    sentence_outside=lambda policy: "",
    alone=True,
)
